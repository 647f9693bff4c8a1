package main

import (
	"bytes"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/demo"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/listing"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// stocked makes a file with many items, each listed on six channels that are told quantities, and a ledger of
// so many movements on top, a tenth of them on one item. It returns the relay of the file, which sends nothing.
func (b *bench) stocked(name string, items, movements int) (*relay.Relay, *store.Store, error) {
	file := filepath.Join(b.dir, name)
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return nil, nil, err
	}
	now := time.Now()
	if err := st.Write(b.ctx, func(t *store.Tx) error {
		if _, err := t.AddLocation(store.Location{Code: "alder", Name: "Alder Yard"}); err != nil {
			return err
		}
		for i := range 6 {
			id, err := t.AddConnection(store.Connection{Code: fmt.Sprintf("shop-%d", i), Connector: "hedgerow", Side: "channel",
				Name: fmt.Sprintf("Shop %d", i), State: store.On, Settings: `{"offer":{"sources":[1],"buffer":1}}`,
				BeganAt: now.UnixMicro()})
			if err != nil {
				return err
			}
			if _, err := t.AddFeed(store.Feed{ConnectionID: id, Kind: message.StockOut, On: true}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return nil, nil, err
	}
	if err := st.Close(); err != nil {
		return nil, nil, err
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)")
	if err != nil {
		return nil, nil, err
	}
	begin := now.AddDate(0, 0, -80).UnixMicro()
	step := (now.Add(-time.Hour).UnixMicro() - begin) / int64(max(movements+items, 1))
	for _, q := range []string{
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n
			WHERE i<%d) INSERT INTO item (id, sku, normal_sku, name, price, currency) SELECT i, 'SKU-'||i, 'SKU'||i,
			'Item '||i, 1290, 'EUR' FROM n`, items),
		`INSERT INTO listing (id, connection_id, outside_id, sku, title, price, currency, item_id, matched_by, told_qty,
			told_at, state) SELECT (c.id-1)*` + fmt.Sprint(items) + `+i.id, c.id, 'i'||i.id, i.sku, i.name, 1290, 'EUR', i.id,
				'same SKU', 999, 1, 'live' FROM connection c, item i`,
		// each item gets an opening count, then the others follow in turn; the first item gets every tenth
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n
			WHERE i<%d) INSERT INTO movement (id, item_id, location_id, at, kind, on_hand, allocated, reason, who, doc_kind, doc_id, bin)
			SELECT i, CASE WHEN i<=%d THEN i WHEN i%%10=0 THEN 1 ELSE 1+i%%%d END, 1, %d+i*%d, CASE WHEN i<=%d THEN 'count'
			ELSE 'adjust' END, CASE WHEN i<=%d THEN 1000000 ELSE CASE i%%2 WHEN 0 THEN 1 ELSE -1 END END, 0, 'made up',
			'bench', 'hand', 0, '' FROM n`,
			movements+items, items, items, begin, step, items, items),
		`UPDATE movement SET after_on_hand = s.h FROM (SELECT id, sum(on_hand) OVER (PARTITION BY item_id ORDER BY id) AS h
			FROM movement) s WHERE s.id = movement.id`,
		`INSERT INTO level (item_id, location_id, on_hand) SELECT item_id, 1, sum(on_hand) FROM movement GROUP BY item_id`,
		`INSERT INTO bin_level (item_id, location_id, bin, on_hand) SELECT item_id, 1, '', on_hand FROM level WHERE on_hand<>0`,
		`ANALYZE`,
	} {
		if _, err := db.ExecContext(b.ctx, q); err != nil {
			return nil, nil, fmt.Errorf("%.60s: %w", q, err)
		}
	}
	if err := db.Close(); err != nil {
		return nil, nil, err
	}
	if st, err = store.Open(b.ctx, file); err != nil {
		return nil, nil, err
	}
	r, err := relay.Open(b.ctx, st, engine.Options{Reach: connector.Loopback})
	return r, st, err
}

func median(list []time.Duration) float64 {
	slices.Sort(list)
	return list[len(list)/2].Seconds() * 1000
}

// recalculate measures one movement with the six quantities that follow from it, committed, beside the same
// movement of an item that no channel lists.
func (b *bench) recalculate(r *relay.Relay, st *store.Store, items int) (with, without float64, err error) {
	if err := st.Write(b.ctx, func(t *store.Tx) error { return nil }); err != nil {
		return 0, 0, err
	}
	if err := r.AddItems(b.ctx, []listing.Opening{{Item: demoItem("UNLISTED"), Counts: map[int64]int64{1: 1000}}}, "bench"); err != nil {
		return 0, 0, err
	}
	rng := rand.New(rand.NewPCG(1, 2))
	var a, c []time.Duration
	for range b.of(300, 5) {
		for _, one := range []struct {
			sku string
			to  *[]time.Duration
		}{{fmt.Sprintf("SKU-%d", 1+rng.IntN(items)), &a}, {"UNLISTED", &c}} {
			begin := time.Now()
			if err := r.Adjust(b.ctx, inventory.Adjustment{SKU: one.sku, Location: "alder", Change: 1, Reason: "found"},
				"bench"); err != nil {
				return 0, 0, err
			}
			*one.to = append(*one.to, time.Since(begin))
		}
	}
	return median(a), median(c), nil
}

// offers compares the cost of one movement at two sizes.
func (b *bench) offers(large int) error {
	r, st, err := b.stocked("small.relay", b.of(2_000, 50), 0)
	if err != nil {
		return err
	}
	small, bare, err := b.recalculate(r, st, b.of(2_000, 50))
	if err != nil {
		return err
	}
	r.Stop()
	if err := st.Close(); err != nil {
		return err
	}
	b.add("movement with its six offers, committed, 2,000 items (beside: without offers)", small, "ms", bare, "", true)
	base := small - bare
	b.add("  the offers alone", max(0, base), "ms", 0, "2 ms", base < 2)
	if large == 0 {
		return nil
	}
	if r, st, err = b.stocked("large.relay", large, 0); err != nil {
		return err
	}
	big, bare, err := b.recalculate(r, st, large)
	if err != nil {
		return err
	}
	r.Stop()
	if err := st.Close(); err != nil {
		return err
	}
	b.add(fmt.Sprintf("movement with its six offers, committed, %d items (beside: without offers)", large), big, "ms", bare, "", true)
	b.add("  the offers alone, against 2,000 items", max(0, big-bare), "ms", max(0, base), "2 ms, factor 2", big-bare < 2 &&
		big-bare <= 2*base)
	return nil
}

// ledger measures levels and explanations on a file with many movements, now and in the past.
func (b *bench) ledger(items, movements int) error {
	r, st, err := b.stocked("ledger.relay", items, movements)
	if err != nil {
		return err
	}
	defer st.Close()
	defer r.Stop()
	rng := rand.New(rand.NewPCG(3, 4))
	var level, why, past, hot []time.Duration
	timed := func(to *[]time.Duration, f func() error) error {
		begin := time.Now()
		err := f()
		*to = append(*to, time.Since(begin))
		return err
	}
	for range b.of(200, 5) {
		sku := fmt.Sprintf("SKU-%d", 1+rng.IntN(items))
		at := time.Now().Add(-time.Duration(rng.IntN(79*24)) * time.Hour)
		if err := errors.Join(
			timed(&level, func() error { _, err := r.WhyLevel(b.ctx, sku, 0, time.Time{}); return err }),
			timed(&why, func() error { _, err := r.WhyOffer(b.ctx, "shop-1", sku, time.Time{}); return err }),
			timed(&past, func() error { _, err := r.WhyOffer(b.ctx, "shop-1", sku, at); return err }),
			timed(&hot, func() error { _, err := r.WhyOffer(b.ctx, "shop-1", "SKU-1", at); return err }),
		); err != nil {
			return err
		}
	}
	for _, f := range []struct {
		name string
		list []time.Duration
	}{{"level of an item with its ledger", level}, {"why this number", why}, {"why this number, at a moment of the last 80 days",
		past}, {fmt.Sprintf("the same of an item with %d movements", movements/10), hot}} {
		ms := median(f.list)
		b.add(fmt.Sprintf("%s, %d movements", f.name, movements), ms, "ms", 0, "20 ms", ms < 20)
	}
	return nil
}

// delivery receives 5,000 lines at once, and waits until both stores show all new quantities.
func (b *bench) delivery() error {
	lines := b.of(5_000, 120)
	w, err := demo.Open(b.ctx, demo.Options{Addrs: demo.FreePorts, File: filepath.Join(b.dir, "delivery.relay")})
	if err != nil {
		return err
	}
	defer w.Close()
	var items, purchase, receipt strings.Builder
	items.WriteString("sku,name,price\n")
	purchase.WriteString("number,supplier,location,sku,quantity\n")
	receipt.WriteString("number,sku,quantity\n")
	var goods []standin.ShopItem
	for i := range lines {
		sku := fmt.Sprintf("PART-%04d", i)
		fmt.Fprintf(&items, "%s,Part %d,1.90\n", sku, i)
		fmt.Fprintf(&purchase, "PO-BIG,Copperlatch Works,alder,%s,%d\n", sku, 10+i%7)
		fmt.Fprintf(&receipt, "PO-BIG,%s,%d\n", sku, 10+i%7)
		goods = append(goods, standin.ShopItem{SKU: sku, Title: fmt.Sprintf("Part %d", i), Price: 190, Quantity: 3})
	}
	w.Morrow.Put(goods...)
	w.Skep.Put(goods...)
	do := func(kind, text string) (time.Duration, error) {
		begin := time.Now()
		s, err := w.Client.HandIn(b.ctx, kind, kind+".csv", strings.NewReader(text))
		if err == nil {
			s, err = w.Client.ApplySheet(b.ctx, s.ID)
		}
		if err == nil && int(s.Done) != lines {
			err = fmt.Errorf("%s: %d of %d rows carried out: %s", kind, s.Done, lines, s.Error)
		}
		return time.Since(begin), err
	}
	took, err := do("items", items.String())
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
	if _, err := do("purchases", purchase.String()); err != nil {
		return err
	}
	s, err := w.Client.HandIn(b.ctx, "receipts", "receipts.csv", strings.NewReader(receipt.String()))
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

// oversell lets six channels sell the last 50 units of 20 items at once, 200 orders a second, each channel
// telling us of a sale only after a while of its own, and counts what cannot be met, beside what a relay
// without any delay of its own could not have met either.
func (b *bench) oversell() error {
	items, units, rate := b.of(20, 2), b.of(50, 5), b.of(200, 50)
	const told = 150 * time.Millisecond // how late the channels tell of a sale
	for _, c := range []struct {
		name   string
		policy stock.Policy
	}{{"no buffer", stock.Policy{}}, {"buffer of 1", stock.Policy{Buffer: 1}}, {"buffer of 5%", stock.Policy{BufferPercent: 5}}} {
		over, best, sold, err := b.rush(items, units, rate, told, c.policy)
		if err != nil {
			return err
		}
		b.add(fmt.Sprintf("oversold of %d units on 6 channels at %d orders/s, %s (beside: the least possible)", items*units, rate,
			c.name), float64(over), "orders", float64(best), "", over <= best*2+10)
		fmt.Printf("  %d sold\n", sold)
	}
	return nil
}

func (b *bench) rush(items, units, rate int, told time.Duration, policy stock.Policy) (over, best, sold int, err error) {
	w, err := demo.Open(b.ctx,
		demo.Options{Addrs: demo.FreePorts,
			File: filepath.Join(b.dir, fmt.Sprintf("rush-%d-%d.relay", policy.Buffer, policy.BufferPercent))})
	if err != nil {
		return 0, 0, 0, err
	}
	defer w.Close()
	var skus []string
	var goods []standin.ShopItem
	var text bytes.Buffer
	text.WriteString("sku,name,price\n")
	for i := range items {
		skus = append(skus, fmt.Sprintf("RUSH-%02d", i))
		fmt.Fprintf(&text, "%s,Rush %d,9.90\n", skus[i], i)
		goods = append(goods, standin.ShopItem{SKU: skus[i], Title: fmt.Sprintf("Rush %d", i), Price: 990})
	}
	s, err := w.Client.HandIn(b.ctx, "items", "items.csv", &text)
	if err == nil {
		_, err = w.Client.ApplySheet(b.ctx, s.ID)
	}
	if err != nil {
		return 0, 0, 0, err
	}
	shops := []*standin.Hedgerow{w.Morrow, w.Skep}
	for i := range 4 {
		h := standin.NewHedgerow(standin.ShopConfig{Name: fmt.Sprintf("Rush %d", i), Number: fmt.Sprintf("H-9%d", i), Country: "XW",
			Currency: "EUR", OrderPrefix: fmt.Sprintf("R%d", i), Token: fmt.Sprintf("hr_rush_%d_token_of_the_bench", i),
			PushSecret: fmt.Sprintf("rush-%d-push-secret-of-bench", i)})
		defer h.Stop()
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return 0, 0, 0, err
		}
		server := &http.Server{Handler: h, ReadHeaderTimeout: time.Second}
		go server.Serve(l)
		defer server.Close()
		code := fmt.Sprintf("rush-%d", i)
		if err := w.Join(b.ctx, "hedgerow", code, code); err != nil {
			return 0, 0, 0, err
		}
		h.Put(goods...)
		t, err := w.Client.TestAccess(b.ctx, code, joining.Access{Address: "http://" + l.Addr().String(),
			Secrets: map[string]string{"token": fmt.Sprintf("hr_rush_%d_token_of_the_bench", i),
				"push_secret": fmt.Sprintf("rush-%d-push-secret-of-bench", i)}})
		if err != nil || !t.LetIn {
			return 0, 0, 0, fmt.Errorf("%s: %s %w", code, t.Text, err)
		}
		if _, err := w.Finish(b.ctx, code, t.Identity.Number, demo.Joining{Sources: []string{"alder"}, Stock: true}); err != nil {
			return 0, 0, 0, err
		}
		h.SetHook(w.URL + "/in/" + code)
		shops = append(shops, h)
	}
	w.Morrow.Put(goods...)
	w.Skep.Put(goods...)
	conns, err := w.Client.Connections(b.ctx)
	if err != nil {
		return 0, 0, 0, err
	}
	for _, x := range conns {
		if x.Side != "channel" {
			continue
		}
		set := x.Settings
		set.Offer.Buffer, set.Offer.BufferPercent, set.Offer.Floor = policy.Buffer, policy.BufferPercent, 0
		set.Offer.Sources = set.Offer.Sources[:1]
		if _, err := w.Client.SetSettings(b.ctx, x.Code, set, x.Revision); err != nil {
			return 0, 0, 0, err
		}
		if _, err := w.Client.RunNow(b.ctx, x.Code, message.ListingsIn, ""); err != nil {
			return 0, 0, 0, err
		}
	}
	for _, sku := range skus {
		if _, err := w.Client.Adjust(b.ctx, sku, "alder", int64(units), "receipt", client.Key("rush "+sku)); err != nil {
			return 0, 0, 0, err
		}
	}
	policy.Sources = []int64{1}
	offer := func(left int64) int64 {
		return policy.Offer(stock.One(1), func(stock.Key) stock.Level { return stock.Level{OnHand: left} })
	}
	if err := b.until(20*time.Second, "all six to show the units", func() (bool, error) {
		for _, h := range shops {
			shelf := h.Shelf()
			for _, sku := range skus {
				if shelf[sku] != offer(int64(units)) {
					return false, nil
				}
			}
		}
		return true, nil
	}); err != nil {
		return 0, 0, 0, err
	}
	for _, h := range shops {
		h.Misbehave(standin.Faults{PushLateMS: int(told / time.Millisecond)})
	}
	// The same attempts for the relay and for the one without delays.
	type attempt struct {
		at         time.Duration
		shop, item int
	}
	rng := rand.New(rand.NewPCG(11, 13))
	var plan []attempt
	for i := range rate * b.of(14, 1) {
		plan = append(plan, attempt{time.Duration(i) * time.Second / time.Duration(rate), rng.IntN(len(shops)), rng.IntN(items)})
	}
	begin := time.Now()
	count := make([]int, items)
	for _, a := range plan {
		if wait := a.at - time.Since(begin); wait > 0 {
			time.Sleep(wait)
		}
		sale := standin.Sale{Customer: "Ilka Fenn", Lines: []standin.SaleLine{{SKU: skus[a.item], Qty: 1}},
			Delivery: standin.Delivery{Name: "Ilka Fenn", Street: "Heron Lane 1", Postcode: "41360", Town: "Harrowmere", Country: "XW",
				Method: "standard"}}
		if _, _, err := shops[a.shop].Place(sale); err == nil {
			count[a.item]++
		}
	}
	for _, n := range count {
		sold += n
		over += max(0, n-units)
	}
	// Without a delay of its own: a sale is known after the channel's delay, and everywhere at once.
	shows := make([][]int64, len(shops))
	for i := range shows {
		shows[i] = make([]int64, items)
		for k := range shows[i] {
			shows[i][k] = offer(int64(units))
		}
	}
	left := make([]int64, items)
	ideal := make([]int, items)
	for k := range left {
		left[k] = int64(units)
	}
	type word struct {
		at   time.Duration
		item int
	}
	var words []word
	for _, a := range plan {
		for len(words) > 0 && words[0].at <= a.at {
			k := words[0].item
			words = words[1:]
			left[k]--
			for i := range shows {
				shows[i][k] = offer(left[k])
			}
		}
		if shows[a.shop][a.item] > 0 {
			shows[a.shop][a.item]--
			ideal[a.item]++
			words = append(words, word{a.at + told, a.item})
		}
	}
	for _, n := range ideal {
		best += max(0, n-units)
	}
	return over, best, sold, nil
}

func demoItem(sku string) catalog.Item {
	return catalog.Item{SKU: sku, Name: sku, Kind: catalog.Stocked, Currency: "EUR"}
}
