package shipping_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestTwoHundredLines are picked, packed into many cartons, partly cancelled on the way, shipped, voided and shipped again.
func TestTwoHundredLines(t *testing.T) {
	k := trial.New(t, "ann")
	var skus []string
	var lines []message.OrderLine
	for i := range 200 {
		skus = append(skus, fmt.Sprintf("ITEM-%03d", i))
		lines = append(lines, trial.Units(skus[i], 1))
	}
	k.Stock(2, skus...)
	k.Sell("S-1", lines...)
	require.Equal(t, "ready", k.Stage("S-1"))
	s := k.Picked("S-1")
	p, err := k.Propose(t.Context(), s)
	require.NoError(t, err)
	require.Empty(t, p.Unfit)
	require.Greater(t, len(p.Cartons), 3)
	for i, c := range p.Cartons {
		if i == 2 { // ten lines that lie in no carton yet are cancelled meanwhile
			o, err := k.Store.OrderByNumber(t.Context(), "S-1")
			require.NoError(t, err)
			gone := map[int64]int64{}
			for j := range o.Lines {
				if l := &o.Lines[j]; l.Picked == 1 && len(gone) < 10 {
					gone[l.ID] = 1
				}
			}
			require.Len(t, gone, 10)
			require.NoError(t, k.CancelUnits(t.Context(), "S-1", orders.Cancelling{Reason: "mistaken", Lines: gone}, 0, "Edda"))
			k.Settle()
			k.Holds()
		}
		units := map[string]int64{}
		v, err := k.Shipment(t.Context(), s)
		require.NoError(t, err)
		for _, w := range v.Wants {
			if c.Units[w.SKU] > 0 && w.Quantity > w.Packed {
				units[w.SKU] = 1
			}
		}
		if len(units) > 0 {
			k.PackUnits(s, c.Profile.Code, units)
		}
	}
	require.Equal(t, "packed", k.Stage("S-1"))
	k.Holds()
	v, err := k.Shipment(t.Context(), s)
	require.NoError(t, err)
	var units int64
	for _, x := range v.Parcels {
		require.NoError(t, k.Label(x.Number, "ann"))
		for _, l := range x.Lines {
			units += l.Quantity
		}
	}
	require.Equal(t, int64(190), units)
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
	last := v.Parcels[len(v.Parcels)-1].Number
	require.NoError(t, askVoid(t, k, last))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	require.NoError(t, k.Label(last, "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	var told int64
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	for i := range o.Lines {
		told += o.Lines[i].Shipped
	}
	require.Equal(t, int64(190), told)
	k.Holds()
}

// TestTheLastUnitIsShortAndSoldElsewhere: it is not in its bin while another channel sells it; nothing is sold twice, each of the two
// orders knows that it waits, and the next receipt goes to whoever was first.
func TestTheLastUnitIsShortAndSoldElsewhere(t *testing.T) {
	k := trial.New(t)
	k.Stock(2, "JAR")
	k.Listed("JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	s, err := k.StartPick(t.Context(), "S-1", "Pim")
	require.NoError(t, err)
	k.Push("stall", trial.Event("order", "S-2", 1, trial.Sale("S-2", trial.Units("JAR", 1)))) // sold, and on its way to us
	_, err = k.ReportShort(t.Context(), s, missing("JAR", 1), "Pim")
	require.NoError(t, err)
	k.Settle()
	_, one := lineNamed(t, k, "S-1", "JAR")
	_, two := lineNamed(t, k, "S-2", "JAR")
	require.Equal(t, int64(1), one.Allocated+two.Allocated, "one unit is there, and promised once")
	require.Equal(t, int64(1), one.Waiting()+two.Waiting())
	require.Equal(t, int64(1), k.OnHand("JAR"))
	k.Holds()
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1, Reason: "came"}, "Edda"))
	k.Settle()
	for _, n := range []string{"S-1", "S-2"} {
		k.Packed(n)
		require.Equal(t, "packed", k.Stage(n))
	}
	require.NotContains(t, k.Causes(), order.NoStock)
	k.Holds()
}

// TestWhatTravelledTogetherComesBackApart: a unit of one order of a carton comes back with that order's return, never with the other's.
func TestWhatTravelledTogetherComesBackApart(t *testing.T) {
	k, a, _ := packedPair(t)
	require.NoError(t, k.Label(a, "ann"))
	o, _ := lineNamed(t, k, "S-2", "LID")
	_, err := k.AnnounceReturn(t.Context(), returning.NewReturn{Order: k.ParcelOf(a).Tracking}, "Edda")
	require.ErrorContains(t, err, "lies in a carton with goods of orders")
	number, err := k.AnnounceReturn(t.Context(), returning.NewReturn{Order: o.Number}, "Edda")
	require.NoError(t, err)
	back := func(sku string, n int64) error {
		return k.ScanReturned(t.Context(), number, returning.Returned{Code: sku, Quantity: n, Outcome: "stock"}, "Edda")
	}
	require.NoError(t, back("LID", 1))
	require.Error(t, back("LID", 1), "one LID left, and it is back")
	require.Error(t, back("JAR", 2), "one JAR left with this order; the others are the other's")
	require.Error(t, askVoid(t, k, a), "what came back had left")
	k.Holds()
}

// TestKeptBackUnitsAreCancelledAtTheChannel: they are gone, and nothing is kept back of them any more.
func TestKeptBackUnitsAreCancelledAtTheChannel(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(5, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2), trial.Units("LID", 1))
	require.NoError(t, plan(t, k, shipping.KeepBack, "", map[string]int64{"JAR": 2}))
	less := trial.Sale("S-1", trial.Units("JAR", 1), trial.Units("LID", 1))
	k.Take("stall", trial.Event("order", "S-1", 2, less))
	o, l := lineNamed(t, k, "S-1", "JAR")
	require.Equal(t, int64(1), o.Kept(l))
	k.Holds()
	require.NoError(t, k.Label(k.Packed("S-1"), "ann"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	require.NoError(t,
		k.CancelUnits(t.Context(), "S-1", orders.Cancelling{Reason: "mistaken", Lines: map[int64]int64{l.ID: 1}}, 0, "Edda"))
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-1"))
	rows, err := k.Store.ListOrders(t.Context(), store.OrderFilter{Stages: []string{"part shipped"}, ToPick: true, Limit: 5})
	require.NoError(t, err)
	require.Empty(t, rows)
	k.Holds()
}

// TestTheRestIsSentWithoutWhatIsMissing: the order is held for what is not there, until that is kept back; the same shipment goes on.
func TestTheRestIsSentWithoutWhatIsMissing(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(2, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2), trial.Units("LID", 1))
	s, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	_, err = k.Scan(ctx, s, "LID", "", 1, "Pim")
	require.NoError(t, err)
	out, err := k.ReportShort(ctx, s, missing("JAR", 1), "Pim")
	require.NoError(t, err)
	require.Len(t, out.Waits, 1)
	_, err = k.Scan(ctx, s, "JAR", "", 1, "Pim")
	require.ErrorContains(t, err, "is held")
	w := out.Waits[0]
	require.NoError(t, k.Plan(ctx, w.Order, shipping.HandPlan{Kind: shipping.KeepBack, Lines: map[int64]int64{w.Line: w.Kept + w.Units}}, 0,
		"Edda"))
	_, err = k.Scan(ctx, s, "JAR", "", 1, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.PackInto(s, "small"))
	require.NoError(t, k.Label(s, "ann"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	k.Holds()
}
