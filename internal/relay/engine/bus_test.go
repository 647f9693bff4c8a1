package engine

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// heard takes all that waits for a listener.
func heard(events <-chan Event) []Event {
	var out []Event
	for len(events) > 0 {
		out = append(out, <-events)
	}
	return out
}

func orderEvents(n int) []Event {
	out := make([]Event, n)
	for i := range out {
		out[i] = Event{Kind: "order", Key: fmt.Sprintf("O%d", i)}
	}
	return out
}

func TestAListenerHearsWhatHappens(t *testing.T) {
	b := NewBus()
	b.Publish(orderEvents(1)) // before anybody listens
	events, end := b.Listen()
	b.Publish([]Event{{Kind: "order", Key: "O1"}, {Kind: "stock", Key: "JAR"}})
	require.Equal(t, []Event{{ID: 2, Kind: "order", Key: "O1"}, {ID: 3, Kind: "stock", Key: "JAR"}}, heard(events))
	end()
	b.Publish(orderEvents(1))
	require.Empty(t, heard(events))
}

// A listener that is behind is told of everything, once, and then of what comes after; the others lose nothing.
func TestAListenerThatIsBehindHearsOfEverything(t *testing.T) {
	b := NewBus()
	slow, end := b.Listen()
	defer end()
	quick, endQuick := b.Listen()
	defer endQuick()
	for range 3 {
		b.Publish(orderEvents(busRoom))
		require.Len(t, heard(quick), busRoom)
	}
	b.Publish(append(orderEvents(1), Event{Kind: "stock", Key: "JAR"}))
	got := heard(slow)
	require.NotEmpty(t, got)
	assert.Equal(t, Everything, got[0].Kind)
	assert.Equal(t, Event{ID: 3*busRoom + 2, Kind: "stock", Key: "JAR"}, got[len(got)-1])
	for i, e := range got[1:] {
		assert.NotEqual(t, Everything, e.Kind, "told once")
		assert.Equal(t, got[i].ID+1, e.ID, "after it, nothing is left out")
	}
}

func TestWhatAnEventNames(t *testing.T) {
	assert.True(t, Event{Kind: "shipment", Key: "S1"}.Names("shipment", "S1"))
	assert.False(t, Event{Kind: "shipment", Key: "S2"}.Names("shipment", "S1"))
	assert.False(t, Event{Kind: "order", Key: "S1"}.Names("shipment", "S1"))
	assert.True(t, Event{Kind: Everything}.Names("shipment", "S1"))
}
