package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net/url"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/money"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type parcelsOptions struct {
	state    string
	manifest int64
	want     rows
}

func parcelsCommand() command {
	opt := &parcelsOptions{}
	return noun("list", "", "List parcels, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *parcelsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.state, "state", "", "only this state, or several by comma")
	f.Int64Var(&opt.manifest, "manifest", 0, "only those on the manifest with this `number`")
	opt.want.flags(f)
}

func (opt *parcelsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	q := query("state", opt.state, "manifest", fmt.Sprint(opt.manifest))
	list, more, err := listed[wire.Parcel](ctx, c, "/parcels", q, &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Parcel", "Order", "Buyer", "From", "State", "Units", "Carrier", "Service", "Tracking")
		for _, x := range list {
			row(x.Number, x.OrderNumber, x.Buyer, x.Location, x.State, x.Quantity, x.Carrier, x.ServiceName, x.Tracking)
		}
	})
}

func parcelCommand() command {
	return noun("show", "PARCEL", "Show a parcel and what lies in it; its tracking number does, too", 1, 1, nil, showParcel)
}

func showParcel(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Parcel(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { parcelTable(v, row) })
}

type repackOptions struct{ wire.Carton }

func repackCommand() command {
	opt := &repackOptions{}
	return noun("repack", "PARCEL PROFILE", "Pack a parcel without a label into another carton, or weigh it anew", 2, 2, opt.flags,
		opt.run)
}

func (opt *repackOptions) flags(f *flag.FlagSet) { cartonFlags(f, &opt.Carton, "") }

func (opt *repackOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.Profile = a[1]
	v, err := c.Repack(ctx, a[0], opt.Carton)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { parcelTable(v, row) })
}

func unpackCommand() command {
	return noun("unpack", "PARCEL", "Take everything out of a parcel without a label", 1, 1, nil, runUnpack)
}

func runUnpack(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Unpack(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(v, "%s is unpacked; what was in it is picked", v.Number)
}

func actOnParcelsCommand() command {
	return noun("act", "ACTION PARCEL...", "Do one thing to many parcels: ship, unpack, void", 2, -1, nil, runActOnParcels)
}

// parcelActions are what the actions on many parcels are called here.
var parcelActions = map[string]orders.ActionKind{"ship": shipping.ShipParcels, "unpack": shipping.UnpackParcels,
	"void": shipping.VoidLabels}

func runActOnParcels(ctx context.Context, c *client.Client, p *printer, a []string) error {
	action, ok := parcelActions[a[0]]
	if !ok {
		return fmt.Errorf("action %q: ship, unpack or void is expected", a[0])
	}
	d, err := c.ActOnParcels(ctx, action, a[1:]...)
	return showAction(ctx, c, p, d, "Parcel", err)
}

type takeOutOptions struct{ units lines }

func takeOutCommand() command {
	opt := &takeOutOptions{}
	return noun("take-out", "PARCEL", "Take some units out of a parcel without a label; they are picked, and lie in no parcel", 1, 1,
		opt.flags, opt.run)
}

func (opt *takeOutOptions) flags(f *flag.FlagSet) {
	f.Func("units", "`SKU=QUANTITY` that is taken out; may be given several times "+required, opt.units.add)
}

func (opt *takeOutOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	units := map[string]int64{}
	for _, x := range opt.units {
		units[x.SKU] += x.Quantity
	}
	v, err := c.TakeOut(ctx, a[0], units)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { parcelTable(v, row) })
}

type correctAddressOptions struct{ to place.Address }

func correctAddressCommand() command {
	opt := &correctAddressOptions{}
	return noun("correct", "PARCEL", "Correct where a packed parcel goes, such as what its carrier refused; what is not said stays", 1, 1,
		opt.flags, opt.run)
}

func (opt *correctAddressOptions) flags(f *flag.FlagSet) {
	for _, x := range addressParts(&opt.to) {
		f.StringVar(x.of, x.name, "", x.help)
	}
}

type addressPart struct {
	name, help string
	of         *string
}

func addressParts(a *place.Address) []addressPart {
	return []addressPart{
		{"name", "who gets it", &a.Name},
		{"company", "their company", &a.Company},
		{"street", "street and number", &a.Street},
		{"extra", "second line", &a.Extra},
		{"postcode", "postcode", &a.Postcode},
		{"town", "town", &a.Town},
		{
			"country",
			"`letters` of the country, two",
			&a.Country,
		},
		{"phone", "phone number", &a.Phone},
		{"email", "e-mail address", &a.Email},
	}
}

func (opt *correctAddressOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Parcel(ctx, a[0])
	if err != nil {
		return err
	}
	to := v.ShipTo
	for i, x := range addressParts(&to) {
		*x.of = or(*addressParts(&opt.to)[i].of, *x.of)
	}
	if to == v.ShipTo {
		return errors.New("say what is corrected, such as -street \"5 Kiln Lane\"")
	}
	if v, err = c.CorrectAddress(ctx, a[0], to); err != nil {
		return err
	}
	return p.told(v, "%s goes to %s", v.Number, strings.Join(v.ShipTo.Lines(), ", "))
}

type voidLabelOptions struct{ byHand bool }

func voidLabelCommand() command {
	opt := &voidLabelOptions{}
	return noun("void", "PARCEL", "Void the label of a parcel that has not left the place yet", 1, 1, opt.flags, opt.run)
}

func (opt *voidLabelOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.byHand, "by-hand", false, "it is voided at the carrier already; the carrier is not asked")
}

func (opt *voidLabelOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.VoidLabel(ctx, a[0], opt.byHand)
	if err != nil {
		return err
	}
	said := "is packed again; its label is voided"
	if v.VoidAsked != nil {
		said = "has its label still: the carrier has not answered yet"
	} else if v.Tracking != "" {
		said = "keeps its label: " + v.Error
	}
	return p.told(v, "%s %s", v.Number, said)
}

type consignOptions struct{ carrier, service string }

func consignCommand() command {
	opt := &consignOptions{}
	return noun("ship", "SHIPMENT", "Buy the labels of all its packed parcels under one number", 1, 1, opt.flags, opt.run)
}

func (opt *consignOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.carrier, "carrier", "", "required: code of a carrier's connection that takes several parcels in one request")
	f.StringVar(&opt.service, "service", "", "required: the carrier's service")
}

func (opt *consignOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Consign(ctx, a[0], shipping.Purchase{Carrier: opt.carrier, Service: opt.service})
	if err != nil {
		return err
	}
	for _, x := range v.Parcels {
		if x.Error != "" {
			return fmt.Errorf("parcel %s: the carrier refused: %s", x.Number, x.Error)
		}
	}
	return p.show(v, func(row func(...any)) {
		for _, x := range v.Parcels {
			parcelRows(x, row)
		}
	})
}

type insureOptions struct {
	value   string
	byRules bool
}

func insureCommand() command {
	opt := &insureOptions{}
	return noun("insure", "PARCEL", "Say what a packed parcel is insured for", 1, 1, opt.flags, opt.run)
}

func (opt *insureOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.value, "for", "", "the `amount` in its order's currency, such as 120.00; 0 for nothing")
	f.BoolVar(&opt.byRules, "by-rules", false, "as rules say again")
}

func (opt *insureOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if (opt.value == "") != opt.byRules {
		return usage{"one of -for and -by-rules is needed"}
	}
	v, err := c.Parcel(ctx, a[0])
	if err != nil {
		return err
	}
	amount := int64(store.InsuredByRules)
	if !opt.byRules {
		if v.Insurance == nil {
			return fmt.Errorf("parcel %s is %s; it cannot be insured any more", v.Number, v.State)
		}
		if amount, err = money.Parse(opt.value, v.Insurance.Currency); err != nil || amount < 0 {
			return fmt.Errorf("-for %q: an amount in %s is expected, such as 120.00", opt.value, v.Insurance.Currency)
		}
	}
	if v, err = c.Insure(ctx, a[0], amount); err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { parcelTable(v, row) })
}

func keepLabelCommand() command {
	return noun("keep", "PARCEL", "Say that a label that is being voided stays", 1, 1, nil, runKeepLabel)
}

func runKeepLabel(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.KeepLabel(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(v, "%s keeps its label %s", v.Number, v.Tracking)
}

func ratesCommand() command {
	return noun("rates", "PARCEL", "Compare the carriers' services for a packed parcel", 1, 1, nil, runRates)
}

func runRates(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.Rates(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Carrier", "Service", "Name", "Price", "Arrives", "")
		for _, r := range list {
			note, asks := r.Refused, amount(r.Price, r.Currency)
			switch {
			case r.Refused != "":
				asks = ""
			case r.Estimated:
				note = "estimated: the carrier did not answer"
			}
			row(r.Carrier, r.Service, r.ServiceName, asks, r.Arrives, note)
		}
	})
}

type shipOptions struct {
	carrier, service, key string
}

func shipCommand() command {
	opt := &shipOptions{}
	return noun("ship", "PARCEL", "Buy the label; the parcel leaves", 1, 1, opt.flags, opt.run)
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
	by := shipping.Purchase{Carrier: opt.carrier, Service: opt.service}
	if opt.service == "" {
		list, err := c.Rates(ctx, a[0])
		if err != nil {
			return err
		}
		if len(list) == 0 || list[0].Refused != "" {
			return fmt.Errorf("no carrier takes parcel %s", a[0])
		}
		by = shipping.Purchase{Carrier: list[0].Carrier, Service: list[0].Service}
		if !list[0].Estimated {
			by.Expected = list[0].Price
		}
	}
	var opts []client.Option
	if opt.key != "" {
		opts = append(opts, client.Key(opt.key))
	}
	v, err := c.Buy(ctx, a[0], by, opts...)
	if err != nil {
		return err
	}
	if v.Error != "" {
		return fmt.Errorf("the carrier refused: %s", v.Error)
	}
	return p.show(v, func(row func(...any)) { parcelTable(v, row) })
}

type labelOptions struct {
	size, out string
	carriers  bool
}

func labelCommand() command {
	opt := &labelOptions{}
	return noun("label", "PARCEL", "Save a label as PDF, or as its carrier made it", 1, 1, opt.flags, opt.run)
}

func (opt *labelOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.size, "size", "label", "label (100×150 mm) or a4")
	f.StringVar(&opt.out, "o", "", "`file` to write; without it label-PARCEL.pdf")
	f.BoolVar(&opt.carriers, "as-made", false, "as its carrier made it, unchanged: for a printer of its language")
}

func (opt *labelOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.carriers {
		v, err := c.Parcel(ctx, a[0])
		if err != nil {
			return err
		}
		return savePDF(ctx, c, p, "/parcels/"+url.PathEscape(a[0])+"/carrier-label", opt.out, "label-"+a[0]+"."+or(v.LabelForm, "bin"))
	}
	return savePDF(ctx, c, p, "/parcels/"+url.PathEscape(a[0])+"/label.pdf?size="+url.QueryEscape(opt.size), opt.out,
		"label-"+a[0]+".pdf")
}

type packingSlipOptions struct {
	out    string
	prices bool
}

func packingSlipCommand() command {
	opt := &packingSlipOptions{}
	return noun("slip", "PARCEL", "Save the packing slip of a parcel as PDF", 1, 1, opt.flags, opt.run)
}

func (opt *packingSlipOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.out, "o", "", "`file` to write; without it packing-slip-PARCEL.pdf")
	f.BoolVar(&opt.prices, "prices", false, "with prices")
}

func (opt *packingSlipOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	path := "/parcels/" + url.PathEscape(a[0]) + "/packing-slip.pdf"
	if opt.prices {
		path += "?prices=yes"
	}
	return savePDF(ctx, c, p, path, opt.out, "packing-slip-"+a[0]+".pdf")
}

func parcelRows(x wire.Parcel, row func(...any)) {
	size := fmt.Sprintf("%d×%d×%d mm", x.LengthMM, x.WidthMM, x.HeightMM)
	if x.WeightG == 0 { // it left elsewhere
		size = ""
	}
	row("Parcel", x.Number, x.State, x.Profile, fmt.Sprintf("%d units", x.Quantity), fmt.Sprintf("%d g", x.WeightG), size)
	if x.Tracking != "" {
		of := ""
		if x.Pieces > 0 {
			of = fmt.Sprintf("%d of %d", x.Piece, x.Pieces)
		}
		row("Label", x.Carrier, x.ServiceName, x.Tracking, amount(x.Price, x.Currency), of)
		if x.Quoted != 0 && x.Quoted != x.Price {
			row("", "it was to cost "+amount(x.Quoted, x.Currency))
		}
		if x.VoidAsked != nil {
			row("", "is being voided")
		}
	}
}

func parcelTable(v wire.ParcelView, row func(...any)) {
	row("Order", v.OrderNumber, v.Stage, "from "+v.Location)
	parcelRows(v.Parcel, row)
	if v.Error != "" {
		row("Refused", v.Error, v.WrongField)
	}
	for _, x := range v.Contents {
		row("", x.SKU, x.Name, x.Quantity)
	}
	for _, in := range v.Inside {
		row("With it", in.Number, "order "+in.OrderNumber)
		for _, x := range in.Contents {
			row("", x.SKU, x.Name, x.Quantity)
		}
	}
	if in := v.Insurance; in != nil && in.Amount > 0 {
		row("To be insured for", amount(in.Amount, in.Currency), map[bool]string{true: "by hand", false: "as rules say"}[in.ByHand])
	}
	if v.Promised != "" {
		row("Promised for", v.Promised)
	}
	for _, e := range v.Events {
		row(e.State, e.At, e.Text, e.Place)
	}
	if c := v.Claim; c != nil {
		row("Claim", c.State, money.Amount{Minor: c.Amount, Currency: c.Currency}.String(), c.Note)
	}
	if v.Carton != "" {
		row("It travels in the carton of parcel " + v.Carton)
	}
}
