package relay

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/views"
)

// TestOneBadRecordStopsNothing: an item that core refuses stands before an order of another record. The order comes
// in, the item is raised with its record, and it goes in once nothing stands against it.
func TestOneBadRecordStopsNothing(t *testing.T) {
	k := newKit(t)
	k.stock(5, "JAR")
	made := message.Item{SKU: "JAR", Name: "Jar", Kind: "made to order"}
	k.take("stall", event("item", "i-1", 1, made), event("order", "S-1", 1, sale("S-1", units("JAR", 2))))
	require.Equal(t, "ready", k.stage("S-1"))
	open := k.exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.NotTakenIn, open[0].Cause)
	require.Contains(t, open[0].Text, "Item i-1 from The stall could not be taken in: kind: there is stock of it")
	require.NotZero(t, open[0].InboxID)
	list, err := k.Connections(t.Context())
	require.NoError(t, err)
	require.Equal(t, views.Lamp{State: "caution", Text: "1 message could not be taken in"}, list[0].Lamp)

	k.cancel("S-1")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: -5, Reason: "sold at the fair"}, "Edda"))
	n, err := k.TryAgain(t.Context(), "stall", "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	k.settle()
	require.Empty(t, k.exceptions())
	it, err := k.Store.Item(t.Context(), "JAR")
	require.NoError(t, err)
	require.Equal(t, "made to order", it.Kind)
	k.holds()
}

// TestABrokenDecisionIsTriedAgain: a decision that panics, here for want of a sound record in the file, does not end
// the process nor keep others back. It is put off for longer and longer, and what was raised ends when it succeeds.
func TestABrokenDecisionIsTriedAgain(t *testing.T) {
	k := newKit(t)
	k.stock(5, "JAR")
	k.sell("S-1", units("JAR", 2))
	parts := func(text string) { k.spoil("UPDATE order_line SET parts=? WHERE sku='JAR' AND order_id=1", text) }
	parts(`[{"item":1,"quantity":0}]`) // to divide by it panics
	lower := sale("S-1", units("JAR", 1))
	k.take("stall", event("order", "S-1", 2, lower), event("order", "S-2", 1, sale("S-2", units("JAR", 1))))
	require.Equal(t, "ready", k.stage("S-2"))
	require.Len(t, k.exceptions(), 1)
	require.Contains(t, k.exceptions()[0].Text, "Order S-1 from The stall could not be taken in: something broke on our side")
	next := func() time.Duration {
		at, err := k.Store.NextInbox(t.Context(), k.ByCode("stall").ID)
		require.NoError(t, err)
		return at.Sub(k.now())
	}
	first := next()
	require.Positive(t, first)
	k.later(first)
	k.settle()
	require.Greater(t, next(), first, "longer than before")
	require.Len(t, k.exceptions(), 1, "raised once")

	parts("")
	k.later(time.Minute)
	k.settle()
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	require.Equal(t, int64(1), o.Lines[0].Live())
	require.Empty(t, k.exceptions())
	k.holds()
}

// TestADecisionThatStaysBrokenEnds: after its last try, the message waits for a person, who lets it be tried again.
func TestADecisionThatStaysBrokenEnds(t *testing.T) {
	k := newKit(t)
	k.stock(5, "JAR")
	k.sell("S-1", units("JAR", 2))
	k.spoil("UPDATE orders SET ours='no JSON'")
	k.push("stall", event("order", "S-1", 2, sale("S-1", units("JAR", 1))))
	for range exchange.Decisions {
		k.settle()
		k.later(time.Hour)
	}
	k.settle()
	waits, err := k.Store.NextInbox(t.Context(), k.ByCode("stall").ID)
	require.NoError(t, err)
	require.Zero(t, waits, "it is not tried for ever")
	require.Len(t, k.exceptions(), 1)
	k.spoil("UPDATE orders SET ours='{}'")
	_, err = k.TryAgain(t.Context(), "stall", "Edda")
	require.NoError(t, err)
	k.settle()
	require.Equal(t, "ready", k.stage("S-1"))
	require.Empty(t, k.exceptions())
}

// TestOneTimerAConnection: however often a loop is to be woken later, one timer is held, for the earliest moment.
func TestOneTimerAConnection(t *testing.T) {
	w := engine.NewWaker()
	for range 1000 {
		w.In(time.Hour)
	}
	first := w.Timer
	w.In(2 * time.Hour)
	require.Same(t, first, w.Timer)
	w.In(time.Millisecond)
	require.NotSame(t, first, w.Timer)
	<-w.Ch
	w.In(time.Hour)
	w.Stop()
	require.Nil(t, w.Timer)
}
