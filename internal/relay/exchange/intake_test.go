package exchange_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/trial"
	"openrelay/internal/relay/views"
)

// TestOneBadRecordStopsNothing: an item that core refuses stands before an order of another record. The order comes
// in, the item is raised with its record, and it goes in once nothing stands against it.
func TestOneBadRecordStopsNothing(t *testing.T) {
	k := trial.New(t)
	k.Stock(5, "JAR")
	made := message.Item{SKU: "JAR", Name: "Jar", Kind: "made to order"}
	k.Take("stall", trial.Event("item", "i-1", 1, made), trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 2))))
	require.Equal(t, "ready", k.Stage("S-1"))
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.NotTakenIn, open[0].Cause)
	require.Contains(t, open[0].Text, "Item i-1 from The stall could not be taken in: kind: there is stock of it")
	require.NotZero(t, open[0].InboxID)
	list, err := k.Connections(t.Context())
	require.NoError(t, err)
	require.Equal(t, views.Lamp{State: "caution", Text: "1 message could not be taken in"}, list[0].Lamp)

	k.CancelOrder("S-1")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: -5,
		Reason: "sold at the fair"}, "Edda"))
	n, err := k.TryAgain(t.Context(), "stall", "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	k.Settle()
	require.Empty(t, k.Exceptions())
	it, err := k.Store.Item(t.Context(), "JAR")
	require.NoError(t, err)
	require.Equal(t, "made to order", it.Kind)
	k.Holds()
}

// TestABrokenDecisionIsTriedAgain: a decision that panics, here for want of a sound record in the file, does not end
// the process nor keep others back. It is put off for longer and longer, and what was raised ends when it succeeds.
func TestABrokenDecisionIsTriedAgain(t *testing.T) {
	k := trial.New(t)
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	parts := func(text string) { k.Spoil("UPDATE order_line SET parts=? WHERE sku='JAR' AND order_id=1", text) }
	parts(`[{"item":1,"quantity":0}]`) // to divide by it panics
	lower := trial.Sale("S-1", trial.Units("JAR", 1))
	k.Take("stall", trial.Event("order", "S-1", 2, lower), trial.Event("order", "S-2", 1, trial.Sale("S-2", trial.Units("JAR", 1))))
	require.Equal(t, "ready", k.Stage("S-2"))
	require.Len(t, k.Exceptions(), 1)
	require.Contains(t, k.Exceptions()[0].Text, "Order S-1 from The stall could not be taken in: something broke on our side")
	next := func() time.Duration {
		at, err := k.Store.NextInbox(t.Context(), k.ByCode("stall").ID)
		require.NoError(t, err)
		return at.Sub(k.Now())
	}
	first := next()
	require.Positive(t, first)
	k.Later(first)
	k.Settle()
	require.Greater(t, next(), first, "longer than before")
	require.Len(t, k.Exceptions(), 1, "raised once")

	parts("")
	k.Later(time.Minute)
	k.Settle()
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	require.Equal(t, int64(1), o.Lines[0].Live())
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestADecisionThatStaysBrokenEnds: after its last try, the message waits for a person, who lets it be tried again.
func TestADecisionThatStaysBrokenEnds(t *testing.T) {
	k := trial.New(t)
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Spoil("UPDATE orders SET ours='no JSON'")
	k.Push("stall", trial.Event("order", "S-1", 2, trial.Sale("S-1", trial.Units("JAR", 1))))
	for range exchange.Decisions {
		k.Settle()
		k.Later(time.Hour)
	}
	k.Settle()
	waits, err := k.Store.NextInbox(t.Context(), k.ByCode("stall").ID)
	require.NoError(t, err)
	require.Zero(t, waits, "it is not tried for ever")
	require.Len(t, k.Exceptions(), 1)
	k.Spoil("UPDATE orders SET ours='{}'")
	_, err = k.TryAgain(t.Context(), "stall", "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Empty(t, k.Exceptions())
}

// TestOneTimerAConnection: however often a loop is to be woken later, one timer is held, for the earliest moment.
func TestOneTimerAConnection(t *testing.T) {
	w := engine.NewWaker()
	for range 1000 {
		w.In(time.Hour)
	}
	first := w.Due()
	w.In(2 * time.Hour)
	require.Equal(t, first, w.Due())
	w.In(time.Millisecond)
	require.True(t, w.Due().Before(first))
	<-w.Ch
	w.In(time.Hour)
	w.Stop()
	require.Zero(t, w.Due())
}
