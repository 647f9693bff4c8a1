package stock

import (
	"container/heap"
	"time"
)

// PastSale is a sale of the past: when it was made, when we heard of it, and at which of the channels.
type PastSale struct {
	At, Known time.Time
	Channel   int
	Units     int64
}

// PastStock is another change of what was available: goods that came, a count, a sale that no channel made.
type PastStock struct {
	At     time.Time
	Change int64
}

// Past is what happened to an item. The channels have what Share says of them but for what they were told.
type Past struct {
	Free     int64 // what was available at its beginning
	Sales    []PastSale
	Stock    []PastStock
	Channels []Share
}

// Rehearsed is what would have come of it.
type Rehearsed struct {
	Asked    int64 `json:"asked" doc:"Units that buyers asked for"`
	Sold     int64 `json:"sold" doc:"Units that channels would have sold"`
	Oversold int64 `json:"oversold" doc:"Of them units that were not there any more"`
	Refused  int64 `json:"refused" doc:"Units that a buyer asked for where nothing was shown, while there was some"`
}

// Add adds what came of another item.
func (r *Rehearsed) Add(o Rehearsed) {
	r.Asked += o.Asked
	r.Sold += o.Sold
	r.Oversold += o.Oversold
	r.Refused += o.Refused
}

// Rehearse lets the past happen again, with what channels show by a policy: from below units down they share, over hundredths beyond what
// there is; below 0 each shows all. A buyer buys where so many are shown as were bought then. Word of a sale takes as long as it took; a
// quantity of ours takes the channel's delay.
func (p *Past) Rehearse(below, over int64) Rehearsed {
	r := &rehearsal{past: p, below: below, over: over, free: p.Free, left: p.Free, shares: make([]Share, len(p.Channels)),
		shows: make([]int64, len(p.Channels)), arrives: make([]time.Time, len(p.Channels))}
	copy(r.shares, p.Channels)
	for i := range r.shows {
		r.shows[i] = max(0, p.Free)
		r.shares[i].Left, r.shares[i].Fresh = r.shows[i], true
	}
	for i, s := range p.Sales {
		r.push(rehearsedEvent{at: s.At, kind: buyerAsks, sale: i})
	}
	for _, s := range p.Stock {
		r.push(rehearsedEvent{at: s.At, kind: stockChanges, units: s.Change})
	}
	if len(p.Sales) > 0 {
		r.tell(p.Sales[0].At.Add(-time.Hour))
	}
	for r.queue.Len() > 0 {
		r.happen(heap.Pop(&r.queue).(rehearsedEvent))
	}
	return r.out
}

// rehearsal is a past that happens again.
type rehearsal struct {
	past        *Past
	below, over int64
	free        int64 // what is available as far as is known
	left        int64 // what is really there
	shares      []Share
	shows       []int64
	arrives     []time.Time // when the newest quantity reaches a channel
	queue       rehearsedEvents
	n           int
	out         Rehearsed
}

// Kinds of what happens.
const (
	buyerAsks = iota
	saleKnown
	stockChanges
	quantityShows
	salesKnown
)

type rehearsedEvent struct {
	at      time.Time
	n       int // of what happens at the same moment, first that which was queued first
	kind    int
	sale    int
	channel int
	units   int64
}

type rehearsedEvents []rehearsedEvent

func (q rehearsedEvents) Len() int      { return len(q) }
func (q rehearsedEvents) Swap(i, j int) { q[i], q[j] = q[j], q[i] }
func (q rehearsedEvents) Less(i, j int) bool {
	if q[i].at.Equal(q[j].at) {
		return q[i].n < q[j].n
	}
	return q[i].at.Before(q[j].at)
}
func (q *rehearsedEvents) Push(x any) { *q = append(*q, x.(rehearsedEvent)) }
func (q *rehearsedEvents) Pop() any {
	old := *q
	last := old[len(old)-1]
	*q = old[:len(old)-1]
	return last
}

func (r *rehearsal) push(e rehearsedEvent) {
	r.n++
	e.n = r.n
	heap.Push(&r.queue, e)
}

func (r *rehearsal) happen(e rehearsedEvent) {
	switch e.kind {
	case buyerAsks:
		r.ask(e)
		return
	case saleKnown:
		s := r.past.Sales[e.sale]
		r.free = max(min(r.free, 0), r.free-s.Units) // what is not there is called off
		r.shares[s.Channel].Sold(s.Units)
	case stockChanges:
		r.free += e.units
		r.left += e.units
	case quantityShows:
		r.shows[e.channel] = e.units
		r.shares[e.channel].Open = false
		if !r.sharing() {
			return
		}
		r.push(rehearsedEvent{at: e.at.Add(max(Margin, r.shares[e.channel].Delay)), kind: salesKnown, channel: e.channel})
	case salesKnown:
		if !r.sharing() || r.shares[e.channel].Open || r.arrives[e.channel].Add(max(Margin, r.shares[e.channel].Delay)).After(e.at) {
			return // it was told another quantity since
		}
		r.shares[e.channel].Before = 0
	}
	r.tell(e.at)
}

func (r *rehearsal) ask(e rehearsedEvent) {
	s := r.past.Sales[e.sale]
	r.out.Asked += s.Units
	if r.shows[s.Channel] < s.Units {
		if r.left > 0 {
			r.out.Refused += s.Units
		}
		return
	}
	r.shows[s.Channel] -= s.Units
	r.out.Sold += s.Units
	r.out.Oversold += min(s.Units, max(0, s.Units-max(0, r.left)))
	r.left = max(min(r.left, 0), r.left-s.Units)
	known := s.Known
	if known.Before(s.At) {
		known = s.At
	}
	r.push(rehearsedEvent{at: known, kind: saleKnown, sale: e.sale})
}

// sharing tells whether so few are left that they are shared.
func (r *rehearsal) sharing() bool { return r.below >= 0 && max(0, r.free) <= r.below }

// tell sends what each channel shows now.
func (r *rehearsal) tell(now time.Time) {
	may := max(0, r.free)
	if !r.sharing() {
		for i := range r.shares {
			r.shares[i] = r.past.Channels[i]
			r.shares[i].Left, r.shares[i].Fresh = may, true
			r.send(i, may, now)
		}
		return
	}
	for i := range r.shares {
		r.shares[i].May = may
	}
	for i, n := range ShareOut(r.shares, r.over) {
		if n != Keep {
			r.shares[i].Tell(n)
			r.send(i, n, now)
		}
	}
}

func (r *rehearsal) send(channel int, quantity int64, now time.Time) {
	at := now.Add(r.past.Channels[channel].Delay)
	if at.Before(r.arrives[channel]) {
		at = r.arrives[channel]
	}
	r.arrives[channel] = at
	r.push(rehearsedEvent{at: at, kind: quantityShows, channel: channel, units: quantity})
}
