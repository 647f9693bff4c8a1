package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Each fault that can be switched on shows at the next calls and at no others.
func TestEachFaultShows(t *testing.T) {
	_, url := shop(t)
	get := func(path string) (int, string, error) {
		req, err := http.NewRequest(http.MethodGet, url+path, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer tok")
		client := &http.Client{Timeout: 5 * time.Second, Transport: &http.Transport{DisableKeepAlives: true}} // it repeats nothing
		res, err := client.Do(req)
		if err != nil {
			return 0, "", err
		}
		defer res.Body.Close()
		body, err := io.ReadAll(res.Body)
		return res.StatusCode, string(body), err
	}
	fault := func(text string) {
		status, _ := call(t, "POST", url+"/control/api/faults", text, nil)
		require.Equal(t, 200, status)
	}
	for _, c := range []struct {
		fault, says string
		status      int
		cut         bool
	}{
		{`{"status":503,"text":"closed for the night","count":1}`, "closed for the night", 503, false},
		{`{"status":429,"retry_after":5,"count":1}`, "switched on for practice", 429, false},
		{`{"html":true,"count":1}`, "<h1>", 200, false},
		{`{"garbage":true,"count":1}`, "not data", 200, false},
		{`{"half":true,"count":1}`, "", 200, true},
		{`{"lose_answer":true,"count":1}`, "", 0, true},
	} {
		fault(c.fault)
		status, body, err := get("/api/items")
		require.Equal(t, c.cut, err != nil, "%s: %v", c.fault, err)
		require.Equal(t, c.status, status, c.fault)
		require.Contains(t, body, c.says, c.fault)
		status, body, err = get("/api/items")
		require.NoError(t, err, c.fault)
		require.Equal(t, 200, status, "%s: it has used itself up", c.fault)
		require.True(t, json.Valid([]byte(body)), c.fault)
	}
	fault(`{"status":500,"every_nth":3,"only":"orders"}`)
	var seen []int
	for range 6 {
		status, _, err := get("/api/orders")
		require.NoError(t, err)
		seen = append(seen, status)
		status, _, err = get("/api/items")
		require.NoError(t, err)
		require.Equal(t, 200, status, "others are not hit")
	}
	require.Equal(t, []int{200, 200, 500, 200, 200, 500}, seen)
	fault(`{}`)
	_, state := call(t, "GET", url+"/control/api/state", "", nil)
	require.EqualValues(t, 24, state["calls"], "it remembers what was asked of it")
}

// An answer that is lost was work that was done all the same: whoever asks again under the same reference is told so.
func TestALostAnswerWasDone(t *testing.T) {
	h, url := shop(t)
	id, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 2}}})
	require.NoError(t, err)
	h.mis.set(Faults{LoseAnswer: true, Count: 1})
	parcel := `{"reference":"r1","tracking":"T1","lines":[{"line_id":"L1","quantity":2}]}`
	req, err := http.NewRequest(http.MethodPost, url+"/api/orders/"+id+"/parcels", strings.NewReader(parcel))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer tok")
	_, err = http.DefaultClient.Do(req)
	require.Error(t, err)
	require.Equal(t, map[string]string{"r1": "T1"}, h.Trackings(id))
	status, _ := call(t, "POST", url+"/api/orders/"+id+"/parcels", parcel, nil)
	require.Equal(t, 200, status, "known, and not done twice")
	require.Equal(t, "sent", h.Book()[id])
}

// hook is the other side of the pushes: it keeps what it is told, and answers as it is bid.
type hook struct {
	mu     sync.Mutex
	status int
	events []map[string]any
	calls  int
	forged int
}

func (k *hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	mac := hmac.New(sha256.New, []byte("s"))
	fmt.Fprintf(mac, "%s.%s", r.Header.Get("X-Hedgerow-Time"), body)
	k.mu.Lock()
	defer k.mu.Unlock()
	k.calls++
	if r.Header.Get("X-Hedgerow-Signature") != hex.EncodeToString(mac.Sum(nil)) {
		k.forged++
	}
	if k.status >= 300 {
		w.WriteHeader(k.status)
		k.status = 0
		return
	}
	var in struct{ Events []map[string]any }
	_ = json.Unmarshal(body, &in)
	k.events = append(k.events, in.Events...)
}

// told waits until so many events were told, and returns them.
func (k *hook) told(t *testing.T, n int) []map[string]any {
	t.Helper()
	require.Eventually(t, func() bool { k.mu.Lock(); defer k.mu.Unlock(); return len(k.events) >= n }, 20*time.Second,
		5*time.Millisecond)
	k.mu.Lock()
	defer k.mu.Unlock()
	assert.Zero(t, k.forged, "each push is signed")
	return append([]map[string]any(nil), k.events...)
}

func hooked(t *testing.T) (*Hedgerow, *hook) {
	h, url := shop(t)
	k := &hook{}
	srv := httptest.NewServer(k)
	t.Cleanup(srv.Close)
	status, _ := call(t, "POST", url+"/control/api/hook", fmt.Sprintf(`{"url":%q}`, srv.URL), nil)
	require.Equal(t, 200, status)
	return h, k
}

// What happens in the store is pushed, signed; a push that is not accepted is pushed again, and one that is told twice is
// the same both times.
func TestPushes(t *testing.T) {
	h, k := hooked(t)
	id, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 1}}})
	require.NoError(t, err)
	require.NotEmpty(t, k.told(t, 1))

	k.mu.Lock()
	k.status, k.events = 503, nil
	k.mu.Unlock()
	require.NoError(t, h.EditStock("SUIT", 9, "somebody"))
	again := k.told(t, 1)
	require.Equal(t, "stock", again[0]["topic"], "told again after it was not accepted")

	k.mu.Lock()
	k.events = nil
	k.mu.Unlock()
	h.mis.set(Faults{PushTwice: true})
	require.NoError(t, h.EditStock("SUIT", 8, "somebody"))
	twice := k.told(t, 2)
	require.Equal(t, twice[0], twice[1])

	h.mis.set(Faults{PushNever: true})
	k.mu.Lock()
	calls := k.calls
	k.mu.Unlock()
	require.NoError(t, h.Cancel(id))
	require.Eventually(t, func() bool { return h.Waiting() == 0 }, 20*time.Second, 5*time.Millisecond)
	k.mu.Lock()
	require.Equal(t, calls, k.calls, "only reading brings it")
	k.mu.Unlock()
	require.Equal(t, "cancelled", h.Book()[id])
}

// What people do in the store by its control interface.
func TestTheStoreIsControlled(t *testing.T) {
	h, url := shop(t)
	does := func(path, body string, want int) map[string]any {
		status, out := call(t, "POST", url+"/control/api"+path, body, nil)
		require.Equal(t, want, status, "%s %s: %v", path, body, out)
		return out
	}
	placed := does("/orders", `{"lines":[{"sku":"JAR","quantity":3}],"pending":true}`, 201)
	id := placed["id"].(string)
	does("/orders", `{"lines":[{"sku":"JAR","quantity":30}]}`, 409)
	does("/orders", `{`, 400)
	does("/orders/"+id+"/complete", ``, 200)
	does("/orders/"+id+"/complete", ``, 409)
	does("/orders/"+id+"/change", `{"quantities":{"L1":1},"delivery":{"name":"Ada Moss","street":"Mossway 3"}}`, 200)
	does("/orders/"+id+"/change", `{"quantities":{"L1":0}}`, 409)
	require.EqualValues(t, 4, h.Shelf()["JAR"], "what was taken off is back on the shelf")
	does("/orders/nowhere/change", `{"quantities":{"L1":0}}`, 409)
	does("/stock", `{"sku":"JAR","quantity":11}`, 200)
	does("/stock", `{"sku":"JAR","quantity":-1}`, 409)
	does("/stock", `{"sku":"NONE","quantity":1}`, 409)
	require.EqualValues(t, 7, h.Edited("JAR"))
	does("/orders/"+id+"/cancel", ``, 200)
	does("/orders/"+id+"/cancel", ``, 200) // it is so already, and nothing is put back twice
	_, book := call(t, "GET", url+"/control/api/orders", "", nil)
	require.Len(t, book["orders"], 1)
	_, shelf := call(t, "GET", url+"/control/api/stock", "", nil)
	require.EqualValues(t, 12, shelf["JAR"])

	h.Put(ShopItem{SKU: "CUP", Title: "Cup", Price: 500, Quantity: 1})
	require.Equal(t, "Cup", h.Item("CUP").Title)
	require.Zero(t, h.Item("NONE"))
}

// How far an order is with whoever works on it.
func TestProgressOfAnOrder(t *testing.T) {
	h, url := shop(t)
	id, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 1}}})
	require.NoError(t, err)
	for _, c := range []struct {
		id, body string
		status   int
		state    string
	}{
		{"nowhere", `{"progress":"in_hand"}`, 404, "confirmed"}, {id, `{"progress":"half"}`, 422, "confirmed"},
		{id, `{"progress":"in_hand"}`, 200, "confirmed"}, {id, `{"progress":"in_hand"}`, 200, "confirmed"},
		{id, `{"progress":"handed_over"}`, 200, "sent"},
	} {
		status, _ := call(t, "POST", url+"/api/orders/"+c.id+"/progress", c.body, nil)
		require.Equal(t, c.status, status, c.body)
		require.Equal(t, c.state, h.Book()[id], c.body)
	}
	other, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 1}}})
	require.NoError(t, err)
	require.NoError(t, h.Cancel(other))
	status, _ := call(t, "POST", url+"/api/orders/"+other+"/progress", `{"progress":"in_hand"}`, nil)
	require.Equal(t, 409, status)
}
