package attention_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
)

// refusing is a company whose stall takes no quantities, with three items listed there: three messages of one group.
func refusing(t *testing.T) (*trial.Kit, attention.GroupOf) {
	t.Helper()
	k := trial.New(t)
	k.On("stall", "/stock", func(trial.Call) (int, any) { return 422, map[string]any{"error": "closed"} })
	k.Stock(9, "JAR", "LID", "POT")
	for _, sku := range []string{"JAR", "LID", "POT"} {
		k.Listed(sku)
	}
	open := k.Exceptions()
	require.Len(t, open, 3)
	return k, attention.GroupOf{Cause: open[0].Cause, Connection: "stall", Subject: open[0].Subject}
}

// TestAGroupIsSentAgainEachForItself: a message that was overtaken since cannot be sent again; the others are.
func TestAGroupIsSentAgainEachForItself(t *testing.T) {
	k, g := refusing(t)
	k.On("stall", "/stock", func(trial.Call) (int, any) { return 503, map[string]any{} })
	k.Sell("S-1", trial.Units("LID", 1)) // a newer quantity of it waits
	k.On("stall", "/stock", func(trial.Call) (int, any) { return 200, map[string]any{} })
	done, err := k.SendGroupAgain(t.Context(), g, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(2), done.Count)
	require.Equal(t, int64(1), done.Refused)
	require.Contains(t, done.Why, "a newer message about")
	k.InVain(1)
	require.Empty(t, k.Exceptions(), "the newer one went as well")
	_, err = k.SendGroupAgain(t.Context(), g, "Edda")
	require.ErrorContains(t, err, "nothing of that is open any more")
	k.Holds()
}

// TestAGroupOfWhichNothingCanBeSentSaysWhy.
func TestAGroupOfWhichNothingCanBeSentSaysWhy(t *testing.T) {
	k, g := refusing(t)
	k.On("stall", "/stock", func(trial.Call) (int, any) { return 503, map[string]any{} })
	k.Sell("S-1", trial.Units("LID", 1), trial.Units("JAR", 1), trial.Units("POT", 1))
	_, err := k.SendGroupAgain(t.Context(), g, "Edda")
	require.ErrorContains(t, err, "a newer message about")
}

// TestACarrierIsAskedAgainForALabelOfWhichNothingIsKnown: from the list of exceptions, by its group.
func TestACarrierIsAskedAgainForALabelOfWhichNothingIsKnown(t *testing.T) {
	k := trial.New(t, "ann")
	k.Learned()
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	s := k.Packed("S-1")
	k.On("ann", "/labels", func(trial.Call) (int, any) { return 0, nil })
	require.NoError(t, k.Label(s, "ann"))
	k.InVain(exchange.MaxAttempts + 2)
	require.Equal(t, []order.Cause{engine.LabelUnknown}, k.Causes())
	k.On("ann", "/labels", nil)
	require.NoError(t, k.RemakeAll(t.Context()))
	done, err := k.SendGroupAgain(t.Context(), attention.GroupOf{Cause: engine.LabelUnknown, Connection: "ann",
		Subject: k.Exceptions()[0].Subject}, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), done.Count)
	k.Settle()
	require.Empty(t, k.Causes())
	require.NotEmpty(t, k.ParcelOf(s).Tracking)
	k.Holds()
}

// TestAllOrdersOfAGroupGoOn, however many there are: none is left because a list was cut.
func TestAllOrdersOfAGroupGoOn(t *testing.T) {
	k := trial.New(t)
	const many = 230
	k.Stock(many, "JAR")
	require.NoError(t, k.Rule(`hold("a look")`))
	var events []map[string]any
	for i := range many {
		number := fmt.Sprintf("S-%d", i)
		events = append(events, trial.Event("order", number, 1, trial.Sale(number, trial.Units("JAR", 1))))
	}
	k.Take("stall", events...)
	first := k.Exceptions()[0]
	g := attention.GroupOf{Cause: first.Cause, Connection: first.ConnectionCode, Subject: first.Subject}
	numbers, err := k.OrdersOf(t.Context(), g)
	require.NoError(t, err)
	require.Len(t, numbers, many)
	done, err := k.LetGo(t.Context(), numbers, "Edda")
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		k.Settle()
		done, err = k.BulkResult(t.Context(), done.ID)
		return err == nil && done.State == "done"
	}, time.Minute, 5*time.Millisecond)
	require.Equal(t, many, done.Done)
	require.Equal(t, orders.Approve, done.Action)
	require.Equal(t, "ready", k.Stage("S-0"))
	require.Equal(t, "ready", k.Stage(fmt.Sprintf("S-%d", many-1)))
	require.Empty(t, k.Exceptions())
	_, err = k.OrdersOf(t.Context(), g)
	require.ErrorContains(t, err, "no order waits for that any more")
	k.Holds()
}

// TestAGroupSleepsAndWakes: it is no longer among what is open until its time has come, and nobody can let it sleep for ever.
func TestAGroupSleepsAndWakes(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Sell("S-1", message.OrderLine{SKU: "GLASS", Quantity: 1})
	g := attention.GroupOf{Cause: "unknown item", Connection: "stall", Subject: "GLASS"}
	_, err := k.Snooze(ctx, g, k.Now().Add(time.Hour))
	require.NoError(t, err)
	require.Empty(t, k.Exceptions())
	k.Later(61 * time.Minute)
	require.Len(t, k.Exceptions(), 1)
	_, err = k.Snooze(ctx, g, k.Now().Add(time.Hour))
	require.NoError(t, err)
	_, err = k.Snooze(ctx, g, time.Time{})
	require.NoError(t, err)
	require.Len(t, k.Exceptions(), 1)
	_, err = k.Snooze(ctx, g, k.Now().AddDate(0, 4, 0))
	require.ErrorContains(t, err, "at most three months")
	_, err = k.Relay.Settle(ctx, g, "Edda")
	require.ErrorContains(t, err, "the holds of orders end when their cause does")
}
