package relay

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// batchSize is how many messages one decision takes at most.
const batchSize = 400

// PushReceipt is what a sender is told.
type PushReceipt struct {
	Kept    int `json:"kept" doc:"New messages"`
	Known   int `json:"known" doc:"Messages we had already"`
	Ignored int `json:"ignored" doc:"Events of topics nobody here takes"`
}

// AcceptPush checks a pushed message and keeps its events. Once it returns, nothing of it can be lost;
// decisions are made right after.
func (r *Relay) AcceptPush(ctx context.Context, code string, h http.Header, raw []byte) (PushReceipt, error) {
	var out PushReceipt
	c := r.byCode(code)
	if c == nil {
		return out, store.ErrNotFound
	}
	records, ignored, err := c.line().Accept(h, raw)
	out.Ignored = ignored
	if err != nil {
		if errors.Is(err, connector.ErrSignature) {
			r.log.Warn("push refused", "connection", code, "reason", err.Error())
		}
		return out, err
	}
	byFeed := map[string][]store.Received{}
	for i, rec := range records {
		if rec.Err != nil {
			return out, Refuse("event %d: %v", i+1, rec.Err)
		}
		f, on := r.feed(c, rec.Feed)
		if f.ID == 0 || !on {
			out.Ignored++
			continue
		}
		byFeed[rec.Feed] = append(byFeed[rec.Feed], store.Received{OutsideID: rec.ID, Version: rec.Version, Raw: rec.Raw})
		c.fresh.put(freshKey{rec.Feed, rec.ID, rec.Version}, c.understand(func() (any, error) { return c.line().MapBody(rec.Feed, "push", rec.Body) }))
	}
	if len(byFeed) == 0 {
		return out, nil
	}
	err = r.Store.Write(ctx, func(t *store.Tx) error {
		for kind, msgs := range byFeed {
			n, err := t.Receive(c.rec().ID, kind, "push", 0, msgs, r.now())
			if err != nil {
				return err
			}
			out.Kept += n
			out.Known += len(msgs) - n
		}
		return nil
	})
	if out.Kept > 0 {
		poke(c.wakeIn)
	}
	return out, err
}

// MaxPush is the largest push a connection takes, in bytes.
func (r *Relay) MaxPush(code string) int64 {
	if c := r.byCode(code); c != nil && c.line().Def.Push != nil {
		return int64(c.line().Def.Push.MaxBody)
	}
	return 64 << 10
}

// decideAll decides on everything that waits in a connection's inbox.
func (r *Relay) decideAll(c *conn) error {
	for r.ctx.Err() == nil {
		msgs, err := r.Store.WaitingInbox(r.ctx, c.rec().ID, batchSize)
		if err != nil || len(msgs) == 0 {
			return err
		}
		if err := r.decide(c, msgs); err != nil {
			return err
		}
		if len(msgs) < batchSize {
			return nil
		}
	}
	return nil
}

// mapped is a message that was understood.
type mapped struct {
	in  store.InboxMessage
	msg any
}

// decide maps a batch outside the transaction, and decides and commits it inside one.
func (r *Relay) decide(c *conn, msgs []store.InboxMessage) error {
	var good []mapped
	var bad []store.InboxOutcome
	for _, in := range msgs {
		m, err := r.mapOne(c, in)
		if err != nil {
			bad = append(bad, store.InboxOutcome{ID: in.ID, State: "failed", Reason: err.Error()})
			continue
		}
		good = append(good, mapped{in, m})
	}
	return r.commit(r.ctx, func(ch *change) error {
		b := &batch{r: r, c: c, ch: ch, tallies: map[int64]*store.Tally{}}
		for _, o := range bad {
			b.fail(o, msgs)
		}
		if err := b.orders(good); err != nil {
			return err
		}
		for _, m := range good {
			var err error
			switch x := m.msg.(type) {
			case *message.Listing:
				err = b.listing(m.in, x)
			case *message.StockLevel:
				err = b.stockLevel(m.in, x)
			case *message.Item:
				err = b.item(m.in, x)
			case *message.Customer:
				err = b.customer(m.in, x)
			case *message.Dispatch:
				err = b.dispatch(m.in, x)
			case *message.Tracking:
				err = b.tracking(m.in, x)
			}
			if err != nil {
				return err
			}
		}
		if err := b.outdated(good); err != nil {
			return err
		}
		return b.finish(bad)
	})
}

func (r *Relay) mapOne(c *conn, in store.InboxMessage) (any, error) {
	u, ok := c.fresh.take(freshKey{in.Feed, in.OutsideID, in.Version})
	if !ok {
		raw, err := r.Store.InboxRaw(r.ctx, in.ID)
		if err != nil {
			return nil, err
		}
		u = c.understand(func() (any, error) { return c.line().Map(in.Feed, in.Via, raw) })
	}
	return u.msg, u.err
}

// understood is a mapped message, or why it could not be mapped.
type understood struct {
	msg any
	err error
}

func (c *conn) understand(mapping func() (any, error)) (u understood) {
	defer func() {
		if p := recover(); p != nil {
			u = understood{err: fmt.Errorf("the record broke its mapping: %v", p)}
		}
	}()
	u.msg, u.err = mapping()
	if c, ok := u.msg.(interface{ Check() error }); ok && u.err == nil {
		u.err = c.Check()
	}
	if o, ok := u.msg.(*message.Order); ok && u.err == nil {
		c.settings().complete(o)
		u.err = o.Encode() // now, while nobody waits for the file
	}
	return u
}

type freshKey struct {
	feed, id string
	version  int64
}

// fresh remembers what was mapped when it was received, so that the decision, which follows at once,
// need not map it again. What is not in it (after a restart, or when much waits) is mapped from the
// inbox. It holds a bounded number; what nobody took for a while makes room.
type fresh struct {
	mu sync.Mutex
	m  map[freshKey]understood
	at time.Time // when the oldest entries may have been put
}

const (
	maxFresh = 4000
	freshAge = 5 * time.Second
)

func (f *fresh) put(k freshKey, u understood) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if f.m == nil || now.Sub(f.at) > freshAge {
		f.m, f.at = make(map[freshKey]understood, 256), now
	}
	if len(f.m) < maxFresh {
		f.m[k] = u
	}
}

func (f *fresh) take(k freshKey) (understood, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	u, ok := f.m[k]
	delete(f.m, k)
	return u, ok
}

// batch is one decision's work.
type batch struct {
	r        *Relay
	c        *conn
	ch       *change
	tallies  map[int64]*store.Tally // by run; 0 is resolved to the push run
	byFeed   map[string]int64
	outcomes []store.InboxOutcome
	logs     []struct {
		run  int64
		text string
	}
}

func (b *batch) tally(in store.InboxMessage) (*store.Tally, int64, error) {
	run := in.RunID
	if run == 0 {
		if b.byFeed == nil {
			b.byFeed = map[string]int64{}
		}
		if b.byFeed[in.Feed] == 0 {
			f, _ := b.r.feed(b.c, in.Feed)
			id, err := b.ch.PushRun(f.ID, b.ch.now)
			if err != nil {
				return nil, 0, err
			}
			if err := b.ch.FeedWent(f.ID, "", b.ch.now); err != nil {
				return nil, 0, err
			}
			b.byFeed[in.Feed] = id
		}
		run = b.byFeed[in.Feed]
	}
	y := b.tallies[run]
	if y == nil {
		y = &store.Tally{}
		b.tallies[run] = y
	}
	if in.RunID == 0 {
		y.Found++
	}
	return y, run, nil
}

func (b *batch) fail(o store.InboxOutcome, msgs []store.InboxMessage) {
	b.outcomes = append(b.outcomes, o)
	for _, in := range msgs {
		if in.ID == o.ID {
			if y, run, err := b.tally(in); err == nil {
				y.Failed++
				y.Reason("cannot be taken in")
				b.logs = append(b.logs, struct {
					run  int64
					text string
				}{run, fmt.Sprintf("%s: %s", in.OutsideID, o.Reason)})
			}
		}
	}
}

func (b *batch) settle(in store.InboxMessage, state, reason string, orderID int64) {
	b.outcomes = append(b.outcomes, store.InboxOutcome{ID: in.ID, State: state, Reason: reason, OrderID: orderID})
}

// orders decides on all order messages of the batch, in the order in which they came.
func (b *batch) orders(all []mapped) error {
	var msgs []mapped
	var outside, skus []string
	seenID, seenSKU := map[string]bool{}, map[string]bool{}
	for _, m := range all {
		o, ok := m.msg.(*message.Order)
		if !ok {
			continue
		}
		msgs = append(msgs, m)
		if !seenID[m.in.OutsideID] {
			seenID[m.in.OutsideID] = true
			outside = append(outside, m.in.OutsideID)
		}
		for _, l := range o.Lines {
			if !seenSKU[l.SKU] {
				seenSKU[l.SKU] = true
				skus = append(skus, l.SKU)
			}
		}
	}
	if len(msgs) == 0 {
		return nil
	}
	existing, err := b.ch.OrdersByOutside(b.c.rec().ID, outside)
	if err != nil {
		return err
	}
	items, err := b.r.matches(b.ch.Tx, b.c.rec().ID, skus)
	if err != nil {
		return err
	}
	scene, err := b.scene(existing, items)
	if err != nil {
		return err
	}
	if n := len(outside) - len(existing); n > 0 {
		series := "order"
		if p := b.c.settings().NumberPrefix; p != "" {
			if series, err = b.ch.SeriesWith("order "+p, p); err != nil {
				return err
			}
		}
		number, err := b.ch.Numbers(series, n)
		if err != nil {
			return err
		}
		scene.NewOrder = func() (int64, string) {
			id, e := b.ch.NewOrderID()
			err = errors.Join(err, e)
			return id, number()
		}
	}
	var created, changed []*order.Order
	isNew, isChanged := map[int64]bool{}, map[int64]bool{}
	var entries []store.Entry
	set := b.c.settings()
	for _, m := range msgs {
		msg := m.msg.(*message.Order)
		if existing[m.in.OutsideID] == nil && len(set.Take) > 0 && !slices.Contains(set.Take, string(msg.Status)) {
			y, _, err := b.tally(m.in)
			if err != nil {
				return err
			}
			why := fmt.Sprintf("orders that are %s are not taken, by setting", msg.Status)
			y.Skipped++
			y.Reason(why)
			b.settle(m.in, "skipped", why, 0)
			continue
		}
		c := order.TakeIn(existing[m.in.OutsideID], order.Arrival{
			ConnectionID: b.c.rec().ID, OutsideID: m.in.OutsideID, Version: m.in.Version, Message: msg, Via: m.in.Via,
		}, scene)
		if err != nil {
			return err
		}
		y, _, terr := b.tally(m.in)
		if terr != nil {
			return terr
		}
		o := c.Order
		switch {
		case c.Skipped != "":
			y.Skipped++
			y.Reason(c.Skipped)
			b.settle(m.in, "skipped", c.Skipped, o.ID)
			continue
		case c.Created:
			y.New++
			existing[m.in.OutsideID] = o
			created = append(created, o)
			isNew[o.ID] = true
		default:
			y.Changed++
			if !isNew[o.ID] && !isChanged[o.ID] {
				changed = append(changed, o)
				isChanged[o.ID] = true
			}
		}
		b.settle(m.in, "done", "", o.ID)
		entries = append(entries, notes(c, b.c.rec().Name, b.ch.now)...)
		b.ch.tell("order", o.Number)
	}
	if err := b.ch.InsertOrders(created); err != nil {
		return err
	}
	for _, o := range changed {
		if err := b.r.saveOrder(b.ch, o); err != nil {
			return err
		}
		if err := b.r.syncShipments(b.ch, o); err != nil {
			return err
		}
	}
	for _, o := range created {
		if len(o.Holds) > 0 {
			if err := b.r.syncExceptions(b.ch, o); err != nil {
				return err
			}
		}
	}
	if err := b.ch.Note(entries...); err != nil {
		return err
	}
	return b.r.post(b.ch, scene.Book)
}

// matches says which item each SKU is on a channel: what its listing was matched to, or the item with
// exactly this SKU.
func (r *Relay) matches(t *store.Tx, connection int64, skus []string) (map[string]int64, error) {
	items, err := t.ItemsBySKU(skus)
	if err != nil {
		return nil, err
	}
	if len(items) < len(skus) {
		listed, err := t.MatchesBySKU(connection, skus)
		if err != nil {
			return nil, err
		}
		for sku, id := range listed {
			items[sku] = id
		}
	}
	return items, nil
}

func (b *batch) scene(existing map[string]*order.Order, items map[string]int64) (*order.Scene, error) {
	need := map[int64]bool{}
	for _, id := range items {
		need[id] = true
	}
	for _, o := range existing {
		for i := range o.Lines {
			need[o.Lines[i].ItemID] = true
		}
	}
	book, err := b.ch.Book(keys(need))
	if err != nil {
		return nil, err
	}
	s := b.r.sceneFor(b.c, book, b.ch.now, b.c.rec().Name)
	if s.Test, err = b.ch.InTest(b.c.id); err != nil { // as it is now, not when the messages were mapped
		return nil, err
	}
	s.Item = func(sku string) int64 { return items[sku] }
	return s, nil
}

func (r *Relay) sceneFor(c *conn, book *stock.Book, now time.Time, who string) *order.Scene {
	set := c.settings()
	return &order.Scene{Now: now, Who: who, Sources: set.Offer.Sources, Tolerance: set.Tolerance, Test: c.rec().Test, Look: set.Carry == "look", Keep: set.Keep,
		Since: store.Time(c.rec().BeganAt), Book: book, Place: r.placeName, Item: func(string) int64 { return 0 }}
}

func keys(m map[int64]bool) []int64 {
	out := make([]int64, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	return out
}

func notes(c order.Change, who string, now time.Time) []store.Entry {
	out := make([]store.Entry, len(c.Notes))
	for i, n := range c.Notes {
		out[i] = store.Entry{At: now.UnixMicro(), Who: who, Thing: "order", ThingID: c.Order.ID, What: n.What, Text: n.Text}
	}
	return out
}

func (r *Relay) saveOrder(ch *change, o *order.Order) error {
	if err := ch.UpdateOrder(o); err != nil {
		return err
	}
	ch.tell("order", o.Number)
	return r.syncExceptions(ch, o)
}

// syncExceptions keeps one open exception per hold.
func (r *Relay) syncExceptions(ch *change, o *order.Order) error {
	keep := make([]string, len(o.Holds))
	for i, h := range o.Holds {
		keep[i] = string(h.Cause)
		if err := ch.Raise(store.Exception{Cause: string(h.Cause), Text: h.Text, Expected: h.Expected, ConnectionID: o.ConnectionID, OrderID: o.ID}, ch.now); err != nil {
			return err
		}
		ch.tell("exception", o.Number)
	}
	return ch.CloseExceptions(o.ID, keep, "relay", ch.now)
}

// post writes the ledger, queues the offers it changes, and lets orders go on that waited for what
// became available.
func (r *Relay) post(ch *change, book *stock.Book) error {
	if len(book.Movements) == 0 {
		return nil
	}
	freed := map[int64]bool{}
	for _, m := range book.Movements {
		if m.OnHand > m.Allocated {
			freed[m.Item] = true
		}
	}
	if len(freed) > 0 {
		if err := r.serveWaiting(ch, book, keys(freed)); err != nil {
			return err
		}
	}
	if err := ch.Post(book); err != nil {
		return err
	}
	touched := map[int64]bool{}
	for _, k := range book.Touched() {
		touched[k.Item] = true
	}
	return r.queueOffers(ch, book, keys(touched))
}

// serveWaiting gives what became available to the orders that wait for it, oldest first.
func (r *Relay) serveWaiting(ch *change, book *stock.Book, items []int64) error {
	waiting, err := ch.OrdersWaitingFor(items, 200)
	if err != nil {
		return err
	}
	for _, o := range waiting {
		c := r.byID(o.ConnectionID)
		if c == nil || o.Voided || o.ByChannel() {
			continue
		}
		// Levels of the order's other items are not in the book; only the freed ones are served now.
		scene := r.sceneFor(c, book, ch.now, "relay")
		part := order.Change{Order: o}
		if !order.AllocateWaitingOf(o, items, scene, &part) {
			continue
		}
		o.Revision++
		if err := r.saveOrder(ch, o); err != nil {
			return err
		}
		if err := ch.Note(notes(part, "relay", ch.now)...); err != nil {
			return err
		}
	}
	return nil
}

// listing takes in an item as a channel lists it.
func (b *batch) listing(in store.InboxMessage, m *message.Listing) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	id, by, err := b.itemFor(m.SKU, m.GTIN)
	if err != nil {
		return err
	}
	l := store.Listing{ConnectionID: b.c.rec().ID, OutsideID: in.OutsideID, SKU: m.SKU, Title: m.Title, Price: m.Price, Currency: m.Currency,
		URL: m.URL, Live: m.Live, SeenQty: m.Quantity}
	l.ItemID, l.MatchedBy = id, by
	isNew, err := b.ch.PutListing(l, b.ch.now)
	if err != nil {
		return err
	}
	if isNew {
		y.New++
		if l.ItemID != 0 {
			book, err := b.ch.Book([]int64{l.ItemID})
			if err != nil {
				return err
			}
			if err := b.r.queueOffers(b.ch, book, []int64{l.ItemID}); err != nil {
				return err
			}
		}
	} else {
		y.Changed++
	}
	b.settle(in, "done", "", 0)
	b.ch.tell("listing", m.SKU)
	// Listings carry no version and are read again and again: only the newest reading is kept.
	return b.ch.ForgetOlder(in)
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// tracking takes in an event on a parcel's way.
func (b *batch) tracking(in store.InboxMessage, m *message.Tracking) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	s, err := b.ch.Shipment(m.Tracking)
	if errors.Is(err, store.ErrNotFound) {
		y.Skipped++
		y.Reason("no such parcel")
		b.settle(in, "skipped", "no parcel with number "+m.Tracking, 0)
		return nil
	}
	if err != nil {
		return err
	}
	y.New++
	b.settle(in, "done", "", s.OrderID)
	o, err := b.ch.Order(s.OrderID)
	if err != nil {
		return err
	}
	if m.State == "delivered" && s.State == store.Gone {
		s.State, s.DeliveredAt = store.Arrived, m.At.UnixMicro()
		if err := b.ch.UpdateShipment(&s); err != nil {
			return err
		}
		all, err := b.ch.ShipmentsOfOrder(o.ID)
		if err != nil {
			return err
		}
		o.Delivered = true
		for _, other := range all {
			o.Delivered = o.Delivered && (other.State == store.Arrived || other.State == store.CalledOff)
		}
		o.Revision++
		if err := b.r.saveOrder(b.ch, o); err != nil {
			return err
		}
	}
	b.ch.tell("shipment", s.Number)
	b.ch.tell("order", o.Number)
	return b.ch.Note(store.Entry{At: b.ch.now.UnixMicro(), Who: b.c.rec().Name, Thing: "order", ThingID: o.ID, What: "parcel " + m.State, Text: fmt.Sprintf("%s: %s", m.Tracking, m.Text)})
}

// outdated ends what was raised about older versions of records that are understood now.
func (b *batch) outdated(good []mapped) error {
	n, err := b.ch.OpenFailures(b.c.rec().ID)
	if err != nil || n == 0 {
		return err
	}
	for _, m := range good {
		if err := b.ch.Outdated(m.in, b.ch.now); err != nil {
			return err
		}
	}
	b.ch.tell("exception", "")
	return nil
}

func (b *batch) finish(bad []store.InboxOutcome) error {
	if err := b.ch.SettleInbox(b.outcomes); err != nil {
		return err
	}
	for run, y := range b.tallies {
		if err := b.ch.AddToRun(run, *y); err != nil {
			return err
		}
	}
	for _, l := range b.logs {
		if err := b.ch.LogRun(l.run, "error", l.text, b.ch.now); err != nil {
			return err
		}
	}
	for _, o := range bad {
		if err := b.ch.Raise(store.Exception{Cause: "message not understood", Text: fmt.Sprintf("A message from %s could not be taken in: %s", b.c.rec().Name, o.Reason),
			Expected:     "A record that fits the connector's mapping. It is kept as it came; correct it at the other side, or the mapping, and take it in again.",
			ConnectionID: b.c.rec().ID, InboxID: o.ID}, b.ch.now); err != nil {
			return err
		}
		b.ch.tell("exception", "")
	}
	b.ch.tell("feed", b.c.rec().Code)
	return nil
}

// TryAgain puts the failed messages of a connection back into its inbox's queue.
func (r *Relay) TryAgain(ctx context.Context, code, who string) (int64, error) {
	c := r.byCode(code)
	if c == nil {
		return 0, store.ErrNotFound
	}
	var n int64
	err := r.commit(ctx, func(ch *change) (err error) {
		ch.tell("exception", "")
		n, err = ch.Reopen(c.rec().ID, who, ch.now)
		return err
	})
	poke(c.wakeIn)
	return n, err
}

func join(parts []string) string { return strings.Join(parts, ", ") }
