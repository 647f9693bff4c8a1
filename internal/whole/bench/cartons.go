package main

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"openrelay/internal/core/packing"
)

// benchCartons are cartons as a company keeps them.
var benchCartons = []packing.Profile{
	{Code: "mailer", LengthMM: 310, WidthMM: 230, HeightMM: 50, TareG: 60, MaxG: 2000},
	{Code: "small", LengthMM: 350, WidthMM: 250, HeightMM: 150, TareG: 220, MaxG: 8000},
	{Code: "medium", LengthMM: 450, WidthMM: 350, HeightMM: 300, TareG: 420, MaxG: 20_000},
	{Code: "large", LengthMM: 600, WidthMM: 400, HeightMM: 400, TareG: 780, MaxG: 25_000},
}

// goodsToPack are made-up goods of a few kinds, none of them too large for a carton.
func goodsToPack(rng *rand.Rand, n int) []packing.Unit {
	kinds := make([]packing.Unit, 1+rng.IntN(5))
	for i := range kinds {
		kinds[i] = packing.Unit{SKU: fmt.Sprint("K", i), LengthMM: 60 + rng.Int64N(390), WidthMM: 40 + rng.Int64N(300),
			HeightMM: 20 + rng.Int64N(260), WeightG: 50 + rng.Int64N(3000), Upright: rng.IntN(8) == 0, Fragile: rng.IntN(10) == 0}
	}
	out := make([]packing.Unit, n)
	for i := range out {
		out[i] = kinds[rng.IntN(len(kinds))]
	}
	return out
}

// cartons measures proposals: of few units against an exact search, of many against the bound by volume and weight, and what
// they cost against the smallest carton that takes all.
func (b *bench) cartons() error {
	b.fewUnits(b.of(2000, 20))
	b.manyUnits(b.of(400, 4))
	b.costOfCartons(b.of(1000, 10))
	return nil
}

func (b *bench) fewUnits(cases int) {
	rng := rand.New(rand.NewPCG(5, 8))
	asFew, open := 0, 0
	for range cases {
		units := goodsToPack(rng, 1+rng.IntN(6))
		p := packing.Propose(benchCartons, units, packing.ByVolume)
		fit := slices.DeleteFunc(allOf(units), func(i int) bool { return slices.Contains(p.Unfit, i) })
		switch fewer, known := exactlyFewer(units, fit, len(p.Cartons)); {
		case !known:
			open++
		case !fewer:
			asFew++
		}
	}
	share := 100 * float64(asFew) / float64(cases-open)
	b.add(fmt.Sprintf("cartons for up to 6 units: as few as an exact search (%d cases, %d too long to search)", cases, open), share, "%",
		0, "99 %", share >= 99)
}

func (b *bench) manyUnits(cases int) {
	rng := rand.New(rand.NewPCG(6, 8))
	var took []time.Duration
	var cartons, bound float64
	for range cases {
		units := goodsToPack(rng, 7+rng.IntN(54))
		began := time.Now()
		p := packing.Propose(benchCartons, units, packing.ByVolume)
		took = append(took, time.Since(began))
		var volume, weight int64
		for i, u := range units {
			if !slices.Contains(p.Unfit, i) {
				volume += u.LengthMM * u.WidthMM * u.HeightMM
				weight += u.WeightG
			}
		}
		most := benchCartons[len(benchCartons)-1]
		cartons += float64(len(p.Cartons))
		bound += float64(max(up(volume, most.LengthMM*most.WidthMM*most.HeightMM), up(weight, most.MaxG)))
	}
	slices.Sort(took)
	b.add("cartons for 7 to 60 units, against the bound by volume and weight", cartons/bound, "×", 0, "as low as can be", true)
	median, worst := millis(took[len(took)/2]), millis(took[len(took)-1])
	b.add("a proposal for 7 to 60 units, median", median, "ms", 0, "5 ms", median <= 5)
	b.add("a proposal for 7 to 60 units, worst", worst, "ms", 0, "100 ms", worst <= 100)
}

func up(n, by int64) int64 { return (n + by - 1) / by }

func millis(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// costOfCartons compares what proposals cost with taking, for each order, the smallest carton that takes all of it. Prices are
// those of a made-up tariff: by weight, with steps, and more for what is large.
func (b *bench) costOfCartons(cases int) {
	rng := rand.New(rand.NewPCG(7, 8))
	var ours, theirs int64
	for range cases {
		units := goodsToPack(rng, 1+rng.IntN(8))
		var smallest *int64
		for _, p := range benchCartons {
			if _, fits := packing.Load(p, units); fits {
				cost, _ := priceOf(p, gross(p, units))
				smallest = &cost
				break
			}
		}
		if smallest == nil {
			continue
		}
		theirs += *smallest
		for _, c := range packing.Propose(benchCartons, units, priceOf).Cartons {
			ours += c.Cost
		}
	}
	ratio := 100 * float64(ours) / float64(max(1, theirs))
	b.add("cost of cartons as proposed, against the smallest that takes the order", ratio, "%", 0, "not more", ratio <= 100)
}

func gross(p packing.Profile, units []packing.Unit) int64 {
	g := p.TareG
	for _, u := range units {
		g += u.WeightG
	}
	return g
}

func priceOf(p packing.Profile, gross int64) (int64, bool) {
	cost := int64(390)
	for _, step := range []struct{ over, more int64 }{{500, 130}, {2000, 160}, {5000, 310}, {10_000, 520}, {20_000, 900}} {
		if gross > step.over {
			cost += step.more
		}
	}
	if p.LengthMM+p.WidthMM+p.HeightMM > 1200 {
		cost += 700
	}
	return cost, gross <= 31_500
}

func allOf(units []packing.Unit) []int {
	out := make([]int, len(units))
	for i := range out {
		out[i] = i
	}
	return out
}

// exactSteps bounds the search for one carton; a case that needs more is told apart.
const exactSteps = 400_000

// exactlyFewer says whether units go into fewer cartons than were proposed, by trying every way to divide and to lay them; known
// is false where that took too long.
func exactlyFewer(units []packing.Unit, of []int, proposed int) (fewer, known bool) {
	if proposed <= 1 {
		return false, true
	}
	e := &exact{units: units, fits: map[int]int8{}}
	full := 0
	for _, i := range of {
		full |= 1 << i
	}
	least := map[int]int{0: 0}
	for set := 1; set <= full; set++ {
		if set&^full != 0 {
			continue
		}
		least[set] = len(of) + 1
		for part := set; part > 0; part = (part - 1) & set {
			if least[set^part]+1 < least[set] && e.goes(part) {
				least[set] = least[set^part] + 1
			}
		}
	}
	if least[full] < proposed {
		return true, true
	}
	return false, !e.cut
}

// exact searches whether units go into one carton.
type exact struct {
	units []packing.Unit
	fits  map[int]int8 // by set: 1 they go, 2 they do not
	cut   bool         // a search was given up
	left  int
}

func (e *exact) goes(set int) bool {
	if known := e.fits[set]; known != 0 {
		return known == 1
	}
	e.fits[set] = 2
	for _, p := range slices.Backward(benchCartons) {
		var of []int
		var volume, weight int64
		for i, u := range e.units {
			if set>>i&1 == 1 {
				of = append(of, i)
				volume += u.LengthMM * u.WidthMM * u.HeightMM
				weight += u.WeightG
			}
		}
		if volume > p.LengthMM*p.WidthMM*p.HeightMM || weight > p.MaxG {
			continue
		}
		e.left = exactSteps
		if e.lay(p, of, nil) {
			e.fits[set] = 1
			return true
		}
		e.cut = e.cut || e.left < 0
	}
	return false
}

// box is where a unit lies: from, and its sides.
type box struct {
	at, side [3]int64
	fragile  bool
}

// lay tries each unit next, at each crossing of the faces of those that lie, turned in each way.
func (e *exact) lay(p packing.Profile, open []int, lie []box) bool {
	if len(open) == 0 {
		return true
	}
	var faces [3][]int64
	for axis := range 3 {
		faces[axis] = []int64{0}
		for _, b := range lie {
			faces[axis] = append(faces[axis], b.at[axis]+b.side[axis])
		}
		slices.Sort(faces[axis])
		faces[axis] = slices.Compact(faces[axis])
	}
	tried := map[packing.Unit]bool{}
	for k, i := range open {
		u := e.units[i]
		if tried[u] {
			continue
		}
		tried[u] = true
		rest := slices.Delete(slices.Clone(open), k, k+1)
		for _, side := range ways(u) {
			for _, z := range faces[2] {
				for _, y := range faces[1] {
					for _, x := range faces[0] {
						if e.left--; e.left < 0 {
							return false
						}
						b := box{[3]int64{x, y, z}, side, u.Fragile}
						if b.stands(p, lie) && e.lay(p, rest, append(lie, b)) {
							return true
						}
					}
				}
			}
		}
	}
	return false
}

func ways(u packing.Unit) [][3]int64 {
	l, w, h := u.LengthMM, u.WidthMM, u.HeightMM
	all := [][3]int64{{l, w, h}, {w, l, h}}
	if !u.Upright {
		all = append(all, [3]int64{l, h, w}, [3]int64{h, l, w}, [3]int64{w, h, l}, [3]int64{h, w, l})
	}
	return all
}

// stands says whether a unit can lie where it is: in the carton, in no other, on enough, on nothing fragile.
func (b box) stands(p packing.Profile, lie []box) bool {
	size := [3]int64{p.LengthMM, p.WidthMM, p.HeightMM}
	for axis := range 3 {
		if b.at[axis]+b.side[axis] > size[axis] {
			return false
		}
	}
	var base int64
	for _, o := range lie {
		var over [3]int64
		for axis := range 3 {
			over[axis] = max(0, min(b.at[axis]+b.side[axis], o.at[axis]+o.side[axis])-max(b.at[axis], o.at[axis]))
		}
		area := over[0] * over[1]
		switch {
		case area == 0:
		case over[2] > 0, o.at[2]+o.side[2] == b.at[2] && o.fragile, b.at[2]+b.side[2] == o.at[2] && b.fragile:
			return false
		case o.at[2]+o.side[2] == b.at[2]:
			base += area
		}
	}
	return b.at[2] == 0 || base*10 >= 6*b.side[0]*b.side[1]
}
