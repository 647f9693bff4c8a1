// Package listing keeps the catalog and what of it is listed on which channel: items, the matching of listings to them,
// and publishing.
package listing

import (
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
)

// Listing keeps items and listings.
type Listing struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory

	match Matcher
}

// New makes the catalog of a company.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory) *Listing {
	return &Listing{Engine: e, Exchange: x, Inventory: inv}
}
