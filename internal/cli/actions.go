package cli

import (
	"context"
	"flag"
	"fmt"

	"openrelay/internal/client"
	"openrelay/internal/relay/orders"
)

type actOptions struct {
	value string
}

func actCommand() command {
	opt := &actOptions{}
	return noun("act", "ACTION NUMBER...",
		"Do one thing to many orders: approve, hold, tag, untag, assign, pick, ship, cancel, void, hand over", 2, -1, opt.flags, opt.run)
}

func (opt *actOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.value, "value", "", "the `tag`, the person, or the reason")
}

func (opt *actOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	d, err := c.Act(ctx, orders.ActionKind(a[0]), opt.value, a[1:]...)
	return showAction(ctx, c, p, d, "Order", err)
}

// showAction waits until an action on many things is done, and shows what became of each.
func showAction(ctx context.Context, c *client.Client, p *printer, d orders.BulkDone, thing string, err error) error {
	if err == nil {
		d, err = c.ActionDone(ctx, d, func(d orders.BulkDone) { p.say("%d of %d have their outcome", d.Settled, d.Total) })
	}
	if err != nil {
		return err
	}
	return p.show(d, func(row func(...any)) {
		row("", thing, "What became of it")
		for _, r := range d.Results {
			row(map[bool]string{true: "done", false: "not"}[r.OK], r.Number, r.Text)
		}
		if d.Undo {
			row("", "", fmt.Sprintf("openrelay order undo-act %d takes it back", d.ID))
		}
	})
}

func undoActCommand() command {
	return noun("undo-act", "ID", "Take back what was done to many orders", 1, 1, nil, runUndoAct)
}

func runUndoAct(ctx context.Context, c *client.Client, p *printer, a []string) error {
	id, err := number(a[0])
	if err != nil {
		return err
	}
	d, err := c.UndoAct(ctx, id)
	if err == nil {
		d, err = c.ActionDone(ctx, d, nil)
	}
	if err != nil {
		return err
	}
	return p.told(d, "taken back on %d orders", d.Done)
}
