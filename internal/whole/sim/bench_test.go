package sim

import (
	"context"
	"fmt"

	"openrelay/internal/core/returns"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
)

// walkRound picks several orders in one walk: one that was begun before goes on, or is taken apart.
func (w *world) walkRound(ctx context.Context, rows []store.OrderRow) error {
	open, err := w.Store.ListRounds(ctx, []string{store.RoundOpen}, 0, 10)
	if err != nil {
		return err
	}
	number := ""
	if len(open) > 0 {
		number = open[0].Number
		if w.one(200) {
			return w.Relay.TakeRoundApart(ctx, number, "Joss Fenn")
		}
	} else {
		var orders []string
		for range 2 + w.rng.IntN(4) {
			if o := pick(w, rows); o.Kind == "ship" {
				orders = append(orders, o.Number)
			}
		}
		if len(orders) == 0 {
			return nil
		}
		made, err := w.Relay.MakeRound(ctx, shipping.NewRound{Orders: orders, Location: "alder"}, "Runa Hollis")
		if err != nil {
			return err
		}
		number = made.Number
	}
	v, err := w.Relay.Views.Round(ctx, number)
	if err != nil {
		return err
	}
	for _, s := range v.Stops {
		for range s.Left() {
			if w.one(40) {
				return nil // called away
			}
			if _, err := w.Relay.ScanInRound(ctx, number, shipping.RoundScan{Code: s.SKU, Quantity: 1}, "Runa Hollis"); err != nil {
				return err
			}
		}
	}
	return nil
}

// takeParcelBack takes a parcel of a store back that its carrier does not have yet; the store hears it.
func (w *world) takeParcelBack(ctx context.Context) error {
	list, err := w.Store.ListParcels(ctx, []string{store.Gone}, 0, 0, 20)
	if err != nil || len(list) == 0 {
		return err
	}
	p := pick(w, list)
	o, err := w.Store.OrderByID(ctx, p.OrderID)
	if err != nil {
		return err
	}
	if code := w.Relay.ByID(o.ConnectionID).Rec().Code; code != "morrow" && code != "skep" {
		return nil // the others keep a number that is not right any more; somebody is asked
	}
	_, err = w.Relay.VoidLabel(ctx, p.Number, false, "Runa Hollis")
	return err
}

// comeBack lets something of an order come back, and sometimes gives the money back.
func (w *world) comeBack(ctx context.Context) error {
	rows, err := w.Store.ListOrders(ctx, store.OrderFilter{Stages: []string{"shipped", "delivered"}, Limit: 40})
	if err != nil || len(rows) == 0 {
		return err
	}
	number, err := w.Relay.AnnounceReturn(ctx, returning.NewReturn{Order: pick(w, rows).Number, Location: "alder"}, "Joss Fenn")
	if err != nil {
		return err
	}
	if w.one(400) { // the buyer gets a label for it, and sometimes does not use it
		box, by := shipping.ReturnParcel{Profile: "small", WeightG: 900}, shipping.Purchase{Carrier: "plover", Service: "PP"}
		if _, err := w.Relay.BuyReturnLabel(ctx, number, box, by, "Joss Fenn"); err != nil {
			return err
		}
		if w.one(300) {
			_, err := w.Relay.VoidReturnLabel(ctx, number, "Joss Fenn")
			return err
		}
	}
	v, err := w.Relay.Views.Return(ctx, number)
	if err != nil {
		return err
	}
	line := pick(w, v.Expected)
	if err := w.Relay.ScanReturned(ctx, number, returning.Returned{Code: v.Items[line.ItemID].SKU, Outcome: pick(w, returns.Outcomes)},
		"Runa Hollis"); err != nil {
		return err
	}
	if v, err = w.Relay.Views.Return(ctx, number); err != nil || w.one(300) {
		return err
	}
	return w.Relay.SettleReturn(ctx, number, returning.Settlement{Amount: v.Proposed.Total}, 0, "Joss Fenn")
}

// benchWork tells how many rounds were picked, labels voided, returns settled and cartons shared.
func (w *world) benchWork() string {
	ctx := context.Background()
	picked, _ := w.Store.ListRounds(ctx, []string{store.RoundPicked}, 0, 1000)
	settled, _ := w.Store.ListReturns(ctx, []string{string(returns.Settled)}, 0, 1000)
	voided := 0
	for _, carrier := range w.sellers() {
		for _, l := range carrier.Sold() {
			if l.Voided {
				voided++
			}
		}
	}
	together := 0
	parcels, _ := w.Store.ListParcels(ctx, nil, 0, 0, 100_000)
	for i := range parcels {
		if parcels[i].Riders != "" {
			together++
		}
	}
	return fmt.Sprintf(", %d rounds picked, %d labels voided, %d returns settled, %d cartons of several orders", len(picked), voided,
		len(settled), together)
}
