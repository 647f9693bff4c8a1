package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"
)

// Connection is one account on an outside system. Credentials are sealed; only the relay opens them.
type Connection struct {
	ID          int64  `db:"id"`
	Code        string `db:"code"`
	Connector   string `db:"connector"`
	Side        string `db:"side"`
	Name        string `db:"name"`
	BaseURL     string `db:"base_url"`
	Credentials []byte `db:"credentials"`
	Identity    string `db:"identity"`
	Settings    string `db:"settings"`
	Paused      bool   `db:"paused"`
	BeganAt     int64  `db:"began_at"`
	Revision    int64  `db:"revision"`
}

const connectionCols = "id, code, connector, side, name, base_url, credentials, identity, settings, paused, began_at, revision"

// Connections lists all connections.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	var out []Connection
	err := s.read.SelectContext(ctx, &out, "SELECT "+connectionCols+" FROM connection ORDER BY id")
	return out, err
}

// AddConnection writes a new connection.
func (t *Tx) AddConnection(c Connection) (int64, error) {
	id, err := t.id("connection")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO connection ("+connectionCols+") VALUES ("+placeholders(12)+")", id, c.Code, c.Connector, c.Side, c.Name,
		c.BaseURL, c.Credentials, c.Identity, c.Settings, c.Paused, c.BeganAt, 1)
	if err != nil {
		return 0, fmt.Errorf("add connection %s: %w", c.Code, err)
	}
	return id, nil
}

// PauseConnection stops or resumes a connection, if it still has the revision the caller saw.
func (t *Tx) PauseConnection(id int64, paused bool, revision int64) error {
	n, err := t.exec("UPDATE connection SET paused=?, revision=revision+1 WHERE id=? AND revision=?", paused, id, revision)
	if err == nil && n == 0 {
		return ErrConflict
	}
	return err
}

// Feed is one kind of record moving one way over one connection.
type Feed struct {
	ID           int64  `db:"id"`
	ConnectionID int64  `db:"connection_id"`
	Kind         string `db:"kind"`
	On           bool   `db:"is_on"`
	Schedule     string `db:"schedule"`
	Mark         string `db:"mark"`
	LastOKAt     int64  `db:"last_ok_at"`
	LastTryAt    int64  `db:"last_try_at"`
	Failures     int64  `db:"failures"`
	LastError    string `db:"last_error"`
	Revision     int64  `db:"revision"`
}

const feedCols = "id, connection_id, kind, is_on, schedule, mark, last_ok_at, last_try_at, failures, last_error, revision"

// Feeds lists the feeds of all connections.
func (s *Store) Feeds(ctx context.Context) ([]Feed, error) {
	var out []Feed
	err := s.read.SelectContext(ctx, &out, "SELECT "+feedCols+" FROM feed ORDER BY connection_id, id")
	return out, err
}

// Feed loads one feed.
func (t *Tx) Feed(id int64) (Feed, error) {
	var f Feed
	err := t.get(&f, "SELECT "+feedCols+" FROM feed WHERE id=?", id)
	return f, err
}

// AddFeed writes a new feed.
func (t *Tx) AddFeed(f Feed) (int64, error) {
	id, err := t.id("feed")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO feed (id, connection_id, kind, is_on, schedule) VALUES (?,?,?,?,?)", id, f.ConnectionID, f.Kind, f.On, f.Schedule)
	return id, err
}

// SetFeed switches a feed and sets its schedule, if it still has the revision the caller saw.
func (t *Tx) SetFeed(id int64, on bool, schedule string, revision int64) error {
	n, err := t.exec("UPDATE feed SET is_on=?, schedule=?, revision=revision+1 WHERE id=? AND revision=?", on, schedule, id, revision)
	if err == nil && n == 0 {
		return ErrConflict
	}
	return err
}

// FeedWent notes a success of a feed, and the mark reached ("" leaves the mark).
func (t *Tx) FeedWent(id int64, mark string, now time.Time) error {
	_, err := t.exec("UPDATE feed SET last_ok_at=?, last_try_at=?, failures=0, last_error='', mark=CASE WHEN ?='' THEN mark ELSE ? END WHERE id=?", micros(now), micros(now), mark, mark, id)
	return err
}

// FeedFailed notes a failure of a feed.
func (t *Tx) FeedFailed(id int64, reason string, now time.Time) error {
	_, err := t.exec("UPDATE feed SET failures=failures+1, last_error=?, last_try_at=? WHERE id=?", reason, micros(now), id)
	return err
}

// Run is one execution of a feed.
type Run struct {
	ID             int64  `db:"id"`
	FeedID         int64  `db:"feed_id"`
	FeedKind       string `db:"feed_kind"`
	ConnectionCode string `db:"connection_code"`
	ConnectionName string `db:"connection_name"`
	Cause          string `db:"cause"`
	StartedAt      int64  `db:"started_at"`
	EndedAt        int64  `db:"ended_at"`
	State          string `db:"state"`
	Found          int64  `db:"found"`
	New            int64  `db:"new"`
	Changed        int64  `db:"changed"`
	Skipped        int64  `db:"skipped"`
	Failed         int64  `db:"failed"`
	Reasons        string `db:"reasons"`
	Error          string `db:"error"`
}

const runQuery = `SELECT r.id, r.feed_id, f.kind AS feed_kind, c.code AS connection_code, c.name AS connection_name, r.cause, r.started_at, r.ended_at, r.state,
	r.found, r.new, r.changed, r.skipped, r.failed, r.reasons, r.error FROM run r JOIN feed f ON f.id = r.feed_id JOIN connection c ON c.id = f.connection_id `

// StartRun writes a run that begins.
func (t *Tx) StartRun(feed int64, cause string, now time.Time) (int64, error) {
	id, err := t.id("run")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO run (id, feed_id, cause, started_at, state) VALUES (?,?,?,?,'running')", id, feed, cause, micros(now))
	return id, err
}

// Tally is what a run did.
type Tally struct {
	Found, New, Changed, Skipped, Failed int64
	Reasons                              map[string]int64 // why messages were skipped or failed
}

// Reason counts a message under a reason.
func (y *Tally) Reason(text string) {
	if y.Reasons == nil {
		y.Reasons = map[string]int64{}
	}
	y.Reasons[text]++
}

// AddToRun adds to the tally of a run.
func (t *Tx) AddToRun(id int64, y Tally) error {
	if _, err := t.exec("UPDATE run SET found=found+?, new=new+?, changed=changed+?, skipped=skipped+?, failed=failed+? WHERE id=?", y.Found, y.New, y.Changed, y.Skipped, y.Failed, id); err != nil {
		return err
	}
	if len(y.Reasons) == 0 {
		return nil
	}
	var old string
	if err := t.get(&old, "SELECT reasons FROM run WHERE id=?", id); err != nil {
		return err
	}
	sum := map[string]int64{}
	if err := json.Unmarshal([]byte(old), &sum); err != nil {
		return err
	}
	for k, n := range y.Reasons {
		sum[k] += n
	}
	b, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	_, err = t.exec("UPDATE run SET reasons=? WHERE id=?", string(b), id)
	return err
}

// EndRun closes a run as done or failed.
func (t *Tx) EndRun(id int64, state, errText string, now time.Time) error {
	_, err := t.exec("UPDATE run SET state=?, error=?, ended_at=? WHERE id=?", state, errText, micros(now), id)
	return err
}

// DropRun removes a run in which nothing happened.
func (t *Tx) DropRun(id int64) error {
	if _, err := t.exec("DELETE FROM run_log WHERE run_id=?", id); err != nil {
		return err
	}
	_, err := t.exec("DELETE FROM run WHERE id=?", id)
	return err
}

// PushRun returns the open run that collects what is pushed for a feed, beginning one per hour.
func (t *Tx) PushRun(feed int64, now time.Time) (int64, error) {
	hour := now.Truncate(time.Hour)
	var id int64
	err := t.get(&id, "SELECT id FROM run WHERE feed_id=? AND cause='push' AND started_at>=? ORDER BY id DESC LIMIT 1", feed, micros(hour))
	if err != ErrNotFound {
		return id, err
	}
	if id, err = t.StartRun(feed, "push", now); err != nil {
		return 0, err
	}
	return id, t.EndRun(id, "open", "", time.Time{})
}

// LogRun adds a line to a run's log.
func (t *Tx) LogRun(run int64, level, text string, now time.Time) error {
	_, err := t.exec("INSERT INTO run_log (run_id, at, level, text) VALUES (?,?,?,?)", run, micros(now), level, text)
	return err
}

// EndStaleRuns closes runs that a process left behind when it ended.
func (t *Tx) EndStaleRuns(now time.Time) error {
	_, err := t.exec("UPDATE run SET state='failed', error='the service ended while it ran', ended_at=? WHERE state='running'", micros(now))
	return err
}

// Runs lists runs, newest first, of one connection or all.
func (s *Store) Runs(ctx context.Context, connection string, before int64, limit int) ([]Run, error) {
	q, args := runQuery+"WHERE 1=1", []any{}
	if connection != "" {
		q += " AND c.code = ?"
		args = append(args, connection)
	}
	if before > 0 {
		q += " AND r.id < ?"
		args = append(args, before)
	}
	var out []Run
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY r.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// Run loads one run.
func (s *Store) Run(ctx context.Context, id int64) (Run, error) {
	var r Run
	err := s.read.GetContext(ctx, &r, runQuery+"WHERE r.id=?", id)
	return r, found(err)
}

// LogLine is one line of a run's log.
type LogLine struct {
	At    int64  `db:"at"`
	Level string `db:"level"`
	Text  string `db:"text"`
}

// RunLog reads a run's log.
func (s *Store) RunLog(ctx context.Context, run int64) ([]LogLine, error) {
	var out []LogLine
	err := s.read.SelectContext(ctx, &out, "SELECT at, level, text FROM run_log WHERE run_id=? ORDER BY id LIMIT 10000", run)
	return out, err
}

// OrdersToday counts what came in per connection since a time.
func (s *Store) OrdersToday(ctx context.Context, since time.Time) (map[int64]int64, error) {
	var rows []struct {
		ConnectionID int64 `db:"connection_id"`
		N            int64 `db:"n"`
	}
	err := s.read.SelectContext(ctx, &rows, `SELECT connection_id, count(*) AS n FROM orders
		WHERE id >= coalesce((SELECT id FROM orders WHERE received_at < ? ORDER BY id DESC LIMIT 1), 0) AND received_at >= ? GROUP BY connection_id`, micros(since), micros(since))
	out := map[int64]int64{}
	for _, r := range rows {
		out[r.ConnectionID] = r.N
	}
	return out, err
}
