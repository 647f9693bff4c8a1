// Package shipping brings parcels out: picking and packing, the choice of a service, labels and handovers, and the
// dispatches that warehouses and carriers tell.
package shipping

import (
	"sync"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
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

	// Collections are when carriers come to places.
	Collections *engine.Table[freight.Collection]

	// Accounts are those on which carriers are paid.
	Accounts *engine.Table[freight.Account]
	// ChargeRules say what is charged for parcels, against what carriers ask.
	ChargeRules *engine.Table[freight.ChargeRule]
	// AddressPolicies say what becomes of addresses; there is one row at most.
	AddressPolicies *engine.Table[AddressPolicy]
	// Declarants are how senders declare parcels that cross a customs border.
	Declarants *engine.Table[customs.Declarant]
	// SenderAddresses are what senders have of their own.
	SenderAddresses *engine.Table[place.SenderAddress]

	// AddressPlaced is told of an order of which it has become known where its address is; nil: nobody wants to know.
	AddressPlaced func(ch *engine.Change, o *order.Order) error

	// BillOfPartner takes a line of a bill that is about a request to a partner, and tells whether it is; nil: there are no partners.
	BillOfPartner func(ch *engine.Change, b Bill) (taken bool, err error)

	tariffMu    sync.Mutex
	leavesKnown sync.Map           // days on which carriers come, looked up within the last minute
	tariffs     map[int64]tariffAt // by connection
	habits      map[habitKey]habitAt
}

// New makes the shipping of a company.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, o *orders.Orders) *Shipping {
	r := &Shipping{Engine: e, Exchange: x, Inventory: inv, Orders: o, tariffs: map[int64]tariffAt{}, habits: map[habitKey]habitAt{}}
	e.AddSettingKind(engine.SettingKind{Kind: RoundRuleKind, Read: r.readRoundRule, Write: r.writeRoundRule, Unmake: r.DropRoundRule})
	r.Collections = &engine.Table[freight.Collection]{Kind: "collections", Most: 500, Check: r.checkCollections}
	r.Accounts = &engine.Table[freight.Account]{Kind: engine.AccountsTable, Most: 2000, Check: r.checkAccounts}
	r.ChargeRules = &engine.Table[freight.ChargeRule]{Kind: "freight rules", Most: 300, Check: r.checkChargeRules}
	r.AddressPolicies = &engine.Table[AddressPolicy]{Kind: "address checks", Most: 1, Check: r.checkAddressPolicy}
	r.Declarants = &engine.Table[customs.Declarant]{Kind: "customs", Most: 200, Check: r.checkDeclarants}
	r.SenderAddresses = &engine.Table[place.SenderAddress]{Kind: "sender addresses", Most: 200, Check: r.checkSenderAddresses}
	for _, k := range []engine.SettingKind{r.Collections.SettingKind(e), r.Accounts.SettingKind(e), r.ChargeRules.SettingKind(e),
		r.AddressPolicies.SettingKind(e), r.Declarants.SettingKind(e), r.SenderAddresses.SettingKind(e)} {
		e.AddSettingKind(k)
	}
	e.AddSettingKind(engine.SettingKind{Kind: ServiceTableKind, Read: r.readServiceTable, Write: r.writeServiceTable})
	return r
}

// sceneOf loads the stock of all that an order wants, for what is decided about it: by the settings of a side, in the name of who.
func (r *Shipping) sceneOf(ch *engine.Change, o *order.Order, side *engine.Conn, who string) (*order.Scene, error) {
	ids := map[int64]bool{}
	orders.ItemsOf(o, ids)
	book, err := r.Inventory.Book(ch, engine.Keys(ids))
	if err != nil {
		return nil, err
	}
	sc, err := r.Orders.SceneFor(side, ch, book, who)
	return sc.Scene, err
}
