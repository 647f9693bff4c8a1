// Package relay puts the rooms of a running company together and drives them: it registers who is behind which door,
// starts the loops, and is what the interfaces are given. The rooms hold the use cases; core decides.
//
// Each connection has goroutines of its own, one that decides, one that sends, and one per feed that reads, so that a
// slow or hanging system delays nobody but itself.
package relay

import (
	"context"
	"sync/atomic"
	"time"

	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/partners"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/printing"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/routing"
	"openrelay/internal/relay/sheets"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
)

// Relay is a running company: its rooms, which share an engine.
type Relay struct {
	*engine.Engine
	*exchange.Exchange
	*inventory.Inventory
	*listing.Listing
	*orders.Orders
	*shipping.Shipping
	*returning.Returning
	*sheets.Sheets
	*views.Views
	*joining.Joining
	*people.People
	*attention.Attention
	*keeping.Keeping

	Printing *printing.Printing
	Routing  *routing.Routing
	Partners *partners.Partners

	watchAt atomic.Pointer[time.Time] // of a relay that is driven by hand: when it looks again
}

// Open prepares the relay of a company file. Nothing runs until Start.
func Open(ctx context.Context, st *store.Store, o engine.Options) (*Relay, error) {
	e, err := engine.Open(ctx, st, o)
	if err != nil {
		return nil, err
	}
	r := &Relay{Engine: e}
	r.Exchange = exchange.New(e)
	r.Inventory = inventory.New(e)
	r.Listing = listing.New(e, r.Exchange, r.Inventory)
	r.Orders = orders.New(e, r.Exchange, r.Inventory, r.Listing)
	r.Routing = routing.New(e, r.Orders)
	r.Shipping = shipping.New(e, r.Exchange, r.Inventory, r.Orders)
	r.Partners = partners.New(e, r.Exchange, r.Inventory, r.Orders, r.Shipping)
	r.Returning = returning.New(e, r.Exchange, r.Inventory, r.Orders)
	r.Sheets = sheets.New(e, r.Inventory, r.Listing, r.Shipping, r.Partners)
	r.Views = views.New(e, r.Exchange, r.Shipping, r.Returning)
	r.Keeping = keeping.New(e, o.Backups)
	r.People = people.New(e, r.Views)
	r.Joining = joining.New(e, r.Exchange, r.Inventory, r.Listing, r.Orders, r.Views, r.Keeping, r.People, r.Routing,
		r.Partners)
	r.Attention = attention.New(e, r.Exchange)
	r.Printing = printing.New(e)
	r.wire()
	reads := []func(context.Context) error{e.LoadDefinitions, e.CompleteFeeds, e.Reload, r.LoadRules, r.LoadItemKinds, r.Routing.LoadPolicy,
		r.Partners.LoadTerms}
	if o.Bare {
		reads = reads[2:3]
	}
	for _, read := range reads {
		if err := read(ctx); err != nil {
			return nil, err
		}
	}
	return r, nil
}
