package shipping_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
)

func left(number, tracking string, lines ...message.DispatchLine) message.Dispatch {
	return message.Dispatch{Reference: "r-" + number, OrderNumber: number, Carrier: "Ironway", Tracking: tracking,
		ShippedAt: trial.Morning, Lines: lines}
}

// TestACorrectedDispatchReplaces: another number under the same record changes the parcel and what the channel knows.
// Nothing ships again, whatever comes how often.
func TestACorrectedDispatchReplaces(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Take("stall", trial.Event("dispatch", "d-1", 1, left("S-1", "AA1")))
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, int64(7), k.OnHand("JAR"))
	k.Take("stall", trial.Event("dispatch", "d-1", 2, left("S-1", "AA2")))
	k.Take("stall", trial.Event("dispatch", "d-1", 3, left("S-1", "AA2")))
	require.Equal(t, int64(7), k.OnHand("JAR"))
	v, err := k.Order(t.Context(), "S-1")
	require.NoError(t, err)
	require.Len(t, v.Shipments, 1)
	require.Equal(t, "AA2", v.Shipments[0].Parcels[0].Tracking)
	require.Equal(t, "Ironway", v.Shipments[0].Parcels[0].CarrierName)
	calls := k.Sent("stall", "/parcels")
	require.Len(t, calls, 2, "the number, and its correction")
	require.Equal(t, "AA2", calls[1].Body["tracking"])
	require.Equal(t, calls[0].Body["reference"], calls[1].Body["reference"], "it is the same parcel")
	require.NotEqual(t, calls[0].Ref, calls[1].Ref)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestACorrectedQuantityIsFollowed: fewer units left than was told, then more.
func TestACorrectedQuantityIsFollowed(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	some := func(jars int64) message.Dispatch {
		return left("S-1", "AA1", message.DispatchLine{SKU: "JAR", Quantity: jars})
	}
	k.Take("stall", trial.Event("dispatch", "d-1", 1, some(3)))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	k.Take("stall", trial.Event("dispatch", "d-1", 2, some(1)))
	require.Equal(t, int64(8), k.OnHand("JAR"))
	k.Holds()
	k.Take("stall", trial.Event("dispatch", "d-1", 3, some(2)))
	require.Equal(t, int64(7), k.OnHand("JAR"))
	k.Take("stall", trial.Event("dispatch", "d-1", 4, some(4)))
	require.Equal(t, int64(7), k.OnHand("JAR"), "more than was ordered changes nothing")
	require.Equal(t, []order.Cause{engine.NotApplied}, k.Causes())
	k.Take("stall", trial.Event("dispatch", "d-2", 1, left("S-1", "AA2")))
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}

// TestADispatchThatFitsNothingIsRaised: each says what came and what to do, and one bad one keeps back no other.
func TestADispatchThatFitsNothingIsRaised(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Picked("S-1")
	k.Sell("S-2", trial.Units("JAR", 1))
	k.Sell("S-3", trial.Units("JAR", 1))
	k.Take("stall", trial.Event("dispatch", "d-0", 1, left("S-0", "AA0")),
		trial.Event("dispatch", "d-1", 1, left("S-1", "AA1", message.DispatchLine{SKU: "JAR", Quantity: 2})),
		trial.Event("dispatch", "d-2", 1, left("S-2", "AA2", message.DispatchLine{SKU: "JAR", Quantity: 5})),
		trial.Event("dispatch", "d-3", 1, left("S-3", "AA3")))
	require.Equal(t, "shipped", k.Stage("S-3"))
	texts := map[string]string{}
	for _, e := range k.Exceptions() {
		require.Equal(t, engine.NotApplied, e.Cause)
		require.NotEmpty(t, e.Expected)
		texts[e.Subject] = e.Text
	}
	require.Len(t, texts, 3)
	require.Equal(t, "The stall says that order S-0 left with Ironway AA0, but there is no order S-0 here.", texts["d-0"])
	require.Contains(t, texts["d-1"], "2 × JAR of order O10001 are picked or packed here already")
	require.Contains(t, texts["d-2"], "only 1 × JAR of order O10002 wait to be picked")
	require.Equal(t, int64(8), k.OnHand("JAR"))
	k.Holds()
}

// TestADispatchBeforeItsOrderIsApplied: the parcel was told before the order came; it is applied by itself.
func TestADispatchBeforeItsOrderIsApplied(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Take("stall", trial.Event("dispatch", "d-1", 1, left("S-1", "AA1")))
	require.Len(t, k.Exceptions(), 1)
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Later(time.Minute)
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestAToldParcelIsWithdrawn: it has not left after all; its units are to be picked, and the channel hears it once.
func TestAToldParcelIsWithdrawn(t *testing.T) {
	k := trial.New(t)
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	gone := left("S-1", "BG 7")
	gone.Withdrawn = true
	k.Take("stall", trial.Event("dispatch", "D-0", 1, gone))
	require.Equal(t, "ready", k.Stage("S-1"), "nobody knew of it")

	k.Take("stall", trial.Event("dispatch", "D-1", 1, left("S-1", "BG 7")))
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, int64(3), k.OnHand("JAR"))
	for version := 2; version < 4; version++ {
		k.Take("stall", trial.Event("dispatch", "D-1", version, gone))
		require.Equal(t, "ready", k.Stage("S-1"))
		require.Equal(t, int64(5), k.OnHand("JAR"))
	}
	calls := k.Sent("stall", "/parcels")
	require.Len(t, calls, 2)
	require.Equal(t, []any{calls[0].Body["reference"], true}, []any{calls[1].Body["reference"], calls[1].Body["withdrawn"]})
	k.Holds()

	k.Take("stall", trial.Event("dispatch", "D-1", 4, left("S-1", "BG 8")))
	require.Equal(t, []order.Cause{engine.NotApplied}, k.Causes())
	require.Equal(t, "ready", k.Stage("S-1"), "a record that was withdrawn ships nothing")
	k.Take("stall", trial.Event("dispatch", "D-2", 1, left("S-1", "BG 8")))
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}
