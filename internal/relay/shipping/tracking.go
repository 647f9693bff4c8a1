package shipping

import (
	"errors"
	"fmt"
	"time"

	"openrelay/internal/core/journey"
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
		for _, about := range []func(*exchange.Batch, store.InboxMessage, *message.Tracking) (bool, error){r.voidedMoves, r.returnMoves} {
			if known, err := about(b, in, m); err != nil || known {
				return err
			}
		}
		y.Skipped++
		y.Reason("no such parcel")
		b.Settle(in, "skipped", "no parcel with number "+m.Tracking, 0)
		return nil
	}
	if err != nil {
		return err
	}
	e := journey.Event{State: journey.State(m.State), Text: engine.Clip(m.Text, 300), Where: engine.Clip(m.Place, 100), At: m.At}
	if p.ShippedAt != 0 && e.At.Before(store.Time(p.ShippedAt).Add(-usedBefore)) {
		y.Skipped++
		y.Reason("older than its parcel")
		b.Settle(in, "skipped", "the number was used before: this happened before parcel "+p.Number+" left", 0)
		return nil
	}
	list, err := consignmentOf(b.Ch, p)
	if err != nil {
		return err
	}
	isNew := false
	for _, c := range list {
		for i := range c {
			if c[i].parcel.Tracking != p.Tracking {
				continue // of the consignment, and with a number of its own
			}
			moved, err := r.track(b, &c[i].parcel, c[i].order, e)
			if err != nil {
				return err
			}
			isNew = isNew || moved
		}
	}
	if !isNew {
		y.Skipped++
		y.Reason("known already")
		b.Settle(in, "skipped", "it was told before", p.OrderID)
		return nil
	}
	y.New++
	b.Settle(in, "done", "", p.OrderID)
	return nil
}

// usedBefore is how much before it left an event of a parcel may have happened: what is older is about another of the same number.
const usedBefore = 24 * time.Hour

// track notes an event on its way on a parcel and its order, and tells whether it was not known.
func (r *Shipping) track(b *exchange.Batch, p *store.Parcel, o *order.Order, e journey.Event) (isNew bool, err error) {
	if isNew, err = r.moved(b.Ch, p, o, e); err != nil || !isNew {
		return isNew, err
	}
	if err := r.seen(b.Ch, p, o); err != nil {
		return true, err
	}
	b.Ch.Tell("shipment", p.Number)
	b.Ch.Tell("order", o.Number)
	return true, b.Ch.Note(store.Entry{At: b.Ch.Now.UnixMicro(), Who: b.C.Rec().Name, Thing: "order", ThingID: o.ID,
		What: "parcel " + string(e.State), Text: fmt.Sprintf("%s: %s", p.Tracking, engine.Or(e.Text, string(e.State)))})
}

// seen notes that the carrier has a parcel, and that it arrived.
func (r *Shipping) seen(ch *engine.Change, p *store.Parcel, o *order.Order) error {
	if p.ScannedAt == 0 {
		p.ScannedAt = p.JourneyAt
		if err := ch.CloseParcelExceptions(p.ID, engine.VoidRefused, "relay", ch.Now); err != nil { // the carrier has it
			return err
		}
		if err := ch.CloseSubject(o.ID, engine.NotHandedOver, p.Tracking, "relay", ch.Now); err != nil {
			return err
		}
	}
	if p.Journey != string(journey.Delivered) || p.State != store.Gone {
		return ch.UpdateParcel(p)
	}
	p.State, p.DeliveredAt = store.Arrived, p.JourneyAt
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	if err := r.arrived(ch, p, o); err != nil {
		return err
	}
	all, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	o.Delivered = true
	for _, other := range all {
		o.Delivered = o.Delivered && (other.State == store.Arrived || other.State == store.CalledOff)
	}
	o.Revision++
	return r.Orders.SaveOrder(ch, o)
}
