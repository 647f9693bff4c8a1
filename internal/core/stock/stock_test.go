package stock

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFindPrefersOnePlace(t *testing.T) {
	b := NewBook(map[Key]Level{{1, 10}: {OnHand: 3}, {1, 20}: {OnHand: 8}, {1, 30}: {OnHand: 2, Allocated: 5}})
	for _, c := range []struct {
		qty  int64
		want []Part
	}{
		{3, []Part{{10, 3}}},
		{4, []Part{{20, 4}}},
		{10, []Part{{10, 3}, {20, 7}}},
		{20, []Part{{10, 3}, {20, 8}}},
	} {
		require.Equal(t, c.want, b.Find(One(1), []int64{10, 20, 30}, c.qty), c.qty)
	}
	require.Empty(t, b.Find(One(2), []int64{10}, 1))
	require.Empty(t, b.Movements, "looking changes nothing")
}

func TestOffer(t *testing.T) {
	levels := func(k Key) Level {
		return map[Key]Level{{1, 1}: {OnHand: 10, Allocated: 3}, {1, 2}: {OnHand: 5}, {2, 1}: {OnHand: 1, Allocated: 4}}[k]
	}
	for _, c := range []struct {
		name   string
		policy Policy
		item   int64
		want   int64
	}{
		{"one place", Policy{Sources: []int64{1}}, 1, 7},
		{"two places", Policy{Sources: []int64{1, 2}}, 1, 12},
		{"buffer", Policy{Sources: []int64{1, 2}, Buffer: 2}, 1, 10},
		{"cap", Policy{Sources: []int64{1, 2}, Buffer: 2, Cap: 6}, 1, 6},
		{"below the floor", Policy{Sources: []int64{1}, Floor: 8}, 1, 0},
		{"off", Policy{Sources: []int64{1, 2}, Off: true}, 1, 0},
		{"promised more than there is", Policy{Sources: []int64{1}}, 2, 0},
		{"nowhere", Policy{}, 1, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Equal(t, c.want, c.policy.Offer(One(c.item), levels))
		})
	}
}

// TestExplanationEndsAtTheOffer: whatever the policy and the levels, the sum that is shown ends at the
// quantity that is told, each step adds up, and nothing negative is told.
func TestExplanationEndsAtTheOffer(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		p := Policy{Buffer: rng.Int64N(6), Cap: rng.Int64N(20), Floor: rng.Int64N(5), Off: rng.IntN(10) == 0}
		levels := map[Key]Level{}
		for loc := range rng.Int64N(4) {
			p.Sources = append(p.Sources, loc)
			levels[Key{1, loc}] = Level{OnHand: rng.Int64N(30) - 3, Allocated: rng.Int64N(20)}
		}
		at := func(k Key) Level { return levels[k] }
		told, steps := p.Explain(One(1), at, Names{Place: func(int64) string { return "there" }})
		require.Equal(t, p.Offer(One(1), at), told)
		require.GreaterOrEqual(t, told, int64(0))
		var sum int64
		for _, s := range steps {
			sum += s.Change
			require.Equal(t, sum, s.Result)
		}
		require.Equal(t, told, sum, "%+v %v %v", p, levels, steps)
	}
}

// TestLevelIsTheSumOfItsMovements over random movements.
func TestLevelIsTheSumOfItsMovements(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	b := NewBook(nil)
	for range 3000 {
		b.Post(Movement{Key: Key{rng.Int64N(5), rng.Int64N(3)}, OnHand: rng.Int64N(21) - 10, Allocated: rng.Int64N(5) - 2})
	}
	sums := map[Key]Level{}
	for _, m := range b.Movements {
		l := sums[m.Key]
		l.OnHand += m.OnHand
		l.Allocated += m.Allocated
		sums[m.Key] = l
	}
	require.Len(t, b.Touched(), len(sums))
	for k, want := range sums {
		require.Equal(t, want, b.Level(k))
	}
}
