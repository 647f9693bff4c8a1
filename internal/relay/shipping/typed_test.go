package shipping_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestAParcelLeavesWithATypedNumber: a label that was bought elsewhere ships like any other, once, and the channel hears it.
func TestAParcelLeavesWithATypedNumber(t *testing.T) {
	k, s := labelKit(t)
	ctx := t.Context()
	barge := shipping.Typed{Carrier: "barge", Number: " BG  0117 ", Service: "Slow boat"}
	require.ErrorContains(t, k.TypeNumber(ctx, s, barge, "Pim"), `there is no carrier "barge" that is only named`)
	require.NoError(
		t,
		k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "barge", Name: "Barge", TrackingURL: "https://barge.example/{number}"},
			"Edda"),
	)
	require.ErrorContains(t, k.TypeNumber(ctx, s, shipping.Typed{Carrier: "barge", Number: "x"}, "Pim"), "3 to 80 characters")

	k.On("ann", "/labels", refusing)
	require.NoError(t, k.Label(s, "ann"))
	require.Equal(t, []order.Cause{engine.LabelRefused}, k.Causes())
	require.NoError(t, k.TypeNumber(ctx, s, barge, "Pim"))
	k.Settle()
	require.Empty(t, k.Causes(), "what was raised about labels is over")
	left := k.ParcelOf(s)
	require.Equal(t, store.Gone, left.State)
	require.Equal(t, []string{"Barge", "BG 0117", "https://barge.example/BG0117", "Slow boat"},
		[]string{left.CarrierName, left.Tracking, left.TrackingURL, left.ServiceName})
	require.Zero(t, left.ManifestID, "nobody is told of a manifest by a carrier that is only named")
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Equal(t, int64(3), k.OnHand("JAR"))
	var told message.Dispatch
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf("S-1", message.DispatchOut).Payload), &told))
	require.Equal(t, []string{"Barge", "BG 0117", "https://barge.example/BG0117"}, []string{told.Carrier, told.Tracking, told.TrackingURL})
	require.True(t, told.LastOfOrder)

	require.ErrorContains(t, k.TypeNumber(ctx, s, barge, "Pim"), "has BG 0117 already")
	k.Sell("S-2", trial.Units("JAR", 1))
	second := k.Packed("S-2")
	require.ErrorContains(t, k.TypeNumber(ctx, second, barge, "Pim"), "parcel "+s+" of order O10001 has BG 0117 already")
	k.CancelOrder("S-2")
	require.Error(t, k.TypeNumber(ctx, second, shipping.Typed{Carrier: "barge", Number: "BG 0118"}, "Pim"))
	k.Holds()
}

// TestAToldParcelIsFollowedByTheNameOfItsCarrier, where that is named here and the other side told no address.
func TestAToldParcelIsFollowedByTheNameOfItsCarrier(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "barge", Name: "Barge",
		TrackingURL: "https://barge.example/{number}"}, "Edda"))
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	told := left("S-1", "BG 7")
	told.Carrier = "BARGE"
	k.Take("stall", trial.Event("dispatch", "D-1", 1, told))
	require.Equal(t, "https://barge.example/BG7", k.ParcelOf("BG 7").TrackingURL)
	k.Holds()
}

// TestATypedNumberIsCorrected: nothing ships again, and the channel hears the other number under the same reference; also while
// the first is still on its way, and of each of several parcels with what lies in it.
func TestATypedNumberIsCorrected(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	require.NoError(t, k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "barge", Name: "Barge",
		TrackingURL: "https://barge.example/{number}"}, "Edda"))
	require.NoError(t, k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "ferry", Name: "Ferry"}, "Edda"))
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	number := k.Picked("S-1")
	k.PackUnits(number, "small", map[string]int64{"JAR": 2})
	require.NoError(t, k.PackInto(number, "small"))
	typed := func(parcel, carrier, n string) error {
		return k.TypeNumber(ctx, parcel, shipping.Typed{Carrier: carrier, Number: n}, "Pim")
	}
	require.NoError(t, typed(number, "barge", "BG 1"))
	require.NoError(t, typed(number, "barge", "BG 11"), "the first is still on its way")
	require.NoError(t, typed(number+"-2", "barge", "BG 2"))
	k.Settle()
	onHand := k.OnHand("JAR")
	require.ErrorContains(t, typed(number+"-2", "barge", "BG 11"), "has BG 11 already")
	require.ErrorContains(t, typed(number+"-2", "barge", "BG 2"), "has BG 2 already")
	require.NoError(t, typed(number+"-2", "ferry", "F 2"))
	k.Settle()
	require.Equal(t, onHand, k.OnHand("JAR"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	p := k.ParcelOf(number + "-2")
	require.Equal(t, []string{"F 2", "Ferry", ""}, []string{p.Tracking, p.CarrierName, p.TrackingURL})
	byRef := map[any]any{}
	for _, c := range k.Sent("stall", "/parcels") {
		byRef[c.Body["reference"]] = c.Body["tracking"]
	}
	require.Len(t, byRef, 2)
	require.Contains(t, byRef, any(k.Prefix+"-"+number))
	require.Equal(t, "BG 11", byRef[k.Prefix+"-"+number])
	require.Equal(t, "F 2", byRef[k.Prefix+"-"+number+"-2"])
	last := k.OutboxOf("S-1", message.DispatchOut).Payload
	require.Contains(t, last, `"sku":"LID"`)
	require.Contains(t, last, `"sku":"JAR","quantity":1`, "what lies in it, not what the shipment has")
	require.Empty(t, k.Exceptions())
	k.Holds()

	k.Sell("S-2", trial.Units("JAR", 1))
	bought := k.Packed("S-2")
	require.NoError(t, k.Label(bought, "ann"))
	require.ErrorContains(t, typed(bought, "barge", "BG 3"), "has left already", "a label that a carrier sold is not typed over")
}

// TestAChannelThatShowsTheParcelNeedNotBeAsked: its own record of the order confirms what it was told; with another number it does not.
func TestAChannelThatShowsTheParcelNeedNotBeAsked(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.JoinAsked()
	require.NoError(t, k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "barge", Name: "Barge"}, "Edda"))
	k.Stock(9, "JAR")
	sale := trial.Sale("S-1", trial.Units("JAR", 1))
	k.Take("asked", trial.Event("order", "S-1", 1, sale))
	p := k.Packed("S-1")
	require.NoError(t, k.TypeNumber(ctx, p, shipping.Typed{Carrier: "barge", Number: "BG 1"}, "Pim"))
	k.Settle()
	m := k.OutboxOf("S-1", message.DispatchOut)
	require.Equal(t, store.Sent, m.State, "it is read back later")
	var d message.Dispatch
	require.NoError(t, json.Unmarshal([]byte(m.Payload), &d))
	for version, number := range []string{"BG 0", "BG 1"} {
		sale.Parcels = []message.ParcelSeen{{Reference: d.Reference, Tracking: number}}
		k.Take("asked", trial.Event("order", "S-1", version+2, sale))
		want := map[string]string{"BG 0": store.Sent, "BG 1": store.Confirmed}[number]
		require.Equal(t, want, k.OutboxOf("S-1", message.DispatchOut).State)
	}
	require.Empty(t, k.Sent("asked", "/orders/S-1"), "nobody asked")
	k.Holds()
}
