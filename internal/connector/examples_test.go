package connector

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// example is a definition of the page of examples, as it stands there.
func example(t *testing.T, code string) string {
	t.Helper()
	page, err := os.ReadFile("../../docs/connectors-examples.md")
	require.NoError(t, err)
	for _, block := range strings.Split(string(page), "```yaml\n")[1:] {
		if text, _, ok := strings.Cut(block, "```"); ok && strings.HasPrefix(text, "connector: "+code+"\n") {
			return text
		}
	}
	t.Fatalf("the page has no %s", code)
	return ""
}

// TestTheStoreOfTheExamples: pages, a mark in seconds, and a number that arrives once whatever happens on the way.
func TestTheStoreOfTheExamples(t *testing.T) {
	version, number, lost := 1, "", true
	var asked []string
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.Method+" "+r.URL.RequestURI())
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, version))
		switch {
		case r.Header.Get("X-Key") != "os_12345678":
			w.WriteHeader(401)
		case r.URL.Path == "/orders":
			rows := []string{}
			for i := range 25 {
				rows = append(rows, fmt.Sprintf(`{"id":%d,"ref":"S-%d","state":"paid","placed":1793520000,"changed":%d,"to":{"name":"Ilka"},
					"rows":[{"n":1,"code":"JAR","text":"Jar","qty":2,"each":"10.00","sum":"20.00"}],"sum":"20.00"}`, i, i, 1793520000+i))
			}
			skip := 0
			_, _ = fmt.Sscan(r.URL.Query().Get("skip"), &skip)
			reply(w, `{"orders":[`+strings.Join(rows[skip:min(skip+20, 25)], ",")+`]}`)
		case r.Method == "GET" && strings.HasPrefix(r.URL.Path, "/orders/"):
			reply(w, fmt.Sprintf(`{"id":17,"parcel":{"number":%q}}`, number))
			if version == 1 {
				version++ // somebody changes it right then
			}
		case r.Header.Get("If-Match") != fmt.Sprintf(`"%d"`, version):
			w.WriteHeader(412)
		default:
			raw, _ := io.ReadAll(r.Body)
			var b struct{ Number string }
			_ = json.Unmarshal(raw, &b)
			if number = b.Number; lost {
				panic(http.ErrAbortHandler) // carried out, and the answer is lost
			}
			reply(w, `{}`)
		}
	})
	l := dial(t, example(t, "orchard-store"), h, map[string]string{"key": "os_12345678"}, Token{})
	seen := 0
	to, err := l.Read(t.Context(), message.OrdersIn, Reading{Since: time.Unix(1793520000, 0), Keep: func(list []Record) error {
		seen += len(list)
		m, err := l.MapBody(message.OrdersIn, "poll", list[0].Body)
		require.NoError(t, err)
		require.NoError(t, m.(*message.Order).Check())
		return nil
	}})
	require.NoError(t, err)
	require.Equal(t, 25, seen)
	require.Equal(t, "1793520024", to.Mark)
	require.Equal(t, []string{"GET /orders?since=1793520000&skip=0&take=20", "GET /orders?since=1793520000&skip=20&take=20"}, asked)

	d := message.Dispatch{OrderID: "17", Carrier: "Plover Post", Tracking: "PP1"}
	_, err = l.Send(t.Context(), message.DispatchOut, "r1", []any{d})
	require.True(t, failure(t, err).Temporary, "the answer was lost, after the order was read anew")
	found, _, err := l.Look(t.Context(), message.DispatchOut, "r1", d)
	require.NoError(t, err)
	require.True(t, found, "so that it is not said again")
	lost = false
	d.Tracking = "PP2"
	_, err = l.Send(t.Context(), message.DispatchOut, "r2", []any{d})
	require.NoError(t, err)
	require.Equal(t, "PP2", number)
}

func TestTheFilesOfTheExamples(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "out"), 0o755))
	def, err := Load("school.yaml", []byte(example(t, "bee-school")), nil)
	require.NoError(t, err)
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	l, err := NewLine(def, LineOptions{Base: dir, Folders: []string{dir}, Now: func() time.Time { return now }})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "out", "1.edi"), []byte(`UNB+UNOC:3+BEESCHOOL+MORROWHIVE+261123:0727+S1'
UNH+1+ORDERS:D:96A:UN'BGM+220+BS-1+1'DTM+137:202611230727:203'NAD+DP+++Bee School:Runa Moss+Orchard Way 2+Alderby++41207+XW'
LIN+1++JAR:SA'DTM+2:20261201:102'QTY+21:2'PRI+AAA:10.00'MOA+203:20.00'UNS+S'MOA+86:20.00'UNT+12+1'UNZ+1+S1'`), 0o644))
	var got *message.Order
	read := func() {
		keep := func(list []Record) error {
			require.Len(t, list, 1)
			require.NoError(t, list[0].Err)
			m, err := l.MapBody(message.OrdersIn, "poll", list[0].Body)
			require.NoError(t, err)
			got = m.(*message.Order)
			return got.Check()
		}
		_, err := l.Read(t.Context(), message.OrdersIn, Reading{Took: func(TakenFile) error { return nil }, Keep: keep})
		require.NoError(t, err)
	}
	read()
	require.Nil(t, got, "it may still be written")
	now = now.Add(time.Second)
	read()
	require.Equal(t, []string{"BS-1", "Runa Moss", "Bee School", "41207"},
		[]string{got.Number, got.ShipTo.Name, got.ShipTo.Company, got.ShipTo.Postcode})
	require.Equal(t, int64(2000), got.Total)
	_, err = l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{Reference: "D-1", OrderNumber: "BS-1", Tracking: "PP1",
		ShippedAt: now, Lines: []message.DispatchLine{{ID: "1", SKU: "JAR", Quantity: 2}}}})
	require.NoError(t, err)
	sent, err := filepath.Glob(filepath.Join(dir, "in", "DES_BS-1_*.edi"))
	require.NoError(t, err)
	require.Len(t, sent, 1)
	raw, err := os.ReadFile(sent[0])
	require.NoError(t, err)
	require.Contains(t, string(raw), "RFF+ON:BS-1'\nRFF+CN:PP1'\nLIN+1++JAR:SA'\nQTY+12:2'\nUNT+8+1'")
}

func TestTheMarketplaceOfTheExamples(t *testing.T) {
	state, answer := "working", `{"job":"J7"}`
	l := dial(t, example(t, "fair-field"), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if name, word, _ := r.BasicAuth(); name != "ann" || word != "p" {
			w.WriteHeader(401)
		} else if r.URL.Path == "/jobs/J7" {
			reply(w, `{"state":"`+state+`","rows":[{"listing":"L1","ok":true},{"listing":"L2","ok":false,"text":"it ended"}]}`)
		} else {
			reply(w, answer)
		}
	}), map[string]string{"user": "ann", "word": "p"}, Token{})
	offers := []any{message.Offer{OutsideID: "L1", Quantity: 4}, message.Offer{OutsideID: "L2", Quantity: 1}}
	sent, err := l.Send(t.Context(), message.StockOut, "r1", offers)
	require.NoError(t, err)
	require.Equal(t, "J7", sent.Submission)
	_, ready, err := l.Report(t.Context(), message.StockOut, "J7")
	require.NoError(t, err)
	require.False(t, ready)
	state = "done"
	rows, ready, err := l.Report(t.Context(), message.StockOut, "J7")
	require.NoError(t, err)
	require.True(t, ready)
	require.Equal(t, []Result{{Subject: "L1", Accepted: true}, {Subject: "L2", Reason: "it ended"}}, rows)
	answer = `{"ok":false,"text":"too many rows","at":"rows"}`
	_, err = l.Send(t.Context(), message.StockOut, "r2", offers)
	f := failure(t, err)
	require.False(t, f.Temporary)
	require.Contains(t, f.Text, "too many rows (rows)")
}
