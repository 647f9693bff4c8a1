package api_test

import (
	"context"
	"database/sql"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/trial"
)

// desk is a small company with the interface in front of it.
type desk struct {
	*trial.Kit
	t       *testing.T
	api     *api.API
	handler http.Handler
	tokens  map[person.Role]string
}

func newDesk(t *testing.T, carriers ...string) *desk {
	t.Helper()
	d := &desk{Kit: trial.New(t, carriers...), t: t, tokens: map[person.Role]string{}}
	d.api, d.handler = api.New(d.Relay, api.Options{Version: "test"})
	t.Cleanup(d.api.End)
	for _, role := range person.Roles {
		token, err := d.NewToken(t.Context(), "A "+string(role), role)
		require.NoError(t, err)
		d.tokens[role] = token
	}
	return d
}

// ask makes a request as somebody of a role; no role is nobody.
func (d *desk) ask(role person.Role, method, path, body string) *httptest.ResponseRecorder {
	d.t.Helper()
	return d.askWith(role, method, path, body, nil)
}

// askWith asks with further headers.
func (d *desk) askWith(role person.Role, method, path, body string, header map[string]string) *httptest.ResponseRecorder {
	d.t.Helper()
	most := time.Minute
	if strings.HasSuffix(path, "/events") { // a stream has no end of its own
		most = 300 * time.Millisecond
	}
	ctx, cancel := context.WithTimeout(d.t.Context(), most)
	defer cancel()
	r := httptest.NewRequest(method, path, strings.NewReader(body)).WithContext(ctx)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if role != "" {
		r.Header.Set("Authorization", "Bearer "+d.tokens[role])
	}
	for name, value := range header {
		if name != "" {
			r.Header.Set(name, value)
		}
	}
	w := httptest.NewRecorder()
	d.handler.ServeHTTP(w, r)
	return w
}

// routes are those of the description, and those that give files and streams.
func (d *desk) routes() map[string]bool {
	d.t.Helper()
	raw, err := d.api.OpenAPI()
	require.NoError(d.t, err)
	var described struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	require.NoError(d.t, json.Unmarshal(raw, &described))
	out := map[string]bool{}
	for path, methods := range described.Paths {
		for method := range methods {
			out[strings.ToUpper(method)+" "+path] = true
		}
	}
	for _, route := range strings.Fields(
		`/events /orders.csv /reports/{code}.csv /orders/{number}/pick-list.pdf /shipments/{number}/label.pdf
		/manifests/{id}/manifest.pdf /runs/{id}/log /setup /saved/{kind}.csv`) {
		out["GET /api/v1"+route] = true
	}
	out["POST /api/v1/sheets/{kind}"] = true
	out["POST /api/v1/pick-lists.pdf"] = true
	return out
}

// adminOnly are the routes that only an admin may use; everything else that changes something is for operators.
var adminOnly = routeSet(`
	GET /looks
	GET /people
	GET /tokens
	DELETE /tokens/{id}
	PATCH /people/{id}
	POST /people
	POST /people/{id}/end-sessions
	POST /people/{id}/leave
	POST /tokens
	PUT /first-day
	GET /persons/{email}
	GET /setup
	GET /targets
	GET /targets/{id}/notices
	DELETE /connections/{code}/join
	DELETE /connectors/{code}
	DELETE /persons/{email}
	DELETE /targets/{id}
	PATCH /connections/{code}
	PATCH /connections/{code}/feeds/{kind}
	PATCH /field-owners
	POST /connections/{code}/access
	POST /connections/{code}/clear-tests
	POST /connections/{code}/confirm
	POST /connections/{code}/consent
	POST /connections/{code}/import
	POST /connections/{code}/import/go
	POST /connections/{code}/leave
	POST /connections/{code}/preview
	POST /connections/{code}/renew
	POST /connections/{code}/switch-on
	POST /connectors
	POST /joins
	POST /rules
	POST /setup/apply
	POST /setup/plan
	PUT /company
	PUT /connections/{code}/overrides
	PUT /connections/{code}/settings
	PUT /connections/{code}/test-mode
	PUT /locations/{code}
	PUT /price-lists/{code}
	PUT /privacy
	PUT /targets
`)

// operatorLooks are the routes that only show something and are not for viewers: whole messages, papers, who works here.
var operatorLooks = routeSet(`
	GET /connections/{code}/sample
	GET /inbox/{id}
	GET /orders/actions/{id}
	GET /orders/{number}/pick-list.pdf
	GET /people-here
	GET /shipments/{number}/label.pdf
`)

// asks are the routes that are written as POST and are for everybody who is signed in: they change nothing, or only what is
// one's own.
var asks = routeSet(`
	POST /connections/{code}/publish/preview
	POST /rules/read
	POST /rules/rehearse
	POST /me/password
`)

// everybody may sign in and out, and ask whether a company has begun.
var everybody = routeSet(`
	POST /session
	DELETE /session
	GET /first-run
	POST /first-run
`)

func routeSet(lines string) map[string]bool {
	out := map[string]bool{}
	for _, l := range strings.Split(strings.TrimSpace(lines), "\n") {
		method, path, _ := strings.Cut(strings.TrimSpace(l), " ")
		out[method+" /api/v1"+path] = true
	}
	return out
}

// leastRole is who may use a route at least.
func leastRole(route string) person.Role {
	switch {
	case everybody[route]:
		return ""
	case adminOnly[route]:
		return "admin"
	case operatorLooks[route]:
		return "operator"
	case asks[route], strings.HasPrefix(route, "GET "):
		return "viewer"
	}
	return "operator"
}

var parameter = regexp.MustCompile(`\{[^}]*\}`)

// TestEachRouteWithEachRole: nobody is let in anywhere but to sign in, a viewer changes nothing, and what only an admin may
// do is written above.
func TestEachRouteWithEachRole(t *testing.T) {
	d := newDesk(t)
	routes := d.routes()
	require.Greater(t, len(routes), 150)
	for _, set := range []map[string]bool{adminOnly, operatorLooks, asks, everybody} {
		for route := range set {
			require.Contains(t, routes, route)
		}
	}
	roles := append([]person.Role{person.Anybody}, person.Roles...)
	for route := range routes {
		method, path, _ := strings.Cut(route, " ")
		path = parameter.ReplaceAllString(path, "0")
		body := "{}"
		if method == http.MethodGet {
			body = ""
		}
		least := slices.Index(roles, leastRole(route))
		for i, role := range roles {
			w := d.ask(role, method, path, body)
			letIn := w.Code != http.StatusUnauthorized && w.Code != http.StatusForbidden
			if everybody[route] { // signing in with nothing is refused to all alike
				letIn = w.Code != http.StatusForbidden
			}
			assert.Equal(t, i >= least, letIn, "%s as %q: %d %s", route, role, w.Code, w.Body)
			assert.NotEqual(t, http.StatusInternalServerError, w.Code, "%s as %q: %s", route, role, w.Body)
			if role == "" && !letIn {
				assert.Equal(t, http.StatusUnauthorized, w.Code, route)
			}
		}
	}
}

// TestLookingWritesNothing: no page that is looked at writes to the file, and neither does the session of who looks.
func TestLookingWritesNothing(t *testing.T) {
	d := newDesk(t, "ann")
	d.Stock(5, "JAR")
	d.Sell("S-1", trial.Units("JAR", 1))
	require.NoError(t, d.PutUser(t.Context(), "edda@morrow.example", "Edda", "viewer", "a long password"))
	in := d.ask("", http.MethodPost, "/api/v1/session", `{"email":"edda@morrow.example","password":"a long password"}`)
	require.Equal(t, http.StatusOK, in.Code, in.Body)
	cookies := in.Result().Cookies()
	require.Len(t, cookies, 1)

	beside, err := sql.Open("sqlite", "file:"+d.Store.Path())
	require.NoError(t, err)
	defer beside.Close()
	beside.SetMaxOpenConns(1) // the version is told to a connection, of what others wrote
	version := func() (n int) {
		require.NoError(t, beside.QueryRow("PRAGMA data_version").Scan(&n))
		return n
	}
	personal := map[string]bool{} // whoever looks at personal data is written down
	for _, path := range strings.Fields("/orders/{number} /orders.csv /customers /inbox/{id} /shipments/{number} /saved/{kind}.csv") {
		personal["GET /api/v1"+path] = true
	}
	looked := 0
	for route := range d.routes() {
		path, isGet := strings.CutPrefix(route, "GET ")
		if !isGet || personal[route] || leastRole(route) != "viewer" {
			continue
		}
		before := version()
		ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
		r := httptest.NewRequest(http.MethodGet, parameter.ReplaceAllString(path, "stall"), nil).WithContext(ctx)
		r.AddCookie(cookies[0])
		w := httptest.NewRecorder()
		d.handler.ServeHTTP(w, r)
		cancel()
		require.NotEqual(t, http.StatusUnauthorized, w.Code, path)
		require.Equal(t, before, version(), "%s wrote to the file", path)
		looked++
	}
	require.Greater(t, looked, 40)

	before := version()
	w := d.ask("admin", http.MethodPut, "/api/v1/company", `{"name":"Morrow Hive","time_zone":"UTC"}`)
	require.Less(t, w.Code, 300, w.Body)
	require.NotEqual(t, before, version(), "what is written is seen")
}

// TestSigningOutEndsTheSession: the cookie is worth nothing any more.
func TestSigningOutEndsTheSession(t *testing.T) {
	d := newDesk(t)
	require.NoError(t, d.PutUser(t.Context(), "edda@morrow.example", "Edda", "viewer", "a long password"))
	in := d.ask("", http.MethodPost, "/api/v1/session", `{"email":"edda@morrow.example","password":"a long password"}`)
	cookie := in.Result().Cookies()[0]
	with := func(method, path string) int {
		r := httptest.NewRequest(method, path, nil)
		r.AddCookie(cookie)
		w := httptest.NewRecorder()
		d.handler.ServeHTTP(w, r)
		return w.Code
	}
	require.Equal(t, http.StatusOK, with(http.MethodGet, "/api/v1/me"))
	require.Less(t, with(http.MethodDelete, "/api/v1/session"), 300)
	require.Equal(t, http.StatusUnauthorized, with(http.MethodGet, "/api/v1/me"))
}
