package order

import (
	"fmt"
	"maps"
	"slices"

	"openrelay/internal/core/stock"
)

// GiveBack lets go of units of lines that a location was to send and does not, and promises them anew with whatever else waits. With
// refuses, nothing is promised there any more until a person lets the order be sent from there again. More than is promised there is
// left out: it was cancelled, or has left.
func GiveBack(o *Order, units map[int64]int64, location int64, refuses bool, reason string, s *Scene) Change {
	c := Change{Order: o}
	if refuses {
		list := maps.Clone(o.Ours.RefusedBy)
		if list == nil {
			list = map[int64]string{}
		}
		list[location] = reason
		o.Ours.RefusedBy = list
	}
	for _, id := range slices.Sorted(maps.Keys(units)) {
		l := o.Line(id)
		if l == nil || units[id] <= 0 {
			continue
		}
		n := min(units[id], l.promisedAt(location), l.Allocated)
		if n == 0 {
			continue
		}
		l.Allocated -= n
		l.takeAt(location, n)
		l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Release, Reason: l.why("not sent from there"), Who: s.Who, DocKind: "order",
			DocID: o.ID}, location, n, 0, -1)
	}
	o.Revision++
	AllocateWaiting(o, s, &c)
	return c
}

// LetSend lets an order be sent again from a location that refused to send it, and promises what waits anew.
func LetSend(o *Order, location int64, s *Scene) (Change, error) {
	c := Change{Order: o}
	if _, refused := o.Ours.RefusedBy[location]; !refused {
		return c, fmt.Errorf("%w: %s has not refused to send order %s", ErrState, s.Place(location), o.Number)
	}
	list := maps.Clone(o.Ours.RefusedBy)
	delete(list, location)
	if o.Ours.RefusedBy = list; len(list) == 0 {
		o.Ours.RefusedBy = nil
	}
	o.Revision++
	c.note("may be sent again", "%s may be asked again", s.Place(location))
	AllocateWaiting(o, s, &c)
	return c, nil
}

// SendFrom moves qty of a line from allocated to shipped, for goods that left a location elsewhere, and posts them out. At most what is
// promised there leaves; it returns how much did. counted says that what lies there was counted without it since.
func (o *Order) SendFrom(l *Line, qty, location int64, counted bool, s *Scene, reason string) int64 {
	n := min(qty, l.promisedAt(location), l.Allocated)
	if n <= 0 {
		return 0
	}
	l.Allocated -= n
	l.Shipped += n
	l.takeAt(location, n)
	hand := int64(-1)
	if counted {
		hand = 0
	}
	l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Ship, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID}, location,
		n, hand, -1)
	return n
}

// promisedAt counts the units of a line that a location has promised.
func (l *Line) promisedAt(location int64) int64 {
	for _, a := range l.Allocations {
		if a.Location == location {
			return a.Quantity
		}
	}
	return 0
}

// takeAt removes units of a line from what a location has promised.
func (l *Line) takeAt(location, qty int64) {
	l.Allocations = slices.DeleteFunc(slices.Clone(l.Allocations), func(a Allocation) bool {
		return a.Location == location &&
			a.Quantity <= qty
	})
	for i := range l.Allocations {
		if l.Allocations[i].Location == location {
			l.Allocations[i].Quantity -= qty
		}
	}
}
