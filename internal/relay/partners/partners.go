// Package partners asks whoever ships for us to send what a plan has placed with them, and follows what they say of it: a warehouse, a
// maker, a supplier, a marketplace's store room. A partner is a connection that takes requests, and whose word counts at a place. What
// is planned comes from orders, what leaves goes through shipping; core/request decides what follows from what a partner says. This room
// keeps the requests, their outcomes, what partners call our items, and what they bill.
package partners

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/core/routing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// Partners asks partners and hears what they say.
type Partners struct {
	*engine.Engine
	Exchange  *exchange.Exchange
	Inventory *inventory.Inventory
	Orders    *orders.Orders
	Shipping  *shipping.Shipping

	// Agreed is what was agreed with partners; one without a row is asked as soon as an order can be worked on.
	Agreed *engine.Table[request.Terms]

	agreed atomic.Pointer[[]request.Terms] // as last written
}

// New makes the room of a company.
func New(e *engine.Engine, x *exchange.Exchange, inv *inventory.Inventory, o *orders.Orders, s *shipping.Shipping) *Partners {
	r := &Partners{Engine: e, Exchange: x, Inventory: inv, Orders: o, Shipping: s}
	r.Agreed = &engine.Table[request.Terms]{Kind: "partners", Most: 200, Check: r.checkTerms, Settle: r.settleTerms}
	e.AddSettingKind(r.Agreed.SettingKind(e))
	return r
}

func (r *Partners) checkTerms(_ context.Context, rows []request.Terms) error {
	for i := range rows {
		t := &rows[i]
		if !engine.TakesRequests(r.ByCode(t.Partner)) {
			return engine.Refuse("row %d: partner %q is not a connection that can be asked to send something", i+1, t.Partner)
		}
		if err := t.Check(); err != nil {
			return engine.Refuse("row %d: %v", i+1, err)
		}
		if slices.ContainsFunc(rows[:i], func(o request.Terms) bool { return o.Partner == t.Partner }) {
			return engine.Refuse("row %d: what was agreed with %s stands there twice", i+1, t.Partner)
		}
	}
	return nil
}

// settleTerms lets partners be asked for what they were not asked for yet.
func (r *Partners) settleTerms(ch *engine.Change) error {
	for _, c := range r.Sorted() {
		if engine.TakesRequests(c) {
			ch.Mark(engine.PartnerSet, c.ID)
		}
	}
	rows, err := r.Agreed.RowsIn(ch)
	ch.After(func() { r.agreed.Store(&rows) })
	return err
}

// LoadTerms reads what was agreed with partners.
func (r *Partners) LoadTerms(ctx context.Context) error {
	rows, err := r.Agreed.Rows(ctx, r.Engine)
	if err == nil {
		r.agreed.Store(&rows)
	}
	return err
}

// AsksAt is what the partner of a location asks for what it sends, and in which currency (empty: the company's); nil of a location of
// ours.
func (r *Partners) AsksAt(location int64) (*routing.Asks, string) {
	c, rows := r.PartnerAt(location), r.agreed.Load()
	if c == nil {
		return nil, ""
	}
	if rows != nil {
		for _, t := range *rows {
			if t.Partner == c.Rec().Code {
				return &routing.Asks{Order: t.Order, Line: t.Line, Unit: t.Unit, Parcel: t.Parcel, Days: int(t.Days)}, t.Currency
			}
		}
	}
	return &routing.Asks{}, ""
}

// terms are what was agreed with a partner.
func (r *Partners) terms(ch *engine.Change, c *engine.Conn) (request.Terms, error) {
	rows, err := r.Agreed.RowsIn(ch)
	at := slices.IndexFunc(rows, func(t request.Terms) bool { return t.Partner == c.Rec().Code })
	if at < 0 {
		return request.Terms{Partner: c.Rec().Code}, err
	}
	return rows[at], err
}

// reference is ours of a request, which the partner's answers name.
func (r *Partners) reference(q *store.Request) string { return r.Prefix + "-" + q.Number }

// subject is what the outbox calls messages of a request.
func subject(q *store.Request) string { return "request " + q.Number }

// named finds the request of a partner that is called so: by our reference or our number. What is no partner itself may speak for any.
func (r *Partners) named(ch *engine.Change, c *engine.Conn, name string) (store.Request, error) {
	name = strings.TrimSpace(name)
	for _, number := range []string{strings.TrimPrefix(name, r.Prefix+"-"), name} {
		q, err := ch.Request(number)
		if err == nil && (q.ConnectionID == c.ID || !engine.TakesRequests(c)) {
			return q, nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return q, err
		}
	}
	return store.Request{}, store.ErrNotFound
}

// save writes a request as it stands after something was said of it or done to it, and when it is next looked at.
func (r *Partners) save(ch *engine.Change, c *engine.Conn, q *store.Request) error {
	t, err := r.terms(ch, c)
	if err != nil {
		return err
	}
	q.LookAt = 0
	switch {
	case q.State.Ended():
		if q.EndedAt == 0 {
			q.EndedAt = ch.Now.UnixMicro()
		}
		if err := r.over(ch, q, engine.RequestSilent, engine.RequestRefused); err != nil {
			return err
		}
		if err := ch.CloseStanding(q.OrderID, engine.UnknownThere, "relay", ch.Now); err != nil {
			return err
		}
	default:
		q.EndedAt = 0
		if at := t.LookAt(q.State, ch.Now); !at.IsZero() && !q.Test {
			q.LookAt = at.UnixMicro()
			ch.Watch = true
		}
	}
	if q.Currency == "" {
		q.Currency = engine.Or(t.Currency, r.Currency())
	}
	if t.AsksMoney() {
		parcels, err := ch.ParcelsOfRequest(q.ID)
		if err != nil {
			return err
		}
		q.Cost = t.Cost(&q.Request, parcels)
	}
	ch.Tell("request", q.Number)
	return ch.UpdateRequest(q)
}

// over ends what was raised about a request.
func (r *Partners) over(ch *engine.Change, q *store.Request, causes ...order.Cause) error {
	for _, cause := range causes {
		if err := ch.CloseSubject(q.OrderID, cause, q.Number, "relay", ch.Now); err != nil {
			return err
		}
	}
	ch.Tell("exception", "")
	return nil
}

// raise asks a person to look at a request.
func (r *Partners) raise(ch *engine.Change, c *engine.Conn, q *store.Request, cause order.Cause, text, expected string) error {
	ch.Tell("exception", q.OrderNumber)
	ch.Watch = true
	return ch.Raise(store.Exception{Cause: cause, Subject: q.Number, Text: text, Expected: expected, ConnectionID: c.ID, OrderID: q.OrderID,
		Standing: true}, ch.Now)
}

// note writes on the order what happened to a request of it.
func (r *Partners) note(ch *engine.Change, q *store.Request, who, what, format string, args ...any) error {
	ch.Tell("order", q.OrderNumber)
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "order", ThingID: q.OrderID, What: what,
		Text: fmt.Sprintf(format, args...)})
}

// goods names what is open of a request.
func goods(q *store.Request) string {
	var parts []string
	for i := range q.Lines {
		if l := &q.Lines[i]; l.Open() > 0 {
			parts = append(parts, fmt.Sprintf("%d × %s", l.Open(), engine.Or(l.SKU, l.Title)))
		}
	}
	return engine.Join(parts)
}

// List lists the connections that can be asked to send something, in their order.
func (r *Partners) List() (out []*engine.Conn) {
	for _, c := range r.Sorted() {
		if engine.TakesRequests(c) {
			out = append(out, c)
		}
	}
	return out
}

// IsAsked tells whether a partner's requests are switched on.
func (r *Partners) IsAsked(c *engine.Conn) bool { return r.FeedOn(c, message.RequestsOut) }
