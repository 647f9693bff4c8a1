package packing

import (
	"cmp"
	"math/rand/v2"
	"slices"
)

// Unit is one piece of an item that is to be packed. Lengths are millimetres, its weight grams; a side of zero is unknown, and
// such a unit needs no room.
type Unit struct {
	SKU                         string
	LengthMM, WidthMM, HeightMM int64
	WeightG                     int64
	Upright                     bool // its height stays upright
	Fragile                     bool // nothing stands on it
}

func (u Unit) volume() int64 { return u.LengthMM * u.WidthMM * u.HeightMM }

// sized says whether it is known how large a unit is.
func (u Unit) sized() bool { return u.LengthMM > 0 && u.WidthMM > 0 && u.HeightMM > 0 }

// Placed is where a unit lies in a carton: its corner nearest to the carton's corner, and its sides as it is turned, along the
// carton's length, width and height, in millimetres.
type Placed struct {
	Unit    int   `json:"-"` // its index
	X       int64 `json:"x"`
	Y       int64 `json:"y"`
	Z       int64 `json:"z"`
	Length  int64 `json:"length"`
	Width   int64 `json:"width"`
	Height  int64 `json:"height"`
	fragile bool
}

// supported is how much of a unit's base must stand on something, of 100.
const supported = 60

// tries bounds how many orders of the units are tried until they fit.
const tries = 12

// Load finds places in a carton for all units, or says that none were found. Nothing overlaps, nothing floats, nothing stands
// on what is fragile, and no more is loaded than the carton carries.
func Load(p Profile, units []Unit) ([]Placed, bool) {
	var weight, volume int64
	for _, u := range units {
		weight += u.WeightG
		volume += u.volume()
	}
	if p.MaxG > 0 && weight > p.MaxG || volume > p.volume() {
		return nil, false
	}
	all := make([]int, len(units))
	for i := range all {
		all[i] = i
	}
	for try := range tries {
		inner := newLoad(p, units)
		left := inner.fill(ordered(units, all, try))
		if len(left) == 0 {
			return inner.placed, true
		}
	}
	if len(units) <= searched {
		return search(p, units)
	}
	return nil, false
}

func (p Profile) volume() int64 { return p.LengthMM * p.WidthMM * p.HeightMM }

// ordered are units in the order in which they are tried: by volume, by base, by the longest side, and then by volume with
// some of them swapped. The same try of the same units is always the same order.
func ordered(units []Unit, of []int, try int) []int {
	out := slices.Clone(of)
	key := func(u Unit) int64 {
		s := sorted(u.LengthMM, u.WidthMM, u.HeightMM)
		switch try {
		case 1:
			return s[0] * s[1]
		case 2:
			return s[0]
		}
		return u.volume()
	}
	slices.SortStableFunc(out, func(a, b int) int {
		x, y := units[a], units[b]
		if x.Fragile != y.Fragile { // what nothing stands on comes last, and so to lie on top
			return map[bool]int{true: 1, false: -1}[x.Fragile]
		}
		return cmp.Compare(key(y), key(x))
	})
	rng := rand.New(rand.NewPCG(uint64(try), uint64(len(of))))
	for range max(0, try-2) {
		i, j := rng.IntN(len(out)), rng.IntN(len(out))
		out[i], out[j] = out[j], out[i]
	}
	return out
}

// load is a carton that is being filled.
type load struct {
	carton Profile
	units  []Unit
	placed []Placed
	points [][3]int64 // where the corner of the next unit may come to lie
	weight int64
}

func newLoad(p Profile, units []Unit) *load {
	return &load{carton: p, units: units, points: [][3]int64{{}}}
}

// fill places units in their order and returns those for which there was no place.
func (l *load) fill(order []int) (left []int) {
	for _, i := range order {
		u := l.units[i]
		if l.carton.MaxG > 0 && l.weight+u.WeightG > l.carton.MaxG {
			left = append(left, i)
			continue
		}
		if !u.sized() {
			l.weight += u.WeightG
			continue
		}
		at, ok := l.place(i)
		if !ok {
			left = append(left, i)
			continue
		}
		l.put(at)
	}
	return left
}

// place is the lowest place for a unit, and of the lowest the one farthest back.
func (l *load) place(i int) (Placed, bool) {
	turned := turns(l.units[i])
	for _, pt := range l.points {
		for _, d := range turned {
			at := Placed{Unit: i, X: pt[0], Y: pt[1], Z: pt[2], Length: d[0], Width: d[1], Height: d[2], fragile: l.units[i].Fragile}
			if l.takes(at) {
				return at, true
			}
		}
	}
	return Placed{}, false
}

// turns are the ways in which a unit may lie, the flattest first.
func turns(u Unit) [][3]int64 {
	l, w, h := u.LengthMM, u.WidthMM, u.HeightMM
	all := [][3]int64{{l, w, h}, {w, l, h}}
	if !u.Upright {
		all = append(all, [3]int64{l, h, w}, [3]int64{h, l, w}, [3]int64{w, h, l}, [3]int64{h, w, l})
	}
	slices.SortStableFunc(all, func(a, b [3]int64) int { return cmp.Compare(a[2], b[2]) })
	return slices.CompactFunc(all, func(a, b [3]int64) bool { return a == b })
}

// takes says whether a unit can lie somewhere.
func (l *load) takes(at Placed) bool {
	if at.X+at.Length > l.carton.LengthMM || at.Y+at.Width > l.carton.WidthMM || at.Z+at.Height > l.carton.HeightMM {
		return false
	}
	var stands int64
	for i := range l.placed {
		o := &l.placed[i]
		if across(at.X, at.Length, o.X, o.Length) == 0 || across(at.Y, at.Width, o.Y, o.Width) == 0 {
			continue
		}
		if across(at.Z, at.Height, o.Z, o.Height) > 0 {
			return false
		}
		area := across(at.X, at.Length, o.X, o.Length) * across(at.Y, at.Width, o.Y, o.Width)
		switch {
		case o.Z+o.Height == at.Z && o.fragile, at.Z+at.Height == o.Z && at.fragile:
			return false
		case o.Z+o.Height == at.Z:
			stands += area
		}
	}
	return at.Z == 0 || stands*100 >= at.Length*at.Width*supported
}

// across is how far two spans lie over each other.
func across(a, n, b, m int64) int64 { return max(0, min(a+n, b+m)-max(a, b)) }

// put places a unit and finds the points that come to be by it, from back, left and below.
func (l *load) put(at Placed) {
	l.weight += l.units[at.Unit].WeightG
	l.placed = append(l.placed, at)
	for _, pt := range [][3]int64{{at.X + at.Length, at.Y, at.Z}, {at.X, at.Y + at.Width, at.Z}, {at.X, at.Y, at.Z + at.Height}} {
		l.point(pt)
		l.point([3]int64{l.slide(pt, 0), pt[1], pt[2]})
		l.point([3]int64{pt[0], l.slide(pt, 1), pt[2]})
		l.point([3]int64{pt[0], pt[1], l.slide(pt, 2)})
	}
	l.points = slices.DeleteFunc(l.points, func(p [3]int64) bool { return at.covers(p) })
}

// slide is how far a point slides along an axis until it meets a unit or the carton.
func (l *load) slide(pt [3]int64, axis int) (to int64) {
	for i := range l.placed {
		o := &l.placed[i]
		from, size := [3]int64{o.X, o.Y, o.Z}, [3]int64{o.Length, o.Width, o.Height}
		meets := true
		for k := range 3 {
			meets = meets && (k == axis || pt[k] >= from[k] && pt[k] < from[k]+size[k])
		}
		if end := from[axis] + size[axis]; meets && end <= pt[axis] {
			to = max(to, end)
		}
	}
	return to
}

func (p Placed) covers(pt [3]int64) bool {
	return pt[0] >= p.X && pt[0] < p.X+p.Length && pt[1] >= p.Y && pt[1] < p.Y+p.Width && pt[2] >= p.Z && pt[2] < p.Z+p.Height
}

// point adds a point, lowest first, then farthest back, then leftmost; one that is there, or outside, is left out.
func (l *load) point(pt [3]int64) {
	if pt[0] >= l.carton.LengthMM || pt[1] >= l.carton.WidthMM || pt[2] >= l.carton.HeightMM {
		return
	}
	for i := range l.placed {
		if l.placed[i].covers(pt) {
			return
		}
	}
	i, found := slices.BinarySearchFunc(l.points, pt, func(a, b [3]int64) int {
		return cmp.Or(cmp.Compare(a[2], b[2]), cmp.Compare(a[1], b[1]), cmp.Compare(a[0], b[0]))
	})
	if !found {
		l.points = slices.Insert(l.points, i, pt)
	}
}

const (
	searched = 6    // so many units are searched for a place in every order, where the quick ways found none
	steps    = 4000 // that a search takes at most
)

// search tries units in every order and way, at each corner that the others make, until they fit or it took too many steps.
func search(p Profile, units []Unit) ([]Placed, bool) {
	var all []int
	l := newLoad(p, units)
	for i, u := range units {
		if u.sized() {
			all = append(all, i)
		}
	}
	left := steps
	if l.searchFrom(all, &left) {
		return l.placed, true
	}
	return nil, false
}

func (l *load) searchFrom(open []int, left *int) bool {
	if len(open) == 0 {
		return true
	}
	seen := map[Unit]bool{} // of units that are the same, one is tried
	for k, i := range open {
		if seen[l.units[i]] {
			continue
		}
		seen[l.units[i]] = true
		rest := slices.Delete(slices.Clone(open), k, k+1)
		for _, pt := range l.points {
			for _, d := range turns(l.units[i]) {
				if *left--; *left < 0 {
					return false
				}
				at := Placed{Unit: i, X: pt[0], Y: pt[1], Z: pt[2], Length: d[0], Width: d[1], Height: d[2], fragile: l.units[i].Fragile}
				if !l.takes(at) {
					continue
				}
				was := *l
				was.points, was.placed = slices.Clone(l.points), slices.Clone(l.placed)
				l.put(at)
				if l.searchFrom(rest, left) {
					return true
				}
				*l = was
			}
		}
	}
	return false
}
