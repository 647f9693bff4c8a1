// Package trial is a small company for tests: a file of its own, a clock that is moved by hand, and an outside that answers
// as a test says. It is part of no program.
package trial

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// stallDefinition is a channel that hands us its orders in our own words and takes quantities, parcels and answers.
const stallDefinition = `
connector: stall
title: Stall
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the stall for its key." ]
limits: { per_second: 1000, burst: 1000 }
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  events: messages
  max_body: 4MB
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
feeds:
  orders in: { topic: order, record: order, id: event.id, version: event.version, map: item }
  listings in: { topic: listing, record: listing, id: event.id, version: event.version, map: item }
  stock in: { topic: stock_level, record: stock_level, id: event.id, version: event.version, map: item }
  items in: { topic: item, record: item, id: event.id, version: event.version, map: item }
  dispatch in: { topic: dispatch, record: dispatch, id: event.id, version: event.version, map: item }
  returns in: { topic: return, record: return, id: event.id, version: event.version, map: item }
  stock out:
    send:
      request: { method: PUT, path: /stock, headers: { Idempotency-Key: ref }, body: { sku: msg.sku, quantity: msg.quantity } }
  dispatch out:
    takes: [corrections, withdrawals]
    send:
      request:
        method: POST
        path: /parcels
        headers: { Idempotency-Key: ref }
        body: { order: msg.order_id, reference: msg.reference, tracking: msg.tracking, withdrawn: has(msg.withdrawn) }
  refunds out:
    send:
      request:
        method: POST
        path: /refunds
        headers: { Idempotency-Key: ref }
        body: { order: msg.order_id, reference: msg.reference, amount: msg.amount, tax: msg.tax }
  cancellations out:
    send:
      request:
        method: POST
        path: /cancellations
        headers: { Idempotency-Key: ref }
        body:
          order: msg.order_id
          reference: msg.reference
          reason: msg.reason
          lines: { each: msg.lines, as: line, put: { line: line.id, quantity: line.quantity, left: line.left } }
`

// Carter is the definition of a carrier with prices, labels and manifests, under a code.
func Carter(code string) string {
	return strings.Replace(carterDefinition, "connector: carter", "connector: "+code, 1)
}

// Stall is the definition of a channel like the stall, under another code.
func Stall(code string) string {
	return strings.Replace(stallDefinition, "connector: stall", "connector: "+code, 1)
}

// carterDefinition is a carrier with prices, labels and manifests.
const carterDefinition = `
connector: carter
title: Carter
side: carrier
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the carter for a key." ]
  send: { X-Key: secret.key }
limits: { per_second: 1000, burst: 1000 }
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
  rates:
    request: { method: POST, path: /prices, body: { grams: msg.weight_g } }
    items: offers
    map: { service: item.service, service_name: item.name, price: item.price, currency: item.currency, refused: item.refused }
feeds:
  labels out:
    send:
      request:
        method: POST
        path: /labels
        headers: { Idempotency-Key: ref }
        body: { reference: msg.reference, service: msg.service, name: msg.to.name, street: msg.to.street }
      answers: [{ when: 'body.at == "street"', field: to.street }]
      answer:
        id: body.id
        tracking: body.tracking
        service: body.service
        price: body.price
        currency: body.currency
        arrives: body.arrives
  voids out:
    send:
      request: { method: POST, path: /voids, headers: { Idempotency-Key: ref }, body: { label: msg.label } }
  handovers out:
    send:
      request:
        method: POST
        path: /manifests
        headers: { Idempotency-Key: ref }
        body: { day: msg.day, labels: msg.labels, from: msg.window_from, to: msg.window_to }
      answer: { id: body.id, parcels: body.parcels, window: body.window, no_collection: body.no, not_taken: body.without }
  tracking in: { topic: scan, id: item.id, map: { tracking: item.tracking, state: item.state, text: item.text, at: item.at } }
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  events: scans
`

// shelfDefinition is a channel that is given its items by us, and answers on batches of quantities later, by a report.
const shelfDefinition = `
connector: shelf
title: Shelf
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the shelf for its key." ]
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  events: messages
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
feeds:
  orders in: { topic: order, record: order, id: event.id, version: event.version, map: item }
  listings in: { topic: listing, record: listing, id: event.id, version: event.version, map: item }
  items out:
    send:
      request: { method: POST, path: /items, headers: { Idempotency-Key: ref },
          body: { sku: msg.sku, title: msg.title, price: msg.price, quantity: msg.quantity } }
      answer: { id: body.id }
  stock out:
    batch: 20
    send:
      request: { method: POST, path: /levels, headers: { Idempotency-Key: ref },
          body: { rows: { each: batch, as: row, put: { listing: row.outside_id, shown: row.quantity } } } }
      subject: msg.outside_id
      answer: { submission: body.submission }
      report:
        after: 1s
        every: 2s
        give_up: 20m
        request: { method: GET, path: "/levels/{submission}" }
        ready: body.finished
        results: { each: body.rows, as: row, map: { subject: row.listing, accepted: row.taken, reason: row.why } }
`

// boothDefinition is a channel that is read, page by page, and waits for our word on its orders.
const boothDefinition = `
connector: booth
title: Booth
side: channel
access:
  way: key
  fields:
    - { name: key, label: Key, secret: true }
  steps: [ "Ask the booth for its key." ]
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
feeds:
  orders in:
    read: { every: 1m, request: { method: GET, path: /orders }, items: records, next: { page: page, first: 1, size: 2, last: body.pages } }
    id: item.id
    version: item.version
    map: item.record
  listings in:
    read: { every: 5m, request: { method: GET, path: /listings },
        items: records, next: { page: page, first: 1, size: 2, last: body.pages } }
    id: item.id
    map: item.record
  customers in:
    read: { every: 5m, request: { method: GET, path: /customers },
        items: records, next: { page: page, first: 1, size: 2, last: body.pages } }
    id: item.id
    map: item.record
  stock out:
    send:
      request: { method: PUT, path: /stock, headers: { Idempotency-Key: ref }, body: { sku: msg.sku, quantity: msg.quantity } }
  answers out:
    send:
      request: { method: POST, path: /answers, headers: { Idempotency-Key: ref },
          body: { order: msg.order_id, taken: msg.accepted, why: msg.reason } }
`

// Call is a request that reached the outside.
type Call struct {
	Host, Method, Path, Ref string
	Query                   url.Values
	Body                    map[string]any
}

// Kit is a company for tests: a file of its own, a clock that is moved by hand, an outside that answers as a test
// says, and nothing that runs by itself.
type Kit struct {
	*relay.Relay
	t testing.TB

	mu     sync.Mutex
	clock  time.Time // moved by hand; zero: the real one
	calls  []Call
	answer map[string]func(Call) (int, any) // by host and path
	below  map[string]func(Call) (int, any) // by host and the beginning of a path
	ahead  map[string]time.Duration         // by host; guarded by mu
}

// Morning is when a trial begins.
var Morning = time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)

// New opens a company with two places, a stall that sells from the first, and carriers.
func New(t testing.TB, carriers ...string) *Kit {
	t.Helper()
	return open(t, Morning, carriers...)
}

// Live opens the same company with its loops at work and a clock that goes by itself.
func Live(t testing.TB, carriers ...string) *Kit {
	t.Helper()
	k := open(t, time.Time{}, carriers...)
	require.NoError(t, k.Start())
	return k
}

func open(t testing.TB, clock time.Time, carriers ...string) *Kit {
	t.Helper()
	k := &Kit{t: t, clock: clock, answer: map[string]func(Call) (int, any){}, below: map[string]func(Call) (int, any){},
		ahead: map[string]time.Duration{}}
	path := filepath.Join(t.TempDir(), "company.relay")
	key := fmt.Sprint(clock, carriers)
	if made, ok := begun.Load(key); ok {
		made.(*copied).lay(t, path)
		k.open(path)
		return k
	}
	k.open(path)
	k.setUp(carriers)
	k.Stop()
	require.NoError(t, k.Store.Close())
	begun.Store(key, copyOf(t, path))
	k.open(path)
	return k
}

// begun are companies as they begin, by clock and carriers: each is set up once a process, and copied for the tests after that.
var begun sync.Map

// copied is a company file with its key.
type copied struct{ company, key []byte }

func copyOf(t testing.TB, path string) *copied {
	t.Helper()
	company, err := os.ReadFile(path)
	require.NoError(t, err)
	key, err := os.ReadFile(path + ".key")
	require.NoError(t, err)
	return &copied{company, key}
}

func (c *copied) lay(t testing.TB, path string) {
	t.Helper()
	require.NoError(t, os.WriteFile(path, c.company, 0o600))
	require.NoError(t, os.WriteFile(path+".key", c.key, 0o600))
}

// setUp makes the company's places, its stall and its carriers.
func (k *Kit) setUp(carriers []string) {
	k.t.Helper()
	want := setup.Setup{Version: 1, Company: "Morrow Hive Supply", Connectors: []string{stallDefinition, carterDefinition},
		Locations: []setup.Location{{Code: "alder", Name: "Alder Yard",
			Address: setup.Address{Name: "Morrow Hive", Street: "Alder Yard 3", Postcode: "41207", Town: "Alderby", Country: "XW"}},
			{Code: "pier", Name: "Pier Nine"}},
		Profiles: []setup.Profile{{Code: "small", Name: "Small carton", LengthMM: 350, WidthMM: 250, HeightMM: 150, TareG: 220,
			MaxG: 8000}},
		Connections: []setup.Connection{{Code: "stall", Connector: "stall", Name: "The stall", Address: "http://stall.test",
			Settings: map[string]any{"offer": map[string]any{"sources": []any{"alder"}}},
			Feeds: map[message.Feed]setup.Feed{message.OrdersIn: {On: true}, message.ListingsIn: {On: true},
				message.StockIn: {
					On: true,
				}, message.ItemsIn: {On: true}, message.DispatchIn: {On: true}, message.ReturnsIn: {On: true}, message.StockOut: {On: true},
				message.DispatchOut: {On: true}}, Previewed: true}}}
	secrets := map[string]map[string]string{"stall": {"key": "stall-key"}}
	for _, code := range carriers {
		want.Connections = append(want.Connections,
			setup.Connection{Code: code, Connector: "carter", Name: strings.ToUpper(code[:1]) + code[1:],
				Address: "http://" + code + ".test"})
		secrets[code] = map[string]string{"key": code + "-key"}
	}
	_, err := k.ApplySetup(k.t.Context(), want, secrets, "test")
	require.NoError(k.t, err)
}

// JoinShelf joins a channel that is given its items by us.
func (k *Kit) JoinShelf() {
	k.t.Helper()
	k.Join("shelf", shelfDefinition, nil, message.OrdersIn, message.ListingsIn, message.ItemsOut, message.StockOut)
}

// JoinPole joins a channel like the stall that can only be told more of a parcel: what it was told stays.
func (k *Kit) JoinPole() {
	k.t.Helper()
	pole := strings.NewReplacer("connector: stall", "connector: pole", "takes: [corrections, withdrawals]", "takes: []")
	k.Join("pole", pole.Replace(stallDefinition), nil, message.OrdersIn, message.ListingsIn, message.DispatchOut)
}

// JoinAsked joins a channel like the stall whose parcels are read back an hour after it was told of them.
func (k *Kit) JoinAsked() {
	k.t.Helper()
	asked := strings.NewReplacer("connector: stall", "connector: asked", "    takes: [corrections, withdrawals]\n",
		"    takes: [corrections, withdrawals]\n    confirm: { after: 1h, "+
			"request: { method: GET, path: \"/orders/{msg.order_id}\" }, when: \"true\" }\n")
	k.Join("asked", asked.Replace(stallDefinition), nil, message.OrdersIn, message.ListingsIn, message.DispatchOut)
}

// JoinTariff joins a carrier like the carter that publishes its tariff, too.
func (k *Kit) JoinTariff(code string) {
	k.t.Helper()
	const tariff = `  tariff:
    request: { method: GET, path: /tariff }
    map:
      currency: body.currency
      services:
        each: body.services
        as: part
        map:
          code: part.code
          name: part.name
          max_g: part.max_g
          max_mm: part.max_mm
          zones:
            each: part.zones
            as: line
            map:
              name: line.name
              countries: line.countries
              days: line.days
              steps: { each: line.steps, as: step, map: { up_to_g: step.up_to_g, price: step.price } }
  rates:
`
	_, err := k.ApplySetup(
		k.t.Context(),
		setup.Setup{Version: 1, Connectors: []string{strings.Replace(Carter(code), "  rates:\n", tariff, 1)},
			Connections: []setup.Connection{{Code: code, Connector: code, Name: strings.ToUpper(code[:1]) + code[1:],
				Address: "http://" + code + ".test"}}},
		map[string]map[string]string{code: {"key": code + "-key"}},
		"test",
	)
	require.NoError(k.t, err)
}

// JoinBooth joins a channel that is read. Its orders, listings and customers are what Has says.
func (k *Kit) JoinBooth(settings map[string]any) {
	k.t.Helper()
	k.Join("booth", boothDefinition, settings, message.OrdersIn, message.ListingsIn, message.CustomersIn, message.StockOut,
		message.AnswersOut)
}

// Helper is the definition of a partner that is asked in our own words and tells us in them, under a code.
func Helper(code string) string {
	return strings.Replace(helperDefinition, "connector: helper", "connector: "+code, 1)
}

const helperDefinition = `
connector: helper
title: Helper
side: fulfiller
access:
  way: key
  fields: [ { name: key, label: Key, secret: true } ]
  steps: [ "Ask the helper for its key." ]
limits: { per_second: 1000, burst: 1000 }
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  events: messages
test: { say: a field of the request, body: { test: '"true"' } }
calls:
  identity:
    request: { method: GET, path: /who }
    map: { name: body.name, number: body.number, country: body.country }
feeds:
  request states in: { topic: state, record: state, id: event.id, version: event.version, map: item }
  dispatch in: { topic: dispatch, record: dispatch, id: event.id, version: event.version, map: item }
  stock in: { topic: stock_level, record: stock_level, id: event.id, version: event.version, map: item }
  bills in: { topic: bill, record: bill, id: event.id, version: event.version, map: item }
  requests out:
    takes: [repeats]
    send:
      request:
        method: POST
        path: /requests
        headers: { Idempotency-Key: msg.reference }
        body:
          reference: msg.reference
          place: msg.place
          to: msg.to.name
          again: has(msg.again)
          lines: { each: msg.lines, as: line, put: { sku: line.sku, quantity: line.quantity, note: '"note" in line ? line.note : ""' } }
      answer: { id: 'has(body.id) ? body.id : ""', state: 'has(body.state) ? body.state : ""', reason: 'has(body.reason) ? body.reason : ""'
      }
  request cancellations out:
    send:
      request: { method: POST, path: /cancellations, body: { request: msg.request, reason: msg.reason } }
      answer: { state: 'has(body.state) ? body.state : ""' }
`

// JoinPartner joins a partner whose word counts at a place of its own, of the same code, from which the stall sells last.
func (k *Kit) JoinPartner(code string) {
	k.t.Helper()
	want := setup.Setup{Version: 1, Connectors: []string{Helper(code)},
		Connections: []setup.Connection{{Code: code, Connector: code, Name: "The " + code, Address: "http://" + code + ".test",
			Feeds: map[message.Feed]setup.Feed{message.RequestsOut: {On: true}, message.RequestStops: {On: true},
				message.RequestsIn: {On: true},
				message.DispatchIn: {On: true}, message.StockIn: {On: true}, message.BillsIn: {On: true}}, Previewed: true}},
		Locations: []setup.Location{{Code: code, Name: "The " + code, Keeper: code}}}
	_, err := k.ApplySetup(k.t.Context(), want, map[string]map[string]string{code: {"key": code + "-key"}}, "test")
	require.NoError(k.t, err)
	c := k.ByCode("stall")
	s := *c.Settings()
	s.Offer.Sources = append(slices.Clone(s.Offer.Sources), k.PlaceID(code))
	require.NoError(k.t, k.SetSettings(k.t.Context(), "stall", s, c.Rec().Revision, "test"))
}

// Join joins a channel that sells from Alder Yard; its key is its code followed by -key.
func (k *Kit) Join(code, definition string, settings map[string]any, feeds ...message.Feed) {
	k.t.Helper()
	all := map[string]any{"offer": map[string]any{"sources": []any{"alder"}}}
	maps.Copy(all, settings)
	c := setup.Connection{Code: code, Connector: code, Name: "The " + code, Address: "http://" + code + ".test", Settings: all,
		Feeds: map[message.Feed]setup.Feed{}, Previewed: true}
	for _, f := range feeds {
		c.Feeds[f] = setup.Feed{On: true}
	}
	want := setup.Setup{Version: 1, Connectors: []string{definition}, Connections: []setup.Connection{c}}
	_, err := k.ApplySetup(k.t.Context(), want, map[string]map[string]string{code: {"key": code + "-key"}}, "test")
	require.NoError(k.t, err)
}

// Has lets the booth have records under a path, two to a page.
func (k *Kit) Has(path string, records ...map[string]any) {
	k.On("booth", path, func(c Call) (int, any) {
		page, _ := strconv.Atoi(c.Query.Get("page"))
		from, to := min(2*(max(page, 1)-1), len(records)), min(2*max(page, 1), len(records))
		return 200, map[string]any{"records": append([]map[string]any{}, records[from:to]...), "pages": max((len(records)+1)/2, 1)}
	})
}

// Record is a record that the booth has.
func Record(id string, version int, record any) map[string]any {
	return map[string]any{"id": id, "version": version, "record": record}
}

func (k *Kit) open(path string) {
	st, err := store.Open(k.t.Context(), path)
	require.NoError(k.t, err)
	k.t.Cleanup(func() { st.Close() })
	k.Relay, err = relay.Open(k.t.Context(), st, engine.Options{Now: k.Now, Transport: k, Backups: filepath.Dir(path),
		Room:    func() (uint64, uint64, error) { return 100 << 30, 200 << 30, nil }, // whatever the machine of a test has
		Folders: []string{os.TempDir()}})
	require.NoError(k.t, err)
	k.t.Cleanup(k.Stop)
}

// Again ends the process and opens the file anew.
func (k *Kit) Again() {
	path := k.Store.Path()
	k.Stop()
	require.NoError(k.t, k.Store.Close())
	k.open(path)
}

func (k *Kit) Now() time.Time {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.clock.IsZero() {
		return time.Now()
	}
	return k.clock
}

func (k *Kit) Later(d time.Duration) { k.mu.Lock(); k.clock = k.clock.Add(d); k.mu.Unlock() }

// answered is what a test says, or nothing once nobody waits for it any more.
func answered(ctx context.Context, f func(Call) (int, any), c Call) (int, any) {
	type said struct {
		status int
		body   any
	}
	done := make(chan said, 1)
	go func() { status, body := f(c); done <- said{status, body} }()
	select {
	case s := <-done:
		return s.status, s.body
	case <-ctx.Done():
		return 0, nil
	}
}

// RoundTrip is the outside: what no test says otherwise is answered kindly.
func (k *Kit) RoundTrip(req *http.Request) (*http.Response, error) {
	c := Call{Host: strings.TrimSuffix(req.URL.Host, ".test"), Method: req.Method, Path: req.URL.Path, Query: req.URL.Query(),
		Ref: req.Header.Get("Idempotency-Key")}
	if req.Body != nil {
		raw, err := io.ReadAll(req.Body)
		if err != nil {
			return nil, err
		}
		if len(raw) > 0 {
			_ = json.Unmarshal(raw, &c.Body)
		}
	}
	k.mu.Lock()
	k.calls = append(k.calls, c)
	n := len(k.calls)
	f := k.answer[c.Host+" "+c.Path]
	for place, below := range k.below {
		if f == nil && strings.HasPrefix(c.Host+" "+c.Path, place) {
			f = below
		}
	}
	k.mu.Unlock()
	status, body := 200, any(map[string]any{})
	switch {
	case f != nil:
		status, body = answered(req.Context(), f, c)
	case c.Path == "/who":
		body = map[string]any{"name": c.Host, "number": "No-" + c.Host, "country": "XW"}
	case c.Path == "/prices":
		body = map[string]any{"offers": []any{map[string]any{"service": "slow", "name": "Slow", "price": 400, "currency": "EUR"},
			map[string]any{"service": "fast", "name": "Fast", "price": 900, "currency": "EUR"}}}
	case c.Path == "/labels":
		body = map[string]any{"id": fmt.Sprintf("%s-L%d", c.Host, n), "tracking": fmt.Sprintf("%s%07d", strings.ToUpper(c.Host[:2]), n),
			"service": c.Body["service"], "price": 400, "currency": "EUR"}
	case c.Path == "/manifests":
		body = map[string]any{"id": "M1", "parcels": len(c.Body["labels"].([]any))}
	}
	if status == 0 {
		return nil, fmt.Errorf("connection reset")
	}
	raw, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	header := http.Header{"Content-Type": {"application/json"}}
	k.mu.Lock()
	if ahead, ok := k.ahead[c.Host]; ok {
		header.Set("Date", k.clock.Add(ahead).UTC().Format(http.TimeFormat))
	}
	k.mu.Unlock()
	return &http.Response{StatusCode: status, Header: header,
		Body: io.NopCloser(bytes.NewReader(raw)), Request: req}, nil
}

// Ahead lets the clock of a host be ahead of ours; without it, a host tells no time.
func (k *Kit) Ahead(host string, by time.Duration) { k.mu.Lock(); k.ahead[host] = by; k.mu.Unlock() }

// On lets a place of the outside answer as f says; status 0 is no answer at all.
func (k *Kit) On(host, path string, f func(Call) (int, any)) {
	k.mu.Lock()
	k.answer[host+" "+path] = f
	k.mu.Unlock()
}

// Below lets all places of the outside whose paths begin so answer as f says.
func (k *Kit) Below(host, path string, f func(Call) (int, any)) {
	k.mu.Lock()
	k.below[host+" "+path] = f
	k.mu.Unlock()
}

// Sent lists the calls to a place of the outside.
func (k *Kit) Sent(host, path string) (out []Call) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, c := range k.calls {
		if c.Host == host && c.Path == path {
			out = append(out, c)
		}
	}
	return out
}

// Event is one message as it is handed in.
func Event(topic, id string, version int, record any) map[string]any {
	return map[string]any{"topic": topic, "id": id, "version": version, topic: record}
}

// Push hands messages in, without deciding on them.
func (k *Kit) Push(code string, events ...map[string]any) {
	k.t.Helper()
	raw, err := json.Marshal(map[string]any{"messages": events})
	require.NoError(k.t, err)
	_, err = k.AcceptPush(k.t.Context(), code, http.Header{"Authorization": {"Bearer " + code + "-key"}}, raw)
	require.NoError(k.t, err)
}

// Settle does all that is due, until nothing is.
func (k *Kit) Settle() {
	k.t.Helper()
	for range 200 {
		steps, err := k.Steps()
		require.NoError(k.t, err)
		did := false
		for _, s := range steps {
			if s.At.After(k.Now()) || strings.HasPrefix(s.Name, "read") {
				continue
			}
			did = did || s.Name != "watch"
			require.NoError(k.t, s.Do(), s.Name)
		}
		if !did {
			return
		}
		k.Later(exchange.StockPace)
	}
	k.t.Fatal("it does not come to rest")
}

// Take hands messages in and does all that follows.
func (k *Kit) Take(code string, events ...map[string]any) {
	k.t.Helper()
	k.Push(code, events...)
	k.Settle()
}

// Address is where its orders go.
var Address = place.Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}

// Sale is an order as the stall tells it: one line for each SKU.
func Sale(number string, lines ...message.OrderLine) message.Order {
	o := message.Order{Number: number, State: "open", Status: message.Open, Currency: "EUR", PricesIncludeTax: true,
		BuyerName: "Maren Tolland", ShipTo: Address, PlacedAt: Morning, ChangedAt: Morning}
	for i, l := range lines {
		if l.ID == "" {
			l.ID = fmt.Sprint(i + 1)
		}
		if l.Title == "" {
			l.Title = l.SKU
		}
		if l.UnitPrice == 0 {
			l.UnitPrice = 1000
		}
		l.Total = l.Quantity * l.UnitPrice
		o.Total += l.Total
		o.Lines = append(o.Lines, l)
	}
	return o
}

// Units is a line of an order.
func Units(sku string, n int64) message.OrderLine { return message.OrderLine{SKU: sku, Quantity: n} }

// Sell hands one order in and does all that follows.
func (k *Kit) Sell(number string, lines ...message.OrderLine) {
	k.t.Helper()
	k.Take("stall", Event("order", number, 1, Sale(number, lines...)))
}

// Stock adds items with so many units at Alder Yard.
func (k *Kit) Stock(n int64, skus ...string) {
	k.t.Helper()
	var list []listing.Opening
	for _, sku := range skus {
		o := listing.Opening{Item: catalog.Item{SKU: sku, Name: "A " + sku, WeightG: 500, LengthMM: 100, WidthMM: 80, HeightMM: 40,
			Price: 1000, Currency: "EUR"}}
		if n > 0 {
			o.Counts = map[int64]int64{k.PlaceID("alder"): n}
		}
		list = append(list, o)
	}
	require.NoError(k.t, k.AddItems(k.t.Context(), list, "test"))
}

// Stage is where an order stands.
func (k *Kit) Stage(number string) string {
	k.t.Helper()
	o, err := k.Store.OrderByNumber(k.t.Context(), number)
	require.NoError(k.t, err, number)
	return string(o.Stage())
}

// open lists the causes and texts of what needs a person.
func (k *Kit) Exceptions() (out []store.Exception) {
	k.t.Helper()
	out, err := k.Store.OpenExceptions(k.t.Context(), k.Now(), 1000)
	require.NoError(k.t, err)
	return out
}

// Packed picks and packs an order whole and returns its shipment.
func (k *Kit) Packed(number string) string {
	k.t.Helper()
	ctx := k.t.Context()
	s, err := k.StartPick(ctx, number, "Pim")
	require.NoError(k.t, err)
	v, err := k.Shipment(ctx, s)
	require.NoError(k.t, err)
	for _, w := range v.Wants {
		_, err := k.Scan(ctx, s, w.SKU, "", w.Quantity, "Pim")
		require.NoError(k.t, err)
	}
	require.NoError(k.t, k.PackInto(s, "small"))
	return s
}

// Holds says that everything holds that must.
func (k *Kit) Holds() {
	k.t.Helper()
	findings, err := k.Store.Verify(k.t.Context())
	require.NoError(k.t, err)
	require.Empty(k.t, findings)
}

// Spoil changes the file behind the program's back.
func (k *Kit) Spoil(query string, args ...any) {
	k.t.Helper()
	db := k.file()
	defer db.Close()
	_, err := db.Exec(query, args...)
	require.NoError(k.t, err)
}

// Scalar reads one value from the file behind the program's back.
func (k *Kit) Scalar(to any, query string, args ...any) {
	k.t.Helper()
	db := k.file()
	defer db.Close()
	require.NoError(k.t, db.QueryRow(query, args...).Scan(to), query)
}

// file is the company's file, opened beside the program.
func (k *Kit) file() *sql.DB {
	k.t.Helper()
	db, err := sql.Open("sqlite", "file:"+k.Store.Path()+"?_pragma=busy_timeout(5000)")
	require.NoError(k.t, err)
	return db
}

// Outcome is what became of the newest message that bears an outside number, and why.
func (k *Kit) Outcome(id string) (state, reason string) {
	k.t.Helper()
	db := k.file()
	defer db.Close()
	row := db.QueryRow("SELECT state, reason FROM inbox WHERE outside_id=? ORDER BY id DESC LIMIT 1", id)
	require.NoError(k.t, row.Scan(&state, &reason), id)
	return state, reason
}

// CancelOrder cancels an order on a person's word.
func (k *Kit) CancelOrder(number string) {
	k.t.Helper()
	done, err := k.Act(k.t.Context(), orders.Bulk{Action: "cancel", Orders: []string{number}}, "Edda")
	require.NoError(k.t, err)
	require.Equal(k.t, 1, done.Done, "%+v", done.Results)
}

// Listed gives the stall a listing of an item, so that its quantity is told there.
func (k *Kit) Listed(sku string) {
	k.t.Helper()
	k.Take("stall", Event("listing", "L-"+sku, 1, message.Listing{SKU: sku, Title: "A " + sku, Price: 1000, Currency: "EUR", Live: true}))
}

// OnHand is what lies at Alder Yard.
func (k *Kit) OnHand(sku string) int64 {
	k.t.Helper()
	it, err := k.Store.Item(k.t.Context(), sku)
	require.NoError(k.t, err)
	levels, err := k.Store.Levels(k.t.Context(), []int64{it.ID})
	require.NoError(k.t, err)
	return levels[stock.Key{Item: it.ID, Location: k.PlaceID("alder")}].OnHand
}

// Learned lets the relay know what its carriers sell.
func (k *Kit) Learned() {
	k.t.Helper()
	require.NoError(k.t, k.LearnServices())
	k.Settle()
}

func (k *Kit) Rule(then string) error {
	_, err := k.PutRule(k.t.Context(), orders.RuleChange{Name: "By itself: " + then, On: true, Then: then}, "Edda")
	return err
}

// Picked picks an order whole.
func (k *Kit) Picked(number string) string {
	k.t.Helper()
	s, err := k.StartPick(k.t.Context(), number, "Pim")
	require.NoError(k.t, err)
	v, err := k.Shipment(k.t.Context(), s)
	require.NoError(k.t, err)
	for _, w := range v.Wants {
		_, err := k.Scan(k.t.Context(), s, w.SKU, "", w.Quantity, "Pim")
		require.NoError(k.t, err)
	}
	return s
}

// PackInto packs a shipment whole into a parcel of a profile.
func (k *Kit) PackInto(shipment, profile string) error {
	_, err := k.Pack(k.t.Context(), shipment, shipping.Packing{Profile: profile}, "Pim")
	return err
}

// PackUnits packs units of a shipment into a parcel of a profile, and returns its number.
func (k *Kit) PackUnits(shipment, profile string, units map[string]int64) string {
	k.t.Helper()
	n, err := k.Pack(k.t.Context(), shipment, shipping.Packing{Profile: profile, Units: units}, "Pim")
	require.NoError(k.t, err)
	return n
}

func (k *Kit) Label(shipment, carrier string) error {
	k.t.Helper()
	err := k.AskLabel(k.t.Context(), shipment, shipping.Purchase{Carrier: carrier, Service: "slow"}, "Pim")
	k.Settle()
	return err
}

func (k *Kit) ParcelOf(number string) store.Parcel {
	k.t.Helper()
	s, err := k.Store.Parcel(k.t.Context(), number)
	require.NoError(k.t, err)
	return s
}

// OutboxOf is the newest message of a feed about an order.
func (k *Kit) OutboxOf(number string, feed message.Feed) store.OutboxMessage {
	k.t.Helper()
	o, err := k.Store.OrderByNumber(k.t.Context(), number)
	require.NoError(k.t, err)
	list, err := k.Store.OutboxOfOrder(k.t.Context(), o.ID)
	require.NoError(k.t, err)
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].Feed == feed {
			return list[i]
		}
	}
	k.t.Fatalf("no message %s about %s", feed, number)
	return store.OutboxMessage{}
}

// Causes lists the causes of what is open, but for what says that the service is unwell: where a test lets hours pass in which
// somebody does not answer, that is raised, too.
func (k *Kit) Causes() []order.Cause {
	k.t.Helper()
	return slices.DeleteFunc(k.AllCauses(), func(c order.Cause) bool {
		return c == engine.Backlog || c == engine.ConnectionDead || c == engine.ServiceUnwell
	})
}

// AllCauses lists the causes of everything that is open.
func (k *Kit) AllCauses() []order.Cause {
	k.t.Helper()
	out := []order.Cause{}
	for _, e := range k.Exceptions() {
		out = append(out, e.Cause)
	}
	return out
}

// InVain lets something be tried n times while nobody answers. Lines are made anew: their breakers go by the real clock.
func (k *Kit) InVain(n int) {
	k.t.Helper()
	for range n {
		require.NoError(k.t, k.RemakeAll(k.t.Context()))
		k.Later(6 * time.Minute)
		k.Settle()
	}
}

// OnHandAt is what lies of an item at a place.
func (k *Kit) OnHandAt(sku, place string) int64 {
	k.t.Helper()
	var n int64
	k.Scalar(&n, `SELECT coalesce(sum(l.on_hand),0) FROM level l JOIN item i ON i.id=l.item_id JOIN location p ON p.id=l.location_id
		WHERE i.sku=? AND p.code=?`, sku, place)
	return n
}
