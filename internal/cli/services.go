package cli

import (
	"context"
	"flag"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/wire"
)

func servicesCommand() command {
	return noun("list", "", "Show by which service parcels go, what carriers sell, and which words stand for nothing yet", 0, 0, nil,
		runServices)
}

func runServices(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	t, err := c.Services(ctx)
	if err != nil {
		return err
	}
	return p.show(t, func(row func(...any)) { serviceTable(t, row) })
}

func serviceTable(t wire.ServiceTable, row func(...any)) {
	row("Row", "The channel says", "Channel", "To", "Weight", "Value", "Goes by")
	for i, c := range t.Rows {
		row(i+1, or(c.Word, "anything"), or(c.Connection, "all"),
			or(strings.Join(slices.Concat(c.Countries, c.Postcodes), " "), "anywhere"), span(c.FromG, c.ToG, "g"),
			span(c.FromValue, c.ToValue, c.Currency), c.Service)
	}
	if len(t.Rows) == 0 {
		row("none", "", "", "", "", "", "a word that is a carrier's own, or a person decides; without a word the cheapest")
	}
	if len(t.Open) > 0 {
		row()
		row("Stands for nothing yet", "Channel", "Orders that wait")
		for _, o := range t.Open {
			row(o.Word, o.Connection, o.Orders)
		}
	}
	row()
	row("Carrier", "Service", "Name")
	for _, s := range t.Sold {
		row(s.Carrier, s.Code, s.Name)
	}
}

// span writes from and to of something; amounts in minor units.
func span(from, to int64, unit string) string {
	switch {
	case from == 0 && to == 0:
		return "any"
	case to == 0:
		return fmt.Sprintf("from %d %s", from, unit)
	}
	return fmt.Sprintf("%d to %d %s", from, to, unit)
}

type addServiceOptions struct {
	c  freight.Choice
	at int
}

func addServiceCommand() command {
	opt := &addServiceOptions{}
	return noun("add", "SERVICE", "Add a row: deliveries that go by a service (its code, carrier/code, cheapest, cheapest in 2 days, "+
		"fastest, or ask)", 1, 1, opt.flags, opt.run)
}

func (opt *addServiceOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.c.Word, "word", "", "what the channel calls the delivery; without it any, also where the buyer wished for none")
	f.StringVar(&opt.c.Connection, "connection", "", "code of the channel; without it all")
	several(f, "country", "a `country` it goes to, such as XW; may be given several times", &opt.c.Countries)
	several(f, "postcode", "the `beginning` of postcodes it goes to; may be given several times", &opt.c.Postcodes)
	f.Int64Var(&opt.c.FromG, "from-g", 0, "the parcel weighs at least so many grams")
	f.Int64Var(&opt.c.ToG, "to-g", 0, "at most so many grams")
	f.Int64Var(&opt.c.FromValue, "from-value", 0, "the buyer pays at least so much, in minor units of -currency")
	f.Int64Var(&opt.c.ToValue, "to-value", 0, "at most so much")
	f.StringVar(&opt.c.Currency, "currency", "", "of the values")
	f.IntVar(&opt.at, "at", 0, "the `row` that it becomes; without it the last")
}

// several is a flag that may be given several times.
func several(f *flag.FlagSet, name, usage string, to *[]string) {
	f.Func(name, usage, func(s string) error { *to = append(*to, s); return nil })
}

func (opt *addServiceOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	t, err := c.Services(ctx)
	if err != nil {
		return err
	}
	opt.c.Service = a[0]
	at := len(t.Rows)
	if opt.at > 0 {
		at = min(opt.at-1, at)
	}
	return putServices(ctx, c, p, slices.Insert(t.Rows, at, opt.c))
}

func putServices(ctx context.Context, c *client.Client, p *printer, rows []freight.Choice) error {
	t, err := c.PutServices(ctx, rows)
	if err != nil {
		return err
	}
	return p.show(t, func(row func(...any)) { serviceTable(t, row) })
}

func dropServiceCommand() command {
	return noun("remove", "ROW", "Remove a row of the table", 1, 1, nil, runDropService)
}

func runDropService(ctx context.Context, c *client.Client, p *printer, a []string) error {
	t, err := c.Services(ctx)
	if err != nil {
		return err
	}
	at, err := strconv.Atoi(a[0])
	if err != nil || at < 1 || at > len(t.Rows) {
		return fmt.Errorf("row %q: there are %d rows", a[0], len(t.Rows))
	}
	return putServices(ctx, c, p, slices.Delete(t.Rows, at-1, at))
}
