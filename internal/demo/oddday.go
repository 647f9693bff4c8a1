package demo

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// oddDay takes an order through what may happen on a bad day: units are cancelled, one is not there, no carton takes all of it,
// a number is mistyped, a parcel has not left after all, and goods come back.
func (k *walk) oddDay(ctx context.Context, w *World) error {
	k.step("A bad day: cancelled units, one that is not there, several cartons, a mistyped number, a return")
	s := w.sale(9)
	for i := range s.Lines {
		s.Lines[i].SKU = jar
	}
	id, o, err := w.placed(ctx, s)
	if err != nil {
		return err
	}
	if err := k.cancelOne(ctx, w, o); err != nil {
		return err
	}
	parcels, err := k.pickShort(ctx, w, o.Number)
	if err != nil {
		return err
	}
	for i, p := range parcels {
		if _, err := w.Client.TypeNumber(ctx, p.Number, "ferry", fmt.Sprintf("GF 500%d", i), ""); err != nil {
			return err
		}
	}
	last := parcels[len(parcels)-1].Number
	if _, err := w.Client.TypeNumber(ctx, last, "ferry", "GF 5902", ""); err != nil {
		return err
	}
	took, err := until(ctx, 15*time.Second, "the store to have the right numbers", func() (bool, error) {
		told := slices.Collect(maps.Values(w.Morrow.Trackings(id)))
		return len(told) == len(parcels) && slices.Contains(told, "GF 5902"), nil
	})
	k.check(err == nil, "all of them left with typed numbers; one was corrected, and replaced at the store (%.1f s)", took.Seconds())
	if err != nil {
		return err
	}
	parcels[0].Tracking = "GF 5000"
	if err := k.takeBack(ctx, w, id, parcels[0]); err != nil {
		return err
	}
	return k.comeBack(ctx, w, id, o.Number)
}

// placed places an order at the first store, and waits until it is known here. id is its id at the store.
func (w *World) placed(ctx context.Context, s standin.Sale) (id string, o wire.Order, err error) {
	id, name, err := w.Morrow.Place(s)
	if err != nil {
		return "", o, err
	}
	if err := w.Wait(ctx, 15*time.Second, "the order", func() (bool, error) { return w.known(ctx, name) }); err != nil {
		return "", o, err
	}
	o, err = w.Client.Order(ctx, name)
	return id, o, err
}

// cancelOne cancels a unit of an order, and sees that the store knows.
func (k *walk) cancelOne(ctx context.Context, w *World, o wire.Order) error {
	line := o.Lines[0]
	now, err := w.Client.CancelUnits(ctx, o.Number, orders.Cancelling{Reason: "broken", Lines: map[int64]int64{line.ID: 1}})
	if err != nil {
		return err
	}
	took, err := until(ctx, 15*time.Second, "the store to know of the cancelled unit", func() (bool, error) {
		now, err = w.Client.Order(ctx, o.Number)
		return err == nil && len(now.WriteBacks) > 0 && now.WriteBacks[0].State == "confirmed", err
	})
	k.check(err == nil && now.Lines[0].Cancelled == 1, "one of %d is cancelled here, and the store says so too (%.1f s)", line.Quantity,
		took.Seconds())
	return err
}

// pickShort picks an order of which one unit is not there, and packs it as is proposed.
func (k *walk) pickShort(ctx context.Context, w *World, number string) ([]wire.Parcel, error) {
	ship, err := w.Client.Pick(ctx, number)
	if err != nil {
		return nil, err
	}
	out, err := w.Client.Short(ctx, ship, shipping.Missing{Code: jar, Quantity: 1})
	if err != nil {
		return nil, err
	}
	k.check(true, "one is not there: %s", out.Text)
	v, err := w.PackOne(ctx, number)
	if err != nil {
		return nil, err
	}
	var units int64
	for _, p := range v.Parcels {
		k.saw("parcel %s: %d units in %s, %d g", p.Number, p.Quantity, p.Profile, p.WeightG)
		units += p.Quantity
	}
	k.check(len(v.Parcels) > 1 && units == v.Quantity, "%d units are packed into %d cartons, as is proposed", units, len(v.Parcels))
	return v.Parcels, nil
}
