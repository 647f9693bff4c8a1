package order

import (
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
)

// wantAnswer asks for an answer to the channel, or gives it where that needs no person.
func (o *Order) wantAnswer(s *Scene, c *Change) {
	m := &o.Record
	if a := o.Ours.Answer; a != nil && a.State == Wanted && m.AnswerBy.IsZero() && m.Status == message.Open {
		o.Ours.Answer = nil // somebody answered at the channel
		c.free(o, WantsAnswer)
	}
	if m.AnswerBy.IsZero() || m.Status != message.Open || o.Ours.Answer != nil {
		return
	}
	o.Ours.Answer = &Answer{State: Wanted, By: m.AnswerBy}
	switch {
	case !s.Now.Before(m.AnswerBy):
		o.late(c)
	case s.Accept && len(o.Holds) == 0:
		ready := s.Now.Add(s.Prep)
		*o.Ours.Answer = Answer{State: Accepted, By: m.AnswerBy, At: s.Now, ReadyAt: ready, Who: "relay"}
		c.Answer = true
		c.note("accepted", "Accepted by setting, ready at %s", ready.UTC().Format("15:04 UTC"))
	default:
		c.hold(o, Hold{Cause: WantsAnswer,
			Text:     fmt.Sprintf("The channel waits for an answer until %s.", m.AnswerBy.UTC().Format("15:04:05 UTC")),
			Expected: "Accept it with the time when it is ready, or decline it with a reason."})
	}
}

// lapsed looks at an order that the channel has called off: one that it called off because it waited in vain is
// raised; one that the buyer called off while we were asked needs no answer any more.
func (o *Order) lapsed(c *Change) {
	a := o.Ours.Answer
	switch {
	case !o.Record.AnswerBy.IsZero() && (a == nil || a.State != Declined):
		if a == nil {
			o.Ours.Answer = &Answer{By: o.Record.AnswerBy}
		}
		if o.Ours.Answer.State != Late {
			o.late(c)
		}
	case a != nil && a.State == Wanted:
		o.Ours.Answer = nil
	}
}

func (o *Order) late(c *Change) {
	o.Ours.Answer.State = Late
	o.Free(WantsAnswer)
	c.hold(o, Hold{Cause: NotAnswered, Text: "The time in which the channel wanted an answer is over.",
		Expected: "An answer in time. See at the channel whether the order stands, then let it go on or cancel it."})
}

// Overdue notes that the answer did not come in time, and tells whether it is so.
func Overdue(o *Order, now time.Time) (Change, bool) {
	c := Change{Order: o}
	if o.Ours.Answer == nil || o.Ours.Answer.State != Wanted || now.Before(o.Ours.Answer.By) {
		return c, false
	}
	o.Revision++
	o.late(&c)
	return c, true
}

// GiveAnswer answers the channel in a person's name. An order that is declined is called off.
func GiveAnswer(o *Order, accept bool, ready time.Time, reason, who string, s *Scene) (Change, error) {
	c := Change{Order: o}
	a := o.Ours.Answer
	switch {
	case a == nil:
		return c, fmt.Errorf("%w: the channel of order %s waits for no answer", ErrState, o.Number)
	case a.State != Wanted:
		return c, fmt.Errorf("%w: order %s is %s already", ErrState, o.Number, a.State)
	case !s.Now.Before(a.By):
		return c, fmt.Errorf("%w: the time to answer order %s was over at %s", ErrState, o.Number, a.By.UTC().Format("15:04:05 UTC"))
	case accept && ready.Before(s.Now):
		return c, fmt.Errorf("%w: the time when order %s is ready lies in the past", ErrState, o.Number)
	case !accept && reason == "":
		return c, fmt.Errorf("%w: say why order %s is declined", ErrState, o.Number)
	}
	o.Revision++
	o.Free(WantsAnswer)
	c.Answer = true
	if accept {
		*a = Answer{State: Accepted, By: a.By, At: s.Now, ReadyAt: ready, Who: who}
		c.note("accepted", "Accepted, ready at %s", ready.UTC().Format("15:04 UTC"))
		return c, nil
	}
	*a = Answer{State: Declined, By: a.By, At: s.Now, Reason: reason, Who: who}
	for i := range o.Lines {
		o.Lines[i].cancel(o.Lines[i].Quantity, o, s, "declined")
	}
	o.Holds = nil
	c.note("declined", "Declined: %s", reason)
	return c, nil
}

// HandOver gives the buyer what lies ready: fetched at a place of ours, brought by ourselves, or food from
// the kitchen. All that is allocated leaves.
func HandOver(o *Order, who string, s *Scene) (Change, error) {
	c := Change{Order: o}
	if k := o.Kind(); k == message.Ship || k == message.Counter || k == Summary {
		return c, fmt.Errorf("%w: order %s goes by a carrier; pick and pack it", ErrState, o.Number)
	}
	if err := o.Workable(); err != nil {
		return c, err
	}
	var units int64
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.Picked+l.Packed > 0 {
			return c, fmt.Errorf("%w: order %s is being packed; finish its shipment", ErrState, o.Number)
		}
		if l.Allocated > 0 {
			units += l.Allocated
			o.SendAllocated(l, l.Allocated, s, "handed over")
		}
	}
	if units == 0 {
		return c, fmt.Errorf("%w: nothing of order %s lies ready", ErrState, o.Number)
	}
	o.Revision++
	o.ShippedAt, o.Delivered = s.Now, true
	c.note("handed over", "%d %s handed over", units, plural(int(units), "unit"))
	return c, nil
}

// CallOff cancels on our side what has not been shipped, on a person's word.
func CallOff(o *Order, who, reason string, s *Scene) (Change, error) {
	c := Change{Order: o}
	if o.Voided || o.Kind() == Summary {
		return c, fmt.Errorf("%w: order %s cannot be cancelled", ErrState, o.Number)
	}
	var units int64
	for i := range o.Lines {
		units += o.callOff(&o.Lines[i], o.Lines[i].Quantity, s)
	}
	if units == 0 {
		return c, fmt.Errorf("%w: nothing of order %s is left to cancel", ErrState, o.Number)
	}
	o.Revision++
	o.Holds = nil
	c.note("cancelled", "Cancelled here: %s; stock of %d %s released", or(reason, "no reason given"), units,
		plural(int(units), "unit"))
	return c, nil
}

// callOff cancels up to qty of what is not shipped of a line, and keeps that the channel may not know of it.
func (o *Order) callOff(l *Line, qty int64, s *Scene) int64 {
	n := l.cancel(qty, o, s, "cancelled here")
	if n > 0 {
		if o.Ours.CalledOff == nil {
			o.Ours.CalledOff = map[int64]int64{}
		}
		o.Ours.CalledOff[l.ID] += n
	}
	return n
}

// CancelUnits cancels units of lines on our side, on a person's word: what waits first, then what is allocated, picked and
// packed. What has been shipped cannot be.
func CancelUnits(o *Order, units map[int64]int64, reason string, s *Scene) (Change, error) {
	c := Change{Order: o}
	switch st := o.Stage(); {
	case st == Void, st == Cancelled, o.Kind() == Summary, o.MergedInto != 0:
		return c, fmt.Errorf("%w: order %s is %s; nothing of it can be cancelled", ErrState, o.Number, st)
	case len(units) == 0:
		return c, fmt.Errorf("%w: say which units of order %s", ErrState, o.Number)
	}
	var said []string
	for i := range o.Lines {
		l := &o.Lines[i]
		n := units[l.ID]
		if free := l.Live() - l.Shipped; n < 0 || n > free {
			return c, fmt.Errorf("%w: %d × %s of order %s can be cancelled, not %d", ErrState, free, o.lineName(l.ID), o.Number, n)
		}
		if n == 0 {
			continue
		}
		o.callOff(l, n, s)
		said = append(said, fmt.Sprintf("%d × %s", n, o.lineName(l.ID)))
	}
	o.Revision++
	if o.Stage() == Cancelled {
		o.Holds = nil
	}
	if o.Stage() == Shipped && o.ShippedAt.IsZero() { // all that is left had been sent
		o.ShippedAt = s.Now
	}
	c.note("cancelled", "Cancelled here: %s (%s)", strings.Join(said, ", "), or(reason, "no reason given"))
	AllocateWaiting(o, s, &c)
	return c, nil
}

// VoidIt makes an order one that only stays for the record: its stock is released, and the channel's order
// may be taken in again. What has left cannot be undone.
func VoidIt(o *Order, who, reason string, s *Scene) (Change, error) {
	c := Change{Order: o}
	switch st := o.Stage(); {
	case st == Void:
		return c, fmt.Errorf("%w: order %s is void", ErrState, o.Number)
	case o.MergedInto != 0:
		return c, fmt.Errorf("%w: order %s is part of a summary; undo that first", ErrState, o.Number)
	case o.Kind() == Summary:
		return c, fmt.Errorf("%w: order %s is a summary; undo the merge", ErrState, o.Number)
	case (st == Shipped || st == PartShipped || st == Delivered) && !o.NoStockMoved:
		return c, fmt.Errorf("%w: order %s is %s; what has left is not undone by voiding it", ErrState, o.Number, st)
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		l.cancel(l.Live()-l.Shipped, o, s, "voided")
	}
	o.Revision++
	o.Holds, o.Voided = nil, true
	if o.Ours.Answer != nil && o.Ours.Answer.State == Wanted {
		o.Ours.Answer = nil
	}
	c.note("voided", "Voided: %s", or(reason, "no reason given"))
	return c, nil
}

func stockKey(item, location int64) stock.Key { return stock.Key{Item: item, Location: location} }
