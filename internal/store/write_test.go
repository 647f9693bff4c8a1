package store

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// TestChangesAreCommittedTogether: changes that wait for the file share a transaction; each is there or taken back for itself, and the
// ids that rows are given are no row's twice.
func TestChangesAreCommittedTogether(t *testing.T) {
	s := open(t)
	company(t, s)
	refused := errors.New("refused")
	const writers, each = 12, 30
	began := make(chan struct{})
	var all sync.WaitGroup
	for w := range writers {
		all.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(w), 7))
			<-began
			for i := range each {
				name := fmt.Sprintf("w%d-%d", w, i)
				write := s.Write
				if rng.IntN(4) == 0 {
					write = s.WriteUnsynced
				}
				outcome := rng.IntN(3)
				err := writeCaught(func() error {
					return write(t.Context(), func(tx *Tx) error {
						if err := tx.PutSetting(name, name); err != nil {
							return err
						}
						m := OutboxMessage{ConnectionID: 1, Feed: "stock out", Subject: name, Payload: "{}"}
						if _, err := tx.Enqueue(m, "t", now); err != nil {
							return err
						}
						switch outcome {
						case 1:
							return refused
						case 2:
							panic("broken")
						}
						return nil
					})
				})
				said, serr := s.Setting(t.Context(), name)
				switch outcome {
				case 0:
					if err != nil || said != name {
						t.Errorf("%s: %v, and %q is there", name, err, said)
					}
				default:
					if err == nil || said != "" || serr != nil {
						t.Errorf("%s: %v, and %q is there, %v", name, err, said, serr)
					}
				}
			}
		})
	}
	close(began)
	all.Wait()
	var n, different int
	require.NoError(t, s.read.QueryRowContext(t.Context(), "SELECT count(*), count(DISTINCT ref) FROM outbox").Scan(&n, &different))
	require.Equal(t, n, different)
	require.Positive(t, n)
	require.Nil(t, s.shared, "nothing is left open")
}

// writeCaught turns a panic into an error.
func writeCaught(f func() error) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("%v", p)
		}
	}()
	return f()
}

// inLine begins changes one after the other, each while the one before is being made, and lets them go in that order. It returns what
// became of each.
func inLine(t *testing.T, s *Store, changes ...func(*Tx) error) []error {
	t.Helper()
	out := make([]error, len(changes))
	var all sync.WaitGroup
	inside, goOn := make(chan struct{}), make(chan struct{})
	for i, f := range changes {
		all.Go(func() {
			out[i] = writeCaught(func() error {
				return s.Write(context.Background(), func(tx *Tx) error {
					if i == 0 {
						close(inside)
						<-goOn
					}
					return f(tx)
				})
			})
		})
		if i == 0 {
			<-inside
			continue
		}
		require.Eventually(t, func() bool { return s.waiting.Load() == int64(i) }, 5*time.Second, time.Millisecond/10)
	}
	close(goOn)
	all.Wait()
	return out
}

// TestOneThatFailsTakesNobodyWithIt, wherever it stands among those that are committed together.
func TestOneThatFailsTakesNobodyWithIt(t *testing.T) {
	refused := errors.New("refused")
	puts := func(name string) func(*Tx) error { return func(tx *Tx) error { return tx.PutSetting(name, "x") } }
	fails := func(tx *Tx) error { return errors.Join(tx.PutSetting("bad", "x"), refused) }
	for at := range 3 {
		s := open(t)
		changes := []func(*Tx) error{puts("a"), puts("b")}
		changes = append(changes[:at:at], append([]func(*Tx) error{fails}, changes[at:]...)...)
		for i, err := range inLine(t, s, changes...) {
			if i == at {
				require.ErrorIs(t, err, refused)
				continue
			}
			require.NoError(t, err)
		}
		for name, want := range map[string]string{"a": "x", "b": "x", "bad": ""} {
			got, err := s.Setting(t.Context(), name)
			require.NoError(t, err)
			require.Equal(t, want, got, "%s, where the failing one is number %d", name, at)
		}
	}
}

// TestATransactionThatIsGivenUp: where the file gives up the transaction under a change, those who were to be committed with it are told
// that nothing of theirs was kept, as of a file that could not be written, and the next change is made as ever.
func TestATransactionThatIsGivenUp(t *testing.T) {
	s := open(t)
	gone := inLine(t, s,
		func(tx *Tx) error { return tx.PutSetting("first", "x") },
		func(tx *Tx) error {
			if s.shared.changes < 2 {
				return errors.New("it was to be made in the same transaction")
			}
			_, err := s.conn.ExecContext(tx.ctx, "ROLLBACK") // as the file itself does when the disk is full
			return errors.Join(err, errors.New("disk full"))
		})
	first, err := s.Setting(t.Context(), "first")
	require.NoError(t, err)
	require.ErrorContains(t, gone[1], "disk full")
	require.Empty(t, first)
	require.Error(t, gone[0], "it is not there, so it must not be said to be")
	require.True(t, Unavailable(gone[0]), "%v", gone[0])
	require.NotContains(t, gone[0].Error(), "disk full", "what was wrong with another change is nobody else's concern")
	write(t, s, func(tx *Tx) error { return tx.PutSetting("next", "x") })
}

// TestEnqueueMany puts what never left in the place of what waits, and leaves alone what was tried.
func TestEnqueueMany(t *testing.T) {
	s := open(t)
	company(t, s)
	of := func(subject, payload string) OutboxMessage {
		return OutboxMessage{ConnectionID: 1, Feed: "stock out", Subject: subject, Payload: payload}
	}
	list := func(payload string) (out []OutboxMessage) {
		for i := range 7 {
			out = append(out, of(fmt.Sprintf("listing %d", i), payload))
		}
		return out
	}
	write(t, s, func(tx *Tx) error { return tx.EnqueueMany(list("1"), "t", now) })
	write(t, s, func(tx *Tx) error { return tx.EnqueueMany(list("2"), "t", now) })
	var claimed []OutboxMessage
	write(t, s, func(tx *Tx) (err error) {
		claimed, err = tx.ClaimOutbox(1, []message.Feed{"stock out"}, now, 3)
		return err
	})
	require.Len(t, claimed, 3)
	for _, m := range claimed {
		require.Equal(t, "2", m.Payload)
		require.EqualValues(t, 1, m.Attempts)
		m.State, m.NextAt = Waiting, now.Add(time.Minute).UnixMicro()
		write(t, s, func(tx *Tx) error { return tx.SettleOutbox(m) })
	}
	write(t, s, func(tx *Tx) error { return tx.EnqueueMany(list("3"), "t", now) })
	states := map[string]int{}
	rows, err := s.read.QueryContext(t.Context(), "SELECT state||' '||payload||' '||attempts FROM outbox")
	require.NoError(t, err)
	defer rows.Close()
	for rows.Next() {
		var state string
		require.NoError(t, rows.Scan(&state))
		states[state]++
	}
	require.Equal(t, map[string]int{"superseded 2 1": 3, "waiting 3 0": 7}, states)
	due, err := s.DueFeeds(t.Context(), 1, []message.Feed{"stock out", "orders in"}, now)
	require.NoError(t, err)
	require.Equal(t, []message.Feed{"stock out"}, due)
	due, err = s.DueFeeds(t.Context(), 1, []message.Feed{"stock out"}, now.Add(-time.Second))
	require.NoError(t, err)
	require.Empty(t, due)
}
