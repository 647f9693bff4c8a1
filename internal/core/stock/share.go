package stock

import (
	"math"
	"slices"
	"time"
)

// Share is a listing among those that share the last units of an item. What its channel may sell without our knowing is bounded: by what
// is left of the quantity it was told last, and by what it may have sold of an earlier one before that arrived.
type Share struct {
	Listing int64
	Sources []int64       // locations whose stock it sells
	May     int64         // the most that its policy lets it show
	Pace    float64       // units that its channel sells of the item in a day
	Delay   time.Duration // from a sale there until a quantity of ours shows there
	Left    int64         // of the quantity it was told last, not known to be sold
	Before  int64         // of quantities it was told before, may be sold without our knowing
	Doubt   int64         // of what is left, may be sold: a sale that is known came from what was told before, or from the last
	Open    bool          // the last quantity is on its way, or what came of it is not known yet
	Fresh   bool          // it showed everything until now: all begin with a share of their own, though what was shown may still be sold
}

// Exposed is what the channel may have sold, or may still sell, without our knowing.
func (s *Share) Exposed() int64 { return s.Left + s.Before }

// Sold notes that units are known to be sold there. They are taken from what was told before, so that what is left is never thought
// smaller than it is.
func (s *Share) Sold(units int64) {
	n := min(units, s.Before)
	s.Before -= n
	s.Doubt += n
	s.Left = max(0, s.Left-(units-n))
}

// Tell notes that the channel is told a quantity: until that is known to have arrived, it may sell what it showed before and then this.
func (s *Share) Tell(quantity int64) {
	s.Before += s.Left
	s.Left, s.Doubt, s.Open, s.Fresh = quantity, 0, true, false
}

// surely is what is left at least.
func (s *Share) surely() int64 { return max(0, s.Left-s.Doubt) }

// Keep is for a listing that shows what it shall.
const Keep = -1

// ShareOut says what the listings that share an item are told now, in their order: a quantity, or Keep. over is by how much, in
// hundredths of what there is, all of them together may show more than there is: at 0 no unit can be sold twice, once each has taken its
// first share. What is handed out is half of what there is, by pace; the rest waits for those who sell theirs. Where nothing waits any
// more and a channel has sold out, another that would take longest to sell its share gives it back.
//
// A quantity that is told replaces what is shown there, sold or not. So a channel is told a new one only if there is room for both, or
// none at all: then what it had is free as soon as its sales until then are known.
func ShareOut(list []Share, over int64) []int64 {
	o := newShareOut(list, over)
	begins := slices.ContainsFunc(list, func(s Share) bool { return s.Fresh })
	for i := range list {
		s := &list[i]
		switch {
		case s.Open:
		case s.May <= 0 && s.Left > 0:
			o.tell(i, 0)
		case s.Fresh || begins && s.Left > o.target[i]:
			o.tell(i, o.target[i])
		}
	}
	o.takeBackExcess()
	o.refill()
	o.takeBackForOthers()
	return o.tells
}

// shareOut is a sharing that is being worked out.
type shareOut struct {
	list    []Share // as they will be
	over    int64
	target  []int64
	perHour []float64 // units a channel sells in an hour; never 0
	tells   []int64
}

func newShareOut(list []Share, over int64) *shareOut {
	o := &shareOut{list: slices.Clone(list), over: over, target: make([]int64, len(list)), perHour: make([]float64, len(list)),
		tells: make([]int64, len(list))}
	var all float64
	for i := range list {
		all += list[i].Pace
	}
	least := max(all/float64(10*max(1, len(list))), 0.1) // who has sold nothing may begin to
	var sum float64
	waits := 2.0
	if len(list) == 1 {
		waits = 1 // there is nobody to wait for
	}
	for i := range list {
		o.tells[i] = Keep
		o.perHour[i] = (list[i].Pace + least) / 24
		sum += o.perHour[i]
	}
	for i := range list {
		s := &list[i]
		part := math.Ceil(float64(s.May) * float64(100+over) / 100 * o.perHour[i] / sum / waits)
		meanwhile := math.Ceil(o.perHour[i] * s.Delay.Hours())
		o.target[i] = min(s.May, int64(max(part, meanwhile, 1)))
	}
	return o
}

func (o *shareOut) tell(i int, quantity int64) {
	o.list[i].Tell(quantity)
	o.tells[i] = quantity
}

// room is how much more a listing and those that sell the same stock may show.
func (o *shareOut) room(i int) int64 {
	s := &o.list[i]
	room := s.May * (100 + o.over) / 100
	for k := range o.list {
		if k == i || overlap(s.Sources, o.list[k].Sources) {
			room -= o.list[k].Exposed()
		}
	}
	return room
}

func overlap(a, b []int64) bool {
	return slices.ContainsFunc(a, func(x int64) bool { return slices.Contains(b, x) })
}

// settled tells whether nothing is under way with a listing.
func (o *shareOut) settled(i int) bool { return !o.list[i].Open && o.list[i].Before == 0 }

// cover is for how many hours what is left lasts.
func (o *shareOut) cover(i int) float64 { return float64(o.list[i].surely()) / o.perHour[i] }

// takeBackExcess takes shares back where stock went otherwise than by a sale that was shown: from those who need them least.
func (o *shareOut) takeBackExcess() {
	for _, i := range o.byCover() {
		returning := int64(0) // what is being taken back already
		for k := range o.list {
			if overlap(o.list[i].Sources, o.list[k].Sources) {
				returning += o.list[k].Before
			}
		}
		if o.room(i)+returning < 0 && o.settled(i) && o.list[i].Left > 0 {
			o.tell(i, 0)
		}
	}
}

// refill gives to those who have sold most of their share, the soonest sold out first.
func (o *shareOut) refill() {
	order := o.byCover()
	slices.Reverse(order)
	for _, i := range order {
		s := &o.list[i]
		least := s.surely()
		if s.Open || least*2 >= o.target[i] && least > 0 {
			continue
		}
		switch n := min(o.target[i], o.room(i)); {
		case n > least:
			o.tell(i, n)
		case least == 0 && s.Left > 0 && s.Before == 0 && s.May > 0:
			o.tell(i, 0) // it may be sold out: what it has is given back, and given anew
		}
	}
}

// takeBackForOthers takes a share back where one is sold out and nothing is left to give it: from whoever has more than is meant for
// it, else from one that sells more slowly.
func (o *shareOut) takeBackForOthers() {
	dry := -1
	for i := range o.list {
		s := &o.list[i]
		if s.Before > 0 {
			return // something is being taken back, or about to be known
		}
		if s.Left == 0 && !s.Open && s.May > 0 && (dry < 0 || o.perHour[i] > o.perHour[dry]) {
			dry = i
		}
	}
	if dry < 0 || o.room(dry) > 0 {
		return
	}
	for _, i := range o.byCover() {
		s := &o.list[i]
		tooMuch := s.Left > 1 && s.Left > o.target[i] || o.perHour[i]*slower < o.perHour[dry]
		if s.Left > 0 && o.settled(i) && overlap(s.Sources, o.list[dry].Sources) && tooMuch {
			o.tell(i, 0)
			return
		}
	}
}

// slower is how many times as much one has to sell for another to give it its last unit.
const slower = 1.5

// byCover lists the listings, first that whose share lasts longest; of those that last as long, that which sells least.
func (o *shareOut) byCover() []int {
	order := make([]int, len(o.list))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		switch x, y := o.cover(a), o.cover(b); {
		case x > y:
			return -1
		case x < y:
			return 1
		case o.perHour[a] < o.perHour[b]:
			return -1
		case o.perHour[a] > o.perHour[b]:
			return 1
		}
		return 0
	})
	return order
}
