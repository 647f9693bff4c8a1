package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

type ordersOptions struct {
	stage, connection, search, location, from, out, state string
	want                                                  rows
}

func ordersCommand() command {
	opt := &ordersOptions{}
	return noun("list", "", "List orders, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *ordersOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.stage, "stage", "", "only this stage, or several by comma")
	f.StringVar(&opt.connection, "connection", "", "only from this connection (its code)")
	f.StringVar(&opt.search, "q", "", "words of order, channel or tracking numbers, names, SKUs")
	f.StringVar(&opt.state, "state", "", "only this state, in the channel's word")
	f.StringVar(&opt.location, "tag", "", "only with this tag")
	f.StringVar(&opt.from, "from", "", "taken in on this `day` or later, YYYY-MM-DD")
	f.StringVar(&opt.out, "csv", "", "write all of them to this `file` as CSV")
	opt.want.flags(f)
}

func (opt *ordersOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	filter := query("stage", opt.stage, "connection", opt.connection, "q", opt.search, "state", opt.state, "tag", opt.location,
		"from", opt.from)
	if opt.out != "" {
		return written(opt.out, func(w io.Writer) error { return c.SaveOrders(ctx, filter, w) })
	}
	list, more, err := listed[wire.OrderRow](ctx, c, "/orders", filter, &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Order", "Channel", "Channel number", "Channel state", "Stage", "Buyer", "Units", "Total", "Placed")
		for _, o := range list {
			row(o.Number, o.ConnectionName, o.ChannelNumber, o.ChannelState, o.Stage, o.Buyer, o.Units,
				amount(o.Total, o.Currency), o.PlacedAt)
		}
	})
}

func orderCommand() command {
	return noun("show", "NUMBER", "Show one order with everything known about it", 1, 1, nil, runOrder)
}

func runOrder(ctx context.Context, c *client.Client, p *printer, a []string) error {
	o, err := c.Order(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(o, func(row func(...any)) { orderTable(o, row) })
}

func releaseCommand() command {
	return noun("release", "NUMBER CAUSE", "Let an order go on although it is held", 2, 2, nil, runRelease)
}

func runRelease(ctx context.Context, c *client.Client, p *printer, a []string) error {
	o, err := c.Release(ctx, a[0], a[1])
	if err != nil {
		return err
	}
	return p.show(o, func(row func(...any)) { row("Order", o.Number, "is", o.Stage) })
}

type cancelOptions struct {
	reason string
	units  lines
}

func cancelCommand() command {
	opt := &cancelOptions{}
	return noun("cancel", "NUMBER", "Cancel units of an order here, or all that is not shipped; the channel is told", 1, 1, opt.flags,
		opt.run)
}

func (opt *cancelOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.reason, "reason", "", "why; the channel is told "+required)
	f.Func("units", "`SKU=QUANTITY` that is cancelled; may be given several times; without it all that is not shipped", opt.units.add)
}

func (opt *cancelOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	o, err := c.Order(ctx, a[0])
	if err != nil {
		return err
	}
	x := orders.Cancelling{Reason: opt.reason}
	x.Lines, err = unitsByLine(o, opt.units, func(l wire.Line) int64 { return l.Quantity - l.Cancelled - l.Shipped }, "to cancel")
	if err != nil {
		return err
	}
	if o, err = c.CancelUnits(ctx, a[0], x); err != nil {
		return err
	}
	return p.show(o, func(row func(...any)) { row("Order", o.Number, "is", o.Stage) })
}

// unitsByLine finds the lines of an order to which units of SKUs belong. free says how many units of a line there are for what is
// to be done with them.
func unitsByLine(o wire.Order, wanted lines, free func(wire.Line) int64, todo string) (map[int64]int64, error) {
	out := map[int64]int64{}
	for _, want := range wanted {
		left := want.Quantity
		for _, l := range o.Lines {
			if n := min(left, free(l)-out[l.ID]); l.SKU == want.SKU && n > 0 {
				out[l.ID] += n
				left -= n
			}
		}
		if left > 0 {
			return nil, fmt.Errorf("order %s has %d × %s less than that %s", o.Number, left, want.SKU, todo)
		}
	}
	return out, nil
}

type answerOptions struct {
	reason  string
	decline bool
	minutes int64
}

func answerCommand() command {
	opt := &answerOptions{}
	return noun("answer", "NUMBER", "Tell a channel that waits for it whether we take an order", 1, 1, opt.flags, opt.run)
}

func (opt *answerOptions) flags(f *flag.FlagSet) {
	f.Int64Var(&opt.minutes, "minutes", 20, "until it is ready")
	f.BoolVar(&opt.decline, "decline", false, "decline it")
	f.StringVar(&opt.reason, "reason", "", "why it is declined")
}

func (opt *answerOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if err := c.AnswerOrder(ctx, a[0], !opt.decline, opt.minutes, opt.reason); err != nil {
		return err
	}
	return p.told(a[0], "answered")
}

func handOverCommand() command {
	return noun("hand-over", "NUMBER", "Note that the buyer has what lay ready", 1, 1, nil, runHandOver)
}

func runHandOver(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if err := c.HandOver(ctx, a[0]); err != nil {
		return err
	}
	return p.told(a[0], "handed over")
}

type voidOptions struct {
	reason  string
	release bool
}

func voidCommand() command {
	opt := &voidOptions{}
	return noun("void", "NUMBER", "Make an order one that only stays for the record", 1, 1, opt.flags, opt.run)
}

func (opt *voidOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.release, "release-number", false, "its number can be given again")
	f.StringVar(&opt.reason, "reason", "", "why")
}

func (opt *voidOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := c.Void(ctx, a[0], opt.reason, opt.release)
	if err != nil {
		return err
	}
	return p.told(n, "void as %s; openrelay order take-in-again %s takes the channel's order in anew", n, n)
}

func takeInAgainCommand() command {
	return noun("take-in-again", "NUMBER", "Take the channel's order behind a voided one in anew", 1, 1, nil, runTakeInAgain)
}

func runTakeInAgain(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := c.TakeInAgain(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(n, "taken in as %s", n)
}

func mergeCommand() command {
	return noun("merge", "CONNECTION", "Make summary orders of what is done on a channel, without waiting for the set hour", 1, 1,
		nil, runMerge)
}

func runMerge(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.Merge(ctx, a[0], time.Time{})
	if err != nil {
		return err
	}
	return p.told(list, "%d summaries: %s", len(list), strings.Join(list, ", "))
}

func undoMergeCommand() command {
	return noun("undo-merge", "NUMBER", "Take a summary of a day apart, unless it was posted", 1, 1, nil, runUndoMerge)
}

func runUndoMerge(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if err := c.UndoMerge(ctx, a[0]); err != nil {
		return err
	}
	return p.told(a[0], "its orders are single again")
}

func typeCommand() command {
	return noun("type", "FILE",
		"Take in an order that a person typed, as JSON: connection, order, and inbox where it stands beside a message", 1, 1, nil, runType)
}

func runType(ctx context.Context, c *client.Client, p *printer, a []string) error {
	var t orders.TypedOrder
	if err := readJSON(a[0], &t); err != nil {
		return err
	}
	n, err := c.TypeOrder(ctx, t)
	if err != nil {
		return err
	}
	return p.told(n, "taken in as %s", n)
}

func orderTable(o wire.Order, row func(...any)) {
	m := o.Record
	row("Order", o.Number, o.Stage)
	row("Channel", o.ConnectionName, m.Number, m.State)
	row("To", strings.Join(o.ShipTo.Lines(), ", "))
	if p := shipping.PointOf(&order.Order{Record: m, Ours: o.Ours}); p != nil {
		row("Fetched", p.Name+", "+p.Street+", "+p.Postcode+" "+p.Town, p.ID, p.Carrier)
	}
	row("Total", amount(m.Total, m.Currency), "recalculated "+amount(o.Totals.Total, m.Currency))
	for _, h := range o.Holds {
		row("Held", h.Cause, h.Text)
	}
	row()
	row("SKU", "Title", "Ordered", "Waiting", "Allocated", "Picked", "Packed", "Shipped", "Cancelled")
	for _, l := range o.Lines {
		row(l.SKU, l.Title, l.Quantity, l.Waiting, l.Allocated, l.Picked, l.Packed, l.Shipped, l.Cancelled)
	}
	row()
	for _, s := range o.Shipments {
		row("Shipment", s.Number, s.State, "from "+s.Location)
		for _, x := range s.Parcels {
			row("Parcel", x.Number, x.State, x.Carrier, x.Tracking)
		}
	}
	for _, w := range o.WriteBacks {
		row("Sent", w.ConnectionName, w.Feed, w.State, w.Error)
	}
	row()
	for _, e := range o.Timeline {
		row(e.At, e.Who, e.Text)
	}
}
