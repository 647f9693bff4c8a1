package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"maps"
	"net/url"
	"os"
	"slices"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

func pickCommand() command {
	return noun("pick", "ORDER", "Begin to pick an order, or go on; shows what is to be picked", 1, 1, nil, runPick)
}

func runPick(ctx context.Context, c *client.Client, p *printer, a []string) error {
	s, err := c.Pick(ctx, a[0])
	if err != nil {
		return err
	}
	v, err := c.Shipment(ctx, s)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
}

type scanOptions struct {
	bin      string
	quantity int64
}

func scanCommand() command {
	opt := &scanOptions{}
	return noun("scan", "SHIPMENT CODE", "Scan an order, a bin or a product for a shipment", 2, 2, opt.flags, opt.run)
}

func (opt *scanOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.bin, "bin", "", "the bin scanned last")
	f.Int64Var(&opt.quantity, "quantity", 0, "units; 0 means one")
}

func (opt *scanOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	s, err := c.Scan(ctx, a[0], a[1], opt.bin, opt.quantity)
	if err != nil {
		return err
	}
	return p.show(s, func(row func(...any)) {
		row(s.Outcome.Text)
		wantTable(s.Wants, row)
		row("Next: " + s.Expected)
	})
}

type packOptions struct {
	wire.Packing
	some lines
}

func packCommand() command {
	opt := &packOptions{}
	return noun("pack", "SHIPMENT [PROFILE]", "Pack what was picked into a parcel: all of it, or some units", 1, 2, opt.flags, opt.run)
}

func (opt *packOptions) flags(f *flag.FlagSet) {
	cartonFlags(f, &opt.Carton, "")
	f.Func("units", "`SKU=QUANTITY` that goes into it; may be given several times; without it all that lies in no parcel",
		opt.some.add)
	f.StringVar(&opt.Into, "into", "", "number of a packed `parcel` into whose carton it goes, instead of a new one")
}

// cartonFlags are those of what goods are packed into.
func cartonFlags(f *flag.FlagSet, c *wire.Carton, of string) {
	f.Int64Var(&c.WeightG, "weight", 0, of+"weighed gross `grams`; 0 takes the sum of items and carton")
	f.BoolVar(&c.Sure, "sure", false, of+"the weight is right although it is far from the sum")
	f.BoolVar(&c.LetIn, "let-in", false, of+"let serial numbers in that were not recorded at receipt; for those who work on orders")
	f.Func("serial", of+"`SKU=NUMBER` of a unit that has a serial number; may be given several times", func(text string) error {
		sku, n, ok := strings.Cut(text, "=")
		if !ok || sku == "" || n == "" {
			return errors.New("SKU=NUMBER is expected")
		}
		if c.Serials == nil {
			c.Serials = map[string][]string{}
		}
		c.Serials[sku] = append(c.Serials[sku], n)
		return nil
	})
}

func (opt *packOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	switch {
	case len(a) == 2:
		opt.Profile = a[1]
	case opt.Into == "":
		return errors.New("PROFILE: say into which carton, or -into a parcel that is packed")
	}
	for _, x := range opt.some {
		if opt.Units == nil {
			opt.Units = map[string]int64{}
		}
		opt.Units[x.SKU] += x.Quantity
	}
	v, err := c.PackUnits(ctx, a[0], opt.Packing)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
}

type shortOptions struct{ shipping.Missing }

func shortCommand() command {
	opt := &shortOptions{}
	return noun("short", "SHIPMENT CODE", "Say that units are not there; they are taken off the stock and planned anew", 2, 2, opt.flags,
		opt.run)
}

func (opt *shortOptions) flags(f *flag.FlagSet) {
	f.Int64Var(&opt.Quantity, "quantity", 1, "units that are not there")
	f.StringVar(&opt.Bin, "bin", "", "where they are not; without it where the item usually lies")
}

func (opt *shortOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.Code = a[1]
	out, err := c.Short(ctx, a[0], opt.Missing)
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) { row(out.Text) })
}

func proposeCommand() command {
	return noun("propose", "SHIPMENT", "Propose cartons for what is left of a shipment", 1, 1, nil, runPropose)
}

func runPropose(ctx context.Context, c *client.Client, p *printer, a []string) error {
	out, err := c.Proposal(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(out, func(row func(...any)) {
		row("Carton", "Weight", "Cost", "In it")
		for _, x := range out.Cartons {
			row(x.Profile.Code, fmt.Sprintf("%d g", x.WeightG), amount(x.Cost, x.Currency), unitsText(x.Units))
		}
		for _, u := range out.Unfit {
			row("none", "", "", fmt.Sprintf("%d × %s: %s", u.Quantity, u.SKU, u.Why))
		}
		for _, sku := range out.Unsized {
			row("Of unknown size: " + sku)
		}
	})
}

// unitsText writes units by SKU.
func unitsText(units map[string]int64) string {
	var parts []string
	for _, sku := range slices.Sorted(maps.Keys(units)) {
		parts = append(parts, fmt.Sprintf("%d × %s", units[sku], sku))
	}
	return strings.Join(parts, ", ")
}

type takeBackOptions struct{ quantity int64 }

func takeBackCommand() command {
	opt := &takeBackOptions{}
	return noun("take-back", "SHIPMENT CODE", "Take back that units of an item were picked", 2, 2, opt.flags, opt.run)
}

func (opt *takeBackOptions) flags(f *flag.FlagSet) {
	f.Int64Var(&opt.quantity, "quantity", 0, "units; 0 means one")
}

func (opt *takeBackOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.TakeBack(ctx, a[0], a[1], opt.quantity)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
}

type shipmentsOptions struct {
	state string
	want  rows
}

func shipmentsCommand() command {
	opt := &shipmentsOptions{}
	return noun("list", "", "List shipments, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *shipmentsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.state, "state", "", "only this state, or several by comma")
	opt.want.flags(f)
}

func (opt *shipmentsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Shipment](ctx, c, "/shipments", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Shipment", "Order", "Buyer", "From", "State", "Picked", "Packed", "Parcels")
		for _, s := range list {
			row(s.Number, s.OrderNumber, s.Buyer, s.Location, s.State, fmt.Sprintf("%d of %d", s.Picked, s.Quantity), s.Packed,
				len(s.Parcels))
		}
	})
}

type picklistOptions struct{ out, size string }

func picklistCommand() command {
	opt := &picklistOptions{}
	return noun("pick-list", "ORDER", "Save a pick list as PDF", 1, 1, opt.flags, opt.run)
}

func (opt *picklistOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.out, "o", "", "`file` to write; without it pick-list-ORDER.pdf")
	f.StringVar(&opt.size, "size", "a4", "a4, roll (80 mm) or label (100×150 mm)")
}

func (opt *picklistOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return savePDF(ctx, c, p, "/orders/"+url.PathEscape(a[0])+"/pick-list.pdf?size="+url.QueryEscape(opt.size), opt.out,
		"pick-list-"+a[0]+".pdf")
}

func closeManifestCommand() command {
	return noun("close", "ID", "Tell the carrier that nothing is added to it any more", 1, 1, nil, closeManifest)
}

func closeManifest(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	m, err := c.CloseManifest(ctx, id)
	if err != nil {
		return err
	}
	return p.show(m, func(row func(...any)) { row("Manifest", m.ID, "is", m.State) })
}

func manifestsCommand() command {
	return noun("list", "", "The carriers' manifests, newest first", 0, 0, nil, listManifests)
}

func listManifests(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Manifests(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Manifest", "Carrier", "From", "Day", "State", "Parcels", "Receipt", "It comes")
		for _, m := range list {
			comes := m.Window
			if m.Refused != "" {
				comes = "no: " + m.Refused
			}
			row(m.ID, m.Name, or(m.Place, "several"), m.Day, m.State, m.Parcels, m.Receipt, comes)
		}
	})
}

func notBoughtCommand() command {
	return noun("not-bought", "ID", "Say that a label of which nothing was known does not exist at the carrier (ID: the message's)", 1, 1,
		nil, runNotBought)
}

func runNotBought(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	if err := c.NotBought(ctx, id); err != nil {
		return err
	}
	return p.told(a[0], "the parcel can be shipped anew")
}

func savePDF(ctx context.Context, c *client.Client, p *printer, path, file, otherwise string) error {
	pdf, err := c.PDF(ctx, path)
	if err != nil {
		return err
	}
	if file == "" {
		file = otherwise
	}
	if err := os.WriteFile(file, pdf, 0o644); err != nil {
		return err
	}
	return p.show(map[string]any{"file": file, "bytes": len(pdf)}, func(row func(...any)) { row("Written to", file) })
}

func wantTable(wants []picking.Want, row func(...any)) {
	row("Bin", "SKU", "GTIN", "Title", "Picked")
	for _, w := range wants {
		row(w.Bin, w.SKU, w.GTIN, w.Title, fmt.Sprintf("%d of %d", w.Picked, w.Quantity))
	}
}

func shipmentTable(v wire.ShipmentView, row func(...any)) {
	row("Shipment", v.Number, v.State, "order "+v.OrderNumber, "from "+v.Location)
	for _, x := range v.Parcels {
		parcelRows(x, row)
	}
	wantTable(v.Wants, row)
	if v.State == "picking" {
		row("Next: " + v.Expected)
	}
	for _, x := range v.Together {
		row("Together with", x.Number, x.State, "order "+x.OrderNumber)
		wantTable(x.Wants, row)
	}
}
