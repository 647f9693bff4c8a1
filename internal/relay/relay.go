// Package relay holds the use cases: messages are received and kept, decisions are loaded, made by
// core and committed, and what they cause is sent. It is the only place where connector, store and
// core meet. It decides nothing that core could decide, and holds no SQL and no HTTP routes.
//
// Each connection has goroutines of its own, one that decides, one that sends, and one per feed that
// reads, so that a slow or hanging system delays nobody but itself.
package relay

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// Relay is a running company.
type Relay struct {
	Store  *store.Store
	Bus    *Bus
	log    *slog.Logger
	now    func() time.Time
	client *http.Client // of all outgoing calls; guarded
	mail   Mail
	hook   func(where string)
	seal   *sealer
	prefix string // begins every reference we send: unique to this company file
	// gs1Prefix begins the SSCC of every parcel. Without a company prefix of its own, a company uses
	// one of the range that GS1 sets aside for use inside a company.
	gs1Prefix string

	loading sync.Mutex // held while memory is brought to what the file says, so that it never goes backwards
	mu      sync.RWMutex
	lib     connector.Library // replaced as a whole when a definition is added
	fixed   connector.Library // built in or from a folder
	logins  map[int64]*login  // by account
	tested  map[string]Tested // the last verdict on an access, by connection
	conns   map[int64]*conn
	codes   map[string]*conn
	running bool
	wg      sync.WaitGroup
	ctx     context.Context
	stop    context.CancelFunc

	tariffMu sync.Mutex
	tariffs  map[int64]tariffAt

	steps      map[jobKind]jobStep
	in         map[string]inbound                                                // by kind of feed
	out        map[string]outbound                                               // by kind of feed
	onFreed    func(ch *change, book *stock.Book, items []int64) error           // stock became available
	onKnown    func(ch *change, a rematchArgs) error                             // a listing or an item is known now
	onSaving   func(ch *change, o *order.Order) error                            // an order is about to be written
	onChanged  func(ch *change, o *order.Order) error                            // an order was changed under those who work on it
	onSettings func(ch *change, c *conn, before, now Settings, who string) error // a connection has other settings
	actions    map[string]action                                                 // what can be done to an order, beyond what the order alone decides
	onUnderWay func(ctx context.Context, p store.JobPart) (store.JobPart, error) // what became of an action that was asked for at the outside
	begin      func(c *conn)                                                     // a connection begins to work
	more       func(c *conn)                                                     // a connection may have feeds that nobody reads yet

	committed []func(ctx context.Context, ch *change) error // what rooms do after each commit, in this order

	zone  atomic.Pointer[time.Location] // of the company
	wares atomic.Pointer[wares]
	rules atomic.Pointer[rules.Set]
	looks looks
	match matcher

	placeMu sync.RWMutex
	places  map[int64]store.Location

	wakeWatch *waker             // something may be due sooner
	wakeJobs  map[jobKind]*waker // there is work for the loops of jobs
	wakeTell  *waker             // somebody is to be told
	watchAt   time.Time          // of a relay that is driven by hand: when it looks again; guarded by mu
}

type tariffAt struct {
	tariff *freight.Tariff
	at     time.Time
}

// conn is a connection at work. What it is made of is replaced as a whole when it is changed.
type conn struct {
	id      int64
	cur     atomic.Pointer[joined]
	feeds   map[string]*store.Feed // by kind; guarded by Relay.mu
	wakeIn  *waker
	wakeOut *waker
	readers map[string]chan runRequest // by feed; guarded by Relay.mu
	fresh   fresh

	reviewing atomic.Bool // listings of ours are being reviewed there

	ctx context.Context // ends when the connection is dropped
	end context.CancelFunc

	stockSent time.Time // when the last round of quantities began; the sending goroutine's own
}

// joined is what a connection is made of at a moment.
type joined struct {
	rec      store.Connection
	line     *connector.Line
	settings Settings
	account  int64 // revision of the account that the line was made with
}

func (c *conn) rec() *store.Connection { return &c.cur.Load().rec }
func (c *conn) line() *connector.Line  { return c.cur.Load().line }
func (c *conn) settings() *Settings    { return &c.cur.Load().settings }

// works tells whether the connection is at work: switched on and not paused.
func (c *conn) works() bool { r := c.rec(); return r.State == store.On && !r.Paused }

// login is an account in use.
type login struct {
	*connector.Login
	revision int64
	base     string
}

// Options of a relay.
type Options struct {
	Log *slog.Logger
	Now func() time.Time
	// Connector definitions; nil means those built in.
	Library connector.Library
	// Folder of further definitions; empty means none.
	Folder string
	// Addresses that are not public and may be called all the same.
	Reach []netip.Prefix
	// Transport of all outgoing calls; nil: the network, guarded by Reach.
	Transport http.RoundTripper
	// Mail is how e-mail leaves; without it none does.
	Mail Mail
	// Hook is called between steps, before and after each commit; a test may let the relay end there. nil: nothing.
	Hook func(where string)
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
	if o.Folder != "" {
		o.Library = o.Library.Clone()
		if err := o.Library.AddFolder(o.Folder); err != nil {
			return nil, err
		}
	}
	r := &Relay{Store: st, Bus: NewBus(), fixed: o.Library, lib: o.Library, log: o.Log, now: o.Now, seal: seal,
		conns: map[int64]*conn{}, codes: map[string]*conn{}, logins: map[int64]*login{}, tested: map[string]Tested{}, tariffs: map[int64]tariffAt{}, places: map[int64]store.Location{},
		client: connector.Guard{Allowed: o.Reach}.Client(), mail: o.Mail, hook: o.Hook, wakeWatch: newWaker(), wakeJobs: map[jobKind]*waker{}, wakeTell: newWaker()}
	if o.Transport != nil {
		r.client = &http.Client{Transport: o.Transport}
	}
	for _, kind := range jobKinds {
		r.wakeJobs[kind] = newWaker()
	}
	r.openDoors()
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
	if err := r.loadDefinitions(ctx); err != nil {
		return nil, err
	}
	if err := r.completeFeeds(ctx); err != nil {
		return nil, err
	}
	if err := r.reload(ctx); err != nil {
		return nil, err
	}
	if err := r.loadRules(ctx); err != nil {
		return nil, err
	}
	return r, r.loadWares(ctx)
}

// completeFeeds gives connections the feeds that their connectors have learned since they were joined,
// switched off.
func (r *Relay) completeFeeds(ctx context.Context) error {
	recs, err := r.Store.Connections(ctx)
	if err != nil {
		return err
	}
	feeds, err := r.Store.Feeds(ctx)
	if err != nil {
		return err
	}
	has := map[int64]map[string]bool{}
	for _, f := range feeds {
		if has[f.ConnectionID] == nil {
			has[f.ConnectionID] = map[string]bool{}
		}
		has[f.ConnectionID][f.Kind] = true
	}
	for _, rec := range recs {
		def := r.lib[rec.Connector]
		if def == nil {
			continue // reload says so
		}
		for _, kind := range def.Kinds() {
			if has[rec.ID][kind] {
				continue
			}
			if err := r.Store.Write(ctx, func(t *store.Tx) error {
				_, err := t.AddFeed(store.Feed{ConnectionID: rec.ID, Kind: kind})
				return err
			}); err != nil {
				return err
			}
		}
	}
	return nil
}

// reload reads locations, connections and feeds; connections that are new begin to work if the relay runs.
//
// Loads run one after the other, each reading the file after the one before: memory follows the file and never goes
// back to an older state.
func (r *Relay) reload(ctx context.Context) error {
	r.loading.Lock()
	defer r.loading.Unlock()
	ctx = context.WithoutCancel(ctx) // what was committed is made known, although its caller may have left
	if err := r.loadZone(ctx); err != nil {
		return err
	}
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
	accounts, err := r.Store.Accounts(ctx)
	if err != nil {
		return err
	}
	feeds, err := r.Store.Feeds(ctx)
	if err != nil {
		return err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.reloadAccounts(accounts); err != nil {
		return err
	}
	there := map[int64]bool{}
	for _, rec := range recs {
		there[rec.ID] = true
		c := r.conns[rec.ID]
		if c != nil && c.rec().Revision == rec.Revision && (r.logins[rec.AccountID] == nil || r.logins[rec.AccountID].revision == c.cur.Load().account) {
			continue
		}
		made, err := r.make(rec)
		if err != nil {
			return fmt.Errorf("connection %s: %w", rec.Code, err)
		}
		if c == nil {
			c = &conn{id: rec.ID, feeds: map[string]*store.Feed{}, wakeIn: newWaker(), wakeOut: newWaker(), readers: map[string]chan runRequest{}}
			c.ctx, c.end = context.WithCancel(r.ctx)
			c.cur.Store(made)
			r.conns[rec.ID], r.codes[rec.Code] = c, c
			if r.running {
				r.begin(c)
			}
		} else {
			c.cur.Store(made)
			if r.running {
				r.more(c)
			}
		}
	}
	for id, c := range r.conns {
		if !there[id] {
			delete(r.conns, id)
			delete(r.codes, c.rec().Code)
			gone := *c.cur.Load()
			gone.rec.State = store.Left
			c.cur.Store(&gone)
			c.end()
		}
	}
	for _, f := range feeds {
		if c := r.conns[f.ConnectionID]; c != nil {
			c.feeds[f.Kind] = &f
		}
	}
	for _, c := range r.conns {
		for _, ch := range c.readers {
			select {
			case ch <- runRequest{}: // look at the schedule again
			default:
			}
		}
	}
	return nil
}

// reloadAccounts takes up accounts that are new or were renewed.
func (r *Relay) reloadAccounts(accounts []store.Account) error {
	for _, a := range accounts {
		old := r.logins[a.ID]
		if old != nil && old.revision == a.Revision {
			continue
		}
		def := r.lib[a.Connector]
		if def == nil {
			continue // the connections of the account say so
		}
		secrets, token, err := r.openAccount(a)
		if err != nil {
			return fmt.Errorf("account %s: %w", a.Name, err)
		}
		if old != nil {
			old.Set(secrets, token)
			r.logins[a.ID] = &login{old.Login, a.Revision, a.BaseURL}
			continue
		}
		l := &login{connector.NewLogin(def, secrets, token), a.Revision, a.BaseURL}
		l.Keep = r.keepToken(a.ID)
		r.logins[a.ID] = l
	}
	return nil
}

// make puts together what a connection is made of. The caller holds the lock.
func (r *Relay) make(rec store.Connection) (*joined, error) {
	common := r.lib[rec.Connector]
	if common == nil {
		return nil, fmt.Errorf("there is no connector %q", rec.Connector)
	}
	def, err := common.With(rec.Overrides)
	if err != nil {
		return nil, fmt.Errorf("overrides: %w", err)
	}
	out := &joined{rec: rec}
	if err := json.Unmarshal([]byte(rec.Settings), &out.settings); err != nil {
		return nil, fmt.Errorf("settings: %w", err)
	}
	o := connector.LineOptions{Base: "http://nowhere.invalid", Site: rec.Site, Test: rec.Test, Settings: out.settings.forExpressions(), Client: r.client, Now: r.now}
	if l := r.logins[rec.AccountID]; l != nil {
		o.Login, o.Base, out.account = l.Login, or(l.base, o.Base), l.revision
		if def.Limits != common.Limits {
			l.Pace(def.Limits)
		}
	}
	out.line, err = connector.NewLine(def, o)
	return out, err
}

// Connector returns a definition by its code, or nil.
func (r *Relay) Connector(code string) *connector.Definition {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.lib[code]
}

// Library returns all definitions.
func (r *Relay) Library() connector.Library {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.lib.Clone()
}

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

// sorted lists the connections in the order in which they were joined.
func (r *Relay) sorted() []*conn {
	out := r.all()
	slices.SortFunc(out, func(a, b *conn) int { return int(a.id - b.id) })
	return out
}

// feed returns a copy of a connection's feed, and whether it is on and the connection at work.
func (r *Relay) feed(c *conn, kind string) (store.Feed, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	f := c.feeds[kind]
	if f == nil {
		return store.Feed{}, false
	}
	return *f, f.On && c.works()
}
