package engine

import (
	"sync"
	"time"
)

// Waker wakes a loop: at once, or after a while. However often it is asked, it holds one timer, set to the earliest
// moment that was asked for.
type Waker struct {
	Ch    chan struct{}
	mu    sync.Mutex
	Timer *time.Timer
	at    time.Time
}

func NewWaker() *Waker { return &Waker{Ch: make(chan struct{}, 1)} }

// Now wakes the loop at once.
func (w *Waker) Now() {
	select {
	case w.Ch <- struct{}{}:
	default:
	}
}

// In wakes the loop after d.
func (w *Waker) In(d time.Duration) {
	if d <= 0 {
		w.Now()
		return
	}
	at := time.Now().Add(d)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.Timer != nil && !at.Before(w.at) {
		return
	}
	if w.Timer != nil {
		w.Timer.Stop()
	}
	w.at = at
	w.Timer = time.AfterFunc(d, func() {
		w.mu.Lock()
		w.Timer = nil
		w.mu.Unlock()
		w.Now()
	})
}

// Stop ends what was asked for later.
func (w *Waker) Stop() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.Timer != nil {
		w.Timer.Stop()
		w.Timer = nil
	}
}
