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

	require.ErrorContains(t, k.TypeNumber(ctx, s, barge, "Pim"), "has left already")
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
