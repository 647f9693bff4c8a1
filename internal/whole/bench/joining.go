package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
	"openrelay/internal/core/place"
	"openrelay/internal/relay"
	"openrelay/internal/setup"
)

// oneOrder is a three-line order as the store tells it.
func oneOrder() ([]byte, error) {
	var events struct {
		Events []struct {
			Order json.RawMessage `json:"order"`
		} `json:"events"`
	}
	if err := json.Unmarshal(pushBody(7, 1), &events); err != nil {
		return nil, err
	}
	return events.Events[0].Order, nil
}

// handMapped is the same record as Go types, for the mapper written by hand.
type handMapped struct {
	ID, Name, State, Currency, Note string
	Revision                        int64
	PlacedAt                        time.Time `json:"placed_at"`
	ChangedAt                       time.Time `json:"changed_at"`
	TaxIncluded                     bool      `json:"tax_included"`
	Customer                        struct{ Name, Email string }
	Delivery                        struct {
		Name, Company, Street, Extra, Postcode, Town, Country, Phone, Method string
	}
	Lines []struct {
		LineID                      string `json:"line_id"`
		SKU, Title                  string
		Quantity                    int64
		Price, Discount, Tax, Total string
	}
	ShippingPrice        string `json:"shipping_price"`
	Discount, Tax, Total string
	Payment              struct {
		Method string
		Paid   bool
	}
	AdminURL string `json:"admin_url"`
	Parcels  []struct{ Reference, Tracking string }
}

// mapByHand does in Go what the definition says.
func mapByHand(raw []byte) (*message.Order, error) {
	var in handMapped
	if err := json.Unmarshal(raw, &in); err != nil {
		return nil, err
	}
	var failed error
	amount := func(s string) int64 {
		n, err := money.Parse(s, in.Currency)
		failed = errors.Join(failed, err)
		return n
	}
	status := map[string]message.Status{"awaiting": message.Pending, "confirmed": message.Open, "sent": message.Shipped,
		"part_sent": message.Open, "cancelled": message.Cancelled}
	d := in.Delivery
	o := &message.Order{Number: in.Name, State: in.State, Status: status[in.State], URL: in.AdminURL, PlacedAt: in.PlacedAt,
		ChangedAt: in.ChangedAt, Currency: in.Currency, PricesIncludeTax: in.TaxIncluded,
		BuyerName: in.Customer.Name, BuyerEmail: in.Customer.Email, Shipping: amount(in.ShippingPrice), Discount: amount(in.Discount),
		Tax: amount(in.Tax), Total: amount(in.Total), Payment: in.Payment.Method, Paid: in.Payment.Paid,
		Kind: message.Ship, RequestedService: d.Method, Note: in.Note, ShipTo: place.Address{Name: d.Name, Company: d.Company,
			Street: d.Street, Extra: d.Extra, Postcode: d.Postcode, Town: d.Town, Country: d.Country, Phone: d.Phone,
			Email: in.Customer.Email}}
	for _, l := range in.Lines {
		o.Lines = append(o.Lines, message.OrderLine{ID: l.LineID, SKU: l.SKU,
			Title: l.Title, Quantity: l.Quantity, UnitPrice: amount(l.Price), Discount: amount(l.Discount), Tax: amount(l.Tax),
			Total: amount(l.Total)})
	}
	return o, failed
}

// mapping compares mapping a three-line order through its definition with a mapper written by hand. Both
// read the same JSON; the medians of five turns count.
func (b *bench) mapping() error {
	lib, err := connector.BuiltIn()
	if err != nil {
		return err
	}
	line, err := connector.NewLine(lib["hedgerow"], connector.LineOptions{Base: "http://127.0.0.1"})
	if err != nil {
		return err
	}
	raw, err := oneOrder()
	if err != nil {
		return err
	}
	want, err := mapByHand(raw)
	if err != nil {
		return err
	}
	got, err := line.Map(message.OrdersIn, "poll", raw)
	if err != nil {
		return err
	}
	if a, _ := json.Marshal(got); true {
		if c, _ := json.Marshal(want); string(a) != string(c) {
			return fmt.Errorf("the definition and the mapper by hand differ:\n%s\n%s", a, c)
		}
	}
	var by, hand []float64
	var allocs int64
	turns := b.of(5, 1)
	for range turns {
		r := testing.Benchmark(func(t *testing.B) {
			t.ReportAllocs()
			for t.Loop() {
				if _, err := line.Map(message.OrdersIn, "poll", raw); err != nil {
					t.Fatal(err)
				}
			}
		})
		by, allocs = append(by, 1e9/float64(r.NsPerOp())), r.AllocsPerOp()
		r = testing.Benchmark(func(t *testing.B) {
			for t.Loop() {
				if _, err := mapByHand(raw); err != nil {
					t.Fatal(err)
				}
			}
		})
		hand = append(hand, 1e9/float64(r.NsPerOp()))
	}
	slices.Sort(by)
	slices.Sort(hand)
	b.add("three-line orders mapped through a definition, one at a time", by[turns/2], "orders/s", hand[turns/2], "15,000/s",
		by[turns/2] >= 15_000)
	b.add("the same, allocations of one order", float64(allocs), "allocations", 0, "120 or less", allocs <= 120)
	return nil
}

// history is a store of the Hedgerow dialect that has nothing but old orders, in pages of 100.
func history(orders int) (*httptest.Server, error) {
	var pages [][]byte
	for first := 0; first < orders; first += 100 {
		var events struct {
			Events []struct {
				Order json.RawMessage `json:"order"`
			} `json:"events"`
		}
		if err := json.Unmarshal(pushBody(5_000_000+first, min(100, orders-first)), &events); err != nil {
			return nil, err
		}
		list := make([]json.RawMessage, len(events.Events))
		for i, e := range events.Events {
			list[i] = e.Order
		}
		page, err := json.Marshal(map[string]any{"orders": list})
		if err != nil {
			return nil, err
		}
		pages = append(pages, page)
	}
	mux := http.NewServeMux()
	answer := func(w http.ResponseWriter, body []byte) {
		w.Header().Set("Content-Type", "application/json")
		w.Write(body)
	}
	mux.HandleFunc("GET /api/shop", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, []byte(`{"shop":{"name":"Old orders","number":"H-1","country":"XW"}}`))
	})
	mux.HandleFunc("GET /api/items", func(w http.ResponseWriter, _ *http.Request) { answer(w, []byte(`{"items":[]}`)) })
	mux.HandleFunc("GET /api/orders", func(w http.ResponseWriter, r *http.Request) {
		n, _ := strconv.Atoi(r.URL.Query().Get("page"))
		if n+1 < len(pages) {
			w.Header().Set("Link", fmt.Sprintf(`</api/orders?page=%d>; rel="next"`, n+1))
		}
		answer(w, pages[n])
	})
	return httptest.NewServer(mux), nil
}

// backfill loads 20,000 orders from a paged store, and compares with a client that only reads the pages.
func (b *bench) backfill() error {
	n := b.of(20_000, 300)
	srv, err := history(n)
	if err != nil {
		return err
	}
	defer srv.Close()
	bare := func() (float64, error) {
		begin := time.Now()
		for at := "/api/orders"; at != ""; {
			res, err := http.Get(srv.URL + at)
			if err != nil {
				return 0, err
			}
			if _, err := io.Copy(io.Discard, res.Body); err != nil {
				return 0, err
			}
			res.Body.Close()
			at = ""
			if link := res.Header.Get("Link"); link != "" {
				at = link[1:strings.Index(link, ">")]
			}
		}
		return float64(n) / time.Since(begin).Seconds(), nil
	}
	plain, err := bare()
	if err != nil {
		return err
	}
	text := fmt.Sprintf(`setup: 1
connections:
  - code: old
    connector: hedgerow
    name: Old orders
    address: %s
    settings: { offer: { sources: [alder] } }
    feeds: { orders in: { on: true, schedule: "@every 1h" }, listings in: off, stock in: off, dispatch out: off, stock out: off }
    overrides: "limits: { per_second: 100000, burst: 100000 }"
`, srv.URL)
	if _, err := b.client.ApplySetup(b.ctx, text, map[string]map[string]string{"old": {"token": "t", "push_secret": "p"}}); err != nil {
		return err
	}
	begin := time.Now()
	if err := b.until(3*time.Minute, "the last old order", func() (bool, error) {
		_, err := b.client.Order(b.ctx, fmt.Sprintf("BN-%d", 5_000_000+n-1))
		if client.StatusOf(err) == 404 {
			time.Sleep(10 * time.Millisecond)
			return false, nil
		}
		return err == nil, err
	}); err != nil {
		return err
	}
	rate := float64(n) / time.Since(begin).Seconds()
	inbox := b.figures[0].Value
	b.add("orders loaded from 200 pages over loopback, against a client that only reads the pages", rate, "orders/s", plain, "", true)
	b.add("the same, against orders from pushes", rate, "orders/s", inbox, "ratio 0.5 or better", rate/inbox >= 0.5)
	return b.inStep()
}

const poller = `connector: poller
title: Poller
side: channel
access: { way: token, fields: [{ name: token, label: Token, secret: true }], send: { Authorization: '"Bearer " + secret.token' } }
calls:
  identity: { request: { method: GET, path: /me }, map: { name: body.name, number: body.number } }
feeds:
  orders in:
    read: { every: 5s, request: { method: GET, path: /orders, query: { since: mark } },
        items: orders, next: { link: true }, mark: item.changed_at }
    id: item.id
    version: item.revision
    map: { number: item.id, status: '"open"', currency: '"EUR"', lines: { each: item.lines, map: { id: each.id, quantity: each.n } } }
`

// idle lets 40 connections poll every 5 s for a minute, one of which hangs, and looks at the processor
// time of the service and at how late the others were read.
func (b *bench) idle(binary string) error {
	connections, every := b.of(40, 3), 5*time.Second
	watched := time.Duration(b.of(60, 6)) * time.Second
	polled := newPolled()
	defer polled.Close()

	s := setup.Setup{Version: 1, Locations: []setup.Location{{Code: "main", Name: "Main"}}, Connectors: []string{poller}}
	secrets := map[string]map[string]string{}
	for n := range connections {
		code := fmt.Sprintf("p%d", n)
		s.Connections = append(s.Connections, setup.Connection{Code: code, Connector: "poller", Name: code,
			Address: fmt.Sprintf("%s/%d", polled.URL, n), Settings: map[string]any{"offer": map[string]any{"sources": []any{"main"}}},
			Feeds: map[message.Feed]setup.Feed{message.OrdersIn: {On: true}}})
		secrets[code] = map[string]string{"token": "t"}
	}
	file, err := b.company("idle.relay", func(r *relay.Relay) error {
		_, err := r.ApplySetup(b.ctx, s, secrets, "bench")
		return err
	})
	if err != nil {
		return err
	}
	service, _, err := b.serve(binary, file, io.Discard) // the connection that hangs is complained of
	if err != nil {
		return err
	}
	defer func() {
		service.Process.Signal(os.Interrupt)
		service.Wait()
	}()
	if err := b.until(20*time.Second, "all connections to poll", func() (bool, error) {
		time.Sleep(time.Millisecond)
		return polled.by() == connections, nil
	}); err != nil {
		return err
	}
	polled.hangFirst()
	before, err := cpuTime(service.Process.Pid)
	if err != nil {
		return err
	}
	begin := time.Now()
	time.Sleep(watched)
	used, err := cpuTime(service.Process.Pid)
	if err != nil {
		return err
	}
	share := (used - before).Seconds() / time.Since(begin).Seconds() * 100
	reads, late := polled.counted(every)
	if least := connections * int((watched-every)/every) * 9 / 11; reads < least {
		return fmt.Errorf("only %d reads in %s", reads, watched)
	}
	b.add("40 connections polling every 5 s, processor time of the service", share, "% of a core", 0, "under 5%", share < 5)
	b.add("the same, longest delay of a due run while one connection hangs", late.Seconds(), "s", 0, "", true)
	return nil
}

// polled is what many connections read orders from. It notes when each does.
type polled struct {
	*httptest.Server
	mu    sync.Mutex
	calls map[string][]time.Time // by connection
	hang  bool                   // the first one is not answered
}

func newPolled() *polled {
	p := &polled{calls: map[string][]time.Time{}}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{n}/me", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		fmt.Fprintf(w, `{"name":"Poller","number":"P-%s"}`, r.PathValue("n"))
	})
	mux.HandleFunc("GET /{n}/orders", func(w http.ResponseWriter, r *http.Request) {
		n := r.PathValue("n")
		p.mu.Lock()
		p.calls[n] = append(p.calls[n], time.Now())
		stuck := p.hang && n == "0"
		p.mu.Unlock()
		if stuck {
			<-r.Context().Done()
			return
		}
		w.Header().Set("Content-Type", "application/json")
		io.WriteString(w, `{"orders":[]}`)
	})
	p.Server = httptest.NewServer(mux)
	return p
}

// by tells how many connections have read.
func (p *polled) by() int {
	p.mu.Lock()
	defer p.mu.Unlock()
	return len(p.calls)
}

// hangFirst leaves the first connection without an answer from now on, and counts anew.
func (p *polled) hangFirst() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hang = true
	clear(p.calls)
}

// counted tells how many reads came, and how late the latest of those was that are not kept waiting.
func (p *polled) counted(every time.Duration) (reads int, late time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for n, at := range p.calls {
		reads += len(at)
		for i := 1; i < len(at) && n != "0"; i++ {
			late = max(late, at[i].Sub(at[i-1])-every)
		}
	}
	return reads, late
}

// cpuTime is the processor time that a process has used (proc(5), stat: fields 14 and 15, in hundredths of
// a second).
func cpuTime(pid int) (time.Duration, error) {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0, err
	}
	fields := strings.Fields(string(b[strings.LastIndexByte(string(b), ')')+1:]))
	user, err1 := strconv.ParseInt(fields[11], 10, 64)
	system, err2 := strconv.ParseInt(fields[12], 10, 64)
	return time.Duration(user+system) * 10 * time.Millisecond, errors.Join(err1, err2)
}
