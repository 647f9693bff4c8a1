package relay

import (
	"sync"
	"time"
)

// waker wakes a loop: at once, or after a while. However often it is asked, it holds one timer, set to the earliest
// moment that was asked for.
type waker struct {
	ch    chan struct{}
	mu    sync.Mutex
	timer *time.Timer
	at    time.Time
}

func newWaker() *waker { return &waker{ch: make(chan struct{}, 1)} }

// now wakes the loop at once.
func (w *waker) now() {
	select {
	case w.ch <- struct{}{}:
	default:
	}
}

// in wakes the loop after d.
func (w *waker) in(d time.Duration) {
	if d <= 0 {
		w.now()
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
		w.now()
	})
}

// stop ends what was asked for later.
func (w *waker) stop() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.timer != nil {
		w.timer.Stop()
		w.timer = nil
	}
}
