package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// JoinAll joins all systems that the company works with and that are not joined yet, but for the ordering portal: that
// is for whoever tries the demo.
func (w *World) JoinAll(ctx context.Context) error {
	if _, err := w.JoinTansy(ctx, Joining{Sources: []string{"alder", "pier"}, Import: joining.ImportChoices{Items: true, Orders: true},
		Stock: true}); err != nil {
		return fmt.Errorf("join Tansy: %w", err)
	}
	if _, err := w.JoinBramble(ctx, Joining{Sources: []string{"alder"}, Import: joining.ImportChoices{Items: true, Orders: true},
		Stock: true}); err != nil {
		return fmt.Errorf("join Bramble Row: %w", err)
	}
	if _, err := w.JoinTill(ctx, Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true},
		Change: func(s *engine.Settings) { s.NumberPrefix, s.Anonymous = "T", "Counter sale" }}); err != nil {
		return fmt.Errorf("join the till: %w", err)
	}
	if _, err := w.joinBy(ctx, "postbook", "postbook", "Postbook", w.PostbookURL, PostbookAccess, Joining{}); err != nil {
		return fmt.Errorf("join Postbook: %w", err)
	}
	return nil
}

// past lives through days that are over.
type past struct {
	*World
	rng   *rand.Rand
	begun time.Time // midnight of the first day
	left  []string  // tracking numbers of parcels that are on their way
	sold  int
}

// Past lets the company live through the days since it began, one after the other: orders come in and leave, goods
// arrive, carriers deliver. The same every time but for the dates. The world must have been opened with so many days.
func (w *World) Past(ctx context.Context, days int, progress func(day int)) error {
	p := &past{World: w, rng: rand.New(rand.NewPCG(30, 41207))}
	now := time.Now().In(w.Relay.Zone())
	p.begun = time.Date(now.Year(), now.Month(), now.Day()-days, 0, 0, 0, 0, now.Location())
	for day := range days {
		progress(day)
		if day == 0 { // the company was set up at this time of that day
			continue
		}
		if err := p.day(ctx, day); err != nil {
			return fmt.Errorf("day %d of the past: %w", day, err)
		}
	}
	w.Live(time.Time{})
	return w.Wait(ctx, 30*time.Second, "the outbox to empty", func() (bool, error) { return w.Quiet(ctx) })
}

// at lets it be a time of a day; it never goes back.
func (p *past) at(day, hour, minute int) {
	if t := p.begun.AddDate(0, 0, day).Add(time.Duration(hour)*time.Hour + time.Duration(minute)*time.Minute); t.After(p.Now()) {
		p.Live(t)
	}
}

func (p *past) day(ctx context.Context, day int) error {
	weekday := p.begun.AddDate(0, 0, day).Weekday()
	p.at(day, 7, 30)
	if err := p.deliver(); err != nil {
		return err
	}
	if day%7 == 2 {
		if err := p.replenish(ctx, day); err != nil {
			return err
		}
	}
	for i := range 4 + p.rng.IntN(5) + day/8 {
		p.at(day, 8, 11*i)
		if err := p.sell(ctx); err != nil {
			return err
		}
	}
	if err := p.sellElsewhere(ctx, day, weekday); err != nil {
		return err
	}
	if weekday == time.Saturday || weekday == time.Sunday {
		return nil
	}
	p.at(day, 14, 5)
	if err := p.ship(ctx); err != nil {
		return err
	}
	p.at(day, 16, 40)
	return p.closeDay(ctx)
}

// sell sells at one of the stores, and waits until the order is here.
func (p *past) sell(ctx context.Context) error {
	p.sold++
	h := []*standin.Hedgerow{p.Morrow, p.Morrow, p.Skep}[p.sold%3]
	s := h.RandomSale(p.rng.IntN)
	for len(s.Lines) == 0 || !fitsACarton(s.Lines) {
		s = h.RandomSale(p.rng.IntN)
	}
	if p.sold%4 == 1 {
		s.Delivery.Method, s.Shipping = "express", 990
	}
	id, name, err := h.Place(s)
	if err != nil {
		return err
	}
	if err := p.Wait(ctx, 10*time.Second, "order "+name, func() (bool, error) { return p.known(ctx, name) }); err != nil {
		return err
	}
	if p.sold%29 == 0 {
		return h.Cancel(id)
	}
	return nil
}

// What the marketplaces and the till sell in the past: what lies here in plenty and is easily sent.
var (
	soldAtTansy   = plain(2)
	soldAtBramble = plain(3)
	soldAtTill    = plain(4)
)

// plain are the goods of which a market lists every so manieth, but for the rare, the large and the odd.
func plain(every int) (list []string) {
	for i, g := range goods() {
		if i%every == 0 && g.group != "Live" && g.kind == "" && !g.few && !g.serials && !g.internal && g.sku != "VEIL-ROUND" &&
			fitsACarton([]standin.SaleLine{{SKU: g.sku, Qty: 1}}) {
			list = append(list, g.sku)
		}
	}
	return list
}

// fitsACarton tells, generously, whether what is sold fits one carton, which a carrier takes.
func fitsACarton(lines []standin.SaleLine) bool {
	var grams, volume, longest int64
	for _, g := range goods() {
		for _, l := range lines {
			if l.SKU == g.sku {
				grams, volume, longest = grams+l.Qty*g.grams, volume+l.Qty*g.l*g.w*g.h, max(longest, g.l)
			}
		}
	}
	return grams < 9_000 && volume < 22_000_000 && longest < 560
}

// sellElsewhere sells at the marketplaces and at the till, and reads what was sold.
func (p *past) sellElsewhere(ctx context.Context, day int, weekday time.Weekday) error {
	p.at(day, 13, 15)
	var last []string
	for range 1 + p.rng.IntN(3) {
		id, err := p.Tansy.Sell(standin.DeskSale{SKU: soldAtTansy[p.rng.IntN(len(soldAtTansy))]})
		if err != nil {
			return err
		}
		last = append(last, id)
	}
	id, err := p.Bramble.Sell(standin.DeskSale{SKU: soldAtBramble[p.rng.IntN(len(soldAtBramble))]})
	if err != nil {
		return err
	}
	last = append(last, id)
	codes := []string{"tansy", "bramble"}
	if weekday != time.Sunday {
		for range 2 + p.rng.IntN(3) {
			if _, err := p.Counterpane.Sell(standin.DeskSale{SKU: soldAtTill[p.rng.IntN(len(soldAtTill))]}); err != nil {
				return err
			}
		}
		codes = append(codes, "till")
	}
	for _, code := range codes {
		if _, err := p.Client.RunNow(ctx, code, message.OrdersIn, ""); err != nil {
			return err
		}
	}
	for _, id := range last {
		if err := p.Wait(ctx, 10*time.Second, "order "+id, func() (bool, error) { return p.known(ctx, id) }); err != nil {
			return err
		}
	}
	return nil
}

// ship packs and ships what is ready. What fits into no carton, or goes beyond what is at hand, waits for a person.
func (p *past) ship(ctx context.Context) error {
	ready, _, err := p.Client.Orders(ctx, "stage=ready&limit=200")
	if err != nil {
		return err
	}
	for i := len(ready) - 1; i >= 0; i-- {
		parcels, err := p.ShipOne(ctx, ready[i].Number)
		if errors.Is(err, errNoCarton) {
			continue
		}
		if err != nil {
			return err
		}
		for _, x := range parcels {
			p.left = append(p.left, x.Tracking)
		}
	}
	return nil
}

// deliver moves the parcels that are on their way; the oldest arrive.
func (p *past) deliver() error {
	const onTheirWay = 12
	for len(p.left) > onTheirWay {
		for range 4 {
			if err := p.Plover.Scan(p.left[0]); err != nil {
				return err
			}
		}
		p.left = p.left[1:]
	}
	return nil
}

// closeDay gives the carrier what it takes.
func (p *past) closeDay(ctx context.Context) error {
	list, err := p.Client.Manifests(ctx)
	if err != nil {
		return err
	}
	for _, m := range list {
		if m.State == "open" && m.Parcels > 0 {
			if _, err := p.Client.CloseManifest(ctx, m.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// replenish orders what runs low, and receives what was ordered the week before.
func (p *past) replenish(ctx context.Context, day int) error {
	open, err := p.Client.Purchases(ctx, "state=open")
	if err != nil {
		return err
	}
	for _, o := range open {
		full, err := p.Client.Purchase(ctx, o.Number)
		if err != nil {
			return err
		}
		var came []inventory.Arrival
		for _, l := range full.Lines {
			if l.Left == 0 {
				continue
			}
			came = append(came, inventory.Arrival{Code: l.SKU, Quantity: l.Left})
		}
		if _, err := p.Client.Receive(ctx, o.Number, came); err != nil {
			return err
		}
		if _, err := p.Client.ClosePurchase(ctx, o.Number); err != nil {
			return err
		}
	}
	low := map[string]int64{}
	for _, g := range goods() {
		if g.kind != "" && g.kind != catalog.Stocked || g.serials {
			continue
		}
		v, err := p.Client.Item(ctx, g.sku)
		if err != nil {
			return err
		}
		if at := levelAt(v, "alder"); at.OnHand-at.Allocated < 25 {
			low[g.sku] = 24
		}
	}
	var lines []inventory.Quantity
	for _, g := range goods() {
		if n := low[g.sku]; n > 0 {
			lines = append(lines, inventory.Quantity{SKU: g.sku, Quantity: n})
		}
	}
	if len(lines) == 0 {
		return nil
	}
	if err := p.fillShop(ctx); err != nil {
		return err
	}
	supplier := []string{"Clay works Tarnmouth", "Weaver & Daughter", "Hollow Oak Joinery"}[day/7%3]
	_, err = p.Client.AddPurchase(ctx, inventory.NewPurchase{Supplier: supplier, Location: "alder", Lines: lines})
	return err
}

// known tells whether an order is here, by its channel's number.
func (w *World) known(ctx context.Context, name string) (bool, error) {
	_, err := w.Store.OrderByNumber(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// fillShop brings what the shop has sold from the main warehouse.
func (p *past) fillShop(ctx context.Context) error {
	n := inventory.NewTransfer{From: "alder", To: "mill"}
	var came []inventory.Arrival
	for _, sku := range soldAtTill {
		v, err := p.Client.Item(ctx, sku)
		if err != nil {
			return err
		}
		if levelAt(v, "mill").OnHand < 12 && levelAt(v, "alder").Available > 12 {
			n.Lines = append(n.Lines, inventory.Quantity{SKU: sku, Quantity: 12})
			came = append(came, inventory.Arrival{Code: sku, Quantity: 12})
		}
	}
	if len(n.Lines) == 0 {
		return nil
	}
	t, err := p.Client.AddTransfer(ctx, n)
	if err != nil {
		return err
	}
	if _, err := p.Client.MoveTransfer(ctx, t.Number, "send", nil, ""); err != nil {
		return err
	}
	_, err = p.Client.MoveTransfer(ctx, t.Number, "arrive", came, "")
	return err
}
