package shipping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/journey"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// ReturnParcel is the carton in which goods come back.
type ReturnParcel struct {
	Profile string `json:"profile,omitempty" doc:"Code of its profile; empty: the one in which the order was sent"`
	WeightG int64  `json:"weight_g,omitempty" minimum:"0" maximum:"1000000" doc:"0: by sum of what is announced"`
}

// returnParcel is what a carrier is asked for of goods that come back: from the buyer to us.
func (r *Shipping) returnParcel(ctx context.Context, x *store.GoodsReturn, o *order.Order, box ReturnParcel, c *engine.Conn) (
	asked message.Parcel, err error) {
	p := store.Parcel{Number: x.Number, OrderID: o.ID, LocationID: x.LocationID, WeightG: box.WeightG, Insured: 0}
	if box.Profile == "" {
		if box.Profile, err = r.sentIn(ctx, o.ID); err != nil {
			return asked, err
		}
	}
	profile, err := r.profileFor(ctx, Packing{Profile: box.Profile})
	if err != nil {
		return asked, err
	}
	p.LengthMM, p.WidthMM, p.HeightMM = profile.LengthMM, profile.WidthMM, profile.HeightMM
	for _, l := range x.Lines {
		if l.Announced > 0 {
			p.Lines = append(p.Lines, store.ParcelLine{LineID: l.LineID, ItemID: l.ItemID, Per: l.Per, Quantity: l.Announced})
		}
	}
	d := &customs.Declaration{Reason: "returned goods", Terms: "DAP", Currency: o.Record.Currency}
	if err := r.declare(ctx, d, &p, o); err != nil {
		return asked, err
	}
	d.Sum()
	if p.WeightG == 0 {
		p.WeightG = profile.TareG + d.WeightG
	}
	if len(p.Lines) == 0 && box.WeightG == 0 {
		return asked, engine.Refuse("it is not known what comes back with return %s; say what its parcel weighs", x.Number)
	}
	asked = r.Parcel(p, o, c)
	asked.Point = nil
	asked.From, asked.To = r.ReturnEnds(x, o)
	sender, _ := r.SenderOf(o)
	rows, err := r.Declarants.Rows(ctx, r.Engine)
	if err != nil {
		return asked, err
	}
	by := customs.Of(rows, sender.Code)
	if by.Crosses(asked.From.Country, asked.To.Country) {
		if lacks := d.Lacks(); lacks != "" {
			return asked, &engine.Refused{
				Conflict: true,
				Text: fmt.Sprintf("return %s crosses a customs border, and of what comes back is known %s; add it in the catalog",
					x.Number, lacks),
			}
		}
		asked.Customs = d
	}
	return asked, nil
}

// ReturnEnds is from whom goods come back, and where: to whom the sender of the order takes returns, or to the place that awaits them.
func (r *Shipping) ReturnEnds(x *store.GoodsReturn, o *order.Order) (from, to place.Address) {
	from, to = o.ShipTo, r.From(&store.Parcel{LocationID: x.LocationID}, o)
	if from.Email == "" {
		from.Email = o.Record.BuyerEmail
	}
	if s, ok := r.SenderOf(o); ok {
		if own := r.senderAddress(s.Code).ReturnTo; own != (place.Address{}) {
			to = own
			to.Name = engine.Or(to.Name, s.Name)
		}
	}
	return from, to
}

// sentIn is the profile of the first parcel in which an order was sent.
func (r *Shipping) sentIn(ctx context.Context, orderID int64) (string, error) {
	list, err := r.Store.ParcelsOfOrder(ctx, orderID)
	for i := range list {
		if list[i].Profile != "" {
			return list[i].Profile, err
		}
	}
	if err == nil {
		err = engine.Refuse("it was sent in no carton of ours; say in which profile it comes back")
	}
	return "", err
}

// sellsReturns tells whether a carrier sells labels by which goods come back.
func (r *Shipping) sellsReturns(c *engine.Conn) bool {
	_, on := r.Feed(c, message.ReturnLabels)
	return on && c.Line().Def.Feeds[message.ReturnLabels] != nil
}

// ReturnRates asks every carrier that brings goods back for its prices. Cheapest first.
func (r *Shipping) ReturnRates(ctx context.Context, number string, box ReturnParcel) ([]Rate, error) {
	x, err := r.Store.Return(ctx, number)
	if err != nil {
		return nil, err
	}
	o, err := r.Store.OrderByID(ctx, x.OrderID)
	if err != nil {
		return nil, err
	}
	var mu sync.Mutex
	var wg sync.WaitGroup
	out := []Rate{}
	for _, c := range r.All() {
		if !c.Works() || c.Line().Def.Calls["rates"] == nil || !r.sellsReturns(c) {
			continue
		}
		asked, err := r.returnParcel(ctx, &x, o, box, c)
		if err != nil {
			return nil, err
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			list := r.ratesOf(ctx, c, asked)
			mu.Lock()
			out = append(out, list...)
			mu.Unlock()
		}()
	}
	wg.Wait()
	slices.SortFunc(out, byPrice)
	for i := range out {
		out[i].Best = []string{}
	}
	return out, nil
}

// BuyReturnLabel buys the label of a return, once, and waits a little for its outcome. It returns the label as it then is.
func (r *Shipping) BuyReturnLabel(ctx context.Context, number string, box ReturnParcel, by Purchase, who string) (
	l store.ReturnLabel, err error) {
	c := r.ByCode(by.Carrier)
	if c == nil || !c.Works() || !r.sellsReturns(c) {
		return l, engine.Refuse("carrier %q sells no labels by which goods come back, or that is switched off", by.Carrier)
	}
	if by.Service == "" {
		return l, engine.Refuse("service: choose one of the carrier's services")
	}
	x, err := r.Store.Return(ctx, number)
	if err != nil {
		return store.ReturnLabel{}, err
	}
	o, err := r.Store.OrderByID(ctx, x.OrderID)
	if err != nil {
		return store.ReturnLabel{}, err
	}
	asked, err := r.returnParcel(ctx, &x, o, box, c)
	if err != nil {
		return store.ReturnLabel{}, err
	}
	asked.Service, asked.Expected = by.Service, by.Expected
	return r.awaitReturn(ctx, &x, store.ReturnLabelAsked, func(ch *engine.Change) error {
		return r.askReturnLabel(ch, x.ID, c, asked, who)
	})
}

func (r *Shipping) askReturnLabel(ch *engine.Change, id int64, c *engine.Conn, asked message.Parcel, who string) error {
	x, err := ch.ReturnByID(id)
	if err != nil {
		return err
	}
	if x.Status != returns.Announced && x.Status != returns.Arrived {
		return &engine.Refused{Text: fmt.Sprintf("return %s is %s; it needs no label", x.Number, x.Status), Conflict: true}
	}
	if was, err := ch.ReturnLabel(id); err == nil && was.Stands() {
		return &engine.Refused{Conflict: true,
			Text: fmt.Sprintf("return %s has a label, which is %s; void it before another is bought", x.Number, was.State)}
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if x.Tracking != "" {
		return &engine.Refused{Text: fmt.Sprintf("return %s comes as %s already; it needs no label", x.Number, x.Tracking), Conflict: true}
	}
	o, err := ch.Order(x.OrderID)
	if err != nil {
		return err
	}
	if c.Rec().Test && !o.Test {
		return &engine.Refused{Text: c.Rec().Name + " is in test and sells no real labels; take it live first", Conflict: true}
	}
	if bad := asked.From.Problems(); len(bad) > 0 {
		return &engine.Refused{Text: "Nothing can be fetched from the buyer's address: " + strings.Join(bad, "; "), Conflict: true}
	}
	payload, err := json.Marshal(asked)
	if err != nil {
		return err
	}
	l := store.ReturnLabel{ReturnID: id, CarrierID: c.ID, Service: asked.Service, State: store.ReturnLabelAsked, WeightG: asked.WeightG,
		AskedAt: ch.Now.UnixMicro()}
	if err := ch.AddReturnLabel(&l); err != nil {
		return err
	}
	if err := r.returnSettled(ch, &x, who, engine.LabelRefused); err != nil {
		return err
	}
	if _, err := r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.ReturnLabels, Subject: "return " + x.Number,
		Payload: string(payload), OrderID: o.ID}); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, who, "label asked", "Label of return %s by %s %s asked for", x.Number, c.Rec().Name, asked.Service)
}

// awaitReturn asks for something about the label of a return and waits a little while it is in a state. It returns the label as it then
// is.
func (r *Shipping) awaitReturn(ctx context.Context, x *store.GoodsReturn, during string, ask func(ch *engine.Change) error) (
	store.ReturnLabel, error) {
	look := func(ctx context.Context) (store.ReturnLabel, bool, error) {
		l, err := r.Store.ReturnLabel(ctx, x.ID)
		return l, err != nil || l.State != during, err
	}
	return waitFor(ctx, r.Engine, "return", x.Number, func() error { return r.Commit(ctx, ask) }, look)
}

// returnSettled ends what was raised about the label of a return.
func (r *Shipping) returnSettled(ch *engine.Change, x *store.GoodsReturn, who string, causes ...order.Cause) error {
	ch.Tell("return", x.Number)
	ch.Tell("exception", "")
	for _, cause := range causes {
		if err := ch.CloseSubject(x.OrderID, cause, x.Number, who, ch.Now); err != nil {
			return err
		}
	}
	return nil
}

// returnOf is the return that a message is about, with its newest label; ok is false where it is about no return.
func returnOf(ch *engine.Change, m store.OutboxMessage) (x store.GoodsReturn, l store.ReturnLabel, ok bool, err error) {
	number, ok := strings.CutPrefix(m.Subject, "return ")
	if !ok {
		return x, l, false, nil
	}
	if x, err = ch.Return(number); err != nil {
		return x, l, true, err
	}
	l, err = ch.ReturnLabel(x.ID)
	return x, l, true, err
}

// ReturnLabelAnswered takes what a carrier answers to the purchase of the label of a return.
func (r *Shipping) ReturnLabelAnswered(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, answer any) error {
	label, ok := answer.(*message.Label)
	if !ok {
		return fmt.Errorf("label %s: the carrier's answer is no label", m.Ref)
	}
	x, l, _, err := returnOf(ch, m)
	if err != nil || l.State != store.ReturnLabelAsked {
		return err // the same label, told again
	}
	raw, err := json.Marshal(label)
	if err != nil {
		return err
	}
	l.State, l.Tracking, l.Label, l.Error = store.ReturnLabelBought, label.Tracking, string(raw), ""
	l.Price, l.Currency = label.Price, label.Currency
	if err := ch.UpdateReturnLabel(&l); err != nil {
		return err
	}
	x.Tracking = label.Tracking // by which it is found when it is here
	if err := ch.UpdateReturn(&x); err != nil {
		return err
	}
	if err := r.returnSettled(ch, &x, "relay", engine.LabelRefused, engine.LabelUnknown); err != nil {
		return err
	}
	return r.noteReturn(ch, &x, c.Rec().Name, "label bought", "Label of return %s bought: %s, tracking number %s, %s", x.Number,
		engine.Or(label.Service, l.Service), label.Tracking, Price(label.Price, label.Currency))
}

func (r *Shipping) noteReturn(ch *engine.Change, x *store.GoodsReturn, who, what, format string, args ...any) error {
	o, err := ch.Order(x.OrderID)
	if err != nil {
		return err
	}
	ch.Tell("return", x.Number)
	return r.NoteOrder(ch, o, who, what, format, args...)
}

// ReturnLabelNotSold ends the purchase of the label of a return that the carrier does not make, and raises it.
func (r *Shipping) ReturnLabelNotSold(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	x, l, _, err := returnOf(ch, m)
	if err != nil || l.State != store.ReturnLabelAsked {
		return "", err
	}
	l.State, l.Error = store.ReturnLabelRefused, m.Error
	if err := ch.UpdateReturnLabel(&l); err != nil {
		return "", err
	}
	if err := r.returnSettled(ch, &x, "relay", engine.LabelUnknown); err != nil {
		return "", err
	}
	if err := r.noteReturn(ch, &x, c.Rec().Name, "label refused", "Label of return %s refused: %s", x.Number, m.Error); err != nil {
		return "", err
	}
	return "", ch.Raise(store.Exception{Cause: engine.LabelRefused, Subject: x.Number,
		Text:         fmt.Sprintf("%s sold no label for return %s: %s", c.Rec().Name, x.Number, m.Error),
		Expected:     "A label by which the goods come back: buy another on the page of the return. It is over, too, when the return is.",
		ConnectionID: c.ID, OrderID: x.OrderID, Standing: true}, ch.Now)
}

// ReturnLabelNotKnown goes on asking for the label of a return of which it is not known whether it was sold.
func (r *Shipping) ReturnLabelNotKnown(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	x, l, _, err := returnOf(ch, m)
	if err != nil {
		return err
	}
	m.State, m.NextAt = store.Waiting, ch.Now.Add(askUnknownEvery).UnixMicro()
	if err := ch.SettleOutbox(m); err != nil {
		return err
	}
	l.Error = fmt.Sprintf("%s has not said whether it sold it (%s); it is asked again under the same reference", c.Rec().Name, m.Error)
	if err := ch.UpdateReturnLabel(&l); err != nil {
		return err
	}
	ch.Tell("return", x.Number)
	ch.Tell("exception", "")
	ch.Watch = true
	return ch.Raise(store.Exception{Cause: engine.LabelUnknown, Subject: x.Number,
		Text: fmt.Sprintf("%s has not said whether it sold the label of return %s (%s). It may exist.", c.Rec().Name, x.Number,
			m.Error),
		Expected:     "An answer: it is asked for again every quarter of an hour under the same reference, so nothing is bought twice.",
		ConnectionID: c.ID, OrderID: x.OrderID, OutboxID: m.ID, Standing: true}, ch.Now)
}

// returnNotBought takes a person's word that the label of a return does not exist at the carrier. Another can then be bought.
func (r *Shipping) returnNotBought(ch *engine.Change, m store.OutboxMessage, who string) error {
	x, l, _, err := returnOf(ch, m)
	if err != nil {
		return err
	}
	l.State, l.Error = store.ReturnLabelRefused, "it was not bought, says a person"
	if err := ch.UpdateReturnLabel(&l); err != nil {
		return err
	}
	if err := r.returnSettled(ch, &x, who, engine.LabelUnknown); err != nil {
		return err
	}
	return r.noteReturn(ch, &x, who, "label not bought", "The carrier does not know label request %s, as a person says", m.Ref)
}

// ReturnLabelAgain asks for the label of a return again of which nothing is known.
func (r *Shipping) ReturnLabelAgain(ch *engine.Change, m store.OutboxMessage, _ string) error {
	if m.State != store.Waiting {
		return &engine.Refused{Text: "buy the label anew on the page of its return", Conflict: true}
	}
	m.NextAt = ch.Now.UnixMicro()
	ch.Wake[m.ConnectionID] = true
	return ch.SettleOutbox(m)
}

// VoidReturnLabel has the label of a return voided that nobody used, and waits a little for the outcome.
func (r *Shipping) VoidReturnLabel(ctx context.Context, number, who string) (store.ReturnLabel, error) {
	x, err := r.Store.Return(ctx, number)
	if err != nil {
		return store.ReturnLabel{}, err
	}
	return r.awaitReturn(ctx, &x, store.ReturnLabelVoiding, func(ch *engine.Change) error {
		return r.askReturnVoid(ch, x.ID, who)
	})
}

func (r *Shipping) askReturnVoid(ch *engine.Change, id int64, who string) error {
	x, err := ch.ReturnByID(id)
	if err != nil {
		return err
	}
	l, err := ch.ReturnLabel(id)
	if errors.Is(err, store.ErrNotFound) || err == nil && l.State != store.ReturnLabelBought {
		return &engine.Refused{Text: fmt.Sprintf("return %s has no label that could be voided", x.Number), Conflict: true}
	}
	if err != nil {
		return err
	}
	if l.Journey != "" {
		return &engine.Refused{Text: fmt.Sprintf("its carrier has the parcel of return %s already", x.Number), Conflict: true}
	}
	c := r.ByID(l.CarrierID)
	if c == nil || c.Line().Def.Feeds[message.VoidsOut] == nil {
		return &engine.Refused{Conflict: true,
			Text: "its carrier takes no voids from us; have it voided there. A label that nobody uses is mostly not charged"}
	}
	var label message.Label
	if err := json.Unmarshal([]byte(l.Label), &label); err != nil {
		return err
	}
	payload, err := json.Marshal(message.LabelVoid{Reference: r.Prefix + "-" + x.Number, Label: label.ID, Tracking: l.Tracking,
		ParcelNumber: x.Number, Test: c.Rec().Test})
	if err != nil {
		return err
	}
	l.State, l.Error = store.ReturnLabelVoiding, ""
	if err := ch.UpdateReturnLabel(&l); err != nil {
		return err
	}
	if err := r.returnSettled(ch, &x, who, engine.VoidRefused); err != nil {
		return err
	}
	if _, err := r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.VoidsOut, Subject: "return " + x.Number,
		Payload: string(payload), OrderID: x.OrderID}); err != nil {
		return err
	}
	return r.noteReturn(ch, &x, who, "void asked", "Label %s of return %s is to be voided by %s", l.Tracking, x.Number, c.Rec().Name)
}

// returnVoided takes what became of a void; done is false where the carrier did not make it.
func (r *Shipping) returnVoided(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, x *store.GoodsReturn, l store.ReturnLabel,
	done bool) error {
	if l.State != store.ReturnLabelVoiding {
		return nil
	}
	l.State, l.Error = store.ReturnLabelBought, m.Error
	text := fmt.Sprintf("Label %s of return %s stays: %s", l.Tracking, x.Number, m.Error)
	if done {
		l.State, l.Error = store.ReturnLabelVoided, ""
		text = fmt.Sprintf("Label %s of return %s is voided", l.Tracking, x.Number)
		if x.Tracking == l.Tracking {
			x.Tracking = ""
		}
		if err := ch.UpdateReturn(x); err != nil {
			return err
		}
	}
	if err := ch.UpdateReturnLabel(&l); err != nil {
		return err
	}
	if err := r.returnSettled(ch, x, "relay", engine.VoidRefused); err != nil {
		return err
	}
	if err := ch.CloseSubject(x.OrderID, engine.VoidRefused, l.Tracking, "relay", ch.Now); err != nil {
		return err
	}
	return r.noteReturn(ch, x, c.Rec().Name, "void answered", "%s", text)
}

// returnMoves takes in an event on the way of goods that come back; known is false where no return has the number.
func (r *Shipping) returnMoves(b *exchange.Batch, in store.InboxMessage, m *message.Tracking) (known bool, err error) {
	l, err := b.Ch.ReturnLabelNumbered(m.Tracking)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	x, err := b.Ch.ReturnByID(l.ReturnID)
	if err != nil {
		return true, err
	}
	y, _, err := b.Tally(in)
	if err != nil {
		return true, err
	}
	e := journey.Event{State: journey.State(m.State), Text: engine.Clip(m.Text, 300), At: m.At}.Tidied(b.Ch.Now)
	if at := e.At.UnixMicro(); at <= l.JourneyAt {
		y.Skipped++
		y.Reason("known already")
		b.Settle(in, "skipped", "it was told before, or overtaken", x.OrderID)
		return true, nil
	}
	y.New++
	b.Settle(in, "done", "", x.OrderID)
	l.Journey, l.JourneyAt = string(e.State), e.At.UnixMicro()
	if err := b.Ch.UpdateReturnLabel(&l); err != nil {
		return true, err
	}
	return true, r.noteReturn(b.Ch, &x, b.C.Rec().Name, "return "+string(e.State), "Return %s, %s: %s", x.Number, l.Tracking,
		engine.Or(e.Text, string(e.State)))
}

// ReturnDocument is the label of a return as its carrier made it; made is false where the carrier makes none.
func (r *Shipping) ReturnDocument(ctx context.Context, number string) (l message.Label, document []byte, form string, made bool,
	err error) {
	x, err := r.Store.Return(ctx, number)
	if err != nil {
		return l, nil, "", false, err
	}
	kept, err := r.Store.ReturnLabel(ctx, x.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && (kept.Label == "" || !kept.Stands()) {
		return l, nil, "", false, &engine.Refused{Text: fmt.Sprintf("return %s has no label", x.Number), Conflict: true}
	}
	if err == nil {
		err = json.Unmarshal([]byte(kept.Label), &l)
	}
	if err != nil {
		return l, nil, "", false, err
	}
	fetched, err := r.handedOut(ctx, r.ByID(kept.CarrierID), &l)
	if err != nil {
		return l, nil, "", true, err
	}
	if document, form, made, err = l.MadeBy(); err != nil || !fetched {
		return l, document, form, made, err
	}
	text, err := json.Marshal(l)
	if err != nil {
		return l, nil, "", true, err
	}
	return l, document, form, made, r.Commit(ctx, func(ch *engine.Change) error {
		now, err := ch.ReturnLabel(x.ID)
		if err != nil || now.Label != kept.Label {
			return err // it was voided meanwhile
		}
		now.Label = string(text)
		return ch.UpdateReturnLabel(&now)
	})
}
