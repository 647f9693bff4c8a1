package demo

import (
	"context"
	"slices"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/relay/printing"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

// byThirdCarrier sends several parcels under one number, prints their labels by themselves, and lets the buyer send something back.
func (k *joinWalk) byThirdCarrier(ctx context.Context) error {
	k.step("A third carrier: insured or not, three parcels under one number, printed by themselves, and one that comes back")
	if err := k.w.JoinHeron(ctx); err != nil {
		return err
	}
	if _, err := client.PutRows(ctx, k.c, "/printers", []printing.Printer{{Code: "bench", Name: "Bench", Place: "alder",
		Address: k.w.PrinterAddress(), Papers: []string{printing.Label}, Auto: true}}); err != nil {
		return err
	}
	parcels, shipment, err := k.threeParcels(ctx)
	if err != nil {
		return err
	}
	if err := k.insured(ctx, parcels[0]); err != nil {
		return err
	}
	printed := k.w.Printer.Printed()
	v, err := k.c.Consign(ctx, shipment, shipping.Purchase{Carrier: "heron", Service: "SH-ECO"})
	if err != nil {
		return err
	}
	numbers := map[string]bool{}
	var paid int64
	left := slices.DeleteFunc(v.Parcels, func(p wire.Parcel) bool { return p.State != "shipped" })
	for _, p := range left {
		numbers[p.Tracking] = true
		paid += p.Price
	}
	k.check(len(left) == 3 && len(numbers) == 1 && left[0].Price == paid, "%d parcels under one number, %s for all of them", len(left),
		eur(paid))
	took, err := until(ctx, 10*time.Second, "the labels in the printer's tray", func() (bool, error) {
		return k.w.Printer.Printed() == printed+3, nil
	})
	k.check(err == nil, "their labels came out of the printer, %.1f s later", took.Seconds())
	if err != nil {
		return err
	}
	return k.sentBack(ctx, v.OrderNumber)
}

// threeParcels packs three trays of jars into a carton each.
func (k *joinWalk) threeParcels(ctx context.Context) (parcels []string, shipment string, err error) {
	sale := slowSale
	sale.Delivery.Method = "standard"
	sale.Lines = slices.Clone(sale.Lines)
	sale.Lines[0].Qty = 3
	v, err := k.soldAndPacked(ctx, sale)
	if err != nil {
		return nil, "", err
	}
	for _, p := range v.Parcels {
		if _, err := k.c.Unpack(ctx, p.Number); err != nil {
			return nil, "", err
		}
	}
	for range 3 {
		if v, err = k.c.PackUnits(ctx, v.Number, wire.Packing{Carton: wire.Carton{Profile: "medium"},
			Units: map[string]int64{sale.Lines[0].SKU: 1}}); err != nil {
			return nil, "", err
		}
	}
	for _, p := range v.Parcels {
		if p.State == "packed" {
			parcels = append(parcels, p.Number)
		}
	}
	return parcels, v.Number, nil
}

// insured has a parcel insured, looks what that costs at each carrier, and leaves it.
func (k *joinWalk) insured(ctx context.Context, parcel string) error {
	plain, err := k.c.Rates(ctx, parcel)
	if err != nil {
		return err
	}
	if _, err := k.c.Insure(ctx, parcel, 12_000); err != nil {
		return err
	}
	covered, err := k.c.Rates(ctx, parcel)
	if err != nil {
		return err
	}
	of := func(list []shipping.Rate, service string) (x shipping.Rate) {
		if at := slices.IndexFunc(list, func(r shipping.Rate) bool { return r.Service == service }); at >= 0 {
			x = list[at]
		}
		return x
	}
	more := of(covered, "PP").Price - of(plain, "PP").Price
	k.check(more > 0 && of(covered, "PP").Agrees, "insured for 120.00 EUR, Plover Post asks %s more, and our own sum agrees", eur(more))
	k.check(strings.Contains(of(covered, "SH-ECO").Refused, "insures nothing"), "Swift Heron: %s", of(covered, "SH-ECO").Refused)
	_, err = k.c.Insure(ctx, parcel, 0)
	return err
}

// sentBack buys a label by which the buyer sends one tray back, and has it voided.
func (k *joinWalk) sentBack(ctx context.Context, number string) error {
	o, err := k.c.Order(ctx, number)
	if err != nil {
		return err
	}
	r, err := k.c.AnnounceReturn(ctx, returning.NewReturn{Order: number, Reason: "one too many",
		Lines: map[int64]int64{o.Lines[0].ID: 1}})
	if err != nil {
		return err
	}
	rates, err := k.c.ReturnRates(ctx, r.Number, shipping.ReturnParcel{})
	if err != nil {
		return err
	}
	for _, x := range rates {
		if x.Refused == "" {
			k.saw("%-15s %s brings it back", x.ServiceName, eur(x.Price))
		}
	}
	by := wire.ReturnPurchase{Purchase: shipping.Purchase{Carrier: "plover", Service: "PP"}}
	if r, err = k.c.BuyReturnLabel(ctx, r.Number, by); err != nil {
		return err
	}
	k.check(r.Label != nil && r.Label.State == "bought" && r.Tracking == r.Label.Tracking, "a label for the buyer: %s, %s", r.Tracking,
		eur(r.Label.Price))
	pdf, err := k.c.PDF(ctx, "/returns/"+r.Number+"/label.pdf")
	if err != nil {
		return err
	}
	k.check(len(pdf) > 1000, "it is handed out as PDF, %d bytes", len(pdf))
	if r, err = k.c.VoidReturnLabel(ctx, r.Number); err != nil {
		return err
	}
	k.check(r.Label.State == "voided", "the buyer keeps it after all: the label is %s", r.Label.State)
	_, err = k.c.CallOffReturn(ctx, r.Number)
	return err
}
