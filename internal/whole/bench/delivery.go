package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/demo"
	"openrelay/internal/standin"
)

// delivery receives 5,000 lines at once, and waits until both stores show all new quantities.
func (b *bench) delivery() error {
	lines := b.of(5_000, 120)
	w, err := demo.Open(b.ctx, demo.Options{Addrs: demo.FreePorts, File: filepath.Join(b.dir, "delivery.relay")})
	if err != nil {
		return err
	}
	defer w.Close()
	v := newDelivery(lines)
	w.Morrow.Put(v.goods...)
	w.Skep.Put(v.goods...)
	took, err := v.handIn(b.ctx, w, "items", v.items.String())
	if err != nil {
		return err
	}
	b.add("items by CSV: looked at and added", float64(lines)/took.Seconds(), "rows/s", 0, "", true)
	for _, code := range []string{"morrow", "skep"} {
		if _, err := w.Client.RunNow(b.ctx, code, message.ListingsIn, ""); err != nil {
			return err
		}
	}
	if err := w.Wait(b.ctx, 90*time.Second, "all listings to be told", func() (bool, error) {
		n, err := w.Store.CountTold(b.ctx)
		if err != nil || n < 2*lines {
			return false, err
		}
		return w.Quiet(b.ctx)
	}); err != nil {
		return err
	}
	if _, err := v.handIn(b.ctx, w, "purchases", v.purchase.String()); err != nil {
		return err
	}
	s, err := w.Client.HandIn(b.ctx, "receipts", "receipts.csv", strings.NewReader(v.receipt.String()))
	if err != nil {
		return err
	}
	begin := time.Now()
	if s, err = w.Client.ApplySheet(b.ctx, s.ID); err != nil || int(s.Done) != lines {
		return fmt.Errorf("receipt: %d rows, %s: %w", s.Done, s.Error, err)
	}
	booked := time.Since(begin)
	if err := b.until(60*time.Second, "both stores to show the delivery", func() (bool, error) {
		m, k := w.Morrow.Shelf(), w.Skep.Shelf()
		for i := range lines {
			sku := fmt.Sprintf("PART-%04d", i)
			if m[sku] != int64(10+i%7) || k[sku] != int64(10+i%7-2) {
				return false, nil
			}
		}
		return true, nil
	}); err != nil {
		return err
	}
	all := time.Since(begin).Seconds()
	// Batches of 50, 40 requests a second after a burst of 40: what the stores' own limits force.
	forced := max(0, float64(lines/50-40)/40)
	b.add("delivery of 5,000 lines: booked", booked.Seconds(), "s", 0, "", true)
	b.add("  until both stores show all of it, against what their limits force", all, "s", forced, "", true)
	return nil
}

// aDelivery is goods of many items that are ordered and come together.
type aDelivery struct {
	lines                    int
	items, purchase, receipt strings.Builder // tables
	goods                    []standin.ShopItem
}

func newDelivery(lines int) *aDelivery {
	v := &aDelivery{lines: lines}
	v.items.WriteString("sku,name,price\n")
	v.purchase.WriteString("number,supplier,location,sku,quantity\n")
	v.receipt.WriteString("number,sku,quantity\n")
	for i := range lines {
		sku := fmt.Sprintf("PART-%04d", i)
		fmt.Fprintf(&v.items, "%s,Part %d,1.90\n", sku, i)
		fmt.Fprintf(&v.purchase, "PO-BIG,Copperlatch Works,alder,%s,%d\n", sku, 10+i%7)
		fmt.Fprintf(&v.receipt, "PO-BIG,%s,%d\n", sku, 10+i%7)
		v.goods = append(v.goods, standin.ShopItem{SKU: sku, Title: fmt.Sprintf("Part %d", i), Price: 190, Quantity: 3})
	}
	return v
}

// handIn hands a table in and carries it out, and tells how long that took.
func (v *aDelivery) handIn(ctx context.Context, w *demo.World, kind, text string) (time.Duration, error) {
	begin := time.Now()
	s, err := w.Client.HandIn(ctx, kind, kind+".csv", strings.NewReader(text))
	if err == nil {
		s, err = w.Client.ApplySheet(ctx, s.ID)
	}
	if err == nil && int(s.Done) != v.lines {
		err = fmt.Errorf("%s: %d of %d rows carried out: %s", kind, s.Done, v.lines, s.Error)
	}
	return time.Since(begin), err
}
