package main

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"runtime"
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
	if err := b.putFacts(st, n); err != nil {
		return err
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
	if _, _, err := b.rehearse(r, n); err != nil { // warm
		return err
	}
	_, small, err := b.rehearse(r, n/10)
	if err != nil {
		return err
	}
	rate, large, err := b.rehearse(r, n)
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("rehearsal of a rule over %d orders", n), rate, "orders/s", 0, "50,000", rate >= 50_000)
	b.add("memory it takes beyond what was held, at its peak; baseline: over a tenth of the orders", float64(large)/(1<<20), "MB",
		float64(small)/(1<<20), "below 16 MB", large < 16<<20)
	return nil
}

// putFacts stores what rules see of so many orders.
func (b *bench) putFacts(st *store.Store, n int) error {
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
	return nil
}

// rehearse rehearses a rule over so many orders: how fast, and what memory it took beyond what was held, at its peak.
func (b *bench) rehearse(r *relay.Relay, n int) (rate float64, heap uint64, err error) {
	rule := orders.RuleChange{Name: "New", On: true, When: `country == "XE" && weight > 5000 && "Jars" in categories`,
		Then: `hold("look"), tag("heavy")`}
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
	got, err := r.Rehearse(b.ctx, rule, int64(n))
	took := time.Since(begin)
	done <- true
	top := <-peak
	if err != nil {
		return 0, 0, err
	}
	if got.Seen != int64(n) || got.Changed == 0 {
		return 0, 0, fmt.Errorf("the rehearsal saw %d orders, of which %d changed", got.Seen, got.Changed)
	}
	return float64(n) / took.Seconds(), top - min(top, before.HeapInuse), nil
}
