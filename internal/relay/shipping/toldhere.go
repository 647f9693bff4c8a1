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

// packedHere says whether a parcel was packed here, whoever told that it left. One that left elsewhere lies in no carton of ours.
func packedHere(p *store.Parcel) bool { return p.Profile != "" || p.TravelsIn != 0 }

// meantParcel finds the parcel that a dispatch means, of those that are packed here and have no label: the one that it names, or else
// the only one that holds just what it tells of. Without lines, that is the only parcel of an order of which nothing is left to pack.
func meantParcel(ch *engine.Change, o *order.Order, m *message.Dispatch) (p store.Parcel, ok bool, err error) {
	list, err := ch.ParcelsOfOrder(o.ID)
	if err != nil {
		return p, false, err
	}
	var found []store.Parcel
	for i := range list {
		x := &list[i]
		if x.State != store.ToShip {
			continue
		}
		if m.ParcelNumber != "" && (m.ParcelNumber == x.Number || m.ParcelNumber == x.Carton) {
			return *x, true, nil
		}
		holds, err := holdsJust(ch, o, x, m)
		if err != nil {
			return p, false, err
		}
		if m.ParcelNumber == "" && holds {
			found = append(found, *x)
		}
	}
	if len(found) != 1 {
		return p, false, nil
	}
	return found[0], true, nil
}

// holdsJust says whether a parcel holds just what a dispatch tells of.
func holdsJust(ch *engine.Change, o *order.Order, p *store.Parcel, m *message.Dispatch) (bool, error) {
	if len(m.Lines) == 0 {
		for i := range o.Lines {
			if l := &o.Lines[i]; l.Allocated+l.Picked > 0 {
				return false, nil
			}
		}
		return true, nil
	}
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return false, err
	}
	there := contents([]store.Parcel{*p}, live)
	told := map[int64]int64{}
	for _, d := range m.Lines {
		left := d.Quantity
		for i := range o.Lines { // a SKU may stand on several lines
			l := &o.Lines[i]
			if d.ID == l.OutsideID && d.ID != "" || d.ID == "" && d.SKU == l.SKU {
				n := min(left, wholeUnits(&s, l.ID, there)-told[l.ID])
				told[l.ID] += n
				left -= n
			}
		}
		if left > 0 {
			return false, nil
		}
	}
	for _, line := range lineIDs(&s) {
		if wholeUnits(&s, line, there) != told[line] {
			return false, nil
		}
	}
	return len(told) > 0, nil
}

// leavesTold lets a packed carton leave with the number that another tool told: all orders in it, each told to its channel.
func (r *Shipping) leavesTold(ch *engine.Change, c *engine.Conn, told string, p store.Parcel, m *message.Dispatch) error {
	in, err := cartonOf(ch, p)
	if err != nil {
		return err
	}
	for i := range in {
		x := &in[i].parcel
		x.CarrierID, x.CarrierTold, x.Service, x.ServiceName, x.Error = 0, m.Carrier, "", m.Service, ""
		x.Tracking, x.TrackingURL = m.Tracking, m.TrackingURL
		if x.ID == p.ID {
			x.ToldBy, x.ToldID = c.ID, told
		}
	}
	err = r.leaveTyped(ch, in, c.Rec().Name, fmt.Sprintf("%s took it; %s told tracking number %s",
		engine.Or(m.Carrier, "A carrier"), c.Rec().Name, m.Tracking))
	if why, no := engine.IsRefused(err); no {
		return &unfit{why, "An order that can be sent. Settle that first; this is applied by itself then.", true}
	}
	return err
}

// correctTold follows what another tool tells anew of a carton that was packed here: another number, carrier or service reaches each
// channel; what lies in it is known here.
func (r *Shipping) correctTold(b *exchange.Batch, p *store.Parcel, m *message.Dispatch) (changed bool, err error) {
	ch := b.Ch
	if _, _, err := r.toCorrect(ch, p, m); err != nil {
		return false, err
	}
	in, err := cartonOf(ch, *p)
	if err != nil {
		return false, err
	}
	was := *p
	if was.Tracking == m.Tracking && was.TrackingURL == m.TrackingURL && was.CarrierTold == m.Carrier && was.ServiceName == m.Service {
		return false, nil
	}
	for i := range in {
		x := &in[i].parcel
		x.Tracking, x.TrackingURL, x.CarrierTold, x.ServiceName = m.Tracking, m.TrackingURL, m.Carrier, m.Service
	}
	for i := range in {
		err := r.correctTyped(ch, &in[i].parcel, was, in[i].order, b.C.Rec().Name)
		if why, no := engine.IsRefused(err); no {
			return false, &unfit{why, "A number that can still be corrected. Tell the buyer the right one.", false}
		}
		if err != nil {
			return false, err
		}
	}
	return true, nil
}

// backTold follows that a carton that was packed here has not left after all, as the tool says that had told it: it is packed again.
func (r *Shipping) backTold(b *exchange.Batch, p *store.Parcel, m *message.Dispatch) error {
	if _, _, err := r.toCorrect(b.Ch, p, m); err != nil {
		return err
	}
	if p.ScannedAt != 0 || p.State == store.Arrived {
		return &unfit{fmt.Sprintf("its carrier has parcel %s", p.Number), "A parcel that left, or did not. Correct it at the other side.",
			false}
	}
	in, err := cartonOf(b.Ch, *p)
	if err != nil {
		return err
	}
	back, err := comesBack(b.Ch, in)
	for i := range in {
		if err == nil {
			err = noneComesBack(b.Ch, in[i].order, back[i])
		}
	}
	if err == nil {
		err = r.cartonBack(b.Ch, in, back, b.C.Rec().Name, "says "+b.C.Rec().Name)
	}
	if why, no := engine.IsRefused(err); no {
		return &unfit{why, "Units that left before they came back. Correct it at the other side.", false}
	}
	return err
}

// namedParcel takes a number that another tool tells for a parcel of ours by its number, which left already: it corrects one that was
// typed, and is refused beside a label that was bought.
func (r *Shipping) namedParcel(b *exchange.Batch, m *message.Dispatch) (known bool, orderID int64, err error) {
	if m.ParcelNumber == "" {
		return false, 0, nil
	}
	p, err := b.Ch.Parcel(m.ParcelNumber)
	if errors.Is(err, store.ErrNotFound) {
		return false, 0, nil
	}
	if err != nil || !p.Left() {
		return false, p.OrderID, err
	}
	if p.CarrierID != 0 {
		return true, p.OrderID, &unfit{fmt.Sprintf("parcel %s left with label %s, which was bought here", p.Number, p.Tracking),
			"One label a parcel. Look which one is on the carton, and void the other.", false}
	}
	c, err := cartonOf(b.Ch, p)
	if err != nil {
		return true, p.OrderID, err
	}
	_, err = r.correctTold(b, c.own(), m)
	return true, p.OrderID, err
}
