package demo

import (
	"context"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"time"

	"openrelay/internal/api"
	"openrelay/internal/client"
	"openrelay/internal/connector"
	"openrelay/internal/core/person"
	"openrelay/internal/mail"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// Outside is the world around the relay, on loopback: two web stores and a carrier that are joined, and
// two marketplaces, a till, an ordering portal, an address service and two more carriers that are there to be joined.
type Outside struct {
	Morrow, Skep *standin.Hedgerow
	Plover       *standin.Plover
	Tansy        *standin.Tansy
	Bramble      *standin.Bramble
	Counterpane  *standin.Counterpane
	Postbook     *standin.Postbook
	Nosh         *standin.Nosh
	Ironway      *standin.Ironway
	Heron        *standin.Heron
	Gate         *standin.Fallowgate
	Slate        *standin.Slate
	Printer      *standin.Printer
	Tray         *standin.Tray // where the company's people get their mail, and are called

	TrayURL, MailAddr                                                                         string
	MorrowURL, SkepURL, PloverURL, TansyURL, BrambleURL, CounterpaneURL, PostbookURL, NoshURL string
	IronwayURL, HeronURL, PrinterURL, GateURL, SlateURL                                       string

	servers []*http.Server
}

// Systems is how many outside systems there are; each listens on a port of its own.
const Systems = 15

// MorrowPushSecret signs what the first store pushes.
const MorrowPushSecret = "morrow-push-secret-of-the-demo"

// The demo's credentials open nothing but its own stand-ins.
const (
	morrowToken             = "hr_morrow_hive_supply_demo_token"
	skepToken, skepSecret   = "hr_little_skep_demo_token_000001", "little-skep-push-secret-of-demo"
	ploverKey, ploverSecret = "PLVR20DEMO7MORROW41X", "plover-signing-word-of-the-demo"
)

// MorrowAccess, SkepAccess and PloverAccess are what the stores and the carrier let in by.
var (
	MorrowAccess = map[string]string{"token": morrowToken, "push_secret": MorrowPushSecret}
	SkepAccess   = map[string]string{"token": skepToken, "push_secret": skepSecret}
	PloverAccess = map[string]string{"key": ploverKey, "push_secret": ploverSecret}
)

// TansyAccess, BrambleAccess, CounterpaneAccess, NoshAccess, IronwayAccess, HeronAccess, GateAccess, SlateAccess and PostbookAccess are
// what a person types in to join them.
var (
	TansyAccess       = map[string]string{"app": "app-4471", "app_secret": "tansy-application-secret-of-the-demo"}
	BrambleAccess     = map[string]string{"key": "BRDEMO7K20MORROW", "secret": "bramble-trader-secret-of-the-demo"}
	CounterpaneAccess = map[string]string{"user": "relay", "password": "the honeycomb till", "shop": "3"}
	NoshAccess        = map[string]string{"key": "nl-kitchen-key-of-the-demo-0001"}
	IronwayAccess     = map[string]string{"user": "morrow-hive", "password": "the honeycomb ramp"}
	HeronAccess       = map[string]string{"client": "morrow-relay", "secret": "heron-program-secret-of-the-demo",
		"push_secret": "heron-news-secret-of-the-demo"}
	GateAccess  = map[string]string{"user": "morrow-hive", "password": "the honeycomb gate"}
	SlateAccess = map[string]string{"account": "MH-77", "password": "the honeycomb chisel"}

	PostbookAccess = map[string]string{"token": "pb_postbook_token_of_the_demo_0001", "contract": "C-77120", "desk": "1"}
)

// NewOutside makes the stand-ins without serving them anywhere. With byHand none of them does anything by itself.
func NewOutside(extra int64, byHand bool) *Outside {
	return &Outside{
		Morrow: standin.NewHedgerow(standin.ShopConfig{Name: "Morrow Hive Supply", Number: "H-20071", Country: "XW", Currency: "EUR",
			OrderPrefix: "MH", Token: morrowToken, PushSecret: MorrowPushSecret, Accent: "#7a4b12", Items: shopItems(false, extra),
			ByHand: byHand}),
		Skep: standin.NewHedgerow(standin.ShopConfig{Name: "Little Skep", Number: "H-31415", Country: "XW",
			Currency: "EUR", OrderPrefix: "LS", Token: skepToken, PushSecret: skepSecret, Accent: "#3f5d3a",
			Items: shopItems(true, extra), ByHand: byHand}),
		Plover: standin.NewPlover(standin.PostConfig{Holder: Company, CustomerNo: "PP-5518", Land: "XW", Key: ploverKey,
			PushSecret: ploverSecret}),
		Tansy: standin.NewTansy(standin.TansyConfig{AppNo: TansyAccess["app"], AppSecret: TansyAccess["app_secret"], Goods: tansyGoods(),
			PerSecond: 60,
			Sellers: []standin.TansySeller{{Name: Company, No: "T-8841", Site: "westmark", Land: "XW"},
				{Name: "Hollow Oak Apiaries", No: "T-9007", Site: "eastmark", Land: "XE"}}}),
		Bramble: standin.NewBramble(standin.BrambleConfig{Name: Company, Number: "BR-3302", Land: "XW", Key: BrambleAccess["key"],
			Secret: BrambleAccess["secret"], Goods: brambleGoods()}),
		Counterpane: standin.NewCounterpane(standin.CounterpaneConfig{Company: Company, Shop: "Mill Lane",
			Land: "XW", ShopNo: 3, User: CounterpaneAccess["user"], Password: CounterpaneAccess["password"], Goods: tillGoods(),
			Menu: tillMenu()}),
		Postbook: standin.NewPostbook(standin.PostbookConfig{Holder: Company, Contract: PostbookAccess["contract"],
			Desk: PostbookAccess["desk"], Token: PostbookAccess["token"]}),
		Nosh: standin.NewNosh(standin.NoshConfig{Kitchen: "Mill Lane tea room", Number: "K-417", Land: "XW", Key: NoshAccess["key"],
			ByHand: byHand}),
		Ironway: standin.NewIronway(standin.RailConfig{Shipper: Company, Number: "IW-2207", User: IronwayAccess["user"],
			Password: IronwayAccess["password"], Prefix: "2007100"}),
		Heron: standin.NewHeron(standin.CourierConfig{Name: Company, Number: "SH-9911", Client: HeronAccess["client"],
			Secret: HeronAccess["secret"], PushSecret: HeronAccess["push_secret"]}),
		Gate: standin.NewFallowgate(standin.GateConfig{Customer: Company, Number: "FG-118", User: GateAccess["user"],
			Password: GateAccess["password"], Prefix: "2007109", Goods: gateGoods(), ByHand: byHand}),
		Slate: standin.NewSlate(standin.SlateConfig{Customer: Company, Account: SlateAccess["account"], Password: SlateAccess["password"],
			Word: slateWord, Makes: map[string]string{"PLAQUE-S": "Small plaque", "PLAQUE-L": "Large plaque"}, ByHand: byHand}),
		Printer: standin.NewPrinter(),
		Tray:    standin.NewTray(),
	}
}

// OpenOutside starts the stand-ins at the given addresses (port 0 takes a free one). extra is added to
// the stores' stock.
func OpenOutside(addrs [Systems]string, extra int64) (*Outside, error) {
	o := NewOutside(extra, false)
	for i, part := range []struct {
		h   http.Handler
		url *string
	}{{o.Morrow, &o.MorrowURL}, {o.Skep, &o.SkepURL}, {o.Plover, &o.PloverURL}, {o.Tansy,
		&o.TansyURL}, {o.Bramble, &o.BrambleURL}, {o.Counterpane, &o.CounterpaneURL}, {o.Postbook, &o.PostbookURL}, {o.Nosh, &o.NoshURL},
		{o.Tray, &o.TrayURL}, {o.Ironway, &o.IronwayURL}, {o.Heron, &o.HeronURL},
		{o.Printer, &o.PrinterURL}, {o.Gate, &o.GateURL}, {o.Slate, &o.SlateURL}} {
		l, err := listen(addrs[i])
		if err != nil {
			o.Close()
			return nil, err
		}
		*part.url = "http://" + l.Addr().String()
		s := &http.Server{Handler: part.h, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, 0)}
		o.servers = append(o.servers, s)
		go s.Serve(l)
	}
	l, err := listen(addrs[Systems-1])
	if err != nil {
		o.Close()
		return nil, err
	}
	o.MailAddr = l.Addr().String()
	go o.Tray.ServeMail(l)
	o.Morrow.SetBase(o.MorrowURL)
	o.Skep.SetBase(o.SkepURL)
	return o, nil
}

// OnFreePorts are addresses for OpenOutside that nobody uses.
var OnFreePorts = [Systems]string{free, free, free, free, free, free, free, free, free, free, free, free, free, free, free}

const free = "127.0.0.1:0"

func listen(addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("%s is not free; end what listens there, or choose other ports with -listen: %w", addr, err)
	}
	return l, nil
}

// PrinterAddress is where the printer takes what is to be printed, over IPP.
func (o *Outside) PrinterAddress() string {
	return strings.Replace(o.PrinterURL, "http://", "ipp://", 1) + "/printers/bench"
}

// CallRelay tells the stand-ins where the relay takes pushes.
func (o *Outside) CallRelay(base string) {
	o.Morrow.SetHook(base + "/in/morrow")
	o.Skep.SetHook(base + "/in/skep")
	o.Plover.SetHook(base + "/in/plover")
}

// Close ends the stand-ins.
func (o *Outside) Close() {
	o.Morrow.Stop()
	o.Skep.Stop()
	o.Nosh.Stop()
	o.Tray.Stop()
	o.Gate.Stop()
	o.Slate.Stop()
	for _, s := range o.servers {
		s.Close()
	}
}

// Text is the set-up of the demo company, with the addresses of its stores and its carrier.
func (o *Outside) Text() (setup.Setup, error) {
	text, err := setup.ReadyText("morrow-hive")
	if err != nil {
		return setup.Setup{}, err
	}
	urls := map[string]string{"MORROW": o.MorrowURL, "SKEP": o.SkepURL, "PLOVER": o.PloverURL}
	if text, err = setup.Fill(text, func(name string) (string, bool) { v, ok := urls[name]; return v, ok }); err != nil {
		return setup.Setup{}, err
	}
	return setup.Parse([]byte(text))
}

// SetUp makes the company in an empty file: its set-up from its text, items with opening stock, people,
// and an API token.
func SetUp(ctx context.Context, r *relay.Relay, o *Outside, token string, extra int64) error {
	s, err := o.Text()
	if err != nil {
		return err
	}
	const who = "Edda Quillon"
	ground := s
	ground.Connections = nil
	if _, err := r.ApplySetup(ctx, ground, nil, who); err != nil {
		return err
	}
	locations, err := r.Store.Locations(ctx)
	if err != nil {
		return err
	}
	places := map[string]int64{}
	for _, l := range locations {
		places[l.Code] = l.ID
	}
	if err := r.AddItems(ctx, openings(places, extra), who); err != nil {
		return err
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		for _, p := range People {
			if err := ch.PutUser(&store.User{Email: p.Email, Name: p.Name, Role: p.Role, PasswordHash: passwordHash()}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	if err := r.AddToken(ctx, "Runa Hollis", person.Lead, token); err != nil {
		return err
	}
	_, err = r.ApplySetup(ctx, s, map[string]map[string]string{
		"morrow": MorrowAccess, "skep": SkepAccess, "plover": PloverAccess,
	}, who)
	return err
}

// World is the relay of the demo company with the outside around it, all in this process.
type World struct {
	*Outside
	Relay  *relay.Relay
	Store  *store.Store
	URL    string
	Token  string
	Client *client.Client
	// Invitation is where a company that has nobody yet begins.
	Invitation string
	// Exchange is the folder in which files may be exchanged.
	Exchange string
	// Browser carries what a person's browser asks for; nil: the network.
	Browser http.RoundTripper
	api     *api.API
	server  *http.Server
	clean   func()
	ago     atomic.Int64 // how long ago all of it lives, in nanoseconds
}

// openRelay opens the relay of the company file, with its folders beside the file.
func (w *World) openRelay(ctx context.Context, o Options) (err error) {
	w.Exchange = filepath.Join(filepath.Dir(o.File), "exchange")
	if err := os.MkdirAll(w.Exchange, 0o755); err != nil {
		return err
	}
	w.Relay, err = relay.Open(
		ctx,
		w.Store,
		engine.Options{Log: o.Log, Now: w.Now, Reach: connector.Loopback, Folders: []string{w.Exchange},
			Mail:    mail.Sender{Server: w.MailAddr, From: "relay@morrowhive.example", Plain: true},
			Backups: filepath.Join(filepath.Dir(o.File), "backups")},
	)
	return err
}

// Live lets the relay and the outside live at a moment, from which time goes on; the zero time is now.
func (w *World) Live(at time.Time) {
	ago := time.Duration(0)
	if !at.IsZero() {
		ago = time.Since(at)
	}
	w.ago.Store(int64(ago))
	for _, s := range []interface{ Live(time.Duration) }{w.Morrow, w.Skep, w.Plover, w.Tansy, w.Bramble,
		w.Counterpane, w.Postbook, w.Nosh, w.Ironway, w.Heron, w.Printer, w.Gate, w.Slate} {
		s.Live(ago)
	}
}

// Now is the time in which the relay and the outside live.
func (w *World) Now() time.Time { return time.Now().Add(-time.Duration(w.ago.Load())) }

// Options of a world.
type Options struct {
	File    string // company file; empty takes a temporary one
	Addrs   [1 + Systems]string
	Console fs.FS
	Log     *slog.Logger
	Version string
	Extra   int64 // units added to every stock
	Days    int   // how many days ago the company begins
	Empty   bool  // there is no company yet
}

// FreePorts are addresses on loopback that nobody uses.
var FreePorts = [1 + Systems]string{free, free, free, free, free, free, free, free, free, free, free, free, free, free, free, free}

// Open starts a world with a new company and waits until its stores show our quantities.
func Open(ctx context.Context, o Options) (w *World, err error) {
	w = &World{Token: "relay_demo_token_for_the_demo_only", clean: func() {}}
	defer func() {
		if err != nil {
			w.Close()
			w = nil
		}
	}()
	if o.File == "" {
		dir, err := os.MkdirTemp("", "openrelay-demo-")
		if err != nil {
			return w, err
		}
		w.clean = func() { os.RemoveAll(dir) }
		o.File = dir + "/company.relay"
	}
	if _, err := os.Stat(o.File); err == nil {
		return w, fmt.Errorf("%s exists; the demo makes its company anew each time and does not write over a file", o.File)
	}
	if w.Outside, err = OpenOutside([Systems]string(o.Addrs[1:]), o.Extra); err != nil {
		return w, err
	}
	if o.Days > 0 {
		w.Live(time.Now().AddDate(0, 0, -o.Days))
	}
	if w.Store, err = store.Open(ctx, o.File); err != nil {
		return w, err
	}
	if err := w.openRelay(ctx, o); err != nil {
		return w, err
	}
	if !o.Empty {
		if err := SetUp(ctx, w.Relay, w.Outside, w.Token, o.Extra); err != nil {
			return w, err
		}
	}
	l, err := listen(o.Addrs[0])
	if err != nil {
		return w, err
	}
	w.URL = "http://" + l.Addr().String()
	a, handler := api.New(w.Relay, api.Options{Log: o.Log, Console: o.Console, Version: o.Version})
	w.api = a
	w.server = &http.Server{Handler: handler, ReadHeaderTimeout: 10 * time.Second, ErrorLog: slog.NewLogLogger(slog.DiscardHandler, 0)}
	go w.server.Serve(l)
	w.CallRelay(w.URL)
	w.Client = client.New(w.URL, w.Token)
	if err := w.Relay.Start(); err != nil {
		return w, err
	}
	if o.Empty {
		key, err := w.Relay.OpenFirstRun(ctx)
		w.Invitation = w.URL + "/begin#" + key
		return w, err
	}
	return w, w.settle(ctx)
}

// settle waits until all listings are matched and all quantities have been told.
func (w *World) settle(ctx context.Context) error {
	want := len(shopItems(false, 0)) + len(shopItems(true, 0))
	return w.Wait(ctx, 20*time.Second, "the stores to show our quantities", func() (bool, error) {
		n, err := w.Store.CountTold(ctx)
		if err != nil || n < want {
			return false, err
		}
		return w.Quiet(ctx)
	})
}

// Quiet tells whether nothing waits to be sent or confirmed.
func (w *World) Quiet(ctx context.Context) (bool, error) {
	open, err := w.Store.OpenOutbox(ctx)
	if err != nil {
		return false, err
	}
	for _, states := range open {
		if states[store.Waiting]+states[store.Sending]+states[store.Sent] > 0 {
			return false, nil
		}
	}
	return true, nil
}

// Wait waits until a condition holds, looking whenever something changes.
func (w *World) Wait(ctx context.Context, most time.Duration, what string, ok func() (bool, error)) error {
	events, end := w.Relay.Bus.Listen()
	defer end()
	deadline := time.NewTimer(most)
	defer deadline.Stop()
	look := time.NewTicker(50 * time.Millisecond)
	defer look.Stop()
	for {
		done, err := ok()
		if done || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-deadline.C:
			return fmt.Errorf("waited %s for %s in vain", most, what)
		case <-events:
		case <-look.C:
		}
	}
}

// Close ends everything.
func (w *World) Close() {
	if w.api != nil {
		w.api.End()
	}
	if w.server != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		w.server.Shutdown(ctx)
		cancel()
		w.server.Close()
	}
	if w.Relay != nil {
		w.Relay.Stop()
	}
	if w.Outside != nil {
		w.Outside.Close()
	}
	if w.Store != nil {
		w.Store.Close()
	}
	w.clean()
}
