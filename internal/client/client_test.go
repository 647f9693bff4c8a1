package client_test

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/client"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// call is a request that a client made.
type call struct {
	method, path, query string
	header              http.Header
	body                string
}

// desk answers whatever comes with the same, and notes what came.
func desk(t *testing.T, status int, header map[string]string, body string) (*client.Client, *[]call) {
	t.Helper()
	var calls []call
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		calls = append(calls, call{r.Method, r.URL.EscapedPath(), r.URL.RawQuery, r.Header.Clone(), string(raw)})
		for k, v := range header {
			w.Header().Set(k, v)
		}
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}))
	t.Cleanup(srv.Close)
	return client.New(srv.URL+"/", "secret-token"), &calls
}

// routes are the routes of the interface as it describes itself, and those that answer with files.
func routes(t *testing.T) map[string]*regexp.Regexp {
	t.Helper()
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.db"))
	require.NoError(t, err)
	t.Cleanup(func() { st.Close() })
	r, err := relay.Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
	t.Cleanup(r.Stop)
	a, _ := api.New(r, api.Options{})
	t.Cleanup(a.End)
	raw, err := a.OpenAPI()
	require.NoError(t, err)
	var doc struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	out := map[string]*regexp.Regexp{}
	add := func(method, path string) {
		form := regexp.MustCompile(`\\\{[^}]*\\\}`).ReplaceAllString(regexp.QuoteMeta(path), `[^/]+`)
		out[method+" "+path] = regexp.MustCompile("^" + method + " " + form + "$")
	}
	for path, methods := range doc.Paths {
		for method := range methods {
			add(strings.ToUpper(method), path)
		}
	}
	for _, file := range []string{"GET /api/v1/setup", "POST /api/v1/pick-lists.pdf", "GET /api/v1/orders/{number}/pick-list.pdf",
		"GET /api/v1/shipments/{number}/label.pdf", "GET /api/v1/manifests/{id}/manifest.pdf", "GET /api/v1/saved/{kind}.csv",
		"GET /api/v1/orders.csv",
		"POST /api/v1/sheets/{kind}"} {
		method, path, _ := strings.Cut(file, " ")
		add(method, path)
	}
	require.Greater(t, len(out), 150)
	return out
}

// sample makes a value of a type that a method takes.
func sample(t *testing.T, typ reflect.Type) (reflect.Value, bool) {
	switch {
	case typ == reflect.TypeFor[context.Context]():
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second) // some ask until something is done
		t.Cleanup(cancel)
		return reflect.ValueOf(ctx), true
	case typ == reflect.TypeFor[time.Time]():
		return reflect.ValueOf(time.Date(2026, 1, 31, 12, 0, 0, 0, time.UTC)), true
	case typ == reflect.TypeFor[io.Reader]():
		return reflect.ValueOf(strings.NewReader("sku\nJAR\n")), true
	case typ == reflect.TypeFor[io.Writer]():
		return reflect.ValueOf(io.Discard), true
	case typ.Kind() == reflect.Func:
		return reflect.MakeFunc(typ, func([]reflect.Value) []reflect.Value { return nil }), typ.NumOut() == 0
	case typ.Kind() == reflect.String:
		return reflect.ValueOf("x~1").Convert(typ), true
	case typ.Kind() == reflect.Int64:
		return reflect.ValueOf(int64(7)).Convert(typ), true
	}
	return reflect.Zero(typ), true
}

// stepsOf are methods that take the step as a word.
var stepsOf = map[string][]string{"MoveTransfer": {"send", "arrive", "lose", "drop"}, "EndCount": {"post", "drop"}}

// TestEachMethodCallsARouteThatThereIs: whatever a method asks for is described by the service, with the same method, and
// what people type stays one part of the address.
func TestEachMethodCallsARouteThatThereIs(t *testing.T) {
	known := routes(t)
	used := map[string]bool{}
	typ := reflect.TypeFor[*client.Client]()
	for i := range typ.NumMethod() {
		m := typ.Method(i)
		if slices.Contains([]string{"Do", "Raw", "Health"}, m.Name) {
			continue // Health is told to everybody, and asked for without a token
		}
		for _, answer := range []string{"{}", "[]"} {
			c, calls := desk(t, http.StatusOK, nil, answer)
			args := []reflect.Value{reflect.ValueOf(c)}
			for k := 1; k < m.Type.NumIn(); k++ {
				if m.Type.IsVariadic() && k == m.Type.NumIn()-1 {
					break
				}
				v, ok := sample(t, m.Type.In(k))
				require.True(t, ok, "%s takes a %s", m.Name, m.Type.In(k))
				args = append(args, v)
			}
			steps := stepsOf[m.Name]
			if steps == nil {
				m.Func.Call(args)
			}
			for _, step := range steps {
				args[3] = reflect.ValueOf(step)
				m.Func.Call(args)
			}
			for _, got := range *calls {
				assert.Equal(t, "Bearer secret-token", got.header.Get("Authorization"), m.Name)
				if m.Name == "PDF" {
					continue // whoever calls it names the paper
				}
				found := ""
				for name, form := range known {
					if form.MatchString(got.method + " " + got.path) {
						found = name
					}
				}
				assert.NotEmpty(t, found, "%s calls %s %s, which there is not", m.Name, got.method, got.path)
				used[found] = true
			}
		}
	}
	// What programs alone use, or pages alone, is not in the client.
	var missing []string
	for name := range known {
		if !used[name] && !strings.Contains(name, ".pdf") {
			missing = append(missing, name)
		}
	}
	assert.Less(t, len(missing), len(known)/4, "routes that nobody can call from a command line: %s", strings.Join(missing, ", "))
}

// TestAProblemIsTold: what the service says is wrong reaches whoever asked, field by field.
func TestAProblemIsTold(t *testing.T) {
	for _, c := range []struct {
		status     int
		body, says string
	}{
		{404, `{"status":404,"title":"Not Found","detail":"order 7: there is no such thing"}`, "order 7: there is no such thing"},
		{409, `{"status":409,"title":"Conflict"}`, "Conflict"},
		{422, `{"status":422,"detail":"validation failed","errors":[{"message":"expected a number","location":"body.price"}]}`,
			"validation failed; body.price: expected a number"},
		{400, `{"status":400,"detail":"no","errors":[{"message":"beside the point","location":"body"}]}`, "no"},
		{502, `<html>a proxy says that nobody is at home</html>`, "Bad Gateway"},
		{503, ``, "Service Unavailable"},
	} {
		one, _ := desk(t, c.status, nil, c.body)
		_, err := one.Order(t.Context(), "7")
		require.EqualError(t, err, c.says)
		require.Equal(t, c.status, client.StatusOf(err))
	}
	require.Zero(t, client.StatusOf(io.EOF))
	require.Zero(t, client.StatusOf(nil))
}

// TestAnAnswerThatIsNone: what is no JSON is said to be none, with what was asked for.
func TestAnAnswerThatIsNone(t *testing.T) {
	c, _ := desk(t, 200, nil, "<html>")
	_, err := c.Order(t.Context(), "7")
	require.ErrorContains(t, err, "GET /orders/7: the answer cannot be read")
	broken := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Length", "100")
		_, _ = io.WriteString(w, "{")
	}))
	defer broken.Close()
	_, err = client.New(broken.URL, "").Order(t.Context(), "7")
	require.ErrorContains(t, err, "the answer broke off")
}

// TestNobodyAtHome: a service that cannot be reached is named, and the secret is not.
func TestNobodyAtHome(t *testing.T) {
	srv := httptest.NewServer(http.NotFoundHandler())
	srv.Close()
	_, err := client.New(srv.URL, "secret-token").Board(t.Context())
	require.ErrorContains(t, err, "the service at "+srv.URL+" cannot be reached")
	require.NotContains(t, err.Error(), "secret-token")
	_, err = client.New("http://bad host", "secret-token").Board(t.Context())
	require.ErrorContains(t, err, "server")
	require.NotContains(t, err.Error(), "secret-token")
}

// TestWhoAsksCanStop: a caller that leaves does not wait for the service.
func TestWhoAsksCanStop(t *testing.T) {
	release := make(chan struct{})
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { <-release }))
	defer srv.Close()
	defer close(release)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := client.New(srv.URL, "").Board(ctx)
	require.ErrorIs(t, err, context.Canceled)
}

// TestPagesGoOn: the link to the next page comes back as the query that asks for it.
func TestPagesGoOn(t *testing.T) {
	c, calls := desk(t, 200, map[string]string{"Link": `</api/v1/orders?before=41&limit=2>; rel="next"`},
		`[{"number":"R1"},{"number":"R2"}]`)
	list, next, err := c.Orders(t.Context(), "limit=2")
	require.NoError(t, err)
	require.Len(t, list, 2)
	require.Equal(t, "before=41&limit=2", next)
	require.Equal(t, "limit=2", (*calls)[0].query)
	last, _ := desk(t, 200, nil, `[]`)
	_, next, err = last.Orders(t.Context(), next)
	require.NoError(t, err)
	require.Empty(t, next)
}

// TestWhatMakesARequestSafe: keys and revisions travel as headers, quoted where HTTP wants it.
func TestWhatMakesARequestSafe(t *testing.T) {
	c, calls := desk(t, 200, nil, `{}`)
	_, err := c.Ship(t.Context(), "S1", "plover", "PP", client.Key("once-only"))
	require.NoError(t, err)
	_, err = c.Pause(t.Context(), "stall", true, 12)
	require.NoError(t, err)
	require.Equal(t, "once-only", (*calls)[0].header.Get("Idempotency-Key"))
	require.Equal(t, `"12"`, (*calls)[1].header.Get("If-Match"))
	require.Equal(t, "application/json", (*calls)[1].header.Get("Content-Type"))
	require.JSONEq(t, `{"paused":true}`, (*calls)[1].body)
}

// TestTextsStayOnePartOfTheAddress: a slash, a space or a question mark in a code does not make another address.
func TestTextsStayOnePartOfTheAddress(t *testing.T) {
	c, calls := desk(t, 200, nil, `{}`)
	for _, number := range []string{"A/B", "A B", "A?B", "A%2FB", "../me"} {
		_, err := c.Order(t.Context(), number)
		require.NoError(t, err)
	}
	for i, path := range []string{"A%2FB", "A%20B", "A%3FB", "A%252FB", "..%2Fme"} {
		require.Equal(t, "/api/v1/orders/"+path, (*calls)[i].path)
		require.Empty(t, (*calls)[i].query)
	}
}

// TestWithoutATokenNoneIsSent: a client without a token sends no empty one.
func TestWithoutATokenNoneIsSent(t *testing.T) {
	c, calls := desk(t, 200, nil, `{}`)
	c.Token = ""
	_, err := c.Board(t.Context())
	require.NoError(t, err)
	require.NotContains(t, (*calls)[0].header, "Authorization")
}
