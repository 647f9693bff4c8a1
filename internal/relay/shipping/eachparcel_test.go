package shipping_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// asking is a company with ann, who says where a parcel is when she is asked for it by its number.
func asking(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	definition := strings.Replace(trial.Carter("ann"), "  tracking in: { topic: scan, id: item.id, map: {", `  tracking in:
    id: item.asked.tracking + "/" + item.n
    read:
      { every: 2h, each: parcels, request: { method: GET, path: "/track/{msg.tracking}", query: { zip: msg.postcode } }, items: events }
    map: { tracking: item.asked.tracking,`, 1)
	definition = strings.Replace(definition, ", tracking: item.tracking,", ",", 1)
	definition = strings.Replace(definition, "at: item.at } }", "at: item.at }", 1)
	definition = definition[:strings.Index(definition, "push:")]
	feeds := map[message.Feed]setup.Feed{}
	for _, f := range []message.Feed{message.LabelsOut, message.VoidsOut, message.TrackingIn, message.HandoversOut} {
		feeds[f] = setup.Feed{On: true}
	}
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Connectors: []string{definition},
		Connections: []setup.Connection{{Code: "ann", Connector: "ann", Name: "Ann", Address: "http://ann.test", Feeds: feeds}}},
		map[string]map[string]string{"ann": {"key": "ann-key"}}, "test")
	require.NoError(t, err)
	k.Stock(500, "JAR")
	return k
}

// goes lets ann say what happened to a parcel, one event after the other.
func goes(k *trial.Kit, number string, states ...string) {
	var events []any
	for i, s := range states {
		events = append(events, map[string]any{"n": fmt.Sprint(i), "state": s, "text": s + " at Greywick",
			"at": trial.Morning.Add(time.Duration(i+1) * time.Hour).Format(time.RFC3339)})
	}
	k.On("ann", "/track/"+number, func(trial.Call) (int, any) { return 200, map[string]any{"events": events} })
}

func askNow(t *testing.T, k *trial.Kit, cause string) {
	t.Helper()
	k.Run(k.ByCode("ann"), engine.RunRequest{Kind: message.TrackingIn, Cause: cause})
	k.Settle()
}

// TestParcelsAreAskedAboutByNumber: each on its way and none that is over, once a round; events that were told before move nothing, a
// number that is not known yet or is refused keeps none of the others from it.
func TestParcelsAreAskedAboutByNumber(t *testing.T) {
	k := asking(t)
	var numbers, parcels []string
	for i := range 4 {
		o := fmt.Sprintf("S-%d", i)
		k.Sell(o, trial.Units("JAR", 1))
		p := k.Packed(o)
		require.NoError(t, k.Label(p, "ann"))
		parcels, numbers = append(parcels, p), append(numbers, k.ParcelOf(p).Tracking)
	}
	goes(k, numbers[0], "accepted", "under way")
	k.On("ann", "/track/"+numbers[1], func(trial.Call) (int, any) { return http.StatusNotFound, map[string]any{} })
	k.On("ann", "/track/"+numbers[2], func(trial.Call) (int, any) { return 422, map[string]any{"message": "no such form of number"} })
	goes(k, numbers[3], "accepted", "delivered")
	k.Later(3 * time.Hour)
	askNow(t, k, "schedule")
	require.Equal(t, "under way", k.ParcelOf(parcels[0]).Journey)
	require.Empty(t, k.ParcelOf(parcels[1]).Journey)
	require.Empty(t, k.ParcelOf(parcels[2]).Journey)
	require.Equal(t, store.Arrived, k.ParcelOf(parcels[3]).State)
	require.Equal(t, "41360", k.Sent("ann", "/track/"+numbers[0])[0].Query.Get("zip"))
	var failed int64
	k.Scalar(&failed, "SELECT max(failed) FROM run")
	require.Equal(t, int64(1), failed, "the one that is refused is counted, and its run says why")

	k.Later(time.Minute)
	askNow(t, k, "schedule")
	require.Len(t, k.Sent("ann", "/track/"+numbers[0]), 1, "it was asked about in this round")
	goes(k, numbers[0], "accepted", "under way", "out for delivery")
	k.Later(2 * time.Hour)
	askNow(t, k, "schedule")
	require.Equal(t, "out for delivery", k.ParcelOf(parcels[0]).Journey)
	require.Len(t, k.Sent("ann", "/track/"+numbers[0]), 2)
	require.Len(t, k.Sent("ann", "/track/"+numbers[3]), 1, "it has arrived")
	events, err := k.Store.ParcelEvents(t.Context(), k.ParcelOf(parcels[0]).ID)
	require.NoError(t, err)
	require.Len(t, events, 3)
	k.Holds()
}

// TestManyParcelsAreAskedAboutToTheLast, also where that takes several readings; one that fails is asked about first the next time.
func TestManyParcelsAreAskedAboutToTheLast(t *testing.T) {
	k := asking(t)
	calls := map[string]int{}
	down := false
	k.Below("ann", "/track/", func(c trial.Call) (int, any) {
		if down {
			return 503, map[string]any{}
		}
		calls[c.Path]++
		return 404, map[string]any{}
	})
	k.Sell("S-0", trial.Units("JAR", 1))
	p := k.Packed("S-0")
	require.NoError(t, k.Label(p, "ann"))
	k.Spoil(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<450)
		INSERT INTO parcel (number, shipment_id, state, created_at, carrier_id, tracking, shipped_at)
		SELECT 'X'||i, shipment_id, 'shipped', created_at, carrier_id, 'TX'||i, shipped_at FROM parcel, n WHERE number=?`, p)
	down = true
	askNow(t, k, "schedule")
	require.Empty(t, calls)
	down = false
	for range 4 {
		askNow(t, k, "schedule")
	}
	require.Len(t, calls, 451, "each was asked about")
	for path, n := range calls {
		require.Equal(t, 1, n, path)
	}
}
