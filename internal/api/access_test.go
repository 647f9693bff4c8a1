package api_test

import (
	"context"
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/wire"
)

// browser is somebody's, with the cookie it was given.
type browser struct {
	*desk
	cookie *http.Cookie
}

func (b *browser) does(method, path, body string) *httptest.ResponseRecorder {
	b.t.Helper()
	header := map[string]string{"User-Agent": "A browser"}
	if b.cookie != nil {
		header["Cookie"] = b.cookie.Name + "=" + b.cookie.Value
	}
	w := b.askWith("", method, "/api/v1"+path, body, header)
	for _, c := range w.Result().Cookies() {
		b.cookie = c
	}
	return w
}

// enters signs Edda in.
func (b *browser) enters(code string) *httptest.ResponseRecorder {
	b.t.Helper()
	return b.does(http.MethodPost, "/session", `{"email":"edda@morrow.example","password":"honeycomb","code":"`+code+`"}`)
}

// led is a company that Edda leads, and her browser.
func led(t *testing.T) (*desk, *browser) {
	t.Helper()
	d := newDesk(t)
	_, err := d.AddPerson(t.Context(), people.NewPerson{Name: "Edda", Email: "edda@morrow.example", Password: "honeycomb"}, person.Lead,
		"test")
	require.NoError(t, err)
	return d, &browser{desk: d}
}

func answered[T any](t *testing.T, w *httptest.ResponseRecorder) (out T) {
	t.Helper()
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &out))
	return out
}

// TestTheSecondFactorByTheInterface: proposed, confirmed, asked for, and demanded.
func TestTheSecondFactorByTheInterface(t *testing.T) {
	d, b := led(t)
	require.Equal(t, http.StatusOK, b.enters("").Code)
	p := answered[people.Proposal](t, b.does(http.MethodPost, "/me/second-factor", ""))
	code := func() string {
		d.Later(time.Minute)
		text, err := totp.GenerateCode(p.Secret, d.Now())
		require.NoError(t, err)
		return text
	}
	codes := answered[wire.RecoveryCodes](t, b.does(http.MethodPut, "/me/second-factor", `{"code":"`+code()+`"}`))
	require.Len(t, codes.Codes, 10)
	require.True(t, answered[people.Factor](t, b.does(http.MethodGet, "/me/second-factor", "")).On)

	other := &browser{desk: d}
	w := other.enters("")
	require.Equal(t, http.StatusUnauthorized, w.Code)
	require.Contains(t, w.Body.String(), `"location":"body.code"`)
	require.Equal(t, http.StatusUnauthorized, other.enters("000000").Code)
	require.Equal(t, http.StatusOK, other.enters(code()).Code)
	require.Equal(t, http.StatusOK, (&browser{desk: d}).enters(codes.Codes[0]).Code)
	require.NotContains(t, d.ask("lead", http.MethodGet, "/api/v1/people", "").Body.String(), p.Secret)

	require.Equal(t, http.StatusOK, d.ask("lead", http.MethodPut, "/api/v1/sign-in-terms", `{"of":"everybody"}`).Code)
	require.Equal(t, http.StatusConflict, b.does(http.MethodPost, "/me/second-factor/drop", `{"password":"honeycomb"}`).Code)
	require.Equal(t, http.StatusOK, d.ask("lead", http.MethodPost, "/api/v1/people/1/reset-second-factor", "").Code)
	me := answered[wire.Person](t, b.does(http.MethodGet, "/me", ""))
	require.True(t, me.FactorDue)
	w = b.does(http.MethodGet, "/board", "")
	require.Equal(t, http.StatusForbidden, w.Code)
	require.Contains(t, w.Body.String(), "demands a second factor")
	p = answered[people.Proposal](t, b.does(http.MethodPost, "/me/second-factor", ""))
	require.Equal(t, http.StatusOK, b.does(http.MethodPut, "/me/second-factor", `{"code":"`+code()+`"}`).Code)
	require.Equal(t, http.StatusOK, b.does(http.MethodGet, "/board", "").Code)
	require.Equal(t, http.StatusUnprocessableEntity, d.ask("lead", http.MethodPost, "/api/v1/me/second-factor", "").Code,
		"a token has none")
}

// TestASessionIsEndedAlone, and another goes on; what it listened to ends with it.
func TestASessionIsEndedAlone(t *testing.T) {
	d, b := led(t)
	require.Equal(t, http.StatusOK, b.enters("").Code)
	other := &browser{desk: d}
	require.Equal(t, http.StatusOK, other.enters("").Code)
	list := answered[[]wire.UserSession](t, b.does(http.MethodGet, "/me/sessions", ""))
	require.Len(t, list, 2)
	var theirs int64
	for _, s := range list {
		require.Equal(t, "A browser", s.Agent)
		if !s.Here {
			theirs = s.ID
		}
	}
	ended := make(chan struct{})
	opened := &opening{ResponseRecorder: httptest.NewRecorder(), open: make(chan struct{}, 100)}
	go func() {
		defer close(ended)
		r := httptest.NewRequest(http.MethodGet, "/api/v1/events", nil).WithContext(context.WithoutCancel(t.Context()))
		r.AddCookie(other.cookie)
		d.handler.ServeHTTP(opened, r)
	}()
	<-opened.open
	left := answered[[]wire.UserSession](t, b.does(http.MethodDelete, "/me/sessions/"+jsonNumber(theirs), ""))
	require.Len(t, left, 1)
	select {
	case <-ended:
	case <-time.After(30 * time.Second):
		t.Fatal("the stream outlives its session")
	}
	require.Equal(t, http.StatusUnauthorized, other.does(http.MethodGet, "/me", "").Code)
	require.Equal(t, http.StatusOK, b.does(http.MethodGet, "/me", "").Code)
	require.Equal(t, http.StatusNotFound, b.does(http.MethodDelete, "/me/sessions/"+jsonNumber(theirs), "").Code)
	require.Len(t, answered[[]wire.UserSession](t, d.ask("lead", http.MethodGet, "/api/v1/people/1/sessions", "")), 1)
	require.Less(t, b.does(http.MethodDelete, "/session", "").Code, 300)
	require.Empty(t, answered[[]wire.UserSession](t, d.ask("lead", http.MethodGet, "/api/v1/people/1/sessions", "")))
}

func jsonNumber(n int64) string { b, _ := json.Marshal(n); return string(b) }

// opening tells when something was written.
type opening struct {
	*httptest.ResponseRecorder
	open chan struct{}
}

func (o *opening) Write(p []byte) (int, error) {
	n, err := o.ResponseRecorder.Write(p)
	o.open <- struct{}{}
	return n, err
}

func (o *opening) Flush() {}

// TestWhatHappenedAtTheDoor is kept: who came in, who was kept out, and what of that was too much to be told each.
func TestWhatHappenedAtTheDoor(t *testing.T) {
	d, b := led(t)
	require.Equal(t, http.StatusOK, b.enters("").Code)
	for range 8 {
		b.does(http.MethodPost, "/session", `{"email":"edda@morrow.example","password":"guess"}`)
	}
	list := answered[[]wire.SecurityEvent](t, d.ask("lead", http.MethodGet, "/api/v1/security-events?limit=200", ""))
	kinds := map[string]int{}
	for _, e := range list {
		kinds[strings.TrimSpace(e.Kind+" "+e.Text)]++
		require.NotContains(t, e.Text, "guess")
	}
	require.Equal(t, 1, kinds["signed in"])
	require.Equal(t, 5, kinds["refused wrong password"])
	require.Equal(t, 3, kinds["refused too many tries"])
	require.Equal(t, 1, kinds["added Edda added, as lead"])
	require.Equal(t, http.StatusForbidden, d.ask("clerk", http.MethodGet, "/api/v1/security-events", "").Code)
	page := d.ask("lead", http.MethodGet, "/api/v1/security-events?limit=2", "")
	require.Contains(t, page.Header().Get("Link"), "before=")
}

// TestEachLookAtABuyerIsKept: lists, papers and whole messages among them; who sees no buyers looks at none.
func TestEachLookAtABuyerIsKept(t *testing.T) {
	d := newDesk(t, "ann")
	d.Stock(5, "JAR")
	d.Sell("S-1", trial.Units("JAR", 1))
	shipment := d.Packed("S-1")
	pages := map[string]string{"/orders": "list orders", "/shipments": "list shipments", "/orders?q=Tolland": "search Tolland",
		"/orders/S-1": "order O10001", "/shipments/" + shipment: "shipment " + shipment, "/inbox/1": "message 1",
		"/orders/S-1/pick-list.pdf": "paper pick-list-O10001.pdf", "/orders.csv": "table orders.csv?"}
	for page := range pages {
		for _, role := range []person.Role{"viewer", "clerk", "clerk"} {
			w := d.ask(role, http.MethodGet, "/api/v1"+page, "")
			require.True(t, w.Code == http.StatusOK || role == "viewer", "%s %s: %s", role, page, w.Body)
		}
	}
	looks, err := d.Store.Looks(t.Context(), "", "", 0, 100)
	require.NoError(t, err)
	var kept []string
	for _, l := range looks {
		require.EqualValues(t, "clerk", l.Role)
		kept = append(kept, l.Thing+" "+l.Key)
	}
	require.ElementsMatch(t, slices.Collect(maps.Values(pages)), kept)
}

// TestTheDescriptionSaysWhatLetsIn: where it is served, and for each operation which of the two ways in is needed, or none.
func TestTheDescriptionSaysWhatLetsIn(t *testing.T) {
	d := newDesk(t)
	raw, err := d.api.OpenAPI()
	require.NoError(t, err)
	var said struct {
		Servers []struct{ URL string }
		Paths   map[string]map[string]struct {
			OperationID string `json:"operationId"`
			Security    []map[string][]string
		}
	}
	require.NoError(t, json.Unmarshal(raw, &said))
	require.Equal(t, "/", said.Servers[0].URL)
	ids := map[string]bool{}
	for path, methods := range said.Paths {
		for method, o := range methods {
			require.False(t, ids[o.OperationID], "%s is told twice", o.OperationID)
			ids[o.OperationID] = true
			require.NotEmpty(t, o.Security, "%s %s", method, path)
			open := slices.Contains(everybody, strings.ToUpper(method)+" "+strings.TrimPrefix(path, "/api/v1"))
			require.Equal(t, open, len(o.Security[0]) == 0, "%s %s", method, path)
		}
	}
	require.Greater(t, len(ids), 150)
}
