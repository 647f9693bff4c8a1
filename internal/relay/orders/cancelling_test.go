package orders_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
)

// lineIDs are the ids of an order's lines.
func lineIDs(t *testing.T, k *trial.Kit, number string) (ids []int64) {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	for _, l := range o.Lines {
		ids = append(ids, l.ID)
	}
	return ids
}

// silent switches off that the stall is told of cancellations.
func silent(t *testing.T, k *trial.Kit) {
	t.Helper()
	feed, _ := k.Feed(k.ByCode("stall"), message.CancelOut)
	require.NoError(t, k.SetFeed(t.Context(), "stall", message.CancelOut, false, "", feed.Revision, "Edda"))
}

// TestUnitsAreCancelledHere at any stage before they leave: stock is free again, and the channel is told how many of which line,
// and how many are left.
func TestUnitsAreCancelledHere(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 4), trial.Units("LID", 2))
	ids := lineIDs(t, k, "S-1")
	cancel := func(reason string, units map[int64]int64) error {
		return k.CancelUnits(ctx, "O10001", orders.Cancelling{Reason: reason, Lines: units}, 0, "Edda")
	}
	require.ErrorContains(t, cancel(" ", map[int64]int64{ids[0]: 1}), "reason: say why")
	require.ErrorContains(t, cancel("broken", map[int64]int64{ids[0]: 5}), "4 × JAR of order O10001 can be cancelled, not 5")
	require.ErrorContains(t, cancel("broken", map[int64]int64{77: 1}), "has no line 77")
	k.Picked("S-1")
	require.NoError(t, cancel("broken", map[int64]int64{ids[0]: 1, ids[1]: 2}))
	k.Settle()
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.EqualValues(t, []int64{1, 2}, []int64{o.Lines[0].Cancelled, o.Lines[1].Cancelled})
	require.EqualValues(t, 3, o.Lines[0].Picked)
	require.Equal(t, []order.Cause{engine.PutBack}, k.Causes())
	told := k.Sent("stall", "/cancellations")
	require.Len(t, told, 1)
	require.Equal(t, "broken", told[0].Body["reason"])
	require.Equal(t, []any{map[string]any{"line": "1", "quantity": 1.0, "left": 3.0},
		map[string]any{"line": "2", "quantity": 2.0, "left": 0.0}}, told[0].Body["lines"])
	k.Holds()

	// What it still says before it has heard of it holds nothing; what it raises beyond that does.
	k.Take("stall", trial.Event("order", "S-1", 2, trial.Sale("S-1", trial.Units("JAR", 4), trial.Units("LID", 2))))
	require.NotContains(t, k.Causes(), order.Changed)
	k.Take("stall", trial.Event("order", "S-1", 3, trial.Sale("S-1", trial.Units("JAR", 3))))
	require.NotContains(t, k.Causes(), order.Changed)
	k.Take("stall", trial.Event("order", "S-1", 4, trial.Sale("S-1", trial.Units("JAR", 4))))
	require.Contains(t, k.Causes(), order.Changed, "it knew, and raised it")
	k.Holds()
}

// TestAChannelThatCannotBeTold of a cancellation: a person is asked to tell it; once it says so itself, the order is cancelled
// there, too.
func TestAChannelThatCannotBeTold(t *testing.T) {
	k := trial.New(t)
	silent(t, k)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	require.NoError(t, k.CancelUnits(ctx, "O10001", orders.Cancelling{Reason: "the buyer rang"}, 0, "Edda"))
	require.Equal(t, "cancelled", k.Stage("S-1"))
	require.Equal(t, []order.Cause{engine.CancelUntold}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "all of it was cancelled here (the buyer rang). The stall is not told of cancellations")
	require.Empty(t, k.Sent("stall", "/cancellations"))
	k.Sell("S-2", trial.Units("JAR", 1))
	k.CancelOrder("O10002")
	require.Len(t, k.Exceptions(), 2, "also where many are cancelled at once")
	k.Holds()
}

// TestACancellationThatIsRefused stands before a person, and is sent again.
func TestACancellationThatIsRefused(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.On("stall", "/cancellations", func(trial.Call) (int, any) { return http.StatusConflict, map[string]any{"error": "it is sent"} })
	require.NoError(t, k.CancelUnits(ctx, "O10001", orders.Cancelling{Reason: "the buyer rang"}, 0, "Edda"))
	k.Settle()
	require.Equal(t, []order.Cause{engine.WriteBackRefused}, k.Causes())
	k.Holds()
}
