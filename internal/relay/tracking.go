package relay

import (
	"errors"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/store"
)

// tracking takes in an event on a parcel's way.
func (b *batch) tracking(in store.InboxMessage, m *message.Tracking) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	s, err := b.ch.Shipment(m.Tracking)
	if errors.Is(err, store.ErrNotFound) {
		y.Skipped++
		y.Reason("no such parcel")
		b.settle(in, "skipped", "no parcel with number "+m.Tracking, 0)
		return nil
	}
	if err != nil {
		return err
	}
	y.New++
	b.settle(in, "done", "", s.OrderID)
	o, err := b.ch.Order(s.OrderID)
	if err != nil {
		return err
	}
	if m.State == "delivered" && s.State == store.Gone {
		s.State, s.DeliveredAt = store.Arrived, m.At.UnixMicro()
		if err := b.ch.UpdateShipment(&s); err != nil {
			return err
		}
		all, err := b.ch.ShipmentsOfOrder(o.ID)
		if err != nil {
			return err
		}
		o.Delivered = true
		for _, other := range all {
			o.Delivered = o.Delivered && (other.State == store.Arrived || other.State == store.CalledOff)
		}
		o.Revision++
		if err := b.r.saveOrder(b.ch, o); err != nil {
			return err
		}
	}
	b.ch.tell("shipment", s.Number)
	b.ch.tell("order", o.Number)
	return b.ch.Note(store.Entry{At: b.ch.now.UnixMicro(), Who: b.c.rec().Name, Thing: "order", ThingID: o.ID, What: "parcel " + m.State, Text: fmt.Sprintf("%s: %s", m.Tracking, m.Text)})
}
