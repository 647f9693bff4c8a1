package store

import (
	"context"
	"time"
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

const timelineQuery = `SELECT t.id, t.at, t.who, t.thing, t.thing_id, t.what, t.text, coalesce(CASE t.thing WHEN 'order' THEN (SELECT number FROM orders WHERE id=t.thing_id)
	WHEN 'connection' THEN (SELECT code FROM connection WHERE id=t.thing_id) WHEN 'item' THEN (SELECT sku FROM item WHERE id=t.thing_id) END,'') AS name FROM timeline t `

// Timeline lists what happened to one thing, oldest first.
func (s *Store) Timeline(ctx context.Context, thing string, id int64) ([]Entry, error) {
	var out []Entry
	err := s.read.SelectContext(ctx, &out, timelineQuery+"WHERE t.thing=? AND t.thing_id=? ORDER BY t.id LIMIT 1000", thing, id)
	return out, err
}

// Activity lists what happened to everything, newest first.
func (s *Store) Activity(ctx context.Context, before int64, limit int) ([]Entry, error) {
	q, args := timelineQuery, []any{}
	if before > 0 {
		q += "WHERE t.id<? "
		args = append(args, before)
	}
	var out []Entry
	err := s.read.SelectContext(ctx, &out, q+"ORDER BY t.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// Exception is something that needs a person.
type Exception struct {
	ID             int64  `db:"id"`
	Cause          string `db:"cause"`
	Text           string `db:"text"`
	Expected       string `db:"expected"`
	ConnectionID   int64  `db:"connection_id"`
	ConnectionCode string `db:"connection_code"`
	ConnectionName string `db:"connection_name"`
	OrderID        int64  `db:"order_id"`
	OrderNumber    string `db:"order_number"`
	OutboxID       int64  `db:"outbox_id"`
	InboxID        int64  `db:"inbox_id"`
	ItemID         int64  `db:"item_id"`
	SKU            string `db:"sku"`
	OpenedAt       int64  `db:"opened_at"`
}

// Raise opens an exception unless one of the same cause is open for the same thing.
func (t *Tx) Raise(e Exception, now time.Time) error {
	n, err := t.exec(`UPDATE exception SET text=?, expected=? WHERE closed_at=0 AND cause=? AND connection_id=? AND order_id=? AND outbox_id=? AND inbox_id=? AND item_id=?`,
		e.Text, e.Expected, e.Cause, e.ConnectionID, e.OrderID, e.OutboxID, e.InboxID, e.ItemID)
	if err != nil || n > 0 {
		return err
	}
	_, err = t.exec("INSERT INTO exception (cause, text, expected, connection_id, order_id, outbox_id, inbox_id, item_id, opened_at) VALUES (?,?,?,?,?,?,?,?,?)",
		e.Cause, e.Text, e.Expected, e.ConnectionID, e.OrderID, e.OutboxID, e.InboxID, e.ItemID, micros(now))
	return err
}

// CloseExceptions closes the open exceptions of an order but for the causes that still hold.
func (t *Tx) CloseExceptions(order int64, keep []string, who string, now time.Time) error {
	in, keepArgs := list(keep)
	args := append([]any{micros(now), who, order}, keepArgs...)
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by=? WHERE order_id=? AND order_id<>0 AND closed_at=0 AND outbox_id=0 AND inbox_id=0 AND cause NOT IN ("+in+")", args...)
	return err
}

// CloseExceptionFor closes the open exceptions about an outbox or inbox message.
func (t *Tx) CloseExceptionFor(outbox, inbox int64, who string, now time.Time) error {
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND outbox_id=? AND inbox_id=? AND outbox_id+inbox_id<>0", micros(now), who, outbox, inbox)
	return err
}

// CloseConnectionException closes the open exceptions of a cause about a connection as a whole.
func (t *Tx) CloseConnectionException(connection int64, cause string, now time.Time) error {
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND connection_id=? AND cause=? AND order_id=0 AND outbox_id=0 AND inbox_id=0", micros(now), connection, cause)
	return err
}

// CloseItemException closes the open exceptions of a cause about an item and a connection (0: none).
func (t *Tx) CloseItemException(item, connection int64, cause string, now time.Time) error {
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND item_id=? AND item_id<>0 AND connection_id=? AND cause=?", micros(now), item, connection, cause)
	return err
}

// OpenExceptions lists what needs a person, newest first.
func (s *Store) OpenExceptions(ctx context.Context, limit int) ([]Exception, error) {
	var out []Exception
	err := s.read.SelectContext(ctx, &out, `SELECT e.id, e.cause, e.text, e.expected, e.connection_id, coalesce(c.code,'') AS connection_code, coalesce(c.name,'') AS connection_name, e.order_id,
		coalesce(o.number,'') AS order_number, e.outbox_id, e.inbox_id, e.item_id, coalesce(i.sku,'') AS sku, e.opened_at FROM exception e LEFT JOIN connection c ON c.id=e.connection_id
		LEFT JOIN orders o ON o.id=e.order_id LEFT JOIN item i ON i.id=e.item_id WHERE e.closed_at=0 ORDER BY e.id DESC LIMIT ?`, limit)
	return out, err
}
