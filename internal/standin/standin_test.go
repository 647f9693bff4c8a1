package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func shop(t *testing.T) (*Hedgerow, string) {
	h := NewHedgerow(ShopConfig{Name: "Shop", Number: "1", Country: "XW", Currency: "EUR", OrderPrefix: "T", Token: "tok",
		PushSecret: "s", Items: []ShopItem{{SKU: "JAR", Title: "Jar", Price: 1190, Quantity: 5},
			{SKU: "SUIT", Title: "Suit", Price: 8900, Quantity: 2}}})
	srv := httptest.NewServer(h)
	t.Cleanup(func() { srv.Close(); h.Stop() })
	return h, srv.URL
}

func call(t *testing.T, method, url, body string, header map[string]string) (int, map[string]any) {
	t.Helper()
	req, err := http.NewRequest(method, url, strings.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer tok")
	for k, v := range header {
		req.Header.Set(k, v)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	var out map[string]any
	_ = json.Unmarshal(raw, &out)
	return res.StatusCode, out
}

func TestAStoreSellsWhatItHas(t *testing.T) {
	h, url := shop(t)
	_, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 6}}})
	require.ErrorIs(t, err, errSoldOut)
	require.Equal(t, int64(5), h.Shelf()["JAR"])
	id, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 2}}, Shipping: 490})
	require.NoError(t, err)
	_, got := call(t, "GET", url+"/api/orders/"+id, "", nil)
	o := got["order"].(map[string]any)
	require.Equal(t, "28.70", o["total"])
	require.Equal(t, "confirmed", o["state"])
	require.NoError(t, h.Cancel(id))
	require.Equal(t, int64(5), h.Shelf()["JAR"], "called off, the goods are back")
	status, _ := call(t, "GET", url+"/api/shop", "", map[string]string{"Authorization": "Bearer no"})
	require.Equal(t, 401, status)
}

func TestAStoreTakesParcelsOnce(t *testing.T) {
	h, url := shop(t)
	id, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 3}}})
	require.NoError(t, err)
	send := func(ref, tracking string, n int) int {
		status, _ := call(t, "POST", url+"/api/orders/"+id+"/parcels",
			fmt.Sprintf(`{"reference":%q,"tracking":%q,"lines":[{"line_id":"L1","quantity":%d}]}`, ref, tracking, n), nil)
		return status
	}
	require.Equal(t, 201, send("r1", "T1", 1))
	require.Equal(t, 200, send("r1", "T1", 1), "the same again is known")
	require.Equal(t, 200, send("r1", "T9", 1), "a corrected number replaces the wrong one")
	require.Equal(t, 422, send("r2", "T2", 3), "more than is left")
	_, got := call(t, "GET", url+"/api/orders/"+id, "", nil)
	require.Equal(t, "part_sent", got["order"].(map[string]any)["state"])
	require.Equal(t, 201, send("r2", "T2", 2))
	_, got = call(t, "GET", url+"/api/orders/"+id, "", nil)
	o := got["order"].(map[string]any)
	require.Equal(t, "sent", o["state"])
	require.Len(t, o["parcels"], 2)
}

func TestStockWithTheSameKeyIsSetOnce(t *testing.T) {
	h, url := shop(t)
	key := map[string]string{"Idempotency-Key": "k1"}
	status, _ := call(t, "PUT", url+"/api/stock", `{"quantities":[{"sku":"JAR","quantity":9},{"sku":"NO","quantity":1}]}`, key)
	require.Equal(t, 200, status)
	_, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 1}}})
	require.NoError(t, err)
	_, got := call(t, "PUT", url+"/api/stock", `{"quantities":[{"sku":"JAR","quantity":9}]}`, key)
	require.Len(t, got["results"], 2, "answered as the first time")
	require.Equal(t, int64(8), h.Shelf()["JAR"], "and not set again")
}

func TestPagesCoverEverythingOnce(t *testing.T) {
	h, url := shop(t)
	require.NoError(t, h.EditStock("JAR", 1000, "test"))
	for range 250 {
		_, _, err := h.Place(Sale{Lines: []SaleLine{{SKU: "JAR", Qty: 1}}})
		require.NoError(t, err)
	}
	seen := map[string]bool{}
	next := "/api/orders?per_page=100"
	for pages := 0; next != ""; pages++ {
		require.Less(t, pages, 4)
		req, _ := http.NewRequest("GET", url+next, nil)
		req.Header.Set("Authorization", "Bearer tok")
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		var got struct{ Orders []struct{ ID string } }
		require.NoError(t, json.NewDecoder(res.Body).Decode(&got))
		res.Body.Close()
		for _, o := range got.Orders {
			require.False(t, seen[o.ID])
			seen[o.ID] = true
		}
		next, _, _ = strings.Cut(strings.TrimPrefix(res.Header.Get("Link"), "<"), ">")
	}
	require.Len(t, seen, 250)
}

func TestFaultsUseThemselvesUp(t *testing.T) {
	h, url := shop(t)
	h.Misbehave(Faults{Status: 500, Count: 2, Only: "/shop"})
	var got []int
	for range 3 {
		status, _ := call(t, "GET", url+"/api/shop", "", nil)
		got = append(got, status)
	}
	require.Equal(t, []int{500, 500, 200}, got)
	h.Misbehave(Faults{Status: 503, EveryNth: 3})
	got = nil
	for range 6 {
		status, _ := call(t, "GET", url+"/api/shop", "", nil)
		got = append(got, status)
	}
	require.Equal(t, []int{200, 200, 503, 200, 200, 503}, got)
}

func TestPloverSellsEachLabelOnce(t *testing.T) {
	p := NewPlover(PostConfig{Holder: "H", CustomerNo: "1", Land: "XW", Key: "k"})
	srv := httptest.NewServer(p)
	t.Cleanup(srv.Close)
	key := map[string]string{"Plover-Key": "k", "Idempotency-Key": "r1"}
	body :=
		`{"your_reference":"S1","product":"PP","grams":1500,"mm":{"l":300,"w":200,"h":100},"recipient":{"contact":"%s","street":"x",` +
			`"postcode":"41360","town":"Harrowmere","land":"XW"}}`
	status, a := call(t, "POST", srv.URL+"/v/labels", fmt.Sprintf(body, "Maren Tolland"), key)
	require.Equal(t, 201, status)
	status, b := call(t, "POST", srv.URL+"/v/labels", fmt.Sprintf(body, "Maren Tolland"), key)
	require.Equal(t, 200, status)
	require.Equal(t, a, b)
	status, got := call(t, "POST", srv.URL+"/v/labels", fmt.Sprintf(body, "Maren"),
		map[string]string{"Plover-Key": "k", "Idempotency-Key": "r2"})
	require.Equal(t, 422, status)
	require.Contains(t, got["reason"], "two words")
	item := a["label"].(map[string]any)["item_number"].(string)
	for range 4 {
		require.NoError(t, p.Scan(item))
	}
	require.Error(t, p.Scan(item), "handed over is the end")
	status, _ = call(t, "DELETE", srv.URL+"/v/labels/PV000001", "", key)
	require.Equal(t, 409, status)
}

func TestRandomSalesAreTheSameForTheSameSeed(t *testing.T) {
	h, _ := shop(t)
	a, b := rand.New(rand.NewPCG(1, 1)), rand.New(rand.NewPCG(1, 1))
	for range 20 {
		require.Equal(t, h.RandomSale(a.IntN), h.RandomSale(b.IntN))
	}
}

// TestPushesThatComeLate come late for themselves: one that waits does not keep those behind it waiting for longer.
func TestPushesThatComeLate(t *testing.T) {
	h, _ := shop(t)
	h.Misbehave(Faults{PushLateMS: 3_600_000})
	h.SetHook("http://127.0.0.1:1/in")
	began := time.Now()
	for range 2 {
		_, _, err := h.Place(Sale{Customer: "Ilka Fenn", Lines: []SaleLine{{SKU: "JAR", Qty: 1}}})
		require.NoError(t, err)
	}
	events, _, wait := h.nextPush()
	require.Empty(t, events)
	require.Greater(t, wait, 50*time.Minute)
	require.Equal(t, 2, h.Waiting())
	for _, p := range h.pending {
		require.WithinRange(t, p.due, began.Add(time.Hour), time.Now().Add(time.Hour))
	}
	h.mu.Lock()
	h.pending[0].due = began
	h.mu.Unlock()
	events, hook, wait := h.nextPush()
	require.Len(t, events, 1, "what is due goes, the other waits on")
	require.Equal(t, "http://127.0.0.1:1/in", hook)
	require.Zero(t, wait)
	require.Equal(t, 1, h.Waiting())
}
