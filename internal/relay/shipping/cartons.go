package shipping

import (
	"context"
	"slices"

	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// content is what of one order lies in a carton: a parcel, with its order.
type content struct {
	parcel store.Parcel
	order  *order.Order
}

// carton is a parcel with a carton of its own, and after it those that travel in it, each of another shipment.
type carton []content

// own is the parcel that has the carton, the label and the price.
func (c carton) own() *store.Parcel { return &c[0].parcel }

// loadCarton loads the carton in which a parcel lies, by the parcel's number or tracking number.
func loadCarton(ch *engine.Change, number string) (carton, error) {
	p, _, err := loadParcel(ch, number)
	if err != nil {
		return nil, err
	}
	return cartonOf(ch, p)
}

// cartonOf loads the carton in which a parcel lies. Parcels of one order share it.
func cartonOf(ch *engine.Change, p store.Parcel) (carton, error) {
	if p.TravelsIn != 0 {
		var err error
		if p, err = ch.ParcelByID(p.TravelsIn); err != nil {
			return nil, err
		}
	}
	rows := []store.Parcel{p}
	if p.Riders != "" {
		riders, err := ch.ParcelsIn(p.ID)
		if err != nil {
			return nil, err
		}
		rows = append(rows, riders...)
	}
	known := map[int64]*order.Order{}
	out := make(carton, len(rows))
	for i, row := range rows {
		if known[row.OrderID] == nil {
			o, err := ch.Order(row.OrderID)
			if err != nil {
				return nil, err
			}
			known[row.OrderID] = o
		}
		out[i] = content{row, known[row.OrderID]}
	}
	return out, nil
}

// cartonNumber is the number of the parcel in whose carton a parcel lies.
func (r *Shipping) cartonNumber(ctx context.Context, number string) (string, error) {
	p, err := r.storedParcel(context.WithoutCancel(ctx), number)
	return engine.Or(p.Carton, p.Number), err
}

// lines are all that lies in a carton.
func (c carton) lines() (out []store.ParcelLine) {
	for i := range c {
		out = append(out, c[i].parcel.Lines...)
	}
	return out
}

// save writes all parcels of a carton, and their shipments as they then stand.
func (c carton) save(ch *engine.Change) error {
	for i := range c {
		if err := saveParcel(ch, &c[i].parcel); err != nil {
			return err
		}
	}
	return nil
}

// told says whether another tool told that it left.
func (c carton) told() bool {
	return slices.ContainsFunc(c, func(x content) bool { return x.parcel.ToldBy != 0 })
}

// untold lets a carton leave by our own doing of which another tool had told, and then not.
func (c carton) untold() {
	for i := range c {
		c[i].parcel.ToldBy, c[i].parcel.ToldID = 0, ""
	}
}

// enter lets all parcels of a carton be in a state, and keeps what is wrong with it.
func (c carton) enter(state, wrong string) {
	for i := range c {
		c[i].parcel.State, c[i].parcel.Error = state, wrong
	}
}

// takeOutOf takes parcels out of a carton, which are called off already. Where its own is among them, the next one gets carton, label
// and price. What is left in it is weighed anew by sum. It returns what is left, unsaved; the caller saves it.
func takeOutOf(ch *engine.Change, c carton, out func(p *store.Parcel) bool) (carton, error) {
	was := *c.own()
	stays := slices.DeleteFunc(slices.Clone(c), func(x content) bool { return out(&x.parcel) })
	for i := range c {
		p := &c[i].parcel
		if !out(p) {
			continue
		}
		p.TravelsIn = 0
		if p.ID != was.ID || len(stays) > 0 { // carton and label are not its own
			p.Tracking, p.TrackingURL, p.Label, p.Price, p.Currency, p.ManifestID, p.SSCC = "", "", "", 0, "", 0, ""
		}
		if err := ch.UpdateParcel(p); err != nil {
			return nil, err
		}
		tellParcel(ch, p)
	}
	if len(stays) == 0 {
		return nil, nil
	}
	if own := stays.own(); own.ID != was.ID {
		inheritCarton(own, &was)
		for i := 1; i < len(stays); i++ {
			stays[i].parcel.TravelsIn = own.ID
		}
	}
	return stays, reweigh(ch, stays)
}

// inheritCarton lets a parcel that travelled in another's carton have that carton itself.
func inheritCarton(p, was *store.Parcel) {
	p.TravelsIn, p.Profile, p.WeightG = 0, was.Profile, was.WeightG
	p.LengthMM, p.WidthMM, p.HeightMM = was.LengthMM, was.WidthMM, was.HeightMM
	p.CarrierID, p.CarrierTold, p.Service, p.ServiceName = was.CarrierID, was.CarrierTold, was.Service, was.ServiceName
	p.Tracking, p.TrackingURL, p.Label, p.Price, p.Currency = was.Tracking, was.TrackingURL, was.Label, was.Price, was.Currency
	p.Insured, p.InsuredFor, p.Quoted, p.ConsignedIn = was.Insured, was.InsuredFor, was.Quoted, was.ConsignedIn
	p.ManifestID, p.SSCC = was.ManifestID, was.SSCC
}

// reweigh adds up anew what a carton weighs in which less lies now. Where the weight of something is not known, it stays.
func reweigh(ch *engine.Change, c carton) error {
	profiles, err := ch.Profiles()
	if err != nil {
		return err
	}
	i := slices.IndexFunc(profiles, func(x packing.Profile) bool { return x.Code == c.own().Profile })
	if i < 0 {
		return nil
	}
	_, content, err := contentOf(ch, c.lines(), 1)
	if err == nil && allWeighed(content) {
		c.own().WeightG = profiles[i].Weight(content)
	}
	return err
}
