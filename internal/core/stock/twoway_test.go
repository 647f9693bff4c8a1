package stock

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestMeaningOfAnEdit(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	quiet := Told{Quantity: 10, At: noon, OrdersSeen: noon.Add(time.Hour)}
	with := func(f func(*Told)) Told { t := quiet; f(&t); return t }
	for name, c := range map[string]struct {
		word  Word
		told  Told
		want  int64
		clear bool
	}{
		"the channel tells the change": {Word{Shows: 3, Change: -4}, with(func(t *Told) {
			t.Open = true
			t.Quantity = -1
		}), -4, true},
		"it shows what it was told":       {Word{Shows: 10, At: noon.Add(time.Minute)}, quiet, 0, true},
		"it shows more, and all is quiet": {Word{Shows: 13, At: noon.Add(time.Minute)}, quiet, 3, true},
		"a quantity is on its way": {Word{Shows: 13, At: noon.Add(time.Minute)}, with(func(t *Told) {
			t.Open = true
		}), 0, false},
		"a quantity was accepted just before": {Word{Shows: 13, At: noon.Add(time.Second)}, quiet, 0, false},
		"orders were not read since": {Word{Shows: 13, At: noon.Add(time.Minute)}, with(func(t *Told) {
			t.OrdersSeen = noon.Add(time.Minute)
		}), 0, false},
		"nothing was told yet": {Word{Shows: 13, At: noon.Add(time.Minute)}, with(func(t *Told) {
			t.Quantity = -1
		}), 0, false},
		"the channel does not tell the moment": {Word{Shows: 13}, quiet, 0, false},
	} {
		got, clear, why := c.word.Meaning(c.told)
		require.Equal(t, c.want, got, name)
		require.Equal(t, c.clear, clear, name)
		require.Equal(t, clear, why == "", name)
	}
}

// side is a channel in the race: what it shows, and what it has to say of it.
type side struct {
	shows  int64
	sold   int64
	edited int64
	inbox  []told  // on the way to us, in any order, some of it twice
	sends  []int64 // on the way there, in the order in which they left
}

type told struct {
	id     int
	change int64 // of what lies here
}

// TestTwoWaysAgree: several channels sell the same stock, people edit quantities at each of them, we adjust,
// and word of all of it travels with delays, out of order and more than once. Whatever the order, in the end
// every channel shows what is there, and what is there is what was there at first, less what was sold, and
// changed by what people changed: no unit is invented or lost.
func TestTwoWaysAgree(t *testing.T) {
	for seed := range uint64(400) {
		rng := rand.New(rand.NewPCG(seed, 7))
		start := int64(40 + rng.IntN(40))
		book := NewBook(map[Key]Level{{1, 1}: {OnHand: start}})
		policy := Policy{Sources: []int64{1}, Buffer: rng.Int64N(3)}
		channels := make([]side, 1+rng.IntN(4))
		seen := map[int]bool{}
		var adjusted int64
		next := 0
		offer := func() {
			q := policy.Offer(One(1), book.Level)
			for i := range channels {
				c := &channels[i]
				if len(c.sends) > 1 { // one is under way; what waits behind it is replaced
					c.sends = c.sends[:1]
				}
				c.sends = append(c.sends, q)
			}
		}
		say := func(c *side, change int64) {
			next++
			for range 1 + rng.IntN(2) {
				c.inbox = append(c.inbox, told{next, change})
			}
		}
		hear := func(c *side) {
			i := rng.IntN(len(c.inbox))
			m := c.inbox[i]
			c.inbox = append(c.inbox[:i], c.inbox[i+1:]...)
			if seen[m.id] {
				return // a message that is known does nothing
			}
			seen[m.id] = true
			change, clear, _ := Word{Change: m.change}.Meaning(Told{Open: len(c.sends) > 0})
			require.True(t, clear)
			book.Post(Movement{Key: Key{1, 1}, OnHand: change})
			offer()
		}
		arrive := func(c *side) {
			c.shows = c.sends[0] // whatever was sold or edited there meanwhile is overwritten
			c.sends = c.sends[1:]
		}
		offer()
		for range 200 {
			c := &channels[rng.IntN(len(channels))]
			switch n := rng.IntN(10); {
			case n < 3 && c.shows > 0:
				qty := 1 + rng.Int64N(min(3, c.shows))
				c.shows -= qty
				c.sold += qty
				say(c, -qty)
			case n == 3:
				to := rng.Int64N(60)
				if change := to - c.shows; change != 0 {
					c.edited += change
					c.shows = to
					say(c, change)
				}
			case n == 4:
				by := rng.Int64N(9) - 3
				adjusted += by
				book.Post(Movement{Key: Key{1, 1}, OnHand: by})
				offer()
			case n < 7 && len(c.inbox) > 0:
				hear(c)
			case len(c.sends) > 0:
				arrive(c)
			}
		}
		for busy := true; busy; { // all that is under way comes, in any order
			busy = false
			for i := range channels {
				c := &channels[i]
				for len(c.inbox) > 0 || len(c.sends) > 0 {
					busy = true
					if len(c.inbox) > 0 && (len(c.sends) == 0 || rng.IntN(2) == 0) {
						hear(c)
					} else {
						arrive(c)
					}
				}
			}
		}
		want := start + adjusted
		for _, c := range channels {
			want += c.edited - c.sold
		}
		at := fmt.Sprintf("seed %d", seed)
		require.Equal(t, want, book.Level(Key{1, 1}).OnHand, at)
		for _, c := range channels {
			require.Equal(t, policy.Offer(One(1), book.Level), c.shows, at)
		}
	}
}

// TestAWordAloneIsTakenOnlyWhenItIsClear: a channel that tells only what it shows. Where Meaning finds a word
// clear, the change it finds is the one that the person made; nothing is ever invented.
func TestAWordAloneIsTakenOnlyWhenItIsClear(t *testing.T) {
	noon := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	taken := 0
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 11))
		skew := time.Duration(rng.Int64N(int64(4*time.Second))) - 2*time.Second // between the clocks
		now := noon
		hand, shows := int64(30), int64(30)
		last := Told{Quantity: 30, At: now, OrdersSeen: now}
		var waiting []int64 // sales that we do not know of
		var word *Word
		var meant int64
		for range 30 {
			now = now.Add(time.Duration(rng.Int64N(int64(7 * time.Second))))
			switch rng.IntN(5) {
			case 0:
				if shows > 0 {
					shows--
					waiting = append(waiting, 1)
				}
			case 1: // orders are read: all sales so far are known, and a quantity follows
				last.OrdersSeen = now
				if len(waiting) > 0 {
					hand -= int64(len(waiting))
					waiting = nil
					last.Open = true
				}
			case 2:
				if last.Open {
					shows, last = hand, Told{Quantity: hand, At: now, OrdersSeen: last.OrdersSeen}
					word = nil // what was edited is overwritten
				}
			case 3:
				if word == nil {
					to := rng.Int64N(50)
					meant = to - shows
					shows = to
					word = &Word{Shows: to, At: now.Add(skew)}
				}
			case 4:
				if word == nil || word.Shows != shows {
					continue
				}
				change, clear, _ := word.Meaning(last)
				if !clear {
					continue
				}
				taken++
				require.Equal(t, meant, change, "seed %d", seed)
				hand += change
				word, last.Open = nil, true
			}
		}
	}
	require.Greater(t, taken, 100, "the case must occur")
}
