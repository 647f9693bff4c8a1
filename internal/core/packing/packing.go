// Package packing says what a carton weighs and whether goods can go into it.
package packing

import "fmt"

// Profile is a carton kept under a name. Lengths are outer millimetres, weights grams.
type Profile struct {
	Code     string `json:"code"`
	Name     string `json:"name"`
	LengthMM int64  `json:"length_mm"`
	WidthMM  int64  `json:"width_mm"`
	HeightMM int64  `json:"height_mm"`
	TareG    int64  `json:"tare_g" doc:"Weight of carton and filling"`
	MaxG     int64  `json:"max_g" doc:"Heaviest content"`
	Service  string `json:"service,omitempty" doc:"Service proposed for it"`
}

// Content is a quantity of one item. Lengths and weight are of a single unit; zero means unknown.
type Content struct {
	SKU                         string
	Quantity                    int64
	WeightG                     int64
	LengthMM, WidthMM, HeightMM int64
}

// Weight is the gross weight of the content in the carton, in grams.
func (p Profile) Weight(content []Content) int64 {
	w := p.TareG
	for _, c := range content {
		w += c.Quantity * c.WeightG
	}
	return w
}

// Refuses tells why the content cannot go into the carton, or "". It checks weight, volume, and that
// the longest side of every item fits the carton's diagonal order of sides; it does not stack.
func (p Profile) Refuses(content []Content) string {
	var volume int64
	box := sorted(p.LengthMM, p.WidthMM, p.HeightMM)
	for _, c := range content {
		item := sorted(c.LengthMM, c.WidthMM, c.HeightMM)
		for i := range item {
			if item[i] > box[i] {
				return fmt.Sprintf("%s (%d×%d×%d mm) does not fit into %s", c.SKU, c.LengthMM, c.WidthMM, c.HeightMM, p.Name)
			}
		}
		volume += c.Quantity * c.LengthMM * c.WidthMM * c.HeightMM
	}
	if room := p.LengthMM * p.WidthMM * p.HeightMM; volume > room {
		return fmt.Sprintf("the goods need %.1f l, %s holds %.1f l", float64(volume)/1e6, p.Name, float64(room)/1e6)
	}
	if net := p.Weight(content) - p.TareG; p.MaxG > 0 && net > p.MaxG {
		return fmt.Sprintf("the goods weigh %.2f kg, %s carries %.2f kg", float64(net)/1000, p.Name, float64(p.MaxG)/1000)
	}
	return ""
}

func sorted(a, b, c int64) [3]int64 {
	if a < b {
		a, b = b, a
	}
	if b < c {
		b, c = c, b
	}
	if a < b {
		a, b = b, a
	}
	return [3]int64{a, b, c}
}
