package main

import (
	"fmt"
	"math/rand/v2"
	"runtime"
	"slices"
	"sync"
	"time"

	"openrelay/internal/client"
	core "openrelay/internal/core/routing"
)

// routing measures how places are chosen: by the core alone, and in a company of which a place closes.
func (b *bench) routing() error {
	b.plans(6, 4, 5_000)
	b.plans(40, 12, 300)
	return b.closedPlace(b.of(20_000, 200))
}

// askedOf makes a question of places and lines. Three of four items lie at a place: of six places and four lines one order in five
// must be split, of forty and twelve about half.
func askedOf(rng *rand.Rand, places, lines int) *core.Question {
	q := &core.Question{Currency: "EUR", Day: "2026-11-30", By: 3}
	for i, first := range []int64{390, 420, 690} {
		v := core.Service{Carrier: fmt.Sprintf("c%d", i), Code: "S"}
		for step := range 6 {
			v.Steps = append(v.Steps, core.Step{UpToG: int64(1+step*step) * 1000, Price: first + int64(step)*170})
		}
		q.Services = append(q.Services, v)
	}
	for i := range places {
		q.Places = append(q.Places, core.Place{ID: int64(i + 1), Code: fmt.Sprintf("p%d", i),
			Arrives: []int{2 + rng.IntN(2), 2 + rng.IntN(3), 1 + rng.IntN(2)}})
	}
	for i := range lines {
		g := core.Good{Item: int64(i + 1)}
		for range places {
			free := int64(0)
			if rng.IntN(4) > 0 {
				free = 1 + rng.Int64N(30)
			}
			g.Free = append(g.Free, free)
		}
		q.Goods = append(q.Goods, g)
		q.Wants = append(q.Wants, core.Want{Line: int64(i + 1), SKU: fmt.Sprintf("S%d", i), Units: 1 + rng.Int64N(3),
			WeightG: 100 + rng.Int64N(1500), Needs: []core.Need{{Good: i, Per: 1}}})
	}
	return q
}

// plans measures how many orders a core plans, and how far from what nothing can go below.
func (b *bench) plans(places, lines, aim int) {
	rng := rand.New(rand.NewPCG(11, 17))
	p := &core.Policy{On: true, Parcel: 90, Day: 5, LateDay: 150, Places: map[string]core.PlaceTerms{"p1": {Order: 60}, "p2": {Unit: 5}}}
	questions := make([]*core.Question, b.of(400, 20))
	for i := range questions {
		questions[i] = askedOf(rng, places, lines)
	}
	defer runtime.GOMAXPROCS(runtime.GOMAXPROCS(1))
	begin, n, rough, split := time.Now(), 0, 0, 0
	var cost, bound int64
	for turn := range b.of(4, 1) {
		for _, q := range questions {
			plan := core.Solve(q, p)
			n++
			if turn > 0 {
				continue
			}
			if plan.Rough {
				rough++
			}
			if len(plan.Entries) > 1 {
				split++
			}
			if len(plan.Waits) == 0 {
				cost, bound = cost+plan.Cost, bound+core.Bound(q, p)
			}
		}
	}
	rate := float64(n) / time.Since(begin).Seconds()
	of := fmt.Sprintf("orders planned on one core, %d places and %d lines", places, lines)
	b.add(of, rate, "orders/s", 0, fmt.Sprintf("%d or more", aim), rate >= float64(aim))
	b.add("what those plans cost against what nothing can go below", float64(cost)/float64(max(bound, 1)), "ratio", 0, "", true)
	b.add("of those orders were split", 100*float64(split)/float64(len(questions)), "%", 0, "", true)
	b.add("of those plans were not looked for to the end", 100*float64(rough)/float64(len(questions)), "%", 0, "", true)
}

// closedPlace lets a place close to which n open orders were given, while orders come in at 50 a second.
func (b *bench) closedPlace(n int) error {
	policy := func(alder int64) error {
		_, err := b.client.SetRoutingPolicy(b.ctx, core.Policy{On: true, Parcel: 90,
			Places: map[string]core.PlaceTerms{"alder": {Order: alder}, "pier": {Order: 60}}})
		return err
	}
	for _, sku := range skus {
		if _, err := b.client.Adjust(b.ctx, sku, "pier", 900_000, "for the bench"); err != nil {
			return err
		}
	}
	if err := policy(0); err != nil {
		return err
	}
	first := 40_000_000
	took, err := b.pushAll(first, n)
	if err != nil {
		return err
	}
	if err := b.inStep(); err != nil {
		return err
	}
	b.add("orders taken in from pushes and planned, 100 at a time", float64(n)/took.Seconds(), "orders/s", 0, "", true)
	usual, err := b.trickle(first+n, b.of(250, 10), nil)
	if err != nil {
		return err
	}
	if err := policy(100_000); err != nil { // whatever else there is costs less
		return err
	}
	begin := time.Now()
	if _, err := b.client.ReplanPlace(b.ctx, "alder", "closed"); err != nil {
		return err
	}
	done, ended := make(chan struct{}), make(chan error, 1)
	go func() {
		err := b.until(3*time.Minute, "all to be planned anew", b.replanned)
		took = time.Since(begin)
		close(done)
		ended <- err
	}()
	meanwhile, err := b.trickle(first+n+1000, 3000, done)
	if err != nil {
		return err
	}
	if err := <-ended; err != nil {
		return err
	}
	b.add(fmt.Sprintf("a place closes: %d open orders planned anew while 50 a second come in", n), took.Seconds(), "s", 0, "10 s or less",
		took <= 10*time.Second || b.small)
	ratio := meanwhile.Seconds() / usual.Seconds()
	b.add("how long an order took to come in meanwhile, median; baseline: before", meanwhile.Seconds()*1000, "ms", usual.Seconds()*1000,
		"ratio 1.2 or less", ratio <= 1.2 || b.small)
	return nil
}

// replanned tells whether no job plans orders anew any more.
func (b *bench) replanned() (bool, error) {
	jobs, err := b.client.Jobs(b.ctx)
	for _, j := range jobs {
		if j.Kind == "plan anew" {
			return false, err
		}
	}
	return err == nil, err
}

// trickle hands orders in one at a time, 50 a second, at most n or until done, and returns how long the median of each tenth took to be
// ours.
func (b *bench) trickle(first, n int, done <-chan struct{}) (time.Duration, error) {
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	var mu sync.Mutex
	var all []time.Duration
	var failed error
	var wg sync.WaitGroup
	for i := range n {
		select {
		case <-done:
			n = i
		case <-tick.C:
		}
		if n == i {
			break
		}
		wg.Go(func() {
			begin := time.Now()
			err := b.push(pushBody(first+i, 1))
			looked := err == nil && i%10 == 0 // each look costs something, too
			if looked {
				err = b.untilOurs(first + i)
			}
			mu.Lock()
			defer mu.Unlock()
			if looked {
				all = append(all, time.Since(begin))
			}
			if err != nil {
				failed = err
			}
		})
	}
	wg.Wait()
	if failed != nil || len(all) == 0 {
		return time.Millisecond, failed
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}

// untilOurs waits until an order that was handed in is one of ours.
func (b *bench) untilOurs(n int) error {
	name := fmt.Sprintf("BN-%d", n)
	return b.until(time.Minute, name, func() (bool, error) {
		_, err := b.client.Order(b.ctx, name)
		if client.StatusOf(err) == 404 {
			return false, nil
		}
		return err == nil, err
	})
}
