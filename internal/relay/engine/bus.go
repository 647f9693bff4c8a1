package engine

import (
	"slices"
	"sync"
)

// Event tells listeners that something changed; they ask for what they need.
type Event struct {
	ID   int64  `json:"id"`
	Kind string `json:"kind" doc:"order, stock, feed, connection, shipment, manifest or exception"`
	Key  string `json:"key,omitempty" doc:"Number or code of the thing"`
}

// Bus hands events to those who listen. A listener that does not keep up loses events and is told so
// by a gap in the ids.
type Bus struct {
	mu   sync.Mutex
	next int64
	subs map[chan Event]bool
}

// NewBus makes a bus.
func NewBus() *Bus { return &Bus{subs: map[chan Event]bool{}} }

// Listen returns a channel of events and the function that ends it.
func (b *Bus) Listen() (<-chan Event, func()) {
	ch := make(chan Event, 256)
	b.mu.Lock()
	b.subs[ch] = true
	b.mu.Unlock()
	return ch, func() {
		b.mu.Lock()
		delete(b.subs, ch)
		b.mu.Unlock()
	}
}

// distinct leaves out what is told twice.
func distinct(events []Event) []Event {
	seen := make(map[Event]bool, len(events))
	return slices.DeleteFunc(events, func(e Event) bool {
		again := seen[e]
		seen[e] = true
		return again
	})
}

// Publish hands the events out.
func (b *Bus) Publish(events []Event) {
	if len(events) == 0 {
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, e := range events {
		b.next++
		e.ID = b.next
		for ch := range b.subs {
			select {
			case ch <- e:
			default:
			}
		}
	}
}
