package relay

import (
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// Step is one thing that a relay may do next: what its goroutines do by themselves once it has started. A relay
// that was not started can be driven step by step, in any order, which is how it is tried out under all
// circumstances (see internal/whole/sim).
type Step struct {
	Name string // decide, send, read, job, tell or watch, with the connection and the feed
	At   time.Time
	do   func() error
}

// Do carries the step out. What goes wrong at the other side is not an error: it is noted, and tried again when
// its time has come.
func (s Step) Do() error { return s.do() }

// Steps lists what a relay that was not started may do now or later, with the time from which it may. The order
// is always the same.
func (r *Relay) Steps() ([]Step, error) {
	var out []Step
	now := r.Clock()
	inbox, outbox, err := r.Store.WhatWaits(r.Ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range r.Sorted() {
		code := c.Rec().Code
		if at, waits := inbox[c.ID]; waits && !c.Rec().Paused {
			out = append(out, Step{"decide " + code, engine.Later(at, now), func() error { return r.DecideAll(c) }})
		}
		if !c.Works() {
			continue
		}
		var kinds []message.Feed
		for kind := range c.Line().Def.Feeds {
			kinds = append(kinds, kind)
		}
		slices.Sort(kinds)
		sends := false
		for _, kind := range kinds {
			f, on := r.Feed(c, kind)
			sends = sends || on && c.Line().Def.Feeds[kind].Send != nil
			if at, ok := r.Due(c, kind); ok && f.ID != 0 {
				out = append(out, Step{"read " + code + " " + string(kind), at, func() error {
					r.Run(c, engine.RunRequest{Kind: kind, Cause: "schedule"})
					return nil
				}})
			}
		}
		if at, waits := outbox[c.ID]; sends && waits {
			out = append(out, Step{"send " + code, nextRound(c, at), func() error { _, err := r.SendDue(c); return err }})
		}
	}
	jobs, err := r.Store.NextJobs(r.Ctx)
	if err != nil {
		return nil, err
	}
	for _, kind := range engine.JobKinds {
		if at, waits := jobs[string(kind)]; waits {
			out = append(out, Step{"job " + string(kind), engine.Later(at, now), func() error { _, err := r.WorkJob(kind); return err }})
		}
	}
	if at, err := r.Store.NextNotice(r.Ctx); err != nil {
		return nil, err
	} else if !at.IsZero() {
		out = append(out, Step{"tell", engine.Later(at, now), func() error { _, err := r.Tell(r.Ctx); return err }})
	}
	return append(out, Step{"watch", r.nextWatch(), func() error {
		at, err := r.Watch(r.Ctx)
		at = engine.Later(at, r.Clock().Add(time.Second))
		if at.IsZero() {
			at = r.Clock().Add(10 * time.Minute)
		}
		r.watchAt.Store(&at)
		return err
	}}), nil
}

// nextRound is when a connection sends what waits since a moment.
func nextRound(c *engine.Conn, at time.Time) time.Time {
	if c.LastUnits.Load() {
		return at
	}
	return engine.Later(at, c.StockSent.Add(exchange.StockPace))
}

// nextWatch is when a relay that is driven by hand looks again at what is due.
func (r *Relay) nextWatch() time.Time {
	select {
	case <-r.WakeWatch.Ch:
		return r.Clock()
	default:
	}
	if at := r.watchAt.Load(); at != nil {
		return *at
	}
	return time.Time{}
}

// Waits tells whether nothing waits to be decided or sent, or confirmed.
func (r *Relay) Waits() (bool, error) {
	n, err := r.Store.CountWaitingInbox(r.Ctx)
	if err != nil || n > 0 {
		return true, err
	}
	open, err := r.Store.OpenOutbox(r.Ctx)
	for _, states := range open {
		if states[store.Waiting]+states[store.Sending]+states[store.Sent] > 0 {
			return true, err
		}
	}
	return false, err
}
