package shipping_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// workdays is a carrier that comes on workdays between four and six; what is packed by half past three goes along.
var workdays = place.Hours{Week: []string{"16:00-18:00", "16:00-18:00", "16:00-18:00", "16:00-18:00", "16:00-18:00", "", ""},
	Cutoff: "15:30", DaysOff: []place.DayOff{{From: "2026-11-24"}}}

// collecting is a company to which ann comes by her hours, at a moment.
func collecting(t *testing.T, now time.Time) *trial.Kit {
	t.Helper()
	k := trial.New(t, "ann")
	k.Learned()
	k.Later(now.Sub(k.Now()))
	require.NoError(t,
		k.Collections.Change(t.Context(), k.Engine, []freight.Collection{{Carrier: "ann", Place: "alder", Hours: workdays}}, "Edda"))
	k.Stock(50, "JAR")
	return k
}

// labelled packs an order and buys its label.
func labelled(k *trial.Kit, number string) store.Parcel {
	k.Sell(number, trial.Units("JAR", 1))
	s := k.Packed(number)
	if err := k.Label(s, "ann"); err != nil {
		panic(err)
	}
	return k.ParcelOf(s)
}

func monday(hour, minute int) time.Time { return time.Date(2026, 11, 23, hour, minute, 0, 0, time.UTC) }

// TestWhatComesAfterTheCutOffGoesOnTheNextList: by the carrier's own cut-off at the place, over days on which it does not come, and
// after a day was closed.
func TestWhatComesAfterTheCutOffGoesOnTheNextList(t *testing.T) {
	k := collecting(t, monday(15, 0))
	day := func(p store.Parcel) string {
		m, err := k.Store.Manifest(t.Context(), p.ManifestID)
		require.NoError(t, err)
		return m.Day
	}
	first := labelled(k, "S-1")
	require.Equal(t, "2026-11-23", day(first))
	require.NoError(t, k.CloseManifest(t.Context(), first.ManifestID, "Edda"))
	k.Settle()
	require.Equal(t, "2026-11-25", day(labelled(k, "S-2")), "the day is closed, and on the 24th ann does not come")
	k.Later(time.Hour)
	require.Equal(t, "2026-11-25", day(labelled(k, "S-3")), "after the cut-off")
	rates, err := k.Rates(t.Context(), k.Packed(sold(k, "S-4")))
	require.NoError(t, err)
	require.Equal(t, "2026-11-25", rates[0].Handover)
	k.Holds()
}

func sold(k *trial.Kit, number string) string {
	k.Sell(number, trial.Units("JAR", 1))
	return number
}

// TestTheCarrierIsAskedToComeWithinItsHours, and says when it does.
func TestTheCarrierIsAskedToComeWithinItsHours(t *testing.T) {
	k := collecting(t, monday(9, 0))
	k.On("ann", "/manifests", func(c trial.Call) (int, any) {
		require.Equal(t, []any{"16:00", "18:00"}, []any{c.Body["from"], c.Body["to"]})
		return 200, map[string]any{"id": "M1", "parcels": 1, "window": "16:30-17:00"}
	})
	p := labelled(k, "S-1")
	require.NoError(t, k.CloseManifest(t.Context(), p.ManifestID, "Edda"))
	asked, err := k.Store.Manifest(t.Context(), p.ManifestID)
	require.NoError(t, err)
	require.Equal(t, "16:00-18:00", asked.Window)
	k.Settle()
	m, err := k.Store.Manifest(t.Context(), p.ManifestID)
	require.NoError(t, err)
	require.Equal(t, []string{"closed", "16:30-17:00", ""}, []string{m.State, m.Window, m.Refused})
	require.Empty(t, k.Causes())
}

// TestAListThatIsTakenInPart: what the carrier did not take goes on the next list and is raised until the carrier has it; that it does
// not come at all is raised, too.
func TestAListThatIsTakenInPart(t *testing.T) {
	k := collecting(t, monday(9, 0))
	one, two := labelled(k, "S-1"), labelled(k, "S-2")
	k.On("ann", "/manifests", func(c trial.Call) (int, any) {
		return 200, map[string]any{"id": "M1", "parcels": 1, "no": "the van is broken", "without": []any{c.Body["labels"].([]any)[1]}}
	})
	require.NoError(t, k.CloseManifest(t.Context(), one.ManifestID, "Edda"))
	k.Settle()
	require.ElementsMatch(t, []order.Cause{engine.NotHandedOver, engine.NotCollected}, k.Causes())
	moved := k.ParcelOf(two.Number)
	require.NotEqual(t, one.ManifestID, moved.ManifestID)
	next, err := k.Store.Manifest(t.Context(), moved.ManifestID)
	require.NoError(t, err)
	require.Equal(t, []string{"2026-11-25", "open"}, []string{next.Day, next.State})
	require.Equal(t, store.Gone, moved.State, "it stands in the yard, with its label")
	scanned(t, k, "e1", two.Tracking, "accepted")
	require.Equal(t, []order.Cause{engine.NotCollected}, k.Causes(), "the carrier has it")
	k.Holds()
}

// TestCollectionsThatCannotBeAreRefused, and what stands can be undone and carried to another company.
func TestCollectionsThatCannotBeAreRefused(t *testing.T) {
	k := collecting(t, monday(9, 0))
	ctx := t.Context()
	ann := freight.Collection{Carrier: "ann", Place: "alder", Hours: workdays}
	for _, c := range []struct {
		rows []freight.Collection
		says string
	}{
		{[]freight.Collection{{Carrier: "stall", Place: "alder", Hours: workdays}}, "sells labels"},
		{[]freight.Collection{{Carrier: "ann", Place: "moon", Hours: workdays}}, "moon"},
		{[]freight.Collection{{Carrier: "ann", Place: "alder"}}, "is not said"},
		{[]freight.Collection{ann, ann}, "twice"},
		{make([]freight.Collection, 501), "at most 500"},
	} {
		require.ErrorContains(t, k.Collections.Change(ctx, k.Engine, c.rows, "Edda"), c.says)
	}
	text, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	require.Len(t, text.Collections, 1)
	require.NoError(t, k.Collections.Change(ctx, k.Engine, nil, "Edda"))
	changes, err := k.Store.SettingChanges(ctx, []string{"collections"}, 0, 10)
	require.NoError(t, err)
	require.NoError(t, k.UndoSetting(ctx, changes[0].ID, "Edda"))
	rows, err := k.Collections.Rows(ctx, k.Engine)
	require.NoError(t, err)
	require.Equal(t, text.Collections, rows)
	changed := text.Collections[0]
	changed.Hours.Cutoff = "12:00"
	_, err = k.ApplySetup(ctx, setup.Setup{Version: 1, Collections: []freight.Collection{changed}}, nil, "Edda")
	require.NoError(t, err)
	rows, err = k.Collections.Rows(ctx, k.Engine)
	require.NoError(t, err)
	require.Equal(t, "12:00", rows[0].Hours.Cutoff)
}
