package returning

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// NewReturn is a return that somebody announces, or that is simply there.
type NewReturn struct {
	Order    string          `json:"order" doc:"Number of the order; a tracking number of one of its parcels does, too"`
	Location string          `json:"location,omitempty" doc:"Code of the place where it comes; empty: the place that sent it"`
	Reason   string          `json:"reason,omitempty" doc:"What the buyer says"                                                          maxLength:"300"`
	Note     string          `json:"note,omitempty" maxLength:"500"`
	Tracking string          `json:"tracking,omitempty" doc:"Number of the parcel in which it comes"                                       maxLength:"80"`
	Lines    map[int64]int64 `json:"lines,omitempty" doc:"Units by the id of the order's line; without them it is not known what comes"`
}

// AnnounceReturn notes that goods of an order come back, and returns the number under which they are taken in.
func (r *Returning) AnnounceReturn(ctx context.Context, n NewReturn, who string) (number string, err error) {
	err = r.Commit(ctx, func(ch *engine.Change) error {
		o, err := orderOf(ch, strings.TrimSpace(n.Order))
		if err != nil {
			return err
		}
		x := store.GoodsReturn{OrderID: o.ID, Status: returns.Announced, Reason: strings.TrimSpace(n.Reason),
			Remark: strings.TrimSpace(n.Note), Tracking: strings.TrimSpace(n.Tracking), MadeBy: who, CreatedAt: ch.Now.UnixMicro()}
		if x.LocationID, err = r.arrivesAt(ch, o, n.Location); err != nil {
			return err
		}
		if err := r.add(ch, &x, o, n.Lines, who); err != nil {
			return err
		}
		number = x.Number
		return nil
	})
	return number, err
}

// add writes a new return of units of an order's lines.
func (r *Returning) add(ch *engine.Change, x *store.GoodsReturn, o *order.Order, units map[int64]int64, who string) error {
	if len(returns.Sent(o)) == 0 {
		return &engine.Refused{Text: fmt.Sprintf("nothing of order %s has left; nothing of it can come back", o.Number), Conflict: true}
	}
	others, err := othersOf(ch, o.ID, 0)
	if err != nil {
		return err
	}
	d := x.Decision()
	if err := d.Announce(o, others, units); err != nil {
		return refused(x, err)
	}
	x.Decided(d)
	if err := ch.AddReturn(x); err != nil {
		return err
	}
	text := fmt.Sprintf("Return %s announced: %s", x.Number, engine.Counted(d.Units(), "unit", "units"))
	if len(units) == 0 {
		text = fmt.Sprintf("Return %s begun", x.Number)
	}
	if x.Reason != "" {
		text += " (" + x.Reason + ")"
	}
	ch.Tell("return", x.Number)
	ch.Tell("order", o.Number)
	return r.NoteOrder(ch, o, who, "return announced", "%s", text)
}

// orderOf finds the order of what comes back, by its number or that of one of its parcels.
func orderOf(ch *engine.Change, number string) (*order.Order, error) {
	o, err := ch.OrderByNumber(number)
	if !errors.Is(err, store.ErrNotFound) {
		return o, err
	}
	p, none := ch.Parcel(number)
	if none != nil {
		return nil, fmt.Errorf("order %s: %w", number, err)
	}
	if p.Riders != "" && number == p.Tracking {
		return nil, severalOrders(ch, &p)
	}
	return ch.Order(p.OrderID)
}

// severalOrders refuses to guess which order is meant by the number of a carton with several.
func severalOrders(ch *engine.Change, p *store.Parcel) error {
	riders, err := ch.ParcelsIn(p.ID)
	if err != nil {
		return err
	}
	numbers := []string{p.OrderNumber}
	for i := range riders {
		numbers = append(numbers, riders[i].OrderNumber)
	}
	return &engine.Refused{Text: fmt.Sprintf("what left with %s lies in a carton with goods of orders %s; say which of them", p.Tracking,
		engine.Join(numbers)), Conflict: true}
}

// arrivesAt is the place where goods of an order come back: the one that is said, or the one that sent the last of them.
func (r *Returning) arrivesAt(ch *engine.Change, o *order.Order, code string) (int64, error) {
	if code != "" {
		loc, err := r.Inventory.Ours(code)
		return loc.ID, err
	}
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return 0, err
	}
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].LocationID != 0 && list[i].State != store.CalledOff {
			return list[i].LocationID, nil
		}
	}
	if ids := r.PlaceIDs(); len(ids) > 0 {
		return ids[0], nil
	}
	return 0, engine.Refuse("location: say where it comes")
}

// CallOffReturn ends a return of which nothing came.
func (r *Returning) CallOffReturn(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, o, _, err := loadReturn(ch, number)
		if err != nil {
			return err
		}
		if x.Status != returns.Announced {
			return &engine.Refused{Text: fmt.Sprintf("return %s is %s and cannot be called off", x.Number, x.Status), Conflict: true}
		}
		x.Status = returns.CalledOff
		return r.save(ch, &x, o, who, "return called off", "Return %s called off: it does not come", x.Number)
	})
}

// TakeReturn takes in that a channel, or whoever hands in, announces a return. A newer version of the same record changes what is
// to come; what came stays.
func (r *Returning) TakeReturn(b *exchange.Batch, in store.InboxMessage, m *message.Return) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	known, err := b.Ch.ReturnTold(b.C.ID, in.OutsideID)
	isNew := errors.Is(err, store.ErrNotFound)
	if err != nil && !isNew {
		return err
	}
	if isNew && m.Withdrawn {
		b.Skip(in, y, "withdrawn before it was known", "the return was withdrawn before it was known here")
		return nil
	}
	o, err := b.Ch.OrderByNumber(engine.Or(m.OurNumber, engine.Or(m.OrderNumber, m.OrderID)))
	if errors.Is(err, store.ErrNotFound) {
		return r.notTaken(b, in, y, m, 0, "there is no such order here", true)
	}
	if err != nil {
		return err
	}
	if isNew {
		known = store.GoodsReturn{OrderID: o.ID, Status: returns.Announced, ToldBy: b.C.ID, ToldID: in.OutsideID, MadeBy: b.C.Rec().Name,
			CreatedAt: b.Ch.Now.UnixMicro()}
		if known.LocationID, err = r.arrivesAt(b.Ch, o, ""); err != nil {
			return err
		}
	}
	known.Reason, known.Tracking = engine.Clip(m.Reason, 300), engine.Clip(m.Tracking, 80)
	if !o.ForgottenAt.IsZero() { // nothing is kept of what came about it
		known.Reason, known.Tracking = "", ""
		if err := b.Ch.ForgetRaw(in.ID); err != nil {
			return err
		}
	}
	err = r.announced(b, &known, o, m, isNew)
	if why, no := engine.IsRefused(err); no {
		return r.notTaken(b, in, y, m, o.ID, why, len(returns.Sent(o)) == 0)
	}
	if err != nil {
		return err
	}
	if isNew {
		y.New++
	} else {
		y.Changed++
	}
	b.Settle(in, "done", "", o.ID)
	return nil
}

// announced brings a return to what its channel says of it.
func (r *Returning) announced(b *exchange.Batch, x *store.GoodsReturn, o *order.Order, m *message.Return, isNew bool) error {
	who := b.C.Rec().Name
	if m.Withdrawn {
		if x.Status != returns.Announced {
			return &engine.Refused{Text: fmt.Sprintf("return %s is %s here", x.Number, x.Status), Conflict: true}
		}
		x.Status = returns.CalledOff
		return r.save(b.Ch, x, o, who, "return called off", "Return %s called off at the channel", x.Number)
	}
	units, err := unitsOf(o, m)
	if err != nil {
		return err
	}
	if isNew {
		return r.add(b.Ch, x, o, units, who)
	}
	others, err := othersOf(b.Ch, o.ID, x.ID)
	if err != nil {
		return err
	}
	d := x.Decision()
	if err := d.Announce(o, others, units); err != nil {
		return refused(x, err)
	}
	x.Decided(d)
	return r.save(b.Ch, x, o, who, "return announced", "Return %s: %s now", x.Number, engine.Counted(d.Units(), "unit", "units"))
}

// unitsOf says how many units of which lines of an order a message announces.
func unitsOf(o *order.Order, m *message.Return) (map[int64]int64, error) {
	units := map[int64]int64{}
	for _, want := range m.Lines {
		left := want.Quantity
		var last int64
		for i := range o.Lines { // a SKU may stand on several lines
			l := &o.Lines[i]
			if left == 0 || !(want.ID == l.OutsideID && want.ID != "" || want.ID == "" && strings.EqualFold(want.SKU, l.SKU)) {
				continue
			}
			n := left
			if want.ID == "" {
				n = min(left, max(l.Shipped-units[l.ID], 0))
			}
			units[l.ID] += n
			left, last = left-n, l.ID
		}
		if last == 0 {
			return nil, &engine.Refused{Text: fmt.Sprintf("order %s has no %s", o.Number, engine.Or(want.SKU, "line "+want.ID)),
				Conflict: true}
		}
		if left > 0 {
			units[last] += left // more than there is: the line says why not
		}
	}
	for id, n := range units {
		if n == 0 {
			delete(units, id)
		}
	}
	return units, nil
}

// notTaken raises an announcement that fits nothing here, with what came. again says that it may fit later by itself.
func (r *Returning) notTaken(b *exchange.Batch, in store.InboxMessage, y *store.Tally, m *message.Return, orderID int64,
	why string, again bool) error {
	y.Failed++
	y.Reason(string(engine.NotTakenIn))
	if err := b.Unfit(in, why, orderID, again); err != nil {
		return err
	}
	var parts []string
	for _, l := range m.Lines {
		parts = append(parts, fmt.Sprintf("%d × %s", l.Quantity, engine.Or(l.SKU, "line "+l.ID)))
	}
	b.Ch.Tell("exception", "")
	return b.Ch.Raise(store.Exception{Cause: engine.NotTakenIn, Subject: in.OutsideID,
		Text: fmt.Sprintf("%s announces that %s of order %s comes back, but %s.", b.C.Rec().Name,
			engine.Or(engine.Join(parts), "something"), engine.Or(m.OurNumber, engine.Or(m.OrderNumber, m.OrderID)), why),
		Expected: "A return that fits what has left. Correct it there, and take it in again; what comes before its parcel is told is " +
			"tried again by itself. If goods come all the same, begin a return by hand.",
		ConnectionID: b.C.ID, OrderID: orderID, InboxID: in.ID, Standing: true}, b.Ch.Now)
}
