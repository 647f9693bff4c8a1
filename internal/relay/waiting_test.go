package relay

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
)

// TestNoOrderWaitsBesideFreeStock: 250 orders wait; what arrives is enough for all. All are served, although the
// process ends after the first of them.
func TestNoOrderWaitsBesideFreeStock(t *testing.T) {
	k := newKit(t)
	k.stock(0, "JAR")
	const orders = 250
	var list []map[string]any
	for i := range orders {
		number := fmt.Sprintf("S-%d", i+1)
		o := sale(number, units("JAR", 1))
		o.PlacedAt = kitMorning.Add(time.Duration(orders-i) * time.Minute) // the last to come was sold first
		list = append(list, event("order", number, 1, o))
	}
	k.take("stall", list...)
	require.Equal(t, "held", k.stage("S-1"))
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1050, Reason: "found"}, "Edda"))
	require.Equal(t, "ready", k.stage("S-250"), "oldest sale first")
	findings, err := k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.Empty(t, findings, "the rest is under way")
	k.again()
	k.settle()
	for i := range orders {
		require.Equal(t, "ready", k.stage(fmt.Sprintf("S-%d", i+1)), i)
	}
	require.Empty(t, k.exceptions())
	k.holds()

	k.spoil("UPDATE level SET on_hand=on_hand-1 WHERE allocated>0") // only to see that verify looks
	findings, err = k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, findings)
}

// TestVerifyReportsAnOrderThatWaitsForWhatIsFree.
func TestVerifyReportsAnOrderThatWaitsForWhatIsFree(t *testing.T) {
	k := newKit(t)
	k.stock(0, "JAR")
	k.sell("S-1", units("JAR", 1))
	require.Equal(t, "held", k.stage("S-1"))
	k.holds()
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 5, Reason: "found"}, "Edda"))
	k.settle()
	k.holds() // the stall does not sell from Pier Nine
	k.spoil("UPDATE connection SET settings=json_set(settings,'$.offer.sources',json('[1,2]')) WHERE code='stall'")
	findings, err := k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.Len(t, findings, 1)
	require.Contains(t, findings[0].Text, "waits for 1 of JAR, of which 5 are free")
}

// TestManyOrdersGoOnWhenTheirListingIsKnown: more than one transaction's worth wait for a listing; all go on.
func TestManyOrdersGoOnWhenTheirListingIsKnown(t *testing.T) {
	k := newKit(t)
	var list []map[string]any
	const orders = 230
	for i := range orders {
		list = append(list, event("order", fmt.Sprintf("S-%d", i+1), 1, sale(fmt.Sprintf("S-%d", i+1), units("ODD", 1))))
	}
	k.take("stall", list...)
	require.Len(t, k.exceptions(), orders)
	k.stock(300, "ODD")
	k.settle()
	require.Empty(t, k.exceptions())
	for i := range orders {
		require.Equal(t, "ready", k.stage(fmt.Sprintf("S-%d", i+1)))
	}
	k.holds()
}

// TestOtherSourcesAreLookedAt: naming another place to sell from lets orders go on that were short.
func TestOtherSourcesAreLookedAt(t *testing.T) {
	k := newKit(t)
	k.stock(0, "JAR")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 5, Reason: "found"}, "Edda"))
	k.sell("S-1", units("JAR", 2))
	require.Equal(t, "held", k.stage("S-1"))
	set := *k.ByCode("stall").Settings()
	set.Offer.Sources = append(set.Offer.Sources, k.PlaceID("pier"))
	require.NoError(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"))
	k.settle()
	require.Equal(t, "ready", k.stage("S-1"))
	require.Empty(t, k.exceptions())

	set.Offer.Sources = nil
	require.ErrorContains(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"), "orders come in", "no order could be met")
	k.holds()
}

// TestAHandInNeedsAPlaceToSellFrom: a connection that hands in orders is not switched on without one.
func TestAHandInNeedsAPlaceToSellFrom(t *testing.T) {
	k := newKit(t)
	code, err := k.StartJoin(t.Context(), joining.NewJoin{Connector: "direct", Name: "By hand"}, "Edda")
	require.NoError(t, err)
	tested, err := k.TestAccess(t.Context(), code, joining.Access{}, "Edda")
	require.NoError(t, err)
	require.True(t, tested.LetIn)
	_, err = k.Confirm(t.Context(), code, tested.Identity.Number, true, "Edda")
	require.NoError(t, err)
	require.ErrorContains(t, k.SwitchOn(t.Context(), code, "Edda"), "Choose at least one location")
	set := *k.ByCode(code).Settings()
	set.Offer.Sources = []int64{k.PlaceID("alder")}
	require.NoError(t, k.SetSettings(t.Context(), code, set, 0, "Edda"))
	require.NoError(t, k.SwitchOn(t.Context(), code, "Edda"))
}
