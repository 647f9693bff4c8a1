package exchange

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
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
func (r *Exchange) AcceptPush(ctx context.Context, code string, h http.Header, raw []byte) (PushReceipt, error) {
	var out PushReceipt
	c := r.ByCode(code)
	if c == nil {
		return out, engine.NoConnection(code)
	}
	records, ignored, err := c.Line().Accept(h, raw)
	out.Ignored = ignored
	if err != nil {
		if errors.Is(err, connector.ErrSignature) {
			r.Log.Warn("push refused", "connection", code, "reason", err.Error())
		}
		return out, err
	}
	byFeed := map[message.Feed][]store.Received{}
	for i, rec := range records {
		if rec.Err != nil {
			return out, engine.Refuse("event %d: %v", i+1, rec.Err)
		}
		f, _ := r.Feed(c, rec.Feed)
		if !f.On || c.Rec().State != store.On { // while it is paused, what comes is kept and waits
			out.Ignored++
			continue
		}
		byFeed[rec.Feed] = append(byFeed[rec.Feed], store.Received{OutsideID: rec.ID, Version: rec.Version, Raw: rec.Raw})
		c.Mapped.Put(engine.MapKey{Feed: rec.Feed, ID: rec.ID, Version: rec.Version}, MapSafely(c, func() (any, error) {
			return c.Line().MapBody(rec.Feed, "push", rec.Body)
		}))
	}
	if len(byFeed) == 0 {
		return out, nil
	}
	err = r.Store.Write(ctx, func(t *store.Tx) error {
		for _, kind := range slices.Sorted(maps.Keys(byFeed)) {
			msgs := byFeed[kind]
			n, err := t.Receive(c.Rec().ID, kind, "push", 0, msgs, r.Clock())
			if err != nil {
				return err
			}
			out.Kept += n
			out.Known += len(msgs) - n
		}
		return nil
	})
	if out.Kept > 0 {
		c.WakeIn.Now()
	}
	return out, err
}

// MaxPush is the largest push a connection takes, in bytes.
func (r *Exchange) MaxPush(code string) int64 {
	if c := r.ByCode(code); c != nil && c.Line().Def.Push != nil {
		return int64(c.Line().Def.Push.MaxBody)
	}
	return 64 << 10
}

// DecideAll decides on everything that waits in a connection's inbox and whose time has come. While the connection is
// paused, all of it goes on waiting.
func (r *Exchange) DecideAll(c *engine.Conn) error {
	for r.Ctx.Err() == nil && !c.Rec().Paused {
		msgs, err := r.Store.WaitingInbox(r.Ctx, c.Rec().ID, r.Clock(), batchSize)
		if err != nil || len(msgs) == 0 || c.Rec().Paused { // what came after a pause is not decided on, however late this looked
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

// Mapped is a message that was understood.
type Mapped struct {
	In  store.InboxMessage
	Msg any
}

// decide maps a batch outside the transaction, and decides and commits it inside one. Where the batch as a whole
// cannot be decided on, each of its messages is decided on for itself, so that one does not keep back the others.
func (r *Exchange) decide(c *engine.Conn, msgs []store.InboxMessage) error {
	var good []Mapped
	var bad []store.InboxOutcome
	for _, in := range msgs {
		m, err := r.mapOne(c, in)
		if err != nil {
			bad = append(bad, store.InboxOutcome{ID: in.ID, State: "failed", Reason: err.Error()})
			continue
		}
		good = append(good, Mapped{in, m})
	}
	err := r.Commit(r.Ctx, func(ch *engine.Change) error {
		return engine.Safely(func() error { return r.NewBatch(c, ch).decide(good, bad, msgs) })
	})
	if err == nil || store.Unavailable(err) || r.Ctx.Err() != nil {
		return err
	}
	r.Log.Warn("a batch could not be decided on as a whole; each message is decided on for itself", "connection", c.Rec().Code,
		"error", err)
	return r.Commit(r.Ctx, func(ch *engine.Change) error {
		if err := r.NewBatch(c, ch).decide(nil, bad, msgs); err != nil {
			return err
		}
		for _, m := range good {
			err := ch.Try(func() error { return r.NewBatch(c, ch).decide([]Mapped{m}, nil, nil) })
			if err == nil {
				continue
			}
			if store.Unavailable(err) {
				return err
			}
			if err := r.NewBatch(c, ch).undecided(m.In, err); err != nil {
				return err
			}
		}
		return nil
	})
}

func (r *Exchange) NewBatch(c *engine.Conn, ch *engine.Change) *Batch {
	return &Batch{R: r, C: c, Ch: ch, tallies: map[int64]*store.Tally{}}
}

// decide decides on messages that were understood, and settles them and those that were not.
func (b *Batch) decide(good []Mapped, bad []store.InboxOutcome, msgs []store.InboxMessage) error {
	for _, o := range bad {
		b.fail(o, msgs)
	}
	if err := b.handle(good); err != nil {
		return err
	}
	for _, m := range good {
		if m.In.Attempts > 0 && !slices.Contains(b.PutOff, m.In.ID) && !b.failed(m.In.ID) { // what was raised about it is over
			if err := b.Ch.CloseExceptionFor(0, m.In.ID, "relay", b.Ch.Now); err != nil {
				return err
			}
			b.Ch.Tell("exception", "")
		}
	}
	if err := b.outdated(good); err != nil {
		return err
	}
	return b.Finish(bad)
}

// handle lets those decide who are behind the door of each message's feed. Orders are decided on first and together,
// the others as they came.
func (b *Batch) handle(msgs []Mapped) error {
	const first = message.OrdersIn
	var orders []Mapped
	for _, m := range msgs {
		if m.In.Feed == first {
			orders = append(orders, m)
		}
	}
	if len(orders) > 0 {
		if err := b.R.Inbound[first](b, orders); err != nil {
			return err
		}
	}
	for i := range msgs {
		decide := b.R.Inbound[msgs[i].In.Feed]
		if msgs[i].In.Feed == first || decide == nil {
			continue
		}
		if err := decide(b, msgs[i:i+1]); err != nil {
			return err
		}
	}
	return nil
}

// failed tells whether a message of the batch waits for a person now.
func (b *Batch) failed(id int64) bool {
	return slices.ContainsFunc(b.Outcomes, func(o store.InboxOutcome) bool { return o.ID == id && o.State == "failed" })
}

// Decisions is how often it is tried to decide on a message, before a person is asked to put it right.
const Decisions = 10

// undecided raises a message that stands in its own way. What core refuses is refused for good; what broke is tried
// again later, each time after a longer while.
func (b *Batch) undecided(in store.InboxMessage, err error) error {
	y, run, e := b.Tally(in)
	if e != nil {
		return e
	}
	y.Failed++
	y.Reason("cannot be taken in")
	why, refused := engine.IsRefused(err)
	expected := "A record that can be taken in. It is kept as it came: correct it at the other side, or here what stands against it, " +
		"and take it in again."
	if refused || in.Attempts+1 >= Decisions {
		b.Outcomes = append(b.Outcomes, store.InboxOutcome{ID: in.ID, State: "failed", Reason: engine.Or(why, err.Error())})
	} else {
		next := b.Ch.Now.Add(engine.Delay(int(in.Attempts+1), fmt.Sprint(in.ID)) * 4)
		if e := b.Ch.PutOff(in.ID, in.Attempts+1, err.Error(), next); e != nil {
			return e
		}
		b.Ch.After(func() { b.C.WakeIn.In(next.Sub(b.R.Clock())) })
		expected = "Nothing from you at first: it is tried again by itself. If it stays, it is a fault of this program; its log says more."
	}
	if !refused {
		why = "something broke on our side while it was decided on"
		b.R.Log.Error("a message could not be decided on", "connection", b.C.Rec().Code, "feed", in.Feed, "id", in.OutsideID, "inbox",
			in.ID, "error", err)
	}
	b.Logs = append(b.Logs, Logged{run, "error", fmt.Sprintf("%s: %s", in.OutsideID, why)})
	if e := b.Ch.Raise(store.Exception{Cause: engine.NotTakenIn, Text: fmt.Sprintf("%s from %s could not be taken in: %s", thingOf(in),
		b.C.Rec().Name, why), Expected: expected,
		ConnectionID: b.C.Rec().ID, InboxID: in.ID}, b.Ch.Now); e != nil {
		return e
	}
	b.Ch.Tell("exception", "")
	return b.Finish(nil)
}

// thingOf names a message as people do.
func thingOf(in store.InboxMessage) string {
	words := map[message.Feed]string{message.OrdersIn: "Order", message.ListingsIn: "Listing", message.ItemsIn: "Item",
		message.StockIn: "The quantity of", message.CustomersIn: "Customer", message.DispatchIn: "Dispatch", message.ReturnsIn: "Return",
		message.TrackingIn: "Tracking event", message.ReceiptsIn: "Receipt",
		message.RequestsIn: "State of a request", message.BillsIn: "Line of a bill"}
	return engine.Or(words[in.Feed], "Message") + " " + in.OutsideID
}

func (r *Exchange) mapOne(c *engine.Conn, in store.InboxMessage) (any, error) {
	u, ok := c.Mapped.Take(engine.MapKey{Feed: in.Feed, ID: in.OutsideID, Version: in.Version})
	if !ok {
		raw, err := r.Store.InboxRaw(r.Ctx, in.ID)
		if err != nil {
			return nil, err
		}
		u = MapSafely(c, func() (any, error) { return c.Line().Map(in.Feed, in.Via, raw) })
	}
	return u.Msg, u.Err
}

func MapSafely(c *engine.Conn, mapping func() (any, error)) (u engine.MapResult) {
	defer func() {
		if p := recover(); p != nil {
			u = engine.MapResult{Err: fmt.Errorf("the record broke its mapping: %v", p)}
		}
	}()
	u.Msg, u.Err = mapping()
	if c, ok := u.Msg.(interface{ Check() error }); ok && u.Err == nil {
		u.Err = c.Check()
	}
	if o, ok := u.Msg.(*message.Order); ok && u.Err == nil {
		c.Settings().Complete(o)
		u.Err = o.Encode() // now, while nobody waits for the file
	}
	return u
}

// Logged is a line for the log of a run.
type Logged struct {
	Run         int64
	Level, Text string
}

// Batch is one decision's work.
type Batch struct {
	R        *Exchange
	C        *engine.Conn
	Ch       *engine.Change
	tallies  map[int64]*store.Tally // by run; 0 is resolved to the push run
	byFeed   map[message.Feed]int64
	Outcomes []store.InboxOutcome
	counted  map[int64]bool // messages that stand in a tally as found
	PutOff   []int64        // messages that are decided on later
	Logs     []Logged
	Again    map[string]string // orders that are void here and taken in again on purpose: the number to use, or none
	Typed    string            // who typed the orders of this batch
}

// Unfit ends a message that fits nothing here, or puts it off for a while, where again says that it may fit later by itself.
func (b *Batch) Unfit(in store.InboxMessage, why string, orderID int64, again bool) error {
	if !again || in.Attempts+1 >= Decisions {
		b.Settle(in, "failed", why, orderID)
		return nil
	}
	next := b.Ch.Now.Add(max(engine.Delay(int(in.Attempts+1), fmt.Sprint(in.ID))*4, 2*time.Second))
	if err := b.Ch.PutOff(in.ID, in.Attempts+1, why, next); err != nil {
		return err
	}
	b.Ch.After(func() { b.C.WakeIn.In(next.Sub(b.R.Clock())) })
	b.PutOff = append(b.PutOff, in.ID)
	return nil
}

func (b *Batch) Tally(in store.InboxMessage) (*store.Tally, int64, error) {
	run := in.RunID
	if run == 0 {
		if b.byFeed == nil {
			b.byFeed = map[message.Feed]int64{}
		}
		if b.byFeed[in.Feed] == 0 {
			f, _ := b.R.Feed(b.C, in.Feed)
			id, err := b.Ch.PushRun(f.ID, b.Ch.Now)
			if err != nil {
				return nil, 0, err
			}
			if err := b.Ch.FeedPushed(f.ID, b.Ch.Now); err != nil {
				return nil, 0, err
			}
			b.byFeed[in.Feed] = id
			now := b.Ch.Now.UnixMicro()
			b.Ch.After(func() { b.R.KnowFeed(b.C, in.Feed, func(k *store.Feed) { k.LastOKAt = now }) })
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

func (b *Batch) fail(o store.InboxOutcome, msgs []store.InboxMessage) {
	b.Outcomes = append(b.Outcomes, o)
	for _, in := range msgs {
		if in.ID == o.ID {
			if y, run, err := b.Tally(in); err == nil {
				y.Failed++
				y.Reason("cannot be taken in")
				b.Logs = append(b.Logs, Logged{run, "error", fmt.Sprintf("%s: %s", in.OutsideID, o.Reason)})
			}
		}
	}
}

func (b *Batch) Settle(in store.InboxMessage, state, reason string, orderID int64) {
	if state == "skipped" {
		if _, run, err := b.Tally(in); err == nil {
			b.Logs = append(b.Logs, Logged{run, "info", fmt.Sprintf("%s skipped: %s", in.OutsideID, reason)})
		}
	}
	b.Outcomes = append(b.Outcomes, store.InboxOutcome{ID: in.ID, State: state, Reason: reason, OrderID: orderID})
}

// outdated ends what was raised about older versions of records that are understood now.
func (b *Batch) outdated(good []Mapped) error {
	n, err := b.Ch.OpenFailures(b.C.Rec().ID)
	if err != nil || n == 0 {
		return err
	}
	for _, m := range good {
		if err := b.Ch.Outdated(m.In, b.Ch.Now); err != nil {
			return err
		}
	}
	b.Ch.Tell("exception", "")
	return nil
}

func (b *Batch) Finish(bad []store.InboxOutcome) error {
	if err := b.Ch.SettleInbox(b.Outcomes); err != nil {
		return err
	}
	for run, y := range b.tallies {
		if err := b.Ch.AddToRun(run, *y); err != nil {
			return err
		}
	}
	for _, l := range b.Logs {
		if err := b.Ch.LogRun(l.Run, l.Level, l.Text, b.Ch.Now); err != nil {
			return err
		}
	}
	for _, o := range bad {
		if err := b.Ch.Raise(store.Exception{Cause: engine.NotUnderstood, Text: fmt.Sprintf("A message from %s could not be taken in: %s",
			b.C.Rec().Name, o.Reason),
			Expected: "A record that fits the connector's mapping. It is kept as it came; correct it at the other side, or the " +
				"mapping, and take it in again, or type the order beside it.",
			ConnectionID: b.C.Rec().ID, InboxID: o.ID}, b.Ch.Now); err != nil {
			return err
		}
		b.Ch.Tell("exception", "")
	}
	b.Ch.Tell("feed", b.C.Rec().Code)
	return nil
}

// TryAgain puts the failed messages of a connection back into its inbox's queue.
func (r *Exchange) TryAgain(ctx context.Context, code, who string) (int64, error) {
	c := r.ByCode(code)
	if c == nil {
		return 0, engine.NoConnection(code)
	}
	var n int64
	err := r.Commit(ctx, func(ch *engine.Change) (err error) {
		ch.Tell("exception", "")
		n, err = ch.Reopen(c.Rec().ID, who, ch.Now)
		return err
	})
	c.WakeIn.Now()
	return n, err
}

func (b *Batch) Skip(in store.InboxMessage, y *store.Tally, reason, text string) {
	y.Skipped++
	y.Reason(reason)
	b.Settle(in, "skipped", text, 0)
}
