package relay

import (
	"sync"
	"time"
)

// understood is a mapped message, or why it could not be mapped.
type understood struct {
	msg any
	err error
}

type freshKey struct {
	feed, id string
	version  int64
}

// fresh remembers what was mapped when it was received, so that the decision, which follows at once,
// need not map it again. What is not in it (after a restart, or when much waits) is mapped from the
// inbox. It holds a bounded number; what nobody took for a while makes room.
type fresh struct {
	mu sync.Mutex
	m  map[freshKey]understood
	at time.Time // when the oldest entries may have been put
}

func (f *fresh) put(k freshKey, u understood) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if f.m == nil || now.Sub(f.at) > freshAge {
		f.m, f.at = make(map[freshKey]understood, 256), now
	}
	if len(f.m) < maxFresh {
		f.m[k] = u
	}
}

func (f *fresh) take(k freshKey) (understood, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	u, ok := f.m[k]
	delete(f.m, k)
	return u, ok
}

const (
	maxFresh = 4000
	freshAge = 5 * time.Second
)
