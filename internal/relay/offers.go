package relay

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// wares knows what is to be known of items that are not simply stocked. It is replaced as a whole when one
// of them changes.
type wares struct {
	sold map[int64]store.Sold
	kits map[int64][]int64 // component to the kits that have it
}

func newWares(sold map[int64]store.Sold) *wares {
	w := &wares{sold: sold, kits: map[int64][]int64{}}
	for id, g := range sold {
		for _, c := range g.Parts {
			w.kits[c.Item] = append(w.kits[c.Item], id)
		}
	}
	return w
}

// goods is what an item sells.
func (w *wares) goods(item int64) stock.Goods {
	if g, ok := w.sold[item]; ok {
		return g.Goods
	}
	return stock.One(item)
}

// sells is what an item is to an order.
func (w *wares) sells(item int64) order.Sells {
	return order.Sells{Goods: w.goods(item), Charge: w.sold[item].Charge}
}

// needed adds to items the components of those that are kits.
func (w *wares) needed(items []int64) []int64 {
	out := items
	for _, id := range items {
		for _, c := range w.sold[id].Parts {
			if !slices.Contains(out, c.Item) {
				out = append(out[:len(out):len(out)], c.Item)
			}
		}
	}
	return out
}

// touched adds to items the kits that they are part of.
func (w *wares) touched(items []int64) []int64 {
	if len(w.kits) == 0 {
		return items
	}
	out := items
	for _, id := range items {
		for _, kit := range w.kits[id] {
			if !slices.Contains(out, kit) {
				out = append(out[:len(out):len(out)], kit)
			}
		}
	}
	return out
}

// loadWares reads them anew.
func (r *Relay) loadWares(ctx context.Context) error {
	sold, err := r.Store.Special(ctx)
	if err == nil {
		r.wares.Store(newWares(sold))
	}
	return err
}

// waresNow is what a change must go by: what it has changed itself counts already.
func (r *Relay) waresNow(ch *change) (*wares, error) {
	if !ch.recast {
		return r.wares.Load(), nil
	}
	if w, ok := ch.memo[waresKey{}].(*wares); ok {
		return w, nil
	}
	sold, err := ch.Special()
	if err != nil {
		return nil, err
	}
	w := newWares(sold)
	ch.remember(waresKey{}, w)
	return w, nil
}

// waresKey is under which a change remembers the wares as it has made them.
type waresKey struct{}

// recast notes that a change makes of an item something else: what was known of wares counts no more.
func recast(ch *change) {
	ch.recast = true
	delete(ch.memo, waresKey{})
}

// waresChanged reads the wares anew after a change that made items something else.
func (r *Relay) waresChanged(ctx context.Context, ch *change) error {
	if !ch.recast {
		return nil
	}
	if err := r.loadWares(ctx); err != nil {
		return fmt.Errorf("items were changed, but what they are could not be read again: %w", err)
	}
	return nil
}

// book loads the levels of items, and of what kits among them are made of.
func (r *Relay) book(ch *change, items []int64) (*stock.Book, error) {
	w, err := r.waresNow(ch)
	if err != nil {
		return nil, err
	}
	return ch.Book(w.needed(items))
}

// levels loads the levels of items, and of what kits among them are made of.
func (r *Relay) levels(ctx context.Context, items []int64) (map[stock.Key]stock.Level, error) {
	return r.Store.Levels(ctx, r.wares.Load().needed(items))
}

// allowed is the quantity that a listing may show.
func (c *conn) allowed(w *wares, l *store.Listing, levels func(stock.Key) stock.Level) int64 {
	return c.settings().Offer.With(l.Override()).Offer(w.goods(l.ItemID), levels)
}

// queueOffers works out what every channel that lists the items, or kits made of them, may show, and queues
// it. A quantity that still waits to be sent is replaced, so a burst of sales becomes one message per
// listing. The quantity is sent even if it equals what was sent last: the channel may have changed its own
// in the meantime, by a sale we have just learned of.
func (r *Relay) queueOffers(ch *change, book *stock.Book, items []int64) error {
	w, err := r.waresNow(ch)
	if err != nil {
		return err
	}
	touched := w.touched(items)
	if len(touched) > len(items) { // the other components of kits
		levels, err := ch.Levels(w.needed(touched[len(items):]))
		if err != nil {
			return err
		}
		book.Know(levels)
	}
	listings, err := ch.ListingsOfItems(touched)
	if err != nil {
		return err
	}
	if err := r.queueListings(ch, w, listings, book.Level); err != nil {
		return err
	}
	for _, id := range items {
		ch.tell("stock", fmt.Sprint(id))
	}
	return nil
}

// queueListings queues the quantities of listings.
func (r *Relay) queueListings(ch *change, w *wares, listings []store.Listing, levels func(stock.Key) stock.Level) error {
	return r.queueListingsOf(ch, w, listings, levels, nil)
}

// queueListingsOf queues the quantities of listings; on is a connection whose feed the change switches on.
func (r *Relay) queueListingsOf(ch *change, w *wares, listings []store.Listing, levels func(stock.Key) stock.Level, on *conn) error {
	for i := range listings {
		l := &listings[i]
		c := r.byID(l.ConnectionID)
		if c == nil || l.ItemID == 0 {
			continue
		}
		if f, _ := r.feed(c, "stock out"); !f.On && c != on || c.rec().State != store.On {
			continue // a connection that is paused keeps its quantities waiting
		}
		if c.rec().Test && c.line().Def.Test == nil {
			continue // the other side cannot be told that it is a test, so it is told nothing
		}
		if !takesQuantity(l) {
			continue // it is sent when the channel has it
		}
		payload, err := json.Marshal(message.Offer{ListingID: l.ID, OutsideID: l.OutsideID, SKU: l.SKU, Quantity: c.allowed(w, l, levels)})
		if err != nil {
			return err
		}
		if _, err := r.queue(ch, store.OutboxMessage{ConnectionID: l.ConnectionID, Feed: "stock out", Subject: offerSubject(l.ID), Payload: string(payload)}); err != nil {
			return err
		}
	}
	return nil
}

// States of a listing that we give it ourselves; others are the channel's.
const (
	listingSubmitted = "submitted"
	listingInReview  = "in review"
	listingRejected  = "rejected"
	listingLive      = "live"
	listingGone      = "sold there" // known from orders only: the channel lists it no more
	listingOff       = "off"
)

// takesQuantity tells whether the channel has the listing, so that a quantity can be told for it.
func takesQuantity(l *store.Listing) bool {
	return l.State != listingGone && l.State != listingSubmitted && l.State != listingInReview && l.State != listingRejected
}

func offerSubject(listing int64) string { return fmt.Sprintf("listing %d", listing) }

// quantityTold notes a quantity that the channel accepted. What was only a test changed nothing there.
func (r *Relay) quantityTold(ch *change, c *conn, m *store.OutboxMessage, _ any) error {
	var offer message.Offer
	if err := json.Unmarshal([]byte(m.Payload), &offer); err != nil {
		return err
	}
	if c.rec().Test {
		m.Answer = fmt.Sprintf("%d accepted as a test", offer.Quantity)
		return nil
	}
	m.Answer = fmt.Sprintf("%d accepted", offer.Quantity)
	if newer, err := ch.Overtaken(*m); err != nil || newer {
		return err // a newer one was told since, or will be
	}
	return ch.Told(offer.ListingID, offer.Quantity, ch.now)
}

// queueAllOffers queues the quantity of every matched listing of a connection.
func (r *Relay) queueAllOffers(ch *change, c *conn) error {
	listings, err := ch.MatchedListings(c.rec().ID)
	if err != nil {
		return err
	}
	need := map[int64]bool{}
	for _, l := range listings {
		need[l.ItemID] = true
	}
	book, err := r.book(ch, keys(need))
	if err != nil {
		return err
	}
	w, err := r.waresNow(ch)
	if err != nil {
		return err
	}
	return r.queueListingsOf(ch, w, listings, book.Level, c) // its feed is on by this very change, or was
}
