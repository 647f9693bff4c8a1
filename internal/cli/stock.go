package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type compareOptions struct {
	connection    string
	read, correct bool
}

func compareCommand() command {
	opt := &compareOptions{}
	return noun("compare", "", "Compare what channels show with what they should; correct it with -correct", 0, 0, opt.flags, opt.run)
}

func (opt *compareOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.connection, "connection", "", "only this connection (its code)")
	f.BoolVar(&opt.read, "read", false, "read what they show now; it takes a moment, compare again afterwards")
	f.BoolVar(&opt.correct, "correct", false, "send the right quantity for every listing that differs")
}

func (opt *compareOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	if opt.read {
		list, err := c.ReadListings(ctx, opt.connection)
		if err != nil {
			return err
		}
		return p.show(list, func(row func(...any)) { row("Reading", strings.Join(list, ", ")) })
	}
	v, err := c.Compare(ctx, opt.connection)
	if err != nil {
		return err
	}
	if err := p.show(v, func(row func(...any)) {
		row(fmt.Sprintf("%d listings compared, %d differ", v.Compared, len(v.Differences)))
		for _, d := range v.Differences {
			row(d.ConnectionName, d.SKU, fmt.Sprintf("shows %d, should show %d", d.Shows, d.Should), d.Guess)
		}
	}); err != nil || !opt.correct {
		return err
	}
	n, err := c.Correct(ctx, opt.connection)
	if err == nil && !p.json {
		fmt.Fprintf(p.w, "%d corrected\n", n)
	}
	return err
}

type stockOptions struct {
	search, location, state string
	want                    rows
}

func stockCommand() command {
	opt := &stockOptions{}
	return noun("list", "", "List levels by item and location", 0, 0, opt.flags, opt.run)
}

func (opt *stockOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.search, "q", "", "part of SKU or name, or a GTIN")
	f.StringVar(&opt.location, "location", "", "only this location (its code)")
	f.StringVar(&opt.state, "state", "", "only what is negative, short, low or coming")
	opt.want.flags(f)
}

func (opt *stockOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Level](ctx, c, "/stock", query("q", opt.search, "location", opt.location, "state", opt.state),
		&opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("SKU", "Name", "Location", "Bin", "On hand", "Allocated", "Available", "On order", "In transit")
		for _, l := range list {
			row(l.SKU, l.Name, l.LocationName, l.Bin, l.OnHand, l.Allocated, l.Available, l.OnOrder, l.InTransit)
		}
	})
}

type itemsOptions struct {
	search, state, reason string
	want                  rows
	off                   bool
}

func itemsCommand() command {
	opt := &itemsOptions{}
	return noun("list", "", "List items", 0, 0, opt.flags, opt.run)
}

func (opt *itemsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.search, "q", "", "part of SKU or name, or a GTIN")
	f.StringVar(&opt.state, "kind", "", "only stocked, kit, made to order, prepared or charge")
	f.StringVar(&opt.reason, "mark", "", "only those that carry a mark")
	f.BoolVar(&opt.off, "archived", false, "those that are archived")
	opt.want.flags(f)
}

func (opt *itemsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[store.Item](ctx, c, "/items", query("q", opt.search, "kind", opt.state, "mark", opt.reason, "archived",
		map[bool]string{true: "true"}[opt.off]), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("SKU", "Kind", "GTIN", "Name", "Options", "Category", "Price", "Weight g")
		for _, i := range list {
			row(i.SKU, i.Kind, i.GTIN, i.Name, i.Options, i.Category, amount(i.Price, i.Currency), i.WeightG)
		}
	})
}

type itemOptions struct {
	moment time.Time
}

func itemCommand() command {
	opt := &itemOptions{}
	return noun("show", "SKU", "Show an item with stock, ledger and listings", 1, 1, opt.flags, opt.run)
}

func (opt *itemOptions) flags(f *flag.FlagSet) {
	f.Func("at", "its stock at a `moment` of the last 90 days, such as 2026-01-31T12:00:00Z", momentFlag(&opt.moment))
}

func (opt *itemOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.ItemAt(ctx, a[0], opt.moment)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { itemTable(v, row) })
}

type adjustOptions struct {
	reason, key string
}

func adjustCommand() command {
	opt := &adjustOptions{}
	return noun("adjust", "SKU LOCATION CHANGE", "Change what lies at a location, such as +5 or -2", 3, 3, opt.flags, opt.run)
}

func (opt *adjustOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.reason, "reason", "", "why; it stands in the ledger")
	f.StringVar(&opt.key, "key", "", "makes the command safe to repeat: the same key changes the stock once")
}

func (opt *adjustOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := strconv.ParseInt(strings.TrimPrefix(a[2], "+"), 10, 64)
	if err != nil {
		return usage{fmt.Sprintf("change %q: a whole number is expected", a[2])}
	}
	var opts []client.Option
	if opt.key != "" {
		opts = append(opts, client.Key(opt.key))
	}
	if n >= 0 && !strings.HasPrefix(a[2], "+") {
		p.say("%d are added to what lies there; to set a number, post a count", n)
	}
	v, err := c.Adjust(ctx, a[0], a[1], n, opt.reason, opts...)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) {
		for _, l := range v.Levels {
			if l.Location == a[1] {
				row(fmt.Sprintf("%+d", n), a[0], "at "+l.LocationName+":", fmt.Sprintf("%d on hand before, %d now", l.OnHand-n, l.OnHand))
			}
		}
		row()
		itemTable(v, row)
	})
}

type whyOptions struct {
	moment time.Time
}

func whyCommand() command {
	opt := &whyOptions{}
	return noun("why", "CONNECTION SKU", "Why does a channel show this quantity", 2, 2, opt.flags, opt.run)
}

func (opt *whyOptions) flags(f *flag.FlagSet) {
	f.Func("at", "at a `moment` of the last 90 days, such as 2026-01-31T12:00:00Z", momentFlag(&opt.moment))
}

func (opt *whyOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.WhyAt(ctx, a[0], a[1], opt.moment)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) {
		shows := fmt.Sprint(v.Shows)
		if !v.Known {
			shows = "nothing that is known"
		}
		row(v.Listing.ConnectionName, map[bool]string{true: "shows", false: "showed"}[v.At == nil], shows, "of", v.Listing.SKU)
		for _, s := range v.Steps {
			row("", fmt.Sprintf("%+d", s.Change), "", s.Text, fmt.Sprintf("= %d", s.Result))
		}
		if v.Waiting != nil {
			row("", "a correction is", v.Waiting.State)
		}
		for _, x := range v.Promised {
			row("", "held by", x.Quantity, "order "+x.OrderNumber, x.Stage)
		}
	})
}

func itemTable(v wire.ItemView, row func(...any)) {
	row(v.Item.SKU, v.Item.Name, amount(v.Item.Price, v.Item.Currency))
	row()
	row("Location", "Bin", "On hand", "Allocated", "Available")
	for _, l := range v.Levels {
		row(l.LocationName, l.Bin, l.OnHand, l.Allocated, l.Available)
	}
	row()
	row("Listed at", "Price", "Shows", "Allowed")
	for _, l := range v.Listings {
		row(l.ConnectionName, amount(l.Price, l.Currency), l.Shows, l.Allowed)
	}
	row()
	row("When", "Kind", "On hand", "Allocated", "Location", "Why", "Order")
	for _, m := range v.Movements {
		row(m.At, m.Kind, fmt.Sprintf("%+d", m.OnHand), fmt.Sprintf("%+d", m.Allocated), m.Location, m.Reason, m.Document)
	}
}
