package relay

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
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
		for _, kind := range slices.Sorted(maps.Keys(byFeed)) {
			msgs := byFeed[kind]
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
		c.wakeIn.now()
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

// decideAll decides on everything that waits in a connection's inbox and whose time has come.
func (r *Relay) decideAll(c *conn) error {
	for r.ctx.Err() == nil {
		msgs, err := r.Store.WaitingInbox(r.ctx, c.rec().ID, r.now(), batchSize)
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

// decide maps a batch outside the transaction, and decides and commits it inside one. Where the batch as a whole
// cannot be decided on, each of its messages is decided on for itself, so that one does not keep back the others.
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
	err := r.commit(r.ctx, func(ch *change) error {
		return safely(func() error { return r.batch(c, ch).decide(good, bad, msgs) })
	})
	if err == nil || store.Unavailable(err) || r.ctx.Err() != nil {
		return err
	}
	r.log.Warn("a batch could not be decided on as a whole; each message is decided on for itself", "connection", c.rec().Code, "error", err)
	return r.commit(r.ctx, func(ch *change) error {
		if err := r.batch(c, ch).decide(nil, bad, msgs); err != nil {
			return err
		}
		for _, m := range good {
			err := ch.try(func() error { return r.batch(c, ch).decide([]mapped{m}, nil, nil) })
			if err == nil {
				continue
			}
			if store.Unavailable(err) {
				return err
			}
			if err := r.batch(c, ch).undecided(m.in, err); err != nil {
				return err
			}
		}
		return nil
	})
}

func (r *Relay) batch(c *conn, ch *change) *batch {
	return &batch{r: r, c: c, ch: ch, tallies: map[int64]*store.Tally{}}
}

// decide decides on messages that were understood, and settles them and those that were not.
func (b *batch) decide(good []mapped, bad []store.InboxOutcome, msgs []store.InboxMessage) error {
	for _, o := range bad {
		b.fail(o, msgs)
	}
	if err := b.handle(good); err != nil {
		return err
	}
	for _, m := range good {
		if m.in.Attempts > 0 && !slices.Contains(b.putOff, m.in.ID) && !b.failed(m.in.ID) { // what was raised about it is over
			if err := b.ch.CloseExceptionFor(0, m.in.ID, "relay", b.ch.now); err != nil {
				return err
			}
			b.ch.tell("exception", "")
		}
	}
	if err := b.outdated(good); err != nil {
		return err
	}
	return b.finish(bad)
}

// handle lets those decide who are behind the door of each message's feed. Orders are decided on first and together,
// the others as they came.
func (b *batch) handle(msgs []mapped) error {
	const first = "orders in"
	var orders []mapped
	for _, m := range msgs {
		if m.in.Feed == first {
			orders = append(orders, m)
		}
	}
	if len(orders) > 0 {
		if err := b.r.in[first](b, orders); err != nil {
			return err
		}
	}
	for i := range msgs {
		decide := b.r.in[msgs[i].in.Feed]
		if msgs[i].in.Feed == first || decide == nil {
			continue
		}
		if err := decide(b, msgs[i:i+1]); err != nil {
			return err
		}
	}
	return nil
}

// failed tells whether a message of the batch waits for a person now.
func (b *batch) failed(id int64) bool {
	return slices.ContainsFunc(b.outcomes, func(o store.InboxOutcome) bool { return o.ID == id && o.State == "failed" })
}

// notTakenIn is the cause of an exception about a message that was understood, but could not be taken in.
const notTakenIn = "message not taken in"

// decisions is how often it is tried to decide on a message, before a person is asked to put it right.
const decisions = 10

// undecided raises a message that stands in its own way. What core refuses is refused for good; what broke is tried
// again later, each time after a longer while.
func (b *batch) undecided(in store.InboxMessage, err error) error {
	y, run, e := b.tally(in)
	if e != nil {
		return e
	}
	y.Failed++
	y.Reason("cannot be taken in")
	why, refused := isRefused(err)
	expected := "A record that can be taken in. It is kept as it came: correct it at the other side, or here what stands against it, and take it in again."
	if refused || in.Attempts+1 >= decisions {
		b.outcomes = append(b.outcomes, store.InboxOutcome{ID: in.ID, State: "failed", Reason: or(why, err.Error())})
	} else {
		next := b.ch.now.Add(delay(int(in.Attempts+1), fmt.Sprint(in.ID)) * 4)
		if e := b.ch.PutOff(in.ID, in.Attempts+1, err.Error(), next); e != nil {
			return e
		}
		b.ch.after(func() { b.c.wakeIn.in(next.Sub(b.r.now())) })
		expected = "Nothing from you at first: it is tried again by itself. If it stays, it is a fault of this program; its log says more."
	}
	if !refused {
		why = "something broke on our side while it was decided on"
		b.r.log.Error("a message could not be decided on", "connection", b.c.rec().Code, "feed", in.Feed, "id", in.OutsideID, "inbox", in.ID, "error", err)
	}
	b.logs = append(b.logs, logged{run, "error", fmt.Sprintf("%s: %s", in.OutsideID, why)})
	if e := b.ch.Raise(store.Exception{Cause: notTakenIn, Text: fmt.Sprintf("%s from %s could not be taken in: %s", thingOf(in), b.c.rec().Name, why), Expected: expected,
		ConnectionID: b.c.rec().ID, InboxID: in.ID}, b.ch.now); e != nil {
		return e
	}
	b.ch.tell("exception", "")
	return b.finish(nil)
}

// thingOf names a message as people do.
func thingOf(in store.InboxMessage) string {
	words := map[string]string{"orders in": "Order", "listings in": "Listing", "items in": "Item", "stock in": "The quantity of", "customers in": "Customer", "dispatch in": "Dispatch", "tracking in": "Tracking event"}
	return or(words[in.Feed], "Message") + " " + in.OutsideID
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

// logged is a line for the log of a run.
type logged struct {
	run         int64
	level, text string
}

// batch is one decision's work.
type batch struct {
	r        *Relay
	c        *conn
	ch       *change
	tallies  map[int64]*store.Tally // by run; 0 is resolved to the push run
	byFeed   map[string]int64
	outcomes []store.InboxOutcome
	counted  map[int64]bool // messages that stand in a tally as found
	putOff   []int64        // messages that are decided on later
	logs     []logged
	again    map[string]string // orders that are void here and taken in again on purpose: the number to use, or none
	typed    string            // who typed the orders of this batch
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
	if in.RunID == 0 && !b.counted[in.ID] {
		if b.counted == nil {
			b.counted = map[int64]bool{}
		}
		b.counted[in.ID] = true
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
				b.logs = append(b.logs, logged{run, "error", fmt.Sprintf("%s: %s", in.OutsideID, o.Reason)})
			}
		}
	}
}

func (b *batch) settle(in store.InboxMessage, state, reason string, orderID int64) {
	if state == "skipped" {
		if _, run, err := b.tally(in); err == nil {
			b.logs = append(b.logs, logged{run, "info", fmt.Sprintf("%s skipped: %s", in.OutsideID, reason)})
		}
	}
	b.outcomes = append(b.outcomes, store.InboxOutcome{ID: in.ID, State: state, Reason: reason, OrderID: orderID})
}

// orders decides on all order messages of the batch, in the order in which they came.
func (b *batch) orders(all []mapped) error {
	var msgs []mapped
	var outside, skus, numbers []string
	seenID, seenSKU, seenNumber := map[string]bool{}, map[string]bool{}, map[string]bool{}
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
			if l.Listing != "" && !seenNumber[l.Listing] {
				seenNumber[l.Listing] = true
				numbers = append(numbers, l.Listing)
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
	items, err := b.r.matches(b.ch.Tx, b.c.rec().ID, skus, numbers)
	if err != nil {
		return err
	}
	scene, err := b.scene(existing, items)
	if err != nil {
		return err
	}
	void, err := b.ch.OnlyVoid(b.c.rec().ID, outside)
	if err != nil {
		return err
	}
	set := b.c.settings()
	counters := map[string]*store.Counter{}
	var numberErr error
	scene.NewOrder = func(m *message.Order, outsideID string) (int64, string) {
		id, err := b.ch.NewOrderID()
		numberErr = errors.Join(numberErr, err)
		if n := b.again[outsideID]; n != "" {
			return id, n
		}
		c, err := b.counter(counters, set, m)
		if numberErr = errors.Join(numberErr, err); numberErr != nil {
			return id, ""
		}
		return id, c.Next()
	}
	if err := b.customers(scene, msgs); err != nil {
		return err
	}
	var created, changed []*order.Order
	isNew, isChanged := map[int64]bool{}, map[int64]bool{}
	var entries []store.Entry
	facts, factIDs := map[int64]*rules.Facts{}, []int64{}
	answers := map[int64]bool{}
	was := map[int64]findable{}
	for _, o := range existing {
		was[o.ID] = findableOf(o)
	}
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
		if existing[m.in.OutsideID] == nil && void[m.in.OutsideID] != 0 && b.again == nil {
			y, _, err := b.tally(m.in)
			if err != nil {
				return err
			}
			y.Skipped++
			y.Reason("voided here")
			b.settle(m.in, "skipped", "the order was voided here; it comes in again when a person says so", void[m.in.OutsideID])
			continue
		}
		c := order.TakeIn(existing[m.in.OutsideID], order.Arrival{
			ConnectionID: b.c.rec().ID, OutsideID: m.in.OutsideID, Version: m.in.Version, Message: msg, Via: m.in.Via,
		}, scene)
		if numberErr != nil {
			return numberErr
		}
		y, _, terr := b.tally(m.in)
		if terr != nil {
			return terr
		}
		o := c.Order
		if c.Created {
			o.TypedBy = b.typed
		}
		if c.Facts != nil && !o.Test {
			if facts[o.ID] == nil {
				factIDs = append(factIDs, o.ID)
			}
			facts[o.ID] = c.Facts
		}
		if c.Answer {
			answers[o.ID] = true
		}
		b.ch.watch = b.ch.watch || o.Ours.Answer != nil
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
		if err := b.r.hooks.changed(b.ch, o); err != nil {
			return err
		}
		if err := b.refind(o, was[o.ID]); err != nil {
			return err
		}
	}
	for _, c := range counters {
		if err := b.ch.Keep(c); err != nil {
			return err
		}
	}
	if err := b.ch.PutFacts(facts, factIDs); err != nil {
		return err
	}
	if err := b.tellChannel(created, changed, answers); err != nil {
		return err
	}
	for _, o := range created {
		before := o.Revision
		if err := b.r.hooks.saving(b.ch, o); err != nil {
			return err
		}
		if o.Revision != before {
			if err := b.ch.UpdateOrder(o); err != nil {
				return err
			}
		}
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

// matches says which item each line of orders of a channel is: what the listing that was bought is matched
// to, by its number or its SKU, or the item with exactly this SKU.
type matches struct {
	items    map[string]int64 // by SKU of ours
	byNumber map[string]store.ListingMatch
	bySKU    map[string][]store.ListingMatch
}

func (r *Relay) matches(t *store.Tx, connection int64, skus, numbers []string) (*matches, error) {
	items, err := t.ItemsBySKU(skus)
	if err != nil {
		return nil, err
	}
	m := &matches{items: items, byNumber: map[string]store.ListingMatch{}, bySKU: map[string][]store.ListingMatch{}}
	listed, err := t.ListingMatches(connection, skus, numbers)
	if err != nil {
		return nil, err
	}
	for _, l := range listed {
		m.byNumber[l.OutsideID] = l
		if l.SKU != "" {
			m.bySKU[l.SKU] = append(m.bySKU[l.SKU], l)
		}
	}
	return m, nil
}

// of finds the item of a line, and says why there is none where there is something to say.
func (m *matches) of(l *order.Line) (item int64, why string) {
	if l.Listing != "" {
		if x, ok := m.byNumber[l.Listing]; ok {
			return x.ItemID, x.Why()
		}
	}
	listed := m.bySKU[l.SKU]
	if len(listed) > 1 { // a SKU that stands twice there: the title tells which, if the items differ
		same := true
		for _, x := range listed {
			same = same && x.ItemID == listed[0].ItemID
		}
		if !same {
			for _, x := range listed {
				if x.Title == l.Title {
					return x.ItemID, x.Why()
				}
			}
			return 0, fmt.Sprintf("%d listings there carry the SKU %s, and not all are the same item.", len(listed), l.SKU)
		}
	}
	if len(listed) > 0 && (listed[0].ItemID != 0 || listed[0].Ignored) {
		return listed[0].ItemID, listed[0].Why()
	}
	if id := m.items[l.SKU]; id != 0 && len(listed) == 0 {
		return id, ""
	}
	if len(listed) > 0 {
		return 0, listed[0].Why()
	}
	return 0, ""
}

// all lists the items that are known.
func (m *matches) all() map[int64]bool {
	need := map[int64]bool{}
	for _, id := range m.items {
		need[id] = true
	}
	for _, l := range m.byNumber {
		if l.ItemID != 0 {
			need[l.ItemID] = true
		}
	}
	return need
}

func (b *batch) scene(existing map[string]*order.Order, items *matches) (*order.Scene, error) {
	need := items.all()
	for _, o := range existing {
		itemsOf(o, need)
	}
	book, err := b.r.book(b.ch, keys(need))
	if err != nil {
		return nil, err
	}
	s, err := b.r.sceneFor(b.c, b.ch, book, b.c.rec().Name)
	if err != nil {
		return nil, err
	}
	if s.Test, err = b.ch.InTest(b.c.id); err != nil { // as it is now, not when the messages were mapped
		return nil, err
	}
	s.match(items)
	if err := b.traits(s.Scene, keys(need)); err != nil {
		return nil, err
	}
	return s.Scene, b.countedOut(s.Scene, keys(need))
}

// itemsOf adds the items of an order, and what its kits were made of.
func itemsOf(o *order.Order, to map[int64]bool) {
	for i := range o.Lines {
		l := &o.Lines[i]
		to[l.ItemID] = true
		for _, c := range l.Parts {
			to[c.Item] = true
		}
	}
}

// scene is what a decision looks at.
type scene struct{ *order.Scene }

func (s scene) match(m *matches) {
	s.Item = func(l *order.Line) int64 { id, _ := m.of(l); return id }
	s.Unknown = func(l *order.Line) string { _, why := m.of(l); return why }
}

func (r *Relay) sceneFor(c *conn, ch *change, book *stock.Book, who string) (scene, error) {
	w, err := r.waresNow(ch)
	if err != nil {
		return scene{}, err
	}
	set := c.settings()
	s := &order.Scene{Now: ch.now, Who: who, Sources: set.Offer.Sources, Tolerance: set.Tolerance, Account: set.Account, Test: c.rec().Test, Look: set.Carry == "look", Keep: set.Keep,
		Since: store.Time(c.rec().BeganAt), Book: book, Place: r.placeName, Item: func(*order.Line) int64 { return 0 }, Goods: w.sells,
		Rules: r.rules.Load(), Where: r.placeID, Accept: set.Answer == "accept", Prep: time.Duration(set.PrepMinutes) * time.Minute, Channel: c.rec().Code,
		Pays: func(method string) string { return set.Payments[method] }}
	s.Own = r.placeID(set.OwnLocation)
	return scene{s}, nil
}

// keys lists the keys in their order, so that the same is always done in the same order.
func keys[V any](m map[int64]V) []int64 { return slices.Sorted(maps.Keys(m)) }

func notes(c order.Change, who string, now time.Time) []store.Entry {
	out := make([]store.Entry, len(c.Notes))
	for i, n := range c.Notes {
		out[i] = store.Entry{At: now.UnixMicro(), Who: who, Thing: "order", ThingID: c.Order.ID, What: n.What, Text: n.Text}
	}
	return out
}

func (r *Relay) saveOrder(ch *change, o *order.Order) error {
	if err := r.hooks.saving(ch, o); err != nil {
		return err
	}
	if err := ch.UpdateOrder(o); err != nil {
		return err
	}
	ch.tell("order", o.Number)
	return r.syncExceptions(ch, o)
}

// syncExceptions keeps one open exception per hold.
func (r *Relay) syncExceptions(ch *change, o *order.Order) error {
	var keep []string
	for _, h := range o.Holds {
		about := h.About
		if len(about) == 0 {
			about = []string{""}
		}
		for _, subject := range about {
			keep = append(keep, string(h.Cause)+"\x1f"+subject)
			if err := ch.Raise(store.Exception{Cause: string(h.Cause), Subject: subject, Text: h.Text, Expected: h.Expected, ConnectionID: o.ConnectionID, OrderID: o.ID}, ch.now); err != nil {
				return err
			}
		}
		ch.tell("exception", o.Number)
		ch.watch = true
	}
	return ch.CloseExceptions(o.ID, keep, "relay", ch.now)
}

// post writes the ledger, queues the offers it changes, and lets orders go on that waited for what
// became available.
func (r *Relay) post(ch *change, book *stock.Book) error {
	if len(book.Movements) == 0 && len(book.Unstocked) == 0 {
		return nil
	}
	freed := map[int64]bool{}
	for _, m := range book.Movements {
		if m.OnHand > m.Allocated {
			freed[m.Item] = true
		}
	}
	if len(freed) > 0 {
		if err := r.hooks.freed(ch, book, keys(freed)); err != nil {
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
	for _, id := range book.Unstocked {
		touched[id] = true
	}
	if err := r.flagNegative(ch, book); err != nil {
		return err
	}
	return r.queueOffers(ch, book, keys(touched))
}

// negativeStock is the cause of an exception that ends when there is something on hand again.
const negativeStock = "negative stock"

// flagNegative raises what fell below nothing: goods were sold that by the ledger were not there.
func (r *Relay) flagNegative(ch *change, book *stock.Book) error {
	before := map[stock.Key]int64{}
	for _, m := range book.Movements {
		before[m.Key] += m.OnHand
	}
	for k, moved := range before {
		now := book.Level(k).OnHand
		was := now - moved
		switch {
		case now < 0 && moved < 0:
			items, err := ch.Items([]int64{k.Item})
			if err != nil {
				return err
			}
			ch.tell("exception", "")
			if err := ch.Raise(store.Exception{Cause: negativeStock, ItemID: k.Item, Text: fmt.Sprintf("%s at %s is at %d: more left than was known to be there", items[k.Item].SKU, r.placeName(k.Location), now),
				Expected: "A count of what lies there. The sale stands; only our number was wrong."}, ch.now); err != nil {
				return err
			}
		case was < 0 && now >= 0:
			ch.tell("exception", "")
			if err := ch.CloseItemException(k.Item, 0, negativeStock, ch.now); err != nil {
				return err
			}
		}
	}
	return nil
}

// serveWaiting gives what became available to the orders that wait for it, oldest first: to the first of them at
// once, to the others, as long as there is something left, by a job.
func (r *Relay) serveWaiting(ch *change, book *stock.Book, items []int64) error {
	_, done, err := r.serve(ch, book, items, serveMark{})
	if err != nil || done {
		return err
	}
	for _, item := range items {
		if has, err := ch.HasJob(string(jobServe), serveSubject(item)); err != nil {
			return err
		} else if has {
			continue // the job is at it and sees what is there by then
		}
		if _, err := ch.addJob(jobServe, serveSubject(item), "relay", serveMark{}); err != nil {
			return err
		}
	}
	return nil
}

// serve gives what is free of items to the next orders that wait for them after a mark, and tells from where to go on,
// or that no order waits any more or nothing is left to give.
func (r *Relay) serve(ch *change, book *stock.Book, items []int64, after serveMark) (next serveMark, done bool, err error) {
	w, err := r.waresNow(ch)
	if err != nil {
		return after, true, err
	}
	waiting, err := ch.OrdersWaitingFor(w.touched(items), after.Placed, after.ID, orderBatch)
	if err != nil || len(waiting) == 0 {
		return after, true, err
	}
	need := map[int64]bool{}
	for _, o := range waiting {
		itemsOf(o, need)
	}
	levels, err := ch.Levels(w.needed(keys(need)))
	if err != nil {
		return after, true, err
	}
	book.Know(levels)
	if _, err := r.allocateTo(ch, book, waiting); err != nil {
		return after, true, err
	}
	last := waiting[len(waiting)-1]
	next = serveMark{saleTime(last), last.ID}
	free := slices.ContainsFunc(items, func(item int64) bool {
		return slices.ContainsFunc(r.placeIDs(), func(at int64) bool { return book.Level(stock.Key{Item: item, Location: at}).Available() > 0 })
	})
	return next, len(waiting) < orderBatch || !free, nil
}

// saleTime is when an order was placed, as orders are sorted by.
func saleTime(o *order.Order) int64 {
	if o.Record.PlacedAt.IsZero() {
		return o.ReceivedAt.UnixMicro()
	}
	return o.Record.PlacedAt.UnixMicro()
}

// allocateTo promises what is free to orders that wait, in their order, and counts those that got something.
func (r *Relay) allocateTo(ch *change, book *stock.Book, waiting []*order.Order) (served int, err error) {
	for _, o := range waiting {
		c := r.byID(o.ConnectionID)
		if c == nil || o.Voided || o.Elsewhere() {
			continue
		}
		s, err := r.sceneFor(c, ch, book, "relay")
		if err != nil {
			return served, err
		}
		part := order.Change{Order: o}
		if !order.AllocateWaiting(o, s.Scene, &part) {
			continue
		}
		served++
		o.Revision++
		if err := r.saveOrder(ch, o); err != nil {
			return served, err
		}
		if err := ch.Note(notes(part, "relay", ch.now)...); err != nil {
			return served, err
		}
	}
	return served, nil
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
		if err := b.ch.LogRun(l.run, l.level, l.text, b.ch.now); err != nil {
			return err
		}
	}
	for _, o := range bad {
		if err := b.ch.Raise(store.Exception{Cause: "message not understood", Text: fmt.Sprintf("A message from %s could not be taken in: %s", b.c.rec().Name, o.Reason),
			Expected:     "A record that fits the connector's mapping. It is kept as it came; correct it at the other side, or the mapping, and take it in again, or type the order beside it.",
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
	c.wakeIn.now()
	return n, err
}

func join(parts []string) string { return strings.Join(parts, ", ") }
