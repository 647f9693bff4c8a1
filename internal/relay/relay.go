// Package relay holds the use cases: messages are received and kept, decisions are loaded, made by
// core and committed, and what they cause is sent. It is the only place where connector, store and
// core meet. It decides nothing that core could decide, and holds no SQL and no HTTP routes.
//
// Each connection has three goroutines of its own, which read, decide and send, so that a slow or
// hanging system delays nobody but itself.
package relay

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"sync"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// Settings of a connection, kept as JSON with it.
type Settings struct {
	Offer     stock.Policy `json:"offer"`
	Tolerance int64        `json:"tolerance" doc:"Minor units that totals may differ by"`
	Test      bool         `json:"test" doc:"Marks what is sent as a test"`
	Sender    string       `json:"sender,omitempty" doc:"Name to ship as"`
}

// Relay is a running company.
type Relay struct {
	Store  *store.Store
	Bus    *Bus
	lib    connector.Library
	log    *slog.Logger
	now    func() time.Time
	client *http.Client
	seal   *sealer
	prefix string // begins every reference we send: unique to this company file
	// gs1Prefix begins the SSCC of every parcel. Without a company prefix of its own, a company uses
	// one of the range that GS1 sets aside for use inside a company.
	gs1Prefix string

	mu      sync.RWMutex
	conns   map[int64]*conn
	codes   map[string]*conn
	running bool
	wg      sync.WaitGroup
	ctx     context.Context
	stop    context.CancelFunc

	tariffMu sync.Mutex
	tariffs  map[int64]tariffAt

	placeMu sync.RWMutex
	places  map[int64]store.Location
}

type tariffAt struct {
	tariff *freight.Tariff
	at     time.Time
}

// conn is a connection at work.
type conn struct {
	rec      store.Connection // as it was when loaded; paused is what counts
	line     *connector.Line
	settings Settings
	paused   bool                   // guarded by Relay.mu
	feeds    map[string]*store.Feed // by kind; guarded by Relay.mu
	wakeIn   chan struct{}
	wakeOut  chan struct{}
	runNow   chan runRequest
	fresh    fresh

	stockSent time.Time // when the last round of quantities began; the sending goroutine's own
}

// Options of a relay.
type Options struct {
	Log *slog.Logger
	Now func() time.Time
	// Connector definitions; nil means those built in.
	Library connector.Library
}

// Open prepares the relay of a company file. Nothing runs until Start.
func Open(ctx context.Context, st *store.Store, o Options) (*Relay, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Library == nil {
		var err error
		if o.Library, err = connector.BuiltIn(); err != nil {
			return nil, err
		}
	}
	seal, err := openSealer(st.Path() + ".key")
	if err != nil {
		return nil, err
	}
	r := &Relay{Store: st, Bus: NewBus(), lib: o.Library, log: o.Log, now: o.Now, seal: seal,
		conns: map[int64]*conn{}, codes: map[string]*conn{}, tariffs: map[int64]tariffAt{}, places: map[int64]store.Location{},
		client: &http.Client{
			// Redirects are not followed: they could lead anywhere, with our credentials.
			CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
			Transport: &http.Transport{
				DialContext:         (&net.Dialer{Timeout: 5 * time.Second}).DialContext,
				MaxIdleConnsPerHost: 4, IdleConnTimeout: 90 * time.Second, MaxResponseHeaderBytes: 64 << 10,
				TLSHandshakeTimeout: 5 * time.Second, ForceAttemptHTTP2: true,
			},
		}}
	r.ctx, r.stop = context.WithCancel(context.Background())
	if r.prefix, err = st.Setting(ctx, "reference prefix"); err != nil {
		return nil, err
	}
	if r.prefix == "" {
		r.prefix = "or" + randomText(6)
		if err := st.Write(ctx, func(t *store.Tx) error { return t.PutSetting("reference prefix", r.prefix) }); err != nil {
			return nil, err
		}
	}
	if r.gs1Prefix, err = st.Setting(ctx, "gs1 company prefix"); err != nil {
		return nil, err
	}
	r.gs1Prefix = or(r.gs1Prefix, "2000000")
	if err := r.reload(ctx); err != nil {
		return nil, err
	}
	return r, nil
}

// reload reads locations, connections and feeds; connections that are new begin to work if the relay runs.
func (r *Relay) reload(ctx context.Context) error {
	locs, err := r.Store.Locations(ctx)
	if err != nil {
		return err
	}
	places := make(map[int64]store.Location, len(locs))
	for _, l := range locs {
		places[l.ID] = l
	}
	r.placeMu.Lock()
	r.places = places
	r.placeMu.Unlock()

	recs, err := r.Store.Connections(ctx)
	if err != nil {
		return err
	}
	feeds, err := r.Store.Feeds(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, rec := range recs {
		c := r.conns[rec.ID]
		if c == nil {
			def := r.lib[rec.Connector]
			if def == nil {
				return fmt.Errorf("connection %s: there is no connector %q", rec.Code, rec.Connector)
			}
			secrets, err := r.seal.open(rec.Credentials)
			if err != nil {
				return fmt.Errorf("connection %s: %w", rec.Code, err)
			}
			var free map[string]any
			if err := json.Unmarshal([]byte(rec.Settings), &free); err != nil {
				return fmt.Errorf("connection %s: settings: %w", rec.Code, err)
			}
			line, err := connector.NewLine(def, rec.BaseURL, secrets, free, r.client, r.now)
			if err != nil {
				return fmt.Errorf("connection %s: %w", rec.Code, err)
			}
			c = &conn{rec: rec, line: line, feeds: map[string]*store.Feed{}, wakeIn: make(chan struct{}, 1), wakeOut: make(chan struct{}, 1), runNow: make(chan runRequest, 8)}
			if err := json.Unmarshal([]byte(rec.Settings), &c.settings); err != nil {
				return fmt.Errorf("connection %s: settings: %w", rec.Code, err)
			}
			r.conns[rec.ID], r.codes[rec.Code] = c, c
			if r.running {
				r.work(c)
			}
		}
		c.paused = rec.Paused
	}
	for _, f := range feeds {
		if c := r.conns[f.ConnectionID]; c != nil {
			c.feeds[f.Kind] = &f
		}
	}
	return nil
}

// Start begins to work: what waited since the last end goes on.
func (r *Relay) Start() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.running {
		return
	}
	r.running = true
	// Only here: other commands open the file of a service that runs, and its runs are not stale.
	if err := r.Store.Write(r.ctx, func(t *store.Tx) error { return t.EndStaleRuns(r.now()) }); err != nil {
		r.log.Error("runs that were left open could not be closed", "error", err)
	}
	for _, c := range r.conns {
		r.work(c)
	}
}

func (r *Relay) work(c *conn) {
	for _, loop := range []func(*conn){r.inLoop, r.readLoop, r.outLoop} {
		r.wg.Add(1)
		go func() { defer r.wg.Done(); loop(c) }()
	}
}

// Stop ends the work and waits for what is under way. The store stays open.
func (r *Relay) Stop() {
	r.stop()
	r.wg.Wait()
	r.client.CloseIdleConnections()
}

// Connector returns the definition a connection is joined through.
func (r *Relay) Connector(code string) *connector.Definition { return r.lib[code] }

// Library returns all definitions.
func (r *Relay) Library() connector.Library { return r.lib }

func (r *Relay) byCode(code string) *conn {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.codes[code]
}

func (r *Relay) byID(id int64) *conn {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.conns[id]
}

func (r *Relay) all() []*conn {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := make([]*conn, 0, len(r.conns))
	for _, c := range r.conns {
		out = append(out, c)
	}
	return out
}

// feed returns a copy of a connection's feed, and whether it is on and the connection not paused.
func (r *Relay) feed(c *conn, kind string) (store.Feed, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	f := c.feeds[kind]
	if f == nil {
		return store.Feed{}, false
	}
	return *f, f.On && !c.paused
}

func (r *Relay) placeName(id int64) string {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return r.places[id].Name
}

// Place returns a location.
func (r *Relay) Place(id int64) store.Location {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	return r.places[id]
}

func poke(ch chan struct{}) {
	select {
	case ch <- struct{}{}:
	default:
	}
}

// change collects what a transaction will cause once it is committed.
type change struct {
	*store.Tx
	events []Event
	wake   map[int64]bool
	now    time.Time
}

func (c *change) tell(kind, key string) { c.events = append(c.events, Event{Kind: kind, Key: key}) }

// commit runs f in a transaction, then tells those who listen and wakes those who send.
func (r *Relay) commit(ctx context.Context, f func(*change) error) error {
	c := &change{wake: map[int64]bool{}, now: r.now()}
	if err := r.Store.Write(ctx, func(t *store.Tx) error { c.Tx = t; return f(c) }); err != nil {
		return err
	}
	for id := range c.wake {
		if k := r.byID(id); k != nil {
			poke(k.wakeOut)
		}
	}
	r.Bus.Publish(c.events)
	return nil
}

// queue puts a message into the outbox under a reference of its own.
func (r *Relay) queue(c *change, m store.OutboxMessage) (int64, error) {
	c.wake[m.ConnectionID] = true
	return c.Enqueue(m, r.prefix, c.now)
}

// Refuse makes an error for a person: what was wrong and what was expected.
func Refuse(format string, args ...any) error {
	return &Refused{Text: fmt.Sprintf(format, args...)}
}

// Refused is a request that was understood and not carried out. Nothing was changed.
type Refused struct {
	Text     string
	Conflict bool // the state of things stands against it, not the request's form
}

func (e *Refused) Error() string { return e.Text }
