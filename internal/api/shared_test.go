package api

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Many who ask at once are answered by one making, and nobody by one that was begun before they asked.
func TestWhoAsksAtOnceSharesAnAnswer(t *testing.T) {
	var s shared[int64]
	var truth, made atomic.Int64
	begun, release := make(chan struct{}, 100), make(chan struct{})
	ask := func(context.Context) (int64, error) {
		made.Add(1)
		n := truth.Load()
		begun <- struct{}{}
		<-release
		return n, nil
	}
	first := make(chan int64, 1)
	go func() { n, _ := s.get(t.Context(), ask); first <- n }()
	<-begun // one is being made, and has read
	truth.Store(1)
	var wg sync.WaitGroup
	var asking sync.WaitGroup
	for range 20 {
		wg.Add(1)
		asking.Add(1)
		go func() {
			defer wg.Done()
			asking.Done()
			n, err := s.get(t.Context(), ask)
			assert.NoError(t, err)
			assert.Equal(t, int64(1), n, "what was begun before is no answer")
		}()
	}
	asking.Wait()
	close(release)
	wg.Wait()
	require.Equal(t, int64(0), <-first)
	require.LessOrEqual(t, made.Load(), int64(21))
	require.GreaterOrEqual(t, made.Load(), int64(2))
}

// A making that fails fails those who waited for it, and the next begins anew.
func TestAFailedAnswerIsNotKept(t *testing.T) {
	var s shared[string]
	_, err := s.get(t.Context(), func(context.Context) (string, error) { return "", errors.New("the file is busy") })
	require.EqualError(t, err, "the file is busy")
	got, err := s.get(t.Context(), func(context.Context) (string, error) { return "there", nil })
	require.NoError(t, err)
	require.Equal(t, "there", got)
}

// Whoever leaves does not keep the answer from the others.
func TestWhoLeavesKeepsNothingFromOthers(t *testing.T) {
	var s shared[string]
	begun, release := make(chan struct{}), make(chan struct{})
	slow := func(ctx context.Context) (string, error) {
		close(begun)
		<-release
		return "there", ctx.Err()
	}
	ctx, leave := context.WithCancel(t.Context())
	left := make(chan error, 1)
	go func() { _, err := s.get(ctx, slow); left <- err }()
	<-begun
	stays := make(chan string, 1)
	go func() {
		got, _ := s.get(t.Context(), func(context.Context) (string, error) { return "the next", nil })
		stays <- got
	}()
	leave()
	require.ErrorIs(t, <-left, context.Canceled)
	close(release)
	require.Equal(t, "the next", <-stays)
}
