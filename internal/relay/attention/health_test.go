package attention_test

import (
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestAHealthyCompanyRaisesNothing, and writes nothing either.
func TestAHealthyCompanyRaisesNothing(t *testing.T) {
	k := trial.New(t)
	h, err := k.Health(t.Context())
	require.NoError(t, err)
	require.Equal(t, "well", h.State)
	require.Len(t, h.Checks, 5)
	next, err := k.WatchHealth(t.Context())
	require.NoError(t, err)
	require.Equal(t, k.Now().Add(time.Minute), next)
	require.Empty(t, k.AllCauses())
}

// TestAConnectionThatIsDeadIsRaised once, and ends when it answers again.
func TestAConnectionThatIsDeadIsRaised(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.JoinBooth(nil)
	c := k.ByCode("booth")
	k.On("booth", "/orders", func(trial.Call) (int, any) { return http.StatusServiceUnavailable, nil })
	read := func() { k.Run(c, engine.RunRequest{Kind: message.OrdersIn, Cause: "schedule"}) }
	read()
	_, err := k.WatchHealth(ctx)
	require.NoError(t, err)
	require.Empty(t, k.AllCauses(), "a moment is not long")
	k.Later(31 * time.Minute)
	read()
	for range 2 {
		_, err = k.WatchHealth(ctx)
		require.NoError(t, err)
		require.Equal(t, []order.Cause{engine.ConnectionDead}, k.AllCauses())
	}
	h, err := k.Health(ctx)
	require.NoError(t, err)
	require.Equal(t, "wants a look", h.State)
	k.Has("/orders")
	read()
	_, err = k.WatchHealth(ctx)
	require.NoError(t, err)
	require.Empty(t, k.AllCauses())
}

// TestABacklogIsRaised, but not where somebody paused the connection, for then it is meant.
func TestABacklogIsRaised(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR")
	k.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("JAR", 1))))
	require.NoError(t, k.Pause(ctx, "stall", true, 0, "Edda"))
	k.Later(31 * time.Minute)
	_, err := k.WatchHealth(ctx)
	require.NoError(t, err)
	require.NotContains(t, k.AllCauses(), engine.Backlog)
	require.NoError(t, k.Pause(ctx, "stall", false, 0, "Edda"))
	_, err = k.WatchHealth(ctx)
	require.NoError(t, err)
	require.Contains(t, k.AllCauses(), engine.Backlog)
	k.Settle()
	_, err = k.WatchHealth(ctx)
	require.NoError(t, err)
	require.NotContains(t, k.AllCauses(), engine.Backlog)
}

// TestAClockThatIsWrongIsNoticed by what the file knows already.
func TestAClockThatIsWrongIsNoticed(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Later(-3 * time.Hour)
	h, err := k.Health(ctx)
	require.NoError(t, err)
	require.Equal(t, "wants a look", h.State)
	require.Contains(t, h.Checks[2].Text, "3 hours behind what happened already")
	_, err = k.WatchHealth(ctx)
	require.NoError(t, err)
	require.Equal(t, []order.Cause{engine.ServiceUnwell}, k.AllCauses())
	k.Later(3 * time.Hour)
	_, err = k.WatchHealth(ctx)
	require.NoError(t, err)
	require.Empty(t, k.AllCauses())
}

// TestTheMiddleOfTheOthersClocksCounts: one that is wrong is no reason to doubt ours.
func TestTheMiddleOfTheOthersClocksCounts(t *testing.T) {
	k := trial.New(t, "ann", "bob")
	ask := func(host string, ahead time.Duration) {
		k.Ahead(host, ahead)
		res, err := k.Client.Get("http://" + host + ".test/time")
		require.NoError(t, err)
		res.Body.Close()
	}
	ask("ann", time.Hour)
	ask("bob", 0)
	ask("stall", 0)
	require.Less(t, k.ClockOff(), time.Second)
	ask("bob", 10*time.Minute)
	h, err := k.Health(t.Context())
	require.NoError(t, err)
	require.Contains(t, h.Checks[2].Text, "The clock is 10 minutes behind the other systems'")
	k.Later(20 * time.Minute)
	require.Zero(t, k.ClockOff(), "what was said before ours was set counts no more")
	ask("ann", time.Hour)
	ask("bob", 0)
	require.Less(t, k.ClockOff(), time.Second, "of two, the one nearer to ours")
}

// TestAWriterThatIsStuckIsSeen while it is.
func TestAWriterThatIsStuckIsSeen(t *testing.T) {
	k := trial.New(t)
	require.Zero(t, k.Store.Writing())
	require.NoError(t, k.Store.Write(t.Context(), func(*store.Tx) error {
		require.Positive(t, k.Store.Writing())
		return nil
	}))
	require.Zero(t, k.Store.Writing())
}
