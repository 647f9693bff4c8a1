package whole

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/connector"
	"openrelay/internal/core/request"
	"openrelay/internal/demo"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/partners"
	"openrelay/internal/sshserver"
	"openrelay/internal/standin"
	"openrelay/internal/wire"
)

// sold lets a store sell so many of something that lies only at a partner, and returns our number of the order.
func sold(t *testing.T, w *demo.World, sku string, units int64, engraving string) string {
	t.Helper()
	_, o, err := w.Morrow.Place(standin.Sale{Customer: "Maren  Tolland ", Email: "maren.tolland@example.test", Shipping: 490,
		Delivery: standin.Delivery{Name: "Maren  Tolland ", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW",
			Method: "standard"},
		Lines: []standin.SaleLine{{SKU: sku, Qty: units, Text: engraving}}})
	require.NoError(t, err)
	eventually(t, "the order "+o, func() bool { _, there := ordersOf(t, w, "morrow")[o]; return there })
	return ordersOf(t, w, "morrow")[o].Number
}

func newestRequest(t *testing.T, w *demo.World, order string) (r wire.Request) {
	t.Helper()
	eventually(t, "a request for "+order, func() bool {
		list, err := w.Client.OrderRequests(t.Context(), order)
		require.NoError(t, err)
		if len(list) > 0 {
			r = list[len(list)-1]
		}
		return len(list) > 0
	})
	return r
}

func inState(t *testing.T, w *demo.World, number string, state request.State) {
	t.Helper()
	eventually(t, number+" to be "+string(state), func() bool {
		r, err := w.Client.Request(t.Context(), number)
		require.NoError(t, err)
		return r.State == state
	})
}

// TestAWarehouseByFiles: a web store sells what lies at a partner that speaks EDIFACT; it is asked, says what lies there, sends, bills;
// files that are half written, wrong or come twice change nothing.
func TestAWarehouseByFiles(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.JoinFallowgate(ctx))
	fast(t, w, "gate")
	eventually(t, "its stock", func() bool {
		v, err := w.Client.Item(ctx, "SMOKER-M")
		require.NoError(t, err)
		return slices.ContainsFunc(v.Levels, func(l wire.Level) bool { return l.Location == "gate" && l.OnHand == 25 })
	})
	onlyAt(t, w, "SMOKER-M", "gate")
	w.Gate.Mood(standin.GateMood{Half: true})
	order := sold(t, w, "SMOKER-M", 2, "")
	q := newestRequest(t, w, order)
	inState(t, w, q.Number, request.Sent)
	eventually(t, "the store to hear", func() bool { o, err := w.Client.Order(ctx, order); return err == nil && o.Stage == "shipped" })
	require.EqualValues(t, 23, w.Gate.Lies("SMOKER-M"))

	w.Gate.Mood(standin.GateMood{Count: true, Pace: time.Hour})
	second := newestRequest(t, w, sold(t, w, "SMOKER-M", 1, ""))
	inState(t, w, second.Number, request.Acknowledged)
	_, err := w.Client.CallOffRequest(ctx, second.Number, "")
	require.NoError(t, err)
	inState(t, w, second.Number, request.CalledOff)
	eventually(t, "the wrong file to be raised", func() bool {
		list, err := w.Client.Exceptions(ctx)
		require.NoError(t, err)
		return slices.ContainsFunc(list, func(x wire.Exception) bool { return x.Cause == "file not taken" })
	})

	w.Gate.Mood(standin.GateMood{Twice: true, Parts: true})
	third := newestRequest(t, w, sold(t, w, "SMOKER-M", 1, ""))
	inState(t, w, third.Number, request.Sent)
	w.Gate.Bill(180, 12)
	eventually(t, "its bill to agree", func() bool {
		r, err := w.Client.Request(ctx, q.Number)
		require.NoError(t, err)
		return r.Billed == 204 && r.Cost == 204
	})
	bills, err := w.Client.Bills(ctx, "")
	require.NoError(t, err)
	for _, b := range bills {
		require.Equal(t, "agrees", b.State, "%+v", b)
	}
	clean(t, w)
}

// TestAWarehouseByTables: by its second way, over SFTP at a real server, with a key; the same becomes of what it is asked.
func TestAWarehouseByTables(t *testing.T) {
	server, err := sshserver.New(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, server.Stop()) })
	require.NoError(t, server.Start())
	trays := filepath.Join(server.Dir, "trays")
	require.NoError(t, os.Mkdir(trays, 0o755))
	w := openWorld(t, false)
	ctx := t.Context()
	w.Gate = standin.NewFallowgate(standin.GateConfig{Customer: demo.Company, Number: "FG-118", Prefix: "2007109", Folder: trays,
		Goods: map[string]int64{"SMOKER-M": 25, "FRAMES-10": 9}})
	t.Cleanup(w.Gate.Stop)
	require.NoError(t, w.JoinFallowgateBy(ctx, "fallowgate-tables", joining.Access{
		Address: fmt.Sprintf("sftp://127.0.0.1:%d%s/sheets", server.Port, trays),
		Secrets: map[string]string{"user": server.User, "key": server.Key, "host_key": server.Fingerprint}}))
	fast(t, w, "gate")
	lies := func(n int64) {
		eventually(t, "its word of the stock", func() bool {
			v, err := w.Client.Item(ctx, "SMOKER-M")
			require.NoError(t, err)
			return slices.ContainsFunc(v.Levels, func(l wire.Level) bool { return l.Location == "gate" && l.OnHand == n })
		})
	}
	lies(25)
	onlyAt(t, w, "SMOKER-M", "gate")
	w.Gate.Mood(standin.GateMood{Pace: time.Hour})
	q := newestRequest(t, w, sold(t, w, "SMOKER-M", 2, ""))
	inState(t, w, q.Number, request.Acknowledged)
	_, err = w.Client.CallOffRequest(ctx, q.Number, "")
	require.NoError(t, err)
	inState(t, w, q.Number, request.CalledOff)

	w.Gate.Mood(standin.GateMood{})
	sent := newestRequest(t, w, sold(t, w, "SMOKER-M", 3, ""))
	inState(t, w, sent.Number, request.Sent)
	require.EqualValues(t, 22, w.Gate.Lies("SMOKER-M"))
	lies(22)
	w.Gate.Bill(180, 12)
	eventually(t, "its bill to agree", func() bool {
		r, err := w.Client.Request(ctx, sent.Number)
		require.NoError(t, err)
		return r.Billed == 216 && r.Cost == 216
	})
	w.Gate.Mood(standin.GateMood{Refuse: "hall three is flooded"})
	no := newestRequest(t, w, sold(t, w, "SMOKER-M", 1, ""))
	inState(t, w, no.Number, request.Refused)
	r, err := w.Client.Request(ctx, no.Number)
	require.NoError(t, err)
	require.Contains(t, r.Reason, "flooded")
	clean(t, w)
}

// TestAMakerByForm: first in test, with a channel in test; then live, with the tests cleared; spaces in texts and what is to be engraved
// go as they should.
func TestAMakerByForm(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.JoinSlate(ctx))
	_, err := w.Client.SetTest(ctx, "slate", true)
	require.NoError(t, err)
	onlyAt(t, w, "PLAQUE-S", "slate")
	order := sold(t, w, "PLAQUE-S", 1, "  Hive of\tMaren ")
	q := newestRequest(t, w, order)
	require.True(t, q.Test)
	inState(t, w, q.Number, request.Acknowledged)
	require.Equal(t, "Hive of Maren", w.Slate.Jobs()[0].Texts[0])
	require.True(t, w.Slate.Jobs()[0].Trial)
	require.Equal(t, 1, w.Slate.SendAll())
	inState(t, w, q.Number, request.Sent)
	o, err := w.Client.Order(ctx, order)
	require.NoError(t, err)
	require.Equal(t, "ready", string(o.Stage), "nothing has left")

	_, err = w.Client.SetTest(ctx, "slate", false)
	require.NoError(t, err)
	eventually(t, "the real request", func() bool {
		list, err := w.Client.OrderRequests(ctx, order)
		require.NoError(t, err)
		return len(list) == 1 && !list[0].Test && list[0].State == request.Acknowledged
	})
	require.Equal(t, 1, w.Slate.SendAll())
	eventually(t, "the order to be sent", func() bool { o, err := w.Client.Order(ctx, order); return err == nil && o.Stage == "shipped" })
	clean(t, w)
}

// TestTheStoreRoomOfAMarketplace sends what was sold elsewhere.
func TestTheStoreRoomOfAMarketplace(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	_, err := w.JoinTansy(ctx, demo.Joining{Sources: []string{"alder"}})
	require.NoError(t, err)
	require.NoError(t, w.StoreRoom(ctx))
	require.NoError(t, w.Tansy.Hold("TNS-SMK-M", 6))
	fast(t, w, "tansy")
	require.NoError(t, w.Client.SayPartnerItem(ctx, "tansy", partners.PartnerItem{SKU: "SMOKER-M", Code: "TNS-SMK-M"}))
	eventually(t, "its stock", func() bool {
		v, err := w.Client.Item(ctx, "SMOKER-M")
		require.NoError(t, err)
		return slices.ContainsFunc(v.Levels, func(l wire.Level) bool { return l.Location == "tansy-room" && l.OnHand == 6 })
	})
	onlyAt(t, w, "SMOKER-M", "tansy-room")
	q := newestRequest(t, w, sold(t, w, "SMOKER-M", 2, ""))
	inState(t, w, q.Number, request.Acknowledged)
	require.Equal(t, [][2]string{{q.Reference, "accepted"}}, w.Tansy.Outbounds())
	require.Equal(t, 1, w.Tansy.SendOutbounds())
	inState(t, w, q.Number, request.Sent)
	q = newestRequest(t, w, sold(t, w, "SMOKER-M", 1, ""))
	inState(t, w, q.Number, request.Acknowledged)
	_, err = w.Client.CallOffRequest(ctx, q.Number, "")
	require.NoError(t, err)
	inState(t, w, q.Number, request.CalledOff)
	clean(t, w)
}

// fast lets a partner be read each second.
func fast(t *testing.T, w *demo.World, code string) {
	t.Helper()
	x, err := w.Client.Connection(t.Context(), code)
	require.NoError(t, err)
	for _, f := range x.Feeds {
		if f.On && connector.ComesIn(f.Kind) {
			_, err := w.Client.SetFeed(t.Context(), code, f.Kind, true, "@every 1s", f.Revision)
			require.NoError(t, err)
		}
	}
}

// onlyAt takes what lies of an item at our own places away, and lets orders with it go to one place first.
func onlyAt(t *testing.T, w *demo.World, sku, place string) {
	t.Helper()
	ctx := t.Context()
	v, err := w.Client.Item(ctx, sku)
	require.NoError(t, err)
	for _, l := range v.Levels {
		if l.Location != place && l.OnHand > 0 {
			_, err := w.Client.Adjust(ctx, sku, l.Location, -l.OnHand, "moved out")
			require.NoError(t, err)
		}
	}
	require.NoError(t, w.PreferPlace(ctx, sku, place))
}
