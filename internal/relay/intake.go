package relay

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
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

func (b *batch) skip(in store.InboxMessage, y *store.Tally, reason, text string) {
	y.Skipped++
	y.Reason(reason)
	b.settle(in, "skipped", text, 0)
}
