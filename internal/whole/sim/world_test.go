package sim

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/client"
	"openrelay/internal/core/message"
	"openrelay/internal/demo"
	"openrelay/internal/relay"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/listing"
	"openrelay/internal/standin"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// crash is what a simulated end of the process panics with.
type crash struct{ where string }

// odds are how often an edge misbehaves, in thousandths.
type odds struct{ lose, loseAnswer, repeat, fail, busy, garbage, slow, crash int }

// world is the company with everything outside, in one process.
type world struct {
	*demo.World
	t    *testing.T
	seed uint64
	rng  *rand.Rand
	file string
	odds odds
	in   http.Handler // the relay's own interface

	armed   bool // the driver runs a step that may break off
	crashed bool
	crashes int
	faults  map[string]int
	down    map[string]time.Time // hosts that answer nobody until then
	steps   int
	log     []string // all that happened
	mails   []string

	second   *standin.Plover // another account at a carrier
	office   *office         // whoever hands messages in
	endAfter int             // the process ends at the so manieth place where it may; 0: once in a while
}

func (w *world) say(format string, args ...any) {
	text := fmt.Sprintf("%s  %s", time.Now().Format("02 15:04:05.000"), fmt.Sprintf(format, args...))
	w.log = append(w.log, text)
}

// one tells whether something happens that does so n times in a thousand.
func (w *world) one(n int) bool { return w.rng.IntN(1000) < n }

// maybe ends the process here, once in a while.
func (w *world) maybe(where string) {
	if w.endAfter > 0 && w.armed {
		w.endAfter--
		if w.endAfter > 0 {
			return
		}
	} else if !w.armed || !w.one(w.odds.crash) {
		return
	}
	w.crashed, w.armed = true, false
	w.crashes++
	w.say("crash %s", where)
	panic(crash{where})
}

// Send takes a mail (engine.Mail).
func (w *world) Send(_ context.Context, to, subject, _, ref string) error {
	w.mails = append(w.mails, to+" "+subject+" "+ref)
	return nil
}

// hosts are the stand-ins by the host under which the relay knows them.
func (w *world) hosts() map[string]http.Handler {
	o := w.Outside
	return map[string]http.Handler{"morrow.sim": o.Morrow, "skep.sim": o.Skep, "plover.sim": o.Plover, "tansy.sim": o.Tansy,
		"bramble.sim": o.Bramble, "till.sim": o.Counterpane, "nosh.sim": o.Nosh, "gannet.sim": w.second,
		"ironway.sim": o.Ironway, "heron.sim": o.Heron, "gate.sim": o.Gate, "slate.sim": o.Slate,
		"relay.sim": w.in}
}

// RoundTrip is the edge between the relay and everything outside, in either direction.
func (w *world) RoundTrip(req *http.Request) (*http.Response, error) {
	host := req.URL.Host
	h := w.hosts()[host]
	if h == nil {
		return nil, fmt.Errorf("nobody lives at %s", host)
	}
	var body []byte
	if req.Body != nil {
		var err error
		if body, err = io.ReadAll(req.Body); err != nil {
			return nil, err
		}
		req.Body.Close()
	}
	fault := func(kind string) {
		w.faults[kind]++
		w.say("fault %s: %s %s%s", kind, req.Method, host, req.URL.Path)
	}
	edge := w.armed && (host != "relay.sim" || strings.HasPrefix(req.URL.Path, "/in/")) // people sit beside the relay
	if edge {
		if time.Now().Before(w.down[host]) {
			fault("down")
			return nil, errors.New("connection refused")
		}
		if w.one(w.odds.slow) {
			fault("slow")
			time.Sleep(time.Duration(100+w.rng.IntN(4000)) * time.Millisecond)
		}
		if err := req.Context().Err(); err != nil {
			return nil, err
		}
		switch {
		case w.one(w.odds.lose):
			fault("lost")
			return nil, errors.New("connection reset")
		case w.one(w.odds.fail):
			fault("failed")
			return answered(req, 503, "text/plain", []byte("not now")), nil
		case w.one(w.odds.busy) && host != "relay.sim":
			fault("busy")
			res := answered(req, 429, "text/plain", []byte("too many"))
			res.Header.Set("Retry-After", "3")
			return res, nil
		}
		w.maybe("before a call to " + host)
	}
	serve := func() *http.Response {
		r := req.Clone(context.Background())
		r.Body = io.NopCloser(bytes.NewReader(body))
		r.ContentLength, r.RequestURI, r.RemoteAddr, r.Host = int64(len(body)), req.URL.RequestURI(), "127.0.0.1:1", host
		rec := httptest.NewRecorder()
		h.ServeHTTP(rec, r)
		return rec.Result()
	}
	res := serve()
	if w.crashed && host == "relay.sim" { // it ended while it was being called
		return nil, errors.New("connection reset")
	}
	if edge && w.armed {
		w.maybe("after a call to " + host)
		if w.one(w.odds.repeat) && req.Method != http.MethodGet {
			fault("twice")
			res = serve()
		}
		switch {
		case w.one(w.odds.loseAnswer):
			fault("answer lost")
			return nil, errors.New("connection reset by peer")
		case w.one(w.odds.garbage) && host != "relay.sim":
			fault("garbage")
			return answered(req, 200, "text/html", []byte("<html>painting</html>")), nil
		}
	}
	w.say("%s %s%s %d", req.Method, host, req.URL.Path, res.StatusCode)
	res.Request = req
	return res, nil
}

func answered(req *http.Request, status int, kind string, body []byte) *http.Response {
	return &http.Response{StatusCode: status, Status: http.StatusText(status), Proto: "HTTP/1.1", ProtoMajor: 1, ProtoMinor: 1,
		Header: http.Header{"Content-Type": {kind}},
		Body:   io.NopCloser(bytes.NewReader(body)), ContentLength: int64(len(body)), Request: req}
}

// open begins a world. The clock is that of the bubble that the test runs in.
func open(t *testing.T, seed uint64) *world {
	rng := rand.New(rand.NewPCG(seed, 30))
	some := func(n int) int { return rng.IntN(n + 1) }
	w := &world{t: t, seed: seed, rng: rng, file: filepath.Join(t.TempDir(), "company.relay"), faults: map[string]int{},
		down: map[string]time.Time{},
		odds: odds{lose: some(20), loseAnswer: some(20), repeat: some(25), fail: some(20), busy: some(15), garbage: some(8),
			slow: some(40), crash: some(3)}}
	o := demo.NewOutside(300, true)
	for url, to := range map[string]*string{"morrow": &o.MorrowURL, "skep": &o.SkepURL, "plover": &o.PloverURL, "tansy": &o.TansyURL,
		"bramble": &o.BrambleURL, "till": &o.CounterpaneURL, "nosh": &o.NoshURL, "gate": &o.GateURL, "slate": &o.SlateURL} {
		*to = "http://" + url + ".sim"
	}
	o.Morrow.SetBase(o.MorrowURL)
	o.Skep.SetBase(o.SkepURL)
	w.second = standin.NewPlover(standin.PostConfig{
		Holder: demo.Company, CustomerNo: "PP-7720", Land: "XW", Key: "key of the second account",
		First: 55_000_000})
	w.World = &demo.World{Outside: o, URL: "http://relay.sim", Token: "relay_token_of_the_simulation_only", Browser: w}
	w.Client = client.New(w.URL, w.Token)
	w.Client.HTTP = &http.Client{Transport: w}
	w.CallRelay(w.URL)
	ctx := t.Context()
	st, err := store.Open(ctx, w.file)
	require.NoError(t, err)
	require.NoError(t, st.Write(ctx, func(tx *store.Tx) error { return tx.PutSetting("reference prefix", "orsim") }))
	require.NoError(t, st.Close())
	w.start()
	require.NoError(t, demo.SetUp(ctx, w.Relay, o, w.Token, 300))
	w.join()
	return w
}

// start opens the relay on the company file, as a process does.
func (w *world) start() {
	ctx := context.Background()
	var err error
	w.Store, err = store.Open(ctx, w.file)
	require.NoError(w.t, err)
	w.Relay, err = relay.Open(ctx, w.Store, engine.Options{Transport: w, Mail: w, Hook: w.maybe})
	require.NoError(w.t, err)
	_, w.in = api.New(w.Relay, api.Options{})
	require.NoError(w.t, w.Store.Write(ctx, func(t *store.Tx) error { return t.EndStaleRuns(time.Now()) }))
}

// stop ends it.
func (w *world) stop() {
	w.Relay.Stop()
	require.NoError(w.t, w.Store.Close())
}

// step runs something in which the process may end; then it begins anew.
func (w *world) step(name string, f func() error) {
	w.steps++
	w.say("step %s", name)
	w.armed, w.crashed = true, false
	err := func() (err error) {
		defer func() {
			if p := recover(); p != nil {
				if _, ok := p.(crash); !ok {
					panic(p)
				}
			}
		}()
		return f()
	}()
	w.armed = false
	if w.crashed {
		w.crashed = false
		w.stop()
		w.start()
		return
	}
	if err != nil && !calm(err) {
		require.NoError(w.t, err, "step %s\n%s", name, strings.Join(w.log[max(0, len(w.log)-30):], "\n"))
	}
}

// calm tells whether an error is one that people meet: a refusal with a reason, or an edge that is down.
func calm(err error) bool {
	var refused *engine.Refused
	var p *client.Problem
	return errors.As(err, &refused) || errors.As(err, &p) && p.Status < 500 || strings.Contains(err.Error(), "connection re")
}

// join joins all systems. Nothing is faulty yet.
func (w *world) join() {
	ctx := w.t.Context()
	must := func(err error) {
		w.t.Helper()
		require.NoError(w.t, err, strings.Join(w.log[max(0, len(w.log)-20):], "\n"))
	}
	w.settle(2 * time.Minute)
	_, err := w.Client.PutLocation(ctx, "tansy-room", "Tansy store room", "")
	must(err)
	_, err = w.JoinTansy(ctx, demo.Joining{Sources: []string{"alder", "pier"}, Stock: true, Import: joining.ImportChoices{Items: true},
		Change: func(s *engine.Settings) {
			s.OwnLocation, s.Locations, s.ChannelPrefix, s.Tolerance = "tansy-room", map[string]string{"store room": "tansy-room"}, "TR", 2
		}})
	must(err)
	_, err = w.Client.PutLocation(ctx, "tansy-room", "Tansy store room", "tansy")
	must(err)
	_, err = w.JoinBramble(ctx, demo.Joining{Sources: []string{"alder"}, Stock: true})
	must(err)
	_, err = w.JoinTill(ctx, demo.Joining{Sources: []string{"mill"}, Import: joining.ImportChoices{Items: true},
		Change: func(s *engine.Settings) { s.Merge, s.MergeAt = "per day", "03:30" }})
	must(err)
	accept := w.rng.IntN(2) == 0
	_, err = w.JoinNosh(ctx, demo.Joining{Sources: []string{"mill"}, Change: func(s *engine.Settings) {
		s.Tolerance = 60
		if accept {
			s.Answer, s.PrepMinutes = "accept", 20
		}
	}})
	must(err)
	list, err := w.Client.Connections(ctx)
	must(err)
	for _, c := range list {
		for _, f := range c.Feeds {
			on := f.On || f.Kind == "orders in" || f.Kind == "items out" || f.Kind == "answers out" || f.Kind == "states out" ||
				f.Kind == "cancellations out" ||
				f.Kind == "dispatch out"
			if f.Kind == "stock out" && c.Code == "nosh" {
				on = false
			}
			schedule := ""
			for _, way := range f.Ways {
				if way == "read" {
					schedule = map[bool]string{true: "@every 20m", false: "@every 6h"}[f.Kind == "orders in"]
					if f.Kind == "stock in" {
						schedule = "@every 45m"
					}
				}
			}
			_, err := w.Client.SetFeed(ctx, c.Code, f.Kind, on, schedule, f.Revision)
			must(err)
		}
	}
	if w.seed%2 == 0 {
		w.share(list)
	}
	w.joinSecondCarrier()
	w.joinOtherCarriers()
	w.joinOffice()
	w.joinPartners()
	for _, r := range demo.Rules[:3] {
		_, err := w.Client.ChangeRule(ctx, r)
		must(err)
	}
	_, _, err = w.Client.PutTarget(ctx, attention.NewTarget{Kind: "email", Address: "lead@morrowhive.example", Every: 60, On: true})
	must(err)
	w.settle(30 * time.Minute)
	var sel listing.Selection
	items, err := w.Client.Items(ctx, "kind=prepared&limit=50")
	must(err)
	for _, it := range items {
		sel.SKUs = append(sel.SKUs, it.SKU)
	}
	p, err := w.Client.PreviewPublish(ctx, "nosh", sel)
	must(err)
	_, err = w.Client.Publish(ctx, "nosh", sel, p.Digest)
	must(err)
	w.settle(30 * time.Minute)
	require.NotEmpty(w.t, w.Nosh.Menu())
}

// share lets the channels that are told quantities share the last units of what they sell.
func (w *world) share(list []wire.Connection) {
	for _, c := range list {
		told := slices.ContainsFunc(c.Feeds, func(f wire.Feed) bool { return f.Kind == message.StockOut })
		if !told || c.Side != "channel" || c.Code == "nosh" {
			continue
		}
		s := c.Settings
		s.Offer.ShareBelow = 1000
		_, err := w.Client.SetSettings(w.t.Context(), c.Code, s, 0)
		require.NoError(w.t, err)
	}
}

// settle lets the relay and the portals do what is due, without faults, for a while of the clock.
func (w *world) settle(most time.Duration) {
	end := time.Now().Add(most)
	for time.Now().Before(end) {
		if !w.deliver() && !w.due(end, false) {
			return
		}
	}
}

// deliver pushes everything that waits to be pushed.
func (w *world) deliver() bool {
	c := &http.Client{Transport: w}
	did := false
	for w.Morrow.Waiting() > 0 {
		w.Morrow.PushNext(c, 0, false)
		did = true
	}
	for w.Skep.Waiting() > 0 {
		w.Skep.PushNext(c, 0, false)
		did = true
	}
	for w.Nosh.Ringing() > 0 {
		w.Nosh.RingNext(c, 0, false)
		did = true
	}
	for w.office != nil && len(w.office.waiting) > 0 {
		require.NoError(w.t, w.office.handIn(c, 0))
		did = true
	}
	return did
}

// due carries out one step of the relay that is due now, or waits for the next before a time. It tells whether
// there was any. faulty lets it break off.
func (w *world) due(before time.Time, faulty bool) bool {
	steps, err := w.Relay.Steps()
	require.NoError(w.t, err)
	now := time.Now()
	var ready []relay.Step
	var next time.Time
	for _, s := range steps {
		switch {
		case !s.At.After(now):
			ready = append(ready, s)
		case next.IsZero() || s.At.Before(next):
			next = s.At
		}
	}
	if len(ready) > 0 {
		s := ready[w.rng.IntN(len(ready))]
		if faulty {
			w.step(s.Name, s.Do)
		} else {
			require.NoError(w.t, s.Do(), s.Name)
		}
		return true
	}
	if next.IsZero() || next.After(before) {
		time.Sleep(time.Until(before))
		return false
	}
	time.Sleep(time.Until(next))
	return true
}
