package relay

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
)

func left(number, tracking string, lines ...message.DispatchLine) message.Dispatch {
	return message.Dispatch{Reference: "r-" + number, OrderNumber: number, Carrier: "Ironway", Tracking: tracking, ShippedAt: kitMorning, Lines: lines}
}

// onHand is what lies at Alder Yard.
func (k *kit) onHand(sku string) int64 {
	k.t.Helper()
	it, err := k.Store.Item(k.t.Context(), sku)
	require.NoError(k.t, err)
	levels, err := k.Store.Levels(k.t.Context(), []int64{it.ID})
	require.NoError(k.t, err)
	return levels[stock.Key{Item: it.ID, Location: k.PlaceID("alder")}].OnHand
}

// TestACorrectedDispatchReplaces: another number under the same record changes the parcel and what the channel knows.
// Nothing ships again, whatever comes how often.
func TestACorrectedDispatchReplaces(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR")
	k.sell("S-1", units("JAR", 2))
	k.take("stall", event("dispatch", "d-1", 1, left("S-1", "AA1")))
	require.Equal(t, "shipped", k.stage("S-1"))
	require.Equal(t, int64(7), k.onHand("JAR"))
	k.take("stall", event("dispatch", "d-1", 2, left("S-1", "AA2")))
	k.take("stall", event("dispatch", "d-1", 3, left("S-1", "AA2")))
	require.Equal(t, int64(7), k.onHand("JAR"))
	v, err := k.Order(t.Context(), "S-1")
	require.NoError(t, err)
	require.Len(t, v.Shipments, 1)
	require.Equal(t, "AA2", v.Shipments[0].Tracking)
	require.Equal(t, "Ironway", v.Shipments[0].CarrierName)
	calls := k.sent("stall", "/parcels")
	require.Len(t, calls, 2, "the number, and its correction")
	require.Equal(t, "AA2", calls[1].body["tracking"])
	require.Equal(t, calls[0].body["reference"], calls[1].body["reference"], "it is the same parcel")
	require.NotEqual(t, calls[0].ref, calls[1].ref)
	require.Empty(t, k.exceptions())
	k.holds()
}

// TestACorrectedQuantityIsFollowed: fewer units left than was told, then more.
func TestACorrectedQuantityIsFollowed(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR", "LID")
	k.sell("S-1", units("JAR", 3), units("LID", 1))
	some := func(jars int64) message.Dispatch {
		return left("S-1", "AA1", message.DispatchLine{SKU: "JAR", Quantity: jars})
	}
	k.take("stall", event("dispatch", "d-1", 1, some(3)))
	require.Equal(t, "part shipped", k.stage("S-1"))
	k.take("stall", event("dispatch", "d-1", 2, some(1)))
	require.Equal(t, int64(8), k.onHand("JAR"))
	k.holds()
	k.take("stall", event("dispatch", "d-1", 3, some(2)))
	require.Equal(t, int64(7), k.onHand("JAR"))
	k.take("stall", event("dispatch", "d-1", 4, some(4)))
	require.Equal(t, int64(7), k.onHand("JAR"), "more than was ordered changes nothing")
	require.Equal(t, []string{engine.NotApplied}, k.causes())
	k.take("stall", event("dispatch", "d-2", 1, left("S-1", "AA2")))
	require.Equal(t, "shipped", k.stage("S-1"))
	k.holds()
}

// TestADispatchThatFitsNothingIsRaised: each says what came and what to do, and one bad one keeps back no other.
func TestADispatchThatFitsNothingIsRaised(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR")
	k.sell("S-1", units("JAR", 2))
	k.packed("S-1")
	k.sell("S-2", units("JAR", 1))
	k.sell("S-3", units("JAR", 1))
	k.take("stall", event("dispatch", "d-0", 1, left("S-0", "AA0")), event("dispatch", "d-1", 1, left("S-1", "AA1", message.DispatchLine{SKU: "JAR", Quantity: 2})),
		event("dispatch", "d-2", 1, left("S-2", "AA2", message.DispatchLine{SKU: "JAR", Quantity: 5})), event("dispatch", "d-3", 1, left("S-3", "AA3")))
	require.Equal(t, "shipped", k.stage("S-3"))
	texts := map[string]string{}
	for _, e := range k.exceptions() {
		require.Equal(t, engine.NotApplied, e.Cause)
		require.NotEmpty(t, e.Expected)
		texts[e.Subject] = e.Text
	}
	require.Len(t, texts, 3)
	require.Equal(t, "The stall says that order S-0 left with Ironway AA0, but there is no order S-0 here.", texts["d-0"])
	require.Contains(t, texts["d-1"], "2 × JAR of order O10001 are picked or packed here already")
	require.Contains(t, texts["d-2"], "only 1 × JAR of order O10002 wait to be picked")
	require.Equal(t, int64(8), k.onHand("JAR"))
	k.holds()
}

// TestADispatchBeforeItsOrderIsApplied: the parcel was told before the order came; it is applied by itself.
func TestADispatchBeforeItsOrderIsApplied(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR")
	k.take("stall", event("dispatch", "d-1", 1, left("S-1", "AA1")))
	require.Len(t, k.exceptions(), 1)
	k.sell("S-1", units("JAR", 2))
	k.later(time.Minute)
	k.settle()
	require.Equal(t, "shipped", k.stage("S-1"))
	require.Empty(t, k.exceptions())
	k.holds()
}
