package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) movements(list []store.MovementRow) []wire.Movement {
	out := make([]wire.Movement, len(list))
	for i, m := range list {
		out[i] = wire.Movement{ID: m.ID, At: at(m.At), Kind: m.Kind, OnHand: m.OnHand, Allocated: m.Allocated, OnOrder: m.OnOrder,
			InTransit: m.InTransit, Bin: m.Bin, After: m.AfterOnHand, Reason: m.Reason, Who: m.Who, Document: m.Document,
			DocKind: m.DocKind, Location: a.relay.Place(m.LocationID).Name}
	}
	return out
}

func (a *API) promises(list []store.OpenAllocation) []wire.Promise {
	out := make([]wire.Promise, len(list))
	for i, p := range list {
		out[i] = wire.Promise{OrderNumber: p.OrderNumber, Stage: p.Stage, Location: a.relay.Place(p.LocationID).Name, Quantity: p.Quantity}
	}
	return out
}

// AtInput asks for a moment of the past.
type AtInput struct {
	At time.Time `query:"at" doc:"A moment of the last 90 days (RFC 3339); without it now"`
}

func (a *API) stockRoutes() {
	op(a, person.Look, http.MethodGet, "/stock", "stock", "Levels by item and location", a.stock)
	op(a, person.Look, http.MethodGet, "/items/{sku}", "item", "An item with stock, ledger and listings", a.item)
	op(a, person.KeepStock, http.MethodPost, "/items/{sku}/adjust", "adjust", "Change what lies at a location", a.adjust)
	op(a, person.KeepStock, http.MethodPost, "/items/{sku}/rebin", "rebin", "Move goods from bin to bin", a.rebin)
	op(a, person.Look, http.MethodGet, "/connections/{code}/listings/{sku}/why", "why",
		"Why does a channel show this quantity, now or at a moment of the last 90 days", a.why)
	op(a, person.Look, http.MethodGet, "/compare", "compare",
		"What channels show beside what they should, as they were last read", a.compare)
	op(a, person.KeepStock, http.MethodPost, "/compare/correct", "correct",
		"Send the right quantity for every listing that differs", a.correct)
	op(a, person.KeepStock, http.MethodPost, "/stock/rehearse-sharing", "rehearse-sharing",
		"What sharing the last units among channels would have made of past sales; nothing is changed", a.rehearseSharing)
	op(a, person.KeepStock, http.MethodPost, "/compare/read", "read-listings", "Read what the channels show now", a.readListings)
}

type sharingInput struct {
	Body inventory.SharingRehearsal
}

func (a *API) rehearseSharing(ctx context.Context, in *sharingInput) (*body[inventory.SharingRehearsed], error) {
	out, err := a.relay.RehearseSharing(ctx, in.Body)
	return &body[inventory.SharingRehearsed]{out}, err
}

type stockListInput struct {
	PageInput
	Search   string `query:"q" maxLength:"100"`
	Location string `query:"location"`
	State    string `query:"state" enum:"negative,short,low,coming," doc:"negative: below nothing; short: nothing available; low: under five; coming: ordered or under way"`
	After    string `query:"after" doc:"Keyset: SKU and location of the last row"`
}

func (a *API) stock(ctx context.Context, in *stockListInput) (*paged[wire.Level], error) {
	f := store.StockFilter{Search: strings.TrimSpace(in.Search), Location: in.Location, State: in.State, Limit: in.Limit}
	var locText string
	f.AfterSKU, locText, _ = strings.Cut(in.After, "|")
	fmt.Sscan(locText, &f.AfterLocation)
	list, err := a.relay.Store.ListStock(ctx, f)
	out := &paged[wire.Level]{Body: make([]wire.Level, len(list))}
	for i, r := range list {
		out.Body[i] = wire.Level{SKU: r.SKU, Name: r.Name, Category: r.Category, Location: r.LocationCode,
			LocationName: r.LocationName, Bin: r.Bin, OnHand: r.OnHand, Allocated: r.Allocated, Available: r.OnHand - r.Allocated,
			OnOrder: r.OnOrder, InTransit: r.InTransit, Bins: nil}
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
}

type itemInput struct {
	SKUInput
	AtInput
	Before int64 `query:"before" doc:"Ledger entries with smaller ids"`
}

func (a *API) itemView(ctx context.Context, sku string, before int64, moment time.Time) (*body[wire.ItemView], error) {
	w, err := a.relay.WhyLevel(ctx, sku, before, moment)
	if err != nil {
		return nil, fmt.Errorf("item %s: %w", sku, err)
	}
	v := wire.ItemView{Item: w.Item, Levels: []wire.Level{}, Promised: a.promises(w.Promised), Movements: a.movements(w.Movements),
		Listings: []wire.Listing{}, Kits: w.Kits, Serials: w.Serials, Barred: w.Barred}
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
		row := wire.Level{SKU: w.Item.SKU, Name: w.Item.Name, Category: w.Item.Category, Location: p.Code, LocationName: p.Name,
			Bin: w.Usual[p.ID], OnHand: l.OnHand, Allocated: l.Allocated, Available: l.Available(), OnOrder: l.OnOrder,
			InTransit: l.InTransit, Bins: nil}
		for _, b := range w.Bins {
			if b.LocationID == p.ID && moment.IsZero() {
				row.Bins = append(row.Bins, wire.Bin{Bin: b.Bin, OnHand: b.OnHand})
			}
		}
		v.Levels = append(v.Levels, row)
	}
	for _, l := range w.Listings {
		v.Listings = append(v.Listings, listingShown(l.Listing, w.Item.SKU, l.Allowed, l.On))
	}
	tl, err := a.relay.Store.Timeline(ctx, "item", w.Item.ID)
	v.Timeline = a.entries(ctx, tl)
	return &body[wire.ItemView]{v}, err
}

func (a *API) item(ctx context.Context, in *itemInput) (*body[wire.ItemView], error) {
	return a.itemView(ctx, in.SKU, in.Before, in.At)
}

type adjustInput struct {
	SKUInput
	Key  string `header:"Idempotency-Key"`
	Body inventory.Adjustment
}

func (a *API) adjust(ctx context.Context, in *adjustInput) (*body[wire.ItemView], error) {
	in.Body.SKU = in.SKU
	if err := a.relay.Adjust(ctx, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.itemView(ctx, in.SKU, 0, time.Time{})
}

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

func (a *API) rebin(ctx context.Context, in *rebinInput) (*body[wire.ItemView], error) {
	b := in.Body
	if err := a.relay.Rebin(ctx, in.SKU, b.Location, b.From, b.To, b.Quantity, b.Usual, who(ctx)); err != nil {
		return nil, err
	}
	return a.itemView(ctx, in.SKU, 0, time.Time{})
}

type whyInput struct {
	Code string `path:"code"`
	SKU  string `path:"sku" maxLength:"80" doc:"SKU of the listing, or the channel's number"`
	AtInput
}

func (a *API) why(ctx context.Context, in *whyInput) (*body[wire.OfferView], error) {
	w, err := a.relay.WhyOffer(ctx, in.Code, in.SKU, in.At)
	if err != nil {
		return nil, fmt.Errorf("listing %s at %s: %w", in.SKU, in.Code, err)
	}
	v := wire.OfferView{Item: w.Item, Listing: listingShown(w.Listing, w.Item.SKU, w.Allowed, w.On), At: timeAt(w.At),
		Shows: w.Shows, Known: w.Known, How: w.How, Since: at(w.Since), Allowed: w.Allowed,
		Steps: w.Steps, Promised: a.promises(w.Promised), Movements: a.movements(w.Movements)}
	if w.Open != nil {
		m := outbox(ctx, *w.Open)
		v.Waiting = &m
	}
	return &body[wire.OfferView]{v}, nil
}

type compareInput struct {
	Connection string `query:"connection" doc:"Code; empty compares all"`
}

func (a *API) compare(ctx context.Context, in *compareInput) (*body[wire.Compared], error) {
	list, n, err := a.relay.Compare(ctx, in.Connection)
	out := wire.Compared{Compared: n, Differences: make([]wire.Difference, len(list))}
	for i, d := range list {
		out.Differences[i] = wire.Difference{Connection: d.ConnectionCode, ConnectionName: d.ConnectionName,
			Item: d.Item.SKU, Name: d.Item.Name, SKU: d.SKU, Shows: d.SeenQty, Should: d.Should, Guess: d.Guess,
			SeenAt: at(d.Since)}
	}
	return &body[wire.Compared]{out}, err
}

type correctInput struct {
	Body struct {
		Connection string `json:"connection,omitempty" doc:"Code; empty corrects all"`
	}
}

func (a *API) correct(ctx context.Context, in *correctInput) (*body[wire.Corrected], error) {
	n, err := a.relay.Correct(ctx, in.Body.Connection, who(ctx))
	return &body[wire.Corrected]{wire.Corrected{Corrected: n}}, err
}

type readInput struct {
	Body struct {
		Connection string `json:"connection,omitempty" doc:"Code; empty reads all"`
	}
}

func (a *API) readListings(ctx context.Context, in *readInput) (*body[wire.ReadBegun], error) {
	codes, err := a.relay.ReadListings(ctx, in.Body.Connection, who(ctx))
	if codes == nil {
		codes = []string{}
	}
	return &body[wire.ReadBegun]{wire.ReadBegun{Reading: codes}}, err
}
