package engine_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestMemoryFollowsTheFile: connections are paused and resumed from many sides at once; what memory knows at the end is
// what the file says.
func TestMemoryFollowsTheFile(t *testing.T) {
	k := trial.New(t)
	for range 60 {
		var wg sync.WaitGroup
		for side := range 3 {
			wg.Add(1)
			go func() {
				defer wg.Done()
				_ = k.Pause(t.Context(), "stall", side%2 == 0, 0, fmt.Sprint("side ", side)) // one may come too late
			}()
		}
		wg.Wait()
		recs, err := k.Store.Connections(t.Context())
		require.NoError(t, err)
		require.Equal(t, recs[0].Paused, k.ByCode("stall").Rec().Paused)
		require.Equal(t, recs[0].Revision, k.ByCode("stall").Rec().Revision)
	}
}

// TestMemoryKeepsWhatWasNotCommitted: a change that fails leaves memory as it was.
func TestMemoryChangesAfterTheCommitOnly(t *testing.T) {
	k := trial.New(t)
	c := k.ByCode("stall")
	before, _ := k.Feed(c, "stock out")
	require.NoError(t, k.SetFeed(t.Context(), "stall", "stock out", false, "", before.Revision, "Edda"))
	err := k.Commit(t.Context(), func(ch *engine.Change) error {
		f, _ := k.Feed(c, "stock out")
		require.NoError(t, k.FeedFailed(ch, c, f, fmt.Errorf("no answer")))
		require.NoError(t, k.QueueAllOffers(ch, c))
		return fmt.Errorf("it was not to be")
	})
	require.Error(t, err)
	f, on := k.Feed(c, "stock out")
	require.False(t, on)
	require.Zero(t, f.Failures)
}

// TestADroppedSetUpLeavesNothingRunning.
func TestADroppedSetUpLeavesNothingRunning(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.Start())
	count := func() int { runtime.GC(); return runtime.NumGoroutine() }
	before := count()
	for i := range 20 {
		code, err := k.StartJoin(t.Context(), joining.NewJoin{Connector: "hedgerow", Name: fmt.Sprintf("Shop %d", i)}, "Edda")
		require.NoError(t, err)
		require.NoError(t, k.DropJoin(t.Context(), code, "Edda"))
	}
	require.Eventually(t, func() bool { return count() <= before+2 }, 10*time.Second, 20*time.Millisecond, "its loops have ended")
}

// TestACatalogThatDidNotLoadIsLoadedAgain.
func TestACatalogThatDidNotLoadIsLoadedAgain(t *testing.T) {
	k := trial.New(t)
	k.Stock(1, "JAR")
	k.Spoil("ALTER TABLE item RENAME COLUMN gtin TO lost")
	_, err := k.Index(t.Context(), true)
	require.Error(t, err)
	k.Spoil("ALTER TABLE item RENAME COLUMN lost TO gtin")
	x, err := k.Index(t.Context(), true)
	require.NoError(t, err)
	require.NotNil(t, x)
}

// TestTwoServicesNeverWorkOnOneFile: the second is refused and told who has it; looking and adding a person still work.
// What a process held is free when it ends.
func TestTwoServicesNeverWorkOnOneFile(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.Start())
	require.NoError(t, k.Start(), "starting twice is starting once")
	st, err := store.Open(t.Context(), k.Store.Path())
	require.NoError(t, err)
	defer st.Close()
	second, err := relay.Open(t.Context(), st, engine.Options{Transport: k})
	require.NoError(t, err)
	defer second.Stop()
	err = second.Start()
	var held *store.Held
	require.ErrorAs(t, err, &held)
	require.ErrorContains(t, err, fmt.Sprintf("process %d on", os.Getpid()))
	require.NoError(t, second.PutUser(t.Context(), "pim@example.test", "Pim", "clerk", "a long password"))

	k.Stop()
	require.NoError(t, second.Start(), "the first has ended")
}

// TestTheHoldEndsWithItsProcess: a process that is killed leaves no file behind that would keep others out.
func TestTheHoldEndsWithItsProcess(t *testing.T) {
	if path := os.Getenv("HOLD_FILE"); path != "" { // the other process
		st, err := store.Open(t.Context(), path)
		require.NoError(t, err)
		require.NoError(t, st.Hold())
		fmt.Println("held")
		select {}
	}
	path := filepath.Join(t.TempDir(), "company.relay")
	st, err := store.Open(t.Context(), path)
	require.NoError(t, err)
	defer st.Close()
	other := exec.Command(os.Args[0], "-test.run", "^TestTheHoldEndsWithItsProcess$")
	other.Env = append(os.Environ(), "HOLD_FILE="+path)
	out, err := other.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, other.Start())
	_, err = out.Read(make([]byte, 64))
	require.NoError(t, err)
	require.ErrorContains(t, st.Hold(), fmt.Sprintf("process %d", other.Process.Pid))
	require.NoError(t, other.Process.Kill())
	_ = other.Wait()
	require.NoError(t, st.Hold())
}
