package cli

import (
	"context"
	"flag"

	"openrelay/internal/client"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/wire"
)

type purchaseOptions struct {
	state, note, supplier, expected, bin string
	quantity                             int64
	over                                 bool
	lineOptions
	serials []string
	want    rows
}

func purchaseCommand() command {
	opt := &purchaseOptions{}
	return verbs("purchase", "Purchase orders: goods that suppliers owe us", opt.flags, []verb{
		{"list", "", "Purchase orders, newest first", 0, opt.list},
		{"show", "NUMBER", "One with its lines, and what came of each", 1, opt.show},
		{"add", "SUPPLIER LOCATION", "Order goods at a supplier", 2, opt.add},
		{"receive", "NUMBER CODE", "Take in what came", 2, opt.receive},
		{"close", "NUMBER", "Expect no more of it", 1, opt.close},
	})
}

func (opt *purchaseOptions) flags(f *flag.FlagSet) {
	opt.lineOptions.flags(f)
	f.StringVar(&opt.supplier, "number", "", "add: its number; empty takes the next of ours")
	f.StringVar(&opt.expected, "expected", "", "add: `day` on which it should come, such as 2026-01-31")
	f.StringVar(&opt.note, "note", "", "add: a note")
	f.StringVar(&opt.state, "state", "", "list: open or closed")
	opt.want.flagsOf(f, "list")
	f.StringVar(&opt.bin, "bin", "", "receive: where it was put; empty takes the usual bin")
	f.Int64Var(&opt.quantity, "n", 1, "receive: `units`")
	f.BoolVar(&opt.over, "over", false, "receive: more than was ordered, or what was not, is meant")
	f.Func("serial", "receive: a serial `number`; one for each unit", func(s string) error {
		opt.serials = append(opt.serials, s)
		return nil
	})
}

func (opt *purchaseOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Purchase](ctx, c, "/purchases", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Number", "Supplier", "To", "State", "Expected", "Ordered", "Received", "Made")
		for _, x := range list {
			row(x.Number, x.Supplier, x.LocationName, x.State, x.Expected, x.Ordered, x.Received, x.CreatedAt)
		}
	})
}

func (opt *purchaseOptions) show(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Purchase(ctx, a[0])
	return showPurchase(p, x, err)
}

func (opt *purchaseOptions) add(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.AddPurchase(ctx, inventory.NewPurchase{Number: opt.supplier, Supplier: a[0], Location: a[1], Expected: opt.expected,
		Note: opt.note, Lines: opt.lineOptions.lines}, opt.lineOptions.options()...)
	return showPurchase(p, x, err)
}

func (opt *purchaseOptions) receive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Receive(ctx, a[0],
		[]inventory.Arrival{{Code: a[1], Bin: opt.bin, Quantity: opt.quantity, Serials: opt.serials, Over: opt.over}},
		opt.lineOptions.options()...)
	return showPurchase(p, x, err)
}

func (opt *purchaseOptions) close(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.ClosePurchase(ctx, a[0])
	return showPurchase(p, x, err)
}

type transferOptions struct {
	state, note, reason string
	lineOptions
	want rows
}

func transferCommand() command {
	opt := &transferOptions{}
	return verbs("transfer", "Goods on their way between places", opt.flags, []verb{
		{"list", "", "Transfers, newest first", 0, opt.list},
		{"show", "NUMBER", "One with its lines", 1, opt.show},
		{"add", "FROM TO", "Prepare one", 2, opt.add},
		{"send", "NUMBER", "Say that it left", 1, opt.send},
		{"arrive", "NUMBER", "Say that it came, whole or in part", 1, opt.arrive},
		{"lose", "NUMBER", "Say that what is on its way is lost", 1, opt.lose},
		{"drop", "NUMBER", "Give one up that has not left", 1, opt.drop},
	})
}

func (opt *transferOptions) flags(f *flag.FlagSet) {
	opt.lineOptions.flags(f)
	f.StringVar(&opt.state, "state", "", "list: draft, under way or closed")
	opt.want.flagsOf(f, "list")
	f.StringVar(&opt.note, "note", "", "add: a note")
	f.StringVar(&opt.reason, "reason", "", "lose: what became of it")
}

func (opt *transferOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Transfer](ctx, c, "/transfers", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Number", "From", "To", "State", "Units", "Arrived", "Lost", "Made")
		for _, x := range list {
			row(x.Number, x.FromName, x.ToName, x.State, x.Units, x.Arrived, x.Lost, x.CreatedAt)
		}
	})
}

func (opt *transferOptions) show(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Transfer(ctx, a[0])
	return showTransfer(p, x, err)
}

func (opt *transferOptions) add(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.AddTransfer(ctx, inventory.NewTransfer{From: a[0], To: a[1], Note: opt.note, Lines: opt.lineOptions.lines},
		opt.lineOptions.options()...)
	return showTransfer(p, x, err)
}

func (opt *transferOptions) send(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.MoveTransfer(ctx, a[0], "send", nil, "", opt.lineOptions.options()...)
	return showTransfer(p, x, err)
}

func (opt *transferOptions) arrive(ctx context.Context, c *client.Client, p *printer, a []string) error {
	var items []inventory.Arrival
	for _, q := range opt.lineOptions.lines {
		items = append(items, inventory.Arrival{Code: q.SKU, Quantity: q.Quantity})
	}
	x, err := c.MoveTransfer(ctx, a[0], "arrive", items, "", opt.lineOptions.options()...)
	return showTransfer(p, x, err)
}

func (opt *transferOptions) lose(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.MoveTransfer(ctx, a[0], "lose", nil, opt.reason, opt.lineOptions.options()...)
	return showTransfer(p, x, err)
}

func (opt *transferOptions) drop(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.MoveTransfer(ctx, a[0], "drop", nil, "", opt.lineOptions.options()...)
	return showTransfer(p, x, err)
}

func showPurchase(p *printer, x wire.Purchase, err error) error {
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Purchase order", x.Number, x.State, x.Supplier, "to "+x.LocationName, x.Expected)
		row("SKU", "Name", "Bin", "Ordered", "Received", "Left")
		for _, l := range x.Lines {
			row(l.SKU, l.Name, l.Bin, l.Ordered, l.Received, l.Left)
		}
	})
}

func showTransfer(p *printer, x wire.Transfer, err error) error {
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Transfer", x.Number, x.State, x.FromName+" to "+x.ToName)
		row("SKU", "Name", "Quantity", "Arrived", "Lost", "Left")
		for _, l := range x.Lines {
			row(l.SKU, l.Name, l.Quantity, l.Arrived, l.Lost, l.Left)
		}
	})
}
