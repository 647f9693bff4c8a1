package cli

import (
	"context"
	"flag"
	"fmt"

	"openrelay/internal/client"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/wire"
)

type countOptions struct {
	want       rows
	state, bin string
	add        bool
}

func countCommand() command {
	opt := &countOptions{}
	return verbs("count", "Count what lies at a location, and book the differences", opt.flags, []verb{
		{"list", "", "Counts, newest first", 0, opt.list},
		{"start", "LOCATION", "Begin to count what lies at a place", 1, opt.start},
		{"note", "NUMBER CODE QUANTITY", "Write down how many of a product there are", 3, opt.note},
		{"show", "NUMBER", "What was counted, beside what the books say", 1, opt.show},
		{"post", "NUMBER", "Book the differences", 1, opt.post},
		{"drop", "NUMBER", "Give a count up; nothing is booked", 1, opt.drop},
	})
}

func (opt *countOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.state, "state", "", "list: open, posted or dropped")
	opt.want.flagsOf(f, "list")
	f.StringVar(&opt.bin, "bin", "", "note: the bin that was counted; empty takes the usual one")
	f.BoolVar(&opt.add, "add", false, "note: add to what was counted there before")
}

func (opt *countOptions) list(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Count](ctx, c, "/counts", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Number", "Location", "State", "Lines", "Differ", "Begun")
		for _, x := range list {
			row(x.Number, x.LocationName, x.State, x.Counted, x.Differ, x.CreatedAt)
		}
	})
}

func (opt *countOptions) start(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.StartCount(ctx, a[0])
	return showCount(p, x, err)
}

func (opt *countOptions) note(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := number(a[2])
	if err != nil {
		return err
	}
	x, err := c.CountItem(ctx, a[0], inventory.Counted{Code: a[1], Bin: opt.bin, Quantity: n, Add: opt.add})
	return showCount(p, x, err)
}

func (opt *countOptions) show(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.Count(ctx, a[0])
	return showCount(p, x, err)
}

func (opt *countOptions) post(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.EndCount(ctx, a[0], "post")
	return showCount(p, x, err)
}

func (opt *countOptions) drop(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := c.EndCount(ctx, a[0], "drop")
	return showCount(p, x, err)
}

func showCount(p *printer, x wire.Count, err error) error {
	if err != nil {
		return err
	}
	return p.show(x, func(row func(...any)) {
		row("Count", x.Number, x.State, x.LocationName, fmt.Sprintf("%d lines, %d differ", x.Counted, x.Differ))
		row("SKU", "Name", "Bin", "Counted", "Should lie", "Difference")
		for _, l := range x.Lines {
			row(l.SKU, l.Name, l.Bin, l.Counted, l.Expected, fmt.Sprintf("%+d", l.Counted-l.Expected))
		}
	})
}
