package store

import (
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/order"
)

// Counts and sums that pages show are kept as they change, in the same commit. What moves afterwards is counted by triggers
// of the file; new orders are counted here, all of a batch together, since they come by the hundred.

// quarter is the grain of sums over time: which fifteen minutes of Unix time a moment is in.
func quarter(at time.Time) int64 { return micros(at) / (15 * time.Minute).Microseconds() }

// newOrderCounts are what new orders add to the counts.
type newOrderCounts struct {
	stages   counts[stageOf]
	quarters counts[quarterOf]
	picks    counts[int64] // by location: orders that wait to be picked there
	sums     counts[sumOf]
	totals   map[sumOf]int64
}

// stageOf, quarterOf and sumOf are what order_count, order_quarter and order_sum count by.
type (
	stageOf struct {
		stage      order.Stage
		connection int64
	}
	quarterOf struct {
		what                string
		quarter, connection int64
	}
	sumOf struct {
		quarter, connection    int64
		via, typedBy, currency string
		cancelled              bool
	}
)

// counts counts by key, and keeps the order in which keys came, so that the same orders are always written alike.
type counts[K comparable] struct {
	keys []K
	n    map[K]int64
}

func (c *counts[K]) add(k K) {
	if c.n == nil {
		c.n = map[K]int64{}
	}
	if c.n[k] == 0 {
		c.keys = append(c.keys, k)
	}
	c.n[k]++
}

// add counts one new order.
func (n *newOrderCounts) add(o *order.Order) {
	stage := o.Stage()
	n.stages.add(stageOf{stage, o.ConnectionID})
	n.quarters.add(quarterOf{"received", quarter(o.ReceivedAt), o.ConnectionID})
	switch stage {
	case order.Shipped, order.Delivered, order.Cancelled:
		n.quarters.add(quarterOf{string(stage), max(quarter(o.ShippedAt), quarter(o.ReceivedAt)), o.ConnectionID})
	}
	for _, location := range placesOf(o) {
		n.picks.add(location)
	}
	if o.Test || o.Kind() == order.Summary || stage == order.Void {
		return // sums are of sales
	}
	k := sumOf{quarter(placedAt(o)), o.ConnectionID, o.Via, o.TypedBy, o.Record.Currency, stage == order.Cancelled}
	n.sums.add(k)
	if n.totals == nil {
		n.totals = map[sumOf]int64{}
	}
	if !k.cancelled {
		n.totals[k] += o.Record.Total
	}
}

// countNew counts new orders.
func (t *Tx) countNew(orders []*order.Order) error {
	var n newOrderCounts
	for _, o := range orders {
		n.add(o)
	}
	const more = " ON CONFLICT DO UPDATE SET n = n + excluded.n"
	for _, k := range n.stages.keys {
		if _, err := t.exec("INSERT INTO order_count VALUES (?,?,?)"+more, string(k.stage), k.connection, n.stages.n[k]); err != nil {
			return fmt.Errorf("count orders: %w", err)
		}
	}
	for _, k := range n.quarters.keys {
		if _, err := t.exec("INSERT INTO order_quarter VALUES (?,?,?,?)"+more, k.what, k.quarter, k.connection,
			n.quarters.n[k]); err != nil {
			return fmt.Errorf("count orders by time: %w", err)
		}
	}
	slices.Sort(n.picks.keys)
	for _, location := range n.picks.keys {
		if _, err := t.exec("INSERT INTO place_count VALUES (?,'to pick',?)"+more, location, n.picks.n[location]); err != nil {
			return fmt.Errorf("count orders by place: %w", err)
		}
	}
	for _, k := range n.sums.keys {
		sold, cancelled := n.sums.n[k], int64(0)
		if k.cancelled {
			sold, cancelled = 0, sold
		}
		if _, err := t.exec("INSERT INTO order_sum VALUES (?,?,?,?,?,?,?,?)"+more+
			", total = total + excluded.total, cancelled = cancelled + excluded.cancelled",
			k.quarter, k.connection, k.via, k.typedBy, k.currency, sold, n.totals[k], cancelled); err != nil {
			return fmt.Errorf("sum orders: %w", err)
		}
	}
	return nil
}

// placedAt is when an order was placed, or, where the channel does not say, when it came.
func placedAt(o *order.Order) time.Time {
	if o.Record.PlacedAt.IsZero() {
		return o.ReceivedAt
	}
	return o.Record.PlacedAt
}

// placesOf lists the locations where an order waits to be picked.
func placesOf(o *order.Order) (ids []int64) {
	switch o.Stage() {
	case order.Ready, order.Routed, order.Picking, order.PartShipped:
	default:
		return nil
	}
	for i := range o.Lines {
		if l := &o.Lines[i]; o.Sendable(l)+l.Picked+l.Packed == 0 {
			continue // all that is left of it is kept back
		}
		for _, a := range o.Lines[i].Allocations {
			if !slices.Contains(ids, a.Location) {
				ids = append(ids, a.Location)
			}
		}
	}
	slices.Sort(ids)
	return ids
}
