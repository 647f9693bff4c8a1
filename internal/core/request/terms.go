package request

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// How the items of a partner are known.
const (
	OurNames    = "ours"  // it knows them by our SKUs, and by its own names where those are said
	TheirNames  = "named" // it knows only those of which its name is said
	hoursInYear = 24 * 366
)

// Terms are what was agreed with a partner. Amounts are minor units of the currency.
type Terms struct {
	Partner string `json:"partner" yaml:"partner" doc:"Code of its connection" maxLength:"40"`
	ByHand  bool   `json:"by_hand,omitempty" yaml:"by_hand,omitempty" doc:"A person asks for each order; otherwise it is asked as soon as an order can be worked on"`
	Within  int64  `json:"within,omitempty" yaml:"within,omitempty" doc:"Hours after which a request that nobody has acknowledged is asked about; 0: 24" minimum:"0" maximum:"8784"`
	Sends   int64  `json:"sends,omitempty" yaml:"sends,omitempty" doc:"Hours after which a person is asked about one that was acknowledged and not sent; 0: 72" minimum:"0" maximum:"8784"`
	Items   string `json:"items,omitempty" yaml:"items,omitempty" doc:"ours: it knows our SKUs; named: only items of which its own name is said" enum:",ours,named"`

	Currency  string `json:"currency,omitempty" yaml:"currency,omitempty" doc:"ISO 4217, of what it asks; empty: the company's" maxLength:"3"`
	Order     int64  `json:"order,omitempty" yaml:"order,omitempty" doc:"What it asks for a request" minimum:"0" maximum:"100000000"`
	Line      int64  `json:"line,omitempty" yaml:"line,omitempty" doc:"And for each line" minimum:"0" maximum:"100000000"`
	Unit      int64  `json:"unit,omitempty" yaml:"unit,omitempty" doc:"And for each unit" minimum:"0" maximum:"100000000"`
	Parcel    int64  `json:"parcel,omitempty" yaml:"parcel,omitempty" doc:"And for each parcel" minimum:"0" maximum:"100000000"`
	Days      int64  `json:"days,omitempty" yaml:"days,omitempty" doc:"Until what it sends arrives, as agreed; 0: nobody said" minimum:"0" maximum:"365"`
	Tolerance int64  `json:"tolerance_percent,omitempty" yaml:"tolerance_percent,omitempty" doc:"A bill may differ by so many hundredths of what was agreed" minimum:"0" maximum:"100"`
}

// Check tidies terms and refuses what cannot be.
func (t *Terms) Check() error {
	t.Currency = strings.ToUpper(strings.TrimSpace(t.Currency))
	switch {
	case t.Currency != "" && len(t.Currency) != 3:
		return fmt.Errorf("currency %q: three letters are expected, such as EUR", t.Currency)
	case !slices.Contains([]string{"", OurNames, TheirNames}, t.Items):
		return fmt.Errorf("items %q: ours or named is expected", t.Items)
	case t.Within < 0 || t.Within > hoursInYear || t.Sends < 0 || t.Sends > hoursInYear:
		return fmt.Errorf("within, sends: hours of at most a year are expected")
	case t.Order < 0 || t.Line < 0 || t.Unit < 0 || t.Parcel < 0:
		return fmt.Errorf("nothing that it asks may be negative")
	case t.Days < 0 || t.Days > 365:
		return fmt.Errorf("days: 0 to 365 is expected")
	case t.Tolerance < 0 || t.Tolerance > 100:
		return fmt.Errorf("tolerance_percent: 0 to 100 is expected")
	}
	return nil
}

// AsksMoney tells whether anything was said of what the partner asks.
func (t *Terms) AsksMoney() bool { return t.Order+t.Line+t.Unit+t.Parcel > 0 }

// Cost is what the partner asks for what it has sent in so many parcels, minor units.
func (t *Terms) Cost(r *Request, parcels int64) int64 {
	var lines, units int64
	for i := range r.Lines {
		if n := r.Lines[i].Sent; n > 0 {
			lines++
			units += n
		}
	}
	if units == 0 {
		return 0
	}
	return t.Order + lines*t.Line + units*t.Unit + parcels*t.Parcel
}

// Agrees tells whether a billed sum is what was agreed, within the tolerance.
func (t *Terms) Agrees(cost, billed int64) bool {
	return abs(billed-cost)*100 <= cost*t.Tolerance
}

func abs(n int64) int64 { return max(n, -n) }

// Spans after which a partner is asked about a request.
const (
	usualWithin = 24 * time.Hour
	usualSends  = 72 * time.Hour
)

// LookAt is when a request is to be looked at again that stands so since then; the zero time: never.
func (t *Terms) LookAt(s State, since time.Time) time.Time {
	span := func(hours int64, usual time.Duration) time.Time {
		if hours > 0 {
			return since.Add(time.Duration(hours) * time.Hour)
		}
		return since.Add(usual)
	}
	switch s {
	case Asked, Stopping:
		return span(t.Within, usualWithin)
	case Acknowledged, PartSent:
		return span(t.Sends, usualSends)
	}
	return time.Time{}
}
