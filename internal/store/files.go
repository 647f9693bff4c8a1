package store

import (
	"context"
	"errors"
)

// File is a file that came or went, where a side exchanges files.
type File struct {
	ID           int64  `db:"id"`
	ConnectionID int64  `db:"connection_id"`
	Feed         string `db:"feed"`
	Way          string `db:"way"` // FileIn or FileOut
	Name         string `db:"name"`
	Size         int64  `db:"size"` // bytes
	Hash         string `db:"hash"`
	At           int64  `db:"at"`
	Records      int64  `db:"records"`
	State        string `db:"state"`
	Reason       string `db:"reason"`
	Reference    string `db:"reference"` // that the receipt of one that went will name
}

// Ways and states of files.
const (
	FileIn, FileOut = "in", "out"

	FileTaken   = "taken"
	FileAgain   = "again"   // its content came before; nothing was read
	FileRefused = "refused" // as a whole, or a record in it
	FileSent    = "sent"

	FileAwaited    = "awaited"    // it was sent, and its receipt is awaited
	FileAccepted   = "accepted"   // its receipt says that it was taken
	FileUnanswered = "unanswered" // its receipt did not come in its time
)

const fileCols = "connection_id, feed, way, name, size, hash, at, records, state, reason, reference"

// AddFile notes a file that came or went.
func (t *Tx) AddFile(f File) error {
	_, err := t.exec("INSERT INTO file ("+fileCols+") VALUES ("+placeholders(11)+")", f.ConnectionID, f.Feed, f.Way, f.Name, f.Size,
		f.Hash, f.At, f.Records, f.State, f.Reason, f.Reference)
	return err
}

// SetFileState notes what the receipt of a file says that we sent, or that none came.
func (t *Tx) SetFileState(connection int64, reference, state, reason string) error {
	_, err := t.exec("UPDATE file SET state=?, reason=? WHERE connection_id=? AND reference=? AND reference<>'' AND way='out'", state,
		reason, connection, reference)
	return err
}

// FileIsRefused tells whether what a feed made last of a file with some content was to refuse it.
func (t *Tx) FileIsRefused(connection int64, feed, hash string) (bool, error) {
	var state string
	err := t.get(&state, "SELECT state FROM file WHERE connection_id=? AND feed=? AND hash=? AND way='in' ORDER BY id DESC LIMIT 1",
		connection, feed, hash)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return state == FileRefused, err
}

// FileWasTaken tells whether a file of a feed with some content was taken before. One that was refused was not.
func (s *Store) FileWasTaken(ctx context.Context, connection int64, feed, hash string) (bool, error) {
	var n int64
	err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM (SELECT 1 FROM file WHERE connection_id=? AND feed=? AND hash=? AND way='in'
		AND state='taken' LIMIT 1)`, connection, feed, hash)
	return n > 0, err
}

// Files lists the files of a connection (0: of all), the newest first, older than an id where one is given.
func (s *Store) Files(ctx context.Context, connection, before int64, limit int) (list []File, err error) {
	err = s.read.SelectContext(ctx, &list, "SELECT id, "+fileCols+` FROM file WHERE (?1=0 OR connection_id=?1) AND (?2=0 OR id<?2)
		ORDER BY id DESC LIMIT ?3`, connection, before, limit)
	return list, err
}
