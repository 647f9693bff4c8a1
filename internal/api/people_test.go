package api_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
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
			"person":  map[string]any{"name": "Edda Morrow", "email": "edda@morrow.example", "password": password}})
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
	require.JSONEq(t, `{"name":"Edda Morrow","email":"edda@morrow.example","role":"admin"}`, me.Body.String())
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
	w := d.ask(person.Operator, http.MethodPost, "/api/v1/items/JAR/adjust", `{"location":"alder","change":"honeycomb-4711"}`)
	require.NotContains(t, w.Body.String(), "honeycomb")
}
