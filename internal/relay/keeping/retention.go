package keeping

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Retention is for how long one kind of what is kept stays whole.
type Retention struct {
	Kind  string `json:"kind" enum:"received,sent,runs,timeline,exceptions,notices,looks,security"`
	Days  int    `json:"days" doc:"0: for ever"`
	Usual int    `json:"usual" doc:"Days where nothing was said"`
	Least int    `json:"least" doc:"Days that it may not be less than"`
	What  string `json:"what" doc:"What it is, and what becomes of it then"`
}

// kinds are all of them, with what is usual. The ledger, orders, parcels and books are none: they stay.
var kinds = []Retention{
	{"received", 0, 180, 30, "What systems sent us, word for word; of orders that are done. That it came, and what became of it, stays"},
	{"sent", 0, 180, 30, "What we sent to systems, word for word. That it was sent and confirmed stays; of quantities only the last"},
	{"runs", 0, 90, 7, "Runs of feeds and their logs; the last of each feed stays"},
	{"timeline", 0, 365, 30, "What happened to an order between its taking in and its end, step by step"},
	{"exceptions", 0, 365, 30, "Exceptions that are over"},
	{"notices", 0, 90, 7, "Messages by which people were told of exceptions"},
	{"looks", 0, 365, 90, "Who looked at personal data"},
	{"security", 0, 730, 90, "Security events"},
}

const (
	retentionSetting = "retention"
	thinnedSetting   = "thinned"
	longestKept      = 3660 // days
)

// Retentions tells for how long each kind stays whole.
func (r *Keeping) Retentions(ctx context.Context) ([]Retention, error) {
	said := map[string]int{}
	text, err := r.Store.Setting(ctx, retentionSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &said)
	}
	out := slices.Clone(kinds)
	for i := range out {
		out[i].Days = out[i].Usual
		if days, ok := said[out[i].Kind]; ok {
			out[i].Days = days
		}
	}
	return out, err
}

// retentionSet is for how many days each kind stays whole.
func (r *Keeping) retentionSet(ctx context.Context) (map[string]int, error) {
	list, err := r.Retentions(ctx)
	days := map[string]int{}
	for _, k := range list {
		days[k.Kind] = k.Days
	}
	return days, err
}

// SetRetention says for how many days kinds stay whole; those that are not named stay as they are. What was thinned
// does not come back.
func (r *Keeping) SetRetention(ctx context.Context, days map[string]int, who string) error {
	now, err := r.Retentions(ctx)
	if err != nil {
		return err
	}
	keep := map[string]int{}
	known := map[string]bool{}
	for _, k := range now {
		keep[k.Kind] = k.Days
		known[k.Kind] = true
		want, said := days[k.Kind]
		if !said {
			continue
		}
		if want != 0 && (want < k.Least || want > longestKept) {
			return engine.Refuse("%s: 0 for ever, or %d to %d days", k.Kind, k.Least, longestKept)
		}
		keep[k.Kind] = want
	}
	for kind := range days {
		if !known[kind] {
			return engine.Refuse("there is no kind %q of what is kept", kind)
		}
	}
	return r.Commit(ctx, func(ch *engine.Change) error { return r.putRetention(ch, keep, who) })
}

func (r *Keeping) putRetention(ch *engine.Change, keep map[string]int, who string) error {
	text, err := json.Marshal(keep)
	if err != nil {
		return err
	}
	ch.Tell("company", "")
	if err := ch.PutSetting(retentionSetting, string(text)); err != nil {
		return err
	}
	return r.NoteThing(ch, "company", 0, who, "retention", "Kept whole, in days (0: for ever): %s", string(text))
}

// Pass is how thinning went the last time, or goes now.
type Pass struct {
	Began   time.Time      `json:"began"`
	Ended   time.Time      `json:"ended,omitzero" doc:"Not there: it is under way"`
	Kind    string         `json:"kind,omitempty" doc:"What is being thinned"`
	Thinned map[string]int `json:"thinned" doc:"Rows by kind"`
	Longest float64        `json:"longest_ms" doc:"Longest time for which others had to wait to write"`
	Error   string         `json:"error,omitempty"`

	Before map[string]time.Time `json:"before" doc:"By kind, what is older was thinned"`

	unsettled int // rows since what was written was moved into the file
}

// LastPass tells how thinning goes, or went the last time; nil: it never was.
func (r *Keeping) LastPass(ctx context.Context) (*Pass, error) {
	if p := r.thinning.Load(); p != nil {
		return p, nil
	}
	text, err := r.Store.Setting(ctx, thinnedSetting)
	if err != nil || text == "" {
		return nil, err
	}
	p := &Pass{}
	return p, json.Unmarshal([]byte(text), p)
}

// ThinNow has what is old thinned at once, by the service's own loop.
func (r *Keeping) ThinNow() {
	r.thinAsked.Store(true)
	r.WakeThin.Now()
}

// betweenPasses is how often what is old is looked for.
const betweenPasses = 24 * time.Hour

// ThinDue thins what is old, once a day or when somebody asked for it, and tells when it looks again.
func (r *Keeping) ThinDue(ctx context.Context) (time.Time, error) {
	last, err := r.LastPass(ctx)
	if err != nil {
		return time.Time{}, err
	}
	if last != nil && !r.thinAsked.Load() && r.Clock().Before(last.Began.Add(betweenPasses)) {
		return last.Began.Add(betweenPasses), nil
	}
	r.thinAsked.Store(false)
	_, err = r.Thin(ctx)
	return time.Time{}, err
}

// Thin thins what is older than it may stay whole, in steps so small that nobody who writes waits for long.
func (r *Keeping) Thin(ctx context.Context) (Pass, error) {
	list, err := r.Retentions(ctx)
	if err != nil {
		return Pass{}, err
	}
	p := Pass{Began: r.Clock(), Thinned: map[string]int{}, Before: map[string]time.Time{}}
	defer r.thinning.Store(nil)
	for _, k := range list {
		if k.Days == 0 {
			continue
		}
		before := p.Began.AddDate(0, 0, -k.Days)
		for part := range store.Thinnings[k.Kind] {
			if err = r.thinPart(ctx, &p, k.Kind, part, before); err != nil {
				break
			}
		}
		if err != nil {
			p.Error = err.Error()
			break
		}
		p.Before[k.Kind] = before
	}
	p.Kind, p.Ended = "", r.Clock()
	text, merr := json.Marshal(p)
	if merr != nil || ctx.Err() != nil {
		return p, merr
	}
	if werr := r.Store.Write(ctx, func(t *store.Tx) error { return t.PutSetting(thinnedSetting, string(text)) }); err == nil {
		err = werr
	}
	r.Bus.Publish([]engine.Event{{Kind: "company"}})
	return p, err
}

// Bounds of a step: rows, and the time for which others wait.
const (
	leastStep, mostStep = 10, 500
	foundAtOnce         = 5000
	stepAim             = 4 * time.Millisecond
	settleEach          = 1000
)

// thinPart thins all rows that one query finds, in steps that take about as long as is borne; between two, others have
// as much time as the last one took.
func (r *Keeping) thinPart(ctx context.Context, p *Pass, kind string, part int, before time.Time) error {
	step, after := 50, int64(0)
	for {
		ids, err := r.Store.ToThin(ctx, kind, part, after, before, foundAtOnce)
		if err != nil || len(ids) == 0 {
			return err
		}
		after = ids[len(ids)-1]
		for len(ids) > 0 {
			n := min(step, len(ids))
			var began time.Time
			if err := r.Store.WriteUnsynced(ctx, func(t *store.Tx) error {
				began = time.Now()
				return t.Thin(kind, part, ids[:n])
			}); err != nil {
				return fmt.Errorf("%s: %w", kind, err)
			}
			took := time.Since(began) // with the commit, for which others wait, too
			ids = ids[n:]
			p.Thinned[kind] += n
			p.Longest = max(p.Longest, float64(took.Microseconds())/1000)
			r.tellPass(p, kind)
			if took > stepAim {
				step = max(leastStep, step/2)
			} else if took < stepAim/2 {
				step = min(mostStep, step*2)
			}
			if p.unsettled += n; p.unsettled >= settleEach {
				p.unsettled = 0
				if err := r.Store.Settle(ctx); err != nil {
					return fmt.Errorf("%s: %w", kind, err)
				}
			}
			if err := pause(ctx, took); err != nil {
				return err
			}
		}
	}
}

// tellPass shows how far it is.
func (r *Keeping) tellPass(p *Pass, kind string) {
	now := *p
	now.Kind, now.Thinned = kind, map[string]int{}
	for k, n := range p.Thinned {
		now.Thinned[k] = n
	}
	r.thinning.Store(&now)
}

func pause(ctx context.Context, d time.Duration) error {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-timer.C:
		return nil
	}
}
