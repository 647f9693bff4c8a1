package shipping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Typed is a tracking number that a person typed: the label was bought elsewhere, at a carrier that is only named.
type Typed struct {
	Carrier string // its code
	Number  string
	Service string // in words; may be empty
}

// longestNumber is how long a tracking number may be, in bytes.
const longestNumber = 80

// TypeNumber lets a packed parcel leave with a number that a person typed. Its channel is told like of any other. Of a parcel
// that left so, it corrects the number: nothing ships again, and the channel is told the new one.
func (r *Shipping) TypeNumber(ctx context.Context, parcel string, t Typed, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error { return r.PutNumber(ch, parcel, t, who) })
}

// CheckTyped tidies a number that was typed, and refuses what none can be.
func (r *Shipping) CheckTyped(t *Typed) error {
	t.Number, t.Service = strings.Join(strings.Fields(t.Number), " "), strings.TrimSpace(t.Service)
	if _, ok := r.NamedCarrier(t.Carrier); !ok {
		return engine.Refuse("carrier: there is no carrier %q that is only named; add it in Settings", t.Carrier)
	}
	if len(t.Number) < 3 || len(t.Number) > longestNumber {
		return engine.Refuse("number: 3 to %d characters are expected", longestNumber)
	}
	return nil
}

// WantsNumber finds the parcel that a number from elsewhere is for: by its own number, or by that of its order where only one parcel
// of it is packed or left with such a number. Those that have no number yet are meant first.
func (r *Shipping) WantsNumber(ctx context.Context, number string) (store.Parcel, error) {
	p, err := r.Store.Parcel(ctx, number)
	if !errors.Is(err, store.ErrNotFound) {
		return p, err
	}
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return p, err
	}
	list, err := r.Store.ParcelsOfOrder(ctx, o.ID)
	if err != nil {
		return p, err
	}
	return onlyWanting(o.Number, list)
}

// onlyWanting is the only parcel of an order that a number from elsewhere can be for.
func onlyWanting(number string, list []store.Parcel) (store.Parcel, error) {
	for _, wants := range []func(p *store.Parcel) bool{
		func(p *store.Parcel) bool { return p.State == store.ToShip },
		func(p *store.Parcel) bool { return p.Left() && p.CarrierID == 0 && p.ToldBy == 0 },
	} {
		var found []store.Parcel
		for i := range list {
			if wants(&list[i]) {
				found = append(found, list[i])
			}
		}
		switch len(found) {
		case 0:
			continue
		case 1:
			return found[0], nil
		}
		return store.Parcel{}, &engine.Refused{Text: fmt.Sprintf("order %s has %d parcels that a number may be for; say which", number,
			len(found)), Conflict: true}
	}
	return store.Parcel{}, &engine.Refused{Text: fmt.Sprintf("nothing of order %s is packed and without a number", number), Conflict: true}
}

// PutNumber lets a packed parcel leave with a number from elsewhere, or corrects it, within a change. The parcel may be named by its
// order's number, where only one is meant.
func (r *Shipping) PutNumber(ch *engine.Change, parcel string, t Typed, who string) error {
	if err := r.CheckTyped(&t); err != nil {
		return err
	}
	carrier, _ := r.NamedCarrier(t.Carrier)
	number, err := meantBy(ch, parcel)
	if err != nil {
		return err
	}
	in, err := loadCarton(ch, number)
	if err != nil {
		return err
	}
	p := in.own()
	corrects := p.Left() && p.CarrierID == 0 && !in.told()
	if why := notToShip(p); why != "" && !corrects {
		return &engine.Refused{Text: why, Conflict: true}
	}
	if err := numberFree(ch, p, t.Number); err != nil {
		return err
	}
	was := *p
	for i := range in {
		p := &in[i].parcel
		p.CarrierID, p.CarrierTold, p.Service, p.ServiceName, p.Error = 0, carrier.Name, "", t.Service, ""
		p.Tracking, p.TrackingURL = t.Number, followed(carrier, t.Number)
	}
	if !corrects {
		in.untold()
		return r.leaveTyped(ch, in, who, fmt.Sprintf("%s took it; tracking number %s was typed", p.CarrierTold, p.Tracking))
	}
	if p.Tracking == was.Tracking && p.CarrierTold == was.CarrierTold && p.ServiceName == was.ServiceName {
		return &engine.Refused{Text: fmt.Sprintf("parcel %s has %s already", p.Number, p.Tracking), Conflict: true}
	}
	for i := range in {
		if err := r.correctTyped(ch, &in[i].parcel, was, in[i].order, who); err != nil {
			return err
		}
	}
	return nil
}

// meantBy is the number of the parcel that is meant by its own number or its order's.
func meantBy(ch *engine.Change, number string) (string, error) {
	if _, err := ch.Parcel(number); !errors.Is(err, store.ErrNotFound) {
		return number, err
	}
	if _, err := ch.Shipment(number); !errors.Is(err, store.ErrNotFound) {
		return number, err
	}
	o, err := ch.OrderByNumber(number)
	if err != nil {
		return "", err
	}
	list, err := ch.ParcelsOfOrder(o.ID)
	if err != nil {
		return "", err
	}
	p, err := onlyWanting(o.Number, list)
	return p.Number, err
}

// numberFree refuses a tracking number that stands on another parcel.
func numberFree(ch *engine.Change, p *store.Parcel, number string) error {
	known, err := ch.Parcel(number)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil
	case err != nil:
		return err
	case known.ID != p.ID && known.TravelsIn != p.ID:
		return &engine.Refused{Text: fmt.Sprintf("number: parcel %s of order %s has %s already", known.Number, known.OrderNumber, number),
			Conflict: true}
	}
	return nil
}

// leaveTyped lets a packed parcel leave with the number that it has.
func (r *Shipping) leaveTyped(ch *engine.Change, in carton, who, note string) error {
	if err := in.workable(); err != nil {
		return err
	}
	p := in.own()
	for i := range in {
		o := in[i].order
		if r.ByID(o.ConnectionID) == nil {
			return &engine.Refused{Text: fmt.Sprintf("the channel of order %s is gone", o.Number), Conflict: true}
		}
		if err := r.labelSettled(ch, p.ID, o.ID, who); err != nil { // what was raised about labels is over
			return err
		}
	}
	return r.parcelLeaves(ch, leaving{who: who, carrier: p.CarrierTold, note: note}, in,
		&message.Label{Tracking: p.Tracking, URL: p.TrackingURL, Service: p.ServiceName})
}

// correctTyped writes another number on a parcel that left with a typed one, and tells the channel under the reference of the
// first, so that it replaces it there.
func (r *Shipping) correctTyped(ch *engine.Change, p *store.Parcel, was store.Parcel, o *order.Order, who string) error {
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	ch.Mark(engine.OrderWords, o.ID)
	told, err := ch.LastOfParcel(p.ID, message.DispatchOut)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err == nil {
		var d message.Dispatch
		if err := json.Unmarshal([]byte(told.Payload), &d); err != nil {
			return err
		}
		if d.OrderID == "" { // thinned
			return &engine.Refused{Text: fmt.Sprintf("what %s was told of parcel %s is too long ago to be corrected",
				r.connectionName(o.ConnectionID), p.Number), Conflict: true}
		}
		d.Carrier, d.Service, d.Tracking, d.TrackingURL = p.CarrierTold, p.ServiceName, p.Tracking, p.TrackingURL
		if err := r.queueDispatch(ch, o, p, d); err != nil {
			return err
		}
	}
	return r.NoteOrder(ch, o, who, "corrected", "Parcel %s goes by %s, tracking number %s (was %s %s); the channel is told", p.Number,
		p.CarrierTold, p.Tracking, was.CarrierTold, was.Tracking)
}

// followed is where a parcel of a carrier that is only named is followed; empty where that is not known.
func followed(c store.NamedCarrier, number string) string {
	return strings.ReplaceAll(c.TrackingURL, "{number}", url.PathEscape(strings.ReplaceAll(number, " ", "")))
}
