package relay

import (
	"context"
	"errors"
	"time"

	"openrelay/internal/relay/engine"
)

// watchLoop does what is due at a time and not when something comes in.
func (r *Relay) watchLoop() {
	r.repeat(r.Watch, r.WakeWatch, "what was due could not be done, trying again")
}

// tellLoop tells people what was gathered for them. Whom it tells may be slow; nothing else waits for that.
func (r *Relay) tellLoop() { r.repeat(r.Tell, r.WakeTell, "people could not be told, trying again") }

// thinLoop thins what is old.
func (r *Relay) thinLoop() {
	r.repeat(r.ThinDue, r.Keeping.WakeThin, "what is old could not be thinned, trying again")
}

// backupLoop makes backups. They take a while; nothing else waits for them.
func (r *Relay) backupLoop() {
	r.repeat(r.BackupsDue, r.Keeping.Wake, "backups could not be looked after, trying again")
}

// repeat takes a step whenever it is woken, and when it said that something is due next; at the latest each minute.
func (r *Relay) repeat(step func(context.Context) (time.Time, error), wake *engine.Waker, failed string) {
	for {
		next, err := step(r.Ctx)
		if err != nil && r.Ctx.Err() == nil {
			r.Log.Error(failed, "error", err)
		}
		wait := time.Minute
		if !next.IsZero() {
			wait = min(wait, max(next.Sub(r.Clock()), 10*time.Millisecond))
		}
		if err != nil {
			wait = max(wait, 2*time.Second)
		}
		timer := time.NewTimer(wait)
		select {
		case <-r.Ctx.Done():
			timer.Stop()
			return
		case <-wake.Ch:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// Watch does what is due now: answers that did not come in time are raised, days are merged, what people are to be told
// is gathered. It returns when something may be due next, or the zero time. It waits for nobody outside.
func (r *Relay) Watch(ctx context.Context) (next time.Time, err error) {
	steps := []func(context.Context) (time.Time, error){r.Routing.NewDay, r.AnswersDue, r.MergesDue, r.ParcelsDue, r.Partners.RequestsDue,
		r.Inventory.OffersDue, r.Inventory.SharesDue, r.WatchHealth, r.Gather}
	for _, f := range steps {
		at, e := f(ctx)
		err = errors.Join(err, e)
		next = engine.Earlier(next, at)
	}
	return next, err
}
