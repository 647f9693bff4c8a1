package store

import (
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAWriteReturnsWhenTheDiskHasIt; one that need not last does not wait, and is a change like any other.
func TestAWriteReturnsWhenTheDiskHasIt(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	flushed := 0
	flush := s.disk.flush
	s.disk.flush = func() error { flushed++; return flush() }
	put := func(name string) func(*Tx) error {
		return func(tx *Tx) error { return tx.PutSetting("company", name) }
	}
	require.NoError(t, s.WriteUnsynced(ctx, put("Morrow Hive")))
	require.Zero(t, flushed)
	refused := errors.New("refused")
	require.ErrorIs(t, s.WriteUnsynced(ctx, func(tx *Tx) error {
		require.NoError(t, tx.PutSetting("company", "Another"))
		return refused
	}), refused)
	name, err := s.Setting(ctx, "company")
	require.NoError(t, err)
	require.Equal(t, "Morrow Hive", name)
	require.NoError(t, s.Write(ctx, put("Morrow Hive Goods")))
	require.Equal(t, 1, flushed, "with what was written before it")
	require.ErrorIs(t, s.Write(ctx, func(*Tx) error { return refused }), refused)
	require.Equal(t, 1, flushed, "there is nothing to wait for")
}

// TestTheDiskIsWaitedForTogether: while it is at work others commit, and one turn of it is enough for all of them.
func TestTheDiskIsWaitedForTogether(t *testing.T) {
	s := open(t)
	const writers = 20
	begun, goOn := make(chan struct{}), make(chan struct{})
	var flushes atomic.Int64
	s.disk.flush = func() error {
		if flushes.Add(1) == 1 {
			close(begun)
			<-goOn
		}
		return nil
	}
	var all sync.WaitGroup
	write := func(i int) {
		all.Go(func() {
			err := s.Write(t.Context(), func(tx *Tx) error { return tx.PutSetting(fmt.Sprint("w", i), "there") })
			if err != nil {
				t.Error(err)
			}
		})
	}
	write(0)
	<-begun
	for i := range writers {
		write(i + 1)
	}
	for i := range writers {
		there := func() bool { v, _ := s.Setting(t.Context(), fmt.Sprint("w", i+1)); return v == "there" }
		require.Eventually(t, there, 5*time.Second,
			time.Millisecond,
			"nobody waits for the disk to commit")
	}
	require.Equal(t, int64(1), flushes.Load())
	close(goOn)
	all.Wait()
	require.Equal(t, int64(2), flushes.Load())
}

// TestADiskThatFailsEndsWriting: what it has is not known any more, so nothing is written until the file is opened anew.
func TestADiskThatFailsEndsWriting(t *testing.T) {
	s := open(t)
	flush := s.disk.flush
	s.disk.flush = func() error { return errors.New("input/output error") }
	write := func() error {
		return s.Write(t.Context(), func(tx *Tx) error { return tx.PutSetting("company", "Morrow Hive") })
	}
	err := write()
	require.ErrorContains(t, err, "the disk did not take what was written")
	require.True(t, Unavailable(err), "no record is to blame")
	s.disk.flush = flush
	require.ErrorContains(t, write(), "input/output error")
	path := s.Path()
	require.Error(t, s.Close())
	again, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer again.Close()
	require.NoError(t, again.Write(t.Context(), func(tx *Tx) error { return tx.PutSetting("company", "Morrow Hive") }))
}
