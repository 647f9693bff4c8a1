package shipping

import (
	"context"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// What can be done to many parcels at once.
const (
	ShipParcels   orders.ActionKind = "ship parcels"
	UnpackParcels orders.ActionKind = "unpack parcels"
	VoidLabels    orders.ActionKind = "void labels"
)

// ParcelActionKinds are all of them, in the order in which people meet them.
var ParcelActionKinds = []orders.ActionKind{ShipParcels, UnpackParcels, VoidLabels}

// ParcelActions are what is done to each parcel of many.
func (r *Shipping) ParcelActions() map[orders.ActionKind]orders.Action {
	return map[orders.ActionKind]orders.Action{
		ShipParcels: {Thing: "parcel", Do: r.askChosen, Became: r.LabelsCame},
		UnpackParcels: {Thing: "parcel", Do: func(ctx context.Context, number, who string) (string, string, error) {
			return "unpacked", "", r.Unpack(ctx, number, who)
		}},
		VoidLabels: {Thing: "parcel", Do: r.askVoidOf, Became: r.voidCame},
	}
}

// ActOnParcels does one thing to many parcels, each for itself: one that it cannot be done to keeps none of the others from it.
func (r *Shipping) ActOnParcels(ctx context.Context, action orders.ActionKind, parcels []string, who string) (orders.BulkDone, error) {
	for _, k := range ParcelActionKinds {
		if k == action {
			return r.Orders.ActOnMany(ctx, action, parcels, who)
		}
	}
	return orders.BulkDone{}, engine.Refuse("action %q is none of %s", action, engine.Join(ParcelActionKinds))
}

// askChosen asks for the label of a packed parcel by the service that a rule chose, that the buyer was promised, or else the cheapest.
func (r *Shipping) askChosen(ctx context.Context, number, who string) (text, was string, err error) {
	p, err := r.storedParcel(ctx, number)
	if err != nil {
		return "", "", err
	}
	if p.State == store.Buying {
		return "label asked for already", p.Number, nil
	}
	if why := notToShip(&p); why != "" {
		return "", "", &engine.Refused{Text: why, Conflict: true}
	}
	o, err := r.Store.OrderByID(ctx, p.OrderID)
	if err != nil {
		return "", "", err
	}
	rate, err := r.chosenRate(ctx, engine.Or(p.Carton, p.Number), o)
	if err != nil {
		return "", "", err
	}
	return "label asked for", p.Number, r.AskLabel(ctx, p.Number, rate.chosen(), who)
}

// askVoidOf asks the carrier to void the label of a parcel.
func (r *Shipping) askVoidOf(ctx context.Context, number, who string) (text, was string, err error) {
	p, err := r.storedParcel(ctx, number)
	if err != nil {
		return "", "", err
	}
	return "void asked for", p.Tracking, r.Commit(ctx, func(ch *engine.Change) error {
		list, err := labelledWith(ch, number)
		if err != nil {
			return err
		}
		return r.askVoid(ch, list, false, who)
	})
}

// voidCame looks at what became of a label that is to be voided.
func (r *Shipping) voidCame(ctx context.Context, part store.JobPart) (store.JobPart, error) {
	number, err := r.cartonNumber(ctx, part.Subject)
	if err != nil {
		return part, err
	}
	p, err := r.Store.Parcel(ctx, number)
	if err != nil {
		return part, err
	}
	switch {
	case p.VoidAskedAt != 0:
		return part, nil
	case p.Left():
		part.State, part.Text = store.JobRefused, engine.Or(p.Error, "the label stays")
	default:
		part.State, part.Text = store.JobDone, part.Was+" is voided; the parcel is packed"
	}
	return part, nil
}
