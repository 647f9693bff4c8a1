package demo

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/core/returns"
	"openrelay/internal/relay/returning"
	"openrelay/internal/wire"
)

// takeBack takes a parcel back that has not left after all, and sends it again with another number. id is the order's at the store.
func (k *walk) takeBack(ctx context.Context, w *World, id string, parcel wire.Parcel) error {
	v, err := w.Client.VoidLabel(ctx, parcel.Number, false)
	if err != nil {
		return err
	}
	took, err := until(ctx, 15*time.Second, "the store to forget the number", func() (bool, error) {
		for _, number := range w.Morrow.Trackings(id) {
			if number == parcel.Tracking {
				return false, nil
			}
		}
		return true, nil
	})
	k.check(err == nil && v.State == "packed", "parcel %s has not left after all: it is packed again, and the store knows (%.1f s)",
		parcel.Number, took.Seconds())
	if err != nil {
		return err
	}
	_, err = w.Client.TypeNumber(ctx, parcel.Number, "ferry", "GF 7001", "")
	return err
}

// comeBack lets a shopper send units of an order's first line back: they are scanned, one of them is of no use, and the store gives
// the money back.
func (k *walk) comeBack(ctx context.Context, w *World, id, order string) error {
	o, err := w.Client.Order(ctx, order)
	if err != nil {
		return err
	}
	line := o.Lines[0]
	before, err := w.Client.Stock(ctx, "search="+line.SKU)
	if err != nil {
		return err
	}
	if _, err := w.Morrow.SendBack(id, "two are enough", map[string]int64{line.OutsideID: 2}); err != nil {
		return err
	}
	var back wire.Return
	if err := w.Wait(ctx, 15*time.Second, "the return", func() (bool, error) {
		o, err := w.Client.Order(ctx, order)
		if err != nil || len(o.Returns) == 0 {
			return false, err
		}
		back = o.Returns[0]
		return true, nil
	}); err != nil {
		return err
	}
	k.check(back.State == "announced" && back.Units == 2, "a shopper sends 2 × %s back (“%s”): return %s", line.SKU, back.Reason,
		back.Number)
	var v wire.ReturnView
	for _, outcome := range []returns.Outcome{returns.ToStock, returns.WrittenOff} {
		if v, err = w.Client.ScanReturn(ctx, back.Number, returning.Returned{Code: line.SKU, Outcome: outcome}); err != nil {
			return err
		}
	}
	after, err := w.Client.Stock(ctx, "search="+line.SKU)
	if err != nil {
		return err
	}
	k.check(onHand(after) == onHand(before)+1, "one is stock again, the other is written off; %d lie there now", onHand(after))
	if v, err = w.Client.SettleReturn(ctx, back.Number, returning.Settlement{Amount: v.Proposed.Total}); err != nil {
		return err
	}
	took, err := until(ctx, 15*time.Second, "the store to give the money back", func() (bool, error) {
		return w.Morrow.Refunded(id) == v.Refund, nil
	})
	k.check(err == nil && v.Refund > 0, "%s are given back, as was worked out, and the store has done so (%.1f s)",
		fmt.Sprintf("%d.%02d %s", v.Refund/100, v.Refund%100, v.Currency), took.Seconds())
	return err
}

func onHand(levels []wire.Level) (units int64) {
	for _, l := range levels {
		units += l.OnHand
	}
	return units
}
