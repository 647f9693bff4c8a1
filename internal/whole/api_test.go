package whole

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/cli"
	"openrelay/internal/client"
	"openrelay/internal/demo"
)

// person is somebody signed in with a session, as the console is.
type person struct {
	t    *testing.T
	url  string
	http *http.Client
}

func (p *person) send(method, path string, in any, header map[string]string) (int, http.Header, string) {
	p.t.Helper()
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		require.NoError(p.t, err)
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequest(method, p.url+path, body)
	require.NoError(p.t, err)
	req.Header.Set("Content-Type", "application/json")
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := p.http.Do(req)
	require.NoError(p.t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(p.t, err)
	return res.StatusCode, res.Header, string(text)
}

func signIn(t *testing.T, w *demo.World, email, password string) (*person, int) {
	t.Helper()
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	p := &person{t, w.URL, &http.Client{Jar: jar}}
	status, _, _ := p.send("POST", "/api/v1/session", map[string]string{"email": email, "password": password}, nil)
	return p, status
}

func TestSignInAndRoles(t *testing.T) {
	w := openWorld(t, false)
	nobody := &person{t, w.URL, http.DefaultClient}
	status, h, text := nobody.send("GET", "/api/v1/orders", nil, nil)
	require.Equal(t, 401, status)
	require.Equal(t, "application/problem+json", h.Get("Content-Type"))
	require.Contains(t, text, "Sign in")
	status, _, _ = nobody.send("GET", "/api/v1/events", nil, nil)
	require.Equal(t, 401, status)
	status, _, _ = nobody.send("GET", "/api/v1/orders", nil, map[string]string{"Authorization": "Bearer relay_wrong"})
	require.Equal(t, 401, status)

	books, status := signIn(t, w, "books@morrowhive.example", demo.Password)
	require.Equal(t, 200, status)
	status, h, _ = books.send("GET", "/api/v1/me", nil, nil)
	require.Equal(t, 200, status)
	status, _, text = books.send("POST", "/api/v1/items/JAR-500-T12/adjust",
		map[string]any{"location": "alder", "change": 1, "reason": "found"}, nil)
	require.Equal(t, 403, status, text)
	require.Contains(t, text, "clerk")
	desk, _ := signIn(t, w, "Desk@MorrowHive.example", demo.Password)
	status, _, _ = desk.send("POST", "/api/v1/items/JAR-500-T12/adjust",
		map[string]any{"location": "alder", "change": 1, "reason": "found"}, nil)
	require.Equal(t, 200, status)
	status, _, _ = desk.send("PATCH", "/api/v1/connections/morrow", map[string]any{"paused": true}, map[string]string{"If-Match": `"1"`})
	require.Equal(t, 403, status)

	// A page of another origin cannot act for somebody who is signed in.
	status, _, text = desk.send("POST", "/api/v1/items/JAR-500-T12/adjust",
		map[string]any{"location": "alder", "change": 1, "reason": "found"},
		map[string]string{"Sec-Fetch-Site": "cross-site", "Origin": "http://elsewhere.example"})
	require.Equal(t, 403, status)
	require.Contains(t, text, "another origin")

	status, _, _ = desk.send("DELETE", "/api/v1/session", nil, nil)
	require.Equal(t, 204, status)
	status, _, _ = desk.send("GET", "/api/v1/me", nil, nil)
	require.Equal(t, 401, status)

	for i := range 6 {
		_, status = signIn(t, w, "lead@morrowhive.example", "guess")
		require.Equal(t, map[bool]int{true: 401, false: 429}[i < 5], status, i)
	}
	_ = h
}

func TestRequestsAreDescribedAndChecked(t *testing.T) {
	w := openWorld(t, false)
	raw, _, err := w.Client.Raw(t.Context(), "GET", "/api/v1/openapi.json", nil)
	require.NoError(t, err)
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]struct{ OperationID, Summary string }
	}
	require.NoError(t, json.Unmarshal(raw, &doc))
	require.Equal(t, "3.1.0", doc.OpenAPI)
	require.Contains(t, doc.Paths, "/api/v1/orders/{number}")
	for path, ops := range doc.Paths {
		for method, op := range ops {
			require.NotEmpty(t, op.Summary, "%s %s", method, path)
		}
	}
	_, _, err = w.Client.Raw(t.Context(), "GET", "/api/v1/orders?limit=5000", nil)
	require.Equal(t, 422, client.StatusOf(err))
	_, _, err = w.Client.Raw(t.Context(), "POST", "/api/v1/items/JAR-500-T12/adjust",
		map[string]any{"location": "alder", "change": "many", "reason": "x"})
	require.Equal(t, 422, client.StatusOf(err))
	_, _, err = w.Client.Raw(t.Context(), "GET", "/api/v1/nothing", nil)
	require.Equal(t, 404, client.StatusOf(err))
	raw, _, err = w.Client.Raw(t.Context(), "GET", "/metrics", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), `openrelay_connection_up{connection="morrow"} 1`)
	raw, _, err = w.Client.Raw(t.Context(), "GET", "/healthz", nil)
	require.NoError(t, err)
	require.Contains(t, string(raw), `"status":"well"`)
}

func TestIdempotencyKeyAndETag(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	adjust := func(key string, by int64) error {
		_, err := w.Client.Adjust(ctx, "JAR-500-T12", "alder", by, "found", client.Key(key))
		return err
	}
	onHand := func() int64 {
		v, err := w.Client.Item(ctx, "JAR-500-T12")
		require.NoError(t, err)
		return v.Levels[0].OnHand
	}
	before := onHand()
	done := make(chan error, 8)
	for range 8 { // at once
		go func() { done <- adjust("same", 5) }()
	}
	for range 8 {
		require.NoError(t, <-done)
	}
	require.Equal(t, before+5, onHand())
	err := adjust("same", 6)
	require.Equal(t, 422, client.StatusOf(err), "the same key for another request")
	require.Equal(t, before+5, onHand())

	wrong := jars(1)
	wrong.TotalOff = 500
	_, name, err := w.Morrow.Place(wrong)
	require.NoError(t, err)
	eventually(t, "held", func() bool { stage, _ := orderOf(t, w, name); return stage == "held" })
	_, h, err := w.Client.Raw(ctx, "GET", "/api/v1/orders/"+name, nil)
	require.NoError(t, err)
	old := h.Get("ETag")
	to := map[string]any{"name": "Maren Tolland", "street": "Heron Lane 9", "postcode": "42811", "town": "Stonequay", "country": "XW"}
	match := func(r *http.Request) { r.Header.Set("If-Match", old) }
	_, _, err = w.Client.Raw(ctx, "PUT", "/api/v1/orders/"+name+"/address", to, match)
	require.NoError(t, err)
	_, _, err = w.Client.Raw(ctx, "PUT", "/api/v1/orders/"+name+"/address", to, match)
	require.Equal(t, 412, client.StatusOf(err), "somebody changed it in the meantime")
	to["postcode"] = "1"
	_, _, err = w.Client.Raw(ctx, "PUT", "/api/v1/orders/"+name+"/address", to)
	require.Equal(t, 422, client.StatusOf(err))
	o, err := w.Client.Release(ctx, name, "total differs")
	require.NoError(t, err)
	require.Equal(t, "ready", o.Stage)
	require.Equal(t, "Heron Lane 9", o.ShipTo.Street)
}

func TestKeysetPagesFollowTheLink(t *testing.T) {
	w := openWorld(t, false)
	for range 25 {
		_, _, err := w.Morrow.Place(jars(1))
		require.NoError(t, err)
	}
	eventually(t, "all orders", func() bool {
		list, _, err := w.Client.Orders(t.Context(), "limit=200")
		return err == nil && len(list) == 25
	})
	follow := func(query string) (seen []string) {
		for pages := 0; query != ""; pages++ {
			require.Less(t, pages, 4)
			list, next, err := w.Client.Orders(t.Context(), query)
			require.NoError(t, err)
			for _, o := range list {
				seen = append(seen, o.Number)
			}
			query = next
		}
		require.Len(t, seen, 25)
		return seen
	}
	require.IsDecreasing(t, follow("limit=10&connection=morrow"))
	require.IsIncreasing(t, follow("limit=10&oldest=true&stage=ready,held,routed"))
}

func TestEventsTellWhatChanged(t *testing.T) {
	w := openWorld(t, false)
	req, err := http.NewRequestWithContext(t.Context(), "GET", w.URL+"/api/v1/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+w.Token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	lines := bufio.NewScanner(res.Body)
	require.True(t, lines.Scan())
	begin := time.Now()
	_, _, err = w.Morrow.Place(jars(1))
	require.NoError(t, err)
	for lines.Scan() {
		if strings.Contains(lines.Text(), `"kind":"order","key":"R10001"`) {
			require.Less(t, time.Since(begin), 2*time.Second)
			return
		}
	}
	t.Fatal("the stream ended")
}

// TestCommandLine drives a sale with the client's commands and looks at what they print and how they end.
func TestCommandLine(t *testing.T) {
	w := openWorld(t, false)
	dir := t.TempDir()
	run := func(args ...string) (int, string, string) {
		var out, errOut strings.Builder
		env := map[string]string{"OPENRELAY_SERVER": w.URL, "OPENRELAY_TOKEN": w.Token}
		code := cli.Run(t.Context(), &cli.Env{Out: &out, Err: &errOut, Getenv: func(k string) string {
			return env[k]
		}, Version: "test"}, args)
		return code, out.String(), errOut.String()
	}
	_, name, err := w.Morrow.Place(jars(2))
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	for file, text := range map[string]string{
		"password": demo.CounterpaneAccess["password"] + "\n", "over.yaml": "feeds: { orders in: { read: { every: 20s } } }\n",
		"bad.yaml":  "connector: mine\nextends: hedgerow\ncolour: red\n",
		"mine.yaml": "connector: mine\nextends: hedgerow\ntitle: Mine\n",
		"order.json": `{"id":"1","name":"N-1","revision":1,"state":"confirmed","currency":"EUR","lines":[{"line_id":"1","sku":"JAR",` +
			`"quantity":1}]}`,
		"setup.yaml": "setup: 1\nconnections:\n  - { code: skep, connector: hedgerow, name: \"${NAME}\", settings: { offer: { buffer: " +
			"3 } } }\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
	}
	for _, c := range []struct {
		args []string
		code int
		says string // on standard output where it went well, on standard error otherwise
	}{
		{[]string{"version"}, 0, "openrelay test"},
		{[]string{"help"}, 0, "Usage: openrelay NOUN"},
		{nil, 2, ""},
		{[]string{"fly"}, 2, `no command "fly"`},
		{[]string{"order", "list", "-h"}, 0, "-stage"},
		{[]string{"order", "list", "-colour", "red"}, 2, "colour"},
		{[]string{"order", "list", "-stage", "ready"}, 0, name},
		{[]string{"order", "list", "-json"}, 0, `"channel_number": "` + name + `"`},
		{[]string{"order", "show", "R10001"}, 0, "Stock allocated"},
		{[]string{"order", "show"}, 2, "wrong number of arguments"},
		{[]string{"order", "show", "R777"}, 1, "There is no order R777."},
		{[]string{"stock", "list", "-q", "JAR-500"}, 0, "Alder Yard"},
		{[]string{"item", "list", "-q", "suit"}, 0, "SUIT-M-WHITE"},
		{[]string{"item", "show", "JAR-500-T12"}, 0, "sold"},
		{[]string{"stock", "why", "skep", "JAR-500-T12"}, 0, "Safety buffer"},
		{[]string{"connection", "list"}, 0, "go: running well"},
		{[]string{"feed", "list", "morrow"}, 0, "every 15s"},
		{[]string{"connection", "test", "morrow"}, 0, "H-20071"},
		{[]string{"feed", "run", "morrow", "orders in"}, 0, "has begun"},
		{[]string{"feed", "run", "morrow", "gossip"}, 1, "no feed"},
		{[]string{"run", "list"}, 0, "listings in"},
		{[]string{"run", "log", "1"}, 0, "page 1"},
		{[]string{"run", "log", "x"}, 2, "a number is expected"},
		{[]string{"shipment", "pick", "R10001"}, 0, "S40001"},
		{[]string{"shipment", "scan", "S40001", "SMOKER-L"}, 1, "is not part of order R10001. Expected JAR-500-T12"},
		{[]string{"shipment", "scan", "S40001", "JAR-500-T12", "-quantity", "2"}, 0, "2 of 2"},
		{[]string{"shipment", "pick-list", "R10001", "-o", filepath.Join(dir, "pick.pdf")}, 0, "Written to"},
		{[]string{"profile"}, 0, "Medium carton"},
		{[]string{"shipment", "pack", "S40001", "mailer"}, 1, "does not fit"},
		{[]string{"shipment", "pack", "S40001", "medium", "-weight", "7000"}, 0, "7000 g"},
		{[]string{"parcel", "rates", "S40001"}, 0, "Plover Express"},
		{[]string{"parcel", "ship", "S40001", "-carrier", "plover"}, 2, "go together"},
		{[]string{"parcel", "ship", "S40001"}, 0, "Plover Parcel"},
		{[]string{"parcel", "ship", "S40001"}, 1, "no second label"},
		{[]string{"parcel", "label", "S40001", "-size", "a4", "-o", filepath.Join(dir, "label.pdf")}, 0, "Written to"},
		{[]string{"parcel", "label", "S40001", "-size", "a9"}, 1, "label, a4 or roll is expected"},
		{[]string{"shipment", "list", "-state", "shipped"}, 0, "S40001"},
		{[]string{"manifest"}, 0, "open"},
		{[]string{"manifest", "close", "1"}, 0, "clos"},
		{[]string{"manifest", "open"}, 2, "close"},
		{[]string{"exception", "list"}, 0, "Cause"},
		{[]string{"activity", "-limit", "5"}, 0, "Plover Post"},
		{[]string{"board"}, 0, "shipped"},
		{[]string{"stock", "adjust", "JAR-500-T12", "alder", "-3", "-reason", "broken"}, 0, "broken"},
		{[]string{"stock", "adjust", "JAR-500-T12", "alder", "some"}, 2, "whole number"},
		{[]string{"connector", "list"}, 0, "requests signed (hmac-sha256)"},
		{[]string{"connection", "accounts"}, 0, "H-20071"},
		{[]string{"join"}, 2, "one of start"},
		{[]string{"join", "fly"}, 2, "start, show, access, consent, confirm, look, go, preview, on, drop is expected"},
		{[]string{"join", "confirm", "till"}, 2, "wrong number of arguments"},
		{[]string{"join", "start", "counterpane", "-name", "Mill Lane till", "-code", "till"}, 0, "-set password=…"},
		{[]string{"join", "start", "pigeon"}, 1, `no connector "pigeon"`},
		{[]string{"join", "on", "till"}, 1, "not ready yet: access is given and tested"},
		{[]string{"join", "access", "till", "-address", w.CounterpaneURL, "-set", "user=relay", "-set", "password=a guess", "-set",
			"shop=3"}, 1, "the password is wrong"},
		{[]string{"join", "access", "till", "-set", "user"}, 2, "name=value is expected"},
		{[]string{"join", "access", "till", "-set", "user=env:NO_SUCH_VARIABLE_HERE"}, 2, "is not set"},
		{[]string{"join", "access", "till", "-address", w.CounterpaneURL, "-set", "user= relay",
			"-set", "password=@" + filepath.Join(dir, "password"), "-set", "shop=3"}, 0,
			"Let in as Morrow Hive Supply, Mill Lane, number 3."},
		{[]string{"join", "confirm", "till", "4"}, 1, "the account is number 3, not 4"},
		{[]string{"join", "confirm", "till", "3"}, 0, "[ ]  A location's stock is sold there"},
		{[]string{"connection", "settings", "till", "-set", "offer.sources=moon"}, 2, `no location "moon"`},
		{[]string{"connection", "settings", "till", "-set", "colour=red"}, 2, "unknown field"},
		{[]string{"connection", "settings", "till", "-set", "offer.sources=mill", "-set", "number_prefix=T",
			"-set", "take=open,shipped"}, 0,
			`"number_prefix": "T"`},
		{[]string{"join", "look", "till", "-items", "-from", "soon"}, 2, "a time such as"},
		{[]string{"join", "look", "till", "-items"}, 0, "First import:  looked"},
		{[]string{"join", "go", "till"}, 0, "created"},
		{[]string{"feed", "set", "till", "stock out"}, 1, "look at the preview first"},
		{[]string{"join", "preview", "till", "-accept"}, 0, "Seen; stock out may be switched on."},
		{[]string{"join", "on", "till"}, 0, "till"},
		{[]string{"join", "show", "till"}, 0, "[x]  What sending stock would change was seen"},
		{[]string{"connection", "bench", "till", "stock out"}, 0, "article="},
		{[]string{"connection", "bench", "till", "stock out", "-send"}, 1, "is live"},
		{[]string{"connection", "test-mode", "till"}, 0, "till"},
		{[]string{"connection", "bench", "till", "stock out", "-send"}, 0, "answered 200"},
		{[]string{"connection", "clear-tests", "till"}, 0, "0 test orders were removed."},
		{[]string{"connection", "test-mode", "till", "-off"}, 0, "till"},
		{[]string{"connection", "renew", "till", "-set", "password=wrong again"}, 1, "the password is"},
		{[]string{"connection", "overrides", "till", "-file", filepath.Join(dir, "over.yaml")}, 0, "every: 20s"},
		{[]string{"connection", "overrides", "till"}, 0, "every: 20s"},
		{[]string{"connector", "add", filepath.Join(dir, "bad.yaml")}, 1, "3:1: colour"},
		{[]string{"connector", "add", filepath.Join(dir, "mine.yaml")}, 0, "Added:  mine, Mine"},
		{[]string{"connector", "drop", "mine"}, 0, "Removed:  mine"},
		{[]string{"connector", "drop", "tansy"}, 1, "There is no added connector tansy."},
		{[]string{"connector", "check", filepath.Join(dir, "bad.yaml")}, 1, "bad.yaml:3:1: colour"},
		{[]string{"connector", "check", filepath.Join(dir, "mine.yaml")}, 0, "Mine, channel; let in by token"},
		{[]string{"connector", "try", filepath.Join(dir, "mine.yaml")}, 2, "-sample FILE or -live"},
		{[]string{"connector", "try", filepath.Join(dir, "mine.yaml"), "-sample", filepath.Join(dir, "order.json")}, 0, "lines[0].sku"},
		{[]string{"connector", "try", filepath.Join(dir, "mine.yaml"), "-live", "-address", w.MorrowURL}, 1,
			"Access token is missing; give it with -set token=…"},
		{[]string{"connector", "try", filepath.Join(dir, "mine.yaml"), "-live", "-address", w.MorrowURL, "-set", "token=x", "-set",
			"push_secret=x"}, 1, "is not a public one"},
		{[]string{"connector", "try", filepath.Join(dir, "mine.yaml"), "-live", "-address", w.MorrowURL, "-reach", "127.0.0.0/8", "-set",
			"token=hr_wrong", "-set", "push_secret=x"}, 1, "does not let us in"},
		{[]string{"connector", "fly", filepath.Join(dir, "mine.yaml")}, 2, "one of list, new, check, try"},
		{[]string{"place", "check-address", "Lane 4", "41207", "Alderby", "XW"}, 1, "no address service is joined"},
		{[]string{"setup", "write"}, 0, "code: till"},
		{[]string{"setup", "ready", "till-and-store"}, 0, "setup: 1"},
		{[]string{"setup", "ready", "nothing"}, 1, "there are: funnel-and-store-room, marketplace-and-maker"},
		{[]string{"setup", "preview", filepath.Join(dir, "setup.yaml")}, 1, "NAME has no value; give it with -set NAME=…"},
		{[]string{"setup", "preview", filepath.Join(dir, "setup.yaml"), "-set", "NAME=The Little Skep"}, 0,
			"set  connection skep  name: Little Skep → The Little Skep"},
		{[]string{"setup", "adopt", filepath.Join(dir, "setup.yaml"), "-set", "NAME=The Little Skep"}, 0, "2 things changed."},
		{[]string{"setup", "adopt", filepath.Join(dir, "setup.yaml"), "-set", "NAME=The Little Skep"}, 0,
			"Nothing changed: everything is as the text asks for."},
		{[]string{"connector", "shapes"}, 0, "tracking_event"},
		{[]string{"connector", "shapes", "order"}, 0, `"title": "order"`},
		{[]string{"connector", "shapes", "poem"}, 1, `no message "poem"`},
		{[]string{"connection", "leave", "till"}, 0, "Nothing was done. Leave it with -yes."},
		{[]string{"connection", "leave", "till", "-yes"}, 0, "Removed:"},
		{[]string{"connection", "leave", "till", "-yes"}, 1, "was left already"},
		{[]string{"verify", w.Store.Path()}, 0, "Everything holds."},
		{[]string{"verify", filepath.Join(dir, "no.relay")}, 1, "cannot be opened"},
		{[]string{"order", "list", "-server", "http://127.0.0.1:1"}, 1, "cannot be reached"},
	} {
		t.Run(fmt.Sprint(c.args), func(t *testing.T) {
			code, out, errOut := run(c.args...)
			require.Equal(t, c.code, code, "%s%s", out, errOut)
			if c.code == 0 {
				require.Contains(t, out, c.says)
				// what is said beside a list
				if !strings.Contains(errOut, "there are more: ") && !strings.Contains(errOut, "are added to what lies there") {
					require.Empty(t, errOut)
				}
			} else {
				require.Contains(t, errOut, c.says)
			}
		})
	}
	for _, f := range []string{"pick.pdf", "label.pdf"} {
		pdf, err := os.ReadFile(filepath.Join(dir, f))
		require.NoError(t, err)
		require.True(t, bytes.HasPrefix(pdf, []byte("%PDF-")))
	}
}
