package cli

import (
	"context"
	"flag"
	"fmt"

	"openrelay/internal/client"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

type planOptions struct {
	kind   shipping.PlanKind
	reason string
	units  lines
}

func (opt *planOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.reason, "reason", "", "why, for the order's timeline")
	f.Func("units", "`SKU=QUANTITY`; may be given several times "+required, opt.units.add)
}

func keepBackCommand() command {
	opt := &planOptions{kind: shipping.KeepBack}
	return noun("keep-back", "NUMBER", "Keep units of an order back: so many are not sent for now; 0 lets them go", 1, 1, opt.flags,
		opt.run)
}

func moveUnitsCommand() command {
	opt := &planOptions{kind: shipping.MoveTo}
	return noun("move", "NUMBER PLACE", "Let units of an order that are not picked be sent from another place", 2, 2, opt.flags, opt.run)
}

func splitCommand() command {
	opt := &planOptions{kind: shipping.Split}
	return noun("split", "NUMBER", "Let units of an order be picked and packed as a shipment of their own", 1, 1, opt.flags, opt.run)
}

func (opt *planOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	o, err := c.Order(ctx, a[0])
	if err != nil {
		return err
	}
	x := shipping.HandPlan{Kind: opt.kind, Reason: opt.reason}
	if x.Lines, err = opt.lines(o); err != nil {
		return err
	}
	if len(a) > 1 {
		x.To = a[1]
	}
	if o, err = c.PlanOrder(ctx, a[0], x); err != nil {
		return err
	}
	return p.show(o, func(row func(...any)) {
		for _, s := range o.Shipments {
			row("Shipment", s.Number, s.State, "at "+s.Location, fmt.Sprintf("%d units", s.Quantity))
		}
		for _, l := range o.Lines {
			if l.Kept > 0 {
				row("Kept back", fmt.Sprintf("%d × %s", l.Kept, l.SKU))
			}
		}
	})
}

// lines finds the lines that are meant. What is let go is of lines that keep something back.
func (opt *planOptions) lines(o wire.Order) (map[int64]int64, error) {
	out, err := unitsByLine(o, opt.units, func(l wire.Line) int64 { return l.Waiting + l.Allocated }, "to plan")
	if err != nil || opt.kind != shipping.KeepBack {
		return out, err
	}
	for _, want := range opt.units {
		for _, l := range o.Lines {
			if l.SKU == want.SKU && out[l.ID] == 0 && l.Kept > 0 {
				out[l.ID] = 0
			}
		}
	}
	return out, nil
}
