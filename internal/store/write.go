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
// It returns when the disk has what was written. The next change goes on before that, and the disk is waited for once for all that
// have been committed meanwhile. Changes that wait for each other share a transaction: each is taken back for itself where it fails.
func (s *Store) Write(ctx context.Context, f func(*Tx) error) error {
	commits, err := s.write(ctx, false, f)
	if err != nil {
		return err
	}
	return s.disk.wait(commits)
}

// WriteUnsynced is like Write, but does not wait until the disk has what was written: after a loss of power it may be as if it had
// not been done. It is for what is done again then, and is as it should be either way. What Write writes later is not durable
// before it.
func (s *Store) WriteUnsynced(ctx context.Context, f func(*Tx) error) error {
	_, err := s.write(ctx, false, f)
	return err
}

// WriteAlone is like WriteUnsynced for a change that takes long: it shares its transaction with nobody, who would have to wait for it.
func (s *Store) WriteAlone(ctx context.Context, f func(*Tx) error) error {
	_, err := s.write(ctx, true, f)
	return err
}

// write makes a change, and returns how many commits there are with its own.
func (s *Store) write(ctx context.Context, alone bool, f func(*Tx) error) (commits uint64, err error) {
	// A change that has begun is finished: the caller's end must not tear it.
	ctx = context.WithoutCancel(ctx)
	s.waiting.Add(1)
	s.mu.Lock()
	s.waiting.Add(-1)
	g, err := s.change(ctx, alone, f)
	if err != nil {
		return 0, err
	}
	<-g.done
	return g.commits, g.err
}

// sharing is a transaction, with the changes that have been made in it.
type sharing struct {
	began   time.Time
	changes int
	done    chan struct{} // closed when it has ended
	commits uint64        // how many there are with it; set before it has ended
	err     error         // why it could not be committed; set before it has ended
}

// sharedTime is for how long changes that wait may still join a transaction.
const sharedTime = 4 * time.Millisecond

// change makes one change, in the transaction that is open or in one of its own, and lets the next writer have the file. Whoever
// leaves a transaction open has somebody waiting who will go on with it.
func (s *Store) change(ctx context.Context, alone bool, f func(*Tx) error) (in *sharing, err error) {
	defer s.mu.Unlock()
	s.began.Store(time.Now().UnixMicro())
	defer s.began.Store(0)
	if s.shared != nil && alone {
		s.commit(ctx, s.shared)
	}
	if s.shared == nil {
		if err := s.begin(ctx); err != nil {
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
		if s.shared == g && (alone || s.waiting.Load() == 0 || time.Since(g.began) >= sharedTime) {
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
func (s *Store) begin(ctx context.Context) error {
	if err := s.disk.broken(); err != nil {
		return err
	}
	if _, err := s.conn.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
		return fmt.Errorf("begin: %w", err)
	}
	if len(s.stmts) > maxStatements {
		for _, st := range s.stmts {
			st.Close()
		}
		clear(s.stmts)
	}
	s.shared = &sharing{began: time.Now(), done: make(chan struct{})}
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
	s.end(g)
}

// commit ends a transaction, and lets those go on who made changes in it.
func (s *Store) commit(ctx context.Context, g *sharing) {
	if _, err := s.conn.ExecContext(ctx, "COMMIT"); err != nil {
		g.err = fmt.Errorf("commit: %w", err)
		s.conn.ExecContext(ctx, "ROLLBACK")
		clear(s.next)
		s.moved = 0
	}
	g.commits = s.disk.written.Add(1)
	s.end(g)
}

func (s *Store) end(g *sharing) {
	s.shared = nil
	close(g.done)
}
