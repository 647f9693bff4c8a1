package connector

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// system is a definition with a way of access, an identity call and a feed of orders.
func system(access, rest string) string {
	return "connector: other\ntitle: Other\nside: channel\naccess:\n" + indent(access, 2) + `
calls:
  identity:
    request: { method: GET, path: /me }
    map: { name: body.name, number: body.no }
` + rest
}

func indent(s string, n int) string {
	return strings.Repeat(" ", n) + strings.ReplaceAll(strings.Trim(s, "\n"), "\n", "\n"+strings.Repeat(" ", n))
}

// dial loads a definition and connects it to a handler.
func dial(t *testing.T, def string, h http.Handler, secrets map[string]string, token Token) *Line {
	t.Helper()
	d, err := Load("other.yaml", []byte(def), nil)
	require.NoError(t, err)
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	l, err := NewLine(d, LineOptions{Base: srv.URL, Login: NewLogin(d, secrets, token), Client: Guard{Allowed: Loopback}.Client()})
	require.NoError(t, err)
	return l
}

const consent = `way: consent
fields:
  - { name: id, label: App number }
  - { name: secret, label: App secret, secret: true }
oauth: { authorize: /consent, token: /token, scopes: [orders], client_id: secret.id, client_secret: secret.secret }`

// office hands out tokens that live for a while.
type office struct {
	issued  atomic.Int64
	refuse  atomic.Bool
	expires int
	seen    atomic.Value // last form
}

func (o *office) token(w http.ResponseWriter, r *http.Request) {
	r.ParseForm()
	o.seen.Store(r.PostForm)
	w.Header().Set("Content-Type", "application/json")
	if o.refuse.Load() {
		w.WriteHeader(400)
		fmt.Fprint(w, `{"error":"invalid_grant","error_description":"the person took the consent back (app-secret-1)"}`)
		return
	}
	n := o.issued.Add(1)
	fmt.Fprintf(w, `{"access_token":"access-%d","refresh_token":"refresh-%d","token_type":"Bearer","expires_in":%d}`, n, n, o.expires)
}

func (o *office) good(r *http.Request) bool {
	return r.Header.Get("Authorization") == fmt.Sprintf("Bearer access-%d", o.issued.Load())
}

func TestConsentIsExchangedWithItsVerifier(t *testing.T) {
	o := &office{expires: 600}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", o.token)
	mux.HandleFunc("GET /me", func(w http.ResponseWriter, r *http.Request) {
		require.True(t, o.good(r))
		reply(w, `{"name":"Us","no":"7"}`)
	})
	l := dial(t, system(consent, ""), mux, map[string]string{"id": "app-1", "secret": "app-secret-1"}, Token{})
	verifier := NewVerifier()
	page, err := l.ConsentURL("http://relay.example/back", "state-1", verifier)
	require.NoError(t, err)
	u, err := url.Parse(page)
	require.NoError(t, err)
	sum := sha256.Sum256([]byte(verifier))
	require.Equal(t, base64.RawURLEncoding.EncodeToString(sum[:]), u.Query().Get("code_challenge"), "RFC 7636, section 4.2")
	require.Equal(t, "S256", u.Query().Get("code_challenge_method"))
	require.Equal(t, "state-1", u.Query().Get("state"))

	var kept Token
	l.login.Keep = func(tk Token) error { kept = tk; return nil }
	_, err = l.Exchange(t.Context(), "http://relay.example/back", "code-1", verifier)
	require.NoError(t, err)
	form := o.seen.Load().(url.Values)
	require.Equal(t, verifier, form.Get("code_verifier"))
	require.Equal(t, "app-secret-1", form.Get("client_secret"))
	require.Equal(t, "access-1", kept.Access)
	require.InDelta(t, 600, time.Until(kept.Expires).Seconds(), 5)
	v := l.Test(t.Context())
	require.True(t, v.LetIn, v.Text)
	require.Equal(t, &message.Identity{Name: "Us", Number: "7"}, v.Identity)
}

// TestTokenExpiresMidPage: the second page is refused because the token ran out; it is renewed, and no
// page is lost.
func TestTokenExpiresMidPage(t *testing.T) {
	o := &office{expires: 600}
	o.issued.Store(1)
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", o.token)
	calls := 0
	mux.HandleFunc("GET /orders", func(w http.ResponseWriter, r *http.Request) {
		if calls++; calls == 2 {
			o.issued.Add(1) // what we hold is worth nothing any more
		}
		if !o.good(r) {
			w.WriteHeader(401)
			return
		}
		if r.URL.Query().Get("c") == "" {
			reply(w, `{"list":[{"id":"a"}],"next":"2"}`)
			return
		}
		reply(w, `{"list":[{"id":"b"}]}`)
	})
	l := dial(t, system(consent, cursorFeed), mux, map[string]string{"id": "app", "secret": "app-secret-1"},
		Token{Access: "access-1", Refresh: "r", Expires: time.Now().Add(time.Hour)})
	var ids []string
	_, err := l.Read(t.Context(), "orders in", Reading{Keep: collect(&ids)})
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b"}, ids)
	require.Equal(t, int64(3), o.issued.Load(), "renewed once")

	o.refuse.Store(true)
	l.login.Set(map[string]string{"id": "app", "secret": "app-secret-1"},
		Token{Access: "access-3", Refresh: "r", Expires: time.Now().Add(10 * time.Second)})
	_, err = l.Read(t.Context(), "orders in", Reading{Keep: collect(&ids)})
	f := failure(t, err)
	require.Equal(t, 401, f.Status, "a refused renewal is a refused login")
	require.False(t, f.Temporary)
	require.Contains(t, f.Text, "took the consent back")
	require.NotContains(t, f.Text, "app-secret-1")
}

const cursorFeed = `
feeds:
  orders in:
    read: { request: { method: GET, path: /orders, query: { since: mark } },
        items: list, next: { cursor: body.next, param: c }, mark: item.at }
    id: item.id
    map: { number: item.id, status: '"open"', currency: '"EUR"', lines: { each: item.rows, map: { id: each.i, quantity: each.q } } }
`

func collect(ids *[]string) func([]Record) error {
	return func(rs []Record) error {
		for _, r := range rs {
			*ids = append(*ids, r.ID)
		}
		return nil
	}
}

func TestRenewalServesAllAtOnce(t *testing.T) {
	o := &office{expires: 600}
	mux := http.NewServeMux()
	mux.HandleFunc("POST /token", func(w http.ResponseWriter, r *http.Request) {
		time.Sleep(30 * time.Millisecond)
		o.token(w, r)
	})
	mux.HandleFunc("GET /me", func(w http.ResponseWriter, r *http.Request) { reply(w, `{"name":"x","no":"1"}`) })
	l := dial(t, system(strings.Replace(strings.Replace(consent, "way: consent", "way: client", 1), "oauth: {",
		"oauth: { grant: client,", 1)+"\n", "limits: { per_second: 100, burst: 100 }\n"), mux,
		map[string]string{"id": "app", "secret": "s3cret"}, Token{})
	done := make(chan Verdict, 20)
	for range 20 {
		go func() { done <- l.Test(context.Background()) }()
	}
	for range 20 {
		v := <-done
		require.True(t, v.LetIn, v.Text)
	}
	require.Equal(t, int64(1), o.issued.Load(), "client credentials: one token for all")
	require.Equal(t, "client_credentials", o.seen.Load().(url.Values).Get("grant_type"))
}

func TestNameAndPassword(t *testing.T) {
	l := dial(t, system(`way: password
fields:
  - { name: user, label: Name }
  - { name: password, label: Password, secret: true }
  - { name: till, label: Till number, pattern: "[0-9]+" }
basic: { name: secret.user, password: secret.password }
query: { till: secret.till }
refusals:
  - { when: 'status == 401 && body.which == "name"', field: user, say: The name is unknown there. }
  - { when: status == 401, field: password }`, ""), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		name, password, _ := r.BasicAuth()
		require.Equal(t, "4", r.URL.Query().Get("till"))
		w.Header().Set("Content-Type", "application/json")
		switch {
		case name != "ann":
			w.WriteHeader(401)
			fmt.Fprintf(w, `{"error":"no such person","which":"name"}`)
		case password != "p:ss word":
			w.WriteHeader(401)
			fmt.Fprintf(w, `{"error":"wrong: %s"}`, password)
		default:
			fmt.Fprint(w, `{"name":"Shop","no":4}`)
		}
	}), nil, Token{})
	for _, c := range []struct{ user, password, field, says string }{
		{"ann", "p:ss word", "", "Let in as Shop, number 4."},
		{"bob", "x", "user", "no such person. The name is unknown there."},
		{"ann", "wrong-one", "password", "wrong: •••"},
	} {
		l.login.Set(map[string]string{"user": c.user, "password": c.password, "till": "4"}, Token{})
		v := l.Test(t.Context())
		require.Equal(t, c.field, v.Field, c.user)
		require.Contains(t, v.Text, c.says)
		require.Equal(t, c.field == "", v.LetIn)
	}
}

const signedAccess = `way: key
fields:
  - { name: key, label: Key }
  - { name: secret, label: Secret, secret: true }
sign:
  scheme: hmac-sha256
  secret: secret
  over: '[call.method, call.path, call.query, call.time, call.body_sha256].join("\n")'
  time: unix
  send: { X-Key: secret.key, X-Time: call.time, X-Sign: call.signature }`

func TestRequestsAreSigned(t *testing.T) {
	clock := time.Duration(0)
	h := http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		sum := sha256.Sum256(body)
		mac := hmac.New(sha256.New, []byte("the-secret"))
		fmt.Fprintf(mac, "%s\n%s\n%s\n%s\n%x", r.Method, r.URL.EscapedPath(), r.URL.RawQuery, r.Header.Get("X-Time"), sum)
		stamp, _ := strconv.ParseInt(r.Header.Get("X-Time"), 10, 64)
		now := time.Now().Add(clock)
		w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
		if gap := now.Sub(time.Unix(stamp, 0)).Abs(); gap > time.Minute || r.Header.Get("X-Sign") != hex.EncodeToString(mac.Sum(nil)) ||
			r.Header.Get("X-Key") != "k1" {
			w.WriteHeader(403)
			return
		}
		if r.Method == "PUT" {
			require.Equal(t, `{"q":5}`, string(body))
		}
		reply(w, `{"name":"Us","no":"1"}`)
	})
	l := dial(t, system(signedAccess, `
feeds:
  stock out:
    send: { request: { method: PUT, path: "/stock/{msg.sku}", query: { a: '"1 2"', b: '"ü"' }, body: { q: msg.quantity } } }
`), h, map[string]string{"key": "k1", "secret": "the-secret"}, Token{})
	require.True(t, l.Test(t.Context()).LetIn)
	_, err := l.Send(t.Context(), "stock out", "r", []any{message.Offer{SKU: "A/B ä", Quantity: 5}})
	require.NoError(t, err, "path and query are signed as they are sent")
	clock = 8 * time.Minute
	v := l.Test(t.Context())
	require.False(t, v.LetIn)
	require.Contains(t, v.Text, "away from ours", "the person learns that it is the clock, not the secret")
}

func TestHandedOutKey(t *testing.T) {
	l := dial(t, `connector: other
title: Other
side: channel
access:
  way: inbound
  fields: [{ name: key, label: Key, secret: true, give: true }]
push:
  signature: { scheme: shared, secret: key, value: header.authorization, prefix: "Bearer " }
  format: form
  topic: kind
feeds:
  tracking in:
    topic: scan
    id: item.no
    map: { tracking: item.parcel, state: '"under way"' }
`, http.NotFoundHandler(), map[string]string{"key": "handed-out-key"}, Token{})
	body := []byte("kind=scan&no=1&parcel=X1")
	rs, _, err := l.Accept(http.Header{"Authorization": {"Bearer handed-out-key"}}, body)
	require.NoError(t, err)
	require.Len(t, rs, 1)
	m, err := l.Map("tracking in", "push", rs[0].Raw)
	require.NoError(t, err)
	require.Equal(t, "X1", m.(*message.Tracking).Tracking)
	for _, bad := range []string{"", "Bearer ", "Bearer handed-out-kez", "handed-out-key"} {
		_, _, err := l.Accept(http.Header{"Authorization": {bad}}, body)
		require.ErrorIs(t, err, ErrSignature, bad)
	}
}

// TestStandardWebhooks: the scheme of the Standard Webhooks specification can be written down.
func TestStandardWebhooks(t *testing.T) {
	key := []byte("0123456789abcdef0123456789abcdef")
	l := dial(t, `connector: other
title: Other
side: channel
access:
  way: key
  fields: [{ name: hook, label: Hook secret, secret: true }]
push:
  signature: { scheme: hmac-sha256, secret: hook, key: base64, value: header.webhook_signature, prefix: "v1,", encoding: base64,
    over: '[header.webhook_id, header.webhook_timestamp, raw].join(".")', time: header.webhook_timestamp }
feeds:
  tracking in: { topic: t, id: item.id, map: { tracking: item.id, state: '"under way"' } }
`, http.NotFoundHandler(), map[string]string{"hook": base64.StdEncoding.EncodeToString(key)}, Token{})
	body, stamp := []byte(`{"topic":"t","id":"1"}`), strconv.FormatInt(time.Now().Unix(), 10)
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte("msg_1." + stamp + "." + string(body)))
	h := http.Header{"Webhook-Id": {"msg_1"}, "Webhook-Timestamp": {stamp},
		"Webhook-Signature": {"v1,bm90IHRoaXM= v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))}}
	_, _, err := l.Accept(h, body)
	require.NoError(t, err)
	h.Set("Webhook-Signature", "v1,bm90IHRoaXM=")
	_, _, err = l.Accept(h, body)
	require.ErrorIs(t, err, ErrSignature)
}

func TestGuard(t *testing.T) {
	g := Guard{}
	for _, inside := range []string{"127.0.0.1", "10.1.2.3", "192.168.1.1", "172.16.0.9",
		"169.254.169.254", "100.64.0.1", "0.0.0.0", "::1", "fe80::1", "fd00::1", "::ffff:10.0.0.1", "224.0.0.1", "64:ff9b::a00:1",
		"2002:a00:1::"} {
		require.Error(t, g.Check(netip.MustParseAddr(inside)), inside)
	}
	for _, public := range []string{"198.51.99.7", "2606:4700::1", "9.9.9.9"} {
		require.NoError(t, g.Check(netip.MustParseAddr(public)), public)
	}
	require.NoError(t, Guard{Allowed: Loopback}.Check(netip.MustParseAddr("127.0.0.1")))
	srv := httptest.NewServer(http.NotFoundHandler())
	defer srv.Close()
	_, err := g.Client().Get(srv.URL)
	require.ErrorContains(t, err, "not a public one")
	_, err = g.Client().Get(strings.Replace(srv.URL, "127.0.0.1", "localhost", 1))
	require.ErrorContains(t, err, "not a public one", "a name that points inside is refused after it is resolved")
}

// TestRedirectInside: a public system that sends us to a private address is not followed there.
func TestRedirectInside(t *testing.T) {
	reached := false
	inner := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { reached = true }))
	defer inner.Close()
	l := dial(t, system("way: token", ""), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, inner.URL, 302)
	}), nil, Token{})
	v := l.Test(t.Context())
	require.Contains(t, v.Text, "redirects are not followed")
	require.False(t, reached)
	_, err := NewLine(l.Def, LineOptions{Base: "http://user:pw@host"})
	require.Error(t, err)
}

func TestTrim(t *testing.T) {
	s := map[string]string{"a": " x\n", "b": "y", "c": "\u00a0\u200bz z\t"}
	require.Equal(t, []string{"a", "c"}, Trim(s))
	require.Equal(t, map[string]string{"a": "x", "b": "y", "c": "z z"}, s)
}

const clientAccess = `way: client
fields:
  - { name: app, label: App }
  - { name: app_secret, label: App secret, secret: true }
oauth: { grant: client, token: /token, client_id: secret.app, client_secret: secret.app_secret }`

// TestATokenAddressThatIsNone is not a door that is closed; a wrong secret is told as the other side tells it, with its field.
func TestATokenAddressThatIsNone(t *testing.T) {
	for _, c := range []struct {
		status            int
		body, says, field string
		locked            bool
	}{
		{404, `<html>not here</html>`, "token: answered 404 Not Found; is /token the address at which tokens are given?", "", false},
		{401, `{"error":"invalid_client","error_description":"the secret is not ours"}`, "does not let us in: the secret is not ours.",
			"app_secret", true},
		{400, `{"error":"unauthorized_client"}`, "does not let us in: unauthorized_client.", "", true},
	} {
		l := dial(t, system(clientAccess, ""), http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", map[bool]string{true: "application/json", false: "text/html"}[c.locked])
			w.WriteHeader(c.status)
			fmt.Fprint(w, c.body)
		}), map[string]string{"app": "a1", "app_secret": "s-1234"}, Token{})
		v := l.Test(t.Context())
		require.False(t, v.LetIn)
		require.Contains(t, v.Text, c.says)
		require.Equal(t, c.field, v.Field)
		_, err := l.Ask(t.Context(), "identity", nil)
		require.Equal(t, c.locked, failure(t, err).Status == 401)
	}
}

// TestTheOnlyFieldIsTheWrongOne where the other side says no more than that we are not let in.
func TestTheOnlyFieldIsTheWrongOne(t *testing.T) {
	shut := http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(401) })
	one := dial(t,
		system(`{ way: key, fields: [{ name: key, label: Key }, { name: hook, label: Hook }], send: { X-Key: secret.key } }`, ""), shut,
		map[string]string{"key": "k"}, Token{})
	require.Equal(t, "key", one.Test(t.Context()).Field)
	two := dial(
		t,
		system(`{ way: key, fields: [{ name: key, label: Key }, { name: no, label: No }], send: { X-Key: secret.key, X-No: secret.no } }`,
			""),
		shut,
		map[string]string{"key": "k", "no": "1"},
		Token{},
	)
	require.Empty(t, two.Test(t.Context()).Field, "nobody knows which")
}

// TestTheSizeOfAPageIsSent where the definition names its parameter.
func TestTheSizeOfAPageIsSent(t *testing.T) {
	for next, want := range map[string][]string{
		"{ offset: skip, size: 2, size_as: take }": {"skip=0&take=2", "skip=2&take=2"},
		"{ page: page, size: 2, size_as: per }":    {"page=0&per=2", "page=1&per=2"},
		"{ offset: skip, size: 2 }":                {"skip=0", "skip=2"},
	} {
		var asked []string
		l := dial(t, strings.Replace(numbered, "query: { after: mark } }", "}\n      next: "+next, 1),
			http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				asked = append(asked, r.URL.RawQuery)
				reply(w, map[bool]string{true: `[{"no":1,"name":"a"},{"no":2,"name":"b"}]`, false: `[]`}[len(asked) == 1])
			}), map[string]string{"key": "k1234"}, Token{})
		_, err := l.Read(t.Context(), message.CustomersIn, Reading{Keep: func([]Record) error { return nil }})
		require.NoError(t, err)
		require.Equal(t, want, asked)
	}
	_, err := Load("x.yaml",
		[]byte(strings.Replace(numbered, "query: { after: mark } }", "}\n      next: { link: true, size_as: take }", 1)), nil)
	require.ErrorContains(t, err, "size_as needs size")
}
