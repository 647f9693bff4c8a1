package orders

import (
	"context"
	"errors"
	"fmt"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/store"
)

// Known is what a person did about something that a channel sells and nobody here knew.
type Known struct {
	SKU     string `json:"sku" doc:"The item that it is now"`
	Created bool   `json:"created"`
	Freed   int    `json:"freed" doc:"Orders that go on"`
}

// MakeKnown says which item of ours is sold under a SKU at a channel: one that exists, or, with create, a new one
// of this very SKU. Where the channel lists it, its listing is matched; where it does not any more, we remember it
// all the same. All orders that wait for it go on, and later ones do not wait.
func (r *Orders) MakeKnown(ctx context.Context, code, sold, sku string, create bool, who string) (Known, error) {
	c := r.ByCode(code)
	if c == nil {
		return Known{}, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	out := Known{SKU: sku, Created: create}
	waiting := func() (int64, error) {
		return r.Store.OrdersOfGroup(ctx, store.Group{Cause: order.UnknownItem, ConnectionID: c.ID, Subject: sold})
	}
	before, err := waiting()
	if err != nil {
		return out, err
	}
	listing, err := r.Store.Listing(ctx, code, sold)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return out, err
	case create:
		out.SKU, err = r.Listing.CreateFrom(ctx, listing.ID, sku, who)
		if err != nil {
			return out, err
		}
	default:
		if err := r.Listing.Match(ctx, listing.ID, sku, false, who); err != nil {
			return out, err
		}
	}
	if listing.ID == 0 {
		if out.SKU, err = r.makeSoldKnown(ctx, c, sold, sku, create, who); err != nil {
			return out, err
		}
	}
	after, err := waiting()
	out.Freed = int(before - after)
	return out, err
}

// makeSoldKnown remembers which item a SKU is that a channel sold and lists no more, and returns the item's SKU.
func (r *Orders) makeSoldKnown(ctx context.Context, c *engine.Conn, sold, sku string, create bool, who string) (string, error) {
	title := sold
	if o, err := r.Store.UnknownTitle(ctx, c.ID, sold); err == nil && o != "" {
		title = o
	}
	err := r.Commit(ctx, func(ch *engine.Change) error {
		item, err := int64(0), error(nil)
		if create {
			it := catalog.Item{SKU: engine.Or(sku, sold), Name: title, Currency: r.Currency()}
			it.Complete(r.Currency())
			if err := it.Check(); err != nil {
				return engine.Refuse("%v", err)
			}
			sku = it.SKU
			item, err = r.Listing.AddItem(ch, it, who, fmt.Sprintf("%s added from orders of %s", it.Name, c.Rec().Name))
		} else {
			var items map[string]int64
			items, err = ch.ItemsBySKU([]string{sku})
			if item = items[sku]; err == nil && item == 0 {
				return engine.Refuse("there is no item %s", sku)
			}
		}
		if err != nil {
			return err
		}
		l := store.Listing{ConnectionID: c.ID, OutsideID: "sold:" + sold, SKU: sold, Title: title, Currency: r.Currency(), ItemID: item,
			MatchedBy: catalog.ByPerson, State: inventory.ListingGone}
		if _, err := ch.PutListing(&l, ch.Now); err != nil {
			return err
		}
		ch.Tell("listing", "")
		ch.Mark(engine.ListingKnown, l.ID)
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: item, What: "matched",
			Text: fmt.Sprintf("%s sold at %s is this item", sold, c.Rec().Name)})
	})
	return sku, err
}

// MayBe is an item that something unknown may be, and why.
type MayBe struct {
	SKU   string   `json:"sku"`
	Name  string   `json:"name"`
	Score int64    `json:"score" doc:"How sure, 0 to 100"`
	Why   []string `json:"why"`
}

// MayBe suggests which items an unknown SKU of a channel may be, the likeliest first.
func (r *Orders) MayBe(ctx context.Context, code, sold string) ([]MayBe, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	l, err := r.Store.Listing(ctx, code, sold)
	if errors.Is(err, store.ErrNotFound) {
		l = store.Listing{SKU: sold}
		if l.Title, err = r.Store.UnknownTitle(ctx, c.ID, sold); errors.Is(err, store.ErrNotFound) {
			err = nil
		}
	}
	if err != nil {
		return nil, err
	}
	x, err := r.Listing.Index(ctx, true)
	if err != nil {
		return nil, err
	}
	out := []MayBe{}
	for _, s := range x.Suggest(listing.Wanted(&l), 4) {
		out = append(out, MayBe{SKU: s.SKU, Name: s.Name, Score: s.Score, Why: s.Reasons})
	}
	return out, nil
}

// Original is a message as it came, what can be read of it, and why it was not taken in.
func (r *Orders) Original(ctx context.Context, id int64) (raw string, read *message.Order, reason string, err error) {
	in, _, err := r.Store.Inbox(ctx, id)
	if err != nil {
		return "", nil, "", err
	}
	b, err := r.Store.InboxRaw(ctx, id)
	if err != nil {
		return "", nil, "", err
	}
	c := r.ByID(in.ConnectionID)
	if c == nil || in.Feed != message.OrdersIn {
		return string(b), nil, "", nil
	}
	u := exchange.MapSafely(c, func() (any, error) { return c.Line().Map(in.Feed, in.Via, b) })
	if u.Err != nil {
		reason = u.Err.Error()
	}
	if o, ok := u.Msg.(*message.Order); ok {
		read = o
	}
	return string(b), read, reason, nil
}
