package store

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestASheetIsWorkedOffRowByRow: looked at, narrowed, carried out, each row with its outcome.
func TestASheetIsWorkedOffRowByRow(t *testing.T) {
	s := open(t)
	var id int64
	write(t, s, func(tx *Tx) (err error) {
		id, err = tx.AddSheet(Sheet{Kind: "items", Name: "spring.csv", Options: "{}", State: Checking, Who: "Edda", At: micros(now)})
		return errors.Join(err, tx.PutSheetRows(id, []SheetRow{
			{Row: 2, Key: "APRON", Fields: "{}", Verdict: "add", Changes: "name Apron"},
			{Row: 3, Key: "JAR", Fields: "{}", Verdict: "nothing"},
			{Row: 4, Key: "APRON", Fields: "{}", Verdict: "change"},
			{Row: 5, Key: "VEIL", Fields: "{}", Verdict: "refused", Reason: "gtin: 123"}}))
	})
	working, err := s.OpenSheets(t.Context())
	require.NoError(t, err)
	require.Len(t, working, 1)
	for want, c := range map[string]struct {
		verdict string
		after   int64
		limit   int
	}{"[2 3 4 5]": {"", 0, 10}, "[4 5]": {"", 3, 10}, "[5]": {"refused", 0, 10}, "[2 3]": {"", 0, 2}, "[]": {"added", 0, 10}} {
		rows, err := s.SheetRows(t.Context(), id, c.verdict, c.after, c.limit)
		require.NoError(t, err)
		at := []int64{}
		for _, r := range rows {
			at = append(at, r.Row)
		}
		assert.Equal(t, want, fmt.Sprint(at))
	}
	open, err := s.OpenSheetRows(t.Context(), id, "APRON", 10)
	require.NoError(t, err)
	require.Len(t, open, 2, "the rows of a key are carried out together")
	write(t, s, func(tx *Tx) error {
		open[0].Verdict = "added"
		return errors.Join(tx.SettleSheetRow(id, open[0]),
			tx.UpdateSheet(Sheet{ID: id, State: "done", Form: "{}", Total: 4, Done: 1, EndedAt: micros(now)}))
	})
	left, err := s.OpenSheetRows(t.Context(), id, "", 10)
	require.NoError(t, err)
	require.Len(t, left, 1)
	counts, err := s.SheetCounts(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, []SheetCount{{"added", 1}, {"change", 1}, {"nothing", 1}, {"refused", 1}}, counts)
	sheet, err := s.Sheet(t.Context(), id)
	require.NoError(t, err)
	assert.Equal(t, "done 4 1", fmt.Sprint(sheet.State, " ", sheet.Total, " ", sheet.Done))
}

// TestOldSheetsAreForgotten with their rows, but none that is still worked on.
func TestOldSheetsAreForgotten(t *testing.T) {
	s := open(t)
	add := func(name, state string, ended time.Time) {
		write(t, s, func(tx *Tx) error {
			id, err := tx.AddSheet(Sheet{Kind: "items", Name: name, Options: "{}", State: state})
			return errors.Join(err, tx.PutSheetRows(id, []SheetRow{{Row: 2, Key: name, Fields: "{}", Verdict: "add"}}),
				tx.UpdateSheet(Sheet{ID: id, State: state, Form: "{}", EndedAt: micros(ended)}))
		})
	}
	add("old", "done", now)
	add("new", "done", now.Add(time.Hour))
	add("at work", Applying, now)
	add("not decided", Checked, time.Time{})
	write(t, s, func(tx *Tx) error { return tx.DropSheets(now.Add(time.Minute)) })
	list, err := s.Sheets(t.Context(), 10)
	require.NoError(t, err)
	var names []string
	for _, x := range list {
		names = append(names, x.Name)
	}
	assert.Equal(t, []string{"not decided", "at work", "new"}, names)
	rows, err := s.SheetRows(t.Context(), 1, "", 0, 10)
	require.NoError(t, err)
	assert.Empty(t, rows)
	_, err = s.Sheet(t.Context(), 1)
	require.ErrorIs(t, err, ErrNotFound)
}
