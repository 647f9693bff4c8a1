package engine

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

// Change collects what a transaction will cause once it is committed. Nothing in memory is touched before.
type Change struct {
	*store.Tx
	events     []Event
	Wake       map[int64]bool
	Now        time.Time
	Recast     bool             // items changed in what they are, not only in their texts
	ItemsMoved bool             // items changed in any way
	Listed     map[int64]bool   // connections on which the state of a listing moved
	Memo       map[any]any      // what rooms keep for the length of the change
	Watch      bool             // something may be due sooner than the watch thinks
	LateOffers bool             // channels are told what it moved a little later, once for many such changes
	jobs       map[JobKind]bool // kinds of work that there is something for
	then       []func()         // what memory is to know once it is committed
	marked     [marks]map[int64]bool
	settlers   *[marks]Settler
}

// Tell lets those who listen know of it, once, when the change is committed.
func (c *Change) Tell(kind, key string) {
	c.events = append(c.events, Event{Kind: kind, Key: key})
}

// Remember keeps something for the length of the change, under a key that only one room uses.
func (c *Change) Remember(key, value any) {
	if c.Memo == nil {
		c.Memo = map[any]any{}
	}
	c.Memo[key] = value
}

// After lets f change memory once the change is committed.
func (c *Change) After(f func()) { c.then = append(c.then, f) }

// Try runs a part of a change and settles it. Where it fails, or breaks, nothing of it is left and the rest of the change
// goes on.
func (c *Change) Try(f func() error) error {
	before := *c
	before.Memo = maps.Clone(c.Memo)
	before.Wake, before.Listed, before.jobs = maps.Clone(c.Wake), maps.Clone(c.Listed), maps.Clone(c.jobs)
	before.events, before.then, before.marked = slices.Clip(c.events), slices.Clip(c.then), cloneMarks(c.marked)
	err := c.Tx.Try(func() error {
		return Safely(func() error {
			if err := f(); err != nil {
				return err
			}
			return c.Settle()
		})
	})
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

// Safely turns a panic into an error.
func Safely(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = &broken{p, debug.Stack()}
		}
	}()
	return f()
}

// Commit runs f in a transaction and settles what it marked, then tells those who listen and wakes those who send.
func (r *Engine) Commit(ctx context.Context, f func(*Change) error) error {
	return r.commit(ctx, r.Store.Write, f)
}

// CommitUnsynced is like Commit for what is done again, to no harm, where a loss of power takes it back; see store.WriteUnsynced.
func (r *Engine) CommitUnsynced(ctx context.Context, f func(*Change) error) error {
	return r.commit(ctx, r.Store.WriteUnsynced, f)
}

// CommitAlone is like CommitUnsynced for a change that takes long; see store.WriteAlone.
func (r *Engine) CommitAlone(ctx context.Context, f func(*Change) error) error {
	return r.commit(ctx, r.Store.WriteAlone, f)
}

func (r *Engine) commit(ctx context.Context, write func(context.Context, func(*store.Tx) error) error, f func(*Change) error) error {
	c := &Change{Wake: map[int64]bool{}, jobs: map[JobKind]bool{}, Now: r.Clock(), settlers: &r.settlers}
	if r.hook != nil {
		r.hook("before a commit")
	}
	err := write(ctx, func(t *store.Tx) error {
		c.Tx = t
		if err := f(c); err != nil {
			return err
		}
		return c.Settle()
	})
	if err != nil {
		return err
	}
	if r.hook != nil {
		r.hook("after a commit")
	}
	for _, f := range c.then {
		f()
	}
	for _, f := range r.Committed {
		if err := f(context.WithoutCancel(ctx), c); err != nil {
			return err
		}
	}
	for id := range c.Wake {
		if k := r.ByID(id); k != nil {
			k.WakeOut.Now()
		}
	}
	if c.Watch {
		r.WakeWatch.Now()
	}
	for kind := range c.jobs {
		r.wakeJobs[kind].Now()
	}
	r.Bus.Publish(distinct(c.events))
	return nil
}

// Queue puts a message into the outbox under a reference of its own.
func (r *Engine) Queue(c *Change, m store.OutboxMessage) (int64, error) {
	c.Wake[m.ConnectionID] = true
	return c.Enqueue(m, r.Prefix, c.Now)
}

// QueueMany is Queue for messages of which each is about something else.
func (r *Engine) QueueMany(c *Change, list []store.OutboxMessage) error {
	for i := range list {
		c.Wake[list[i].ConnectionID] = true
	}
	return c.EnqueueMany(list, r.Prefix, c.Now)
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

// IsRefused tells whether an error is a refusal, and what it says.
func IsRefused(err error) (string, bool) {
	var refused *Refused
	if errors.As(err, &refused) {
		return refused.Text, true
	}
	return "", false
}
