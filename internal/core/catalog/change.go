package catalog

import (
	"fmt"
	"strconv"
	"strings"

	"openrelay/internal/core/money"
)

// Change is a field of an item that becomes something else.
type Change struct {
	Field string `json:"field"`
	From  string `json:"from"`
	To    string `json:"to"`
}

// field is one field of an item that people and other systems may change.
type field struct {
	name string
	get  func(*Item) string
	set  func(to, from *Item)
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

var fields = []field{
	{"sku", func(i *Item) string { return i.SKU }, func(t, f *Item) { t.SKU = f.SKU }},
	{"kind", func(i *Item) string { return string(i.Kind) }, func(t, f *Item) { t.Kind = f.Kind }},
	{"family", func(i *Item) string { return i.Family }, func(t, f *Item) { t.Family = f.Family }},
	{"name", func(i *Item) string { return i.Name }, func(t, f *Item) { t.Name = f.Name }},
	{"options", func(i *Item) string { return i.Options }, func(t, f *Item) { t.Options = f.Options }},
	{"gtin", func(i *Item) string { return i.GTIN }, func(t, f *Item) { t.GTIN = f.GTIN }},
	{"category", func(i *Item) string { return i.Category }, func(t, f *Item) { t.Category = f.Category }},
	{"description", func(i *Item) string { return i.Description }, func(t, f *Item) { t.Description = f.Description }},
	{"images", func(i *Item) string { return strings.Join(i.Images, " ") }, func(t, f *Item) { t.Images = f.Images }},
	{"serials", func(i *Item) string { return yes(i.Serials) }, func(t, f *Item) { t.Serials = f.Serials }},
	{"fragile", func(i *Item) string { return yes(i.Fragile) }, func(t, f *Item) { t.Fragile = f.Fragile }},
	{"upright", func(i *Item) string { return yes(i.Upright) }, func(t, f *Item) { t.Upright = f.Upright }},
	{"weight_g", func(i *Item) string { return number(i.WeightG) }, func(t, f *Item) { t.WeightG = f.WeightG }},
	{"length_mm", func(i *Item) string { return number(i.LengthMM) }, func(t, f *Item) { t.LengthMM = f.LengthMM }},
	{"width_mm", func(i *Item) string { return number(i.WidthMM) }, func(t, f *Item) { t.WidthMM = f.WidthMM }},
	{"height_mm", func(i *Item) string { return number(i.HeightMM) }, func(t, f *Item) { t.HeightMM = f.HeightMM }},
	{"customs_code", func(i *Item) string { return i.CustomsCode }, func(t, f *Item) { t.CustomsCode = f.CustomsCode }},
	{"origin", func(i *Item) string { return i.Origin }, func(t, f *Item) { t.Origin = f.Origin }},
	{"tax_class", func(i *Item) string { return i.TaxClass }, func(t, f *Item) { t.TaxClass = f.TaxClass }},
	{"currency", func(i *Item) string { return i.Currency }, func(t, f *Item) { t.Currency = f.Currency }},
	{"price", func(i *Item) string {
		if i.Price == 0 {
			return ""
		}
		return money.Decimal(i.Price, i.Currency)
	}, func(t, f *Item) { t.Price = f.Price }},
	{"prices", func(i *Item) string {
		parts := make([]string, len(i.Prices))
		for k, p := range i.Prices {
			parts[k] = fmt.Sprintf("%s=%s", p.List, money.Decimal(p.Price, i.Currency))
		}
		return strings.Join(parts, " ")
	}, func(t, f *Item) { t.Prices = f.Prices }},
	{"marks", func(i *Item) string { return strings.Join(i.Marks, " ") }, func(t, f *Item) { t.Marks = f.Marks }},
	{"parts", func(i *Item) string {
		parts := make([]string, len(i.Parts))
		for k, p := range i.Parts {
			parts[k] = fmt.Sprintf("%d×%s", p.Quantity, p.SKU)
		}
		return strings.Join(parts, " ")
	}, func(t, f *Item) { t.Parts = f.Parts }},
	{"groups", func(i *Item) string { return strings.Join(i.Groups, " ") }, func(t, f *Item) { t.Groups = f.Groups }},
	{"archived", func(i *Item) string { return yes(i.Archived) }, func(t, f *Item) { t.Archived = f.Archived }},
}

// Ours stands for us where the owner of a field is told by a connection's code; no connection has it.
const Ours = "ours"

// Fields names the fields of an item, in the order in which people meet them.
func Fields() []string {
	out := make([]string, len(fields))
	for i, f := range fields {
		out[i] = f.name
	}
	return out
}

// Differences lists the fields in which two records of an item differ.
func Differences(from, to Item) []Change {
	var out []Change
	for _, f := range fields {
		if a, b := f.get(&from), f.get(&to); a != b {
			out = append(out, Change{f.name, a, b})
		}
	}
	return out
}

// Text is a field of an item as people write it.
func Text(i Item, name string) string {
	for _, f := range fields {
		if f.name == name {
			return f.get(&i)
		}
	}
	return ""
}

// Overwrite brings what another system tells of an item into our record, as far as its word counts, and
// names the fields in which it differs and does not. What it does not tell stays.
func Overwrite(it *Item, told Item, counts func(field string) bool) (kept []string) {
	for _, f := range fields {
		text := f.get(&told)
		if text == "" || f.name == "sku" || text == f.get(it) {
			continue
		}
		if !counts(f.name) {
			kept = append(kept, f.name)
			continue
		}
		f.set(it, &told)
	}
	return kept
}

// ChangesText writes changes as a line.
func ChangesText(list []Change) string {
	parts := make([]string, len(list))
	for i, c := range list {
		switch {
		case c.From == "":
			parts[i] = fmt.Sprintf("%s %s", c.Field, c.To)
		case c.To == "":
			parts[i] = fmt.Sprintf("%s %s removed", c.Field, c.From)
		default:
			parts[i] = fmt.Sprintf("%s %s → %s", c.Field, c.From, c.To)
		}
	}
	return strings.Join(parts, ", ")
}
