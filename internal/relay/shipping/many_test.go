package shipping_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// many does one thing to many parcels and all that follows.
func many(t *testing.T, k *trial.Kit, action orders.ActionKind, parcels ...string) map[string]orders.BulkResult {
	t.Helper()
	d, err := k.ActOnParcels(t.Context(), action, parcels, "Pim")
	require.NoError(t, err)
	for range 20 {
		k.Later(time.Second)
		k.Settle()
		if d, err = k.BulkResult(t.Context(), d.ID); err != nil || d.State == store.JobDone {
			break
		}
	}
	require.NoError(t, err)
	require.Equal(t, store.JobDone, d.State)
	require.False(t, d.Undo)
	out := map[string]orders.BulkResult{}
	for _, r := range d.Results {
		out[r.Number] = r
	}
	return out
}

// TestManyParcelsEachForItself: of parcels that are shipped, voided and unpacked together, each has an outcome of its own.
func TestManyParcelsEachForItself(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR")
	var parcels []string
	for _, n := range []string{"S-1", "S-2", "S-3"} {
		k.Sell(n, trial.Units("JAR", 1))
		parcels = append(parcels, k.Packed(n))
	}
	_, err := k.ActOnParcels(t.Context(), orders.Tag, parcels, "Pim")
	require.ErrorContains(t, err, "is none of ship parcels, unpack parcels, void labels")
	_, err = k.ActOnParcels(t.Context(), shipping.ShipParcels, nil, "Pim")
	require.ErrorContains(t, err, "numbers are expected")
	require.NoError(t, k.Unpack(t.Context(), parcels[2], "Pim"))

	got := many(t, k, shipping.ShipParcels, append(parcels, "S-77")...)
	require.True(t, got[parcels[0]].OK)
	require.Equal(t, k.ParcelOf(parcels[0]).Tracking, got[parcels[0]].Text)
	require.True(t, got[parcels[1]].OK)
	require.Contains(t, got[parcels[2]].Text, "called off")
	require.Equal(t, "there is no such parcel", got["S-77"].Text)
	k.Holds()

	tracking := k.ParcelOf(parcels[0]).Tracking
	scanned(t, k, "T-1", k.ParcelOf(parcels[1]).Tracking, "accepted")
	got = many(t, k, shipping.VoidLabels, parcels...)
	require.Equal(t, tracking+" is voided; the parcel is packed", got[parcels[0]].Text)
	require.Contains(t, got[parcels[1]].Text, "has parcel "+parcels[1]+" already; only a return brings it back")
	require.Contains(t, got[parcels[2]].Text, "has no label; there is nothing to void")
	k.Holds()

	got = many(t, k, shipping.UnpackParcels, parcels...)
	require.True(t, got[parcels[0]].OK)
	require.Contains(t, got[parcels[1]].Text, "only a return brings it back")
	require.Equal(t, "picking", k.Stage("S-1"))
	k.Holds()
}

// TestALabelThatStaysIsSaid where a carrier does not void it.
func TestALabelThatStaysIsSaid(t *testing.T) {
	k, a, b := packedPair(t)
	got := many(t, k, shipping.ShipParcels, a, b)
	require.True(t, got[a].OK)
	require.True(t, got[b].OK, "it lies in the same carton")
	require.Len(t, k.Sent("ann", "/labels"), 1)
	k.On("ann", "/voids", refusing)
	got = many(t, k, shipping.VoidLabels, b)
	require.Equal(t, store.JobRefused, got[b].State)
	require.Equal(t, store.Gone, k.ParcelOf(a).State)
	k.Holds()
}

// TestTwoPromisesInOneCarton are no machine's to choose from: a person says by which service both are kept.
func TestTwoPromisesInOneCarton(t *testing.T) {
	k := trial.New(t, "ann")
	k.Learned()
	k.Stock(5, "JAR")
	swift := trial.Sale("S-2", trial.Units("JAR", 1))
	swift.RequestedService = "fast"
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Take("stall", trial.Event("order", "S-2", 1, swift))
	require.NoError(t, k.SendTogether(t.Context(), "S-1", []string{"S-2"}, "Pim"))
	a, b := k.Picked("S-1"), k.Picked("S-2")
	require.NoError(t, k.PackInto(a, "small"))
	got := many(t, k, shipping.ShipParcels, a, b)
	require.Contains(t, got[a].Text, "in the same carton was promised another service than order")
	require.Equal(t, store.JobRefused, got[b].State)
	require.NoError(t, k.Label(a, "ann"), "a person chose")
	require.Equal(t, []string{"shipped", "shipped"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Holds()
}
