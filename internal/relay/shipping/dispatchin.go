package shipping

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// unfit is why a dispatch cannot be applied, and what a person can do about it.
type unfit struct {
	why, expected string
	again         bool // it may fit later by itself
}

func (u *unfit) Error() string { return u.why }

// TakeDispatch takes in that a parcel left with goods of an order of ours, whoever printed its label: the order and the
// stock follow, and the channel is told like of any other parcel. A newer version of the same record corrects what was
// taken in before; it never ships again. What cannot be applied is raised with what came.
func (r *Shipping) TakeDispatch(b *exchange.Batch, in store.InboxMessage, m *message.Dispatch) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	r.follow(m)
	number := engine.Or(m.OurNumber, engine.Or(m.OrderNumber, m.OrderID))
	before, err := b.Ch.ParcelTold(b.C.ID, in.OutsideID)
	if err == nil {
		return r.toldAgain(b, in, y, &before, m)
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if m.Withdrawn {
		b.Skip(in, y, "withdrawn before it was known", "parcel "+m.Tracking+" was withdrawn before it was known here")
		return nil
	}
	if known, err := b.Ch.Parcel(m.Tracking); err == nil {
		b.Skip(in, y, "the parcel is known", fmt.Sprintf("parcel %s of order %s is known", m.Tracking, known.OrderNumber))
		return nil
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if known, orderID, err := r.namedParcel(b, m); known || err != nil {
		return r.applied(b, in, y, m, orderID, false, err)
	}
	o, err := b.Ch.OrderByNumber(number)
	if errors.Is(err, store.ErrNotFound) {
		return r.applied(b, in, y, m, 0, true, &unfit{"there is no order " + number + " here",
			"An order with this number. If it is on its way, this is applied by itself when it comes; else correct the number at the " +
				"other side.", true})
	}
	if err != nil {
		return err
	}
	return r.applied(b, in, y, m, o.ID, true, r.dispatchedElsewhere(b.Ch, b.C, in.OutsideID, o, m))
}

// toldAgain takes in a newer version of a record of a parcel that was told before: it is withdrawn, corrected, or leaves after all.
func (r *Shipping) toldAgain(b *exchange.Batch, in store.InboxMessage, y *store.Tally, p *store.Parcel, m *message.Dispatch) error {
	takeBack, correct := r.takeBackTold, r.correct
	if packedHere(p) {
		takeBack, correct = r.backTold, r.correctTold
	}
	switch {
	case m.Withdrawn && (p.State == store.CalledOff || p.State == store.ToShip):
		b.Skip(in, y, "nothing new", fmt.Sprintf("parcel %s of order %s was withdrawn before", p.Number, p.OrderNumber))
		return nil
	case m.Withdrawn:
		return r.applied(b, in, y, m, p.OrderID, false, takeBack(b, p, m))
	case p.State == store.CalledOff:
		return r.applied(b, in, y, m, p.OrderID, false, &unfit{"the parcel was withdrawn before",
			"A record of its own for each parcel. Tell of this one anew.", false})
	case p.State == store.ToShip:
		return r.applied(b, in, y, m, p.OrderID, false, r.leavesTold(b.Ch, b.C, in.OutsideID, *p, m))
	}
	changed, err := correct(b, p, m)
	if err == nil && !changed {
		b.Skip(in, y, "nothing new", fmt.Sprintf("parcel %s of order %s is known as it is told", m.Tracking, p.OrderNumber))
		return nil
	}
	return r.applied(b, in, y, m, p.OrderID, false, err)
}

// applied settles a dispatch, or raises why it could not be applied.
func (r *Shipping) applied(b *exchange.Batch, in store.InboxMessage, y *store.Tally, m *message.Dispatch, orderID int64, isNew bool,
	err error) error {
	var u *unfit
	switch {
	case err == nil && isNew:
		y.New++
		b.Settle(in, "done", "", orderID)
		return nil
	case err == nil:
		y.Changed++
		b.Settle(in, "done", "", orderID)
		return nil
	case !errors.As(err, &u):
		return err
	}
	y.Failed++
	y.Reason(string(engine.NotApplied))
	if _, run, err := b.Tally(in); err == nil {
		b.Logs = append(b.Logs, exchange.Logged{Run: run, Level: "error", Text: fmt.Sprintf("dispatch %s: %s", in.OutsideID, u.why)})
	}
	if err := b.Unfit(in, u.why, orderID, u.again); err != nil {
		return err
	}
	b.Ch.Tell("exception", "")
	return b.Ch.Raise(store.Exception{Cause: engine.NotApplied, Subject: in.OutsideID,
		Text: fmt.Sprintf("%s says that %s left with %s %s, but %s.", b.C.Rec().Name, whatLeft(m),
			engine.Or(m.Carrier, "tracking number"), m.Tracking, u.why),
		Expected: u.expected, ConnectionID: b.C.ID, OrderID: orderID, InboxID: in.ID, Standing: true}, b.Ch.Now)
}

// whatLeft names the goods of a dispatch.
func whatLeft(m *message.Dispatch) string {
	var parts []string
	for _, l := range m.Lines {
		parts = append(parts, fmt.Sprintf("%d × %s", l.Quantity, engine.Or(l.SKU, "line "+l.ID)))
	}
	of := "order " + engine.Or(m.OurNumber, engine.Or(m.OrderNumber, m.OrderID))
	if len(parts) == 0 {
		return of
	}
	return strings.Join(parts, ", ") + " of " + of
}

// leftOf says how many units of each line of an order a dispatch has: all that are allocated, where it names none.
func leftOf(o *order.Order, m *message.Dispatch) (map[int64]int64, error) {
	want := map[int64]int64{}
	if len(m.Lines) == 0 {
		for i := range o.Lines {
			want[o.Lines[i].ID] = o.Lines[i].Allocated
		}
		return want, nil
	}
	for _, d := range m.Lines {
		left, last := d.Quantity, int64(0)
		for i := range o.Lines { // a SKU may stand on several lines
			l := &o.Lines[i]
			if left == 0 || !(d.ID == l.OutsideID && d.ID != "" || d.ID == "" && d.SKU == l.SKU) {
				continue
			}
			n := left
			if d.ID == "" {
				n = min(left, max(l.Allocated-want[l.ID], 0))
			}
			want[l.ID] += n
			left, last = left-n, l.ID
		}
		if last == 0 && left > 0 && !hasLine(o, d) {
			return nil, &unfit{fmt.Sprintf("order %s has no %s", o.Number, engine.Or(d.SKU, "line "+d.ID)),
				"Lines that the order has. Correct it at the other side.", false}
		}
		if left > 0 { // more than there is: the line says why not
			for i := range o.Lines {
				if l := &o.Lines[i]; d.SKU == l.SKU {
					want[l.ID] += left
					break
				}
			}
		}
	}
	return want, nil
}

func hasLine(o *order.Order, d message.DispatchLine) bool {
	return slices.ContainsFunc(o.Lines, func(l order.Line) bool {
		return d.ID == l.OutsideID && d.ID != "" || d.ID == "" && d.SKU == l.SKU
	})
}

// dispatchedElsewhere books a parcel that left without our label. Only units that are allocated and not
// yet picked here can have left elsewhere.
func (r *Shipping) dispatchedElsewhere(ch *engine.Change, c *engine.Conn, told string, o *order.Order, m *message.Dispatch) error {
	channel, err := r.toBeTold(o)
	if err != nil {
		return err
	}
	want, err := leftOf(o, m)
	if err != nil {
		return err
	}
	misfit := fits(o, want)
	if misfit != nil || m.ParcelNumber != "" {
		p, ok, err := meantParcel(ch, o, m)
		if err != nil {
			return err
		}
		if ok {
			return r.leavesTold(ch, c, told, p, m)
		}
	}
	if misfit != nil {
		return misfit
	}
	scene, err := r.sceneOf(ch, o, channel, c.Rec().Name)
	if err != nil {
		return err
	}
	s := store.Shipment{OrderID: o.ID, State: store.Gone, CreatedAt: ch.Now.UnixMicro()}
	for i := range o.Lines {
		l := &o.Lines[i]
		n := want[l.ID]
		if n == 0 {
			continue
		}
		if from := o.SendAllocated(l, n, scene, "left elsewhere with "+m.Tracking); s.LocationID == 0 {
			s.LocationID = from
		}
		s.Lines = append(s.Lines, shipmentLines(l, n, n)...)
	}
	p := store.Parcel{OrderID: o.ID, State: store.Gone, ServiceName: m.Service, Tracking: m.Tracking, TrackingURL: m.TrackingURL,
		CarrierTold: m.Carrier, ToldBy: c.ID, ToldID: told, CreatedAt: ch.Now.UnixMicro(), ShippedAt: ch.Now.UnixMicro()}
	if err := r.addTold(ch, c, o, &s, &p, m); err != nil {
		return err
	}
	ch.Mark(engine.OrderChanged, o.ID) // what was to be picked here has left elsewhere
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return err
	}
	ch.Tell("shipment", s.Number)
	return r.Inventory.Post(ch, scene.Book)
}

// toBeTold is the channel of an order of which it may be told that something left.
func (r *Shipping) toBeTold(o *order.Order) (*engine.Conn, error) {
	channel := r.ByID(o.ConnectionID)
	switch {
	case o.Test:
		return nil, &unfit{fmt.Sprintf("order %s is a test", o.Number),
			"An order that is real. Nothing is to be done if this was a test, too.", false}
	case o.Voided:
		return nil, &unfit{fmt.Sprintf("order %s is void", o.Number),
			"An order that stands. Take it in again if it was voided by mistake, then take this in again.", false}
	case channel == nil:
		return nil, &unfit{fmt.Sprintf("the channel of order %s is gone", o.Number),
			"A channel that can be told. Nobody hears of this parcel.", false}
	}
	return channel, nil
}

// follow completes where a parcel is followed, where its carrier is named here.
func (r *Shipping) follow(m *message.Dispatch) {
	if m.TrackingURL != "" || m.Tracking == "" {
		return
	}
	if c, ok := r.NamedCarrier(m.Carrier); ok {
		m.TrackingURL = followed(c, m.Tracking)
	}
}

// addTold keeps a parcel that left elsewhere, and lets its channel know.
func (r *Shipping) addTold(ch *engine.Change, c *engine.Conn, o *order.Order, s *store.Shipment, p *store.Parcel,
	m *message.Dispatch) error {
	o.Routed = true
	if o.Stage() == order.Shipped {
		o.ShippedAt = ch.Now
	}
	o.Revision++
	if err := ch.AddShipment(s); err != nil {
		return err
	}
	p.ShipmentID, p.ShipmentNumber, p.LocationID, p.Lines = s.ID, s.Number, s.LocationID, linesIn(s)
	if err := ch.AddParcel(p); err != nil {
		return err
	}
	if err := r.countFreight(ch, o, p); err != nil {
		return err
	}
	if err := r.tellDispatched(ch, o, s, p, m.ShippedAt); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, c.Rec().Name, "shipped", "Left elsewhere by %s, tracking number %s, told by %s",
		engine.Or(m.Carrier, "a carrier"), m.Tracking, c.Rec().Name)
}

// linesIn is all that a shipment takes, as it lies in its only parcel.
func linesIn(s *store.Shipment) []store.ParcelLine {
	out := make([]store.ParcelLine, len(s.Lines))
	for i, sl := range s.Lines {
		out[i] = store.ParcelLine{LineID: sl.LineID, ItemID: sl.ItemID, Per: sl.Per, Quantity: sl.Quantity}
	}
	return out
}

// fits refuses a dispatch that tells of more than waits to be picked, or of nothing. want are units by line.
func fits(o *order.Order, want map[int64]int64) error {
	var units int64
	for i := range o.Lines {
		l := &o.Lines[i]
		units += want[l.ID]
		if want[l.ID] <= l.Allocated {
			continue
		}
		why := fmt.Sprintf("only %d × %s of order %s wait to be picked", l.Allocated, l.SKU, o.Number)
		if n := l.Picked + l.Packed; n > 0 {
			why = fmt.Sprintf("%d × %s of order %s are picked or packed here already", n, l.SKU, o.Number)
		} else if l.Shipped > 0 {
			why = fmt.Sprintf("%d × %s of order %s have left already", l.Shipped, l.SKU, o.Number)
		}
		return &unfit{why, "Goods that leave once. Find out which parcel is real: put back what was packed here and take this in " +
			"again, or correct it at the other side.", false}
	}
	if units == 0 {
		return &unfit{fmt.Sprintf("nothing of order %s is left to send; it is %s", o.Number, o.Stage()),
			"An order with something left to send. Correct it at the other side.", false}
	}
	return nil
}

// tellDispatched tells the channel of a parcel as it is known now.
func (r *Shipping) tellDispatched(ch *engine.Change, o *order.Order, s *store.Shipment, p *store.Parcel, at time.Time) error {
	if at.IsZero() {
		at = store.Time(p.ShippedAt)
	}
	d := message.Dispatch{OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number, Carrier: p.CarrierTold,
		Service: p.ServiceName, Tracking: p.Tracking, TrackingURL: p.TrackingURL,
		ShippedAt: at, ParcelNumber: p.Number, Reference: r.Prefix + "-" + p.Number, LastOfOrder: o.Stage() == order.Shipped}
	for _, line := range lineIDs(s) {
		l := o.Line(line)
		if _, n := complete(s, line); n > 0 {
			d.Lines = append(d.Lines, message.DispatchLine{ID: l.OutsideID, SKU: l.SKU, Quantity: n})
		}
	}
	ch.Mark(engine.OrderWords, o.ID)
	return r.queueDispatch(ch, o, p, d)
}

// correct brings a parcel that was told to what a newer version of its record says, and tells whether that changed
// anything: another number, carrier or service, or other quantities.
func (r *Shipping) correct(b *exchange.Batch, p *store.Parcel, m *message.Dispatch) (bool, error) {
	ch := b.Ch
	o, s, err := r.toCorrect(ch, p, m)
	if err != nil {
		return false, err
	}
	was := *p
	p.Tracking, p.TrackingURL, p.CarrierTold, p.ServiceName = m.Tracking, m.TrackingURL, m.Carrier, m.Service
	changed := p.Tracking != was.Tracking || p.TrackingURL != was.TrackingURL || p.CarrierTold != was.CarrierTold ||
		p.ServiceName != was.ServiceName
	channel := r.ByID(o.ConnectionID)
	if channel == nil {
		return false, &unfit{"the channel of its order is gone", "A channel that can be told.", false}
	}
	scene, err := r.sceneOf(ch, o, channel, b.C.Rec().Name)
	if err != nil {
		return false, err
	}
	moved, err := correctUnits(o, &s, m, scene)
	if err != nil || !moved && !changed {
		return false, err
	}
	if why, no := engine.IsRefused(noneComesBack(ch, o, nil)); no {
		return false, &unfit{why, "Units that left before they came back. Correct it at the other side.", false}
	}
	if o.Stage() != order.Shipped && o.Stage() != order.Delivered {
		o.ShippedAt = time.Time{}
	}
	o.Revision++
	if err := ch.UpdateShipment(&s); err != nil {
		return false, err
	}
	p.Lines = linesIn(&s)
	if err := saveParcel(ch, p); err != nil {
		return false, err
	}
	if err := r.tellDispatched(ch, o, &s, p, m.ShippedAt); err != nil {
		return false, err
	}
	if err := r.NoteOrder(ch, o, b.C.Rec().Name, "corrected", "%s corrected parcel %s: %s %s (was %s %s); the channel is told",
		b.C.Rec().Name, p.Number, engine.Or(p.CarrierTold, "a carrier"), p.Tracking, engine.Or(was.CarrierTold, "a carrier"),
		was.Tracking); err != nil {
		return false, err
	}
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return false, err
	}
	ch.Tell("shipment", s.Number)
	return true, r.Inventory.Post(ch, scene.Book)
}

// toCorrect loads the order and the shipment of a parcel that is to be corrected, and refuses what contradicts what is known.
func (r *Shipping) toCorrect(ch *engine.Change, p *store.Parcel, m *message.Dispatch) (*order.Order, store.Shipment, error) {
	o, err := ch.Order(p.OrderID)
	if err != nil {
		return nil, store.Shipment{}, err
	}
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return nil, s, err
	}
	if number := engine.Or(m.OurNumber, engine.Or(m.OrderNumber, m.OrderID)); number != o.Number && number != o.Record.Number &&
		number != o.OutsideID {
		return nil, s, &unfit{fmt.Sprintf("it was told before for order %s", o.Number),
			"One record a parcel. Take the first back at the other side, and tell this one anew.", false}
	}
	if other, err := ch.Parcel(m.Tracking); err == nil && other.ID != p.ID && other.ID != p.TravelsIn {
		return nil, s, &unfit{fmt.Sprintf("this number stands on parcel %s of order %s", other.Number, other.OrderNumber),
			"A number of its own for each parcel. Correct it at the other side.", false}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, s, err
	}
	return o, s, nil
}

// correctUnits brings the units of a parcel that left elsewhere to what is told now: some more have left with it, or
// some have not left after all. It changes nothing where that cannot be.
func correctUnits(o *order.Order, s *store.Shipment, m *message.Dispatch, sc *order.Scene) (moved bool, err error) {
	if len(m.Lines) == 0 {
		return false, nil // it does not say
	}
	want := map[int64]int64{}
	for _, d := range m.Lines {
		for i := range o.Lines {
			if l := &o.Lines[i]; d.ID == l.OutsideID && d.ID != "" || d.ID == "" && d.SKU == l.SKU {
				want[l.ID] += d.Quantity
				break
			}
		}
	}
	more := map[int64]int64{}
	for i := range o.Lines {
		l := &o.Lines[i]
		_, has := complete(s, l.ID)
		if more[l.ID] = want[l.ID] - has; more[l.ID] > l.Allocated {
			return false, &unfit{fmt.Sprintf("only %d more × %s of order %s wait to be sent", l.Allocated, l.SKU, o.Number),
				"No more units than are still to be sent. Correct it at the other side.", false}
		}
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		n := more[l.ID]
		switch {
		case n > 0:
			o.SendAllocated(l, n, sc, "left elsewhere with "+m.Tracking)
		case n < 0:
			o.NotSent(l, -n, s.LocationID, sc, "did not leave with "+m.Tracking+" after all")
		default:
			continue
		}
		moved = true
		setUnits(s, l, want[l.ID])
	}
	return moved, nil
}

// setUnits makes a shipment hold qty units of an order line.
func setUnits(s *store.Shipment, l *order.Line, qty int64) {
	found := false
	for i := range s.Lines {
		if sl := &s.Lines[i]; sl.LineID == l.ID {
			sl.Quantity, sl.Picked, found = qty*max(sl.Per, 1), qty*max(sl.Per, 1), true
		}
	}
	if !found {
		s.Lines = append(s.Lines, shipmentLines(l, qty, qty)...)
	}
}
