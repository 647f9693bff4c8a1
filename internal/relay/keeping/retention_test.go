package keeping_test

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

func rows(k *trial.Kit, table string) (n int64) {
	k.Scalar(&n, "SELECT count(*) FROM "+table)
	return n
}

// traded is a company that sold and shipped so many orders, and has one that is still to be sent.
func traded(t *testing.T, orders int) *trial.Kit {
	k := trial.New(t, "ann")
	k.Stock(int64(orders)+5, "JAR")
	k.Listed("JAR")
	for i := range orders {
		number := fmt.Sprintf("S-%d", i+1)
		k.Sell(number, trial.Units("JAR", 1))
		require.NoError(t, k.Label(k.Packed(number), "ann"))
	}
	k.Sell("OPEN", trial.Units("JAR", 1))
	return k
}

func everyKind(ctx context.Context, t *testing.T, k *trial.Kit, days int) {
	list, err := k.Retentions(ctx)
	require.NoError(t, err)
	all := map[string]int{}
	for _, x := range list {
		all[x.Kind] = max(days, x.Least)
	}
	require.NoError(t, k.SetRetention(ctx, all, "Edda"))
}

// TestWhatIsOldIsThinned, what is open or young stays, everything still holds, and no id is given twice.
func TestWhatIsOldIsThinned(t *testing.T) {
	k := traded(t, 4)
	ctx := t.Context()
	everyKind(ctx, t, k, 30)
	p, err := k.Thin(ctx)
	require.NoError(t, err)
	require.Empty(t, p.Thinned, "nothing is old")
	var sum int64
	k.Scalar(&sum, "SELECT sum(on_hand) FROM movement")
	before := map[string]int64{}
	for _, table := range []string{"inbox", "outbox", "timeline", "orders", "movement", "shipment"} {
		before[table] = rows(k, table)
	}
	var newest int64
	k.Scalar(&newest, "SELECT max(id) FROM outbox")

	k.Later(100 * 24 * time.Hour)
	p, err = k.Thin(ctx)
	require.NoError(t, err)
	require.Positive(t, p.Thinned["received"])
	require.Positive(t, p.Thinned["sent"])
	require.Positive(t, p.Thinned["timeline"])
	require.Empty(t, p.Error)
	for _, table := range []string{"orders", "movement", "shipment", "inbox"} {
		require.Equal(t, before[table], rows(k, table), table)
	}
	require.Less(t, rows(k, "timeline"), before["timeline"])
	require.Less(t, rows(k, "outbox"), before["outbox"], "quantities that were told long ago")
	var n, later int64
	k.Scalar(&n, "SELECT sum(on_hand) FROM movement")
	require.Equal(t, sum, n)
	k.Scalar(&n, `SELECT count(*) FROM inbox WHERE feed='orders in' AND raw LIKE '%thinned%'`)
	require.EqualValues(t, 4, n, "of the orders that are done, and of no other")
	k.Scalar(&n, `SELECT count(*) FROM outbox WHERE feed='labels out' AND payload='{}' AND answer LIKE '%tracking%'`)
	require.EqualValues(t, 4, n, "what was bought is still known")
	k.Holds()

	again, err := k.Thin(ctx)
	require.NoError(t, err)
	require.Empty(t, again.Thinned, "it is done once")
	last, err := k.LastPass(ctx)
	require.NoError(t, err)
	require.False(t, last.Ended.IsZero())
	k.Sell("LATER", trial.Units("JAR", 1))
	k.Scalar(&later, "SELECT min(id) FROM outbox WHERE id>"+fmt.Sprint(newest))
	require.Greater(t, later, newest)

	v, err := k.Order(ctx, "O10001")
	require.NoError(t, err)
	require.True(t, store.Thinned(v.Versions[0].Raw))
	require.NotEmpty(t, v.Timeline)
	k.Take("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1))))
	_, reason := k.Outcome("S-1")
	require.NotContains(t, reason, "new", "the same order is still never taken in twice")
	k.Holds()
}

// TestRetentionIsRefusedWhereItIsSet, and 0 keeps for ever.
func TestRetentionIsRefusedWhereItIsSet(t *testing.T) {
	k := traded(t, 2)
	ctx := t.Context()
	require.ErrorContains(t, k.SetRetention(ctx, map[string]int{"ledger": 30}, "Edda"), `no kind "ledger"`)
	require.ErrorContains(t, k.SetRetention(ctx, map[string]int{"received": 3}, "Edda"), "received: 0 for ever, or 30 to 3660 days")
	list, err := k.Retentions(ctx)
	require.NoError(t, err)
	ever := map[string]int{}
	for _, x := range list {
		ever[x.Kind] = 0
	}
	require.NoError(t, k.SetRetention(ctx, ever, "Edda"))
	k.Later(4000 * 24 * time.Hour)
	p, err := k.Thin(ctx)
	require.NoError(t, err)
	require.Empty(t, p.Thinned)
	require.Empty(t, p.Before)
}

// TestThinningIsDueOnceADay, or when somebody asks.
func TestThinningIsDueOnceADay(t *testing.T) {
	k := traded(t, 1)
	ctx := t.Context()
	_, err := k.ThinDue(ctx)
	require.NoError(t, err)
	first, err := k.LastPass(ctx)
	require.NoError(t, err)
	k.Later(time.Hour)
	next, err := k.ThinDue(ctx)
	require.NoError(t, err)
	require.Equal(t, first.Began.Add(24*time.Hour), next)
	k.ThinNow()
	_, err = k.ThinDue(ctx)
	require.NoError(t, err)
	second, err := k.LastPass(ctx)
	require.NoError(t, err)
	require.True(t, second.Began.After(first.Began))
	k.Later(25 * time.Hour)
	_, err = k.ThinDue(ctx)
	require.NoError(t, err)
	third, err := k.LastPass(ctx)
	require.NoError(t, err)
	require.True(t, third.Began.After(second.Began))
}
