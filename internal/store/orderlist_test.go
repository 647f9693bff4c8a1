package store

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// manyOrders puts orders of all stages into a file and tells the stage of each.
func manyOrders(t *testing.T, s *Store, n int) map[int64]string {
	t.Helper()
	company(t, s)
	addOrders(t, s, n)
	stages := []string{"held", "ready", "routed", "picking", "packed", "shipped"}
	rng := rand.New(rand.NewPCG(7, 11))
	at := map[int64]string{}
	for id := int64(1); id <= int64(n); id++ {
		at[id] = stages[rng.IntN(len(stages))]
		_, err := s.conn.ExecContext(t.Context(), "UPDATE orders SET stage = ? WHERE id = ?", at[id], id)
		require.NoError(t, err)
	}
	return at
}

// walk reads a list page by page, until a page is not full.
func walk(t *testing.T, s *Store, f OrderFilter) []int64 {
	t.Helper()
	var ids []int64
	for {
		page, err := s.ListOrders(t.Context(), f)
		require.NoError(t, err)
		for _, r := range page {
			ids = append(ids, r.ID)
		}
		if len(page) < f.Limit {
			return ids
		}
		f.Before, f.After = ids[len(ids)-1], ids[len(ids)-1]
	}
}

// TestPagesHoldEachOrderOnce: of one stage or several, from either end, the pages together are the orders of the filter
// in their order: none is left out and none comes twice.
func TestPagesHoldEachOrderOnce(t *testing.T) {
	s := open(t)
	at := manyOrders(t, s, 90)
	for _, stages := range []string{"", "ready", "ready,routed,picking", "shipped,held", "picking,picking", "gone,held", "gone"} {
		for _, connection := range []string{"", "shop"} {
			for _, oldest := range []bool{false, true} {
				name := fmt.Sprintf("%s of %s, oldest %v", stages, connection, oldest)
				f := OrderFilter{Connection: connection, Oldest: oldest, Limit: 7}
				want := []int64{}
				if stages != "" {
					f.Stages = strings.Split(stages, ",")
				}
				for id := int64(1); id <= 90; id++ {
					if stages == "" || slices.Contains(f.Stages, at[id]) {
						want = append(want, id)
					}
				}
				if !oldest {
					slices.Reverse(want)
				}
				assert.ElementsMatch(t, want, walk(t, s, f), name)
				assert.True(t, slices.Equal(want, append([]int64{}, walk(t, s, f)...)), "%s: in their order", name)
			}
		}
	}
}

// TestAnyNumberOfStagesIsAnswered: what is asked for beyond the stages there are is no error.
func TestAnyNumberOfStagesIsAnswered(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 3)
	f := OrderFilter{Stages: []string{"held", "shipped"}, Limit: 10}
	want := walk(t, s, f)
	require.Len(t, want, 3)
	for i := range 600 {
		f.Stages = append(f.Stages, fmt.Sprint("stage ", i))
	}
	assert.Equal(t, want, walk(t, s, f))
}

// TestSeveralStagesAreEachFoundByTheirIndex: the few that are open are not looked for among the many that have left.
func TestSeveralStagesAreEachFoundByTheirIndex(t *testing.T) {
	s := open(t)
	company(t, s)
	for index, f := range map[string]OrderFilter{
		"orders_stage":            {Stages: []string{"ready", "picking"}, Oldest: true, Limit: 50},
		"orders_stage_connection": {Stages: []string{"ready", "picking"}, Connection: "shop", Before: 9, Limit: 50},
	} {
		query, args := listOrdersQuery(f)
		var plan []struct {
			ID, Parent, NotUsed int
			Detail              string
		}
		require.NoError(t, s.read.SelectContext(t.Context(), &plan, "EXPLAIN QUERY PLAN "+query, args...))
		uses := 0
		for _, step := range plan {
			if strings.Contains(step.Detail, "USING INDEX "+index) || strings.Contains(step.Detail, "USING COVERING INDEX "+index) {
				uses++
			}
			assert.NotContains(t, step.Detail, "SCAN o", "a table walked from end to end")
		}
		assert.Equal(t, 2, uses, "%v", plan)
	}
}

// TestTheOldestThatWaitToBeSent: of all stages that wait, by when they were placed, not by when they came; and found by the
// index, however many wait.
func TestTheOldestThatWaitToBeSent(t *testing.T) {
	s := open(t)
	at := manyOrders(t, s, 90)
	rng := rand.New(rand.NewPCG(2, 3))
	placed := map[int64]int64{}
	for id := int64(1); id <= 90; id++ {
		placed[id] = 1_000_000 + rng.Int64N(50) // some at the same moment
		_, err := s.conn.ExecContext(t.Context(), "UPDATE orders SET placed_at = ? WHERE id = ?", placed[id], id)
		require.NoError(t, err)
	}
	var want []int64
	for id, stage := range at {
		if slices.Contains([]string{"ready", "routed", "picking", "packed"}, stage) {
			want = append(want, id)
		}
	}
	slices.SortFunc(want, func(a, b int64) int { return cmp.Or(cmp.Compare(placed[a], placed[b]), cmp.Compare(a, b)) })
	for _, n := range []int{1, 8, 40, 500} {
		list, err := s.OldestOpen(t.Context(), n)
		require.NoError(t, err)
		var got []int64
		for _, r := range list {
			got = append(got, r.ID)
		}
		most := want[:min(n, len(want))]
		require.Len(t, got, len(most))
		for i := range got {
			require.Equal(t, placed[most[i]], placed[got[i]], "place %d of %d", i, n)
		}
	}
}
