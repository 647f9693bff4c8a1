package place

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func week(weekday, saturday string) []string {
	return []string{weekday, weekday, weekday, weekday, weekday, saturday, ""}
}

func TestLeavesBy(t *testing.T) {
	zone := time.FixedZone("company", 3600)
	h := Hours{Week: week("08:00-17:00", "09:00-12:00"), Cutoff: "14:00",
		DaysOff: []DayOff{{From: "2026-12-24", To: "2026-12-26", Why: "Midwinter"}}}
	require.NoError(t, h.Check())
	for since, leaves := range map[string]string{
		"2026-11-30 07:00": "2026-11-30 17:00", // a Monday, before it opens
		"2026-11-30 14:00": "2026-11-30 17:00",
		"2026-11-30 14:01": "2026-12-01 17:00",
		"2026-12-04 15:00": "2026-12-05 12:00", // a Friday; on Saturday the cut-off is after it closes, and all leaves
		"2026-12-05 13:00": "2026-12-07 17:00", // that day is over
		"2026-12-06 10:00": "2026-12-07 17:00", // a Sunday
		"2026-12-23 16:00": "2026-12-28 17:00", // over the days off and a Sunday
	} {
		at, err := time.ParseInLocation("2006-01-02 15:04", since, zone)
		require.NoError(t, err)
		require.Equal(t, leaves, h.LeavesBy(at).Format("2006-01-02 15:04"), since)
	}
	require.True(t, Hours{}.LeavesBy(time.Now()).IsZero(), "nothing is known")
	shut := Hours{Week: week("08:00-17:00", ""), DaysOff: []DayOff{{From: "2026-01-01", To: "2030-01-01"}}}
	require.True(t, shut.LeavesBy(time.Date(2026, 5, 1, 9, 0, 0, 0, zone)).IsZero(), "closed for years")
}

func TestWhatAPlaceSaysOfToday(t *testing.T) {
	h := Hours{Week: week("08:00-17:00", ""), DaysOff: []DayOff{{From: "2026-12-24", To: "2026-12-24", Why: "Midwinter"},
		{From: "2026-12-25", To: "2026-12-25"}}}
	for at, says := range map[string]string{
		"2026-11-30T07:00:00Z": "opens at 08:00", "2026-11-30T08:00:00Z": "at work until 17:00",
		"2026-11-30T17:00:00Z": "closed since 17:00",
		"2026-11-28T10:00:00Z": "closed today", "2026-12-24T10:00:00Z": "closed today: Midwinter", "2026-12-25T10:00:00Z": "closed today",
	} {
		moment, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		require.Equal(t, says, h.Says(moment), at)
	}
}

func TestHoursThatCannotBe(t *testing.T) {
	for want, h := range map[string]Hours{
		"seven are expected":            {Week: []string{"08:00-17:00"}},
		"Monday: \"8\": a time":         {Week: week("8-17", "")},
		"closes before it opens":        {Week: week("17:00-08:00", "")},
		"hours such as 08:00-17:00":     {Week: week("all day", "")},
		"closed on all days":            {Week: week("", "")},
		"need the hours of the week":    {Cutoff: "14:00"},
		"cut-off: \"noon\"":             {Week: week("08:00-17:00", ""), Cutoff: "noon"},
		"a day such as 2026-12-24":      {Week: week("08:00-17:00", ""), DaysOff: []DayOff{{From: "tomorrow"}}},
		"it ends before it begins":      {Week: week("08:00-17:00", ""), DaysOff: []DayOff{{From: "2026-12-24", To: "2026-12-23"}}},
		"day off \"2026-02-30\": a day": {Week: week("08:00-17:00", ""), DaysOff: []DayOff{{From: "2026-02-30"}}},
	} {
		require.ErrorContains(t, h.Check(), want)
	}
	require.NoError(t, new(Hours).Check())
}

// TestNothingLeavesBeforeItCame, nor on a day on which the place is closed, and what comes later never leaves earlier.
func TestNothingLeavesBeforeItCame(t *testing.T) {
	h := Hours{Week: week("08:00-17:00", "09:00-12:00"), Cutoff: "11:00", DaysOff: []DayOff{{From: "2026-12-24", To: "2026-12-26"}}}
	random := rand.New(rand.NewPCG(1, 2))
	for range 5000 {
		first := time.Unix(1_790_000_000+random.Int64N(30_000_000), 0).UTC()
		later := first.Add(time.Duration(random.Int64N(500_000)) * time.Second)
		by, next := h.LeavesBy(first), h.LeavesBy(later)
		require.True(t, by.After(first))
		_, closes, works := h.Works(by)
		require.True(t, works)
		require.Equal(t, closes, by)
		require.False(t, next.Before(by))
	}
}
