package picking_test

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/picking"
)

func TestARoundIsChosenByTheWay(t *testing.T) {
	list := []picking.Candidate{{ID: 1, Stops: []int64{10, 40}}, {ID: 2, Stops: []int64{900}}, {ID: 3, Stops: []int64{41, 11}},
		{ID: 4, Stops: []int64{12}}, {ID: 5, Stops: []int64{901}}, {ID: 6}}
	for _, c := range []struct {
		slots int
		want  []int
	}{
		{0, nil}, {1, []int{0}}, {2, []int{0, 5}}, {3, []int{0, 2, 5}}, {4, []int{0, 2, 3, 5}}, {9, []int{0, 1, 2, 3, 4, 5}},
	} {
		assert.Equal(t, c.want, picking.Choose(list, c.slots), "%d slots", c.slots)
	}
	assert.Nil(t, picking.Choose(nil, 4))
	far := []picking.Candidate{{ID: 1}, {ID: 2, Stops: []int64{5, 6}}, {ID: 3, Stops: []int64{7}}}
	assert.Equal(t, []int{0, 1}, picking.Choose(far, 2), "where nothing is walked yet, the more urgent comes first")
}

// TestChoosingIsFairAndBounded: the most urgent is always among them, nobody twice, and never more than fit on the cart.
func TestChoosingIsFairAndBounded(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 7))
	for range 300 {
		list := make([]picking.Candidate, 1+rng.IntN(40))
		for i := range list {
			for range rng.IntN(4) {
				list[i].Stops = append(list[i].Stops, rng.Int64N(500))
			}
		}
		slots := 1 + rng.IntN(15)
		got := picking.Choose(list, slots)
		require.Len(t, got, min(slots, len(list)))
		require.Zero(t, got[0])
		for i := 1; i < len(got); i++ {
			require.Less(t, got[i-1], got[i])
		}
	}
}

func cart() []picking.Stop {
	want := func(item int64, sku, bin string, n, picked int64) picking.Want {
		return picking.Want{LineID: item, ItemID: item, SKU: sku, Title: "A " + sku, Bin: bin, Quantity: n, Picked: picked}
	}
	return picking.Stops([]picking.Slot{
		{1, []picking.Want{want(1, "JAR", "B-1", 2, 1), want(2, "LID", "A-1", 1, 0)}},
		{3, []picking.Want{want(1, "JAR", "B-1", 3, 0), want(3, "WAX", "", 1, 0)}},
	}, map[string]int64{"B-1": 1, "A-1": 2})
}

func TestEachItemIsCollectedOnce(t *testing.T) {
	stops := cart()
	var order []string
	for _, s := range stops {
		order = append(order, s.SKU)
	}
	assert.Equal(t, []string{"JAR", "LID", "WAX"}, order, "in the order of the walk, what has no bin last")
	assert.Equal(t, []picking.Share{{Slot: 1, Quantity: 2, Picked: 1}, {Slot: 3, Quantity: 3}}, stops[0].Slots)
	assert.Equal(t, int64(4), stops[0].Left())
}

func TestAScanSaysIntoWhichSlots(t *testing.T) {
	got, err := picking.ScanRound("W1", cart(), "jar", "", 0, 0)
	require.NoError(t, err)
	assert.Equal(t, []picking.Put{{Slot: 1, Quantity: 1}}, got.Puts)
	got, err = picking.ScanRound("W1", cart(), "JAR", "B-1", 3, 0)
	require.NoError(t, err)
	assert.Equal(t, []picking.Put{{Slot: 1, Quantity: 1}, {Slot: 3, Quantity: 2}}, got.Puts)
	assert.Equal(t, "JAR: 1 into slot 1, 2 into slot 3", got.Text)
	got, err = picking.ScanRound("W1", cart(), "JAR", "", 2, 3)
	require.NoError(t, err)
	assert.Equal(t, []picking.Put{{Slot: 3, Quantity: 2}}, got.Puts)
	_, err = picking.ScanRound("W1", cart(), "JAR", "", 2, 1)
	assert.ErrorContains(t, err, "slot 1 does not take 2 × JAR. Expected one of slot 1 (1), slot 3 (3)")
	_, err = picking.ScanRound("W1", cart(), "JAR", "", 5, 0)
	assert.ErrorContains(t, err, "5 × JAR is too many. Expected at most 4")
	_, err = picking.ScanRound("W1", cart(), "SPOON", "", 0, 0)
	assert.ErrorContains(t, err, "not part of round W1")
	got, err = picking.ScanRound("W1", cart(), "B-1", "", 0, 0)
	require.NoError(t, err)
	assert.Equal(t, "bin", got.Kind)
	assert.Empty(t, got.Puts)
}
