package main

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// orders measures the mixed day and the rehearsal.
func (b *bench) orders(binary string) error {
	if err := b.rehearsal(b.of(100_000, 10_000)); err != nil {
		return err
	}
	return b.mixedDay(binary, b.of(50_000, 800))
}

// runOrders measures those alone.
func (b *bench) runOrders(binary string) error {
	if err := b.begin(); err != nil {
		return err
	}
	if err := b.start(binary); err != nil {
		return err
	}
	return b.orders(binary)
}

// rehearsal goes through past orders with a rule that looks at money, a place and the goods. It watches how much
// memory the service would hold for it: the same for ten times as many orders.
func (b *bench) rehearsal(n int) error {
	file := filepath.Join(b.dir, "rehearsal.relay")
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return err
	}
	defer st.Close()
	rng := rand.New(rand.NewPCG(1, 5))
	for at := 0; at < n; at += 1000 {
		facts, ids := map[int64]*rules.Facts{}, []int64{}
		for i := range 1000 {
			id := int64(at + i + 1)
			ids = append(ids, id)
			facts[id] = &rules.Facts{Channel: []string{"morrow", "skep", "tansy"}[rng.IntN(3)],
				State: "confirmed", Kind: "ship", FulfilledBy: "us", Service: []string{"standard", "express"}[rng.IntN(2)],
				Payment: "card", Currency: "EUR",
				Country: []string{"XW", "XW", "XW", "XE"}[rng.IntN(4)], Postcode: fmt.Sprint(10000 + rng.IntN(80000)), Town: "Harrowmere",
				Buyer: "Maren Tolland", Email: "maren.tolland@example.test", Via: "push",
				Total: int64(rng.IntN(90000)), Goods: int64(rng.IntN(90000)), Shipping: 490, Weight: int64(rng.IntN(20000)), Units: 4,
				Lines: 3, Paid: true,
				SKUs:       []string{skus[rng.IntN(len(skus))], skus[rng.IntN(len(skus))]},
				Categories: []string{[]string{"Jars", "Tools", "Protection"}[rng.IntN(3)]}, Marks: []string{"shop"}}
		}
		if err := st.Write(b.ctx, func(t *store.Tx) error { return t.PutFacts(facts, ids) }); err != nil {
			return err
		}
	}
	r, err := relay.Open(b.ctx, st, engine.Options{Reach: connector.Loopback})
	if err != nil {
		return err
	}
	defer r.Stop()
	for _, x := range []orders.RuleChange{{Name: "One", On: true, When: `country == "XE"`, Then: `tag("export")`},
		{Name: "Two", On: true, When: `total > 60000`, Then: `tag("large")`}} {
		if _, err := r.PutRule(b.ctx, x, "bench"); err != nil {
			return err
		}
	}
	rule := orders.RuleChange{Name: "New", On: true, When: `country == "XE" && weight > 5000 && "Jars" in categories`,
		Then: `hold("look"), tag("heavy")`}
	most := func(orders int64) (rate float64, heap uint64, err error) {
		runtime.GC()
		var before runtime.MemStats
		runtime.ReadMemStats(&before)
		done, peak := make(chan bool), make(chan uint64)
		go func() {
			var top uint64
			var m runtime.MemStats
			for {
				select {
				case <-done:
					peak <- top
					return
				case <-time.After(5 * time.Millisecond):
					runtime.ReadMemStats(&m)
					top = max(top, m.HeapInuse)
				}
			}
		}()
		begin := time.Now()
		got, err := r.Rehearse(b.ctx, rule, orders)
		took := time.Since(begin)
		done <- true
		top := <-peak
		if err != nil {
			return 0, 0, err
		}
		if got.Seen != orders || got.Changed == 0 {
			return 0, 0, fmt.Errorf("the rehearsal saw %d orders, of which %d changed", got.Seen, got.Changed)
		}
		return float64(orders) / took.Seconds(), top - min(top, before.HeapInuse), nil
	}
	if _, _, err := most(int64(n)); err != nil { // warm
		return err
	}
	_, small, err := most(int64(n / 10))
	if err != nil {
		return err
	}
	rate, large, err := most(int64(n))
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("rehearsal of a rule over %d orders", n), rate, "orders/s", 0, "50,000", rate >= 50_000)
	b.add("memory it takes beyond what was held, at its peak; baseline: over a tenth of the orders", float64(large)/(1<<20), "MB",
		float64(small)/(1<<20), "below 16 MB", large < 16<<20)
	return nil
}

// change is an event that follows an order: a newer revision of it.
type dayEvent struct {
	id, revision int
	state        string
	quantity     int
	sku          string
}

func (e dayEvent) json(channel int) map[string]any {
	now := time.Now().UTC().Format("2006-01-02T15:04:05.000000Z07:00")
	lines := make([]map[string]any, 3)
	cents := func(n int) string { return fmt.Sprintf("%d.%02d", n/100, n%100) }
	sum := 490
	for k := range lines {
		sku, qty := skus[(e.id*7+k*3)%len(skus)], 1
		if k == 0 {
			qty = e.quantity
			if e.sku != "" {
				sku = e.sku
			}
		}
		sum += qty * 1190
		lines[k] = map[string]any{"line_id": fmt.Sprintf("L%d", k+1), "sku": sku, "title": "Something for the hive", "quantity": qty,
			"price": "11.90", "discount": "0.00", "tax": "0.00", "total": cents(qty * 1190)}
	}
	name := fmt.Sprintf("Buyer %d", e.id%5000)
	return map[string]any{"topic": "order",
		"order": map[string]any{"id": fmt.Sprintf("d%d-%d", channel, e.id), "name": fmt.Sprintf("D%d-%d", channel, e.id),
			"state": e.state, "revision": e.revision, "placed_at": now, "changed_at": now,
			"currency": "EUR", "tax_included": true,
			"customer": map[string]any{"name": name, "email": fmt.Sprintf("b%d@example.test", e.id%5000)},
			"delivery": map[string]any{"name": name, "company": "", "street": "Heron Lane 4", "extra": "", "postcode": "41360",
				"town": "Harrowmere", "country": "XW", "phone": "", "method": "standard"},
			"lines": lines, "shipping_price": "4.90", "discount": "0.00", "tax": "0.00",
			"total": cents(sum), "payment": map[string]any{"method": "card", "paid": true}, "note": "", "admin_url": "",
			"parcels": []any{}}}
}

// mixedDay pushes a day of many channels as fast as they are taken: orders with changes, cancellations and things that
// nobody knows, some twice, none in its order. In the end each order is there once, and everything adds up.
func (b *bench) mixedDay(binary string, n int) error {
	const channels = 8
	text := "setup: 1\nconnections:\n"
	access := map[string]map[string]string{}
	for i := range channels {
		shop := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"shop":{"name":"Channel %d","number":"D-%d","country":"XW"},"orders":[]}`, i, i)
		}))
		defer shop.Close()
		text += fmt.Sprintf(`  - code: day-%d
    connector: hedgerow
    name: Channel %d
    address: %s
    settings: { offer: { sources: [alder] } }
    feeds: { orders in: { on: true, schedule: "@every 48h" }, listings in: off, stock in: off, dispatch out: off, stock out: off }
`, i, i, shop.URL)
		access[fmt.Sprintf("day-%d", i)] = map[string]string{"token": "t", "push_secret": "p"}
	}
	if _, err := b.client.ApplySetup(b.ctx, text, access); err != nil {
		return err
	}
	rng := rand.New(rand.NewPCG(11, 50))
	each := n / channels
	bodies := make([][][]byte, channels)
	cancelled, unknown, sent := 0, 0, 0
	for c := range channels {
		var events []dayEvent
		for i := range each {
			e := dayEvent{id: i, revision: 1, state: "confirmed", quantity: 2}
			if rng.IntN(100) == 0 {
				e.sku = fmt.Sprintf("NOBODY-%d", rng.IntN(20))
				unknown++
			}
			events = append(events, e)
			if rng.IntN(100) < 3 {
				e.revision, e.quantity = 2, 1
				events = append(events, e)
			}
			if rng.IntN(100) < 2 {
				e.revision, e.state = 3, "cancelled"
				events = append(events, e)
				cancelled++
				if e.sku != "" {
					unknown--
				}
			}
			if rng.IntN(100) < 5 {
				events = append(events, e)
			}
		}
		for i := range events { // out of order, within some reach
			j := min(i+rng.IntN(40), len(events)-1)
			events[i], events[j] = events[j], events[i]
		}
		sent += len(events)
		for len(events) > 0 {
			k := min(100, len(events))
			list := make([]map[string]any, k)
			for i, e := range events[:k] {
				list[i] = e.json(c)
			}
			body, err := json.Marshal(map[string]any{"events": list})
			if err != nil {
				return err
			}
			bodies[c] = append(bodies[c], body)
			events = events[k:]
		}
	}
	plain, err := plainLoop(b.ctx, filepath.Join(b.dir, "plain-day.relay"), n)
	if err != nil {
		return err
	}
	begin := time.Now()
	var wg sync.WaitGroup
	errs := make([]error, channels)
	for c := range channels {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for _, body := range bodies[c] {
				if errs[c] == nil {
					errs[c] = b.pushTo(fmt.Sprintf("day-%d", c), "p", body)
				}
			}
		}()
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	file := filepath.Join(b.dir, "company.relay")
	db, err := sql.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	if err := b.until(5*time.Minute, "the day to be decided on", func() (bool, error) {
		var waiting int
		err := db.QueryRowContext(b.ctx, `SELECT count(*) FROM connection c JOIN inbox i ON i.connection_id=c.id
			AND i.state='waiting'`).Scan(&waiting)
		if waiting > 0 {
			time.Sleep(20 * time.Millisecond)
		}
		return waiting == 0, err
	}); err != nil {
		return err
	}
	took := time.Since(begin)
	var orders, off, held int
	if err := db.QueryRowContext(b.ctx, `SELECT count(*), sum(stage='cancelled'), sum(stage='held') FROM orders
		WHERE connection_id IN (SELECT id FROM connection WHERE code LIKE 'day-%')`).Scan(&orders, &off, &held); err != nil {
		return err
	}
	if orders != each*channels || off != cancelled || held != unknown {
		return fmt.Errorf("the day has %d orders, %d cancelled, %d held; %d, %d and %d were sent", orders, off, held, each*channels,
			cancelled, unknown)
	}
	out, err := exec.CommandContext(b.ctx, binary, "verify", file).CombinedOutput()
	rate := float64(orders) / took.Seconds()
	fmt.Printf("mixed day: %d events for %d orders of %d channels; verify says %s\n", sent, orders, channels, bytes.TrimSpace(out))
	b.add("mixed day: 50,000 orders of 8 channels with changes, cancellations, unknown things, repeats, out of order", rate, "orders/s",
		plain, "verify clean", err == nil)
	return nil
}

// pushTo sends a signed push to a connection.
func (b *bench) pushTo(code, secret string, body []byte) error {
	stamp := strconv.FormatInt(time.Now().Unix(), 10)
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte(stamp + "."))
	mac.Write(body)
	req, err := http.NewRequestWithContext(b.ctx, "POST", b.url+"/in/"+code, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("X-Hedgerow-Time", stamp)
	req.Header.Set("X-Hedgerow-Signature", hex.EncodeToString(mac.Sum(nil)))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	res.Body.Close()
	if res.StatusCode != http.StatusAccepted {
		return fmt.Errorf("push to %s: %s", code, res.Status)
	}
	return nil
}

// finding makes a file with a million orders and looks for some of them by each field, and through three filters.
func (b *bench) finding(n int) error {
	file := filepath.Join(b.dir, "million.relay")
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return err
	}
	if err := st.Close(); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)&_pragma=cache_size(-200000)")
	if err != nil {
		return err
	}
	now := time.Now().UnixMicro()
	for _, q := range []string{
		`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<8) INSERT INTO connection (id, code, connector,
			side, name, began_at) SELECT i, 'ch-'||i, 'hedgerow', 'channel', 'Channel '||i, 0 FROM n`,
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
			INSERT INTO orders (id, number, connection_id, outside_id, version, channel_number, channel_state, stage, buyer,
			currency, total, units, placed_at, received_at, via, record, kind)
			SELECT i, 'R'||(10000+i), 1+i/7%%8, 'o'||i, 1, 'MH-'||(500000+i), CASE i%%5 WHEN 0 THEN 'confirmed' ELSE 'sent'
			END, CASE i%%20 WHEN 0 THEN 'ready' WHEN 1 THEN 'held' WHEN 2 THEN 'cancelled' ELSE 'delivered' END,
			'Given'||(i*7919%%3001)||' Family'||(i*104729%%20011), 'EUR', 2900, 2, %d-(%d-i)*20000000, %d-(%d-i)*20000000,
			'push', '{}', CASE i%%11 WHEN 0 THEN 'counter' ELSE 'ship' END FROM n`, n, now, n, now, n),
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
			INSERT INTO order_text (rowid, number, channel, name, sku, tracking) SELECT i, 'R'||(10000+i), 'MH-'||(500000+i),
			'Given'||(i*7919%%3001)||' Family'||(i*104729%%20011), 'SKU-'||(i*31%%5000)||' SKU-'||(i*17%%5000),
			'PP'||(100000000+i)||'XW' FROM n`, n),
		"INSERT INTO location (id, code, name) VALUES (1, 'alder', 'Alder Yard')",
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d) INSERT INTO item (id, sku, name,
			price) SELECT i, 'SKU-'||i, 'Thing '||i, 2900 FROM n`, n/5),
		`INSERT INTO level (item_id, location_id, on_hand) SELECT id, 1, id%50 FROM item`,
		`INSERT INTO listing (id, connection_id, outside_id, sku, title, price, currency, item_id, seen_qty,
			told_qty) SELECT id, 1+id%8, 'l'||id, sku, name, price, 'EUR', id, id%50, id%50 FROM item`,
		`INSERT INTO order_tag (tag, order_id) SELECT CASE id%3 WHEN 0 THEN 'fragile' ELSE 'export' END, id FROM orders WHERE id%7=0`,
		// what the program counts where it writes orders
		"INSERT INTO order_count SELECT stage, connection_id, count(*) FROM orders GROUP BY 1, 2",
		`INSERT INTO order_quarter SELECT 'received', received_at/900000000, connection_id, count(*) FROM orders GROUP BY 2, 3`,
		`INSERT INTO order_quarter SELECT stage, max(shipped_at, received_at)/900000000, connection_id, count(*) FROM orders
			WHERE stage IN ('delivered','cancelled') GROUP BY 1, 2, 3`,
		`INSERT INTO order_sum SELECT placed_at/900000000, connection_id, via, typed_by, currency, sum(stage<>'cancelled'),
			sum(CASE WHEN stage<>'cancelled' THEN total ELSE 0 END), sum(stage='cancelled') FROM orders GROUP BY 1, 2, 3, 4, 5`,
	} {
		if _, err := db.ExecContext(b.ctx, q); err != nil {
			return fmt.Errorf("%.60s: %w", q, err)
		}
	}
	if err := db.Close(); err != nil {
		return err
	}
	if st, err = store.Open(b.ctx, file); err != nil {
		return err
	}
	defer st.Close()
	rng := rand.New(rand.NewPCG(2, 3))
	measure := func(name, aim string, most float64, least int, filter func() store.OrderFilter) error {
		var took []time.Duration
		for range b.of(101, 3) {
			f := filter()
			f.Limit = 50
			begin := time.Now()
			list, err := st.ListOrders(b.ctx, f)
			took = append(took, time.Since(begin))
			if err != nil {
				return err
			}
			if len(list) < least {
				return fmt.Errorf("%s found %d orders of %+v", name, len(list), f)
			}
		}
		ms := median(took)
		b.add(name, ms, "ms", 0, aim, ms < most)
		return nil
	}
	for _, s := range []struct {
		field string
		text  func(i int) string
	}{
		{"order number", func(i int) string { return fmt.Sprint("R", 10000+i) }},
		{"channel number", func(i int) string { return fmt.Sprint("mh-", 500000+i) }},
		{"family name", func(i int) string { return fmt.Sprint("family", i*104729%20011) }},
		{"beginning of a name", func(i int) string { return fmt.Sprintf("famil%.3s", fmt.Sprint("y", i*104729%20011)) }},
		{"both names", func(i int) string { return fmt.Sprintf("given%d family%d", i*7919%3001, i*104729%20011) }},
		{"SKU", func(i int) string { return fmt.Sprint("SKU-", i*31%5000) }},
		{"tracking number", func(i int) string { return fmt.Sprintf("PP%dXW", 100000000+i) }},
	} {
		if err := measure(fmt.Sprintf("search by %s among %d orders, a page of 50", s.field, n), "30 ms", 30, b.of(1, 0),
			func() store.OrderFilter {
				return store.OrderFilter{Search: s.text(1 + rng.IntN(n))}
			}); err != nil {
			return err
		}
	}
	for name, f := range map[string]func() store.OrderFilter{
		"stage, channel and their state": func() store.OrderFilter {
			return store.OrderFilter{Stages: []string{"ready"}, Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), State: "confirmed"}
		},
		"tag, channel and stage": func() store.OrderFilter {
			return store.OrderFilter{Tag: "fragile", Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), Stages: []string{"delivered"}}
		},
		"several stages, channel and days": func() store.OrderFilter {
			from := time.Now().AddDate(0, 0, -200+rng.IntN(100))
			return store.OrderFilter{Stages: []string{"ready", "held"}, Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), From: from,
				To: from.AddDate(0, 0, 60)}
		},
		"kind, channel and stage": func() store.OrderFilter {
			return store.OrderFilter{Kind: "counter", Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), Stages: []string{"delivered"}}
		},
	} {
		if err := measure("list of "+name+", far down too", "20 ms", 20, b.of(1, 0), func() store.OrderFilter {
			x := f()
			if x.From.IsZero() && rng.IntN(2) == 0 {
				x.Before = int64(n/4 + rng.IntN(n/2))
			}
			return x
		}); err != nil {
			return err
		}
	}
	return b.everyPage(st, n)
}
