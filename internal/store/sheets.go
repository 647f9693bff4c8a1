package store

import (
	"context"
	"time"

	"openrelay/internal/core/catalog"
)

// Sheet is a CSV file that was handed in.
type Sheet struct {
	ID      int64  `db:"id"`
	Kind    string `db:"kind"`
	Name    string `db:"name"`
	Options string `db:"options"`
	State   string `db:"state"` // checking, checked, applying, done or failed
	Form    string `db:"form"`
	Total   int64  `db:"total"` // rows
	Done    int64  `db:"done"`  // rows that were carried out
	Error   string `db:"error"`
	Who     string `db:"who"`
	At      int64  `db:"at"`
	EndedAt int64  `db:"ended_at"`
}

// The states of a sheet.
const (
	Checking = "checking"
	Checked  = "checked"
	Applying = "applying"
)

// SheetRow is a row of it, with what would become or became of it.
type SheetRow struct {
	Row     int64  `db:"row"`
	Key     string `db:"key"`
	Fields  string `db:"fields"` // JSON
	Verdict string `db:"verdict"`
	Changes string `db:"changes"`
	Reason  string `db:"reason"`
}

const sheetCols = "id, kind, name, options, state, form, total, done, error, who, at, ended_at"

// AddSheet writes a new sheet.
func (t *Tx) AddSheet(s Sheet) (int64, error) {
	id, err := t.id("sheet")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO sheet (id, kind, name, options, state, who, at) VALUES (?,?,?,?,?,?,?)", id, s.Kind, s.Name, s.Options,
		s.State, s.Who, s.At)
	return id, err
}

// UpdateSheet writes how a sheet stands.
func (t *Tx) UpdateSheet(s Sheet) error {
	_, err := t.exec("UPDATE sheet SET state=?, form=?, total=?, done=?, error=?, ended_at=? WHERE id=?", s.State, s.Form, s.Total,
		s.Done, s.Error, s.EndedAt, s.ID)
	return err
}

// Sheet loads a sheet.
func (s *Store) Sheet(ctx context.Context, id int64) (Sheet, error) {
	var out Sheet
	err := s.read.GetContext(ctx, &out, "SELECT "+sheetCols+" FROM sheet WHERE id=?", id)
	return out, found(err)
}

// Sheets lists sheets, newest first.
func (s *Store) Sheets(ctx context.Context, limit int) ([]Sheet, error) {
	out := []Sheet{}
	err := s.read.SelectContext(ctx, &out, "SELECT "+sheetCols+" FROM sheet ORDER BY id DESC LIMIT ?", limit)
	return out, err
}

// OpenSheets lists sheets that are being worked on.
func (s *Store) OpenSheets(ctx context.Context) ([]Sheet, error) {
	var out []Sheet
	err := s.read.SelectContext(ctx, &out, "SELECT "+sheetCols+" FROM sheet WHERE state IN ('checking','applying')")
	return out, err
}

// PutSheetRows writes rows.
func (t *Tx) PutSheetRows(sheet int64, rows []SheetRow) error {
	values := make([][]any, len(rows))
	for i, r := range rows {
		values[i] = []any{sheet, r.Row, r.Key, r.Fields, r.Verdict, r.Changes, r.Reason}
	}
	_, err := t.insertMany("INSERT OR REPLACE INTO sheet_row (sheet_id, row, key, fields, verdict, changes, reason)", 7, values)
	return err
}

// SettleSheetRow writes what became of a row.
func (t *Tx) SettleSheetRow(sheet int64, r SheetRow) error {
	_, err := t.exec("UPDATE sheet_row SET verdict=?, reason=?, changes=? WHERE sheet_id=? AND row=?", r.Verdict, r.Reason, r.Changes,
		sheet, r.Row)
	return err
}

// SheetRows lists rows with a verdict (empty: all) after a keyset.
func (s *Store) SheetRows(ctx context.Context, sheet int64, verdict string, after int64, limit int) ([]SheetRow, error) {
	q, args := "SELECT row, key, fields, verdict, changes, reason FROM sheet_row WHERE sheet_id=? AND row>?", []any{sheet, after}
	if verdict != "" {
		q += " AND verdict=?"
		args = append(args, verdict)
	}
	out := []SheetRow{}
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY row LIMIT ?", append(args, limit)...)
	return out, err
}

// OpenSheetRows lists the next rows that are to be carried out; those of a key together, where one is asked for.
func (s *Store) OpenSheetRows(ctx context.Context, sheet int64, key string, limit int) ([]SheetRow, error) {
	q, args := `SELECT row, key, fields, verdict, changes, reason FROM sheet_row WHERE sheet_id=?
		AND verdict IN ('add','change')`, []any{sheet}
	if key != "" {
		q += " AND key=?"
		args = append(args, key)
	}
	var out []SheetRow
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY row LIMIT ?", append(args, limit)...)
	return out, err
}

// SheetCount is how many rows have a verdict.
type SheetCount struct {
	Verdict string `db:"verdict" json:"verdict"`
	Count   int64  `db:"n" json:"count"`
}

// SheetCounts counts the rows of a sheet by verdict.
func (s *Store) SheetCounts(ctx context.Context, sheet int64) ([]SheetCount, error) {
	out := []SheetCount{}
	err := s.read.SelectContext(ctx, &out, `SELECT verdict, count(*) AS n FROM sheet_row WHERE sheet_id=? GROUP BY verdict
		ORDER BY verdict`, sheet)
	return out, err
}

// DropSheets forgets sheets that ended before a moment, with their rows.
func (t *Tx) DropSheets(before time.Time) error {
	if _, err := t.exec(`DELETE FROM sheet_row WHERE sheet_id IN (SELECT id FROM sheet WHERE ended_at<>0 AND ended_at<?
		AND state NOT IN ('checking','applying'))`, micros(before)); err != nil {
		return err
	}
	_, err := t.exec("DELETE FROM sheet WHERE ended_at<>0 AND ended_at<? AND state NOT IN ('checking','applying')", micros(before))
	return err
}

// RecordsBySKU loads the whole records of items by their SKUs.
func (s *Store) RecordsBySKU(ctx context.Context, skus []string) (map[string]catalog.Item, error) {
	in, args := list(skus)
	got, err := records(s.selector(ctx), "sku IN ("+in+")", args...)
	out := make(map[string]catalog.Item, len(got))
	for _, it := range got {
		out[it.SKU] = it
	}
	return out, err
}
