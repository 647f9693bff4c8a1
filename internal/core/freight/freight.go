// Package freight prices a parcel from a carrier's published tariff: zones, weight steps, volumetric
// weight, fuel and remote surcharges. The carrier's own answer is what is paid; this arithmetic
// explains it, and stands in when the carrier does not answer.
package freight

import (
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/money"
	"openrelay/internal/core/place"
)

// Step is one row of a price table: parcels up to UpToG grams cost Price minor units.
type Step struct {
	UpToG int64 `json:"up_to_g"`
	Price int64 `json:"price"`
}

// Zone is a part of the world with its own prices. It holds an address when the country is listed
// and, where Prefixes is not empty, the postcode begins with one of them.
type Zone struct {
	Name      string   `json:"name"`
	Countries []string `json:"countries"`
	Prefixes  []string `json:"prefixes"`
	Days      int64    `json:"days" doc:"Working days from hand-over to arrival"`
	Steps     []Step   `json:"steps"`
}

// Service is one product of a carrier.
type Service struct {
	Code    string `json:"code"`
	Name    string `json:"name"`
	MaxG    int64  `json:"max_g"`
	MaxMM   int64  `json:"max_mm" doc:"Longest side"`
	Divisor int64  `json:"divisor" doc:"Cubic centimetres that count as a kilogram; 0 means real weight only"`
	Zones   []Zone `json:"zones"`
}

// Tariff is what a carrier publishes.
type Tariff struct {
	Currency       string    `json:"currency"`
	FuelPermille   int64     `json:"fuel_permille"`
	RemotePrefixes []string  `json:"remote_prefixes"`
	RemotePrice    int64     `json:"remote_price"`
	HomePrice      int64     `json:"home_price,omitempty" doc:"More where no company is at the address"`
	OversizeMM     int64     `json:"oversize_mm,omitempty" doc:"A longest side above this costs more; 0: none does"`
	OversizePrice  int64     `json:"oversize_price,omitempty"`
	Insurance      Insurance `json:"insurance,omitzero" doc:"What it costs that a parcel is insured; missing: none is"`
	Calendar       Calendar  `json:"calendar,omitzero" doc:"On which days it delivers"`
	Services       []Service `json:"services"`
}

// Insurance is what a carrier asks for insuring a parcel, in minor units of its tariff's currency.
type Insurance struct {
	Included int64 `json:"included,omitempty" doc:"Up to this value it costs nothing more"`
	Permille int64 `json:"permille" doc:"Of what is beyond that"`
	Least    int64 `json:"least,omitempty" doc:"It costs at least so much"`
	Most     int64 `json:"most" doc:"The highest value that is insured"`
}

// price is what a value costs to be insured; refused says why it is not.
func (i Insurance) price(value int64, currency, in string) (price int64, refused string) {
	worth := money.Amount{Minor: value, Currency: in}
	switch {
	case i.Most == 0:
		return 0, "does not insure parcels"
	case currency != in:
		return 0, fmt.Sprintf("insures in %s, not in %s", currency, in)
	case value > i.Most:
		return 0, fmt.Sprintf("insures up to %s, not %s", money.Amount{Minor: i.Most, Currency: currency}, worth)
	case value <= i.Included:
		return 0, ""
	}
	return max(i.Least, money.Share(value-i.Included, i.Permille, 1000)), ""
}

// Parcel is what is to be priced.
type Parcel struct {
	To                          place.Address
	Kind                        string // home or business, where that is known
	WeightG                     int64
	LengthMM, WidthMM, HeightMM int64
	Insured                     int64  // the value, minor units; 0: it is not insured
	InsuredIn                   string // its currency
	Remote                      bool   // an address service says that it is remote there
}

// Term is one part of a price.
type Term struct {
	Text  string `json:"text"`
	Price int64  `json:"price"`
}

// Quote is a price with the sum behind it. Refused is set where the tariff does not cover the parcel.
type Quote struct {
	Service     string `json:"service"`
	Price       int64  `json:"price"`
	Currency    string `json:"currency"`
	ChargeableG int64  `json:"chargeable_g"`
	Zone        string `json:"zone"`
	Days        int64  `json:"days"`
	Terms       []Term `json:"terms"`
	Refused     string `json:"refused,omitempty"`
}

// VolumetricG is the weight in grams that a parcel counts as by its volume: cm³ / divisor kilograms,
// rounded up to the gram.
func VolumetricG(lengthMM, widthMM, heightMM, divisor int64) int64 {
	if divisor <= 0 {
		return 0
	}
	return (lengthMM*widthMM*heightMM + divisor - 1) / divisor
}

// Quote prices the parcel by the service with the code.
func (t *Tariff) Quote(code string, p Parcel) Quote {
	for i := range t.Services {
		if t.Services[i].Code == code {
			return t.quote(&t.Services[i], p)
		}
	}
	return Quote{Service: code, Refused: "the tariff has no such service"}
}

func (t *Tariff) quote(s *Service, p Parcel) Quote {
	q := Quote{Service: s.Code, Currency: t.Currency}
	q.ChargeableG = max(p.WeightG, VolumetricG(p.LengthMM, p.WidthMM, p.HeightMM, s.Divisor))
	if longest := max(p.LengthMM, p.WidthMM, p.HeightMM); s.MaxMM > 0 && longest > s.MaxMM {
		q.Refused = fmt.Sprintf("%d mm is longer than %d mm", longest, s.MaxMM)
		return q
	}
	if s.MaxG > 0 && p.WeightG > s.MaxG {
		q.Refused = fmt.Sprintf("%d g is heavier than %d g", p.WeightG, s.MaxG)
		return q
	}
	for _, z := range s.Zones {
		if !z.holds(p.To) {
			continue
		}
		q.Zone, q.Days = z.Name, z.Days
		for _, step := range z.Steps {
			if q.ChargeableG <= step.UpToG {
				q.add(fmt.Sprintf("Zone %s up to %g kg", z.Name, float64(step.UpToG)/1000), step.Price)
				if t.FuelPermille > 0 {
					q.add(fmt.Sprintf("Fuel %g %%", float64(t.FuelPermille)/10), money.Share(step.Price, t.FuelPermille, 1000))
				}
				if t.RemotePrice > 0 && t.remote(&p) {
					q.add("Remote place", t.RemotePrice)
				}
				if t.HomePrice > 0 && p.home() {
					q.add("To a home", t.HomePrice)
				}
				if t.OversizeMM > 0 && max(p.LengthMM, p.WidthMM, p.HeightMM) > t.OversizeMM {
					q.add(fmt.Sprintf("Longer than %d mm", t.OversizeMM), t.OversizePrice)
				}
				t.insure(&q, p)
				return q
			}
		}
		q.Refused = fmt.Sprintf("%d g is beyond the last weight step", q.ChargeableG)
		return q
	}
	q.Refused = fmt.Sprintf("does not deliver to %s %s", p.To.Country, p.To.Postcode)
	return q
}

// insure adds what it costs that a parcel is insured.
func (t *Tariff) insure(q *Quote, p Parcel) {
	if p.Insured == 0 {
		return
	}
	price, refused := t.Insurance.price(p.Insured, t.Currency, p.InsuredIn)
	if refused != "" {
		*q = Quote{Service: q.Service, Currency: q.Currency, ChargeableG: q.ChargeableG, Zone: q.Zone, Days: q.Days, Refused: refused}
		return
	}
	q.add("Insured for "+money.Amount{Minor: p.Insured, Currency: p.InsuredIn}.String(), price)
}

// remote tells whether a parcel goes to a remote place: by the carrier's own list, or by an address service where it publishes none.
func (t *Tariff) remote(p *Parcel) bool {
	return hasPrefix(p.To.Postcode, t.RemotePrefixes) || len(t.RemotePrefixes) == 0 && p.Remote
}

// home tells whether a parcel goes to a home: as is known of the address, else where no company is named.
func (p *Parcel) home() bool { return p.Kind == "home" || p.Kind == "" && p.To.Company == "" }

func (q *Quote) add(text string, price int64) {
	q.Terms = append(q.Terms, Term{text, price})
	q.Price += price
}

func (z *Zone) holds(a place.Address) bool {
	for _, c := range z.Countries {
		if c == a.Country {
			return len(z.Prefixes) == 0 || hasPrefix(a.Postcode, z.Prefixes)
		}
	}
	return false
}

func hasPrefix(s string, prefixes []string) bool {
	for _, p := range prefixes {
		if p != "" && strings.HasPrefix(s, p) {
			return true
		}
	}
	return false
}

// Arrival counts working days (Monday to Saturday) from the day of hand-over.
func Arrival(handover time.Time, days int64) time.Time { return Calendar{}.Arrival(handover, days) }
