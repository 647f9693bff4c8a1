package store

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestManyRowsAreWrittenAsTheyAre: however many rows come together, and whichever of their columns are plain, what stands in
// the file is what was handed over, with its type.
func TestManyRowsAreWrittenAsTheyAre(t *testing.T) {
	s := open(t)
	rng := rand.New(rand.NewPCG(5, 8))
	_, err := s.conn.ExecContext(t.Context(), "CREATE TABLE plain (id INTEGER PRIMARY KEY, a INTEGER, b TEXT, c, d INTEGER, e TEXT)")
	require.NoError(t, err)
	values := []func() any{
		func() any { return int64(rng.IntN(2)) },
		func() any { return []string{"", "x", "'", "?"}[rng.IntN(4)] },
		func() any { return []any{int64(0), "", "0", false, true, nil, 0.5}[rng.IntN(7)] },
		func() any { return rng.IntN(2) == 0 },
		func() any { return "" },
	}
	plainly := []any{int64(0), "", "", false, ""}
	id := int64(0)
	var all [][]any
	for round := range 60 {
		var rows [][]any
		fixed := rng.IntN(1 << len(values)) // columns that are plain in all rows of this round
		for range 1 + rng.IntN(130) {
			id++
			row := []any{id}
			for i, value := range values {
				if fixed&(1<<i) != 0 {
					row = append(row, plainly[i])
				} else {
					row = append(row, value())
				}
			}
			rows = append(rows, row)
		}
		all = append(all, rows...)
		write(t, s, func(tx *Tx) error {
			n, err := tx.insertMany("INSERT INTO plain (id, a, b, c, d, e)", 6, rows)
			require.Equal(t, int64(len(rows)), n, "round %d", round)
			return err
		})
	}
	kinds := func(v any) string {
		switch x := v.(type) {
		case bool:
			if x {
				return "integer 1"
			}
			return "integer 0"
		case int64:
			return fmt.Sprintf("integer %d", x)
		case float64:
			return fmt.Sprintf("real %v", x)
		case nil:
			return "null"
		}
		return fmt.Sprintf("text %v", v)
	}
	rows, err := s.read.QueryxContext(t.Context(), `SELECT id, CASE typeof(c) WHEN 'null' THEN 'null' ELSE typeof(c)||' '||c END,
		typeof(a)||' '||a, typeof(b)||' '||b, typeof(d)||' '||d, typeof(e)||' '||e FROM plain ORDER BY id`)
	require.NoError(t, err)
	defer rows.Close()
	seen := 0
	for rows.Next() {
		var id int64
		var c, a, b, d, e string
		require.NoError(t, rows.Scan(&id, &c, &a, &b, &d, &e))
		want := all[seen]
		require.Equal(t, []string{kinds(want[1]), kinds(want[2]), kinds(want[3]), kinds(want[4]), kinds(want[5])}, []string{a, b, c, d, e})
		seen++
	}
	require.NoError(t, rows.Err())
	require.Equal(t, len(all), seen)
}

// TestKnownRowsAreLeftOut: what follows the values holds for statements with plain columns too.
func TestKnownRowsAreLeftOut(t *testing.T) {
	s := open(t)
	_, err := s.conn.ExecContext(t.Context(), "CREATE TABLE plain (id INTEGER PRIMARY KEY, a TEXT)")
	require.NoError(t, err)
	var rows [][]any
	for i := range int64(75) {
		rows = append(rows, []any{i, ""})
	}
	write(t, s, func(tx *Tx) error {
		_, err := tx.insertMany("INSERT INTO plain (id, a)", 2, rows[:30])
		return err
	})
	write(t, s, func(tx *Tx) error {
		n, err := tx.insertMany("INSERT INTO plain (id, a)", 2, rows, "ON CONFLICT DO NOTHING")
		require.Equal(t, int64(45), n)
		return err
	})
	require.Error(t, s.Write(t.Context(), func(tx *Tx) error {
		_, err := tx.insertMany("INSERT INTO plain (id, a)", 2, rows)
		return err
	}))
}
