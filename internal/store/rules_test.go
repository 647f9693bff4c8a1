package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/rules"
)

// TestRulesAreChangedByWhoSawThem: in their order, and a change of what was changed in the meantime is refused.
func TestRulesAreChangedByWhoSawThem(t *testing.T) {
	s := open(t)
	var first int64
	write(t, s, func(tx *Tx) (err error) {
		_, err = tx.PutRule(Rule{Position: 2, Name: "second", Condition: "", Actions: `tag("b")`, ChangedBy: "Edda"})
		first, _ = tx.PutRule(Rule{Position: 1, Name: "first", On: true, Condition: `country == "XE"`, Actions: `tag("a")`})
		return err
	})
	list, err := s.Rules(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, rules.Rule{ID: first, Name: "first", On: true, When: `country == "XE"`, Then: `tag("a")`}, list[0].Rule())
	changed := list[0]
	changed.Name, changed.Position = "moved", 3
	write(t, s, func(tx *Tx) error { _, err := tx.PutRule(changed); return err })
	require.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { _, err := tx.PutRule(changed); return err }), ErrConflict)
	write(t, s, func(tx *Tx) error {
		now, err := tx.Rules()
		assert.Equal(t, "second moved", now[0].Name+" "+now[1].Name)
		return errors.Join(err, tx.DropRule(first))
	})
	require.ErrorIs(t, s.Write(t.Context(), func(tx *Tx) error { return tx.DropRule(first) }), ErrNotFound)
}

// TestFactsAreReadFromTheNewest downwards, as many as are asked for, and an error of the reader ends it.
func TestFactsAreReadFromTheNewest(t *testing.T) {
	s := open(t)
	company(t, s)
	addOrders(t, s, 5)
	facts := map[int64]*rules.Facts{}
	ids := []int64{1, 2, 3, 4, 5}
	for _, id := range ids {
		facts[id] = &rules.Facts{Channel: "shop", Country: "XW", Town: fmt.Sprint("Town ", id)}
	}
	write(t, s, func(tx *Tx) error { return tx.PutFacts(facts, ids) })
	high, low, there, err := s.NewestFacts(t.Context(), 3)
	require.NoError(t, err)
	assert.Equal(t, "5 2 3", fmt.Sprint(high, low, there))
	var seen []int64
	require.NoError(t, s.EachFacts(t.Context(), high, low, func(id int64, b []byte) error {
		assert.Equal(t, facts[id].Append(nil), b)
		seen = append(seen, id)
		return nil
	}))
	assert.Equal(t, []int64{5, 4, 3}, seen)
	enough := errors.New("enough")
	require.ErrorIs(t, s.EachFacts(t.Context(), 5, 0, func(int64, []byte) error { return enough }), enough)
	write(t, s, func(tx *Tx) error {
		b, err := tx.FactsOf(2)
		assert.Equal(t, facts[2].Append(nil), b)
		return err
	})
	numbers, err := s.NumbersOf(t.Context(), []int64{1, 5, 99})
	require.NoError(t, err)
	assert.Equal(t, map[int64]string{1: "R1", 5: "R5"}, numbers)
}

// TestWhatRulesAskOfItems: weight, group and marks; of an item without marks none.
func TestWhatRulesAskOfItems(t *testing.T) {
	s := open(t)
	company(t, s)
	var lid int64
	write(t, s, func(tx *Tx) (err error) {
		lid, err = tx.AddItem(catalog.Item{SKU: "LID", Name: "Lid", Currency: "EUR", Kind: "stocked", WeightG: 40, Category: "Lids",
			Marks: []string{"fragile", "small"}}, now)
		return err
	})
	write(t, s, func(tx *Tx) error {
		of, err := tx.Traits([]int64{1, lid})
		assert.Equal(t, map[int64]Traits{1: {}, lid: {WeightG: 40, Category: "Lids", Marks: []string{"fragile", "small"}}}, of)
		none, err2 := tx.Traits(nil)
		assert.Empty(t, none)
		return errors.Join(err, err2)
	})
}

// TestAKeepersWordOnlyGetsNewer: an older word that comes late does not take its place.
func TestAKeepersWordOnlyGetsNewer(t *testing.T) {
	s := open(t)
	company(t, s)
	write(t, s, func(tx *Tx) error {
		err := errors.Join(tx.Word(1, 1, now), tx.Word(1, 1, now.Add(-time.Hour)), tx.Word(1, 2, now))
		words, err2 := tx.Words(1, []int64{1, 7})
		require.Len(t, words, 1)
		assert.True(t, words[1].Equal(now))
		return errors.Join(err, err2)
	})
}
