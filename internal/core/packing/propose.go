package packing

import (
	"cmp"
	"math"
	"slices"
)

// Carton is a carton of a proposal: which units go into it, and where they lie.
type Carton struct {
	Profile Profile
	Units   []int // indices of the units
	Placed  []Placed
	WeightG int64 // gross
	Cost    int64 // minor units, or what stands for them
}

// Proposal is how goods can be packed.
type Proposal struct {
	Cartons []Carton
	Unfit   []int // units for which no carton is large or strong enough
}

// Cost is what a carton of a gross weight costs to send. Where nothing takes it, ok is false.
type Cost func(p Profile, grossG int64) (cost int64, ok bool)

// ByVolume is a cost where no tariff is known: few cartons, and of as little volume as does.
func ByVolume(p Profile, _ int64) (int64, bool) { return 1_000_000_000 + p.volume(), true }

// exactUpTo is up to how many units every way to divide them is tried.
const exactUpTo = 6

// Propose divides units over cartons so that they cost as little as possible to send.
func Propose(profiles []Profile, units []Unit, cost Cost) Proposal {
	w := &proposing{profiles: profiles, units: units, cost: cost, known: map[string]*Carton{}, same: make([]uint16, len(units))}
	first := map[Unit]uint16{}
	for i, u := range units {
		if _, ok := first[u]; !ok {
			first[u] = uint16(i)
		}
		w.same[i] = first[u]
	}
	var out Proposal
	var fit []int
	for i := range units {
		if w.cheapest([]int{i}) == nil {
			out.Unfit = append(out.Unfit, i)
		} else {
			fit = append(fit, i)
		}
	}
	switch {
	case len(fit) == 0:
	case len(fit) <= exactUpTo:
		out.Cartons = w.divide(fit)
	default:
		out.Cartons = w.greedy(fit)
	}
	return out
}

type proposing struct {
	profiles []Profile
	units    []Unit
	cost     Cost
	same     []uint16           // of each unit, the first that is the same
	known    map[string]*Carton // the cheapest carton by what goes into it
}

// key sorts units by what they are, and names what they are, not which: those that are the same pack the same.
func (w *proposing) key(of []int) ([]int, string) {
	of = slices.Clone(of)
	slices.SortFunc(of, func(a, b int) int { return cmp.Compare(w.same[a], w.same[b]) })
	b := make([]byte, 0, 2*len(of))
	for _, i := range of {
		b = append(b, byte(w.same[i]>>8), byte(w.same[i]))
	}
	return of, string(b)
}

// cheapest is the cheapest carton into which all of some units go; nil where there is none.
func (w *proposing) cheapest(of []int) *Carton {
	of, key := w.key(of)
	if c, ok := w.known[key]; ok {
		return c.with(of)
	}
	var best *Carton
	units := make([]Unit, len(of))
	var net int64
	for k, i := range of {
		units[k] = w.units[i]
		net += units[k].WeightG
	}
	for _, p := range w.profiles {
		cost, ok := w.cost(p, net+p.TareG)
		if !ok || best != nil && cost >= best.Cost {
			continue
		}
		if placed, fits := Load(p, units); fits {
			best = &Carton{Profile: p, Placed: placed, WeightG: net + p.TareG, Cost: cost}
		}
	}
	w.known[key] = best
	return best.with(of)
}

// with is a carton with units that are the same as those for which it was found.
func (c *Carton) with(of []int) *Carton {
	if c == nil {
		return nil
	}
	out := *c
	out.Units, out.Placed = slices.Clone(of), slices.Clone(c.Placed)
	for i := range out.Placed {
		out.Placed[i].Unit = of[out.Placed[i].Unit]
	}
	return &out
}

// divide tries every way to divide a few units over cartons.
func (w *proposing) divide(of []int) []Carton {
	all := 1<<len(of) - 1
	sum, first := make([]int64, all+1), make([]*Carton, all+1)
	for set := 1; set <= all; set++ {
		sum[set] = math.MaxInt64
		lowest := set & -set
		for part := set; part > 0; part = (part - 1) & set {
			if part&lowest == 0 || sum[set^part] == math.MaxInt64 {
				continue
			}
			c := w.cheapest(members(of, part))
			if c != nil && c.Cost+sum[set^part] < sum[set] {
				sum[set], first[set] = c.Cost+sum[set^part], c
			}
		}
	}
	var out []Carton
	for set := all; set > 0; {
		c := first[set]
		out = append(out, *c)
		for k, i := range of {
			if slices.Contains(c.Units, i) {
				set &^= 1 << k
			}
		}
	}
	return out
}

func members(of []int, set int) (out []int) {
	for k, i := range of {
		if set>>k&1 == 1 {
			out = append(out, i)
		}
	}
	return out
}

// greedy fills one carton after the other, and then looks for cheaper ones. It does so in a few ways, and takes the cheapest.
func (w *proposing) greedy(of []int) []Carton {
	var best []Carton
	lowest := int64(math.MaxInt64)
	for _, choose := range []func(c Carton) float64{
		func(c Carton) float64 { return float64(c.Cost) / max(1, w.filled(c)) }, // cost by volume
		func(c Carton) float64 { return -w.filled(c) },                          // as much as possible
	} {
		list := w.fillAll(of, choose)
		if list == nil {
			continue
		}
		list = w.better(list)
		var sum int64
		for _, c := range list {
			sum += c.Cost
		}
		if sum < lowest {
			best, lowest = list, sum
		}
	}
	return best
}

func (w *proposing) filled(c Carton) (volume float64) {
	for _, i := range c.Units {
		volume += float64(max(1, w.units[i].volume()))
	}
	return volume
}

// fillAll fills cartons until no unit is left: the one that is the best of all by a measure, the lowest first.
func (w *proposing) fillAll(of []int, measure func(c Carton) float64) (out []Carton) {
	for left := of; len(left) > 0; {
		if c := w.cheapest(left); c != nil {
			return append(out, *c)
		}
		var best *Carton
		lowest := math.Inf(1)
		for _, p := range w.profiles {
			c := w.filledWith(p, left)
			if c == nil {
				continue
			}
			if m := measure(*c); m < lowest {
				best, lowest = c, m
			}
		}
		if best == nil {
			return nil
		}
		out = append(out, *best)
		left = slices.DeleteFunc(slices.Clone(left), func(i int) bool { return slices.Contains(best.Units, i) })
	}
	return out
}

// filledWith is a carton of a profile with as much of some units as goes into it.
func (w *proposing) filledWith(p Profile, of []int) *Carton {
	var best *Carton
	for try := range 3 {
		l := newLoad(p, w.units)
		order := ordered(w.units, of, try)
		left := l.fill(order)
		in := slices.DeleteFunc(slices.Clone(order), func(i int) bool { return slices.Contains(left, i) })
		cost, ok := w.cost(p, l.weight+p.TareG)
		if !ok || len(in) == 0 {
			continue
		}
		c := Carton{Profile: p, Units: in, Placed: l.placed, WeightG: l.weight + p.TareG, Cost: cost}
		if best == nil || w.filled(c) > w.filled(*best) {
			best = &c
		}
	}
	return best
}

// better puts the contents of cartons into cheaper ones, and of two into one, where they go.
func (w *proposing) better(list []Carton) []Carton {
	for i := range list {
		if c := w.cheapest(list[i].Units); c != nil && c.Cost < list[i].Cost {
			list[i] = *c
		}
	}
	for i := 0; i < len(list); i++ {
		for k := i + 1; k < len(list); k++ {
			both := append(slices.Clone(list[i].Units), list[k].Units...)
			if c := w.cheapest(both); c != nil && c.Cost <= list[i].Cost+list[k].Cost {
				list[i] = *c
				list = slices.Delete(list, k, k+1)
				k = i
			}
		}
	}
	return list
}
