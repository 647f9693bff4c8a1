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
	ref, err := r.PersonRef(ctx, assignee)
	if err != nil {
		return 0, err
	}
	return r.onGroup(ctx, g, func(ch *engine.Change, in store.Group) (int64, error) { return ch.AssignGroup(in, ref) })
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
		return 0, &engine.Refused{Conflict: true,
			Text: "nothing of that is open that is settled by hand; the holds of orders end when their cause does"}
	}
	return n, err
}

// SentAgain is what became of the messages of a group that somebody wanted sent again.
type SentAgain struct {
	Count   int64  `json:"count" doc:"How many are sent again"`
	Refused int64  `json:"refused,omitempty" doc:"How many cannot be sent again"`
	Why     string `json:"why,omitempty" doc:"Why the first of those cannot"`
}

// SendGroupAgain sends again the messages of a group that were refused, or of which nobody said what became of them. One that
// cannot be sent again keeps back no other.
func (r *Attention) SendGroupAgain(ctx context.Context, g GroupOf, who string) (SentAgain, error) {
	var out SentAgain
	_, err := r.onGroup(ctx, g, func(ch *engine.Change, in store.Group) (int64, error) {
		ids, err := ch.UntakenOf(in)
		if err != nil {
			return 0, err
		}
		out = SentAgain{}
		for _, id := range ids {
			err := r.Exchange.Resend(ch, id, who) // it refuses before it changes anything
			why, refused := engine.IsRefused(err)
			switch {
			case err == nil:
				out.Count++
			case !refused:
				return 0, err
			default:
				out.Refused++
				out.Why = engine.Or(out.Why, why)
			}
		}
		return int64(len(ids)), nil
	})
	if err == nil && out.Count == 0 {
		err = &engine.Refused{Text: out.Why, Conflict: true}
	}
	return out, err
}

// ExceptionsOf lists the open exceptions of a group, oldest first.
func (r *Attention) ExceptionsOf(ctx context.Context, g GroupOf, after int64, limit int) ([]store.Exception, error) {
	in, err := r.group(g)
	if err != nil {
		return nil, err
	}
	return r.Store.ExceptionsOf(ctx, in, after, limit)
}

// OrdersOf lists the numbers of the orders that wait for a group, oldest exception first.
func (r *Attention) OrdersOf(ctx context.Context, g GroupOf) ([]string, error) {
	in, err := r.group(g)
	if err != nil {
		return nil, err
	}
	numbers, err := r.Store.NumbersOfGroup(ctx, in)
	if err == nil && len(numbers) == 0 {
		return nil, &engine.Refused{Text: "no order waits for that any more", Conflict: true}
	}
	return numbers, err
}
