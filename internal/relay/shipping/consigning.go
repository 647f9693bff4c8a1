package shipping

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// consignment is packed cartons of one shipment whose labels are bought in one request, under one number; mostly there is one. The first
// is the one that the request is kept for.
type consignment []carton

func (c consignment) first() *store.Parcel { return c[0].own() }

// consigned tells whether several cartons are bought in one request.
func (c consignment) consigned() bool { return len(c) > 1 }

// consignmentOf loads the cartons that were asked for in one request with a parcel: itself alone, where it was asked for alone.
func consignmentOf(ch *engine.Change, p store.Parcel) (consignment, error) {
	if p.TravelsIn != 0 {
		var err error
		if p, err = ch.ParcelByID(p.TravelsIn); err != nil {
			return nil, err
		}
	}
	rows := []store.Parcel{p}
	if p.ConsignedIn != 0 {
		var err error
		if rows, err = ch.ParcelsConsigned(p.ConsignedIn); err != nil {
			return nil, err
		}
	}
	var out consignment
	for _, row := range rows {
		c, err := cartonOf(ch, row)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out.sharing(), nil
}

// sharing lets parcels of one order share it, whichever carton they lie in.
func (c consignment) sharing() consignment {
	known := map[int64]*order.Order{}
	for _, in := range c {
		for i := range in {
			if one := known[in[i].order.ID]; one != nil {
				in[i].order = one
			}
			known[in[i].order.ID] = in[i].order
		}
	}
	return c
}

// numbers are those of the cartons.
func (c consignment) numbers() (out []string) {
	for _, in := range c {
		out = append(out, in.own().Number)
	}
	return out
}

// apart ends that cartons belong to one request.
func (c consignment) apart() {
	for _, in := range c {
		in.own().ConsignedIn = 0
	}
}

func (c consignment) save(ch *engine.Change) error {
	for _, in := range c {
		if err := in.save(ch); err != nil {
			return err
		}
	}
	return nil
}

// pieces adds to what a carrier is asked the cartons of a consignment, one by one: sums of weights, the largest sizes.
func (c consignment) pieces(asked *message.Parcel) {
	if !c.consigned() {
		return
	}
	asked.WeightG = 0
	for _, in := range c {
		p := in.own()
		asked.Parcels = append(asked.Parcels, message.ConsignedParcel{Reference: p.Number, WeightG: p.WeightG, LengthMM: p.LengthMM,
			WidthMM: p.WidthMM, HeightMM: p.HeightMM})
		asked.WeightG += p.WeightG
		asked.LengthMM, asked.WidthMM = max(asked.LengthMM, p.LengthMM), max(asked.WidthMM, p.WidthMM)
		asked.HeightMM = max(asked.HeightMM, p.HeightMM)
	}
}

// consigns tells whether a carrier takes several parcels in one request.
func consigns(c *engine.Conn) bool {
	f := c.Line().Def.Feeds[message.LabelsOut]
	return f != nil && slices.Contains(f.Takes, connector.Consignments)
}

// ShipConsignment buys the labels of all packed parcels of a shipment in one request, under one number, and waits a little for the
// outcome. It returns the shipment's first parcel of them as it then is.
func (r *Shipping) ShipConsignment(ctx context.Context, shipment string, by Purchase, who string) (store.Parcel, error) {
	s, err := r.Store.Shipment(ctx, shipment)
	if err != nil {
		return store.Parcel{}, err
	}
	list, err := r.Store.ParcelsOf(ctx, s.ID)
	if err != nil {
		return store.Parcel{}, err
	}
	list = slices.DeleteFunc(list, func(p store.Parcel) bool { return p.State != store.ToShip || p.TravelsIn != 0 })
	if len(list) == 0 {
		return store.Parcel{}, &engine.Refused{Conflict: true,
			Text: fmt.Sprintf("shipment %s has no packed parcel without a label", s.Number)}
	}
	if c := r.ByCode(by.Carrier); len(list) > 1 && c != nil && !consigns(c) {
		return store.Parcel{}, &engine.Refused{Text: c.Rec().Name + " numbers each parcel alone; ship them one by one", Conflict: true}
	}
	numbers := make([]string, len(list))
	for i := range list {
		numbers[i] = list[i].Number
	}
	return r.await(ctx, numbers[0], func(p *store.Parcel) bool { return p.State != store.Buying },
		func() error { return r.askLabels(ctx, numbers, by, who) })
}
