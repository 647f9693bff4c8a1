package store

import (
	"context"
	"errors"
	"sync"

	"github.com/jmoiron/sqlx"
)

// A query is kept prepared by the readers when it was asked so often: to prepare it takes longer than to answer it.
const (
	askedOften  = 8
	mostKept    = 64  // prepared queries; each holds some memory for each open reader
	mostCounted = 512 // texts that are counted; lists that people filter make ever new ones
)

// upTo bounds how many rows are read. With a plain parameter, SQLite would prepare the kept query anew for each value bound to
// it, to plan for just so many rows (sqlite3ExprIsInteger); at the value of a sum it does not look. Two queries of the outbox, by
// which messages are sent, ask for "connection_id = ?+0" for the same reason.
const upTo = "LIMIT ?+0"

// reader is the pool of connections that only read, with the queries that are asked often kept prepared.
type reader struct {
	*sqlx.DB
	mu    sync.Mutex
	asked map[string]int
	kept  map[string]*sqlx.Stmt
}

func newReader(db *sqlx.DB) *reader {
	return &reader{DB: db, asked: map[string]int{}, kept: map[string]*sqlx.Stmt{}}
}

// prepared returns the query prepared, or nil where it is not asked often.
func (r *reader) prepared(ctx context.Context, query string) (*sqlx.Stmt, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if st := r.kept[query]; st != nil {
		return st, nil
	}
	if len(r.kept) >= mostKept {
		return nil, nil
	}
	if len(r.asked) >= mostCounted {
		clear(r.asked)
	}
	if r.asked[query]++; r.asked[query] < askedOften {
		return nil, nil
	}
	st, err := r.PreparexContext(ctx, query)
	if err != nil {
		return nil, err
	}
	r.kept[query] = st
	delete(r.asked, query)
	return st, nil
}

// SelectContext reads all rows into dest, a pointer to a slice.
func (r *reader) SelectContext(ctx context.Context, dest any, query string, args ...any) error {
	st, err := r.prepared(ctx, query)
	switch {
	case err != nil:
		return err
	case st == nil:
		return r.DB.SelectContext(ctx, dest, query, args...)
	}
	return st.SelectContext(ctx, dest, args...)
}

// GetContext reads one row into dest; it returns sql.ErrNoRows when there is none.
func (r *reader) GetContext(ctx context.Context, dest any, query string, args ...any) error {
	st, err := r.prepared(ctx, query)
	switch {
	case err != nil:
		return err
	case st == nil:
		return r.DB.GetContext(ctx, dest, query, args...)
	}
	return st.GetContext(ctx, dest, args...)
}

// Close ends the prepared queries and the connections.
func (r *reader) Close() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	var err error
	for _, st := range r.kept {
		err = errors.Join(err, st.Close())
	}
	return errors.Join(err, r.DB.Close())
}
