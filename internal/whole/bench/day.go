package main

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"time"
)

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

// madeDay is the events of a day, and what must come of them.
type madeDay struct {
	bodies                   [][][]byte // by channel: pushes of up to 100 events
	sent, cancelled, unknown int
}

// dayChannels is how many channels a mixed day has.
const dayChannels = 8

// mixedDay pushes a day of many channels as fast as they are taken: orders with changes, cancellations and things that
// nobody knows, some twice, none in its order. In the end each order is there once, and everything adds up.
func (b *bench) mixedDay(binary string, n int) error {
	closeShops, err := b.joinDay()
	if err != nil {
		return err
	}
	defer closeShops()
	each := n / dayChannels
	day, err := makeDay(each)
	if err != nil {
		return err
	}
	plain, err := plainLoop(b.ctx, filepath.Join(b.dir, "plain-day.relay"), n)
	if err != nil {
		return err
	}
	begin := time.Now()
	if err := b.pushDay(day); err != nil {
		return err
	}
	file := filepath.Join(b.dir, "company.relay")
	db, err := sql.Open("sqlite", "file:"+file+"?mode=ro")
	if err != nil {
		return err
	}
	defer db.Close()
	if err := b.decided(db); err != nil {
		return err
	}
	took := time.Since(begin)
	var orders, off, held int
	if err := db.QueryRowContext(b.ctx, `SELECT count(*), sum(stage='cancelled'), sum(stage='held') FROM orders
		WHERE connection_id IN (SELECT id FROM connection WHERE code LIKE 'day-%')`).Scan(&orders, &off, &held); err != nil {
		return err
	}
	if orders != each*dayChannels || off != day.cancelled || held != day.unknown {
		return fmt.Errorf("the day has %d orders, %d cancelled, %d held; %d, %d and %d were sent", orders, off, held, each*dayChannels,
			day.cancelled, day.unknown)
	}
	out, err := exec.CommandContext(b.ctx, binary, "verify", file).CombinedOutput()
	rate := float64(orders) / took.Seconds()
	fmt.Printf("mixed day: %d events for %d orders of %d channels; verify says %s\n", day.sent, orders, dayChannels, bytes.TrimSpace(out))
	b.add("mixed day: 50,000 orders of 8 channels with changes, cancellations, unknown things, repeats, out of order", rate, "orders/s",
		plain, "verify clean", err == nil)
	return nil
}

// joinDay joins the channels of a mixed day.
func (b *bench) joinDay() (closeShops func(), err error) {
	var shops []*httptest.Server
	closeShops = func() {
		for _, shop := range shops {
			shop.Close()
		}
	}
	text := "setup: 1\nconnections:\n"
	access := map[string]map[string]string{}
	for i := range dayChannels {
		shop := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprintf(w, `{"shop":{"name":"Channel %d","number":"D-%d","country":"XW"},"orders":[]}`, i, i)
		}))
		shops = append(shops, shop)
		text += fmt.Sprintf(`  - code: day-%d
    connector: hedgerow
    name: Channel %d
    address: %s
    settings: { offer: { sources: [alder] } }
    feeds: { orders in: { on: true, schedule: "@every 48h" }, listings in: off, stock in: off, dispatch out: off, stock out: off }
`, i, i, shop.URL)
		access[fmt.Sprintf("day-%d", i)] = map[string]string{"token": "t", "push_secret": "p"}
	}
	_, err = b.client.ApplySetup(b.ctx, text, access)
	return closeShops, err
}

// makeDay makes up the events of a day, so many orders a channel.
func makeDay(each int) (*madeDay, error) {
	rng := rand.New(rand.NewPCG(11, 50))
	d := &madeDay{bodies: make([][][]byte, dayChannels)}
	for c := range dayChannels {
		events := d.events(rng, each)
		d.sent += len(events)
		for len(events) > 0 {
			k := min(100, len(events))
			list := make([]map[string]any, k)
			for i, e := range events[:k] {
				list[i] = e.json(c)
			}
			body, err := json.Marshal(map[string]any{"events": list})
			if err != nil {
				return nil, err
			}
			d.bodies[c] = append(d.bodies[c], body)
			events = events[k:]
		}
	}
	return d, nil
}

// events are those of one channel: changed, cancelled, of things nobody knows, repeated and out of order.
func (d *madeDay) events(rng *rand.Rand, each int) (events []dayEvent) {
	for i := range each {
		e := dayEvent{id: i, revision: 1, state: "confirmed", quantity: 2}
		if rng.IntN(100) == 0 {
			e.sku = fmt.Sprintf("NOBODY-%d", rng.IntN(20))
			d.unknown++
		}
		events = append(events, e)
		if rng.IntN(100) < 3 {
			e.revision, e.quantity = 2, 1
			events = append(events, e)
		}
		if rng.IntN(100) < 2 {
			e.revision, e.state = 3, "cancelled"
			events = append(events, e)
			d.cancelled++
			if e.sku != "" {
				d.unknown--
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
	return events
}

// pushDay pushes a day, all channels at once.
func (b *bench) pushDay(day *madeDay) error {
	var wg sync.WaitGroup
	errs := make([]error, dayChannels)
	for c := range dayChannels {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for _, body := range day.bodies[c] {
				if errs[c] == nil {
					errs[c] = b.pushTo(fmt.Sprintf("day-%d", c), "p", body)
				}
			}
		}()
	}
	wg.Wait()
	return errors.Join(errs...)
}

// decided waits until all that was pushed is decided on.
func (b *bench) decided(db *sql.DB) error {
	return b.until(5*time.Minute, "the day to be decided on", func() (bool, error) {
		var waiting int
		err := db.QueryRowContext(b.ctx, `SELECT count(*) FROM connection c JOIN inbox i ON i.connection_id=c.id
			AND i.state='waiting'`).Scan(&waiting)
		if waiting > 0 {
			time.Sleep(20 * time.Millisecond)
		}
		return waiting == 0, err
	})
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
