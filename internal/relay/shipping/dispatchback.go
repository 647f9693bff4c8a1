package shipping

import (
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// takeBackTold follows that a parcel has not left after all, of which another tool had told: its units are to be picked again, and
// its channel is told.
func (r *Shipping) takeBackTold(b *exchange.Batch, p *store.Parcel, m *message.Dispatch) error {
	ch := b.Ch
	o, s, err := r.toCorrect(ch, p, m)
	if err != nil {
		return err
	}
	channel := r.ByID(o.ConnectionID)
	if channel == nil {
		return &unfit{"the channel of its order is gone", "A channel that can be told.", false}
	}
	if p.ScannedAt != 0 || p.State == store.Arrived {
		return &unfit{fmt.Sprintf("its carrier has parcel %s", p.Number), "A parcel that left, or did not. Correct it at the other side.",
			false}
	}
	units, err := unitsBack(ch, p)
	if err == nil {
		err = noneComesBack(ch, o, units)
	}
	if why, no := engine.IsRefused(err); no {
		return &unfit{why, "Units that left before they came back. Correct it at the other side.", false}
	}
	if err != nil {
		return err
	}
	scene, err := r.sceneOf(ch, o, channel, b.C.Rec().Name)
	if err != nil {
		return err
	}
	for i := range o.Lines {
		if l := &o.Lines[i]; units[l.ID] > 0 {
			o.NotSent(l, units[l.ID], s.LocationID, scene, "did not leave with "+p.Tracking+" after all")
			setUnits(&s, l, 0)
		}
	}
	o.Revision++
	o.Ours.CameBack = true
	if st := o.Stage(); st != order.Shipped && st != order.Delivered {
		o.ShippedAt = time.Time{}
	}
	return r.forgetTold(b, &s, p, o, scene.Book.Movements != nil, func() error { return r.Inventory.Post(ch, scene.Book) })
}

// forgetTold writes a parcel that was told and has not left after all, with its shipment and its order.
func (r *Shipping) forgetTold(b *exchange.Batch, s *store.Shipment, p *store.Parcel, o *order.Order, moved bool,
	post func() error) error {
	ch, was := b.Ch, *p
	if err := r.uncountFreight(ch, o, &was); err != nil {
		return err
	}
	if err := ch.AddVoided(store.VoidedLabel{ParcelID: p.ID, Tracking: was.Tracking, Carrier: was.CarrierName,
		VoidedAt: ch.Now.UnixMicro()}); err != nil {
		return err
	}
	if err := ch.UpdateShipment(s); err != nil {
		return err
	}
	p.State, p.Tracking, p.TrackingURL, p.Lines = store.CalledOff, "", "", linesIn(s)
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	all, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	o.Routed = slices.ContainsFunc(all, func(x store.Shipment) bool { return x.State != store.CalledOff })
	if err := r.withdraw(ch, o, p); err != nil {
		return err
	}
	ch.Mark(engine.OrderWords, o.ID)
	ch.Mark(engine.OrderChanged, o.ID)
	if err := r.NoteOrder(ch, o, b.C.Rec().Name, "voided", "%s says that parcel %s with %s has not left after all",
		b.C.Rec().Name, p.Number, was.Tracking); err != nil {
		return err
	}
	if err := r.Orders.SaveOrder(ch, o); err != nil || !moved {
		return err
	}
	return post()
}
