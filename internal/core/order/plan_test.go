package order

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
)

// planned is an order of five jars, of which three are allocated and two wait, and of two lids.
func planned(t *testing.T) (*Order, *Scene) {
	t.Helper()
	s := scene(map[int64]int64{1: 3, 2: 2})
	c := arrive(nil, 1, incoming(message.Open, of("JAR", 5), of("SUIT", 2)), s)
	require.NotNil(t, c.Order)
	return c.Order, s
}

func TestUnitsAreKeptBackAndLetGo(t *testing.T) {
	o, _ := planned(t)
	jar, lid := &o.Lines[0], &o.Lines[1]
	require.Equal(t, []int64{3, 2}, []int64{jar.Allocated, jar.Waiting()})
	c, err := KeepBack(o, map[int64]int64{jar.ID: 3, lid.ID: 1}, "by truck on Friday")
	require.NoError(t, err)
	assert.Equal(t, "3 × JAR kept back: by truck on Friday", c.Notes[0].Text)
	assert.Equal(t, []int64{2, 1}, []int64{o.Sendable(jar), o.Sendable(lid)}, "what waits is kept back first")
	_, err = KeepBack(o, map[int64]int64{lid.ID: 1}, "")
	require.ErrorIs(t, err, ErrState, "so many are kept back already")
	_, err = KeepBack(o, map[int64]int64{lid.ID: 3}, "")
	require.ErrorContains(t, err, "2 × SUIT of order")
	_, err = KeepBack(o, map[int64]int64{77: 1}, "")
	require.ErrorIs(t, err, ErrState)
	_, err = KeepBack(o, map[int64]int64{jar.ID: 5, lid.ID: 2}, "")
	require.ErrorContains(t, err, "hold the order instead")
	assert.Equal(t, int64(3), o.Kept(jar), "a refusal changes nothing")

	require.NoError(t, o.Pick(lid.ID, 1))
	_, err = KeepBack(o, map[int64]int64{lid.ID: 2}, "")
	require.ErrorContains(t, err, "1 × SUIT")
	c, err = KeepBack(o, map[int64]int64{jar.ID: 0}, "")
	require.NoError(t, err)
	assert.Equal(t, "3 × JAR let go; 0 kept back", c.Notes[0].Text)
	assert.Equal(t, map[int64]int64{lid.ID: 1}, o.Ours.KeptBack)
	require.NoError(t, o.Pick(lid.ID, 1))
	assert.Zero(t, o.Kept(lid), "what is picked is not kept back")
}

func TestUnitsAreMovedToAPlaceThatHasThem(t *testing.T) {
	o, s := planned(t)
	lid := &o.Lines[1]
	from := lid.Allocations[0].Location
	other := from + 1
	require.ErrorContains(t, o.MoveUnits(lid.ID, 2, from, other, s, "moved"), "0 × SUIT are free at")
	s.Book.Know(map[stock.Key]stock.Level{{Item: lid.ItemID, Location: other}: {OnHand: 2}})
	require.ErrorIs(t, o.MoveUnits(lid.ID, 3, from, other, s, "moved"), ErrState)
	require.ErrorIs(t, o.MoveUnits(lid.ID, 1, from, from, s, "moved"), ErrState)
	require.NoError(t, o.MoveUnits(lid.ID, 1, from, other, s, "moved"))
	assert.Equal(t, []Allocation{{from, 1}, {other, 1}}, lid.Allocations)
	assert.Equal(t, int64(2), lid.Allocated)
	assert.Equal(t, []int64{1, 1}, []int64{s.Book.Level(stock.Key{Item: lid.ItemID, Location: from}).Allocated,
		s.Book.Level(stock.Key{Item: lid.ItemID, Location: other}).Allocated})
	require.NoError(t, o.MoveUnits(lid.ID, 1, from, other, s, "moved"))
	assert.Equal(t, []Allocation{{other, 2}}, lid.Allocations)
}
