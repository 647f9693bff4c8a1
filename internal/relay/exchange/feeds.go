package exchange

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/robfig/cron/v3"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// inLoop decides on what is received.
func (r *Exchange) inLoop(c *engine.Conn) {
	c.WakeIn.Now() // what waited since the last end
	for {
		select {
		case <-c.Ctx.Done():
			return
		case <-c.WakeIn.Ch:
		}
		if err := r.DecideAll(c); err != nil && r.Ctx.Err() == nil {
			r.Log.Error("decisions failed, trying again", "connection", c.Rec().Code, "error", err)
			c.WakeIn.In(time.Second)
		} else if at, err := r.Store.NextInbox(r.Ctx, c.ID); err == nil && !at.IsZero() && !c.Rec().Paused {
			c.WakeIn.In(max(at.Sub(r.Clock()), time.Second)) // messages that were put off
		}
	}
}

// readLoop reads one feed of a connection when it is due. A reading of history goes beside the
// scheduled ones, so that what is new does not wait for what is old.
func (r *Exchange) readLoop(c *engine.Conn, kind message.Feed, asked chan engine.RunRequest) {
	history := make(chan struct{}, 1) // held by the reading of history that is under way
	for {
		wait := time.Minute
		if at, ok := r.Due(c, kind); ok {
			wait = min(wait, at.Sub(r.Clock()))
		}
		timer := time.NewTimer(max(wait, 0))
		select {
		case <-c.Ctx.Done():
			timer.Stop()
			return
		case req := <-asked:
			timer.Stop()
			switch {
			case req.Kind == "":
			case req.From != "":
				r.Go(func() {
					select {
					case history <- struct{}{}:
						defer func() { <-history }()
						r.Run(c, req)
					case <-c.Ctx.Done():
					}
				})
			default:
				r.Run(c, req)
			}
		case <-timer.C:
			if at, ok := r.Due(c, kind); ok && !at.After(r.Clock()) {
				r.Run(c, engine.RunRequest{Kind: kind, Cause: "schedule"})
			}
		}
	}
}

func (r *Exchange) Run(c *engine.Conn, req engine.RunRequest) {
	if err := r.read(c, req); err != nil {
		r.Log.Warn("run failed", "connection", c.Rec().Code, "feed", req.Kind, "error", err)
	}
}

// Due tells when a feed is to be read next; false where it is off or never read.
func (r *Exchange) Due(c *engine.Conn, kind message.Feed) (time.Time, bool) {
	def := c.Line().Def.Feeds[kind]
	f, on := r.Feed(c, kind)
	if !on || def == nil || def.Read == nil {
		return time.Time{}, false
	}
	last := store.Time(f.LastTryAt)
	if last.IsZero() {
		return r.Clock(), true
	}
	if f.Failures > 0 { // sooner than the schedule at first, then slower
		return last.Add(min(time.Minute, time.Second<<min(f.Failures, 6))), true
	}
	every := time.Duration(def.Read.Every)
	if kind == message.ListingsIn && c.Reviewing.Load() && f.Schedule == "" {
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

// ListingsMoved looks whether listings are being reviewed, on connections on which some have moved.
func (r *Exchange) ListingsMoved(_ context.Context, ch *engine.Change) error {
	for id := range ch.Listed {
		if c := r.ByID(id); c != nil {
			r.lookForReviews(c)
		}
	}
	return nil
}

// lookForReviews notes whether listings of ours are being reviewed, and lets the reader of listings look at
// its schedule again.
func (r *Exchange) lookForReviews(c *engine.Conn) {
	n, err := r.Store.CountInReview(r.Ctx, c.ID)
	if err != nil {
		return // the next reading asks again
	}
	if before := c.Reviewing.Swap(n > 0); before == (n > 0) {
		return
	}
	select {
	case c.Reader(message.ListingsIn) <- engine.RunRequest{}:
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
		return nil, engine.Refuse("schedule %q: five cron fields or @every 30s are expected", text)
	}
	return s, nil
}

// read carries out one run of a feed.
func (r *Exchange) read(c *engine.Conn, req engine.RunRequest) error {
	f, _ := r.Feed(c, req.Kind)
	g := &reading{Exchange: r, c: c, req: req, f: f, high: f.Mark}
	mark, check := f.Mark, f.Validator
	var since time.Time
	if req.From != "" {
		var err error
		if since, err = time.Parse(time.RFC3339, req.From); err != nil {
			return err
		}
	}
	if req.Cause != "schedule" {
		check = "" // who asks for a run wants to see everything
		if err := r.Store.Write(r.Ctx, g.begun); err != nil {
			return err
		}
		if req.Started != nil {
			req.Started <- g.run
		}
	}
	to, err := c.Line().
		Read(c.Ctx, req.Kind, connector.Reading{Mark: mark, Since: since, Check: check, Known: r.known(c, req.Kind), Keep: g.keep,
			About: g.about, Asked: g.asked, Seen: g.seen, Took: g.took, Works: g.works, SeenBy: g.seenBy, Wrote: g.told})
	r.lookSoon(c, req, to.Soon)
	if err != nil && c.Ctx.Err() != nil {
		return nil // stopping is no failure; the run is closed at the next start
	}
	if req.From == "" {
		g.high = to.Mark // reading history leaves the mark alone
	}
	commitErr := r.Commit(r.Ctx, func(ch *engine.Change) error {
		ch.Tell("feed", c.Rec().Code)
		if err != nil {
			return g.failed(ch, err)
		}
		return g.went(ch, to)
	})
	if commitErr == nil {
		g.know(to, err)
	}
	return errors.Join(err, commitErr)
}

// reading is one reading of a feed.
type reading struct {
	*Exchange
	c    *engine.Conn
	req  engine.RunRequest
	f    store.Feed
	run  int64 // 0: nothing came yet that is worth a run
	page int
	high string // the mark reached
}

// begun makes the run of the reading, unless there is one.
func (g *reading) begun(t *store.Tx) (err error) {
	if g.run == 0 {
		g.run, err = t.StartRun(g.f.ID, g.req.Cause, g.Clock())
	}
	return err
}

// keep keeps a page of records.
func (g *reading) keep(records []connector.Record) error {
	g.page++
	kept, err := g.keepPage(g.c, g.f, &g.run, g.begun, g.page, records)
	if kept > 0 {
		g.c.WakeIn.Now()
	}
	if g.run != 0 {
		g.Bus.Publish([]engine.Event{{Kind: "run", Key: g.c.Rec().Code}})
	}
	return err
}

// about lists what is to be asked about where a carrier says one by one where parcels are: what was not asked about in this round.
func (g *reading) about(most int) ([]message.FollowedParcel, error) {
	now := g.Clock()
	since := now.Add(-g.round() / 2)
	if g.req.Cause != "schedule" {
		since = now.Add(-time.Minute) // who asks for a run wants to see all of it
	}
	return g.Store.Followed(g.Ctx, g.c.ID, since, now, most)
}

// round is how often all that is on its way is asked about.
func (g *reading) round() time.Duration {
	if r := g.c.Line().Def.Feeds[g.req.Kind].Read; r.Every > 0 {
		return time.Duration(r.Every)
	}
	return time.Hour
}

func (g *reading) asked(p message.FollowedParcel) error {
	return g.Store.Write(g.Ctx, func(t *store.Tx) error { return t.SetFollowed(g.c.ID, p.Tracking, g.Clock()) })
}

// failed notes that the reading failed, and why.
func (g *reading) failed(ch *engine.Change, why error) error {
	if err := g.lockedOut(ch, g.c, why); err != nil {
		return err
	}
	if err := g.begun(ch.Tx); err != nil {
		return err
	}
	if err := ch.LogRun(g.run, "error", why.Error(), ch.Now); err != nil {
		return err
	}
	if err := ch.EndRun(g.run, "failed", why.Error(), ch.Now); err != nil {
		return err
	}
	return ch.FeedFailed(g.f.ID, why.Error(), ch.Now)
}

// went notes that the reading went well. What was raised about its access is over.
func (g *reading) went(ch *engine.Change, to connector.ReadTo) error {
	if g.run != 0 {
		if err := ch.EndRun(g.run, "done", "", ch.Now); err != nil {
			return err
		}
	}
	if g.req.From == "" && to.Check != g.f.Validator {
		if err := ch.SetValidator(g.f.ID, to.Check); err != nil {
			return err
		}
	}
	if g.f.Failures > 0 {
		if err := ch.CloseConnectionException(g.c.ID, engine.CredentialsRefused, ch.Now); err != nil {
			return err
		}
		ch.Tell("exception", "")
	}
	return ch.FeedWent(g.f.ID, g.high, ch.Now)
}

// know brings memory to what was committed.
func (g *reading) know(to connector.ReadTo, failed error) {
	now := g.Clock().UnixMicro()
	g.KnowFeed(g.c, g.req.Kind, func(k *store.Feed) {
		k.LastTryAt = now
		if failed != nil {
			k.Failures++
			if k.FailingAt == 0 {
				k.FailingAt = now
			}
			k.LastError = failed.Error()
			return
		}
		k.Failures, k.FailingAt, k.LastError, k.LastOKAt = 0, 0, "", now
		if g.req.From == "" {
			k.Mark, k.Validator = g.high, to.Check
		}
	})
}

// known tells which records of a feed were kept before; feeds without versions know none.
func (r *Exchange) known(c *engine.Conn, kind message.Feed) func([]connector.Record) ([]bool, error) {
	if def := c.Line().Def.Feeds[kind]; !def.Version.Set() {
		return nil
	}
	return func(records []connector.Record) ([]bool, error) {
		msgs := make([]store.Received, len(records))
		for i, rec := range records {
			msgs[i] = store.Received{OutsideID: rec.ID, Version: rec.Version}
		}
		return r.Store.KnownVersions(r.Ctx, c.ID, kind, msgs)
	}
}

// keepPage keeps the records of a page and counts them.
func (r *Exchange) keepPage(c *engine.Conn, f store.Feed, run *int64, ensure func(*store.Tx) error, page int,
	records []connector.Record) (int, error) {
	var msgs []store.Received
	var bad []error
	for _, rec := range records {
		if rec.Err != nil {
			bad = append(bad, rec.Err)
			continue
		}
		version := rec.Version
		if def := c.Line().Def.Feeds[f.Kind]; def.Version.Text == "" && (def.Read == nil || def.Read.Each == "") {
			// A feed without versions: every reading counts as new. Listings change without saying so.
			version = r.Clock().UnixMicro()
		}
		msgs = append(msgs, store.Received{OutsideID: rec.ID, Version: version, Raw: rec.Raw})
	}
	kept := 0
	err := r.Store.Write(r.Ctx, func(t *store.Tx) (err error) {
		if *run == 0 {
			known, err := t.KnownInbox(c.Rec().ID, f.Kind, msgs)
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
		if kept, err = t.Receive(c.Rec().ID, f.Kind, "poll", *run, msgs, r.Clock()); err != nil {
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
			if err := t.LogRun(*run, "error", e.Error(), r.Clock()); err != nil {
				return err
			}
		}
		return t.LogRun(*run, "info", fmt.Sprintf("page %d: %d records, %d to be looked at", page, len(records), kept), r.Clock())
	})
	return kept, err
}

// RunNow reads a feed at once, from a time on if one is given, and returns the run's number.
func (r *Exchange) RunNow(ctx context.Context, code string, kind message.Feed, from, who string) (int64, error) {
	c := r.ByCode(code)
	if c == nil {
		return 0, engine.NoConnection(code)
	}
	def := c.Line().Def.Feeds[kind]
	if def == nil {
		return 0, engine.Refuse("%s has no feed %q; it has: %s", c.Rec().Name, kind, engine.Join(c.Line().Def.Kinds()))
	}
	if def.Read == nil {
		if def.Send != nil {
			c.WakeOut.Now()
			return 0, nil
		}
		return 0, engine.Refuse("%q is pushed by the other side and cannot be read", kind)
	}
	if st := c.Rec().State; st != store.On {
		return 0, &engine.Refused{Text: fmt.Sprintf("%s is not at work: it is %s", c.Rec().Name, st), Conflict: true}
	}
	if c.Rec().Paused {
		return 0, &engine.Refused{Text: c.Rec().Name + " is paused; resume it first", Conflict: true}
	}
	if _, on := r.Feed(c, kind); !on {
		return 0, &engine.Refused{Text: fmt.Sprintf("%s is off; switch it on first", kind), Conflict: true}
	}
	if from != "" {
		if _, err := time.Parse(time.RFC3339, from); err != nil {
			return 0, engine.Refuse("from %q: a time such as 2026-01-31T00:00:00Z is expected", from)
		}
	}
	req := engine.RunRequest{Kind: kind, Cause: "by " + who, From: from, Started: make(chan int64, 1)}
	select {
	case c.Reader(kind) <- req:
	case <-ctx.Done():
		return 0, ctx.Err()
	default:
		return 0, &engine.Refused{Text: "several runs of this feed wait already", Conflict: true}
	}
	select {
	case id := <-req.Started:
		return id, nil
	case <-ctx.Done():
		return 0, ctx.Err()
	case <-time.After(3 * time.Second):
		return 0, nil // queued behind a run that goes on
	}
}

// Work begins the loops of a connection.
func (r *Exchange) Work(c *engine.Conn) {
	r.Go(func() { r.inLoop(c) })
	r.Go(func() { r.outLoop(c) })
	r.ReadAll(c)
}

// ReadAll begins a reader for each feed that can be read and has none yet, so that a long reading of one feed does not
// delay the others.
func (r *Exchange) ReadAll(c *engine.Conn) {
	for kind, f := range c.Line().Def.Feeds {
		if f.Read == nil {
			continue
		}
		if asked, isNew := c.NewReader(kind); isNew {
			r.Go(func() { r.readLoop(c, kind, asked) })
		}
	}
}
