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
	timer *time.Timer
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
	if w.timer != nil && !at.Before(w.at) {
		return
	}
	if w.timer != nil {
		w.timer.Stop()
	}
	w.at = at
	w.timer = time.AfterFunc(d, func() {
		w.mu.Lock()
		w.timer = nil
		w.mu.Unlock()
		w.Now()
	})
}

// Stop ends what was asked for later.
func (w *Waker) Stop() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.timer != nil {
		w.timer.Stop()
		w.timer = nil
	}
}

// Due is when the loop is woken, or the zero time.
func (w *Waker) Due() time.Time {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.timer == nil {
		return time.Time{}
	}
	return w.at
}
