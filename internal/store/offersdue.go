package store

import (
	"context"
	"time"
)

// PutOffersDue notes that channels are to be told of items at a time, and how many of them were not noted yet.
func (t *Tx) PutOffersDue(items []int64, at time.Time) (added int64, err error) {
	rows := make([][]any, len(items))
	for i, id := range items {
		rows[i] = []any{id, micros(at)}
	}
	return t.insertMany("INSERT INTO offer_due (item_id, due_at)", 2, rows, "ON CONFLICT (item_id) DO NOTHING")
}

// TakeOffersDue returns the items of which channels are to be told by now, at most so many, and forgets them.
func (t *Tx) TakeOffersDue(now time.Time, limit int) (items []int64, err error) {
	var rows []struct {
		ID int64 `db:"item_id"`
	}
	if err := t.sel(&rows, "SELECT item_id FROM offer_due WHERE due_at<=? ORDER BY item_id LIMIT ?", micros(now), limit); err != nil {
		return nil, err
	}
	for _, r := range rows {
		items = append(items, r.ID)
	}
	in, args := list(items)
	_, err = t.exec("DELETE FROM offer_due WHERE item_id IN ("+in+")", args...)
	return items, err
}

// NextOffersDue is when channels are to be told next of an item; the zero time: of none.
func (s *Store) NextOffersDue(ctx context.Context) (time.Time, error) {
	var at int64
	err := s.read.GetContext(ctx, &at, "SELECT coalesce(min(due_at), 0) FROM offer_due")
	return Time(at), err
}
