package cli

import (
	"context"
	"flag"
	"fmt"
	"strconv"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/money"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/returning"
	"openrelay/internal/wire"
)

type returnsOptions struct {
	state string
	want  rows
}

func returnsCommand() command {
	opt := &returnsOptions{}
	return noun("list", "", "List goods that come back, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *returnsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.state, "state", "", "only this state, or several by comma")
	opt.want.flags(f)
}

func (opt *returnsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Return](ctx, c, "/returns", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Return", "Order", "Buyer", "At", "State", "Here", "Of", "To look at", "Given back", "Reason")
		for _, x := range list {
			row(x.Number, x.OrderNumber, x.Buyer, x.Location, x.State, x.Came, x.Units, x.Looked, amount(x.Refund, x.Currency), x.Reason)
		}
	})
}

func returnCommand() command {
	return noun("show", "RETURN", "Show a return: what may come, what came, and what is given back", 1, 1, nil, showReturn)
}

func showReturn(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Return(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { returnTable(v, row) })
}

func returnTable(v wire.ReturnView, row func(...any)) {
	row("Return", v.Number, v.State, "order "+v.OrderNumber, "at "+v.Location)
	if v.Reason != "" {
		row("", v.Reason)
	}
	if v.Exchange != "" {
		row("", "order "+v.Exchange+" is sent in its place")
	}
	if l := v.Label; l != nil {
		row("Label", l.State, l.Carrier, l.Tracking, amount(l.Price, l.Currency), l.Journey)
		if l.Error != "" {
			row("", l.Error)
		}
	}
	row("SKU", "", "Sent", "May come", "Announced", "To stock", "To look at", "Written off")
	for _, l := range v.Lines {
		row(l.SKU, l.Name, l.Sent, l.Left, l.Announced, l.Stock, l.Look, l.Off)
	}
	for _, s := range v.Numbers {
		row("", s.SKU, s.Serial, string(s.Outcome))
	}
	if v.State == string(returns.Settled) {
		row("Given back", amount(v.Refund, v.Currency), "tax "+money.Decimal(v.Tax, v.Currency))
		return
	}
	row("Proposed", amount(v.Proposed.Total, v.Currency), "goods "+money.Decimal(v.Proposed.Goods, v.Currency),
		"shipping "+money.Decimal(v.Proposed.Shipping, v.Currency), "tax "+money.Decimal(v.Proposed.Tax, v.Currency))
}

type announceOptions struct {
	n     returning.NewReturn
	units lines
}

func announceReturnCommand() command {
	opt := &announceOptions{}
	return noun("begin", "ORDER", "Note that goods of an order come back, or are here; a tracking number of it does, too", 1, 1, opt.flags,
		opt.run)
}

func (opt *announceOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.n.Location, "at", "", "code of the `place` where they come; else the place that sent them")
	f.StringVar(&opt.n.Reason, "reason", "", "what the buyer says")
	f.StringVar(&opt.n.Note, "note", "", "what is to be known of it")
	f.StringVar(&opt.n.Tracking, "tracking", "", "number of the parcel in which they come")
	f.Func("units", "`SKU=QUANTITY` that is to come; may be given several times; without it that is not known", opt.units.add)
}

func (opt *announceOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.n.Order = a[0]
	if len(opt.units) > 0 {
		o, err := c.Order(ctx, a[0])
		if err != nil {
			return err
		}
		if opt.n.Lines, err = unitsByLine(o, opt.units, func(l wire.Line) int64 { return l.Shipped }, "that has left"); err != nil {
			return err
		}
	}
	v, err := c.AnnounceReturn(ctx, opt.n)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { returnTable(v, row) })
}

type scanReturnOptions struct{ g returning.Returned }

func scanReturnCommand() command {
	opt := &scanReturnOptions{}
	return noun("scan", "RETURN CODE", "Take in units that came back", 2, 2, opt.flags, opt.run)
}

func (opt *scanReturnOptions) flags(f *flag.FlagSet) {
	opt.g.Outcome = returns.ToStock
	f.Func("to", "what becomes of them: stock, look or off (written off); else stock", func(text string) error {
		o, err := outcomeOf(text)
		opt.g.Outcome = o
		return err
	})
	f.Int64Var(&opt.g.Quantity, "quantity", 0, "units; 0 means one")
	f.StringVar(&opt.g.Serial, "serial", "", "the unit's serial number")
	f.StringVar(&opt.g.Bin, "bin", "", "where they are put")
	f.BoolVar(&opt.g.Sure, "sure", false, "the unit is of this order, although its serial number was not noted when it left")
}

// outcomeOf reads what becomes of units.
func outcomeOf(text string) (returns.Outcome, error) {
	switch text {
	case "stock":
		return returns.ToStock, nil
	case "look":
		return returns.ToLook, nil
	case "off", string(returns.WrittenOff):
		return returns.WrittenOff, nil
	}
	return "", fmt.Errorf("stock, look or off is expected")
}

func (opt *scanReturnOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.g.Code = a[1]
	v, err := c.ScanReturn(ctx, a[0], opt.g)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { returnTable(v, row) })
}

type moveReturnedOptions struct{ m returning.MovedReturn }

func moveReturnedCommand() command {
	opt := &moveReturnedOptions{}
	return noun("move", "RETURN CODE", "Decide anew on units that came back, or take a scan back", 2, 2, opt.flags, opt.run)
}

func (opt *moveReturnedOptions) flags(f *flag.FlagSet) {
	opt.m.From = returns.ToLook
	f.Func("from", "what has become of them so far: stock, look or off; else look", func(text string) (err error) {
		opt.m.From, err = outcomeOf(text)
		return err
	})
	f.Func("to", "what becomes of them: stock, look or off; without it they did not come back after all", func(text string) (err error) {
		opt.m.To, err = outcomeOf(text)
		return err
	})
	f.Int64Var(&opt.m.Quantity, "quantity", 0, "units; 0 means one")
	f.StringVar(&opt.m.Bin, "bin", "", "where they are put")
}

func (opt *moveReturnedOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.m.Code = a[1]
	v, err := c.MoveReturned(ctx, a[0], opt.m)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { returnTable(v, row) })
}

type settleReturnOptions struct{ amount, note string }

func settleReturnCommand() command {
	opt := &settleReturnOptions{}
	return noun("settle", "RETURN", "Decide what the buyer gets back; without -amount as it is proposed", 1, 1, opt.flags, opt.run)
}

func (opt *settleReturnOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.amount, "amount", "", "what is given back, like `12.50`; 0 for nothing")
	f.StringVar(&opt.note, "note", "", "why it is another sum than was proposed")
}

func (opt *settleReturnOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Return(ctx, a[0])
	if err != nil {
		return err
	}
	s := returning.Settlement{Amount: v.Proposed.Total, Note: opt.note}
	if opt.amount != "" {
		if s.Amount, err = money.Parse(opt.amount, v.Currency); err != nil {
			return usage{err.Error()}
		}
	}
	if v, err = c.SettleReturn(ctx, a[0], s, client.Match(v.Revision)); err != nil {
		return err
	}
	return p.told(v, "%s is settled; %s is given back", v.Number, amount(v.Refund, v.Currency))
}

func exchangeReturnCommand() command {
	return noun("exchange", "RETURN SKU=UNITS…", "Send something in its place: a new order that costs nothing", 2, 20, nil, runExchange)
}

func runExchange(ctx context.Context, c *client.Client, p *printer, a []string) error {
	var x returning.Exchange
	for _, text := range a[1:] {
		sku, n, ok := strings.Cut(text, "=")
		units, err := strconv.ParseInt(n, 10, 64)
		if !ok || err != nil || units < 1 {
			return usage{fmt.Sprintf("%q: SKU=2 is expected", text)}
		}
		x.Lines = append(x.Lines, returning.ExchangeLine{SKU: sku, Quantity: units})
	}
	v, err := c.ExchangeReturn(ctx, a[0], x)
	if err != nil {
		return err
	}
	return p.told(v, "order %s is sent in place of %s", v.Exchange, v.Number)
}

func callOffReturnCommand() command {
	return noun("call-off", "RETURN", "End a return of which nothing came", 1, 1, nil, runCallOffReturn)
}

func runCallOffReturn(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.CallOffReturn(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(v, "%s is called off", v.Number)
}
