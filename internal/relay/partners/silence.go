package partners

import (
	"context"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// asksBefore is how often a partner that says nothing is asked by itself, before a person is.
const asksBefore = 3

// lookBatch is how many silent requests are looked at in one change.
const lookBatch = 50

// RequestsDue looks at requests of which their partner has said nothing for longer than was agreed: it is asked again where that sends
// nothing twice, else a person is. It returns when the next is due.
func (r *Partners) RequestsDue(ctx context.Context) (time.Time, error) {
	for {
		n := 0
		err := r.Commit(ctx, func(ch *engine.Change) error {
			list, err := ch.RequestsToLookAt(ch.Now, lookBatch)
			if err != nil {
				return err
			}
			n = len(list)
			for i := range list {
				if err := r.silent(ch, &list[i]); err != nil {
					return fmt.Errorf("request %s: %w", list[i].Number, err)
				}
			}
			return nil
		})
		if err != nil || n < lookBatch {
			if err != nil {
				return time.Time{}, err
			}
			return r.Store.NextRequestLook(ctx)
		}
	}
}

// silent asks again about a request, or asks a person.
func (r *Partners) silent(ch *engine.Change, q *store.Request) error {
	c := r.ByID(q.ConnectionID)
	if c == nil {
		q.LookAt = 0
		return ch.UpdateRequest(q)
	}
	under, err := ch.OpenFor(c.ID, message.RequestsOut, subject(q))
	if err != nil {
		return err
	}
	switch {
	case q.State == request.Asked && !under && q.Asks < asksBefore && repeats(c.Line().Def):
		return r.again(ch, q, "relay")
	case q.State == request.Asked:
		err = r.raise(ch, c, q, engine.RequestSilent, fmt.Sprintf("%s has said nothing of request %s of order %s (%s), asked %s ago.",
			c.Rec().Name, q.Number, q.OrderNumber, goods(q), span(ch.Now.Sub(store.Time(q.AskedAt)))),
			"Its word. Ask them, then say on the request what they answered: that they send it, or that they do not. Nobody else is asked "+
				"meanwhile.")
	case q.State == request.Stopping:
		err = r.raise(ch, c, q, engine.RequestSilent, fmt.Sprintf("%s has not said whether it calls off request %s of order %s.",
			c.Rec().Name,
			q.Number, q.OrderNumber), "Its word. Ask them, then say on the request what they answered: called off, or not any more.")
	default:
		err = r.raise(ch, c, q, engine.RequestSilent, fmt.Sprintf("%s has not sent all of request %s of order %s (%s)%s.", c.Rec().Name,
			q.Number, q.OrderNumber, goods(q), meant(q)), "Goods that leave, with a number. Ask them; type the number on the request "+
			"where they "+
			"tell it otherwise, or let another place send it.")
	}
	if err != nil {
		return err
	}
	q.LookAt = 0
	return ch.UpdateRequest(q)
}

func meant(q *store.Request) string {
	if q.Expected == "" {
		return ""
	}
	return ", which it meant to send on " + q.Expected
}

// repeats tells whether a partner takes a request that is asked again under its reference for the same.
func repeats(def *connector.Definition) bool {
	f := def.Feeds[message.RequestsOut]
	return f != nil && slices.Contains(f.Takes, connector.Repeats)
}

// span writes a span of time in the largest unit that has more than one of it.
func span(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%d days", int(d.Hours()/24))
	case d >= 2*time.Hour:
		return fmt.Sprintf("%d hours", int(d.Hours()))
	}
	return fmt.Sprintf("%d minutes", int(d.Minutes()))
}
