package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/money"
)

type catalogOptions struct {
	set pairs
}

func catalogCommand() command {
	opt := &catalogOptions{}
	return verbs("item", "Items", opt.flags, []verb{
		{"fields", "SKU", "What is kept of an item, field by field, as it can be changed", 1, opt.show},
		{"create", "SKU NAME", "Make an item", 2, opt.create},
		{"edit", "SKU", "Change fields of an item", 1, opt.edit},
		{"archive", "SKU", "Use an item no more; nothing that refers to it is lost", 1, opt.archive},
		{"restore", "SKU", "Use an archived item again", 1, opt.restore},
	})
}

func (opt *catalogOptions) flags(f *flag.FlagSet) {
	f.Var(&opt.set, "set", "a field as `name=value`, such as price=12.90 or marks='web gift' or parts='HIVE-BODY=2 HIVE-ROOF=1'")
}

func (opt *catalogOptions) show(ctx context.Context, c *client.Client, p *printer, a []string) error {
	it, err := c.Record(ctx, a[0])
	return showRecord(p, it, err)
}

func (opt *catalogOptions) create(ctx context.Context, c *client.Client, p *printer, a []string) error {
	company, err := c.Company(ctx)
	if err != nil {
		return err
	}
	it := catalog.Item{SKU: a[0], Name: a[1], Currency: company.Currency, Kind: catalog.Stocked}
	if err := setItem(&it, opt.set.m); err != nil {
		return err
	}
	it, err = c.CreateItem(ctx, it)
	return showRecord(p, it, err)
}

func (opt *catalogOptions) edit(ctx context.Context, c *client.Client, p *printer, a []string) error {
	it, err := c.Record(ctx, a[0])
	if err != nil {
		return err
	}
	if err := setItem(&it, opt.set.m); err != nil {
		return err
	}
	it, err = c.EditItem(ctx, a[0], it)
	return showRecord(p, it, err)
}

func (opt *catalogOptions) archive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	it, err := c.Archive(ctx, a[0], true)
	return showRecord(p, it, err)
}

func (opt *catalogOptions) restore(ctx context.Context, c *client.Client, p *printer, a []string) error {
	it, err := c.Archive(ctx, a[0], false)
	return showRecord(p, it, err)
}

// setItem writes fields of an item as they are given on the command line.
func setItem(it *catalog.Item, set map[string]string) error {
	for k, v := range set {
		switch k {
		case "marks":
			it.Marks = strings.Fields(v)
		case "images":
			it.Images = strings.Fields(v)
		case "groups":
			it.Groups = strings.Fields(v)
		case "serials":
			it.Serials = v == "yes"
		case "fragile":
			it.Fragile = v == "yes"
		case "upright":
			it.Upright = v == "yes"
		case "price":
			n, err := money.Parse(v, it.Currency)
			if err != nil {
				return usage{fmt.Sprintf("price %q: %v", v, err)}
			}
			it.Price = n
		case "parts":
			it.Parts = nil
			for _, p := range strings.Fields(v) {
				sku, n, ok := strings.Cut(p, "=")
				qty, err := strconv.ParseInt(n, 10, 64)
				if !ok || err != nil {
					return usage{fmt.Sprintf("parts %q: write such as HIVE-BODY=2 HIVE-ROOF=1", p)}
				}
				it.Parts = append(it.Parts, catalog.Part{SKU: sku, Quantity: qty})
			}
		case "weight_g", "length_mm", "width_mm", "height_mm":
			n, err := number(v)
			if err != nil {
				return err
			}
			*map[string]*int64{"weight_g": &it.WeightG, "length_mm": &it.LengthMM, "width_mm": &it.WidthMM,
				"height_mm": &it.HeightMM}[k] = n
		case "kind":
			it.Kind = catalog.Kind(v)
		default:
			to, ok := map[string]*string{"sku": &it.SKU, "name": &it.Name, "family": &it.Family, "options": &it.Options, "gtin": &it.GTIN,
				"category": &it.Category, "description": &it.Description,
				"customs_code": &it.CustomsCode, "origin": &it.Origin, "tax_class": &it.TaxClass, "currency": &it.Currency}[k]
			if !ok {
				return usage{fmt.Sprintf("there is no field %q; there are %s", k, strings.Join(catalog.Fields(), ", "))}
			}
			*to = v
		}
	}
	return nil
}

func showRecord(p *printer, it catalog.Item, err error) error {
	if err != nil {
		return err
	}
	return p.show(it, func(row func(...any)) {
		for _, f := range catalog.Fields() {
			if text := catalog.Text(it, f); text != "" {
				row(f, text)
			}
		}
	})
}
