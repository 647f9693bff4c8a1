package routing

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
)

// Bounds of a search.
const (
	mostNodes  = 12_000 // ways looked at; what was found by then is taken
	mostUnits  = 8      // of a line with more, only all, none and what a place has are tried
	neverPrice = math.MaxInt64 / 4
)

// price is what a parcel up to a weight costs from a place, by the service that is cheapest with its days counted in.
type price struct {
	upTo, cost int64
	service    int
}

// search looks for the cheapest plan: line by line, place by place, never further along a way that is dearer already.
type search struct {
	q      *Question
	p      *Policy
	free   [][]int64 // by good and place
	prices [][]price // by place, by weight; empty: nothing is known of freight
	order  []int     // lines, those with the fewest ways first
	places []int     // the cheapest first

	terms  []PlaceTerms // by place, with what a partner there asks
	way    []int64      // by place: what the way to the address costs a parcel
	same   []int        // by place: the first with its code; of a place as it is now and as it will be, one sends
	sent   []int64      // by the first of a code: units that any of them sends
	parcel []int64      // by place: what a parcel costs beside its freight
	sends  [][]bool     // by line and place
	before []int64      // by place: what it costs with what is sent from there anyhow

	rooms   [][]int64 // by line of the order: how many units its places from the j-th on can send
	lacking []int64   // units of the lines from the k-th on that are nowhere to be had

	weight, units []int64   // by place, as it stands
	take          [][]int64 // by line and place
	used, begun   int       // places that send something, and those that did before
	nodes         int

	best, bestWaits int64
	bestTake        [][]int64
	rough           bool
}

func newSearch(q *Question, policy *Policy) *search {
	n, p := len(q.Places), policy.Weighing(q.Weighs)
	s := &search{q: q, p: p, way: make([]int64, n), same: make([]int, n), sent: make([]int64, n), prices: make([][]price, n),
		weight: make([]int64, n), units: make([]int64, n),
		take: grid(len(q.Wants), n), best: neverPrice, terms: make([]PlaceTerms, n), parcel: make([]int64, n),
		before: make([]int64, n)}
	s.free = make([][]int64, len(q.Goods))
	for at := range q.Places {
		pl := &q.Places[at]
		s.terms[at], s.parcel[at], s.way[at] = p.Places[pl.Code], p.Parcel, pl.Km*p.Km100/100
		s.same[at] = slices.IndexFunc(q.Places, func(x Place) bool { return x.Code == pl.Code })
		if asks := pl.Asks; asks != nil {
			s.parcel[at] = 0 // its own affair
			s.terms[at].Order += asks.Order
			s.terms[at].Unit += asks.Unit
		}
	}
	for i := range q.Goods {
		s.free[i] = slices.Clone(q.Goods[i].Free)
		for at := range q.Places {
			if !q.Places[at].Own {
				s.free[i][at] -= max(s.terms[at].Keep, s.keptUrgent(i, at))
			} else {
				s.free[i][at] -= s.keptUrgent(i, at)
			}
		}
	}
	s.sends = make([][]bool, len(q.Wants))
	for line := range q.Wants {
		s.sends[line] = make([]bool, n)
		for at := range q.Places {
			s.sends[line][at] = p.cannot(q.Places[at].Code, &q.Wants[line]) == ""
		}
	}
	for at := range q.Places {
		pl := &q.Places[at]
		s.prices[at] = s.pricesFrom(at)
		if pl.BeginsG > 0 {
			if pl.Later == 0 {
				s.begun++
			}
			cost, parcels, _ := s.freight(s.same[at], pl.BeginsG)
			s.before[at] = cost + parcels*(s.parcel[at]+s.way[at]) + s.terms[at].Order
		}
		if s.barred(at) == "" {
			s.places = append(s.places, at)
		}
	}
	return s
}

// keptUrgent is how much of a good at a place only urgent orders get.
func (s *search) keptUrgent(good, at int) int64 {
	if s.p.Urgent == nil || s.p.IsUrgent(s.q.By) || at >= len(s.q.Goods[good].Lies) {
		return 0
	}
	return s.q.Goods[good].Lies[at] * int64(s.p.Urgent.Share) / 100
}

// keptText says that some of what a line takes is kept for urgent orders.
func (s *search) keptText(w *Want, at int) string {
	for _, need := range w.Needs {
		if kept := s.keptUrgent(need.Good, at); kept > 0 {
			return fmt.Sprintf("; %d are kept for urgent orders", kept)
		}
	}
	return ""
}

func grid(rows, columns int) [][]int64 {
	flat := make([]int64, rows*columns)
	out := make([][]int64, rows)
	for i := range out {
		out[i] = flat[i*columns : (i+1)*columns : (i+1)*columns]
	}
	return out
}

// barred says why nothing is sent from a place; empty: something may be.
func (s *search) barred(at int) string {
	pl := &s.q.Places[at]
	if pl.Barred != "" {
		return pl.Barred
	}
	switch {
	case pl.Later > 0 && s.q.Now:
		return "it waits for nothing that is to come"
	case pl.Later > s.p.MostWait:
		return "it is not to wait so long"
	case slices.Contains(s.p.not, pl.Code):
		return "a rule sends nothing from there"
	}
	if pl.Abroad && slices.Contains(s.terms[at].Cannot, Abroad) {
		return "sends nothing to another country"
	}
	if len(s.q.Services) > 0 && len(s.prices[at]) == 0 {
		return "no carrier that fetches there delivers to the address"
	}
	return ""
}

// pricesFrom merges the services that fetch at a place: for each weight the one that is cheapest, its days counted in.
func (s *search) pricesFrom(at int) []price {
	pl := &s.q.Places[at]
	if pl.Asks != nil {
		return []price{{upTo: math.MaxInt32, cost: pl.Asks.Parcel + s.wait(s.late(pl, pl.Asks.Days)), service: byPartner}}
	}
	var bounds []int64
	for i := range s.q.Services {
		if s.fetches(pl, i) {
			for _, step := range s.q.Services[i].Steps {
				bounds = append(bounds, step.UpToG)
			}
		}
	}
	slices.Sort(bounds)
	var out []price
	for _, w := range slices.Compact(bounds) {
		best := price{upTo: w, cost: neverPrice}
		for i := range s.q.Services {
			if !s.fetches(pl, i) {
				continue
			}
			freight, ok := s.q.Services[i].price(w)
			if cost := freight + s.days(pl, i); ok && cost < best.cost {
				best.cost, best.service = cost, i
			}
		}
		if last := len(out) - 1; last >= 0 && best.cost < out[last].cost {
			best.cost = out[last].cost // what is heavier never costs less: a service that is dearer for little would hide one for more
		}
		if last := len(out) - 1; last >= 0 && out[last].cost == best.cost && out[last].service == best.service {
			out[last].upTo = w
			continue
		}
		out = append(out, best)
	}
	return out
}

func (s *search) fetches(pl *Place, service int) bool {
	return service < len(pl.Arrives) && pl.Arrives[service] >= 0 || len(pl.Arrives) == 0
}

// price is what a parcel of a weight costs by a service; false: it is too heavy.
func (v *Service) price(weight int64) (int64, bool) {
	for _, step := range v.Steps {
		if weight <= step.UpToG {
			return step.Price, true
		}
	}
	return 0, false
}

// days is what the days until a parcel arrives cost.
func (s *search) days(pl *Place, service int) int64 {
	if service >= len(pl.Arrives) {
		return 0
	}
	return s.wait(s.arrives(pl, service))
}

// wait is what it costs that a parcel arrives on a day, counted from that of the question.
func (s *search) wait(arrives int) int64 {
	cost := int64(arrives) * s.p.Day
	if s.q.By >= 0 && arrives > s.q.By {
		cost += int64(arrives-s.q.By) * s.p.LateDay
	}
	return cost
}

// arrives is on which day, counted from that of the question, a parcel arrives. Where more leaves a place on a day than it can send,
// the rest leaves later.
func (s *search) arrives(pl *Place, service int) int {
	return s.late(pl, pl.Arrives[service])
}

func (s *search) late(pl *Place, arrives int) int {
	if most := s.p.Places[pl.Code].PerDay; most > 0 {
		arrives += int(pl.Load / most)
	}
	return arrives + pl.Later
}

// byPartner stands in the place of a service where a partner sends by its own.
const byPartner = -2

// freight is what a weight costs from a place and how many parcels it takes; what is too heavy for one goes in several.
func (s *search) freight(at int, weight int64) (cost int64, parcels int64, last price) {
	list := s.prices[at]
	if len(list) == 0 {
		return s.wait(s.q.Places[at].Later), 1, price{service: -1}
	}
	most := list[len(list)-1]
	parcels = 1
	if weight > most.upTo && most.upTo > 0 {
		parcels = (weight + most.upTo - 1) / most.upTo
		cost = (parcels - 1) * most.cost
		weight -= (parcels - 1) * most.upTo
	}
	for _, last = range list {
		if weight <= last.upTo {
			break
		}
	}
	return cost + last.cost, parcels, last
}

// at is what a place costs with what it sends as it stands: beyond what it sends anyhow.
func (s *search) at(at int) int64 {
	if s.units[at] == 0 {
		return 0
	}
	terms := &s.terms[at]
	cost, parcels, _ := s.freight(at, s.q.Places[at].BeginsG+s.weight[at])
	return max(0, cost+parcels*(s.parcel[at]+s.way[at])+terms.Order+terms.Unit*s.units[at]+s.lines(at)-s.before[at])
}

// lines is what a partner asks for the lines that it sends.
func (s *search) lines(at int) (cost int64) {
	asks := s.q.Places[at].Asks
	if asks == nil || asks.Line == 0 {
		return 0
	}
	for line := range s.take {
		if s.take[line][at] > 0 {
			cost += asks.Line
		}
	}
	return cost
}

// room is how many units of a line a place could still send.
func (s *search) room(line, at int) int64 {
	w := &s.q.Wants[line]
	if !s.sends[line][at] || s.sent[s.same[at]] > s.units[at] {
		return 0
	}
	n := w.Units
	for _, need := range w.Needs {
		free := max(0, s.free[need.Good][at])
		if need.Per > 1 {
			free /= need.Per
		}
		n = min(n, free)
	}
	return n
}

// put sends n units of a line more from a place, or fewer.
func (s *search) put(line, at int, n int64) {
	w := &s.q.Wants[line]
	for _, need := range w.Needs {
		s.free[need.Good][at] -= n * need.Per
	}
	if s.units[at] == 0 && n > 0 && s.q.Places[at].BeginsG == 0 {
		s.used++
	}
	s.units[at] += n
	s.sent[s.same[at]] += n
	s.weight[at] += n * w.WeightG
	s.take[line][at] += n
	if s.units[at] == 0 && n < 0 && s.q.Places[at].BeginsG == 0 {
		s.used--
	}
}

// mostPlaces is from how many places the order may be sent.
func (s *search) mostPlaces() int {
	switch {
	case s.q.Single:
		return 1
	case s.p.MostPlaces > 0:
		return s.p.MostPlaces
	}
	return len(s.q.Places)
}

func (s *search) run() {
	s.first()
	s.arrange()
	s.keep(s.cost())
	s.greedy()
	s.rooms = grid(len(s.order), len(s.places)+1)
	s.line(0, 0, s.cost())
	s.rough = s.nodes > mostNodes
}

// cost is what everything costs as it stands.
func (s *search) cost() (sum int64) {
	for _, at := range s.places {
		sum += s.at(at)
	}
	return sum
}

// first sends from the place that a rule chose as much as can be sent from there.
func (s *search) first() {
	for _, at := range s.places {
		if !s.q.Places[at].First {
			continue
		}
		for line := range s.q.Wants {
			s.put(line, at, s.room(line, at))
		}
	}
}

// left is how many units of a line are still to be sent.
func (s *search) left(line int) int64 {
	n := s.q.Wants[line].Units
	for _, taken := range s.take[line] {
		n -= taken
	}
	return n
}

// arrange puts the cheapest places and the lines with the fewest ways first.
func (s *search) arrange() {
	alone := make([]int64, len(s.q.Places))
	for _, at := range s.places {
		pl := &s.q.Places[at]
		cost, parcels, _ := s.freight(at, 1)
		if alone[at] = cost + parcels*(s.parcel[at]+s.way[at]) + s.terms[at].Order; pl.BeginsG > 0 {
			alone[at] = -1
		}
	}
	slices.SortStableFunc(s.places, func(a, b int) int { return cmp.Compare(alone[a], alone[b]) })
	ways, short := make([]int, len(s.q.Wants)), make([]int64, len(s.q.Wants))
	for line := range s.q.Wants {
		short[line] = s.left(line)
		for _, at := range s.places {
			if n := s.room(line, at); n > 0 {
				ways[line]++
				short[line] -= n
			}
		}
		s.order = append(s.order, line)
	}
	slices.SortStableFunc(s.order, func(a, b int) int { return cmp.Compare(ways[a], ways[b]) })
	s.lacking = make([]int64, len(s.order)+1)
	for k := len(s.order) - 1; k >= 0; k-- {
		s.lacking[k] = s.lacking[k+1] + max(0, short[s.order[k]])
	}
}

// keep keeps a plan as it stands where it is the best so far: what sends more is better, then what costs less.
func (s *search) keep(cost int64) {
	var waits int64
	for line := range s.q.Wants {
		waits += s.left(line)
	}
	if s.bestTake != nil && (waits > s.bestWaits || waits == s.bestWaits && cost >= s.best) {
		return
	}
	if s.bestTake == nil {
		s.bestTake = grid(len(s.q.Wants), len(s.q.Places))
	}
	s.best, s.bestWaits = cost, waits
	for line := range s.take {
		copy(s.bestTake[line], s.take[line])
	}
}

// greedy adds place after place, each time the one with which the plan becomes best, as long as it becomes better. It is where the
// search begins, and what is taken where there are too many ways.
func (s *search) greedy() {
	var set []int
	begins := s.used + s.begun
	for {
		found, waits, cost := -1, s.bestWaits, s.best
		for _, at := range s.places {
			more := s.units[at] == 0 && s.q.Places[at].BeginsG == 0
			if slices.Contains(set, at) || more && begins >= s.mostPlaces() {
				continue
			}
			s.fill(append(set, at))
			if s.bestWaits < waits || s.bestWaits == waits && s.best < cost {
				waits, cost, found = s.bestWaits, s.best, at
			}
		}
		if found < 0 {
			return
		}
		set = append(set, found)
		if s.units[found] == 0 && s.q.Places[found].BeginsG == 0 {
			begins++
		}
	}
}

// fill sends all that some places have, each line from those first that have all of it, and keeps the plan.
func (s *search) fill(places []int) {
	type put struct {
		line, at int
		n        int64
	}
	var done []put
	send := func(line, at int, n int64) {
		if n > 0 {
			s.put(line, at, n)
			done = append(done, put{line, at, n})
		}
	}
	for _, line := range s.order {
		left := s.left(line)
		if i := slices.IndexFunc(places, func(at int) bool { return s.room(line, at) >= left }); i >= 0 {
			send(line, places[i], left)
			continue
		}
		for _, at := range places {
			n := min(left, s.room(line, at))
			send(line, at, n)
			left -= n
		}
	}
	s.keep(s.cost())
	for _, d := range slices.Backward(done) {
		s.put(d.line, d.at, -d.n)
	}
}

// line tries all ways for the lines from the k-th on, after so many units that wait of those before.
func (s *search) line(k int, waits, cost int64) {
	if k == len(s.order) {
		s.keep(cost)
		return
	}
	line, rooms := s.order[k], s.rooms[k]
	for j := len(s.places) - 1; j >= 0; j-- {
		rooms[j] = rooms[j+1] + s.room(line, s.places[j])
	}
	s.place(k, 0, s.left(line), waits, cost)
}

// place tries how many of the units of the k-th line that are left are sent from the j-th place and those after it.
func (s *search) place(k, j int, left, waits, cost int64) {
	least := waits + s.lacking[k+1] + max(0, left-s.rooms[k][j])
	if least > s.bestWaits || least == s.bestWaits && cost >= s.best {
		return // whatever follows is no better
	}
	if s.nodes++; s.nodes > mostNodes {
		return
	}
	if left == 0 || j == len(s.places) {
		s.line(k+1, waits+left, cost)
		return
	}
	line, at := s.order[k], s.places[j]
	most := min(left, s.room(line, at))
	if most > 0 && s.units[at] == 0 && s.q.Places[at].BeginsG == 0 && s.used+s.begun >= s.mostPlaces() {
		most = 0
	}
	before := s.at(at)
	try := func(n int64) {
		if n == 0 {
			s.place(k, j+1, left, waits, cost)
			return
		}
		s.put(line, at, n)
		s.place(k, j+1, left-n, waits, cost-before+s.at(at))
		s.put(line, at, -n)
	}
	if most <= mostUnits {
		for n := most; n >= 0; n-- {
			try(n)
		}
		return
	}
	try(most)
	if must := left - s.rooms[k][j+1]; must > 0 && must < most {
		try(must)
	}
	try(0)
}

// plan writes what was found.
func (s *search) plan() Plan {
	out := Plan{Rough: s.rough, Entries: []Entry{}}
	clear(s.units)
	clear(s.weight)
	for line := range s.q.Wants {
		copy(s.take[line], s.bestTake[line])
		for at, n := range s.take[line] {
			s.units[at] += n
			s.weight[at] += n * s.q.Wants[line].WeightG
		}
		if n := s.left(line); n > 0 {
			out.Waits = append(out.Waits, s.unitsOf(line, n))
		}
	}
	for at := range s.q.Places {
		if s.units[at] > 0 {
			out.Entries = append(out.Entries, s.entry(at))
		}
	}
	slices.SortStableFunc(out.Entries, func(a, b Entry) int { return cmp.Compare(b.WeightG, a.WeightG) })
	for _, e := range out.Entries {
		out.Cost += e.Subtotal
	}
	return out
}

func (s *search) unitsOf(line int, n int64) Units {
	return Units{s.q.Wants[line].Line, s.q.Wants[line].SKU, n}
}

// terms are the parts of what an entry costs, as they are written.
type terms []Term

func (t *terms) add(cost int64, format string, args ...any) {
	if cost != 0 {
		*t = append(*t, Term{fmt.Sprintf(format, args...), cost})
	}
}

// entry writes what one place sends, with each part of what it costs.
func (s *search) entry(at int) Entry {
	pl := &s.q.Places[at]
	e := Entry{Place: pl.Code, PlaceID: pl.ID, WeightG: s.weight[at], Arrives: -1, Later: pl.Later, Units: []Units{}, Terms: []Term{},
		Subtotal: s.at(at)}
	for line := range s.q.Wants {
		if n := s.take[line][at]; n > 0 {
			e.Units = append(e.Units, s.unitsOf(line, n))
		}
	}
	if pl.Later > 0 {
		e.Held = s.held(at)
	}
	parts := terms(e.Terms)
	parcels, orders := s.freightTerms(at, &e, &parts), int64(1)
	if pl.BeginsG > 0 {
		orders = 0
	}
	parts.add(parcels*s.parcel[at], "%d × a parcel", parcels)
	parts.add(parcels*s.way[at], "%d km to the address", pl.Km)
	parts.add(orders*s.terms[at].Order, "work at the place")
	parts.add(s.terms[at].Unit*s.units[at], "%d × a unit there", s.units[at])
	var sum int64
	for _, t := range parts {
		sum += t.Cost
	}
	parts.add(e.Subtotal-sum, "never less than nothing")
	e.Terms = parts
	return e
}

// freightTerms writes by what an entry is sent, when it arrives, and what freight and days cost beyond what is sent from there anyhow. It
// returns how many parcels it is more.
func (s *search) freightTerms(at int, e *Entry, parts *terms) (parcels int64) {
	pl := &s.q.Places[at]
	cost, parcels, last := s.freight(at, pl.BeginsG+s.weight[at])
	e.Parcels = parcels
	parcelsNow := int64(0)
	if pl.BeginsG > 0 {
		before, parcelsBefore, _ := s.freight(s.same[at], pl.BeginsG)
		cost, parcels, parcelsNow = cost-before, parcels-parcelsBefore, parcelsBefore
	}
	switch {
	case last.service == byPartner:
		e.Service = pl.Code + "/own"
		e.Arrives = s.late(pl, pl.Asks.Days)
		if pl.Asks.Days == 0 {
			e.Arrives = -1
		}
		days := s.wait(s.late(pl, pl.Asks.Days)) * parcels
		parts.add(cost-days, "a parcel of the partner")
		parts.add(days, "%s", s.daysText(s.late(pl, pl.Asks.Days)))
		parts.add(s.lines(at), "lines, as the partner asks")
	case last.service >= 0:
		v := &s.q.Services[last.service]
		e.Service = v.Carrier + "/" + v.Code
		if last.service < len(pl.Arrives) {
			e.Arrives = s.arrives(pl, last.service)
		}
		now := &s.q.Places[s.same[at]]
		days := s.days(pl, last.service)*(parcelsNow+parcels) - s.days(now, last.service)*parcelsNow
		parts.add(cost-days, "freight by %s, %g kg", e.Service, float64(pl.BeginsG+s.weight[at])/1000)
		parts.add(days, "%s", s.daysText(e.Arrives))
	case parcelsNow == 0:
		parts.add(cost, "%d days until it can be sent", pl.Later)
	}
	return parcels
}

// held is what of the units that a place is to send later lies there now.
func (s *search) held(at int) (out []Units) {
	now := s.same[at]
	s.sent[now] = 0 // else it could send nothing now
	for line := range s.q.Wants {
		n := min(s.take[line][at], s.room(line, now))
		if n <= 0 {
			continue
		}
		out = append(out, s.unitsOf(line, n))
		for _, need := range s.q.Wants[line].Needs {
			s.free[need.Good][now] -= n * need.Per
		}
	}
	return out
}

func (s *search) daysText(arrives int) string {
	if s.q.By >= 0 && arrives > s.q.By {
		return fmt.Sprintf("%d days on the way, %d later than promised", arrives, arrives-s.q.By)
	}
	return fmt.Sprintf("%d days on the way", arrives)
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
