package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/customs"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/printing"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// carrierStories says what was agreed with the carrier, lets parcels leave their usual way, and hands its bill in.
func (w *seeding) carrierStories(ctx context.Context) error {
	if err := errors.Join(w.agree(ctx), w.charge(ctx), w.print(ctx)); err != nil {
		return err
	}
	sent, err := client.List[wire.Parcel](ctx, w.c, "/parcels?state=shipped&limit=50")
	if err != nil {
		return err
	}
	sent = slices.DeleteFunc(sent, func(p wire.Parcel) bool { return p.CarrierCode != "plover" || p.ScannedAt == nil })
	if len(sent) < 3 {
		return nil
	}
	for i, as := range []string{standin.NotIn, standin.GoneLost, standin.GoingBack} {
		if err := w.Plover.ScanAs(sent[i].Tracking, as); err != nil {
			return err
		}
	}
	for i, journey := range []string{"failed", "lost", "returning"} {
		if err := w.Wait(ctx, 10*time.Second, "a parcel that is "+journey, func() (bool, error) {
			p, err := w.c.Parcel(ctx, sent[i].Number)
			return p.Journey == journey, err
		}); err != nil {
			return err
		}
	}
	if _, err := w.c.PutClaim(ctx, sent[1].Number, shipping.Claim{State: "sent", Amount: 4990, Note: "PV-CL-118, glass jars"}); err != nil {
		return err
	}
	return w.bill(ctx)
}

// agree says when Plover Post comes, who pays it for one customer, where one sender's parcels come back, and how they are declared.
func (w *seeding) agree(ctx context.Context) error {
	evening := []string{"16:30-18:00", "16:30-18:00", "16:30-18:00", "16:30-18:00", "16:30-18:00", "11:00-12:00", ""}
	rows := []freight.Collection{{Carrier: "plover", Place: "alder", Hours: place.Hours{Week: evening, Cutoff: "16:00",
		DaysOff: []place.DayOff{{From: "2026-12-25", To: "2026-12-26", Why: "Midwinter"}}}},
		{Carrier: "plover", Place: "pier", Hours: place.Hours{Week: evening, Cutoff: "15:00"}}}
	if _, err := client.PutRows(ctx, w.c, "/collections", rows); err != nil {
		return err
	}
	if _, err := client.PutRows(ctx, w.c, "/billing-accounts", []freight.Account{{Code: "bee-school", Carrier: "plover", Number: "418077",
		Payer: freight.Third, Name: "Westmark bee school", Customer: "@beeschool.example", Postcode: "41360", Country: "XW"}}); err != nil {
		return err
	}
	back := place.Address{Name: "Little Skep", Street: "Mill Lane 12", Postcode: "41360", Town: "Harrowmere", Country: "XW"}
	if _, err := client.PutRows(ctx, w.c, "/sender-addresses", []place.SenderAddress{{Sender: "skep", ReturnTo: back}}); err != nil {
		return err
	}
	_, err := client.PutRows(ctx, w.c, "/declarants", []customs.Declarant{{Number: "XW 407 118 220", Reason: "sale", Terms: "DAP",
		Signer: "Edda Morrow"}})
	return err
}

// charge says what is charged for parcels, against what carriers ask.
func (w *seeding) charge(ctx context.Context) error {
	_, err := client.PutRows(ctx, w.c, "/freight-rules", []freight.ChargeRule{
		{Name: "Bee schools pay nothing", When: `email.endsWith("@beeschool.example")`, Do: "waive"},
		{Name: "Abroad, with the papers", When: `country != "XW"`, Do: "mark up", Permille: 120},
		{Name: "Letters at one price", Service: "plover/PL", Do: "fix", Amount: 350, Currency: "EUR"},
		{Name: "Carton and filling", Do: "add", Amount: 60, Currency: "EUR"}})
	return err
}

// print sets the printer at the bench of Alder Yard up, and prints the labels of the parcels that left last.
func (w *seeding) print(ctx context.Context) error {
	if _, err := client.PutRows(ctx, w.c, "/printers", []printing.Printer{{Code: "bench", Name: "Bench at Alder Yard", Place: "alder",
		Address: w.PrinterAddress(), Papers: []string{printing.Label, printing.Slip}, Auto: true}}); err != nil {
		return err
	}
	left, err := client.List[wire.Parcel](ctx, w.c, "/parcels?state=shipped&limit=50")
	if err != nil {
		return err
	}
	left = slices.DeleteFunc(left, func(p wire.Parcel) bool { return p.CarrierCode != "plover" || p.Location != "Alder Yard" })
	for _, p := range left[:min(4, len(left))] {
		if _, err := w.c.Print(ctx, client.Paper{Kind: printing.Label, Numbers: []string{p.Number}}); err != nil {
			return err
		}
	}
	return nil
}

// bill hands in what Plover Post bills: one parcel by another weight, one with a surcharge, and one that is nobody's.
func (w *seeding) bill(ctx context.Context) error {
	gone, err := client.List[wire.Parcel](ctx, w.c, "/parcels?state=shipped,delivered&limit=100")
	if err != nil {
		return err
	}
	var text strings.Builder
	text.WriteString("bill,number,amount,what,weight_kg\n")
	n := 0
	for _, p := range gone {
		if p.CarrierCode != "plover" {
			continue
		}
		amount, weight, more := p.Price, p.WeightG, ""
		switch n++; n {
		case 2:
			amount, weight = amount+149, weight+1900
		case 5:
			more = fmt.Sprintf("PB-2026-11,%s,3.50,address corrected,\n", p.Tracking)
		}
		fmt.Fprintf(&text, "PB-2026-11,%s,%d.%02d,,%d.%03d\n%s", p.Tracking, amount/100, amount%100, weight/1000, weight%1000, more)
	}
	text.WriteString("PB-2026-11,CP407999990XW,4.47,,1.200\n")
	s, err := w.c.HandIn(ctx, "bills", "plover-2026-11.csv", strings.NewReader(text.String()))
	if err != nil {
		return err
	}
	_, err = w.c.ApplySheet(ctx, s.ID)
	return err
}
