package partners

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeDispatch takes in that a parcel left: of a partner that was asked for it, by its request; else as shipping does.
func (r *Partners) TakeDispatch(b *exchange.Batch, in store.InboxMessage, m *message.Dispatch) error {
	if !engine.TakesRequests(b.C) && m.Request == "" {
		return r.Shipping.TakeDispatch(b, in, m)
	}
	q, err := r.requestOf(b.Ch, b.C, m)
	if errors.Is(err, store.ErrNotFound) {
		if m.Request == "" {
			return r.Shipping.TakeDispatch(b, in, m)
		}
		y, _, err := b.Tally(in)
		if err != nil {
			return err
		}
		return r.unfit(b, in, y, m.Request, 0, "nothing was asked under this reference", "Our reference of a request, as it was asked. "+
			"Correct it at the other side.", false)
	}
	if err != nil {
		return err
	}
	o, err := b.Ch.Order(q.OrderID)
	if err != nil {
		return err
	}
	if q.Test {
		return r.leftAsTest(b, in, &q, m)
	}
	if err := r.ourNames(b.Ch, q.ConnectionID, o, m); err != nil {
		return err
	}
	m.OurNumber, m.OrderNumber, m.OrderID = o.Number, "", ""
	_, err = b.Ch.ParcelTold(b.C.ID, in.OutsideID)
	switch {
	case err == nil: // it corrects what was told before
		b.Ch.Mark(engine.RequestsMoved, o.ID)
		return r.Shipping.TakeDispatch(b, in, m)
	case !errors.Is(err, store.ErrNotFound):
		return err
	case m.Withdrawn || m.Tracking != "" && known(b.Ch, m.Tracking):
		return r.Shipping.TakeDispatch(b, in, m)
	}
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	if err := r.left(b, in, &q, o, m); err != nil {
		return err
	}
	y.New++
	b.Settle(in, "done", "", o.ID)
	return nil
}

func known(ch *engine.Change, tracking string) bool {
	_, err := ch.Parcel(tracking)
	return err == nil
}

// requestOf finds the request that a dispatch answers: the one that it names, or the only one of its order.
func (r *Partners) requestOf(ch *engine.Change, c *engine.Conn, m *message.Dispatch) (store.Request, error) {
	for _, name := range []string{m.Request, m.OurNumber, m.OrderNumber} {
		if name == "" {
			continue
		}
		q, err := r.named(ch, c, name)
		if err == nil || !errors.Is(err, store.ErrNotFound) {
			return q, err
		}
	}
	if m.Request != "" {
		return store.Request{}, store.ErrNotFound
	}
	o, err := ch.OrderByNumber(engine.Or(m.OurNumber, engine.Or(m.OrderNumber, m.OrderID)))
	if err != nil {
		return store.Request{}, err
	}
	list, err := ch.RequestsOfOrder(o.ID)
	if err != nil {
		return store.Request{}, err
	}
	list = slices.DeleteFunc(list, func(q store.Request) bool { return q.ConnectionID != c.ID })
	if len(list) == 0 {
		return store.Request{}, store.ErrNotFound
	}
	return list[len(list)-1], nil
}

// ourNames writes our SKUs in the place of what a partner calls the items of an order.
func (r *Partners) ourNames(ch *engine.Change, partner int64, o *order.Order, m *message.Dispatch) error {
	for i := range m.Lines {
		l := &m.Lines[i]
		l.ID = "" // a number of the request's line, which is none of the channel
		item, err := ch.ItemOfPartner(partner, request.Tidy(l.SKU))
		if err != nil || item == 0 {
			if err != nil {
				return err
			}
			continue
		}
		for k := range o.Lines {
			if o.Lines[k].ItemID == item {
				l.SKU = o.Lines[k].SKU
			}
		}
	}
	return nil
}

// unitsTold counts the units of each order line that a dispatch tells of, as far as they are open; without lines all that is. What was
// not asked for, or more of it, is named.
func (r *Partners) unitsTold(ch *engine.Change, o *order.Order, q *store.Request, m *message.Dispatch) (units map[int64]int64,
	more []string, err error) {
	units = map[int64]int64{}
	if len(m.Lines) == 0 {
		for i := range q.Lines {
			units[q.Lines[i].LineID] = q.Lines[i].Open()
		}
		return units, nil, nil
	}
	parts, err := partsOf(ch, o, q)
	if err != nil {
		return nil, nil, err
	}
	for _, d := range m.Lines {
		left := d.Quantity
		for i := range q.Lines {
			l := &q.Lines[i]
			of := o.Line(l.LineID)
			if per := parts[part{l.LineID, strings.ToLower(d.SKU)}]; per > 0 { // of a kit that leaves in its components
				units[l.LineID] = max(units[l.LineID], min(l.Open(), d.Quantity/per))
				left = 0
				continue
			}
			if !strings.EqualFold(of.SKU, d.SKU) && !strings.EqualFold(l.SKU, d.SKU) {
				continue
			}
			n := min(left, l.Open()-units[l.LineID])
			units[l.LineID] += n
			left -= n
		}
		if left > 0 {
			more = append(more, fmt.Sprintf("%d × %s", left, d.SKU))
		}
	}
	restGoes(q, units)
	return units, more, nil
}

// part is a component of a kit's line, by what it is called.
type part struct {
	line int64
	name string
}

// partsOf are how many of each component a unit of a kit's line takes.
func partsOf(ch *engine.Change, o *order.Order, q *store.Request) (map[part]int64, error) {
	out := map[part]int64{}
	for i := range q.Lines {
		of := o.Line(q.Lines[i].LineID)
		if len(of.Parts) == 0 {
			continue
		}
		ids := make([]int64, len(of.Parts))
		for k, p := range of.Parts {
			ids[k] = p.Item
		}
		items, err := ch.Items(ids)
		if err != nil {
			return nil, err
		}
		for _, p := range of.Parts {
			out[part{of.ID, strings.ToLower(items[p.Item].SKU)}] = max(p.Quantity, 1)
			named, err := ch.PartnerItem(q.ConnectionID, p.Item)
			if err == nil && named.Code != "" {
				out[part{of.ID, strings.ToLower(named.Code)}] = max(p.Quantity, 1)
			}
		}
	}
	return out, nil
}

// restGoes lets what a partner is never asked for count as sent with the last that it was asked for.
func restGoes(q *store.Request, units map[int64]int64) {
	for i := range q.Lines {
		if l := &q.Lines[i]; l.SKU != "" && l.Open() > units[l.LineID] {
			return
		}
	}
	for i := range q.Lines {
		if l := &q.Lines[i]; l.SKU == "" {
			units[l.LineID] = l.Open()
		}
	}
}

// left books what left for a request. What its order does not want any more, or was never asked for, is raised.
func (r *Partners) left(b *exchange.Batch, in store.InboxMessage, q *store.Request, o *order.Order, m *message.Dispatch) error {
	units, more, err := r.unitsTold(b.Ch, o, q, m)
	if err != nil {
		return err
	}
	if q.State == request.Waits || q.State == request.Asked {
		q.State = request.Acknowledged // it says more than that
	}
	sent, err := r.Shipping.SentByPartner(b.Ch, b.C, in.OutsideID, o, q, units, m)
	if err != nil {
		return err
	}
	for _, line := range engine.Keys(units) {
		l := q.Line(line)
		if over := units[line] - sent[line]; over > 0 { // it left, and the order did not want it
			l.CalledOff += over
			more = append(more, fmt.Sprintf("%d × %s", over, engine.Or(l.SKU, l.Title)))
		}
	}
	total, err := r.sentOf(b.Ch, q)
	if err != nil {
		return err
	}
	q.SetSent(total)
	q.HeardAt = b.Ch.Now.UnixMicro()
	if q.Open() == 0 && !q.State.Ended() {
		q.State = request.CalledOff
	}
	if err := r.over(b.Ch, q, engine.RequestSilent, engine.RequestRefused, engine.RequestLook); err != nil {
		return err
	}
	if len(more) > 0 {
		if err := r.sentUnwanted(b, q, m, more); err != nil {
			return err
		}
	}
	b.Ch.Mark(engine.RequestsMoved, o.ID)
	if err := r.saveFor(b, q); err != nil {
		return err
	}
	if lines, err := b.Ch.BilledForRequest(q.ID); err != nil || len(lines) == 0 {
		return err
	}
	return r.compareBilled(b.Ch, q) // the bill came first
}

// sentUnwanted raises what a partner sent that nobody wanted.
func (r *Partners) sentUnwanted(b *exchange.Batch, q *store.Request, m *message.Dispatch, more []string) error {
	text := fmt.Sprintf("%s sent %s with %s %s for order %s, which does not want it (request %s)", b.C.Rec().Name, engine.Join(more),
		engine.Or(m.Carrier, "tracking number"), engine.Or(m.Tracking, "that it does not tell"), q.OrderNumber, q.Number)
	if err := r.note(b.Ch, q, b.C.Rec().Name, string(engine.SentUnwanted), "%s", text); err != nil {
		return err
	}
	b.Ch.Tell("exception", q.OrderNumber)
	return b.Ch.Raise(store.Exception{Cause: engine.SentUnwanted, Subject: engine.Or(m.Tracking, q.Number), Text: text + ".",
		Expected: "Goods that come back, or that the buyer keeps and pays. The order is unchanged, and the stock there falls by their " +
			"own word. " +
			"Settle this when it is agreed.", ConnectionID: b.C.ID, OrderID: q.OrderID, Standing: true}, b.Ch.Now)
}

// leftAsTest follows what a partner says of a request that was only a test: nothing has left.
func (r *Partners) leftAsTest(b *exchange.Batch, in store.InboxMessage, q *store.Request, m *message.Dispatch) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	o, err := b.Ch.Order(q.OrderID)
	if err != nil {
		return err
	}
	if err := r.ourNames(b.Ch, q.ConnectionID, o, m); err != nil {
		return err
	}
	units, more, err := r.unitsTold(b.Ch, o, q, m)
	if err != nil {
		return err
	}
	for i := range q.Lines {
		units[q.Lines[i].LineID] += q.Lines[i].Sent
	}
	q.SetSent(units)
	q.HeardAt = b.Ch.Now.UnixMicro()
	text := fmt.Sprintf("%s says, as a test, that %s left with %s", b.C.Rec().Name, q.Number, engine.Or(m.Tracking, "no number"))
	if len(more) > 0 {
		text += ", and " + engine.Join(more) + ", which was not asked for"
	}
	if err := r.note(b.Ch, q, b.C.Rec().Name, "a partner says", "%s", text); err != nil {
		return err
	}
	y.Changed++
	b.Settle(in, "done", "", q.OrderID)
	return r.saveFor(b, q)
}

// saveFor writes a request as it stands; whoever told of it need not be its partner.
func (r *Partners) saveFor(b *exchange.Batch, q *store.Request) error {
	c := r.ByID(q.ConnectionID)
	if c == nil {
		c = b.C
	}
	return r.save(b.Ch, c, q)
}
