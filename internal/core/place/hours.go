package place

import (
	"fmt"
	"strings"
	"time"
)

// Hours are when a place is at work. The zero value says nothing: such a place is taken to be always at work.
type Hours struct {
	Week    []string `json:"week,omitempty" yaml:"week,omitempty" maxItems:"7" doc:"Seven, from Monday: such as 08:00-17:00; empty: closed that day"`
	Cutoff  string   `json:"cutoff,omitempty" yaml:"cutoff,omitempty" doc:"HH:MM: what comes by then leaves the same day; empty: until it closes" maxLength:"5"`
	DaysOff []DayOff `json:"days_off,omitempty" yaml:"days_off,omitempty" maxItems:"400" doc:"When it is closed all the same"`
}

// DayOff is a span of days on which a place is closed, both ends included.
type DayOff struct {
	From string `json:"from" yaml:"from" doc:"YYYY-MM-DD" maxLength:"10"`
	To   string `json:"to,omitempty" yaml:"to,omitempty" doc:"YYYY-MM-DD; empty: that day only" maxLength:"10"`
	Why  string `json:"why,omitempty" yaml:"why,omitempty" maxLength:"100"`
}

// Said tells whether anything is known of when the place is at work.
func (h Hours) Said() bool { return len(h.Week) > 0 }

// clock reads HH:MM as minutes since midnight.
func clock(text string) (int, error) {
	t, err := time.Parse("15:04", text)
	if err != nil {
		return 0, fmt.Errorf("%q: a time such as 08:00 is expected", text)
	}
	return t.Hour()*60 + t.Minute(), nil
}

// span reads 08:00-17:00; closed is an empty one.
func span(text string) (from, to int, closed bool, err error) {
	if text == "" {
		return 0, 0, true, nil
	}
	a, b, ok := strings.Cut(text, "-")
	if !ok {
		return 0, 0, false, fmt.Errorf("%q: hours such as 08:00-17:00 are expected", text)
	}
	if from, err = clock(strings.TrimSpace(a)); err != nil {
		return 0, 0, false, err
	}
	if to, err = clock(strings.TrimSpace(b)); err != nil {
		return 0, 0, false, err
	}
	if to <= from {
		return 0, 0, false, fmt.Errorf("%q: it closes before it opens", text)
	}
	return from, to, false, nil
}

// Check tidies the hours and says what cannot be.
func (h *Hours) Check() error {
	for i := range h.Week {
		h.Week[i] = strings.TrimSpace(h.Week[i])
	}
	h.Cutoff = strings.TrimSpace(h.Cutoff)
	open := false
	for i, text := range h.Week {
		_, _, closed, err := span(text)
		if err != nil {
			return fmt.Errorf("%s: %w", dayNames[i%7], err)
		}
		open = open || !closed
	}
	switch {
	case len(h.Week) == 0 && (h.Cutoff != "" || len(h.DaysOff) > 0):
		return fmt.Errorf("a cut-off and days off need the hours of the week")
	case len(h.Week) != 0 && len(h.Week) != 7:
		return fmt.Errorf("week: %d days are said, seven are expected", len(h.Week))
	case len(h.Week) == 7 && !open:
		return fmt.Errorf("it is closed on all days of the week; archive a place that is not used any more")
	}
	if h.Cutoff != "" {
		if _, err := clock(h.Cutoff); err != nil {
			return fmt.Errorf("cut-off: %w", err)
		}
	}
	for i := range h.DaysOff {
		d := &h.DaysOff[i]
		d.From, d.To, d.Why = strings.TrimSpace(d.From), strings.TrimSpace(d.To), strings.TrimSpace(d.Why)
		if d.To == "" {
			d.To = d.From
		}
		for _, text := range []string{d.From, d.To} {
			if _, err := time.Parse(time.DateOnly, text); err != nil {
				return fmt.Errorf("day off %q: a day such as 2026-12-24 is expected", text)
			}
		}
		if d.To < d.From {
			return fmt.Errorf("day off %s: it ends before it begins", d.From)
		}
	}
	return nil
}

var dayNames = []string{"Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"}

// Off says why a place is closed all the same on the day of t, or nothing.
func (h Hours) Off(t time.Time) (why string, off bool) {
	day := t.Format(time.DateOnly)
	for _, d := range h.DaysOff {
		if d.From <= day && day <= d.To {
			return d.Why, true
		}
	}
	return "", false
}

// Works is when a place is at work on the day of t, on the clocks of t's time zone.
func (h Hours) Works(t time.Time) (from, to time.Time, works bool) {
	if len(h.Week) != 7 {
		return from, to, false
	}
	if _, off := h.Off(t); off {
		return from, to, false
	}
	a, b, closed, err := span(h.Week[(int(t.Weekday())+6)%7])
	if closed || err != nil {
		return from, to, false
	}
	return onDay(t, a), onDay(t, b), true
}

// onDay is a time of the day of t. Where clocks are turned it is what they show, not hours since midnight.
func onDay(t time.Time, minutes int) time.Time {
	y, m, d := t.Date()
	return time.Date(y, m, d, minutes/60, minutes%60, 0, 0, t.Location())
}

// horizon is how many days ahead a day of work is looked for.
const horizon = 400

// LeavesBy is when what can be worked on since a moment should have left: by the end of that day's work where it came
// before the cut-off, else of the next. The zero time: nothing is known of the place's hours, or it is closed for a year.
func (h Hours) LeavesBy(since time.Time) time.Time {
	for day := range horizon {
		t := onDay(since.AddDate(0, 0, day), 12*60)
		_, closes, works := h.Works(t)
		if !works {
			continue
		}
		last := closes
		if h.Cutoff != "" {
			if at, err := clock(h.Cutoff); err == nil && onDay(t, at).Before(closes) {
				last = onDay(t, at)
			}
		}
		if day == 0 && since.After(last) {
			continue
		}
		return closes
	}
	return time.Time{}
}

// Says tells, in words, whether a place is at work at a moment.
func (h Hours) Says(t time.Time) string {
	opens, closes, works := h.Works(t)
	why, off := h.Off(t)
	switch {
	case off && why != "":
		return "closed today: " + why
	case off || !works:
		return "closed today"
	case t.Before(opens):
		return "opens at " + opens.Format("15:04")
	case t.Before(closes):
		return "at work until " + closes.Format("15:04")
	}
	return "closed since " + closes.Format("15:04")
}
