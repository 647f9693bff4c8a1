// Package joining joins connections and lets them go: access, settings, the first import, switches, set-ups that can be
// carried from one company to another.
package joining

import (
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/partners"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/routing"
	"openrelay/internal/relay/views"
)

// Joining joins connections.
type Joining struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory
	Listing   *listing.Listing
	Orders    *orders.Orders
	Views     *views.Views
	Keeping   *keeping.Keeping
	People    *people.People
	Routing   *routing.Routing
	Partners  *partners.Partners
}

// New makes the joining of a company.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, l *listing.Listing, o *orders.Orders, v *views.Views,
	k *keeping.Keeping, p *people.People, places *routing.Routing,
	ships *partners.Partners) *Joining {
	r := &Joining{Engine: e, Exchange: x, Inventory: inv, Listing: l, Orders: o, Views: v, Keeping: k, People: p, Routing: places,
		Partners: ships}
	r.keepsSettings()
	return r
}
