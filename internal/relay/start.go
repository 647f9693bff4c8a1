package relay

import (
	"errors"
	"time"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/people"
	"openrelay/internal/store"
)

// Start begins to work: what waited since the last end goes on. It is refused while another process works on the file.
func (r *Relay) Start() error {
	began, err := r.Begin(func() {
		// Only here: other commands open the file of a service that runs, and its runs are not stale.
		if err := r.Store.Write(r.Ctx, func(t *store.Tx) error { return t.EndStaleRuns(r.Clock()) }); err != nil {
			r.Log.Error("runs that were left open could not be closed", "error", err)
		}
	})
	if err != nil || !began {
		return err
	}
	r.ResumeImports()
	r.ResumeSheets()
	for _, loop := range []func(){r.keepHouse, r.watchLoop, r.tellLoop, r.backupLoop, r.thinLoop} {
		r.Go(loop)
	}
	for _, kind := range engine.JobKinds {
		r.Go(func() { r.JobLoop(kind) })
	}
	return nil
}

// keepHouse forgets, once a day, what is kept for a time only.
func (r *Relay) keepHouse() {
	for {
		if err := r.Store.Write(r.Ctx, func(t *store.Tx) error {
			_, err := t.ForgetShown(r.Clock().Add(-inventory.KeepShown))
			now := r.Clock()
			return errors.Join(err, t.ForgetAnswers(time.Now().Add(-24*time.Hour)),
				t.SweepUserSessions(now.Add(-people.SessionRest), now.Add(-people.SessionMemory), now))
		}); err != nil && r.Ctx.Err() == nil {
			r.Log.Error("what listings showed long ago could not be forgotten", "error", err)
		}
		if err := r.LearnServices(); err != nil && r.Ctx.Err() == nil {
			r.Log.Error("what carriers sell could not be asked for", "error", err)
		}
		if n, err := r.ForgetOld(r.Ctx); err != nil && r.Ctx.Err() == nil {
			r.Log.Error("personal data could not be removed", "error", err)
		} else if n > 0 {
			r.Log.Info("personal data removed", "orders", n)
		}
		select {
		case <-r.Ctx.Done():
			return
		case <-time.After(24 * time.Hour):
		}
	}
}

// LearnServices asks, by a job, what each carrier sells.
func (r *Relay) LearnServices() error {
	return r.Commit(r.Ctx, func(ch *engine.Change) error {
		for _, c := range r.Sorted() {
			if c.Rec().State == store.On && engine.SellsLabels(c) {
				if _, err := ch.StartJob(engine.JobServices, c.Rec().Code, "relay", struct{}{}); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// Stop ends the work and waits for what is under way. The store stays open.
func (r *Relay) Stop() { r.End() }
