package engine

import (
	"sync"
	"time"

	"openrelay/internal/core/message"
)

// MapResult is a mapped message, or why it could not be mapped.
type MapResult struct {
	Msg any
	Err error
}

type MapKey struct {
	Feed    message.Feed
	ID      string
	Version int64
}

// mapCache remembers what was mapped when it was received, so that the decision, which follows at once,
// need not map it again. What is not in it (after a restart, or when much waits) is mapped from the
// inbox. It holds a bounded number; what nobody took for a while makes room.
type mapCache struct {
	mu sync.Mutex
	m  map[MapKey]MapResult
	at time.Time // when the oldest entries may have been put
}

func (f *mapCache) Put(k MapKey, u MapResult) {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := time.Now()
	if f.m == nil || now.Sub(f.at) > mappedAge {
		f.m, f.at = make(map[MapKey]MapResult, 256), now
	}
	if len(f.m) < maxMapped {
		f.m[k] = u
	}
}

func (f *mapCache) Take(k MapKey) (MapResult, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	u, ok := f.m[k]
	delete(f.m, k)
	return u, ok
}

const (
	maxMapped = 4000
	mappedAge = 5 * time.Second
)
