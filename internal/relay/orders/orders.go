// Package orders takes in orders and lets them go on: rules, matching of their lines, waiting for stock, merging, and
// what clerks do to them.
package orders

import (
	"context"
	"sync/atomic"

	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/store"
)

// Orders are the orders of a company.
type Orders struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory
	Listing   *listing.Listing

	// OnSaving is called for an order that is about to be written.
	OnSaving func(ch *engine.Change, o *order.Order) error
	// OnChanged is called for an order that was changed under those who work on it.
	OnChanged func(ch *engine.Change, o *order.Order) error
	// OnUnderWay is asked what became of an action that was asked for at the outside.
	OnUnderWay func(ctx context.Context, p store.JobPart) (store.JobPart, error)
	// Actions are what can be done to an order, beyond what the order alone decides.
	Actions map[string]Action

	rules atomic.Pointer[rules.Set]
}

// New makes the orders of a company; LoadRules reads its rules.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, l *listing.Listing) *Orders {
	return &Orders{Engine: e, Exchange: x, Inventory: inv, Listing: l}
}
