package inventory_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/trial"
)

// level is what lies, is promised, comes and is under way of an item at a place.
func level(k *trial.Kit, t *testing.T, sku, place string) stock.Level {
	t.Helper()
	it, err := k.Store.Item(t.Context(), sku)
	require.NoError(t, err)
	levels, err := k.Store.Levels(t.Context(), []int64{it.ID})
	require.NoError(t, err)
	return levels[stock.Key{Item: it.ID, Location: k.PlaceID(place)}]
}

// TestGoodsOfAPurchaseServeWhoWaits: an order that waits goes on with the first units that come; what was ordered and did
// not come is expected no longer when the purchase is closed.
func TestGoodsOfAPurchaseServeWhoWaits(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(0, "JAR")
	k.Sell("S-1", trial.Units("JAR", 3))
	require.Equal(t, "held", k.Stage("S-1"))
	number, err := k.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Clay works", Location: "alder",
		Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 10}}}, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(10), level(k, t, "JAR", "alder").OnOrder)

	_, err = k.Receive(ctx, number, []inventory.Arrival{{Code: "JAR", Quantity: 2}}, "Pim")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, "held", k.Stage("S-1"), "two are too few")
	_, err = k.Receive(ctx, number, []inventory.Arrival{{Code: "JAR"}}, "Pim")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, "ready", k.Stage("S-1"))
	l := level(k, t, "JAR", "alder")
	require.Equal(t, []int64{3, 3, 7}, []int64{l.OnHand, l.Allocated, l.OnOrder})

	_, err = k.Receive(ctx, number, []inventory.Arrival{{Code: "JAR", Quantity: 8}}, "Pim")
	require.ErrorContains(t, err, "JAR", "more than was ordered needs a word")
	_, err = k.Receive(ctx, number, []inventory.Arrival{{Code: "JAR", Quantity: 8, Over: true}}, "Pim")
	require.NoError(t, err)
	require.Equal(t, int64(0), level(k, t, "JAR", "alder").OnOrder)
	require.Equal(t, int64(11), level(k, t, "JAR", "alder").OnHand)
	k.Holds()

	second, err := k.AddPurchase(ctx, inventory.NewPurchase{Supplier: "Clay works", Location: "alder",
		Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 4}}}, "Edda")
	require.NoError(t, err)
	require.NoError(t, k.ClosePurchase(ctx, second, "Edda"))
	require.Equal(t, int64(0), level(k, t, "JAR", "alder").OnOrder)
	require.Error(t, k.ClosePurchase(ctx, second, "Edda"))
	k.Holds()
}

// TestATransferIsNowhereTwice: what was sent lies nowhere until it arrives; what was lost on the way is written off.
func TestATransferIsNowhereTwice(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	number, err := k.AddTransfer(ctx,
		inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 5}}}, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(9), level(k, t, "JAR", "alder").OnHand, "nothing moves before it is sent")
	require.NoError(t, k.SendTransfer(ctx, number, "Edda"))
	require.Equal(t, int64(4), level(k, t, "JAR", "alder").OnHand)
	require.Equal(t, []int64{0, 5}, []int64{level(k, t, "JAR", "pier").OnHand, level(k, t, "JAR", "pier").InTransit})
	require.NoError(t, k.ArriveTransfer(ctx, number, []inventory.Arrival{{Code: "JAR", Quantity: 3}}, "Pim"))
	require.Equal(t, []int64{3, 2}, []int64{level(k, t, "JAR", "pier").OnHand, level(k, t, "JAR", "pier").InTransit})
	require.Error(t, k.LoseTransfer(ctx, number, "", "Edda"), "a loss needs a reason")
	require.NoError(t, k.LoseTransfer(ctx, number, "fell off", "Edda"))
	require.Equal(t, []int64{3, 0}, []int64{level(k, t, "JAR", "pier").OnHand, level(k, t, "JAR", "pier").InTransit})

	k.Sell("S-1", trial.Units("JAR", 4))
	short, err := k.AddTransfer(ctx,
		inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{{SKU: "JAR", Quantity: 1}}}, "Edda")
	require.NoError(t, err)
	require.Error(t, k.SendTransfer(ctx, short, "Edda"), "what is promised is not sent away")
	require.NoError(t, k.DropTransfer(ctx, short, "Edda"))
	k.Holds()
}

// TestACountLeavesAloneWhatMovesMeanwhile: the difference is booked against what should have lain there when it was counted.
func TestACountLeavesAloneWhatMovesMeanwhile(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR", "LID")
	number, err := k.StartCount(ctx, "alder", "", "Pim")
	require.NoError(t, err)
	_, err = k.CountItem(ctx, number, inventory.Counted{Code: "JAR", Quantity: 5}, "Pim")
	require.NoError(t, err)
	c, err := k.CountItem(ctx, number, inventory.Counted{Code: "JAR", Quantity: 3, Add: true}, "Pim")
	require.NoError(t, err)
	require.Equal(t, int64(1), int64(len(c.Lines)))
	_, err = k.CountItem(ctx, number, inventory.Counted{Code: "LID", Quantity: 99}, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.Uncount(ctx, number, "LID", ""))
	require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 4, Reason: "came in meanwhile"}, "Edda"))
	require.NoError(t, k.PostCount(ctx, number, "yearly", "Edda"))
	require.Equal(t, int64(12), level(k, t, "JAR", "alder").OnHand, "8 of 10 were there, and 4 came")
	require.Equal(t, int64(10), level(k, t, "LID", "alder").OnHand)
	require.Error(t, k.PostCount(ctx, number, "again", "Edda"))
	why, err := k.WhyLevel(ctx, "JAR", 0, k.Now())
	require.NoError(t, err)
	require.Equal(t, "yearly", why.Movements[0].Reason)
	k.Holds()
}

// TestWhatCannotBeHandledIsRefused: each refusal names what was wrong and changes nothing.
func TestWhatCannotBeHandledIsRefused(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(3, "JAR")
	one := []inventory.Quantity{{SKU: "JAR", Quantity: 1}}
	for name, do := range map[string]func() error{
		"supplier": func() error {
			_, err := k.AddPurchase(ctx, inventory.NewPurchase{Location: "alder", Lines: one}, "Edda")
			return err
		},
		"nowhere": func() error {
			_, err := k.AddPurchase(ctx, inventory.NewPurchase{Supplier: "C", Location: "nowhere", Lines: one}, "Edda")
			return err
		},
		"CUP": func() error {
			_, err := k.AddTransfer(ctx,
				inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{{SKU: "CUP", Quantity: 1}}}, "Edda")
			return err
		},
		"itself": func() error {
			_, err := k.AddTransfer(ctx, inventory.NewTransfer{From: "alder", To: "alder", Lines: one}, "Edda")
			return err
		},
		"quantity": func() error {
			_, err := k.AddTransfer(ctx,
				inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{{SKU: "JAR", Quantity: -1}}}, "Edda")
			return err
		},
		"reason": func() error {
			return k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1}, "Edda")
		},
		"3": func() error {
			return k.Adjust(ctx, inventory.Adjustment{SKU: "JAR", Location: "alder", Change: -4, Reason: "broken"}, "Edda")
		},
	} {
		require.ErrorContains(t, do(), name)
	}
	require.Equal(t, int64(3), level(k, t, "JAR", "alder").OnHand)
	k.Holds()
}
