// Package inventory keeps stock: what lies where, what is promised, what each listing may show, what suppliers and
// transfers bring, and what channels say that they have.
package inventory

import (
	"sync"
	"sync/atomic"

	"openrelay/internal/relay/engine"
)

// Inventory keeps stock.
type Inventory struct {
	*engine.Engine

	ItemKinds atomic.Pointer[ItemKinds] // what is made of what, as memory knows it

	// Cannot says why a location does not send an item with some marks to the buyers of a country (empty: any); "": it does. The room
	// that chooses places knows it. nil: all send everything.
	Cannot func(location int64, marks []string, country string) string

	paceMu sync.Mutex
	paces  map[int64]paces // by item
}

// New makes the inventory of a company; LoadItemKinds reads it.
func New(e *engine.Engine) *Inventory { return &Inventory{Engine: e} }
