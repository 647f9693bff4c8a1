package stock

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestOversellingNeedsSalesUnderWay: several channels sell the last units at once, while word of sales and of
// new quantities travels with delays. A unit is sold twice only at a moment when more sales are under way to
// the channel that sells it than the buffer keeps back; without delays never.
func TestOversellingNeedsSalesUnderWay(t *testing.T) {
	type event struct {
		at, channel int
		quantity    int64 // to be shown; below 0: a sale that becomes known
		known       int64 // sales that the quantity was worked out with
	}
	oversold := 0
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 5))
		start, late := int64(5+rng.IntN(50)), rng.IntN(30)
		p := Policy{Sources: []int64{1}, Buffer: rng.Int64N(4), BufferPercent: rng.Int64N(2) * 5}
		book := NewBook(map[Key]Level{{1, 1}: {OnHand: start}})
		channels := 2 + rng.IntN(5)
		shows, told := make([]int64, channels), make([]int64, channels) // told: sales that the number shown knows of
		for i := range shows {
			shows[i] = p.Offer(One(1), book.Level)
		}
		last := make([]int, channels)
		var queue []event
		var sold, known int64
		wait := func() int {
			if late == 0 {
				return 0
			}
			return rng.IntN(late + 1)
		}
		for now := range 400 {
			for busy := true; busy; { // what has come by now, and what it causes at once
				busy = false
				for i, e := range queue {
					if e.at > now {
						continue
					}
					queue = append(queue[:i], queue[i+1:]...)
					busy = true
					if e.quantity >= 0 {
						shows[e.channel], told[e.channel] = e.quantity, e.known
						break
					}
					known++
					book.Post(Movement{Key: Key{1, 1}, Allocated: 1})
					for c := range shows {
						last[c] = max(last[c], now+wait()) // quantities to one channel do not overtake each other
						queue = append(queue, event{last[c], c, p.Offer(One(1), book.Level), known})
					}
					break
				}
			}
			c := rng.IntN(channels)
			if shows[c] <= 0 || rng.IntN(3) == 0 {
				continue
			}
			if sold >= start {
				oversold++
				require.NotZero(t, late, "seed %d: sold twice although everything is known at once", seed)
				require.Greater(t, sold-told[c], p.Buffer, "seed %d: the channel knew of %d of %d sales", seed, told[c], sold)
			}
			shows[c]--
			sold++
			told[c]++
			queue = append(queue, event{now + wait(), c, -1, 0})
		}
	}
	require.Greater(t, oversold, 1000, "the case must occur")
}
