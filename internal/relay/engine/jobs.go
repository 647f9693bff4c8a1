package engine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"openrelay/internal/store"
)

// JobKind is a kind of work that waits for the outside or walks through a long list. Each kind has a loop of its own,
// so that one that waits keeps no other back.
type JobKind string

const (
	JobServe    JobKind = "serve waiting orders" // stock arrived: subject is an item
	JobRematch  JobKind = "match again"          // a listing or an item became known
	JobSources  JobKind = "look for stock again" // a connection sells from other places
	JobAct      JobKind = "act on orders"        // one action on many orders
	JobCarry    JobKind = "carry on"             // a rule lets a shipment take its next step
	JobServices JobKind = "learn services"       // what a carrier sells
	JobAddress  JobKind = "check an address"     // of an order
	JobPrint    JobKind = "print"                // a paper, on a printer
	JobReplan   JobKind = "plan anew"            // orders that a place was to send
	JobAsk      JobKind = "ask partner"          // for what it was not asked for yet
)

// A step does a part of a job and tells whether all of it is done. What it did is committed by itself. A job that is
// not done is stepped again at once, or later where the step says so in j.NextAt.
type JobStep func(ctx context.Context, j *store.Job) (done bool, err error)

// ItemSubject is the form of the subject of a job about an item.
const ItemSubject = "item %d"

// JobKinds lists the kinds in a fixed order.
var JobKinds = []JobKind{JobServe, JobRematch, JobSources, JobAct, JobCarry, JobServices, JobAddress, JobPrint, JobReplan,
	JobAsk}

// StartJob queues a job with what its kind needs to know.
func (c *Change) StartJob(kind JobKind, subject, who string, args any, parts ...store.JobPart) (int64, error) {
	text, err := json.Marshal(args)
	if err != nil {
		return 0, err
	}
	c.jobs[kind] = true
	return c.AddJob(store.Job{Kind: string(kind), Subject: subject, Args: string(text), Who: who}, c.Now, parts...)
}

// JobLoop works on the jobs of a kind.
func (r *Engine) JobLoop(kind JobKind) {
	for r.Ctx.Err() == nil {
		worked, err := r.WorkJob(kind)
		if err != nil && r.Ctx.Err() == nil {
			r.Log.Error("a job could not be worked on, trying again", "kind", kind, "error", err)
		}
		if worked {
			continue
		}
		wait := 10 * time.Minute
		if next, err := r.Store.NextJobs(r.Ctx); err != nil {
			wait = time.Second
		} else if at, ok := next[string(kind)]; ok {
			wait = min(wait, max(at.Sub(r.Clock()), 10*time.Millisecond))
		}
		timer := time.NewTimer(wait)
		select {
		case <-r.Ctx.Done():
			timer.Stop()
			return
		case <-r.wakeJobs[kind].Ch:
			timer.Stop()
		case <-timer.C:
		}
	}
}

// WorkJob takes one step of the next job of a kind, and tells whether there was one.
func (r *Engine) WorkJob(kind JobKind) (bool, error) {
	j, err := r.Store.DueJob(r.Ctx, string(kind), r.Clock())
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
func (r *Engine) stepJob(j *store.Job) error {
	due := j.NextAt
	done, err := false, error(nil)
	if step := r.JobSteps[JobKind(j.Kind)]; step == nil {
		err = fmt.Errorf("there is no work of the kind %q", j.Kind)
	} else {
		err = Safely(func() (e error) { done, e = step(r.Ctx, j); return e })
	}
	if r.Ctx.Err() != nil {
		return nil // goes on at the next start
	}
	if err != nil {
		r.Log.Error("a step of a job failed", "kind", j.Kind, "subject", j.Subject, "error", err)
	}
	return r.Commit(r.Ctx, func(ch *Change) error {
		now, e := ch.Job(j.ID)
		if e != nil {
			return e
		}
		ch.Tell("job", fmt.Sprint(j.ID))
		if now.Asked != j.Asked {
			return nil // it was asked for anew while this step ran, and begins again
		}
		j.Error, j.Attempts = "", 0
		switch {
		case err != nil:
			j.Error, j.Attempts = Clip(err.Error(), 300), now.Attempts+1
			j.NextAt = ch.Now.Add(Delay(int(j.Attempts), fmt.Sprint(j.Kind, j.ID))).UnixMicro()
		case done:
			j.State, j.EndedAt = store.JobDone, ch.Now.UnixMicro()
		case j.NextAt <= due:
			j.NextAt = ch.Now.UnixMicro() // others of its kind may go first
		}
		ch.jobs[JobKind(j.Kind)] = true
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
func (r *Engine) OpenJobs(ctx context.Context) ([]Job, error) {
	list, err := r.Store.OpenJobs(ctx, 200)
	if err != nil {
		return nil, err
	}
	ids := map[int64]int64{} // item by job
	for _, j := range list {
		var item int64
		if _, err := fmt.Sscanf(j.Subject, ItemSubject, &item); err == nil {
			ids[j.ID] = item
		}
	}
	items, err := r.Store.Items(ctx, slices.Sorted(maps.Values(ids)))
	out := make([]Job, len(list))
	for i, j := range list {
		if it, ok := items[ids[j.ID]]; ok {
			j.Subject = it.SKU
		}
		who, err := r.PersonName(ctx, j.Who)
		if err != nil {
			return nil, err
		}
		out[i] = Job{j.ID, j.Kind, j.Subject, who, j.Total, j.Done, store.Time(j.CreatedAt), j.Error, store.Time(j.NextAt)}
	}
	return out, err
}

// AwaitJob waits until a job is done, at most a while; where no loops run, it is done here and now.
func (r *Engine) AwaitJob(ctx context.Context, id int64, most time.Duration) (store.Job, error) {
	running := r.Runs()
	events, end := r.Bus.Listen()
	defer end()
	limit := time.NewTimer(most)
	defer limit.Stop()
	for {
		j, err := r.Store.Job(ctx, id)
		if err != nil || j.State == store.JobDone || !running && store.Time(j.NextAt).After(r.Clock()) {
			return j, err
		}
		if !running {
			if err := r.stepJob(&j); err != nil {
				return j, err
			}
			continue
		}
		select {
		case <-events: // whatever it is
		case <-time.After(250 * time.Millisecond):
		case <-limit.C:
			return r.Store.Job(ctx, id)
		case <-ctx.Done():
			return r.Store.Job(context.WithoutCancel(ctx), id)
		}
	}
}
