package inventory

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ItemKinds knows what is to be known of items that are not simply stocked. It is replaced as a whole when one
// of them changes.
type ItemKinds struct {
	sold map[int64]store.Sold
	kits map[int64][]int64 // component to the kits that have it

	cannot func(location int64, marks []string, country string) string
}

func (r *Inventory) newItemKinds(sold map[int64]store.Sold) *ItemKinds {
	w := &ItemKinds{sold: sold, kits: map[int64][]int64{}, cannot: r.cannot}
	for id, g := range sold {
		for _, c := range g.Parts {
			w.kits[c.Item] = append(w.kits[c.Item], id)
		}
	}
	return w
}

// Goods is what an item sells.
func (w *ItemKinds) Goods(item int64) stock.Goods {
	if g, ok := w.sold[item]; ok {
		return g.Goods
	}
	return stock.One(item)
}

// Sells is what an item is to an order.
func (w *ItemKinds) Sells(item int64) order.Sells {
	return order.Sells{Goods: w.Goods(item), Charge: w.sold[item].Charge}
}

// Needed adds to items the components of those that are kits.
func (w *ItemKinds) Needed(items []int64) []int64 {
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

// Touched adds to items the kits that they are part of.
func (w *ItemKinds) Touched(items []int64) []int64 {
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

// LoadItemKinds reads them anew.
func (r *Inventory) LoadItemKinds(ctx context.Context) error {
	sold, err := r.Store.Special(ctx)
	if err == nil {
		r.ItemKinds.Store(r.newItemKinds(sold))
	}
	return err
}

// ItemKindsNow is what a change must go by: what it has changed itself counts already.
func (r *Inventory) ItemKindsNow(ch *engine.Change) (*ItemKinds, error) {
	if !ch.Recast {
		return r.ItemKinds.Load(), nil
	}
	if w, ok := ch.Memo[itemKindsKey{}].(*ItemKinds); ok {
		return w, nil
	}
	sold, err := ch.Special()
	if err != nil {
		return nil, err
	}
	w := r.newItemKinds(sold)
	ch.Remember(itemKindsKey{}, w)
	return w, nil
}

// itemKindsKey is under which a change remembers the kinds as it has made them.
type itemKindsKey struct{}

// Recast notes that a change makes of an item something else: what was known of kinds counts no more.
func Recast(ch *engine.Change) {
	ch.Recast = true
	delete(ch.Memo, itemKindsKey{})
}

// ItemKindsChanged reads the kinds anew after a change that made items something else.
func (r *Inventory) ItemKindsChanged(ctx context.Context, ch *engine.Change) error {
	if !ch.Recast {
		return nil
	}
	if err := r.LoadItemKinds(ctx); err != nil {
		return fmt.Errorf("items were changed, but what they are could not be read again: %w", err)
	}
	return nil
}

// Book loads the levels of items, and of what kits among them are made of.
func (r *Inventory) Book(ch *engine.Change, items []int64) (*stock.Book, error) {
	w, err := r.ItemKindsNow(ch)
	if err != nil {
		return nil, err
	}
	return ch.Book(w.Needed(items))
}

// Levels loads the levels of items, and of what kits among them are made of.
func (r *Inventory) Levels(ctx context.Context, items []int64) (map[stock.Key]stock.Level, error) {
	return r.Store.Levels(ctx, r.ItemKinds.Load().Needed(items))
}

// Shows is the quantity that a listing shall show: its share, where channels share the last units of its item, else what it may show.
func Shows(c *engine.Conn, w *ItemKinds, l *store.Listing, levels func(stock.Key) stock.Level, shares map[int64]store.Share) int64 {
	policy, _ := w.offered(c, l)
	if share, ok := shares[l.ID]; ok && policy.Shares(w.Goods(l.ItemID), levels) {
		return share.Left
	}
	return policy.Offer(w.Goods(l.ItemID), levels)
}

// Published is the quantity that a listing is published with: where channels share the last units, a new one shows nothing until it has its
// share.
func Published(c *engine.Conn, w *ItemKinds, l *store.Listing, levels func(stock.Key) stock.Level, shares map[int64]store.Share) int64 {
	policy, _ := w.offered(c, l)
	if _, has := shares[l.ID]; !has && policy.Shares(w.Goods(l.ItemID), levels) {
		return 0
	}
	return Shows(c, w, l, levels, shares)
}

// SharesByListing are the shares of the listings of items, by listing.
func (r *Inventory) SharesByListing(ctx context.Context, items []int64) (map[int64]store.Share, error) {
	list, err := r.Store.Shares(ctx, items)
	return ByListing(list), err
}

// ByListing are shares by their listing.
func ByListing(list []store.Share) map[int64]store.Share {
	out := make(map[int64]store.Share, len(list))
	for _, s := range list {
		out[s.ListingID] = s
	}
	return out
}

// barred is a place that does not send a listing's item to its channel's buyers, and why.
type barred struct {
	location int64
	why      string
}

// offered is by which a listing is offered: of its places those that send the item to the channel's buyers, and the others, with why.
func (w *ItemKinds) offered(c *engine.Conn, l *store.Listing) (policy stock.Policy, not []barred) {
	policy = c.Settings().Offer.With(l.Override())
	marks := w.sold[l.ItemID].Marks
	for _, part := range w.sold[l.ItemID].Parts {
		marks = append(marks[:len(marks):len(marks)], w.sold[part.Item].Marks...)
	}
	country := ""
	if site := c.Line().Def.Site(c.Rec().Site); site != nil {
		country = site.Country
	}
	if len(marks) == 0 && country == "" {
		return policy, nil
	}
	kept := make([]int64, 0, len(policy.Sources))
	for _, at := range policy.Sources {
		if why := w.cannot(at, marks, country); why != "" {
			not = append(not, barred{at, why})
			continue
		}
		kept = append(kept, at)
	}
	policy.Sources = kept
	return policy, not
}

func (r *Inventory) cannot(location int64, marks []string, country string) string {
	if r.Cannot == nil {
		return ""
	}
	return r.Cannot(location, marks, country)
}

// SettleOffers works out what every channel that lists the items, or kits made of them, may show, and queues it. A
// quantity that still waits to be sent is replaced, so a burst of sales becomes one message per listing. The quantity is
// sent even if it equals what was sent last: the channel may have changed its own in the meantime, by a sale we have just
// learned of.
func (r *Inventory) SettleOffers(ch *engine.Change, items []int64) error {
	if ch.LateOffers {
		added, err := ch.PutOffersDue(items, ch.Now.Add(offersRest))
		ch.Watch = ch.Watch || added > 0
		return err
	}
	w, err := r.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	listings, err := ch.ListingsOfItems(w.Touched(items))
	if err != nil {
		return err
	}
	for _, id := range items {
		ch.Tell("stock", fmt.Sprint(id))
	}
	return r.queueListings(ch, w, listings, nil)
}

// offersRest is how long what is told late waits for more of its kind, and offersAtOnce for how many items it is told in one change.
const (
	offersRest   = 300 * time.Millisecond
	offersAtOnce = 200
)

// OffersDue tells channels of items that many changes have moved. It returns when to look again.
func (r *Inventory) OffersDue(ctx context.Context) (time.Time, error) {
	next, err := r.Store.NextOffersDue(ctx)
	for err == nil && !next.IsZero() && !next.After(r.Clock()) {
		err = r.Commit(ctx, func(ch *engine.Change) error {
			items, err := ch.TakeOffersDue(ch.Now, offersAtOnce)
			ch.Mark(engine.StockMoved, items...)
			return err
		})
		if err == nil {
			next, err = r.Store.NextOffersDue(ctx)
		}
	}
	return next, err
}

// SettleListings queues the quantities that listings may show.
func (r *Inventory) SettleListings(ch *engine.Change, ids []int64) error {
	w, err := r.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	listings, err := ch.ListingsByID(ids)
	if err != nil {
		return err
	}
	return r.queueListings(ch, w, listings, ids)
}

// queueListings queues the quantities of listings by the levels as the change has made them. forced are those that are told even where
// they share and show what they shall.
func (r *Inventory) queueListings(ch *engine.Change, w *ItemKinds, listings []store.Listing, forced []int64) error {
	need := map[int64]bool{}
	for _, l := range listings {
		if l.ItemID != 0 {
			need[l.ItemID] = true
		}
	}
	if len(need) == 0 {
		return nil
	}
	book, err := ch.Book(w.Needed(engine.Keys(need)))
	if err != nil {
		return err
	}
	return r.queueListingsOf(ch, w, listings, book.Level, nil, forced)
}

// queueListingsOf queues the quantities of listings; on is a connection whose feed the change switches on.
func (r *Inventory) queueListingsOf(ch *engine.Change, w *ItemKinds, listings []store.Listing, levels func(stock.Key) stock.Level,
	on *engine.Conn, forced []int64) error {
	sharing := map[int64]bool{} // items of which the last units are shared
	list := make([]store.OutboxMessage, 0, min(len(listings), mostQueued))
	for i := range listings {
		l := &listings[i]
		c := r.ByID(l.ConnectionID)
		if c == nil || l.ItemID == 0 || !r.isTold(c, l, on) {
			continue
		}
		policy, _ := w.offered(c, l)
		if policy.ShareBelow > 0 {
			if policy.Shares(w.Goods(l.ItemID), levels) && !c.Rec().Test {
				sharing[l.ItemID] = true
				continue
			}
			if err := ch.DropShare(l.ID); err != nil {
				return err
			}
		}
		quantity := policy.Offer(w.Goods(l.ItemID), levels)
		if quantity <= lastUnits {
			ch.After(func() { c.LastUnits.Store(true) })
		}
		payload, err := json.Marshal(message.Offer{ListingID: l.ID, OutsideID: l.OutsideID, SKU: l.SKU, Quantity: quantity})
		if err != nil {
			return err
		}
		list = append(list, store.OutboxMessage{ConnectionID: l.ConnectionID, Feed: message.StockOut, Subject: OfferSubject(l.ID),
			Payload: string(payload)})
		if len(list) == mostQueued {
			if err := r.QueueMany(ch, list); err != nil {
				return err
			}
			list = list[:0]
		}
	}
	for _, item := range engine.Keys(sharing) {
		if err := r.shareOut(ch, w, item, levels, forced); err != nil {
			return err
		}
	}
	return r.QueueMany(ch, list)
}

// mostQueued is how many quantities are put into the outbox at once.
const mostQueued = 500

// isTold tells whether a channel is told the quantity of a listing now; on is a connection whose feed the change switches on.
func (r *Inventory) isTold(c *engine.Conn, l *store.Listing, on *engine.Conn) bool {
	if f, _ := r.Feed(c, message.StockOut); !f.On && c != on || c.Rec().State != store.On {
		return false // a connection that is paused keeps its quantities waiting
	}
	if c.Rec().Test && c.Line().Def.Test == nil {
		return false // the other side cannot be told that it is a test, so it is told nothing
	}
	return takesQuantity(l) // else it is sent when the channel has it
}

// States of a listing that we give it ourselves; others are the channel's.
const (
	ListingSubmitted = "submitted"
	listingInReview  = "in review"
	ListingRejected  = "rejected"
	ListingLive      = "live"
	ListingGone      = "sold there" // known from orders only: the channel lists it no more
	listingOff       = "off"
)

// takesQuantity tells whether the channel has the listing, so that a quantity can be told for it.
func takesQuantity(l *store.Listing) bool {
	return l.State != ListingGone && l.State != ListingSubmitted && l.State != listingInReview && l.State != ListingRejected
}

// lastUnits is the quantity from which down a channel is told at once: each sale on its way there may be one too many.
const lastUnits = 3

func OfferSubject(listing int64) string { return fmt.Sprintf("listing %d", listing) }

// QuantityTold notes a quantity that the channel accepted. What was only a test changed nothing there.
func (r *Inventory) QuantityTold(ch *engine.Change, c *engine.Conn, m *store.OutboxMessage, _ any) error {
	var offer message.Offer
	if err := json.Unmarshal([]byte(m.Payload), &offer); err != nil {
		return err
	}
	if c.Rec().Test {
		m.Answer = fmt.Sprintf("%d accepted as a test", offer.Quantity)
		return nil
	}
	m.Answer = fmt.Sprintf("%d accepted", offer.Quantity)
	if newer, err := ch.Overtaken(*m); err != nil || newer {
		return err // a newer one was told since, or will be
	}
	shared, err := ch.ShareAccepted(offer.ListingID, ch.Now)
	if err != nil {
		return err
	}
	ch.Mark(engine.ShareTold, shared)
	return ch.Told(offer.ListingID, offer.Quantity, ch.Now)
}

// QueueAllOffers queues the quantity of every matched listing of a connection.
func (r *Inventory) QueueAllOffers(ch *engine.Change, c *engine.Conn) error {
	listings, err := ch.MatchedListings(c.Rec().ID)
	if err != nil {
		return err
	}
	need := map[int64]bool{}
	for _, l := range listings {
		need[l.ItemID] = true
	}
	book, err := r.Book(ch, engine.Keys(need))
	if err != nil {
		return err
	}
	w, err := r.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	var forced []int64 // what shows there while its feed was off nobody knows; else a share that is right is not told again
	if f, _ := r.Feed(c, message.StockOut); !f.On {
		for i := range listings {
			forced = append(forced, listings[i].ID)
		}
	}
	return r.queueListingsOf(ch, w, listings, book.Level, c, forced) // its feed is on by this very change, or was
}
