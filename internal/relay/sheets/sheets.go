// Package sheets takes in and gives out tables: items, stock, listings, suppliers, purchases, transfers and what else
// people keep in spreadsheets.
package sheets

import (
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/partners"
	"openrelay/internal/relay/shipping"
)

// Sheets takes in tables.
type Sheets struct {
	*engine.Engine
	Inventory *inventory.Inventory
	Listing   *listing.Listing
	Shipping  *shipping.Shipping
	Partners  *partners.Partners
}

// New makes the sheets of a company.
func New(e *engine.Engine, inv *inventory.Inventory, l *listing.Listing, s *shipping.Shipping, p *partners.Partners) *Sheets {
	return &Sheets{Engine: e, Inventory: inv, Listing: l, Shipping: s, Partners: p}
}
