package standin

import (
	"encoding/base64"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// RailConfig is a shipper's account at Ironway.
type RailConfig struct {
	Shipper, Number string
	User, Password  string
	Prefix          string // GS1 company prefix of its shipping containers, 7 digits
}

// Ironway carries parcels by rail: it speaks XML, lets in by name and password, numbers parcels by SSCC, hands its labels out in a
// printer's language, and never calls: its events are read.
type Ironway struct {
	cfg RailConfig
	mis mischief
	http.Handler

	mu     sync.Mutex
	book   []*consignment
	sheets map[string]*ironSheet // by the shipper's reference
	events []ironEvent
}

type consignment struct {
	No, Ref, SSCC, Product, To string
	Price                      int64
	Trial, Cancelled           bool
	Sheet                      string
	Label                      string // printer language
	Steps                      int
}

type ironSheet struct {
	No    string
	Count int
}

type ironEvent struct {
	Seq                  int
	SSCC, Code, Text, At string
}

// What Ironway charges: by the region a postcode lies in, with sums on top.
type ironRegion struct {
	Name, Land string
	Begin      []string
	Days       int
	PerStep    []int64 // cents, by the steps of weight
}

var (
	ironSteps   = []int64{3000, 8000, 15_000, 31_500} // grams
	ironRegions = []ironRegion{
		{"inner", "XW", []string{"4"}, 2, []int64{390, 520, 690, 990}},
		{"outer", "XW", nil, 3, []int64{450, 610, 840, 1190}},
		{"beyond", "XE", nil, 6, []int64{990, 1490, 2190, 3290}},
	}
	ironFar = []string{"97", "99", "20"}
)

const (
	ironDivisor    = 5000 // cm³ per kg
	ironFuel       = 82   // permille
	ironFarCents   = 350
	ironLongMM     = 1000 // longer: oversize
	ironLongCents  = 690
	ironLongestMM  = 2000
	ironHeaviestG  = 31_500
	ironProduct    = "IR"
	ironProductTxt = "Ironway Rail"
)

// NewIronway opens the carrier.
func NewIronway(cfg RailConfig) *Ironway {
	p := &Ironway{cfg: cfg, sheets: map[string]*ironSheet{}}
	r := chi.NewRouter()
	r.Route("/iw", func(r chi.Router) {
		r.Use(p.mis.around, p.known)
		r.Get("/shipper", func(w http.ResponseWriter, _ *http.Request) {
			xmlOut(w, 200, struct {
				XMLName xml.Name `xml:"Shipper"`
				No      string   `xml:"no,attr"`
				Name    string
				Land    string
			}{No: cfg.Number, Name: cfg.Shipper, Land: "XW"})
		})
		r.Get("/tariff", p.tariff)
		r.Post("/quotes", p.quote)
		r.Post("/consignments", p.consign)
		r.Get("/consignments", p.find)
		r.Post("/consignments/{no}/cancel", p.cancel)
		r.Post("/sheets", p.sheet)
		r.Get("/events", p.readEvents)
	})
	carrierControl(r, &p.mis, "Ironway, the depot", "What is sent by rail. It never calls: whoever wants to know reads the events. "+
		"Who sends the same twice has sent two.", p.book200, p.MoveAs)
	p.Handler = r
	return p
}

// Misbehave switches faults on, or off with the zero value.
func (p *Ironway) Misbehave(f Faults) { p.mis.set(f) }

// Live lets it live so long ago.
func (p *Ironway) Live(ago time.Duration) { p.mis.Live(ago) }

// Sold lists the labels that were sold, the oldest first.
func (p *Ironway) Sold() []SoldLabel {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]SoldLabel, len(p.book))
	for i, c := range p.book {
		out[i] = SoldLabel{c.Ref, c.SSCC, c.Cancelled, c.Trial}
	}
	return out
}

// book200 is what was consigned, the newest first.
func (p *Ironway) book200() (out []soldRow) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := len(p.book) - 1; i >= max(0, len(p.book)-200); i-- {
		c := p.book[i]
		out = append(out, soldRow{c.No, c.SSCC, c.To, c.Ref, stands(c.Cancelled, c.Sheet, c.Steps)})
	}
	return out
}

func (p *Ironway) known(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, ok := r.BasicAuth(); !ok || user != p.cfg.User || password != p.cfg.Password {
			w.Header().Set("WWW-Authenticate", `Basic realm="Ironway"`)
			xmlFault(w, 401, "A1", "name or password is wrong", "")
			return
		}
		next.ServeHTTP(w, r)
	})
}

func xmlOut(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(status)
	io.WriteString(w, xml.Header)
	xml.NewEncoder(w).Encode(v)
}

func xmlFault(w http.ResponseWriter, status int, code, text, field string) {
	xmlOut(w, status, struct {
		XMLName xml.Name `xml:"Fault"`
		Code    string   `xml:"code,attr"`
		Text    string
		Field   string `xml:",omitempty"`
	}{Code: code, Text: text, Field: field})
}

func xmlIn(w http.ResponseWriter, r *http.Request, v any) bool {
	if err := xml.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(v); err != nil {
		xmlFault(w, 400, "X1", "this is no XML that is known here", "")
		return false
	}
	return true
}

func (p *Ironway) tariff(w http.ResponseWriter, _ *http.Request) {
	type step struct {
		UpTo  int64 `xml:"upTo,attr"`
		Cents int64 `xml:"cents,attr"`
	}
	type region struct {
		Name  string   `xml:"name,attr"`
		Land  string   `xml:"land,attr"`
		Days  int      `xml:"days,attr"`
		Begin []string `xml:"Begin,omitempty"`
		Steps []step   `xml:"Step"`
	}
	var regions []region
	for _, x := range ironRegions {
		r := region{Name: x.Name, Land: x.Land, Days: x.Days, Begin: x.Begin}
		for i, g := range ironSteps {
			r.Steps = append(r.Steps, step{g, x.PerStep[i]})
		}
		regions = append(regions, r)
	}
	xmlOut(w, 200, struct {
		XMLName  xml.Name `xml:"Tariff"`
		Currency string   `xml:"currency,attr"`
		Fuel     int      `xml:"fuel,attr"`
		Divisor  int      `xml:"divisor,attr"`
		Heaviest int      `xml:"heaviest,attr"`
		Longest  int      `xml:"longest,attr"`
		Product  string   `xml:"product,attr"`
		Label    string   `xml:"label,attr"`
		Far      struct {
			Cents int      `xml:"cents,attr"`
			Begin []string `xml:"Begin"`
		}
		Long struct {
			From  int `xml:"above,attr"`
			Cents int `xml:"cents,attr"`
		}
		Cover   ironCover
		Regions []region `xml:"Region"`
	}{Currency: "EUR", Fuel: ironFuel, Divisor: ironDivisor, Heaviest: ironHeaviestG, Longest: ironLongestMM, Product: ironProduct,
		Label: ironProductTxt, Far: struct {
			Cents int      `xml:"cents,attr"`
			Begin []string `xml:"Begin"`
		}{ironFarCents, ironFar}, Long: struct {
			From  int `xml:"above,attr"`
			Cents int `xml:"cents,attr"`
		}{ironLongMM, ironLongCents}, Cover: ironCover{ironCoverPermille, ironCoverMost}, Regions: regions})
}

// ironCover is what Ironway asks for a value that it answers for, and up to which.
type ironCover struct {
	Permille int64 `xml:"permille,attr"`
	Most     int64 `xml:"most,attr"`
}

const (
	ironCoverPermille = 8
	ironCoverMost     = 200_000
)

// cover adds what answering for the parcel's value costs.
func (x ironParcel) cover(cents int64) (int64, string) {
	if x.Cover == "" {
		return cents, ""
	}
	var value int64
	var in string
	if _, err := fmt.Sscan(x.Cover, &value, &in); err != nil || in != "EUR" {
		return 0, "no value in EUR is named"
	}
	if value > ironCoverMost {
		return 0, "worth too much"
	}
	return cents + (value*ironCoverPermille+500)/1000, ""
}

type ironParcel struct {
	Ref, Trial, Day       string
	Land, Postcode        string
	Name, Street, Extra   string
	Town                  string
	Cover                 string // cents and currency
	Grams                 int64
	Length, Width, Height int64
}

// cost is what a parcel costs by rail, when it arrives, or why it is not carried.
func (x ironParcel) cost() (cents int64, region ironRegion, no string) {
	longest := max(x.Length, x.Width, x.Height)
	switch {
	case longest > ironLongestMM:
		return 0, region, fmt.Sprintf("longer than %d mm", ironLongestMM)
	case x.Grams > ironHeaviestG:
		return 0, region, fmt.Sprintf("heavier than %d g", ironHeaviestG)
	}
	weight := max(x.Grams, (x.Length*x.Width*x.Height+ironDivisor-1)/ironDivisor)
	for _, reg := range ironRegions {
		if reg.Land != x.Land || len(reg.Begin) > 0 && !begins(x.Postcode, reg.Begin) {
			continue
		}
		for i, g := range ironSteps {
			if weight <= g {
				cents = reg.PerStep[i] + (reg.PerStep[i]*ironFuel+500)/1000
				if begins(x.Postcode, ironFar) {
					cents += ironFarCents
				}
				if longest > ironLongMM {
					cents += ironLongCents
				}
				cents, no = x.cover(cents)
				return cents, reg, no
			}
		}
		return 0, reg, "too bulky"
	}
	return 0, region, "no rails lead there"
}

func (p *Ironway) quote(w http.ResponseWriter, r *http.Request) {
	var in ironParcel
	if !xmlIn(w, r, &in) {
		return
	}
	cents, region, no := in.cost()
	out := struct {
		XMLName xml.Name `xml:"Quote"`
		Product string   `xml:"product,attr"`
		Label   string   `xml:"label,attr"`
		Price   string   `xml:",omitempty"`
		Arrives string   `xml:",omitempty"`
		No      string   `xml:",omitempty"`
	}{Product: ironProduct, Label: ironProductTxt, No: no}
	if no == "" {
		out.Price, out.Arrives = fmt.Sprintf("%d.%02d", cents/100, cents%100), arrival(in.Day, region.Days)
	}
	xmlOut(w, 200, out)
}

// sscc is a serial shipping container code (GS1 General Specifications, application identifier 00) with its check digit.
func sscc(prefix string, serial int) string {
	digits := "3" + prefix + fmt.Sprintf("%0*d", 16-len(prefix), serial)
	sum := 0
	for i, c := range digits {
		weight := 1
		if i%2 == 0 {
			weight = 3
		}
		sum += int(c-'0') * weight
	}
	return digits + strconv.Itoa((10-sum%10)%10)
}

type ironConsigned struct {
	XMLName xml.Name `xml:"Consignment"`
	No      string   `xml:"no,attr"`
	SSCC    string
	Product string
	Price   string
	Region  string
	Label   ironLabel
}

type ironLabel struct {
	Language string `xml:"language,attr"`
	Encoding string `xml:"encoding,attr"`
	Text     string `xml:",chardata"`
}

func (c *consignment) answer() ironConsigned {
	return ironConsigned{No: c.No, SSCC: c.SSCC, Product: ironProductTxt, Price: fmt.Sprintf("%d.%02d", c.Price/100, c.Price%100),
		Label: ironLabel{"zpl", "base64", base64.StdEncoding.EncodeToString([]byte(c.Label))}}
}

func (p *Ironway) consign(w http.ResponseWriter, r *http.Request) {
	var in ironParcel
	if !xmlIn(w, r, &in) {
		return
	}
	switch {
	case in.Ref == "":
		xmlFault(w, 422, "C1", "a reference of the shipper is wanted", "Ref")
		return
	case strings.HasPrefix(strings.ToLower(in.Street), "po box"):
		xmlFault(w, 422, "C2", "a train does not stop at a box", "Street")
		return
	case len([]rune(in.Street)) > 35:
		xmlFault(w, 422, "C3", "a street has at most 35 letters", "Street")
		return
	case len([]rune(in.Extra)) > 35:
		xmlFault(w, 422, "C5", "what follows a street has at most 35 letters", "Extra")
		return
	}
	cents, region, no := in.cost()
	if no != "" {
		xmlFault(w, 422, "C4", no, "")
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	n := len(p.book) + 1
	c := &consignment{No: fmt.Sprintf("IW-%05d", n), Ref: in.Ref, SSCC: sscc(p.cfg.Prefix, n), Product: ironProduct, Price: cents,
		Trial: in.Trial == "yes", To: in.Name + ", " + in.Town}
	c.Label = fmt.Sprintf("^XA^FO40,40^FD%s^FS^FO40,90^FD%s %s^FS^FO40,160^BCN,120^FD>;>800%s^FS^FO40,330^FD%s^FS^XZ", in.Name,
		in.Postcode, in.Town, c.SSCC, region.Name)
	p.book = append(p.book, c) // who sends the same twice has two: Ironway knows no references
	out := c.answer()
	out.Region = region.Name
	xmlOut(w, 201, out)
}

// find lists what was consigned under a reference of the shipper.
func (p *Ironway) find(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := struct {
		XMLName xml.Name        `xml:"Consignments"`
		List    []ironConsigned `xml:"Consignment"`
	}{}
	for _, c := range p.book {
		if c.Ref == r.URL.Query().Get("ref") && !c.Cancelled {
			out.List = append(out.List, c.answer())
		}
	}
	xmlOut(w, 200, out)
}

func (p *Ironway) cancel(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.book {
		switch {
		case c.No != chi.URLParam(r, "no"):
			continue
		case c.Cancelled:
			xmlFault(w, 409, "K2", "it was cancelled before", "")
		case c.Sheet != "" || c.Steps > 0:
			xmlFault(w, 409, "K1", "it is on a sheet already", "")
		default:
			c.Cancelled = true
			w.WriteHeader(204)
		}
		return
	}
	xmlFault(w, 404, "K0", "there is no such consignment", "")
}

func (p *Ironway) sheet(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Ref string
		No  []string
	}
	if !xmlIn(w, r, &in) {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	s := p.sheets[in.Ref]
	if s == nil {
		s = &ironSheet{No: fmt.Sprintf("SH%04d", len(p.sheets)+1)}
		for _, no := range in.No {
			for _, c := range p.book {
				if c.No == no && !c.Cancelled {
					c.Sheet = s.No
					s.Count++
				}
			}
		}
		p.sheets[in.Ref] = s
	}
	xmlOut(w, 200, struct {
		XMLName xml.Name `xml:"Sheet"`
		No      string   `xml:"no,attr"`
		Count   int      `xml:"count,attr"`
	}{No: s.No, Count: s.Count})
}

var ironWay = []struct{ code, text string }{
	{"10", "On the ramp"}, {"20", "On the train"}, {"30", "At the station of destination"}, {"40", "On the van"}, {"90", "Handed over"},
}

// ironOff are the codes for what leaves the usual way.
var ironOff = map[string]struct{ code, text string }{NotIn: {"50", "Nobody opened"}, AtCustoms: {"35", "At the customs yard"},
	GoingBack: {"70", "On the train back"}, BackAgain: {"80", "Back on the ramp"}, GoneLost: {"99", "Cannot be found"}}

// Move moves a parcel on by one event.
func (p *Ironway) Move(sscc string) error { return p.MoveAs(sscc, "") }

// MoveAs moves a parcel on, or off its usual way.
func (p *Ironway) MoveAs(sscc, as string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range p.book {
		if c.SSCC != sscc || c.Cancelled || as == "" && c.Steps >= len(ironWay) {
			continue
		}
		step := ironOff[as]
		if as == "" {
			step = ironWay[c.Steps]
			c.Steps++
		}
		p.events = append(p.events, ironEvent{len(p.events) + 1, sscc, step.code, step.text,
			p.mis.clock().UTC().Format("2006-01-02 15:04:05")})
		return nil
	}
	return fmt.Errorf("%s cannot be moved", sscc)
}

// readEvents lists what happened after an event, at most fifty.
func (p *Ironway) readEvents(w http.ResponseWriter, r *http.Request) {
	after, _ := strconv.Atoi(r.URL.Query().Get("after"))
	p.mu.Lock()
	defer p.mu.Unlock()
	type event struct {
		Seq  int `xml:"seq,attr"`
		SSCC string
		Code string
		Text string
		At   string
	}
	out := struct {
		XMLName xml.Name `xml:"Events"`
		List    []event  `xml:"Event"`
	}{}
	for _, e := range p.events[min(max(after, 0), len(p.events)):] {
		if len(out.List) == 50 {
			break
		}
		out.List = append(out.List, event(e))
	}
	xmlOut(w, 200, out)
}
