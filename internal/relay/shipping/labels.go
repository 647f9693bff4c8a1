package shipping

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/journey"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// askUnknownEvery is how often a label is asked for again of which it is not known whether it exists.
const askUnknownEvery = 15 * time.Minute

// Purchase is by which service a label is bought.
type Purchase struct {
	Carrier  string `json:"carrier" doc:"Code of the carrier"`
	Service  string `json:"service"`
	Expected int64  `json:"expected,omitempty" minimum:"0" doc:"The price that was known, minor units of the carrier's currency. A label that costs otherwise is bought, and that is said; 0: none was known"`
}

// chosen is the purchase of a label by a carrier's rate.
func (x *Rate) chosen() Purchase {
	by := Purchase{Carrier: x.Carrier, Service: x.Service}
	if !x.Estimated {
		by.Expected = x.Price
	}
	return by
}

// Ship buys the label of a packed parcel by one service. The purchase goes through the outbox, so
// that it happens once; Ship waits a little for its outcome and returns the parcel as it then is.
func (r *Shipping) Ship(ctx context.Context, parcel string, by Purchase, who string) (store.Parcel, error) {
	return r.await(ctx, parcel, func(p *store.Parcel) bool { return p.State != store.Buying },
		func() error { return r.AskLabel(ctx, parcel, by, who) })
}

// await asks for something about a parcel and waits a little until it is done. It returns the parcel as it then is.
func (r *Shipping) await(ctx context.Context, parcel string, done func(p *store.Parcel) bool, ask func() error) (store.Parcel, error) {
	return waitFor(ctx, r.Engine, "shipment", parcel, ask, func(ctx context.Context) (store.Parcel, bool, error) {
		p, err := r.Store.Parcel(ctx, parcel)
		return p, err != nil || done(&p), err
	})
}

// outcomeWait is how long the outcome of what was asked for is waited for.
const outcomeWait = 8 * time.Second

// waitFor asks for something about a thing and looks each time that it changed, until that is done or has taken long. It returns the
// thing as it then is.
func waitFor[T any](ctx context.Context, e *engine.Engine, thing, number string, ask func() error,
	look func(ctx context.Context) (now T, done bool, err error)) (T, error) {
	events, end := e.Bus.Listen()
	defer end()
	if err := ask(); err != nil {
		var none T
		return none, err
	}
	if now, done, err := look(ctx); done {
		return now, err
	}
	deadline := time.NewTimer(outcomeWait)
	defer deadline.Stop()
	for {
		select {
		case e := <-events:
			if !e.Names(thing, number) {
				continue
			}
			if now, done, err := look(ctx); done {
				return now, err
			}
			continue
		case <-deadline.C:
		case <-ctx.Done():
		}
		now, _, err := look(context.WithoutCancel(ctx))
		return now, err
	}
}

// AskLabel puts the purchase of a label into the outbox.
func (r *Shipping) AskLabel(ctx context.Context, parcel string, by Purchase, who string) error {
	return r.askLabels(ctx, []string{parcel}, by, who)
}

// askLabels puts the purchase of the labels of some parcels into the outbox, as one request.
func (r *Shipping) askLabels(ctx context.Context, parcels []string, by Purchase, who string) error {
	c := r.ByCode(by.Carrier)
	if c == nil || c.Line().Def.Feeds[message.LabelsOut] == nil {
		return engine.Refuse("carrier %q is not a connection that sells labels", by.Carrier)
	}
	if by.Service == "" {
		return engine.Refuse("service: choose one of the carrier's services")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		var list consignment
		for _, number := range parcels {
			in, err := loadCarton(ch, number)
			if err != nil {
				return err
			}
			list = append(list, in)
		}
		return r.askLabelsOf(ch, list.sharing(), c, by, who)
	})
}

func (r *Shipping) askLabelsOf(ch *engine.Change, list consignment, c *engine.Conn, by Purchase, who string) error {
	asked, err := r.purchase(list, c, by)
	if err != nil {
		return err
	}
	payload, err := json.Marshal(asked)
	if err != nil {
		return err
	}
	list.apart()
	for _, in := range list {
		if list.consigned() {
			in.own().ConsignedIn = list.first().ID
		}
		if err := r.asking(ch, in, c, by, who); err != nil {
			return err
		}
	}
	first, o := list.first(), list[0][0].order
	if _, err = r.Queue(ch, store.OutboxMessage{ConnectionID: c.Rec().ID, Feed: message.LabelsOut, Subject: "shipment " + first.Number,
		Payload: string(payload), OrderID: o.ID, ParcelID: first.ID}); err != nil {
		return err
	}
	what := "Label"
	if list.consigned() {
		what = fmt.Sprintf("%d parcels under one number", len(list))
	}
	for _, x := range list[0] {
		if err := r.NoteOrder(ch, x.order, who, "label asked", "%s by %s %s asked for", what, c.Rec().Name, by.Service); err != nil {
			return err
		}
	}
	return nil
}

// purchase is what a carrier is asked for, where all of it may be asked for now.
func (r *Shipping) purchase(list consignment, c *engine.Conn, by Purchase) (message.Parcel, error) {
	var asked message.Parcel
	o := list[0][0].order
	if _, on := r.Feed(c, message.LabelsOut); !on {
		return asked, &engine.Refused{Text: c.Rec().Name + " is paused or its labels are switched off", Conflict: true}
	}
	for _, in := range list {
		if err := r.mayBuy(in, c); err != nil {
			return asked, err
		}
	}
	asked = r.Parcel(*list.first(), o, c)
	asked.Service, asked.Expected = by.Service, by.Expected
	list.pieces(&asked)
	for _, in := range list {
		if err := r.declared(&asked, in.own(), o); err != nil {
			return asked, err
		}
		if err := r.insured(r.Ctx, &asked, in.own(), o); err != nil {
			return asked, err
		}
	}
	if bad := asked.To.Problems(); len(bad) > 0 {
		return asked, &engine.Refused{Text: "The address cannot be delivered to: " + strings.Join(bad, "; "), Conflict: true}
	}
	return asked, nil
}

// mayBuy refuses a carton for which no label can be bought at a carrier now.
func (r *Shipping) mayBuy(in carton, c *engine.Conn) error {
	p, o := in.own(), in[0].order
	if why := notToShip(p); why != "" {
		return &engine.Refused{Text: why, Conflict: true}
	}
	if err := in.workable(); err != nil {
		return err
	}
	if c.Rec().Test && !o.Test {
		return &engine.Refused{Text: fmt.Sprintf("%s is in test and sells no real labels; take it live first", c.Rec().Name),
			Conflict: true}
	}
	if why := r.notAt(o, c.Rec().Code); why != "" {
		return &engine.Refused{Text: fmt.Sprintf("parcel %s: %s", p.Number, why), Conflict: true}
	}
	return nil
}

// asking lets a carton wait for the label that is asked for.
func (r *Shipping) asking(ch *engine.Change, in carton, c *engine.Conn, by Purchase, who string) error {
	in.untold()
	in.enter(store.Buying, "")
	for i := range in {
		x := &in[i].parcel
		x.CarrierID, x.CarrierTold, x.Service = c.Rec().ID, "", by.Service
		if err := ch.UpdateParcel(x); err != nil {
			return err
		}
		if err := r.labelSettled(ch, x.ID, in[i].order.ID, who); err != nil { // what was raised about an earlier attempt is over
			return err
		}
		tellParcel(ch, x)
	}
	return nil
}

// workable refuses a carton in which something of an order lies that may not be worked on now.
func (c carton) workable() error {
	for i := range c {
		err := engine.OrderStateError(c[i].order.Workable())
		if why, refused := engine.IsRefused(err); refused && i > 0 {
			return &engine.Refused{Text: fmt.Sprintf("%s; parcel %s of it lies in this carton: take it out, or settle that first", why,
				c[i].parcel.Number), Conflict: true}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// notToShip says why no label can be bought for a parcel as it stands, or nothing.
func notToShip(s *store.Parcel) string {
	switch s.State {
	case store.ToShip:
		return ""
	case store.ToPick:
		return fmt.Sprintf("Shipment %s is not packed yet", s.Number)
	case store.Gone, store.Arrived:
		return fmt.Sprintf("Shipment %s has left already with tracking number %s; no second label was bought", s.Number, s.Tracking)
	case store.Buying:
		return engine.Or(s.Error, fmt.Sprintf("A label for shipment %s was asked for; its answer is awaited", s.Number))
	}
	return fmt.Sprintf("Shipment %s: %s", s.Number, s.State)
}

// labelSettled ends what was raised about attempts to buy a label of a parcel.
func (r *Shipping) labelSettled(ch *engine.Change, parcel, orderID int64, who string) error {
	ch.Tell("exception", "")
	for _, cause := range []order.Cause{engine.LabelRefused, engine.LabelUnknown} {
		if err := ch.CloseParcelExceptions(parcel, cause, who, ch.Now); err != nil {
			return err
		}
	}
	return ch.CloseStanding(orderID, engine.ServiceOpen, who, ch.Now)
}

// labelBought books parcels that have their label: goods out, number kept, manifest, write-back. A label that nobody waits for any more
// changes nothing about the parcels: a person is asked to have it voided.
func (r *Shipping) labelBought(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, label *message.Label) error {
	s, err := ch.ParcelByID(m.ParcelID)
	if err != nil {
		return err
	}
	list, err := consignmentOf(ch, s)
	if err != nil {
		return err
	}
	var asked message.Parcel
	if err := json.Unmarshal([]byte(m.Payload), &asked); err != nil {
		return err
	}
	if s.Tracking != "" && s.Tracking == label.Of(&asked, s.Number).Tracking {
		return nil // the same label, told again
	}
	if newer, err := ch.Overtaken(m); err != nil {
		return err
	} else if newer || s.State != store.Buying {
		return r.surplus(ch, c, m, s, list[0][0].order, label)
	}
	rest := *label
	for _, in := range list {
		one := rest.Of(&asked, in.own().Number)
		left, err := r.cartonBought(ch, c, in, &asked, &one)
		if err != nil {
			return err
		}
		if left {
			rest.Price = 0 // it went with the first
		}
	}
	return nil
}

// cartonBought books a carton that has its label. It tells whether the carton left: not, where nothing of it is wanted any more.
func (r *Shipping) cartonBought(ch *engine.Change, c *engine.Conn, in carton, asked *message.Parcel, label *message.Label) (bool, error) {
	raw, err := json.Marshal(label)
	if err != nil {
		return false, err
	}
	p := in.own()
	p.Label, p.Price, p.Currency = string(raw), label.Price, label.Currency
	p.InsuredFor, p.Quoted = asked.Insured, asked.Expected
	paid := Price(label.Price, label.Currency) + r.besideAsked(c, asked, label)
	goesAlong := label.Piece > 1 && label.Price == 0
	switch {
	case asked.Payer != "" && asked.Payer != freight.Sender:
		p.Price, paid = 0, "paid by "+map[string]string{freight.Recipient: "the recipient", freight.Third: "a third party"}[asked.Payer]
	case goesAlong:
		p.InsuredFor, p.Quoted, paid = 0, 0, "paid with the first under its number"
	}
	for i := range in {
		x := &in[i].parcel
		x.Tracking, x.TrackingURL, x.ServiceName, x.Error = label.Tracking, label.URL, label.Service, ""
		tellParcel(ch, x)
		if err := r.labelSettled(ch, x.ID, in[i].order.ID, "relay"); err != nil {
			return false, err
		}
	}
	if in, err = r.dropUnwanted(ch, in, label.Tracking); err != nil || len(in) == 0 {
		return false, err
	}
	own := in.own()
	if !goesAlong {
		if err := r.charge(ch, own, in[0].order.Ours.Tags); err != nil {
			return false, err
		}
	}
	ch.Mark(engine.LabelBought, own.ID)
	own.Promised, own.ShippedAt = r.promise(c, asked, label), ch.Now.UnixMicro()
	if err := r.watch(ch, own, journey.Event{}); err != nil {
		return false, err
	}
	return true, r.parcelLeaves(
		ch,
		leaving{c, c.Rec().Name, c.Rec().Name, asked.Handover, fmt.Sprintf("Label bought: %s, tracking number %s, %s",
			engine.Or(label.Service, in.own().Service), label.Tracking, paid)},
		in,
		label,
	)
}

// dropUnwanted calls off what of a carton is not to be sent any more, because its order was cancelled while the label was on its
// way. It returns what is left; where nothing is, the label is to be voided.
func (r *Shipping) dropUnwanted(ch *engine.Change, in carton, tracking string) (carton, error) {
	unwanted := slices.DeleteFunc(slices.Clone(in), func(x content) bool { return wanted(x.order, &x.parcel) })
	if len(unwanted) == 0 {
		return in, nil
	}
	gone := map[int64]bool{}
	for i := range unwanted {
		gone[unwanted[i].parcel.ID] = true
	}
	for i := range in {
		p := &in[i].parcel
		if !gone[p.ID] {
			continue
		}
		p.State = store.CalledOff
		if err := ch.UnpackSerials(p.ID); err != nil {
			return nil, err
		}
		if len(unwanted) == len(in) && i == 0 {
			in[i].order.Hold(order.Hold{Cause: order.LateCancel,
				Text:     fmt.Sprintf("Cancelled at the channel while label %s was being bought.", tracking),
				Expected: "No parcel. Void the label at the carrier."})
		}
		if err := saveParcel(ch, p); err != nil {
			return nil, err
		}
	}
	stays, err := takeOutOf(ch, in, func(p *store.Parcel) bool { return gone[p.ID] })
	if err != nil {
		return nil, err
	}
	for i := range unwanted {
		if err := r.SettleShipments(ch, unwanted[i].order); err != nil {
			return nil, err
		}
		if err := r.Orders.SaveOrder(ch, unwanted[i].order); err != nil {
			return nil, err
		}
	}
	return stays, nil
}

// wanted says whether anything in a parcel is still to be sent.
func wanted(o *order.Order, p *store.Parcel) bool {
	return slices.ContainsFunc(p.Lines, func(pl store.ParcelLine) bool {
		l := o.Line(pl.LineID)
		return l.Packed+l.Picked > 0
	})
}

// leaving is how a parcel leaves.
type leaving struct {
	side     *engine.Conn // by whose settings it is booked out: the carrier's; none: each order's channel's
	who      string       // who says that it leaves
	carrier  string       // who carries it
	handover string       // day of the carrier's manifest that it is on; empty: it is on none
	note     string
}

// parcelLeaves books a packed carton out with its label: what of each order lies in it.
func (r *Shipping) parcelLeaves(ch *engine.Change, by leaving, in carton, label *message.Label) (err error) {
	if by.handover != "" {
		if in.own().ManifestID, err = ch.OpenManifest(by.side.ID, in.own().LocationID, by.handover); err != nil {
			return err
		}
		ch.Tell("manifest", fmt.Sprint(in.own().ManifestID))
	}
	for i := range in {
		if err := r.contentLeaves(ch, by, &in[i], label); err != nil {
			return err
		}
	}
	return nil
}

// contentLeaves books out what of one order lies in a carton that leaves, and tells its channel.
func (r *Shipping) contentLeaves(ch *engine.Change, by leaving, x *content, label *message.Label) error {
	p, o := &x.parcel, x.order
	side := by.side
	if side == nil {
		side = r.ByID(o.ConnectionID)
	}
	scene, err := r.sceneOf(ch, o, side, by.who)
	if err != nil {
		return err
	}
	leaves, err := unitsLeaving(ch, p)
	if err != nil {
		return err
	}
	d, err := r.ship(o, p, leaves, by.carrier, label, scene)
	if err != nil {
		return err
	}
	if err := ch.SerialsGone(p.ID); err != nil {
		return err
	}
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	ch.Mark(engine.OrderWords, o.ID)
	if err := r.countFreight(ch, o, p); err != nil {
		return err
	}
	if err := r.tellChannel(ch, o, p, d); err != nil {
		return err
	}
	if err := r.NoteOrder(ch, o, by.who, "shipped", "%s", by.note); err != nil {
		return err
	}
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return err
	}
	return r.Inventory.Post(ch, scene.Book)
}

// lineUnits are units of an order line.
type lineUnits struct{ line, units int64 }

// unitsLeaving lets a parcel leave and says which units leave with it. A kit leaves with the last of its components.
func unitsLeaving(ch *engine.Change, p *store.Parcel) (out []lineUnits, err error) {
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return nil, err
	}
	all, err := ch.ParcelsOf(s.ID)
	if err != nil {
		return nil, err
	}
	before := contents(all, left)
	p.State, p.ShippedAt = store.Gone, ch.Now.UnixMicro()
	for i := range all {
		if all[i].ID == p.ID {
			all[i] = *p
		}
	}
	after := contents(all, left)
	for _, line := range lineIDs(&s) {
		if n := wholeUnits(&s, line, after) - wholeUnits(&s, line, before); n > 0 {
			out = append(out, lineUnits{line, n})
		}
	}
	return out, nil
}

// ship counts what leaves with a parcel as shipped, and says what its channel is told.
func (r *Shipping) ship(o *order.Order, p *store.Parcel, leaves []lineUnits, carrier string, label *message.Label,
	sc *order.Scene) (message.Dispatch, error) {
	d := message.Dispatch{OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number, Carrier: carrier,
		Service:  engine.Or(p.ServiceName, p.Service),
		Tracking: label.Tracking, TrackingURL: label.URL, ShippedAt: sc.Now.UTC(), ParcelNumber: p.Number,
		Reference: r.Prefix + "-" + p.Number}
	for _, x := range leaves {
		l := o.Line(x.line)
		n := min(x.units, l.Packed)
		if n == 0 {
			continue
		}
		if err := o.Ship(x.line, n, p.LocationID, sc, "shipped with "+label.Tracking); err != nil {
			return d, err
		}
		d.Lines = append(d.Lines, message.DispatchLine{ID: l.OutsideID, SKU: l.SKU, Quantity: n})
	}
	if d.LastOfOrder = o.Stage() == order.Shipped; d.LastOfOrder { // charges go with the last parcel
		for i := range o.Lines {
			if l := &o.Lines[i]; l.Charge && l.Live() > 0 {
				d.Lines = append(d.Lines, message.DispatchLine{ID: l.OutsideID, SKU: l.SKU, Quantity: l.Live()})
			}
		}
	}
	return d, nil
}

// countFreight counts a parcel that left for the reports.
func (r *Shipping) countFreight(ch *engine.Change, o *order.Order, s *store.Parcel) error {
	all, err := ch.ParcelsOfOrder(o.ID)
	if err != nil {
		return err
	}
	charged, paid := o.Record.Shipping, s.Price
	for _, other := range all {
		if other.ID != s.ID && (other.State == store.Gone || other.State == store.Arrived) {
			charged = 0 // it went with the first
		}
	}
	if s.Currency != o.Record.Currency {
		paid = 0
	}
	return ch.AddFreight(o.ConnectionID, o.Record.Currency, ch.Now, cartonsOf(s), charged, paid)
}

// cartonsOf counts a parcel for the reports: what travels in another's carton is no parcel of its own there.
func cartonsOf(p *store.Parcel) int64 {
	if p.TravelsIn != 0 {
		return 0
	}
	return 1
}

// surplus raises a label that was bought and is not needed. What the parcel has stays as it is.
func (r *Shipping) surplus(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, s store.Parcel, o *order.Order,
	label *message.Label) error {
	stands := fmt.Sprintf("shipment %s is %s", s.Number, s.State)
	if s.Tracking != "" {
		stands = fmt.Sprintf("shipment %s has the number %s already", s.Number, s.Tracking)
	}
	ch.Tell("exception", o.Number)
	if err := ch.Raise(store.Exception{Cause: engine.LabelSurplus, Subject: label.Tracking,
		Text: fmt.Sprintf("%s sold label %s, but %s", c.Rec().Name, label.Tracking, stands),
		Expected: "One label a parcel. Void this one at the carrier, then settle this here. The parcel and what the channel knows are " +
			"unchanged.", ConnectionID: c.ID, OrderID: o.ID, OutboxID: m.ID, Standing: true}, ch.Now); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, c.Rec().Name, string(engine.LabelSurplus), "Label %s came although %s; it is to be voided",
		label.Tracking, stands)
}

// LabelAnswered takes what a carrier answers to a purchase.
func (r *Shipping) LabelAnswered(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, answer any) error {
	label, ok := answer.(*message.Label)
	if !ok {
		return fmt.Errorf("label %s: the carrier's answer is no label", m.Ref)
	}
	return r.labelBought(ch, c, m, label)
}

// LabelNotSold ends a purchase that the carrier does not make.
func (r *Shipping) LabelNotSold(ch *engine.Change, _ *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	return engine.LabelRefused, r.labelNotBought(ch, m)
}

// labelNotBought lets a parcel be shipped otherwise, whose label was not bought.
func (r *Shipping) labelNotBought(ch *engine.Change, m store.OutboxMessage) error {
	s, err := ch.ParcelByID(m.ParcelID)
	if err != nil {
		return err
	}
	newer, err := ch.Overtaken(m)
	if err != nil {
		return err
	}
	if s.State != store.Buying || newer {
		tellParcel(ch, &s)
		return nil
	}
	list, err := consignmentOf(ch, s)
	if err != nil {
		return err
	}
	for _, in := range list {
		in.enter(store.ToShip, m.Error)
		in.own().WrongField = m.WrongField
	}
	list.apart()
	return list.save(ch)
}

// LabelNotKnown keeps a purchase open that was tried often and never answered: the label may exist.
func (r *Shipping) LabelNotKnown(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	s, err := ch.ParcelByID(m.ParcelID)
	if err != nil {
		return err
	}
	m.State, m.NextAt = store.Waiting, ch.Now.Add(askUnknownEvery).UnixMicro()
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	text := fmt.Sprintf("%s has not said whether it sold the label of shipment %s (%s). It may exist", c.Rec().Name, s.Number, m.Error)
	list, err := consignmentOf(ch, s)
	if err != nil {
		return err
	}
	for _, in := range list {
		if in.own().Error = text; s.Error != text {
			if err := ch.UpdateParcel(in.own()); err != nil {
				return err
			}
		}
		tellParcel(ch, in.own())
	}
	ch.Tell("exception", "")
	ch.Watch = true
	return ch.Raise(store.Exception{Cause: engine.LabelUnknown, Subject: s.Number,
		Text: text + "; nothing else is bought for this parcel until that is known.",
		Expected: "An answer: it is asked for again every quarter of an hour under the same reference, so nothing is bought " +
			"twice. Ask again now, or look at the carrier whether it exists, and say so here if it does not.",
		ConnectionID: c.ID, OrderID: m.OrderID, OutboxID: m.ID, Standing: true}, ch.Now)
}

// NotBought takes a person's word that a label of which nothing was known does not exist at the carrier. The parcel can
// then be shipped anew.
func (r *Shipping) NotBought(ctx context.Context, outbox int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		m, err := ch.Outbox(outbox)
		if err != nil {
			return fmt.Errorf("message %d: %w", outbox, err)
		}
		labels := m.Feed == message.LabelsOut || m.Feed == message.ReturnLabels
		if !labels || m.State != store.Waiting || m.Attempts < exchange.MaxAttempts {
			return &engine.Refused{Text: fmt.Sprintf("message %s is no purchase of a label that waits for an answer in vain", m.Ref),
				Conflict: true}
		}
		m.State, m.NextAt, m.Error = store.Superseded, 0, "it was not bought, says a person"
		if err := ch.SettleOutbox(m); err != nil {
			return err
		}
		if m.Feed == message.ReturnLabels {
			return r.returnNotBought(ch, m, who)
		}
		if err := r.labelNotBought(ch, m); err != nil {
			return err
		}
		o, err := ch.Order(m.OrderID)
		if err != nil {
			return err
		}
		if err := r.labelSettled(ch, m.ParcelID, m.OrderID, who); err != nil {
			return err
		}
		return r.NoteOrder(ch, o, who, "label not bought",
			"The carrier does not know label request %s, as a person says; the parcel can be shipped anew", m.Ref)
	})
}

// SendLabelAgain asks for a label again: one that was refused as a new purchase of the parcel as it is now, one that is
// not known under the same reference.
func (r *Shipping) SendLabelAgain(ch *engine.Change, m store.OutboxMessage, who string) error {
	if m.State == store.Waiting {
		m.NextAt = ch.Now.UnixMicro()
		ch.Wake[m.ConnectionID] = true
		return ch.SettleOutbox(m)
	}
	c := r.ByID(m.ConnectionID)
	if c == nil {
		return &engine.Refused{Text: "the carrier is gone", Conflict: true}
	}
	var asked message.Parcel
	if err := json.Unmarshal([]byte(m.Payload), &asked); err != nil {
		return err
	}
	list, err := askedFor(ch, m, &asked)
	if err != nil {
		return err
	}
	if err := r.askLabelsOf(ch, list, c, Purchase{Carrier: c.Rec().Code, Service: asked.Service}, who); err != nil {
		return err
	}
	m.State = store.Superseded
	return ch.SettleOutbox(m)
}

// askedFor loads the cartons that a request asked labels for.
func askedFor(ch *engine.Change, m store.OutboxMessage, asked *message.Parcel) (list consignment, err error) {
	first, err := ch.ParcelByID(m.ParcelID)
	if err != nil {
		return nil, err
	}
	numbers := []string{first.Number}
	for _, p := range asked.Parcels {
		if p.Reference != first.Number {
			numbers = append(numbers, p.Reference)
		}
	}
	for _, n := range numbers {
		in, err := loadCarton(ch, n)
		if err != nil {
			return nil, err
		}
		list = append(list, in)
	}
	return list.sharing(), nil
}

// staysPacked says of a parcel that its label was not asked for with the others of its order, and why.
const staysPacked = " stays packed: "

// leftBehind is what a text says of parcels whose labels were not asked for; empty: nothing.
func leftBehind(text string) string {
	before, _, some := strings.Cut(text, staysPacked)
	if at := strings.LastIndex(before, "; "); some && at >= 0 {
		return text[at:]
	}
	return ""
}

// LabelsCame looks at what became of the labels that were asked for.
func (r *Shipping) LabelsCame(ctx context.Context, p store.JobPart) (store.JobPart, error) {
	var sent []string
	stays := leftBehind(p.Text)
	for number := range strings.SplitSeq(p.Was, ", ") {
		s, err := r.Store.Parcel(ctx, number)
		if err != nil {
			return p, err
		}
		switch s.State {
		case store.Gone, store.Arrived:
			sent = append(sent, s.Tracking)
		case store.Buying:
			if s.Error != "" {
				p.Text = s.Error + stays // it may exist: what is known of it
			}
			return p, nil
		default:
			p.State, p.Text = store.JobRefused, engine.Or(s.Error, "the label was not bought")
			return p, nil
		}
	}
	p.State, p.Text = store.JobDone, engine.Join(sent)
	if stays != "" {
		p.State, p.Text = store.JobRefused, p.Text+" left"+stays
	}
	return p, nil
}

// LabelDocument is a label as its carrier made it. Where the carrier hands it out by a request of its own, it is asked for once and
// kept; made is false where the carrier makes none.
func (r *Shipping) LabelDocument(ctx context.Context, parcel string) (document []byte, form string, made bool, err error) {
	p, err := r.Store.Parcel(ctx, parcel)
	if err != nil {
		return nil, "", false, err
	}
	var l message.Label
	if p.Label == "" {
		return nil, "", false, &engine.Refused{Text: fmt.Sprintf("parcel %s has no label yet", parcel), Conflict: true}
	}
	if err := json.Unmarshal([]byte(p.Label), &l); err != nil {
		return nil, "", false, err
	}
	fetched, err := r.handedOut(ctx, r.ByID(p.CarrierID), &l)
	if err != nil {
		return nil, "", true, err
	}
	if document, form, made, err = l.MadeBy(); err != nil || !fetched {
		return document, form, made, err
	}
	text, err := json.Marshal(l)
	if err != nil {
		return nil, "", true, err
	}
	return document, form, made, r.Commit(ctx, func(ch *engine.Change) error {
		now, err := ch.ParcelByID(p.ID)
		if err != nil || now.Label != p.Label {
			return err // it was voided meanwhile
		}
		now.Label = string(text)
		return ch.UpdateParcel(&now)
	})
}

// handedOut asks a carrier for the document of a label, where it hands that out by a request of its own and has not yet.
func (r *Shipping) handedOut(ctx context.Context, c *engine.Conn, l *message.Label) (fetched bool, err error) {
	if l.Document != "" || c == nil || c.Line().Def.Calls["document"] == nil {
		return false, nil
	}
	list, err := c.Line().Ask(ctx, "document", *l)
	if err != nil {
		return false, &engine.Refused{Text: fmt.Sprintf("%s does not hand the label out now: %v", c.Rec().Name, err), Conflict: true}
	}
	d := list[0].(*message.LabelDocument)
	l.Document, l.DocumentForm = d.Document, d.Form
	return true, nil
}
