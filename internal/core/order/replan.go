package order

import (
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/stock"
)

// Replan lets go of what is promised to an order and promises it anew, as it is planned now, with what waits. Nobody may have begun on
// it. Skipped says that nothing is planned otherwise.
func Replan(o *Order, s *Scene, reason string) (Change, error) {
	c := Change{Order: o}
	if o.Routed || o.Voided || o.Test || o.Elsewhere() || !slices.Contains([]Stage{Held, Ready}, o.Stage()) {
		return c, fmt.Errorf("%w: order %s is %s; only what nobody has begun on is planned anew", ErrState, o.Number, o.Stage())
	}
	return replan(o, s, reason, "Planned anew", func(int64) bool { return true })
}

// ReplanAt lets go of what is promised to an order at some places, and promises it anew, as it is planned now, with what waits. Others may
// have
// begun on it, but nobody at these places. Skipped says that nothing is planned otherwise.
func ReplanAt(o *Order, s *Scene, reason string, places []int64) (Change, error) {
	c := Change{Order: o}
	if o.Voided || o.Test || o.Elsewhere() || !slices.Contains([]Stage{Held, Ready, Routed, Picking, Packed, PartShipped}, o.Stage()) {
		return c, fmt.Errorf("%w: order %s is %s; nothing of it is planned anew", ErrState, o.Number, o.Stage())
	}
	return replan(o, s, reason, "What nobody has begun on planned anew", func(at int64) bool { return slices.Contains(places, at) })
}

// replan lets go of what is promised at some places and promises it anew.
func replan(o *Order, s *Scene, reason, said string, at func(place int64) bool) (Change, error) {
	c := Change{Order: o}
	before, mark := make([][]Allocation, len(o.Lines)), len(s.Book.Movements)
	for i := range o.Lines {
		l := &o.Lines[i]
		before[i] = slices.Clone(l.Allocations)
		for _, a := range before[i] {
			n := min(a.Quantity, l.Allocated)
			if l.Charge || n == 0 || !at(a.Location) {
				continue
			}
			l.takeAt(a.Location, n)
			l.Allocated -= n
			l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Release, Reason: l.why("planned anew"), Who: s.Who, DocKind: "order",
				DocID: o.ID}, a.Location, n, 0, -1)
		}
	}
	AllocateWaiting(o, s, &c)
	if o.placedAs(before) {
		s.Book.Movements = s.Book.Movements[:mark] // what was let go was taken again
		return Change{Order: o, Skipped: "it is planned so already"}, nil
	}
	o.Revision++
	c.Notes = slices.DeleteFunc(c.Notes, func(n Note) bool { return n.What == "allocated" })
	c.note("planned anew", "%s%s: %s", said, because(reason), or(allocationText(o, s.Place), "nothing can be sent"))
	return c, nil
}

// Due is when an order was promised for, or was placed where no day was promised: what waits is served in this order.
func (o *Order) Due() time.Time {
	if by, err := time.Parse(time.DateOnly, o.Record.DeliverBy); err == nil {
		return by
	}
	if o.Record.PlacedAt.IsZero() {
		return o.ReceivedAt
	}
	return o.Record.PlacedAt
}

// placedAs tells whether all is promised where it was.
func (o *Order) placedAs(before [][]Allocation) bool {
	at := func(list []Allocation) map[int64]int64 {
		out := map[int64]int64{}
		for _, a := range list {
			out[a.Location] += a.Quantity
		}
		return out
	}
	for i := range o.Lines {
		if o.Lines[i].Charge {
			continue
		}
		was, is := at(before[i]), at(o.Lines[i].Allocations)
		if len(was) != len(is) {
			return false
		}
		for loc, n := range was {
			if is[loc] != n {
				return false
			}
		}
	}
	return true
}
