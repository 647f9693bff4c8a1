package shipping_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
)

// TestAPartOfAKitThatIsAlsoSoldSingly is one row to take, and every scan of it counts.
func TestAPartOfAKitThatIsAlsoSoldSingly(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR", "LID")
	require.NoError(t, k.CreateItem(t.Context(), catalog.Item{SKU: "SET", Name: "Set", Kind: catalog.Kit, Price: 1500, Currency: "EUR",
		Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 1}}}, "Edda"))
	k.Sell("S-1", trial.Units("SET", 1), trial.Units("JAR", 1))
	s, err := k.StartPick(t.Context(), "S-1", "Pim")
	require.NoError(t, err)
	v, err := k.Shipment(t.Context(), s)
	require.NoError(t, err)
	require.Len(t, v.Wants, 2)
	require.Equal(t, int64(3), v.Wants[0].Quantity)
	require.Equal(t, "SET", v.Wants[0].KitSKU)
	for i := range 3 {
		_, err := k.Scan(t.Context(), s, "JAR", "", 1, "Pim")
		require.NoError(t, err, "scan %d", i+1)
	}
	_, err = k.Scan(t.Context(), s, "JAR", "", 1, "Pim")
	require.ErrorContains(t, err, "already complete (3 of 3)")
	_, err = k.Scan(t.Context(), s, "LID", "", 1, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.PackInto(s, "small"))
	require.Equal(t, "packed", k.Stage("S-1"))
	k.Holds()
}

// TestWhatIsPickedTooMuchIsPutBack: the channel lowers a line after it was picked; somebody is asked to put one back.
func TestWhatIsPickedTooMuchIsPutBack(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Bin: "A-01-1", Change: 3,
		Reason: "found"}, "Edda"))
	k.Sell("S-1", trial.Units("JAR", 3))
	k.Picked("S-1")
	k.Take("stall", trial.Event("order", "S-1", 2, trial.Sale("S-1", trial.Units("JAR", 2))))
	require.Equal(t, []order.Cause{engine.PutBack}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "Put back 1 × JAR")
	k.Take("stall", trial.Event("order", "S-1", 3, func() message.Order {
		o := trial.Sale("S-1", trial.Units("JAR", 2))
		o.Note = "thanks"
		return o
	}()))
	require.Len(t, k.Exceptions(), 1, "it stays until somebody did it")
	n, err := k.Attention.Settle(t.Context(), attention.GroupOf{Cause: engine.PutBack, Connection: "stall",
		Subject: k.Exceptions()[0].Subject}, "Pim")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestAParcelWithoutAWeightIsWeighed: nothing is priced as an empty carton.
func TestAParcelWithoutAWeightIsWeighed(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.AddItems(t.Context(),
		[]listing.Opening{{Item: catalog.Item{SKU: "FEATHER", Name: "Feather", Price: 100, Currency: "EUR"},
			Counts: map[int64]int64{k.PlaceID("alder"): 5}}}, "Edda"))
	k.Sell("S-1", trial.Units("FEATHER", 1))
	s := k.Picked("S-1")
	require.ErrorContains(t, k.PackInto(s, "small"), "no weight is known of FEATHER")
	_, err := k.Pack(t.Context(), s, shipping.Packing{Profile: "small", WeightG: 250}, "Pim")
	require.NoError(t, err)
	require.Equal(t, int64(250), k.ParcelOf(s).WeightG)
}

// TestOrdersAsTheyComeIn: countries are understood however they are written, places without a date are sorted by when
// the order came, and long texts are bounded.
func TestOrdersAsTheyComeIn(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	o := trial.Sale("S-1", trial.Units("JAR", 1))
	o.ShipTo.Country = " xw "
	o.PlacedAt = o.PlacedAt.Truncate(0)
	k.Take("stall", trial.Event("order", "S-1", 1, o))
	require.Equal(t, "ready", k.Stage("S-1"))

	zz := trial.Sale("S-2", trial.Units("JAR", 1))
	zz.ShipTo.Country = "ZZ"
	undated := trial.Sale("S-3", trial.Units("JAR", 1))
	undated.PlacedAt = trial.Morning.AddDate(-3000, 0, 0)
	undated.PlacedAt = message.Order{}.PlacedAt
	k.Take("stall", trial.Event("order", "S-2", 1, zz), trial.Event("order", "S-3", 1, undated))
	require.Equal(t, "held", k.Stage("S-2"))
	counts, err := k.Store.StageCounts(t.Context(), trial.Morning)
	require.NoError(t, err)
	for _, c := range counts {
		require.Positive(t, c.Oldest, c.Stage)
	}
	k.Holds()
}

// TestADispatchTellsTheOrdersPageNothingWrong: the order of a channel that takes no pushes is dispatched by a hand-in.
func TestADispatchTellsTheOrdersPageNothingWrong(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Take("stall", trial.Event("dispatch", "d-1", 1, left("S-1", "AA1")))
	v, err := k.Order(t.Context(), "S-1")
	require.NoError(t, err)
	require.Len(t, v.Versions, 1, "a dispatch is no version of the order")
}

// TestReadingListingsAgainChangesNothing.
func TestReadingListingsAgainChangesNothing(t *testing.T) {
	k := trial.New(t)
	k.Stock(5, "JAR")
	l := message.Listing{SKU: "JAR", Title: "A jar", Price: 1000, Currency: "EUR", Live: true, Quantity: 5}
	k.Take("stall", trial.Event("listing", "L-1", 1, l))
	k.Take("stall", trial.Event("listing", "L-1", 2, l))
	l.Price = 1100
	k.Take("stall", trial.Event("listing", "L-1", 3, l))
	runs, err := k.Store.Runs(t.Context(), "stall", 0, 10)
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Equal(t, []int64{3, 1, 1, 1}, []int64{runs[0].Found, runs[0].New, runs[0].Changed, runs[0].Skipped})
	require.Equal(t, "done", runs[0].State)
	require.NotZero(t, runs[0].EndedAt)
}

// TestALogSaysWhyEachWasSkipped.
func TestALogSaysWhyEachWasSkipped(t *testing.T) {
	k := trial.New(t)
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Push("stall", trial.Event("order", "S-1", 3, trial.Sale("S-1", trial.Units("JAR", 1))))
	k.Push("stall", trial.Event("order", "S-1", 2, trial.Sale("S-1", trial.Units("JAR", 1))))
	k.Settle()
	runs, err := k.Store.Runs(t.Context(), "stall", 0, 10)
	require.NoError(t, err)
	log, err := k.Store.RunLog(t.Context(), runs[0].ID)
	require.NoError(t, err)
	require.Len(t, log, 1)
	require.Equal(t, "S-1 skipped: older than what we have", log[0].Text)
}
