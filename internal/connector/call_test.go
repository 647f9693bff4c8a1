package connector

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// lineTo is a store's connection to a handler.
func lineTo(t *testing.T, h http.HandlerFunc, change func(*Definition)) *Line {
	t.Helper()
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	lib, err := BuiltIn()
	require.NoError(t, err)
	d := lib["hedgerow"]
	if change != nil {
		change(d)
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	l, err := NewLine(d, LineOptions{Base: srv.URL,
		Login: NewLogin(d, map[string]string{"token": "hr_secret_token", "push_secret": "push-secret"}, Token{}), Client: client})
	require.NoError(t, err)
	return l
}

func reply(w http.ResponseWriter, body string) {
	w.Header().Set("Content-Type", "application/json")
	fmt.Fprint(w, body)
}

func failure(t *testing.T, err error) *Failure {
	t.Helper()
	var f *Failure
	require.True(t, errors.As(err, &f), "%v", err)
	return f
}

func order(id string, rev int, changed string) string {
	return fmt.Sprintf(`{"id":%q,"revision":%d,"changed_at":%q}`, id, rev, changed)
}

func TestReadFollowsPagesAndMovesTheMark(t *testing.T) {
	var asked []string
	l := lineTo(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "Bearer hr_secret_token", r.Header.Get("Authorization"))
		asked = append(asked, r.URL.RequestURI())
		switch r.URL.Query().Get("after") {
		case "":
			w.Header().Set("Link", `</api/orders?after=1>; rel="next", </>; rel="first"`)
			reply(w, `{"orders":[`+order("a", 1, "2026-03-01T10:00:00Z")+`,`+order("b", 2, "2026-03-01T10:00:05Z")+`]}`)
		case "1":
			reply(w, `{"orders":[`+order("c", 1, "2026-03-01T10:00:09Z")+`,{"revision":1}]}`)
		}
	}, nil)
	var ids []string
	var bad int
	to, err := l.Read(context.Background(), "orders in", Reading{Mark: "2026-03-01T09:00:00Z", Keep: func(rs []Record) error {
		for _, r := range rs {
			if r.Err != nil {
				bad++
				continue
			}
			ids = append(ids, fmt.Sprint(r.ID, " ", r.Version))
		}
		return nil
	}})
	require.NoError(t, err)
	require.Equal(t, []string{"a 1", "b 2", "c 1"}, ids)
	require.Equal(t, 1, bad, "a record without a number is set aside, the others go on")
	require.Equal(t, "2026-03-01T10:00:09Z", to.Mark)
	require.Contains(t, asked[0], "changed_since=2026-03-01T08%3A59%3A50Z", "the overlap")
	require.Equal(t, "/api/orders?after=1", asked[1])
}

func TestMarkStaysBeforeAFailedPage(t *testing.T) {
	l := lineTo(t, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("after") == "" {
			w.Header().Set("Link", `</api/orders?after=1>; rel="next"`)
			reply(w, `{"orders":[`+order("a", 1, "2026-03-01T10:00:00Z")+`]}`)
			return
		}
		http.Error(w, "down", 503)
	}, nil)
	kept := 0
	to, err := l.Read(context.Background(), "orders in", Reading{Keep: func(rs []Record) error { kept += len(rs); return nil }})
	require.True(t, failure(t, err).Temporary)
	require.Equal(t, 1, kept)
	require.Equal(t, "2026-03-01T10:00:00Z", to.Mark)
	to, err = l.Read(context.Background(), "orders in", Reading{Mark: "2026-02-01T00:00:00Z", Keep: func([]Record) error {
		return errors.New("disk full")
	}})
	require.ErrorContains(t, err, "disk full")
	require.Equal(t, "2026-02-01T00:00:00Z", to.Mark, "what was not kept was not read")
}

func TestAnswersThatAreNone(t *testing.T) {
	for _, c := range []struct {
		name      string
		h         http.HandlerFunc
		says      string
		temporary bool
	}{
		{"a web page", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<html>")
		}, "instead of JSON", true},
		{"half JSON", func(w http.ResponseWriter, _ *http.Request) { reply(w, `{"orders":[{"id":`) }, "ends in the middle", true},
		{"another shape", func(w http.ResponseWriter, _ *http.Request) { reply(w, `{"orders":{"id":1}}`) }, "no list at orders", true},
		{"a redirect", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://10.0.0.1/", http.StatusFound)
		}, "302", false},
		{"a next page elsewhere", func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Link", `<http://10.0.0.1/api/orders>; rel="next"`)
			reply(w, `{"orders":[]}`)
		}, "another host", false},
		{"too much", func(w http.ResponseWriter, _ *http.Request) {
			reply(w, `{"orders":["`+strings.Repeat("x", 1<<20)+`"]}`)
		}, "larger than", false},
		{"endless pages", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", `</api/orders?after=`+r.URL.Query().Get("after")+`x>; rel="next"`)
			reply(w, `{"orders":[]}`)
		}, "more than 5 pages", true},
		{"a page that leads to itself", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Link", `</api/orders?after=again>; rel="next"`)
			reply(w, `{"orders":[]}`)
		}, "was read already", true},
		{"not let in", func(w http.ResponseWriter, _ *http.Request) {
			w.WriteHeader(401)
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, `{}`)
		}, "401", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := lineTo(t, c.h, func(d *Definition) { d.Limits.MaxBody, d.Limits.MaxPages = 64<<10, 5 })
			_, err := l.Read(context.Background(), "orders in", Reading{Keep: func([]Record) error { return nil }})
			f := failure(t, err)
			require.Contains(t, f.Text, c.says)
			require.Equal(t, c.temporary, f.Temporary)
		})
	}
}

func TestSilenceIsBounded(t *testing.T) {
	over := make(chan struct{})
	l := lineTo(t, func(http.ResponseWriter, *http.Request) { <-over }, func(d *Definition) {
		d.Limits.Timeout = Duration(100 * time.Millisecond)
	})
	t.Cleanup(func() { close(over) })
	begin := time.Now()
	_, err := l.Ask(context.Background(), "identity", nil)
	require.Contains(t, failure(t, err).Text, "no answer in time")
	require.Less(t, time.Since(begin), 3*time.Second)
}

func TestRetryAfterAndBreaker(t *testing.T) {
	calls := 0
	status := 429
	l := lineTo(t, func(w http.ResponseWriter, _ *http.Request) {
		calls++
		if status == 429 {
			w.Header().Set("Retry-After", "3600")
		}
		w.WriteHeader(status)
	}, nil)
	_, err := l.Ask(context.Background(), "identity", nil)
	require.Equal(t, time.Hour, failure(t, err).RetryAfter)
	_, err = l.Ask(context.Background(), "identity", nil)
	f := failure(t, err)
	require.True(t, f.Unsent, "asked to wait an hour, we do not call")
	require.Equal(t, 1, calls)

	l.login.quietTo.Store(0)
	status = 500
	for range 5 {
		_, err = l.Ask(context.Background(), "identity", nil)
		require.Equal(t, 500, failure(t, err).Status)
	}
	_, err = l.Ask(context.Background(), "identity", nil)
	f = failure(t, err)
	require.True(t, f.Unsent && f.Temporary, "after five failures in a row we stop calling for a while")
	require.Equal(t, "open", l.State())
	require.Equal(t, 6, calls)
}

func TestSecretsAreBlanked(t *testing.T) {
	l := lineTo(t, func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(403)
		fmt.Fprint(w, `{"error":"token hr_secret_token is wrong"}`)
	}, nil)
	_, err := l.Ask(context.Background(), "identity", nil)
	require.Contains(t, err.Error(), "token ••• is wrong")
}

func TestSendBatchAndConfirm(t *testing.T) {
	var got map[string]any
	l := lineTo(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.Method + " " + r.URL.EscapedPath() {
		case "PUT /api/stock":
			require.Equal(t, "ref-1", r.Header.Get("Idempotency-Key"))
			require.NoError(t, json.NewDecoder(r.Body).Decode(&got))
			reply(w, `{"results":[{"sku":"JAR","ok":true},{"sku":"SUIT","ok":false,"reason":"no such item"}]}`)
		case "GET /api/orders/o%2F1":
			reply(w, `{"order":{"parcels":[{"reference":"p-1","tracking":"CP1"}]}}`)
		default:
			t.Error(r.Method, r.URL)
		}
	}, nil)
	sent, err := l.Send(context.Background(), "stock out", "ref-1",
		[]any{message.Offer{SKU: "JAR", Quantity: 5}, message.Offer{SKU: "SUIT", Quantity: 0}})
	require.NoError(t, err)
	require.Equal(t, []Result{{Subject: "JAR", Accepted: true}, {Subject: "SUIT", Reason: "no such item"}}, sent.Results)
	require.Equal(t, map[string]any{"quantities": []any{map[string]any{"sku": "JAR", "quantity": 5.0},
		map[string]any{"sku": "SUIT", "quantity": 0.0}}}, got)
	for tracking, want := range map[string]bool{"CP1": true, "CP2": false} {
		ok, err := l.Confirm(context.Background(), "dispatch out", "r",
			message.Dispatch{OrderID: "o/1", Reference: "p-1", Tracking: tracking})
		require.NoError(t, err)
		require.Equal(t, want, ok)
	}
}

func TestRequirementRefusesBeforeSending(t *testing.T) {
	lib, err := BuiltIn()
	require.NoError(t, err)
	l, err := NewLine(lib["plover-post"], LineOptions{Base: "http://127.0.0.1:1", Client: http.DefaultClient})
	require.NoError(t, err)
	_, err = l.Send(context.Background(), "labels out", "r", []any{message.Parcel{Service: "PP"}})
	f := failure(t, err)
	require.True(t, f.Unsent && !f.Temporary)
	require.Contains(t, f.Text, "two words")
}

func signed(l *Line, body []byte, at time.Time) http.Header {
	stamp := strconv.FormatInt(at.Unix(), 10)
	mac := hmac.New(sha256.New, []byte(l.Secret("push_secret")))
	mac.Write([]byte(stamp + "." + string(body)))
	return http.Header{"X-Hedgerow-Time": {stamp}, "X-Hedgerow-Signature": {hex.EncodeToString(mac.Sum(nil))}}
}

func TestAccept(t *testing.T) {
	l := lineTo(t, func(http.ResponseWriter, *http.Request) {}, nil)
	body :=
		[]byte(
			`{"events":[{"topic":"order","order":{"id":"a","revision":4,"changed_at":"x"}},{"topic":"weather"},{"topic":"stock",` +
				`"stock":{"sku":"JAR","sequence":9}}]}`)
	records, ignored, err := l.Accept(signed(l, body, time.Now()), body)
	require.NoError(t, err)
	require.Equal(t, 1, ignored)
	require.Len(t, records, 2)
	require.Equal(t, "orders in a 4", fmt.Sprint(records[0].Feed, " ", records[0].ID, " ", records[0].Version))
	require.JSONEq(t, `{"topic":"order","order":{"id":"a","revision":4,"changed_at":"x"}}`, string(records[0].Raw))
	require.Equal(t, "stock in JAR 9", fmt.Sprint(records[1].Feed, " ", records[1].ID, " ", records[1].Version))

	_, _, err = l.Accept(signed(l, body, time.Now().Add(-time.Hour)), body)
	require.ErrorIs(t, err, ErrSignature)
	require.ErrorContains(t, err, "clock")
	h := signed(l, body, time.Now())
	_, _, err = l.Accept(h, append(body, ' '))
	require.ErrorIs(t, err, ErrSignature)
}

// FuzzSignature: nothing but the right signature is accepted, and nothing breaks the check.
func FuzzSignature(f *testing.F) {
	f.Add("1700000000", "00ff", []byte(`{"events":[]}`))
	f.Add("", "zz", []byte(nil))
	lib, err := BuiltIn()
	if err != nil {
		f.Fatal(err)
	}
	l, err := NewLine(lib["hedgerow"], LineOptions{Base: "http://127.0.0.1",
		Login: NewLogin(lib["hedgerow"], map[string]string{"push_secret": "push-secret"}, Token{}), Now: func() time.Time {
			return time.Unix(1_700_000_000, 0)
		}})
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, stamp, signature string, body []byte) {
		mac := hmac.New(sha256.New, []byte("push-secret"))
		mac.Write([]byte(stamp + "." + string(body)))
		_, _, err := l.Accept(http.Header{"X-Hedgerow-Time": {stamp}, "X-Hedgerow-Signature": {signature}}, body)
		if err == nil && !strings.EqualFold(signature, hex.EncodeToString(mac.Sum(nil))) {
			t.Fatalf("accepted %q for %q", signature, body)
		}
	})
}

// FuzzBody: whatever comes, reading it ends in a value or an error; what can be cut can be read.
func FuzzBody(f *testing.F) {
	for _, s := range []string{`{"events":[{"a":1.5},null]}`, `[1,2`, `{"events":{}}`, `{"a":{"events":[]}}`, strings.Repeat("[", 5000),
		`{"n":1e999999}`, "\xff"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		v, err := decode(raw)
		if err != nil && !errors.Is(err, ErrBody) {
			t.Fatalf("unmarked error %v", err)
		}
		parts, cutErr := slice(raw, "events")
		if cutErr != nil {
			return
		}
		if err != nil {
			t.Fatalf("cut but not read: %v", err)
		}
		list, _ := dig(v, "events").([]any)
		if len(list) != len(parts) {
			t.Fatalf("%d parts of %d", len(parts), len(list))
		}
	})
}
