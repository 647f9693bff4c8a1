// Package returns decides on goods that come back: how much may, what becomes of it, and what the buyer gets back for it.
package returns

import (
	"errors"
	"fmt"

	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
)

// ErrState is returned when a return is not at a stage in which something may be done, or goods of it cannot be.
var ErrState = errors.New("not possible with this return")

// State is where a return stands.
type State string

// The states of a return. Settled ones are over: it is decided what the buyer gets back.
const (
	Announced State = "announced" // nothing of it is here
	Arrived   State = "arrived"   // something of it is here
	Settled   State = "settled"
	CalledOff State = "called off"
)

// Outcome is what becomes of units that came back.
type Outcome string

// The outcomes. Units that are to be looked at are nobody's stock until somebody has.
const (
	ToStock    Outcome = "stock"
	ToLook     Outcome = "look"
	WrittenOff Outcome = "written off"
)

// Outcomes lists them in the order in which a bench offers them.
var Outcomes = []Outcome{ToStock, ToLook, WrittenOff}

// Line is an item that comes back of an order line. Quantities are units of the item; of a kit, Per make one unit of the line.
type Line struct {
	LineID    int64
	ItemID    int64
	Per       int64
	Announced int64
	Stock     int64
	Look      int64
	Off       int64
}

// Came is how many units are here.
func (l *Line) Came() int64 { return l.Stock + l.Look + l.Off }

// of is the count of an outcome.
func (l *Line) of(o Outcome) *int64 {
	switch o {
	case ToStock:
		return &l.Stock
	case ToLook:
		return &l.Look
	case WrittenOff:
		return &l.Off
	}
	return nil
}

// Return is goods of one order that come back.
type Return struct {
	State State
	Lines []Line
}

// Key names an item of an order line.
type Key struct{ Line, Item int64 }

// Sent says how many units of which items have left for an order, by line.
func Sent(o *order.Order) []Line {
	var out []Line
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.Charge || l.Shipped == 0 || l.ItemID == 0 {
			continue
		}
		for _, c := range components(l) {
			out = append(out, Line{LineID: l.ID, ItemID: c.Item, Per: c.Quantity, Announced: l.Shipped * c.Quantity})
		}
	}
	return out
}

// components are what a unit of a line is made of; what holds no stock can come back, too.
func components(l *order.Line) []stock.Component {
	g := l.Goods()
	g.NoStock = false
	return g.Components()
}

// Left says how many units may still come back of an order: what has left, less what came back or is announced with other
// returns that are not called off.
func Left(o *order.Order, others []Return) map[Key]int64 {
	out := map[Key]int64{}
	for _, l := range Sent(o) {
		out[Key{l.LineID, l.ItemID}] += l.Announced
	}
	for i := range others {
		r := &others[i]
		for k := range r.Lines {
			l := &r.Lines[k]
			n := l.Came()
			if r.State == Announced || r.State == Arrived {
				n = max(n, l.Announced)
			}
			out[Key{l.LineID, l.ItemID}] -= n
		}
	}
	return out
}

// Announce sets what is to come back: units of order lines. More than may come back is refused, and changes nothing.
func (r *Return) Announce(o *order.Order, others []Return, units map[int64]int64) error {
	if r.State != Announced && r.State != Arrived {
		return fmt.Errorf("%w: it is %s", ErrState, r.State)
	}
	left := Left(o, others)
	lines := append([]Line(nil), r.Lines...)
	for i := range lines {
		lines[i].Announced = 0
	}
	for id, n := range units {
		l := o.Line(id)
		if l == nil || n < 1 {
			return fmt.Errorf("%w: order %s has no %d of line %d", ErrState, o.Number, n, id)
		}
		found := false
		for _, sent := range Sent(o) {
			if sent.LineID != id {
				continue
			}
			found = true
			key := Key{id, sent.ItemID}
			if n*sent.Per > left[key] {
				return fmt.Errorf("%w: %d × %s of order %s may come back, not %d", ErrState, max(left[key], 0)/sent.Per, l.SKU, o.Number,
					n)
			}
			entry(&lines, sent).Announced += n * sent.Per
		}
		if !found {
			return fmt.Errorf("%w: %s of order %s has not left", ErrState, l.SKU, o.Number)
		}
	}
	r.Lines = lines
	return nil
}

// entry is the line of a list for an item of an order line; it is added where it is missing.
func entry(lines *[]Line, like Line) *Line {
	for i := range *lines {
		if l := &(*lines)[i]; l.LineID == like.LineID && l.ItemID == like.ItemID {
			return l
		}
	}
	*lines = append(*lines, Line{LineID: like.LineID, ItemID: like.ItemID, Per: like.Per})
	return &(*lines)[len(*lines)-1]
}

// Take takes in units of an item that came back: first what was announced, then what else has left.
func (r *Return) Take(o *order.Order, others []Return, item, qty int64, outcome Outcome) error {
	if r.State != Announced && r.State != Arrived {
		return fmt.Errorf("%w: it is %s", ErrState, r.State)
	}
	left := Left(o, others)
	var may int64
	sent := Sent(o)
	for _, s := range sent {
		if s.ItemID == item {
			may += max(left[Key{s.LineID, item}]-came(r.Lines, s), 0)
		}
	}
	if qty < 1 || qty > may {
		return fmt.Errorf("%w: %d more may come back of order %s, not %d", ErrState, may, o.Number, qty)
	}
	for _, announced := range []bool{true, false} {
		for _, s := range sent {
			if s.ItemID != item || qty == 0 {
				continue
			}
			n := left[Key{s.LineID, item}] - came(r.Lines, s)
			if announced {
				n = min(n, awaited(r.Lines, s))
			}
			if n = min(n, qty); n > 0 {
				*entry(&r.Lines, s).of(outcome) += n
				qty -= n
			}
		}
	}
	r.State = Arrived
	return nil
}

func came(lines []Line, like Line) int64 {
	for i := range lines {
		if l := &lines[i]; l.LineID == like.LineID && l.ItemID == like.ItemID {
			return l.Came()
		}
	}
	return 0
}

func awaited(lines []Line, like Line) int64 {
	for i := range lines {
		if l := &lines[i]; l.LineID == like.LineID && l.ItemID == like.ItemID {
			return max(l.Announced-l.Came(), 0)
		}
	}
	return 0
}

// Move changes what becomes of units of an item that came back. An empty outcome to says that they did not come back after all.
func (r *Return) Move(item, qty int64, from, to Outcome) error {
	if r.State != Arrived {
		return fmt.Errorf("%w: it is %s", ErrState, r.State)
	}
	var there int64
	for i := range r.Lines {
		if r.Lines[i].ItemID == item {
			there += *r.Lines[i].of(from)
		}
	}
	if qty < 1 || qty > there {
		return fmt.Errorf("%w: %d of it are %s, not %d", ErrState, there, from, qty)
	}
	var here int64
	for i := len(r.Lines) - 1; i >= 0; i-- {
		l := &r.Lines[i]
		if l.ItemID == item {
			n := min(qty, *l.of(from))
			*l.of(from) -= n
			if to != "" {
				*l.of(to) += n
			}
			qty -= n
		}
		here += l.Came()
	}
	if here == 0 {
		r.State = Announced
	}
	return nil
}

// Came is how many units of a return are here.
func (r *Return) Came() (units int64) {
	for i := range r.Lines {
		units += r.Lines[i].Came()
	}
	return units
}

// Units is how many units are to come or came.
func (r *Return) Units() (units int64) {
	for i := range r.Lines {
		units += max(r.Lines[i].Announced, r.Lines[i].Came())
	}
	return units
}
