package relay

import (
	"slices"
	"time"

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
	now := r.now()
	inbox, outbox, err := r.Store.WhatWaits(r.ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range r.sorted() {
		code := c.rec().Code
		if at, waits := inbox[c.id]; waits {
			out = append(out, Step{"decide " + code, later(at, now), func() error { return r.decideAll(c) }})
		}
		if !c.works() {
			continue
		}
		var kinds []string
		for kind := range c.line().Def.Feeds {
			kinds = append(kinds, kind)
		}
		slices.Sort(kinds)
		sends := false
		for _, kind := range kinds {
			f, on := r.feed(c, kind)
			sends = sends || on && c.line().Def.Feeds[kind].Send != nil
			if at, ok := r.due(c, kind); ok && f.ID != 0 {
				out = append(out, Step{"read " + code + " " + kind, at, func() error { r.run(c, runRequest{kind: kind, cause: "schedule"}); return nil }})
			}
		}
		if at, waits := outbox[c.id]; sends && waits {
			at = later(at, c.stockSent.Add(stockPace))
			out = append(out, Step{"send " + code, at, func() error { _, err := r.sendDue(c); return err }})
		}
	}
	jobs, err := r.Store.NextJobs(r.ctx)
	if err != nil {
		return nil, err
	}
	for _, kind := range jobKinds {
		if at, waits := jobs[string(kind)]; waits {
			out = append(out, Step{"job " + string(kind), later(at, now), func() error { _, err := r.workJob(kind); return err }})
		}
	}
	if at, err := r.Store.NextNotice(r.ctx); err != nil {
		return nil, err
	} else if !at.IsZero() {
		out = append(out, Step{"tell", later(at, now), func() error { _, err := r.Tell(r.ctx); return err }})
	}
	return append(out, Step{"watch", r.nextWatch(), func() error {
		at, err := r.Watch(r.ctx)
		r.mu.Lock()
		r.watchAt = later(at, r.now().Add(time.Second))
		if at.IsZero() {
			r.watchAt = r.now().Add(10 * time.Minute)
		}
		r.mu.Unlock()
		return err
	}}), nil
}

// nextWatch is when a relay that is driven by hand looks again at what is due.
func (r *Relay) nextWatch() time.Time {
	select {
	case <-r.wakeWatch.ch:
		return r.now()
	default:
	}
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.watchAt
}

// Waits tells whether nothing waits to be decided or sent, or confirmed.
func (r *Relay) Waits() (bool, error) {
	n, err := r.Store.CountWaitingInbox(r.ctx)
	if err != nil || n > 0 {
		return true, err
	}
	open, err := r.Store.OpenOutbox(r.ctx)
	for _, states := range open {
		if states[store.Waiting]+states[store.Sending]+states[store.Sent] > 0 {
			return true, err
		}
	}
	return false, err
}
