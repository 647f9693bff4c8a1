package orders_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
)

// TestNoOrderWaitsBesideFreeStock: 250 orders wait; what arrives is enough for all. All are served, although the
// process ends after the first of them.
func TestNoOrderWaitsBesideFreeStock(t *testing.T) {
	k := trial.New(t)
	k.Stock(0, "JAR")
	const orders = 250
	var list []map[string]any
	for i := range orders {
		number := fmt.Sprintf("S-%d", i+1)
		o := trial.Sale(number, trial.Units("JAR", 1))
		o.PlacedAt = trial.Morning.Add(time.Duration(orders-i) * time.Minute) // the last to come was sold first
		list = append(list, trial.Event("order", number, 1, o))
	}
	k.Take("stall", list...)
	require.Equal(t, "held", k.Stage("S-1"))
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1050, Reason: "found"}, "Edda"))
	require.Equal(t, "ready", k.Stage("S-250"), "oldest sale first")
	findings, err := k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.Empty(t, findings, "the rest is under way")
	k.Again()
	k.Settle()
	for i := range orders {
		require.Equal(t, "ready", k.Stage(fmt.Sprintf("S-%d", i+1)), i)
	}
	require.Empty(t, k.Exceptions())
	k.Holds()

	k.Spoil("UPDATE level SET on_hand=on_hand-1 WHERE allocated>0") // only to see that verify looks
	findings, err = k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, findings)
}

// TestVerifyReportsAnOrderThatWaitsForWhatIsFree.
func TestVerifyReportsAnOrderThatWaitsForWhatIsFree(t *testing.T) {
	k := trial.New(t)
	k.Stock(0, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	require.Equal(t, "held", k.Stage("S-1"))
	k.Holds()
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 5, Reason: "found"}, "Edda"))
	k.Settle()
	k.Holds() // the stall does not sell from Pier Nine
	k.Spoil("UPDATE connection SET settings=json_set(settings,'$.offer.sources',json('[1,2]')) WHERE code='stall'")
	findings, err := k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.Len(t, findings, 1)
	require.Contains(t, findings[0].Text, "waits for 1 of JAR, of which 5 are free")
}

// TestManyOrdersGoOnWhenTheirListingIsKnown: more than one transaction's worth wait for a listing; all go on.
func TestManyOrdersGoOnWhenTheirListingIsKnown(t *testing.T) {
	k := trial.New(t)
	var list []map[string]any
	const orders = 230
	for i := range orders {
		list = append(list, trial.Event("order", fmt.Sprintf("S-%d", i+1), 1, trial.Sale(fmt.Sprintf("S-%d", i+1), trial.Units("ODD", 1))))
	}
	k.Take("stall", list...)
	require.Len(t, k.Exceptions(), orders)
	k.Stock(300, "ODD")
	k.Settle()
	require.Empty(t, k.Exceptions())
	for i := range orders {
		require.Equal(t, "ready", k.Stage(fmt.Sprintf("S-%d", i+1)))
	}
	k.Holds()
}

// TestOtherSourcesAreLookedAt: naming another place to sell from lets orders go on that were short.
func TestOtherSourcesAreLookedAt(t *testing.T) {
	k := trial.New(t)
	k.Stock(0, "JAR")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 5, Reason: "found"}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 2))
	require.Equal(t, "held", k.Stage("S-1"))
	set := *k.ByCode("stall").Settings()
	set.Offer.Sources = append(set.Offer.Sources, k.PlaceID("pier"))
	require.NoError(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"))
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Empty(t, k.Exceptions())

	set.Offer.Sources = nil
	require.ErrorContains(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"), "orders come in", "no order could be met")
	k.Holds()
}

// TestAHandInNeedsAPlaceToSellFrom: a connection that hands in orders is not switched on without one.
func TestAHandInNeedsAPlaceToSellFrom(t *testing.T) {
	k := trial.New(t)
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
