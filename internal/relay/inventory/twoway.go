package inventory

import (
	"context"
	"errors"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeStockLevel takes in a quantity that the other side tells: a count of a place that it keeps, or an edit at a
// channel, which by setting is taken in or put back.
func (r *Inventory) TakeStockLevel(b *exchange.Batch, in store.InboxMessage, m *message.StockLevel) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	if m.Cause == "sale" || m.Cause == "ours" {
		b.Skip(in, y, map[string]string{"sale": "sales come as orders", "ours": "our own doing"}[m.Cause], "no edit: "+m.Cause)
		return nil
	}
	set := b.C.Settings()
	place := m.Location
	if ours, ok := set.Locations[place]; ok {
		place = ours
	}
	if own := r.PlacesOf(b.C.ID); place == "" && len(own) == 1 && b.C.Rec().Side != "channel" {
		place = r.Place(own[0]).Code
	}
	if place != "" {
		if l, err := r.Location(place); err == nil && l.Keeper == b.C.ID {
			return r.countAs(b, in, y, m, l)
		}
	}
	if b.C.Rec().Side != "channel" {
		if set.StockIn != "take in" {
			return r.putBack(b, in, y, m, "")
		}
		return r.countAs(b, in, y, m, store.Location{Code: place})
	}
	if set.StockIn != "take in" {
		return r.putBack(b, in, y, m, "")
	}
	return r.edited(b, in, y, m, place)
}

// putBack notes an edit at a channel and sends our quantity again. why says what else is to be said.
func (r *Inventory) putBack(b *exchange.Batch, in store.InboxMessage, y *store.Tally, m *message.StockLevel, why string) error {
	l, err := b.Ch.Seen(b.C.ID, m.Listing, m.SKU, m.Quantity, b.Ch.Now)
	if errors.Is(err, store.ErrNotFound) {
		b.Skip(in, y, "no such listing", "no listing with SKU "+m.SKU)
		return nil
	}
	if err != nil {
		return err
	}
	y.Changed++
	b.Settle(in, "done", "", 0)
	if l.ItemID == 0 {
		return nil
	}
	name := b.C.Rec().Name
	if err := b.Ch.Note(store.Entry{At: b.Ch.Now.UnixMicro(), Who: name, Thing: "item", ThingID: l.ItemID, What: "edited at the channel",
		Text: fmt.Sprintf("%s set %s to %d at %s; our quantity is sent again%s", engine.Or(m.Who, "Somebody"), engine.Or(l.SKU, m.SKU),
			m.Quantity, name, why)}); err != nil {
		return err
	}
	b.Ch.Mark(engine.StockMoved, l.ItemID)
	return nil
}

// edited takes an edit at a channel in: what the person changed there is changed here, and every channel
// hears of it.
func (r *Inventory) edited(b *exchange.Batch, in store.InboxMessage, y *store.Tally, m *message.StockLevel, place string) error {
	if b.C.Rec().Test {
		b.Skip(in, y, "the connection is in test", "the connection is in test; no stock moves")
		return nil
	}
	l, err := b.Ch.Seen(b.C.ID, m.Listing, m.SKU, m.Quantity, b.Ch.Now)
	if errors.Is(err, store.ErrNotFound) {
		b.Skip(in, y, "no such listing", "no listing with SKU "+m.SKU)
		return nil
	}
	if err != nil {
		return err
	}
	if l.ItemID == 0 {
		b.Skip(in, y, "the listing is no item of ours", "listing "+l.OutsideID+" is not matched")
		return nil
	}
	w, err := r.ItemKindsNow(b.Ch)
	if err != nil {
		return err
	}
	goods := w.Goods(l.ItemID)
	if len(goods.Parts) > 0 || goods.NoStock {
		return r.putBack(b, in, y, m, "; it has no stock of its own that could be changed")
	}
	at, err := r.placeOf(b, l, place)
	if err != nil {
		b.Skip(in, y, "no such location", err.Error())
		return nil
	}
	told, err := r.toldOf(b.Ch, b.C, &l)
	if err != nil {
		return err
	}
	change, clear, why := stock.Word{Shows: m.Quantity, Change: m.Change, At: m.At}.Meaning(told)
	name := b.C.Rec().Name
	if !clear {
		if err := raiseUnclear(b, l, m, why); err != nil {
			return err
		}
		return r.putBack(b, in, y, m, "; "+why)
	}
	y.Changed++
	b.Settle(in, "done", "", 0)
	book, err := r.Book(b.Ch, []int64{l.ItemID})
	if err != nil {
		return err
	}
	if change == 0 {
		return nil
	}
	if err := r.noteEdited(b.Ch, &l, change); err != nil {
		return err
	}
	book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: at.ID}, At: b.Ch.Now, Kind: stock.Edit, OnHand: change,
		Reason: fmt.Sprintf("set to %d at %s by %s", m.Quantity, name, engine.Or(m.Who, "somebody there")), Who: name, DocKind: "message",
		DocID: in.ID})
	return r.Post(b.Ch, book)
}

// toldOf is how a listing stands with its channel. One that shares the last units is told nothing when it sells: it shows what is left.
func (r *Inventory) toldOf(ch *engine.Change, c *engine.Conn, l *store.Listing) (told stock.Told, err error) {
	told = stock.Told{Quantity: l.ToldQty, At: store.Time(l.ToldAt)}
	if told.Open, err = ch.OpenFor(c.ID, message.StockOut, OfferSubject(l.ID)); err != nil {
		return told, err
	}
	if f, _ := r.Feed(c, message.OrdersIn); f.ID != 0 {
		told.OrdersSeen = store.Time(f.LastOKAt)
	}
	rows, err := ch.Shares([]int64{l.ItemID})
	if s, ok := ByListing(rows)[l.ID]; ok {
		told.Quantity, told.Open = s.Left, told.Open || s.Before+s.Doubt > 0
	}
	return told, err
}

// raiseUnclear says that an edit cannot be told apart from sales and sends.
func raiseUnclear(b *exchange.Batch, l store.Listing, m *message.StockLevel, why string) error {
	b.Ch.Tell("exception", "")
	return b.Ch.Raise(store.Exception{Cause: engine.EditUnclear, ItemID: l.ItemID, ConnectionID: b.C.ID,
		Text: fmt.Sprintf("%s set %s to %d at %s, but %s: by how much it was changed cannot be told", engine.Or(m.Who, "Somebody"), l.SKU,
			m.Quantity, b.C.Rec().Name, why),
		Expected: "A count of what lies there. Our quantity was put back at the channel."}, b.Ch.Now)
}

// Noticed looks at a quantity that was read where it is not what the channel was told. One that is seen a
// second time, while nothing of ours is on its way, was set there by somebody: by setting it is taken in, as
// far as it is clear what was meant, or put back.
func (r *Inventory) Noticed(ch *engine.Change, c *engine.Conn, before *store.Listing, shows int64) error {
	if shows == before.ToldQty && c.Settings().Offer.With(before.Override()).ShareBelow == 0 {
		return nil
	}
	if before.ToldQty < 0 || shows != before.SeenQty || c.Rec().Test ||
		c.Line().Def.Feeds[message.StockIn] != nil && c.Rec().Side == "channel" && c.Line().TellsEdits() {
		return nil
	}
	if f, _ := r.Feed(c, message.StockOut); !f.On {
		return nil
	}
	told, err := r.toldOf(ch, c, before)
	if err != nil || told.Open || shows == told.Quantity {
		return err
	}
	since, err := ch.ShownSince(before.ID, shows)
	if err != nil {
		return err
	}
	by, clear, _ := stock.Word{Shows: shows, At: since}.Meaning(told)
	if !clear {
		return nil // the next reading tells more
	}
	w, err := r.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	name := c.Rec().Name
	set := c.Settings()
	goods := w.Goods(before.ItemID)
	sources := set.Offer.With(before.Override()).Sources
	if set.StockIn == "take in" && len(goods.Parts) == 0 && !goods.NoStock && len(sources) > 0 && r.Place(sources[0]).Keeper == 0 {
		book, err := r.Book(ch, []int64{before.ItemID})
		if err != nil {
			return err
		}
		if err := r.noteEdited(ch, before, by); err != nil {
			return err
		}
		book.Post(stock.Movement{Key: stock.Key{Item: before.ItemID, Location: sources[0]}, At: ch.Now, Kind: stock.Edit, OnHand: by,
			Reason: fmt.Sprintf("set to %d at %s", shows, name), Who: name, DocKind: "listing", DocID: before.ID})
		return r.Post(ch, book)
	}
	if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: name, Thing: "item", ThingID: before.ItemID, What: "edited at the channel",
		Text: fmt.Sprintf("%s shows %d of %s, which nobody here sent; our quantity is sent again", name, shows,
			engine.Or(before.SKU, before.Title))}); err != nil {
		return err
	}
	ch.Mark(engine.ListingMoved, before.ID)
	return nil
}

// placeOf is the location that an edit at a channel concerns: the one that is named, or the first that feeds
// the listing. Its word must be ours.
func (r *Inventory) placeOf(b *exchange.Batch, l store.Listing, place string) (store.Location, error) {
	var at store.Location
	if place != "" {
		var err error
		if at, err = r.Location(place); err != nil {
			return at, err
		}
	} else if s := b.C.Settings().Offer.With(l.Override()).Sources; len(s) > 0 {
		at = r.Place(s[0])
	}
	if at.ID == 0 {
		return at, engine.Refuse("the message names no location and the connection has none")
	}
	if at.Keeper != 0 && at.Keeper != b.C.ID {
		return at, engine.Refuse("the word of another system counts at %s", at.Name)
	}
	return at, nil
}

// countAs books a told quantity as a count.
func (r *Inventory) countAs(b *exchange.Batch, in store.InboxMessage, y *store.Tally, m *message.StockLevel, at store.Location) error {
	if b.C.Rec().Test {
		b.Skip(in, y, "the connection is in test", "the connection is in test; no stock moves")
		return nil
	}
	id, err := r.itemOf(b, m)
	if err != nil {
		return err
	}
	if id == 0 {
		b.Skip(in, y, "no such item", "no item with SKU "+m.SKU)
		return nil
	}
	if at.ID == 0 && at.Code != "" {
		if at, err = r.Location(at.Code); err != nil {
			b.Skip(in, y, "no such location", err.Error())
			return nil
		}
	} else if s := b.C.Settings().Offer.Sources; at.ID == 0 && len(s) > 0 {
		at = r.Place(s[0])
	}
	if at.ID == 0 {
		b.Skip(in, y, "no location", "the message names no location and the connection has none")
		return nil
	}
	if at.Keeper != 0 && at.Keeper != b.C.ID {
		b.Skip(in, y, "another system keeps the place", "the word of another system counts at "+at.Name)
		return nil
	}
	book, err := r.Book(b.Ch, []int64{id})
	if err != nil {
		return err
	}
	k := stock.Key{Item: id, Location: at.ID}
	by := m.Quantity - book.Level(k).OnHand
	b.Settle(in, "done", "", 0)
	y.Changed++
	if err := r.differs(b, k, book.Level(k).OnHand, m.Quantity); err != nil {
		return err
	}
	if at.Keeper != 0 && !m.At.IsZero() {
		if err := b.Ch.Word(id, at.ID, m.At); err != nil {
			return err
		}
	}
	if by == 0 {
		return nil
	}
	book.Post(stock.Movement{Key: k, At: b.Ch.Now, Kind: stock.Count, OnHand: by,
		Reason: fmt.Sprintf("counted as %d by %s", m.Quantity, engine.Or(m.Who, b.C.Rec().Name)), Who: b.C.Rec().Name, DocKind: "message",
		DocID: in.ID})
	return r.Post(b.Ch, book)
}

// differs keeps it where a partner's word is another than our books, after it has had a word of the item before: somebody looks at why.
func (r *Inventory) differs(b *exchange.Batch, k stock.Key, ours, theirs int64) error {
	if ours == theirs || r.Place(k.Location).Keeper != b.C.ID || !engine.TakesRequests(b.C) {
		return nil
	}
	before, err := b.Ch.Words(k.Location, []int64{k.Item})
	if err != nil || before[k.Item].IsZero() {
		return err
	}
	if err := b.Ch.AddStockDifference(store.StockDifference{ConnectionID: b.C.ID, LocationID: k.Location, ItemID: k.Item, Ours: ours,
		Theirs: theirs}, b.Ch.Now); err != nil {
		return err
	}
	b.Ch.Tell("partner", b.C.Rec().Code)
	return r.RaiseDifferences(b.Ch, b.C)
}

// RaiseDifferences says once for each partner that its stock is another than our books; it ends when somebody has looked at each.
func (r *Inventory) RaiseDifferences(ch *engine.Change, c *engine.Conn) error {
	n, err := ch.OpenStockDifferences(c.ID)
	if err != nil {
		return err
	}
	ch.Tell("exception", "")
	if n == 0 {
		return ch.CloseConnectionException(c.ID, engine.StockDiffers, ch.Now)
	}
	return ch.Raise(store.Exception{Cause: engine.StockDiffers, ConnectionID: c.ID,
		Text: fmt.Sprintf("%s counts %s otherwise than our books. Its word was taken.", c.Rec().Name, engine.Counted(n, "item",
			"items")),
		Expected: "A look at each: what was lost, broken or found there (Partners, Stock). This is over when each was looked at.",
		Standing: true}, ch.Now)
}

// itemOf finds the item that a told quantity is about: by what a partner calls it, the listing it names, or by SKU.
func (r *Inventory) itemOf(b *exchange.Batch, m *message.StockLevel) (int64, error) {
	if engine.TakesRequests(b.C) && m.SKU != "" {
		if item, err := b.Ch.ItemOfPartner(b.C.ID, m.SKU); err != nil || item != 0 {
			return item, err
		}
	}
	l, err := b.Ch.ListingFor(b.C.ID, m.Listing, m.SKU)
	if err == nil && l.ItemID != 0 {
		return l.ItemID, nil
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return 0, err
	}
	items, err := b.Ch.ItemsBySKU([]string{m.SKU})
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
func (r *Inventory) Compare(ctx context.Context, code string) ([]Difference, int, error) {
	var out []Difference
	compared := 0
	for _, c := range r.Sorted() {
		if code != "" && c.Rec().Code != code || c.Rec().State != store.On {
			continue
		}
		if f, _ := r.Feed(c, message.StockOut); !f.On {
			continue
		}
		list, err := r.Store.ListingsOf(ctx, c.ID)
		if err != nil {
			return nil, 0, err
		}
		ids := map[int64]bool{}
		for _, l := range list {
			ids[l.ItemID] = true
		}
		w := r.ItemKinds.Load()
		levels, err := r.Levels(ctx, engine.Keys(ids))
		open, err1 := r.Store.OpenSubjects(ctx, c.ID, message.StockOut)
		items, err2 := r.Store.Items(ctx, engine.Keys(ids))
		shares, err3 := r.SharesByListing(ctx, engine.Keys(ids))
		if err := errors.Join(err, err1, err2, err3); err != nil {
			return nil, 0, err
		}
		for _, l := range list {
			if l.ItemID == 0 || !takesQuantity(&l) {
				continue
			}
			compared++
			should := Shows(c, w, &l, func(k stock.Key) stock.Level { return levels[k] }, shares)
			if s, ok := shares[l.ID]; ok && l.SeenQty >= s.Left-s.Doubt && l.SeenQty <= max(l.ToldQty, s.Left) {
				continue // it is told nothing when it sells of its share, so it is seen between that and what is left
			}
			if should == l.SeenQty || open[OfferSubject(l.ID)] {
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
func (r *Inventory) Correct(ctx context.Context, code, who string) (int, error) {
	list, _, err := r.Compare(ctx, code)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	return len(list), r.Commit(ctx, func(ch *engine.Change) error {
		for _, d := range list {
			ch.Mark(engine.ListingMoved, d.Listing.ID)
			if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: d.ItemID, What: "corrected",
				Text: fmt.Sprintf("%s showed %d of %s and should show %d; corrected", d.ConnectionName, d.SeenQty,
					engine.Or(d.SKU, d.Title), d.Should)}); err != nil {
				return err
			}
		}
		ch.Tell("stock", "")
		return nil
	})
}
