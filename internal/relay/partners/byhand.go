package partners

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// onRequest changes a request by hand.
func (r *Partners) onRequest(ctx context.Context, number string, f func(*engine.Change, *engine.Conn, *store.Request) error) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		q, err := ch.Request(number)
		if err != nil {
			return fmt.Errorf("request %s: %w", number, err)
		}
		c := r.ByID(q.ConnectionID)
		if c == nil {
			return &engine.Refused{Text: "the partner of request " + number + " is gone", Conflict: true}
		}
		return f(ch, c, &q)
	})
}

// AskAgain asks a partner again about a request under the same reference.
func (r *Partners) AskAgain(ctx context.Context, number, who string) error {
	return r.onRequest(ctx, number, func(ch *engine.Change, _ *engine.Conn, q *store.Request) error { return r.again(ch, q, who) })
}

// CallOff asks a partner not to send what is left of a request. elsewhere: it is then planned anew without it; otherwise what the order
// still wants is asked for again.
func (r *Partners) CallOff(ctx context.Context, number, reason, who string) error {
	return r.onRequest(ctx, number, func(ch *engine.Change, c *engine.Conn, q *store.Request) error {
		if q.State.Ended() {
			return &engine.Refused{Text: fmt.Sprintf("request %s is %s", q.Number, q.State), Conflict: true}
		}
		q.Away = true
		waited := q.State == request.Waits
		freed := map[int64]int64{}
		for i := range q.Lines {
			freed[q.Lines[i].LineID] = q.Lines[i].Open()
		}
		if err := r.stop(ch, q, engine.Or(request.Tidy(reason), "to be sent from elsewhere"), who); err != nil {
			return err
		}
		if !waited || q.Test {
			return nil
		}
		e := request.Effect{Freed: freed}
		return r.planAnew(ch, q, &e, request.News{Says: request.SaysCalledOff, Reason: reason}, who)
	})
}

// SaidByHand is what a partner said by telephone or letter, as a person types it.
type SaidByHand struct {
	Says     string `json:"says" doc:"What the partner said" enum:"acknowledged,refused,called off,not called off,closed"`
	Reason   string `json:"reason,omitempty" maxLength:"200"`
	Expected string `json:"expected,omitempty" doc:"Day on which it means to send it, YYYY-MM-DD" maxLength:"10"`
}

// Say takes what a partner said of a request, as a person types it.
func (r *Partners) Say(ctx context.Context, number string, said SaidByHand, who string) error {
	if _, err := time.Parse(time.DateOnly, said.Expected); said.Expected != "" && err != nil {
		return engine.Refuse("expected %q: a day such as 2026-11-30 is expected", said.Expected)
	}
	return r.onRequest(ctx, number, func(ch *engine.Change, c *engine.Conn, q *store.Request) error {
		if q.State == request.Waits && said.Says == request.SaysAcknowledged && q.Asks == 0 {
			return &engine.Refused{Text: fmt.Sprintf("request %s never went out; it cannot be acknowledged", q.Number), Conflict: true}
		}
		changed, err := r.hear(ch, c, q, request.News{Says: said.Says, Reason: said.Reason, Expected: said.Expected}, who)
		if err == nil && !changed {
			return &engine.Refused{Text: fmt.Sprintf("request %s is %s; nothing follows from that", q.Number, q.State), Conflict: true}
		}
		return err
	})
}

// SentByHand is what left, as a person types it.
type SentByHand struct {
	Carrier  string           `json:"carrier" maxLength:"80"`
	Tracking string           `json:"tracking" doc:"The carrier's number of the parcel" maxLength:"80"`
	Lines    map[string]int64 `json:"lines,omitempty" doc:"Units by our SKU; empty: all that is open"`
}

// SentTyped books a parcel that a partner sent and told of otherwise.
func (r *Partners) SentTyped(ctx context.Context, number string, sent SentByHand, who string) error {
	m := message.Dispatch{Carrier: request.Tidy(sent.Carrier), Tracking: request.Tidy(sent.Tracking)}
	if m.Tracking == "" {
		return engine.Refuse("tracking: missing")
	}
	for sku, n := range sent.Lines {
		if n < 1 {
			return engine.Refuse("lines: at least 1 of %s is expected", sku)
		}
		m.Lines = append(m.Lines, message.DispatchLine{SKU: sku, Quantity: n})
	}
	return r.onRequest(ctx, number, func(ch *engine.Change, c *engine.Conn, q *store.Request) error {
		if q.Test || q.Open() == 0 {
			return &engine.Refused{Text: fmt.Sprintf("nothing of request %s is open", q.Number), Conflict: true}
		}
		if known(ch, m.Tracking) {
			return &engine.Refused{Text: "a parcel with number " + m.Tracking + " is known", Conflict: true}
		}
		o, err := ch.Order(q.OrderID)
		if err != nil {
			return err
		}
		units, more, err := r.unitsTold(ch, o, q, &m)
		if err != nil {
			return err
		}
		if len(more) > 0 {
			return engine.Refuse("lines: %s is not open in request %s", engine.Join(more), q.Number)
		}
		got, err := r.Shipping.SentByPartner(ch, c, "", o, q, units, &m)
		if err != nil {
			return err
		}
		if len(got) == 0 {
			return &engine.Refused{Text: fmt.Sprintf("order %s does not want anything of it any more", q.OrderNumber), Conflict: true}
		}
		if err := r.note(ch, q, who, "a partner says", "%s left with %s, typed by a person", q.Number, m.Tracking); err != nil {
			return err
		}
		total, err := r.sentOf(ch, q)
		if err != nil {
			return err
		}
		if q.State == request.Waits || q.State == request.Asked {
			q.State = request.Acknowledged
		}
		q.SetSent(total)
		if err := r.over(ch, q, engine.RequestSilent, engine.RequestRefused, engine.RequestLook); err != nil {
			return err
		}
		ch.Mark(engine.RequestsMoved, o.ID)
		return r.save(ch, c, q)
	})
}

// AskFor asks the partners of an order's places for what they were not asked for yet, whatever was agreed about asking by itself.
func (r *Partners) AskFor(ctx context.Context, orderNumber, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(orderNumber)
		if err != nil {
			return err
		}
		if err := o.Workable(); err != nil {
			return engine.OrderStateError(err)
		}
		list, err := ch.RequestsOfOrder(o.ID)
		if err != nil {
			return err
		}
		left := promises(o)
		for i := range list {
			if err := r.stopUnwanted(ch, o, &list[i], left); err != nil {
				return err
			}
		}
		before := len(list)
		for _, location := range engine.Keys(left) {
			if c := r.PartnerAt(location); c != nil {
				if err := r.askAt(ch, c, o, location, left[location], who); err != nil {
					return err
				}
			}
		}
		if list, err = ch.RequestsOfOrder(o.ID); err == nil && len(list) == before {
			err = &engine.Refused{Text: "no partner is to send anything of order " + o.Number + " that it was not asked for",
				Conflict: true}
		}
		return err
	})
}

// LetSend lets a place be asked again that refused to send an order.
func (r *Partners) LetSend(ctx context.Context, orderNumber, placeCode, who string) error {
	l, err := r.Location(placeCode)
	if err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		return r.Orders.OnOrder(ch, orderNumber, who, func(o *order.Order, _ *engine.Conn, s *order.Scene) (order.Change, error) {
			return order.LetSend(o, l.ID, s)
		})
	})
}
