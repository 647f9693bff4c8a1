package shipping_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
)

func missing(code string, n int64) shipping.Missing { return shipping.Missing{Code: code, Quantity: n} }

// lineOf is the first line of an order, as it stands.
func lineOf(t *testing.T, k *trial.Kit, number string) *order.Line {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	return &o.Lines[0]
}

// TestWhatIsNotInItsBinLiesInAnother: the picker is sent there, and the first is to be counted.
func TestWhatIsNotInItsBinLiesInAnother(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(0, "JAR")
	for _, a := range []inventory.Adjustment{{Bin: "A-1", Change: 4}, {Bin: "B-7", Change: 9}} {
		a.SKU, a.Location, a.Reason = "JAR", "alder", "found"
		require.NoError(t, k.Adjust(ctx, a, "Edda"))
	}
	k.Sell("S-1", trial.Units("JAR", 3))
	number, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	out, err := k.ReportShort(ctx, number, shipping.Missing{Code: "JAR", Quantity: 3, Bin: "A-1"}, "Pim")
	require.NoError(t, err)
	require.Zero(t, out.Elsewhere+out.Waiting)
	require.Contains(t, out.Text, "3 × JAR: take them from bin B-7")
	require.EqualValues(t, 10, k.OnHand("JAR"))
	require.EqualValues(t, 3, lineOf(t, k, "S-1").Allocated, "they are still promised to it")
	require.Equal(t, []order.Cause{engine.CountBin}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "3 × JAR were not found in bin A-1")
	k.Packed("S-1")
	k.Holds()
}

// TestABinLacksNoMoreThanItShouldHave: the usual bin has fewer units than are wanted of it; only those are taken off the stock.
func TestABinLacksNoMoreThanItShouldHave(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(0, "JAR")
	for _, a := range []inventory.Adjustment{{Bin: "A-1", Change: 1}, {Bin: "B-7", Change: 9}} {
		a.SKU, a.Location, a.Reason = "JAR", "alder", "found"
		require.NoError(t, k.Adjust(ctx, a, "Edda"))
	}
	k.Sell("S-1", trial.Units("JAR", 3))
	number, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	out, err := k.ReportShort(ctx, number, shipping.Missing{Code: "JAR", Quantity: 3, Bin: "A-1"}, "Pim")
	require.NoError(t, err)
	require.EqualValues(t, 9, k.OnHand("JAR"), "one should have been there, and nine lie in the other bin")
	require.Equal(t, "B-7", out.Bin)
	it, err := k.Store.Item(ctx, "JAR")
	require.NoError(t, err)
	bins, err := k.Store.BinLevels(ctx, []int64{it.ID})
	require.NoError(t, err)
	for _, b := range bins {
		require.GreaterOrEqual(t, b.OnHand, int64(0), "%+v", b)
	}
	k.Holds()
}

// TestTheLastUnitIsNotThere: nothing is oversold meanwhile, and the order waits for what comes.
func TestTheLastUnitIsNotThere(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(2, "JAR")
	k.Listed("JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	number, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	_, err = k.Scan(ctx, number, "JAR", "", 1, "Pim")
	require.NoError(t, err)
	for want, m := range map[string]shipping.Missing{"1 × JAR are still to be picked, not 2": missing("JAR", 2),
		"at least 1": missing("JAR", 0), "not among what is picked": missing("LID", 1)} {
		_, err = k.ReportShort(ctx, number, m, "Pim")
		require.ErrorContains(t, err, want)
	}
	out, err := k.ReportShort(ctx, number, missing("JAR", 1), "Pim")
	require.NoError(t, err)
	require.EqualValues(t, 1, out.Waiting)
	require.Contains(t, out.Text, "1 × JAR wait, no place has them")
	l := lineOf(t, k, "S-1")
	require.Equal(t, []shipping.ShortLine{{Order: "O10001", Line: l.ID, Units: 1}}, out.Waits)
	require.EqualValues(t, []int64{1, 1}, []int64{l.Picked, l.Waiting()})
	require.EqualValues(t, 1, k.OnHand("JAR"))
	k.Holds()
	require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1, Reason: "found"}, "Edda"))
	k.Settle()
	require.Zero(t, lineOf(t, k, "S-1").Waiting())
	_, err = k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	k.Holds()
}

// TestAnotherPlaceSendsWhatIsNotThere: the units are planned anew, and its shipment can be picked at once.
func TestAnotherPlaceSendsWhatIsNotThere(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	set := *k.ByCode("stall").Settings()
	set.Offer.Sources = append(slices.Clone(set.Offer.Sources), k.PlaceID("pier"))
	require.NoError(t, k.SetSettings(ctx, "stall", set, 0, "Edda"))
	k.Stock(3, "JAR")
	k.Sell("S-1", trial.Units("JAR", 3))
	require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 5, Reason: "found"}, "Edda"))
	number, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	out, err := k.ReportShort(ctx, number, missing("JAR", 2), "Pim")
	require.NoError(t, err)
	require.EqualValues(t, 2, out.Elsewhere)
	require.Contains(t, out.Text, "2 × JAR are sent by another place")
	v, err := k.Order(ctx, "S-1")
	require.NoError(t, err)
	require.Len(t, v.Shipments, 2)
	require.EqualValues(t, 1, v.Shipments[0].Lines[0].Quantity)
	require.EqualValues(t, 2, v.Shipments[1].Lines[0].Quantity)
	require.Equal(t, k.PlaceID("pier"), v.Shipments[1].LocationID)
	again, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	require.Equal(t, number, again)
	k.Holds()
}

// TestAPartOfAKitIsNotThere: the whole kit waits; what was picked for it is put back.
func TestAPartOfAKitIsNotThere(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(4, "JAR")
	k.Stock(1, "LID")
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "SET", Name: "Set", Kind: catalog.Kit, Price: 1500, Currency: "EUR",
		Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 1}}}, "Edda"))
	k.Sell("S-1", trial.Units("SET", 1))
	number, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	_, err = k.Scan(ctx, number, "JAR", "", 2, "Pim")
	require.NoError(t, err)
	out, err := k.ReportShort(ctx, number, missing("LID", 1), "Pim")
	require.NoError(t, err)
	require.EqualValues(t, 1, out.Waiting)
	require.ElementsMatch(t, []order.Cause{engine.CountBin, engine.PutBack}, k.Causes())
	require.EqualValues(t, 1, lineOf(t, k, "S-1").Waiting())
	s, _ := shipmentOf(t, k, number)
	require.Equal(t, "called off", s.State)
	k.Holds()
}
