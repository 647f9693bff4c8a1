package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"os"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/picking"
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
	weight  int64
	serials map[string][]string
}

func packCommand() command {
	opt := &packOptions{}
	return noun("pack", "SHIPMENT PROFILE", "Pack what was picked into one parcel", 2, 2, opt.flags, opt.run)
}

func (opt *packOptions) flags(f *flag.FlagSet) {
	f.Int64Var(&opt.weight, "weight", 0, "weighed gross `grams`; 0 takes the sum of items and carton")
	f.Func("serial", "`SKU=NUMBER` of a unit that has a serial number; may be given several times", func(text string) error {
		sku, n, ok := strings.Cut(text, "=")
		if !ok || sku == "" || n == "" {
			return errors.New("SKU=NUMBER is expected")
		}
		if opt.serials == nil {
			opt.serials = map[string][]string{}
		}
		opt.serials[sku] = append(opt.serials[sku], n)
		return nil
	})
}

func (opt *packOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Pack(ctx, a[0], a[1], opt.weight, opt.serials)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { shipmentTable(v, row) })
}

func ratesCommand() command {
	return noun("rates", "SHIPMENT", "Compare the carriers' services for a packed shipment", 1, 1, nil, runRates)
}

func runRates(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.Rates(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Carrier", "Service", "Name", "Price", "Arrives", "")
		for _, r := range list {
			note := r.Refused
			if r.Estimated {
				note = "estimated: the carrier did not answer"
			}
			row(r.Carrier, r.Service, r.ServiceName, amount(r.Price, r.Currency), r.Arrives, note)
		}
	})
}

type shipOptions struct {
	carrier, service, key string
}

func shipCommand() command {
	opt := &shipOptions{}
	return noun("ship", "SHIPMENT", "Buy the label; the parcel leaves", 1, 1, opt.flags, opt.run)
}

func (opt *shipOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.carrier, "carrier", "", "code of the carrier's connection; with -service")
	f.StringVar(&opt.service, "service", "", "the carrier's service; without it the cheapest that takes the parcel")
	f.StringVar(&opt.key, "key", "", "makes the command safe to repeat: the same key ships once")
}

func (opt *shipOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if (opt.carrier == "") != (opt.service == "") {
		return usage{"-carrier and -service go together"}
	}
	if opt.service == "" {
		list, err := c.Rates(ctx, a[0])
		if err != nil {
			return err
		}
		if len(list) == 0 || list[0].Refused != "" {
			return fmt.Errorf("no carrier takes shipment %s", a[0])
		}
		opt.carrier, opt.service = list[0].Carrier, list[0].Service
	}
	var opts []client.Option
	if opt.key != "" {
		opts = append(opts, client.Key(opt.key))
	}
	v, err := c.Ship(ctx, a[0], opt.carrier, opt.service, opts...)
	if err != nil {
		return err
	}
	if v.Error != "" {
		return fmt.Errorf("the carrier refused: %s", v.Error)
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
		row("Shipment", "Order", "Buyer", "From", "State", "Picked", "Carrier", "Service", "Tracking")
		for _, s := range list {
			row(s.Number, s.OrderNumber, s.Buyer, s.Location, s.State, fmt.Sprintf("%d of %d", s.Picked, s.Quantity), s.Carrier,
				s.ServiceName, s.Tracking)
		}
	})
}

type labelOptions struct {
	size, out string
}

func labelCommand() command {
	opt := &labelOptions{}
	return noun("label", "SHIPMENT", "Save a label as PDF", 1, 1, opt.flags, opt.run)
}

func (opt *labelOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.size, "size", "label", "label (100×150 mm) or a4")
	f.StringVar(&opt.out, "o", "", "`file` to write; without it label-SHIPMENT.pdf")
}

func (opt *labelOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return savePDF(ctx, c, p, "/shipments/"+url.PathEscape(a[0])+"/label.pdf?size="+url.QueryEscape(opt.size), opt.out,
		"label-"+a[0]+".pdf")
}

type picklistOptions struct {
	out string
}

func picklistCommand() command {
	opt := &picklistOptions{}
	return noun("pick-list", "ORDER", "Save a pick list as PDF", 1, 1, opt.flags, opt.run)
}

func (opt *picklistOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.out, "o", "", "`file` to write; without it pick-list-ORDER.pdf")
}

func (opt *picklistOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return savePDF(ctx, c, p, "/orders/"+url.PathEscape(a[0])+"/pick-list.pdf", opt.out, "pick-list-"+a[0]+".pdf")
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
		row("Manifest", "Carrier", "Day", "State", "Parcels", "Receipt")
		for _, m := range list {
			row(m.ID, m.Name, m.Day, m.State, m.Parcels, m.Receipt)
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
	if v.WeightG > 0 {
		row("Parcel", v.Profile, fmt.Sprintf("%d g", v.WeightG), fmt.Sprintf("%d×%d×%d mm", v.LengthMM, v.WidthMM, v.HeightMM))
	}
	if v.Tracking != "" {
		row("Label", v.Carrier, v.ServiceName, v.Tracking, amount(v.Price, v.Currency))
	}
	wantTable(v.Wants, row)
	if v.State == "picking" {
		row("Next: " + v.Expected)
	}
}
