package shipping

import (
	"errors"
	"slices"

	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ReplanRest plans anew what nobody has begun on of an order on which somebody has, elsewhere: of its places those where nothing is picked
// and nobody walks a round for it, and of which no partner was asked. Whoever calls it saves the order.
func (r *Shipping) ReplanRest(ch *engine.Change, o *order.Order, s *order.Scene, reason string) (order.Change, error) {
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return order.Change{Order: o}, err
	}
	places, err := r.untouchedPlaces(ch, o, list)
	if err != nil || len(places) == 0 {
		return order.Change{Order: o, Skipped: "somebody has begun on all of it"}, err
	}
	c, err := order.ReplanAt(o, s, reason, places)
	if err != nil || c.Skipped != "" {
		return c, err
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		for _, place := range places {
			over := unpicked(list, l.ID, place) - allocatedAt(l, place)
			for k := len(list) - 1; k >= 0 && over > 0; k-- {
				if list[k].LocationID == place {
					over -= takeUnpicked(&list[k], l.ID, over)
				}
			}
		}
	}
	if err := r.writeShipments(ch, o, list); err != nil {
		return c, err
	}
	_, err = r.beginPick(ch, o, s.Who) // somebody has begun: the other place begins, too
	if _, refused := engine.IsRefused(err); refused {
		err = nil
	}
	return c, err
}

// untouchedPlaces are the places of an order where nobody has begun on what is promised there.
func (r *Shipping) untouchedPlaces(ch *engine.Change, o *order.Order, list []store.Shipment) (places []int64, err error) {
	begun := map[int64]bool{}
	for i := range list {
		s := &list[i]
		switch s.State {
		case store.Gone, store.Arrived, store.CalledOff:
			continue
		}
		picked := slices.ContainsFunc(s.Lines, func(l store.ShipmentLine) bool { return l.Picked > 0 })
		_, err := ch.RoundOf(s.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		if s.State != store.ToPick || picked || err == nil || s.Together != 0 {
			begun[s.LocationID] = true
		}
	}
	asked, err := ch.RequestsOfOrder(o.ID)
	if err != nil {
		return nil, err
	}
	for i := range asked {
		if q := &asked[i]; !q.State.Ended() && q.State != request.Waits && !q.Test {
			begun[q.LocationID] = true
		}
	}
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			if !begun[a.Location] && !slices.Contains(places, a.Location) {
				places = append(places, a.Location)
			}
		}
	}
	return places, nil
}
