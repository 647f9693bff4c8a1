package demo

import (
	"context"
	"slices"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// bySecondCarrier joins a carrier that is unlike the first, says by which service parcels go, and follows one of its parcels by reading.
func (k *joinWalk) bySecondCarrier(ctx context.Context) error {
	k.step("A second carrier, by rail: compared, chosen by the table of services, followed by reading")
	if err := k.w.JoinIronway(ctx); err != nil {
		return err
	}
	if _, err := until(ctx, 10*time.Second, "what it sells", func() (bool, error) {
		t, err := k.c.Services(ctx)
		return slices.ContainsFunc(t.Sold, func(s wire.SoldService) bool { return s.Carrier == "ironway" }), err
	}); err != nil {
		return err
	}
	table, err := k.c.PutServices(ctx, []freight.Choice{{Word: "slow", Service: "ironway/IR"}})
	if err != nil {
		return err
	}
	k.check(len(table.Rows) == 1 && len(table.Sold) >= 4, "%d services of two carriers are sold; “slow” goes by rail", len(table.Sold))
	_, err = k.c.PutServices(ctx, append(table.Rows, freight.Choice{Word: "slow", Service: "PP"}))
	k.check(client.StatusOf(err) == 422, "a row that would never be looked at is refused: %v", err)
	packed, err := k.soldAndPacked(ctx, slowSale)
	if err != nil {
		return err
	}
	if err := k.sendByRail(ctx, packed.Number); err != nil {
		return err
	}
	return k.carriersGoOn(ctx)
}

// soldAndPacked lets a buyer order something in the store, and packs it.
func (k *joinWalk) soldAndPacked(ctx context.Context, sale standin.Sale) (p wire.ShipmentView, err error) {
	_, number, err := k.w.Morrow.Place(sale)
	if err != nil {
		return p, err
	}
	if _, err := until(ctx, 10*time.Second, "the order", func() (bool, error) {
		o, err := k.c.Order(ctx, number)
		return err == nil && o.Stage == "ready", nil
	}); err != nil {
		return p, err
	}
	return k.w.PackOne(ctx, number)
}

var slowSale = standin.Sale{Customer: "Maren Tolland", Email: "maren.tolland@example.test", Shipping: 290,
	Lines: []standin.SaleLine{{SKU: "JAR-500-T12", Qty: 1}},
	Delivery: standin.Delivery{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
		Method: "slow"}}

// sendByRail buys the label that was decided on, and reads what becomes of the parcel.
func (k *joinWalk) sendByRail(ctx context.Context, number string) error {
	rates, err := k.c.Rates(ctx, number)
	if err != nil {
		return err
	}
	var chosen shipping.Rate
	for _, r := range rates {
		if r.Refused != "" {
			continue
		}
		k.saw("%-15s %s, arrives %s %s", r.ServiceName, eur(r.Price), r.Arrives, strings.Join(r.Best, ", "))
		for _, b := range r.Best {
			if b == "decided" {
				chosen = r
			}
		}
	}
	k.check(chosen.Carrier == "ironway" && chosen.Agrees, "the table decides for %s; our own sum agrees: %s", chosen.ServiceName,
		termsText(chosen.Terms))
	p, err := k.c.Ship(ctx, number, chosen.Carrier, chosen.Service)
	if err != nil {
		return err
	}
	k.check(p.State == "shipped" && len(p.Tracking) == 18, "%s with SSCC %s, %s", p.State, p.Tracking, eur(p.Price))
	label, err := k.c.PDF(ctx, "/parcels/"+number+"/carrier-label")
	if err != nil {
		return err
	}
	k.check(strings.HasPrefix(string(label), "^XA"), "its label is in the printer's language (%s), %d bytes, as the carrier made it",
		p.LabelForm, len(label))
	for range 5 {
		if err := k.w.Ironway.Move(p.Tracking); err != nil {
			return err
		}
	}
	if _, err := k.c.RunNow(ctx, "ironway", "tracking in", ""); err != nil {
		return err
	}
	took, err := until(ctx, 10*time.Second, "its delivery", func() (bool, error) {
		p, err = k.c.Parcel(ctx, number)
		return p.State == "delivered", err
	})
	k.check(err == nil, "its five events were read, and it is delivered, %.1f s later", took.Seconds())
	return err
}
