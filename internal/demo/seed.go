package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/standin"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// Rules of the company, as its story begins.
var Rules = []orders.RuleChange{
	{Name: "Papers for Eastmark", On: true, When: `country == "XE"`, Then: `tag("export"), note("Customs papers go with the parcel")`},
	{Name: "Large orders are looked at", On: true, When: `total >= 90000`,
		Then: `hold("More than 900.00: call the buyer before it is picked")`},
	{
		Name: "Glass goes from Alder Yard",
		On:   true,
		When: `"Jars" in categories`,
		Then: `location("alder"), split("never"), tag("fragile")`,
	},
	{Name: "Express is picked at once", When: `service == "express" && weight <= 5000`, Then: `carry("pick"), tag("express")`},
}

// Seed lets orders come in and works on them, so that every page has a story to tell. The same every time.
func (w *World) Seed(ctx context.Context) error {
	steps := &seeding{World: w}
	for _, step := range []func(context.Context) error{steps.begin, steps.sellPlain, steps.sellOdd, steps.cancelOne, steps.shipOldest,
		steps.carrierStories} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// seeding fills the demo company with its past.
type seeding struct {
	*World
	sell func(h *standin.Hedgerow, hoursAgo float64, change func(*standin.Sale)) (string, error)
	c    *client.Client
}

func (w *seeding) begin(ctx context.Context) error {
	rng := rand.New(rand.NewPCG(7, 41207))
	// Each order is taken in before the next is sold, so that the numbers are the same every time.
	w.sell = func(h *standin.Hedgerow, hoursAgo float64, change func(*standin.Sale)) (string, error) {
		s := h.RandomSale(rng.IntN)
		for len(s.Lines) == 0 {
			s = h.RandomSale(rng.IntN)
		}
		s.PlacedAgo = int(hoursAgo * 3600)
		if change != nil {
			change(&s)
		}
		id, name, err := h.Place(s)
		if err != nil {
			return "", err
		}
		return id, w.Wait(ctx, 10*time.Second, "order "+name, func() (bool, error) { return w.known(ctx, name) })
	}
	return nil
}

func (w *seeding) sellPlain(ctx context.Context) error {
	for _, r := range []store.RoundRule{{Code: "single", Name: "Single units", Location: "alder", Slots: 20, Units: 1},
		{Code: "standard", Name: "Standard", Location: "alder", Slots: 8, Services: []string{"standard"}}} {
		if _, err := w.Client.PutRoundRule(ctx, r.Code, r); err != nil {
			return err
		}
	}
	for _, r := range Rules {
		if _, err := w.Client.ChangeRule(ctx, r); err != nil {
			return err
		}
	}
	shops := []*standin.Hedgerow{w.Morrow, w.Skep}
	const plain = 30
	for i := range plain {
		if _, err := w.sell(shops[i%5/3], float64(plain-i)*1.6, func(s *standin.Sale) {
			if i%7 == 3 {
				s.Note = "Please leave it with the neighbour at number 5."
			}
			if i == plain-3 { // a letter is missing: the address service would write it otherwise
				s.Delivery.Town = s.Delivery.Town[1:]
			}
			if i%4 == 1 {
				s.Delivery.Method = "express"
				s.Shipping = 990
			}
		}); err != nil {
			return err
		}
	}
	return nil
}

func (w *seeding) sellOdd(ctx context.Context) error {
	for _, odd := range []struct {
		shop   *standin.Hedgerow
		ago    float64
		change func(*standin.Sale)
	}{
		{w.Morrow, 5, func(s *standin.Sale) { s.Pending, s.Method = true, "transfer" }},
		{w.Skep, 3, func(s *standin.Sale) { s.Pending, s.Method = true, "transfer" }},
		{w.Morrow, 4, func(s *standin.Sale) {
			s.Lines = append(s.Lines, standin.SaleLine{SKU: "SMOKER-OLD", Title: "Smoker, former model", Qty: 1, Price: 1900})
		}},
		{w.Morrow, 3.6, func(s *standin.Sale) {
			s.Lines = append(s.Lines, standin.SaleLine{SKU: "SMOKER-OLD", Title: "Smoker, former model", Qty: 2, Price: 1900})
		}},
		{w.Morrow, 3.2, func(s *standin.Sale) {
			s.Lines = append(s.Lines, standin.SaleLine{SKU: "SMOKER-OLD", Title: "Smoker, former model", Qty: 1, Price: 1900})
		}},
		{w.Skep, 2.5, func(s *standin.Sale) { s.TotalOff = 119 }},
		{w.Morrow, 2, func(s *standin.Sale) {
			s.Delivery.Postcode, s.Delivery.Town, s.Delivery.Country = "4120", "Alderby", "XW"
		}},
		{w.Morrow, 1.5, func(s *standin.Sale) {
			w.Morrow.EditStock("TANK-50", 40, "shop admin")
			s.Lines = []standin.SaleLine{{SKU: "TANK-50", Qty: 14}}
		}},
		{w.Morrow, 1.2, func(s *standin.Sale) { sameBuyer(s, "Tove Farran", "Quay Street 9") }},
		{w.Skep, 0.7, func(s *standin.Sale) { sameBuyer(s, "FARRAN, Tove", "Quay St. 9") }},
	} {
		if _, err := w.sell(odd.shop, odd.ago, odd.change); err != nil {
			return err
		}
	}
	return nil
}

// sameBuyer lets a sale be of one who buys at both stores.
func sameBuyer(s *standin.Sale, name, street string) {
	s.Customer, s.Email, s.Note = "Tove Farran", "tove.farran@example.test", ""
	s.Lines = []standin.SaleLine{{SKU: "JAR-250-T24", Qty: 2}}
	s.Delivery = standin.Delivery{Name: name, Street: street, Postcode: "41360", Town: "Harrowmere", Country: "XW", Method: "standard"}
}

func (w *seeding) cancelOne(ctx context.Context) (err error) {
	was, _, err := w.Client.Orders(ctx, "stage=cancelled&limit=200")
	if err != nil {
		return err
	}
	off, err := w.sell(w.Morrow, 20, nil)
	if err != nil {
		return err
	}
	w.c = w.Client
	if err := w.Morrow.Cancel(off); err != nil {
		return err
	}
	if err := w.Wait(ctx, 10*time.Second, "the cancellation", func() (bool, error) {
		list, _, err := w.c.Orders(ctx, "stage=cancelled&limit=200")
		return len(list) > len(was), err
	}); err != nil {
		return err
	}
	return nil
}

func (w *seeding) shipOldest(ctx context.Context) (err error) {
	ready, _, err := w.c.Orders(ctx, "stage=ready&limit=200")
	if err != nil {
		return err
	}
	oldest := make([]string, 0, len(ready))
	for i := len(ready) - 1; i >= 0; i-- {
		oldest = append(oldest, ready[i].Number)
	}
	i := -1
	for _, number := range oldest {
		i++
		switch {
		case i < 14:
			parcels, err := w.ShipOne(ctx, number)
			if errors.Is(err, errNoCarton) { // stays picked, for a person to find cartons
				i--
				continue
			}
			if err != nil {
				return err
			}
			for _, x := range parcels {
				for range min(4, max(0, 10-i)) {
					if err := w.Plover.Scan(x.Tracking); err != nil {
						return err
					}
				}
			}
		case i < 17:
			if _, err := w.PackOne(ctx, number); err != nil && !errors.Is(err, errNoCarton) {
				return err
			}
		case i < 19:
			if err := w.pickSome(ctx, number, 1); err != nil {
				return err
			}
		case i < 22:
			if _, err := w.c.Pick(ctx, number); err != nil {
				return err
			}
		}
	}
	return w.Wait(ctx, 20*time.Second, "the outbox to empty", func() (bool, error) { return w.Quiet(ctx) })
}

func (w *World) pickSome(ctx context.Context, order string, units int) error {
	s, err := w.Client.Pick(ctx, order)
	if err != nil {
		return err
	}
	v, err := w.Client.Shipment(ctx, s)
	if err != nil {
		return err
	}
	for i := range units {
		want := v.Wants[i%len(v.Wants)]
		if _, err := w.Client.Scan(ctx, s, want.SKU, want.Bin, 1); err != nil {
			return err
		}
	}
	return nil
}

// pickAll picks an order completely.
func (w *World) pickAll(ctx context.Context, order string) (v wire.ShipmentView, err error) {
	s, err := w.Client.Pick(ctx, order)
	if err != nil {
		return v, err
	}
	if v, err = w.Client.Shipment(ctx, s); err != nil {
		return v, err
	}
	for _, want := range v.Wants {
		if want.Left() == 0 {
			continue
		}
		if _, err := w.Client.Scan(ctx, s, code(want), want.Bin, want.Left()); err != nil {
			return v, err
		}
	}
	return v, nil
}

// PackOne picks an order completely and packs it as is proposed.
func (w *World) PackOne(ctx context.Context, order string) (wire.ShipmentView, error) {
	var none wire.ShipmentView
	v, err := w.pickAll(ctx, order)
	if err != nil {
		return none, err
	}
	s := v.Number
	serials, err := w.Serials(ctx, v.Wants)
	if err != nil {
		return none, err
	}
	p, err := w.Client.Proposal(ctx, s)
	if err != nil {
		return none, err
	}
	if len(p.Unfit) > 0 {
		return none, fmt.Errorf("shipment %s: %s: %w: %s", s, p.Unfit[0].SKU, errNoCarton, p.Unfit[0].Why)
	}
	for _, x := range p.Cartons {
		carton := wire.Packing{Carton: wire.Carton{Profile: x.Profile.Code, Serials: map[string][]string{}}, Units: x.Units}
		for sku, n := range x.Units {
			if list := serials[sku]; len(list) > 0 {
				carton.Serials[sku], serials[sku] = list[:n], list[n:]
			}
		}
		if v, err = w.Client.PackUnits(ctx, s, carton); err != nil {
			return none, err
		}
	}
	return v, nil
}

// Serials takes the first serial numbers that lie here for the units that have them.
func (w *World) Serials(ctx context.Context, wants []picking.Want) (map[string][]string, error) {
	out := map[string][]string{}
	for _, want := range wants {
		if !want.Serials {
			continue
		}
		it, err := w.Client.Item(ctx, want.SKU)
		if err != nil {
			return nil, err
		}
		for _, s := range it.Serials {
			if s.State == "here" && int64(len(out[want.SKU])) < want.Quantity {
				out[want.SKU] = append(out[want.SKU], s.Serial)
			}
		}
	}
	return out, nil
}

var errNoCarton = errors.New("fits into no carton")

func code(w picking.Want) string {
	if w.GTIN != "" {
		return w.GTIN
	}
	return w.SKU
}

// ShipOne picks, packs and ships an order, each parcel by the cheapest service that takes it.
func (w *World) ShipOne(ctx context.Context, order string) (parcels []wire.ParcelView, err error) {
	v, err := w.PackOne(ctx, order)
	if err != nil {
		return nil, err
	}
	for _, p := range v.Parcels {
		x, err := w.shipParcel(ctx, p.Number)
		if err != nil {
			return nil, err
		}
		parcels = append(parcels, x)
	}
	if len(parcels) < 2 {
		return parcels, nil
	}
	return parcels, w.tellBuyers(ctx)
}

// tellBuyers does what a clerk does about numbers of which a channel cannot be told: the buyers have them.
func (w *World) tellBuyers(ctx context.Context) error {
	list, err := w.Client.Exceptions(ctx)
	if err != nil {
		return err
	}
	for _, e := range list {
		if e.Cause != engine.NumberUntold {
			continue
		}
		if _, err := w.Client.Settle(ctx, attention.GroupOf{Cause: e.Cause, Connection: e.Connection, Subject: e.Subject}); err != nil {
			return err
		}
	}
	return nil
}

func (w *World) shipParcel(ctx context.Context, number string) (wire.ParcelView, error) {
	rates, err := w.Client.Rates(ctx, number)
	if err != nil {
		return wire.ParcelView{}, err
	}
	for _, r := range rates {
		if r.Refused == "" {
			return w.Client.Ship(ctx, number, r.Carrier, r.Service)
		}
	}
	return wire.ParcelView{}, fmt.Errorf("parcel %s: %w: no carrier takes it", number, errNoCarton)
}

// Load sells many orders at both stores as fast as they take them; the same ones for the same seed.
func (w *World) Load(ctx context.Context, orders int, seed uint64, progress func(done int)) error {
	rng := rand.New(rand.NewPCG(seed, 1))
	shops := []*standin.Hedgerow{w.Morrow, w.Skep}
	for i := range orders {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		h := shops[i%2]
		s := h.RandomSale(rng.IntN)
		if len(s.Lines) == 0 {
			continue
		}
		if _, _, err := h.Place(s); err != nil {
			return err
		}
		if i%1000 == 999 {
			progress(i + 1)
		}
	}
	return nil
}
