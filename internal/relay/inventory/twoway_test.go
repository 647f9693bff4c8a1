package inventory_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/trial"
)

// takesIn sets that a quantity which the stall tells counts as ours.
func takesIn(t *testing.T, k *trial.Kit) {
	t.Helper()
	c := k.ByCode("stall")
	set := *c.Settings()
	set.StockIn = "take in"
	require.NoError(t, k.SetSettings(t.Context(), "stall", set, c.Rec().Revision, "Edda"))
	k.Settle()
}

// requireSkipped says that the message of an outside number was left alone, and why.
func requireSkipped(t *testing.T, k *trial.Kit, id, why string) {
	t.Helper()
	state, reason := k.Outcome(id)
	require.Equal(t, "skipped", state, id)
	require.Contains(t, reason, why, id)
}

// edit is word of a quantity that somebody set at the stall.
func edit(id string, l message.StockLevel) map[string]any {
	if l.Cause == "" {
		l.Cause = "edit"
	}
	return trial.Event("stock_level", id, 1, l)
}

// TestWhatATellingOfAQuantityCannotMean: each says why nothing was done, and no stock moves.
func TestWhatATellingOfAQuantityCannotMean(t *testing.T) {
	k := trial.New(t)
	k.Stock(8, "JAR")
	k.Listed("JAR")
	k.Take("stall", trial.Event("listing", "L-LOOSE", 1, message.Listing{SKU: "LOOSE", Title: "Nobody's", Price: 100,
		Currency: "EUR", Live: true}))
	takesIn(t, k)
	for id, c := range map[string]struct {
		told message.StockLevel
		why  string
	}{
		"e-sale":    {message.StockLevel{SKU: "JAR", Quantity: 7, Cause: "sale"}, "no edit: sale"},
		"e-ours":    {message.StockLevel{SKU: "JAR", Quantity: 7, Cause: "ours"}, "no edit: ours"},
		"e-unknown": {message.StockLevel{SKU: "CUP", Quantity: 7}, "no listing with SKU CUP"},
		"e-loose":   {message.StockLevel{SKU: "LOOSE", Listing: "L-LOOSE", Quantity: 7}, "listing L-LOOSE is not matched"},
		"e-nowhere": {message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 7, Location: "moon"}, "moon"},
	} {
		c.told.At = k.Now()
		k.Take("stall", edit(id, c.told))
		requireSkipped(t, k, id, c.why)
	}
	require.Equal(t, int64(8), level(k, t, "JAR", "alder").OnHand)
	k.Holds()
}

// TestAnEditWhileOursIsOnItsWay: by how much it was changed cannot be told; ours is put back and a person counts.
func TestAnEditWhileOursIsOnItsWay(t *testing.T) {
	k := trial.New(t)
	k.Stock(8, "JAR")
	k.Listed("JAR")
	takesIn(t, k)
	k.Take("stall", edit("e-1", message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 5, At: k.Now(), Who: "Somebody there"}))
	require.Equal(t, int64(8), level(k, t, "JAR", "alder").OnHand)
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.EditUnclear, open[0].Cause)
	require.Contains(t, open[0].Text, "Somebody there set JAR to 5 at The stall")
	require.Equal(t, 8.0, told(t, k, "stall", "/stock"))

	number, err := k.StartCount(t.Context(), "alder", "", "Pim")
	require.NoError(t, err)
	_, err = k.CountItem(t.Context(), number, inventory.Counted{Code: "JAR", Quantity: 5}, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.PostCount(t.Context(), number, "", "Pim"))
	k.Settle()
	require.Empty(t, k.Exceptions(), "it was counted")
	require.Equal(t, 5.0, told(t, k, "stall", "/stock"))
	k.Holds()
}

// TestAnEditIsClearOnceNothingElseMoves: long after the last word of ours, and with orders read since, what the channel
// shows less what it was told is the change.
func TestAnEditIsClearOnceNothingElseMoves(t *testing.T) {
	k := trial.New(t)
	k.Stock(8, "JAR", "LID")
	k.Listed("JAR")
	takesIn(t, k)
	k.Later(time.Minute)
	edited := k.Now()
	k.Later(time.Minute)
	k.Sell("S-1", trial.Units("LID", 1)) // orders are known up to now
	k.Take("stall", edit("e-1", message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 5, At: edited}))
	require.Empty(t, k.Exceptions())
	require.Equal(t, int64(5), level(k, t, "JAR", "alder").OnHand)
	require.Equal(t, 5.0, told(t, k, "stall", "/stock"))
	why, err := k.WhyLevel(t.Context(), "JAR", 0, time.Time{})
	require.NoError(t, err)
	require.Equal(t, "set to 5 at The stall by somebody there", why.Movements[0].Reason)
	k.Holds()
}

// TestAnEditOfWhatHasNoStock is put back, since there is nothing that could be changed.
func TestAnEditOfWhatHasNoStock(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	require.NoError(
		t,
		k.CreateItem(t.Context(), catalog.Item{SKU: "SIX", Name: "Six jars", Kind: catalog.Kit, Price: 5000, Currency: "EUR",
			Parts: []catalog.Part{{SKU: "JAR", Quantity: 3}}}, "Edda"),
	)
	k.Listed("SIX")
	takesIn(t, k)
	before := len(k.Sent("stall", "/stock"))
	k.Take("stall", edit("e-1", message.StockLevel{SKU: "SIX", Listing: "L-SIX", Quantity: 1, Change: -2, At: k.Now()}))
	require.Equal(t, int64(9), level(k, t, "JAR", "alder").OnHand)
	require.Len(t, k.Sent("stall", "/stock"), before+1)
	require.Equal(t, 3.0, told(t, k, "stall", "/stock"))
	k.Holds()
}

// TestTheWordOfAnotherCountsThere: where one system keeps a place, an edit at a channel does not change it.
func TestTheWordOfAnotherCountsThere(t *testing.T) {
	k := trial.New(t)
	k.Stock(4, "JAR")
	k.Listed("JAR")
	k.JoinBooth(nil)
	takesIn(t, k)
	k.Spoil("UPDATE location SET keeper=(SELECT id FROM connection WHERE code='booth') WHERE code='alder'")
	require.NoError(t, k.Reload(t.Context()))
	k.Take("stall", edit("e-1", message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 1, Change: -3, At: k.Now()}))
	requireSkipped(t, k, "e-1", "the word of another system counts at Alder Yard")
	require.Equal(t, int64(4), level(k, t, "JAR", "alder").OnHand)
}

// TestATestConnectionMovesNoStock: what is told there is a test as well.
func TestATestConnectionMovesNoStock(t *testing.T) {
	k := trial.New(t)
	k.Stock(4, "JAR")
	k.Listed("JAR")
	takesIn(t, k)
	k.Spoil("UPDATE connection SET test=1 WHERE code='stall'")
	require.NoError(t, k.RemakeAll(t.Context()))
	require.NoError(t, k.Reload(t.Context()))
	k.Take("stall", edit("e-1", message.StockLevel{SKU: "JAR", Listing: "L-JAR", Quantity: 1, Change: -3, At: k.Now()}))
	requireSkipped(t, k, "e-1", "the connection is in test")
	require.Equal(t, int64(4), level(k, t, "JAR", "alder").OnHand)
	k.Holds()
}

// TestAQuantityThatNobodySentIsNoticed: a channel that is read shows another number twice; ours is sent again, or, by
// setting, its change is taken in.
func TestAQuantityThatNobodySentIsNoticed(t *testing.T) {
	for name, take := range map[string]bool{"put back": false, "taken in": true} {
		t.Run(name, func(t *testing.T) {
			k := trial.New(t)
			k.Stock(8, "JAR")
			set := map[string]any{}
			if take {
				set["stock_in"] = "take in"
			}
			shown := map[string]any{"sku": "JAR", "title": "A JAR", "price": 1000, "currency": "EUR", "live": true, "quantity": 8}
			k.JoinBooth(set)
			k.Has("/orders")
			k.Has("/customers")
			k.Has("/listings", trial.Record("B-JAR", 1, shown))
			read := func() {
				for _, f := range []message.Feed{message.OrdersIn, message.ListingsIn} {
					k.Run(k.ByCode("booth"), engine.RunRequest{Kind: f, Cause: "schedule"})
				}
				k.Settle()
			}
			read()
			require.Equal(t, 8.0, told(t, k, "booth", "/stock"))
			before := len(k.Sent("booth", "/stock"))
			shown["quantity"] = 6
			for range 4 {
				k.Later(5 * time.Minute)
				read()
			}
			require.Greater(t, len(k.Sent("booth", "/stock")), before)
			want := map[bool]int64{false: 8, true: 6}[take]
			require.Equal(t, want, level(k, t, "JAR", "alder").OnHand)
			require.Equal(t, float64(want), told(t, k, "booth", "/stock"))
			k.Holds()
		})
	}
}

// TestACountOfAPlaceThatAnotherKeeps is booked by item number where the listing is not named; what it cannot be about is
// told.
func TestACountOfAPlaceThatAnotherKeeps(t *testing.T) {
	k := trial.New(t)
	k.Stock(2, "JAR")
	k.Spoil("UPDATE location SET keeper=(SELECT id FROM connection WHERE code='stall') WHERE code='pier'")
	require.NoError(t, k.Reload(t.Context()))
	count := func(id, sku string, n int64) {
		k.Take("stall", trial.Event("stock_level", id, 1, message.StockLevel{SKU: sku, Location: "pier", Quantity: n, At: k.Now()}))
	}
	count("c-1", "JAR", 12)
	require.Equal(t, int64(12), level(k, t, "JAR", "pier").OnHand)
	count("c-2", "JAR", 12) // the same again moves nothing
	why, err := k.WhyLevel(t.Context(), "JAR", 0, time.Time{})
	require.NoError(t, err)
	require.Equal(t, "counted as 12 by The stall", why.Movements[0].Reason)
	moves := len(why.Movements)
	count("c-3", "CUP", 5)
	requireSkipped(t, k, "c-3", "no item with SKU CUP")
	why, err = k.WhyLevel(t.Context(), "JAR", 0, time.Time{})
	require.NoError(t, err)
	require.Len(t, why.Movements, moves)
	require.ErrorContains(t, k.Rebin(t.Context(), "JAR", "pier", "", "A1", 1, false, "Pim"), "The stall keeps the count of Pier Nine")
	_, err = k.AddPurchase(t.Context(), inventory.NewPurchase{Supplier: "Clay works", Location: "pier",
		Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 1}}}, "Edda")
	require.ErrorContains(t, err, "change it there")
	k.Holds()
}

// levelOf is an edit by so many units at the stall, which shows so many since.
func levelOf(sku string, by, shows int64, k *trial.Kit) message.StockLevel {
	return message.StockLevel{SKU: sku, Listing: "L-" + sku, Change: by, Quantity: shows, At: k.Now()}
}
