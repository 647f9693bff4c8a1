package main

import (
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/demo"
	"openrelay/internal/relay/printing"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// labelCarriers are the carriers over which labels are bought: the word by which the table of services sends a delivery to one, and how
// many calls a second each of them allows.
var labelCarriers = []struct {
	word, service string
	perSecond     float64
}{{"post", "plover/PP", 30}, {"rail", "ironway/IR", 15}, {"van", "heron/SH-ECO", 25}}

// labels buys many labels over three carriers as one job, measures the prices of three carriers for one parcel, also with one that
// hangs, and how long it takes until an event on a parcel's way stands at the channel.
func (b *bench) labels() error {
	w, err := demo.Open(b.ctx, demo.Options{Addrs: demo.FreePorts, File: filepath.Join(b.dir, "labels.relay")})
	if err != nil {
		return err
	}
	defer w.Close()
	parcels, err := b.packMany(w, b.of(500, 6))
	if err != nil {
		return err
	}
	if err := b.ratesOfThree(w, parcels[0]); err != nil {
		return err
	}
	if err := b.buyMany(w, parcels); err != nil {
		return err
	}
	return b.followed(w, b.of(60, 3))
}

// packMany joins the other carriers, says by which service parcels go, and packs orders whose deliveries take turns.
func (b *bench) packMany(w *demo.World, n int) (parcels []string, err error) {
	for _, join := range []func() error{func() error { return w.JoinIronway(b.ctx) }, func() error { return w.JoinHeron(b.ctx) }} {
		if err := join(); err != nil {
			return nil, err
		}
	}
	if err := b.until(20*time.Second, "what the carriers sell", func() (bool, error) {
		t, err := w.Client.Services(b.ctx)
		return len(t.Sold) >= 6, err
	}); err != nil {
		return nil, err
	}
	var rows []freight.Choice
	for _, c := range labelCarriers {
		rows = append(rows, freight.Choice{Word: c.word, Service: c.service})
	}
	if _, err := w.Client.PutServices(b.ctx, rows); err != nil {
		return nil, err
	}
	w.Morrow.Put(standin.ShopItem{SKU: "JAR-500-T12", Title: "Glass jars 500 g, tray of 12", Quantity: int64(n) + 50})
	if _, err := w.Client.Adjust(b.ctx, "JAR-500-T12", "alder", int64(n), "for the bench"); err != nil {
		return nil, err
	}
	names := make([]string, n)
	for i := range names {
		if _, names[i], err = w.Morrow.Place(trayTo(labelCarriers[i%len(labelCarriers)].word)); err != nil {
			return nil, err
		}
	}
	for _, name := range names {
		if err := b.until(60*time.Second, "order "+name, func() (bool, error) {
			o, err := w.Client.Order(b.ctx, name)
			return err == nil && o.Stage == "ready", nil
		}); err != nil {
			return nil, err
		}
		v, err := w.PackOne(b.ctx, name)
		if err != nil {
			return nil, err
		}
		parcels = append(parcels, v.Number)
	}
	return parcels, nil
}

// trayTo is a sale of a tray of jars whose buyer was promised a delivery.
func trayTo(word string) standin.Sale {
	to := standin.Delivery{
		Name:     "Maren Tolland",
		Street:   "Lindenrow 14",
		Postcode: "41360",
		Town:     "Harrowmere",
		Country:  "XW",
		Method:   word,
	}
	return standin.Sale{Customer: "Maren Tolland", Email: "maren.tolland@example.test", Shipping: 490, Delivery: to,
		Lines: []standin.SaleLine{{SKU: "JAR-500-T12", Qty: 1}}}
}

// ratesOfThree measures the prices of all carriers for one parcel against the slowest of them, and with one that hangs.
func (b *bench) ratesOfThree(w *demo.World, parcel string) error {
	const slow = 150 * time.Millisecond
	faults := standin.Faults{HangMS: int(slow.Milliseconds())}
	w.Plover.Misbehave(faults)
	w.Ironway.Misbehave(faults)
	w.Heron.Misbehave(faults)
	var took []time.Duration
	for range b.of(20, 2) {
		begin := time.Now()
		if _, err := w.Client.Rates(b.ctx, parcel); err != nil {
			return err
		}
		took = append(took, time.Since(begin))
	}
	slices.Sort(took)
	median := took[len(took)/2].Seconds()
	ratio := median / slow.Seconds()
	b.add("prices of three carriers that answer in 150 ms each, against one such answer (median)", ratio, "", 0, "1.1 or less",
		ratio <= 1.1)
	w.Ironway.Misbehave(standin.Faults{})
	w.Plover.Misbehave(standin.Faults{})
	w.Heron.Misbehave(standin.Faults{HangMS: 10_000})
	begin := time.Now()
	_, err := w.Client.Rates(b.ctx, parcel)
	hung := time.Since(begin).Seconds()
	w.Heron.Misbehave(standin.Faults{})
	b.add("prices of three carriers, one of which hangs", hung, "s", 0, "1.5 s or less", hung <= 1.5)
	return err
}

// buyMany buys the labels of parcels as one job, and holds the time against what the carriers' own limits force: each parcel costs its
// carrier two calls, for the price and for the label.
func (b *bench) buyMany(w *demo.World, parcels []string) error {
	time.Sleep(time.Second) // the limits of the carriers are fresh again
	calls := make([]float64, len(labelCarriers))
	for i := range parcels {
		calls[i%len(calls)] += 2
	}
	forced := 0.0
	for i, c := range labelCarriers {
		forced = max(forced, (calls[i]-c.perSecond)/c.perSecond)
	}
	if _, err := client.PutRows(b.ctx, w.Client, "/printers", []printing.Printer{{Code: "bench", Name: "Bench", Place: "alder",
		Address: w.PrinterAddress(), Papers: []string{printing.Label}, Auto: true}}); err != nil {
		return err
	}
	begin := time.Now()
	d, err := w.Client.ActOnParcels(b.ctx, shipping.ShipParcels, parcels...)
	if err != nil {
		return err
	}
	if d, err = w.Client.ActionDone(b.ctx, d, nil); err != nil {
		return err
	}
	took := time.Since(begin).Seconds()
	for _, x := range d.Results {
		if !x.OK {
			return fmt.Errorf("parcel %s: %s", x.Number, x.Text)
		}
	}
	if err := b.until(2*time.Minute, "all labels in the printer's tray", func() (bool, error) {
		return w.Printer.Printed() >= len(parcels), nil
	}); err != nil {
		return err
	}
	behind := time.Since(begin).Seconds() - took
	b.add("the last of them out of the printer after all were bought", behind, "s", 0, "2 s or less", behind <= 2)
	if n := w.Printer.Printed(); n != len(parcels) {
		return fmt.Errorf("%d labels were bought, and %d came out of the printer", len(parcels), n)
	}
	b.add(fmt.Sprintf("%d labels over three carriers as one job", len(parcels)), took, "s", 0, "", true)
	if forced > 1 {
		b.add("that, against what the carriers' own limits force", took/forced, "", 0, "1.2 or less", took/forced <= 1.2)
	}
	sheet := time.Now()
	if _, err := w.Client.PDF(b.ctx, "/labels.pdf?parcels="+parcels[0]+"&size=a4"); err != nil {
		return err
	}
	b.add("a sheet with a label, drawn", milliseconds(time.Since(sheet)), "ms", 0, "", true)
	return nil
}

// followed moves parcels on and waits until their order, and the page of the channel on which the buyer looks, say so.
func (b *bench) followed(w *demo.World, n int) error {
	list, err := w.Client.Parcels(b.ctx, fmt.Sprintf("state=shipped&limit=%d", 3*n))
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(p wire.Parcel) bool { return p.CarrierCode != "plover" })
	if err := w.SwitchOn(b.ctx, "morrow", message.StatesOut); err != nil {
		return err
	}
	var took []time.Duration
	for _, p := range list[:min(n, len(list))] {
		begin := time.Now()
		if err := w.Plover.Scan(p.Tracking); err != nil {
			return err
		}
		if err := b.until(10*time.Second, "the channel to show it", func() (bool, error) {
			return w.Morrow.Whereabouts(p.Tracking) == "accepted", nil
		}); err != nil {
			return err
		}
		took = append(took, time.Since(begin))
	}
	slices.Sort(took)
	median := took[len(took)/2].Seconds()
	b.add("an event on a parcel's way → order, channel and the page where its buyer looks (median)", median, "s", 0, "0.2 s or less",
		median <= 0.2)
	return nil
}
