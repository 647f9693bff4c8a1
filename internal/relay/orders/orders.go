// Package orders takes in orders and lets them go on: rules, matching of their lines, waiting for stock, merging, and
// what clerks do to them.
package orders

import (
	"sync/atomic"

	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
)

// Orders are the orders of a company.
type Orders struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory
	Listing   *listing.Listing

	// Actions are what can be done to an order, beyond what the order alone decides.
	Actions map[ActionKind]Action

	// Route chooses the places of orders by the company's policy, and returns nil where none is on; nil: there is nobody who does.
	Route func(ch *engine.Change, book *stock.Book) func(*order.Order, []int64) map[int64][]stock.Part

	// ReplanRest plans anew what nobody has begun on of an order on which others have; nil: there is nobody who does.
	ReplanRest func(ch *engine.Change, o *order.Order, s *order.Scene, reason string) (order.Change, error)

	// Exceptions are the names of what the routing policy weighs otherwise; nil: there is none.
	Exceptions func() []string

	rules atomic.Pointer[rules.Set]
}

// New makes the orders of a company; LoadRules reads its rules.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, l *listing.Listing) *Orders {
	return &Orders{Engine: e, Exchange: x, Inventory: inv, Listing: l}
}
