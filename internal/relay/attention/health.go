package attention

import (
	"context"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Limits beyond which the service is not well.
const (
	leastRoom     = 1 << 30          // bytes that are to be free on the disk, or this part of it:
	leastPart     = 20               // a twentieth
	noRoom        = 64 << 20         // with less, what comes in may not be kept
	longestWrite  = 10 * time.Second // a change takes milliseconds
	mostClockOff  = time.Minute
	deadAfter     = 30 * time.Minute // without an answer
	backlogAfter  = 30 * time.Minute // the oldest message waits
	healthPace    = time.Minute
	ahead         = 2 * time.Minute // so much the file may be ahead of the clock
	stateWell     = "well"
	stateWantsUs  = "wants a look"
	stateFailing  = "failing"
	subjectDisk   = "disk"
	subjectClock  = "clock"
	subjectWriter = "file"
)

// Check is one thing that was looked at.
type Check struct {
	Name  string `json:"name"`
	State string `json:"state" enum:"well,wants a look,failing"`
	Text  string `json:"text,omitempty"`

	raise []store.Exception
}

// Health is how the service stands: as well as the worst of what was looked at.
type Health struct {
	State  string  `json:"status"`
	Checks []Check `json:"checks"`
}

// Health looks at the disk, the file, the clock, the connections and what waits.
func (r *Attention) Health(ctx context.Context) (Health, error) {
	h := Health{State: stateWell}
	checks := []Check{r.diskCheck(), r.fileCheck()}
	for _, check := range []func(context.Context) (Check, error){r.clockCheck, r.connectionCheck, r.backlogCheck} {
		c, err := check(ctx)
		if err != nil {
			return h, err
		}
		checks = append(checks, c)
	}
	h.Checks = checks
	for _, c := range checks {
		if c.State == stateFailing || h.State == stateWell {
			h.State = c.State
		}
	}
	return h, nil
}

// unwell is a check of the service itself that found something.
func unwell(name, state, text, expected string) Check {
	return Check{Name: name, State: state, Text: text, raise: []store.Exception{{Cause: engine.ServiceUnwell, Subject: name,
		Text: text, Expected: expected}}}
}

func (r *Attention) diskCheck() Check {
	free, total, err := r.Room()
	if err != nil {
		return unwell(subjectDisk, stateWantsUs, "How much room the disk has could not be read", "a disk that can be asked")
	}
	return diskState(free, total)
}

// diskState judges the room of a disk, in bytes.
func diskState(free, total uint64) Check {
	text := fmt.Sprintf("The disk of the company's file has %.1f GB left of %.1f", float64(free)/1e9, float64(total)/1e9)
	switch {
	case free < noRoom:
		return unwell(subjectDisk, stateFailing, text+"; what comes in may not be kept", "room on the disk")
	case free < min(leastRoom, total/leastPart):
		return unwell(subjectDisk, stateWantsUs, text, "room on the disk")
	}
	return Check{Name: subjectDisk, State: stateWell}
}

func (r *Attention) fileCheck() Check {
	if took := r.Store.Writing(); took > longestWrite {
		return unwell(subjectWriter, stateFailing, fmt.Sprintf("A change has held the company's file for %d seconds", int(took.Seconds())),
			"a disk that answers; a new start, if it does not")
	}
	return Check{Name: subjectWriter, State: stateWell}
}

func (r *Attention) clockCheck(ctx context.Context) (Check, error) {
	newest, err := r.Store.Newest(ctx)
	if err != nil {
		return Check{}, err
	}
	const expected = "a clock that is set by the network"
	if by := newest.Sub(r.Clock()); by > ahead {
		return unwell(subjectClock, stateWantsUs, fmt.Sprintf("The clock is %s behind what happened already", coarse(by)), expected), nil
	}
	if off := r.ClockOff(); off.Abs() > mostClockOff {
		word := "behind"
		if off < 0 {
			word = "ahead of"
		}
		return unwell(subjectClock, stateWantsUs, fmt.Sprintf("The clock is %s %s the other systems'", coarse(off.Abs()), word),
			expected), nil
	}
	return Check{Name: subjectClock, State: stateWell}, nil
}

func coarse(d time.Duration) string {
	if d < 2*time.Hour {
		return fmt.Sprintf("%d minutes", int(d.Minutes()))
	}
	return fmt.Sprintf("%d hours", int(d.Hours()))
}

// connectionCheck finds connections at work whose other side has not answered for long.
func (r *Attention) connectionCheck(context.Context) (Check, error) {
	out := Check{Name: "connections", State: stateWell}
	now := r.Clock()
	for _, c := range r.Sorted() {
		if !c.Works() {
			continue
		}
		var kinds []message.Feed
		for kind := range c.Line().Def.Feeds {
			f, on := r.Feed(c, kind)
			if on && f.FailingAt != 0 && now.Sub(store.Time(f.FailingAt)) > deadAfter {
				kinds = append(kinds, kind)
			}
		}
		if len(kinds) == 0 {
			continue
		}
		slices.Sort(kinds)
		out.raise = append(out.raise, store.Exception{Cause: engine.ConnectionDead, ConnectionID: c.ID,
			Text:     fmt.Sprintf("%s has not answered for long: %s", c.Rec().Name, kinds[0]),
			Expected: "the other side to answer again, or the connection to be paused"})
	}
	if n := len(out.raise); n > 0 {
		out.State, out.Text = stateWantsUs, engine.Counted(int64(n), "connection does not answer", "connections do not answer")
	}
	return out, nil
}

// backlogCheck finds connections at work at which messages wait for long, either way.
func (r *Attention) backlogCheck(ctx context.Context) (Check, error) {
	out := Check{Name: "backlog", State: stateWell}
	waiting, err := r.Store.Queued(ctx)
	if err != nil {
		return out, err
	}
	before := r.Clock().Add(-backlogAfter).UnixMicro()
	total := int64(0)
	for _, c := range r.Sorted() {
		w := waiting[c.ID]
		if !c.Works() {
			continue
		}
		for _, side := range []struct {
			since, n int64
			text     string
		}{{w.OutSince, w.Out, "wait to be sent to"}, {w.InSince, w.In, "wait to be taken in from"}} {
			if side.since == 0 || side.since > before {
				continue
			}
			total += side.n
			out.raise = append(out.raise, store.Exception{Cause: engine.Backlog, ConnectionID: c.ID, Subject: side.text,
				Text: fmt.Sprintf("%s %s %s, the oldest for more than half an hour", engine.Counted(side.n, "message", "messages"),
					side.text, c.Rec().Name),
				Expected: "the connection to work again; what waits then goes by itself"})
		}
	}
	if total > 0 {
		out.State, out.Text = stateWantsUs, engine.Counted(total, "message waits for long", "messages wait for long")
	}
	return out, nil
}

// healthCauses are raised and ended by what is looked at here.
var healthCauses = []order.Cause{engine.ServiceUnwell, engine.ConnectionDead, engine.Backlog}

// WatchHealth raises what is not well, and ends what is well again. It returns when it looks again.
func (r *Attention) WatchHealth(ctx context.Context) (next time.Time, err error) {
	next = r.Clock().Add(healthPace)
	h, err := r.Health(ctx)
	if err != nil {
		return next, err
	}
	var names []string
	for _, c := range healthCauses {
		names = append(names, string(c))
	}
	open, err := r.Store.OpenCauses(ctx, names)
	if err != nil {
		return next, err
	}
	type key struct {
		cause      order.Cause
		subject    string
		connection int64
	}
	have := map[key]store.Exception{}
	for _, e := range open {
		have[key{e.Cause, e.Subject, e.ConnectionID}] = e
	}
	var raise []store.Exception
	for _, c := range h.Checks {
		for _, e := range c.raise {
			k := key{e.Cause, e.Subject, e.ConnectionID}
			if _, there := have[k]; !there {
				raise = append(raise, e)
			}
			delete(have, k)
		}
	}
	if len(raise) == 0 && len(have) == 0 {
		return next, nil
	}
	return next, r.Commit(ctx, func(ch *engine.Change) error {
		ch.Watch = true
		ch.Tell("exception", "")
		for _, e := range raise {
			if err := ch.Raise(e, ch.Now); err != nil {
				return err
			}
		}
		for _, e := range have {
			if err := ch.CloseException(e.ID, "relay", ch.Now); err != nil {
				return err
			}
		}
		return nil
	})
}
