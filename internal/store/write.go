package store

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// Write runs f in a transaction and commits it if f returns nil. Only one runs at a time. f must do
// nothing slow: no call leaves the process while the file is locked.
//
// Changes that wait for each other are committed together, so that the disk is waited for once: each is taken back for itself where
// it fails, and none of them returns before the disk has it.
func (s *Store) Write(ctx context.Context, f func(*Tx) error) error { return s.write(ctx, false, f) }

// WriteUnsynced is like Write, but does not wait until the disk has what was written: after a loss of power it may be as if it had
// not been done. It is for what is done again then, and is as it should be either way. What Write writes later is not durable
// before it.
func (s *Store) WriteUnsynced(ctx context.Context, f func(*Tx) error) error {
	return s.write(ctx, true, f)
}

// sharing is a transaction, with the changes that have been made in it.
type sharing struct {
	began    time.Time
	changes  int
	unsynced bool          // the disk is not waited for
	done     chan struct{} // closed when it has ended
	err      error         // why it could not be committed; set before it has ended
}

// sharedTime is for how long changes that wait may still join a transaction.
const sharedTime = 4 * time.Millisecond

func (s *Store) write(ctx context.Context, unsynced bool, f func(*Tx) error) error {
	// A change that has begun is finished: the caller's end must not tear it.
	ctx = context.WithoutCancel(ctx)
	s.waiting.Add(1)
	s.mu.Lock()
	s.waiting.Add(-1)
	g, err := s.change(ctx, unsynced, f)
	if err != nil {
		return err
	}
	<-g.done
	return g.err
}

// change makes one change, in the transaction that is open or in one of its own, and lets the next writer have the file. Whoever
// leaves a transaction open has somebody waiting who will go on with it.
func (s *Store) change(ctx context.Context, unsynced bool, f func(*Tx) error) (in *sharing, err error) {
	defer s.mu.Unlock()
	s.began.Store(time.Now().UnixMicro())
	defer s.began.Store(0)
	if s.shared == nil {
		if err := s.begin(ctx, unsynced && s.waiting.Load() == 0); err != nil {
			return nil, err
		}
	}
	g := s.shared
	joins := g.changes > 0
	g.changes++
	kept := false
	defer func() { // also where f breaks
		if !kept {
			s.takeBack(ctx, g, joins, err)
		}
		if s.shared == g && (s.waiting.Load() == 0 || g.unsynced || time.Since(g.began) >= sharedTime) {
			s.commit(ctx, g)
		}
	}()
	if joins {
		if _, err := s.conn.ExecContext(ctx, "SAVEPOINT joined"); err != nil {
			return nil, fmt.Errorf("savepoint: %w", err)
		}
	}
	if err := f(&Tx{s, ctx}); err != nil {
		return nil, err
	}
	if joins {
		if _, err := s.conn.ExecContext(ctx, "RELEASE joined"); err != nil {
			return nil, fmt.Errorf("release: %w", err)
		}
	}
	kept = true
	return g, nil
}

// begin opens a transaction.
func (s *Store) begin(ctx context.Context, unsynced bool) error {
	if unsynced { // not within a transaction: there it would do nothing
		if _, err := s.conn.ExecContext(ctx, "PRAGMA synchronous=NORMAL"); err != nil {
			return fmt.Errorf("synchronous: %w", err)
		}
	}
	if _, err := s.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		return errors.Join(fmt.Errorf("begin: %w", err), s.syncAgain(ctx, unsynced))
	}
	if len(s.stmts) > maxStatements {
		for _, st := range s.stmts {
			st.Close()
		}
		clear(s.stmts)
	}
	s.shared = &sharing{began: time.Now(), unsynced: unsynced, done: make(chan struct{})}
	return nil
}

// takeBack undoes a change that failed; where it is the first of its transaction, that ends with it. The file may have given up the
// whole transaction, as when the disk is full: then all that was to be committed with it has failed.
func (s *Store) takeBack(ctx context.Context, g *sharing, joins bool, cause error) {
	clear(s.next)
	s.moved = 0
	if joins {
		_, err := s.conn.ExecContext(ctx, "ROLLBACK TO joined")
		if err == nil {
			_, err = s.conn.ExecContext(ctx, "RELEASE joined")
		}
		if err == nil {
			return
		}
		if Unavailable(cause) {
			err = errors.Join(cause, err)
		}
		g.err = &unavailable{fmt.Errorf("a change that was to be committed with this one took it back: %w", err)}
	}
	s.conn.ExecContext(ctx, "ROLLBACK")
	s.end(ctx, g)
}

// commit ends a transaction, and lets those go on who made changes in it.
func (s *Store) commit(ctx context.Context, g *sharing) {
	if _, err := s.conn.ExecContext(ctx, "COMMIT"); err != nil {
		g.err = fmt.Errorf("commit: %w", err)
		s.conn.ExecContext(ctx, "ROLLBACK")
		clear(s.next)
		s.moved = 0
	}
	s.end(ctx, g)
}

func (s *Store) end(ctx context.Context, g *sharing) {
	if err := s.syncAgain(ctx, g.unsynced); err != nil && g.err == nil {
		g.err = err
	}
	s.shared = nil
	close(g.done)
}

// syncAgain has commits wait for the disk again.
func (s *Store) syncAgain(ctx context.Context, unsynced bool) error {
	if !unsynced {
		return nil
	}
	if _, err := s.conn.ExecContext(ctx, "PRAGMA synchronous=FULL"); err != nil {
		return fmt.Errorf("synchronous: %w", err)
	}
	return nil
}
