// Package api serves the relay over HTTP: the described interface under /api/v1, the pushes of outside
// systems under /in, server-sent events, metrics, and the console. It signs people in and checks what
// they may do; it makes no business decision.
package api

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"path"
	"reflect"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"openrelay/internal/connector"
	"openrelay/internal/core/person"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// Lists are never null in our answers; the description says so.
func init() { huma.DefaultArrayNullable = false }

// API serves one relay.
type API struct {
	boards   [2]shared[wire.Board] // for those who see no names, and for those who do
	relay    *relay.Relay
	log      *slog.Logger
	sessions *scs.SessionManager
	throttle throttle
	streams  streams
	refusals throttle // of what is noted, so that many write little
	proxied  bool     // a proxy of ours stands before us
	huma     huma.API
	metrics  *metrics
	keys     keyLocks
	ended    chan struct{}
	once     sync.Once
}

// Options of the interface.
type Options struct {
	Log         *slog.Logger
	Console     fs.FS  // the built console; nil serves none
	Version     string // of the program
	Secure      bool   // cookies only over TLS
	Proxied     bool   // a proxy of ours stands before us, and says where requests come from
	OpenMetrics bool   // whoever reaches us may read the metrics; else those with a token
}

// New makes the handler of a relay. Call End before shutting the server down, so that listeners leave.
func New(r *relay.Relay, o Options) (*API, http.Handler) {
	quietErrors()
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	a := &API{relay: r, log: o.Log, ended: make(chan struct{}), proxied: o.Proxied}
	// Made by hand: scs.New would start a goroutine for a store in memory, and sign-ins are kept in the file.
	a.sessions = &scs.SessionManager{Store: store.Sessions{Store: r.Store}, Lifetime: 14 * 24 * time.Hour, Codec: scs.GobCodec{},
		Cookie: scs.SessionCookie{Name: cookieName(o.Secure), Path: "/", HttpOnly: true, Persist: true, Secure: o.Secure,
			SameSite: http.SameSiteLaxMode},
		ErrorFunc: func(w http.ResponseWriter, _ *http.Request, err error) {
			a.log.Error("a sign-in could not be read or kept", "error", err)
			problem(w, http.StatusInternalServerError, "Something broke on our side. It is in the service's log.")
		}}
	a.metrics = newMetrics(r)

	mux := chi.NewRouter()
	mux.Use(headers(o.Secure), deadlines(longestAnswer), a.recoverer, a.metrics.around)
	a.healthRoutes(mux)
	metrics := promhttp.HandlerFor(a.metrics.registry, promhttp.HandlerOpts{})
	if o.OpenMetrics {
		mux.Handle("/metrics", metrics)
	}
	mux.Post("/in/{code}", a.push)
	mux.Get("/connector.schema.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/schema+json")
		w.Write(connector.Schema())
	})

	mux.Get("/shapes/{name}", shapeSchema)

	protect := http.NewCrossOriginProtection()
	protect.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		problem(w, http.StatusForbidden, "A page of another origin made this request; it was not carried out.")
	}))
	mux.Group(func(g chi.Router) {
		g.Use(protect.Handler, a.sessions.LoadAndSave, a.identify, a.idempotent)
		a.huma = humachi.New(g, description(o.Version))
		a.operations()
		if !o.OpenMetrics {
			g.Get("/metrics", only(person.Look, metrics.ServeHTTP))
		}
		g.Get("/api/v1/events", only(person.Look, a.events))
		g.Get("/api/v1/orders.csv", only(person.Look, a.ordersCSV))
		g.Get("/api/v1/reports/{code}.csv", only(person.Look, a.reportCSV))
		a.papers(g)
		g.Get("/api/v1/runs/{id}/log", only(person.RunFeeds, a.runLog))
		g.Get("/api/v1/setup", only(person.SetUp, a.exportSetup))
		g.Post("/api/v1/sheets/{kind}", only(person.KeepStock|person.KeepCatalog|person.WorkOrders, a.handIn))
		g.Get("/api/v1/saved/{kind}.csv", only(person.Look, a.save))
		g.Get("/back", a.consentBack)
	})
	if o.Console != nil {
		mux.NotFound(console(o.Console))
	}
	return a, mux
}

// description is how the interface describes itself.
func description(version string) huma.Config {
	cfg := huma.DefaultConfig("Open Relay", version)
	cfg.OpenAPIPath = "/api/v1/openapi"
	cfg.DocsPath = ""
	cfg.Servers = []*huma.Server{{URL: "/", Description: "The service that tells it"}}
	cfg.SchemasPath = "/api/v1/schemas"
	cfg.CreateHooks = nil // answers carry no $schema field
	cfg.Components.Schemas = huma.NewMapRegistry("#/components/schemas/", schemaName)
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token":   {Type: "http", Scheme: "bearer"},
		"session": {Type: "apiKey", In: "cookie", Name: "openrelay"},
	}
	return cfg
}

// schemaName names a type in the description: those of other packages carry the package's name, so that
// an order as we show it and an order as a channel tells it stay apart.
func schemaName(t reflect.Type, hint string) string {
	name := huma.DefaultSchemaNamer(t, hint)
	for t.Kind() == reflect.Pointer || t.Kind() == reflect.Slice {
		t = t.Elem()
	}
	pkg := path.Base(t.PkgPath())
	if strings.Contains(t.PkgPath(), "openrelay/internal/relay/") {
		pkg = "relay" // in which room a type stands is no matter of who calls
	}
	if t.Name() != "" && pkg != "api" && pkg != "wire" && strings.Contains(t.PkgPath(), "openrelay/") && !strings.Contains(name, "[") {
		return strings.ToUpper(pkg[:1]) + pkg[1:] + name
	}
	return name
}

// End tells listeners to leave.
func (a *API) End() { a.once.Do(func() { close(a.ended) }) }

// OpenAPI returns the description of the interface.
func (a *API) OpenAPI() ([]byte, error) { return json.MarshalIndent(a.huma.OpenAPI(), "", "  ") }

func problem(w http.ResponseWriter, status int, text string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(huma.ErrorModel{Title: http.StatusText(status), Status: status, Detail: text})
}

// failure turns an error of the relay into a problem (RFC 9457).
func (a *API) failure(err error) error {
	var refused *engine.Refused
	var scan *picking.Refusal
	var out *connector.Failure
	var mistakes connector.Mistakes
	var known huma.StatusError
	switch {
	case err == nil:
		return nil
	case errors.As(err, &known):
		return err
	case errors.As(err, &scan):
		return huma.Error409Conflict(scan.Error(), &huma.ErrorDetail{Message: scan.Expected, Location: "expected"})
	case errors.As(err, &refused) && refused.Conflict:
		return huma.Error409Conflict(refused.Text)
	case errors.As(err, &refused):
		return huma.Error422UnprocessableEntity(refused.Text)
	case errors.As(err, &mistakes):
		details := make([]error, len(mistakes))
		for i, m := range mistakes {
			details[i] = &huma.ErrorDetail{Message: m.Text,
				Location: strings.TrimSuffix(strings.TrimSpace(fmt.Sprintf("%s:%d:%d: %s", m.File, m.Line, m.Column, m.Path)), ":")}
		}
		return huma.Error422UnprocessableEntity(mistakes.Error(), details...)
	case errors.As(err, &out):
		return huma.Error502BadGateway(out.Text)
	case errors.Is(err, store.ErrNotFound):
		if thing, ok := strings.CutSuffix(err.Error(), ": not found"); ok {
			return huma.Error404NotFound("There is no " + thing + ".")
		}
		return huma.Error404NotFound("There is no such thing.")
	case errors.Is(err, store.ErrConflict):
		return huma.Error412PreconditionFailed("Somebody changed it in the meantime. Look at it again, then decide.")
	case store.Full(err):
		a.log.Error("the disk is full", "error", err)
		return huma.NewError(http.StatusInsufficientStorage, "The disk of the service is full, and nothing of this was kept. "+
			"Make room on it, then do it again.")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "The caller left.")
	}
	a.log.Error("request failed", "error", err)
	return huma.Error500InternalServerError("Something broke on our side. It is in the service's log.")
}

func (a *API) recoverer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			if p := recover(); p != nil {
				if p == http.ErrAbortHandler {
					panic(p)
				}
				a.log.Error("a request broke", "path", r.URL.Path, "panic", p)
				problem(w, http.StatusInternalServerError, "Something broke on our side. It is in the service's log.")
			}
		}()
		next.ServeHTTP(w, r)
	})
}

// quietErrors lets errors say where something was wrong, and not what was sent: that may be a secret.
var quietErrors = sync.OnceFunc(func() {
	loud := huma.NewError
	huma.NewError = func(status int, text string, errs ...error) huma.StatusError {
		for i, err := range errs {
			var detail *huma.ErrorDetail
			if errors.As(err, &detail) && detail.Value != nil {
				errs[i] = &huma.ErrorDetail{Message: detail.Message, Location: detail.Location}
			}
		}
		return loud(status, text, errs...)
	}
})

// push takes what outside systems send us. Nothing but the signature lets them in.
func (a *API) push(w http.ResponseWriter, r *http.Request) {
	code := chi.URLParam(r, "code")
	most := a.relay.MaxPush(code)
	var buf bytes.Buffer
	if n := r.ContentLength; n > 0 && n <= most {
		buf.Grow(int(n) + bytes.MinRead)
	}
	_, err := buf.ReadFrom(http.MaxBytesReader(w, r.Body, most))
	raw := buf.Bytes()
	if err != nil {
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("A push is at most %d bytes.", most))
		return
	}
	receipt, err := a.relay.AcceptPush(r.Context(), code, r.Header, raw)
	var refused *engine.Refused
	switch {
	case err == nil:
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusAccepted)
		json.NewEncoder(w).Encode(receipt)
	case errors.Is(err, store.ErrNotFound):
		problem(w, http.StatusNotFound, "There is no connection "+code+".")
	case errors.Is(err, connector.ErrSignature):
		problem(w, http.StatusUnauthorized, err.Error())
	case errors.As(err, &refused):
		problem(w, http.StatusUnprocessableEntity, refused.Text)
	case errors.Is(err, context.Canceled):
	default:
		if errors.Is(err, connector.ErrBody) {
			problem(w, http.StatusBadRequest, err.Error())
			return
		}
		a.log.Error("push failed", "connection", code, "error", err)
		problem(w, http.StatusInternalServerError, "It could not be kept. Send it again.")
	}
}

// answerFor finds what a request with an idempotency key was answered. Answers are kept sealed: they may hold secrets and
// personal data.
func (a *API) answerFor(ctx context.Context, key string) (store.Answer, error) {
	kept, err := a.relay.Store.AnswerFor(ctx, key)
	if err == nil {
		err = a.relay.Sealer.OpenInto(kept.Answer, &kept.Answer)
	}
	return kept, err
}

// keepAnswer keeps what a request with an idempotency key was answered.
func (a *API) keepAnswer(ctx context.Context, key string, answer store.Answer) error {
	sealed, err := a.relay.Sealer.Seal(answer.Answer)
	if err != nil {
		return err
	}
	answer.Answer = sealed
	return a.relay.Store.Write(ctx, func(t *store.Tx) error { return t.KeepAnswer(key, answer, time.Now()) })
}

// idempotent answers a repeated request with the same Idempotency-Key like the first one, without
// carrying it out again.
func (a *API) idempotent(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method == http.MethodGet || personOf(r.Context()) == nil {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > 200 {
			problem(w, http.StatusBadRequest, "An Idempotency-Key has at most 200 characters.")
			return
		}
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err != nil {
			problem(w, http.StatusRequestEntityTooLarge, "The body is larger than 1 MB.")
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		p := personOf(r.Context())
		full := fmt.Sprintf("person %d token %d %s %s", p.ID, p.Token, p.Role, key) // names and roles change hands
		sum := sha256.Sum256(append([]byte(r.Method+" "+r.URL.Path+"\n"), body...))
		defer a.keys.lock(full)()
		old, err := a.answerFor(r.Context(), full)
		switch {
		case err != nil && !errors.Is(err, store.ErrNotFound):
			a.deny(w, err)
			return
		case err == nil:
			if !bytes.Equal(old.Request, sum[:]) {
				problem(w, http.StatusUnprocessableEntity, "This Idempotency-Key was used for a different request.")
				return
			}
			w.Header().Set("Content-Type", "application/json")
			w.Header().Set("Answered-Before", "true")
			w.WriteHeader(old.Status)
			w.Write(old.Answer)
			return
		}
		rec := &recorder{ResponseWriter: w, status: 200}
		next.ServeHTTP(rec, r)
		if rec.status < 300 { // what failed changed nothing and may be tried again
			err := a.keepAnswer(r.Context(), full, store.Answer{Request: sum[:], Status: rec.status, Answer: rec.body.Bytes()})
			if err != nil {
				a.log.Error("idempotency key could not be kept", "error", err)
			}
		}
	})
}

// keyLocks lets requests with the same key wait for each other.
type keyLocks struct {
	mu sync.Mutex
	m  map[string]*keyLock
}

type keyLock struct {
	sync.Mutex
	users int
}

// lock waits for the key and returns the function that lets the next have it.
func (k *keyLocks) lock(key string) func() {
	k.mu.Lock()
	if k.m == nil {
		k.m = map[string]*keyLock{}
	}
	l := k.m[key]
	if l == nil {
		l = &keyLock{}
		k.m[key] = l
	}
	l.users++
	k.mu.Unlock()
	l.Lock()
	return func() {
		l.Unlock()
		k.mu.Lock()
		if l.users--; l.users == 0 {
			delete(k.m, key)
		}
		k.mu.Unlock()
	}
}

type recorder struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (r *recorder) WriteHeader(status int) { r.status = status; r.ResponseWriter.WriteHeader(status) }
func (r *recorder) Write(b []byte) (int, error) {
	r.body.Write(b)
	return r.ResponseWriter.Write(b)
}

// events streams what changes (server-sent events). A comment every 20 seconds keeps the line open.
func (a *API) events(w http.ResponseWriter, r *http.Request) {
	leave, ok := a.streams.enter(streamKey(personOf(r.Context())))
	if !ok {
		problem(w, http.StatusTooManyRequests, "You listen to more streams than one can need. Close some pages.")
		return
	}
	defer leave()
	ctl := http.NewResponseController(w)
	ctl.SetWriteDeadline(time.Time{})
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	events, end := a.relay.Bus.Listen()
	defer end()
	fmt.Fprint(w, ": open\n\n")
	if ctl.Flush() != nil {
		return
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-a.ended:
			return
		case <-beat.C:
			if !a.stillIn(r.Context()) {
				return
			}
			fmt.Fprint(w, ": still here\n\n")
		case e := <-events:
			if e.Kind == "session" && !a.stillIn(r.Context()) {
				return
			}
			if a.tellTogether(w, r, e, events) != nil {
				return
			}
		}
		if ctl.Flush() != nil {
			return
		}
	}
}

// Events are gathered so long before they are sent: a page refreshes no more often, and each sending costs. In between they are
// taken from the bus now and then only, since to be woken by each costs more than the event does.
const (
	together  = 100 * time.Millisecond
	takenEach = together / 4
)

// tellTogether sends an event with all that come within a moment, each thing once.
func (a *API) tellTogether(w io.Writer, r *http.Request, first engine.Event, events <-chan engine.Event) error {
	batch, at := []engine.Event{first}, map[[2]string]int{{first.Kind, first.Key}: 0}
	take := func(e engine.Event) {
		key := [2]string{e.Kind, e.Key}
		if i, told := at[key]; told {
			batch[i].ID = e.ID
			return
		}
		at[key] = len(batch)
		batch = append(batch, e)
	}
	tick := time.NewTicker(takenEach)
	defer tick.Stop()
	for range together / takenEach {
		select {
		case <-tick.C:
		case <-r.Context().Done():
			return r.Context().Err()
		case <-a.ended:
		}
		for there := true; there; {
			select {
			case e := <-events:
				take(e)
			default:
				there = false
			}
		}
	}
	slices.SortFunc(batch, func(x, y engine.Event) int { return int(x.ID - y.ID) })
	for _, e := range batch {
		b, err := json.Marshal(e)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "id: %d\ndata: %s\n\n", e.ID, b); err != nil {
			return err
		}
	}
	return nil
}

// console serves the built console; paths it does not have belong to its router.
func console(files fs.FS) http.HandlerFunc {
	server := http.FileServerFS(files)
	return func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodGet && r.Method != http.MethodHead {
			problem(w, http.StatusNotFound, "There is nothing here.")
			return
		}
		if strings.HasPrefix(r.URL.Path, "/api/") {
			problem(w, http.StatusNotFound, "The interface has no "+r.URL.Path+".")
			return
		}
		name := strings.TrimPrefix(r.URL.Path, "/")
		if f, err := files.Open(name); name != "" && err == nil {
			f.Close()
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
				gz(files, name, w, r, server)
				return
			}
			server.ServeHTTP(w, r)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			problem(w, http.StatusNotFound, "The console was not built. Run make build.")
			return
		}
		w.Header().Set("Cache-Control", "no-cache")
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Write(page)
	}
}

// gz serves the compressed copy that the build put beside a file, to those who take it.
func gz(files fs.FS, name string, w http.ResponseWriter, r *http.Request, plain http.Handler) {
	packed, err := fs.ReadFile(files, name+".gz")
	if err != nil || !strings.Contains(r.Header.Get("Accept-Encoding"), "gzip") {
		plain.ServeHTTP(w, r)
		return
	}
	types := map[string]string{".js": "text/javascript; charset=utf-8", ".css": "text/css; charset=utf-8"}
	for ext, t := range types {
		if strings.HasSuffix(name, ext) {
			w.Header().Set("Content-Type", t)
		}
	}
	w.Header().Set("Content-Encoding", "gzip")
	w.Header().Add("Vary", "Accept-Encoding")
	w.Write(packed)
}

// metrics counts requests and reads the relay's state when asked.
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(r *relay.Relay) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(), requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "openrelay_http_request_seconds", Help: "Time to answer, by route and status.",
		Buckets: []float64{.001, .005, .02, .1, .5, 2, 10},
	}, []string{"method", "route", "status"})}
	m.registry.MustRegister(m.requests, stateCollector{r})
	return m
}

func (m *metrics) around(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		begin := time.Now()
		sw := &statusWriter{ResponseWriter: w, status: 200}
		next.ServeHTTP(sw, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		if route == "" {
			route = "console"
		}
		m.requests.WithLabelValues(knownMethod(r.Method), route, fmt.Sprint(sw.status)).Observe(time.Since(begin).Seconds())
	})
}

// knownMethod is a method as it is counted: those that nobody knows are one, so that nobody fills the memory with them.
func knownMethod(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return method
	}
	return "other"
}

type statusWriter struct {
	http.ResponseWriter
	status int
}

func (s *statusWriter) WriteHeader(status int) {
	s.status = status
	s.ResponseWriter.WriteHeader(status)
}
func (s *statusWriter) Unwrap() http.ResponseWriter { return s.ResponseWriter }

type stateCollector struct{ r *relay.Relay }

var (
	stageDesc  = prometheus.NewDesc("openrelay_orders", "Orders on their way, by stage.", []string{"stage"}, nil)
	outboxDesc = prometheus.NewDesc("openrelay_outbox_messages", "Messages that are not final, by connection and state.",
		[]string{"connection", "state"}, nil)
	upDesc = prometheus.NewDesc("openrelay_connection_up", "1 where a connection runs well.", []string{"connection"}, nil)
)

func (c stateCollector) Describe(ch chan<- *prometheus.Desc) {
	ch <- stageDesc
	ch <- outboxDesc
	ch <- upDesc
}

func (c stateCollector) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if stages, err := c.r.Store.StageCounts(ctx, time.Now().Add(-24*time.Hour)); err == nil {
		for _, s := range stages {
			ch <- prometheus.MustNewConstMetric(stageDesc, prometheus.GaugeValue, float64(s.Count), s.Stage)
		}
	}
	if list, err := c.r.Connections(ctx); err == nil {
		for _, v := range list {
			up := 0.0
			if v.Lamp.State == "go" {
				up = 1
			}
			ch <- prometheus.MustNewConstMetric(upDesc, prometheus.GaugeValue, up, v.Code)
			for state, n := range v.Open {
				ch <- prometheus.MustNewConstMetric(outboxDesc, prometheus.GaugeValue, float64(n), v.Code, state)
			}
		}
	}
}
