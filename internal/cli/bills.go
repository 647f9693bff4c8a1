package cli

import (
	"context"
	"flag"

	"openrelay/internal/client"
	"openrelay/internal/core/money"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

type billsOptions struct {
	state string
	want  rows
}

func billsCommand() command {
	opt := &billsOptions{}
	return noun("list", "", "Lines of carriers' bills beside what was asked (one is handed in by: sheet import bills FILE)", 0, 0,
		opt.flags, opt.run)
}

func (opt *billsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.state, "state", "differs,unknown", "those in a `state`, or several by comma: agrees, differs, unknown, accepted, "+
		"disputed; empty: all")
	opt.want.flags(f)
}

func (opt *billsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.BillLine](ctx, c, "/bills", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Line", "Bill", "Carrier", "Number", "Parcel", "What", "Amount", "Parcel asked", "Parcel billed", "State", "Why")
		for _, b := range list {
			amount := func(minor int64) string { return money.Amount{Minor: minor, Currency: b.Currency}.String() }
			row(b.ID, b.Bill, b.Carrier, b.Number, b.Parcel, or(b.What, "freight"), amount(b.Amount), amount(b.Asked), amount(b.Billed),
				b.State, b.Why)
		}
	})
}

type decideBillOptions struct{ shipping.SayOfBill }

func decideBillCommand() command {
	opt := &decideBillOptions{}
	return noun("decide", "LINE", "Accept a line, dispute it, or say of which parcel it is", 1, 1, opt.flags, opt.run)
}

func (opt *decideBillOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.State, "as", "", "accepted or disputed; without it, it is compared anew")
	f.StringVar(&opt.Parcel, "parcel", "", "`number` of the parcel that it is about")
	f.StringVar(&opt.Note, "note", "", "why")
}

func (opt *decideBillOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	if err := c.DecideBill(ctx, id, opt.SayOfBill); err != nil {
		return err
	}
	return p.told(a[0], "line %s: %s", a[0], or(opt.State, "compared anew"))
}
