package order

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
)

// atPlaces is a scene in which places have so many jars each.
func atPlaces(jars ...int64) *Scene {
	levels := map[stock.Key]stock.Level{}
	s := scene(nil)
	s.Sources = nil
	for i, n := range jars {
		s.Sources = append(s.Sources, int64(i+1))
		levels[stock.Key{Item: 1, Location: int64(i + 1)}] = stock.Level{OnHand: n}
	}
	s.Book = stock.NewBook(levels)
	return s
}

// TestACycleOfRefusals ends: each place is asked once, and then the order waits and says who does not send it, and why.
func TestACycleOfRefusals(t *testing.T) {
	s := atPlaces(5, 5, 5)
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 2)), s).Order
	for at := int64(1); at <= 3; at++ {
		require.Equal(t, []Allocation{{at, 2}}, o.Lines[0].Allocations)
		GiveBack(o, map[int64]int64{o.Lines[0].ID: 2}, at, true, fmt.Sprint("reason ", at), s)
	}
	require.Equal(t, Held, o.Stage())
	require.Empty(t, o.Lines[0].Allocations)
	require.Contains(t, o.HeldFor(NoStock).Text, "place 1 does not send it: reason 1; place 2 does not send it: reason 2; place 3")
	require.Contains(t, o.HeldFor(NoStock).Expected, "asked again")

	_, err := LetSend(o, 9, s)
	require.ErrorIs(t, err, ErrState)
	_, err = LetSend(o, 2, s)
	require.NoError(t, err)
	require.Equal(t, []Allocation{{2, 2}}, o.Lines[0].Allocations)
	require.Equal(t, Ready, o.Stage())
}

// TestAPartIsGivenBack and the rest stays where it is; what was cancelled meanwhile is not promised again.
func TestAPartIsGivenBack(t *testing.T) {
	s := atPlaces(5, 5)
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 4)), s).Order
	line := o.Lines[0].ID
	GiveBack(o, map[int64]int64{line: 1, 99: 3}, 1, false, "", s)
	require.EqualValues(t, 4, o.Lines[0].Allocated, "it may come from there again: it did not refuse")

	_, err := CancelUnits(o, map[int64]int64{line: 3}, "", s)
	require.NoError(t, err)
	GiveBack(o, map[int64]int64{line: 4}, 1, true, "none", s)
	require.Equal(t, []Allocation{{2, 1}}, o.Lines[0].Allocations)
}

// TestSendFrom: only what is promised at the place leaves from there.
func TestSendFrom(t *testing.T) {
	s := atPlaces(2, 2)
	s.Route = func(o *Order, _ []int64) map[int64][]stock.Part {
		return map[int64][]stock.Part{o.Lines[0].ID: {{Location: 1, Quantity: 1}, {Location: 2, Quantity: 2}}}
	}
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 3)), s).Order
	require.EqualValues(t, 2, o.SendFrom(&o.Lines[0], 5, 2, false, s, "left"))
	require.Zero(t, o.SendFrom(&o.Lines[0], 1, 2, false, s, "left"))
	require.Equal(t, []Allocation{{1, 1}}, o.Lines[0].Allocations)
	require.Equal(t, stock.Level{}, s.Book.Level(stock.Key{Item: 1, Location: 2}))
	require.Equal(t, PartShipped, o.Stage())
}

// TestGivingBackLosesNothing: whatever places give back and send, what is promised lies there, and no unit is lost.
func TestGivingBackLosesNothing(t *testing.T) {
	rnd := rand.New(rand.NewPCG(16, 7))
	for range 3000 {
		s := atPlaces(rnd.Int64N(6), rnd.Int64N(6), rnd.Int64N(6))
		o := arrive(nil, 1, incoming(message.Open, of("JAR", 1+rnd.Int64N(6))), s).Order
		l := &o.Lines[0]
		for range 6 {
			at := 1 + rnd.Int64N(3)
			switch rnd.IntN(3) {
			case 0:
				GiveBack(o, map[int64]int64{l.ID: rnd.Int64N(5)}, at, rnd.IntN(2) == 0, "no", s)
			case 1:
				o.SendFrom(l, rnd.Int64N(3), at, rnd.IntN(2) == 0, s, "left")
			default:
				_, _ = LetSend(o, at, s)
			}
			var promised int64
			for _, a := range l.Allocations {
				require.Positive(t, a.Quantity)
				promised += a.Quantity
				require.Equal(t, a.Quantity, s.Book.Level(stock.Key{Item: 1, Location: a.Location}).Allocated)
			}
			require.Equal(t, l.Allocated, promised)
			require.Equal(t, l.Quantity, l.Waiting()+l.Allocated+l.Shipped)
		}
	}
}
