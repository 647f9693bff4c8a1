// Package engine is what all rooms of a running company stand on: its connections, changes and what follows a commit,
// jobs, events, settings and secrets. It knows no room.
package engine

import (
	"context"
	"log/slog"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/seal"
	"openrelay/internal/store"
)

// Engine is what the rooms of a running company share.
type Engine struct {
	Store *store.Store
	Bus   *Bus
	Log   *slog.Logger
	Clock func() time.Time
	// Room tells how many bytes of the disk are free, of how many.
	Room    func() (free, total uint64, err error)
	Client  *http.Client     // of all outgoing calls; guarded
	Dial    connector.Dialer // of what is not HTTP
	Folders []string         // in which files may be exchanged
	Mail    Mail
	hook    func(where string)
	Sealer  *seal.Ring
	Prefix  string // begins every reference we send: unique to this company file
	// GS1Prefix begins the SSCC of every parcel. Without a company prefix of its own, a company uses
	// one of the range that GS1 sets aside for use inside a company.
	GS1Prefix string

	others     *others    // whom we call, and their clocks
	loading    sync.Mutex // held while memory is brought to what the file says, so that it never goes backwards
	mu         sync.RWMutex
	lib        connector.Library // replaced as a whole when a definition is added
	shipped    connector.Library // built in
	fixed      connector.Library // built in or from the folder
	folder     string            // of further definitions; empty where there is none
	bare       bool              // connections are left alone
	logins     map[int64]*login  // by account
	tested     map[string]Tested // the last verdict on an access, by connection
	conns      map[int64]*Conn
	codes      map[string]*Conn
	kinds      map[string]SettingKind
	running    bool
	background sync.WaitGroup
	Ctx        context.Context // ends with the engine
	Cancel     context.CancelFunc

	settlers [marks]Settler
	JobSteps map[JobKind]JobStep
	work     func(c *Conn) // a connection begins to work
	read     func(c *Conn) // a connection may have feeds that nobody reads yet

	Committed []func(ctx context.Context, ch *Change) error // what rooms do after each commit, in this order

	zone     atomic.Pointer[time.Location] // of the company
	currency atomic.Pointer[string]

	placeMu sync.RWMutex
	senders map[string]store.Sender // by code; guarded by placeMu, as carriers
	carried []store.NamedCarrier    // carriers that are only named
	places  map[int64]store.Location

	WakeWatch *Waker             // something may be due sooner
	wakeJobs  map[JobKind]*Waker // there is work for the loops of jobs
	WakeTell  *Waker             // somebody is to be told
}

// Options of a relay.
type Options struct {
	Log *slog.Logger
	Now func() time.Time
	// Connector definitions; nil means those built in.
	Library connector.Library
	// Folder of further definitions; empty means none.
	Folder string
	// Bare opens a company file for its people and tokens alone: its connections are left as they are, so that no
	// definition of theirs need be at hand.
	Bare bool
	// Backups is the folder of backups; empty means that the service makes none.
	Backups string
	// Addresses that are not public and may be called all the same.
	Reach []netip.Prefix
	// Folders of this machine in which files may be exchanged.
	Folders []string
	// Transport of all outgoing calls; nil: the network, guarded by Reach.
	Transport http.RoundTripper
	// Mail is how e-mail leaves; without it none does.
	Mail Mail
	// Room tells how many bytes of the disk are free, of how many; nil: as the company's file says.
	Room func() (free, total uint64, err error)
	// Hook is called between steps, before and after each commit; a test may let the relay end there. nil: nothing.
	Hook func(where string)
}

// Open prepares the relay of a company file. Nothing runs until Start.
func Open(ctx context.Context, st *store.Store, o Options) (*Engine, error) {
	o.fill(st)
	shipped, fixed, err := definitions(o)
	if err != nil {
		return nil, err
	}
	sealed, err := st.HoldsSecrets(ctx)
	if err != nil {
		return nil, err
	}
	ring, err := seal.Open(st.Path()+".key", sealed)
	if err != nil {
		return nil, err
	}
	r := &Engine{
		Store:     st,
		Bus:       NewBus(),
		shipped:   shipped,
		folder:    o.Folder,
		bare:      o.Bare,
		fixed:     fixed,
		lib:       fixed,
		Log:       o.Log,
		Clock:     o.Now,
		Sealer:    ring,
		conns:     map[int64]*Conn{},
		codes:     map[string]*Conn{},
		kinds:     map[string]SettingKind{},
		logins:    map[int64]*login{},
		tested:    map[string]Tested{},
		places:    map[int64]store.Location{},
		Client:    connector.Guard{Allowed: o.Reach}.Client(),
		Dial:      connector.Guard{Allowed: o.Reach}.Dial(),
		Folders:   o.Folders,
		Mail:      o.Mail,
		Room:      o.Room,
		hook:      o.Hook,
		WakeWatch: NewWaker(),
		wakeJobs:  map[JobKind]*Waker{},
		WakeTell:  NewWaker(),
	}
	if o.Transport != nil {
		r.Client = &http.Client{Transport: o.Transport}
	}
	r.others = &others{next: r.Client.Transport, clock: r.Clock, said: map[string]said{}}
	r.Client.Transport = r.others
	for _, kind := range JobKinds {
		r.wakeJobs[kind] = NewWaker()
	}
	r.AddSettingKind(OneSetting("company", r.Company, r.SetCompany))
	r.Ctx, r.Cancel = context.WithCancel(context.Background())
	return r, r.readPrefixes(ctx)
}

// fill takes the usual for what is not said.
func (o *Options) fill(st *store.Store) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Room == nil {
		o.Room = st.Room
	}
}

// definitions are those that ship, and those with the folder's.
func definitions(o Options) (shipped, fixed connector.Library, err error) {
	if shipped = o.Library; shipped == nil {
		if shipped, err = connector.BuiltIn(); err != nil {
			return nil, nil, err
		}
	}
	if o.Folder == "" {
		return shipped, shipped, nil
	}
	fixed = shipped.Clone()
	return shipped, fixed, fixed.AddFolder(o.Folder)
}

// readPrefixes reads what references and GS1 keys begin with; a new company is given a prefix of its own.
func (r *Engine) readPrefixes(ctx context.Context) (err error) {
	if r.Prefix, err = r.Store.Setting(ctx, "reference prefix"); err != nil {
		return err
	}
	if r.Prefix == "" {
		r.Prefix = "or" + RandomText(6)
		if err := r.Store.Write(ctx, func(t *store.Tx) error { return t.PutSetting("reference prefix", r.Prefix) }); err != nil {
			return err
		}
	}
	if r.GS1Prefix, err = r.Store.Setting(ctx, "gs1 company prefix"); err != nil {
		return err
	}
	r.GS1Prefix = Or(r.GS1Prefix, "2000000")
	return nil
}

// Mail sends an e-mail; ref stands for the message, so that a repeat can be told.
type Mail interface {
	Send(ctx context.Context, to, subject, text, ref string) error
}
