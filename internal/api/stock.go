package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/person"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
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

func (a *API) movements(list []store.MovementRow) []Movement {
	out := make([]Movement, len(list))
	for i, m := range list {
		out[i] = Movement{m.ID, at(m.At), m.Kind, m.OnHand, m.Allocated, m.OnOrder, m.InTransit, m.Bin, m.AfterOnHand, m.Reason, m.Who, m.Document, m.DocKind, a.relay.Place(m.LocationID).Name}
	}
	return out
}

func (a *API) promises(list []store.OpenAllocation) []Promise {
	out := make([]Promise, len(list))
	for i, p := range list {
		out[i] = Promise{p.OrderNumber, p.Stage, a.relay.Place(p.LocationID).Name, p.Quantity}
	}
	return out
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

// AtInput asks for a moment of the past.
type AtInput struct {
	At time.Time `query:"at" doc:"A moment of the last 90 days (RFC 3339); without it now"`
}

func (a *API) stock() {
	type listInput struct {
		PageInput
		Search   string `query:"q" maxLength:"100"`
		Location string `query:"location"`
		State    string `query:"state" enum:"negative,short,low,coming," doc:"negative: below nothing; short: nothing available; low: under five; coming: ordered or under way"`
		After    string `query:"after" doc:"Keyset: SKU and location of the last row"`
	}
	op(a, person.Viewer, http.MethodGet, "/stock", "stock", "Levels by item and location", func(ctx context.Context, in *listInput) (*paged[Level], error) {
		f := store.StockFilter{Search: strings.TrimSpace(in.Search), Location: in.Location, State: in.State, Limit: in.Limit}
		var locText string
		f.AfterSKU, locText, _ = strings.Cut(in.After, "|")
		fmt.Sscan(locText, &f.AfterLocation)
		list, err := a.relay.Store.ListStock(ctx, f)
		out := &paged[Level]{Body: make([]Level, len(list))}
		for i, r := range list {
			out.Body[i] = Level{r.SKU, r.Name, r.Category, r.LocationCode, r.LocationName, r.Bin, r.OnHand, r.Allocated, r.OnHand - r.Allocated, r.OnOrder, r.InTransit, nil}
		}
		if len(list) == in.Limit {
			q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
			for k, v := range map[string]string{"q": in.Search, "location": in.Location, "state": in.State} {
				if v != "" {
					q.Set(k, v)
				}
			}
			last := list[len(list)-1]
			out.Link = next("/stock", q, "after", fmt.Sprintf("%s|%d", last.SKU, last.LocationID))
		}
		return out, err
	})
	type itemInput struct {
		SKUInput
		AtInput
		Before int64 `query:"before" doc:"Ledger entries with smaller ids"`
	}
	view := func(ctx context.Context, sku string, before int64, moment time.Time) (*body[ItemView], error) {
		w, err := a.relay.WhyLevel(ctx, sku, before, moment)
		if err != nil {
			return nil, fmt.Errorf("item %s: %w", sku, err)
		}
		v := ItemView{Item: w.Item, Levels: []Level{}, Promised: a.promises(w.Promised), Movements: a.movements(w.Movements), Listings: []Listing{}, Kits: w.Kits, Serials: w.Serials, Barred: w.Barred}
		if v.Serials == nil {
			v.Serials = []store.Serial{}
		}
		locs, err := a.relay.Store.Locations(ctx)
		if err != nil {
			return nil, err
		}
		for _, p := range locs {
			l, ok := w.Levels[stock.Key{Item: w.Item.ID, Location: p.ID}]
			if !ok {
				continue
			}
			row := Level{w.Item.SKU, w.Item.Name, w.Item.Category, p.Code, p.Name, w.Usual[p.ID], l.OnHand, l.Allocated, l.Available(), l.OnOrder, l.InTransit, nil}
			for _, b := range w.Bins {
				if b.LocationID == p.ID && moment.IsZero() {
					row.Bins = append(row.Bins, Bin{b.Bin, b.OnHand})
				}
			}
			v.Levels = append(v.Levels, row)
		}
		for _, l := range w.Listings {
			v.Listings = append(v.Listings, listingShown(l.Listing, w.Item.SKU, l.Allowed, l.On))
		}
		tl, err := a.relay.Store.Timeline(ctx, "item", w.Item.ID)
		v.Timeline = a.entries(ctx, tl)
		return &body[ItemView]{v}, err
	}
	op(a, person.Viewer, http.MethodGet, "/items/{sku}", "item", "An item with stock, ledger and listings", func(ctx context.Context, in *itemInput) (*body[ItemView], error) {
		return view(ctx, in.SKU, in.Before, in.At)
	})
	type adjustInput struct {
		SKUInput
		Key  string `header:"Idempotency-Key"`
		Body inventory.Adjustment
	}
	op(a, person.Operator, http.MethodPost, "/items/{sku}/adjust", "adjust", "Change what lies at a location", func(ctx context.Context, in *adjustInput) (*body[ItemView], error) {
		in.Body.SKU = in.SKU
		if err := a.relay.Adjust(ctx, in.Body, who(ctx)); err != nil {
			return nil, err
		}
		return view(ctx, in.SKU, 0, time.Time{})
	})
	type rebinInput struct {
		SKUInput
		Key  string `header:"Idempotency-Key"`
		Body struct {
			Location string `json:"location" doc:"Code"`
			From     string `json:"from" maxLength:"40"`
			To       string `json:"to" maxLength:"40"`
			Quantity int64  `json:"quantity" minimum:"0" doc:"Units; 0 only says where it usually lies"`
			Usual    bool   `json:"usual,omitempty" doc:"It usually lies in the new bin from now on"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/items/{sku}/rebin", "rebin", "Move goods from bin to bin", func(ctx context.Context, in *rebinInput) (*body[ItemView], error) {
		b := in.Body
		if err := a.relay.Rebin(ctx, in.SKU, b.Location, b.From, b.To, b.Quantity, b.Usual, who(ctx)); err != nil {
			return nil, err
		}
		return view(ctx, in.SKU, 0, time.Time{})
	})
	type whyInput struct {
		Code string `path:"code"`
		SKU  string `path:"sku" maxLength:"80" doc:"SKU of the listing, or the channel's number"`
		AtInput
	}
	op(a, person.Viewer, http.MethodGet, "/connections/{code}/listings/{sku}/why", "why", "Why does a channel show this quantity, now or at a moment of the last 90 days", func(ctx context.Context, in *whyInput) (*body[OfferView], error) {
		w, err := a.relay.WhyOffer(ctx, in.Code, in.SKU, in.At)
		if err != nil {
			return nil, fmt.Errorf("listing %s at %s: %w", in.SKU, in.Code, err)
		}
		v := OfferView{Item: w.Item, Listing: listingShown(w.Listing, w.Item.SKU, w.Allowed, w.On), At: timeAt(w.At), Shows: w.Shows, Known: w.Known, How: w.How, Since: at(w.Since), Allowed: w.Allowed,
			Steps: w.Steps, Promised: a.promises(w.Promised), Movements: a.movements(w.Movements)}
		if w.Open != nil {
			m := outbox(*w.Open)
			v.Waiting = &m
		}
		return &body[OfferView]{v}, nil
	})
	type compared struct {
		Compared    int          `json:"compared" doc:"Listings that were compared"`
		Differences []Difference `json:"differences"`
	}
	type compareInput struct {
		Connection string `query:"connection" doc:"Code; empty compares all"`
	}
	op(a, person.Viewer, http.MethodGet, "/compare", "compare", "What channels show beside what they should, as they were last read", func(ctx context.Context, in *compareInput) (*body[compared], error) {
		list, n, err := a.relay.Compare(ctx, in.Connection)
		out := compared{Compared: n, Differences: make([]Difference, len(list))}
		for i, d := range list {
			out.Differences[i] = Difference{d.ConnectionCode, d.ConnectionName, d.Item.SKU, d.Item.Name, d.SKU, d.SeenQty, d.Should, d.Guess, at(d.Since)}
		}
		return &body[compared]{out}, err
	})
	type corrected struct {
		Corrected int `json:"corrected"`
	}
	type correctInput struct {
		Body struct {
			Connection string `json:"connection,omitempty" doc:"Code; empty corrects all"`
		}
	}
	op(a, person.Operator, http.MethodPost, "/compare/correct", "correct", "Send the right quantity for every listing that differs", func(ctx context.Context, in *correctInput) (*body[corrected], error) {
		n, err := a.relay.Correct(ctx, in.Body.Connection, who(ctx))
		return &body[corrected]{corrected{n}}, err
	})
	type readInput struct {
		Body struct {
			Connection string `json:"connection,omitempty" doc:"Code; empty reads all"`
		}
	}
	type readOutput struct {
		Reading []string `json:"reading" doc:"Codes of the connections whose listings are being read"`
	}
	op(a, person.Operator, http.MethodPost, "/compare/read", "read-listings", "Read what the channels show now", func(ctx context.Context, in *readInput) (*body[readOutput], error) {
		codes, err := a.relay.ReadListings(ctx, in.Body.Connection, who(ctx))
		if codes == nil {
			codes = []string{}
		}
		return &body[readOutput]{readOutput{codes}}, err
	})
}
