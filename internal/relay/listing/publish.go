package listing

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/connector"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// publisher makes publications for one connection.
type publisher struct {
	r      *Listing
	c      *engine.Conn
	w      *inventory.ItemKinds
	groups map[string]catalog.Group
	shares map[int64]store.Share // of listings that share the last units of their item
}

func (r *Listing) publisher(c *engine.Conn, w *inventory.ItemKinds, groups []catalog.Group, shares []store.Share) *publisher {
	p := &publisher{r: r, c: c, w: w, groups: map[string]catalog.Group{}, shares: inventory.ByListing(shares)}
	for _, g := range groups {
		p.groups[g.Code] = g
	}
	return p
}

// message is what a channel is told of an item: its fields, or those that are said on this channel only, but
// for those that belong to the channel.
func (p *publisher) message(it catalog.Item, l *store.Listing, levels func(stock.Key) stock.Level) message.Publication {
	set := p.c.Settings()
	o := OwnOf(l)
	m := message.Publication{ListingID: l.ID, SKU: engine.Or(l.SKU, it.SKU), GTIN: it.GTIN,
		Title: engine.Or(o.Title, it.Name), Description: engine.Or(o.Description, it.Description),
		Category: engine.Or(o.Category, it.Category),
		Price:    it.Price, Currency: it.Currency, WeightG: it.WeightG, Options: it.Options, Family: it.Family, Images: it.Images,
		Withdraw: it.Archived}
	if l.OutsideID != store.NewListing(m.SKU) {
		m.OutsideID = l.OutsideID
	}
	for _, x := range it.Prices {
		if x.List == set.PriceList {
			m.Price = x.Price
		}
	}
	if o.Price > 0 {
		m.Price = o.Price
	}
	probe := *l
	probe.ItemID = it.ID
	m.Quantity = inventory.Published(p.c, p.w, &probe, levels, p.shares)
	for _, code := range it.Groups {
		g := p.groups[code]
		out := message.OptionGroup{Code: g.Code, Name: g.Name, Least: g.Least, Most: g.Most}
		for _, c := range g.Choices {
			out.Choices = append(out.Choices, message.OptionChoice(c))
		}
		m.Groups = append(m.Groups, out)
	}
	for _, f := range set.Publish.Theirs {
		switch f {
		case "title":
			m.Title = ""
		case "description":
			m.Description = ""
		case "category":
			m.Category = ""
		case "price":
			m.Price, m.Currency = 0, ""
		case "images":
			m.Images = nil
		}
	}
	return m
}

// sameBut tells whether two publications say the same but for the quantity, which goes its own way.
func sameBut(published string, m message.Publication) bool {
	var old message.Publication
	if published == "" || json.Unmarshal([]byte(published), &old) != nil {
		return false
	}
	old.Quantity, m.Quantity = 0, 0
	old.ListingID, m.ListingID, old.OutsideID, m.OutsideID = 0, 0, "", ""
	a, _ := json.Marshal(old)
	b, _ := json.Marshal(m)
	return string(a) == string(b)
}

// Selection says which items are to be listed: some SKUs, or all that carry a mark.
type Selection struct {
	SKUs []string `json:"skus,omitempty"`
	Mark string   `json:"mark,omitempty"`
}

// PublishRow is what becomes of one item on a channel.
type PublishRow struct {
	SKU     string              `json:"sku"`
	Name    string              `json:"name"`
	Action  string              `json:"action" enum:"list,change,nothing,refused" doc:"list: a new listing; change: of one that is there"`
	Reason  string              `json:"reason,omitempty" doc:"Why nothing is sent"`
	Message message.Publication `json:"message" doc:"What is sent, in our words"`
	item    catalog.Item
	listing store.Listing
}

// PublishPreview is what publishing would send.
type PublishPreview struct {
	Rows     []PublishRow         `json:"rows"`
	Sent     int64                `json:"sent" doc:"How many items would be sent"`
	Requests []connector.Exchange `json:"requests" doc:"The requests exactly as they would leave, secrets blanked; at most the first twenty"`
	Digest   string               `json:"digest" doc:"Stands for what would be sent but for quantities; publishing names it"`
}

// maxPublish bounds how much is published in one go.
const maxPublish = 5000

// PublishPreview works out what publishing items on a channel would send, and changes nothing.
func (r *Listing) PublishPreview(ctx context.Context, code string, sel Selection) (PublishPreview, error) {
	out := PublishPreview{Rows: []PublishRow{}, Requests: []connector.Exchange{}}
	c, err := r.publishing(code)
	if err != nil {
		return out, err
	}
	if (len(sel.SKUs) == 0) == (sel.Mark == "") {
		return out, engine.Refuse("choose items by their SKUs, or all with a mark")
	}
	ids, missing, err := r.Store.Select(ctx, sel.SKUs, sel.Mark, maxPublish+1)
	if err != nil {
		return out, err
	}
	if len(ids)+len(missing) > maxPublish {
		return out, engine.Refuse("more than %d items are meant; publish them in parts, by other marks or by their SKUs", maxPublish)
	}
	if len(missing) > 0 {
		return out, engine.Refuse("there is no item %s", engine.Join(missing))
	}
	items, err := r.Store.RecordsOf(ctx, ids)
	levels, err1 := r.Inventory.Levels(ctx, ids)
	listings, err2 := r.Store.ListingsOfItems(ctx, ids)
	groups, err3 := r.Store.Groups(ctx)
	shares, err4 := r.Store.Shares(ctx, ids)
	if err := errors.Join(err, err1, err2, err3, err4); err != nil {
		return out, err
	}
	p := r.publisher(c, r.Inventory.ItemKinds.Load(), groups, shares)
	sum := sha256.New()
	var send []any
	for _, it := range items {
		row := p.row(it, listings, func(k stock.Key) stock.Level { return levels[k] })
		if row.Action == "list" || row.Action == "change" {
			plain := row.Message
			plain.Quantity = 0
			b, err := json.Marshal(plain)
			if err != nil {
				return out, err
			}
			sum.Write(b)
			send = append(send, row.Message)
			out.Sent++
		}
		out.Rows = append(out.Rows, row)
	}
	out.Digest = hex.EncodeToString(sum.Sum(nil)[:8])
	out.Requests, err = r.prepared(ctx, c, send)
	return out, err
}

// prepared are the first requests that would leave with messages.
func (r *Listing) prepared(ctx context.Context, c *engine.Conn, send []any) ([]connector.Exchange, error) {
	out := []connector.Exchange{}
	per := c.Line().Def.Feeds[message.ItemsOut].Batch
	for i := 0; i < len(send) && len(out) < 20; i += per {
		x, err := c.Line().Prepare(ctx, message.ItemsOut, r.Prefix+"-preview", send[i:min(i+per, len(send))])
		if err != nil {
			return nil, engine.Refuse("the request cannot be made: %v", err)
		}
		out = append(out, x)
	}
	return out, nil
}

// row decides what becomes of an item on the channel.
func (p *publisher) row(it catalog.Item, listings []store.Listing, levels func(stock.Key) stock.Level) PublishRow {
	row := PublishRow{SKU: it.SKU, Name: it.Name, item: it, Action: "list"}
	row.listing = store.Listing{ConnectionID: p.c.ID, OutsideID: store.NewListing(it.SKU), SKU: it.SKU, Title: it.Name, ItemID: it.ID,
		MatchedBy: catalog.ByCreated, Currency: it.Currency}
	for _, l := range listings {
		if l.ItemID == it.ID && l.ConnectionID == p.c.ID {
			row.listing, row.Action = l, "change"
			break
		}
	}
	if row.Action == "change" && (row.listing.State == inventory.ListingSubmitted || row.listing.State == inventory.ListingRejected) &&
		row.listing.OutsideID == store.NewListing(row.listing.SKU) {
		row.Action = "list"
	}
	row.Message = p.message(it, &row.listing, levels)
	switch {
	case it.Kind == catalog.Charge:
		row.Action, row.Reason = "refused", "charges are not listed"
	case it.Archived && row.Action == "list":
		row.Action, row.Reason = "refused", "the item is archived"
	case len(row.Message.Groups) > 0 && !p.c.Line().Def.Menus():
		row.Action, row.Reason = "refused", fmt.Sprintf("%s takes no option groups", p.c.Line().Def.Title)
	case row.Action == "change" && sameBut(row.listing.Published, row.Message):
		row.Action, row.Reason = "nothing", "the channel has it as it is"
	case row.Message.Price == 0 && !slices.Contains(p.c.Settings().Publish.Theirs, "price") && !it.Archived:
		row.Action, row.Reason = "refused", "it has no price"
	}
	return row
}

// publishing returns a connection on which items can be listed.
func (r *Listing) publishing(code string) (*engine.Conn, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
	}
	f := c.Line().Def.Feeds[message.ItemsOut]
	if f == nil || f.Send == nil {
		return nil, &engine.Refused{Text: fmt.Sprintf("%s takes no items from us", c.Line().Def.Title), Conflict: true}
	}
	if c.Rec().State != store.On {
		return nil, &engine.Refused{Text: fmt.Sprintf("%s is not at work: it is %s", c.Rec().Name, c.Rec().State), Conflict: true}
	}
	return c, nil
}

// Publish sends what a preview showed. It is refused when something else than quantities has changed since.
func (r *Listing) Publish(ctx context.Context, code string, sel Selection, digest, who string) (int64, error) {
	c, err := r.publishing(code)
	if err != nil {
		return 0, err
	}
	if f, _ := r.Feed(c, message.ItemsOut); !f.On {
		return 0, &engine.Refused{Text: "items out is off; switch it on first", Conflict: true}
	}
	p, err := r.PublishPreview(ctx, code, sel)
	if err != nil {
		return 0, err
	}
	if p.Digest != digest {
		return 0, &engine.Refused{Text: "what would be sent has changed since; look at the preview again", Conflict: true}
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		for i := range p.Rows {
			if row := &p.Rows[i]; row.Action == "list" || row.Action == "change" {
				if err := r.submit(ch, c, row, who); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return p.Sent, err
}

// submit queues a publication, with a listing to follow it by.
func (r *Listing) submit(ch *engine.Change, c *engine.Conn, row *PublishRow, who string) error {
	l := &row.listing
	if l.ID == 0 {
		l.Price, l.Currency = row.Message.Price, engine.Or(row.Message.Currency, l.Currency) // until the channel says it
		l.State = inventory.ListingSubmitted
		if _, err := ch.PutListing(l, ch.Now); err != nil {
			return err
		}
	} else if row.Action == "list" {
		l.State, l.Reason = inventory.ListingSubmitted, ""
		if err := ch.SetListing(*l); err != nil {
			return err
		}
	}
	row.Message.ListingID = l.ID
	payload, err := json.Marshal(row.Message)
	if err != nil {
		return err
	}
	if _, err := r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.ItemsOut, Subject: inventory.OfferSubject(l.ID),
		Payload: string(payload)}); err != nil {
		return err
	}
	ch.Tell("listing", l.SKU)
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: l.ItemID, What: "published",
		Text: fmt.Sprintf("%s submitted to %s (%s)", row.SKU, c.Rec().Name, row.Action)})
}

// publishMarked lists a marked item on the channels that take all items with its mark.
func (r *Listing) publishMarked(ch *engine.Change, it catalog.Item) error {
	if it.Archived || len(it.Marks) == 0 {
		return nil
	}
	for _, c := range r.Sorted() {
		set := c.Settings()
		if set.Publish.Mark == "" || !slices.Contains(it.Marks, set.Publish.Mark) {
			continue
		}
		if f, _ := r.Feed(c, message.ItemsOut); !f.On || c.Rec().State != store.On {
			continue
		}
		listings, err := ch.ListingsOfItems([]int64{it.ID})
		if err != nil {
			return err
		}
		if slices.ContainsFunc(listings, func(l store.Listing) bool { return l.ConnectionID == c.ID }) {
			continue
		}
		if err := r.submitItem(ch, c, it, listings, "the mark "+set.Publish.Mark); err != nil {
			return err
		}
	}
	return nil
}

// republish tells channels that list an item of ours what was changed in it.
func (r *Listing) republish(ch *engine.Change, it catalog.Item, changes []catalog.Change) error {
	if len(changes) == 0 {
		return nil
	}
	listings, err := ch.ListingsOfItems([]int64{it.ID})
	if err != nil {
		return err
	}
	for _, l := range listings {
		if err := r.follow(ch, it, l); err != nil {
			return err
		}
	}
	return nil
}

// follow sends a listing of ours again if it would read otherwise now. One whose first answer is still out is
// followed when that comes.
func (r *Listing) follow(ch *engine.Change, it catalog.Item, l store.Listing) error {
	c := r.ByID(l.ConnectionID)
	if l.Published == "" || c == nil || c.Rec().State != store.On {
		return nil
	}
	if f, _ := r.Feed(c, message.ItemsOut); !f.On {
		return nil
	}
	return r.submitItem(ch, c, it, []store.Listing{l}, "the item was changed")
}

func (r *Listing) submitItem(ch *engine.Change, c *engine.Conn, it catalog.Item, listings []store.Listing, who string) error {
	w, err := r.Inventory.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	groups, err := ch.Groups()
	if err != nil {
		return err
	}
	book, err := r.Inventory.Book(ch, []int64{it.ID})
	if err != nil {
		return err
	}
	shares, err := ch.Shares([]int64{it.ID})
	if err != nil {
		return err
	}
	row := r.publisher(c, w, groups, shares).row(it, listings, book.Level)
	if row.Action != "list" && row.Action != "change" {
		return nil
	}
	return r.submit(ch, c, &row, who)
}

// Published takes a channel's word on a publication: the number it gave the listing, and how it stands.
func (r *Listing) Published(ch *engine.Change, c *engine.Conn, m *store.OutboxMessage, answer any) error {
	var number, state, link string
	if a, ok := answer.(*connector.SendAnswer); ok {
		number, state, link = a.ID, a.State, a.URL
	}
	var p message.Publication
	if err := json.Unmarshal([]byte(m.Payload), &p); err != nil {
		return err
	}
	m.Answer = fmt.Sprintf("taken as %s %s", engine.Or(number, p.OutsideID), state)
	if c.Rec().Test {
		m.Answer = "taken as a test"
		return nil
	}
	l, err := ch.ListingByID(p.ListingID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	before := l.State
	if number != "" && number != l.OutsideID {
		if _, err := ch.ListingOf(c.ID, number); err == nil {
			return nil // it was read from the channel in the meantime, which says more
		}
		l.OutsideID = number
	}
	l.State, l.Reason, l.Published, l.URL = engine.Or(state,
		engine.Or(map[bool]string{true: l.State}[l.State != inventory.ListingSubmitted && l.State != inventory.ListingRejected],
			inventory.ListingLive)), "", m.Payload, engine.Or(link, l.URL)
	l.Live = l.State == inventory.ListingLive
	if err := ch.SetListing(l); err != nil {
		return err
	}
	ch.Tell("listing", l.SKU)
	if l.State != inventory.ListingRejected && l.ItemID != 0 {
		if err := ch.CloseItemException(l.ItemID, c.ID, engine.ListingRejected, ch.Now); err != nil {
			return err
		}
		ch.Tell("exception", "")
	}
	if before != l.State {
		if err := r.listingMoved(ch, c, &l, before); err != nil {
			return err
		}
	}
	items, err := ch.RecordsOf([]int64{l.ItemID}) // it may have been changed while the message was out
	if err != nil || len(items) == 0 {
		return err
	}
	return r.follow(ch, items[0], l)
}

// PublishRefused ends a publication that the channel does not take.
func (r *Listing) PublishRefused(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	ch.Tell("listing", "")
	return "", r.notPublished(ch, c, m)
}

// notPublished notes on the listing why the channel does not take it; what is rejected is raised there.
func (r *Listing) notPublished(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	var p message.Publication
	if err := json.Unmarshal([]byte(m.Payload), &p); err != nil {
		return err
	}
	l, err := ch.ListingByID(p.ListingID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	before := l.State
	if l.OutsideID == store.NewListing(l.SKU) {
		l.State, l.Live = inventory.ListingRejected, false
	}
	l.Reason = m.Error
	if err := ch.SetListing(l); err != nil {
		return err
	}
	if before == l.State { // what is listed stays as it was; the change was not taken
		return r.raiseRejected(ch, c, &l)
	}
	return r.listingMoved(ch, c, &l, before)
}

// Own is what is said of an item on one channel only.
type Own struct {
	Title       string `json:"title,omitempty" maxLength:"300"`
	Description string `json:"description,omitempty" maxLength:"20000"`
	Category    string `json:"category,omitempty" maxLength:"300"`
	Price       int64  `json:"price,omitempty" minimum:"0" doc:"Minor units of the currency in which the listing is sold"`
	Currency    string `json:"currency,omitempty" maxLength:"3" doc:"Of the price, where it is said: another than the listing's is refused"`
}

// SetOwn writes what is said of an item on one channel only. A listing that we published follows.
func (r *Listing) SetOwn(ctx context.Context, listing int64, o Own, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		l, err := ch.ListingByID(listing)
		if err != nil {
			return fmt.Errorf("listing %d: %w", listing, err)
		}
		if o.Currency != "" && l.Currency != "" && o.Currency != l.Currency {
			return engine.Refuse("this listing is sold in %s, not in %s", l.Currency, o.Currency)
		}
		o.Currency = ""
		changed, err := keepPart(&l.Own, o, o == (Own{}))
		if err != nil || !changed {
			return err
		}
		if err := ch.SetListing(l); err != nil {
			return err
		}
		ch.Tell("listing", l.SKU)
		if l.ItemID == 0 {
			return nil
		}
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item",
			ThingID: l.ItemID, What: "listing", Text: fmt.Sprintf("On %s only: %s", l.ConnectionName,
				engine.Or(l.Own, "nothing any more"))}); err != nil {
			return err
		}
		items, err := ch.RecordsOf([]int64{l.ItemID})
		if err != nil || len(items) == 0 {
			return err
		}
		c := r.ByID(l.ConnectionID)
		if f, _ := r.Feed(c, message.ItemsOut); c == nil || !f.On || l.Published == "" {
			return nil
		}
		return r.submitItem(ch, c, items[0], []store.Listing{l}, who)
	})
}

// keepPart writes a part of a listing as JSON, or nothing when it says nothing. It tells whether that changed it.
func keepPart(part *string, v any, empty bool) (changed bool, err error) {
	text := ""
	if !empty {
		b, err := json.Marshal(v)
		if err != nil {
			return false, err
		}
		text = string(b)
	}
	changed = *part != text
	*part = text
	return changed, nil
}

// checkSharing refuses sharing of what is not shared: kits, and what holds no stock.
func (r *Listing) checkSharing(ch *engine.Change, l *store.Listing, o *stock.Override) error {
	if c := r.ByID(l.ConnectionID); o.ShareOver != nil && *o.ShareOver > 0 && c != nil && c.Settings().Offer.With(o).ShareBelow == 0 {
		return engine.Refuse("share_over: does nothing without share_below, here or in the channel's policy")
	}
	if o.ShareBelow == nil || *o.ShareBelow == 0 {
		return nil
	}
	w, err := r.Inventory.ItemKindsNow(ch)
	if err != nil {
		return err
	}
	if g := w.Goods(l.ItemID); g.NoStock || len(g.Parts) > 0 {
		return engine.Refuse("share_below: only items that lie in stock as they are can be shared, not kits or what is made to order")
	}
	return nil
}

// SetPolicy writes how the quantity of a listing differs from its channel's policy.
func (r *Listing) SetPolicy(ctx context.Context, listing int64, o stock.Override, who string) error {
	for _, id := range o.Sources {
		if r.Place(id).ID == 0 {
			return engine.Refuse("sources: there is no location %d", id)
		}
	}
	for _, n := range []*int64{o.Buffer, o.BufferPercent, o.Cap, o.Floor, o.ShareBelow} {
		if n != nil && (*n < 0 || *n > 1_000_000) {
			return engine.Refuse("offer: buffer, cap, floor and share_below are 0 to a million")
		}
	}
	if o.ShareOver != nil && (*o.ShareOver < 0 || *o.ShareOver > 500) {
		return engine.Refuse("share_over: 0 to 500 hundredths is expected")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		l, err := ch.ListingByID(listing)
		if err != nil {
			return fmt.Errorf("listing %d: %w", listing, err)
		}
		if err := r.checkSharing(ch, &l, &o); err != nil {
			return err
		}
		changed, err := keepPart(&l.Policy, o, o.Empty())
		if err != nil || !changed {
			return err
		}
		if err := ch.SetListing(l); err != nil {
			return err
		}
		if err := ch.KeepPolicy(l.ConnectionID, l.ID, l.Policy, who, ch.Now); err != nil {
			return err
		}
		ch.Tell("listing", l.SKU)
		if l.ItemID == 0 {
			return nil
		}
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "item", ThingID: l.ItemID,
			What: "offer", Text: fmt.Sprintf("Offered on %s: %s", l.ConnectionName,
				engine.Or(l.Policy, "as the channel's policy says"))}); err != nil {
			return err
		}
		ch.Tell("stock", fmt.Sprint(l.ItemID))
		ch.Mark(engine.ListingMoved, l.ID)
		return nil
	})
}
