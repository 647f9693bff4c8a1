package shipping

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"openrelay/internal/core/order"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// PlanKind is what is changed about which units of an order are sent, from where and when.
type PlanKind string

// What can be planned by hand.
const (
	KeepBack PlanKind = "keep back" // so many units of lines are not sent for now; 0 lets them go
	MoveTo   PlanKind = "move"      // units are sent from another place
	Split    PlanKind = "split"     // units are picked and packed as a shipment of their own
)

// PlanKinds are all of them.
var PlanKinds = []PlanKind{KeepBack, MoveTo, Split}

// HandPlan is what a person wants to be sent otherwise of an order.
type HandPlan struct {
	Kind   PlanKind        `json:"kind" enum:"keep back,move,split"`
	Lines  map[int64]int64 `json:"lines" doc:"Units by the line's id; of keep back, how many are kept back from now on"`
	To     string          `json:"to,omitempty" doc:"Of move: code of the place that sends them"                               maxLength:"40"`
	Reason string          `json:"reason,omitempty" doc:"For the order's timeline"                                                 maxLength:"200"`
}

// Plan changes by hand which units of an order are sent, from where and when. What is picked stays as it is: it is taken back first.
func (r *Shipping) Plan(ctx context.Context, number string, p HandPlan, revision int64, who string) error {
	p.Reason = strings.Join(strings.Fields(p.Reason), " ")
	if len(p.Lines) == 0 {
		return engine.Refuse("lines: say of which lines how many units")
	}
	if p.Kind != KeepBack {
		for id, n := range p.Lines {
			if n < 1 {
				return engine.Refuse("lines: at least 1 unit of line %d is expected", id)
			}
		}
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		if revision != 0 && o.Revision != revision {
			return store.ErrConflict
		}
		for id := range p.Lines {
			if o.Line(id) == nil {
				return engine.Refuse("lines: order %s has no line %d", o.Number, id)
			}
		}
		switch p.Kind {
		case KeepBack:
			return r.keepBack(ch, o, p, who)
		case MoveTo:
			return r.moveUnits(ch, o, p, who)
		case Split:
			return r.split(ch, o, p, who)
		}
		return engine.Refuse("kind %q is none of %s", p.Kind, engine.Join(PlanKinds))
	})
}

// keepBack keeps units of an order back: they are taken out of what is to be picked, and where they wait for stock, the rest is held
// for them no longer. What is let go can be picked again, or is waited for again.
func (r *Shipping) keepBack(ch *engine.Change, o *order.Order, p HandPlan, who string) error {
	for id := range p.Lines {
		if err := notAsked(ch, r, o, id); err != nil {
			return err
		}
	}
	return r.withStock(ch, o, who, func(s *order.Scene) error {
		c, err := order.KeepBack(o, p.Lines, p.Reason)
		if err != nil {
			return engine.OrderStateError(err)
		}
		if !o.Elsewhere() && !o.Voided && !o.Test {
			order.AllocateWaiting(o, s, &c)
		}
		if err := ch.Note(orders.Notes(c, who, ch.Now)...); err != nil {
			return err
		}
		list, err := ch.ShipmentsOfOrder(o.ID)
		if err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(p.Lines)) {
			l := o.Line(id)
			over := unpicked(list, id, 0) - o.Sendable(l)
			for i := len(list) - 1; i >= 0 && over > 0; i-- {
				over -= takeUnpicked(&list[i], id, over)
			}
		}
		return r.writeShipments(ch, o, list)
	})
}

// withStock does something to an order that may move stock, and writes both.
func (r *Shipping) withStock(ch *engine.Change, o *order.Order, who string, f func(*order.Scene) error) error {
	channel := r.ByID(o.ConnectionID)
	if channel == nil {
		return &engine.Refused{Text: fmt.Sprintf("the channel of order %s is gone", o.Number), Conflict: true}
	}
	scene, err := r.sceneOf(ch, o, channel, who)
	if err != nil {
		return err
	}
	if err := f(scene); err != nil {
		return err
	}
	ch.Mark(engine.OrderChanged, o.ID)
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return err
	}
	return r.Inventory.Post(ch, scene.Book)
}

// unpicked counts the units of a line that open shipments, of one place or of any (0), are still to pick, whole units of a kit.
func unpicked(list []store.Shipment, line, location int64) (n int64) {
	for i := range list {
		if s := &list[i]; s.State == store.ToPick && (location == 0 || s.LocationID == location) {
			n += untouched(s, line)
		}
	}
	return n
}

// untouched counts the units of a line of a shipment of which no component is picked.
func untouched(s *store.Shipment, line int64) (n int64) {
	first := true
	for _, sl := range s.Lines {
		if sl.LineID != line {
			continue
		}
		per := max(sl.Per, 1)
		if left := (sl.Quantity - sl.Picked) / per; first || left < n {
			n = left
		}
		first = false
	}
	return n
}

// takeUnpicked takes at most so many units of a line that are not picked out of a shipment, and says how many.
func takeUnpicked(s *store.Shipment, line, most int64) int64 {
	if s.State != store.ToPick {
		return 0
	}
	n := min(untouched(s, line), most)
	for i := range s.Lines {
		if sl := &s.Lines[i]; sl.LineID == line {
			sl.Quantity -= n * max(sl.Per, 1)
		}
	}
	return n
}

// writeShipments writes shipments out of which units were taken, as they then stand.
func (r *Shipping) writeShipments(ch *engine.Change, o *order.Order, list []store.Shipment) error {
	for i := range list {
		s := &list[i]
		if s.State != store.ToPick {
			continue
		}
		parcels, err := ch.ParcelsOf(s.ID)
		if err != nil {
			return err
		}
		if settleState(s, parcels); s.State == store.CalledOff {
			if err := r.NoteOrder(ch, o, "relay", "called off", "Shipment %s called off: nothing is left to send with it",
				s.Number); err != nil {
				return err
			}
		}
		if err := ch.UpdateShipment(s); err != nil {
			return err
		}
		ch.Tell("shipment", s.Number)
		if err := r.settleRoundOf(ch, s.ID); err != nil {
			return err
		}
	}
	return nil
}

// moveUnits lets units of an order be sent from another place.
func (r *Shipping) moveUnits(ch *engine.Change, o *order.Order, p HandPlan, who string) error {
	to, err := r.Inventory.Ours(p.To)
	if err != nil {
		return err
	}
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	taken, err := takenByOpen(ch, o)
	if err != nil {
		return err
	}
	for id := range p.Lines {
		if err := notAsked(ch, r, o, id); err != nil {
			return err
		}
	}
	return r.withStock(ch, o, who, func(s *order.Scene) error {
		for _, id := range slices.Sorted(maps.Keys(p.Lines)) {
			if err := moveLine(o, list, taken, id, p.Lines[id], to.ID, s); err != nil {
				return err
			}
			if err := r.NoteOrder(ch, o, who, "moved", "%d × %s to be sent from %s%s", p.Lines[id], o.Line(id).SKU, to.Name,
				withReason(p.Reason)); err != nil {
				return err
			}
		}
		if err := r.writeShipments(ch, o, list); err != nil {
			return err
		}
		if !o.Routed {
			return nil
		}
		_, err := r.beginPick(ch, o, who) // somebody has begun: the other place begins, too
		if _, refused := engine.IsRefused(err); refused {
			return nil
		}
		return err
	})
}

// notAsked refuses to plan units otherwise that a partner was asked to send: it may send them at any moment.
func notAsked(ch *engine.Change, r *Shipping, o *order.Order, line int64) error {
	list, err := ch.RequestsOfOrder(o.ID)
	if err != nil {
		return err
	}
	for i := range list {
		q := &list[i]
		if l := q.Line(line); l != nil && l.Open() > 0 && q.State != request.Waits && !q.Test {
			return &engine.Refused{Text: fmt.Sprintf("%s was asked to send %d × %s (%s, %s); call that off first, it is then planned anew",
				r.PlaceName(q.LocationID), l.Open(), engine.Or(l.SKU, l.Title), q.Number, q.State), Conflict: true}
		}
	}
	return nil
}

func withReason(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// moveLine moves units of a line that are not picked to a place, from the places that have them. taken are the units that open
// shipments take, by line and place.
func moveLine(o *order.Order, list []store.Shipment, taken map[lineItem]int64, line, units, to int64, s *order.Scene) error {
	l := o.Line(line)
	left := units
	for _, a := range slices.Clone(l.Allocations) {
		if a.Location == to || left == 0 {
			continue
		}
		open := taken[lineItem{line, a.Location}]
		picked := open - unpicked(list, line, a.Location)
		n := min(left, a.Quantity-picked, l.Allocated)
		if n <= 0 {
			continue
		}
		if err := o.MoveUnits(line, n, a.Location, to, s, "to be sent from another place"); err != nil {
			return engine.OrderStateError(err)
		}
		begun := n - max(0, a.Quantity-open) // those that no shipment takes yet go first
		for i := len(list) - 1; i >= 0 && begun > 0; i-- {
			if list[i].LocationID == a.Location {
				begun -= takeUnpicked(&list[i], line, begun)
			}
		}
		left -= n
	}
	if left > 0 {
		return &engine.Refused{Text: fmt.Sprintf("%d × %s of order %s lie elsewhere and are not picked, not %d", units-left,
			engine.Or(l.SKU, l.Title), o.Number, units), Conflict: true}
	}
	return nil
}

// split lets units of an order be picked and packed as a shipment of their own, at the places that have them.
func (r *Shipping) split(ch *engine.Change, o *order.Order, p HandPlan, who string) error {
	if err := o.Workable(); err != nil {
		return engine.OrderStateError(err)
	}
	if _, err := r.beginPick(ch, o, who); err != nil { // what no shipment takes yet gets one first
		if _, refused := engine.IsRefused(err); !refused {
			return err
		}
	}
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	fresh, err := splitOff(o, list, p.Lines, ch.Now.UnixMicro())
	if err != nil {
		return err
	}
	if err := r.writeShipments(ch, o, list); err != nil {
		return err
	}
	for _, s := range fresh {
		if err := ch.AddShipment(s); err != nil {
			return err
		}
		ch.Tell("shipment", s.Number)
		if err := r.NoteOrder(ch, o, who, "split", "Shipment %s: a part to be sent apart from %s%s", s.Number, r.PlaceName(s.LocationID),
			withReason(p.Reason)); err != nil {
			return err
		}
	}
	return r.Orders.SaveOrder(ch, o)
}

var errWhole = errors.New("that is all of it; there would be nothing left to split from")

// splitOff takes units of lines out of shipments and returns new ones that take them, one for each place.
func splitOff(o *order.Order, list []store.Shipment, lines map[int64]int64, at int64) (fresh []*store.Shipment, err error) {
	for _, id := range slices.Sorted(maps.Keys(lines)) {
		l, left := o.Line(id), lines[id]
		for i := range list {
			n := takeUnpicked(&list[i], id, left)
			if n == 0 {
				continue
			}
			left -= n
			k := slices.IndexFunc(fresh, func(s *store.Shipment) bool { return s.LocationID == list[i].LocationID })
			if k < 0 {
				k = len(fresh)
				fresh = append(fresh, &store.Shipment{OrderID: o.ID, LocationID: list[i].LocationID, State: store.ToPick, CreatedAt: at})
			}
			fresh[k].Lines = append(fresh[k].Lines, shipmentLines(l, n, 0)...)
		}
		if left > 0 {
			return nil, &engine.Refused{
				Text: fmt.Sprintf("%d × %s of order %s are to be picked and not picked yet, not %d", lines[id]-left,
					engine.Or(l.SKU, l.Title), o.Number, lines[id]),
				Conflict: true,
			}
		}
	}
	for i := range list {
		if list[i].State == store.ToPick && slices.ContainsFunc(list[i].Lines, func(l store.ShipmentLine) bool { return l.Quantity > 0 }) {
			return fresh, nil
		}
	}
	return nil, &engine.Refused{Text: errWhole.Error(), Conflict: true}
}
