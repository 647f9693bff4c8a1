package connector

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"openrelay/internal/core/message"
)

const keyAccess = `{ way: key, fields: [ { name: key, label: Key, secret: true } ], send: { X-Key: secret.key } }`

// stepped is a system at which a parcel is written with a token and the version of its order.
const stepped = `connector: depot
title: Depot
side: channel
access: ` + keyAccess + `
says: { text: body.fault, field: body.at }
feeds:
  dispatch out:
    send:
      request:
        steps:
          - name: order
            request: { method: GET, path: "/orders/{msg.order_id}" }
            answer: { etag: header.etag, door: body.door }
          - name: pass
            when: steps.order.door == "locked"
            request: { method: POST, path: "/pass" }
        method: PUT
        path: "/orders/{msg.order_id}/parcel"
        headers: { If-Match: steps.order.etag, X-Pass: 'joined([steps.pass.body.word], "")' }
        body: { number: msg.tracking }
      answers:
        - { when: status == 412, means: again }
        - { when: 'status == 409 && body.why == "there"', means: done }
        - { when: status == 423, means: wait, after: 7m, say: The order is being edited there. }
        - { when: 'status == 200 && body.ok == false', say: Ask the depot. }
        - { when: status == 503 && body.why == "never", means: refused }
      look:
        request: { method: GET, path: "/orders/{msg.order_id}/parcel" }
        found: body.number == msg.tracking
        answer: { id: body.id }
      answer: { id: body.id }
`

// depot plays the other side.
type depot struct {
	version, gets, puts int
	door                string
	moves               int // how often the order changes between reading and writing
	put                 func(w http.ResponseWriter)
	get                 func(w http.ResponseWriter) bool
}

func (d *depot) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	etag := func() string { return fmt.Sprintf(`"v%d"`, d.version) }
	switch {
	case r.URL.Path == "/pass":
		reply(w, `{"word":"sesame"}`)
	case r.Method == "GET" && strings.HasSuffix(r.URL.Path, "/parcel"):
		if !d.get(w) {
			w.WriteHeader(404)
		}
	case r.Method == "GET":
		d.gets++
		w.Header().Set("ETag", etag())
		reply(w, `{"door":"`+d.door+`"}`)
		if d.moves > 0 {
			d.moves--
			d.version++
		}
	case r.Header.Get("If-Match") != etag():
		w.WriteHeader(412)
	case d.door == "locked" && r.Header.Get("X-Pass") != "sesame":
		w.WriteHeader(403)
	default:
		d.puts++
		if d.put != nil {
			d.put(w)
			return
		}
		reply(w, `{"id":"p1"}`)
	}
}

func answers(status int, body string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(status)
		_, _ = io.WriteString(w, body)
	}
}

func sendParcel(t *testing.T, d *depot) (Sent, error) {
	t.Helper()
	l := dial(t, stepped, d, map[string]string{"key": "k1234"}, Token{})
	return l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{OrderID: "17", Tracking: "T1"}})
}

func TestStepsComeBeforeASend(t *testing.T) {
	d := &depot{version: 3, door: "open"}
	sent, err := sendParcel(t, d)
	require.NoError(t, err)
	require.Equal(t, &SendAnswer{ID: "p1"}, sent.Answer)
	locked := &depot{version: 3, door: "locked"}
	_, err = sendParcel(t, locked)
	require.NoError(t, err, "the second step was made because the first said so")
	require.Equal(t, []int{1, 1}, []int{locked.gets, locked.puts})
}

// TestAnAnswerThatAsksForItIsReadAnew, a few times at once; after that it waits.
func TestAnAnswerThatAsksForItIsReadAnew(t *testing.T) {
	d := &depot{door: "open", moves: 2}
	_, err := sendParcel(t, d)
	require.NoError(t, err)
	require.Equal(t, []int{3, 1}, []int{d.gets, d.puts})

	always := &depot{door: "open", moves: 1000}
	_, err = sendParcel(t, always)
	f := failure(t, err)
	require.True(t, f.Temporary, "it is tried again later")
	require.Equal(t, MeansAgain, f.Means)
	require.Equal(t, []int{timesAgain, 0}, []int{always.gets, always.puts})
}

func TestWhatAnswersMean(t *testing.T) {
	try := func(status int, body string) (Sent, *Failure) {
		sent, err := sendParcel(t, &depot{door: "open", put: answers(status, body)})
		if err == nil {
			return sent, nil
		}
		return sent, failure(t, err)
	}
	sent, f := try(409, `{"why":"there","id":"p0"}`)
	require.Nil(t, f, "it is there already")
	require.Equal(t, &SendAnswer{ID: "p0"}, sent.Answer)

	_, f = try(409, `{"why":"another","fault":"has another parcel","at":"number"}`)
	require.False(t, f.Temporary)
	require.Contains(t, f.Text, "has another parcel (number)", "what is said, and of which field")

	_, f = try(423, `{}`)
	require.True(t, f.Temporary)
	require.Equal(t, 7*time.Minute, f.RetryAfter)
	require.Contains(t, f.Text, "The order is being edited there.")

	_, f = try(200, `{"ok":false,"fault":"no such order"}`)
	require.False(t, f.Temporary, "an answer of 200 may be a refusal")
	require.Equal(t, "PUT /orders/{msg.order_id}/parcel: answered 200 OK: no such order. Ask the depot.", f.Text)

	_, f = try(503, `{"why":"never"}`)
	require.False(t, f.Temporary, "final, although its status says otherwise")
	_, f = try(503, `{}`)
	require.True(t, f.Temporary)
	require.Empty(t, f.Means)
}

// TestAStepThatFails: nothing was written where it only reads.
func TestAStepThatFails(t *testing.T) {
	fails := func(path string) *Failure {
		d := &depot{door: "locked"}
		l := dial(t, stepped, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == path {
				w.WriteHeader(500)
				return
			}
			d.ServeHTTP(w, r)
		}), map[string]string{"key": "k1234"}, Token{})
		_, err := l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{OrderID: "17", Tracking: "T1"}})
		require.Zero(t, d.puts)
		return failure(t, err)
	}
	f := fails("/orders/17")
	require.True(t, f.Temporary && f.Before)
	require.Contains(t, f.Text, "step order: GET")
	f = fails("/pass")
	require.True(t, f.Temporary)
	require.False(t, f.Before, "what was posted may have done something")
}

func TestAStepMayTakeWhatIsNotThere(t *testing.T) {
	def := strings.Replace(stepped, `answer: { etag: header.etag, door: body.door }`,
		`takes: [404]
            answer: { etag: 'status == 404 ? "none" : header.etag', door: '""' }`, 1)
	seen := ""
	l := dial(t, def, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == "GET" {
			w.WriteHeader(404)
			return
		}
		seen = r.Header.Get("If-Match")
		reply(w, `{"id":"p1"}`)
	}), map[string]string{"key": "k1234"}, Token{})
	_, err := l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{OrderID: "17", Tracking: "T1"}})
	require.NoError(t, err)
	require.Equal(t, "none", seen)
}

func TestLookingForWhatMayHaveArrived(t *testing.T) {
	look := func(get func(w http.ResponseWriter) bool) (bool, any, error) {
		l := dial(t, stepped, &depot{get: get}, map[string]string{"key": "k1234"}, Token{})
		require.True(t, l.Looks(message.DispatchOut))
		return l.Look(t.Context(), message.DispatchOut, "r1", message.Dispatch{OrderID: "17", Tracking: "T1"})
	}
	found, told, err := look(func(w http.ResponseWriter) bool { reply(w, `{"id":"p9","number":"T1"}`); return true })
	require.NoError(t, err)
	require.True(t, found)
	require.Equal(t, &SendAnswer{ID: "p9"}, told)
	for _, get := range []func(w http.ResponseWriter) bool{
		func(w http.ResponseWriter) bool { reply(w, `{"id":"p8","number":"T0"}`); return true },
		func(http.ResponseWriter) bool { return false },
	} {
		found, _, err = look(get)
		require.NoError(t, err)
		require.False(t, found)
	}
	_, _, err = look(func(w http.ResponseWriter) bool { w.WriteHeader(500); return true })
	require.True(t, failure(t, err).Temporary)
}

// TestAHeaderWithoutAValueIsNotLeftOutInSilence.
func TestAHeaderWithoutAValueIsNotLeftOutInSilence(t *testing.T) {
	called := false
	l := dial(t, stepped, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		called = called || r.Method == "PUT"
		reply(w, `{"door":"open"}`) // no ETag
	}), map[string]string{"key": "k1234"}, Token{})
	_, err := l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{OrderID: "17", Tracking: "T1"}})
	require.Contains(t, failure(t, err).Text, "header If-Match: steps.order.etag has no value")
	_, err = l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{Tracking: "T1"}})
	require.Contains(t, failure(t, err).Text, "path: msg.order_id has no value")
	require.False(t, called)
}

// TestWhatCanNeverHaveAValueIsRefused by the check, with the names that there are.
func TestWhatCanNeverHaveAValueIsRefused(t *testing.T) {
	_, err := Load("depot.yaml", []byte(stepped), nil)
	require.NoError(t, err)
	for _, c := range []struct{ old, new, says string }{
		{"steps.order.etag", "header.etag", "header has no value here; there are: batch, msg, ref, secret, settings, site, steps, test"},
		{"steps.order.etag", "steps.oder.etag", "there is no step oder before this; there are: order, pass"},
		{"steps.order.etag", "steps.order.tag", "step order has no tag; it has: door, etag"},
		{"steps.pass.body.word", "steps.pass.word", "step pass has no word; it has: body, status, header"},
		{"when: steps.order.door", "when: steps.pass.body.door", "there is no step pass before this; there are: order"},
		{"name: pass", "name: order", "a step before has the same name"},
		{"number: msg.tracking", "number: msg.traking", "msg has no traking; it has: carrier"},
		{"number: msg.tracking", "number: 'msg.lines.map(l, item.sku)'", "item has no value here"},
		{"X-Key: secret.key", "X-Key: secret.kee", "secret has no kee; it has: key"},
		{"X-Key: secret.key", "X-Key: settings.timezone", "settings has no timezone; it has: time_zone"},
		{"number: msg.tracking", "put: { number: msg.tracking }", "put stands beside each"},
		{"found: body.number", "found: mark", "mark has no value here"},
		{"    send:", "    batch: 10\n    send:", "of a batch nobody can be asked whether it arrived"},
		{"method: POST, path: \"/pass\"", "method: POST, path: \"/pass\", steps: [{ name: a, request: { method: GET, path: /a } }]",
			"a step has no steps of its own"},
	} {
		_, err := Load("depot.yaml", []byte(strings.Replace(stepped, c.old, c.new, 1)), nil)
		require.ErrorContains(t, err, c.says, c.new)
	}
	for _, fine := range []string{"number: 'msg.lines.map(msg, msg.sku)'", "number: 'msg.lines.filter(line, line.sku != \"\").size()'",
		"number: { each: msg.lines, as: row, put: { no: row.sku } }", "put: msg.tracking"} {
		_, err := Load("depot.yaml", []byte(strings.Replace(stepped, "number: msg.tracking", fine, 1)), nil)
		require.NoError(t, err, fine)
	}
	_, err = Load("cart.yaml", []byte(strings.Replace(labels, `field: weight_g`, `means: done`, 1)), nil)
	require.ErrorContains(t, err, "done tells nothing of labels out; say with look how it is found")
}

const numbered = `connector: ledger
title: Ledger
side: channel
access: ` + keyAccess + `
feeds:
  customers in:
    id: item.no
    read:
      request: { method: GET, path: /people, query: { after: mark } }
      mark: item.no
    map: { name: item.name }
`

// TestTheFirstMarkHasTheFormOfTheMark: a time says nothing where marks are numbers.
func TestTheFirstMarkHasTheFormOfTheMark(t *testing.T) {
	since := time.Date(2026, 11, 1, 8, 0, 0, 0, time.UTC)
	read := func(def string) (after string, err error) {
		l := dial(t, def, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			after = r.URL.Query().Get("after")
			reply(w, `[{"no":41,"name":"Ilka"}]`)
		}), map[string]string{"key": "k1234"}, Token{})
		_, err = l.Read(t.Context(), message.CustomersIn, Reading{Since: since, Keep: func([]Record) error { return nil }})
		return after, err
	}
	after, err := read(numbered)
	require.Equal(t, "2026-11-01T08:00:00Z", after)
	require.ErrorContains(t, err, "marks here are numbers such as 41, and a time was sent; say with read.begin")
	for begin, sent := range map[string]string{`'written(since, "unix", "")'`: "1793520000", `'"0"'`: "0", `'""'`: ""} {
		after, err = read(strings.Replace(numbered, "mark: item.no", "mark: item.no\n      begin: "+begin, 1))
		require.NoError(t, err)
		require.Equal(t, sent, after)
	}
	after, err = read(strings.Replace(numbered, "mark: item.no", "mark: item.name", 1))
	require.NoError(t, err, "marks that are no numbers")
	require.NotEmpty(t, after)
}

// TestTwoSendsAtOnceOnOneRecord: each is carried out once, on what the other left: the one that comes second reads anew.
func TestTwoSendsAtOnceOnOneRecord(t *testing.T) {
	d := &depot{door: "open"}
	var mu sync.Mutex
	var read sync.WaitGroup
	read.Add(2)
	once := map[string]bool{}
	wrote := map[string]int{}
	l := dial(t, stepped, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		mu.Lock()
		first := r.Method == "GET" && len(once) < 2
		if first {
			once[fmt.Sprint(len(once))] = true
		}
		before := d.puts
		d.ServeHTTP(w, r)
		if d.puts > before {
			d.version++
			wrote[string(body)]++
		}
		mu.Unlock()
		if first { // both have read the record before either writes
			read.Done()
			read.Wait()
		}
	}), map[string]string{"key": "k1234"}, Token{})
	var group errgroup.Group
	for _, number := range []string{"T1", "T2"} {
		group.Go(func() error {
			_, err := l.Send(t.Context(), message.DispatchOut, "r-"+number, []any{message.Dispatch{OrderID: "17", Tracking: number}})
			return err
		})
	}
	require.NoError(t, group.Wait())
	require.Equal(t, map[string]int{`{"number":"T1"}`: 1, `{"number":"T2"}`: 1}, wrote)
	require.Equal(t, 3, d.gets, "the second read what the first had left")
}

// FuzzSteps: whatever the steps before a request are answered, it is sent or it is not, and why is said.
func FuzzSteps(f *testing.F) {
	f.Add(200, `{"door":"locked"}`, `"v1"`, 200, `{"word":"sesame"}`)
	f.Add(404, `[1,{"door":null}]`, "", 500, "<html>")
	f.Add(200, `{"door":{"door":[]}}`, "\x00", 204, "")
	f.Fuzz(func(t *testing.T, status int, body, etag string, passed int, word string) {
		if status < 200 || status > 599 || passed < 200 || passed > 599 || strings.ContainsAny(etag, "\r\n\x00") {
			return
		}
		def, err := Load("depot.yaml", []byte(stepped), nil)
		require.NoError(t, err)
		l, err := NewLine(def, LineOptions{Base: "http://127.0.0.1:1", Login: NewLogin(def, map[string]string{"key": "k1234"}, Token{}),
			Client: &http.Client{Transport: answering(func(r *http.Request) *http.Response {
				w := httptest.NewRecorder()
				w.Header().Set("Content-Type", "application/json")
				switch {
				case r.URL.Path == "/pass":
					w.WriteHeader(passed)
					_, _ = io.WriteString(w, word)
				case r.Method == "GET":
					w.Header().Set("ETag", etag)
					w.WriteHeader(status)
					_, _ = io.WriteString(w, body)
				default:
					_, _ = io.WriteString(w, `{"id":"p1"}`)
				}
				return w.Result()
			})}})
		require.NoError(t, err)
		_, err = l.Send(t.Context(), message.DispatchOut, "r1", []any{message.Dispatch{OrderID: "17", Tracking: "T1"}})
		if err != nil {
			var why *Failure
			require.ErrorAs(t, err, &why)
			require.NotEmpty(t, why.Text)
			require.NotContains(t, why.Text, "k1234")
		}
	})
}

// answering answers requests without a server.
type answering func(*http.Request) *http.Response

func (a answering) RoundTrip(r *http.Request) (*http.Response, error) { return a(r), nil }
