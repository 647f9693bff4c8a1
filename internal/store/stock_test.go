package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/stock"
)

// post writes movements of the first item at a place to the ledger.
func post(t *testing.T, s *Store, moves ...stock.Movement) {
	t.Helper()
	write(t, s, func(tx *Tx) error {
		book, err := tx.Book([]int64{1})
		if err != nil {
			return err
		}
		for _, m := range moves {
			m.Item = 1
			if m.Location == 0 {
				m.Location = 1
			}
			if m.Reason == "" {
				m.Reason = "as it was"
			}
			m.Who = "Edda"
			book.Post(m)
		}
		return tx.Post(book)
	})
}

// TestThePastOfALevel: what was there at each moment, from the entries before it.
func TestThePastOfALevel(t *testing.T) {
	s := supplied(t)
	hour := func(h int) time.Time { return now.Add(time.Duration(h) * time.Hour) }
	post(t, s, stock.Movement{At: hour(1), Kind: stock.Count, OnHand: 5})
	post(t, s, stock.Movement{At: hour(2), Kind: stock.Count, OnHand: -3},
		stock.Movement{At: hour(2), Kind: stock.Count, OnHand: 4, Key: stock.Key{Location: 2}})
	for h, want := range map[int]string{-1: "0 and 0", 0: "10 and 0", 1: "15 and 0", 2: "12 and 4", 9: "12 and 4"} {
		at, err := s.LevelsAt(t.Context(), []int64{1, 2}, hour(h))
		require.NoError(t, err)
		alder, pier := at[stock.Key{Item: 1, Location: 1}], at[stock.Key{Item: 1, Location: 2}]
		assert.Equal(t, want, fmt.Sprintf("%d and %d", alder.OnHand, pier.OnHand), "hour %d", h)
	}
	for want, c := range map[string]struct {
		location, before int64
		upTo             time.Time
		limit            int
	}{
		"[4 -3 5 10]": {0, 0, time.Time{}, 10},
		"[-3 5 10]":   {1, 0, time.Time{}, 10},
		"[5 10]":      {0, 0, hour(1), 10},
		"[4 -3]":      {0, 0, time.Time{}, 2},
		"[10]":        {0, 2, hour(9), 10},
	} {
		list, err := s.Movements(t.Context(), 1, c.location, c.before, c.upTo, c.limit)
		require.NoError(t, err)
		var moved []int64
		for _, m := range list {
			moved = append(moved, m.OnHand)
		}
		assert.Equal(t, want, fmt.Sprint(moved), "newest first")
	}
	write(t, s, func(tx *Tx) error {
		there, err := tx.HasMovements(1, 2)
		none, err2 := tx.HasMovements(2, 2)
		least, err3 := tx.OnHand(1)
		assert.Equal(t, "true false 4", fmt.Sprint(there, none, least))
		return errors.Join(err, err2, err3)
	})
	found, err := s.Verify(t.Context())
	require.NoError(t, err)
	assert.Empty(t, found)
}

// TestGoodsLieInBins: what comes goes where it is said, or where the item usually lies, and each bin tells what is in it.
func TestGoodsLieInBins(t *testing.T) {
	s := supplied(t)
	write(t, s, func(tx *Tx) error { return errors.Join(tx.SetBin(1, 1, "A-1"), tx.SetBin(2, 1, "B-1")) })
	post(t, s, stock.Movement{At: now, Kind: stock.Count, OnHand: 5, Bin: "C-9"})
	post(t, s, stock.Movement{At: now, Kind: stock.Count, OnHand: 2})
	bins, err := s.Bins(t.Context(), 1, []int64{1, 2})
	require.NoError(t, err)
	assert.Equal(t, map[int64]string{1: "A-1", 2: "B-1"}, bins)
	write(t, s, func(tx *Tx) error {
		again, err := tx.Bins(1, []int64{2})
		assert.Equal(t, map[int64]string{2: "B-1"}, again)
		return err
	})
	levels, err := s.BinLevels(t.Context(), []int64{1, 2})
	require.NoError(t, err)
	lies := map[string]int64{}
	var sum int64
	for _, l := range levels {
		lies[l.Bin] = l.OnHand
		sum += l.OnHand
	}
	assert.Equal(t, int64(5), lies["C-9"])
	assert.Equal(t, int64(17), sum)
	in, err := s.InBin(t.Context(), 1, "C-9")
	require.NoError(t, err)
	require.Len(t, in, 1)
	nothing, err := s.InBin(t.Context(), 2, "C-9")
	require.NoError(t, err)
	assert.Empty(t, nothing, "another place's bin")
}

// TestWhoHoldsStock, now and then: the orders with allocations, and the units that were picked and have not left.
func TestWhoHoldsStock(t *testing.T) {
	s := supplied(t)
	addOrders(t, s, 2)
	for order := range int64(2) {
		post(
			t,
			s,
			stock.Movement{
				At:        now.Add(time.Duration(order) * time.Hour),
				Kind:      stock.Count,
				Allocated: 1,
				DocKind:   "order",
				DocID:     order + 1,
			},
		)
	}
	spoil(t, s, "INSERT INTO allocation VALUES (1025, 1, 1, 1, 1), (2049, 1, 1, 2, 1); "+
		addShipment+"('S1', 1, 1, 'packed', 1), ('S2', 2, 1, 'shipped', 1); "+
		"INSERT INTO shipment_line (shipment_id, line_id, quantity, picked, item_id) VALUES (1, 1025, 1, 1, 1), (2, 2049, 1, 1, 1)")
	held, err := s.OpenAllocations(t.Context(), 1, 10)
	require.NoError(t, err)
	require.Len(t, held, 2)
	assert.Equal(t, "R2 R1", held[0].OrderNumber+" "+held[1].OrderNumber, "newest first")
	then, err := s.PromisedAt(t.Context(), 1, now.Add(time.Minute), 10)
	require.NoError(t, err)
	require.Len(t, then, 1)
	assert.Equal(t, "R1", then[0].OrderNumber, "the other came later")
	write(t, s, func(tx *Tx) error {
		away, err := tx.PickedAway(1, []int64{1, 2})
		assert.Equal(t, map[int64]int64{1: 1}, away, "what has left is not on the tables")
		return err
	})
}
