package demo

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// carriersGoOn says when a carrier comes and what is charged, loses a parcel and claims it, and reads the carrier's bill.
func (k *joinWalk) carriersGoOn(ctx context.Context) error {
	k.step("Until when a parcel goes along, what is charged for it, a parcel that is lost, and the carrier's bill")
	whole := []string{"00:01-23:59", "00:01-23:59", "00:01-23:59", "00:01-23:59", "00:01-23:59", "00:01-23:59", "00:01-23:59"}
	if _, err := client.PutRows(ctx, k.c, "/collections", []freight.Collection{{Carrier: "plover", Place: "alder",
		Hours: place.Hours{Week: whole, Cutoff: "00:02"}}}); err != nil {
		return err
	}
	tried, err := k.c.RehearseCharges(ctx, []freight.ChargeRule{{Name: "Handling", Do: freight.MarkUp, Permille: 100}})
	if err != nil {
		return err
	}
	k.check(tried.Parcels > 0, "a rule that marks freight up by a tenth is tried on %d parcels that left: %d would be charged otherwise",
		tried.Parcels, len(tried.Changed))
	sale := slowSale
	sale.Delivery.Method = "standard"
	packed, err := k.soldAndPacked(ctx, sale)
	if err != nil {
		return err
	}
	rates, err := k.c.Rates(ctx, packed.Number)
	if err != nil {
		return err
	}
	at := slices.IndexFunc(rates, func(r shipping.Rate) bool { return r.Carrier == "plover" && r.Service == "PP" })
	if at < 0 {
		return fmt.Errorf("Plover Post offers no parcel: %+v", rates)
	}
	k.check(rates[at].Handover > time.Now().UTC().Format(time.DateOnly),
		"the cut-off has passed: Plover Post takes it on %s, and it arrives on %s", rates[at].Handover, rates[at].Arrives)
	p, err := k.c.Ship(ctx, packed.Number, "plover", "PP")
	if err != nil {
		return err
	}
	if err := k.loseAndClaim(ctx, p); err != nil {
		return err
	}
	if _, err := client.PutRows(ctx, k.c, "/collections", []freight.Collection{}); err != nil {
		return err
	}
	return k.readBill(ctx, p)
}

// loseAndClaim lets the carrier lose a parcel: a person hears of it, and a claim settles that.
func (k *joinWalk) loseAndClaim(ctx context.Context, p wire.ParcelView) error {
	if err := k.w.Plover.ScanAs(p.Tracking, standin.GoneLost); err != nil {
		return err
	}
	raised := func(want bool) func() (bool, error) {
		return func() (bool, error) {
			list, err := k.c.Exceptions(ctx)
			return want == slices.ContainsFunc(list, func(e wire.Exception) bool {
				return e.Cause == engine.ParcelLost && e.Parcel == p.Number
			}), err
		}
	}
	took, err := until(ctx, 10*time.Second, "the loss", raised(true))
	if err != nil {
		return err
	}
	k.check(true, "%s says that it is lost, and somebody is told %.1f s later", p.Carrier, took.Seconds())
	if _, err := k.c.PutClaim(ctx, p.Number, shipping.Claim{State: "noted", Amount: 1190}); err != nil {
		return err
	}
	_, err = until(ctx, 5*time.Second, "the end of it", raised(false))
	k.check(err == nil, "a claim is noted, and that is settled")
	return err
}

// readBill hands in a bill with a parcel by another weight and one that is nobody's.
func (k *joinWalk) readBill(ctx context.Context, p wire.ParcelView) error {
	more := p.Price + 150
	text := fmt.Sprintf("bill,number,amount,weight_kg\nW-1,%s,%d.%02d,9.900\nW-1,CP999999990XW,4.00,1\n", p.Tracking, more/100, more%100)
	s, err := k.c.HandIn(ctx, "bills", "bill.csv", strings.NewReader(text))
	if err != nil {
		return err
	}
	if _, err := k.c.ApplySheet(ctx, s.ID); err != nil {
		return err
	}
	lines, err := k.c.Bills(ctx, "differs,unknown")
	if err != nil {
		return err
	}
	k.check(len(lines) == 2, "of its bill, %d lines want a look", len(lines))
	for _, l := range lines {
		k.saw("%s %s: %s", l.Number, l.State, l.Why)
		if err := k.c.DecideBill(ctx, l.ID, shipping.SayOfBill{State: "disputed"}); err != nil {
			return err
		}
	}
	lines, err = k.c.Bills(ctx, "differs,unknown")
	k.check(err == nil && len(lines) == 0, "both are disputed, and nothing of the bill is open")
	return err
}
