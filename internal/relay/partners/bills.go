package partners

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// TakeBillLine takes in a line of what a partner, or a carrier, bills.
func (r *Partners) TakeBillLine(b *exchange.Batch, in store.InboxMessage, m *message.BillLine) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	if err := m.Check(); err != nil {
		return r.unfit(b, in, y, m.Request, 0, err.Error(), "A line that says what it is about. Correct it at the other side.", false)
	}
	line := shipping.Bill{Bill: r.Shipping.BillOf(m.Bill), Number: engine.Or(m.Request, m.Tracking), What: request.Tidy(m.What),
		Currency: engine.Or(m.Currency, r.Currency()), Carrier: b.C.Rec().Code, Amount: m.Amount}
	if err := r.Shipping.TakeBill(b.Ch, line); err != nil {
		return err
	}
	y.New++
	b.Settle(in, "done", "", 0)
	return nil
}

// BillOfPartner takes a line of a bill that is about a request, and tells whether it is: by our reference or number of it, the number of
// its order, or that of a parcel that was sent for it.
func (r *Partners) BillOfPartner(ch *engine.Change, b shipping.Bill) (bool, error) {
	q, err := r.billed(ch, b)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	x := store.BillLine{Bill: b.Bill, Tracking: b.Number, What: b.What, Amount: b.Amount, Currency: b.Currency, WeightG: b.WeightG,
		CarrierID: q.ConnectionID, RequestID: q.ID, State: store.BillAgrees}
	isNew, err := ch.AddBillLine(&x, ch.Now)
	if err != nil || !isNew {
		return true, err
	}
	return true, r.compareBilled(ch, &q)
}

// billed finds the request that a line of a bill is about.
func (r *Partners) billed(ch *engine.Change, b shipping.Bill) (q store.Request, err error) {
	if c := r.ByCode(b.Carrier); c != nil && engine.TakesRequests(c) {
		if q, err = r.named(ch, c, b.Number); !errors.Is(err, store.ErrNotFound) {
			return q, err
		}
		o, err := ch.OrderByNumber(b.Number)
		if err == nil {
			list, err := ch.RequestsOfOrder(o.ID)
			list = slices.DeleteFunc(list, func(q store.Request) bool { return q.ConnectionID != c.ID || q.Test })
			if err != nil {
				return q, err
			}
			if len(list) > 0 {
				return list[len(list)-1], nil
			}
		} else if !errors.Is(err, store.ErrNotFound) {
			return q, err
		}
	}
	for _, c := range r.Sorted() {
		if !engine.TakesRequests(c) {
			continue
		}
		if q, err = r.named(ch, c, b.Number); !errors.Is(err, store.ErrNotFound) {
			return q, err
		}
	}
	p, err := ch.Parcel(b.Number)
	if err != nil {
		return q, err
	}
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil || s.RequestID == 0 {
		return q, errors.Join(err, store.ErrNotFound)
	}
	return ch.RequestByID(s.RequestID)
}

// compareBilled says of all lines about a request whether they agree with what was agreed. What a person said of one stands.
func (r *Partners) compareBilled(ch *engine.Change, q *store.Request) error {
	c := r.ByID(q.ConnectionID)
	lines, err := ch.BilledForRequest(q.ID)
	if err != nil || c == nil {
		return err
	}
	t, err := r.terms(ch, c)
	if err != nil {
		return err
	}
	q.Billed = 0
	for _, l := range lines {
		if l.Currency == q.Currency && l.State != store.BillDisputed {
			q.Billed += l.Amount
		}
	}
	why := ""
	switch {
	case slices.ContainsFunc(lines, func(l store.BillLine) bool { return l.Currency != q.Currency }):
		why = "billed in another currency than " + engine.Or(q.Currency, "was agreed")
	case !t.AsksMoney():
		why = "what it asks is not agreed here (Partners, Agreed)"
	case !t.Agrees(q.Cost, q.Billed):
		why = fmt.Sprintf("billed %s, agreed %s", shipping.Price(q.Billed, q.Currency), shipping.Price(q.Cost, q.Currency))
		if twice := shipping.Twice(lines); twice != "" && q.Billed > q.Cost {
			why = twice
		} else if q.Cost == 0 {
			why += ": nothing of it has left"
		}
	}
	for _, l := range lines {
		if l.State == store.BillAccepted || l.State == store.BillDisputed {
			continue
		}
		if l.State, l.Why = store.BillAgrees, ""; why != "" {
			l.State, l.Why = store.BillDiffers, why
		}
		if err := ch.SetBillLine(l); err != nil {
			return err
		}
	}
	ch.Tell("request", q.Number)
	if err := ch.UpdateRequest(q); err != nil {
		return err
	}
	return r.Shipping.RaiseBills(ch, c.ID)
}

// DecideBill takes what a person says of a line of a bill: of a partner's or a carrier's.
func (r *Partners) DecideBill(ctx context.Context, id int64, say shipping.SayOfBill, who string) error {
	ofRequest := false
	err := r.Commit(ctx, func(ch *engine.Change) error {
		b, err := ch.BillLine(id)
		if err != nil {
			return fmt.Errorf("line %d: %w", id, err)
		}
		if ofRequest = b.RequestID != 0; !ofRequest {
			return nil
		}
		if say.Parcel != "" {
			return engine.Refuse("parcel: the line is about request %s", b.Request)
		}
		b.State, b.Note = engine.Or(say.State, store.BillAgrees), request.Tidy(say.Note)
		if err := ch.SetBillLine(b); err != nil {
			return err
		}
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: "bill", Text: fmt.Sprintf(
			"Bill %s, %s, %s: %s %s", b.Bill, b.Request, shipping.Price(b.Amount, b.Currency), b.State, b.Note)}); err != nil {
			return err
		}
		q, err := ch.RequestByID(b.RequestID)
		if err != nil {
			return err
		}
		return r.compareBilled(ch, &q)
	})
	if err != nil || ofRequest {
		return err
	}
	return r.Shipping.DecideBill(ctx, id, say, who)
}

// SettleDifference notes that somebody has looked at a difference of a partner's stock, and why it was.
func (r *Partners) SettleDifference(ctx context.Context, id int64, note, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		connection, err := ch.SettleStockDifference(id, who, request.Tidy(note), ch.Now)
		if err != nil {
			return fmt.Errorf("difference %d: %w", id, err)
		}
		if c := r.ByID(connection); c != nil {
			ch.Tell("partner", c.Rec().Code)
			return r.Inventory.RaiseDifferences(ch, c)
		}
		return nil
	})
}
