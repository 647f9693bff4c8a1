package relay

import (
	"context"
	"errors"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// stockLevel takes in a quantity that the other side tells: a count of a place that it keeps, or an edit at a
// channel, which by setting is taken in or put back.
func (b *batch) stockLevel(in store.InboxMessage, m *message.StockLevel) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	if m.Cause == "sale" || m.Cause == "ours" {
		b.skip(in, y, map[string]string{"sale": "sales come as orders", "ours": "our own doing"}[m.Cause], "no edit: "+m.Cause)
		return nil
	}
	set := b.c.settings()
	place := m.Location
	if ours, ok := set.Locations[place]; ok {
		place = ours
	}
	if place != "" {
		if l, err := b.r.location(place); err == nil && l.Keeper == b.c.id {
			return b.countAs(in, y, m, l)
		}
	}
	if b.c.rec().Side != "channel" {
		if set.StockIn != "take in" {
			return b.putBack(in, y, m, "")
		}
		return b.countAs(in, y, m, store.Location{Code: place})
	}
	if set.StockIn != "take in" {
		return b.putBack(in, y, m, "")
	}
	return b.edited(in, y, m, place)
}

// putBack notes an edit at a channel and sends our quantity again. why says what else is to be said.
func (b *batch) putBack(in store.InboxMessage, y *store.Tally, m *message.StockLevel, why string) error {
	l, err := b.ch.Seen(b.c.id, m.Listing, m.SKU, m.Quantity, b.ch.now)
	if errors.Is(err, store.ErrNotFound) {
		b.skip(in, y, "no such listing", "no listing with SKU "+m.SKU)
		return nil
	}
	if err != nil {
		return err
	}
	y.Changed++
	b.settle(in, "done", "", 0)
	if l.ItemID == 0 {
		return nil
	}
	name := b.c.rec().Name
	if err := b.ch.Note(store.Entry{At: b.ch.now.UnixMicro(), Who: name, Thing: "item", ThingID: l.ItemID, What: "edited at the channel",
		Text: fmt.Sprintf("%s set %s to %d at %s; our quantity is sent again%s", or(m.Who, "Somebody"), or(l.SKU, m.SKU), m.Quantity, name, why)}); err != nil {
		return err
	}
	book, err := b.r.book(b.ch, []int64{l.ItemID})
	if err != nil {
		return err
	}
	return b.r.queueOffers(b.ch, book, []int64{l.ItemID})
}

// edited takes an edit at a channel in: what the person changed there is changed here, and every channel
// hears of it.
func (b *batch) edited(in store.InboxMessage, y *store.Tally, m *message.StockLevel, place string) error {
	if b.c.rec().Test {
		b.skip(in, y, "the connection is in test", "the connection is in test; no stock moves")
		return nil
	}
	l, err := b.ch.Seen(b.c.id, m.Listing, m.SKU, m.Quantity, b.ch.now)
	if errors.Is(err, store.ErrNotFound) {
		b.skip(in, y, "no such listing", "no listing with SKU "+m.SKU)
		return nil
	}
	if err != nil {
		return err
	}
	if l.ItemID == 0 {
		b.skip(in, y, "the listing is no item of ours", "listing "+l.OutsideID+" is not matched")
		return nil
	}
	w, err := b.r.waresNow(b.ch)
	if err != nil {
		return err
	}
	goods := w.goods(l.ItemID)
	if len(goods.Parts) > 0 || goods.NoStock {
		return b.putBack(in, y, m, "; it has no stock of its own that could be changed")
	}
	at, err := b.placeOf(l, place)
	if err != nil {
		b.skip(in, y, "no such location", err.Error())
		return nil
	}
	told := stock.Told{Quantity: l.ToldQty, At: store.Time(l.ToldAt)}
	if told.Open, err = b.ch.OpenFor(b.c.id, "stock out", offerSubject(l.ID)); err != nil {
		return err
	}
	if f, _ := b.r.feed(b.c, "orders in"); f.ID != 0 {
		told.OrdersSeen = store.Time(f.LastOKAt)
	}
	change, clear, why := stock.Word{Shows: m.Quantity, Change: m.Change, At: m.At}.Meaning(told)
	name := b.c.rec().Name
	if !clear {
		b.ch.tell("exception", "")
		if err := b.ch.Raise(store.Exception{Cause: editUnclear, ItemID: l.ItemID, ConnectionID: b.c.id, Text: fmt.Sprintf("%s set %s to %d at %s, but %s: by how much it was changed cannot be told", or(m.Who, "Somebody"), l.SKU, m.Quantity, name, why),
			Expected: "A count of what lies there. Our quantity was put back at the channel."}, b.ch.now); err != nil {
			return err
		}
		return b.putBack(in, y, m, "; "+why)
	}
	y.Changed++
	b.settle(in, "done", "", 0)
	book, err := b.r.book(b.ch, []int64{l.ItemID})
	if err != nil {
		return err
	}
	if change == 0 {
		return nil
	}
	book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: at.ID}, At: b.ch.now, Kind: stock.Edit, OnHand: change,
		Reason: fmt.Sprintf("set to %d at %s by %s", m.Quantity, name, or(m.Who, "somebody there")), Who: name, DocKind: "message", DocID: in.ID})
	return b.r.post(b.ch, book)
}

// noticed looks at a quantity that was read where it is not what the channel was told. One that is seen a
// second time, while nothing of ours is on its way, was set there by somebody: by setting it is taken in, as
// far as it is clear what was meant, or put back.
func (r *Relay) noticed(ch *change, c *conn, before *store.Listing, shows int64) error {
	if before.ToldQty < 0 || shows == before.ToldQty || shows != before.SeenQty || c.rec().Test || c.line().Def.Feeds["stock in"] != nil && c.rec().Side == "channel" && c.line().TellsEdits() {
		return nil
	}
	if f, _ := r.feed(c, "stock out"); !f.On {
		return nil
	}
	open, err := ch.OpenFor(c.id, "stock out", offerSubject(before.ID))
	if err != nil || open {
		return err
	}
	since, err := ch.ShownSince(before.ID, shows)
	if err != nil {
		return err
	}
	told := stock.Told{Quantity: before.ToldQty, At: store.Time(before.ToldAt)}
	if f, _ := r.feed(c, "orders in"); f.ID != 0 {
		told.OrdersSeen = store.Time(f.LastOKAt)
	}
	by, clear, _ := stock.Word{Shows: shows, At: since}.Meaning(told)
	if !clear {
		return nil // the next reading tells more
	}
	w, err := r.waresNow(ch)
	if err != nil {
		return err
	}
	book, err := r.book(ch, []int64{before.ItemID})
	if err != nil {
		return err
	}
	name := c.rec().Name
	set := c.settings()
	goods := w.goods(before.ItemID)
	sources := set.Offer.With(before.Override()).Sources
	if set.StockIn == "take in" && len(goods.Parts) == 0 && !goods.NoStock && len(sources) > 0 && r.Place(sources[0]).Keeper == 0 {
		book.Post(stock.Movement{Key: stock.Key{Item: before.ItemID, Location: sources[0]}, At: ch.now, Kind: stock.Edit, OnHand: by, Reason: fmt.Sprintf("set to %d at %s", shows, name), Who: name, DocKind: "listing", DocID: before.ID})
		return r.post(ch, book)
	}
	if err := ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: name, Thing: "item", ThingID: before.ItemID, What: "edited at the channel",
		Text: fmt.Sprintf("%s shows %d of %s, which nobody here sent; our quantity is sent again", name, shows, or(before.SKU, before.Title))}); err != nil {
		return err
	}
	return r.queueListings(ch, w, []store.Listing{*before}, book.Level)
}

// placeOf is the location that an edit at a channel concerns: the one that is named, or the first that feeds
// the listing. Its word must be ours.
func (b *batch) placeOf(l store.Listing, place string) (store.Location, error) {
	var at store.Location
	if place != "" {
		var err error
		if at, err = b.r.location(place); err != nil {
			return at, err
		}
	} else if s := b.c.settings().Offer.With(l.Override()).Sources; len(s) > 0 {
		at = b.r.Place(s[0])
	}
	if at.ID == 0 {
		return at, Refuse("the message names no location and the connection has none")
	}
	if at.Keeper != 0 && at.Keeper != b.c.id {
		return at, Refuse("the word of another system counts at %s", at.Name)
	}
	return at, nil
}

// countAs books a told quantity as a count.
func (b *batch) countAs(in store.InboxMessage, y *store.Tally, m *message.StockLevel, at store.Location) error {
	if b.c.rec().Test {
		b.skip(in, y, "the connection is in test", "the connection is in test; no stock moves")
		return nil
	}
	id, err := b.itemOf(m)
	if err != nil {
		return err
	}
	if id == 0 {
		b.skip(in, y, "no such item", "no item with SKU "+m.SKU)
		return nil
	}
	if at.ID == 0 && at.Code != "" {
		if at, err = b.r.location(at.Code); err != nil {
			b.skip(in, y, "no such location", err.Error())
			return nil
		}
	} else if s := b.c.settings().Offer.Sources; at.ID == 0 && len(s) > 0 {
		at = b.r.Place(s[0])
	}
	if at.ID == 0 {
		b.skip(in, y, "no location", "the message names no location and the connection has none")
		return nil
	}
	if at.Keeper != 0 && at.Keeper != b.c.id {
		b.skip(in, y, "another system keeps the place", "the word of another system counts at "+at.Name)
		return nil
	}
	book, err := b.r.book(b.ch, []int64{id})
	if err != nil {
		return err
	}
	k := stock.Key{Item: id, Location: at.ID}
	by := m.Quantity - book.Level(k).OnHand
	b.settle(in, "done", "", 0)
	y.Changed++
	if at.Keeper != 0 && !m.At.IsZero() {
		if err := b.ch.Word(id, at.ID, m.At); err != nil {
			return err
		}
	}
	if by == 0 {
		return nil
	}
	book.Post(stock.Movement{Key: k, At: b.ch.now, Kind: stock.Count, OnHand: by, Reason: fmt.Sprintf("counted as %d by %s", m.Quantity, or(m.Who, b.c.rec().Name)), Who: b.c.rec().Name, DocKind: "message", DocID: in.ID})
	return b.r.post(b.ch, book)
}

// itemOf finds the item that a told quantity is about: by the listing it names, or by SKU.
func (b *batch) itemOf(m *message.StockLevel) (int64, error) {
	l, err := b.ch.ListingFor(b.c.id, m.Listing, m.SKU)
	if err == nil && l.ItemID != 0 {
		return l.ItemID, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	items, err := b.ch.ItemsBySKU([]string{m.SKU})
	return items[m.SKU], err
}

// Difference is a listing that shows another quantity than it should.
type Difference struct {
	store.Listing
	Should int64
	Item   store.Item
	Guess  string // what may be behind it
	Since  int64  // when it was seen
}

// Compare lists the listings of a connection, or of all, that do not show what they should, and have no
// correction on the way.
func (r *Relay) Compare(ctx context.Context, code string) ([]Difference, int, error) {
	var out []Difference
	compared := 0
	for _, c := range r.sorted() {
		if code != "" && c.rec().Code != code || c.rec().State != store.On {
			continue
		}
		if f, _ := r.feed(c, "stock out"); !f.On {
			continue
		}
		list, err := r.Store.ListingsOf(ctx, c.id)
		if err != nil {
			return nil, 0, err
		}
		ids := map[int64]bool{}
		for _, l := range list {
			ids[l.ItemID] = true
		}
		w := r.wares.Load()
		levels, err := r.levels(ctx, keys(ids))
		if err != nil {
			return nil, 0, err
		}
		open, err := r.Store.OpenSubjects(ctx, c.id, "stock out")
		if err != nil {
			return nil, 0, err
		}
		items, err := r.Store.Items(ctx, keys(ids))
		if err != nil {
			return nil, 0, err
		}
		for _, l := range list {
			if l.ItemID == 0 || !takesQuantity(&l) {
				continue
			}
			compared++
			should := c.allowed(w, &l, func(k stock.Key) stock.Level { return levels[k] })
			if should == l.SeenQty || open[offerSubject(l.ID)] {
				continue
			}
			d := Difference{Listing: l, Should: should, Item: items[l.ItemID], Since: l.SeenAt}
			switch {
			case l.ToldQty < 0:
				d.Guess = "nothing was told to the channel yet"
			case l.ToldQty == should:
				d.Guess = fmt.Sprintf("it was told %d and shows a number that nobody sent", l.ToldQty)
			default:
				d.Guess = fmt.Sprintf("it was last told %d", l.ToldQty)
			}
			out = append(out, d)
		}
	}
	return out, compared, nil
}

// Correct sends the right quantity for the listings that differ, of one connection or of all, and returns
// how many.
func (r *Relay) Correct(ctx context.Context, code, who string) (int, error) {
	list, _, err := r.Compare(ctx, code)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	ids := map[int64]bool{}
	for _, d := range list {
		ids[d.ItemID] = true
	}
	return len(list), r.commit(ctx, func(ch *change) error {
		book, err := r.book(ch, keys(ids))
		if err != nil {
			return err
		}
		w, err := r.waresNow(ch)
		if err != nil {
			return err
		}
		var listings []store.Listing
		for _, d := range list {
			listings = append(listings, d.Listing)
			if err := ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "item", ThingID: d.ItemID, What: "corrected",
				Text: fmt.Sprintf("%s showed %d of %s and should show %d; corrected", d.ConnectionName, d.SeenQty, or(d.SKU, d.Title), d.Should)}); err != nil {
				return err
			}
		}
		ch.tell("stock", "")
		return r.queueListings(ch, w, listings, book.Level)
	})
}
