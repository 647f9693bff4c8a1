// Package shipping brings parcels out: picking and packing, the choice of a service, labels and handovers, and the
// dispatches that warehouses and carriers tell.
package shipping

import (
	"sync"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
)

// Shipping brings parcels out.
type Shipping struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory
	Orders    *orders.Orders

	tariffMu sync.Mutex
	tariffs  map[int64]tariffAt // by connection
}

// New makes the shipping of a company.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, o *orders.Orders) *Shipping {
	r := &Shipping{Engine: e, Exchange: x, Inventory: inv, Orders: o, tariffs: map[int64]tariffAt{}}
	e.AddSettingKind(engine.SettingKind{Kind: RoundRuleKind, Read: r.readRoundRule, Write: r.writeRoundRule, Unmake: r.DropRoundRule})
	return r
}
