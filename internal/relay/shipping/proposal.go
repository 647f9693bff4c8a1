package shipping

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// CartonProposal is how what is left of a shipment can be packed.
type CartonProposal struct {
	Cartons []ProposedCarton `json:"cartons"`
	Unfit   []UnfitUnits     `json:"unfit" doc:"What goes into no carton"`
	Unsized []string         `json:"unsized" doc:"SKUs of unknown size: they count by weight alone"`
	Tariff  bool             `json:"tariff" doc:"It is the cheapest to send by the carriers' tariffs; else the least volume"`
}

// ProposedCarton is one carton of a proposal.
type ProposedCarton struct {
	Profile  packing.Profile  `json:"profile"`
	WeightG  int64            `json:"weight_g" doc:"Gross, by sum"`
	Cost     int64            `json:"cost,omitempty" doc:"Minor units; of the cheapest service, by its tariff"`
	Currency string           `json:"currency,omitempty"`
	Units    map[string]int64 `json:"units" doc:"By SKU"`
	Places   []ProposedPlace  `json:"places" doc:"Where each unit lies, the lowest first; millimetres from a lower corner"`
}

// ProposedPlace is where a unit lies.
type ProposedPlace struct {
	SKU string `json:"sku"`
	packing.Placed
}

// UnfitUnits are units that go into no carton.
type UnfitUnits struct {
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity"`
	Why      string `json:"why"`
}

// Propose proposes cartons for what a shipment, and those that travel with it, take and lies in no parcel yet, whether it is picked
// or not.
func (r *Shipping) Propose(ctx context.Context, shipment string) (out CartonProposal, err error) {
	s, err := r.Store.Shipment(ctx, shipment)
	if err != nil {
		return out, err
	}
	o, err := r.Store.OrderByID(ctx, s.OrderID)
	if err != nil {
		return out, err
	}
	profiles, err := r.Store.Profiles(ctx)
	if err != nil {
		return out, err
	}
	units, err := r.unitsTogether(ctx, &s)
	if err != nil {
		return out, err
	}
	cost, currency := r.costBy(ctx, o)
	got := packing.Propose(profiles, units, cost)
	out = CartonProposal{
		Cartons: []ProposedCarton{},
		Unfit:   unfitUnits(profiles, units, got.Unfit),
		Unsized: unsized(units),
		Tariff:  currency != "",
	}
	for _, c := range got.Cartons {
		x := ProposedCarton{Profile: c.Profile, WeightG: c.WeightG, Units: map[string]int64{}, Places: []ProposedPlace{}}
		if currency != "" {
			x.Cost, x.Currency = c.Cost, currency
		}
		for _, i := range c.Units {
			x.Units[units[i].SKU]++
		}
		for _, at := range c.Placed {
			x.Places = append(x.Places, ProposedPlace{units[at.Unit].SKU, at})
		}
		out.Cartons = append(out.Cartons, x)
	}
	return out, nil
}

// unitsTogether are the units of a shipment, and of those that travel with it, that lie in no parcel.
func (r *Shipping) unitsTogether(ctx context.Context, s *store.Shipment) ([]packing.Unit, error) {
	with, err := r.Store.ShipmentsTogether(ctx, s.Together)
	if err != nil {
		return nil, err
	}
	var out []packing.Unit
	with = slices.DeleteFunc(with, func(x store.Shipment) bool { return x.ID == s.ID })
	for _, x := range append([]store.Shipment{*s}, with...) {
		units, err := r.unitsToPack(ctx, &x)
		if err != nil {
			return nil, err
		}
		out = append(out, units...)
	}
	return out, nil
}

// unitsToPack are the units of a shipment that lie in no parcel.
func (r *Shipping) unitsToPack(ctx context.Context, s *store.Shipment) ([]packing.Unit, error) {
	parcels, err := r.Store.ParcelsOf(ctx, s.ID)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(s.Lines))
	for i, sl := range s.Lines {
		ids[i] = sl.ItemID
	}
	items, err := r.Store.Items(ctx, ids)
	if err != nil {
		return nil, err
	}
	packed := contents(parcels, live)
	var out []packing.Unit
	for _, sl := range s.Lines {
		it := items[sl.ItemID]
		for range sl.Quantity - packed[lineItem{sl.LineID, sl.ItemID}] {
			out = append(out,
				packing.Unit{SKU: it.SKU, LengthMM: it.LengthMM, WidthMM: it.WidthMM, HeightMM: it.HeightMM, WeightG: it.WeightG,
					Fragile: it.Fragile, Upright: it.Upright})
		}
	}
	return out, nil
}

// costBy is what a carton costs to send to an order's address: by the cheapest service of all tariffs that are known. Where none
// is, or they are of several currencies, it is by volume.
func (r *Shipping) costBy(ctx context.Context, o *order.Order) (cost packing.Cost, currency string) {
	var tariffs []*freight.Tariff
	for _, c := range r.All() {
		if c.Line().Def.Calls["tariff"] == nil || !c.Works() {
			continue
		}
		t, err := r.tariff(ctx, c)
		if err != nil {
			r.Log.Warn("no tariff", "carrier", c.Rec().Code, "error", err)
			continue
		}
		if currency != "" && currency != t.Currency {
			return packing.ByVolume, ""
		}
		currency = t.Currency
		tariffs = append(tariffs, t)
	}
	if len(tariffs) == 0 {
		return packing.ByVolume, ""
	}
	return func(p packing.Profile, gross int64) (least int64, ok bool) {
		asked := freight.Parcel{To: o.ShipTo, WeightG: gross, LengthMM: p.LengthMM, WidthMM: p.WidthMM, HeightMM: p.HeightMM}
		for _, t := range tariffs {
			for _, sv := range t.Services {
				if q := t.Quote(sv.Code, asked); q.Refused == "" && (!ok || q.Price < least) {
					least, ok = q.Price, true
				}
			}
		}
		return least, ok
	}, currency
}

// unfitUnits says of units that go into no carton why they do not.
func unfitUnits(profiles []packing.Profile, units []packing.Unit, unfit []int) []UnfitUnits {
	out := []UnfitUnits{}
	at := map[string]int{}
	for _, i := range unfit {
		u := units[i]
		k, known := at[u.SKU]
		if !known {
			k = len(out)
			at[u.SKU] = k
			out = append(out, UnfitUnits{SKU: u.SKU, Why: whyUnfit(profiles, u)})
		}
		out[k].Quantity++
	}
	return out
}

// whyUnfit says why a unit goes into no carton.
func whyUnfit(profiles []packing.Profile, u packing.Unit) string {
	if len(profiles) == 0 {
		return "no carton is kept in Settings"
	}
	why := ""
	for _, p := range profiles { // the smallest first: what the largest says counts
		why = p.Refuses([]packing.Content{{SKU: u.SKU, Quantity: 1, WeightG: u.WeightG, LengthMM: u.LengthMM, WidthMM: u.WidthMM,
			HeightMM: u.HeightMM}})
		if why == "" {
			return fmt.Sprintf("no joined carrier takes %s with it in it", p.Name)
		}
	}
	return why
}

func unsized(units []packing.Unit) []string {
	out := []string{}
	seen := map[string]bool{}
	for _, u := range units {
		if (u.LengthMM == 0 || u.WidthMM == 0 || u.HeightMM == 0) && !seen[u.SKU] {
			seen[u.SKU] = true
			out = append(out, u.SKU)
		}
	}
	return out
}

// SettleCartons raises orders as they come in of which something goes into no carton that the company has, and ends that when
// it does: nobody learns it at the bench only.
func (r *Shipping) SettleCartons(ch *engine.Change, ids []int64) error {
	profiles, err := ch.Profiles()
	if err != nil {
		return err
	}
	large, err := tooLarge(ch, profiles, ids)
	if err != nil {
		return err
	}
	open, err := ch.OrdersOfCause(engine.NoCarton, ids)
	if err != nil {
		return err
	}
	for _, id := range open {
		if len(large[id]) == 0 {
			ch.Tell("exception", "")
			if err := ch.CloseStanding(id, engine.NoCarton, "relay", ch.Now); err != nil {
				return err
			}
		}
	}
	for _, id := range engine.Keys(large) {
		if err := r.raiseNoCarton(ch, id, profiles, large[id]); err != nil {
			return err
		}
	}
	return nil
}

// tooLarge finds what goes into none of these cartons, by orders that are ready.
func tooLarge(ch *engine.Change, profiles []packing.Profile, ids []int64) (map[int64][]packing.Unit, error) {
	if len(profiles) == 0 {
		return nil, nil
	}
	items, err := ch.ItemsOfReady(ids)
	if err != nil {
		return nil, err
	}
	large := map[int64]packing.Unit{}
	for _, x := range items {
		u := packing.Unit{SKU: x.SKU, LengthMM: x.LengthMM, WidthMM: x.WidthMM, HeightMM: x.HeightMM, WeightG: x.WeightG,
			Fragile: x.Fragile, Upright: x.Upright}
		if !slices.ContainsFunc(profiles, func(p packing.Profile) bool { _, ok := packing.Load(p, []packing.Unit{u}); return ok }) {
			large[x.ID] = u
		}
	}
	with, err := ch.ReadyWithItems(ids, engine.Keys(large))
	if err != nil {
		return nil, err
	}
	out := map[int64][]packing.Unit{}
	for order, items := range with {
		for _, id := range items {
			out[order] = append(out[order], large[id])
		}
	}
	return out, nil
}

func (r *Shipping) raiseNoCarton(ch *engine.Change, id int64, profiles []packing.Profile, units []packing.Unit) error {
	o, err := ch.Order(id)
	if err != nil {
		return err
	}
	var list []string
	for _, u := range units {
		list = append(list, whyUnfit(profiles, u))
	}
	ch.Tell("exception", o.Number)
	return ch.Raise(store.Exception{Cause: engine.NoCarton, Subject: units[0].SKU,
		Text:         fmt.Sprintf("Order %s holds what goes into no carton: %s.", o.Number, engine.Join(list)),
		Expected:     "A carton that is large and strong enough, in Settings, or the item's right size and weight in the catalog.",
		ConnectionID: o.ConnectionID, OrderID: o.ID, Standing: true}, ch.Now)
}
