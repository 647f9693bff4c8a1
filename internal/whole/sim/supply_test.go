package sim

import (
	"context"

	"openrelay/internal/relay/inventory"
)

// supply lets goods be ordered, arrive, be moved, get lost and be counted. What is right afterwards is asked of verify: each
// level is the sum of its entries, on order what purchase orders wait for, under way what transfers carry.
func (w *world) supply() {
	ctx := context.Background()
	const who = "Edda Quillon"
	sku := pick(w, []string{"JAR-500-T12", "SMOKER-M", "HIVE-BODY", "WAX-1KG", "SUIT-M-WHITE"})
	units := func(most int) int64 { return int64(1 + w.rng.IntN(most)) }
	lines := []inventory.Quantity{{SKU: sku, Quantity: units(30)}}
	switch w.rng.IntN(6) {
	case 0:
		w.step("order goods", func() error {
			_, err := w.Relay.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Copperlatch", Location: "alder", Lines: lines}, who)
			return err
		})
	case 1, 2:
		w.receive(ctx, units(20), who)
	case 3:
		w.step("prepare a transfer", func() error {
			_, err := w.Relay.AddTransfer(ctx, inventory.NewTransfer{From: "alder", To: "pier", Lines: lines[:1]}, who)
			return err
		})
	case 4:
		w.moveTransfer(ctx, who)
	default:
		w.count(ctx, sku, who)
	}
}

// receive takes some of what is on order in, now and then more than that.
func (w *world) receive(ctx context.Context, n int64, who string) {
	list, err := w.Store.Purchases(ctx, "open", 0, 20)
	if err != nil || len(list) == 0 {
		return
	}
	p, err := w.Store.Purchase(ctx, pick(w, list).Number)
	if err != nil {
		return
	}
	l := pick(w, p.Lines)
	if w.one(150) {
		w.step("close "+p.Number, func() error { return w.Relay.ClosePurchase(ctx, p.Number, who) })
		return
	}
	over := w.one(200)
	w.step("receive "+p.Number, func() error {
		_, err := w.Relay.Receive(ctx, p.Number, []inventory.Arrival{{Code: l.SKU, Quantity: n, Over: over}}, who)
		return err
	})
}

// moveTransfer takes a transfer a step further.
func (w *world) moveTransfer(ctx context.Context, who string) {
	for _, state := range []string{"under way", "draft"} {
		list, err := w.Store.Transfers(ctx, state, 0, 20)
		if err != nil || len(list) == 0 {
			continue
		}
		x, err := w.Store.Transfer(ctx, pick(w, list).Number)
		if err != nil {
			return
		}
		switch {
		case state == "draft" && w.one(200):
			w.step("drop "+x.Number, func() error { return w.Relay.DropTransfer(ctx, x.Number, who) })
		case state == "draft":
			w.step("send "+x.Number, func() error { return w.Relay.SendTransfer(ctx, x.Number, who) })
		case w.one(200):
			w.step("lose "+x.Number, func() error { return w.Relay.LoseTransfer(ctx, x.Number, "fell off the van", who) })
		default:
			l := pick(w, x.Lines)
			n := 1 + w.rng.Int64N(max(l.Quantity, 1))
			w.step("arrive "+x.Number, func() error {
				return w.Relay.ArriveTransfer(ctx, x.Number, []inventory.Arrival{{Code: l.SKU, Quantity: n}}, who)
			})
		}
		return
	}
}

// count counts an item, one off now and then, while sales go on.
func (w *world) count(ctx context.Context, sku, who string) {
	open, err := w.Store.Counts(ctx, "open", 0, 5)
	if err != nil {
		return
	}
	if len(open) == 0 {
		w.step("begin to count", func() error { _, err := w.Relay.StartCount(ctx, "alder", "", who); return err })
		return
	}
	c := open[0]
	if w.rng.IntN(3) == 0 {
		w.step("post "+c.Number, func() error { return w.Relay.PostCount(ctx, c.Number, "", who) })
		return
	}
	it, err := w.Store.Item(ctx, sku)
	if err != nil {
		return
	}
	levels, err := w.Store.Levels(ctx, []int64{it.ID})
	if err != nil {
		return
	}
	var lies int64
	for k, l := range levels {
		if k.Location == w.Relay.PlaceID("alder") {
			lies = max(0, l.OnHand)
		}
	}
	if w.one(200) {
		lies = max(0, lies-1)
	}
	w.step("count "+sku, func() error {
		_, err := w.Relay.CountItem(ctx, c.Number, inventory.Counted{Code: sku, Quantity: lies}, who)
		return err
	})
}
