package routing

// Bound is what no plan that sends everything can go below, in minor units. It is not reached in general: freight is taken as if the
// cheapest place sent each kilogram, and handling as if the cheapest places were the ones that are needed. 0 where something is begun.
func Bound(q *Question, p *Policy) int64 {
	s := newSearch(q, p)
	if len(s.places) == 0 {
		return 0
	}
	least, perKg, unit := int64(neverPrice), 0.0, int64(neverPrice)
	for i, at := range s.places {
		pl := &q.Places[at]
		if pl.BeginsG > 0 {
			return 0
		}
		terms := s.terms[at]
		unit = min(unit, terms.Unit)
		cost, _, _ := s.freight(at, 1)
		least = min(least, cost+s.parcel[at]+s.way[at]+terms.Order)
		ratio := -1.0
		for _, x := range s.prices[at] {
			if r := float64(x.cost+s.parcel[at]+s.way[at]) / float64(x.upTo); ratio < 0 || r < ratio {
				ratio = r
			}
		}
		if i == 0 || ratio < perKg {
			perKg = ratio
		}
	}
	var weight, units int64
	for i := range q.Wants {
		weight += q.Wants[i].Units * q.Wants[i].WeightG
		units += q.Wants[i].Units
	}
	return max(least*int64(s.needed()), int64(perKg*float64(weight))) + unit*units
}

// needed is how many places it takes at least: as many as the line takes of which the places together have the least.
func (s *search) needed() int {
	most := 1
	for line := range s.q.Wants {
		rooms := make([]int64, 0, len(s.places))
		for _, at := range s.places {
			rooms = append(rooms, s.room(line, at))
		}
		n, left := 0, s.q.Wants[line].Units
		for left > 0 && n < len(rooms) {
			best := n
			for i := n; i < len(rooms); i++ {
				if rooms[i] > rooms[best] {
					best = i
				}
			}
			rooms[n], rooms[best] = rooms[best], rooms[n]
			left -= rooms[n]
			n++
		}
		most = max(most, n)
	}
	return most
}
