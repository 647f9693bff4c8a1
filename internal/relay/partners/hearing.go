package partners

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeRequestState takes in what a partner says of a request.
func (r *Partners) TakeRequestState(b *exchange.Batch, in store.InboxMessage, m *message.RequestState) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	if err := m.Check(); err != nil {
		return r.unfit(b, in, y, m.Reference, 0, err.Error(), "A state that can be read. Correct it at the other side.", false)
	}
	q, err := r.named(b.Ch, b.C, m.Reference)
	if errors.Is(err, store.ErrNotFound) {
		return r.unfit(b, in, y, m.Reference, 0, "nothing was asked under this reference", "Our reference of a request, as it was asked. "+
			"Correct it at the other side.", false)
	}
	if err != nil {
		return err
	}
	partner := r.ByID(q.ConnectionID)
	if partner == nil {
		return r.unfit(b, in, y, m.Reference, q.OrderID, "its partner is gone", "A partner that is joined.", false)
	}
	changed, err := r.hear(b.Ch, partner, &q, m.News(), b.C.Rec().Name)
	if err != nil {
		return err
	}
	if !changed {
		b.Skip(in, y, "nothing new", fmt.Sprintf("request %s is %s already", q.Number, q.State))
		return nil
	}
	y.Changed++
	b.Settle(in, "done", "", q.OrderID)
	return nil
}

// unfit raises what a partner said that fits nothing here.
func (r *Partners) unfit(b *exchange.Batch, in store.InboxMessage, y *store.Tally, reference string, order int64, why, expected string,
	again bool) error {
	y.Failed++
	y.Reason("cannot be applied")
	if err := b.Unfit(in, why, order, again); err != nil {
		return err
	}
	b.Ch.Tell("exception", "")
	return b.Ch.Raise(store.Exception{Cause: engine.NotApplied, Subject: in.OutsideID,
		Text:     fmt.Sprintf("%s speaks of request %s, but %s.", b.C.Rec().Name, engine.Or(reference, "without a reference"), why),
		Expected: expected, ConnectionID: b.C.ID, OrderID: order, InboxID: in.ID, Standing: true}, b.Ch.Now)
}

// hear takes what a partner, or a person for it, says of a request, and tells whether anything follows.
func (r *Partners) hear(ch *engine.Change, c *engine.Conn, q *store.Request, n request.News, who string) (changed bool, err error) {
	e := q.Hear(n)
	q.HeardAt = ch.Now.UnixMicro()
	if n.Says == request.SaysNotCalledOff {
		q.Away = false // it is sent from there after all
	}
	if e.Changed() {
		if err := r.note(ch, q, who, "a partner says", "%s: %s %s", q.Number, c.Rec().Name, e.Text); err != nil {
			return false, err
		}
	}
	if err := r.over(ch, q, engine.RequestSilent, engine.RequestRefused); err != nil {
		return false, err
	}
	if q.State != request.Stopping {
		if err := r.over(ch, q, engine.RequestLook); err != nil {
			return false, err
		}
	}
	if err := r.trouble(ch, c, q, &e); err != nil {
		return false, err
	}
	if err := r.save(ch, c, q); err != nil {
		return false, err
	}
	if q.Test {
		return e.Changed(), nil
	}
	return e.Changed(), r.planAnew(ch, q, &e, n, who)
}

// planAnew plans what a partner does not send from elsewhere. What was called off because its order does not want it needs no plan.
func (r *Partners) planAnew(ch *engine.Change, q *store.Request, e *request.Effect, n request.News, who string) error {
	if len(e.Freed) == 0 {
		ch.Mark(engine.RequestsMoved, q.OrderID)
		return nil
	}
	refuses := n.Says != request.SaysCalledOff || q.Away
	if !refuses {
		ch.Mark(engine.RequestsMoved, q.OrderID) // what is still wanted is asked for anew
		return nil
	}
	reason := engine.Or(request.Tidy(n.Reason), map[bool]string{true: "called off", false: ""}[q.Away])
	begun, err := r.begun(ch, q.OrderID)
	if err != nil {
		return err
	}
	return r.Orders.OnOrder(ch, q.OrderNumber, who, func(o *order.Order, _ *engine.Conn, s *order.Scene) (order.Change, error) {
		o.Routed = begun
		return order.GiveBack(o, e.Freed, q.LocationID, true, reason, s), nil
	})
}

// begun tells whether anybody works on an order: a shipment of it is begun or has left, or a partner is asked.
func (r *Partners) begun(ch *engine.Change, order int64) (bool, error) {
	shipments, err := ch.ShipmentsOfOrder(order)
	if err != nil || slices.ContainsFunc(shipments, func(s store.Shipment) bool { return s.State != store.CalledOff }) {
		return true, err
	}
	requests, err := ch.RequestsOfOrder(order)
	return slices.ContainsFunc(requests, func(q store.Request) bool { return !q.State.Ended() && !q.Test }), err
}

// trouble asks a person to look at what does not fit.
func (r *Partners) trouble(ch *engine.Change, c *engine.Conn, q *store.Request, e *request.Effect) error {
	name := c.Rec().Name
	switch e.Trouble {
	case request.NoTrouble:
		return nil
	case request.UnknownFor:
		items, err := ch.Items(e.Unknown)
		if err != nil {
			return err
		}
		for _, id := range e.Unknown {
			if err := r.raiseUnknown(ch, c, q, items[id], "it says so of request "+q.Number); err != nil {
				return err
			}
		}
		return nil
	case request.TooLate:
		return r.raise(ch, c, q, engine.RequestLook, fmt.Sprintf("%s does not call off request %s of order %s any more: %s.", name,
			q.Number,
			q.OrderNumber, engine.Or(q.Reason, "it gives no reason")),
			"It will be sent. Tell the buyer, or expect it back. This is over when it has left.")
	case request.Late:
		return r.raise(ch, c, q, engine.RequestLook, fmt.Sprintf("%s %s: request %s of order %s.", name, e.Text, q.Number, q.OrderNumber),
			"One sender for each unit. Tell them that it is not wanted any more, then settle this.")
	}
	return r.raise(ch, c, q, engine.RequestLook, fmt.Sprintf("%s %s: request %s of order %s.", name, e.Text, q.Number, q.OrderNumber),
		"What was asked for, and no more. Find out with them what is meant, then settle this.")
}

// ofMessage finds the request that a message of the outbox is about.
func (r *Partners) ofMessage(ch *engine.Change, m store.OutboxMessage) (store.Request, error) {
	var number string
	if _, err := fmt.Sscanf(m.Subject, "request %s", &number); err != nil {
		return store.Request{}, fmt.Errorf("message %s is about no request: %q", m.Ref, m.Subject)
	}
	return ch.Request(number)
}

// RequestTaken takes that a partner took a request, and what it answered at once.
func (r *Partners) RequestTaken(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, answer any) error {
	q, err := r.ofMessage(ch, m)
	if err != nil {
		return err
	}
	if err := r.over(ch, &q, engine.RequestRefused); err != nil {
		return err
	}
	told, ok := answer.(*message.RequestAnswer)
	if !ok || *told == (message.RequestAnswer{}) {
		return nil // it says later what becomes of it
	}
	if told.State == "" {
		q.TheirID, q.Expected = engine.Or(told.ID, q.TheirID), engine.Or(told.Expected, q.Expected)
		return r.save(ch, c, &q)
	}
	state := message.RequestState{Reference: r.reference(&q), ID: told.ID, State: told.State, Reason: told.Reason, Expected: told.Expected}
	_, err = r.hear(ch, c, &q, state.News(), c.Rec().Name)
	return err
}

// RequestNotTaken lets a request wait that its partner does not take as it is asked: a person looks at why. A cancellation that is not
// taken is none: the request goes on.
func (r *Partners) RequestNotTaken(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	q, err := r.ofMessage(ch, m)
	if err != nil {
		return "", err
	}
	if m.Feed == message.RequestStops {
		_, err := r.hear(ch, c, &q, request.News{Says: request.SaysNotCalledOff, Reason: m.Error}, c.Rec().Name)
		return "", err
	}
	if q.State != request.Asked {
		return "", nil // it went on meanwhile
	}
	q.State, q.Reason = request.Waits, m.Error
	if err := r.note(ch, &q, c.Rec().Name, "request not taken", "%s does not take %s: %s", c.Rec().Name, q.Number, m.Error); err != nil {
		return "", err
	}
	if err := r.raise(ch, c, &q, engine.RequestRefused, fmt.Sprintf("%s does not take request %s of order %s as it is asked: %s",
		c.Rec().Name,
		q.Number, q.OrderNumber, m.Error), "A request that it takes. Correct what it names and ask again; or let another place send "+
		"it."); err != nil {
		return "", err
	}
	return "", r.save(ch, c, &q)
}

// askUnknownEvery is how often it is asked again under the same reference where no answer came.
const askUnknownEvery = 15 * time.Minute

// RequestNotKnown keeps a request open that was sent often and never answered: the partner may have it.
func (r *Partners) RequestNotKnown(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	q, err := r.ofMessage(ch, m)
	if err != nil {
		return err
	}
	m.State, m.NextAt = store.Waiting, ch.Now.Add(askUnknownEvery).UnixMicro()
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	return r.raise(ch, c, &q, engine.RequestSilent, fmt.Sprintf("%s has not answered whether it has request %s of order %s (%s). It may "+
		"have it.",
		c.Rec().Name, q.Number, q.OrderNumber, m.Error), "An answer: it is asked again every quarter of an hour under the same "+
		"reference, and "+
		"nobody else meanwhile. Ask them, then say on the request what they answered.")
}

// RequestAgain sends a message about a request again, as the request is now.
func (r *Partners) RequestAgain(ch *engine.Change, m store.OutboxMessage, who string) error {
	if m.State == store.Waiting {
		m.NextAt = ch.Now.UnixMicro()
		ch.Wake[m.ConnectionID] = true
		return ch.SettleOutbox(m)
	}
	q, err := r.ofMessage(ch, m)
	if err != nil {
		return err
	}
	if err := r.again(ch, &q, who); err != nil {
		return err
	}
	m.State = store.Superseded
	return ch.SettleOutbox(m)
}

// again asks a partner again: whether it has a request, or whether it has called one off.
func (r *Partners) again(ch *engine.Change, q *store.Request, who string) error {
	c := r.ByID(q.ConnectionID)
	if c == nil {
		return &engine.Refused{Text: "the partner is gone", Conflict: true}
	}
	if q.State.Ended() {
		return &engine.Refused{Text: fmt.Sprintf("request %s is %s", q.Number, q.State), Conflict: true}
	}
	if err := r.over(ch, q, engine.RequestSilent, engine.RequestRefused, engine.RequestLook); err != nil {
		return err
	}
	if q.State == request.Stopping {
		if err := r.queueStop(ch, c, q); err != nil {
			return err
		}
		if err := r.note(ch, q, who, "request being called off", "%s asked again not to send %s", c.Rec().Name, q.Number); err != nil {
			return err
		}
		return r.save(ch, c, q)
	}
	o, err := ch.Order(q.OrderID)
	if err != nil {
		return err
	}
	was := q.State
	if err := r.send(ch, c, o, q, who); err != nil {
		return err
	}
	if q.State == request.Asked && was != request.Waits && was != request.Asked {
		q.State = was // it was acknowledged before, and still is
		return ch.UpdateRequest(q)
	}
	return nil
}
