package sim

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/require"
)

var (
	seed  = flag.Uint64("seed", 0, "run this seed only")
	span  = flag.Int("days", 0, "so many simulated days; 0: 2 in the short test, 30 in the soak")
	soak  = flag.Int("soak", 0, "run so many seeds of 30 days")
	first = flag.Uint64("first", 1, "the first seed of a soak")
)

// run lets the world of a seed go on for some days, and returns what was wrong in the end, and its trace.
func run(t *testing.T, seed uint64, days int) (wrong, trace []string, summary string) {
	t.Helper()
	synctest.Test(t, func(t *testing.T) {
		w := open(t, seed)
		defer func() {
			if p := recover(); p != nil {
				fmt.Fprintln(os.Stderr, strings.Join(w.log[max(0, len(w.log)-60):], "\n"))
				panic(p)
			}
		}()
		defer w.stop()
		l := w.days(days)
		sales := 0
		for _, m := range l.sales {
			sales += len(m)
		}
		w.finish()
		wrong, trace = w.check(l), w.log
		summary = fmt.Sprintf("%d days, %d sales, %d steps, %d crashes, faults %v, %d mails", days, sales, w.steps, w.crashes, w.faults,
			len(w.mails))
		shared := w.shared()
		summary += fmt.Sprintf(", %d listings share", shared) + w.benchWork() + w.asked()
		if seed%2 == 0 && shared == 0 {
			wrong = append(wrong, "no listing shares the last units")
		}
		if len(wrong) > 0 && os.Getenv("TRACE") != "" {
			require.NoError(t, os.WriteFile(os.Getenv("TRACE"), []byte(strings.Join(w.log, "\n")), 0o644))
		}
	})
	return wrong, trace, summary
}

// again is the command that repeats a seed.
func again(seed uint64, days int) string {
	return fmt.Sprintf("go test ./internal/whole/sim -run 'TestSeeds' -seed %d -days %d", seed, days)
}

// TestSeeds runs a few short seeds, or the one that is asked for.
func TestSeeds(t *testing.T) {
	days := 2
	if *span > 0 {
		days = *span
	}
	seeds := []uint64{1, 2}
	if *seed != 0 {
		seeds = []uint64{*seed}
	}
	for _, s := range seeds {
		t.Run(fmt.Sprint(s), func(t *testing.T) {
			t.Parallel()
			wrong, _, summary := run(t, s, days)
			t.Log(summary)
			require.Empty(t, wrong, "seed %d; repeat it with\n  %s", s, again(s, days))
		})
	}
}

// TestSameSeedSameRun: the same seed takes the same steps, meets the same faults and ends the same.
func TestSameSeedSameRun(t *testing.T) {
	traces := make([][]string, 2)
	t.Run("both", func(t *testing.T) {
		for i := range traces {
			t.Run(fmt.Sprint(i), func(t *testing.T) {
				t.Parallel()
				_, traces[i], _ = run(t, 7, 1)
			})
		}
	})
	one, two := traces[0], traces[1]
	require.NotEmpty(t, one)
	for i := range min(len(one), len(two)) {
		require.Equal(t, one[i], two[i], "line %d of the trace, after\n%s", i, strings.Join(one[max(0, i-10):i], "\n"))
	}
	require.Len(t, two, len(one))
}

// TestSoak runs many long seeds; make soak asks for it.
func TestSoak(t *testing.T) {
	if *soak == 0 {
		t.Skip("make soak runs it")
	}
	days := 30
	if *span > 0 {
		days = *span
	}
	for s := *first; s < *first+uint64(*soak); s++ {
		t.Run(fmt.Sprint(s), func(t *testing.T) {
			wrong, _, summary := run(t, s, days)
			fmt.Printf("seed %d: %s, %d wrong\n", s, summary, len(wrong))
			require.Empty(t, wrong, "seed %d; repeat it with\n  %s", s, again(s, days))
		})
	}
}
