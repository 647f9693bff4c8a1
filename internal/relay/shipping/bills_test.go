package shipping_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// billed takes a line of a bill in.
func billed(t *testing.T, k *trial.Kit, b shipping.Bill) {
	t.Helper()
	if b.Currency == "" {
		b.Currency = "EUR"
	}
	require.NoError(t, k.Commit(t.Context(), func(ch *engine.Change) error { return k.TakeBill(ch, b) }))
}

func statesOf(t *testing.T, k *trial.Kit) (states []string) {
	t.Helper()
	list, err := k.Store.BillLines(t.Context(), nil, 0, 50)
	require.NoError(t, err)
	for _, b := range list {
		states = append(states, b.State)
	}
	return states
}

// TestABillIsComparedParcelByParcel: what agrees is quiet, what differs is raised once for its carrier with the reason, and is over when
// each line was looked at.
func TestABillIsComparedParcelByParcel(t *testing.T) {
	k, p := away(t)
	ctx := t.Context()
	second := labelled(k, "S-2")
	billed(t, k, shipping.Bill{Bill: "B-1", Number: p.Tracking, Amount: 400, WeightG: 200})
	require.Empty(t, k.Causes())
	billed(t, k, shipping.Bill{Bill: "B-1", Number: second.Tracking, Amount: 400})
	billed(t, k, shipping.Bill{Bill: "B-1", Number: second.Tracking, Amount: 350, What: "address corrected"})
	require.Equal(t, []order.Cause{engine.BillDiffers}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "2 lines differ from what was asked")
	require.Equal(t, []string{store.BillDiffers, store.BillDiffers, store.BillAgrees}, statesOf(t, k))
	list, err := k.Store.BillLines(ctx, []string{store.BillDiffers}, 0, 10)
	require.NoError(t, err)
	require.Equal(t, []any{"address corrected", int64(400), int64(750)}, []any{list[0].Why, list[0].Asked, list[0].Billed})
	require.NoError(t, k.DecideBill(ctx, list[0].ID, shipping.SayOfBill{State: store.BillDisputed, Note: "it was right"}, "Edda"))
	require.Len(t, k.Causes(), 1)
	require.NoError(t, k.DecideBill(ctx, list[1].ID, shipping.SayOfBill{State: store.BillAccepted}, "Edda"))
	require.Empty(t, k.Causes())
	require.ErrorIs(t, k.DecideBill(ctx, 99, shipping.SayOfBill{}, "Edda"), store.ErrNotFound)
	rows, err := k.Store.Report(ctx, "billed", monday(0, 0), monday(0, 0).AddDate(0, 0, 1), k.Zone())
	require.NoError(t, err)
	require.Equal(t, []any{"Ann", int64(800), int64(1150)}, []any{rows[0].Name, rows[0].A, rows[0].B})
}

// TestTheSameLineTwiceIsOne, and the same on another bill is billed twice.
func TestTheSameLineTwiceIsOne(t *testing.T) {
	k, p := away(t)
	for range 2 {
		billed(t, k, shipping.Bill{Bill: "B-1", Number: p.Tracking, Amount: 400})
	}
	require.Len(t, statesOf(t, k), 1)
	billed(t, k, shipping.Bill{Bill: "B-2", Number: p.Tracking, Amount: 400})
	list, err := k.Store.BillLines(t.Context(), nil, 0, 10)
	require.NoError(t, err)
	require.Equal(t, "billed on B-1 and again on B-2", list[0].Why)
	billed(t, k, shipping.Bill{Bill: "B-3", Number: p.Tracking, Amount: 40, Currency: "SEK"})
	list, err = k.Store.BillLines(t.Context(), nil, 0, 10)
	require.NoError(t, err)
	require.Equal(t, "billed in another currency than EUR", list[0].Why)
}

// TestABillWithAParcelThatIsNotOurs: it is said until a person knows whose it is.
func TestABillWithAParcelThatIsNotOurs(t *testing.T) {
	k, p := away(t)
	ctx := t.Context()
	billed(t, k, shipping.Bill{Bill: "B-1", Number: "XX99", Amount: 400, Carrier: "ann"})
	require.Equal(t, []order.Cause{engine.BillDiffers}, k.Causes())
	require.Contains(t, k.Exceptions()[0].Text, "1 line is about no parcel of ours")
	list, err := k.Store.BillLines(ctx, nil, 0, 10)
	require.NoError(t, err)
	require.ErrorIs(t, k.DecideBill(ctx, list[0].ID, shipping.SayOfBill{Parcel: "S99"}, "Edda"), store.ErrNotFound)
	require.NoError(t, k.DecideBill(ctx, list[0].ID, shipping.SayOfBill{Parcel: p.Number}, "Edda"))
	require.Equal(t, []string{store.BillAgrees}, statesOf(t, k))
	require.Empty(t, k.Causes())
}
