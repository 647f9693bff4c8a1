package listing

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// Matcher keeps the index by which listings are matched, and makes it anew when items have changed.
type Matcher struct {
	mu    sync.Mutex
	index *catalog.Index
	old   bool
}

// ItemsChanged lets the index be made anew after a change of items.
func (r *Listing) ItemsChanged(_ context.Context, ch *engine.Change) error {
	if ch.ItemsMoved {
		r.match.stale()
	}
	return nil
}

func (m *Matcher) stale() {
	m.mu.Lock()
	m.old = true
	m.mu.Unlock()
}

// Index returns the index. One that is a little old will do where only its vocabulary is asked for.
func (r *Listing) Index(ctx context.Context, fresh bool) (*catalog.Index, error) {
	m := &r.match
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.index != nil && !(m.old && fresh) {
		return m.index, nil
	}
	items, err := r.Store.Known(ctx)
	if err != nil {
		return nil, err // it stays old: the next who asks tries again
	}
	m.old = false
	m.index = catalog.NewIndex(items)
	return m.index, nil
}

// Wanted is a listing as matching sees it.
func Wanted(l *store.Listing) catalog.Wanted {
	return catalog.Wanted{SKU: l.SKU, GTIN: l.GTIN, Title: l.Title, Price: l.Price, Currency: l.Currency}
}

// The ways in which a listing may be matched without a person, as settings name them.
var matchWays = map[string]string{catalog.BySKU: "sku", catalog.ByNear: "near sku", catalog.ByGTIN: "gtin"}

// MatchListing finds the item of a listing that has none, where it is beyond doubt and the settings allow it,
// and notes in the listing what was found or stood in the way.
func (r *Listing) MatchListing(ch *engine.Change, c *engine.Conn, l *store.Listing) error {
	x, err := r.Index(r.Ctx, false)
	if err != nil {
		return err
	}
	id, err := ch.KnownNumber(c.ID, l.OutsideID)
	if err != nil {
		return err
	}
	if id != 0 {
		l.ItemID, l.MatchedBy = id, catalog.ByNumber
		return nil
	}
	if l.SKU != "" {
		other, err := ch.DoubleSKU(c.ID, l.SKU, l.OutsideID)
		if err != nil {
			return err
		}
		if other != "" {
			l.Doubt = fmt.Sprintf("listing %s there carries the SKU %s, too", other, l.SKU)
			return nil
		}
	}
	f, err := ch.Named(l.SKU, l.GTIN)
	if err != nil {
		return err
	}
	id, by, doubt := x.Decide(Wanted(l), f)
	set := c.Settings()
	switch {
	case id != 0 && set.MatchBy != nil && !slices.Contains(set.MatchBy, matchWays[by]):
		l.Doubt = fmt.Sprintf("%s, which by setting a person decides", by)
	case id != 0:
		l.ItemID, l.MatchedBy = id, by
	default:
		l.Doubt = doubt
		if set.MatchAbove > 0 { // the explicit rule: what is suggested surely enough is applied
			if list := x.Suggest(Wanted(l), 1); len(list) == 1 && list[0].Score >= set.MatchAbove {
				l.ItemID, l.MatchedBy, l.Doubt = list[0].ItemID, catalog.ByRule, ""
			}
		}
	}
	return nil
}

// likelyScore is how sure a suggestion must be to stand against making a new item of a listing.
const likelyScore = 60

// Likely says that a listing is probably an item that we have, or is empty.
func (r *Listing) Likely(l *store.Listing) (string, error) {
	x, err := r.Index(r.Ctx, false)
	if err != nil {
		return "", err
	}
	list := x.Suggest(Wanted(l), 1)
	if len(list) == 0 || list[0].Score < likelyScore {
		return "", nil
	}
	return fmt.Sprintf("it may be %s (%s), which a person decides", list[0].SKU, list[0].Name), nil
}

// TakeListing takes in an item as a channel lists it.
func (r *Listing) TakeListing(b *exchange.Batch, in store.InboxMessage, m *message.Listing) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	l := store.Listing{OutsideID: in.OutsideID}
	before, err := b.Ch.ListingOf(b.C.ID, in.OutsideID)
	known := err == nil
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	isNew, err := r.PutListing(b.Ch, b.C, &l, m)
	if err != nil {
		return err
	}
	switch {
	case isNew:
		y.New++
	case known && sameListing(&before, m):
		y.Skipped++
		y.Reason("nothing new")
	default:
		y.Changed++
	}
	b.Outcomes = append(b.Outcomes, store.InboxOutcome{ID: in.ID, State: "done"})
	// Listings carry no version and are read again and again: only the newest reading is kept.
	return b.Ch.ForgetOlder(in)
}

// sameListing tells whether a channel shows a listing as it did before.
func sameListing(l *store.Listing, m *message.Listing) bool {
	return l.SKU == m.SKU && l.GTIN == m.GTIN && l.Title == m.Title && l.Price == m.Price && l.Currency == m.Currency && l.URL == m.URL &&
		l.SeenQty == m.Quantity &&
		l.State == m.Standing() && l.Reason == m.Reason && l.Category == m.Category
}

// PutListing keeps a listing as the channel shows it, matches it where that is beyond doubt, and lets go on
// what waited for it.
func (r *Listing) PutListing(ch *engine.Change, c *engine.Conn, l *store.Listing, m *message.Listing) (bool, error) {
	l.ConnectionID, l.SKU, l.Title, l.Price, l.Currency, l.URL, l.SeenQty = c.ID, m.SKU, m.Title, m.Price, m.Currency, m.URL, m.Quantity
	l.GTIN, l.State, l.Reason, l.Category = m.GTIN, m.Standing(), m.Reason, m.Category
	l.Live = l.State == inventory.ListingLive
	old, err := ch.ListingOf(c.ID, l.OutsideID)
	if errors.Is(err, store.ErrNotFound) && l.SKU != "" {
		// What we asked for and the channel had not numbered yet is this one.
		if sub, serr := ch.Submitted(c.ID, l.SKU); serr == nil {
			sub.OutsideID = l.OutsideID
			if err := ch.SetListing(sub); err != nil {
				return false, err
			}
			old, err = sub, nil
		}
	}
	switch {
	case errors.Is(err, store.ErrNotFound), err == nil && old.ItemID == 0 && old.IgnoredAt == 0:
		if l.ItemID == 0 {
			if err := r.MatchListing(ch, c, l); err != nil {
				return false, err
			}
		}
	case err != nil:
		return false, err
	default:
		l.ItemID, l.MatchedBy, l.Doubt = old.ItemID, old.MatchedBy, ""
	}
	isNew, err := ch.PutListing(l, ch.Now)
	if err != nil {
		return false, err
	}
	ch.Tell("listing", l.SKU)
	if !isNew && l.ItemID != 0 {
		if err := r.Inventory.Noticed(ch, c, &old, l.SeenQty); err != nil {
			return false, err
		}
	}
	if old.State != "" && old.State != l.State {
		if err := r.listingMoved(ch, c, l, old.State); err != nil {
			return false, err
		}
	}
	if l.ItemID != 0 && (isNew || old.ItemID == 0) {
		Matched(ch, l)
	}
	return isNew, nil
}

// listingMoved notes that the channel now says something else of a listing.
func (r *Listing) listingMoved(ch *engine.Change, c *engine.Conn, l *store.Listing, before string) error {
	if ch.Listed == nil {
		ch.Listed = map[int64]bool{}
	}
	ch.Listed[c.ID] = true
	if l.ItemID == 0 {
		return nil
	}
	text := fmt.Sprintf("%s on %s is %s now (was %s)", engine.Or(l.SKU, l.Title), c.Rec().Name, l.State, before)
	if l.Reason != "" {
		text += ": " + l.Reason
	}
	if l.State == inventory.ListingRejected {
		if err := r.raiseRejected(ch, c, l); err != nil {
			return err
		}
	} else if before == inventory.ListingRejected {
		ch.Tell("exception", "")
		if err := ch.CloseItemException(l.ItemID, c.ID, engine.ListingRejected, ch.Now); err != nil {
			return err
		}
	}
	if l.State == inventory.ListingLive { // what was not sent while it was not there
		ch.Mark(engine.ListingMoved, l.ID)
	}
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: c.Rec().Name, Thing: "item", ThingID: l.ItemID, What: "listing " + l.State,
		Text: text})
}

// raiseRejected says that a channel does not take what we publish of an item.
func (r *Listing) raiseRejected(ch *engine.Change, c *engine.Conn, l *store.Listing) error {
	if l.ItemID == 0 {
		return nil
	}
	ch.Tell("exception", "")
	return ch.Raise(store.Exception{Cause: engine.ListingRejected, ItemID: l.ItemID, ConnectionID: c.ID,
		Text:     fmt.Sprintf("%s rejected %s: %s", c.Rec().Name, engine.Or(l.SKU, l.Title), engine.Or(l.Reason, "without a reason")),
		Expected: "A listing that the channel takes. Correct what it names, then publish it again."}, ch.Now)
}

// Matched lets the quantity of a listing that has just become an item be told, and the orders go on that waited for it.
func Matched(ch *engine.Change, l *store.Listing) {
	ch.Mark(engine.ListingMoved, l.ID)
	ch.Mark(engine.ListingKnown, l.ID)
	ch.Tell("stock", fmt.Sprint(l.ItemID))
}

// Match says which item a listing is. With every it answers for all listings of the connection that carry
// the same SKU: they are folded into one item, on the person's word.
func (r *Listing) Match(ctx context.Context, listing int64, sku string, every bool, who string) error {
	it, err := r.Store.Item(ctx, sku)
	if err != nil {
		return fmt.Errorf("item %s: %w", sku, err)
	}
	if it.Archived {
		return &engine.Refused{Text: fmt.Sprintf("item %s is archived; bring it back first", sku), Conflict: true}
	}
	return r.decideListing(ctx, listing, every, who, func(ch *engine.Change, l *store.Listing) error {
		l.ItemID, l.MatchedBy, l.IgnoredAt, l.IgnoredBy, l.Doubt = it.ID, catalog.ByPerson, 0, "", ""
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item",
			ThingID: it.ID, What: "matched", Text: fmt.Sprintf("Listing %s of %s, %q, is %s", l.OutsideID, l.ConnectionName,
				l.Title, it.SKU)})
	})
}

// CreateFrom makes an item from a listing, under its SKU or another.
func (r *Listing) CreateFrom(ctx context.Context, listing int64, sku, who string) (string, error) {
	err := r.decideListing(ctx, listing, false, who, func(ch *engine.Change, l *store.Listing) error {
		sku = engine.Or(sku, l.SKU)
		it := catalog.Item{SKU: sku, Name: engine.Or(l.Title, sku), Price: l.Price, Currency: l.Currency, Category: l.Category}
		it.Complete(r.Currency())
		if err := it.Check(); err != nil {
			return engine.Refuse("%v", err)
		}
		if have, err := ch.ItemsBySKU([]string{sku}); err != nil {
			return err
		} else if have[sku] != 0 {
			return &engine.Refused{Text: fmt.Sprintf("there is an item %s already; match the listing to it, or give the new item "+
				"another SKU", sku), Conflict: true}
		}
		var err error
		if it.GTIN, err = r.FreeGTIN(ch, l.GTIN); err != nil {
			return err
		}
		l.ItemID, err = r.AddItem(ch, it, who, fmt.Sprintf("%s made from listing %s of %s", it.Name, l.OutsideID, l.ConnectionName))
		l.MatchedBy, l.IgnoredAt, l.IgnoredBy, l.Doubt = catalog.ByCreated, 0, "", ""
		return err
	})
	return sku, err
}

// Ignore leaves a listing alone on purpose, or ends that.
func (r *Listing) Ignore(ctx context.Context, listing int64, ignore bool, who string) error {
	return r.decideListing(ctx, listing, false, who, func(ch *engine.Change, l *store.Listing) error {
		if ignore && l.ItemID != 0 {
			return &engine.Refused{Text: "the listing is matched; end the match first", Conflict: true}
		}
		l.IgnoredAt, l.IgnoredBy = 0, ""
		if ignore {
			l.IgnoredAt, l.IgnoredBy = ch.Now.UnixMicro(), who
		}
		return nil
	})
}

// Unmatch ends a match: the listing waits again. Orders taken in before stay as they are.
func (r *Listing) Unmatch(ctx context.Context, listing int64, who string) error {
	return r.decideListing(ctx, listing, false, who, func(ch *engine.Change, l *store.Listing) error {
		if l.ItemID == 0 {
			return &engine.Refused{Text: "the listing is not matched", Conflict: true}
		}
		item := l.ItemID
		l.ItemID, l.MatchedBy, l.Doubt = 0, "", "its match was ended by a person"
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: item, What: "unmatched",
			Text: fmt.Sprintf("Listing %s of %s is no longer matched", l.OutsideID, l.ConnectionName)})
	})
}

// decideListing changes which item a listing is, or every listing of its connection with the same SKU, and
// lets go on what waited for it.
func (r *Listing) decideListing(ctx context.Context, id int64, every bool, who string,
	f func(*engine.Change, *store.Listing) error) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		first, err := ch.ListingByID(id)
		if err != nil {
			return fmt.Errorf("listing %d: %w", id, err)
		}
		list := []store.Listing{first}
		if every && first.SKU != "" {
			if list, err = ch.ListingsBySKU(first.ConnectionID, first.SKU); err != nil {
				return err
			}
		}
		for i := range list {
			l := &list[i]
			if err := f(ch, l); err != nil {
				return err
			}
			if err := ch.SetMatch(*l); err != nil {
				return err
			}
			ch.Tell("listing", l.SKU)
		}
		for i := range list {
			if list[i].ItemID != 0 {
				Matched(ch, &list[i])
			}
		}
		return nil
	})
}

// Suggested is a listing that waits, with what it may be.
type Suggested struct {
	store.Listing
	Suggestions []catalog.Suggestion
	Waiting     int64 // orders held for it
}

// ToMatch lists listings that are no item yet, with suggestions.
func (r *Listing) ToMatch(ctx context.Context, f store.ListingFilter, most int) ([]Suggested, error) {
	list, err := r.Store.FindListings(ctx, f)
	if err != nil {
		return nil, err
	}
	out := make([]Suggested, len(list))
	for i, l := range list {
		out[i].Listing = l
		if l.ItemID != 0 {
			continue
		}
		x, err := r.Index(ctx, true)
		if err != nil {
			return nil, err
		}
		if l.IgnoredAt == 0 {
			out[i].Suggestions = x.Suggest(Wanted(&l), most)
		}
		if out[i].Waiting, err = r.Store.OrdersWaitingForListing(ctx, l); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// OwnOf is what is said of an item on the listing's channel only.
func OwnOf(l *store.Listing) (o Own) {
	if l.Own != "" {
		_ = json.Unmarshal([]byte(l.Own), &o) // what is kept there was written by us
	}
	return o
}

// Offered is what a listing may show.
type Offered struct {
	Allowed int64
	On      bool // whether quantities are sent there
}

// Offers works out what listings may show.
func (r *Listing) Offers(ctx context.Context, list []Suggested) ([]Offered, error) {
	ids := make([]int64, 0, len(list))
	for _, l := range list {
		if l.ItemID != 0 {
			ids = append(ids, l.ItemID)
		}
	}
	levels, err := r.Inventory.Levels(ctx, ids)
	if err != nil {
		return nil, err
	}
	shares, err := r.Inventory.SharesByListing(ctx, ids)
	if err != nil {
		return nil, err
	}
	w := r.Inventory.ItemKinds.Load()
	out := make([]Offered, len(list))
	for i, l := range list {
		c := r.ByID(l.ConnectionID)
		if c == nil || l.ItemID == 0 {
			continue
		}
		_, out[i].On = r.Feed(c, message.StockOut)
		out[i].Allowed = inventory.Shows(c, w, &l.Listing, func(k stock.Key) stock.Level { return levels[k] }, shares)
	}
	return out, nil
}

// ReadListings reads what the channels show now, of one connection or of all that tell it.
func (r *Listing) ReadListings(ctx context.Context, code, who string) ([]string, error) {
	var out []string
	for _, c := range r.Sorted() {
		rec := c.Rec()
		if code != "" && rec.Code != code || rec.State != store.On || !engine.Readable(c.Line().Def, message.ListingsIn) {
			continue
		}
		if _, on := r.Feed(c, message.ListingsIn); !on {
			continue
		}
		if _, err := r.Exchange.RunNow(ctx, rec.Code, message.ListingsIn, "", who); err != nil {
			return out, fmt.Errorf("%s: %w", rec.Name, err)
		}
		out = append(out, rec.Code)
	}
	return out, nil
}
