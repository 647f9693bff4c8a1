package demo

import (
	"context"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/relay/orders"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// together sends two orders of one buyer in one carton. One of three is cancelled when it lies in it already.
func (k *walk) together(ctx context.Context, w *World) error {
	k.step("Three orders to one person in one carton, of which one is cancelled")
	var ids, numbers []string
	for i := range 3 {
		s := standin.Sale{Customer: "Tove Farran", Email: "tove.farran@example.test", Shipping: 490,
			Lines: []standin.SaleLine{{SKU: jar, Qty: 1}},
			Delivery: standin.Delivery{Name: []string{"Tove Farran", "FARRAN, Tove", "Tove Farran"}[i], Street: "Quay Street 9",
				Postcode: "41360", Town: "Harrowmere", Country: "XW", Method: "standard"}}
		id, o, err := w.placed(ctx, s)
		if err != nil {
			return err
		}
		ids, numbers = append(ids, id), append(numbers, o.Number)
	}
	list, err := w.Client.Companions(ctx, numbers[0])
	if err != nil {
		return err
	}
	if len(list) != 2 {
		return fmt.Errorf("%d other orders to the same recipient, not 2", len(list))
	}
	k.saw("%s: %s", list[0].Order, strings.Join(list[0].Reasons, "; "))
	if _, err := w.Client.SendTogether(ctx, numbers[0], numbers[1:]...); err != nil {
		return err
	}
	for _, n := range numbers[1:] {
		if _, err := w.pickAll(ctx, n); err != nil {
			return err
		}
	}
	v, err := w.PackOne(ctx, numbers[0])
	if err != nil {
		return err
	}
	return k.oneLeaves(ctx, w, v, ids, numbers)
}

// oneLeaves cancels the order whose carton it is, and sends the others in it.
func (k *walk) oneLeaves(ctx context.Context, w *World, v wire.ShipmentView, ids, numbers []string) error {
	first, err := w.Client.Order(ctx, numbers[0])
	if err != nil {
		return err
	}
	if _, err := w.Client.CancelUnits(ctx, first.Number, orders.Cancelling{Reason: "mistaken",
		Lines: map[int64]int64{first.Lines[0].ID: 1}}); err != nil {
		return err
	}
	rest, err := w.Client.Order(ctx, numbers[1])
	if err != nil {
		return err
	}
	parcel := rest.Shipments[0].Parcels[0]
	k.check(len(v.Parcels) == 1 && parcel.Carton == "" && len(parcel.Riders) == 1,
		"all three lay in the carton of %s; its order is cancelled, and %s has it now", v.Parcels[0].Number, parcel.Number)
	if _, err := w.Client.TypeNumber(ctx, parcel.Number, "ferry", "GF 8001", ""); err != nil {
		return err
	}
	took, err := until(ctx, 15*time.Second, "the store to have the number of both", func() (bool, error) {
		for _, id := range ids[1:] {
			for _, tracking := range w.Morrow.Trackings(id) {
				if tracking != "GF 8001" {
					return false, fmt.Errorf("order %s has %s", id, tracking)
				}
			}
			if len(w.Morrow.Trackings(id)) == 0 {
				return false, nil
			}
		}
		return true, nil
	})
	k.check(err == nil && len(w.Morrow.Trackings(ids[0])) == 0, "one carton left, and the store knows its number for both orders (%.1f s)",
		took.Seconds())
	return err
}
