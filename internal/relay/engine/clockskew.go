package engine

import (
	"net/http"
	"slices"
	"sync"
	"time"
)

// others remembers what the clocks of other systems say: each answer tells its time (RFC 9110, section 6.6.1).
type others struct {
	next  http.RoundTripper
	clock func() time.Time

	mu   sync.Mutex
	said map[string]said // by host
}

// said is how far the clock of a host was ahead of ours, and when.
type said struct {
	ahead time.Duration
	at    time.Time
}

// clockMemory is how long it counts what the clock of a host said: ours may have been set since.
const clockMemory = 15 * time.Minute

// RoundTrip carries a request out and looks at the time of the answer.
func (o *others) RoundTrip(req *http.Request) (*http.Response, error) {
	res, err := o.next.RoundTrip(req)
	if err != nil {
		return res, err
	}
	if at, err := http.ParseTime(res.Header.Get("Date")); err == nil {
		now := o.clock()
		o.mu.Lock()
		o.said[req.URL.Host] = said{at.Sub(now), now}
		o.mu.Unlock()
	}
	return res, nil
}

// ClockOff tells how far the clocks of others are ahead of ours, by the middle one of all that answered lately; of two in the
// middle, the one nearer to ours. With none it is zero.
func (r *Engine) ClockOff() time.Duration {
	r.others.mu.Lock()
	defer r.others.mu.Unlock()
	var all []time.Duration
	now := r.Clock()
	for host, s := range r.others.said {
		if now.Sub(s.at).Abs() > clockMemory {
			delete(r.others.said, host)
			continue
		}
		all = append(all, s.ahead)
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	low, high := all[(len(all)-1)/2], all[len(all)/2]
	if low.Abs() < high.Abs() {
		return low
	}
	return high
}
