package packing

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// sane says that what was loaded can be: in the carton, nothing over another, all on something, nothing on what is fragile.
func sane(t *testing.T, p Profile, units []Unit, placed []Placed) {
	t.Helper()
	var weight int64
	for i, a := range placed {
		u := units[a.Unit]
		weight += u.WeightG
		require.Equal(t, sorted(u.LengthMM, u.WidthMM, u.HeightMM), sorted(a.Length, a.Width, a.Height), "it is turned, not bent")
		if u.Upright {
			require.Equal(t, u.HeightMM, a.Height, "it stands")
		}
		require.True(t, a.X >= 0 && a.Y >= 0 && a.Z >= 0 && a.X+a.Length <= p.LengthMM && a.Y+a.Width <= p.WidthMM &&
			a.Z+a.Height <= p.HeightMM, "%+v sticks out of %+v", a, p)
		var stands int64
		for k, b := range placed {
			area := across(a.X, a.Length, b.X, b.Length) * across(a.Y, a.Width, b.Y, b.Width)
			if i == k || area == 0 {
				continue
			}
			require.Zero(t, across(a.Z, a.Height, b.Z, b.Height), "%+v and %+v lie in one another", a, b)
			if b.Z+b.Height == a.Z {
				require.False(t, units[b.Unit].Fragile, "%+v stands on what is fragile", a)
				stands += area
			}
		}
		require.True(t, a.Z == 0 || stands*100 >= supported*a.Length*a.Width, "%+v floats", a)
	}
	if p.MaxG > 0 {
		require.LessOrEqual(t, weight, p.MaxG)
	}
}

var cube = Profile{Code: "cube", LengthMM: 200, WidthMM: 200, HeightMM: 200, TareG: 100, MaxG: 10_000}

func TestLoadingACarton(t *testing.T) {
	block := Unit{SKU: "BLOCK", LengthMM: 100, WidthMM: 100, HeightMM: 100, WeightG: 500}
	plank := Unit{SKU: "PLANK", LengthMM: 30, WidthMM: 200, HeightMM: 200, WeightG: 10}
	vase := Unit{SKU: "VASE", LengthMM: 200, WidthMM: 200, HeightMM: 100, WeightG: 10, Upright: true, Fragile: true}
	lamp := Unit{SKU: "LAMP", LengthMM: 80, WidthMM: 80, HeightMM: 210, WeightG: 10}
	times := func(u Unit, n int) (out []Unit) {
		for range n {
			out = append(out, u)
		}
		return out
	}
	upright := lamp
	upright.Upright = true
	for _, c := range []struct {
		name  string
		units []Unit
		fits  bool
	}{
		{"nothing", nil, true},
		{"eight blocks fill it", times(block, 8), true},
		{"nine do not go", times(block, 9), false},
		{"turned", []Unit{plank, plank, plank, plank, plank, plank}, true},
		{"too long each way", []Unit{lamp}, false},
		{"upright is not turned", []Unit{upright}, false},
		{"two vases: one would stand on the other", []Unit{vase, vase}, false},
		{"a vase on blocks", append(times(block, 4), vase), true},
		{"five blocks and a vase", append(times(block, 5), vase), false},
		{"too heavy", times(Unit{SKU: "LEAD", LengthMM: 10, WidthMM: 10, HeightMM: 10, WeightG: 6000}, 2), false},
		{"of unknown size", times(Unit{SKU: "CARD", WeightG: 5}, 40), true},
	} {
		t.Run(c.name, func(t *testing.T) {
			placed, fits := Load(cube, c.units)
			require.Equal(t, c.fits, fits)
			if fits {
				sane(t, cube, c.units, placed)
			}
		})
	}
}

// someUnits are made-up goods: a few kinds, in a few pieces.
func someUnits(rng *rand.Rand, n int) []Unit {
	kinds := make([]Unit, 1+rng.IntN(5))
	side := func() int64 { return 40 + rng.Int64N(260) }
	for i := range kinds {
		kinds[i] = Unit{SKU: fmt.Sprint("K", i), LengthMM: side(), WidthMM: side(), HeightMM: 20 + rng.Int64N(180),
			WeightG: 50 + rng.Int64N(2000), Upright: rng.IntN(6) == 0, Fragile: rng.IntN(8) == 0}
	}
	out := make([]Unit, n)
	for i := range out {
		out[i] = kinds[rng.IntN(len(kinds))]
	}
	return out
}

var cartons = []Profile{
	{Code: "mailer", LengthMM: 310, WidthMM: 230, HeightMM: 50, TareG: 60, MaxG: 2000},
	{Code: "small", LengthMM: 350, WidthMM: 250, HeightMM: 150, TareG: 220, MaxG: 8000},
	{Code: "medium", LengthMM: 450, WidthMM: 350, HeightMM: 300, TareG: 420, MaxG: 20_000},
	{Code: "large", LengthMM: 600, WidthMM: 400, HeightMM: 400, TareG: 780, MaxG: 25_000},
}

// TestProposalsHoldEachUnitOnce, in cartons that can be loaded so, whatever the goods; the same goods are proposed the same.
func TestProposalsHoldEachUnitOnce(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 3))
	for range 150 {
		units := someUnits(rng, 1+rng.IntN(40))
		p := Propose(cartons, units, ByVolume)
		seen := map[int]bool{}
		for _, c := range p.Cartons {
			require.NotEmpty(t, c.Units)
			net := c.Profile.TareG
			for _, i := range c.Units {
				require.False(t, seen[i], "unit %d is packed twice", i)
				seen[i] = true
				net += units[i].WeightG
			}
			require.Equal(t, net, c.WeightG)
			require.Len(t, c.Placed, len(c.Units))
			sane(t, c.Profile, units, c.Placed)
		}
		for _, i := range p.Unfit {
			require.False(t, seen[i])
			seen[i] = true
			for _, carton := range cartons {
				_, fits := Load(carton, units[i:i+1])
				require.False(t, fits)
			}
		}
		require.Len(t, seen, len(units))
		require.Equal(t, p, Propose(cartons, units, ByVolume))
	}
}

// TestTheCheapestIsProposed: by what it costs to send, and not by volume: two small parcels may cost less than a large one.
func TestTheCheapestIsProposed(t *testing.T) {
	block := Unit{SKU: "BLOCK", LengthMM: 250, WidthMM: 200, HeightMM: 140, WeightG: 3000}
	units := []Unit{block, block, block}
	one := Propose(cartons, units, ByVolume)
	require.Len(t, one.Cartons, 1)
	require.Equal(t, "medium", one.Cartons[0].Profile.Code)
	dear := func(p Profile, gross int64) (int64, bool) {
		return map[string]int64{"small": 400, "medium": 1300, "large": 2000}[p.Code], p.Code != "mailer" && gross < 15_000
	}
	three := Propose(cartons, units, dear)
	require.Len(t, three.Cartons, 3)
	for _, c := range three.Cartons {
		require.Equal(t, "small", c.Profile.Code)
		require.EqualValues(t, 400, c.Cost)
	}
	none := Propose(cartons, units, func(Profile, int64) (int64, bool) { return 0, false })
	require.Empty(t, none.Cartons)
	require.Len(t, none.Unfit, 3)
}

func FuzzLoad(f *testing.F) {
	f.Add(uint64(1), int64(200), int64(200), int64(200), 5)
	f.Fuzz(func(t *testing.T, seed uint64, l, w, h int64, n int) {
		p := Profile{LengthMM: max(1, l%2000), WidthMM: max(1, w%2000), HeightMM: max(1, h%2000), MaxG: 20_000}
		units := someUnits(rand.New(rand.NewPCG(seed, 1)), max(0, n%30))
		if placed, fits := Load(p, units); fits {
			sane(t, p, units, placed)
		}
	})
}
