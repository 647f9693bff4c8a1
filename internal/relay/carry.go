package relay

import (
	"context"
	"errors"
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/store"
)

// carries tells whether a rule lets the order take a step without a person.
func carries(o *order.Order, step string) bool {
	return slices.Index(rules.Steps, o.Ours.Decided.Carry) >= slices.Index(rules.Steps, step)
}

// carryOn makes the pick list of an order that a rule lets go so far.
func (r *Relay) carryOn(ch *change, o *order.Order) (bool, error) {
	if !carries(o, "pick") || o.Routed || o.Kind() != message.Ship || o.Stage() != order.Ready {
		return false, nil
	}
	_, err := r.beginPick(ch, o, "relay")
	var refused *Refused
	if errors.As(err, &refused) {
		return false, nil
	}
	return err == nil, err
}

// packOn packs what was picked whole into the profile that a rule chose. Where that cannot be, such as for serial
// numbers that a person must tell, it is said on the order and the shipment waits for a person.
func (r *Relay) packOn(ctx context.Context, shipment, profile string) error {
	return r.orSay(ctx, shipment, "Not packed without a person", r.Pack(ctx, shipment, profile, 0, nil, "relay"))
}

// shipOn asks for the label of a shipment that was packed just now, as packOn does.
func (r *Relay) shipOn(ctx context.Context, shipment string) error {
	ask := func() error {
		s, err := r.Store.Shipment(ctx, shipment)
		if err != nil {
			return err
		}
		o, err := r.Store.OrderByID(ctx, s.OrderID)
		if err != nil {
			return err
		}
		rate, err := r.chosenRate(ctx, shipment, o)
		if err != nil {
			return err
		}
		return r.askLabel(ctx, shipment, rate.Carrier, rate.Service, "relay")
	}
	return r.orSay(ctx, shipment, "Not shipped without a person", ask())
}

// orSay writes a refusal of a step that nobody asked for on the order instead of handing it to whoever did the step
// before: that step stands. What breaks on our side is logged, and the shipment waits for a person.
func (r *Relay) orSay(ctx context.Context, shipment, what string, err error) error {
	var refused *Refused
	if !errors.As(err, &refused) {
		if err != nil {
			r.log.Error(what, "shipment", shipment, "error", err)
		}
		return nil
	}
	return r.commit(ctx, func(ch *change) error {
		_, o, err := ch.shipment(shipment)
		if err != nil {
			return err
		}
		return r.noteOrder(ch, o, "relay", "rule", "%s: %s", what, refused.Text)
	})
}

// chosenRate is that of the service which a rule chose, or else the cheapest that takes the parcel.
func (r *Relay) chosenRate(ctx context.Context, shipment string, o *order.Order) (Rate, error) {
	rates, err := r.Rates(ctx, shipment)
	if err != nil {
		return Rate{}, err
	}
	i := slices.IndexFunc(rates, func(x Rate) bool { return x.Refused == "" && x.Service == o.Ours.Decided.Service })
	if i < 0 {
		i = slices.IndexFunc(rates, func(x Rate) bool { return x.Refused == "" })
	}
	if i < 0 {
		return Rate{}, &Refused{Text: "no carrier takes parcel " + shipment, Conflict: true}
	}
	return rates[i], nil
}

// shipPacked buys the label of a packed order by the service that a rule chose, or by the cheapest that takes it.
func (r *Relay) shipPacked(ctx context.Context, number, who string) (string, string, error) {
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return "", "", err
	}
	list, err := r.Store.ShipmentsOfOrder(ctx, o.ID)
	if err != nil {
		return "", "", err
	}
	var sent []string
	for _, s := range list {
		if s.State != store.ToShip {
			continue
		}
		rate, err := r.chosenRate(ctx, s.Number, o)
		if err != nil {
			return "", "", err
		}
		done, err := r.Ship(ctx, s.Number, rate.Carrier, rate.Service, who)
		if err != nil {
			return "", "", err
		}
		switch done.State {
		case store.Gone, store.Arrived:
			sent = append(sent, done.Tracking)
		case store.Buying:
			sent = append(sent, "label asked for")
		default:
			return "", "", &Refused{Text: or(done.Error, "the label was not bought"), Conflict: true}
		}
	}
	if len(sent) == 0 {
		return "", "", &Refused{Text: "nothing of it is packed", Conflict: true}
	}
	return join(sent), "", nil
}
