package order

import (
	"errors"
	"fmt"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
)

// ErrState is returned when an order is not at a stage in which the work may be done.
var ErrState = errors.New("not possible at this stage")

// Line finds a line by its id.
func (o *Order) Line(id int64) *Line {
	for i := range o.Lines {
		if o.Lines[i].ID == id {
			return &o.Lines[i]
		}
	}
	return nil
}

// Workable tells why nobody may pick the order, or nil.
func (o *Order) Workable() error {
	switch st := o.Stage(); st {
	case Ready, Routed, Picking, Packed, PartShipped:
		return nil
	case Held:
		text := "stock is waiting"
		if len(o.Holds) > 0 {
			text = o.Holds[0].Text
		}
		return fmt.Errorf("%w: order %s is held: %s", ErrState, o.Number, text)
	default:
		return fmt.Errorf("%w: order %s is %s", ErrState, o.Number, st)
	}
}

// lineName is what people call a line: its SKU, or what its channel calls it.
func (o *Order) lineName(id int64) string {
	l := o.Line(id)
	switch {
	case l == nil:
		return "what it does not have"
	case l.SKU != "":
		return l.SKU
	}
	return l.Title
}

// bucket is where units of a line stand.
type bucket struct {
	of   func(l *Line) *int64
	left string // what is said of units that are not there to be moved
}

var (
	allocated = bucket{func(l *Line) *int64 { return &l.Allocated }, "left to pick"}
	picked    = bucket{func(l *Line) *int64 { return &l.Picked }, "picked"}
	packed    = bucket{func(l *Line) *int64 { return &l.Packed }, "packed"}
)

// move moves qty of a line from one bucket to another.
func (o *Order) move(lineID, qty int64, from, to bucket) error {
	l := o.Line(lineID)
	if l == nil || qty < 1 || *from.of(l) < qty {
		return fmt.Errorf("%w: order %s has not %d of %s %s", ErrState, o.Number, qty, o.lineName(lineID), from.left)
	}
	*from.of(l) -= qty
	*to.of(l) += qty
	o.Revision++
	return nil
}

// Pick moves qty of a line from allocated to picked.
func (o *Order) Pick(lineID, qty int64) error { return o.move(lineID, qty, allocated, picked) }

// Unpick moves qty of a line from picked back to allocated.
func (o *Order) Unpick(lineID, qty int64) error { return o.move(lineID, qty, picked, allocated) }

// Pack moves qty of a line from picked to packed.
func (o *Order) Pack(lineID, qty int64) error { return o.move(lineID, qty, picked, packed) }

// Unpack moves qty of a line from packed back to picked.
func (o *Order) Unpack(lineID, qty int64) error { return o.move(lineID, qty, packed, picked) }

// Short lets go of qty units of a line that were allocated at a location and are not there: they wait again.
func (o *Order) Short(lineID, qty, location int64, s *Scene, reason string) error {
	l := o.Line(lineID)
	if l == nil || qty < 1 || l.Allocated < qty {
		return fmt.Errorf("%w: order %s has not %d of %s left to pick", ErrState, o.Number, qty, o.lineName(lineID))
	}
	left := qty
	kept := l.Allocations[:0]
	for _, a := range l.Allocations {
		if n := min(left, a.Quantity); a.Location == location {
			a.Quantity -= n
			left -= n
		}
		if a.Quantity > 0 {
			kept = append(kept, a)
		}
	}
	if left > 0 {
		return fmt.Errorf("%w: order %s has not %d of %s at that place", ErrState, o.Number, qty, o.lineName(lineID))
	}
	l.Allocations = kept
	l.Allocated -= qty
	l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Release, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID},
		location, qty, 0, -1)
	o.Revision++
	return nil
}

// Ship moves qty of a line from packed to shipped and posts the goods out of the location.
func (o *Order) Ship(lineID, qty, location int64, s *Scene, reason string) error {
	l := o.Line(lineID)
	if l == nil || qty < 1 || l.Packed < qty {
		return fmt.Errorf("%w: order %s has not %d of %s packed", ErrState, o.Number, qty, o.lineName(lineID))
	}
	var held int64
	for i := range l.Allocations {
		if l.Allocations[i].Location == location {
			held = l.Allocations[i].Quantity
		}
	}
	if held < qty {
		return fmt.Errorf("%w: order %s has %d of %s at the place that ships, not %d", ErrState, o.Number, held, o.lineName(lineID), qty)
	}
	l.Packed -= qty
	l.Shipped += qty
	kept := l.Allocations[:0]
	for _, a := range l.Allocations {
		if a.Location == location {
			a.Quantity -= qty
		}
		if a.Quantity > 0 {
			kept = append(kept, a)
		}
	}
	l.Allocations = kept
	l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Ship, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID},
		location, qty, -1, -1)
	o.Revision++
	if st := o.Stage(); st == Shipped {
		o.ShippedAt = s.Now
	}
	return nil
}

// ComeBack brings units of lines that were shipped from a location back to where they were packed there: their parcel had not
// left after all. What the channel cancelled in the meantime is called off then.
func ComeBack(o *Order, units map[int64]int64, location int64, s *Scene, reason string) (Change, error) {
	c := Change{Order: o}
	for i := range o.Lines {
		l := &o.Lines[i]
		n := units[l.ID]
		if n < 0 || n > l.Shipped {
			return c, fmt.Errorf("%w: %d × %s of order %s were shipped, not %d", ErrState, l.Shipped, o.lineName(l.ID), o.Number, n)
		}
		if n == 0 {
			continue
		}
		l.Shipped -= n
		l.allocate(stock.Part{Location: location, Quantity: n})
		l.Allocated -= n
		l.Packed += n
		l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Ship, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID},
			location, n, 1, 1)
	}
	o.Revision++
	o.Ours.CameBack = true
	if o.Record.Status == message.Cancelled {
		o.Free(LateCancel)
		callOff(o, s, &c)
	}
	if st := o.Stage(); st != Shipped && st != Delivered {
		o.ShippedAt = time.Time{}
	}
	return c, nil
}

// SendAllocated moves qty of a line from allocated to shipped, for goods that left elsewhere, posts them
// out, and returns from which location the first of them left.
func (o *Order) SendAllocated(l *Line, qty int64, s *Scene, reason string) (from int64) {
	l.Allocated -= qty
	l.Shipped += qty
	l.take(qty, func(location, n int64) {
		if from == 0 {
			from = location
		}
		l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Ship, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID},
			location, n, -1, -1)
	})
	return from
}

// NotSent moves qty of a line from shipped back to allocated at a location, for goods that were told to have left and
// had not, and posts them in again.
func (o *Order) NotSent(l *Line, qty, location int64, s *Scene, reason string) {
	l.Shipped -= qty
	l.allocate(stock.Part{Location: location, Quantity: qty})
	l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Ship, Reason: l.why(reason), Who: s.Who, DocKind: "order", DocID: o.ID},
		location, qty, 1, 1)
	o.Revision++
}
