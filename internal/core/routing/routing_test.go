package routing

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// letters is a service that takes up to 2 kg, and boxes one that takes up to 20 kg.
var (
	letters = Service{"plover", "PL", []Step{{500, 200}, {2000, 390}}}
	boxes   = Service{"ironway", "BX", []Step{{5000, 690}, {10000, 950}, {20000, 1500}}}
)

// twoPlaces asks for jars and lids, of which each place has so many.
func twoPlaces(jarsA, jarsB, lidsA, lidsB int64) *Question {
	return &Question{Currency: "EUR", Day: "2026-11-30", By: -1, Services: []Service{letters, boxes},
		Wants: []Want{{Line: 1, SKU: "JAR", Units: 4, WeightG: 1000, Needs: []Need{{0, 1}}},
			{Line: 2, SKU: "LID", Units: 2, WeightG: 100, Needs: []Need{{1, 1}}}},
		Goods:  []Good{{Item: 10, Free: []int64{jarsA, jarsB}}, {Item: 11, Free: []int64{lidsA, lidsB}}},
		Places: []Place{{ID: 1, Code: "alder", Arrives: []int{2, 1}}, {ID: 2, Code: "pier", Arrives: []int{2, 1}}}}
}

func sends(p Plan) (out []string) {
	for _, e := range p.Entries {
		for _, u := range e.Units {
			out = append(out, fmt.Sprintf("%s %d %s", e.Place, u.Units, u.SKU))
		}
	}
	return out
}

func TestOnePlaceThatHasAllIsTakenBeforeTwo(t *testing.T) {
	p := &Policy{On: true, Parcel: 150}
	got := Solve(twoPlaces(9, 9, 0, 9), p)
	require.Equal(t, []string{"pier 4 JAR", "pier 2 LID"}, sends(got))
	require.Equal(t, int64(690+150), got.Cost)
	require.Equal(t, []Term{{"freight by ironway/BX, 4.2 kg", 690}, {"1 × a parcel", 150}}, got.Entries[0].Terms)
	require.Equal(t, 1, got.Entries[0].Arrives)
	require.False(t, got.Rough)
}

func TestAnOrderIsSplitWhereItMust(t *testing.T) {
	got := Solve(twoPlaces(4, 0, 0, 1), &Policy{On: true, Parcel: 150})
	require.Equal(t, []string{"alder 4 JAR", "pier 1 LID"}, sends(got))
	require.Equal(t, []Units{{2, "LID", 1}}, got.Waits)
	require.Equal(t, int64(690+150+200+150), got.Cost)

	q := twoPlaces(4, 0, 0, 1)
	q.Single = true
	got = Solve(q, &Policy{On: true, Parcel: 150})
	require.Equal(t, []string{"alder 4 JAR"}, sends(got), "most of what is wanted")
	require.Equal(t, []Units{{2, "LID", 2}}, got.Waits)
}

// TestWhatMustNotBeSplitWaitsForAllOfIt: but where some of it is sent from a place anyhow, the rest follows from there.
func TestWhatMustNotBeSplitWaitsForAllOfIt(t *testing.T) {
	q, p := twoPlaces(4, 0, 0, 1), &Policy{On: true, Parcel: 150}
	one := Choose(q, p)
	require.Len(t, sends(one), 2)
	q.Single = true
	got := Choose(q, p)
	require.Empty(t, got.Entries)
	require.Zero(t, got.Cost)
	require.Equal(t, []Units{{1, "JAR", 4}, {2, "LID", 2}}, got.Waits)
	require.False(t, got.SendsAs(&one))
	q.Places[0].BeginsG = 100
	require.Equal(t, []string{"alder 4 JAR"}, sends(Choose(q, p)))
	q = twoPlaces(4, 4, 2, 0)
	q.Single = true
	require.Equal(t, []string{"alder 4 JAR", "alder 2 LID"}, sends(Choose(q, p)))
}

func TestAnOrderIsSplitWhereItPays(t *testing.T) {
	q := twoPlaces(9, 9, 9, 9)
	q.Services = []Service{{"plover", "PL", []Step{{2300, 300}}}, {"ironway", "BX", []Step{{20000, 1900}}}}
	got := Solve(q, &Policy{On: true, Parcel: 10, Places: map[string]PlaceTerms{"pier": {Order: 5}}})
	require.Equal(t, int64(10+300+10+300+5), got.Cost, "two light parcels cost less than a heavy one")
	require.Len(t, got.Entries, 2)

	q.Services = q.Services[:1]
	got = Solve(q, &Policy{On: true, Parcel: 10, Places: map[string]PlaceTerms{"pier": {Order: 5}}})
	require.Equal(t, int64(2), got.Entries[0].Parcels, "what is too heavy for one parcel goes in two")
	require.Equal(t, int64(10+300+10+300), got.Cost)
	require.Len(t, got.Entries, 1)
}

func TestLateCosts(t *testing.T) {
	q := twoPlaces(9, 9, 9, 9)
	q.By = 2
	q.Places[0].Arrives, q.Places[1].Arrives = []int{5, 5}, []int{2, 2}
	p := &Policy{On: true, Parcel: 150, LateDay: 100, Places: map[string]PlaceTerms{"pier": {Order: 250}}}
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place, "three days late cost more than work there")
	p.LateDay = 80
	got := Solve(q, p)
	require.Equal(t, "alder", got.Entries[0].Place)
	require.Contains(t, got.Entries[0].Terms, Term{"5 days on the way, 3 later than promised", 240})
	p.Day = 10
	require.Equal(t, "pier", Solve(q, p).Entries[0].Place, "each day counts, promised or not")
}

func TestWhatAPlaceCannotSend(t *testing.T) {
	q := twoPlaces(9, 9, 9, 9)
	q.Wants[0].Marks = []string{"live", "serials"}
	p := &Policy{On: true, Parcel: 150, Places: map[string]PlaceTerms{"alder": {Cannot: []string{"live"}}, "pier": {Order: 900}}}
	require.Equal(t, []string{"pier 4 JAR", "pier 2 LID"}, sends(Solve(q, p)))
	require.Equal(t, []Bar{{"alder", "JAR: not sent from there: live"}}, Bars(q, p))

	q.Places[1].Barred = "closed until 2027-01-04"
	got := Solve(q, p)
	require.Equal(t, []string{"alder 2 LID"}, sends(got))
	require.Equal(t, []Units{{1, "JAR", 4}}, got.Waits)
	require.Equal(t, []Bar{{"alder", "JAR: not sent from there: live"}, {"pier", "closed until 2027-01-04"}}, Bars(q, p))

	q.Places[0].Arrives = []int{-1, -1}
	require.Empty(t, Solve(q, p).Entries)
	require.Equal(t, "no carrier that fetches there delivers to the address", Bars(q, p)[0].Why)
}

func TestAKitTakesItsPartsFromOneShelf(t *testing.T) {
	q := twoPlaces(4, 3, 4, 4)
	q.Wants = []Want{{Line: 1, SKU: "SET", Units: 3, WeightG: 900, Needs: []Need{{0, 2}, {1, 1}}},
		{Line: 2, SKU: "LID", Units: 5, Needs: []Need{{1, 1}}}}
	got := Solve(q, &Policy{On: true, Parcel: 150})
	require.Empty(t, got.Waits)
	require.ElementsMatch(t, []string{"alder 2 SET", "alder 2 LID", "pier 1 SET", "pier 3 LID"}, sends(got))
}

func TestWhatARuleWantsComesFirst(t *testing.T) {
	q := twoPlaces(3, 9, 9, 9)
	q.Places[0].First = true
	require.ElementsMatch(t, []string{"alder 3 JAR", "alder 2 LID", "pier 1 JAR"}, sends(Solve(q, &Policy{On: true, Parcel: 150})))
}

func TestWhatIsBegunIsAddedTo(t *testing.T) {
	q := twoPlaces(9, 9, 9, 9)
	q.Places[1].BeginsG = 500
	p := &Policy{On: true, Parcel: 150, Places: map[string]PlaceTerms{"pier": {Order: 300}}}
	got := Solve(q, p)
	require.Equal(t, []string{"pier 4 JAR", "pier 2 LID"}, sends(got))
	require.Equal(t, int64(690-200), got.Cost, "a parcel leaves there anyhow")
}

func TestRunnersUp(t *testing.T) {
	q, p := twoPlaces(9, 9, 9, 9), &Policy{On: true, Parcel: 150, Places: map[string]PlaceTerms{"pier": {Order: 120}}}
	got := Solve(q, p)
	require.Equal(t, "alder", got.Entries[0].Place)
	list := RunnersUp(q, p, got)
	require.Len(t, list, 1)
	require.Equal(t, "alder", list[0].Without)
	require.Equal(t, got.Cost+120, list[0].Cost)
	require.Empty(t, q.Places[0].Barred, "the question stays as it was")
}

func TestPoliciesThatCannotBeMeant(t *testing.T) {
	known := func(code string) bool { return code == "alder" }
	for says, p := range map[string]Policy{
		`there is no place "moon"`:       {Places: map[string]PlaceTerms{"moon": {}}},
		"alder: nothing may be negative": {Places: map[string]PlaceTerms{"alder": {Keep: -1}}},
		"alder: cannot: one is empty":    {Places: map[string]PlaceTerms{"alder": {Cannot: []string{""}}}},
		"nothing may be negative":        {LateDay: -1},
		"would be split for nothing":     {On: true},
	} {
		require.ErrorContains(t, p.Check(known), says)
	}
	require.NoError(t, (&Policy{On: true, Parcel: 1, Places: map[string]PlaceTerms{"alder": {Keep: 2}}}).Check(known))
}

// random makes a question with a policy: of places, lines with up to most units, and services.
func random(rng *rand.Rand, places, lines int, most int64) (*Question, *Policy) {
	q := &Question{Currency: "EUR", Day: "2026-11-30", By: rng.IntN(6) - 1, Single: rng.IntN(8) == 0}
	p := &Policy{On: true, Parcel: 50 + rng.Int64N(300), Day: rng.Int64N(30), LateDay: rng.Int64N(200), Places: map[string]PlaceTerms{}}
	if rng.IntN(4) == 0 {
		p.MostPlaces = 1 + rng.IntN(3)
	}
	for range 1 + rng.IntN(3) {
		v := Service{Carrier: "c", Code: fmt.Sprint(len(q.Services))}
		var upTo, price int64
		for range 1 + rng.IntN(4) {
			upTo, price = upTo+500+rng.Int64N(4000), price+100+rng.Int64N(500)
			v.Steps = append(v.Steps, Step{upTo, price})
		}
		q.Services = append(q.Services, v)
	}
	for i := range places {
		pl := Place{ID: int64(i + 1), Code: fmt.Sprintf("p%d", i)}
		for range q.Services {
			pl.Arrives = append(pl.Arrives, rng.IntN(7)-1)
		}
		if rng.IntN(10) == 0 {
			pl.BeginsG = 1 + rng.Int64N(2000)
		}
		if rng.IntN(4) == 0 {
			pl.Asks = &Asks{Order: rng.Int64N(300), Line: rng.Int64N(40), Unit: rng.Int64N(30), Parcel: rng.Int64N(400), Days: rng.IntN(6)}
		}
		q.Places = append(q.Places, pl)
		if rng.IntN(2) == 0 {
			p.Places[pl.Code] = PlaceTerms{Order: rng.Int64N(300), Unit: rng.Int64N(20)}
		}
	}
	for range lines {
		g := Good{Item: int64(len(q.Goods) + 1)}
		for range places {
			g.Free = append(g.Free, rng.Int64N(most+2))
		}
		q.Goods = append(q.Goods, g)
	}
	for i := range lines {
		w := Want{Line: int64(i + 1), SKU: fmt.Sprintf("S%d", i), Units: 1 + rng.Int64N(most), WeightG: rng.Int64N(3000),
			Needs: []Need{{rng.IntN(len(q.Goods)), 1}}}
		if other := rng.IntN(len(q.Goods)); rng.IntN(5) == 0 && other != w.Needs[0].Good {
			w.Needs = append(w.Needs, Need{other, 1 + rng.Int64N(2)})
		}
		q.Wants = append(q.Wants, w)
	}
	return q, p
}

// exhaustive tries every way and prices each as a person would, without what the search does.
func exhaustive(q *Question, p *Policy) (waits, cost int64) {
	waits = 1 << 40
	take := grid(len(q.Wants), len(q.Places))
	var try func(line, at int, left int64)
	try = func(line, at int, left int64) {
		if line == len(q.Wants) {
			w, c, ok := priced(q, p, take)
			if ok && (w < waits || w == waits && c < cost) {
				waits, cost = w, c
			}
			return
		}
		if at == len(q.Places) {
			next := int64(0)
			if line+1 < len(q.Wants) {
				next = q.Wants[line+1].Units
			}
			try(line+1, 0, next)
			return
		}
		for n := range left + 1 {
			take[line][at] = n
			try(line, at+1, left-n)
		}
		take[line][at] = 0
	}
	try(0, 0, q.Wants[0].Units)
	return waits, cost
}

// priced is what a way costs and leaves waiting; false: it cannot be.
func priced(q *Question, p *Policy, take [][]int64) (waits, cost int64, ok bool) {
	for g := range q.Goods {
		for at := range q.Places {
			var need int64
			for line, w := range q.Wants {
				for _, x := range w.Needs {
					if x.Good == g {
						need += take[line][at] * x.Per
					}
				}
			}
			if free := max(0, q.Goods[g].Free[at]-keptFrom(q, p, g, at)); need > free {
				return 0, 0, false
			}
		}
	}
	used, added, sending := 0, false, map[string]bool{}
	for at, pl := range q.Places {
		var units, weight int64
		for line, w := range q.Wants {
			units += take[line][at]
			weight += take[line][at] * w.WeightG
		}
		if units > 0 || pl.BeginsG > 0 && pl.Later == 0 {
			used++
		}
		if units == 0 {
			continue
		}
		if sending[pl.Code] || pl.Later > p.MostWait {
			return 0, 0, false // it sends now or later
		}
		if sending[pl.Code] = true; pl.Later > 0 && pl.BeginsG > 0 {
			used-- // it is counted as it is now
		}
		whole, ok := parcelsFrom(q, p, at, pl.BeginsG+weight)
		if !ok {
			return 0, 0, false
		}
		c := whole + p.Places[pl.Code].Unit*units
		if pl.Asks != nil {
			c += pl.Asks.Unit * units
			for line := range q.Wants {
				c += min(1, take[line][at]) * pl.Asks.Line
			}
		}
		if pl.BeginsG == 0 {
			if c += p.Places[pl.Code].Order; pl.Asks != nil {
				c += pl.Asks.Order
			}
			added = true
		} else {
			now := slices.IndexFunc(q.Places, func(x Place) bool { return x.Code == pl.Code })
			before, _ := parcelsFrom(q, p, now, pl.BeginsG)
			c -= before
		}
		cost += max(0, c)
	}
	if added && (q.Single && used > 1 || p.MostPlaces > 0 && used > p.MostPlaces) {
		return 0, 0, false
	}
	for line, w := range q.Wants {
		waits += w.Units
		for _, n := range take[line] {
			waits -= n
		}
	}
	return waits, cost, true
}

// keptFrom is how much of a good at a place is kept from the order.
func keptFrom(q *Question, p *Policy, good, at int) int64 {
	if p.Urgent == nil || q.By >= 0 && q.By <= p.Urgent.Days || q.Goods[good].Lies == nil {
		return 0
	}
	return q.Goods[good].Lies[at] * int64(p.Urgent.Share) / 100
}

// parcelsFrom is what a weight costs from a place in as few parcels as it takes.
func parcelsFrom(q *Question, p *Policy, at int, weight int64) (cost int64, ok bool) {
	way := q.Places[at].Km * p.Km100 / 100
	if asks := q.Places[at].Asks; asks != nil {
		days := asks.Days + q.Places[at].Later
		cost = asks.Parcel + int64(days)*p.Day + way
		if q.By >= 0 && days > q.By {
			cost += int64(days-q.By) * p.LateDay
		}
		return cost, true
	}
	one := func(weight int64) (int64, bool) {
		best, found := int64(0), false
		for i, v := range q.Services {
			days := q.Places[at].Arrives[i]
			price, takes := v.price(weight)
			if days < 0 || !takes {
				continue
			}
			days += q.Places[at].Later
			if price += int64(days) * p.Day; q.By >= 0 && days > q.By {
				price += int64(days-q.By) * p.LateDay
			}
			if !found || price < best {
				best, found = price, true
			}
		}
		return best, found
	}
	var most int64
	for i, v := range q.Services {
		if q.Places[at].Arrives[i] >= 0 {
			most = max(most, v.Steps[len(v.Steps)-1].UpToG)
		}
	}
	if most == 0 {
		return 0, false
	}
	for weight > most {
		c, _ := one(most)
		cost, weight = cost+c+p.Parcel+way, weight-most
	}
	c, ok := one(weight)
	return cost + c + p.Parcel + way, ok
}

// withMore adds to a random question how far places are, what lies there, and what is to come to them.
func withMore(rng *rand.Rand, q *Question, p *Policy) {
	p.Km100, p.MostWait = rng.Int64N(60), rng.IntN(5)
	if rng.IntN(2) == 0 {
		p.Urgent = &Urgent{Days: rng.IntN(4), Share: 1 + rng.IntN(100)}
	}
	for at := range q.Places {
		q.Places[at].Km = rng.Int64N(900)
	}
	for g := range q.Goods {
		for _, free := range q.Goods[g].Free {
			q.Goods[g].Lies = append(q.Goods[g].Lies, free+rng.Int64N(4))
		}
	}
	for at := range q.Places {
		if len(q.Places) > 3 || rng.IntN(3) > 0 {
			continue
		}
		later := q.Places[at]
		later.Later = 1 + rng.IntN(4)
		q.Places = append(q.Places, later)
		for g := range q.Goods {
			good := &q.Goods[g]
			good.Free = append(good.Free, good.Free[at]+rng.Int64N(3))
			good.Lies = append(good.Lies, good.Lies[at])
		}
	}
}

// TestPlansAreAsGoodAsTryingEverything: on small questions no way sends more, or as much for less.
func TestPlansAreAsGoodAsTryingEverything(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 11))
	for n := range 10_000 {
		q, p := random(rng, 1+rng.IntN(3), 1+rng.IntN(3), 2)
		if n%2 == 0 {
			withMore(rng, q, p)
		}
		got := Solve(q, p)
		waits, cost := exhaustive(q, p)
		require.Equal(t, waits, waiting(got), "%d: %+v by %+v", n, q, p)
		require.Equal(t, cost, got.Cost, "%d: %+v by %+v: %+v", n, q, p, got)
		require.False(t, got.Rough)
		for _, e := range got.Entries {
			var sum int64
			for _, term := range e.Terms {
				sum += term.Cost
			}
			require.Equal(t, e.Subtotal, sum, "its parts are all of it")
		}
	}
}

// TestLargePlans: what is found is possible, and within a factor of what nothing can go below.
func TestLargePlans(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 5))
	worst := 0.0
	for range 60 {
		q, p := random(rng, 40, 12, 6)
		q.Single, p.MostPlaces = false, 0
		for i := range q.Places {
			q.Places[i].BeginsG = 0
		}
		got := Solve(q, p)
		take := grid(len(q.Wants), len(q.Places))
		for _, e := range got.Entries {
			for _, u := range e.Units {
				take[u.Line-1][e.PlaceID-1] += u.Units
			}
		}
		waits, cost, ok := priced(q, p, take)
		require.True(t, ok)
		require.Equal(t, got.Cost, cost)
		require.Equal(t, waits, waiting(got))
		if b := Bound(q, p); b > 0 && waits == 0 {
			require.GreaterOrEqual(t, got.Cost, b)
			worst = max(worst, float64(got.Cost)/float64(b))
		}
	}
	require.Greater(t, worst, 0.0)
	t.Logf("at most %.2f times what nothing can go below", worst)
}

// TestAPartnerAsksForItsWork in place of freight: what a carrier would ask there does not count, nor does a carton of ours.
func TestAPartnerAsksForItsWork(t *testing.T) {
	q := &Question{Currency: "EUR", Day: "2026-11-30", By: -1, Services: []Service{{Carrier: "c", Code: "C", Steps: []Step{{10_000, 500}}}},
		Places: []Place{{ID: 1, Code: "own", Arrives: []int{2}}, {ID: 2, Code: "gate", Arrives: []int{-1},
			Asks: &Asks{Order: 180, Line: 20, Unit: 12, Parcel: 250, Days: 3}}},
		Goods: []Good{{Item: 1, Free: []int64{5, 5}}},
		Wants: []Want{{Line: 1, SKU: "JAR", Units: 2, WeightG: 900, Needs: []Need{{0, 1}}}}}
	p := &Policy{On: true, Parcel: 90, Day: 5}
	plan := Solve(q, p)
	require.Equal(t, "gate", plan.Entries[0].Place)
	require.EqualValues(t, 180+20+2*12+250+3*5, plan.Cost)
	require.Equal(t, "gate/own", plan.Entries[0].Service)
	require.Equal(t, 3, plan.Entries[0].Arrives)
	texts := ""
	for _, term := range plan.Entries[0].Terms {
		texts += term.Text + "; "
	}
	require.Equal(t, "a parcel of the partner; 3 days on the way; lines, as the partner asks; work at the place; 2 × a unit there; ", texts)
	q.Places[1].Asks.Order = 900
	require.Equal(t, "own", Solve(q, p).Entries[0].Place)
	require.EqualValues(t, 500+90+2*5, Solve(q, p).Cost)
}
