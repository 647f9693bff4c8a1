package api_test

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
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
		`/events /orders.csv /reports/{code}.csv /orders/{number}/pick-list.pdf /parcels/{number}/label.pdf /parcels/{number}/carrier-label
		/codes.pdf /packing-slips.pdf /labels.pdf /rounds/{number}/round.pdf /parcels/{number}/packing-slip.pdf
		/parcels/{number}/customs.pdf /returns/{number}/label.pdf
		/manifests/{id}/manifest.pdf /runs/{id}/log /setup /saved/{kind}.csv`) {
		out["GET /api/v1"+route] = true
	}
	out["POST /api/v1/sheets/{kind}"] = true
	out["POST /api/v1/pick-lists.pdf"] = true
	return out
}

var parameter = regexp.MustCompile(`\{[^}]*\}`)

// everybody are the routes for signing in and out, and for asking whether a company has begun.
var everybody = []string{
	"POST /session",
	"POST /session/passkey",
	"POST /session/passkey/options",
	"DELETE /session",
	"GET /first-run",
	"POST /first-run",
}

// letIn tells which roles a route lets in, nobody among them.
func (d *desk) letIn(route string) (roles []string) {
	method, path, _ := strings.Cut(route, " ")
	body := "{}"
	if method == http.MethodGet {
		body = ""
	}
	for _, role := range append([]person.Role{""}, person.Roles...) {
		w := d.ask(role, method, parameter.ReplaceAllString(path, "0"), body)
		assert.NotEqual(d.t, http.StatusInternalServerError, w.Code, "%s as %q: %s", route, role, w.Body)
		switch {
		case slices.Contains(everybody, strings.Replace(route, "/api/v1", "", 1)): // signing in with nothing is refused to all alike
			roles = append(roles, "everybody")
			return roles
		case w.Code == http.StatusUnauthorized || w.Code == http.StatusForbidden:
		case role == "":
			roles = append(roles, "nobody")
		default:
			roles = append(roles, string(role))
		}
	}
	return roles
}

// TestEachRouteWithEachRole asks each route as each role, and holds the outcome against the page on which it is written who
// may do what. With -update the page is written anew; what changes there is read before it is committed. Some things may never
// slip to others, whatever the page says.
func TestEachRouteWithEachRole(t *testing.T) {
	const page = "../../docs/permissions.md"
	d := newDesk(t)
	routes := slices.Sorted(maps.Keys(d.routes()))
	require.Greater(t, len(routes), 150)
	in := map[string][]string{}
	for _, route := range routes {
		short := strings.Replace(route, "/api/v1", "", 1)
		in[short] = d.letIn(route)
		checkTrust(t, short, in[short])
	}
	got := permissionsPage(in)
	if *update {
		require.NoError(t, os.WriteFile(page, []byte(got), 0o644))
	}
	want, err := os.ReadFile(page)
	require.NoError(t, err)
	require.Equal(t, string(want), got)
}

// checkTrust holds what goes without saying against the roles that a route lets in.
func checkTrust(t *testing.T, route string, roles []string) {
	if slices.Contains(everybody, route) {
		return
	}
	assert.NotContains(t, roles, "nobody", route)
	assert.Contains(t, roles, "lead", route)
	method, path, _ := strings.Cut(route, " ")
	asksOnly := path == "/rules/read" || strings.HasPrefix(path, "/me/") || strings.HasSuffix(path, "/publish/preview")
	if method != http.MethodGet && !asksOnly {
		assert.NotContains(t, roles, "viewer", route)
	}
	for _, only := range []string{"/people", "/tokens", "/sign-in-terms", "/security-events",
		"/backups", "/keys", "/setup", "/targets", "/looks", "/persons"} {
		if path == only || strings.HasPrefix(path, only+"/") {
			assert.Equal(t, []string{"lead"}, roles, route)
		}
	}
}

// permissionsPage is the matrix of permissions and roles, and which routes let which roles in.
func permissionsPage(in map[string][]string) string {
	var b strings.Builder
	b.WriteString(
		"# Who may do what\n\nWritten by a test that asks each route as each role; what a role may do is in `internal/core/person`.\n\n")
	b.WriteString("| permission |")
	for _, r := range person.Roles {
		fmt.Fprintf(&b, " %s |", r)
	}
	b.WriteString("\n| --- |" + strings.Repeat(" :-: |", len(person.Roles)) + "\n")
	for _, p := range person.All() {
		fmt.Fprintf(&b, "| %s |", p.Names()[0])
		for _, r := range person.Roles {
			b.WriteString(map[bool]string{true: " ● |", false: "  |"}[r.May(p)])
		}
		b.WriteString("\n")
	}
	of := map[string][]string{}
	for _, route := range slices.Sorted(maps.Keys(in)) {
		key := strings.Join(in[route], ", ")
		of[key] = append(of[key], route)
	}
	keys := slices.SortedFunc(maps.Keys(of), func(a, b string) int {
		return cmp.Or(strings.Count(b, ",")-strings.Count(a, ","), cmp.Compare(a, b))
	})
	for _, key := range keys {
		fmt.Fprintf(&b, "\n## %s\n\n", key)
		for _, route := range of[key] {
			fmt.Fprintf(&b, "- `%s`\n", route)
		}
	}
	return b.String()
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
	for _, path := range strings.Fields(`/orders/{number} /orders.csv /customers /inbox/{id} /shipments/{number} /parcels/{number}
		/saved/{kind}.csv`) {
		personal["GET /api/v1"+path] = true
	}
	looked := 0
	for route := range d.routes() {
		path, isGet := strings.CutPrefix(route, "GET ")
		if !isGet || personal[route] || !slices.Contains(d.letIn(route), "viewer") {
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
	w := d.ask("lead", http.MethodPut, "/api/v1/company", `{"name":"Morrow Hive","time_zone":"UTC"}`)
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
