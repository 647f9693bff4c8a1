package store

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
)

// Received is a message on its way into the inbox.
type Received struct {
	OutsideID string
	Version   int64
	Raw       []byte
}

// InboxMessage is a message as it was received.
type InboxMessage struct {
	ID           int64        `db:"id"`
	ConnectionID int64        `db:"connection_id"`
	Feed         message.Feed `db:"feed"`
	OutsideID    string       `db:"outside_id"`
	Version      int64        `db:"version"`
	Via          string       `db:"via"`
	RunID        int64        `db:"run_id"`
	ReceivedAt   int64        `db:"received_at"`
	Attempts     int64        `db:"attempts"` // decisions that failed for reasons that may pass
}

const inboxCols = "id, connection_id, feed, outside_id, version, via, run_id, received_at, attempts"

// Receive keeps messages as they came. One that is known by id and version is not kept twice; the
// result counts those kept.
func (t *Tx) Receive(connection int64, feed message.Feed, via string, run int64, msgs []Received, now time.Time) (int, error) {
	rows := make([][]any, len(msgs))
	for i, m := range msgs {
		rows[i] = []any{connection, feed, m.OutsideID, m.Version, via, run, micros(now), m.Raw}
	}
	kept, err := t.insertMany("INSERT INTO inbox (connection_id, feed, outside_id, version, via, run_id, received_at, raw)", 8, rows,
		"ON CONFLICT (connection_id, feed, outside_id, version) DO NOTHING")
	if err != nil {
		return int(kept), fmt.Errorf("keep messages: %w", err)
	}
	return int(kept), nil
}

// WaitingInbox lists the next messages of a connection that no decision has been made on and whose time has come,
// without their text; InboxRaw reads that.
func (s *Store) WaitingInbox(ctx context.Context, connection int64, now time.Time, limit int) ([]InboxMessage, error) {
	var out []InboxMessage
	err := s.read.SelectContext(ctx, &out, `SELECT `+inboxCols+` FROM inbox
		WHERE connection_id = ? AND state = 'waiting' AND next_at <= ? ORDER BY id `+upTo, connection, micros(now), limit)
	return out, err
}

// NextInbox is when the next message of a connection that was put off is to be decided on, or the zero time.
func (s *Store) NextInbox(ctx context.Context, connection int64) (time.Time, error) {
	var us int64
	err := s.read.GetContext(ctx, &us, "SELECT coalesce(min(next_at),0) FROM inbox WHERE connection_id=? AND state='waiting'", connection)
	return Time(us), err
}

// PutOff lets a message wait that could not be decided on.
func (t *Tx) PutOff(id, attempts int64, reason string, next time.Time) error {
	_, err := t.exec("UPDATE inbox SET attempts=?, reason=?, next_at=? WHERE id=?", attempts, reason, micros(next), id)
	return err
}

// InboxRaw reads a message as it came.
func (s *Store) InboxRaw(ctx context.Context, id int64) ([]byte, error) {
	var raw []byte
	err := s.read.GetContext(ctx, &raw, "SELECT raw FROM inbox WHERE id = ?", id)
	return raw, found(err)
}

// InboxOutcome is what became of a message.
type InboxOutcome struct {
	ID      int64
	State   string // done, skipped or failed
	Reason  string
	OrderID int64
}

// SettleInbox writes what became of messages.
func (t *Tx) SettleInbox(outcomes []InboxOutcome) error {
	const most = 50
	for len(outcomes) > 0 {
		n := min(len(outcomes), most)
		if n < most {
			n = 1
		}
		args := make([]any, 0, 4*n)
		for _, o := range outcomes[:n] {
			args = append(args, o.ID, o.State, o.Reason, o.OrderID)
		}
		if _, err := t.exec(`UPDATE inbox SET state=v.column2, reason=v.column3, order_id=v.column4 FROM (VALUES (?,?,?,?)`+
			strings.Repeat(",(?,?,?,?)", n-1)+`) v WHERE inbox.id=v.column1`, args...); err != nil {
			return fmt.Errorf("settle messages: %w", err)
		}
		outcomes = outcomes[n:]
	}
	return nil
}

// Reopen puts failed inbox messages of a connection back to waiting, closes what was raised about them,
// and returns how many there were.
func (t *Tx) Reopen(connection int64, who string, now time.Time) (int64, error) {
	if _, err := t.exec(`UPDATE exception SET closed_at=?, closed_by=? WHERE closed_at=0 AND inbox_id<>0
		AND inbox_id IN (SELECT id FROM inbox WHERE connection_id=? AND (state='failed' OR state='waiting' AND attempts>0))`, micros(now),
		who, connection); err != nil {
		return 0, err
	}
	return t.exec(`UPDATE inbox SET state='waiting', reason='', attempts=0, next_at=0 WHERE connection_id=? AND (state='failed'
		OR state='waiting' AND attempts>0)`, connection)
}

// OutboxMessage is a message decided and waiting to be sent, or sent.
type OutboxMessage struct {
	ID             int64        `db:"id"`
	ConnectionID   int64        `db:"connection_id"`
	ConnectionCode string       `db:"connection_code"`
	ConnectionName string       `db:"connection_name"`
	Feed           message.Feed `db:"feed"`
	Subject        string       `db:"subject"`
	Ref            string       `db:"ref"`
	Payload        string       `db:"payload"`
	State          string       `db:"state"`
	Attempts       int64        `db:"attempts"`
	CreatedAt      int64        `db:"created_at"`
	NextAt         int64        `db:"next_at"`
	SentAt         int64        `db:"sent_at"`
	ConfirmedAt    int64        `db:"confirmed_at"`
	Error          string       `db:"error"`
	Answer         string       `db:"answer"`
	OrderID        int64        `db:"order_id"`
	ParcelID       int64        `db:"parcel_id"`
	WrongField     string       `db:"-"`          // which field the other side refused, as it is refused; not kept
	Submission     string       `db:"submission"` // number of the batch that carried it, where a report follows
	Unclear        bool         `db:"unclear"`    // an attempt may have been carried out there, although no answer came
}

const outboxQuery = `SELECT x.id, x.connection_id, c.code AS connection_code, c.name AS connection_name, x.feed, x.subject,
	x.ref, x.payload, x.state, x.attempts,
	x.created_at, x.next_at, x.sent_at, x.confirmed_at, x.error, x.answer, x.order_id, x.parcel_id, x.submission, x.unclear
	FROM outbox x JOIN connection c ON c.id = x.connection_id `

// LastOfParcel is the newest message of a feed about a parcel.
func (t *Tx) LastOfParcel(parcel int64, feed message.Feed) (m OutboxMessage, err error) {
	err = t.get(
		&m,
		outboxQuery+"WHERE x.parcel_id=? AND x.order_id=(SELECT s.order_id FROM parcel p JOIN shipment s ON s.id=p.shipment_id "+
			"WHERE p.id=?) AND x.feed=? ORDER BY x.id DESC LIMIT 1",
		parcel,
		parcel,
		feed,
	)
	return m, err
}

// ToldOfParcel lists what a channel may have been told of a parcel, the oldest first, but for what was raised under a cause.
func (t *Tx) ToldOfParcel(parcel int64, raised order.Cause) (out []OutboxMessage, err error) {
	err = t.sel(&out, outboxQuery+`WHERE x.parcel_id=?1 AND x.order_id=(SELECT s.order_id FROM parcel p JOIN shipment s
		ON s.id=p.shipment_id WHERE p.id=?1) AND x.feed=?2 AND (x.state IN ('sending','sent','confirmed') OR x.attempts>0
		AND (x.state<>'refused' OR x.unclear)) AND NOT EXISTS (SELECT 1 FROM exception e WHERE e.outbox_id=x.id AND e.cause=?3)
		ORDER BY x.id`, parcel, message.DispatchOut, raised)
	return out, err
}

// SentOfOrder lists the messages of a feed about an order that were sent and are not confirmed yet.
func (t *Tx) SentOfOrder(orderID int64, feed message.Feed) (out []OutboxMessage, err error) {
	err = t.sel(&out, outboxQuery+"WHERE x.order_id=? AND x.order_id<>0 AND x.feed=? AND x.state='sent' ORDER BY x.id", orderID, feed)
	return out, err
}

// LabelBought is the message by which a label of a parcel was bought.
func (t *Tx) LabelBought(parcel int64, tracking string) (m OutboxMessage, err error) {
	err = t.get(&m, outboxQuery+`WHERE x.parcel_id=?1 AND x.order_id=(SELECT s.order_id FROM parcel p JOIN shipment s
		ON s.id=p.shipment_id WHERE p.id=?1) AND x.feed=?2 AND x.state='confirmed' AND json_valid(x.answer)
		AND x.answer->>'$.tracking'=?3 ORDER BY x.id DESC LIMIT 1`, parcel, message.LabelsOut, tracking)
	return m, err
}

// DropWaiting ends messages of a feed about a parcel that nobody has tried to send yet.
func (t *Tx) DropWaiting(parcel int64, feed message.Feed) error {
	_, err := t.exec(`UPDATE outbox SET state='superseded', next_at=0 WHERE parcel_id=?1 AND order_id=(SELECT s.order_id FROM parcel p
		JOIN shipment s ON s.id=p.shipment_id WHERE p.id=?1) AND feed=?2 AND state='waiting' AND attempts=0`, parcel, feed)
	return err
}

// States of outbox messages. Final are confirmed, refused and superseded; sent is final for feeds
// that cannot be read back, and is then written as confirmed with the answer as proof.
const (
	Waiting    = "waiting"
	Sending    = "sending"
	Sent       = "sent"
	Confirmed  = "confirmed"
	Refused    = "refused"
	Superseded = "superseded"
)

// Enqueue puts a message into the outbox under a reference that no other carries: the prefix and the
// message's id. A message that waits for the same subject and was never sent is replaced by it. One that was
// attempted stays as it was under its reference and is superseded: the other side may know it, and would take other
// words under the same reference for a repeat.
func (t *Tx) Enqueue(m OutboxMessage, prefix string, now time.Time) (int64, error) {
	id, err := t.id("outbox")
	if err != nil {
		return 0, err
	}
	m.Ref = fmt.Sprintf("%s-%d", prefix, id)
	if m.NextAt == 0 {
		m.NextAt = micros(now)
	}
	put := func() error {
		return t.get(&id, `INSERT INTO outbox (id, connection_id, feed, subject, ref, payload, created_at, next_at, order_id,
			parcel_id) VALUES (?,?,?,?,?,?,?,?,?,?)
			ON CONFLICT (connection_id, feed, subject) WHERE state = 'waiting' DO UPDATE SET payload = excluded.payload
			WHERE outbox.attempts = 0 RETURNING id`,
			id, m.ConnectionID, m.Feed, m.Subject, m.Ref, m.Payload, micros(now), m.NextAt, m.OrderID, m.ParcelID)
	}
	if err = put(); err == ErrNotFound {
		if _, err = t.exec(`UPDATE outbox SET state='superseded', next_at=0 WHERE connection_id=? AND feed=? AND subject=?
			AND state='waiting'`, m.ConnectionID, m.Feed, m.Subject); err == nil {
			err = put()
		}
	}
	if err != nil {
		return 0, fmt.Errorf("queue %s %s: %w", m.Feed, m.Subject, err)
	}
	return id, nil
}

// EnqueueMany is Enqueue for messages of which each is about something else, without what they are called.
func (t *Tx) EnqueueMany(list []OutboxMessage, prefix string, now time.Time) error {
	rows := make([][]any, len(list))
	for i, m := range list {
		id, err := t.id("outbox")
		if err != nil {
			return err
		}
		rows[i] = []any{id, m.ConnectionID, m.Feed, m.Subject, fmt.Sprintf("%s-%d", prefix, id), m.Payload, micros(now),
			max(m.NextAt, micros(now)), m.OrderID, m.ParcelID}
	}
	n, err := t.insertMany("INSERT INTO outbox (id, connection_id, feed, subject, ref, payload, created_at, next_at, order_id, parcel_id)",
		10, rows, `ON CONFLICT (connection_id, feed, subject) WHERE state = 'waiting' DO UPDATE SET payload = excluded.payload
		WHERE outbox.attempts = 0`)
	if err != nil {
		return fmt.Errorf("queue: %w", err)
	}
	if n == int64(len(list)) {
		return nil
	}
	for _, m := range list { // some were tried before and must keep what they said
		if _, err := t.Enqueue(m, prefix, now); err != nil {
			return err
		}
	}
	return nil
}

// ClaimOutbox takes the due messages of a connection and marks them as being sent. Messages marked
// so before, by a process that ended, are taken again: the other side knows them by their reference.
func (t *Tx) ClaimOutbox(connection int64, feeds []message.Feed, now time.Time, limit int) ([]OutboxMessage, error) {
	var out []OutboxMessage
	in, args := list(feeds)
	args = append([]any{connection}, args...)
	err := t.sel(&out, outboxQuery+`WHERE x.connection_id = ?+0 AND x.feed IN (`+in+
		`) AND x.next_at <= ? AND x.state IN ('waiting','sending','sent')
		ORDER BY x.next_at, x.id `+upTo, append(args, micros(now), limit)...)
	if err != nil {
		return nil, err
	}
	kept := out[:0]
	for _, m := range out {
		// Left over from a process that ended, or waiting to be read back.
		if m.State == Sending || m.State == Sent && m.Submission == "" {
			newer, err := t.Overtaken(m)
			if err != nil {
				return nil, err
			}
			m.Unclear = m.Unclear || m.State == Sending // the process that sent it did not hear the answer
			if newer {
				if _, err := t.exec("UPDATE outbox SET state='superseded', next_at=0 WHERE id=?", m.ID); err != nil {
					return nil, err
				}
				continue
			}
		}
		kept = append(kept, m)
	}
	out = kept
	var leaving []int64
	for i := range out {
		if out[i].State == Waiting {
			leaving = append(leaving, out[i].ID)
			out[i].Attempts++
		}
	}
	if len(leaving) == 0 {
		return out, nil
	}
	in, args = list(leaving)
	_, err = t.exec("UPDATE outbox SET state='sending', attempts=attempts+1 WHERE id IN ("+in+")", args...)
	return out, err
}

// DueFeeds are the feeds, of some, of which a message of a connection is due.
func (s *Store) DueFeeds(ctx context.Context, connection int64, feeds []message.Feed, now time.Time) (out []message.Feed, err error) {
	in, args := list(feeds)
	err = s.read.SelectContext(ctx, &out, `SELECT DISTINCT feed FROM outbox WHERE connection_id=?+0 AND feed IN (`+in+`) AND next_at<=?
		AND state IN ('waiting','sending','sent')`, append(append([]any{connection}, args...), micros(now))...)
	return out, err
}

// NextOutbox tells when the next message of a connection is due, or the zero time.
func (s *Store) NextOutbox(ctx context.Context, connection int64) (time.Time, error) {
	var us int64
	err := s.read.GetContext(ctx, &us, `SELECT coalesce(min(next_at),0) FROM outbox WHERE connection_id=?+0
		AND state IN ('waiting','sending','sent')`, connection)
	return Time(us), err
}

// Overtaken tells whether a newer message about the same subject was decided, whatever became of it.
func (t *Tx) Overtaken(m OutboxMessage) (bool, error) {
	var n int64
	err := t.get(&n, `SELECT count(*) FROM (SELECT 1 FROM outbox WHERE connection_id=? AND feed=? AND subject=? AND id>?
		AND state<>'superseded' LIMIT 1)`, m.ConnectionID, m.Feed, m.Subject, m.ID)
	return n > 0, err
}

// SettleOutbox writes what became of a message that was being sent. A message that is to be tried
// again while a newer one waits for the same subject is superseded by that.
func (t *Tx) SettleOutbox(m OutboxMessage) error {
	if m.State == Waiting {
		newer, err := t.Overtaken(m)
		if err != nil {
			return err
		}
		if newer {
			m.State, m.NextAt = Superseded, 0
		}
	}
	_, err := t.exec(`UPDATE outbox SET state=?, attempts=?, next_at=?, sent_at=?, confirmed_at=?, error=?, answer=?,
		submission=?, unclear=? WHERE id=?`,
		m.State, m.Attempts, m.NextAt, m.SentAt, m.ConfirmedAt, m.Error, m.Answer, m.Submission, m.Unclear, m.ID)
	return err
}

// Outbox loads one message.
func (s *Store) Outbox(ctx context.Context, id int64) (OutboxMessage, error) {
	var m OutboxMessage
	err := s.read.GetContext(ctx, &m, outboxQuery+"WHERE x.id = ?", id)
	return m, found(err)
}

// Outbox loads one message.
func (t *Tx) Outbox(id int64) (OutboxMessage, error) {
	var m OutboxMessage
	err := t.get(&m, outboxQuery+"WHERE x.id = ?", id)
	return m, err
}

// OutboxOfOrder lists the messages that an order caused, oldest first.
func (s *Store) OutboxOfOrder(ctx context.Context, order int64) ([]OutboxMessage, error) {
	var out []OutboxMessage
	err := s.read.SelectContext(ctx, &out, outboxQuery+"WHERE x.order_id = ? AND x.order_id <> 0 ORDER BY x.id", order)
	return out, err
}

// OpenOutbox counts the messages that are not final, by connection and state; refused ones count too.
func (s *Store) OpenOutbox(ctx context.Context) (map[int64]map[string]int64, error) {
	var rows []struct {
		ConnectionID int64  `db:"connection_id"`
		State        string `db:"state"`
		N            int64  `db:"n"`
	}
	err := s.read.SelectContext(ctx, &rows,
		`SELECT connection_id, state, count(*) AS n FROM outbox WHERE state IN ('waiting','sending','sent','refused')
			GROUP BY connection_id, state`)
	out := map[int64]map[string]int64{}
	for _, r := range rows {
		if out[r.ConnectionID] == nil {
			out[r.ConnectionID] = map[string]int64{}
		}
		out[r.ConnectionID][r.State] = r.N
	}
	return out, err
}

// OpenOutboxFor returns the message that is not final for a subject, if any.
func (s *Store) OpenOutboxFor(ctx context.Context, connection int64, feed message.Feed, subject string) (OutboxMessage, error) {
	var m OutboxMessage
	err := s.read.GetContext(ctx, &m, outboxQuery+`WHERE x.connection_id=? AND x.feed=? AND x.subject=?
		AND x.state IN ('waiting','sending','sent') ORDER BY x.id DESC LIMIT 1`, connection, feed, subject)
	return m, found(err)
}

// SubmittedWith lists the messages that went with a batch and await its report.
func (t *Tx) SubmittedWith(connection int64, feed message.Feed, submission string) ([]OutboxMessage, error) {
	var out []OutboxMessage
	err := t.sel(&out, outboxQuery+`WHERE x.connection_id=? AND x.feed=? AND x.submission=? AND x.submission<>''
		AND x.state='sent' ORDER BY x.id`, connection, feed, submission)
	return out, err
}

// AwaitingReceipt lists the messages that went under a reference and of which nobody has said whether they were taken.
func (t *Tx) AwaitingReceipt(connection int64, reference string) ([]OutboxMessage, error) {
	var out []OutboxMessage
	err := t.sel(&out, outboxQuery+`WHERE x.connection_id=? AND x.submission=? AND x.submission<>''
		AND (x.state='sent' OR x.state='refused' AND x.unclear=1) ORDER BY x.id`, connection, reference)
	return out, err
}

// KnownVersions tells which messages were kept before.
func (s *Store) KnownVersions(ctx context.Context, connection int64, feed message.Feed, msgs []Received) ([]bool, error) {
	out := make([]bool, len(msgs))
	for i, m := range msgs {
		var n int
		if err := s.read.GetContext(ctx, &n, "SELECT count(*) FROM inbox WHERE connection_id=? AND feed=? AND outside_id=? AND version=?",
			connection, feed, m.OutsideID, m.Version); err != nil {
			return nil, err
		}
		out[i] = n > 0
	}
	return out, nil
}

// NewestRaw returns the newest message of a feed as it came, and how it came.
func (s *Store) NewestRaw(ctx context.Context, connection int64, feed message.Feed) (raw []byte, via string, err error) {
	var row struct {
		Raw []byte `db:"raw"`
		Via string `db:"via"`
	}
	err = s.read.GetContext(ctx, &row, "SELECT raw, via FROM inbox WHERE connection_id=? AND feed=? ORDER BY id DESC LIMIT 1",
		connection, feed)
	return row.Raw, row.Via, found(err)
}

// KeptRaw is a message as it came.
type KeptRaw struct {
	ID  int64  `db:"id"`
	Raw []byte `db:"raw"`
	Via string `db:"via"`
}

// NewestKept lists the newest messages of a feed as they came, and tells how many there are of which the text is still kept.
func (s *Store) NewestKept(ctx context.Context, connection int64, feed message.Feed, limit int) (list []KeptRaw, of int64, err error) {
	if err := s.read.GetContext(ctx, &of, "SELECT count(*) FROM inbox INDEXED BY inbox_once WHERE connection_id=? AND feed=?", connection,
		feed); err != nil {
		return nil, 0, err
	}
	err = s.read.SelectContext(ctx, &list, `SELECT id, raw, via FROM inbox WHERE id IN (SELECT id FROM inbox INDEXED BY inbox_once
		WHERE connection_id=? AND feed=? ORDER BY id DESC LIMIT ?) AND length(raw)>0
		AND CAST(substr(raw,1,11) AS TEXT)<>'{"removed":' ORDER BY id DESC`, connection, feed, limit)
	return list, of, err
}

// outboxWindow is how many of the newest messages that went out are looked through for those of one feed.
const outboxWindow = 50_000

// NewestPayloads lists the newest messages of ours that went out, or are to, over a feed, among the newest of all.
func (s *Store) NewestPayloads(ctx context.Context, connection int64, feed message.Feed, limit int) (list []string, err error) {
	err = s.read.SelectContext(ctx, &list, `SELECT payload FROM outbox WHERE id > (SELECT coalesce(max(id),0)-? FROM outbox)
		AND connection_id=? AND feed=? AND payload NOT LIKE '{"removed":%' ORDER BY id DESC LIMIT ?`, outboxWindow, connection, feed, limit)
	return list, err
}

// KnownInbox counts how many of the messages were kept before.
func (t *Tx) KnownInbox(connection int64, feed message.Feed, msgs []Received) (int, error) {
	known := 0
	for _, m := range msgs {
		var n int
		if err := t.get(&n, "SELECT count(*) FROM inbox WHERE connection_id=? AND feed=? AND outside_id=? AND version=?", connection,
			feed, m.OutsideID, m.Version); err != nil {
			return 0, err
		}
		known += n
	}
	return known, nil
}

// ForgetOlder removes what was kept of a record before a message.
func (t *Tx) ForgetOlder(m InboxMessage) error {
	_, err := t.exec("DELETE FROM inbox WHERE connection_id=? AND feed=? AND outside_id=? AND version<?", m.ConnectionID, m.Feed,
		m.OutsideID, m.Version)
	return err
}

// OpenFailures counts the messages of a connection that were not understood and wait for a person.
func (t *Tx) OpenFailures(connection int64) (n int, err error) {
	err = t.get(&n, "SELECT count(*) FROM exception WHERE closed_at=0 AND connection_id=? AND inbox_id<>0", connection)
	return n, err
}

// FailedInbox counts by connection the messages that could not be taken in and wait for a person or for another try.
func (s *Store) FailedInbox(ctx context.Context) (map[int64]int64, error) {
	var rows []struct {
		ID int64 `db:"connection_id"`
		N  int64 `db:"n"`
	}
	err := s.read.SelectContext(ctx, &rows, `SELECT connection_id, count(DISTINCT inbox_id) AS n FROM exception
		WHERE closed_at=0 AND inbox_id<>0 GROUP BY connection_id`)
	out := map[int64]int64{}
	for _, r := range rows {
		out[r.ID] = r.N
	}
	return out, err
}

// Outdated settles failed messages of a record of which a newer version was taken in, and closes what was
// raised about them.
func (t *Tx) Outdated(m InboxMessage, now time.Time) error {
	const older = "connection_id=? AND feed=? AND outside_id=? AND version<? AND state='failed'"
	args := []any{m.ConnectionID, m.Feed, m.OutsideID, m.Version}
	if _, err := t.exec(`UPDATE exception SET closed_at=?, closed_by='relay' WHERE closed_at=0 AND inbox_id<>0
		AND inbox_id IN (SELECT id FROM inbox WHERE `+older+")", append([]any{micros(now)}, args...)...); err != nil {
		return err
	}
	_, err := t.exec("UPDATE inbox SET state='skipped', reason='a newer version was taken in' WHERE "+older, args...)
	return err
}

// OpenFor tells whether a message about a subject waits, is being sent or is not confirmed yet.
func (t *Tx) OpenFor(connection int64, feed message.Feed, subject string) (bool, error) {
	var n int
	err := t.get(&n, `SELECT count(*) FROM outbox WHERE connection_id=? AND feed=? AND subject=?
		AND state IN ('waiting','sending','sent')`, connection, feed, subject)
	return n > 0, err
}

// OpenSubjects are the subjects of a feed about which a message is on its way.
func (s *Store) OpenSubjects(ctx context.Context, connection int64, feed message.Feed) (map[string]bool, error) {
	var list []string
	err := s.read.SelectContext(ctx, &list, `SELECT subject FROM outbox WHERE state IN ('waiting','sending','sent')
		AND connection_id=? AND feed=?`, connection, feed)
	out := make(map[string]bool, len(list))
	for _, x := range list {
		out[x] = true
	}
	return out, err
}

// CountWaitingInbox counts the messages that no decision has been made on.
func (s *Store) CountWaitingInbox(ctx context.Context) (int, error) {
	var n int
	err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM connection c JOIN inbox i ON i.connection_id = c.id
		AND i.state = 'waiting' AND i.attempts = 0`)
	return n, err
}

// WhatWaits tells when the next message of each connection is to be decided on, and when the next is due to be sent;
// connections without one are missing.
func (s *Store) WhatWaits(ctx context.Context) (inbox, outbox map[int64]time.Time, err error) {
	inbox, outbox = map[int64]time.Time{}, map[int64]time.Time{}
	var rows []struct {
		ID   int64         `db:"id"`
		In   sql.NullInt64 `db:"decide_at"`
		Next sql.NullInt64 `db:"next_at"`
	}
	err = s.read.SelectContext(ctx, &rows, `SELECT c.id, (SELECT min(next_at) FROM inbox i WHERE i.connection_id=c.id
		AND i.state='waiting') AS decide_at,
		(SELECT min(next_at) FROM outbox x WHERE x.connection_id=c.id AND x.state IN ('waiting','sending','sent')) AS next_at
		FROM connection c`)
	for _, r := range rows {
		if r.In.Valid {
			inbox[r.ID] = Time(r.In.Int64)
		}
		if r.Next.Valid {
			outbox[r.ID] = Time(r.Next.Int64)
		}
	}
	return inbox, outbox, err
}

// DropVoids ends the messages that ask a carrier to void a parcel's label and that wait.
func (t *Tx) DropVoids(parcel int64) error {
	_, err := t.exec(`UPDATE outbox SET state='superseded', next_at=0 WHERE parcel_id=?1 AND order_id=(SELECT s.order_id FROM parcel p
		JOIN shipment s ON s.id=p.shipment_id WHERE p.id=?1) AND feed=?2 AND state='waiting'`, parcel, message.VoidsOut)
	return err
}
