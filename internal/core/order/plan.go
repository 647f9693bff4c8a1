package order

import (
	"fmt"
	"maps"
	"slices"

	"openrelay/internal/core/stock"
)

// Kept counts the units of a line that are not to be sent for now: never more than are neither picked nor further.
func (o *Order) Kept(l *Line) int64 { return min(o.Ours.KeptBack[l.ID], l.Waiting()+l.Allocated) }

// Sendable counts the units of a line that are allocated and not kept back; those that wait are kept back first.
func (o *Order) Sendable(l *Line) int64 { return l.Allocated - max(0, o.Kept(l)-l.Waiting()) }

// KeepBack says of some lines how many of their units are not to be sent for now; 0 lets them go. Their stock stays allocated. What
// is picked is taken back first; an order of which nothing would be sent is held instead.
func KeepBack(o *Order, units map[int64]int64, reason string) (Change, error) {
	c := Change{Order: o}
	kept := maps.Clone(o.Ours.KeptBack)
	if kept == nil {
		kept = map[int64]int64{}
	}
	for _, id := range slices.Sorted(maps.Keys(units)) {
		l, n := o.Line(id), units[id]
		if l == nil || l.Charge {
			return c, fmt.Errorf("%w: order %s has no line %d of which units could be kept back", ErrState, o.Number, id)
		}
		if most := l.Waiting() + l.Allocated; n < 0 || n > most {
			return c, fmt.Errorf("%w: %d × %s of order %s are not picked; %d cannot be kept back", ErrState, most, o.lineName(id),
				o.Number, n)
		}
		was := o.Kept(l)
		if kept[id] = n; n == 0 {
			delete(kept, id)
		}
		switch {
		case n > was:
			c.note("kept back", "%d × %s kept back%s", n, o.lineName(id), because(reason))
		case n < was:
			c.note("let go", "%d × %s let go%s; %d kept back", was-n, o.lineName(id), because(reason), n)
		}
	}
	if len(c.Notes) == 0 {
		return c, fmt.Errorf("%w: so many are kept back already", ErrState)
	}
	before := o.Ours.KeptBack
	o.Ours.KeptBack = kept
	var sent int64
	for i := range o.Lines {
		l := &o.Lines[i]
		if !l.Charge {
			sent += l.Live() - o.Kept(l)
		}
	}
	if sent == 0 {
		o.Ours.KeptBack = before
		return Change{Order: o}, fmt.Errorf("%w: nothing of order %s would be sent; hold the order instead", ErrState, o.Number)
	}
	o.Revision++
	return c, nil
}

func because(reason string) string {
	if reason == "" {
		return ""
	}
	return ": " + reason
}

// MoveUnits lets units of a line that are allocated at one location and not picked be sent from another, which must have them free.
func (o *Order) MoveUnits(lineID, qty, from, to int64, s *Scene, reason string) error {
	l := o.Line(lineID)
	if l == nil || from == to {
		return fmt.Errorf("%w: order %s has nothing to move there", ErrState, o.Number)
	}
	var free int64
	for _, p := range s.Book.Find(l.Goods(), []int64{to}, qty) {
		free += p.Quantity
	}
	if free < qty && !l.NoStock {
		return fmt.Errorf("%w: %d × %s are free at %s, not %d", ErrState, free, o.lineName(lineID), s.Place(to), qty)
	}
	if err := o.Short(lineID, qty, from, s, reason); err != nil {
		return err
	}
	l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Allocate, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID},
		to, qty, 0, 1)
	l.allocate(stock.Part{Location: to, Quantity: qty})
	return nil
}
