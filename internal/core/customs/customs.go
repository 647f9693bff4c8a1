// Package customs makes what accompanies a parcel across a customs border: which lines it has, what they are worth and weigh, and what is
// missing before it may leave. It draws nothing and asks nobody.
package customs

import (
	"fmt"
	"slices"
	"strings"
)

// Reasons why goods cross a border, as the postal union's forms CN 22 and CN 23 name them.
var Reasons = []string{"sale", "gift", "sample", "returned goods", "documents", "other"}

// Terms are the rules of Incoterms 2020 that are of use for parcels.
var Terms = []string{"DAP", "DDP", "DPU", "EXW", "FCA", "CPT", "CIP"}

// Declarant is how a sender declares its parcels. The row without a sender is for all others.
type Declarant struct {
	Sender string   `json:"sender,omitempty" yaml:"sender,omitempty" maxLength:"31" doc:"Code; empty: all that have no row of their own"`
	Area   []string `json:"area,omitempty" yaml:"area,omitempty"                  doc:"Countries between which there is no customs border" maxItems:"60"`
	Number string   `json:"number,omitempty" yaml:"number,omitempty" maxLength:"40" doc:"Of the sender with its customs or tax office"`
	Reason string   `json:"reason" yaml:"reason"                                                                                                 enum:"sale,gift,sample,returned goods,documents,other"`
	Terms  string   `json:"terms" yaml:"terms"                           doc:"Incoterms 2020"                                                   enum:"DAP,DDP,DPU,EXW,FCA,CPT,CIP"`
	Signer string   `json:"signer,omitempty" yaml:"signer,omitempty" maxLength:"80" doc:"Whose name stands under the papers"`
}

// Check tidies the row and refuses what cannot be.
func (d *Declarant) Check() error {
	d.Sender, d.Number, d.Signer = strings.TrimSpace(d.Sender), strings.TrimSpace(d.Number), strings.TrimSpace(d.Signer)
	for i := range d.Area {
		d.Area[i] = strings.ToUpper(strings.TrimSpace(d.Area[i]))
		if len(d.Area[i]) != 2 {
			return fmt.Errorf("area: %q is no country; two letters are expected", d.Area[i])
		}
	}
	switch {
	case !slices.Contains(Reasons, d.Reason):
		return fmt.Errorf("reason %q: one of %s is expected", d.Reason, strings.Join(Reasons, ", "))
	case !slices.Contains(Terms, d.Terms):
		return fmt.Errorf("terms %q: one of %s is expected", d.Terms, strings.Join(Terms, ", "))
	}
	return nil
}

// Usual is how parcels are declared where nobody said otherwise.
var Usual = Declarant{Reason: "sale", Terms: "DAP"}

// Of is the row for a sender.
func Of(rows []Declarant, sender string) Declarant {
	usual := Usual
	for _, d := range rows {
		if d.Sender == sender {
			return d
		}
		if d.Sender == "" {
			usual = d
		}
	}
	return usual
}

// Crosses tells whether a parcel between two countries crosses a customs border.
func (d *Declarant) Crosses(from, to string) bool {
	return from != "" && to != "" && from != to && (!slices.Contains(d.Area, from) || !slices.Contains(d.Area, to))
}

// Line is goods of one kind in a parcel.
type Line struct {
	SKU         string `json:"sku"`
	Description string `json:"description"`
	Code        string `json:"code" doc:"Harmonized System code"`
	Origin      string `json:"origin" doc:"Country, ISO 3166-1 alpha-2"`
	Quantity    int64  `json:"quantity"`
	Value       int64  `json:"value" doc:"Of all of them, without tax, minor units"`
	WeightG     int64  `json:"weight_g" doc:"Of all of them, net"`
}

// Declaration is what accompanies a parcel across a border.
type Declaration struct {
	Reason          string `json:"reason" enum:"sale,gift,sample,returned goods,documents,other"`
	Terms           string `json:"terms" doc:"Incoterms 2020"`
	SenderNumber    string `json:"sender_number,omitempty" doc:"Of the sender with its customs or tax office"`
	RecipientNumber string `json:"recipient_number,omitempty"`
	Currency        string `json:"currency"`
	Lines           []Line `json:"lines"`
	Value           int64  `json:"value" doc:"Of all lines, minor units"`
	Shipping        int64  `json:"shipping" doc:"What the buyer paid for shipping, minor units"`
	WeightG         int64  `json:"weight_g" doc:"Net, of all lines"`
	Signer          string `json:"signer,omitempty"`
}

// Sum adds the lines up.
func (d *Declaration) Sum() {
	d.Value, d.WeightG = 0, 0
	for _, l := range d.Lines {
		d.Value += l.Value
		d.WeightG += l.WeightG
	}
}

// Lacks says what is missing before a parcel may cross the border, with the items named.
func (d *Declaration) Lacks() string {
	var code, origin, weight []string
	for _, l := range d.Lines {
		if l.Code == "" {
			code = append(code, l.SKU)
		}
		if l.Origin == "" {
			origin = append(origin, l.SKU)
		}
		if l.WeightG == 0 {
			weight = append(weight, l.SKU)
		}
	}
	var out []string
	for _, x := range []struct {
		list []string
		what string
	}{{code, "customs code"}, {origin, "country of origin"}, {weight, "weight"}} {
		if len(x.list) > 0 {
			out = append(out, fmt.Sprintf("no %s: %s", x.what, strings.Join(x.list, ", ")))
		}
	}
	return strings.Join(out, "; ")
}

// Share divides an amount by weights, so that the parts add up to it; without weights evenly.
func Share(total int64, weights []int64) []int64 {
	out := make([]int64, len(weights))
	sum := int64(0)
	for _, w := range weights {
		sum += w
	}
	left, leftWeight := total, sum
	for i, w := range weights {
		if sum == 0 {
			out[i] = left / int64(len(weights)-i)
		} else if leftWeight > 0 {
			out[i] = left * w / leftWeight
		}
		left -= out[i]
		leftWeight -= w
	}
	return out
}
