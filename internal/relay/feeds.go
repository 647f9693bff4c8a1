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

// runRequest asks a reader for a run; the zero value asks it to look at its schedule again.
type runRequest struct {
	kind, cause, from string
	started           chan int64
}

// inLoop decides on what is received.
func (r *Relay) inLoop(c *conn) {
	c.wakeIn.now() // what waited since the last end
	for {
		select {
		case <-c.ctx.Done():
			return
		case <-c.wakeIn.ch:
		}
		if err := r.decideAll(c); err != nil && r.ctx.Err() == nil {
			r.log.Error("decisions failed, trying again", "connection", c.rec().Code, "error", err)
			c.wakeIn.in(time.Second)
		} else if at, err := r.Store.NextInbox(r.ctx, c.id); err == nil && !at.IsZero() {
			c.wakeIn.in(max(at.Sub(r.now()), time.Second)) // messages that were put off
		}
	}
}

// readLoop reads one feed of a connection when it is due. A reading of history goes beside the
// scheduled ones, so that what is new does not wait for what is old.
func (r *Relay) readLoop(c *conn, kind string, asked chan runRequest) {
	history := make(chan struct{}, 1) // held by the reading of history that is under way
	for {
		wait := time.Minute
		if at, ok := r.due(c, kind); ok {
			wait = min(wait, at.Sub(r.now()))
		}
		timer := time.NewTimer(max(wait, 0))
		select {
		case <-c.ctx.Done():
			timer.Stop()
			return
		case req := <-asked:
			timer.Stop()
			switch {
			case req.kind == "":
			case req.from != "":
				r.wg.Add(1)
				go func() {
					defer r.wg.Done()
					select {
					case history <- struct{}{}:
						defer func() { <-history }()
						r.run(c, req)
					case <-c.ctx.Done():
					}
				}()
			default:
				r.run(c, req)
			}
		case <-timer.C:
			if at, ok := r.due(c, kind); ok && !at.After(r.now()) {
				r.run(c, runRequest{kind: kind, cause: "schedule"})
			}
		}
	}
}

func (r *Relay) run(c *conn, req runRequest) {
	if err := r.read(c, req); err != nil {
		r.log.Warn("run failed", "connection", c.rec().Code, "feed", req.kind, "error", err)
	}
}

// due tells when a feed is to be read next; false where it is off or never read.
func (r *Relay) due(c *conn, kind string) (time.Time, bool) {
	def := c.line().Def.Feeds[kind]
	f, on := r.feed(c, kind)
	if !on || def == nil || def.Read == nil {
		return time.Time{}, false
	}
	last := store.Time(f.LastTryAt)
	if last.IsZero() {
		return r.now(), true
	}
	if f.Failures > 0 { // sooner than the schedule at first, then slower
		return last.Add(min(time.Minute, time.Second<<min(f.Failures, 6))), true
	}
	every := time.Duration(def.Read.Every)
	if kind == "listings in" && c.reviewing.Load() && f.Schedule == "" {
		every = min(every, reviewPace) // what was submitted is followed more closely
	}
	s, err := ParseSchedule(f.Schedule, every)
	if err != nil {
		return time.Time{}, false
	}
	return s.Next(last), true
}

// reviewPace is how often listings are read while some of ours are being reviewed.
const reviewPace = 15 * time.Second

// listingsMoved looks whether listings are being reviewed, on connections on which some have moved.
func (r *Relay) listingsMoved(_ context.Context, ch *change) error {
	for id := range ch.listed {
		if c := r.byID(id); c != nil {
			r.lookForReviews(c)
		}
	}
	return nil
}

// lookForReviews notes whether listings of ours are being reviewed, and lets the reader of listings look at
// its schedule again.
func (r *Relay) lookForReviews(c *conn) {
	n, err := r.Store.CountInReview(r.ctx, c.id)
	if err != nil {
		return // the next reading asks again
	}
	if before := c.reviewing.Swap(n > 0); before == (n > 0) {
		return
	}
	r.mu.RLock()
	reader := c.readers["listings in"]
	r.mu.RUnlock()
	select {
	case reader <- runRequest{}:
	default:
	}
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
	check := f.Validator
	if req.cause != "schedule" {
		check = "" // who asks for a run wants to see everything
	}
	to, err := c.line().Read(c.ctx, req.kind, connector.Reading{Mark: mark, Check: check, Known: r.known(c, req.kind), Keep: func(records []connector.Record) error {
		page++
		kept, kerr := r.keepPage(c, f, &run, ensure, page, records)
		if kept > 0 {
			c.wakeIn.now()
		}
		if run != 0 {
			r.Bus.Publish([]Event{{Kind: "run", Key: c.rec().Code}})
		}
		return kerr
	}})
	high := to.Mark
	if err != nil && c.ctx.Err() != nil {
		return nil // stopping is no failure; the run is closed at the next start
	}
	failed := f.Failures > 0
	commitErr := r.commit(r.ctx, func(ch *change) error {
		ch.tell("feed", c.rec().Code)
		if err != nil {
			if e := r.lockedOut(ch, c, err); e != nil {
				return e
			}
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
		if req.from != "" {
			high = f.Mark // reading history leaves the mark alone
		} else if to.Check != f.Validator {
			if e := ch.SetValidator(f.ID, to.Check); e != nil {
				return e
			}
		}
		if failed {
			if e := ch.CloseConnectionException(c.id, credentialsRefused, ch.now); e != nil {
				return e
			}
			ch.tell("exception", "")
		}
		return ch.FeedWent(f.ID, high, ch.now)
	})
	if commitErr == nil {
		now := r.now().UnixMicro()
		r.onFeed(c, req.kind, func(k *store.Feed) {
			k.LastTryAt = now
			if err != nil {
				k.Failures++
				k.LastError = err.Error()
				return
			}
			k.Failures, k.LastError, k.LastOKAt = 0, "", now
			if req.from == "" {
				k.Mark, k.Validator = high, to.Check
			}
		})
	}
	return errors.Join(err, commitErr)
}

// known tells which records of a feed were kept before; feeds without versions know none.
func (r *Relay) known(c *conn, kind string) func([]connector.Record) ([]bool, error) {
	if def := c.line().Def.Feeds[kind]; !def.Version.Set() {
		return nil
	}
	return func(records []connector.Record) ([]bool, error) {
		msgs := make([]store.Received, len(records))
		for i, rec := range records {
			msgs[i] = store.Received{OutsideID: rec.ID, Version: rec.Version}
		}
		return r.Store.KnownVersions(r.ctx, c.id, kind, msgs)
	}
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
		if c.line().Def.Feeds[f.Kind].Version.Text == "" {
			// A feed without versions: every reading counts as new. Listings change without saying so.
			version = r.now().UnixMicro()
		}
		msgs = append(msgs, store.Received{OutsideID: rec.ID, Version: version, Raw: rec.Raw})
	}
	kept := 0
	err := r.Store.Write(r.ctx, func(t *store.Tx) (err error) {
		if *run == 0 {
			known, err := t.KnownInbox(c.rec().ID, f.Kind, msgs)
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
		if kept, err = t.Receive(c.rec().ID, f.Kind, "poll", *run, msgs, r.now()); err != nil {
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
	def := c.line().Def.Feeds[kind]
	if def == nil {
		return 0, Refuse("%s has no feed %q; it has: %s", c.rec().Name, kind, join(c.line().Def.Kinds()))
	}
	if def.Read == nil {
		if def.Send != nil {
			c.wakeOut.now()
			return 0, nil
		}
		return 0, Refuse("%q is pushed by the other side and cannot be read", kind)
	}
	if st := c.rec().State; st != store.On {
		return 0, &Refused{Text: fmt.Sprintf("%s is not at work: it is %s", c.rec().Name, st), Conflict: true}
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
	r.mu.RLock()
	reader := c.readers[kind]
	r.mu.RUnlock()
	select {
	case reader <- req:
	case <-ctx.Done():
		return 0, ctx.Err()
	default:
		return 0, &Refused{Text: "several runs of this feed wait already", Conflict: true}
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

// onFeed changes what memory knows of a feed; the file is written by the change that was committed before.
func (r *Relay) onFeed(c *conn, kind string, f func(*store.Feed)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if k := c.feeds[kind]; k != nil {
		f(k)
	}
}

// work begins the goroutines of a connection. The caller holds the lock.
func (r *Relay) work(c *conn) {
	for _, loop := range []func(*conn){r.inLoop, r.outLoop} {
		r.wg.Add(1)
		go func() { defer r.wg.Done(); loop(c) }()
	}
	r.readAll(c)
}

// readAll begins a reader for each feed that can be read and has none yet, so that a long reading of
// one feed does not delay the others. The caller holds the lock.
func (r *Relay) readAll(c *conn) {
	for kind, f := range c.line().Def.Feeds {
		if f.Read == nil || c.readers[kind] != nil {
			continue
		}
		ch := make(chan runRequest, 8)
		c.readers[kind] = ch
		r.wg.Add(1)
		go func() { defer r.wg.Done(); r.readLoop(c, kind, ch) }()
	}
}
