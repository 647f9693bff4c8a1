package main

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"path/filepath"
	"slices"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/demo"
	"openrelay/internal/relay/joining"
	"openrelay/internal/standin"
)

// rushed is what came of a rush: how many were sold beyond what was there, how many would have been without delays of ours, and how many
// units nobody got.
type rushed struct{ over, best, unsold int }

// rush lets many people buy few units at six shops at once.
func (b *bench) rush(items, units, rate int, told time.Duration, policy stock.Policy) (out rushed, err error) {
	w, err := demo.Open(b.ctx,
		demo.Options{Addrs: demo.FreePorts,
			File: filepath.Join(b.dir, fmt.Sprintf("rush-%d-%d-%d-%d.relay", policy.Buffer, policy.BufferPercent, policy.ShareBelow,
				policy.ShareOver))})
	if err != nil {
		return out, err
	}
	defer w.Close()
	u := &rush{bench: b, w: w, units: units, told: told, policy: policy, shops: []*standin.Hedgerow{w.Morrow, w.Skep}}
	u.policy.Sources = []int64{1}
	defer u.close()
	if err := errors.Join(u.addItems(items), u.joinShops(4)); err != nil {
		return out, err
	}
	if err := u.offerAll(); err != nil {
		return out, err
	}
	plan := u.plan(rate)
	for _, n := range u.sell(plan) {
		out.over += max(0, n-units)
		out.unsold += max(0, units-n)
	}
	for _, n := range u.ideally(plan) {
		out.best += max(0, n-units)
	}
	return out, nil
}

// rush is a sale of few units at many shops at once.
type rush struct {
	*bench
	w      *demo.World
	units  int           // of each item
	told   time.Duration // after what time a shop tells of a sale
	policy stock.Policy
	shops  []*standin.Hedgerow
	skus   []string
	goods  []standin.ShopItem
	ends   []func()
}

// attempt is somebody who wants to buy one of an item.
type attempt struct {
	at         time.Duration
	shop, item int
}

func (u *rush) close() {
	for _, end := range slices.Backward(u.ends) {
		end()
	}
}

func (u *rush) addItems(items int) error {
	var text bytes.Buffer
	text.WriteString("sku,name,price\n")
	for i := range items {
		u.skus = append(u.skus, fmt.Sprintf("RUSH-%02d", i))
		fmt.Fprintf(&text, "%s,Rush %d,9.90\n", u.skus[i], i)
		u.goods = append(u.goods, standin.ShopItem{SKU: u.skus[i], Title: fmt.Sprintf("Rush %d", i), Price: 990})
	}
	s, err := u.w.Client.HandIn(u.ctx, "items", "items.csv", &text)
	if err == nil {
		_, err = u.w.Client.ApplySheet(u.ctx, s.ID)
	}
	return err
}

// joinShops joins so many shops beside the two of the demo; all sell the same.
func (u *rush) joinShops(n int) error {
	for i := range n {
		if err := u.joinShop(i); err != nil {
			return err
		}
	}
	u.w.Morrow.Put(u.goods...)
	u.w.Skep.Put(u.goods...)
	return nil
}

func (u *rush) joinShop(i int) error {
	h := standin.NewHedgerow(standin.ShopConfig{Name: fmt.Sprintf("Rush %d", i), Number: fmt.Sprintf("H-9%d", i), Country: "XW",
		Currency: "EUR", OrderPrefix: fmt.Sprintf("R%d", i), Token: fmt.Sprintf("hr_rush_%d_token_of_the_bench", i),
		PushSecret: fmt.Sprintf("rush-%d-push-secret-of-bench", i)})
	u.ends = append(u.ends, h.Stop)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: time.Second}
	go server.Serve(l)
	u.ends = append(u.ends, func() { server.Close() })
	code := fmt.Sprintf("rush-%d", i)
	if err := u.w.Join(u.ctx, "hedgerow", code, code); err != nil {
		return err
	}
	h.Put(u.goods...)
	t, err := u.w.Client.TestAccess(u.ctx, code, joining.Access{Address: "http://" + l.Addr().String(),
		Secrets: map[string]string{"token": fmt.Sprintf("hr_rush_%d_token_of_the_bench", i),
			"push_secret": fmt.Sprintf("rush-%d-push-secret-of-bench", i)}})
	if err != nil || !t.LetIn {
		return fmt.Errorf("%s: %s %w", code, t.Text, err)
	}
	if _, err := u.w.Finish(u.ctx, code, t.Identity.Number, demo.Joining{Sources: []string{"alder"}, Stock: true}); err != nil {
		return err
	}
	h.SetHook(u.w.URL + "/in/" + code)
	u.shops = append(u.shops, h)
	return nil
}

// offerAll gives every channel the policy and every item its units, and waits until all shops show them.
func (u *rush) offerAll() error {
	conns, err := u.w.Client.Connections(u.ctx)
	if err != nil {
		return err
	}
	for _, x := range conns {
		if x.Side != "channel" {
			continue
		}
		set := x.Settings
		set.Offer.Buffer, set.Offer.BufferPercent, set.Offer.Floor = u.policy.Buffer, u.policy.BufferPercent, 0
		set.Offer.ShareBelow, set.Offer.ShareOver = u.policy.ShareBelow, u.policy.ShareOver
		set.Offer.Sources = set.Offer.Sources[:1]
		if _, err := u.w.Client.SetSettings(u.ctx, x.Code, set, x.Revision); err != nil {
			return err
		}
		if _, err := u.w.Client.RunNow(u.ctx, x.Code, message.ListingsIn, ""); err != nil {
			return err
		}
	}
	for _, sku := range u.skus {
		if _, err := u.w.Client.Adjust(u.ctx, sku, "alder", int64(u.units), "receipt", client.Key("rush "+sku)); err != nil {
			return err
		}
	}
	if err := u.until(20*time.Second, "all six to show the units", func() (bool, error) {
		for _, h := range u.shops {
			shelf := h.Shelf()
			for _, sku := range u.skus {
				if n := shelf[sku]; u.policy.ShareBelow == 0 && n != u.offer(int64(u.units)) || n == 0 {
					return false, nil
				}
			}
		}
		return true, nil
	}); err != nil {
		return err
	}
	for _, h := range u.shops {
		h.Misbehave(standin.Faults{PushLateMS: int(u.told / time.Millisecond)})
	}
	return nil
}

// offer is what a shop may show while so many units are left.
func (u *rush) offer(left int64) int64 {
	return u.policy.Offer(stock.One(1), func(stock.Key) stock.Level { return stock.Level{OnHand: left} })
}

// plan is who wants to buy what, where and when: the same for the relay and for one without delays.
func (u *rush) plan(rate int) []attempt {
	rng := rand.New(rand.NewPCG(11, 13))
	var plan []attempt
	for i := range rate * u.of(14, 1) {
		plan = append(plan, attempt{time.Duration(i) * time.Second / time.Duration(rate), rng.IntN(len(u.shops)), rng.IntN(len(u.skus))})
	}
	return plan
}

// sell lets the plan happen, and tells how many of each item were sold.
func (u *rush) sell(plan []attempt) []int {
	begin := time.Now()
	count := make([]int, len(u.skus))
	for _, a := range plan {
		if wait := a.at - time.Since(begin); wait > 0 {
			time.Sleep(wait)
		}
		sale := standin.Sale{Customer: "Ilka Fenn", Lines: []standin.SaleLine{{SKU: u.skus[a.item], Qty: 1}},
			Delivery: standin.Delivery{Name: "Ilka Fenn", Street: "Heron Lane 1", Postcode: "41360", Town: "Harrowmere", Country: "XW",
				Method: "standard"}}
		if _, _, err := u.shops[a.shop].Place(sale); err == nil {
			count[a.item]++
		}
	}
	return count
}

// ideally tells how many of each item are sold without a delay of ours: a sale is known after the channel's delay, and
// everywhere at once.
func (u *rush) ideally(plan []attempt) []int {
	items := len(u.skus)
	shows := make([][]int64, len(u.shops))
	for i := range shows {
		shows[i] = make([]int64, items)
		for k := range shows[i] {
			shows[i][k] = u.offer(int64(u.units))
		}
	}
	left := make([]int64, items)
	ideal := make([]int, items)
	for k := range left {
		left[k] = int64(u.units)
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
				shows[i][k] = u.offer(left[k])
			}
		}
		if shows[a.shop][a.item] > 0 {
			shows[a.shop][a.item]--
			ideal[a.item]++
			words = append(words, word{a.at + u.told, a.item})
		}
	}
	return ideal
}
