package freight

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/place"
)

// TestACarrierDeliversByItsOwnCalendar: days on which it does not are not counted.
func TestACarrierDeliversByItsOwnCalendar(t *testing.T) {
	friday := time.Date(2026, 12, 18, 0, 0, 0, 0, time.UTC)
	weekdays := Calendar{Weekdays: []int64{1, 2, 3, 4, 5}, DaysOff: []string{"2026-12-24", "2026-12-25"}}
	for _, c := range []struct {
		calendar Calendar
		days     int64
		want     string
	}{
		{Calendar{}, 1, "2026-12-19"},
		{Calendar{}, 2, "2026-12-21"},
		{weekdays, 1, "2026-12-21"},
		{weekdays, 4, "2026-12-28"},
		{Calendar{Weekdays: []int64{7}}, 2, "2026-12-27"},
		{Calendar{}, 0, "2026-12-18"},
	} {
		require.Equal(t, c.want, c.calendar.Arrival(friday, c.days).Format(time.DateOnly), "%+v", c)
	}
	require.Less(t, Calendar{Weekdays: []int64{9}}.Arrival(friday, 3).Year(), 2029, "a calendar that never delivers ends")
}

// TestCheapestInTime: what was promised is kept, and without a promise the cheapest is taken.
func TestCheapestInTime(t *testing.T) {
	friday := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	offers := []Offer{{"ann", "slow", 400, "2026-11-25", ""}, {"ann", "fast", 900, "2026-11-21", ""}, {"cam", "odd", 390, "", ""}}
	for by, want := range map[string]int{"": 2, "2026-11-25": 0, "2026-11-24": 1, "2026-11-20": -1} {
		require.Equal(t, want, Pick{Way: InTime, By: by}.Of(offers, friday), by)
	}
	pick, err := ParsePick("cheapest in time")
	require.NoError(t, err)
	require.Equal(t, "cheapest in time", pick.String())
}

func TestACollectionSaysWhen(t *testing.T) {
	c := Collection{Carrier: "ann", Place: "alder"}
	require.ErrorContains(t, c.Check(), "is not said")
	c.Hours = place.Hours{Week: []string{"16:00-18:00", "", "", "", "", "", ""}, Cutoff: "25:00"}
	require.ErrorContains(t, c.Check(), "cut-off")
}
