package shipping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// carries tells whether a rule lets the order take a step without a person.
func carries(o *order.Order, step string) bool {
	return slices.Index(rules.Steps, o.Ours.Decided.Carry) >= slices.Index(rules.Steps, step)
}

// SettleCarried makes the pick list of an order that a rule lets go so far.
func (r *Shipping) SettleCarried(ch *engine.Change, o *order.Order) error {
	if !carries(o, "pick") || o.Routed || o.Kind() != message.Ship || o.Stage() != order.Ready {
		return nil
	}
	_, err := r.beginPick(ch, o, "relay")
	if _, refused := engine.IsRefused(err); refused {
		return nil
	}
	if err != nil {
		return err
	}
	return r.Orders.SaveOrder(ch, o)
}

// carryArgs say which step a shipment or a parcel takes without a person.
type carryArgs struct {
	Step    string `json:"step"` // pack or ship
	Profile string `json:"profile,omitempty"`
}

// carryLater lets a shipment or a parcel take a step that a rule asks for, once the change is committed: also where the process
// ends in between.
func (r *Shipping) carryLater(ch *engine.Change, number string, a carryArgs) error {
	_, err := ch.StartJob(engine.JobCarry, number, "relay", a)
	return err
}

// CarryStep takes a step that nobody asked for. Where it cannot be taken, such as for serial numbers that a person must
// tell, that is said on the order, and the shipment waits for a person.
func (r *Shipping) CarryStep(ctx context.Context, j *store.Job) (bool, error) {
	var a carryArgs
	if err := json.Unmarshal([]byte(j.Args), &a); err != nil {
		return true, err
	}
	if a.Step == "pack" {
		_, err := r.Pack(ctx, j.Subject, Packing{Profile: a.Profile}, "relay")
		return true, r.orSay(ctx, j.Subject, "Not packed without a person", "", err)
	}
	return true, r.orSay(ctx, j.Subject, "Not shipped without a person", engine.ServiceOpen, r.shipByRule(ctx, j.Subject))
}

func (r *Shipping) shipByRule(ctx context.Context, parcel string) error {
	p, err := r.storedParcel(ctx, parcel)
	if err != nil {
		return err
	}
	if p.State != store.ToShip {
		return nil // somebody was quicker
	}
	o, err := r.Store.OrderByID(ctx, p.OrderID)
	if err != nil {
		return err
	}
	rate, err := r.chosenRate(ctx, parcel, o)
	if err != nil {
		return err
	}
	return r.AskLabel(ctx, parcel, rate.chosen(), "relay")
}

// orSay writes a refusal of a step that nobody asked for on the order instead of handing it to whoever did the step
// before: that step stands. With a cause it is raised, too.
func (r *Shipping) orSay(ctx context.Context, number, what string, cause order.Cause, err error) error {
	why, refused := engine.IsRefused(err)
	if !refused {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		_, o, err := loadShipment(ch, number)
		if err != nil {
			return err
		}
		if cause != "" {
			ch.Tell("exception", o.Number)
			if err := ch.Raise(store.Exception{Cause: cause, Subject: o.Record.RequestedService,
				Text:         fmt.Sprintf("Parcel %s of order %s: %s", number, o.Number, why),
				Expected:     "A service. Choose one for the parcel, or say in the channel's settings which one its word stands for.",
				ConnectionID: o.ConnectionID, OrderID: o.ID, Standing: true}, ch.Now); err != nil {
				return err
			}
		}
		ch.Tell("order", o.Number)
		return r.NoteOrder(ch, o, "relay", "rule", "%s: %s", what, why)
	})
}

// chosenRate is how a parcel is sent without a person. What was promised is never replaced.
func (r *Shipping) chosenRate(ctx context.Context, parcel string, o *order.Order) (Rate, error) {
	if err := r.samePromise(ctx, parcel, o); err != nil {
		return Rate{}, err
	}
	p, err := r.storedParcel(ctx, parcel)
	if err != nil {
		return Rate{}, err
	}
	pick, by, err := r.pickFor(ctx, &p, o)
	if err != nil {
		return Rate{}, err
	}
	wanted, err := r.sellers(ctx, pick)
	if err != nil {
		return Rate{}, err
	}
	rates, err := r.ratesBy(ctx, parcel, wanted)
	if err != nil {
		return Rate{}, err
	}
	var refused []string
	for _, x := range rates {
		if x.Refused != "" && (pick.Service == "" || x.Service == pick.Service) {
			refused = append(refused, x.CarrierName+": "+x.Refused)
		}
	}
	if at := pick.Of(offersOf(rates), r.today()); at >= 0 {
		return rates[at], nil
	}
	why := "no carrier takes parcel " + parcel
	if by != "" && (pick.Service != "" || pick.Days > 0) {
		why = fmt.Sprintf("%s %s, and no carrier takes parcel %s by it", by, pick, parcel)
	}
	if len(refused) > 0 {
		why += " (" + strings.Join(refused, "; ") + ")"
	}
	return Rate{}, &engine.Refused{Text: why, Conflict: true}
}

// sellers tells which carriers have to be asked for a pick: those that sell the service where one is named, else all of them. Many
// parcels by one service ask nothing of the other carriers.
func (r *Shipping) sellers(ctx context.Context, pick freight.Pick) (func(*engine.Conn) bool, error) {
	if pick.Service == "" {
		return func(*engine.Conn) bool { return true }, nil
	}
	known, err := r.Store.CarrierServices(ctx)
	if err != nil {
		return nil, err
	}
	sell := map[int64]bool{}
	for _, s := range known {
		if s.Code == pick.Service {
			sell[s.ConnectionID] = true
		}
	}
	return func(c *engine.Conn) bool {
		return (pick.Carrier == "" || c.Rec().Code == pick.Carrier) && (len(sell) == 0 || sell[c.ID])
	}, nil
}

// samePromise refuses to choose a service without a person where another order in the carton was promised another.
func (r *Shipping) samePromise(ctx context.Context, parcel string, o *order.Order) error {
	p, err := r.storedParcel(ctx, parcel)
	if err != nil || p.Riders == "" {
		return err
	}
	for _, number := range append(strings.Fields(p.Riders), p.Number) {
		x, err := r.Store.Parcel(ctx, number)
		if err != nil {
			return err
		}
		other, err := r.Store.OrderByID(ctx, x.OrderID)
		if err != nil {
			return err
		}
		if other.Record.RequestedService != o.Record.RequestedService || other.Ours.Decided.Service != o.Ours.Decided.Service {
			return &engine.Refused{
				Text: fmt.Sprintf("order %s in the same carton was promised another service than order %s; choose one that keeps both",
					other.Number, o.Number),
				Conflict: true,
			}
		}
	}
	return nil
}

// AskPacked asks for the labels of all packed parcels of an order, and names those parcels, and those that stay packed, with the reason.
// Each has its own outcome: only where none could be asked for it is an error.
func (r *Shipping) AskPacked(ctx context.Context, number, who string) (asked, stays string, err error) {
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return "", "", err
	}
	list, err := r.Store.ParcelsOfOrder(ctx, o.ID)
	if err != nil {
		return "", "", err
	}
	var sent, left []string
	var failed error
	for _, s := range list {
		if s.State != store.ToShip {
			continue
		}
		rate, err := r.chosenRate(ctx, s.Number, o)
		if err == nil {
			err = r.AskLabel(ctx, s.Number, rate.chosen(), who)
		}
		if err != nil {
			failed = err
			left = append(left, s.Number+staysPacked+err.Error())
			continue
		}
		sent = append(sent, s.Number)
	}
	switch {
	case len(sent) == 0 && failed != nil:
		return "", "", failed
	case len(sent) == 0:
		return "", "", &engine.Refused{Text: "nothing of it is packed", Conflict: true}
	}
	return engine.Join(sent), strings.Join(left, "; "), nil
}

// SettleServices looks again at parcels whose service was not clear when a channel's table of services is another.
func (r *Shipping) SettleServices(ch *engine.Change, connections []int64) error {
	for _, c := range connections {
		numbers, err := ch.ParcelsOfExceptions(engine.ServiceOpen, c)
		if err != nil {
			return err
		}
		for _, n := range numbers {
			if err := r.carryLater(ch, n, carryArgs{Step: "ship"}); err != nil {
				return err
			}
		}
	}
	return nil
}

// ServicesStep learns what a carrier sells: from its tariff, or from its prices for a parcel from one of our places.
func (r *Shipping) ServicesStep(ctx context.Context, j *store.Job) (bool, error) {
	c := r.ByCode(j.Subject)
	if c == nil {
		return true, nil
	}
	if !c.Works() {
		on, err := r.switchedOn(ctx, c.ID)
		if on { // that was written a moment ago, and the connection is being made ready
			j.NextAt = r.Clock().Add(100 * time.Millisecond).UnixMicro()
		}
		return !on, err
	}
	var list []store.CarrierService
	if c.Line().Def.Calls["tariff"] != nil {
		t, err := r.tariff(ctx, c)
		if err != nil {
			return false, err
		}
		for _, s := range t.Services {
			list = append(list, store.CarrierService{ConnectionID: c.ID, Code: s.Code, Name: s.Name})
		}
	} else {
		from, err := r.somePlace()
		if err != nil {
			return true, nil // no place has an address yet
		}
		answers, err := c.Line().Ask(ctx, "rates", message.Parcel{Reference: "services",
			From: from.Address, To: from.Address, WeightG: 1000, LengthMM: 200, WidthMM: 150, HeightMM: 100, Test: true,
			Handover: r.handoverDay(c, from.ID)})
		if err != nil {
			return false, err
		}
		for _, a := range answers {
			m := a.(*message.Rate)
			list = append(list, store.CarrierService{ConnectionID: c.ID, Code: m.Service, Name: m.ServiceName})
		}
	}
	return true, r.Commit(ctx, func(ch *engine.Change) error { return ch.PutCarrierServices(c.ID, list, ch.Now) })
}

// switchedOn tells whether a connection is at work by what is written.
func (r *Shipping) switchedOn(ctx context.Context, id int64) (bool, error) {
	list, err := r.Store.Connections(ctx)
	at := slices.IndexFunc(list, func(c store.Connection) bool { return c.ID == id })
	return at >= 0 && list[at].State == store.On && !list[at].Paused, err
}

// somePlace is a place of ours with an address.
func (r *Shipping) somePlace() (store.Location, error) {
	for _, id := range r.PlaceIDs() {
		if p := r.Place(id); len(p.Address.Problems()) == 0 {
			return p, nil
		}
	}
	return store.Location{}, errors.New("no place has an address")
}
