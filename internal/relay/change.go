package relay

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"time"

	"openrelay/internal/store"
)

// change collects what a transaction will cause once it is committed. Nothing in memory is touched before.
type change struct {
	*store.Tx
	events []Event
	wake   map[int64]bool
	now    time.Time
	recast bool             // items changed in what they are, not only in their texts
	items  bool             // items changed in any way
	listed map[int64]bool   // connections on which the state of a listing moved
	memo   map[any]any      // what rooms keep for the length of the change
	watch  bool             // something may be due sooner than the watch thinks
	jobs   map[jobKind]bool // kinds of work that there is something for
	then   []func()         // what memory is to know once it is committed
}

func (c *change) tell(kind, key string) { c.events = append(c.events, Event{Kind: kind, Key: key}) }

// remember keeps something for the length of the change, under a key that only one room uses.
func (c *change) remember(key, value any) {
	if c.memo == nil {
		c.memo = map[any]any{}
	}
	c.memo[key] = value
}

// after lets f change memory once the change is committed.
func (c *change) after(f func()) { c.then = append(c.then, f) }

// try runs a part of a change. Where it fails, or breaks, nothing of it is left and the rest of the change goes on.
func (c *change) try(f func() error) error {
	before := *c
	before.memo = maps.Clone(c.memo)
	before.wake, before.listed, before.jobs = maps.Clone(c.wake), maps.Clone(c.listed), maps.Clone(c.jobs)
	before.events, before.then = slices.Clip(c.events), slices.Clip(c.then)
	err := c.Tx.Try(func() error { return safely(f) })
	if err != nil {
		*c = before
	}
	return err
}

// broken is a panic inside a decision.
type broken struct {
	what  any
	stack []byte
}

func (b *broken) Error() string { return fmt.Sprintf("the decision broke: %v", b.what) }

// safely turns a panic into an error.
func safely(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &broken{p, debug.Stack()}
		}
	}()
	return f()
}

// commit runs f in a transaction, then tells those who listen and wakes those who send.
func (r *Relay) commit(ctx context.Context, f func(*change) error) error {
	c := &change{wake: map[int64]bool{}, jobs: map[jobKind]bool{}, now: r.now()}
	if r.hook != nil {
		r.hook("before a commit")
	}
	if err := r.Store.Write(ctx, func(t *store.Tx) error { c.Tx = t; return f(c) }); err != nil {
		return err
	}
	if r.hook != nil {
		r.hook("after a commit")
	}
	for _, f := range c.then {
		f()
	}
	for _, f := range r.committed {
		if err := f(context.WithoutCancel(ctx), c); err != nil {
			return err
		}
	}
	for id := range c.wake {
		if k := r.byID(id); k != nil {
			k.wakeOut.now()
		}
	}
	if c.watch {
		r.wakeWatch.now()
	}
	for kind := range c.jobs {
		r.wakeJobs[kind].now()
	}
	r.Bus.Publish(c.events)
	return nil
}

// queue puts a message into the outbox under a reference of its own.
func (r *Relay) queue(c *change, m store.OutboxMessage) (int64, error) {
	c.wake[m.ConnectionID] = true
	return c.Enqueue(m, r.prefix, c.now)
}

// Refuse makes an error for a person: what was wrong and what was expected.
func Refuse(format string, args ...any) error {
	return &Refused{Text: fmt.Sprintf(format, args...)}
}

// Refused is a request that was understood and not carried out. Nothing was changed.
type Refused struct {
	Text     string
	Conflict bool // the state of things stands against it, not the request's form
}

func (e *Refused) Error() string { return e.Text }

// isRefused tells whether an error is a refusal, and what it says.
func isRefused(err error) (string, bool) {
	var refused *Refused
	if errors.As(err, &refused) {
		return refused.Text, true
	}
	return "", false
}
