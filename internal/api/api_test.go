package api

import (
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/http/httptrace"
	"path/filepath"
	"reflect"
	"sync"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/person"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func TestConsoleIsServed(t *testing.T) {
	h := headers(false)(console(fstest.MapFS{
		"index.html":       {Data: []byte("<title>Open Relay</title>")},
		"assets/a.js":      {Data: []byte("plain script")},
		"assets/a.js.gz":   {Data: []byte("packed script")},
		"assets/font.woff": {Data: []byte("font")},
		"mark.svg":         {Data: []byte("<svg/>")},
	}))
	for _, c := range []struct {
		method, path, encoding string
		status                 int
		body, header, value    string
	}{
		{"GET", "/", "", 200, "<title>Open Relay</title>", "Cache-Control", "no-cache"},
		{"GET", "/orders/R10001", "", 200, "<title>Open Relay</title>", "Content-Type", "text/html; charset=utf-8"},
		{"GET", "/assets/a.js", "gzip, br", 200, "packed script", "Content-Encoding", "gzip"},
		{"GET", "/assets/a.js", "", 200, "plain script", "Content-Encoding", ""},
		{"GET", "/assets/a.js", "gzip", 200, "packed script", "Content-Type", "text/javascript; charset=utf-8"},
		{"GET", "/assets/font.woff", "gzip", 200, "font", "Cache-Control", "public, max-age=31536000, immutable"},
		{"GET", "/mark.svg", "", 200, "<svg/>", "X-Content-Type-Options", "nosniff"},
		{"GET", "/api/v1/nowhere", "", 404, "", "Content-Type", "application/problem+json"},
		{"POST", "/orders", "", 404, "", "Content-Type", "application/problem+json"},
		{"GET", "/../../etc/passwd", "", 200, "<title>Open Relay</title>", "", ""},
	} {
		r := httptest.NewRequest(c.method, c.path, nil)
		r.Header.Set("Accept-Encoding", c.encoding)
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		require.Equal(t, c.status, w.Code, c.path)
		if c.body != "" {
			require.Equal(t, c.body, w.Body.String(), c.path)
		}
		if c.header != "" {
			require.Equal(t, c.value, w.Header().Get(c.header), "%s %s", c.path, c.header)
		}
	}
	w := httptest.NewRecorder()
	console(fstest.MapFS{})(w, httptest.NewRequest("GET", "/", nil))
	require.Equal(t, 404, w.Code)
	require.Contains(t, w.Body.String(), "make build")
}

func TestKeyLocksKeepOrderAndForget(t *testing.T) {
	var k keyLocks
	var wg sync.WaitGroup
	inside, most := 0, 0
	for range 50 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			defer k.lock("same")()
			inside++
			most = max(most, inside)
			inside--
		}()
	}
	wg.Wait()
	require.Equal(t, 1, most)
	require.Empty(t, k.m, "nothing is kept when nobody waits")
	free := k.lock("a")
	done := make(chan struct{})
	go func() { k.lock("b")(); close(done) }()
	<-done // another key does not wait
	free()
}

func TestRevisionOf(t *testing.T) {
	for in, want := range map[string]int64{"": 0, `"7"`: 7, etag(41): 41} {
		got, err := revisionOf(in)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	for _, in := range []string{"7", `W/"7"`, `"x"`} {
		_, err := revisionOf(in)
		require.Error(t, err, in)
	}
}

// TestThrottle: five tries a minute for an account from one source; another source is not kept out by them, and whoever
// tries many accounts from one source is.
func TestThrottle(t *testing.T) {
	var th throttle
	now := time.Now()
	for i := range triesPerAccount {
		require.True(t, th.begin("10.1.1.1", "edda", now), i)
	}
	require.False(t, th.begin("10.1.1.1", "edda", now.Add(30*time.Second)))
	require.True(t, th.begin("10.1.1.2", "edda", now), "nobody locks somebody else out")
	require.True(t, th.begin("10.1.1.1", "edda", now.Add(61*time.Second)))
	for i := range triesPerSource {
		th.begin("10.1.1.3", fmt.Sprint("account ", i), now)
	}
	require.False(t, th.begin("10.1.1.3", "one more", now))
	for range 100 { // who knows the password is not kept out by using it
		require.True(t, th.begin("10.1.1.4", "ilka", now))
		th.succeeded("10.1.1.4", "ilka")
	}
}

// TestManyTriesAtOnce: the place is taken before the password is looked at.
func TestManyTriesAtOnce(t *testing.T) {
	var th throttle
	var wg sync.WaitGroup
	var let atomic.Int64
	now := time.Now()
	for range 200 {
		wg.Go(func() {
			if th.begin("10.1.1.1", "edda", now) {
				let.Add(1)
			}
		})
	}
	wg.Wait()
	require.Equal(t, int64(triesPerAccount), let.Load())
}

// TestAStreamOutlivesTheAnswerBeforeIt: on one connection, an answer has its deadline and the stream after it has none.
func TestAStreamOutlivesTheAnswerBeforeIt(t *testing.T) {
	const most = 50 * time.Millisecond
	server := httptest.NewServer(deadlines(most)(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/api/v1/events" {
			time.Sleep(4 * most)
		}
		fmt.Fprint(w, r.URL.Path)
	})))
	defer server.Close()
	var reused []bool
	for _, path := range []string{"/api/v1/board", "/api/v1/events"} {
		ctx := httptrace.WithClientTrace(t.Context(), &httptrace.ClientTrace{GotConn: func(c httptrace.GotConnInfo) {
			reused = append(reused, c.Reused)
		}})
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, server.URL+path, nil)
		require.NoError(t, err)
		w, err := server.Client().Do(r)
		require.NoError(t, err, path)
		text, err := io.ReadAll(w.Body)
		require.NoError(t, err)
		require.NoError(t, w.Body.Close())
		require.Equal(t, path, string(text))
	}
	require.Equal(t, []bool{false, true}, reused, "it is one connection")
}

func TestSchemaNames(t *testing.T) {
	for want, typ := range map[string]reflect.Type{
		"Order": reflect.TypeFor[wire.Order](), "MessageOrder": reflect.TypeFor[message.Order](),
		"StoreItem": reflect.TypeFor[*store.Item](), "OrderRow": reflect.TypeFor[wire.OrderRow](),
	} {
		require.Equal(t, want, schemaName(typ, ""))
	}
}

func TestNobodyMay(t *testing.T) {
	require.False(t, may(nil, person.Look))
	require.True(t, may(&wire.Person{Role: "packer"}, person.Ship|person.SetUp))
	require.Equal(t, "This needs the role bookkeeper or lead; you are clerk.", wants(person.KeepBooks, &wire.Person{Role: "clerk"}))
}

// TestAFullDiskIsTold with the error that the database gives, not as something that broke.
func TestAFullDiskIsTold(t *testing.T) {
	db, err := sql.Open("sqlite", filepath.Join(t.TempDir(), "x.relay")+"?_pragma=max_page_count(4)")
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE x (y)")
	require.NoError(t, err)
	for err == nil {
		_, err = db.Exec("INSERT INTO x VALUES (zeroblob(3000))")
	}
	a := &API{log: slog.New(slog.DiscardHandler)}
	var said huma.StatusError
	require.ErrorAs(t, a.failure(fmt.Errorf("commit: %w", err)), &said)
	require.Equal(t, http.StatusInsufficientStorage, said.GetStatus())
	require.ErrorContains(t, said, "disk of the service is full")
	require.ErrorAs(t, a.failure(errors.New("something else")), &said)
	require.Equal(t, http.StatusInternalServerError, said.GetStatus())
}
