package attention

import (
	"context"
	"errors"
	"fmt"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// GroupOf names a group of exceptions as people do.
type GroupOf struct {
	Cause      order.Cause `json:"cause"`
	Connection string      `json:"connection,omitempty" doc:"Code; empty: none"`
	Subject    string      `json:"subject,omitempty"`
}

func (r *Attention) group(g GroupOf) (store.Group, error) {
	out := store.Group{Cause: g.Cause, Subject: g.Subject}
	if g.Connection == "" {
		return out, nil
	}
	c := r.ByCode(g.Connection)
	if c == nil {
		return out, fmt.Errorf("connection %s: %w", g.Connection, store.ErrNotFound)
	}
	out.ConnectionID = c.ID
	return out, nil
}

// onGroup changes a group and says what was done.
func (r *Attention) onGroup(ctx context.Context, g GroupOf, f func(*engine.Change, store.Group) (int64, error)) (int64, error) {
	in, err := r.group(g)
	if err != nil {
		return 0, err
	}
	var n int64
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		ch.Tell("exception", "")
		n, err = f(ch, in)
		if err == nil && n == 0 {
			return &engine.Refused{Text: "nothing of that is open any more", Conflict: true}
		}
		return err
	})
	return n, err
}

// AssignException says who looks after a group; empty: nobody.
func (r *Attention) AssignException(ctx context.Context, g GroupOf, assignee string) (int64, error) {
	return r.onGroup(ctx, g, func(ch *engine.Change, in store.Group) (int64, error) { return ch.AssignGroup(in, assignee) })
}

// Snooze lets a group sleep until a time; the zero time wakes it.
func (r *Attention) Snooze(ctx context.Context, g GroupOf, until time.Time) (int64, error) {
	if !until.IsZero() && until.After(r.Clock().AddDate(0, 3, 0)) {
		return 0, engine.Refuse("until: at most three months from now")
	}
	return r.onGroup(ctx, g, func(ch *engine.Change, in store.Group) (int64, error) { return ch.SnoozeGroup(in, until) })
}

// Settle closes a group of which a person says that it was dealt with elsewhere.
func (r *Attention) Settle(ctx context.Context, g GroupOf, who string) (int64, error) {
	n, err := r.onGroup(ctx, g, func(ch *engine.Change, in store.Group) (int64, error) { return ch.CloseGroup(in, who, ch.Now) })
	var refused *engine.Refused
	if errors.As(err, &refused) {
		return 0, &engine.Refused{Text: "the holds of orders end when their cause does; they are not settled by hand", Conflict: true}
	}
	return n, err
}

// SendGroupAgain sends all refused messages of a group again.
func (r *Attention) SendGroupAgain(ctx context.Context, g GroupOf, who string) (int64, error) {
	return r.onGroup(ctx, g, func(ch *engine.Change, in store.Group) (int64, error) {
		ids, err := ch.RefusedOf(in)
		if err != nil {
			return 0, err
		}
		for _, id := range ids {
			if err := r.Exchange.Resend(ch, id, who); err != nil {
				return 0, err
			}
		}
		return int64(len(ids)), nil
	})
}

// ExceptionsOf lists the open exceptions of a group, oldest first.
func (r *Attention) ExceptionsOf(ctx context.Context, g GroupOf, after int64, limit int) ([]store.Exception, error) {
	in, err := r.group(g)
	if err != nil {
		return nil, err
	}
	return r.Store.ExceptionsOf(ctx, in, after, limit)
}
