package shipping_test

import (
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// cartKit is a company with three orders that go into one round: 2 jars, a jar and a lid, 3 lids.
func cartKit(t *testing.T) (*trial.Kit, string) {
	t.Helper()
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("JAR", 1), trial.Units("LID", 1))
	k.Sell("S-3", trial.Units("LID", 3))
	made, err := k.MakeRound(t.Context(), shipping.NewRound{Orders: []string{"S-1", "S-2", "NONE", "S-3"}}, "Pim")
	require.NoError(t, err)
	require.Equal(t, []shipping.LeftOut{{Order: "NONE", Why: "there is no such order"}}, made.Left, "it keeps nobody back")
	return k, made.Number
}

func scanIn(t *testing.T, k *trial.Kit, round, code string, n int64) string {
	t.Helper()
	out, err := k.ScanInRound(t.Context(), round, shipping.RoundScan{Code: code, Quantity: n}, "Pim")
	require.NoError(t, err)
	return out.Text
}

func roundOf(t *testing.T, k *trial.Kit, number string) store.Round {
	t.Helper()
	x, err := k.Store.Round(t.Context(), number)
	require.NoError(t, err)
	return x
}

// TestManyOrdersArePickedInOneWalk: each item is collected once and put into the slots that take it, and each shipment goes its own
// way afterwards.
func TestManyOrdersArePickedInOneWalk(t *testing.T) {
	k, w := cartKit(t)
	ctx := t.Context()
	x := roundOf(t, k, w)
	require.Len(t, x.Slots, 3)
	require.Equal(t, "JAR: 2 into slot 1, 1 into slot 2", scanIn(t, k, w, "jar", 3))
	_, err := k.ScanInRound(ctx, w, shipping.RoundScan{Code: "JAR"}, "Pim")
	require.ErrorContains(t, err, "JAR is already complete (3 of 3)")
	_, err = k.ScanInRound(ctx, w, shipping.RoundScan{Code: "SPOON"}, "Pim")
	require.ErrorContains(t, err, "not part of round "+w)
	require.NoError(t, k.TakeBackInRound(ctx, w, shipping.RoundScan{Code: "JAR"}, "Pim"))
	require.Equal(t, "JAR: 1 into slot 2", scanIn(t, k, w, "JAR", 0))
	require.Equal(t, store.RoundOpen, roundOf(t, k, w).State)
	require.Equal(t, "LID: 1 into slot 2, 3 into slot 3", scanIn(t, k, w, "LID", 4))
	done := roundOf(t, k, w)
	require.Equal(t, store.RoundPicked, done.State)
	_, err = k.ScanInRound(ctx, w, shipping.RoundScan{Code: "JAR"}, "Pim")
	require.ErrorContains(t, err, "round "+w+" is picked")
	for _, s := range done.Slots {
		require.NoError(t, k.PackInto(s.Shipment, "small"))
		require.NoError(t, k.Label(s.Shipment, "ann"))
	}
	for _, n := range []string{"S-1", "S-2", "S-3"} {
		require.Equal(t, "shipped", k.Stage(n))
	}
	k.Holds()
}

// TestTwoPickersNeverHoldTheSameUnit: a round is one person's until somebody takes it over, and its shipments are in it alone.
func TestTwoPickersNeverHoldTheSameUnit(t *testing.T) {
	k, w := cartKit(t)
	ctx := t.Context()
	scanIn(t, k, w, "JAR", 1)
	_, err := k.ScanInRound(ctx, w, shipping.RoundScan{Code: "JAR"}, "Joss")
	require.ErrorContains(t, err, "picks round "+w+"; take it over first")
	require.ErrorContains(t, k.TakeRound(ctx, w, false, "Joss"), "take it over first")
	first := roundOf(t, k, w).Slots[0].Shipment
	_, err = k.Scan(ctx, first, "JAR", "", 1, "Joss")
	require.ErrorContains(t, err, "is slot 1 of round "+w)
	require.ErrorContains(t, k.TakeBack(ctx, first, "JAR", 1, "Joss"), "is slot 1 of round "+w)
	again, err := k.MakeRound(ctx, shipping.NewRound{Orders: []string{"S-1"}}, "Joss")
	require.ErrorContains(t, err, "is slot 1 of round "+w, "%+v", again)

	require.NoError(t, k.TakeRound(ctx, w, true, "Joss"))
	_, err = k.ScanInRound(ctx, w, shipping.RoundScan{Code: "JAR"}, "Pim")
	require.Error(t, err)
	_, err = k.ScanInRound(ctx, w, shipping.RoundScan{Code: "JAR"}, "Joss")
	require.NoError(t, err)

	var left sync.WaitGroup // both at once: what is there is given out once
	var mu sync.Mutex
	taken := 0
	for range 8 {
		left.Go(func() {
			if _, err := k.ScanInRound(ctx, w, shipping.RoundScan{Code: "LID"}, "Joss"); err == nil {
				mu.Lock()
				taken++
				mu.Unlock()
			}
		})
	}
	left.Wait()
	require.Equal(t, 4, taken)
	k.Holds()
}

// TestARoundIsTakenApart: what is picked stays picked, and the rest is picked by itself, or in another round.
func TestARoundIsTakenApart(t *testing.T) {
	k, w := cartKit(t)
	ctx := t.Context()
	scanIn(t, k, w, "JAR", 1)
	require.ErrorContains(t, k.LeaveRound(ctx, w, 7, "Pim"), "has no slot 7")
	third := roundOf(t, k, w).Slots[2].Shipment
	require.NoError(t, k.LeaveRound(ctx, w, 3, "Pim"))
	_, err := k.Scan(ctx, third, "LID", "", 3, "Joss")
	require.NoError(t, err)
	require.NoError(t, k.TakeRoundApart(ctx, w, "Pim"))
	require.Equal(t, store.RoundApart, roundOf(t, k, w).State)
	require.ErrorContains(t, k.TakeRoundApart(ctx, w, "Pim"), "is taken apart")
	made, err := k.MakeRound(ctx, shipping.NewRound{Orders: []string{"S-1", "S-2", "S-3"}}, "Joss")
	require.NoError(t, err)
	require.Len(t, roundOf(t, k, made.Number).Slots, 2)
	require.Len(t, made.Left, 1)
	require.Contains(t, made.Left[0].Why, "nothing left to pick")
	k.Holds()
}

// TestAnOrderIsCancelledInEachMinuteOfARound: whenever it comes, nothing of it is collected any more, what is in the slot is put
// back, the others go on, and the round ends when they are done.
func TestAnOrderIsCancelledInEachMinuteOfARound(t *testing.T) {
	scans := []string{"JAR", "JAR", "JAR", "LID", "LID", "LID", "LID"}
	for minute := range len(scans) + 1 {
		t.Run(fmt.Sprint(minute), func(t *testing.T) {
			k, w := cartKit(t)
			for _, code := range scans[:minute] {
				scanIn(t, k, w, code, 1)
			}
			cancelled := trial.Sale("S-2", trial.Units("JAR", 1), trial.Units("LID", 1))
			cancelled.State, cancelled.Status = "cancelled", message.Cancelled
			k.Take("stall", trial.Event("order", "S-2", 2, cancelled))
			require.Equal(t, "cancelled", k.Stage("S-2"))
			for _, code := range []string{"JAR", "LID"} {
				for {
					if _, err := k.ScanInRound(t.Context(), w, shipping.RoundScan{Code: code}, "Pim"); err != nil {
						break
					}
				}
			}
			done := roundOf(t, k, w)
			require.Equal(t, store.RoundPicked, done.State)
			require.Equal(t, []int64{2, 3}, []int64{done.Slots[0].Picked, done.Slots[2].Picked})
			require.Equal(t, store.CalledOff, done.Slots[1].State)
			if minute >= 3 {
				assert.Equal(t, []order.Cause{engine.PutBack}, k.Causes())
			} else {
				assert.Empty(t, k.Causes(), "nothing of it was in the slot")
			}
			for _, i := range []int{0, 2} {
				require.NoError(t, k.PackInto(done.Slots[i].Shipment, "small"))
				require.NoError(t, k.Label(done.Slots[i].Shipment, "ann"))
			}
			k.Holds()
		})
	}
}

// TestAShortageInARound: the last slots go without, their orders wait, and the others get what is there.
func TestAShortageInARound(t *testing.T) {
	k, w := cartKit(t)
	ctx := t.Context()
	_, err := k.ShortInRound(ctx, w, shipping.Missing{Code: "LID", Quantity: 5}, "Pim")
	require.ErrorContains(t, err, "4 × LID are still to be picked in round "+w+", not 5")
	scanIn(t, k, w, "LID", 2)
	item, err := k.Store.Item(ctx, "LID")
	require.NoError(t, err)
	require.NoError(t, k.Adjust(ctx, inventory.Adjustment{SKU: item.SKU, Location: "alder", Change: -5, Reason: "broken"}, "Edda"))
	out, err := k.ShortInRound(ctx, w, shipping.Missing{Code: "LID", Quantity: 2}, "Pim")
	require.NoError(t, err)
	require.Equal(t, int64(2), out.Waiting)
	k.Settle()
	scanIn(t, k, w, "JAR", 3)
	require.Equal(t, store.RoundPicked, roundOf(t, k, w).State)
	require.Equal(t, []order.Cause{engine.CountBin}, k.Causes())
	require.Equal(t, int64(2), k.OnHand("LID"))
	o, err := k.Store.OrderByNumber(ctx, "S-3")
	require.NoError(t, err)
	require.Equal(t, int64(2), o.Lines[0].Waiting())
	k.Holds()
}

// TestARoundSurvivesItsPicker: the process ends between any two scans, and the round goes on where it was.
func TestARoundSurvivesItsPicker(t *testing.T) {
	k, w := cartKit(t)
	for _, code := range []string{"JAR", "LID", "JAR", "LID", "LID", "JAR", "LID"} {
		k.Again()
		scanIn(t, k, w, code, 1)
	}
	k.Again()
	require.Equal(t, store.RoundPicked, roundOf(t, k, w).State)
	k.Holds()
}

// TestRoundsAreMadeByRule: of the place, the service, the number of units and the day that it says; the most urgent one, and those
// on its way. A rule that could never hold is refused.
func TestRoundsAreMadeByRule(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	bins := "[A-C]-[1-9]"
	err := k.PutPlace(ctx, "alder", joining.Place{Bins: &bins}, "Edda")
	require.NoError(t, err)
	skus := []string{"JAR", "LID", "WAX", "TIN"}
	k.Stock(50, skus...)
	for i, bin := range []string{"A-1", "A-2", "C-8", "C-9"} {
		require.NoError(t, k.Rebin(ctx, skus[i], "alder", "", bin, 50, true, "Edda"))
	}
	sell := func(n string, service string, lines ...message.OrderLine) {
		o := trial.Sale(n, lines...)
		o.RequestedService = service
		k.Take("stall", trial.Event("order", n, 1, o))
	}
	sell("S-1", "standard", trial.Units("JAR", 1))
	sell("S-2", "express", trial.Units("WAX", 1))
	sell("S-3", "standard", trial.Units("TIN", 1), trial.Units("WAX", 1))
	sell("S-4", "Standard", trial.Units("LID", 2))
	sell("S-5", "standard", trial.Units("LID", 1))

	rule := store.RoundRule{Code: "std", Name: "Standard", Location: "alder", Slots: 2, Services: []string{"standard", " ", "standard"}}
	for _, bad := range []func(x *store.RoundRule){
		func(x *store.RoundRule) { x.Code = "A B" }, func(x *store.RoundRule) { x.Name = " " },
		func(x *store.RoundRule) { x.Slots = 61 }, func(x *store.RoundRule) { x.Location = "moon" },
		func(x *store.RoundRule) { x.Units = 3 }, func(x *store.RoundRule) { x.Today = true },
	} {
		x := rule
		bad(&x)
		require.Error(t, k.PutRoundRule(ctx, x, "Edda"))
	}
	require.NoError(t, k.PutRoundRule(ctx, rule, "Edda"))
	made := func(code string) (orders []string) {
		t.Helper()
		x, err := k.MakeRound(ctx, shipping.NewRound{Rule: code}, "Pim")
		require.NoError(t, err)
		for _, s := range roundOf(t, k, x.Number).Slots {
			o, err := k.Store.OrderByNumber(ctx, s.OrderNumber)
			require.NoError(t, err)
			orders = append(orders, o.Record.Number)
		}
		return orders
	}
	require.Equal(t, []string{"S-1", "S-4"}, made("std"), "the lids lie beside the jar")
	rule.Code, rule.Services, rule.Units = "one", nil, 1
	require.NoError(t, k.PutRoundRule(ctx, rule, "Edda"))
	require.Equal(t, []string{"S-2", "S-5"}, made("one"))
	rule.Code, rule.Units = "many", 2
	require.NoError(t, k.PutRoundRule(ctx, rule, "Edda"))
	require.Equal(t, []string{"S-3"}, made("many"))
	_, err = k.MakeRound(ctx, shipping.NewRound{Rule: "many"}, "Pim")
	require.ErrorContains(t, err, "nothing that")
	_, err = k.MakeRound(ctx, shipping.NewRound{Rule: "none"}, "Pim")
	require.ErrorIs(t, err, store.ErrNotFound)
	_, err = k.MakeRound(ctx, shipping.NewRound{}, "Pim")
	require.ErrorContains(t, err, "say which orders, or by which rule")
	require.NoError(t, k.DropRoundRule(ctx, "many", "Edda"))
	require.ErrorIs(t, k.DropRoundRule(ctx, "many", "Edda"), store.ErrNotFound)
	k.Holds()
}

// TestOnlyWhatShouldLeaveTodayIsInTheRound, by the hours of the place.
func TestOnlyWhatShouldLeaveTodayIsInTheRound(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	err := k.PutPlace(ctx, "alder", joining.Place{Hours: &place.Hours{Week: []string{"08:00-12:00", "08:00-12:00", "08:00-12:00",
		"08:00-12:00", "08:00-12:00", "", ""}}}, "Edda")
	require.NoError(t, err)
	require.NoError(t, k.PutRoundRule(ctx, store.RoundRule{Code: "day", Name: "Today", Location: "alder", Today: true}, "Edda"))
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Later(8 * time.Hour) // the place is closed: what comes now leaves tomorrow
	k.Sell("S-2", trial.Units("JAR", 1))
	x, err := k.MakeRound(ctx, shipping.NewRound{Rule: "day"}, "Pim")
	require.NoError(t, err)
	require.Len(t, roundOf(t, k, x.Number).Slots, 1)
	_, err = k.MakeRound(ctx, shipping.NewRound{Rule: "day"}, "Pim")
	require.ErrorContains(t, err, "nothing that")
	k.Later(20 * time.Hour)
	_, err = k.MakeRound(ctx, shipping.NewRound{Rule: "day"}, "Pim")
	require.NoError(t, err)
}

// TestAChangedRuleForRoundsIsPutBack: a change, that it was made, and that it was removed.
func TestAChangedRuleForRoundsIsPutBack(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	change := func(do func() error) int64 {
		t.Helper()
		require.NoError(t, k.ChangeSetting(ctx, shipping.RoundRuleKind, "cart", "Edda", do))
		list, err := k.Store.SettingChanges(ctx, []string{shipping.RoundRuleKind}, 0, 1)
		require.NoError(t, err)
		return list[0].ID
	}
	put := func(slots int) func() error {
		return func() error {
			return k.PutRoundRule(ctx, store.RoundRule{Code: "cart", Name: "The cart", Location: "alder", Slots: slots,
				Services: []string{"swift"}}, "Edda")
		}
	}
	made, changed := change(put(4)), change(put(8))
	require.ErrorContains(t, k.UndoSetting(ctx, made, "Edda"), "was changed again since; undo that first")
	require.NoError(t, k.UndoSetting(ctx, changed, "Edda"))
	x, err := k.RoundRule(ctx, "cart")
	require.NoError(t, err)
	require.Equal(t, []any{4, []string{"swift"}}, []any{x.Slots, x.Services})
	removed := change(func() error { return k.DropRoundRule(ctx, "cart", "Edda") })
	require.NoError(t, k.UndoSetting(ctx, removed, "Edda"))
	x, err = k.RoundRule(ctx, "cart")
	require.NoError(t, err)
	require.Equal(t, 4, x.Slots)
}
