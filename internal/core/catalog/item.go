// Package catalog knows what is sold: items with their kinds, options, kits and prices, and which item a
// channel's listing is. It finds matches and says why; it applies none.
package catalog

import (
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"unicode"

	"openrelay/internal/core/gs1"
	"openrelay/internal/core/money"
)

// Kind says what an item is.
type Kind string

// The kinds of items.
const (
	Stocked     Kind = "stocked"
	Kit         Kind = "kit"           // made of other items, by the scarcest of which it is offered
	MadeToOrder Kind = "made to order" // holds no stock
	Prepared    Kind = "prepared"      // food and drink, made when ordered, with option groups; holds no stock
	Charge      Kind = "charge"        // such as shipping or gift wrap: nothing is sent for it
)

// Kinds lists all kinds.
var Kinds = []Kind{Stocked, Kit, MadeToOrder, Prepared, Charge}

// HoldsStock tells whether items of the kind lie on shelves themselves.
func (k Kind) HoldsStock() bool { return k == Stocked || k == "" }

// Item is one record of the catalog.
type Item struct {
	ID          int64    `json:"id,omitempty"`
	SKU         string   `json:"sku"`
	Kind        Kind     `json:"kind,omitempty" enum:",stocked,kit,made to order,prepared,charge" doc:"Empty: stocked"`
	Family      string   `json:"family,omitempty" doc:"Variants of one thing share a family and differ in their options"`
	Name        string   `json:"name"`
	Options     string   `json:"options,omitempty" doc:"Name and value, by comma: size M, colour sand"`
	GTIN        string   `json:"gtin,omitempty" doc:"GTIN-8, -12, -13 or -14 with its check digit (GS1 General Specifications, section 7.9)"`
	Category    string   `json:"category,omitempty"`
	Description string   `json:"description,omitempty"`
	Images      []string `json:"images,omitempty" doc:"Addresses"`
	Serials     bool     `json:"serials,omitempty" doc:"Each unit has a serial number: recorded at receipt, chosen at packing"`
	WeightG     int64    `json:"weight_g,omitempty" doc:"grams"`
	LengthMM    int64    `json:"length_mm,omitempty" doc:"millimetres"`
	WidthMM     int64    `json:"width_mm,omitempty" doc:"millimetres"`
	HeightMM    int64    `json:"height_mm,omitempty" doc:"millimetres"`
	Fragile     bool     `json:"fragile,omitempty" doc:"Nothing is put on top of it in a carton"`
	Upright     bool     `json:"upright,omitempty" doc:"Its height stays upright in a carton"`
	CustomsCode string   `json:"customs_code,omitempty" doc:"Harmonized System code, 6 to 10 digits"`
	Origin      string   `json:"origin,omitempty" doc:"Country of origin, ISO 3166-1 alpha-2"`
	TaxClass    string   `json:"tax_class,omitempty"`
	Price       int64    `json:"price,omitempty" doc:"Minor units"`
	Currency    string   `json:"currency,omitempty" doc:"ISO 4217; empty: EUR"`
	Prices      []Price  `json:"prices,omitempty" doc:"On other price lists"`
	Marks       []string `json:"marks,omitempty" doc:"Words by which items are chosen, such as those to be offered on a channel"`
	Parts       []Part   `json:"parts,omitempty" doc:"What a kit is made of"`
	Groups      []string `json:"groups,omitempty" doc:"Codes of the option groups of prepared food"`
	Archived    bool     `json:"archived,omitempty" doc:"No longer sold; its history stays"`
	Revision    int64    `json:"revision,omitempty"`
}

// Price is a price on a price list.
type Price struct {
	List  string `json:"list"`
	Price int64  `json:"price" doc:"Minor units of the list's currency"`
}

// Part is a component of a kit.
type Part struct {
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity" minimum:"1"`
}

// Group is a choice to be made when prepared food is ordered: at least Least and at most Most of its
// choices.
type Group struct {
	Code    string   `json:"code"`
	Name    string   `json:"name"`
	Least   int64    `json:"least" minimum:"0"`
	Most    int64    `json:"most" minimum:"1"`
	Choices []Choice `json:"choices"`
}

// Choice is one of the choices of a group.
type Choice struct {
	Code  string `json:"code"`
	Name  string `json:"name"`
	Price int64  `json:"price" doc:"What it adds, minor units"`
}

// Check refuses a group that nobody could choose from.
func (g *Group) Check() error {
	switch {
	case g.Code == "" || g.Name == "":
		return errors.New("group: code and name are needed")
	case len(g.Choices) == 0:
		return fmt.Errorf("group %s: no choices", g.Code)
	case g.Least < 0 || g.Most < max(g.Least, 1):
		return fmt.Errorf("group %s: least %d, most %d: most is at least 1 and not below least", g.Code, g.Least, g.Most)
	case g.Least > int64(len(g.Choices)):
		return fmt.Errorf("group %s: %d choices are asked for, it has %d", g.Code, g.Least, len(g.Choices))
	}
	seen := map[string]bool{}
	for _, c := range g.Choices {
		if c.Code == "" || c.Name == "" || seen[c.Code] {
			return fmt.Errorf("group %s: each choice has a name and a code of its own", g.Code)
		}
		seen[c.Code] = true
	}
	return nil
}

// Option is one thing in which variants differ.
type Option struct{ Name, Value string }

// ParseOptions reads "size M, colour sand": the first word of each part is the name, the rest the value.
func ParseOptions(text string) ([]Option, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	var out []Option
	for _, part := range strings.Split(text, ",") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), " ")
		value = strings.TrimSpace(value)
		if !ok || value == "" {
			return nil, fmt.Errorf("options: %q has no value; write such as size M, colour sand", strings.TrimSpace(part))
		}
		for _, o := range out {
			if strings.EqualFold(o.Name, name) {
				return nil, fmt.Errorf("options: %s stands twice", name)
			}
		}
		out = append(out, Option{name, value})
	}
	return out, nil
}

// OptionsText writes options as ParseOptions reads them.
func OptionsText(list []Option) string {
	parts := make([]string, len(list))
	for i, o := range list {
		parts[i] = o.Name + " " + o.Value
	}
	return strings.Join(parts, ", ")
}

// NormalSKU is what is left of a SKU when case, spaces and punctuation are taken away.
func NormalSKU(sku string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToUpper(r)
		}
		return -1
	}, sku)
}

// Complete fills in what is left open, the currency with that of the company, and tidies what people type: spaces, case of codes, doubles.
func (i *Item) Complete(currency string) {
	for _, f := range []*string{&i.SKU, &i.Name, &i.Family, &i.Options, &i.GTIN, &i.Category, &i.CustomsCode, &i.Origin, &i.TaxClass,
		&i.Currency} {
		*f = strings.TrimSpace(*f)
	}
	if i.Kind == "" {
		i.Kind = Stocked
	}
	if i.Currency == "" {
		i.Currency = currency
	}
	i.CustomsCode = strings.NewReplacer(".", "", " ", "").Replace(i.CustomsCode)
	i.Origin = strings.ToUpper(i.Origin)
	if o, err := ParseOptions(i.Options); err == nil {
		i.Options = OptionsText(o)
	}
	for k := range i.Marks {
		i.Marks[k] = strings.ToLower(strings.TrimSpace(i.Marks[k]))
	}
	slices.Sort(i.Marks)
	i.Marks = slices.DeleteFunc(slices.Compact(i.Marks), func(m string) bool { return m == "" })
}

func digits(s string) bool {
	return s != "" && strings.Trim(s, "0123456789") == ""
}

// Check refuses a record that could not be worked with. The error names the field.
func (i *Item) Check() error {
	if _, err := ParseOptions(i.Options); err != nil {
		return err
	}
	switch {
	case i.SKU == "":
		return errors.New("sku: missing")
	case len(i.SKU) > 80:
		return errors.New("sku: at most 80 characters")
	case strings.ContainsFunc(i.SKU, func(r rune) bool { return unicode.IsControl(r) || r == '/' || r == ',' || r == ';' || r == '"' }):
		return fmt.Errorf("sku: %q contains a sign that is not for SKUs (/ , ; \" or a control character)", i.SKU)
	case i.Name == "":
		return errors.New("name: missing")
	case !slices.Contains(Kinds, i.Kind):
		return fmt.Errorf("kind: %q is none of stocked, kit, made to order, prepared, charge", i.Kind)
	case i.GTIN != "" && !gs1.ValidGTIN(i.GTIN):
		return fmt.Errorf("gtin: %s is not a GTIN with a right check digit", i.GTIN)
	case !money.ValidCurrency(i.Currency):
		return fmt.Errorf("currency: %q is not an ISO 4217 code", i.Currency)
	case i.WeightG < 0 || i.LengthMM < 0 || i.WidthMM < 0 || i.HeightMM < 0 || i.Price < 0:
		return errors.New("weight, measures and price are not negative")
	case i.WeightG > 10_000_000 || max(i.LengthMM, i.WidthMM, i.HeightMM) > 100_000:
		return errors.New("weight and measures: at most 10 t and 100 m")
	case i.CustomsCode != "" && (!digits(i.CustomsCode) || len(i.CustomsCode) < 6 || len(i.CustomsCode) > 10):
		return fmt.Errorf("customs_code: %q is not 6 to 10 digits", i.CustomsCode)
	case i.Origin != "" && (len(i.Origin) != 2 || strings.Trim(i.Origin, "ABCDEFGHIJKLMNOPQRSTUVWXYZ") != ""):
		return fmt.Errorf("origin: %q is not an ISO 3166-1 code of two letters", i.Origin)
	case i.Kind == Kit && len(i.Parts) == 0:
		return errors.New("parts: a kit is made of at least one item")
	case i.Kind != Kit && len(i.Parts) > 0:
		return errors.New("parts: only a kit has parts")
	case i.Kind != Prepared && len(i.Groups) > 0:
		return errors.New("groups: only prepared food has option groups")
	case i.Serials && !i.Kind.HoldsStock():
		return fmt.Errorf("serials: items that are %s hold no stock of their own, and so no serial numbers", i.Kind)
	}
	seen := map[string]bool{}
	for _, p := range i.Parts {
		switch {
		case p.Quantity < 1 || p.Quantity > 10_000:
			return fmt.Errorf("parts: %d × %s; 1 to 10,000 are expected", p.Quantity, p.SKU)
		case seen[p.SKU]:
			return fmt.Errorf("parts: %s stands twice", p.SKU)
		case p.SKU == i.SKU:
			return errors.New("parts: a kit is not made of itself")
		}
		seen[p.SKU] = true
	}
	for _, u := range i.Images {
		if p, err := url.Parse(u); err != nil || p.Scheme != "https" && p.Scheme != "http" || p.Host == "" {
			return fmt.Errorf("images: %q is not a web address", u)
		}
	}
	for _, p := range i.Prices {
		if p.Price < 0 || p.List == "" {
			return errors.New("prices: each has a list, and none is negative")
		}
	}
	return nil
}
