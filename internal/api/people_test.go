package api_test

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/api"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/trial"
	"openrelay/internal/relay/views"
	"openrelay/internal/wire"
)

// TestACompanyBeginsOnItsPage: it has nobody, it is named by who has the key, and that person is signed in and leads it.
func TestACompanyBeginsOnItsPage(t *testing.T) {
	d := newDesk(t)
	require.JSONEq(t, `{"nobody":true}`, d.ask("", http.MethodGet, "/api/v1/first-run", "").Body.String())
	key, err := d.OpenFirstRun(t.Context())
	require.NoError(t, err)
	begin := func(key, password string) *http.Response {
		body, err := json.Marshal(map[string]any{"key": key,
			"company": map[string]any{"name": "Morrow Hive Supply", "time_zone": "", "country": "XW", "currency": "XTS"},
			"person":  map[string]any{"name": "Edda Quillon", "email": "edda@morrow.example", "password": password}})
		require.NoError(t, err)
		return d.ask("", http.MethodPost, "/api/v1/first-run", string(body)).Result()
	}
	require.Equal(t, http.StatusUnprocessableEntity, begin("guessed", "honeycomb").StatusCode)
	require.Equal(t, http.StatusUnprocessableEntity, begin(key, "short").StatusCode)
	w := begin(key, "honeycomb")
	require.Equal(t, http.StatusOK, w.StatusCode)
	cookies := w.Cookies()
	require.Len(t, cookies, 1)
	me := d.askWith("", http.MethodGet, "/api/v1/me", "", map[string]string{"Cookie": cookies[0].Name + "=" + cookies[0].Value})
	require.JSONEq(t, `{"id":1,"name":"Edda Quillon","email":"edda@morrow.example","role":"lead","may":["own","look","buyers",
		"hand-over","ship","stock","orders","purchasing","catalog","feeds","books","setup","people","privacy"]}`, me.Body.String())
	require.JSONEq(t, `{"nobody":false}`, d.ask("", http.MethodGet, "/api/v1/first-run", "").Body.String())
	require.Equal(t, http.StatusUnprocessableEntity, begin(key, "honeycomb").StatusCode)
	d.Later(2 * time.Hour)
}

// TestErrorsDoNotEchoWhatWasSent: they say where something was wrong; what was sent may be a secret.
func TestErrorsDoNotEchoWhatWasSent(t *testing.T) {
	d := newDesk(t)
	for path, body := range map[string]string{
		"/api/v1/session":   `{"email":"edda@morrow.example","password":"honeycomb-4711","extra":"honeycomb-4711"}`,
		"/api/v1/first-run": `{"key":"honeycomb-4711","company":{"name":7},"person":"honeycomb-4711"}`,
	} {
		w := d.ask("", http.MethodPost, path, body)
		require.Equal(t, http.StatusUnprocessableEntity, w.Code, path)
		require.Contains(t, w.Body.String(), "location", path)
		require.NotContains(t, w.Body.String(), "honeycomb", path)
	}
	w := d.ask(person.Clerk, http.MethodPost, "/api/v1/items/JAR/adjust", `{"location":"alder","change":"honeycomb-4711"}`)
	require.NotContains(t, w.Body.String(), "honeycomb")
}

// signedIn is somebody who signed in, as a browser keeps it.
func (d *desk) signedIn(email, password string) map[string]string {
	d.t.Helper()
	body, err := json.Marshal(map[string]string{"email": email, "password": password})
	require.NoError(d.t, err)
	w := d.ask("", http.MethodPost, "/api/v1/session", string(body)).Result()
	require.Equal(d.t, http.StatusOK, w.StatusCode)
	require.Len(d.t, w.Cookies(), 1)
	return map[string]string{"Cookie": w.Cookies()[0].Name + "=" + w.Cookies()[0].Value}
}

// TestSessionsEndWithThePassword: all sessions of a person end when the password changes, or the person leaves; the one that
// changed its own password goes on under a new token.
func TestSessionsEndWithThePassword(t *testing.T) {
	d := newDesk(t)
	add := func(name, role string) *httptest.ResponseRecorder {
		return d.ask(person.Lead, http.MethodPost, "/api/v1/people",
			`{"name":"`+name+`","email":"`+name+`@morrow.example","password":"honeycomb","role":"`+role+`"}`)
	}
	require.Equal(t, http.StatusOK, add("edda", "lead").Code)
	var list []wire.User
	require.NoError(t, json.Unmarshal(add("pim", "clerk").Body.Bytes(), &list))
	require.Len(t, list, 2)
	require.Equal(t, http.StatusConflict, add("pim", "viewer").Code)
	desk, phone := d.signedIn("pim@morrow.example", "honeycomb"), d.signedIn(" PIM@morrow.example ", "honeycomb")
	me := func(as map[string]string) int { return d.askWith("", http.MethodGet, "/api/v1/me", "", as).Code }
	require.Equal(t, []int{200, 200}, []int{me(desk), me(phone)})

	w := d.askWith("", http.MethodPost, "/api/v1/me/password", `{"old":"guessed!","new":"beekeeper"}`, desk)
	require.Equal(t, http.StatusUnprocessableEntity, w.Code)
	w = d.askWith("", http.MethodPost, "/api/v1/me/password", `{"old":"honeycomb","new":"beekeeper"}`, desk)
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	fresh := map[string]string{"Cookie": w.Result().Cookies()[0].Name + "=" + w.Result().Cookies()[0].Value}
	require.Equal(t, []int{401, 401, 200}, []int{me(desk), me(phone), me(fresh)})

	pim := fmt.Sprint(list[1].ID)
	require.Equal(t, http.StatusOK, d.ask(person.Lead, http.MethodPost, "/api/v1/people/"+pim+"/leave", `{"left":true}`).Code)
	require.Equal(t, http.StatusUnauthorized, me(fresh))
	require.Equal(t, http.StatusUnauthorized, d.ask("", http.MethodPost, "/api/v1/session",
		`{"email":"pim@morrow.example","password":"beekeeper"}`).Code)
	require.Equal(t, http.StatusUnprocessableEntity, d.ask(person.Viewer, http.MethodPost, "/api/v1/me/password",
		`{"old":"a","new":"beekeeper"}`).Code, "a token has no password")
	var raw string
	d.Scalar(&raw, "SELECT group_concat(token) FROM session")
	require.NotContains(t, raw, strings.SplitN(fresh["Cookie"], "=", 2)[1], "who reads the file cannot use a session")
}

// TestATokenIsToldOnce, works as its role, and ends when it is revoked.
func TestATokenIsToldOnce(t *testing.T) {
	d := newDesk(t)
	w := d.ask(person.Lead, http.MethodPost, "/api/v1/tokens", `{"name":"scale","role":"viewer"}`)
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	var made wire.NewToken
	require.NoError(t, json.Unmarshal(w.Body.Bytes(), &made))
	as := map[string]string{"Authorization": "Bearer " + made.Token}
	require.Equal(t, http.StatusOK, d.askWith("", http.MethodGet, "/api/v1/board", "", as).Code)
	require.Equal(t, http.StatusForbidden, d.askWith("", http.MethodGet, "/api/v1/tokens", "", as).Code)
	list := d.ask(person.Lead, http.MethodGet, "/api/v1/tokens", "")
	require.NotContains(t, list.Body.String(), made.Token)
	require.Contains(t, list.Body.String(), `"name":"scale"`)
	require.Equal(t, http.StatusNoContent, d.ask(person.Lead, http.MethodDelete, fmt.Sprint("/api/v1/tokens/", made.ID), "").Code)
	require.Equal(t, http.StatusUnauthorized, d.askWith("", http.MethodGet, "/api/v1/board", "", as).Code)
}

// TestAFirstDay: steps show by themselves that they are done, may be left out and taken up again, and all of it dismissed.
func TestAFirstDay(t *testing.T) {
	d := newDesk(t)
	day := func(w *httptest.ResponseRecorder) (out views.FirstDay) {
		require.Equal(t, http.StatusOK, w.Code, w.Body)
		require.NoError(t, json.Unmarshal(w.Body.Bytes(), &out))
		return out
	}
	look := func() views.FirstDay { return day(d.ask(person.Viewer, http.MethodGet, "/api/v1/first-day", "")) }
	put := func(body string) views.FirstDay {
		return day(d.ask(person.Lead, http.MethodPut, "/api/v1/first-day", body))
	}
	step := func(code string, done, left bool) views.FirstStep {
		return views.FirstStep{Code: code, Done: done, Left: left}
	}
	require.Equal(t, []views.FirstStep{step("place", true, false), step("items", false, false), step("channel", true, false),
		step("carrier", false, false), step("order", false, false)}, look().Steps)
	d.Stock(3, "JAR")
	d.Sell("S-1", trial.Units("JAR", 1))
	require.False(t, look().Over)
	got := put(`{"step":"carrier","left":true}`)
	require.Equal(t, step("carrier", false, true), got.Steps[3])
	require.True(t, got.Over, "all is done or left out")
	require.False(t, put(`{"step":"carrier","left":false}`).Over)
	got = put(`{"left":true}`)
	require.Equal(t, []bool{true, true}, []bool{got.Over, got.Dismissed})
	require.False(t, put(`{"left":false}`).Over)
	require.Equal(t, http.StatusUnprocessableEntity,
		d.ask(person.Lead, http.MethodPut, "/api/v1/first-day", `{"step":"tea","left":true}`).Code)
}

// TestAPlaceHasItsAddress: it is added and changed with it, and what is no address is refused.
func TestAPlaceHasItsAddress(t *testing.T) {
	d := newDesk(t)
	put := func(code, body string) *httptest.ResponseRecorder {
		return d.ask(person.Lead, http.MethodPut, "/api/v1/locations/"+code, body)
	}
	w := put("loft",
		`{"name":"The loft","address":{"name":"","street":"Heron Lane 2","postcode":"41360","town":"Harrowmere","country":"xw"}}`)
	require.Equal(t, http.StatusOK, w.Code, w.Body)
	require.Contains(t, w.Body.String(), `"street":"Heron Lane 2"`)
	require.Contains(t, w.Body.String(), `"country":"XW"`)
	w = put("loft", `{"name":"The high loft"}`)
	require.Contains(t, w.Body.String(), `"street":"Heron Lane 2"`, "what is not said stays")
	w = put("loft", `{"address":{"name":"","street":"Heron Lane 2","postcode":"4","town":"Harrowmere","country":"XW"}}`)
	require.Equal(t, http.StatusUnprocessableEntity, w.Code)
	require.Contains(t, w.Body.String(), "address:")
	require.Equal(t, http.StatusUnprocessableEntity, put("The-Loft", `{"name":"x"}`).Code)
	require.Equal(t, http.StatusUnprocessableEntity, put("loft", `{"keeper":"nobody"}`).Code)
}

// TestARepeatedRequestIsAnsweredToWhoMadeIt: by the person, not by what they are called, and not after their role has changed;
// and what was answered does not stand in the file for all to read.
func TestARepeatedRequestIsAnsweredToWhoMadeIt(t *testing.T) {
	d := newDesk(t)
	once := func(token, name string) *httptest.ResponseRecorder {
		return d.askWith("", http.MethodPost, "/api/v1/tokens", `{"name":"`+name+`","role":"viewer"}`,
			map[string]string{"Authorization": "Bearer " + token, "Idempotency-Key": "k-1"})
	}
	first := once(d.tokens[person.Lead], "scale")
	require.Equal(t, http.StatusOK, first.Code)
	require.Equal(t, first.Body.String(), once(d.tokens[person.Lead], "scale").Body.String(), "answered as the first time")
	twin, err := d.NewToken(t.Context(), "A lead", person.Lead)
	require.NoError(t, err)
	other := once(twin, "scale")
	require.Equal(t, http.StatusOK, other.Code)
	require.NotEqual(t, first.Body.String(), other.Body.String(), "another of the same name is somebody else")
	require.Equal(t, http.StatusForbidden, once(d.tokens[person.Clerk], "scale").Code)

	d.Spoil("UPDATE api_token SET role='clerk' WHERE name='A lead'")
	require.Equal(t, http.StatusForbidden, once(twin, "scale").Code, "the role counts, not what was answered before")
	var made wire.NewToken
	require.NoError(t, json.Unmarshal(first.Body.Bytes(), &made))
	var kept string
	d.Scalar(&kept, "SELECT group_concat(hex(answer)) FROM idempotency")
	require.NotEmpty(t, kept)
	require.NotContains(t, kept, strings.ToUpper(hex.EncodeToString([]byte(made.Token))))
}

// TestBehindAProxyEachSourceIsItsOwn: one who guesses keeps nobody else out, and what somebody writes into the header
// themselves does not count; without a proxy of ours, none of it does.
func TestBehindAProxyEachSourceIsItsOwn(t *testing.T) {
	tries := func(secure bool, hops ...string) (codes []int) {
		d := guarded(t, api.Options{Proxied: secure})
		for _, hop := range hops {
			for range 6 {
				w := d.askWith("", http.MethodPost, "/api/v1/session", `{"email":"edda@morrow.example","password":"wrong"}`,
					map[string]string{"X-Forwarded-For": hop})
				codes = append(codes, w.Code)
			}
		}
		return codes
	}
	refused := []int{401, 401, 401, 401, 401}
	kept := []int{429, 429, 429, 429, 429, 429}
	require.Equal(t, slices.Concat(refused, []int{429}, refused, []int{429}, kept),
		tries(true, "10.1.1.1", "10.1.1.2", "10.9.9.9, 10.1.1.1"))
	require.Equal(t, slices.Concat(refused, []int{429}, kept), tries(false, "10.1.1.1", "10.1.1.2"))
}
