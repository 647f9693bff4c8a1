package demo

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// oneWalk picks three orders in one walk, as a rule puts them together, packs each and sends it.
func (k *walk) oneWalk(ctx context.Context, w *World) error {
	k.step("Three orders picked in one walk")
	if _, err := w.Client.PutRoundRule(ctx, "cart", store.RoundRule{Name: "The cart", Location: "barn", Slots: 4}); err != nil {
		return err
	}
	var ids []string
	for range 3 {
		s := w.sale(1)
		for i := range s.Lines {
			s.Lines[i].SKU, s.Lines[i].Qty = jar, 1
		}
		id, _, err := w.placed(ctx, s)
		if err != nil {
			return err
		}
		ids = append(ids, id)
	}
	r, err := w.Client.MakeRound(ctx, shipping.NewRound{Rule: "cart"})
	if err != nil {
		return err
	}
	k.check(len(r.Slots) == 3 && len(r.Stops) == 1, "round %s: %d slots, and %d stop for %d units", r.Number, len(r.Slots), len(r.Stops),
		r.Quantity)
	if r, err = w.Client.ScanRound(ctx, r.Number, shipping.RoundScan{Code: jar, Quantity: r.Quantity}); err != nil {
		return err
	}
	k.check(r.State == store.RoundPicked, "one scan: %s", r.Said.Text)
	for i, s := range r.Slots {
		v, err := w.PackOne(ctx, s.OrderNumber)
		if err != nil {
			return err
		}
		for _, p := range v.Parcels {
			if _, err := w.Client.TypeNumber(ctx, p.Number, "ferry", fmt.Sprintf("GF 300%d-%s", i, p.Number), ""); err != nil {
				return err
			}
		}
	}
	took, err := until(ctx, 15*time.Second, "the store to have all numbers", func() (bool, error) {
		for _, id := range ids {
			if len(w.Morrow.Trackings(id)) == 0 {
				return false, nil
			}
		}
		return true, nil
	})
	var left []wire.Round
	if left, err = w.Client.Rounds(ctx, "state=picking"); err != nil {
		return err
	}
	k.check(err == nil && len(left) == 0, "each is packed and sent by itself, and the store has its number (%.1f s)", took.Seconds())
	return err
}
