package inventory_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestWhyItShowedThatThen: at a moment of the past, the quantity, the policy and the promises of that moment are told.
func TestWhyItShowedThatThen(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	k.Listed("JAR")
	k.Later(time.Hour)
	first := k.Now()
	k.Later(time.Hour)
	k.Sell("S-1", trial.Units("JAR", 4))
	list, err := k.Store.FindListings(ctx, store.ListingFilter{Search: "JAR", Limit: 1})
	require.NoError(t, err)
	three := int64(3)
	require.NoError(t, k.SetPolicy(ctx, list[0].ID, stock.Override{Buffer: &three}, "Edda"))
	k.Settle()
	k.Later(time.Hour)
	second := k.Now()
	k.Later(time.Hour)
	k.CancelOrder("S-1")
	k.Settle()

	for name, c := range map[string]struct {
		at       time.Time
		shows    int64
		promised int
	}{"first": {first, 10, 0}, "second": {second, 3, 1}, "now": {time.Time{}, 7, 0}} {
		why, err := k.WhyOffer(ctx, "stall", "JAR", c.at)
		require.NoError(t, err, name)
		require.True(t, why.Known, name)
		require.Equal(t, c.shows, why.Shows, name)
		require.Equal(t, c.shows, why.Allowed, name)
		require.Len(t, why.Promised, c.promised, name)
		require.NotEmpty(t, why.Steps, name)
		for _, m := range why.Movements {
			require.True(t, c.at.IsZero() || !store.Time(m.At).After(c.at), "%s: %+v came later", name, m)
		}
	}
	before, err := k.WhyOffer(ctx, "stall", "JAR", trial.Morning.Add(-time.Hour))
	require.NoError(t, err)
	require.False(t, before.Known, "nothing was shown yet")
	_, err = k.WhyOffer(ctx, "stall", "JAR", k.Now().Add(time.Hour))
	require.ErrorContains(t, err, "has not come yet")
	_, err = k.WhyLevel(ctx, "JAR", 0, k.Now().Add(-inventory.KeepShown-time.Hour))
	require.ErrorContains(t, err, "last 90 days")
}

// TestWhyAListingIsToldNothing: nobody's listing, and one that is ignored on purpose.
func TestWhyAListingIsToldNothing(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Listed("LOOSE")
	why, err := k.WhyOffer(ctx, "stall", "LOOSE", time.Time{})
	require.NoError(t, err)
	require.Equal(t, "No item of ours is matched to this listing; it is told nothing", why.Steps[0].Text)
	require.Empty(t, k.Sent("stall", "/stock"))
	k.Spoil("UPDATE listing SET ignored_at=1, ignored_by='Edda'")
	why, err = k.WhyOffer(ctx, "stall", "LOOSE", time.Time{})
	require.NoError(t, err)
	require.Equal(t, "The listing is ignored on purpose; it is told nothing", why.Steps[0].Text)
}

// TestWhyOfAKit: the sum names what it is made of, and the orders that hold a part of it.
func TestWhyOfAKit(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.Stock(4, "LID")
	require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "SET", Name: "A set", Kind: catalog.Kit, Price: 2500, Currency: "EUR",
		Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 1}}}, "Edda"))
	k.Listed("SET")
	k.Sell("S-1", trial.Units("JAR", 5))
	why, err := k.WhyOffer(ctx, "stall", "SET", time.Time{})
	require.NoError(t, err)
	require.Equal(t, int64(2), why.Allowed)
	require.Len(t, why.Promised, 1)
	require.Contains(t, why.Steps[0].Text, "scarcest component: 4 of JAR available, 2 in a kit")
	jar, err := k.WhyLevel(ctx, "JAR", 0, time.Time{})
	require.NoError(t, err)
	require.Equal(t, []string{"SET"}, jar.Kits)
	require.Len(t, jar.Promised, 1)
	require.Equal(t, int64(5), jar.Promised[0].Quantity)
	k.Holds()
}

// TestWhatIsOnItsWayIsTold: a quantity that the channel has not taken yet stands beside what it shows.
func TestWhatIsOnItsWayIsTold(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.Listed("JAR")
	k.On("stall", "/stock", func(trial.Call) (int, any) { return 503, map[string]any{} })
	k.Sell("S-1", trial.Units("JAR", 2))
	why, err := k.WhyOffer(ctx, "stall", "JAR", time.Time{})
	require.NoError(t, err)
	require.NotNil(t, why.Open)
	require.Equal(t, []int64{9, 7}, []int64{why.Shows, why.Allowed})
	differ, _, err := k.Compare(ctx, "stall")
	require.NoError(t, err)
	require.Empty(t, differ, "a correction is on its way")
	k.On("stall", "/stock", func(trial.Call) (int, any) { return 200, map[string]any{} })
	k.Later(10 * time.Minute)
	k.Settle()
	why, err = k.WhyOffer(ctx, "stall", "JAR", time.Time{})
	require.NoError(t, err)
	require.Nil(t, why.Open)
	require.Equal(t, int64(7), why.Shows)
	require.Equal(t, "told", why.How)
	k.Holds()
}

// TestWhatLiesBelowNothing is raised until no place does any more, and names the place that is worst off.
func TestWhatLiesBelowNothing(t *testing.T) {
	k := trial.New(t)
	k.Stock(2, "JAR")
	k.Listed("JAR")
	takesIn(t, k)
	k.Take("stall", edit("e-1", levelOf("JAR", -3, 1, k)))
	require.Equal(t, int64(-1), level(k, t, "JAR", "alder").OnHand)
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Contains(t, open[0].Text, "JAR at Alder Yard is at -1")
	require.Equal(t, 0.0, told(t, k, "stall", "/stock"))
	require.NoError(t, k.Adjust(t.Context(), inventory.Adjustment{SKU: "JAR", Location: "alder", Change: 1, Reason: "found"}, "Edda"))
	k.Settle()
	require.Empty(t, k.Exceptions())
	k.Holds()
}
