package demo

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/routing"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// placing lets an order be split because no place has all of it, rehearses that none is, and lets one be sent from where it costs less.
func (k *walk) placing(ctx context.Context, w *World) error {
	k.step("An order is split because it must be, and one goes from where it costs less")
	if err := emptyAt(ctx, w.Client, "GLOVES-8", "alder"); err != nil { // they lie at Pier Nine, too
		return err
	}
	split, err := k.placedOf(ctx, w, "GLOVES-8", "SMOKER-L")
	if err != nil {
		return err
	}
	plan, err := w.Client.OrderPlan(ctx, split.Number)
	if err != nil {
		return err
	}
	for _, e := range plan.Plan.Entries {
		k.saw("%s sends %d × %s for %.2f %s", e.Place, e.Units[0].Units, e.Units[0].SKU, float64(e.Subtotal)/100, plan.Currency)
	}
	k.check(len(plan.Plan.Entries) == 2 && len(plan.Plan.Waits) == 0 && len(plan.Bars) > 0,
		"two places send of %s; one alone has not all of it", split.Number)
	return k.placedOtherwise(ctx, w, split)
}

// placedOtherwise rehearses that nothing is split any more, and lets a place become dear.
func (k *walk) placedOtherwise(ctx context.Context, w *World, split wire.Order) error {
	have, err := w.Client.RoutingPolicy(ctx)
	if err != nil {
		return err
	}
	single := have.Policy
	single.MostPlaces = 1
	would, err := w.Client.RehearseRouting(ctx, single)
	if err != nil {
		return err
	}
	found := false
	for _, x := range would.List {
		found = found || x.Order == split.Number && len(x.Now.Waits) > 0
	}
	k.check(found && would.Now.Split == 0, "from one place only, %d of %d orders would be sent otherwise, and %s would wait", would.Changed,
		would.Orders, split.Number)

	whole, err := k.placedOf(ctx, w, "GLOVES-11")
	if err != nil {
		return err
	}
	before := whole.Lines[0].At[0].Location
	dear := have.Policy
	dear.Places = map[string]routing.PlaceTerms{"alder": {Order: 5000}}
	if _, err := w.Client.SetRoutingPolicy(ctx, dear); err != nil {
		return err
	}
	changed, err := w.Client.ReplanOrder(ctx, whole.Number, wire.ReplanOrder{})
	if err != nil {
		return err
	}
	now, err := w.Client.Order(ctx, whole.Number)
	if err != nil {
		return err
	}
	after := now.Lines[0].At[0].Location
	k.check(changed && before != after, "work at %s became dear: %s is planned anew and comes from %s", before, whole.Number, after)
	_, err = w.Client.SetRoutingPolicy(ctx, have.Policy)
	return err
}

// placedOf sells one of each of some items at the store.
func (k *walk) placedOf(ctx context.Context, w *World, skus ...string) (wire.Order, error) {
	s := standin.Sale{Customer: "Petra Wendlow", Email: "petra.wendlow@example.test", Shipping: 490,
		Delivery: standin.Delivery{Name: "Petra Wendlow", Street: "Alder Lane 5", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"}}
	for _, sku := range skus {
		s.Lines = append(s.Lines, standin.SaleLine{SKU: sku, Qty: 1})
	}
	_, o, err := w.placed(ctx, s)
	if err != nil {
		return o, err
	}
	_, err = until(ctx, 10*time.Second, "its stock", func() (bool, error) {
		o, err = w.Client.Order(ctx, o.Number)
		return err == nil && o.Stage == "ready", err
	})
	return o, err
}

// emptyAt takes away what is free of an item at a place.
func emptyAt(ctx context.Context, c *client.Client, sku, place string) error {
	v, err := c.Item(ctx, sku)
	if err != nil {
		return err
	}
	for _, l := range v.Levels {
		if l.Location != place || l.Available <= 0 {
			continue
		}
		if _, err := c.Adjust(ctx, sku, place, -l.Available, "eaten by moths"); err != nil {
			return fmt.Errorf("take %d × %s away: %w", l.Available, sku, err)
		}
	}
	return nil
}
