package shipping

import (
	"errors"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeTracking takes in an event on a parcel's way.
func (r *Shipping) TakeTracking(b *exchange.Batch, in store.InboxMessage, m *message.Tracking) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	p, err := b.Ch.Parcel(m.Tracking)
	if errors.Is(err, store.ErrNotFound) {
		if known, err := r.voidedMoves(b, in, m); err != nil || known {
			return err
		}
		y.Skipped++
		y.Reason("no such parcel")
		b.Settle(in, "skipped", "no parcel with number "+m.Tracking, 0)
		return nil
	}
	if err != nil {
		return err
	}
	y.New++
	b.Settle(in, "done", "", p.OrderID)
	c, err := cartonOf(b.Ch, p)
	if err != nil {
		return err
	}
	for i := range c {
		if err := r.track(b, &c[i].parcel, c[i].order, m); err != nil {
			return err
		}
	}
	return nil
}

// track notes an event on its way on a parcel and its order.
func (r *Shipping) track(b *exchange.Batch, p *store.Parcel, o *order.Order, m *message.Tracking) error {
	if p.ScannedAt == 0 {
		p.ScannedAt = m.At.UnixMicro()
		if err := b.Ch.CloseParcelExceptions(p.ID, engine.VoidRefused, "relay", b.Ch.Now); err != nil { // the carrier has it
			return err
		}
		if err := b.Ch.CloseSubject(o.ID, engine.NotHandedOver, p.Tracking, "relay", b.Ch.Now); err != nil {
			return err
		}
		if err := b.Ch.UpdateParcel(p); err != nil {
			return err
		}
	}
	if m.State == "delivered" && p.State == store.Gone {
		p.State, p.DeliveredAt = store.Arrived, m.At.UnixMicro()
		if err := saveParcel(b.Ch, p); err != nil {
			return err
		}
		all, err := b.Ch.ShipmentsOfOrder(o.ID)
		if err != nil {
			return err
		}
		o.Delivered = true
		for _, other := range all {
			o.Delivered = o.Delivered && (other.State == store.Arrived || other.State == store.CalledOff)
		}
		o.Revision++
		if err := r.Orders.SaveOrder(b.Ch, o); err != nil {
			return err
		}
	}
	b.Ch.Tell("shipment", p.Number)
	b.Ch.Tell("order", o.Number)
	return b.Ch.Note(store.Entry{At: b.Ch.Now.UnixMicro(), Who: b.C.Rec().Name, Thing: "order", ThingID: o.ID, What: "parcel " + m.State,
		Text: fmt.Sprintf("%s: %s", m.Tracking, m.Text)})
}
