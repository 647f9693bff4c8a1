package views_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestReportsCountEachCurrencyForItself: amounts of two currencies are never added, what was cancelled counts apart, and the
// company's days begin where the company is.
func TestReportsCountEachCurrencyForItself(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(50, "JAR")
	at := time.Date(2026, 11, 22, 23, 30, 0, 0, time.UTC) // already the 23rd two hours east
	for _, s := range []struct {
		number, currency string
		units            int64
	}{{"S-1", "EUR", 2}, {"S-2", "EUR", 1}, {"S-3", "SEK", 5}, {"S-4", "EUR", 9}} {
		o := trial.Sale(s.number, trial.Units("JAR", s.units))
		o.Currency, o.PlacedAt, o.ChangedAt = s.currency, at, at
		k.Take("stall", trial.Event("order", s.number, 1, o))
	}
	k.CancelOrder("S-4")
	report := func(code string) []store.ReportRow {
		rows, err := k.Store.Report(ctx, code, at.Add(-24*time.Hour), at.Add(48*time.Hour), k.Zone())
		require.NoError(t, err)
		return rows
	}
	by := map[string][3]int64{}
	for _, r := range report("source") {
		by[r.Currency] = [3]int64{r.A, r.B, r.Cancelled}
	}
	require.Equal(t, map[string][3]int64{"EUR": {2, 3000, 1}, "SEK": {1, 5000, 0}}, by)
	require.Equal(t, "2026-11-22", report("days")[0].Name)
	require.NoError(t, k.SetCompany(ctx, engine.Company{Name: "Morrow Hive", TimeZone: "Etc/GMT-2"}, "Edda"))
	require.Equal(t, "2026-11-23", report("days")[0].Name)
	require.Error(t, k.SetCompany(ctx, engine.Company{Name: "Morrow Hive", TimeZone: "Moon/Base"}, "Edda"))

	k.Again()
	require.Equal(t, "Etc/GMT-2", k.Zone().String(), "it is the company's, and stays")
	_, err := k.Store.Report(ctx, "gossip", at, at, time.UTC)
	require.ErrorIs(t, err, store.ErrNotFound)
	k.Holds()
}

// TestTheOrdersPage tells everything known of an order, and the connections how they stand.
func TestTheOrdersPage(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	s := k.Packed("S-1")
	require.NoError(t, k.Label(s, "ann"))
	v, err := k.Views.Order(ctx, "O10001")
	require.NoError(t, err)
	require.Equal(t, "shipped", string(v.Order.Stage()))
	require.Len(t, v.Shipments, 1)
	require.NotEmpty(t, v.Timeline)
	_, err = k.Views.Order(ctx, "O777")
	require.ErrorIs(t, err, store.ErrNotFound)
	ship, err := k.Views.Parcel(ctx, s)
	require.NoError(t, err)
	require.Equal(t, "Alder Yard 3", k.From(&ship.Parcel, ship.Order).Street)
	list, err := k.Connections(ctx)
	require.NoError(t, err)
	require.Len(t, list, 2)
	for _, c := range list {
		require.Equal(t, "go", c.Lamp.State, c.Name)
	}
	k.On("ann", "/labels", func(trial.Call) (int, any) { return 401, map[string]any{"error": "who are you"} })
	k.Sell("S-2", trial.Units("JAR", 1))
	require.NoError(t, k.Label(k.Packed("S-2"), "ann"))
	list, err = k.Connections(ctx)
	require.NoError(t, err)
	require.Equal(t, "caution", list[1].Lamp.State)
	require.Contains(t, list[1].Lamp.Text, "401")
}

// TestCountsThatPagesShow follow what they count: listings by how they stand, orders by tag, the words of channels.
func TestCountsThatPagesShow(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR")
	k.Listed("JAR")
	k.Take("stall", trial.Event("listing", "L-9", 1, message.Listing{SKU: "POT", Title: "A pot", Price: 1, Currency: "EUR", Live: true}))
	counts := func() []int64 {
		list, err := k.Store.CountListings(ctx)
		require.NoError(t, err)
		require.Len(t, list, 1)
		return []int64{list[0].Matched, list[0].ToMatch, list[0].Ignored}
	}
	require.Equal(t, []int64{1, 1, 0}, counts())
	found, err := k.Store.FindListings(ctx, store.ListingFilter{Search: "POT", Limit: 2})
	require.NoError(t, err)
	require.Len(t, found, 1)
	pot := found[0]
	require.NoError(t, k.Ignore(ctx, pot.ID, true, "Edda"))
	require.Equal(t, []int64{1, 0, 1}, counts())
	require.NoError(t, k.Ignore(ctx, pot.ID, false, "Edda"))
	require.NoError(t, k.Match(ctx, pot.ID, "JAR", false, "Edda"))
	require.Equal(t, []int64{2, 0, 0}, counts())

	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 1))
	for _, action := range []orders.ActionKind{orders.Tag, orders.Tag, orders.Untag} {
		_, err := k.Act(ctx, orders.Bulk{Action: action, Value: "gift",
			Orders: []string{"S-1", "S-2"}[:map[orders.ActionKind]int{orders.Tag: 2, orders.Untag: 1}[action]]}, "Edda")
		require.NoError(t, err)
	}
	tags, err := k.Store.Tags(ctx)
	require.NoError(t, err)
	require.Equal(t, []store.NamedCount{{Name: "gift", N: 1}}, tags)
	k.CancelOrder("S-2")
	o := trial.Sale("S-3", trial.Units("JAR", 1))
	o.State = "paid"
	k.Take("stall", trial.Event("order", "S-3", 1, o))
	words, err := k.Store.States(ctx, "stall")
	require.NoError(t, err)
	require.Equal(t, []string{"open", "paid"}, words)
	words, err = k.Store.States(ctx, "nowhere")
	require.NoError(t, err)
	require.Empty(t, words)
	k.Holds()
	k.Spoil("UPDATE listing_count SET to_match=7")
	k.Spoil("UPDATE tag_count SET n=7")
	findings, err := k.Store.Verify(ctx)
	require.NoError(t, err)
	require.Len(t, findings, 2)
}
