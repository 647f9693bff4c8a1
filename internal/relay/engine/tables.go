package engine

import (
	"context"
	"encoding/json"
	"fmt"

	"openrelay/internal/store"
)

// Table is a setting of the company that is a list of rows and is replaced as a whole; each change of it can be undone.
type Table[T any] struct {
	Kind string // as people call it, such as "billing accounts"; unique
	Most int    // bounds the rows
	// Check tidies the rows and refuses what cannot be, naming the row.
	Check func(ctx context.Context, rows []T) error
	// Settle looks again at what depends on the rows, in the change that replaces them; nil: nothing does.
	Settle func(ch *Change) error
}

// key is under which the rows are kept.
func (t *Table[T]) key() string { return "table " + t.Kind }

// Rows lists the rows in their order.
func (t *Table[T]) Rows(ctx context.Context, r *Engine) ([]T, error) {
	text, err := r.Store.Setting(ctx, t.key())
	if err != nil {
		return nil, err
	}
	return t.read(text)
}

// RowsIn lists the rows as they stand in a change.
func (t *Table[T]) RowsIn(ch *Change) ([]T, error) {
	text, err := ch.Setting(t.key())
	if err != nil {
		return nil, err
	}
	return t.read(text)
}

func (t *Table[T]) read(text string) ([]T, error) {
	rows := []T{}
	if text == "" {
		return rows, nil
	}
	if err := json.Unmarshal([]byte(text), &rows); err != nil {
		return nil, fmt.Errorf("%s: %w", t.Kind, err)
	}
	return rows, nil
}

// Put replaces the rows.
func (t *Table[T]) Put(ctx context.Context, r *Engine, rows []T, who string) error {
	if len(rows) > t.Most {
		return Refuse("%s: %d rows; at most %d are expected", t.Kind, len(rows), t.Most)
	}
	if err := t.Check(ctx, rows); err != nil {
		return err
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *Change) error {
		if err := ch.PutSetting(t.key(), string(text)); err != nil {
			return err
		}
		if t.Settle != nil {
			if err := t.Settle(ch); err != nil {
				return err
			}
		}
		ch.Tell("company", "")
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: t.Kind,
			Text: fmt.Sprintf("%s: %d rows", t.Kind, len(rows))})
	})
}

// SettingKind makes the changes of a table undoable.
func (t *Table[T]) SettingKind(r *Engine) SettingKind {
	return OneSetting(t.Kind, func(ctx context.Context) ([]T, error) { return t.Rows(ctx, r) },
		func(ctx context.Context, rows []T, who string) error { return t.Put(ctx, r, rows, who) })
}

// Change replaces the rows so that it can be undone.
func (t *Table[T]) Change(ctx context.Context, r *Engine, rows []T, who string) error {
	return r.ChangeSetting(ctx, t.Kind, t.Kind, who, func() error { return t.Put(ctx, r, rows, who) })
}
