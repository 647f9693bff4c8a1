package shipping_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// telling is what another tool tells of a parcel of ours by its number.
func telling(number, parcel, tracking string, lines ...message.DispatchLine) message.Dispatch {
	d := left(number, tracking, lines...)
	d.ParcelNumber = parcel
	return d
}

func tell(k *trial.Kit, version int, d message.Dispatch) {
	k.Take("stall", trial.Event("dispatch", "d-1", version, d))
}

// TestANumberOfAnotherToolShipsThePackedParcel, corrects it, takes it back, and ships it again.
func TestANumberOfAnotherToolShipsThePackedParcel(t *testing.T) {
	k, s := labelKit(t)
	tell(k, 1, left("S-1", "AA1"))
	p := k.ParcelOf(s)
	require.Equal(t, []any{store.Gone, "AA1", "Ironway", "shipped"}, []any{p.State, p.Tracking, p.CarrierName, k.Stage("S-1")})
	require.Equal(t, int64(3), k.OnHand("JAR"))
	require.Equal(t, s, told(t, k, "S-1").ParcelNumber)
	require.Empty(t, k.Causes())
	k.Holds()

	tell(k, 2, left("S-1", "AA2"))
	require.Equal(t, "AA2", k.ParcelOf(s).Tracking)
	require.Equal(t, []string{"AA2", s}, []string{told(t, k, "S-1").Tracking, told(t, k, "S-1").ParcelNumber})
	require.ErrorContains(t, askVoid(t, k, s), "Another tool told that parcel "+s+" left; correct it there")
	k.Holds()

	gone := left("S-1", "AA2")
	gone.Withdrawn = true
	tell(k, 3, gone)
	require.Equal(t, []string{store.ToShip, "packed"}, []string{k.ParcelOf(s).State, k.Stage("S-1")})
	require.Equal(t, int64(5), k.OnHand("JAR"))
	require.True(t, told(t, k, "S-1").Withdrawn)
	k.Holds()

	tell(k, 4, left("S-1", "AA3"))
	require.Equal(t, "AA3", k.ParcelOf(s).Tracking)
	require.Empty(t, k.Causes())
	k.Holds()
}

// TestWhatWasTakenBackIsShippedByOurOwnLabel: what the other tool still tells of it is raised beside our label.
func TestWhatWasTakenBackIsShippedByOurOwnLabel(t *testing.T) {
	k, s := labelKit(t)
	tell(k, 1, left("S-1", "AA1"))
	gone := left("S-1", "AA1")
	gone.Withdrawn = true
	tell(k, 2, gone)
	require.NoError(t, k.Label(s, "ann"))
	ours := k.ParcelOf(s).Tracking
	tell(k, 3, telling("S-1", s, "AA1"))
	require.Equal(t, ours, k.ParcelOf(s).Tracking)
	require.Equal(t, []order.Cause{engine.NotApplied}, k.Causes())
	require.NoError(t, askVoid(t, k, s), "it is our own label")
	k.Holds()
}

// TestTheParcelThatIsMeant is the one that is named, or the only one that holds just what is told.
func TestTheParcelThatIsMeant(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2), trial.Units("LID", 1))
	s := k.Picked("S-1")
	one := k.PackUnits(s, "small", map[string]int64{"JAR": 1})
	two := k.PackUnits(s, "small", map[string]int64{"JAR": 1, "LID": 1})
	tell(k, 1, left("S-1", "AA1", message.DispatchLine{SKU: "JAR", Quantity: 2}))
	require.Equal(t, []order.Cause{engine.NotApplied}, k.Causes(), "no parcel holds just that")
	require.Equal(t, "packed", k.Stage("S-1"))
	k.Take("stall", trial.Event("dispatch", "d-2", 1, left("S-1", "BB1", message.DispatchLine{SKU: "LID", Quantity: 1},
		message.DispatchLine{SKU: "JAR", Quantity: 1})))
	require.Equal(t, "BB1", k.ParcelOf(two).Tracking)
	k.Take("stall", trial.Event("dispatch", "d-3", 1, telling("S-1", one, "CC1")))
	require.Equal(t, "CC1", k.ParcelOf(one).Tracking)
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()

	// A typed number is corrected by whoever names the parcel.
	k.Sell("S-2", trial.Units("JAR", 1))
	other := k.Packed("S-2")
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "cart", Name: "Hand Cart"}, "Edda"))
	require.NoError(t, k.TypeNumber(t.Context(), other, shipping.Typed{Carrier: "cart", Number: "HC 1"}, "Pim"))
	k.Settle()
	k.Take("stall", trial.Event("dispatch", "d-4", 1, telling("S-2", other, "HC 2")))
	require.Equal(t, "HC 2", told(t, k, "S-2").Tracking)
	require.Equal(t, "HC 2", k.ParcelOf(other).Tracking)
	k.Holds()
}

// TestACartonOfTwoLeavesByAnotherTool: whichever order is told of, both channels hear of their own.
func TestACartonOfTwoLeavesByAnotherTool(t *testing.T) {
	k, a, b := packedPair(t)
	tell(k, 1, telling("S-2", b, "AA1"))
	require.Equal(t, []string{"AA1", "AA1"}, []string{told(t, k, "S-1").Tracking, told(t, k, "S-2").Tracking})
	require.Equal(t, []string{"shipped", "shipped"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	tell(k, 2, telling("S-2", b, "AA2"))
	require.Equal(t, []string{"AA2", "AA2"}, []string{k.ParcelOf(a).Tracking, k.ParcelOf(b).Tracking})
	require.Empty(t, k.Causes())
	k.Holds()
	gone := telling("S-2", b, "AA2")
	gone.Withdrawn = true
	tell(k, 3, gone)
	require.Equal(t, []string{store.ToShip, store.ToShip}, []string{k.ParcelOf(a).State, k.ParcelOf(b).State})
	k.Holds()
}
