package shipping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// VoidLabel takes a parcel back that has its label and has not left yet: the label is voided at its carrier, what lies in the parcel is
// packed again, and its channel is told. VoidLabel waits a little for the outcome and returns the parcel as it then is. byHand says that
// a person had the label voided themselves.
func (r *Shipping) VoidLabel(ctx context.Context, parcel string, byHand bool, who string) (store.Parcel, error) {
	number, err := r.cartonNumber(ctx, parcel)
	if err != nil {
		return store.Parcel{}, err
	}
	return r.await(ctx, number, func(p *store.Parcel) bool { return p.VoidAskedAt == 0 }, func() error {
		return r.Commit(ctx, func(ch *engine.Change) error {
			list, err := labelledWith(ch, number)
			if err != nil {
				return err
			}
			return r.askVoid(ch, list, byHand, who)
		})
	})
}

// labelledWith loads the cartons whose labels were bought with that of a parcel, and are voided with it.
func labelledWith(ch *engine.Change, parcel string) (consignment, error) {
	p, _, err := loadParcel(ch, parcel)
	if err != nil {
		return nil, err
	}
	return consignmentOf(ch, p)
}

func (r *Shipping) askVoid(ch *engine.Change, list consignment, byHand bool, who string) error {
	back := make([][]map[int64]int64, len(list))
	for i, in := range list {
		var err error
		if back[i], err = mayVoid(ch, in, byHand); err != nil {
			return err
		}
	}
	p, o := list.first(), list[0][0].order
	if err := ch.CloseParcelExceptions(p.ID, engine.VoidRefused, who, ch.Now); err != nil {
		return err
	}
	if err := ch.DropVoids(p.ID); err != nil {
		return err
	}
	c := r.ByID(p.CarrierID)
	if byHand || p.CarrierID == 0 || c == nil || c.Line().Def.Feeds[message.VoidsOut] == nil {
		for i, in := range list {
			if err := r.backByWord(ch, in, back[i], byHand || p.CarrierID == 0, who); err != nil {
				return err
			}
		}
		return nil
	}
	if _, on := r.Feed(c, message.VoidsOut); !on {
		return &engine.Refused{Text: fmt.Sprintf("%s is paused or its “%s” is switched off; void the label there, and say so here",
			c.Rec().Name, message.VoidsOut), Conflict: true}
	}
	var label message.Label
	if err := json.Unmarshal([]byte(p.Label), &label); err != nil {
		return fmt.Errorf("label of parcel %s: %w", p.Number, err)
	}
	payload, err := json.Marshal(message.LabelVoid{Reference: r.Prefix + "-" + p.Number, Label: label.ID, Tracking: p.Tracking,
		ParcelNumber: p.Number, Test: c.Rec().Test})
	if err != nil {
		return err
	}
	for _, in := range list {
		x := in.own()
		x.VoidAskedAt, x.Error = ch.Now.UnixMicro(), ""
		if err := ch.UpdateParcel(x); err != nil {
			return err
		}
		tellParcel(ch, x)
	}
	if _, err := r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.VoidsOut, Subject: "shipment " + p.Number,
		Payload: string(payload), OrderID: o.ID, ParcelID: p.ID}); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, who, "void asked", "Label %s of parcel %s is to be voided by %s", p.Tracking, engine.Join(list.numbers()),
		c.Rec().Name)
}

// mayVoid refuses a carton whose label cannot be voided now; else it says, for each parcel in it, which units of which lines come back.
func mayVoid(ch *engine.Change, in carton, byHand bool) ([]map[int64]int64, error) {
	p := in.own()
	if why, err := notToVoid(ch, p, byHand); err != nil || why != "" {
		return nil, orRefused(why, err)
	}
	if in.told() {
		return nil, orRefused(fmt.Sprintf("Another tool told that parcel %s left; correct it there", p.Number), nil)
	}
	back, err := comesBack(ch, in)
	if err != nil {
		return nil, err
	}
	for i := range in {
		if err := noneComesBack(ch, in[i].order, back[i]); err != nil {
			return nil, err
		}
	}
	return back, nil
}

// backByWord takes a carton back on the word of a person, or without a word where its carrier takes none.
func (r *Shipping) backByWord(ch *engine.Change, in carton, back []map[int64]int64, said bool, who string) error {
	if said {
		return r.cartonBack(ch, in, back, who, "says a person")
	}
	return r.backUnvoided(ch, in, back, who)
}

func orRefused(why string, err error) error {
	if err != nil {
		return err
	}
	return &engine.Refused{Text: why, Conflict: true}
}

// notToVoid says why a parcel cannot be taken back, or nothing.
func notToVoid(ch *engine.Change, p *store.Parcel, byHand bool) (string, error) {
	switch {
	case p.State == store.Buying:
		return notUnpacked(p), nil
	case !p.Left():
		return fmt.Sprintf("Parcel %s has no label; there is nothing to void", p.Number), nil
	case p.ScannedAt != 0 || p.State == store.Arrived:
		return fmt.Sprintf("%s has parcel %s already; only a return brings it back", engine.Or(p.CarrierName, "The carrier"),
			p.Number), nil
	case p.VoidAskedAt != 0 && !byHand:
		return fmt.Sprintf("The label of parcel %s is being voided", p.Number), nil
	case p.ManifestID == 0, p.VoidAskedAt != 0: // what is being voided was left off the list, should that be closed
		return "", nil
	}
	m, err := ch.Manifest(p.ManifestID)
	if err != nil || m.State == "open" {
		return "", err
	}
	return fmt.Sprintf("Parcel %s is on the list of %s for %s, which is %s; only a return brings it back", p.Number, m.CarrierName, m.Day,
		m.State), nil
}

// unitsBack says which units of which lines come back with a parcel. A kit comes back with the parcel by which its channel heard
// of it.
func unitsBack(ch *engine.Change, p *store.Parcel) (map[int64]int64, error) {
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return nil, err
	}
	all, err := ch.ParcelsOf(s.ID)
	if err != nil {
		return nil, err
	}
	before := contents(all, left)
	after := contents(all, func(x *store.Parcel) bool { return x.Left() && x.ID != p.ID })
	units := map[int64]int64{}
	for _, line := range lineIDs(&s) {
		if n := wholeUnits(&s, line, before) - wholeUnits(&s, line, after); n > 0 {
			units[line] = n
		}
	}
	if len(units) == 0 {
		return units, nil
	}
	_, err = ch.LastOfParcel(p.ID, message.DispatchOut)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &engine.Refused{Text: fmt.Sprintf("Parcel %s holds a part of a kit whose other part left after it; take that parcel "+
			"back first", p.Number), Conflict: true}
	}
	return units, err
}

// comesBack says, for each parcel of a carton, which units of which lines come back with it.
func comesBack(ch *engine.Change, in carton) (out []map[int64]int64, err error) {
	out = make([]map[int64]int64, len(in))
	for i := range in {
		if out[i], err = unitsBack(ch, &in[i].parcel); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// noneComesBack refuses that units of an order's lines, or those that are taken off it already, have not left, where they are to
// come back with a return, or did.
func noneComesBack(ch *engine.Change, o *order.Order, units map[int64]int64) error {
	list, err := ch.ReturnsOfOrder(o.ID)
	if err != nil || len(list) == 0 {
		return err
	}
	var all []returns.Return
	for i := range list {
		all = append(all, list[i].Decision())
	}
	left := returns.Left(o, all)
	for _, l := range returns.Sent(o) {
		n := units[l.LineID]*l.Per - left[returns.Key{Line: l.LineID, Item: l.ItemID}]
		if n <= 0 {
			continue
		}
		var numbers []string
		for i := range list {
			if list[i].Status != returns.CalledOff {
				numbers = append(numbers, list[i].Number)
			}
		}
		return &engine.Refused{Text: fmt.Sprintf("%d × %s of it are to come back with return %s, or did; call that off first", n,
			o.Line(l.LineID).SKU, engine.Join(numbers)), Conflict: true}
	}
	return nil
}

// cartonBack takes a carton back with all that lies in it.
func (r *Shipping) cartonBack(ch *engine.Change, in carton, back []map[int64]int64, who, how string) error {
	for i := range in {
		if err := r.parcelBack(ch, &in[i].parcel, in[i].order, back[i], who, how); err != nil {
			return err
		}
	}
	return nil
}

// parcelBack takes a parcel back: it is packed again, without a label, and its channel is told.
func (r *Shipping) parcelBack(ch *engine.Change, p *store.Parcel, o *order.Order, units map[int64]int64, who, how string) error {
	channel := r.ByID(o.ConnectionID)
	if channel == nil {
		return &engine.Refused{Text: fmt.Sprintf("the channel of order %s is gone", o.Number), Conflict: true}
	}
	was := *p
	scene, err := r.sceneOf(ch, o, channel, who)
	if err != nil {
		return err
	}
	got, err := order.ComeBack(o, units, p.LocationID, scene, "label "+was.Tracking+" was voided")
	if err != nil {
		return engine.OrderStateError(err)
	}
	if err := r.uncountFreight(ch, o, &was); err != nil {
		return err
	}
	if err := withoutLabel(ch, p); err != nil {
		return err
	}
	if err := r.withdraw(ch, o, p); err != nil {
		return err
	}
	if len(units) == 0 {
		if err := ch.CloseStanding(o.ID, engine.NumberUntold, who, ch.Now); err != nil {
			return err
		}
	}
	if err := ch.CloseSubject(o.ID, engine.NotHandedOver, was.Tracking, who, ch.Now); err != nil {
		return err
	}
	ch.Tell("manifest", fmt.Sprint(was.ManifestID))
	ch.Mark(engine.OrderWords, o.ID)
	ch.Mark(engine.OrderChanged, o.ID)
	if err := r.NoteOrder(ch, o, who, "voided", "Label %s of parcel %s is voided, %s; the parcel is packed and has no label", was.Tracking,
		p.Number, how); err != nil {
		return err
	}
	if err := ch.Note(orders.Notes(got, who, ch.Now)...); err != nil {
		return err
	}
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return err
	}
	return r.Inventory.Post(ch, scene.Book)
}

// withoutLabel lets a parcel be packed again that had its label; the label's number is kept as voided, where it was its own.
func withoutLabel(ch *engine.Change, p *store.Parcel) error {
	if p.TravelsIn == 0 {
		if err := ch.AddVoided(store.VoidedLabel{ParcelID: p.ID, Tracking: p.Tracking, Carrier: p.CarrierName,
			VoidedAt: ch.Now.UnixMicro()}); err != nil {
			return err
		}
	}
	p.State, p.ShippedAt, p.VoidAskedAt, p.ManifestID, p.Error = store.ToShip, 0, 0, 0, ""
	p.CarrierID, p.CarrierTold, p.Service, p.ServiceName = 0, "", "", ""
	p.Tracking, p.TrackingURL, p.Label, p.Price, p.Currency, p.ConsignedIn = "", "", "", 0, "", 0
	p.Charged, p.ChargedBy, p.InsuredFor, p.Quoted = 0, "", 0, 0
	if err := unfollowed(ch, p); err != nil {
		return err
	}
	if err := ch.SerialsBack(p.ID); err != nil {
		return err
	}
	return saveParcel(ch, p)
}

// uncountFreight takes a parcel out of the reports that has not left after all.
func (r *Shipping) uncountFreight(ch *engine.Change, o *order.Order, was *store.Parcel) error {
	all, err := ch.ParcelsOfOrder(o.ID)
	if err != nil {
		return err
	}
	charged, paid := o.Record.Shipping, was.Price
	for i := range all {
		if all[i].ID != was.ID && all[i].Left() {
			charged = 0 // it stays with the others
		}
	}
	if was.Currency != o.Record.Currency {
		paid = 0
	}
	return ch.AddFreight(o.ConnectionID, o.Record.Currency, store.Time(was.ShippedAt), -cartonsOf(was), -charged, -paid)
}

// backUnvoided takes a parcel back whose carrier cannot be told; a person is asked to have the label voided.
func (r *Shipping) backUnvoided(ch *engine.Change, in carton, back []map[int64]int64, who string) error {
	p, o := in.own(), in[0].order
	was := *p
	if err := r.cartonBack(ch, in, back, who, "here only"); err != nil {
		return err
	}
	e := store.Exception{Cause: engine.LabelSurplus, Subject: was.Tracking,
		Text: fmt.Sprintf("Label %s of parcel %s is not used. %s takes no voids from us, and may charge for it.", was.Tracking, p.Number,
			engine.Or(was.CarrierName, "Its carrier")),
		Expected:     "One label a parcel. Void this one at the carrier, then settle this here.",
		ConnectionID: was.CarrierID, OrderID: o.ID, Standing: true}
	if m, err := ch.LabelBought(p.ID, was.Tracking); err == nil {
		e.OutboxID = m.ID
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	ch.Tell("exception", o.Number)
	return ch.Raise(e, ch.Now)
}

// voidOf loads the cartons that a void is about; ok is false where the void is about them no more.
func voidOf(ch *engine.Change, m store.OutboxMessage) (list consignment, ok bool, err error) {
	p, err := ch.ParcelByID(m.ParcelID)
	if err != nil {
		return nil, false, err
	}
	if list, err = consignmentOf(ch, p); err != nil {
		return nil, false, err
	}
	var v message.LabelVoid
	if err := json.Unmarshal([]byte(m.Payload), &v); err != nil {
		return list, false, err
	}
	return list, p.VoidAskedAt != 0 && p.Left() && p.Tracking == v.Tracking, nil
}

// LabelVoided takes parcels back whose carrier voided their label.
func (r *Shipping) LabelVoided(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, _ any) error {
	if x, l, ok, err := returnOf(ch, m); ok || err != nil {
		return errors.Join(err, r.returnVoided(ch, c, m, &x, l, true))
	}
	list, ok, err := voidOf(ch, m)
	if err != nil || !ok {
		return err
	}
	for _, in := range list {
		back, err := comesBack(ch, in)
		if err != nil {
			return err
		}
		for i := range in {
			if err := r.callOffReturns(ch, in[i].order, back[i], c.Rec().Name); err != nil {
				return err
			}
		}
		if err := r.cartonBack(ch, in, back, c.Rec().Name, "says "+c.Rec().Name); err != nil {
			return err
		}
	}
	return nil
}

// callOffReturns calls off the returns that were announced of units that have not left after all, as their carrier says.
func (r *Shipping) callOffReturns(ch *engine.Change, o *order.Order, units map[int64]int64, who string) error {
	if _, comes := engine.IsRefused(noneComesBack(ch, o, units)); !comes {
		return nil
	}
	list, err := ch.ReturnsOfOrder(o.ID)
	if err != nil {
		return err
	}
	for i := range list {
		x := &list[i]
		if x.Status != returns.Announced {
			continue
		}
		x.Status = returns.CalledOff
		if err := ch.UpdateReturn(x); err != nil {
			return err
		}
		ch.Tell("return", x.Number)
		if err := r.NoteOrder(ch, o, who, "return called off", "Return %s called off: what it announced has not left",
			x.Number); err != nil {
			return err
		}
	}
	return nil
}

// VoidNotTaken leaves parcels as they are whose carrier does not void their label.
func (r *Shipping) VoidNotTaken(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	if x, l, ok, err := returnOf(ch, m); ok || err != nil {
		return "", errors.Join(err, r.returnVoided(ch, c, m, &x, l, false))
	}
	list, ok, err := voidOf(ch, m)
	if err != nil || !ok {
		return engine.VoidRefused, err
	}
	return engine.VoidRefused, r.keepLabels(ch, list, m.Error)
}

func (r *Shipping) keepLabels(ch *engine.Change, list consignment, why string) error {
	for _, in := range list {
		if err := r.keepLabel(ch, in.own(), why); err != nil {
			return err
		}
	}
	return nil
}

// keepLabel ends that a label is to be voided. A parcel whose day was closed meanwhile goes on the list of today.
func (r *Shipping) keepLabel(ch *engine.Change, p *store.Parcel, why string) error {
	p.VoidAskedAt, p.Error = 0, why
	if p.ManifestID != 0 {
		m, err := ch.Manifest(p.ManifestID)
		if err != nil {
			return err
		}
		if m.State != "open" {
			if p.ManifestID, err = ch.OpenManifest(p.CarrierID, p.LocationID, r.handoverOf(p)); err != nil {
				return err
			}
		}
		ch.Tell("manifest", fmt.Sprint(p.ManifestID))
	}
	tellParcel(ch, p)
	return ch.UpdateParcel(p)
}

// VoidNotKnown goes on asking for a void of which it is not known whether the carrier made it.
func (r *Shipping) VoidNotKnown(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	if x, _, ok, err := returnOf(ch, m); ok || err != nil {
		return errors.Join(err, r.voidUnknown(ch, c, m, x.Tracking, "return "+x.Number))
	}
	list, ok, err := voidOf(ch, m)
	if err != nil || !ok {
		return err
	}
	return r.voidUnknown(ch, c, m, list.first().Tracking, "parcel "+list.first().Number)
}

func (r *Shipping) voidUnknown(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, tracking, of string) error {
	m.State, m.NextAt = store.Waiting, ch.Now.Add(askUnknownEvery).UnixMicro()
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	ch.Tell("exception", "")
	ch.Watch = true
	return ch.Raise(store.Exception{Cause: engine.VoidRefused, Subject: tracking,
		Text: fmt.Sprintf("%s has not said whether it voided label %s of %s (%s).", c.Rec().Name, tracking, of, m.Error),
		Expected: "An answer: it is asked for again every quarter of an hour under the same reference. Or look at the carrier, and say " +
			"on the parcel's page that the label is voided, or that it stays.",
		ConnectionID: c.ID, OrderID: m.OrderID, OutboxID: m.ID, Standing: true}, ch.Now)
}

// VoidAgain asks a carrier again to void a label.
func (r *Shipping) VoidAgain(ch *engine.Change, m store.OutboxMessage, who string) error {
	if m.State == store.Waiting {
		m.NextAt = ch.Now.UnixMicro()
		ch.Wake[m.ConnectionID] = true
		return ch.SettleOutbox(m)
	}
	x, _, ok, err := returnOf(ch, m)
	if err == nil && ok {
		err = r.askReturnVoid(ch, x.ID, who)
		m.State = store.Superseded
		return errors.Join(err, ch.SettleOutbox(m))
	}
	if err != nil {
		return err
	}
	list, _, err := voidOf(ch, m)
	if err != nil {
		return err
	}
	if err := r.askVoid(ch, list, false, who); err != nil {
		return err
	}
	m.State = store.Superseded
	return ch.SettleOutbox(m)
}

// KeepLabel ends, on a person's word, that the label of a parcel is to be voided: the carrier has not done so.
func (r *Shipping) KeepLabel(ctx context.Context, parcel, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		list, err := labelledWith(ch, parcel)
		if err != nil {
			return err
		}
		p, o := list.first(), list[0][0].order
		if p.VoidAskedAt == 0 {
			return &engine.Refused{Text: fmt.Sprintf("the label of parcel %s is not being voided", p.Number), Conflict: true}
		}
		if err := ch.DropVoids(p.ID); err != nil {
			return err
		}
		if err := ch.CloseParcelExceptions(p.ID, engine.VoidRefused, who, ch.Now); err != nil {
			return err
		}
		if err := r.keepLabels(ch, list, ""); err != nil {
			return err
		}
		return r.NoteOrder(ch, o, who, "label kept", "Label %s of parcel %s is not voided, says a person", p.Tracking, p.Number)
	})
}

// voidedMoves raises it where a carrier moves a parcel by a number that was voided.
func (r *Shipping) voidedMoves(b *exchange.Batch, in store.InboxMessage, m *message.Tracking) (bool, error) {
	v, err := b.Ch.Voided(m.Tracking)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	p, err := b.Ch.ParcelByID(v.ParcelID)
	if err != nil {
		return false, err
	}
	y, _, err := b.Tally(in)
	if err != nil {
		return false, err
	}
	y.New++
	b.Settle(in, "done", "", p.OrderID)
	b.Ch.Tell("exception", p.OrderNumber)
	return true, b.Ch.Raise(store.Exception{Cause: engine.VoidRefused, Subject: m.Tracking,
		Text: fmt.Sprintf("%s says of label %s: %s. That label of parcel %s was voided.", b.C.Rec().Name, m.Tracking,
			engine.Or(m.Text, m.State), p.Number),
		Expected: "One label a parcel. Look which label is on the carton: if it left with this one, void the other and type this number; " +
			"then settle this here.",
		ConnectionID: b.C.ID, OrderID: p.OrderID, Standing: true}, b.Ch.Now)
}
