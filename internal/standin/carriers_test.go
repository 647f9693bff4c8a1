package standin

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestCarriersAreMovedByHand on their pages: what was sold stands there, and goes on by a press.
func TestCarriersAreMovedByHand(t *testing.T) {
	iron := NewIronway(RailConfig{Shipper: "Morrow Hive Supply", Number: "IW-1", User: "u", Password: "p", Prefix: "2007100"})
	heron := NewHeron(CourierConfig{Name: "Morrow Hive Supply", Number: "SH-1", Client: "c", Secret: "s"})
	iron.book = append(iron.book, &consignment{No: "IW-00001", SSCC: sscc("2007100", 1), Ref: "r-1", To: "Maren Tolland"})
	heron.jobs = append(heron.jobs, &heronJob{ID: "j0001", Number: "SH500000013", Ref: "r-1", To: "Maren Tolland"})
	for number, carrier := range map[string]http.Handler{iron.book[0].SSCC: iron, "SH500000013": heron} {
		page := func(method, path string, form url.Values) (int, string) {
			req := httptest.NewRequest(method, path, strings.NewReader(form.Encode()))
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			w := httptest.NewRecorder()
			carrier.ServeHTTP(w, req)
			return w.Code, w.Body.String()
		}
		_, text := page("GET", "/control", nil)
		require.Contains(t, text, number)
		require.Contains(t, text, "0 events")
		code, _ := page("POST", "/control/move", url.Values{"number": {number}})
		require.Equal(t, http.StatusSeeOther, code)
		page("POST", "/control/faults", url.Values{"fault": {"500"}})
		_, text = page("GET", "/control", nil)
		require.Contains(t, text, "1 events")
		require.Contains(t, text, "500")
		code, _ = page("POST", "/control/move", url.Values{"number": {"nothing"}})
		require.Equal(t, http.StatusSeeOther, code, "what is not there does not move")
	}
	require.Len(t, sscc("2007100", 1), 18)
	require.Equal(t, "320071000000000014", sscc("2007100", 1))
}
