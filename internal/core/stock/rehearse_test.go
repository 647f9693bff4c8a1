package stock

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// rushed is a past in which buyers at some channels ask for the last units of an item, many at once.
func rushed(seed uint64) *Past {
	rng := rand.New(rand.NewPCG(seed, 3))
	p := &Past{Free: 5 + rng.Int64N(30)}
	for range 2 + rng.IntN(4) {
		p.Channels = append(p.Channels, Share{Sources: []int64{1}, Pace: float64(rng.IntN(30)), Delay: 300 * time.Millisecond})
	}
	at := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	for range 150 {
		at = at.Add(time.Duration(rng.IntN(2000)) * time.Millisecond)
		p.Sales = append(p.Sales, PastSale{At: at, Known: at.Add(time.Duration(rng.IntN(3000)) * time.Millisecond),
			Channel: rng.IntN(len(p.Channels)), Units: 1})
	}
	return p
}

// TestRehearse: with everything shown everywhere some is sold twice, shared none is; what is shared is refused to some; the past does not
// change by being rehearsed.
func TestRehearse(t *testing.T) {
	var all, shared, half Rehearsed
	for seed := range uint64(200) {
		p := rushed(seed)
		one := p.Rehearse(1000, 0)
		require.Zero(t, one.Oversold, "seed %d", seed)
		require.LessOrEqual(t, one.Sold, p.Free)
		require.Equal(t, one, p.Rehearse(1000, 0))
		shared.Add(one)
		half.Add(p.Rehearse(1000, 50))
		all.Add(p.Rehearse(-1, 0))
	}
	require.Positive(t, all.Oversold)
	require.Zero(t, all.Refused, "where everything is shown everywhere, nobody is refused what there is")
	require.Positive(t, shared.Refused)
	require.Less(t, half.Refused, shared.Refused, "to show more than there is leaves fewer refused")
	require.LessOrEqual(t, half.Oversold, all.Oversold)
	require.Equal(t, all.Asked, shared.Asked)
}

// TestRehearseAQuietPast: where sales are known before the next is made, nothing is sold twice, shared or not, and what comes is sold.
func TestRehearseAQuietPast(t *testing.T) {
	at := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	p := &Past{Free: 2, Channels: []Share{{Sources: []int64{1}, Pace: 1}, {Sources: []int64{1}, Pace: 1}},
		Stock: []PastStock{{At: at.Add(5 * time.Hour), Change: 3}, {At: at.Add(6 * time.Hour), Change: -1}}}
	for i := range 9 {
		when := at.Add(time.Duration(i) * time.Hour)
		p.Sales = append(p.Sales, PastSale{At: when, Known: when.Add(time.Second), Channel: i % 2, Units: 1})
	}
	require.Equal(t, Rehearsed{Asked: 9, Sold: 4}, p.Rehearse(-1, 0))
	require.Equal(t, Rehearsed{Asked: 9, Sold: 4}, p.Rehearse(20, 0))
}
