package shipping_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// lineNamed is a line of an order.
func lineNamed(t *testing.T, k *trial.Kit, number, sku string) (o *order.Order, l *order.Line) {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	for i := range o.Lines {
		if o.Lines[i].SKU == sku {
			return o, &o.Lines[i]
		}
	}
	t.Fatalf("order %s has no %s", number, sku)
	return nil, nil
}

func plan(t *testing.T, k *trial.Kit, kind shipping.PlanKind, to string, units map[string]int64) error {
	t.Helper()
	lines := map[int64]int64{}
	for sku, n := range units {
		_, l := lineNamed(t, k, "S-1", sku)
		lines[l.ID] = n
	}
	err := k.Plan(t.Context(), "S-1", shipping.HandPlan{Kind: kind, Lines: lines, To: to, Reason: "by truck"}, 0, "Edda")
	k.Settle()
	return err
}

// TestUnitsKeptBackAreSentLater: they are taken out of what is picked, the rest is sent, and let go they are picked again.
func TestUnitsKeptBackAreSentLater(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(5, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	first, err := k.StartPick(t.Context(), "S-1", "Pim")
	require.NoError(t, err)
	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 2}))
	v, err := k.Shipment(t.Context(), first)
	require.NoError(t, err)
	require.Equal(t, []int64{1, 1}, []int64{v.Wants[0].Quantity, v.Wants[1].Quantity})
	k.Holds()
	require.ErrorContains(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 3, "LID": 1}), "hold the order instead")

	require.NoError(t, k.PackInto(k.Picked("S-1"), "small"))
	require.NoError(t, k.Label(first, "ann"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	_, err = k.StartPick(t.Context(), "S-1", "Pim")
	require.ErrorContains(t, err, "nothing left to pick; kept back: 2 × JAR")
	require.Empty(t, toPick(t, k), "what is kept back is nothing to pick")
	k.Holds()

	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 0}))
	require.Equal(t, []string{"S-1"}, toPick(t, k), "the rest of an order of which a part left is to be picked")
	second := k.Packed("S-1")
	require.NotEqual(t, first, second)
	require.NoError(t, k.Label(second, "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}

// TestTheRestIsSentWhileUnitsWait: an order that is short of stock goes on without what is kept back; let go, it waits again.
func TestTheRestIsSentWhileUnitsWait(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(2, "JAR")
	k.Stock(1, "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	require.Equal(t, "held", k.Stage("S-1"))
	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 1}))
	require.Equal(t, "ready", k.Stage("S-1"))
	require.Empty(t, k.Causes(), "nothing is short any more")
	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 0}))
	require.Equal(t, []order.Cause{order.NoStock}, k.Causes())
	require.Equal(t, "held", k.Stage("S-1"))
	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 1}))
	first := k.Packed("S-1")
	require.NoError(t, k.Label(first, "ann"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 5, Reason: "came"}, "Edda"))
	k.Settle()
	_, l := lineNamed(t, k, "S-1", "JAR")
	require.Equal(t, int64(1), l.Allocated, "its stock is kept for it")
	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 0}))
	require.NoError(t, k.Label(k.Packed("S-1"), "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}

// toPick are the channels' numbers of what a packer has to pick.
func toPick(t *testing.T, k *trial.Kit) (numbers []string) {
	t.Helper()
	rows, err := k.Store.ListOrders(t.Context(), store.OrderFilter{Stages: []string{"ready", "routed", "picking", "part shipped"},
		ToPick: true, Limit: 10})
	require.NoError(t, err)
	for _, r := range rows {
		numbers = append(numbers, r.ChannelNumber)
	}
	return numbers
}

// TestUnitsAreSentFromAnotherPlace: what nobody picked moves to a place that has it free, and is picked there.
func TestUnitsAreSentFromAnotherPlace(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 3))
	require.ErrorContains(t, plan(t, k, shipping.MoveTo, "pier", map[string]int64{"JAR": 2}), "0 × JAR are free at")
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "pier", Change: 2, Reason: "found"}, "Edda"))
	require.Error(t, plan(t, k, shipping.MoveTo, "nowhere", map[string]int64{"JAR": 1}))
	first, err := k.StartPick(t.Context(), "S-1", "Pim")
	require.NoError(t, err)
	_, err = k.Scan(t.Context(), first, "JAR", "", 2, "Pim")
	require.NoError(t, err)
	require.ErrorContains(t, plan(t, k, shipping.MoveTo, "pier", map[string]int64{"JAR": 2}), "lie elsewhere and are not picked, not 2")
	require.NoError(t, plan(t, k, shipping.MoveTo, "pier", map[string]int64{"JAR": 1}))
	o, l := lineNamed(t, k, "S-1", "JAR")
	require.Len(t, l.Allocations, 2)
	list, err := k.Store.ShipmentsOfOrder(t.Context(), o.ID)
	require.NoError(t, err)
	require.Len(t, list, 2, "the other place begins, too")
	require.Equal(t, []int64{2, 1}, []int64{list[0].Lines[0].Quantity, list[1].Lines[0].Quantity})
	k.Holds()
	require.NoError(t, k.PackInto(first, "small"))
	_, err = k.Scan(t.Context(), list[1].Number, "JAR", "", 1, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.PackInto(list[1].Number, "small"))
	require.NoError(t, k.Label(first, "ann"))
	require.NoError(t, k.Label(list[1].Number, "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}

// TestAnOrderIsSplitByHand: a part is picked and packed apart, from the start or while it is picked.
func TestAnOrderIsSplitByHand(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	require.ErrorContains(t, plan(t, k, shipping.Split, "", map[string]int64{"JAR": 3, "LID": 1}), "that is all of it")
	require.ErrorContains(t, plan(t, k, shipping.Split, "", map[string]int64{"JAR": 4}), "3 × JAR of order")
	require.ErrorContains(t, plan(t, k, shipping.Split, "", map[string]int64{"JAR": 0}), "at least 1 unit")
	require.ErrorContains(t, plan(t, k, "dance", "", map[string]int64{"JAR": 1}), "is none of keep back, move, split")
	require.NoError(t, plan(t, k, shipping.Split, "", map[string]int64{"JAR": 2}))
	o, _ := lineNamed(t, k, "S-1", "JAR")
	list, err := k.Store.ShipmentsOfOrder(t.Context(), o.ID)
	require.NoError(t, err)
	require.Len(t, list, 2)
	k.Holds()
	for i, units := range []int64{2, 2} {
		var sum int64
		for _, l := range list[i].Lines {
			sum += l.Quantity
		}
		require.Equal(t, units, sum)
	}
	_, err = k.Scan(t.Context(), list[1].Number, "JAR", "", 2, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.PackInto(list[1].Number, "small"))
	require.NoError(t, k.Label(list[1].Number, "ann"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	k.CancelOrder("S-1")
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-1"), "the rest is cancelled")
	k.Holds()
}
