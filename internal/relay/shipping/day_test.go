package shipping_test

import (
	"encoding/json"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// manifest is the only list of a carrier.
func manifest(t *testing.T, k *trial.Kit) store.Manifest {
	t.Helper()
	list, err := k.Store.Manifests(t.Context(), 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	return list[0]
}

// TestADayIsClosedOnce: the carrier gets the list of what it takes, refuses it once, and gets it again.
func TestADayIsClosedOnce(t *testing.T) {
	k, s := labelKit(t)
	ctx := t.Context()
	require.NoError(t, k.Label(s, "ann"))
	m := manifest(t, k)
	assert.Equal(t, "open", m.State)
	assert.EqualValues(t, 1, m.Parcels)

	k.On("ann", "/manifests", func(trial.Call) (int, any) { return 422, map[string]any{"message": "the van has left"} })
	require.NoError(t, k.CloseManifest(ctx, m.ID, "Edda"))
	require.ErrorContains(t, k.CloseManifest(ctx, m.ID, "Edda"), "is closing", "it is on its way")
	k.Settle()
	assert.Equal(t, "open", manifest(t, k).State, "a refused list can be closed again")
	require.Equal(t, []order.Cause{engine.WriteBackRefused}, k.Causes())

	k.On("ann", "/manifests", func(c trial.Call) (int, any) {
		return 200, map[string]any{"id": "R-77", "parcels": len(c.Body["labels"].([]any))}
	})
	require.NoError(t, k.CloseManifest(ctx, m.ID, "Edda"))
	k.Settle()
	m = manifest(t, k)
	assert.Equal(t, "closed R-77", m.State+" "+m.Receipt)
	calls := k.Sent("ann", "/manifests")
	assert.Len(t, calls[len(calls)-1].Body["labels"], 1)
	require.ErrorContains(t, k.CloseManifest(ctx, m.ID, "Edda"), "is closed")
	require.ErrorIs(t, k.CloseManifest(ctx, 99, "Edda"), store.ErrNotFound)
	k.Holds()
}

// TestAHoldIsWavedThrough only where a person's word can end it, once, and by whoever saw the order as it is.
func TestAHoldIsWavedThrough(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(5, "JAR")
	sale := trial.Sale("S-1", trial.Units("JAR", 1))
	sale.Total += 300
	k.Take("stall", trial.Event("order", "S-1", 1, sale))
	require.Equal(t, "held", k.Stage("S-1"))
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.NotEmpty(t, o.Holds)
	cause := o.Holds[0].Cause
	require.ErrorContains(t, k.Release(ctx, "S-1", "no stock", "Edda", 0), "cannot be waved through")
	require.ErrorIs(t, k.Release(ctx, "S-1", cause, "Edda", o.Revision+1), store.ErrConflict)
	require.NoError(t, k.Release(ctx, "S-1", cause, "Edda", o.Revision))
	k.Settle()
	assert.Equal(t, "ready", k.Stage("S-1"))
	assert.Empty(t, k.Causes(), "what was raised ends with it")
	require.ErrorContains(t, k.Release(ctx, "S-1", cause, "Edda", 0), "is not held for")
	require.ErrorIs(t, k.Release(ctx, "S-9", cause, "Edda", 0), store.ErrNotFound)
	k.Holds()
}

// TestWhereAnOrderGoesIsChangedUntilItIsPacked, with an address that can be delivered to.
func TestWhereAnOrderGoesIsChangedUntilItIsPacked(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(5, "JAR")
	sale := trial.Sale("S-1", trial.Units("JAR", 1))
	sale.ShipTo.Street, sale.ShipTo.Postcode = "", ""
	k.Take("stall", trial.Event("order", "S-1", 1, sale))
	require.Equal(t, "held", k.Stage("S-1"))
	require.ErrorContains(t, k.Readdress(ctx, "S-1", place.Address{Name: "Maren Tolland", Country: "XW"}, "Edda", 0), "address: ")
	to := trial.Address
	to.Street = "  Lindenrow 16 "
	require.ErrorIs(t, k.Readdress(ctx, "S-1", to, "Edda", 99), store.ErrConflict)
	require.NoError(t, k.Readdress(ctx, "S-1", to, "Edda", 0))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Empty(t, k.Causes())
	s := k.Packed("S-1")
	require.ErrorContains(t, k.Readdress(ctx, "S-1", trial.Address, "Edda", 0),
		"is packed; what is packed and has no label is corrected on its parcel")
	require.NoError(t, k.Label(s, "ann"))
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	assert.Equal(t, "Lindenrow 16", o.ShipTo.Street)
	k.Holds()
}

// scanned is a carrier's word on a parcel.
func scanned(t *testing.T, k *trial.Kit, id, tracking, state string) {
	t.Helper()
	raw, err := json.Marshal(map[string]any{"scans": []any{map[string]any{"topic": "scan", "id": id, "tracking": tracking,
		"state": state, "text": "at Greywick", "at": "2026-11-24T10:00:00Z"}}})
	require.NoError(t, err)
	_, err = k.AcceptPush(t.Context(), "ann", http.Header{"Authorization": {"Bearer ann-key"}}, raw)
	require.NoError(t, err)
	k.Settle()
}

// TestAParcelArrives: an order is delivered with the last of its parcels; a parcel that nobody knows moves nothing.
func TestAParcelArrives(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.Label(s, "ann"))
	tracking := k.ParcelOf(s).Tracking
	scanned(t, k, "1", tracking, "under way")
	assert.Equal(t, store.Gone, k.ParcelOf(s).State)
	scanned(t, k, "2", "NOBODYS", "delivered")
	assert.Equal(t, "shipped", k.Stage("S-1"))
	scanned(t, k, "3", tracking, "delivered")
	assert.Equal(t, store.Arrived, k.ParcelOf(s).State)
	assert.NotZero(t, k.ParcelOf(s).DeliveredAt)
	assert.Equal(t, "delivered", k.Stage("S-1"))
	revision := k.ParcelOf(s).Revision
	scanned(t, k, "4", tracking, "delivered")
	assert.Equal(t, revision, k.ParcelOf(s).Revision, "told twice, arrived once")
	k.Holds()
}

// TestUnitsWithSerialNumbersArePackedByThem: as many as there are units, each once, those at hand, and unknown ones are said.
func TestUnitsWithSerialNumbersArePackedByThem(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	opening := listing.Opening{Item: catalog.Item{SKU: "SCALE", Name: "Hive scale", WeightG: 900, LengthMM: 100, WidthMM: 80, HeightMM: 40,
		Price: 9000, Currency: "EUR", Serials: true}, Counts: map[int64]int64{k.PlaceID("alder"): 4}}
	require.NoError(t, k.AddItems(ctx, []listing.Opening{opening}, "test"))
	picked := ""
	pack := func(serials ...string) error {
		w := shipping.Packing{Profile: "small", LetIn: true, Serials: map[string][]string{"SCALE": serials}}
		_, err := k.Pack(ctx, picked, w, "Pim")
		return err
	}
	k.Sell("S-1", trial.Units("SCALE", 2))
	picked = k.Picked("S-1")
	_, err := k.Pack(ctx, picked, shipping.Packing{Profile: "small", Serials: map[string][]string{"SCALE": {"SN-1", "SN-2"}}}, "Pim")
	require.ErrorContains(t, err, "serial number SN-1 of SCALE was not recorded when it was received")
	require.ErrorContains(t, pack("SN-1"), "scan 2, 1 were given")
	require.ErrorContains(t, pack("SN-1", "SN-2", "SN-3"), "1 serial numbers of SCALE are more than the parcel has units")
	require.ErrorContains(t, pack("SN-1", "SN-1"), "serial number SN-1 of SCALE is")
	require.ErrorContains(t, pack("SN-1", " "), "1 to 80 characters")
	require.NoError(t, pack("SN-1", "SN-2"))
	k.Sell("S-2", trial.Units("SCALE", 1))
	picked = k.Picked("S-2")
	require.ErrorContains(t, pack("SN-2"), "serial number SN-2 of SCALE is", "it goes with another order")
	require.NoError(t, pack("SN-3"))
	k.Holds()
}

// TestWhoWeAreThere is asked before anything is joined for good.
func TestWhoWeAreThere(t *testing.T) {
	k := trial.New(t, "ann")
	k.On("ann", "/who", func(trial.Call) (int, any) {
		return 200, map[string]any{"name": "Morrow Hive", "number": "4711", "country": "XW"}
	})
	id, err := k.Test(t.Context(), "ann")
	require.NoError(t, err)
	assert.Equal(t, "Morrow Hive 4711", id.Name+" "+id.Number)
	k.On("ann", "/who", func(trial.Call) (int, any) { return 401, map[string]any{"message": "unknown key"} })
	_, err = k.Test(t.Context(), "ann")
	require.Error(t, err)
	_, err = k.Test(t.Context(), "nobody")
	require.Error(t, err)
}
