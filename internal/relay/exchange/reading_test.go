package exchange_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// booth is a company with a booth that is read, and an item of which there are nine.
func booth(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.JoinBooth(nil)
	for _, path := range []string{"/orders", "/listings", "/customers"} {
		k.Has(path)
	}
	return k
}

// read reads the orders of the booth once, for a cause, from a time on if one is given.
func read(k *trial.Kit, cause, from string) {
	k.Run(k.ByCode("booth"), engine.RunRequest{Kind: message.OrdersIn, Cause: cause, From: from})
	k.Settle()
}

// runs are the readings of orders that were worth one, newest first.
func runs(t *testing.T, k *trial.Kit) []store.Run {
	t.Helper()
	list, err := k.Store.Runs(t.Context(), "booth", 0, 50)
	require.NoError(t, err)
	return list
}

// orderRecords are orders that the booth has, of one jar each.
func orderRecords(numbers ...string) []map[string]any {
	var out []map[string]any
	for _, n := range numbers {
		out = append(out, trial.Record(n, 1, trial.Sale(n, trial.Units("JAR", 1))))
	}
	return out
}

// TestAllPagesAreRead: two to a page, and what is known already is not worth a run unless somebody asks.
func TestAllPagesAreRead(t *testing.T) {
	k := booth(t)
	k.Has("/orders", orderRecords("B-1", "B-2", "B-3", "B-4", "B-5")...)
	read(k, "schedule", "")
	require.Equal(t, "ready", k.Stage("B-5"))
	list := runs(t, k)
	require.Len(t, list, 1)
	require.Equal(t, "done", list[0].State)
	require.Equal(t, int64(5), list[0].Found)
	log, err := k.Store.RunLog(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(log), "page 3: 1 records, 1 to be looked at")

	k.Later(time.Minute)
	read(k, "schedule", "")
	require.Len(t, runs(t, k), 1, "nothing new, no run")
	read(k, "by Edda", "")
	list = runs(t, k)
	require.Len(t, list, 2, "who asks sees what there was")
	require.Equal(t, []int64{5, 5}, []int64{list[0].Found, list[0].Skipped})
	log, err = k.Store.RunLog(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(log), "page 1: 2 records, 0 to be looked at")
	k.Holds()
}

// TestARecordThatIsNoneKeepsNothingBack: a record without a number is told in the log; the others come in.
func TestARecordThatIsNoneKeepsNothingBack(t *testing.T) {
	k := booth(t)
	k.Has("/orders", append(orderRecords("B-1"), map[string]any{"version": 1, "record": "not an order"})...)
	read(k, "schedule", "")
	require.Equal(t, "ready", k.Stage("B-1"))
	list := runs(t, k)
	require.Len(t, list, 1)
	require.Equal(t, []int64{2, 1}, []int64{list[0].Found, list[0].Failed})
	log, err := k.Store.RunLog(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(log), "error")
	k.Holds()
}

// TestAFailedReadingSaysWhyAndComesBackSooner: the next is due sooner than its schedule at first, then slower; when it goes
// well again, all is as before.
func TestAFailedReadingSaysWhyAndComesBackSooner(t *testing.T) {
	k := booth(t)
	c := k.ByCode("booth")
	k.On("booth", "/orders", func(trial.Call) (int, any) { return 500, map[string]any{} })
	var waits []time.Duration
	for range 4 {
		read(k, "schedule", "")
		at, on := k.Due(c, message.OrdersIn)
		require.True(t, on)
		waits = append(waits, at.Sub(k.Now()).Round(time.Second))
		require.NoError(t, k.RemakeAll(t.Context()))
		k.Later(time.Minute)
	}
	require.Less(t, waits[0], waits[3], "%v", waits)
	require.LessOrEqual(t, waits[3], time.Minute)
	list := runs(t, k)
	require.Len(t, list, 4)
	require.Equal(t, "failed", list[0].State)
	require.Contains(t, list[0].Error, "500")
	f, _ := k.Feed(c, message.OrdersIn)
	require.Equal(t, int64(4), f.Failures)

	k.Has("/orders", orderRecords("B-1")...)
	read(k, "schedule", "")
	require.Equal(t, "ready", k.Stage("B-1"))
	f, _ = k.Feed(c, message.OrdersIn)
	require.Zero(t, f.Failures)
	require.Empty(t, f.LastError)
	at, _ := k.Due(c, message.OrdersIn)
	require.InDelta(t, time.Minute, at.Sub(k.Now()), float64(2*time.Second))
}

// TestALockedReading is raised once and ends when we are let in; a push in between does not pass for that.
func TestALockedReading(t *testing.T) {
	k := booth(t)
	k.On("booth", "/orders", func(trial.Call) (int, any) { return 403, map[string]any{} })
	for range 3 {
		read(k, "schedule", "")
		k.Later(time.Minute)
	}
	require.Equal(t, []order.Cause{engine.CredentialsRefused}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "The booth does not let us in")
	k.Again()
	require.Equal(t, []order.Cause{engine.CredentialsRefused}, k.Causes())
	k.Has("/orders")
	read(k, "schedule", "")
	require.Empty(t, k.Exceptions())
}

// TestReadingOfHistoryLeavesTheMarkAlone, so that what is new is read from where it was.
func TestReadingOfHistoryLeavesTheMarkAlone(t *testing.T) {
	k := booth(t)
	k.Spoil("UPDATE feed SET mark='2026-11-20T00:00:00Z' WHERE kind='orders in' AND connection_id=(SELECT id FROM connection " +
		"WHERE code='booth')")
	require.NoError(t, k.Reload(t.Context()))
	k.Has("/orders", orderRecords("B-1")...)
	read(k, "by Edda", "2026-01-01T00:00:00Z")
	require.Equal(t, "ready", k.Stage("B-1"))
	f, _ := k.Feed(k.ByCode("booth"), message.OrdersIn)
	require.Equal(t, "2026-11-20T00:00:00Z", f.Mark)
}

// TestWhatCannotBeReadNow says why, and what to do.
func TestWhatCannotBeReadNow(t *testing.T) {
	k := booth(t)
	ctx := t.Context()
	run := func(code string, kind message.Feed, from string) error {
		_, err := k.RunNow(ctx, code, kind, from, "Edda")
		return err
	}
	require.ErrorContains(t, run("nowhere", message.OrdersIn, ""), "nowhere")
	require.ErrorContains(t, run("booth", message.ItemsIn, ""), "The booth has no feed")
	require.ErrorContains(t, run("stall", message.OrdersIn, ""), "is pushed by the other side")
	require.ErrorContains(t, run("booth", message.OrdersIn, "yesterday"), "a time such as")
	require.NoError(t, run("booth", message.StockOut, ""), "what waits is sent at once")
	c := k.ByCode("booth")
	f, _ := k.Feed(c, message.CustomersIn)
	require.NoError(t, k.SetFeed(ctx, "booth", message.CustomersIn, false, "", f.Revision, "Edda"))
	require.ErrorContains(t, run("booth", message.CustomersIn, ""), "is off; switch it on first")
	require.NoError(t, k.Pause(ctx, "booth", true, k.ByCode("booth").Rec().Revision, "Edda"))
	require.ErrorContains(t, run("booth", message.OrdersIn, ""), "The booth is paused; resume it first")
	_, on := k.Due(k.ByCode("booth"), message.CustomersIn)
	require.False(t, on)
}

// TestSchedules: five fields, a pace, or the connector's own.
func TestSchedules(t *testing.T) {
	at := time.Date(2026, 11, 23, 8, 20, 0, 0, time.UTC)
	for text, want := range map[string]time.Time{
		"":             at.Add(time.Minute),
		"@every 30s":   at.Add(30 * time.Second),
		"0 9 * * *":    time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
		"*/15 8 * * 2": time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC),
	} {
		s, err := exchange.ParseSchedule(text, time.Minute)
		require.NoError(t, err, text)
		require.Equal(t, want, s.Next(at), text)
	}
	for _, text := range []string{"often", "61 * * * *", "@every", "* * * *"} {
		_, err := exchange.ParseSchedule(text, time.Minute)
		require.ErrorContains(t, err, "five cron fields", text)
	}
}

// TestAPushIsCheckedAndCounted: who pushes must know the key; what is known is not kept twice; what nobody takes is counted.
func TestAPushIsCheckedAndCounted(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	key := http.Header{"Authorization": {"Bearer stall-key"}}
	push := func(h http.Header, body string) (exchange.PushReceipt, error) {
		return k.AcceptPush(ctx, "stall", h, []byte(body))
	}
	_, err := push(http.Header{"Authorization": {"Bearer other"}}, `{"messages":[]}`)
	require.ErrorIs(t, err, connector.ErrSignature)
	_, err = push(http.Header{}, `{"messages":[]}`)
	require.ErrorIs(t, err, connector.ErrSignature)
	_, err = push(key, `{"messages":`)
	require.Error(t, err)
	_, err = k.AcceptPush(ctx, "nowhere", key, nil)
	require.ErrorContains(t, err, "nowhere")

	k.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1))))
	got, err := push(key, `{"messages":[{"topic":"order","id":"S-1","version":1,"order":{}},{"topic":"weather","id":"W-1","version":1}]}`)
	require.NoError(t, err)
	require.Equal(t, exchange.PushReceipt{Known: 1, Ignored: 1}, got)
	_, err = push(key, `{"messages":[{"topic":"order","version":1,"order":{}}]}`)
	require.ErrorContains(t, err, "event 1")
	require.Equal(t, int64(64<<10), k.MaxPush("nowhere"))
	require.Equal(t, int64(4<<20), k.MaxPush("stall"))
}

// TestARecordThatIsNotUnderstood waits for a person and names the field; a newer version that is understood ends it.
func TestARecordThatIsNotUnderstood(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	bad := trial.Sale("S-1", trial.Units("JAR", 1))
	bad.Currency = "euros"
	k.Take("stall", trial.Event("order", "S-1", 1, bad), trial.Event("order", "S-2", 1, trial.Sale("S-2", trial.Units("JAR", 1))))
	require.Equal(t, "ready", k.Stage("S-2"))
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.NotUnderstood, open[0].Cause)
	require.Contains(t, open[0].Text, "currency")
	n, err := k.TryAgain(t.Context(), "stall", "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	k.Settle()
	require.Len(t, k.Exceptions(), 1, "it is still not understood, and raised once")
	k.Take("stall", trial.Event("order", "S-1", 2, trial.Sale("S-1", trial.Units("JAR", 1))))
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Empty(t, k.Exceptions())
	_, err = k.TryAgain(t.Context(), "nowhere", "Edda")
	require.ErrorContains(t, err, "nowhere")
	k.Holds()
}

// TestWhatIsPushedToAPausedConnectionIsKept: it waits, also over a new start, and is decided on when the connection goes on.
func TestWhatIsPushedToAPausedConnectionIsKept(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	require.NoError(t, k.Pause(ctx, "stall", true, 0, "Edda"))
	key := http.Header{"Authorization": {"Bearer stall-key"}}
	raw, err := json.Marshal(map[string]any{"messages": []any{trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1)))}})
	require.NoError(t, err)
	got, err := k.AcceptPush(ctx, "stall", key, raw)
	require.NoError(t, err)
	require.Equal(t, exchange.PushReceipt{Kept: 1}, got)
	k.Settle()
	_, err = k.Store.OrderByNumber(ctx, "S-1")
	require.ErrorIs(t, err, store.ErrNotFound)
	k.Again()
	k.Settle()
	_, err = k.Store.OrderByNumber(ctx, "S-1")
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, k.Pause(ctx, "stall", false, 0, "Edda"))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	k.Holds()
}

// TestAPauseHoldsWithLoopsAtWork: the same while the loops go by themselves.
func TestAPauseHoldsWithLoopsAtWork(t *testing.T) {
	k := trial.Live(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	require.NoError(t, k.Pause(ctx, "stall", true, 0, "Edda"))
	k.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	waits, err := k.Store.CountWaitingInbox(ctx)
	require.NoError(t, err)
	require.Equal(t, 1, waits)
	require.NoError(t, k.Pause(ctx, "stall", false, 0, "Edda"))
	require.Eventually(t, func() bool {
		o, err := k.Store.OrderByNumber(ctx, "S-1")
		return err == nil && o.Stage() == "ready"
	}, 20*time.Second, 10*time.Millisecond)
}
