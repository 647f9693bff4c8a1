package inventory_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// told is the quantity that a channel was last told.
func told(t *testing.T, k *trial.Kit, host, path string) float64 {
	t.Helper()
	calls := k.Sent(host, path)
	require.NotEmpty(t, calls)
	return calls[len(calls)-1].Body["quantity"].(float64)
}

// TestAnEditAtAChannel: by default ours is sent again; where the setting says so, the edit is taken in, and a sale there is
// not mistaken for one.
func TestAnEditAtAChannel(t *testing.T) {
	k := trial.New(t)
	k.Stock(8, "JAR")
	k.Listed("JAR")
	require.Equal(t, 8.0, told(t, k, "stall", "/stock"))
	before := len(k.Sent("stall", "/stock"))
	k.Take("stall", trial.Event("stock_level", "e-1", 1, message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 5, Cause: "edit",
		At: k.Now(), Who: "somebody"}))
	require.Equal(t, int64(8), level(k, t, "JAR", "alder").OnHand)
	require.Len(t, k.Sent("stall", "/stock"), before+1, "ours is said again")
	require.Equal(t, 8.0, told(t, k, "stall", "/stock"))

	c := k.ByCode("stall")
	set := *c.Settings()
	set.StockIn = "take in"
	require.NoError(t, k.SetSettings(t.Context(), "stall", set, c.Rec().Revision, "Edda"))
	k.Take("stall", trial.Event("stock_level", "e-2", 1, message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 6, Change: -2,
		Cause: "edit", At: k.Now(), Who: "somebody"}))
	require.Equal(t, int64(6), level(k, t, "JAR", "alder").OnHand)
	k.Take("stall", trial.Event("stock_level", "e-3", 1, message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 5, Change: -1,
		Cause: "sale", At: k.Now()}))
	require.Equal(t, int64(6), level(k, t, "JAR", "alder").OnHand, "sales come as orders")
	k.Holds()
}

// TestOffersFollowTheirPolicy: what is kept back, at most shown and not shown below a floor, and why.
func TestOffersFollowTheirPolicy(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	k.Listed("JAR")
	list, err := k.Store.FindListings(ctx, store.ListingFilter{Search: "JAR", Limit: 1})
	require.NoError(t, err)
	id := list[0].ID
	three, six, nine := int64(3), int64(6), int64(9)
	for _, c := range []struct {
		policy stock.Override
		shows  float64
	}{
		{stock.Override{Buffer: &three}, 7},
		{stock.Override{Cap: &six}, 6},
		{stock.Override{Buffer: &three, Floor: &nine}, 0},
		{stock.Override{}, 10},
	} {
		require.NoError(t, k.SetPolicy(ctx, id, c.policy, "Edda"))
		k.Settle()
		require.Equal(t, c.shows, told(t, k, "stall", "/stock"), "%+v", c.policy)
		why, err := k.WhyOffer(ctx, "stall", "JAR", time.Time{})
		require.NoError(t, err)
		require.Equal(t, int64(c.shows), why.Allowed)
		require.Equal(t, int64(c.shows), why.Shows)
		require.True(t, why.Known)
	}
	_, err = k.WhyOffer(ctx, "nowhere", "JAR", time.Time{})
	require.ErrorContains(t, err, "connection nowhere")
	_, err = k.WhyOffer(ctx, "stall", "CUP", time.Time{})
	require.Error(t, err)
	k.Holds()
}

// TestCompareFindsWhatAChannelShowsWrongly: and correcting sends ours.
func TestCompareFindsWhatAChannelShowsWrongly(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(7, "JAR")
	k.Listed("JAR")
	differ, compared, err := k.Compare(ctx, "stall")
	require.NoError(t, err)
	require.Equal(t, 1, compared)
	require.Empty(t, differ)
	k.Spoil("UPDATE listing SET seen_qty=2, told_qty=2")
	differ, _, err = k.Compare(ctx, "")
	require.NoError(t, err)
	require.Len(t, differ, 1)
	require.Equal(t, int64(7), differ[0].Should)
	n, err := k.Correct(ctx, "stall", "Edda")
	require.NoError(t, err)
	require.Equal(t, 1, n)
	k.Settle()
	require.Equal(t, 7.0, told(t, k, "stall", "/stock"))
	differ, _, err = k.Compare(ctx, "stall")
	require.NoError(t, err)
	require.Empty(t, differ)
}

// TestAKitShowsWhatItsPartsAllow: and selling one lowers both.
func TestAKitShowsWhatItsPartsAllow(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.Stock(4, "LID")
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "SET", Name: "A set", Kind: catalog.Kit, Price: 2500, Currency: "EUR",
		Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 1}}}, "Edda"))
	k.Listed("SET")
	require.Equal(t, 4.0, told(t, k, "stall", "/stock"))
	k.Sell("S-1", trial.Units("JAR", 4))
	require.Equal(t, 2.0, told(t, k, "stall", "/stock"), "five jars are left, two for each set")
	k.Sell("S-2", trial.Units("SET", 1))
	require.Equal(t, []int64{9, 6}, []int64{level(k, t, "JAR", "alder").OnHand, level(k, t, "JAR", "alder").Allocated})
	require.Equal(t, int64(1), level(k, t, "LID", "alder").Allocated)
	k.Holds()
}

// TestStockGoesFromBinToBin: the level stays, the bins change.
func TestStockGoesFromBinToBin(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(6, "JAR")
	require.NoError(t, k.Rebin(ctx, "JAR", "alder", "", "A1", 4, true, "Pim"))
	why, err := k.WhyLevel(ctx, "JAR", 0, k.Now())
	require.NoError(t, err)
	bins := map[string]int64{}
	for _, b := range why.Bins {
		bins[b.Bin] = b.OnHand
	}
	require.Equal(t, int64(4), bins["A1"])
	require.Equal(t, int64(6), level(k, t, "JAR", "alder").OnHand)
	require.Error(t, k.Rebin(ctx, "JAR", "alder", "A1", "B2", 5, false, "Pim"), "there are four")
	k.Holds()
}

// TestAPartnersCountOfItsOwnPlace is taken as it is said.
func TestAPartnersCountOfItsOwnPlace(t *testing.T) {
	k := trial.New(t)
	k.Stock(2, "JAR")
	k.Spoil("UPDATE location SET keeper=(SELECT id FROM connection WHERE code='stall') WHERE code='pier'")
	require.NoError(t, k.Reload(t.Context()))
	k.Take("stall", trial.Event("stock_level", "p-1", 1, message.StockLevel{SKU: "JAR", Location: "pier", Quantity: 30, At: k.Now()}))
	require.Equal(t, int64(30), level(k, t, "JAR", "pier").OnHand)
	require.Error(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 1, Reason: "found"}, "Edda"),
		"another keeps it")
	_, refused := engine.IsRefused(k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 1,
		Reason: "found"}, "Edda"))
	require.True(t, refused)
	k.Holds()
}
