// Package journey follows a parcel from the place that it leaves to the door: one set of states whatever the carrier, how a parcel
// stands by its events, by when it should be there, and when it has not moved for too long. It reads nothing and decides nothing about
// orders.
package journey

import (
	"slices"
	"time"
)

// State is what an event says of a parcel.
type State string

// The states, in the order in which a parcel usually takes them.
const (
	Accepted       State = "accepted" // its carrier has it
	UnderWay       State = "under way"
	OutForDelivery State = "out for delivery"
	Delivered      State = "delivered"
	Failed         State = "failed" // nobody was there, or it was not taken; the carrier tries again
	Customs        State = "held by customs"
	Returning      State = "returning" // on its way back
	Returned       State = "returned"
	Lost           State = "lost"
	Problem        State = "problem" // none of these; its text says what
)

// States lists all of them.
var States = []State{Accepted, UnderWay, OutForDelivery, Delivered, Failed, Customs, Returning, Returned, Lost, Problem}

// Ends tells whether nothing is expected after a state.
func (s State) Ends() bool { return s == Delivered || s == Returned || s == Lost }

// Event is one thing that happened to a parcel.
type Event struct {
	State State     `json:"state"`
	Text  string    `json:"text,omitempty"`
	Where string    `json:"where,omitempty"`
	At    time.Time `json:"at"`
}

// rank orders events of one moment: the one further on is the later.
func rank(s State) int { return slices.Index(States, s) }

// Stands is the event by which a parcel stands: the latest, whatever the order in which they came. The zero event: there is none.
func Stands(events []Event) (last Event) {
	for i, e := range events {
		later := e.At.After(last.At) || e.At.Equal(last.At) && rank(e.State) > rank(last.State)
		if i == 0 || later {
			last = e
		}
	}
	return last
}

// mostAhead is how far a carrier's clock may be ahead of ours.
const mostAhead = 10 * time.Minute

// Tidied is an event as it is kept: one from the future happened when it came.
func (e Event) Tidied(came time.Time) Event {
	if e.At.IsZero() || e.At.After(came.Add(mostAhead)) {
		e.At = came
	}
	return e
}

// EndOf is the last moment of a day, YYYY-MM-DD, in a time zone; the zero time: it is no day.
func EndOf(day string, zone *time.Location) time.Time {
	t, err := time.ParseInLocation(time.DateOnly, day, zone)
	if err != nil {
		return time.Time{}
	}
	y, m, d := t.Date()
	return time.Date(y, m, d+1, 0, 0, 0, 0, zone)
}

// Bounds of a habit, and what is taken where too little is known of one.
const (
	leastHabit = 48 * time.Hour
	mostHabit  = 10 * 24 * time.Hour
	usualHabit = 3 * 24 * time.Hour
	leastGaps  = 20
)

// Habit is for how long parcels of a service may stand still before they count as stuck: half as long again as the gap between two
// events that nineteen of twenty keep. Of fewer than twenty gaps nothing is learned, and three days are taken.
func Habit(gaps []time.Duration) time.Duration {
	if len(gaps) < leastGaps {
		return usualHabit
	}
	sorted := slices.Sorted(slices.Values(gaps))
	usual := sorted[(len(sorted)*95+99)/100-1]
	return min(max(usual*3/2, leastHabit), mostHabit)
}

// Watch is what is known of a parcel that is on its way.
type Watch struct {
	Left     time.Time     // when it left
	Last     Event         // by which it stands; the zero event: its carrier said nothing yet
	Promised string        // YYYY-MM-DD by which it should be there; empty: nobody said
	Habit    time.Duration // of its service
	// Rests tells whether its carrier moves nothing on a day: such days are not counted as standing still. nil: it never rests.
	Rests func(day time.Time) bool
}

// Late tells whether a parcel should be there and is not.
func (w Watch) Late(now time.Time, zone *time.Location) bool {
	by := EndOf(w.Promised, zone)
	return !by.IsZero() && !now.Before(by) && !w.Last.State.Ends()
}

// Stuck tells whether a parcel has not moved for longer than those of its service usually stand still.
func (w Watch) Stuck(now time.Time) bool {
	return !w.Last.State.Ends() && !now.Before(w.still())
}

func (w Watch) still() time.Time {
	since := w.Left
	if w.Last.At.After(since) {
		since = w.Last.At
	}
	until := since.Add(w.Habit)
	for day := since; w.Rests != nil && !day.After(until) && until.Sub(since) < mostRest; day = day.AddDate(0, 0, 1) {
		if w.Rests(day) {
			until = until.AddDate(0, 0, 1)
		}
	}
	return until
}

// mostRest bounds for how long a carrier that rests is waited for.
const mostRest = 60 * 24 * time.Hour

// Next is when a parcel is to be looked at again; the zero time: never.
func (w Watch) Next(now time.Time, zone *time.Location) time.Time {
	if w.Last.State.Ends() {
		return time.Time{}
	}
	var next time.Time
	for _, at := range []time.Time{EndOf(w.Promised, zone), w.still()} {
		if at.After(now) && (next.IsZero() || at.Before(next)) {
			next = at
		}
	}
	return next
}
