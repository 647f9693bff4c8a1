package journey

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func at(day, hour int) time.Time { return time.Date(2026, 11, day, hour, 0, 0, 0, time.UTC) }

// TestAParcelStandsByItsLatestEvent, whatever the order in which they came.
func TestAParcelStandsByItsLatestEvent(t *testing.T) {
	events := []Event{{State: Accepted, At: at(23, 18)}, {State: UnderWay, At: at(23, 22)}, {State: OutForDelivery, At: at(24, 8)},
		{State: Delivered, At: at(24, 8)}}
	rng := rand.New(rand.NewPCG(1, 2))
	for range 50 {
		rng.Shuffle(len(events), func(i, j int) { events[i], events[j] = events[j], events[i] })
		require.Equal(t, Delivered, Stands(events).State)
	}
	require.Equal(t, Event{}, Stands(nil))
	back := append(events, Event{State: Returning, At: at(25, 9)})
	require.Equal(t, Returning, Stands(back).State, "it was refused after all")
}

func TestAnEventFromTheFutureHappenedWhenItCame(t *testing.T) {
	came := at(23, 12)
	require.Equal(t, came, Event{At: at(30, 1)}.Tidied(came).At)
	require.Equal(t, came, Event{}.Tidied(came).At)
	require.Equal(t, came.Add(time.Minute), Event{At: came.Add(time.Minute)}.Tidied(came).At, "a clock a little ahead is no future")
}

// TestHabit: what nineteen of twenty keep, and half as long again; within bounds.
func TestHabit(t *testing.T) {
	hours := func(n int, h time.Duration) (out []time.Duration) {
		for range n {
			out = append(out, h*time.Hour)
		}
		return out
	}
	require.Equal(t, usualHabit, Habit(hours(19, 100)), "too few")
	require.Equal(t, leastHabit, Habit(hours(100, 2)))
	require.Equal(t, 60*time.Hour, Habit(append(hours(95, 40), hours(5, 500)...)), "one in twenty is no habit")
	require.Equal(t, mostHabit, Habit(hours(50, 1000)))
}

// TestLateAndStuck: each at its moment, and neither once it has arrived.
func TestLateAndStuck(t *testing.T) {
	zone := time.FixedZone("", 3600)
	w := Watch{Left: at(23, 16), Promised: "2026-11-25", Habit: 48 * time.Hour, Last: Event{State: UnderWay, At: at(24, 10)}}
	ends := time.Date(2026, 11, 25, 23, 0, 0, 0, time.UTC) // midnight in its zone
	require.Equal(t, ends, w.Next(at(24, 12), zone).UTC())
	require.False(t, w.Late(ends.Add(-time.Second), zone))
	require.True(t, w.Late(ends, zone))
	require.Equal(t, at(26, 10), w.Next(ends, zone))
	require.False(t, w.Stuck(at(26, 9)))
	require.True(t, w.Stuck(at(26, 10)))
	require.True(t, w.Next(at(26, 10), zone).IsZero(), "all is said")
	w.Last.State = Delivered
	require.False(t, w.Late(at(29, 0), zone) || w.Stuck(at(29, 0)))
	require.True(t, w.Next(at(24, 12), zone).IsZero())
	sundays := Watch{Left: at(28, 12), Habit: 48 * time.Hour, Rests: func(d time.Time) bool { return d.Weekday() == time.Sunday }}
	require.Equal(t, at(31, 12), sundays.Next(at(28, 13), zone), "a Sunday is not counted")
	always := Watch{Left: at(23, 16), Habit: usualHabit, Rests: func(time.Time) bool { return true }}
	require.True(t, always.Next(at(23, 17), zone).Before(at(23, 17).AddDate(0, 0, 80)), "a carrier that always rests ends")
	silent := Watch{Left: at(23, 16), Habit: usualHabit}
	require.Equal(t, at(26, 16), silent.Next(at(23, 17), zone), "nobody promised anything, and nobody said a word")
}
