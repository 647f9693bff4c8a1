package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"openrelay/internal/core/message"
)

// Account is what lets us in at an outside system. Credentials and token are sealed; only the relay
// opens them.
type Account struct {
	ID          int64  `db:"id"`
	Connector   string `db:"connector"`
	Name        string `db:"name"`
	BaseURL     string `db:"base_url"`
	Credentials []byte `db:"credentials"`
	Token       []byte `db:"token"`
	Identity    string `db:"identity"` // who we are there, as JSON
	CreatedAt   int64  `db:"created_at"`
	Revision    int64  `db:"revision"`
}

const accountCols = "id, connector, name, base_url, credentials, token, identity, created_at, revision"

// Accounts lists all accounts.
func (s *Store) Accounts(ctx context.Context) ([]Account, error) {
	var out []Account
	err := s.read.SelectContext(ctx, &out, "SELECT "+accountCols+" FROM account ORDER BY id")
	return out, err
}

// Account loads one account.
func (t *Tx) Account(id int64) (Account, error) {
	var a Account
	err := t.get(&a, "SELECT "+accountCols+" FROM account WHERE id=?", id)
	return a, err
}

// PutAccount writes an account: a new one where it has no id yet.
func (t *Tx) PutAccount(a Account) (int64, error) {
	if a.ID == 0 {
		id, err := t.id("account")
		if err != nil {
			return 0, err
		}
		_, err = t.exec("INSERT INTO account ("+accountCols+") VALUES ("+placeholders(9)+")", id, a.Connector, a.Name, a.BaseURL,
			a.Credentials, a.Token, a.Identity, a.CreatedAt, 1)
		return id, err
	}
	_, err := t.exec("UPDATE account SET name=?, base_url=?, credentials=?, token=?, identity=?, revision=revision+1 WHERE id=?", a.Name,
		a.BaseURL, a.Credentials, a.Token, a.Identity, a.ID)
	return a.ID, err
}

// PutToken keeps the token that an account holds.
func (t *Tx) PutToken(account int64, sealed []byte) error {
	_, err := t.exec("UPDATE account SET token=? WHERE id=?", sealed, account)
	return err
}

// DropAccount removes an account that no connection uses any more, and tells whether it did.
func (t *Tx) DropAccount(id int64) (bool, error) {
	n, err := t.exec("DELETE FROM account WHERE id=? AND NOT EXISTS (SELECT 1 FROM connection WHERE account_id=?)", id, id)
	return n > 0, err
}

// The states of a connection.
const (
	Joining = "joining"
	On      = "on"
	Left    = "left"
)

// Connection is one account on an outside system, at work or being set up.
type Connection struct {
	ID          int64  `db:"id"`
	Code        string `db:"code"`
	Connector   string `db:"connector"`
	Side        string `db:"side"`
	Name        string `db:"name"`
	AccountID   int64  `db:"account_id"` // 0 until the account is known, and after leaving
	Site        string `db:"site"`
	AccountNo   string `db:"account_no"`
	State       string `db:"state"`
	Test        bool   `db:"test"`
	Overrides   string `db:"overrides"`
	Settings    string `db:"settings"`
	Paused      bool   `db:"paused"`
	PreviewedAt int64  `db:"previewed_at"`
	BeganAt     int64  `db:"began_at"`
	Revision    int64  `db:"revision"`
}

const connectionCols = "id, code, connector, side, name, account_id, site, account_no, state, test, overrides, settings, paused, " +
	"previewed_at, began_at, revision"

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
	_, err = t.exec("INSERT INTO connection ("+connectionCols+") VALUES ("+placeholders(16)+")", id, c.Code, c.Connector, c.Side, c.Name,
		c.AccountID, c.Site, c.AccountNo, c.State, c.Test, c.Overrides, c.Settings, c.Paused, c.PreviewedAt, c.BeganAt, 1)
	if err != nil {
		return 0, fmt.Errorf("add connection %s: %w", c.Code, err)
	}
	return id, nil
}

// Connection loads one connection by its code.
func (t *Tx) Connection(code string) (Connection, error) {
	var c Connection
	err := t.get(&c, "SELECT "+connectionCols+" FROM connection WHERE code=?", code)
	return c, err
}

// ConnectionOf finds the connection that stands for an account number at a site; ErrNotFound where there
// is none.
func (t *Tx) ConnectionOf(connector, accountNo, site string) (Connection, error) {
	var c Connection
	err := t.get(&c, "SELECT "+connectionCols+" FROM connection WHERE connector=? AND account_no=? AND site=? AND account_no<>''",
		connector, accountNo, site)
	return c, err
}

// ConnectionByAccount finds the connection that stands for an account number at a site.
func (s *Store) ConnectionByAccount(ctx context.Context, connector, accountNo, site string) (Connection, error) {
	var c Connection
	err := s.read.GetContext(ctx, &c, "SELECT "+connectionCols+` FROM connection WHERE connector=? AND account_no=? AND site=?
		AND account_no<>''`, connector, accountNo, site)
	return c, found(err)
}

// UpdateConnection writes everything of a connection but its code and connector, if it still has the
// revision that was read.
func (t *Tx) UpdateConnection(c Connection) error {
	n, err := t.exec(`UPDATE connection SET name=?, account_id=?, site=?, account_no=?, state=?, test=?, overrides=?,
		settings=?, paused=?, previewed_at=?, began_at=?, revision=revision+1
		WHERE id=? AND revision=?`, c.Name, c.AccountID, c.Site, c.AccountNo, c.State, c.Test, c.Overrides, c.Settings, c.Paused,
		c.PreviewedAt, c.BeganAt, c.ID, c.Revision)
	if err == nil && n == 0 {
		return ErrConflict
	}
	return err
}

// DropConnection removes a connection that never worked, with its feeds.
func (t *Tx) DropConnection(id int64) error {
	for _, q := range []string{
		"DELETE FROM import_record WHERE import_id IN (SELECT id FROM first_import WHERE connection_id=?)",
		"DELETE FROM first_import WHERE connection_id=?", "DELETE FROM bench WHERE connection_id=?",
		"DELETE FROM run_log WHERE run_id IN (SELECT r.id FROM run r JOIN feed f ON f.id=r.feed_id WHERE f.connection_id=?)",
		"DELETE FROM run WHERE feed_id IN (SELECT id FROM feed WHERE connection_id=?)",
		"DELETE FROM feed WHERE connection_id=?", "DELETE FROM consent WHERE connection_id=?",
		"DELETE FROM shown WHERE listing_id IN (SELECT id FROM listing WHERE connection_id=?)",
		"DELETE FROM policy WHERE connection_id=?", "DELETE FROM field_owner WHERE connection_id=?",
		"DELETE FROM listing WHERE connection_id=?", "DELETE FROM inbox WHERE connection_id=?", "DELETE FROM file WHERE connection_id=?",
		"DELETE FROM service_choice WHERE connection_id=?", "DELETE FROM carrier_tariff WHERE connection_id=?",
		"DELETE FROM connection WHERE id=?",
	} {
		if _, err := t.exec(q, id); err != nil {
			return err
		}
	}
	return nil
}

// CancelOutbox ends what waits to be sent over a connection, and returns how much it was.
func (t *Tx) CancelOutbox(connection int64, why string) (int64, error) {
	return t.exec(`UPDATE outbox SET state='superseded', next_at=0, error=? WHERE connection_id=?
		AND state IN ('waiting','sending','sent')`, why, connection)
}

// WakeOutbox makes what waits to be sent over a connection due at once, with all its attempts.
func (t *Tx) WakeOutbox(connection int64, now time.Time) error {
	_, err := t.exec("UPDATE outbox SET next_at=?, attempts=0 WHERE connection_id=? AND state='waiting'", micros(now), connection)
	return err
}

// RestFeeds ends what is noted about the feeds of a connection that is left. Their switches stay, for when
// it is joined again, but for that of stock out: what it changes is to be seen anew.
func (t *Tx) RestFeeds(connection int64) error {
	_, err := t.exec(`UPDATE feed SET is_on = is_on AND kind <> 'stock out', validator='', failures=0, failing_at=0, last_error='',
		revision=revision+1 WHERE connection_id=?`, connection)
	return err
}

// ConnectionCounts say how much belongs to a connection.
type ConnectionCounts struct {
	Orders   int64 `db:"orders" json:"orders"`
	Open     int64 `db:"open" json:"open_orders" doc:"Orders that are still on their way"`
	Listings int64 `db:"listings" json:"listings"`
	Messages int64 `db:"messages" json:"messages"    doc:"Messages kept as they came"`
	Waiting  int64 `db:"waiting" json:"waiting"     doc:"Messages that wait to be sent"`
	Shared   int64 `db:"shared" json:"shared"      doc:"Other connections that use the same account"`
}

// CountsOf counts what belongs to a connection.
func (s *Store) CountsOf(ctx context.Context, id int64) (ConnectionCounts, error) {
	var c ConnectionCounts
	err := s.read.GetContext(ctx, &c, `SELECT (SELECT count(*) FROM orders WHERE connection_id=c.id) AS orders,
		(SELECT count(*) FROM orders WHERE connection_id=c.id
		AND stage IN ('pending','held','ready','routed','picking','packed','part shipped')) AS open,
		(SELECT count(*) FROM listing WHERE connection_id=c.id) AS listings, (SELECT count(*) FROM inbox
		WHERE connection_id=c.id) AS messages,
		(SELECT count(*) FROM outbox WHERE connection_id=c.id AND state IN ('waiting','sending','sent')) AS waiting,
		(SELECT count(*) FROM connection o WHERE o.account_id=c.account_id AND o.account_id<>0 AND o.id<>c.id) AS shared
		FROM connection c WHERE c.id=?`, id)
	return c, found(err)
}

// Feed is one kind of record moving one way over one connection.
type Feed struct {
	ID           int64        `db:"id"`
	ConnectionID int64        `db:"connection_id"`
	Kind         message.Feed `db:"kind"`
	On           bool         `db:"is_on"`
	Schedule     string       `db:"schedule"`
	Mark         string       `db:"mark"`
	LastOKAt     int64        `db:"last_ok_at"`
	LastTryAt    int64        `db:"last_try_at"`
	Failures     int64        `db:"failures"`
	FailingAt    int64        `db:"failing_at"` // since when, without an answer between; 0: it does not fail
	LastError    string       `db:"last_error"`
	Validator    string       `db:"validator"` // of the last reading, for a conditional request
	Revision     int64        `db:"revision"`
}

const feedCols = "id, connection_id, kind, is_on, schedule, mark, last_ok_at, last_try_at, failures, failing_at, last_error, " +
	"validator, revision"

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
	_, err = t.exec("INSERT INTO feed (id, connection_id, kind, is_on, schedule) VALUES (?,?,?,?,?)", id, f.ConnectionID, f.Kind,
		f.On, f.Schedule)
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

// SetValidator keeps what the other side gave for conditional requests.
func (t *Tx) SetValidator(id int64, validator string) error {
	_, err := t.exec("UPDATE feed SET validator=? WHERE id=?", validator, id)
	return err
}

// SetMark says from where a feed reads on.
func (t *Tx) SetMark(id int64, mark string) error {
	_, err := t.exec("UPDATE feed SET mark=? WHERE id=?", mark, id)
	return err
}

// FeedWent notes a success of a feed, and the mark reached ("" leaves the mark).
func (t *Tx) FeedWent(id int64, mark string, now time.Time) error {
	_, err := t.exec(`UPDATE feed SET last_ok_at=?, last_try_at=?, failures=0, failing_at=0, last_error='',
		mark=CASE WHEN ?='' THEN mark
		ELSE ? END WHERE id=?`, micros(now), micros(now), mark, mark, id)
	return err
}

// FeedPushed notes that the other side pushed something. That says nothing of whether the feed can be read.
func (t *Tx) FeedPushed(id int64, now time.Time) error {
	_, err := t.exec("UPDATE feed SET last_ok_at=? WHERE id=?", micros(now), id)
	return err
}

// FeedFailed notes a failure of a feed.
func (t *Tx) FeedFailed(id int64, reason string, now time.Time) error {
	_, err := t.exec(`UPDATE feed SET failures=failures+1, failing_at=CASE failing_at WHEN 0 THEN ?2 ELSE failing_at END, last_error=?1,
		last_try_at=?2 WHERE id=?3`, reason, micros(now), id)
	return err
}

// Run is one execution of a feed.
type Run struct {
	ID             int64        `db:"id"`
	FeedID         int64        `db:"feed_id"`
	FeedKind       message.Feed `db:"feed_kind"`
	ConnectionCode string       `db:"connection_code"`
	ConnectionName string       `db:"connection_name"`
	Cause          string       `db:"cause"`
	StartedAt      int64        `db:"started_at"`
	EndedAt        int64        `db:"ended_at"`
	State          string       `db:"state"`
	Found          int64        `db:"found"`
	New            int64        `db:"new"`
	Changed        int64        `db:"changed"`
	Skipped        int64        `db:"skipped"`
	Failed         int64        `db:"failed"`
	Reasons        string       `db:"reasons"`
	Error          string       `db:"error"`
}

var runQuery = `SELECT r.id, r.feed_id, f.kind AS feed_kind, c.code AS connection_code, c.name AS connection_name,
	CASE WHEN r.cause LIKE 'by %' THEN 'by ' || ` + called("substr(r.cause,4)") + ` ELSE r.cause END AS cause,
	r.started_at, r.ended_at, r.state,
	r.found, r.new, r.changed, r.skipped, r.failed, r.reasons, r.error FROM run r JOIN feed f ON f.id = r.feed_id
	JOIN connection c ON c.id = f.connection_id `

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
	if _, err := t.exec("UPDATE run SET found=found+?, new=new+?, changed=changed+?, skipped=skipped+?, failed=failed+? WHERE id=?",
		y.Found, y.New, y.Changed, y.Skipped, y.Failed, id); err != nil {
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

// PushRun returns the run that collects what is pushed for a feed, beginning one per hour. It is done as of now, and goes
// on with the next push of its hour.
func (t *Tx) PushRun(feed int64, now time.Time) (int64, error) {
	hour := now.Truncate(time.Hour)
	var id int64
	err := t.get(&id, "SELECT id FROM run WHERE feed_id=? AND cause='push' AND started_at>=? ORDER BY id DESC LIMIT 1", feed, micros(hour))
	if err == ErrNotFound {
		id, err = t.StartRun(feed, "push", now)
	}
	if err != nil {
		return 0, err
	}
	return id, t.EndRun(id, "done", "", now)
}

// LogRun adds a line to a run's log.
func (t *Tx) LogRun(run int64, level, text string, now time.Time) error {
	_, err := t.exec("INSERT INTO run_log (run_id, at, level, text) VALUES (?,?,?,?)", run, micros(now), level, text)
	return err
}

// EndStaleRuns closes runs that a process left behind when it ended.
func (t *Tx) EndStaleRuns(now time.Time) error {
	_, err := t.exec("UPDATE run SET state='failed', error='the service ended while it ran', ended_at=? WHERE state='running'",
		micros(now))
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
	err := s.read.SelectContext(ctx, &rows, `SELECT connection_id, sum(n) AS n FROM order_quarter WHERE what='received'
		AND quarter>=? GROUP BY connection_id`, quarter(since))
	out := map[int64]int64{}
	for _, r := range rows {
		out[r.ConnectionID] = r.N
	}
	return out, err
}
