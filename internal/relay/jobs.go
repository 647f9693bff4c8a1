package relay

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"openrelay/internal/store"
)

// jobKind is a kind of work that waits for the outside or walks through a long list. Each kind has a loop of its own,
// so that one that waits keeps no other back.
type jobKind string

const (
	jobServe    jobKind = "serve waiting orders" // stock arrived: subject is an item
	jobRematch  jobKind = "match again"          // a listing or an item became known
	jobSources  jobKind = "look for stock again" // a connection sells from other places
	jobAct      jobKind = "act on orders"        // one action on many orders
	jobCarry    jobKind = "carry on"             // a rule lets a shipment take its next step
	jobServices jobKind = "learn services"       // what a carrier sells
)

// A step does a part of a job and tells whether all of it is done. What it did is committed by itself. A job that is
// not done is stepped again at once, or later where the step says so in j.NextAt.
type jobStep func(ctx context.Context, j *store.Job) (done bool, err error)

// jobKinds lists the kinds in a fixed order.
var jobKinds = []jobKind{jobServe, jobRematch, jobSources, jobAct, jobCarry, jobServices}

// addJob queues a job with what its kind needs to know.
func (c *change) addJob(kind jobKind, subject, who string, args any, parts ...store.JobPart) (int64, error) {
	text, err := json.Marshal(args)
	if err != nil {
		return 0, err
	}
	c.jobs[kind] = true
	return c.AddJob(store.Job{Kind: string(kind), Subject: subject, Args: string(text), Who: who}, c.now, parts...)
}

// jobLoop works on the jobs of a kind.
func (r *Relay) jobLoop(kind jobKind) {
	for r.ctx.Err() == nil {
		worked, err := r.workJob(kind)
		if err != nil && r.ctx.Err() == nil {
			r.log.Error("a job could not be worked on, trying again", "kind", kind, "error", err)
		}
		if worked {
			continue
		}
		wait := 10 * time.Minute
		if next, err := r.Store.NextJobs(r.ctx); err != nil {
			wait = time.Second
		} else if at, ok := next[string(kind)]; ok {
			wait = min(wait, max(at.Sub(r.now()), 10*time.Millisecond))
		}
		timer := time.NewTimer(wait)
		select {
		case <-r.ctx.Done():
			timer.Stop()
			return
		case <-r.wakeJobs[kind].ch:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// workJob takes one step of the next job of a kind, and tells whether there was one.
func (r *Relay) workJob(kind jobKind) (bool, error) {
	j, err := r.Store.DueJob(r.ctx, string(kind), r.now())
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return true, r.stepJob(&j)
}

// stepJob takes one step of a job and notes how far it came. A step that fails is tried again later; what it had
// committed stays.
func (r *Relay) stepJob(j *store.Job) error {
	due := j.NextAt
	done, err := false, error(nil)
	if step := r.steps[jobKind(j.Kind)]; step == nil {
		err = fmt.Errorf("there is no work of the kind %q", j.Kind)
	} else {
		err = safely(func() (e error) { done, e = step(r.ctx, j); return e })
	}
	if r.ctx.Err() != nil {
		return nil // goes on at the next start
	}
	if err != nil {
		r.log.Error("a step of a job failed", "kind", j.Kind, "subject", j.Subject, "error", err)
	}
	return r.commit(r.ctx, func(ch *change) error {
		now, e := ch.Job(j.ID)
		if e != nil {
			return e
		}
		ch.tell("job", fmt.Sprint(j.ID))
		if now.Asked != j.Asked {
			return nil // it was asked for anew while this step ran, and begins again
		}
		j.Error, j.Attempts = "", 0
		switch {
		case err != nil:
			j.Error, j.Attempts = clip(err.Error(), 300), now.Attempts+1
			j.NextAt = ch.now.Add(delay(int(j.Attempts), fmt.Sprint(j.Kind, j.ID))).UnixMicro()
		case done:
			j.State, j.EndedAt = store.JobDone, ch.now.UnixMicro()
		case j.NextAt <= due:
			j.NextAt = ch.now.UnixMicro() // others of its kind may go first
		}
		ch.jobs[jobKind(j.Kind)] = true
		return ch.PutJob(*j)
	})
}

// Job is work under way, as people see it.
type Job struct {
	ID     int64     `json:"id"`
	Kind   string    `json:"kind"`
	About  string    `json:"about" doc:"What it is about"`
	Who    string    `json:"who"`
	Total  int64     `json:"total" doc:"Parts, where it has some"`
	Done   int64     `json:"done" doc:"Parts that have their outcome"`
	Began  time.Time `json:"began"`
	Error  string    `json:"error,omitempty" doc:"Why its last step failed; it is tried again"`
	NextAt time.Time `json:"next_at"`
}

// OpenJobs lists the work that waits or is under way.
func (r *Relay) OpenJobs(ctx context.Context) ([]Job, error) {
	list, err := r.Store.OpenJobs(ctx, 200)
	out := make([]Job, len(list))
	for i, j := range list {
		out[i] = Job{j.ID, j.Kind, j.Subject, j.Who, j.Total, j.Done, store.Time(j.CreatedAt), j.Error, store.Time(j.NextAt)}
	}
	return out, err
}

// awaitJob waits until a job is done, at most a while; where no loops run, it is done here and now.
func (r *Relay) awaitJob(ctx context.Context, id int64, most time.Duration) (store.Job, error) {
	r.mu.RLock()
	running := r.running
	r.mu.RUnlock()
	events, end := r.Bus.Listen()
	defer end()
	limit := time.NewTimer(most)
	defer limit.Stop()
	for {
		j, err := r.Store.Job(ctx, id)
		if err != nil || j.State == store.JobDone || !running && store.Time(j.NextAt).After(r.now()) {
			return j, err
		}
		if !running {
			if err := r.stepJob(&j); err != nil {
				return j, err
			}
			continue
		}
		select {
		case <-events: // whatever it is; one that was missed is made up for by the next
		case <-time.After(250 * time.Millisecond):
		case <-limit.C:
			return r.Store.Job(ctx, id)
		case <-ctx.Done():
			return r.Store.Job(context.WithoutCancel(ctx), id)
		}
	}
}
