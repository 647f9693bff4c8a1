package api_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/trial"
)

// guarded is a small company with options of its own.
func guarded(t *testing.T, o api.Options) *desk {
	t.Helper()
	d := newDesk(t)
	d.api, d.handler = api.New(d.Relay, o)
	t.Cleanup(d.api.End)
	return d
}

// TestEveryAnswerHasItsHeaders: answers, refusals, files and pages alike.
func TestEveryAnswerHasItsHeaders(t *testing.T) {
	d := guarded(t, api.Options{Console: fstest.MapFS{"index.html": {Data: []byte("<html>")}, "assets/a.js": {Data: []byte("1")}}})
	d.Stock(3, "JAR")
	for path, kept := range map[string]string{
		"/api/v1/board": "no-store", "/api/v1/nowhere": "no-store", "/api/v1/orders.csv": "no-store", "/healthz": "no-store",
		"/": "no-cache", "/orders/1": "no-cache", "/assets/a.js": "public, max-age=31536000, immutable", "/metrics": "no-store",
	} {
		h := d.ask(person.Viewer, http.MethodGet, path, "").Header()
		require.Equal(t, "nosniff", h.Get("X-Content-Type-Options"), path)
		require.Equal(t, kept, h.Get("Cache-Control"), path)
		for _, part := range []string{"default-src 'self'", "object-src 'none'", "base-uri 'none'", "frame-ancestors 'none'"} {
			require.Contains(t, h.Get("Content-Security-Policy"), part, path)
		}
		require.Empty(t, h.Get("Strict-Transport-Security"), "not over plain http")
	}
}

// TestOverTLS: browsers come back over TLS only, and keep the session to this host.
func TestOverTLS(t *testing.T) {
	d := guarded(t, api.Options{Secure: true})
	require.NoError(t, d.PutUser(t.Context(), "edda@morrow.example", "Edda", person.Lead, "honeycomb"))
	w := d.ask("", http.MethodPost, "/api/v1/session", `{"email":"edda@morrow.example","password":"honeycomb"}`).Result()
	require.Equal(t, http.StatusOK, w.StatusCode)
	require.NotEmpty(t, w.Header.Get("Strict-Transport-Security"))
	c := w.Cookies()[0]
	require.Equal(t, []any{"__Host-openrelay", true, true, "/", ""}, []any{c.Name, c.Secure, c.HttpOnly, c.Path, c.Domain})
}

// TestMetricsAreForThoseWithAToken, unless they are opened; methods that nobody knows are counted as one.
func TestMetricsAreForThoseWithAToken(t *testing.T) {
	d := guarded(t, api.Options{})
	for _, method := range []string{"BREW", "STEEP", "POUR"} {
		d.ask("", method, "/api/v1/board", "")
	}
	require.Equal(t, http.StatusUnauthorized, d.ask("", http.MethodGet, "/metrics", "").Code)
	text := d.ask(person.Viewer, http.MethodGet, "/metrics", "").Body.String()
	require.Contains(t, text, "openrelay_http_request_seconds")
	require.Contains(t, text, `method="other"`)
	require.NotContains(t, text, "BREW")
	open := guarded(t, api.Options{OpenMetrics: true})
	require.Equal(t, http.StatusOK, open.ask("", http.MethodGet, "/metrics", "").Code)
}

// TestLookingChangesNothing: pick lists of ready orders begin their picking, so they are printed by a POST, which a page of
// another origin cannot make.
func TestLookingChangesNothing(t *testing.T) {
	d := newDesk(t)
	d.Stock(3, "JAR")
	d.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, http.StatusMethodNotAllowed, d.ask(person.Clerk, http.MethodGet, "/api/v1/pick-lists.pdf?orders=S-1", "").Code)
	require.Equal(t, "ready", d.Stage("S-1"))
	post := func(site string) *httptest.ResponseRecorder {
		return d.askWith(person.Clerk, http.MethodPost, "/api/v1/pick-lists.pdf", "orders=S-1",
			map[string]string{"Content-Type": "application/x-www-form-urlencoded", "Sec-Fetch-Site": site})
	}
	require.Equal(t, http.StatusForbidden, post("cross-site").Code)
	require.Equal(t, "ready", d.Stage("S-1"))
	w := post("same-origin")
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	require.True(t, strings.HasPrefix(w.Body.String(), "%PDF"))
	require.Equal(t, "routed", d.Stage("S-1"))
}

// TestHowItIs: a process that lives, a file that can be read, and what is not well; without a sign-in, so without names.
func TestHowItIs(t *testing.T) {
	d := newDesk(t)
	for _, path := range []string{"/livez", "/readyz"} {
		require.Equal(t, http.StatusNoContent, d.ask("", http.MethodGet, path, "").Code, path)
	}
	w := d.ask("", http.MethodGet, "/healthz", "")
	require.Equal(t, http.StatusOK, w.Code)
	require.JSONEq(t, `{"status":"well","checks":[{"name":"disk","state":"well"},{"name":"file","state":"well"},
		{"name":"clock","state":"well"},{"name":"connections","state":"well"},{"name":"backlog","state":"well"}]}`, w.Body.String())
	d.Stock(5, "JAR")
	d.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1))))
	d.Later(time.Hour)
	w = d.ask("", http.MethodGet, "/healthz", "")
	require.Equal(t, http.StatusOK, w.Code, "it works, and says what wants a look")
	require.Contains(t, w.Body.String(), `"1 message waits for long"`)
	require.NotContains(t, w.Body.String(), "stall")
	require.NoError(t, d.Store.Close())
	require.Equal(t, http.StatusNoContent, d.ask("", http.MethodGet, "/livez", "").Code)
	for _, path := range []string{"/readyz", "/healthz"} {
		require.Equal(t, http.StatusServiceUnavailable, d.ask("", http.MethodGet, path, "").Code, path)
	}
}
