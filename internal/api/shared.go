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
	done  chan struct{}
	value T
	err   error
}

// sharedPatience is how long a making may take when all who wait for it have left.
const sharedPatience = 20 * time.Second

// get returns an answer that was begun after it was asked for. The value is shared: nobody may change it.
func (s *shared[T]) get(ctx context.Context, make func(context.Context) (T, error)) (T, error) {
	s.mu.Lock()
	if s.next == nil {
		s.next = &making[T]{done: newDone()}
	}
	m := s.next
	if !s.running {
		s.running, s.next = true, nil
		go s.run(context.WithoutCancel(ctx), m, make)
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

func newDone() chan struct{} { return make(chan struct{}) }

// run makes an answer, and then the next as long as somebody waits for one.
func (s *shared[T]) run(ctx context.Context, m *making[T], make func(context.Context) (T, error)) {
	for m != nil {
		within, cancel := context.WithTimeout(ctx, sharedPatience)
		m.value, m.err = make(within)
		cancel()
		close(m.done)
		s.mu.Lock()
		m, s.next = s.next, nil
		s.running = m != nil
		s.mu.Unlock()
	}
}
