package store

import (
	"context"
	"errors"
	"path/filepath"
	"syscall"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Full tells whether an error says that the disk is full.
func Full(err error) bool {
	var of *sqlite.Error
	return errors.Is(err, syscall.ENOSPC) || errors.As(err, &of) && of.Code()&0xff == sqlite3.SQLITE_FULL
}

// Writing tells for how long the change has been under way that holds the file; zero where none is.
func (s *Store) Writing() time.Duration {
	if began := s.began.Load(); began != 0 {
		return time.Since(time.UnixMicro(began))
	}
	return 0
}

// Room tells how many bytes are free for us on the disk of the file, and how many it has.
func (s *Store) Room() (free, total uint64, err error) {
	var fs syscall.Statfs_t
	if err := syscall.Statfs(filepath.Dir(s.path), &fs); err != nil {
		return 0, 0, err
	}
	size := uint64(fs.Bsize)
	return fs.Bavail * size, fs.Blocks * size, nil
}

// Queued is since when messages wait at a connection; 0: none does.
type Queued struct {
	ConnectionID int64 `db:"connection_id"`
	OutSince     int64 `db:"out_since"`
	Out          int64 `db:"n_out"`
	InSince      int64 `db:"in_since"`
	In           int64 `db:"n_in"`
}

// queuedQuery walks the indexes of messages that wait, of which there are few unless something is wrong.
const queuedQuery = `SELECT connection_id, max(out_since) AS out_since, max(n_out) AS n_out, max(in_since) AS in_since,
	max(n_in) AS n_in FROM (
	SELECT connection_id, min(created_at) AS out_since, count(*) AS n_out, 0 AS in_since, 0 AS n_in
		FROM outbox WHERE state IN ('waiting','sending') GROUP BY connection_id
	UNION ALL
	SELECT connection_id, 0, 0, min(received_at), count(*) FROM inbox WHERE state='waiting' GROUP BY connection_id
	) GROUP BY connection_id`

// Queued tells of all connections at which messages wait, by connection.
func (s *Store) Queued(ctx context.Context) (map[int64]Queued, error) {
	var list []Queued
	err := s.read.SelectContext(ctx, &list, queuedQuery)
	out := map[int64]Queued{}
	for _, w := range list {
		out[w.ConnectionID] = w
	}
	return out, err
}

// Newest is the newest moment that the file knows of: nothing in it can have happened after now.
func (s *Store) Newest(ctx context.Context) (time.Time, error) {
	var us int64
	err := s.read.GetContext(ctx, &us, "SELECT coalesce(max(at),0) FROM (SELECT at FROM timeline ORDER BY id DESC LIMIT 1)")
	return Time(us), err
}

// OpenCauses lists what is raised of a cause that is about a connection or the service, not about an order.
func (s *Store) OpenCauses(ctx context.Context, causes []string) (out []Exception, err error) {
	in, args := list(causes)
	err = s.read.SelectContext(ctx, &out, `SELECT id, cause, subject, text, connection_id FROM exception
		WHERE closed_at=0 AND order_id=0 AND cause IN (`+in+")", args...)
	return out, err
}

// CloseException ends one.
func (t *Tx) CloseException(id int64, who string, now time.Time) error {
	_, err := t.exec("UPDATE exception SET closed_at=?, closed_by=? WHERE id=? AND closed_at=0", micros(now), who, id)
	return err
}
