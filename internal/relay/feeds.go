package relay

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/robfig/cron/v3"

	"openrelay/internal/connector"
	"openrelay/internal/store"
)

type runRequest struct {
	kind, cause, from string
	started           chan int64
}

// inLoop decides on what is received.
func (r *Relay) inLoop(c *conn) {
	poke(c.wakeIn) // what waited since the last end
	for {
		select {
		case <-r.ctx.Done():
			return
		case <-c.wakeIn:
		}
		if err := r.decideAll(c); err != nil && r.ctx.Err() == nil {
			r.log.Error("decisions failed, trying again", "connection", c.rec.Code, "error", err)
			r.after(time.Second, c.wakeIn)
		}
	}
}

func (r *Relay) after(d time.Duration, ch chan struct{}) {
	r.wg.Add(1)
	go func() {
		defer r.wg.Done()
		select {
		case <-r.ctx.Done():
		case <-time.After(d):
			poke(ch)
		}
	}()
}

// readLoop reads the feeds of a connection when they are due.
func (r *Relay) readLoop(c *conn) {
	for {
		wait := time.Minute
		for kind := range c.line.Def.Feeds {
			if at, ok := r.due(c, kind); ok {
				wait = min(wait, at.Sub(r.now()))
			}
		}
		timer := time.NewTimer(max(wait, 0))
		select {
		case <-r.ctx.Done():
			timer.Stop()
			return
		case req := <-c.runNow:
			timer.Stop()
			if err := r.read(c, req); err != nil {
				r.log.Warn("run failed", "connection", c.rec.Code, "feed", req.kind, "error", err)
			}
		case <-timer.C:
			for kind := range c.line.Def.Feeds {
				if at, ok := r.due(c, kind); ok && !at.After(r.now()) {
					if err := r.read(c, runRequest{kind: kind, cause: "schedule"}); err != nil {
						r.log.Warn("run failed", "connection", c.rec.Code, "feed", kind, "error", err)
					}
				}
			}
		}
	}
}

// due tells when a feed is to be read next; false where it is off or never read.
func (r *Relay) due(c *conn, kind string) (time.Time, bool) {
	def := c.line.Def.Feeds[kind]
	f, on := r.feed(c, kind)
	if !on || def.Read == nil {
		return time.Time{}, false
	}
	last := store.Time(f.LastTryAt)
	if last.IsZero() {
		return r.now(), true
	}
	if f.Failures > 0 { // sooner than the schedule at first, then slower
		return last.Add(min(time.Minute, time.Second<<min(f.Failures, 6))), true
	}
	s, err := ParseSchedule(f.Schedule, time.Duration(def.Read.Every))
	if err != nil {
		return time.Time{}, false
	}
	return s.Next(last), true
}

// ParseSchedule reads a schedule: five cron fields, "@every 30s", or empty for the connector's own.
func ParseSchedule(text string, own time.Duration) (cron.Schedule, error) {
	if text == "" {
		return cron.ConstantDelaySchedule{Delay: own}, nil
	}
	s, err := cron.ParseStandard(text)
	if err != nil {
		return nil, Refuse("schedule %q: five cron fields or @every 30s are expected", text)
	}
	return s, nil
}

// read carries out one run of a feed.
func (r *Relay) read(c *conn, req runRequest) error {
	f, _ := r.feed(c, req.kind)
	mark := f.Mark
	if req.from != "" {
		mark = req.from
	}
	var run int64
	ensure := func(t *store.Tx) (err error) {
		if run == 0 {
			run, err = t.StartRun(f.ID, req.cause, r.now())
		}
		return err
	}
	if req.cause != "schedule" {
		if err := r.Store.Write(r.ctx, ensure); err != nil {
			return err
		}
		if req.started != nil {
			req.started <- run
		}
	}
	page := 0
	high, err := c.line.Read(r.ctx, req.kind, mark, func(records []connector.Record) error {
		page++
		kept, kerr := r.keepPage(c, f, &run, ensure, page, records)
		if kept > 0 {
			poke(c.wakeIn)
		}
		return kerr
	})
	if err != nil && r.ctx.Err() != nil {
		return nil // stopping is no failure; the run is closed at the next start
	}
	commitErr := r.commit(r.ctx, func(ch *change) error {
		ch.tell("feed", c.rec.Code)
		if err != nil {
			if e := ensure(ch.Tx); e != nil {
				return e
			}
			if e := ch.LogRun(run, "error", err.Error(), ch.now); e != nil {
				return e
			}
			if e := ch.EndRun(run, "failed", err.Error(), ch.now); e != nil {
				return e
			}
			return ch.FeedFailed(f.ID, err.Error(), ch.now)
		}
		if run != 0 {
			if e := ch.EndRun(run, "done", "", ch.now); e != nil {
				return e
			}
		}
		if high < f.Mark {
			high = f.Mark // a backfill does not turn the mark back
		}
		return ch.FeedWent(f.ID, high, ch.now)
	})
	if commitErr == nil {
		r.mu.Lock()
		if k := c.feeds[req.kind]; k != nil {
			k.LastTryAt = r.now().UnixMicro()
			if err != nil {
				k.Failures++
				k.LastError = err.Error()
			} else {
				k.Failures, k.LastError, k.Mark, k.LastOKAt = 0, "", high, r.now().UnixMicro()
			}
		}
		r.mu.Unlock()
	}
	return errors.Join(err, commitErr)
}

// keepPage keeps the records of a page and counts them.
func (r *Relay) keepPage(c *conn, f store.Feed, run *int64, ensure func(*store.Tx) error, page int, records []connector.Record) (int, error) {
	var msgs []store.Received
	var bad []error
	for _, rec := range records {
		if rec.Err != nil {
			bad = append(bad, rec.Err)
			continue
		}
		version := rec.Version
		if c.line.Def.Feeds[f.Kind].Version.Text == "" {
			// A feed without versions: every reading counts as new. Listings change without saying so.
			version = r.now().UnixMicro()
		}
		msgs = append(msgs, store.Received{OutsideID: rec.ID, Version: version, Raw: rec.Raw})
	}
	kept := 0
	err := r.Store.Write(r.ctx, func(t *store.Tx) (err error) {
		if *run == 0 {
			known, err := t.KnownInbox(c.rec.ID, f.Kind, msgs)
			if err != nil {
				return err
			}
			if known == len(msgs) && len(bad) == 0 {
				return nil
			}
		}
		if err := ensure(t); err != nil {
			return err
		}
		if kept, err = t.Receive(c.rec.ID, f.Kind, "poll", *run, msgs, r.now()); err != nil {
			return err
		}
		y := store.Tally{Found: int64(len(records)), Skipped: int64(len(msgs) - kept), Failed: int64(len(bad))}
		if y.Skipped > 0 {
			y.Reasons = map[string]int64{"this version is known": y.Skipped}
		}
		if err := t.AddToRun(*run, y); err != nil {
			return err
		}
		for _, e := range bad {
			if err := t.LogRun(*run, "error", e.Error(), r.now()); err != nil {
				return err
			}
		}
		return t.LogRun(*run, "info", fmt.Sprintf("page %d: %d records, %d to be looked at", page, len(records), kept), r.now())
	})
	return kept, err
}

// RunNow reads a feed at once, from a time on if one is given, and returns the run's number.
func (r *Relay) RunNow(ctx context.Context, code, kind, from, who string) (int64, error) {
	c := r.byCode(code)
	if c == nil {
		return 0, store.ErrNotFound
	}
	def := c.line.Def.Feeds[kind]
	if def == nil {
		return 0, Refuse("%s has no feed %q; it has: %s", c.rec.Name, kind, join(c.line.Def.Kinds()))
	}
	if def.Read == nil {
		if def.Send != nil {
			poke(c.wakeOut)
			return 0, nil
		}
		return 0, Refuse("%q is pushed by the other side and cannot be read", kind)
	}
	if _, on := r.feed(c, kind); !on {
		return 0, &Refused{Text: fmt.Sprintf("%s is off; switch it on first", kind), Conflict: true}
	}
	if from != "" {
		if _, err := time.Parse(time.RFC3339, from); err != nil {
			return 0, Refuse("from %q: a time such as 2026-01-31T00:00:00Z is expected", from)
		}
	}
	req := runRequest{kind: kind, cause: "by " + who, from: from, started: make(chan int64, 1)}
	select {
	case c.runNow <- req:
	case <-ctx.Done():
		return 0, ctx.Err()
	default:
		return 0, &Refused{Text: "several runs of this connection wait already", Conflict: true}
	}
	select {
	case id := <-req.started:
		return id, nil
	case <-ctx.Done():
		return 0, ctx.Err()
	case <-time.After(3 * time.Second):
		return 0, nil // queued behind a run that goes on
	}
}

// SetFeed switches a feed on or off and sets its schedule.
func (r *Relay) SetFeed(ctx context.Context, code, kind string, on bool, schedule string, revision int64, who string) error {
	c := r.byCode(code)
	if c == nil {
		return store.ErrNotFound
	}
	f, _ := r.feed(c, kind)
	if f.ID == 0 {
		return store.ErrNotFound
	}
	if _, err := ParseSchedule(schedule, time.Minute); err != nil {
		return err
	}
	err := r.commit(ctx, func(ch *change) error {
		if err := ch.SetFeed(f.ID, on, schedule, revision); err != nil {
			return err
		}
		ch.tell("connection", code)
		text := fmt.Sprintf("%s switched %s", kind, map[bool]string{true: "on", false: "off"}[on])
		if schedule != f.Schedule {
			text += ", schedule " + or(schedule, "of the connector")
		}
		if err := ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "connection", ThingID: c.rec.ID, What: "feed", Text: text}); err != nil {
			return err
		}
		if kind == "stock out" && on && !f.On {
			return r.queueAllOffers(ch, c)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if err := r.reload(ctx); err != nil {
		return err
	}
	poke(c.wakeOut)
	poke(c.wakeIn)
	return nil
}

// queueAllOffers queues the quantity of every matched listing of a connection.
func (r *Relay) queueAllOffers(ch *change, c *conn) error {
	listings, err := ch.MatchedListings(c.rec.ID)
	if err != nil {
		return err
	}
	need := map[int64]bool{}
	for _, l := range listings {
		need[l.ItemID] = true
	}
	r.mu.Lock()
	if f := c.feeds["stock out"]; f != nil {
		f.On = true
	}
	r.mu.Unlock()
	book, err := ch.Book(keys(need))
	if err != nil {
		return err
	}
	return r.queueOffers(ch, book, keys(need))
}

// Pause stops or resumes everything of a connection. What is due waits; nothing is lost.
func (r *Relay) Pause(ctx context.Context, code string, paused bool, revision int64, who string) error {
	c := r.byCode(code)
	if c == nil {
		return store.ErrNotFound
	}
	err := r.commit(ctx, func(ch *change) error {
		if err := ch.PauseConnection(c.rec.ID, paused, revision); err != nil {
			return err
		}
		ch.tell("connection", code)
		text := "Resumed"
		if paused {
			text = "Paused: nothing is read or sent until it is resumed"
		}
		return ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "connection", ThingID: c.rec.ID, What: "connection", Text: text})
	})
	if err != nil {
		return err
	}
	if err := r.reload(ctx); err != nil {
		return err
	}
	poke(c.wakeOut)
	return nil
}
