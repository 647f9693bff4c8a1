package api

import (
	"context"
	"sync"
	"time"
)

// shared is an answer that many ask for at the same moment, such as all open boards after a sale. Whoever asks while it is
// being made waits for the next making, with all others who came in the meantime: what they are given was begun after they
// asked, so that nobody is told what was so before.
type shared[T any] struct {
	mu      sync.Mutex
	running bool
	next    *making[T] // not begun yet; nil: nobody waits
}

// making is one making of an answer.
type making[T any] struct {
	ctx   context.Context // of the first who asked for it, without its end
	make  func(context.Context) (T, error)
	done  chan struct{}
	value T
	err   error
}

// sharedPatience is how long a making may take when all who wait for it have left.
const sharedPatience = 20 * time.Second

// Between two makings passes so many times what the last one took, and no longer than the longest rest: who looks at a page
// does not notice it.
const (
	sharedRest        = 15
	sharedLongestRest = 200 * time.Millisecond
)

// get returns an answer that was begun after it was asked for. The value is shared: nobody may change it.
func (s *shared[T]) get(ctx context.Context, how func(context.Context) (T, error)) (T, error) {
	s.mu.Lock()
	if s.next == nil {
		s.next = &making[T]{ctx: context.WithoutCancel(ctx), make: how, done: make(chan struct{})}
	}
	m := s.next
	if !s.running {
		s.running, s.next = true, nil
		go s.run(m)
	}
	s.mu.Unlock()
	select {
	case <-m.done:
		return m.value, m.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

// run makes an answer, and then the next as long as somebody waits for one. Between two makings it rests for some time, so that
// making them takes a small part of a processor only, however many ask.
func (s *shared[T]) run(m *making[T]) {
	for m != nil {
		begun := time.Now()
		within, cancel := context.WithTimeout(m.ctx, sharedPatience)
		m.value, m.err = m.make(within)
		cancel()
		close(m.done)
		time.Sleep(min(sharedRest*time.Since(begun), sharedLongestRest))
		s.mu.Lock()
		m, s.next = s.next, nil
		s.running = m != nil
		s.mu.Unlock()
	}
}
