package wire

import (
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// Level is stock of an item at a location.
type Level struct {
	SKU          string `json:"sku"`
	Name         string `json:"name"`
	Category     string `json:"category"`
	Location     string `json:"location" doc:"Code"`
	LocationName string `json:"location_name"`
	Bin          string `json:"bin" doc:"Where it usually lies"`
	OnHand       int64  `json:"on_hand"`
	Allocated    int64  `json:"allocated"`
	Available    int64  `json:"available"`
	OnOrder      int64  `json:"on_order"`
	InTransit    int64  `json:"in_transit"`
	Bins         []Bin  `json:"bins,omitempty"`
}

// Bin is what lies in a bin.
type Bin struct {
	Bin    string `json:"bin"`
	OnHand int64  `json:"on_hand"`
}

// Movement is a ledger entry.
type Movement struct {
	ID        int64      `json:"id"`
	At        *time.Time `json:"at"`
	Kind      string     `json:"kind"`
	OnHand    int64      `json:"on_hand" doc:"Change"`
	Allocated int64      `json:"allocated" doc:"Change"`
	OnOrder   int64      `json:"on_order" doc:"Change"`
	InTransit int64      `json:"in_transit" doc:"Change"`
	Bin       string     `json:"bin,omitempty"`
	After     int64      `json:"after" doc:"On hand at the location after it"`
	Reason    string     `json:"reason"`
	Who       string     `json:"who"`
	Document  string     `json:"document,omitempty" doc:"Number of the order, purchase, transfer or count behind it"`
	DocKind   string     `json:"doc_kind,omitempty"`
	Location  string     `json:"location"`
}

// Promise is an order that holds stock.
type Promise struct {
	OrderNumber string `json:"order_number"`
	Stage       string `json:"stage"`
	Location    string `json:"location"`
	Quantity    int64  `json:"quantity"`
}

// ItemView is an item with its stock, its listings and the ledger.
type ItemView struct {
	Item      catalog.Item   `json:"item"`
	Levels    []Level        `json:"levels"`
	Promised  []Promise      `json:"promised"`
	Movements []Movement     `json:"movements"`
	Listings  []Listing      `json:"listings"`
	Kits      []string       `json:"kits" doc:"Kits that it is part of"`
	Serials   []store.Serial `json:"serials"`
	Barred    string         `json:"barred,omitempty" doc:"Why it cannot be sold"`
	Timeline  []Entry        `json:"timeline"`
}

// OfferView is the sum behind the quantity of a listing.
type OfferView struct {
	Item      store.Item   `json:"item"`
	Listing   Listing      `json:"listing"`
	At        *time.Time   `json:"at,omitempty" doc:"The moment that was asked for; without it now"`
	Shows     int64        `json:"shows" doc:"What the channel showed then"`
	Known     bool         `json:"known" doc:"Whether that is known"`
	How       string       `json:"how" doc:"How it is known: told by us, or seen there"`
	Since     *time.Time   `json:"since,omitempty"`
	Allowed   int64        `json:"allowed" doc:"What the policy allowed then"`
	Steps     []stock.Step `json:"steps"`
	Waiting   *Outbox      `json:"waiting,omitempty" doc:"A correction on its way"`
	Promised  []Promise    `json:"promised"`
	Movements []Movement   `json:"movements"`
}

// Difference is a listing that does not show what it should.
type Difference struct {
	Connection     string     `json:"connection"`
	ConnectionName string     `json:"connection_name"`
	Item           string     `json:"item"`
	Name           string     `json:"name"`
	SKU            string     `json:"sku"`
	Shows          int64      `json:"shows"`
	Should         int64      `json:"should"`
	Guess          string     `json:"guess" doc:"What may be behind it"`
	SeenAt         *time.Time `json:"seen_at"`
}
