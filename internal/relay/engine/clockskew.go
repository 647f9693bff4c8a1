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
	skew map[string]time.Duration // by host: how far it is ahead of us
}

// RoundTrip carries a request out and looks at the time of the answer.
func (o *others) RoundTrip(req *http.Request) (*http.Response, error) {
	res, err := o.next.RoundTrip(req)
	if err != nil {
		return res, err
	}
	if at, err := http.ParseTime(res.Header.Get("Date")); err == nil {
		ahead := at.Sub(o.clock())
		o.mu.Lock()
		o.skew[req.URL.Host] = ahead
		o.mu.Unlock()
	}
	return res, nil
}

// ClockOff tells how far the clocks of others are ahead of ours, by the middle one of all that have answered. With none it
// is zero.
func (r *Engine) ClockOff() time.Duration {
	r.others.mu.Lock()
	defer r.others.mu.Unlock()
	var all []time.Duration
	for _, d := range r.others.skew {
		all = append(all, d)
	}
	if len(all) == 0 {
		return 0
	}
	slices.Sort(all)
	return all[len(all)/2]
}
