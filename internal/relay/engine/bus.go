package engine

import (
	"slices"
	"sync"
)

// Event tells listeners that something changed; they ask for what they need.
type Event struct {
	ID   int64  `json:"id"`
	Kind string `json:"kind" doc:"order, stock, feed, connection, shipment, manifest, exception and so on; everything: ask for all anew"`
	Key  string `json:"key,omitempty" doc:"Number or code of the thing"`
}

// Everything is the kind of the event that stands for all others: a listener that did not keep up hears it in their place.
const Everything = "everything"

// Names tells whether the event is about a thing, or about everything.
func (e Event) Names(kind, key string) bool {
	return e.Kind == Everything || e.Kind == kind && e.Key == key
}

// Bus hands events to those who listen. One that does not keep up is told of Everything instead, so that it never believes
// that nothing happened.
type Bus struct {
	mu   sync.Mutex
	next int64
	subs map[chan Event]bool
}

// busRoom is how many events a listener may be behind.
const busRoom = 256

// NewBus makes a bus.
func NewBus() *Bus { return &Bus{subs: map[chan Event]bool{}} }

// Listen returns a channel of events and the function that ends it.
func (b *Bus) Listen() (<-chan Event, func()) {
	ch := make(chan Event, busRoom)
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
				forget(ch)
				ch <- Event{ID: e.ID, Kind: Everything} // there is room: nobody else sends
			}
		}
	}
}

// forget takes out what a listener has not heard yet.
func forget(ch chan Event) {
	for {
		select {
		case <-ch:
		default:
			return
		}
	}
}
