package exchange_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/trial"
)

// TestWhatWasAttemptedKeepsItsWords: a newer quantity does not take the place of one that was sent once without an
// answer: the other side would take it for a repeat. It goes under a reference of its own.
func TestWhatWasAttemptedKeepsItsWords(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Listed("JAR")
	said := map[string]float64{} // by reference: a careful other side keeps the first words
	k.On("stall", "/stock", func(c trial.Call) (int, any) {
		if _, known := said[c.Ref]; !known {
			said[c.Ref] = c.Body["quantity"].(float64)
		}
		return 0, nil // the answer is lost
	})
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("JAR", 3))
	k.On("stall", "/stock", func(c trial.Call) (int, any) {
		if _, known := said[c.Ref]; !known {
			said[c.Ref] = c.Body["quantity"].(float64)
		}
		return 200, map[string]any{}
	})
	k.Later(time.Minute)
	k.Settle()
	calls := k.Sent("stall", "/stock")
	last := calls[len(calls)-1]
	require.Equal(t, 4.0, said[last.Ref], "what the other side took is what is right")
	l, err := k.Store.Listing(t.Context(), "stall", "L-JAR")
	require.NoError(t, err)
	require.Equal(t, int64(4), l.ToldQty)
	k.Holds()
}

// TestABurstIsOneMessage: what was never sent is replaced, so many sales make one message.
func TestABurstIsOneMessage(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Listed("JAR")
	k.Settle()
	before := len(k.Sent("stall", "/stock"))
	k.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	k.Push("stall", trial.Event("order", "S-2", 1, trial.Sale("S-2", trial.Units("JAR", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	k.Settle()
	require.Len(t, k.Sent("stall", "/stock"), before+1)
}

// TestTheLastUnitsAreToldAtOnce: many units wait for the next round of quantities, the last ones do not.
func TestTheLastUnitsAreToldAtOnce(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Listed("JAR")
	c := k.ByCode("stall")
	sells := func(number string, units int64) (told int) {
		before := len(k.Sent("stall", "/stock"))
		k.Push("stall", trial.Event("order", number, 1, trial.Sale(number, trial.Units("JAR", units))))
		require.NoError(t, k.DecideAll(c))
		_, err := k.SendDue(c)
		require.NoError(t, err)
		return len(k.Sent("stall", "/stock")) - before
	}
	k.Later(time.Minute)
	require.Equal(t, 1, sells("S-1", 1), "the first of a quiet time goes at once")
	require.Zero(t, sells("S-2", 1), "seven are left: no hurry")
	require.Equal(t, 1, sells("S-3", 4), "three are left")
	require.Equal(t, 1, sells("S-4", 3), "none is left")
	calls := k.Sent("stall", "/stock")
	require.Equal(t, 0.0, calls[len(calls)-1].Body["quantity"])
	_, err := k.SendDue(c)
	require.NoError(t, err)
	require.Len(t, k.Sent("stall", "/stock"), len(calls), "nothing is due, and nothing is sent")
}
