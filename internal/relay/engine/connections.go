package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/store"
)

// SellsLabels tells whether a connection is a carrier whose prices can be asked.
func SellsLabels(c *Conn) bool {
	def := c.Line().Def
	return def.Feeds[message.LabelsOut] != nil && (def.Calls["tariff"] != nil || def.Calls["rates"] != nil)
}

func Readable(def *connector.Definition, kind message.Feed) bool {
	f := def.Feeds[kind]
	return f != nil && f.Read != nil
}

// RunRequest asks a reader for a run; the zero value asks it to look at its schedule again.
type RunRequest struct {
	Kind        message.Feed
	Cause, From string
	Started     chan int64
}

// NoConnection says that there is no connection of a code.
func NoConnection(code string) error { return fmt.Errorf("connection %s: %w", code, store.ErrNotFound) }

// Ask carries out a call of a connection's connector.
func (r *Engine) Ask(ctx context.Context, code, call string, msg any) ([]any, error) {
	c := r.ByCode(code)
	if c == nil {
		return nil, NoConnection(code)
	}
	return c.Line().Ask(ctx, call, msg)
}

// Conn is a connection at work. What it is made of is replaced as a whole when it is changed.
type Conn struct {
	ID      int64
	cur     atomic.Pointer[joined]
	feeds   map[message.Feed]*store.Feed // by kind; guarded by Engine.mu
	WakeIn  *Waker
	WakeOut *Waker
	mu      sync.Mutex
	readers map[message.Feed]chan RunRequest // by feed; guarded by mu
	Mapped  mapCache

	Reviewing atomic.Bool // listings of ours are being reviewed there

	Ctx context.Context // ends when the connection is dropped
	end context.CancelFunc

	LastUnits atomic.Bool // a quantity waits of which so few are left that each moment counts

	StockSent time.Time // when the last round of quantities began; the sending goroutine's own
}

// joined is what a connection is made of at a moment.
type joined struct {
	rec      store.Connection
	line     *connector.Line
	settings Settings
	account  int64 // revision of the account that the line was made with
}

func (c *Conn) Rec() *store.Connection { return &c.cur.Load().rec }

func (c *Conn) Line() *connector.Line { return c.cur.Load().line }

func (c *Conn) Settings() *Settings { return &c.cur.Load().settings }

// Works tells whether the connection is at work: switched on and not paused.
func (c *Conn) Works() bool { r := c.Rec(); return r.State == store.On && !r.Paused }

// login is an account in use.
type login struct {
	*connector.Login
	revision int64
	base     string
}

// CompleteFeeds gives connections the feeds that their connectors have learned since they were joined,
// switched off.
func (r *Engine) CompleteFeeds(ctx context.Context) error {
	recs, err := r.Store.Connections(ctx)
	if err != nil {
		return err
	}
	feeds, err := r.Store.Feeds(ctx)
	if err != nil {
		return err
	}
	has := map[int64]map[message.Feed]bool{}
	for _, f := range feeds {
		if has[f.ConnectionID] == nil {
			has[f.ConnectionID] = map[message.Feed]bool{}
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

// Reload reads locations, connections and feeds; connections that are new begin to work if the relay runs.
//
// Loads run one after the other, each reading the file after the one before: memory follows the file and never goes
// back to an older state.
func (r *Engine) Reload(ctx context.Context) error {
	r.loading.Lock()
	defer r.loading.Unlock()
	ctx = context.WithoutCancel(ctx) // what was committed is made known, although its caller may have left
	if err := r.loadCompany(ctx); err != nil {
		return err
	}
	if err := r.reloadPlaces(ctx); err != nil {
		return err
	}
	if r.bare {
		return nil
	}
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
	if err := r.reloadConnections(recs); err != nil {
		return err
	}
	for _, f := range feeds {
		if c := r.conns[f.ConnectionID]; c != nil {
			c.feeds[f.Kind] = &f
		}
	}
	for _, c := range r.conns {
		c.lookAgain()
	}
	return nil
}

// reloadPlaces reads the locations, whom parcels come from, and carriers that are only named.
func (r *Engine) reloadPlaces(ctx context.Context) error {
	locs, err := r.Store.Locations(ctx)
	if err != nil {
		return err
	}
	places := make(map[int64]store.Location, len(locs))
	for _, l := range locs {
		places[l.ID] = l
	}
	senders, err := r.Store.Senders(ctx)
	if err != nil {
		return err
	}
	carriers, err := r.Store.NamedCarriers(ctx)
	if err != nil {
		return err
	}
	byCode := make(map[string]store.Sender, len(senders))
	for _, s := range senders {
		byCode[s.Code] = s
	}
	r.placeMu.Lock()
	r.places, r.senders, r.carried = places, byCode, carriers
	r.placeMu.Unlock()
	return nil
}

// reloadConnections takes up connections that are new or were changed, and lets those go that are gone. The caller holds the
// lock.
func (r *Engine) reloadConnections(recs []store.Connection) error {
	there := map[int64]bool{}
	for _, rec := range recs {
		there[rec.ID] = true
		c := r.conns[rec.ID]
		if c != nil && c.Rec().Revision == rec.Revision &&
			(r.logins[rec.AccountID] == nil || r.logins[rec.AccountID].revision == c.cur.Load().account) {
			continue
		}
		made, err := r.make(rec)
		if err != nil {
			return fmt.Errorf("connection %s: %w", rec.Code, err)
		}
		if c == nil {
			c = &Conn{ID: rec.ID, feeds: map[message.Feed]*store.Feed{}, WakeIn: NewWaker(), WakeOut: NewWaker(),
				readers: map[message.Feed]chan RunRequest{}}
			c.Ctx, c.end = context.WithCancel(r.Ctx)
			c.cur.Store(made)
			r.conns[rec.ID], r.codes[rec.Code] = c, c
			if r.running {
				r.work(c)
			}
		} else {
			c.cur.Store(made)
			if r.running {
				r.read(c)
			}
		}
	}
	for id, c := range r.conns {
		if !there[id] {
			delete(r.conns, id)
			delete(r.codes, c.Rec().Code)
			gone := *c.cur.Load()
			gone.rec.State = store.Left
			c.cur.Store(&gone)
			c.end()
		}
	}
	return nil
}

// reloadAccounts takes up accounts that are new or were renewed.
func (r *Engine) reloadAccounts(accounts []store.Account) error {
	for _, a := range accounts {
		old := r.logins[a.ID]
		if old != nil && old.revision == a.Revision {
			continue
		}
		def := r.lib[a.Connector]
		if def == nil {
			continue // the connections of the account say so
		}
		secrets, token, err := r.OpenAccount(a)
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
func (r *Engine) make(rec store.Connection) (*joined, error) { return r.made(r.lib, rec, true) }

// made puts a connection together by the definitions of a library. Only one that is to work sets the pace of its account.
func (r *Engine) made(lib connector.Library, rec store.Connection, works bool) (*joined, error) {
	common := lib[rec.Connector]
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
	o := connector.LineOptions{Base: connector.Nowhere, Site: rec.Site, Test: rec.Test, Settings: out.settings.ForExpressions(),
		Client: r.Client, Dial: r.Dial, Folders: r.Folders, Now: r.Clock}
	if l := r.logins[rec.AccountID]; l != nil {
		o.Login, o.Base, out.account = l.Login, Or(l.base, o.Base), l.revision
		if works && def.Limits != common.Limits {
			l.Pace(def.Limits)
		}
	}
	out.line, err = connector.NewLine(def, o)
	return out, err
}

// Connector returns a definition by its code, or nil.
func (r *Engine) Connector(code string) *connector.Definition {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.lib[code]
}

// Library returns all definitions.
func (r *Engine) Library() connector.Library {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.lib.Clone()
}

func (r *Engine) ByCode(code string) *Conn {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.codes[code]
}

func (r *Engine) ByID(id int64) *Conn {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.conns[id]
}

func (r *Engine) All() []*Conn {
	r.mu.RLock()
	defer r.mu.RUnlock()
	out := make([]*Conn, 0, len(r.conns))
	for _, c := range r.conns {
		out = append(out, c)
	}
	return out
}

// Sorted lists the connections in the order in which they were joined.
func (r *Engine) Sorted() []*Conn {
	out := r.All()
	slices.SortFunc(out, func(a, b *Conn) int { return int(a.ID - b.ID) })
	return out
}

// Feed returns a copy of a connection's feed, and whether it is on and the connection at work.
func (r *Engine) Feed(c *Conn, kind message.Feed) (store.Feed, bool) {
	r.mu.RLock()
	defer r.mu.RUnlock()
	f := c.feeds[kind]
	if f == nil {
		return store.Feed{}, false
	}
	return *f, f.On && c.Works()
}
