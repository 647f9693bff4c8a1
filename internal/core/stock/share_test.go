package stock

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sharedShops are channels that sell the last units of one item: word of sales, quantities of ours and the answers to them travel with
// delays, and a quantity replaces what a channel shows. Time goes in steps.
type sharedShops struct {
	rng    *rand.Rand
	over   int64
	late   int // most steps that anything travels
	free   int64
	shares []Share
	shows  []int64
	last   []int // when the newest quantity to a channel arrives: they do not overtake each other
	closes []int // when all sales from before the last quantity are known; 0: not known yet
	sold   int64
	queue  []shopEvent
	sent   int
}

type shopEvent struct {
	at, channel int
	units       int64 // of a word
	shows       int64 // of a quantity
	kind        int
}

// Kinds of events.
const (
	wordComes = iota
	quantityArrives
	answerComes
)

func newSharedShops(seed uint64, over int64) *sharedShops {
	rng := rand.New(rand.NewPCG(seed, 17))
	n := 2 + rng.IntN(5)
	w := &sharedShops{rng: rng, over: over, late: rng.IntN(30), free: int64(1 + rng.IntN(60)), shares: make([]Share, n),
		shows: make([]int64, n), last: make([]int, n), closes: make([]int, n)}
	for i := range w.shares {
		w.shares[i] = Share{Listing: int64(i + 1), Sources: []int64{1}, Pace: float64(rng.IntN(40)),
			Delay: time.Duration(w.late) * time.Second}
	}
	return w
}

func (w *sharedShops) wait() int { return w.rng.IntN(w.late + 1) }

// share works out and sends quantities.
func (w *sharedShops) share(now int) {
	for i := range w.shares {
		s := &w.shares[i]
		s.May = max(0, w.free)
		if s.Before > 0 && !s.Open && w.closes[i] > 0 && now > w.closes[i] {
			s.Before = 0
		}
	}
	for i, n := range ShareOut(w.shares, w.over) {
		if n == Keep {
			continue
		}
		w.sent++
		w.shares[i].Tell(n)
		w.closes[i] = 0
		w.last[i] = max(w.last[i], now+w.wait())
		w.queue = append(w.queue, shopEvent{w.last[i], i, 0, n, quantityArrives})
	}
}

// come lets what has come by now happen.
func (w *sharedShops) come(now int) {
	for k := 0; k < len(w.queue); k++ {
		e := w.queue[k]
		if e.at > now {
			continue
		}
		w.queue = append(w.queue[:k], w.queue[k+1:]...)
		k = -1
		s := &w.shares[e.channel]
		switch e.kind {
		case wordComes:
			w.free -= e.units
			if e.units > 0 {
				s.Sold(e.units)
			} else {
				s.Left -= e.units // called off: it is back on the shelf there
			}
		case quantityArrives:
			w.shows[e.channel] = e.shows
			w.queue = append(w.queue, shopEvent{now + w.wait(), e.channel, 0, 0, answerComes})
		case answerComes:
			s.Open = false
			w.closes[e.channel] = now + w.late
		}
	}
}

func (w *sharedShops) tick(now int, buys func(channel int) bool) {
	w.come(now)
	w.share(now)
	for c := range w.shows {
		switch {
		case w.shows[c] > 0 && buys(c):
			n := 1 + w.rng.Int64N(min(3, w.shows[c]))
			w.shows[c] -= n
			w.sold += n
			w.queue = append(w.queue, shopEvent{now + w.wait(), c, n, 0, wordComes})
		}
	}
}

// TestSharedUnitsAreSoldOnce: whatever is under way, channels that share sell no more than there is, or no more beyond it than was
// allowed; and a channel that goes on selling gets all of it in the end, but for
// the last unit of others.
func TestSharedUnitsAreSoldOnce(t *testing.T) {
	for seed := range uint64(300) {
		over := []int64{0, 0, 50, 200}[seed%4]
		w := newSharedShops(seed, over)
		start := w.free
		now := 0
		for ; now < 400; now++ {
			w.tick(now, func(int) bool { return w.rng.IntN(3) == 0 })
			require.LessOrEqual(t, w.sold, start*(100+over)/100, "seed %d at %d", seed, now)
		}
		for ; now < 6000 && w.sold < start; now++ {
			w.tick(now, func(c int) bool { return c == 0 })
			require.LessOrEqual(t, w.sold, start*(100+over)/100, "seed %d at %d", seed, now)
		}
		if w.sold < start {
			for i := range w.shares[1:] {
				require.LessOrEqual(t, w.shares[1+i].Left, int64(1), "seed %d: units stay where nobody buys them: %+v", seed, w.shares)
			}
		}
		for ; len(w.queue) > 0 || now%2 == 0; now++ {
			w.tick(now, func(int) bool { return false })
		}
		for range 2*w.late + 5 {
			now++
			w.tick(now, func(int) bool { return false })
		}
		before := w.sent
		for range 200 {
			now++
			w.tick(now, func(int) bool { return false })
		}
		require.Equal(t, before, w.sent, "seed %d: it does not come to rest", seed)
	}
}

// TestSharesComeToRest: where nobody buys any more, quantities are not sent to and fro.
func TestSharesComeToRest(t *testing.T) {
	for seed := range uint64(400) {
		w := newSharedShops(seed, []int64{0, 50}[seed%2])
		w.free = int64(w.rng.IntN(8)) // few, so that not all have one
		stop := w.rng.IntN(60)
		for now := range 2000 {
			w.tick(now, func(int) bool { return now < stop && w.rng.IntN(9) == 0 })
		}
		before := w.sent
		for now := range 1000 {
			w.tick(2000+now, func(int) bool { return false })
		}
		require.Equal(t, before, w.sent, "seed %d: %+v", seed, w.shares)
	}
}

// TestSharesThatComeBack: stock that goes by a count is taken back, orders that are called off are on the shelf of their channel again,
// and no unit is sold twice for either.
func TestSharesThatComeBack(t *testing.T) {
	for seed := range uint64(200) {
		w := newSharedShops(seed, 0)
		start := w.free
		var calledOff int64
		for now := range 1500 {
			w.tick(now, func(int) bool { return w.rng.IntN(6) == 0 })
			if c := w.rng.IntN(len(w.shows)); w.sold-calledOff > 0 && w.rng.IntN(25) == 0 && w.known(c) {
				w.shows[c]++ // it puts the unit back itself, and tells us
				calledOff++
				w.queue = append(w.queue, shopEvent{now + w.wait(), c, -1, 0, wordComes})
			}
			require.LessOrEqual(t, w.sold-calledOff, start, "seed %d at %d", seed, now)
		}
	}
}

// known tells whether all sales of a channel are known and nothing is on its way to it.
func (w *sharedShops) known(channel int) bool {
	for _, e := range w.queue {
		if e.channel == channel {
			return false
		}
	}
	return true
}

func TestShareOut(t *testing.T) {
	two := []int64{1}
	for _, c := range []struct {
		name  string
		list  []Share
		over  int64
		tells []int64
	}{
		{"whoever sells more gets more", []Share{{Sources: two, May: 40, Pace: 30}, {Sources: two, May: 40, Pace: 10}}, 0, []int64{15, 6}},
		{"alone", []Share{{Sources: two, May: 8}}, 0, []int64{8}},
		{"nobody has sold anything", []Share{{Sources: two, May: 8}, {Sources: two, May: 8}}, 0, []int64{2, 2}},
		{"a share of what was shown everywhere", []Share{{Sources: two, May: 20, Left: 20, Fresh: true}, {Sources: two, May: 20, Left: 20,
			Fresh: true}}, 0, []int64{5, 5}},
		{"one unit goes to the faster", []Share{{Sources: two, May: 1, Pace: 1}, {Sources: two, May: 1, Pace: 9}}, 0, []int64{Keep, 1}},
		{"half as much again may be shown", []Share{{Sources: two, May: 2, Pace: 9}, {Sources: two, May: 2, Pace: 1}}, 50, []int64{2, 1}},
		{"what is on its way is waited for", []Share{{Sources: two, May: 10, Open: true}, {Sources: two, May: 10, Left: 3}}, 0,
			[]int64{Keep, Keep}},
		{"sold out, and the rest lies with another", []Share{{Sources: two, May: 6, Pace: 9}, {Sources: two, May: 6, Left: 6}}, 0,
			[]int64{Keep, 0}},
		{"the last one stays where it is", []Share{{Sources: two, May: 1, Pace: 9}, {Sources: two, May: 1, Pace: 8, Left: 1}}, 0,
			[]int64{Keep, Keep}},
		{"unless another sells much faster", []Share{{Sources: two, May: 1, Pace: 9}, {Sources: two, May: 1, Pace: 2, Left: 1}}, 0,
			[]int64{Keep, 0}},
		{"it may be sold out", []Share{{Sources: two, May: 2, Pace: 9, Left: 2, Doubt: 2}, {Sources: two, May: 2, Pace: 9}}, 0,
			[]int64{0, Keep}},
		{"stock went otherwise", []Share{{Sources: two, May: 3, Left: 3, Pace: 9}, {Sources: two, May: 3, Left: 3, Pace: 1}}, 0,
			[]int64{Keep, 0}},
		{"offered nothing any more", []Share{{Sources: two, May: 0, Left: 4}, {Sources: two, May: 9, Left: 3}}, 0, []int64{0, Keep}},
		{"other stock is no concern", []Share{{Sources: two, May: 4, Left: 4}, {Sources: []int64{2}, May: 4}}, 0, []int64{Keep, 1}},
		{"a slow way needs more", []Share{{Sources: two, May: 40, Pace: 24, Delay: 12 * time.Hour}, {Sources: two, May: 40, Pace: 24}}, 0,
			[]int64{14, 10}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.tells, ShareOut(c.list, c.over)) })
	}
}
