package joining_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// imported waits until a first import has come to a state.
func imported(t *testing.T, k *trial.Kit, state string) joining.Import {
	t.Helper()
	var im joining.Import
	require.Eventually(t, func() bool {
		var err error
		im, err = k.FirstImport(t.Context(), "booth")
		require.NoError(t, err)
		return im.State == state || im.State == "failed"
	}, 20*time.Second, 5*time.Millisecond)
	require.Equal(t, state, im.State)
	return im
}

func counts(im joining.Import) map[string]int64 {
	out := map[string]int64{}
	for _, c := range im.Counts {
		out[string(c.Kind)+" "+c.Verdict] += c.Count
	}
	return out
}

// TestAFirstImportLooksThenBrings: nothing changes while it looks; one record that cannot be brought over keeps no other back.
func TestAFirstImportLooksThenBrings(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(4, "JAR")
	k.JoinBooth(nil)
	one := func(sku string, quantity int64) message.Listing {
		return message.Listing{SKU: sku, Title: "A " + sku, Price: 700, Currency: "EUR", Quantity: quantity, Live: true}
	}
	k.Has("/listings", trial.Record("B-1", 0, one("JAR", 9)), trial.Record("B-2", 0, one("CUP", 7)), trial.Record("B-3", 0, one("", 1)))
	k.Has("/customers", trial.Record("C-1", 0, message.Customer{Name: "Maren Tolland", Email: "maren@example.test"}),
		trial.Record("C-2", 0, map[string]any{"name": 7}))
	open := trial.Sale("B-100", trial.Units("JAR", 1))
	done := trial.Sale("B-99", trial.Units("JAR", 1))
	done.Status, done.State = message.Shipped, "shipped"
	k.Has("/orders", trial.Record("o-1", 1, open), trial.Record("o-2", 1, done))

	require.NoError(t,
		k.LookAtImport(ctx, "booth", joining.ImportChoices{Customers: true, Items: true, Stock: true, Orders: true}, "Edda"))
	im := imported(t, k, "looked")
	n, err := k.Store.FindListings(ctx, store.ListingFilter{Connection: "booth", Limit: 9})
	require.NoError(t, err)
	require.Empty(t, n, "looking changes nothing")
	require.NotEmpty(t, im.Counts)
	require.Error(t, k.LookAtImport(ctx, "nowhere", joining.ImportChoices{}, "Edda"))

	require.NoError(t, k.GoOnWithImport(ctx, "booth", "Edda"))
	im = imported(t, k, "done")
	k.Settle()
	t.Log(counts(im))
	n, err = k.Store.FindListings(ctx, store.ListingFilter{Connection: "booth", Limit: 9})
	require.NoError(t, err)
	require.Len(t, n, 3)
	cup, err := k.Store.Item(ctx, "CUP")
	require.NoError(t, err, "an item was made of the listing")
	levels, err := k.Store.Levels(ctx, []int64{cup.ID})
	require.NoError(t, err)
	for _, l := range levels {
		require.Equal(t, int64(7), l.OnHand, "what the channel shows is the opening stock")
	}
	require.Equal(t, "ready", k.Stage("B-100"))
	_, err = k.Store.OrderByNumber(ctx, "B-99")
	require.ErrorIs(t, err, store.ErrNotFound, "what is finished there is not taken up")
	require.Error(t, k.GoOnWithImport(ctx, "booth", "Edda"), "it is done")
	k.Holds()
}

// TestARecordThatBreaksDoesNotEndAFirstImport: an item that cannot be made of a listing is said beside it.
func TestARecordThatBreaksDoesNotEndAFirstImport(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(1, "JAR")
	k.JoinBooth(nil)
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "POT", Name: "A pot"}, "Edda"))
	k.Has("/listings", trial.Record("B-1", 0, message.Listing{SKU: "POT", Title: "A pot", Price: 1, Currency: "EUR", Live: true}),
		trial.Record("B-2", 0, message.Listing{SKU: "JAR", Title: "A jar", Price: 1, Currency: "EUR", Live: true}))
	k.Has("/customers")
	k.Has("/orders")
	require.NoError(t, k.LookAtImport(ctx, "booth", joining.ImportChoices{Items: true, Stock: true}, "Edda"))
	imported(t, k, "looked")
	k.Spoil(`CREATE TRIGGER broken BEFORE INSERT ON listing WHEN NEW.outside_id='B-1' BEGIN SELECT RAISE(ABORT,
		'the listing is cursed'); END`)
	require.NoError(t, k.GoOnWithImport(ctx, "booth", "Edda"))
	im := imported(t, k, "done")
	require.Equal(t, int64(1), counts(im)["listings in skipped"])
	reasons := ""
	for _, r := range im.Records {
		reasons += r.Reason + "\n"
	}
	require.Contains(t, reasons, "could not be brought over: ")
	n, err := k.Store.FindListings(ctx, store.ListingFilter{Connection: "booth", Limit: 9})
	require.NoError(t, err)
	require.Len(t, n, 1)
	k.Spoil("DROP TRIGGER broken")
	k.Holds()
}

// TestOpeningStockCountsWhatOpenOrdersHold: what a channel shows is what is left beside them.
func TestOpeningStockCountsWhatOpenOrdersHold(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.JoinBooth(nil)
	shown := func(sku string, n int64) message.Listing {
		return message.Listing{SKU: sku, Title: "A " + sku, Price: 700, Currency: "EUR", Quantity: n, Live: true}
	}
	k.Has("/listings", trial.Record("B-1", 0, shown("CUP", 4)), trial.Record("B-2", 0, shown("POT", 0)),
		trial.Record("B-3", 0, shown("LID", 6)))
	var orders []map[string]any
	for i := range 60 {
		o := trial.Sale(fmt.Sprintf("B-%d", 100+i), trial.Units("CUP", 3))
		if i == 59 {
			o.Lines[0].Quantity, o.Lines[0].Total = 2, 2*o.Lines[0].UnitPrice
			o.Total -= o.Lines[0].UnitPrice
		}
		orders = append(orders, trial.Record(fmt.Sprintf("o-%03d", i), 1, o))
	}
	pot := trial.Sale("B-200", trial.Units("POT", 1))
	pot.Lines[0].Listing = "B-2"
	done, off, theirs := trial.Sale("B-201", trial.Units("LID", 1)), trial.Sale("B-202", trial.Units("LID", 1)),
		trial.Sale("B-203", trial.Units("LID", 1))
	done.Status, off.Status, theirs.FulfilledBy = message.Shipped, message.Cancelled, message.ByChannel
	done.PlacedAt = done.PlacedAt.Add(-24 * time.Hour)
	for i, o := range []message.Order{pot, done, off, theirs} {
		orders = append(orders, trial.Record(fmt.Sprintf("p-%d", i), 1, o))
	}
	k.Has("/orders", orders...)
	require.NoError(t, k.LookAtImport(ctx, "booth", joining.ImportChoices{Items: true, Stock: true, Orders: true, History: true}, "Edda"))
	imported(t, k, "looked")
	require.NoError(t, k.GoOnWithImport(ctx, "booth", "Edda"))
	imported(t, k, "done")
	k.Settle()
	require.Equal(t, []int64{4 + 59*3 + 2, 1, 6}, []int64{k.OnHand("CUP"), k.OnHand("POT"), k.OnHand("LID")},
		"what is finished, cancelled or shipped by the channel holds nothing of ours")
	for i := range 60 {
		require.Equal(t, "ready", k.Stage(fmt.Sprintf("B-%d", 100+i)))
	}
	var why string
	k.Scalar(&why, "SELECT reason FROM movement WHERE kind='count' AND after_on_hand=183")
	require.Equal(t, "opening stock as The booth shows it, and 179 that its open orders hold", why)
	k.Holds()
}
