// Package store keeps one company's records in one SQLite file. It is the only place with SQL. It
// takes and returns the types of core and a few records of its own; it decides nothing.
//
// There is one writer: every change runs inside Write, which holds one connection and one
// transaction. Readers use a pool of their own and never wait for the writer (write-ahead log).
package store

import (
	"context"
	"database/sql"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	"modernc.org/sqlite" // also the driver
	sqlite3 "modernc.org/sqlite/lib"
)

//go:embed migrations/*.sql
var migrations embed.FS

// ErrNotFound is returned for a record that is not there.
var ErrNotFound = errors.New("not found")

// ErrConflict is returned when a record was changed by someone else in the meantime.
var ErrConflict = errors.New("changed by someone else in the meantime")

// Store is an open company file.
type Store struct {
	read *reader
	db   *sql.DB
	disk *disk
	path string

	mu      sync.Mutex   // held by the writer
	waiting atomic.Int64 // changes that wait for mu
	shared  *sharing     // the transaction that is open; nil: none is
	began   atomic.Int64 // when the change that is under way began, in microseconds; 0: none is
	conn    *sql.Conn
	stmts   map[string]*sql.Stmt
	inserts map[insertKey]string // texts of statements that insert rows
	next    map[string]int64     // next free row id per table
	moved   int64                // time of the newest ledger entry
	hold    *os.File             // locked while this process works on the file

	upgrade Upgrade
}

// Upgrade is what opening a file changed of its tables.
type Upgrade struct {
	From, To int64  // versions of the tables; alike: nothing was changed
	Copy     string // where the file as it was is kept; empty where nothing was changed
}

// Newer is returned when a file was written by a newer version of the program.
type Newer struct {
	File       string
	Has, Knows int64 // versions of the tables
}

func (n *Newer) Error() string {
	return fmt.Sprintf("%s was written by a newer version of the program: its tables are of version %d, this program knows %d. "+
		"Start the newer version, or restore a backup from before the upgrade", n.File, n.Has, n.Knows)
}

// dsn names the file, and how it is opened.
func dsn(path string, pragmas ...string) string {
	q := url.Values{"_pragma": append([]string{"busy_timeout(10000)", "foreign_keys(1)"}, pragmas...)}
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?" + q.Encode()
}

// Open opens or creates the company file and brings its tables up to date.
func Open(ctx context.Context, path string) (*Store, error) {
	if err := createFile(ctx, path); err != nil {
		return nil, err
	}
	db, upgrade, err := openTables(ctx, path)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	read, err := sqlx.Open("sqlite", dsn(path, "query_only(1)", "cache_size(-8000)"))
	if err != nil {
		return nil, fmt.Errorf("open %s: %w", path, err)
	}
	read.SetMaxOpenConns(4)
	read.SetMaxIdleConns(4)
	read.SetConnMaxIdleTime(readerRest)
	disk, err := openDisk(path)
	if err != nil {
		return nil, fmt.Errorf("open %s: its log: %w", path, err)
	}
	return &Store{read: newReader(read), db: db, disk: disk, path: path, conn: conn, stmts: map[string]*sql.Stmt{},
		inserts: map[insertKey]string{}, next: map[string]int64{}, upgrade: upgrade}, nil
}

// Upgraded tells what opening the file changed of its tables.
func (s *Store) Upgraded() Upgrade { return s.upgrade }

// openTables opens a file for its one writer and brings its tables up to date; before that, a copy of it is kept.
func openTables(ctx context.Context, path string) (*sql.DB, Upgrade, error) {
	db, err := sql.Open("sqlite", dsn(path, "journal_mode(WAL)", "synchronous(NORMAL)", "cache_size(-32000)", "wal_autocheckpoint(10000)"))
	if err != nil {
		return nil, Upgrade{}, err
	}
	db.SetMaxOpenConns(1)
	upgrade, err := bringUpToDate(ctx, db, path)
	if err != nil {
		db.Close()
	}
	return db, upgrade, err
}

func bringUpToDate(ctx context.Context, db *sql.DB, path string) (u Upgrade, err error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return u, err
	}
	p, err := goose.NewProvider(goose.DialectSQLite3, db, sub, goose.WithGoMigrations(recipientsKnown))
	if err != nil {
		return u, err
	}
	if u.From, u.To, err = p.GetVersions(ctx); err != nil {
		return u, fmt.Errorf("read the version of its tables: %w", err)
	}
	switch {
	case u.From > u.To:
		return u, &Newer{File: path, Has: u.From, Knows: u.To}
	case u.From == u.To:
		return u, nil
	case u.From > 0:
		if u.Copy, err = keepBefore(ctx, path, u.From); err != nil {
			return u, fmt.Errorf("keep a copy before the upgrade: %w", err)
		}
	}
	if _, err := p.Up(ctx); err != nil {
		if at, verr := p.GetDBVersion(ctx); verr == nil && at == u.From && u.Copy != "" {
			os.Remove(u.Copy) // nothing was changed; a service that is started again and again must not fill the disk
		}
		return u, fmt.Errorf("bring tables up to date: %w", err)
	}
	return u, nil
}

// keepBefore keeps a copy of a file before its tables change.
func keepBefore(ctx context.Context, path string, version int64) (string, error) {
	to := fmt.Sprintf("%s.before-upgrade-%d", path, version)
	for n := 2; ; n++ {
		if _, err := os.Stat(to); err != nil {
			return to, Copy(ctx, path, to, nil)
		}
		to = fmt.Sprintf("%s.before-upgrade-%d.%d", path, version, n)
	}
}

// Close closes the file.
func (s *Store) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.shared != nil {
		s.commit(context.Background(), s.shared)
	}
	for _, st := range s.stmts {
		st.Close()
	}
	s.letGo()
	return errors.Join(s.disk.wait(s.disk.written.Load()), s.conn.Close(), s.db.Close(), s.read.Close(), s.disk.close())
}

// Path is the file's name.
func (s *Store) Path() string { return s.path }

// readerRest is after what time a reader that nobody needs is closed: each holds what it knows of the file's tables. What is
// looked at each minute keeps one open: a new one reads the description of all tables first.
const readerRest = 5 * time.Minute

// maxStatements bounds how many prepared statements are kept.
const maxStatements = 400

// Tx is a running change. It is valid only inside the function given to Write.
type Tx struct {
	s   *Store
	ctx context.Context
}

// Try runs f so that, where it fails, nothing of what it wrote is left and the change can go on. A panic in f must
// have been turned into an error by the caller.
func (t *Tx) Try(f func() error) error {
	if _, err := t.exec("SAVEPOINT part"); err != nil {
		return err
	}
	err := f()
	if err == nil {
		_, err = t.exec("RELEASE part")
		return err
	}
	clear(t.s.next)
	t.s.moved = 0
	if _, e := t.exec("ROLLBACK TO part"); e != nil {
		return &unavailable{errors.Join(err, e)} // the whole change is gone
	}
	if _, e := t.exec("RELEASE part"); e != nil {
		return &unavailable{errors.Join(err, e)}
	}
	return err
}

// unavailable is an error of the file itself, whatever was to be written.
type unavailable struct{ error }

func (u *unavailable) Unwrap() error { return u.error }

// Unavailable tells whether an error is one of the file (a full disk, a lock, damage) or of a caller that left, and
// not of what was to be written: then everything is tried again, and no record is to blame.
func Unavailable(err error) bool {
	var gone *unavailable
	var of *sqlite.Error
	switch {
	case errors.As(err, &gone), errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded), errors.Is(err,
		sql.ErrConnDone), errors.Is(err, sql.ErrTxDone):
		return true
	case errors.As(err, &of):
		switch of.Code() & 0xff { // primary result codes
		case sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED, sqlite3.SQLITE_NOMEM, sqlite3.SQLITE_READONLY,
			sqlite3.SQLITE_INTERRUPT, sqlite3.SQLITE_IOERR,
			sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_FULL, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_NOTADB:
			return true
		}
	}
	return false
}

func (t *Tx) stmt(query string) (*sql.Stmt, error) {
	if st, ok := t.s.stmts[query]; ok {
		return st, nil
	}
	st, err := t.s.conn.PrepareContext(t.ctx, query)
	if err != nil {
		return nil, fmt.Errorf("prepare %.60q: %w", query, err)
	}
	t.s.stmts[query] = st
	return st, nil
}

func (t *Tx) exec(query string, args ...any) (int64, error) {
	st, err := t.stmt(query)
	if err != nil {
		return 0, err
	}
	res, err := st.ExecContext(t.ctx, args...)
	if err != nil {
		return 0, fmt.Errorf("%.60q: %w", query, err)
	}
	return res.RowsAffected()
}

// get reads one row into dest; it returns ErrNotFound when there is none.
func (t *Tx) get(dest any, query string, args ...any) error {
	rows, err := t.query(query, args...)
	if err != nil {
		return err
	}
	r := &sqlx.Rows{Rows: rows, Mapper: mapper}
	defer r.Close()
	if !r.Next() {
		if err := r.Err(); err != nil {
			return err
		}
		return ErrNotFound
	}
	if isStruct(dest) {
		return r.StructScan(dest)
	}
	return r.Scan(dest)
}

func (t *Tx) sel(dest any, query string, args ...any) error {
	rows, err := t.query(query, args...)
	if err != nil {
		return err
	}
	defer rows.Close() // where what is read does not fit, a row that stays open would keep the file from being closed
	return sqlx.StructScan(rows, dest)
}

func (t *Tx) query(query string, args ...any) (*sql.Rows, error) {
	st, err := t.stmt(query)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(t.ctx, args...)
}

// found turns the driver's word for an empty answer into ours.
func found(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return ErrNotFound
	}
	return err
}

// id hands out the next row id of a table. Only the one writer asks.
func (t *Tx) id(table string) (int64, error) {
	n, ok := t.s.next[table]
	if !ok {
		if err := t.get(&n, "SELECT coalesce(max(id),0)+1 FROM "+table); err != nil {
			return 0, err
		}
	}
	t.s.next[table] = n + 1
	return n, nil
}

// insertKey is what the text of a statement that inserts rows depends on.
type insertKey struct {
	head, tail string
	width, n   int
	zeros      columns // columns that are 0 in every row
	empties    columns // columns that are an empty text in every row
}

// columns is a set of columns, by their place.
type columns uint64

func (c columns) has(i int) bool { return c&(1<<i) != 0 }

// mostColumns is how many columns a statement has whose plain values are looked for.
const mostColumns = 64

// insertMany writes rows in few statements and returns how many were written. tail follows the values. Most columns of most
// rows have their plain value, 0 or an empty text; where all rows of a statement have it, it stands in the statement, since to
// hand a value over takes longer than to store it.
func (t *Tx) insertMany(head string, width int, rows [][]any, tail ...string) (int64, error) {
	const most = 50
	var written int64
	for len(rows) > 0 {
		k := insertKey{head: head, tail: strings.Join(tail, " "), width: width, n: 1}
		switch {
		case len(rows) >= most:
			k.n = most
		case len(rows) >= 10:
			k.n = 10
		case len(rows) >= 5:
			k.n = 5
		}
		if k.n > 1 && width <= mostColumns { // single rows are all too different
			k.zeros, k.empties = plainColumns(width, rows[:k.n])
		}
		args := make([]any, 0, k.n*width)
		for _, r := range rows[:k.n] {
			for i, v := range r {
				if !(k.zeros | k.empties).has(i) {
					args = append(args, v)
				}
			}
		}
		done, err := t.exec(t.insertText(k), args...)
		written += done
		if err != nil {
			return written, err
		}
		rows = rows[k.n:]
	}
	return written, nil
}

// plainColumns finds the columns that have their plain value in every row.
func plainColumns(width int, rows [][]any) (zeros, empties columns) {
	zeros, empties = 1<<width-1, 1<<width-1
	for _, r := range rows {
		for i, v := range r {
			switch x := v.(type) {
			case int64:
				if x == 0 {
					empties &^= 1 << i
					continue
				}
			case bool:
				if !x {
					empties &^= 1 << i
					continue
				}
			case string:
				if x == "" {
					zeros &^= 1 << i
					continue
				}
			}
			zeros &^= 1 << i
			empties &^= 1 << i
		}
	}
	return zeros, empties
}

// insertText is the text of a statement that inserts rows.
func (t *Tx) insertText(k insertKey) string {
	if text, ok := t.s.inserts[k]; ok {
		return text
	}
	values := make([]string, k.width)
	for i := range values {
		switch {
		case k.zeros.has(i):
			values[i] = "0"
		case k.empties.has(i):
			values[i] = "''"
		default:
			values[i] = "?"
		}
	}
	one := "(" + strings.Join(values, ",") + ")"
	text := k.head + " VALUES " + one + strings.Repeat(","+one, k.n-1) + " " + k.tail
	if len(t.s.inserts) >= maxStatements {
		clear(t.s.inserts)
	}
	t.s.inserts[k] = text
	return text
}

func micros(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMicro()
}

// Time turns a stored time back; 0 is the zero time.
func Time(us int64) time.Time {
	if us == 0 {
		return time.Time{}
	}
	return time.UnixMicro(us).UTC()
}
