package demo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"time"

	"openrelay/internal/api"
	"openrelay/internal/client"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// Outside is the world around the relay: two web stores and a carrier on loopback.
type Outside struct {
	Morrow, Skep       *standin.Hedgerow
	Plover             *standin.Plover
	MorrowURL, SkepURL string
	PloverURL          string
	servers            []*http.Server
}

// MorrowPushSecret signs what the first store pushes.
const MorrowPushSecret = "morrow-push-secret-of-the-demo"

// The demo's credentials open nothing but its own stand-ins.
const (
	morrowToken             = "hr_morrow_hive_supply_demo_token"
	skepToken, skepSecret   = "hr_little_skep_demo_token_000001", "little-skep-push-secret-of-demo"
	ploverKey, ploverSecret = "PLVR20DEMO7MORROW41X", "plover-signing-word-of-the-demo"
)

// OpenOutside starts the stand-ins at the given addresses (port 0 takes a free one). extra is added to
// the stores' stock.
func OpenOutside(addrs [3]string, extra int64) (*Outside, error) {
	o := &Outside{
		Morrow: standin.NewHedgerow(standin.ShopConfig{Name: "Morrow Hive Supply", Number: "H-20071", Country: "XW", Currency: "EUR", OrderPrefix: "MH", Token: morrowToken, PushSecret: MorrowPushSecret, Accent: "#7a4b12", Items: shopItems(false, extra)}),
		Skep:   standin.NewHedgerow(standin.ShopConfig{Name: "Little Skep", Number: "H-31415", Country: "XW", Currency: "EUR", OrderPrefix: "LS", Token: skepToken, PushSecret: skepSecret, Accent: "#3f5d3a", Items: shopItems(true, extra)}),
		Plover: standin.NewPlover(standin.PostConfig{Holder: Company, CustomerNo: "PP-5518", Land: "XW", Key: ploverKey, PushSecret: ploverSecret}),
	}
	for i, part := range []struct {
		h   http.Handler
		url *string
	}{{o.Morrow, &o.MorrowURL}, {o.Skep, &o.SkepURL}, {o.Plover, &o.PloverURL}} {
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
	o.Morrow.SetBase(o.MorrowURL)
	o.Skep.SetBase(o.SkepURL)
	return o, nil
}

func listen(addr string) (net.Listener, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return nil, fmt.Errorf("%s is not free; end what listens there, or choose other ports with -listen: %w", addr, err)
	}
	return l, nil
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
	for _, s := range o.servers {
		s.Close()
	}
}

// SetUp makes the company in an empty file: places, items with opening stock, profiles, people, an API
// token, and the connections to the outside.
func SetUp(ctx context.Context, r *relay.Relay, o *Outside, token string, extra int64) error {
	if err := r.Store.Write(ctx, func(t *store.Tx) error {
		return errors.Join(t.PutSetting("company", Company), t.PutSeries("order", "R", 10001), t.PutSeries("shipment", "S", 40001))
	}); err != nil {
		return err
	}
	var ids []int64
	for _, l := range locations {
		id, err := r.AddLocation(ctx, l)
		if err != nil {
			return err
		}
		ids = append(ids, id)
	}
	alder, pier := ids[0], ids[1]
	if err := r.AddItems(ctx, openings(alder, pier, extra), "Edda Quillon"); err != nil {
		return err
	}
	if err := r.AddProfiles(ctx, profiles); err != nil {
		return err
	}
	for _, p := range People {
		if err := r.PutUser(ctx, p.Email, p.Name, p.Role, Password); err != nil {
			return err
		}
	}
	if err := r.AddToken(ctx, "Runa Hollis", "admin", token); err != nil {
		return err
	}
	all := map[string]bool{"orders in": true, "listings in": true, "stock in": true, "tracking in": true, "stock out": true, "dispatch out": true, "labels out": true, "handovers out": true}
	for _, c := range []relay.NewConnection{
		{Code: "morrow", Connector: "hedgerow", Name: "Morrow Hive Supply", BaseURL: o.MorrowURL, Secrets: map[string]string{"token": morrowToken, "push_secret": MorrowPushSecret},
			Settings: relay.Settings{Offer: stock.Policy{Sources: []int64{alder, pier}}, Tolerance: 2, Sender: "Morrow Hive Supply"}, Feeds: all},
		{Code: "skep", Connector: "hedgerow", Name: "Little Skep", BaseURL: o.SkepURL, Secrets: map[string]string{"token": skepToken, "push_secret": skepSecret},
			Settings: relay.Settings{Offer: stock.Policy{Sources: []int64{alder}, Buffer: 2, Floor: 1}, Tolerance: 2, Sender: "Little Skep"}, Feeds: all},
		{Code: "plover", Connector: "plover-post", Name: "Plover Post", BaseURL: o.PloverURL, Secrets: map[string]string{"key": ploverKey, "push_secret": ploverSecret}, Feeds: all},
	} {
		if err := r.AddConnection(ctx, c, "Edda Quillon"); err != nil {
			return err
		}
	}
	return nil
}

// World is the relay of the demo company with the outside around it, all in this process.
type World struct {
	*Outside
	Relay  *relay.Relay
	Store  *store.Store
	URL    string
	Token  string
	Client *client.Client
	api    *api.API
	server *http.Server
	clean  func()
}

// Options of a world.
type Options struct {
	File    string // company file; empty takes a temporary one
	Addrs   [4]string
	Console fs.FS
	Log     *slog.Logger
	Version string
	Extra   int64 // units added to every stock
}

// FreePorts are addresses on loopback that nobody uses.
var FreePorts = [4]string{"127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0", "127.0.0.1:0"}

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
	if w.Outside, err = OpenOutside([3]string(o.Addrs[1:]), o.Extra); err != nil {
		return w, err
	}
	if w.Store, err = store.Open(ctx, o.File); err != nil {
		return w, err
	}
	if w.Relay, err = relay.Open(ctx, w.Store, relay.Options{Log: o.Log}); err != nil {
		return w, err
	}
	if err := SetUp(ctx, w.Relay, w.Outside, w.Token, o.Extra); err != nil {
		return w, err
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
	w.Relay.Start()
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
