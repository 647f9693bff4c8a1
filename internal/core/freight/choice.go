package freight

import (
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/core/place"
)

// Ways in which a service is picked without a person.
const (
	Cheapest = "cheapest" // that takes the parcel
	InTime   = "cheapest in time"
	Fastest  = "fastest" // that takes the parcel; of several that arrive on the same day the cheapest
	AskFirst = "ask"     // a person picks
)

// Pick says which of the services that carriers offer for a parcel is taken. It is written as the code of a service (PX), with the
// carrier that is meant where several sell one of that code (plover/PX), as cheapest, cheapest in 2 days, cheapest in time, fastest, or
// ask.
type Pick struct {
	Carrier string // code of its connection; empty: any
	Service string // code; empty: by Way
	Way     string
	Days    int64  // of Cheapest: it arrives in so many working days at most; 0: whenever
	By      string // of InTime: the day that was promised, YYYY-MM-DD; empty: none was
}

var inDays = regexp.MustCompile(`^cheapest in (\d{1,2}) days?$`)

// ParsePick reads how a service is picked.
func ParsePick(text string) (Pick, error) {
	text = strings.Join(strings.Fields(text), " ")
	switch {
	case text == "":
		return Pick{}, fmt.Errorf("a service is expected: its code, cheapest, cheapest in 2 days, cheapest in time, fastest, or ask")
	case text == Cheapest || text == InTime || text == Fastest || text == AskFirst:
		return Pick{Way: text}, nil
	}
	if m := inDays.FindStringSubmatch(text); m != nil {
		days, _ := strconv.ParseInt(m[1], 10, 64)
		if days == 0 {
			return Pick{}, fmt.Errorf("%q: at least one day is expected", text)
		}
		return Pick{Way: Cheapest, Days: days}, nil
	}
	carrier, service, both := strings.Cut(text, "/")
	if !both {
		return Pick{Service: text}, nil
	}
	if carrier == "" || service == "" {
		return Pick{}, fmt.Errorf("%q: a carrier and a service are expected, such as plover/PX", text)
	}
	return Pick{Carrier: carrier, Service: service}, nil
}

// String writes it as it is read.
func (p Pick) String() string {
	switch {
	case p.Service != "" && p.Carrier != "":
		return p.Carrier + "/" + p.Service
	case p.Service != "":
		return p.Service
	case p.Days == 1:
		return p.Way + " in 1 day"
	case p.Days > 1:
		return fmt.Sprintf("%s in %d days", p.Way, p.Days)
	}
	return p.Way
}

// Offer is what a carrier asks for a parcel by one of its services.
type Offer struct {
	Carrier, Service string
	Price            int64
	Arrives          string // YYYY-MM-DD; empty: it is not said
	Refused          string
}

// Of picks one of the offers that take the parcel, handed over on a day; -1: none is as it says. Of those that fit, the cheapest is
// taken, and of those that cost the same the first to arrive.
func (p Pick) Of(offers []Offer, handover time.Time) int {
	best := -1
	for i, o := range offers {
		if o.Refused != "" || !p.Fits(o, handover) {
			continue
		}
		if best < 0 || p.better(o, offers[best]) {
			best = i
		}
	}
	return best
}

// Fits tells whether an offer, handed over on a day, is one of those to pick from.
func (p Pick) Fits(o Offer, handover time.Time) bool {
	switch {
	case p.Way == AskFirst:
		return false
	case p.Service != "":
		return o.Service == p.Service && (p.Carrier == "" || o.Carrier == p.Carrier)
	case p.Days > 0:
		return o.Arrives != "" && o.Arrives <= Arrival(handover, p.Days).Format(time.DateOnly)
	case p.Way == InTime && p.By != "":
		return o.Arrives != "" && o.Arrives <= p.By
	case p.Way == Fastest:
		return o.Arrives != ""
	}
	return true
}

func (p Pick) better(a, b Offer) bool {
	early := func(o Offer) string { return cmp.Or(o.Arrives, "9999") }
	order := []int{cmp.Compare(a.Price, b.Price), cmp.Compare(early(a), early(b))}
	if p.Way == Fastest {
		slices.Reverse(order)
	}
	return cmp.Or(append(order, cmp.Compare(a.Carrier, b.Carrier), cmp.Compare(a.Service, b.Service))...) < 0
}

// Choice is a row of the table of services: which deliveries it is for, and how their service is picked. What it does not say is for
// any.
type Choice struct {
	Word       string   `json:"word,omitempty" yaml:"word,omitempty"       maxLength:"80" doc:"What the channel calls the delivery; empty: any, also where the buyer wished for none"`
	Connection string   `json:"connection,omitempty" yaml:"connection,omitempty" maxLength:"60" doc:"Code of the channel; empty: all"`
	Countries  []string `json:"countries,omitempty" yaml:"countries,omitempty"                 doc:"ISO 3166-1 alpha-2 codes"                                                                         maxItems:"60"`
	Postcodes  []string `json:"postcodes,omitempty" yaml:"postcodes,omitempty"                 doc:"Beginnings of postcodes"                                                                          maxItems:"200"`
	FromG      int64    `json:"from_g,omitempty" yaml:"from_g,omitempty"                    doc:"Weight of the parcel, grams"                                                                                     minimum:"0"`
	ToG        int64    `json:"to_g,omitempty" yaml:"to_g,omitempty"                      doc:"0: no bound"                                                                                                     minimum:"0"`
	FromValue  int64    `json:"from_value,omitempty" yaml:"from_value,omitempty"                doc:"What the buyer pays for the order, minor units"                                                                  minimum:"0"`
	ToValue    int64    `json:"to_value,omitempty" yaml:"to_value,omitempty"                  doc:"0: no bound"                                                                                                     minimum:"0"`
	Currency   string   `json:"currency,omitempty" yaml:"currency,omitempty"   maxLength:"3"  doc:"Of the values"`
	Service    string   `json:"service" yaml:"service"              maxLength:"80" doc:"Code of a service, carrier/code, cheapest, cheapest in 2 days, cheapest in time, fastest, or ask"`
}

// Delivery is what is to be sent, as the table looks at it.
type Delivery struct {
	Word, Connection string
	To               place.Address
	WeightG          int64
	Value            int64
	Currency         string
}

var country = regexp.MustCompile(`^[A-Z]{2}$`)

// Check refuses a row that no delivery could ever fit, or that says nothing of its service.
func (c *Choice) Check() error {
	if _, err := ParsePick(c.Service); err != nil {
		return err
	}
	for _, x := range c.Countries {
		if !country.MatchString(x) {
			return fmt.Errorf("country %q: two capitals are expected, such as XW", x)
		}
	}
	switch {
	case slices.Contains(c.Postcodes, ""):
		return fmt.Errorf("postcodes: one is empty")
	case c.ToG > 0 && c.ToG < c.FromG:
		return fmt.Errorf("weight: from %d g to %d g holds nothing", c.FromG, c.ToG)
	case c.ToValue > 0 && c.ToValue < c.FromValue:
		return fmt.Errorf("value: from %d to %d holds nothing", c.FromValue, c.ToValue)
	case (c.FromValue > 0 || c.ToValue > 0) && c.Currency == "":
		return fmt.Errorf("currency: of which the values are is not said")
	}
	return nil
}

// Holds tells whether a delivery is one that the row is for. Bounds are held, too.
func (c *Choice) Holds(d Delivery) bool {
	valued := c.FromValue > 0 || c.ToValue > 0
	return (c.Word == "" || strings.EqualFold(c.Word, d.Word)) && (c.Connection == "" || c.Connection == d.Connection) &&
		(len(c.Countries) == 0 || slices.Contains(c.Countries, d.To.Country)) &&
		(len(c.Postcodes) == 0 || hasPrefix(d.To.Postcode, c.Postcodes)) &&
		d.WeightG >= c.FromG && (c.ToG == 0 || d.WeightG <= c.ToG) &&
		(!valued || d.Currency == c.Currency && d.Value >= c.FromValue && (c.ToValue == 0 || d.Value <= c.ToValue))
}

// Choose is the first row that holds a delivery: of those for its channel, then of those for all; -1: none does.
func Choose(table []Choice, d Delivery) int {
	at := slices.IndexFunc(table, func(c Choice) bool { return c.Connection != "" && c.Holds(d) })
	if at < 0 {
		at = slices.IndexFunc(table, func(c Choice) bool { return c.Connection == "" && c.Holds(d) })
	}
	return at
}

// Hidden tells which row takes all that a row could hold, so that it is never looked at; -1: none does.
func Hidden(table []Choice, row int) int {
	for i := range row {
		if table[i].covers(&table[row]) {
			return i
		}
	}
	return -1
}

// covers tells whether a row holds whatever another holds, and is looked at before it.
func (c *Choice) covers(o *Choice) bool {
	if c.Connection != o.Connection || c.Word != "" && !strings.EqualFold(c.Word, o.Word) {
		return false
	}
	within := func(have, other []string) bool {
		return len(have) == 0 || len(other) > 0 && !slices.ContainsFunc(other, func(x string) bool { return !slices.Contains(have, x) })
	}
	bounds := func(from, to, otherFrom, otherTo int64) bool {
		return otherFrom >= from && (to == 0 || otherTo > 0 && otherTo <= to)
	}
	valued := c.FromValue > 0 || c.ToValue > 0
	return within(c.Countries, o.Countries) && within(c.Postcodes, o.Postcodes) && bounds(c.FromG, c.ToG, o.FromG, o.ToG) &&
		(!valued || c.Currency == o.Currency && bounds(c.FromValue, c.ToValue, o.FromValue, o.ToValue))
}
