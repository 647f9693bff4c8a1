package store

import (
	"context"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/order"
)

// Exception is something that needs a person.
type Exception struct {
	ID             int64       `db:"id"`
	Cause          order.Cause `db:"cause"`
	Subject        string      `db:"subject"` // what it is about within its cause: an SKU, a field, a reason
	Text           string      `db:"text"`
	Expected       string      `db:"expected"`
	ConnectionID   int64       `db:"connection_id"`
	ConnectionCode string      `db:"connection_code"`
	ConnectionName string      `db:"connection_name"`
	OrderID        int64       `db:"order_id"`
	OrderNumber    string      `db:"order_number"`
	OutboxID       int64       `db:"outbox_id"`
	InboxID        int64       `db:"inbox_id"`
	ItemID         int64       `db:"item_id"`
	ParcelID       int64       `db:"parcel_id"`
	ParcelNumber   string      `db:"parcel_number"`
	SKU            string      `db:"sku"`
	OpenedAt       int64       `db:"opened_at"`
	ClosedAt       int64       `db:"closed_at"`
	Assignee       string      `db:"assignee"`
	SnoozedUntil   int64       `db:"snoozed_until"`
	Standing       bool        `db:"standing"` // it does not end with a hold of its order, but with its own cause or by a person
}

// Group names all open exceptions of one cause about one thing at one connection: what is mended for one of
// them is mended for all.
type Group struct {
	Cause        order.Cause
	Subject      string
	ConnectionID int64
}

// Raise opens an exception unless one of the same cause is open for the same thing. Who looks after its group,
// and until when that sleeps, holds for it too.
func (t *Tx) Raise(e Exception, now time.Time) error {
	n, err := t.exec(`UPDATE exception SET text=?, expected=? WHERE closed_at=0 AND cause=? AND connection_id=? AND order_id=?
		AND outbox_id=? AND inbox_id=? AND item_id=? AND subject=? AND parcel_id=?`,
		e.Text, e.Expected, e.Cause, e.ConnectionID, e.OrderID, e.OutboxID, e.InboxID, e.ItemID, e.Subject, e.ParcelID)
	if err != nil || n > 0 {
		return err
	}
	_, err = t.exec(
		`INSERT INTO exception (cause, subject, text, expected, connection_id, order_id, outbox_id, inbox_id,
		item_id, opened_at, standing, parcel_id, assignee, snoozed_until)
		VALUES (?1,?2,?3,?4,?5,?6,?7,?8,?9,?10,?11,?12, coalesce((SELECT assignee FROM exception WHERE closed_at=0 AND cause=?1
		AND connection_id=?5 AND subject=?2 LIMIT 1),''),
		coalesce((SELECT snoozed_until FROM exception WHERE closed_at=0 AND cause=?1 AND connection_id=?5 AND subject=?2 LIMIT 1),0))`,
		e.Cause,
		e.Subject,
		e.Text,
		e.Expected,
		e.ConnectionID,
		e.OrderID,
		e.OutboxID,
		e.InboxID,
		e.ItemID,
		micros(now),
		e.Standing,
		e.ParcelID,
	)
	return err
}

// CloseOfParcel closes the open exceptions of a cause about a parcel.
func (t *Tx) CloseOfParcel(parcel int64, cause order.Cause, who string, now time.Time) error {
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND parcel_id=? AND parcel_id<>0 AND cause=?",
		micros(now), who, parcel, cause)
	return err
}

// CloseExceptions closes the open exceptions of an order but for those that still hold: keep lists them as
// cause and subject, joined by the unit separator.
func (t *Tx) CloseExceptions(order int64, keep []string, who string, now time.Time) error {
	in, keepArgs := list(keep)
	args := append([]any{micros(now), who, order}, keepArgs...)
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by=? WHERE order_id=? AND order_id<>0 AND closed_at=0
		AND outbox_id=0 AND inbox_id=0 AND standing=0 AND cause||char(31)||subject NOT IN (`+in+")", args...)
	return err
}

// CloseExceptionFor closes the open exceptions about an outbox or inbox message.
func (t *Tx) CloseExceptionFor(outbox, inbox int64, who string, now time.Time) error {
	of, other, id := "outbox_id", "inbox_id", outbox
	if outbox == 0 {
		of, other, id = other, of, inbox
	}
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND "+of+"=? AND "+of+"<>0 AND "+other+"=0",
		micros(now), who, id)
	return err
}

// CloseOvertaken closes the open exceptions of a cause about older messages on what a message is about.
func (t *Tx) CloseOvertaken(m OutboxMessage, cause order.Cause, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND cause=? AND connection_id=?
		AND outbox_id IN (SELECT id FROM outbox WHERE connection_id=? AND feed=? AND subject=? AND id<?)`, micros(now), cause,
		m.ConnectionID, m.ConnectionID, m.Feed, m.Subject, m.ID)
	return err
}

// CloseParcelExceptions closes the open exceptions of a cause about messages of a parcel.
func (t *Tx) CloseParcelExceptions(parcel int64, cause order.Cause, who string, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND cause=? AND outbox_id IN (SELECT id
		FROM outbox WHERE parcel_id=? AND order_id=(SELECT s.order_id FROM parcel p JOIN shipment s ON s.id=p.shipment_id WHERE p.id=?))`,
		micros(now), who, cause, parcel, parcel)
	return err
}

// CloseStanding closes the open exceptions of a cause about an order that stand by themselves.
func (t *Tx) CloseStanding(orderID int64, cause order.Cause, who string, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND order_id=? AND order_id<>0
		AND standing=1 AND cause=?`, micros(now), who, orderID, cause)
	return err
}

// OrdersOfCause lists the orders for which a cause is open: those of some orders, or of all where none are named.
func (t *Tx) OrdersOfCause(cause order.Cause, of []int64) ([]int64, error) {
	q, args := "SELECT DISTINCT order_id FROM exception WHERE closed_at=0 AND cause=? AND order_id<>0", []any{cause}
	if len(of) > 0 {
		in, ids := list(of)
		q += " AND order_id IN (" + in + ")"
		args = append(args, ids...)
	}
	rows := []struct {
		ID int64 `db:"order_id"`
	}{}
	err := t.sel(&rows, q+" ORDER BY order_id", args...)
	out := make([]int64, len(rows))
	for i, r := range rows {
		out[i] = r.ID
	}
	return out, err
}

// ParcelsOfExceptions lists the packed parcels of the orders for which a cause is open at a connection.
func (t *Tx) ParcelsOfExceptions(cause order.Cause, connection int64) (numbers []string, err error) {
	rows := []struct {
		Number string `db:"number"`
	}{}
	err = t.sel(&rows, `SELECT DISTINCT p.number FROM exception e JOIN shipment s ON s.order_id=e.order_id
		JOIN parcel p ON p.shipment_id=s.id AND p.state='packed'
		WHERE e.closed_at=0 AND e.cause=? AND e.connection_id=? AND e.order_id<>0 ORDER BY p.number`, cause, connection)
	for _, r := range rows {
		numbers = append(numbers, r.Number)
	}
	return numbers, err
}

// CloseConnectionException closes the open exceptions of a cause about a connection as a whole.
func (t *Tx) CloseConnectionException(connection int64, cause order.Cause, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND connection_id=? AND cause=?
		AND order_id=0 AND outbox_id=0 AND inbox_id=0`, micros(now), connection, cause)
	return err
}

// CloseConnectionSubject closes the open exceptions of a cause about something of a connection that is known by its subject.
func (t *Tx) CloseConnectionSubject(connection int64, cause order.Cause, subject string, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND connection_id=? AND cause=? AND subject=?
		AND order_id=0`, micros(now), connection, cause, subject)
	return err
}

// CloseItemException closes the open exceptions of a cause about an item and a connection (0: none).
func (t *Tx) CloseItemException(item, connection int64, cause order.Cause, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND item_id=? AND item_id<>0
		AND connection_id=? AND cause=?`, micros(now), item, connection, cause)
	return err
}

// CloseItemExceptions closes the open exceptions of a cause about an item, whichever connection they concern.
func (t *Tx) CloseItemExceptions(item int64, cause order.Cause, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND item_id=? AND item_id<>0
		AND cause=?`, micros(now), item, cause)
	return err
}

var exceptionQuery = `SELECT e.id, e.cause, e.subject, e.text, e.expected, e.connection_id, coalesce(c.code,'') AS
	connection_code, coalesce(c.name,'') AS connection_name, e.order_id,
	coalesce(o.number,'') AS order_number, e.outbox_id, e.inbox_id, e.item_id, coalesce(i.sku,'') AS sku, e.opened_at,
	e.parcel_id, coalesce((SELECT number FROM parcel WHERE id=e.parcel_id AND e.parcel_id<>0),'') AS parcel_number,
	e.closed_at, ` + called("e.assignee") + ` AS assignee, e.snoozed_until, e.standing
	FROM exception e LEFT JOIN connection c ON c.id=e.connection_id LEFT JOIN orders o ON o.id=e.order_id LEFT
	JOIN item i ON i.id=e.item_id `

// OpenExceptions lists what needs a person and does not sleep, newest first.
func (s *Store) OpenExceptions(ctx context.Context, now time.Time, limit int) ([]Exception, error) {
	var out []Exception
	err := s.read.SelectContext(ctx, &out, exceptionQuery+"WHERE e.closed_at=0 AND e.snoozed_until<=? ORDER BY e.id DESC LIMIT ?",
		micros(now), limit)
	return out, err
}

// ExceptionsOf lists the open exceptions of a group, oldest first.
func (s *Store) ExceptionsOf(ctx context.Context, g Group, after int64, limit int) ([]Exception, error) {
	var out []Exception
	err := s.read.SelectContext(ctx, &out, exceptionQuery+`WHERE e.closed_at=0 AND e.cause=? AND e.connection_id=?
		AND e.subject=? AND e.id>? ORDER BY e.id LIMIT ?`, g.Cause, g.ConnectionID, g.Subject, after, limit)
	return out, err
}

// NumbersOfGroup lists the numbers of the orders of a group, each once, oldest exception first.
func (s *Store) NumbersOfGroup(ctx context.Context, g Group) (numbers []string, err error) {
	err = s.read.SelectContext(ctx, &numbers, `SELECT o.number FROM exception e JOIN orders o ON o.id=e.order_id
		WHERE e.closed_at=0 AND e.cause=? AND e.connection_id=? AND e.subject=? GROUP BY o.id ORDER BY min(e.id)`, g.Cause,
		g.ConnectionID, g.Subject)
	return numbers, err
}

// Exception loads one exception, open or not.
func (s *Store) Exception(ctx context.Context, id int64) (Exception, error) {
	var e Exception
	err := s.read.GetContext(ctx, &e, exceptionQuery+"WHERE e.id=?", id)
	return e, found(err)
}

// ExceptionGroup is all that is open of one cause about one thing.
type ExceptionGroup struct {
	Exception        // the newest of them
	N          int64 `db:"n"`
	OrderCount int64 `db:"order_count"`
	OldestAt   int64 `db:"oldest_at"`
}

// ExceptionFilter narrows the groups. What is empty does not narrow.
type ExceptionFilter struct {
	Cause                order.Cause
	Connection, Assignee string
	Nobodys              bool // nobody looks after it
	Asleep               bool // those that sleep, instead of those that do not
	Now                  time.Time
	Limit                int
}

// ExceptionGroups lists what needs a person by cause and thing, those that block most orders first.
func (s *Store) ExceptionGroups(ctx context.Context, f ExceptionFilter) ([]ExceptionGroup, error) {
	where, args := []string{"e.closed_at=0"}, []any{}
	add := func(cond string, a ...any) { where = append(where, cond); args = append(args, a...) }
	if f.Asleep {
		add("e.snoozed_until>?", micros(f.Now))
	} else {
		add("e.snoozed_until<=?", micros(f.Now))
	}
	if f.Cause != "" {
		add("e.cause=?", f.Cause)
	}
	if f.Connection != "" {
		add("e.connection_id=(SELECT id FROM connection WHERE code=?)", f.Connection)
	}
	if f.Assignee != "" {
		add("e.assignee=?", f.Assignee)
	}
	if f.Nobodys {
		add("e.assignee=''")
	}
	q := `SELECT max(e.id) AS id, count(*) AS n, count(DISTINCT nullif(e.order_id,0)) AS order_count,
		min(e.opened_at) AS oldest_at FROM exception e WHERE ` + strings.Join(where, " AND ") +
		` GROUP BY e.cause, e.connection_id, e.subject ORDER BY order_count DESC, id DESC ` + upTo
	args = append(args, f.Limit)
	full := strings.Replace(exceptionQuery, "SELECT e.id", "SELECT g.n, g.order_count, g.oldest_at, e.id", 1)
	full = strings.Replace(full, "FROM exception e ", "FROM ("+q+") g JOIN exception e ON e.id=g.id ", 1)
	var out []ExceptionGroup
	if err := s.read.SelectContext(ctx, &out, full+"ORDER BY g.order_count DESC, g.id DESC", args...); err != nil {
		return nil, fmt.Errorf("list exceptions: %w", err)
	}
	return out, nil
}

// OrdersOfGroup counts the orders that wait for a group, asleep or not.
func (s *Store) OrdersOfGroup(ctx context.Context, g Group) (n int64, err error) {
	err = s.read.GetContext(ctx, &n, `SELECT count(DISTINCT order_id) FROM exception WHERE closed_at=0 AND cause=?
		AND connection_id=? AND subject=? AND order_id<>0`, g.Cause, g.ConnectionID, g.Subject)
	return n, err
}

// CauseCounts counts what is open by cause.
func (s *Store) CauseCounts(ctx context.Context) ([]NamedCount, error) {
	out := []NamedCount{}
	err := s.read.SelectContext(ctx, &out, `SELECT cause AS name, count(*) AS n FROM exception WHERE closed_at=0 GROUP BY cause
		ORDER BY n DESC`)
	return out, err
}

// AssignGroup says who looks after a group, and returns how many exceptions that are.
func (t *Tx) AssignGroup(g Group, assignee string) (int64, error) {
	return t.exec("UPDATE exception SET assignee=? WHERE closed_at=0 AND cause=? AND connection_id=? AND subject=?", assignee, g.Cause,
		g.ConnectionID, g.Subject)
}

// SnoozeGroup lets a group sleep until a time; the zero time wakes it.
func (t *Tx) SnoozeGroup(g Group, until time.Time) (int64, error) {
	return t.exec("UPDATE exception SET snoozed_until=? WHERE closed_at=0 AND cause=? AND connection_id=? AND subject=?", micros(until),
		g.Cause, g.ConnectionID, g.Subject)
}

// CloseGroup closes what a person has dealt with elsewhere. Exceptions that a hold of an order stands behind end
// with that and are left.
func (t *Tx) CloseGroup(g Group, who string, now time.Time) (int64, error) {
	return t.exec(`UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND cause=? AND connection_id=?
		AND subject=? AND (order_id=0 OR outbox_id<>0 OR inbox_id<>0 OR standing=1)`, micros(now), who, g.Cause, g.ConnectionID, g.Subject)
}

// UntakenOf lists the messages behind a group that were refused, or of which nobody said what became of them.
func (t *Tx) UntakenOf(g Group) (ids []int64, err error) {
	rows := []struct {
		ID int64 `db:"outbox_id"`
	}{}
	err = t.sel(&rows, `SELECT e.outbox_id FROM exception e JOIN outbox x ON x.id=e.outbox_id
		AND (x.state='refused' OR x.state='waiting' AND x.unclear=1) WHERE e.closed_at=0 AND e.cause=? AND e.connection_id=?
		AND e.subject=?`, g.Cause, g.ConnectionID, g.Subject)
	for _, r := range rows {
		ids = append(ids, r.ID)
	}
	return ids, err
}

// NewExceptions lists what was raised after an exception and is still open, of some causes (none: all).
func (s *Store) NewExceptions(ctx context.Context, after int64, causes []string, limit int) ([]Exception, error) {
	q, args := exceptionQuery+"WHERE e.id>? AND e.closed_at=0 ", []any{after}
	if len(causes) > 0 {
		in, a := list(causes)
		q += "AND e.cause IN (" + in + ") "
		args = append(args, a...)
	}
	var out []Exception
	err := s.read.SelectContext(ctx, &out, q+"ORDER BY e.id LIMIT ?", append(args, limit)...)
	return out, err
}

// LastException is the id of the newest exception.
func (s *Store) LastException(ctx context.Context) (id int64, err error) {
	err = s.read.GetContext(ctx, &id, "SELECT coalesce(max(id),0) FROM exception")
	return id, err
}

// Target is somebody who wants to be told.
type Target struct {
	ID       int64  `db:"id"`
	Kind     string `db:"kind"` // webhook or email
	Address  string `db:"address"`
	Secret   []byte `db:"secret"` // sealed; signs what goes to a webhook
	Causes   string `db:"causes"` // JSON list; empty: all
	Every    int64  `db:"every_minutes"`
	On       bool   `db:"is_on"`
	UpTo     int64  `db:"upto"` // the newest exception that was told of
	NextAt   int64  `db:"next_at"`
	Revision int64  `db:"revision"`
}

const targetCols = "id, kind, address, secret, causes, every_minutes, is_on, upto, next_at, revision"

// Targets lists who wants to be told.
func (s *Store) Targets(ctx context.Context) ([]Target, error) {
	out := []Target{}
	err := s.read.SelectContext(ctx, &out, "SELECT "+targetCols+" FROM notify_target ORDER BY id")
	return out, err
}

// PutTarget adds (id 0) or changes somebody who wants to be told, and returns the id.
func (t *Tx) PutTarget(x Target) (int64, error) {
	if x.ID == 0 {
		var id int64
		err := t.get(&id, `INSERT INTO notify_target (kind, address, secret, causes, every_minutes, is_on, upto, next_at)
			VALUES (?,?,?,?,?,?,?,?) RETURNING id`, x.Kind, x.Address, x.Secret, x.Causes, x.Every, x.On, x.UpTo, x.NextAt)
		return id, err
	}
	n, err := t.exec(`UPDATE notify_target SET address=?, secret=?, causes=?, every_minutes=?, is_on=?, upto=?, next_at=?,
		revision=revision+1 WHERE id=?`, x.Address, x.Secret, x.Causes, x.Every, x.On, x.UpTo, x.NextAt, x.ID)
	if err == nil && n == 0 {
		return 0, ErrNotFound
	}
	return x.ID, err
}

// Told notes up to which exception a target was told, and when it is looked at again.
func (t *Tx) ToldOf(target, upto int64, next time.Time) error {
	_, err := t.exec("UPDATE notify_target SET upto=max(upto,?), next_at=? WHERE id=?", upto, micros(next), target)
	return err
}

// DropTarget removes a target and what waits for it.
func (t *Tx) DropTarget(id int64) error {
	if _, err := t.exec("DELETE FROM notice WHERE target_id=?", id); err != nil {
		return err
	}
	n, err := t.exec("DELETE FROM notify_target WHERE id=?", id)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// Notice is one message to a target.
type Notice struct {
	ID        int64  `db:"id" json:"id"`
	TargetID  int64  `db:"target_id" json:"-"`
	Ref       string `db:"ref" json:"reference"`
	Subject   string `db:"subject" json:"subject"`
	Payload   string `db:"payload" json:"-"`
	State     string `db:"state" json:"state"`
	Attempts  int64  `db:"attempts" json:"attempts"`
	CreatedAt int64  `db:"created_at" json:"-"`
	NextAt    int64  `db:"next_at" json:"-"`
	SentAt    int64  `db:"sent_at" json:"-"`
	Error     string `db:"error" json:"error,omitempty"`
}

const noticeCols = "id, target_id, ref, subject, payload, state, attempts, created_at, next_at, sent_at, error"

// AddNotice queues a message to a target.
func (t *Tx) AddNotice(n Notice) error {
	_, err := t.exec("INSERT INTO notice (target_id, ref, subject, payload, created_at, next_at) VALUES (?,?,?,?,?,?)", n.TargetID, n.Ref,
		n.Subject, n.Payload, n.CreatedAt, n.NextAt)
	return err
}

// DueNotices lists the messages whose time has come.
func (s *Store) DueNotices(ctx context.Context, now time.Time) ([]Notice, error) {
	var out []Notice
	err := s.read.SelectContext(ctx, &out, "SELECT "+noticeCols+" FROM notice WHERE state='waiting' AND next_at<=? ORDER BY id LIMIT 50",
		micros(now))
	return out, err
}

// NextNotice is when the next message is due, or the zero time.
func (s *Store) NextNotice(ctx context.Context) (time.Time, error) {
	var us int64
	err := s.read.GetContext(ctx, &us, "SELECT coalesce(min(next_at),0) FROM notice WHERE state='waiting'")
	return Time(us), err
}

// SettleNotice writes what became of a message.
func (t *Tx) SettleNotice(n Notice) error {
	_, err := t.exec("UPDATE notice SET state=?, attempts=?, next_at=?, sent_at=?, error=? WHERE id=?", n.State, n.Attempts, n.NextAt,
		n.SentAt, n.Error, n.ID)
	return err
}

// Notices lists the newest messages to a target.
func (s *Store) Notices(ctx context.Context, target int64, limit int) ([]Notice, error) {
	out := []Notice{}
	err := s.read.SelectContext(ctx, &out, "SELECT "+noticeCols+" FROM notice WHERE target_id=? ORDER BY id DESC LIMIT ?", target, limit)
	return out, err
}

// CloseSubject closes the open exceptions of a cause about a subject of an order.
func (t *Tx) CloseSubject(orderID int64, cause order.Cause, subject, who string, now time.Time) error {
	_, err := t.exec(`UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND order_id=? AND order_id<>0 AND cause=?
		AND subject=?`, micros(now), who, orderID, cause, subject)
	return err
}
