package store

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A query that is asked often is kept prepared, and answers like the first time: with what is in the file now.
func TestAKeptQueryAnswersWithWhatIsThere(t *testing.T) {
	s := open(t)
	r := s.read
	const query = "SELECT count(*) FROM setting WHERE key>=?"
	var before int64
	require.NoError(t, r.GetContext(t.Context(), &before, query, ""))
	for i := range 3 * askedOften {
		write(t, s, func(tx *Tx) error { return tx.PutSetting(fmt.Sprintf("zz%02d", i), "x") })
		var n int64
		require.NoError(t, r.GetContext(t.Context(), &n, query, ""))
		require.Equal(t, before+int64(i)+1, n)
		require.NoError(t, r.GetContext(t.Context(), &n, query, "zz00"), "another value of the parameter")
		require.Equal(t, int64(i)+1, n)
	}
	require.NotNil(t, r.kept[query])
	var none string
	for range 2 * askedOften {
		require.ErrorIs(t, r.GetContext(t.Context(), &none, "SELECT key FROM setting WHERE key='nowhere'"), sql.ErrNoRows)
	}
}

// However many different queries are asked, few are kept and counted, and all are answered.
func TestFewQueriesAreKept(t *testing.T) {
	r := open(t).read
	for i := range mostCounted + mostKept {
		for range askedOften {
			var got []int
			require.NoError(t, r.SelectContext(t.Context(), &got, fmt.Sprintf("SELECT %d UNION ALL SELECT ?", i), 7))
			require.Equal(t, []int{i, 7}, got)
		}
		require.LessOrEqual(t, len(r.kept), mostKept)
		require.LessOrEqual(t, len(r.asked), mostCounted)
	}
	require.Len(t, r.kept, mostKept)
}

func TestManyAskForTheSameAtOnce(t *testing.T) {
	r := open(t).read
	var wg sync.WaitGroup
	for range 16 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			for i := range 50 {
				var got []int
				assert.NoError(t, r.SelectContext(t.Context(), &got, "SELECT ?", i))
				assert.Equal(t, []int{i}, got)
			}
		}()
	}
	wg.Wait()
}

func TestAQueryThatIsWrongIsSaidSo(t *testing.T) {
	r := open(t).read
	ctx, leave := context.WithCancel(t.Context())
	for range 2 * askedOften {
		var got []int
		require.ErrorContains(t, r.SelectContext(ctx, &got, "SELECT x FROM nowhere"), "nowhere")
		require.ErrorContains(t, r.GetContext(ctx, new(int), "SELECT x FROM nowhere"), "nowhere")
	}
	leave()
	require.ErrorIs(t, r.GetContext(ctx, new(int), "SELECT 1"), context.Canceled)
	require.NoError(t, r.GetContext(t.Context(), new(int), "SELECT 1"), "who left keeps nothing from the others")
}
