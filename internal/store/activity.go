package store

import (
	"context"
	"slices"
)

// Entry is one entry of a timeline.
type Entry struct {
	ID      int64  `db:"id"`
	At      int64  `db:"at"`
	Who     string `db:"who"`
	Thing   string `db:"thing"`
	ThingID int64  `db:"thing_id"`
	What    string `db:"what"`
	Text    string `db:"text"`
	Name    string `db:"name"`
}

// Note writes timeline entries.
func (t *Tx) Note(entries ...Entry) error {
	rows := make([][]any, len(entries))
	for i, e := range entries {
		rows[i] = []any{e.At, e.Who, e.Thing, e.ThingID, e.What, e.Text}
	}
	_, err := t.insertMany("INSERT INTO timeline (at, who, thing, thing_id, what, text)", 6, rows)
	return err
}

var timelineQuery = "SELECT t.id, t.at, " + called(
	"t.who") + ` AS who, t.thing, t.thing_id, t.what, t.text, coalesce(CASE t.thing WHEN 'order' THEN
	(SELECT number FROM orders WHERE id=t.thing_id)
	WHEN 'connection' THEN (SELECT code FROM connection WHERE id=t.thing_id) WHEN 'item' THEN (SELECT sku FROM item
	WHERE id=t.thing_id) WHEN 'purchase' THEN (SELECT number FROM purchase WHERE id=t.thing_id)
	WHEN 'transfer' THEN (SELECT number FROM transfer WHERE id=t.thing_id) WHEN 'count' THEN (SELECT number FROM stock_count
	WHERE id=t.thing_id) WHEN 'round' THEN (SELECT number FROM round WHERE id=t.thing_id) END,'') AS name FROM timeline t `

// maxTimeline is how much of what happened to one thing is told with it.
const maxTimeline = 1000

// Timeline lists what happened to one thing, oldest first; of a long story the newest part.
func (s *Store) Timeline(ctx context.Context, thing string, id int64) ([]Entry, error) {
	var out []Entry
	err := s.read.SelectContext(ctx, &out, timelineQuery+"WHERE t.thing=? AND t.thing_id=? ORDER BY t.id DESC LIMIT ?", thing, id,
		maxTimeline)
	slices.Reverse(out)
	return out, err
}

// ActivityFilter narrows what happened. What is empty does not narrow.
type ActivityFilter struct {
	Who, Thing, What string
	Before           int64
	Limit            int
}

// Activity lists what happened to everything, newest first. Where it is narrowed, it looks through the newest
// 200,000 entries.
func (s *Store) Activity(ctx context.Context, f ActivityFilter) ([]Entry, error) {
	q, args := timelineQuery+"WHERE 1=1 ", []any{}
	if f.Before > 0 {
		q += "AND t.id<? "
		args = append(args, f.Before)
	}
	for _, eq := range []struct{ col, v string }{{"t.who", f.Who}, {"t.thing", f.Thing}, {"t.what", f.What}} {
		if eq.v != "" {
			q += "AND t.id > (SELECT max(id)-200000 FROM timeline) AND " + eq.col + "=? "
			args = append(args, eq.v)
		}
	}
	limit := f.Limit
	var out []Entry
	err := s.read.SelectContext(ctx, &out, q+"ORDER BY t.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}
