package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"
)

// Thinning is how one kind of what is kept becomes less: which rows are old enough, and what becomes of them. What is
// still open is none of them, and the newest row of a table always stays, so that no id is given twice.
type Thinning struct {
	find  string // ids after ?1 of before ?2, in their order, at most ?3
	apply string // on ids, as a JSON list
}

// Details of an order's timeline: what is said between its taking in and its end.
const details = `'picked','routed','packed','channel state','write-back sent','write-back confirmed','label asked','allocated',
	'parcel accepted','parcel under way','parcel out for delivery'`

// Thinnings are all of them, by the code of the kind; a kind may have several.
var Thinnings = map[string][]Thinning{
	"received": {
		{
			`SELECT i.id FROM inbox i LEFT JOIN orders o ON o.id=i.order_id WHERE i.id>?1 AND i.received_at<?2
			AND i.state IN ('done','skipped')
			AND i.feed NOT IN ('tracking in','stock in') AND length(i.raw)>` + thinnedLength + `
			AND (i.order_id=0 OR o.stage IN ('shipped','delivered','cancelled','void')) ORDER BY i.id LIMIT ?3`,
			`UPDATE inbox SET raw='` + thinned + `' WHERE id IN (SELECT value FROM json_each(?))`,
		},
		{`SELECT id FROM inbox WHERE id>?1 AND received_at<?2 AND state IN ('done','skipped') AND feed IN ('tracking in','stock in')
			AND id<(SELECT max(id) FROM inbox) ORDER BY id LIMIT ?3`,
			"DELETE FROM inbox WHERE id IN (SELECT value FROM json_each(?))"},
		{`SELECT id FROM file WHERE id>?1 AND at<?2 AND id<(SELECT max(id) FROM file) ORDER BY id LIMIT ?3`,
			"DELETE FROM file WHERE id IN (SELECT value FROM json_each(?))"},
	},
	"sent": {
		{`SELECT id FROM outbox o WHERE id>?1 AND created_at<?2 AND state IN ('confirmed','superseded') AND feed='stock out'
			AND EXISTS (SELECT 1 FROM outbox n WHERE n.connection_id=o.connection_id AND n.feed=o.feed AND n.subject=o.subject
			AND n.id>o.id)
			ORDER BY id LIMIT ?3`,
			"DELETE FROM outbox WHERE id IN (SELECT value FROM json_each(?))"},
		{
			`SELECT id FROM outbox WHERE id>?1 AND created_at<?2 AND state IN ('confirmed','superseded')
			AND payload<>'{}' ORDER BY id LIMIT ?3`,
			`UPDATE outbox SET payload='{}', answer=CASE feed WHEN 'labels out' THEN answer ELSE '' END
				WHERE id IN (SELECT value FROM json_each(?))`,
		},
	},
	"runs": {
		{`SELECT r.id FROM run r WHERE r.id>?1 AND r.started_at<?2 AND r.ended_at<>0
			AND r.id<(SELECT max(id) FROM run n WHERE n.feed_id=r.feed_id) ORDER BY r.id LIMIT ?3`,
			"DELETE FROM run WHERE id IN (SELECT value FROM json_each(?))"},
		{`SELECT id FROM run_log WHERE id>?1 AND at<?2 AND id<(SELECT max(id) FROM run_log) ORDER BY id LIMIT ?3`,
			"DELETE FROM run_log WHERE id IN (SELECT value FROM json_each(?))"},
	},
	"timeline": {
		{`SELECT id FROM timeline WHERE id>?1 AND at<?2 AND thing='order' AND what IN (` + details + `)
			AND id<(SELECT max(id) FROM timeline) ORDER BY id LIMIT ?3`,
			"DELETE FROM timeline WHERE id IN (SELECT value FROM json_each(?))"},
		{`SELECT order_id AS id FROM order_plan WHERE order_id>?1 AND at<?2 AND waits=0 ORDER BY order_id LIMIT ?3`,
			"DELETE FROM order_plan WHERE order_id IN (SELECT value FROM json_each(?))"},
	},
	"exceptions": {
		{`SELECT id FROM exception WHERE id>?1 AND closed_at<>0 AND closed_at<?2 AND cause NOT IN ('label not needed','number not told')
			AND id<(SELECT max(id) FROM exception) ORDER BY id LIMIT ?3`,
			"DELETE FROM exception WHERE id IN (SELECT value FROM json_each(?))"},
	},
	"notices": {
		{`SELECT id FROM notice WHERE id>?1 AND created_at<?2 AND state<>'waiting' AND id<(SELECT max(id) FROM notice)
			ORDER BY id LIMIT ?3`, "DELETE FROM notice WHERE id IN (SELECT value FROM json_each(?))"},
	},
	"looks": {
		{`SELECT id FROM look WHERE id>?1 AND at<?2 AND id<(SELECT max(id) FROM look) ORDER BY id LIMIT ?3`,
			"DELETE FROM look WHERE id IN (SELECT value FROM json_each(?))"},
	},
	"security": {
		{`SELECT id FROM security_event WHERE id>?1 AND at<?2 AND id<(SELECT max(id) FROM security_event) ORDER BY id LIMIT ?3`,
			"DELETE FROM security_event WHERE id IN (SELECT value FROM json_each(?))"},
	},
}

// thinned stands where a received record was; it is JSON, as records are.
const (
	thinned       = `{"removed":"thinned, after its time"}`
	thinnedLength = "60" // what is shorter is left alone: it takes no room, or was removed already
)

// Thinned tells whether a received record was taken out, and stands there only by name.
func Thinned(raw []byte) bool {
	var said struct {
		Removed string `json:"removed"`
	}
	return len(raw) < 100 && json.Unmarshal(raw, &said) == nil && said.Removed != ""
}

// ToThin lists rows of a kind that are older than a moment, after an id, in the order of their ids.
func (s *Store) ToThin(ctx context.Context, kind string, part int, after int64, before time.Time, limit int) (ids []int64, err error) {
	err = s.read.SelectContext(ctx, &ids, Thinnings[kind][part].find, after, micros(before), limit)
	return ids, err
}

// Thin thins rows that ToThin listed.
func (t *Tx) Thin(kind string, part int, ids []int64) error {
	text, err := json.Marshal(ids)
	if err != nil {
		return err
	}
	if _, err := t.exec(Thinnings[kind][part].apply, string(text)); err != nil {
		return fmt.Errorf("thin %s: %w", kind, err)
	}
	return nil
}

// Settle moves what was written from the journal into the file, by a connection of its own: whoever writes does not wait
// for it, and has none of it to do itself. It is for whoever writes much at once.
func (s *Store) Settle(ctx context.Context) error {
	db, err := sql.Open("sqlite", dsn(s.path))
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)")
	return err
}

// Size tells how large the file is, and how much of it is free to be used again, in bytes.
func (s *Store) Size(ctx context.Context) (size, free int64, err error) {
	var page, pages, unused int64
	for pragma, to := range map[string]*int64{"page_size": &page, "page_count": &pages, "freelist_count": &unused} {
		if err := s.read.GetContext(ctx, to, "PRAGMA "+pragma); err != nil {
			return 0, 0, err
		}
	}
	return page * pages, page * unused, nil
}
