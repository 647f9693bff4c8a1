package main

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/store"
)

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

// oversell lets six channels sell the last 50 units of 20 items at once, 200 orders a second, each channel
// telling us of a sale only after a while of its own, and counts what cannot be met, beside what a relay
// without any delay of its own could not have met either; and with the last units shared, the curve from none sold twice to few left.
func (b *bench) oversell() error {
	items, units, rate := b.of(20, 2), b.of(50, 12), b.of(200, 50)
	const told = 150 * time.Millisecond // how late the channels tell of a sale
	what := fmt.Sprintf("of %d units on 6 channels at %d orders/s", items*units, rate)
	for _, c := range []struct {
		name   string
		policy stock.Policy
	}{{"no buffer", stock.Policy{}}, {"buffer of 1", stock.Policy{Buffer: 1}}, {"buffer of 5%", stock.Policy{BufferPercent: 5}}} {
		got, err := b.rush(items, units, rate, told, c.policy)
		if err != nil {
			return err
		}
		aim, met := "", true
		if c.policy.Buffer+c.policy.BufferPercent == 0 {
			aim, met = "ratio 1.25 or better", float64(got.over) <= 1.25*float64(got.best)
		}
		b.add(fmt.Sprintf("oversold %s, %s (beside: the least possible)", what, c.name), float64(got.over), "orders",
			float64(got.best), aim, met)
		fmt.Printf("  %d left unsold\n", got.unsold)
	}
	for _, over := range []int64{0, 25, 50, 100, 200} {
		got, err := b.rush(items, units, rate, told, stock.Policy{ShareBelow: int64(units) * 2, ShareOver: over})
		if err != nil {
			return err
		}
		aim, met := "", true
		if over == 0 {
			aim, met = "none", got.over == 0
		}
		b.add(fmt.Sprintf("oversold %s, shared, %d%% shown beyond what there is (beside: left unsold)", what, over), float64(got.over),
			"orders", float64(got.unsold), aim, met)
	}
	return nil
}

func demoItem(sku string) catalog.Item {
	return catalog.Item{SKU: sku, Name: sku, Kind: catalog.Stocked, Currency: "EUR"}
}
