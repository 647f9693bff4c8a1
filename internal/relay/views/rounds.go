package views

import (
	"context"
	"maps"
	"slices"

	"openrelay/internal/core/picking"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// RoundView is a round with what is collected in it, in the order of the walk.
type RoundView struct {
	store.Round
	Stops []picking.Stop
}

// Round gathers everything known about one round.
func (r *Views) Round(ctx context.Context, number string) (RoundView, error) {
	x, err := r.Store.Round(ctx, number)
	out := RoundView{Round: x}
	if err != nil {
		return out, err
	}
	var slots []picking.Slot
	bins := map[string]bool{}
	for _, y := range x.Slots {
		if y.State == store.CalledOff {
			continue
		}
		wants, err := r.wantsOf(ctx, y.Shipment)
		if err != nil {
			return out, err
		}
		for _, w := range wants {
			bins[w.Bin] = true
		}
		slots = append(slots, picking.Slot{Number: y.Slot, Wants: wants})
	}
	walk, err := r.Store.BinPositions(ctx, x.LocationID, slices.Collect(maps.Keys(bins)))
	if err != nil {
		return out, err
	}
	out.Stops = picking.Stops(slots, walk)
	return out, nil
}

// wantsOf lists what a shipment needs.
func (r *Views) wantsOf(ctx context.Context, number string) ([]picking.Want, error) {
	s, err := r.Store.Shipment(ctx, number)
	if err != nil {
		return nil, err
	}
	o, err := r.Store.OrderByID(ctx, s.OrderID)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(s.Lines))
	for i, l := range s.Lines {
		ids[i] = l.ItemID
	}
	items, err := r.Store.Items(ctx, ids)
	if err != nil {
		return nil, err
	}
	bins, err := r.Store.Bins(ctx, s.LocationID, ids)
	if err != nil {
		return nil, err
	}
	return shipping.WantList(s, o, items, bins, nil), nil
}
