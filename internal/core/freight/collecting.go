package freight

import (
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/place"
)

// Collection is when a carrier comes to a place: on which days between which hours, until when what is packed goes along that day, and
// on which days it does not come at all.
type Collection struct {
	Carrier string      `json:"carrier" yaml:"carrier" maxLength:"60" doc:"Code of the carrier's connection"`
	Place   string      `json:"place" yaml:"place"   maxLength:"60" doc:"Code of the place"`
	Hours   place.Hours `json:"hours" yaml:"hours"                  doc:"Each day between which hours it comes, and the cut-off for going along"`
}

// Check tidies the row and refuses what cannot be.
func (c *Collection) Check() error {
	if !c.Hours.Said() {
		return fmt.Errorf("on which days %s comes to %s is not said", c.Carrier, c.Place)
	}
	return c.Hours.Check()
}

// Calendar is on which days a carrier delivers. The zero value: Monday to Saturday.
type Calendar struct {
	Weekdays []int64  `json:"weekdays,omitempty" doc:"On which it delivers: 1 Monday to 7 Sunday; none: Monday to Saturday"`
	DaysOff  []string `json:"days_off,omitempty" doc:"YYYY-MM-DD: on which it does not deliver all the same"`
}

// Works tells whether a carrier delivers on a day.
func (c Calendar) Works(d time.Time) bool {
	if slices.Contains(c.DaysOff, d.Format(time.DateOnly)) {
		return false
	}
	if len(c.Weekdays) == 0 {
		return d.Weekday() != time.Sunday
	}
	return slices.Contains(c.Weekdays, int64(d.Weekday()+6)%7+1)
}

// furthest bounds how far ahead a day of delivery is looked for: a calendar that never delivers ends there.
const furthest = 400

// Arrival counts a carrier's working days from the day of hand-over.
func (c Calendar) Arrival(handover time.Time, days int64) time.Time {
	d := handover
	for range furthest {
		if days <= 0 {
			break
		}
		d = d.AddDate(0, 0, 1)
		if c.Works(d) {
			days--
		}
	}
	return d
}
