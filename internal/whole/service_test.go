package whole

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/client"
	"openrelay/internal/demo"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// jars is a sale of some trays of jars.
func jars(n int64) standin.Sale {
	return standin.Sale{Customer: "Maren Tolland", Email: "maren.tolland@example.test", Shipping: 490,
		Lines: []standin.SaleLine{{SKU: "JAR-500-T12", Qty: n}},
		Delivery: standin.Delivery{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"}}
}

// eventually waits for something to become true.
func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, 15*time.Second, 15*time.Millisecond, what)
}

func orderOf(t *testing.T, w *demo.World, name string) (stage string, versions int) {
	t.Helper()
	o, err := w.Client.Order(t.Context(), name)
	if client.StatusOf(err) == http.StatusNotFound {
		return "", 0
	}
	require.NoError(t, err)
	return o.Stage, len(o.Versions)
}

// push sends a signed push as the first store would.
func push(t *testing.T, w *demo.World, body []byte, change func(*http.Request)) (int, string) {
	t.Helper()
	stamp := strconv.FormatInt(time.Now().Unix(), 10)
	mac := hmac.New(sha256.New, []byte(demo.MorrowPushSecret))
	mac.Write([]byte(stamp + "."))
	mac.Write(body)
	req, err := http.NewRequest("POST", w.URL+"/in/morrow", bytes.NewReader(body))
	require.NoError(t, err)
	req.Header.Set("X-Hedgerow-Time", stamp)
	req.Header.Set("X-Hedgerow-Signature", hex.EncodeToString(mac.Sum(nil)))
	if change != nil {
		change(req)
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(text)
}

// event makes an order event with some fields changed.
func event(change map[string]any) []byte {
	o := map[string]any{
		"id": "x-1", "name": "X-1001", "state": "confirmed", "revision": 1, "placed_at": time.Now().UTC(), "changed_at": time.Now().UTC(),
		"currency": "EUR", "tax_included": true,
		"customer": map[string]any{"name": "Ilka Fenn", "email": "ilka.fenn@example.test"},
		"delivery": map[string]any{"name": "Ilka Fenn", "company": "", "street": "Heron Lane 4", "extra": "", "postcode": "41360",
			"town": "Harrowmere", "country": "XW", "phone": "", "method": "standard"},
		"lines": []any{line(nil)}, "shipping_price": "4.90", "discount": "0.00", "tax": "2.80", "total": "16.80",
		"payment": map[string]any{"method": "card", "paid": true}, "note": "", "admin_url": "", "parcels": []any{},
	}
	for k, v := range change {
		o[k] = v
	}
	b, _ := json.Marshal(map[string]any{"events": []any{map[string]any{"topic": "order", "order": o}}})
	return b
}

func line(change map[string]any) map[string]any {
	l := map[string]any{"line_id": "L1", "sku": "JAR-500-T12", "title": "Glass jars", "quantity": 1, "price": "11.90", "discount": "0.00",
		"tax": "1.98", "total": "11.90"}
	for k, v := range change {
		l[k] = v
	}
	return l
}

func TestPushesTwiceMixedAndBesideAPoll(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	w.Morrow.Misbehave(standin.Faults{PushTwice: true, PushMixed: true})
	var names []string
	for range 20 {
		_, name, err := w.Morrow.Place(jars(1))
		require.NoError(t, err)
		names = append(names, name)
		_, err = w.Client.RunNow(ctx, "morrow", "orders in", "") // a poll reads the same orders meanwhile
		if err != nil {
			require.Equal(t, http.StatusConflict, client.StatusOf(err), err)
		}
	}
	eventually(t, "all orders", func() bool { list, _, err := w.Client.Orders(ctx, "limit=200"); return err == nil && len(list) >= 20 })
	eventually(t, "quiet", func() bool { q, err := w.Quiet(ctx); return err == nil && q })
	list, _, err := w.Client.Orders(ctx, "limit=200")
	require.NoError(t, err)
	require.Len(t, list, 20)
	for _, n := range names {
		stage, versions := orderOf(t, w, n)
		require.Equal(t, "ready", stage)
		require.Equal(t, 1, versions, "the same version is kept once")
	}
	findings, err := w.Store.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, findings)
}

func TestShippedArrivesBeforeCreated(t *testing.T) {
	w := openWorld(t, false)
	before, err := w.Client.Item(t.Context(), "JAR-500-T12")
	require.NoError(t, err)
	status, text := push(t, w, event(map[string]any{"state": "sent", "revision": 3}), nil)
	require.Equal(t, http.StatusAccepted, status, text)
	eventually(t, "the order", func() bool { stage, _ := orderOf(t, w, "X-1001"); return stage == "shipped" })
	status, _ = push(t, w, event(map[string]any{"revision": 1}), nil)
	require.Equal(t, http.StatusAccepted, status)
	eventually(t, "the older version to be kept", func() bool { _, v := orderOf(t, w, "X-1001"); return v == 2 })
	o, err := w.Client.Order(t.Context(), "X-1001")
	require.NoError(t, err)
	require.Equal(t, "shipped", o.Stage)
	require.Equal(t, "skipped", o.Versions[1].State)
	require.Equal(t, "older than what we have", o.Versions[1].Reason)
	after, err := w.Client.Item(t.Context(), "JAR-500-T12")
	require.NoError(t, err)
	require.Equal(t, before.Levels[0].OnHand-1, after.Levels[0].OnHand, "sold while connected: the goods have left")
}

func TestPendingCompletesAndCancels(t *testing.T) {
	w := openWorld(t, false)
	sale := jars(3)
	sale.Pending = true
	id, name, err := w.Skep.Place(sale)
	require.NoError(t, err)
	eventually(t, "the pending order", func() bool { stage, _ := orderOf(t, w, name); return stage == "pending" })
	v, err := w.Client.Item(t.Context(), "JAR-500-T12")
	require.NoError(t, err)
	require.Equal(t, int64(3), v.Levels[0].Allocated, "stock is promised while payment is awaited")
	_, err = w.Client.Pick(t.Context(), name)
	require.Equal(t, http.StatusConflict, client.StatusOf(err), "a pending order is not worked on")
	require.NoError(t, w.Skep.Complete(id))
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	s, err := w.Client.Pick(t.Context(), name)
	require.NoError(t, err)
	_, err = w.Client.Scan(t.Context(), s, "JAR-500-T12", "", 2)
	require.NoError(t, err)

	require.NoError(t, w.Skep.Cancel(id)) // in the middle of picking
	eventually(t, "cancelled", func() bool { stage, _ := orderOf(t, w, name); return stage == "cancelled" })
	_, err = w.Client.Scan(t.Context(), s, "JAR-500-T12", "", 1)
	require.Equal(t, http.StatusConflict, client.StatusOf(err))
	v, err = w.Client.Item(t.Context(), "JAR-500-T12")
	require.NoError(t, err)
	require.Equal(t, int64(0), v.Levels[0].Allocated)
	sv, err := w.Client.Shipment(t.Context(), s)
	require.NoError(t, err)
	require.Equal(t, "called off", sv.State)
}

func TestWaitsForStockThenGoesOn(t *testing.T) {
	w := openWorld(t, false)
	v, err := w.Client.Item(t.Context(), "TANK-50")
	require.NoError(t, err)
	have := v.Levels[0].OnHand
	require.NoError(t, w.Morrow.EditStock("TANK-50", have+10, "shop admin")) // the store oversells
	sale := jars(1)
	sale.Lines = []standin.SaleLine{{SKU: "TANK-50", Qty: have + 2}}
	_, name, err := w.Morrow.Place(sale)
	require.NoError(t, err)
	eventually(t, "held", func() bool { stage, _ := orderOf(t, w, name); return stage == "held" })
	open, err := w.Client.Exceptions(t.Context())
	require.NoError(t, err)
	require.Len(t, open, 1)
	require.EqualValues(t, "no stock", open[0].Cause)
	eventually(t, "our quantity put back", func() bool { return w.Morrow.Shelf()["TANK-50"] == 0 })
	_, err = w.Client.Adjust(t.Context(), "TANK-50", "alder", 5, "receipt from the tinsmith", client.Key("receipt-1"))
	require.NoError(t, err)
	_, err = w.Client.Adjust(t.Context(), "TANK-50", "alder", 5, "receipt from the tinsmith", client.Key("receipt-1"))
	require.NoError(t, err, "the same request again changes nothing")
	stage, _ := orderOf(t, w, name)
	require.Equal(t, "ready", stage)
	open, err = w.Client.Exceptions(t.Context())
	require.NoError(t, err)
	require.Empty(t, open)
	eventually(t, "the store shows what is left", func() bool { return w.Morrow.Shelf()["TANK-50"] == 3 })
}

// TestStoreMisbehaves lets a store answer in every wrong way while orders can only be read. The feed goes
// on afterwards, nothing is lost, and lamp and log say what happened.
func TestStoreMisbehaves(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	for _, c := range []struct {
		name   string
		faults standin.Faults
		says   string
	}{
		{"answers 429", standin.Faults{Status: 429, RetryAfter: 1, Count: 1}, "429"},
		{"answers 500", standin.Faults{Status: 500, Count: 2}, "500"},
		{"says nothing for 30 s", standin.Faults{HangMS: 30_000, Count: 1}, "no answer in time"},
		{"sends half a body", standin.Faults{Half: true, Count: 1}, "broke off"},
		{"sends a web page", standin.Faults{HTML: true, Count: 1}, "instead of JSON"},
		{"sends garbage", standin.Faults{Garbage: true, Count: 1}, "not JSON"},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.faults.Only, c.faults.PushNever = "/api/orders", true
			w.Morrow.Misbehave(c.faults)
			_, name, err := w.Morrow.Place(jars(1))
			require.NoError(t, err)
			_, err = w.Client.RunNow(ctx, "morrow", "orders in", "")
			require.NoError(t, err)
			var failed wire.RunLog
			eventually(t, "the run to fail", func() bool {
				runs, err := w.Client.Runs(ctx, "connection=morrow&limit=5")
				require.NoError(t, err)
				i := slices.IndexFunc(runs, func(r apiRun) bool { return r.State == "failed" && strings.Contains(r.Error, c.says) })
				if i < 0 {
					return false
				}
				failed, err = w.Client.Run(ctx, runs[i].ID)
				require.NoError(t, err)
				return true
			})
			require.NotEmpty(t, failed.Log)
			require.Contains(t, failed.Log[len(failed.Log)-1].Text, c.says)
			conn, err := w.Client.Connection(ctx, "morrow")
			require.NoError(t, err)
			if conn.Lamp.State == "go" { // it may have recovered already
				require.Zero(t, conn.Feeds[0].Failures)
			} else {
				require.Contains(t, conn.Lamp.Text, c.says)
			}
			eventually(t, "the order all the same", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
			eventually(t, "the lamp", func() bool {
				conn, err := w.Client.Connection(ctx, "morrow")
				return err == nil && conn.Lamp.State == "go"
			})
		})
	}
}

// TestWriteBacksSurviveTrouble ships while the store refuses to listen, and loses an answer.
func TestWriteBacksSurviveTrouble(t *testing.T) {
	w := openWorld(t, false)
	for _, c := range []struct {
		name   string
		faults standin.Faults
	}{
		{"500", standin.Faults{Status: 500, Count: 2, Only: "/parcels"}},
		{"the answer is lost", standin.Faults{LoseAnswer: true, Count: 1, Only: "/parcels"}},
		{"429", standin.Faults{Status: 429, RetryAfter: 1, Count: 1, Only: "/parcels"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			id, name, err := w.Morrow.Place(jars(1))
			require.NoError(t, err)
			eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
			w.Morrow.Misbehave(c.faults)
			s, err := w.ShipOne(t.Context(), name)
			require.NoError(t, err)
			eventually(t, "confirmed", func() bool {
				o, err := w.Client.Order(t.Context(), name)
				return err == nil && len(o.WriteBacks) == 2 && o.WriteBacks[1].State == "confirmed"
			})
			var rec struct {
				Order struct{ Parcels []struct{ Tracking string } }
			}
			getJSON(t, w.MorrowURL+"/control/api/orders/"+id, &rec)
			require.Len(t, rec.Order.Parcels, 1, "one parcel, however often it was said")
			require.Equal(t, s[0].Tracking, rec.Order.Parcels[0].Tracking)
		})
	}
}

func TestLostLabelAnswerBuysOnce(t *testing.T) {
	w := openWorld(t, false)
	_, name, err := w.Morrow.Place(jars(1))
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	w.Plover.Misbehave(standin.Faults{LoseAnswer: true, Count: 2, Only: "/labels"})
	s, err := w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	require.Equal(t, "shipped", s[0].State)
	var bought struct{ Labels []struct{ Item string } }
	getJSON(t, w.PloverURL+"/control/api/labels", &bought)
	require.Len(t, bought.Labels, 1)
	require.Equal(t, s[0].Tracking, bought.Labels[0].Item)
}

func TestCarrierRefusesAndIsAsked(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	sale := jars(1)
	sale.Delivery.Name = "Maren" // Plover Post wants two words
	_, name, err := w.Morrow.Place(sale)
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	v, err := w.PackOne(ctx, name)
	require.NoError(t, err)
	s, err := w.Client.Ship(ctx, v.Number, "plover", "PP")
	require.NoError(t, err)
	require.Equal(t, "packed", s.State)
	require.Contains(t, s.Error, "two words")
	var bought struct{ Labels []struct{ Item string } }
	getJSON(t, w.PloverURL+"/control/api/labels", &bought)
	require.Empty(t, bought.Labels, "refused before anything was bought")

	// The carrier does not answer: our own sum from its tariff stands in, marked as an estimate.
	w.Plover.Misbehave(standin.Faults{Status: 500, Only: "/prices"})
	rates, err := w.Client.Rates(ctx, v.Number)
	require.NoError(t, err)
	require.NotEmpty(t, rates)
	require.True(t, rates[0].Estimated)
	require.Positive(t, rates[0].Price)
}

// TestTwoPickOneOrder lets two people scan the same goods at once: together they pick what was ordered,
// never more.
func TestTwoPickOneOrder(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, name, err := w.Morrow.Place(jars(12))
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	var mu sync.Mutex
	var took, refused int
	var numbers []string
	var wg sync.WaitGroup
	for range 2 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			s, err := w.Client.Pick(ctx, name)
			if err != nil {
				t.Error(err)
				return
			}
			for range 10 {
				_, err := w.Client.Scan(ctx, s, "JAR-500-T12", "", 1)
				mu.Lock()
				switch {
				case err == nil:
					took++
				case client.StatusOf(err) == http.StatusConflict && strings.Contains(err.Error(), "already complete"):
					refused++
				default:
					t.Error(err)
				}
				mu.Unlock()
			}
			mu.Lock()
			numbers = append(numbers, s)
			mu.Unlock()
		}()
	}
	wg.Wait()
	require.Equal(t, 12, took)
	require.Equal(t, 8, refused)
	require.Equal(t, numbers[0], numbers[1], "one shipment, not two")

	// And two press Ship at once: one label.
	_, err = w.Client.Pack(ctx, numbers[0], "long", 0, nil)
	if err != nil { // twelve trays are too heavy for one carton, which is refused with a reason
		require.Contains(t, err.Error(), "weigh")
	}
}

func TestTwoShipAtOnce(t *testing.T) {
	w := openWorld(t, false)
	_, name, err := w.Morrow.Place(jars(1))
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	v, err := w.PackOne(t.Context(), name)
	require.NoError(t, err)
	codes := make(chan int, 2)
	for range 2 {
		go func() {
			_, err := w.Client.Ship(context.Background(), v.Number, "plover", "PP")
			codes <- client.StatusOf(err)
		}()
	}
	got := []int{<-codes, <-codes}
	slices.Sort(got)
	require.Equal(t, []int{0, http.StatusConflict}, got)
	var bought struct{ Labels []struct{ Item string } }
	getJSON(t, w.PloverURL+"/control/api/labels", &bought)
	require.Len(t, bought.Labels, 1)
}

// TestBadInput sends what must not be taken, and looks that nothing changed.
func TestBadInput(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	count := func() int {
		list, _, err := w.Client.Orders(ctx, "limit=200")
		require.NoError(t, err)
		return len(list)
	}
	t.Run("pushes that are refused at the door", func(t *testing.T) {
		for _, c := range []struct {
			name   string
			body   []byte
			change func(*http.Request)
			status int
			says   string
		}{
			{"10 MB", bytes.Repeat([]byte("x"), 10<<20), nil, 413, "at most"},
			{"bad signature", event(nil), func(r *http.Request) { r.Header.Set("X-Hedgerow-Signature", strings.Repeat("0", 64)) }, 401,
				"signature"},
			{"no signature", event(nil), func(r *http.Request) { r.Header.Del("X-Hedgerow-Signature") }, 401, "signature"},
			{"an old signature", event(nil), func(r *http.Request) { r.Header.Set("X-Hedgerow-Time", "1700000000") }, 401, "clock"},
			{"malformed JSON", []byte(`{"events":[{"topic":"order","order":{`), nil, 400, "ends in the middle"},
			{"no JSON", []byte("<html>"), nil, 400, "not JSON"},
			{"no events", []byte(`{"something":1}`), nil, 400, "no events"},
			{"no id", []byte(`{"events":[{"topic":"order","order":{"revision":1}}]}`), nil, 422, "no id"},
		} {
			t.Run(c.name, func(t *testing.T) {
				status, text := push(t, w, c.body, c.change)
				require.Equal(t, c.status, status, text)
				require.Contains(t, text, c.says)
			})
		}
		res, err := http.Post(w.URL+"/in/nobody", "application/json", strings.NewReader("{}"))
		require.NoError(t, err)
		res.Body.Close()
		require.Equal(t, 404, res.StatusCode)
	})
	require.Zero(t, count())

	t.Run("orders that cannot be taken in wait as exceptions", func(t *testing.T) {
		for i, c := range []struct {
			change map[string]any
			says   string
		}{
			{map[string]any{"lines": []any{line(map[string]any{"quantity": -2})}}, "quantity: -2"},
			{map[string]any{"currency": "EURO"}, "currency"},
			{map[string]any{"currency": "JPY"}, "more decimals than JPY"},
			{map[string]any{"total": 16.8}, ""}, // a number instead of text is understood, without a float
			{map[string]any{"lines": []any{}}, "lines: none"},
			{map[string]any{"state": "sleeping"}, "sleeping"},
			{map[string]any{"total": "lots"}, "not an amount"},
		} {
			id := fmt.Sprintf("bad-%d", i)
			c.change["id"], c.change["name"] = id, id
			status, text := push(t, w, event(c.change), nil)
			require.Equal(t, http.StatusAccepted, status, text)
			if c.says == "" {
				eventually(t, id, func() bool { stage, _ := orderOf(t, w, id); return stage == "ready" })
				continue
			}
			eventually(t, c.says, func() bool {
				open, err := w.Client.Exceptions(ctx)
				require.NoError(t, err)
				return slices.ContainsFunc(open, func(e apiException) bool { return strings.Contains(e.Text, c.says) })
			})
		}
		require.Equal(t, 1, count())
	})

	t.Run("an unknown SKU is held, with a reason", func(t *testing.T) {
		status, _ := push(t, w, event(map[string]any{"id": "u-1", "name": "U-1",
			"lines": []any{line(map[string]any{"sku": "NOBODY-KNOWS"})}}), nil)
		require.Equal(t, http.StatusAccepted, status)
		eventually(t, "held", func() bool { stage, _ := orderOf(t, w, "U-1"); return stage == "held" })
		o, err := w.Client.Order(ctx, "U-1")
		require.NoError(t, err)
		require.Contains(t, o.Holds[0].Text, "NOBODY-KNOWS")
		require.Contains(t, o.Holds[0].Text, "No stock was lowered")
		_, err = w.Client.Pick(ctx, "U-1")
		require.Equal(t, http.StatusConflict, client.StatusOf(err))
		_, err = w.Client.Release(ctx, "U-1", "unknown item")
		require.Equal(t, http.StatusConflict, client.StatusOf(err), "it cannot be waved through")
	})

	t.Run("requests", func(t *testing.T) {
		for _, c := range []struct {
			name   string
			do     func() error
			status int
			says   string
		}{
			{"unknown order", func() error { _, err := w.Client.Order(ctx, "R99999"); return err }, 404, "no order R99999"},
			{"unknown order to pick", func() error { _, err := w.Client.Pick(ctx, "R99999"); return err }, 404, "no order R99999"},
			{"unknown shipment", func() error { _, err := w.Client.Scan(ctx, "S99999", "X", "", 1); return err }, 404, "S99999"},
			{"negative quantity", func() error { _, err := w.Client.Scan(ctx, "S1", "X", "", -1); return err }, 422, "quantity"},
			{"unknown item", func() error { _, err := w.Client.Adjust(ctx, "NOPE", "alder", 1, "found"); return err }, 404, "NOPE"},
			{"unknown location", func() error { _, err := w.Client.Adjust(ctx, "JAR-500-T12", "moon", 1, "found"); return err }, 422,
				"alder, mill, pier"},
			{"no reason", func() error { _, err := w.Client.Adjust(ctx, "JAR-500-T12", "alder", 1, " "); return err }, 422, "reason"},
			{"too much taken away", func() error { _, err := w.Client.Adjust(ctx, "JAR-500-T12", "alder", -9999, "lost"); return err },
				409, "only"},
			{"unknown feed", func() error { _, err := w.Client.RunNow(ctx, "morrow", "gossip in", ""); return err }, 422, "orders in"},
			{"bad time", func() error { _, err := w.Client.RunNow(ctx, "morrow", "orders in", "yesterday"); return err }, 422, "yesterday"},
			{"stale revision", func() error { _, err := w.Client.Pause(ctx, "morrow", true, 77); return err }, 412, "in the meantime"},
			{"no revision", func() error { _, err := w.Client.Pause(ctx, "morrow", true, 0); return err }, 428, "Send If-Match"},
			{"bad schedule", func() error {
				_, err := w.Client.SetFeed(ctx, "morrow", "orders in", true, "now and then", 1)
				return err
			}, 422, "cron"},
		} {
			t.Run(c.name, func(t *testing.T) {
				err := c.do()
				require.Equal(t, c.status, client.StatusOf(err), err)
				require.ErrorContains(t, err, c.says)
			})
		}
	})
	findings, err := w.Store.Verify(ctx)
	require.NoError(t, err)
	require.Empty(t, findings)
}

// TestSlowStoreDelaysNobody hangs one store and sells at the other.
func TestSlowStoreDelaysNobody(t *testing.T) {
	w := openWorld(t, false)
	w.Skep.Misbehave(standin.Faults{HangMS: 30_000})
	begin := time.Now()
	_, name, err := w.Morrow.Place(jars(1))
	require.NoError(t, err)
	eventually(t, "the order", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	_, err = w.ShipOne(t.Context(), name)
	require.NoError(t, err)
	eventually(t, "confirmed", func() bool {
		o, err := w.Client.Order(t.Context(), name)
		return err == nil && len(o.WriteBacks) == 2 && o.WriteBacks[1].State == "confirmed"
	})
	require.Less(t, time.Since(begin), 4*time.Second, "the hanging store was waited for")
	eventually(t, "the hanging store's lamp", func() bool {
		c, err := w.Client.Connection(t.Context(), "skep")
		return err == nil && c.Lamp.State != "go"
	})
}

func TestPauseAndSwitches(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	c, err := w.Client.Connection(ctx, "skep")
	require.NoError(t, err)
	_, err = w.Client.Pause(ctx, "skep", true, c.Revision)
	require.NoError(t, err)
	shelf := w.Skep.Shelf()["JAR-500-T12"]
	_, name, err := w.Morrow.Place(jars(2))
	require.NoError(t, err)
	eventually(t, "ready", func() bool { stage, _ := orderOf(t, w, name); return stage == "ready" })
	_, theirs, err := w.Skep.Place(jars(1))
	require.NoError(t, err)
	eventually(t, "a quantity waits", func() bool {
		c, err = w.Client.Connection(ctx, "skep")
		return err == nil && c.Waiting > 0
	})
	require.Equal(t, "idle", c.Lamp.State)
	require.Equal(t, shelf-1, w.Skep.Shelf()["JAR-500-T12"], "nothing is sent while paused")
	_, err = w.Client.Pause(ctx, "skep", false, c.Revision)
	require.NoError(t, err)
	_, err = w.Client.RunNow(ctx, "skep", "orders in", "")
	require.NoError(t, err)
	eventually(t, "what was missed", func() bool { stage, _ := orderOf(t, w, theirs); return stage == "ready" })
	eventually(t, "the store in step", func() bool { return w.Skep.Shelf()["JAR-500-T12"] == shelf-3 })
}

func TestSecretsStayInside(t *testing.T) {
	var log journal
	w := openWorldLogging(t, &log)
	w.Morrow.Misbehave(standin.Faults{Status: 401, Text: "hr_morrow_hive_supply_demo_token is not valid", Only: "/api"})
	_, err := w.Client.Test(t.Context(), "morrow")
	require.Equal(t, http.StatusBadGateway, client.StatusOf(err))
	_, err = w.Client.RunNow(t.Context(), "morrow", "orders in", "")
	require.NoError(t, err)
	eventually(t, "a failed run", func() bool {
		runs, err := w.Client.Runs(t.Context(), "connection=morrow")
		return err == nil && slices.ContainsFunc(runs, func(r apiRun) bool { return r.State == "failed" })
	})
	seen := err0(err) + log.String()
	for _, path := range []string{"/connections", "/connections/morrow", "/runs", "/board", "/activity", "/exceptions"} {
		raw, _, err := w.Client.Raw(t.Context(), "GET", "/api/v1"+path, nil)
		require.NoError(t, err)
		seen += string(raw)
	}
	for _, secret := range []string{"hr_morrow_hive_supply_demo_token", demo.MorrowPushSecret, "PLVR20DEMO7MORROW41X", w.Token} {
		require.NotContains(t, seen, secret)
	}
	require.Contains(t, seen, "•••", "the other side repeated the token; it is blanked")
}

func err0(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}
