package shipping

import (
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// loadParcel loads a parcel with its order. What is not packed yet is no parcel, and that is said.
func loadParcel(ch *engine.Change, number string) (store.Parcel, *order.Order, error) {
	p, err := ch.Parcel(number)
	if errors.Is(err, store.ErrNotFound) {
		s, none := ch.Shipment(number)
		if none != nil {
			return p, nil, none
		}
		return p, nil, notPacked(s)
	}
	if err != nil {
		return p, nil, err
	}
	o, err := ch.Order(p.OrderID)
	return p, o, err
}

func notPacked(s store.Shipment) error {
	if s.State == store.CalledOff {
		return &engine.Refused{Text: fmt.Sprintf("Shipment %s: %s", s.Number, s.State), Conflict: true}
	}
	return &engine.Refused{Text: fmt.Sprintf("Shipment %s is not packed yet", s.Number), Conflict: true}
}

// lineItem is a component of an order line.
type lineItem struct{ line, item int64 }

// contents adds up what lies in parcels of some kind.
func contents(list []store.Parcel, of func(p *store.Parcel) bool) map[lineItem]int64 {
	out := map[lineItem]int64{}
	for i := range list {
		if !of(&list[i]) {
			continue
		}
		for _, l := range list[i].Lines {
			out[lineItem{l.LineID, l.ItemID}] += l.Quantity
		}
	}
	return out
}

func live(p *store.Parcel) bool   { return p.State != store.CalledOff }
func left(p *store.Parcel) bool   { return p.Left() }
func buying(p *store.Parcel) bool { return p.State == store.Buying }

// wholeUnits counts the units of an order line of which every component is among what is there.
func wholeUnits(s *store.Shipment, line int64, there map[lineItem]int64) (units int64) {
	first := true
	for _, sl := range s.Lines {
		if sl.LineID != line {
			continue
		}
		if n := there[lineItem{line, sl.ItemID}] / max(sl.Per, 1); first || n < units {
			units = n
		}
		first = false
	}
	return units
}

// settleState derives where a shipment stands from what is picked, and from its parcels.
func settleState(s *store.Shipment, parcels []store.Parcel) {
	packed := contents(parcels, live)
	var wanted, unpacked int64
	for _, sl := range s.Lines {
		wanted += sl.Quantity
		unpacked += sl.Quantity - packed[lineItem{sl.LineID, sl.ItemID}]
	}
	s.State = store.Arrived
	switch {
	case wanted == 0:
		s.State = store.CalledOff
	case unpacked > 0:
		s.State = store.ToPick
	default:
		for i := range parcels {
			switch p := &parcels[i]; {
			case !live(p):
			case !left(p):
				s.State = store.ToShip
			case p.State == store.Gone && s.State != store.ToShip:
				s.State = store.Gone
			}
		}
	}
}

// parcelsWith lists the parcels of a shipment with one of them as it is now.
func parcelsWith(ch *engine.Change, p *store.Parcel) ([]store.Parcel, error) {
	list, err := ch.ParcelsOf(p.ShipmentID)
	for i := range list {
		if list[i].ID == p.ID {
			list[i] = *p
		}
	}
	return list, err
}

// saveParcel writes a parcel, and its shipment as it then stands.
func saveParcel(ch *engine.Change, p *store.Parcel) error {
	if err := ch.UpdateParcel(p); err != nil {
		return err
	}
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return err
	}
	all, err := ch.ParcelsOf(p.ShipmentID)
	if err != nil {
		return err
	}
	was := s.State
	settleState(&s, all)
	tellParcel(ch, p)
	if s.State == was {
		return nil
	}
	return ch.UpdateShipment(&s)
}

// tellParcel lets everybody know that a parcel changed, and its shipment with it.
func tellParcel(ch *engine.Change, p *store.Parcel) {
	ch.Tell("shipment", p.Number)
	if p.Number != p.ShipmentNumber {
		ch.Tell("shipment", p.ShipmentNumber)
	}
}

// SettleShipments brings open shipments along with an order that changed under them.
func (r *Shipping) SettleShipments(ch *engine.Change, o *order.Order) error {
	if !o.Routed {
		return nil
	}
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	if slices.ContainsFunc(list, func(s store.Shipment) bool { return s.Together != 0 }) {
		if err := r.SettleTogether(ch, o); err != nil {
			return err
		}
		if list, err = ch.ShipmentsOfOrder(o.ID); err != nil {
			return err
		}
	}
	for i := range list {
		if st := list[i].State; st != store.ToPick && st != store.ToShip {
			continue
		}
		if err := r.settleShipment(ch, o, &list[i]); err != nil {
			return err
		}
	}
	return nil
}

// settleShipment takes out of a shipment what its order no longer wants: first what is not picked, then what is picked, then
// what is packed. What has left, or has its label bought, stays.
func (r *Shipping) settleShipment(ch *engine.Change, o *order.Order, s *store.Shipment) error {
	parcels, err := ch.ParcelsOf(s.ID)
	if err != nil {
		return err
	}
	gone, fixed := contents(parcels, left), contents(parcels, func(p *store.Parcel) bool { return left(p) || buying(p) })
	changed, spare := false, map[int64]int64{}
	for i := range s.Lines {
		sl := &s.Lines[i]
		key := lineItem{sl.LineID, sl.ItemID}
		keep := max(allocatedAt(o.Line(sl.LineID), s.LocationID)*max(sl.Per, 1)+gone[key], fixed[key])
		if keep >= sl.Quantity {
			continue
		}
		if back := sl.Picked - keep; back > 0 {
			spare[sl.ItemID] += back
		}
		sl.Quantity, sl.Picked, changed = keep, min(sl.Picked, keep), true
	}
	if !changed {
		return nil
	}
	if err := r.takeOut(ch, s, parcels); err != nil {
		return err
	}
	settleState(s, parcels)
	if s.State == store.CalledOff {
		if err := r.NoteOrder(ch, o, "relay", "called off", "Shipment %s called off", s.Number); err != nil {
			return err
		}
	}
	if err := r.raisePutBack(ch, o, s, spare); err != nil {
		return err
	}
	ch.Tell("shipment", s.Number)
	if err := ch.UpdateShipment(s); err != nil {
		return err
	}
	return r.settleRoundOf(ch, s.ID)
}

// allocatedAt counts the units of an order line that a place still has for it.
func allocatedAt(l *order.Line, location int64) int64 {
	for _, a := range l.Allocations {
		if a.Location == location {
			return a.Quantity
		}
	}
	return 0
}

// takeOut takes out of parcels that wait what is no longer picked for their shipment, out of the newest first. One that is
// empty then is called off.
func (r *Shipping) takeOut(ch *engine.Change, s *store.Shipment, parcels []store.Parcel) error {
	over := contents(parcels, live)
	for _, sl := range s.Lines {
		over[lineItem{sl.LineID, sl.ItemID}] -= sl.Picked
	}
	for i := len(parcels) - 1; i >= 0; i-- {
		p := &parcels[i]
		if p.State != store.ToShip {
			continue
		}
		var units int64
		changed := false
		for k := range p.Lines {
			l := &p.Lines[k]
			key := lineItem{l.LineID, l.ItemID}
			if n := min(over[key], l.Quantity); n > 0 {
				l.Quantity -= n
				over[key] -= n
				changed = true
			}
			units += l.Quantity
		}
		if !changed {
			continue
		}
		if units == 0 {
			p.State = store.CalledOff
			if err := ch.UnpackSerials(p.ID); err != nil {
				return err
			}
		}
		tellParcel(ch, p)
		if err := ch.UpdateParcel(p); err != nil {
			return err
		}
		if p.TravelsIn != 0 || p.Riders != "" {
			if err := leaveCarton(ch, p); err != nil {
				return err
			}
		}
	}
	return nil
}

// leaveCarton weighs a carton with others in it anew, out of which something was taken, and takes a parcel that is empty out of it.
func leaveCarton(ch *engine.Change, p *store.Parcel) error {
	c, err := cartonOf(ch, *p)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(c, func(x content) bool { return x.parcel.ID == p.ID }) {
		c = append(c, content{parcel: *p}) // it is called off, and so it is not found in it any more
	}
	c, err = takeOutOf(ch, c, func(x *store.Parcel) bool { return !live(x) })
	if err != nil {
		return err
	}
	p.TravelsIn = 0
	return c.save(ch)
}
