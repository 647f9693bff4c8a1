package shipping_test

import (
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// away is a parcel that left on Monday at nine with ann, who promised Wednesday.
func away(t *testing.T) (*trial.Kit, store.Parcel) {
	t.Helper()
	k := collecting(t, monday(9, 0))
	k.On("ann", "/labels", func(c trial.Call) (int, any) {
		return 200, map[string]any{"id": "L" + c.Ref, "tracking": "AN" + c.Ref, "service": "Slow", "price": 400, "currency": "EUR",
			"arrives": "2026-11-25"}
	})
	p := labelled(k, "S-1")
	require.Equal(t, "2026-11-25", p.Promised)
	return k, p
}

// says lets ann say something of a parcel when it happens, or later.
func says(t *testing.T, k *trial.Kit, id, tracking, state string, at time.Time) {
	t.Helper()
	k.Later(max(at.Sub(k.Now()), 0))
	claims(t, k, id, tracking, state, at)
}

// claims lets ann say something of a parcel, whatever the clock shows.
func claims(t *testing.T, k *trial.Kit, id, tracking, state string, at time.Time) {
	t.Helper()
	raw, err := json.Marshal(map[string]any{"scans": []any{map[string]any{"topic": "scan", "id": id, "tracking": tracking,
		"state": state, "text": state + " at Greywick", "at": at}}})
	require.NoError(t, err)
	_, err = k.AcceptPush(t.Context(), "ann", http.Header{"Authorization": {"Bearer ann-key"}}, raw)
	require.NoError(t, err)
	k.Settle()
}

// raised are the causes that stand about parcels, at a moment.
func raised(t *testing.T, k *trial.Kit, at time.Time) []order.Cause {
	t.Helper()
	k.Later(at.Sub(k.Now()))
	_, err := k.ParcelsDue(t.Context())
	require.NoError(t, err)
	return k.Causes()
}

// TestALateParcelIsRaisedUntilItArrives, once, however often it is looked for.
func TestALateParcelIsRaisedUntilItArrives(t *testing.T) {
	k, p := away(t)
	says(t, k, "1", p.Tracking, "under way", monday(20, 0))
	require.Empty(t, raised(t, k, monday(9, 0).AddDate(0, 0, 2)), "it is Wednesday")
	require.Equal(t, []order.Cause{engine.ParcelLate}, raised(t, k, monday(0, 1).AddDate(0, 0, 3)))
	require.Contains(t, k.Exceptions()[0].Text, "should have arrived on 2026-11-25; last it was under way, 23 Nov 20:00")
	require.Equal(t, []string{"", "Ann"}, []string{k.Exceptions()[0].Subject, k.Exceptions()[0].ConnectionName}, "grouped by its carrier")
	require.Equal(t, p.Number, k.Exceptions()[0].ParcelNumber)
	says(t, k, "2", p.Tracking, "out for delivery", monday(8, 0).AddDate(0, 0, 3))
	require.Equal(t, []order.Cause{engine.ParcelLate}, raised(t, k, monday(9, 0).AddDate(0, 0, 3)), "it is not there")
	says(t, k, "3", p.Tracking, "delivered", monday(10, 0).AddDate(0, 0, 3))
	require.Empty(t, k.Causes())
	require.Zero(t, k.ParcelOf(p.Number).WatchAt)
	k.Holds()
}

// TestAStuckParcel has not moved for longer than is usual; with its next event it is so no more, and may be so again.
func TestAStuckParcel(t *testing.T) {
	k, p := away(t)
	says(t, k, "1", p.Tracking, "accepted", monday(17, 0))
	day := func(n int) time.Time { return monday(18, 0).AddDate(0, 0, n) }
	require.ElementsMatch(t, []order.Cause{engine.ParcelLate, engine.ParcelStuck}, raised(t, k, day(3)))
	says(t, k, "2", p.Tracking, "under way", day(3))
	require.Equal(t, []order.Cause{engine.ParcelLate}, k.Causes())
	require.ElementsMatch(t, []order.Cause{engine.ParcelLate, engine.ParcelStuck}, raised(t, k, day(7)))
	says(t, k, "3", p.Tracking, "returning", day(7))
	require.Empty(t, k.Causes(), "it comes back")
}

// TestEventsComeAsTheyLike: twice, out of order, from the future, and for a number that was used before.
func TestEventsComeAsTheyLike(t *testing.T) {
	k, p := away(t)
	says(t, k, "1", p.Tracking, "out for delivery", monday(12, 0))
	says(t, k, "2", p.Tracking, "accepted", monday(10, 0))
	require.Equal(t, "out for delivery", k.ParcelOf(p.Number).Journey)
	says(t, k, "3", p.Tracking, "accepted", monday(10, 0))
	says(t, k, "4", p.Tracking, "delivered", monday(9, 0).AddDate(-1, 0, 0))
	require.Equal(t, store.Gone, k.ParcelOf(p.Number).State, "that was another parcel of this number")
	claims(t, k, "5", p.Tracking, "failed", monday(9, 0).AddDate(0, 0, 9))
	claims(t, k, "6", p.Tracking, "failed", monday(9, 0).AddDate(0, 0, 9))
	events, err := k.Store.ParcelEvents(t.Context(), p.ID)
	require.NoError(t, err)
	require.Len(t, events, 3)
	require.Equal(t, "failed", events[2].State)
	require.WithinDuration(t, monday(12, 0), store.Time(events[2].At), time.Second, "it happened when it came")
	runs, err := k.Store.Runs(t.Context(), "ann", 0, 10)
	require.NoError(t, err)
	skipped := int64(0)
	for _, r := range runs {
		skipped += r.Skipped
	}
	require.EqualValues(t, 3, skipped, "each of them is said")
}

// TestALostParcelIsClaimed: that settles it, and the claim goes on.
func TestALostParcelIsClaimed(t *testing.T) {
	k, p := away(t)
	ctx := t.Context()
	says(t, k, "1", p.Tracking, "lost", monday(12, 0))
	require.Equal(t, []order.Cause{engine.ParcelLost}, k.Causes())
	require.ErrorContains(t, k.PutClaim(ctx, p.Number, shipping.Claim{State: "lovely"}, "Edda"), "one of noted, sent")
	require.ErrorIs(t, k.PutClaim(ctx, "S99", shipping.Claim{State: "noted"}, "Edda"), store.ErrNotFound)
	require.ErrorContains(t, k.PutClaim(ctx, k.Packed(sold(k, "S-2")), shipping.Claim{State: "noted"}, "Edda"), "has not left")
	require.NoError(t, k.PutClaim(ctx, p.Number, shipping.Claim{State: "noted", Amount: 4200, Note: "two jars"}, "Edda"))
	require.Empty(t, k.Causes())
	require.NoError(t, k.PutClaim(ctx, p.Number, shipping.Claim{State: "paid"}, "Edda"))
	c, err := k.Store.ClaimOf(ctx, p.ID)
	require.NoError(t, err)
	require.Equal(t, []any{"paid", int64(4200), "EUR", "two jars"}, []any{c.State, c.Amount, c.Currency, c.Note})
}

// TestAParcelThatComesBackAnnouncesItsReturn, once.
func TestAParcelThatComesBackAnnouncesItsReturn(t *testing.T) {
	k, p := away(t)
	says(t, k, "1", p.Tracking, "returning", monday(12, 0))
	says(t, k, "2", p.Tracking, "returned", monday(13, 0))
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	list, err := k.Store.ReturnsOfOrder(t.Context(), o.ID)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, p.Tracking, list[0].Tracking)
	require.EqualValues(t, 1, list[0].Lines[0].Announced)
	k.Holds()
}

// TestAVoidedLabelLeavesNoJourney: the parcel begins anew, and what was raised about the old number has ended.
func TestAVoidedLabelLeavesNoJourney(t *testing.T) {
	k, p := away(t)
	require.NotEmpty(t, raised(t, k, monday(9, 0).AddDate(0, 0, 5)))
	require.NoError(t, askVoid(t, k, p.Number))
	require.Empty(t, k.Causes())
	back := k.ParcelOf(p.Number)
	require.Equal(t, []any{store.ToShip, "", "", int64(0)}, []any{back.State, back.Promised, back.Journey, back.WatchAt})
}

// TestWhatArrivedIsCounted in time or late, by week, service and region.
func TestWhatArrivedIsCounted(t *testing.T) {
	k, p := away(t)
	second := labelled(k, "S-2")
	says(t, k, "1", p.Tracking, "delivered", monday(12, 0).AddDate(0, 0, 2))
	k.Later(72 * time.Hour)
	says(t, k, "2", second.Tracking, "delivered", monday(8, 0).AddDate(0, 0, 3))
	rows, err := k.Store.Report(t.Context(), "transit", monday(0, 0), monday(0, 0).AddDate(0, 0, 7), time.UTC)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	require.Equal(t, []any{"Ann Slow", int64(2), int64(1)}, []any{rows[0].Name, rows[0].A, rows[0].B})
}
