package routing

import (
	"context"
	"errors"
	"math"
	"slices"
	"time"

	"openrelay/internal/core/routing"
	"openrelay/internal/store"
)

// OrderPlan is how an order was planned, and what else there was.
type OrderPlan struct {
	Planned  bool             `json:"planned" doc:"false: it had no choice, or nothing of it is kept any more"`
	At       time.Time        `json:"at,omitzero"`
	Plan     routing.Plan     `json:"plan"`
	Runners  []routing.Runner `json:"runners" doc:"The best plans that do without one of its places, cheapest first"`
	Bars     []routing.Bar    `json:"bars" doc:"What could not be sent from which place, and why"`
	Currency string           `json:"currency"`
	Day      string           `json:"day" doc:"YYYY-MM-DD: arrivals are counted from it"`
	Now      bool             `json:"now,omitempty" doc:"Somebody said that it waits for nothing that is to come"`
	By       int              `json:"by" doc:"Until which day it was promised, counted from the day; -1: no day was promised"`
}

// PlanOf is how an order was planned the last time, with what else there was by the policy of then.
func (r *Routing) PlanOf(ctx context.Context, number string) (OrderPlan, error) {
	out := OrderPlan{Plan: routing.Plan{Entries: []routing.Entry{}}, Runners: []routing.Runner{}, Bars: []routing.Bar{}, By: -1}
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return out, err
	}
	k, err := r.Store.PlanOf(ctx, o.ID)
	if errors.Is(err, store.ErrNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Planned, out.At, out.Plan, out.Currency, out.Day, out.By =
		true, store.Time(k.At), k.Plan, k.Question.Currency, k.Question.Day, k.Question.By
	out.Now = o.Ours.Now
	out.Runners = append(out.Runners, routing.RunnersUp(&k.Question, &k.Policy, k.Plan)...)
	out.Bars = append(out.Bars, routing.Bars(&k.Question, &k.Policy)...)
	return out, nil
}

// Sum is what many plans come to.
type Sum struct {
	Cost   int64            `json:"cost" doc:"Minor units"`
	Late   int64            `json:"late" doc:"Orders of which something arrives after the promised day"`
	Split  int64            `json:"split" doc:"Orders that are sent from several places"`
	Waits  int64            `json:"waits" doc:"Orders of which something waits that is nowhere to be had"`
	Later  int64            `json:"later" doc:"Orders that wait for goods that are to come"`
	Places map[string]int64 `json:"places" doc:"Orders by the place that sends of them"`
}

// Otherwise is an order that would be sent otherwise.
type Otherwise struct {
	Order string       `json:"order"`
	Was   routing.Plan `json:"was"`
	Now   routing.Plan `json:"now"`
}

// Rehearsed is what a policy would have done with orders of the past.
type Rehearsed struct {
	Orders   int64       `json:"orders" doc:"Looked at: the newest that were planned and are kept"`
	Promised int64       `json:"promised" doc:"Of them those of which a day was promised"`
	Was      Sum         `json:"was"`
	Now      Sum         `json:"now"`
	Changed  int64       `json:"changed" doc:"Orders that would be sent otherwise"`
	List     []Otherwise `json:"list" doc:"The first hundred of them, where most is saved or lost first"`
	Currency string      `json:"currency"`
}

// Bounds of a rehearsal.
const (
	mostRehearsed = 2000
	rehearsedPage = 200
	mostListed    = 100
)

// Rehearse plans the newest orders that were planned anew under another policy, with what was free and what carriers asked then.
func (r *Routing) Rehearse(ctx context.Context, p routing.Policy) (Rehearsed, error) {
	if err := r.check(&p); err != nil {
		return Rehearsed{}, err
	}
	out := Rehearsed{Was: Sum{Places: map[string]int64{}}, Now: Sum{Places: map[string]int64{}}, List: []Otherwise{},
		Currency: r.policy.Load().currency}
	type changed struct {
		id  int64
		was routing.Plan
		now routing.Plan
	}
	var list []changed
	for before := int64(math.MaxInt64); out.Orders < mostRehearsed; {
		page, err := r.Store.NewestPlans(ctx, before, rehearsedPage)
		if err != nil {
			return out, err
		}
		for i := range page {
			k := &page[i]
			now := routing.Choose(&k.Question, &p)
			out.Orders++
			if k.Question.By >= 0 {
				out.Promised++
			}
			out.Was.add(&k.Question, k.Plan)
			out.Now.add(&k.Question, now)
			if !k.Plan.SendsAs(&now) {
				list = append(list, changed{k.OrderID, k.Plan, now})
			}
		}
		if len(page) < rehearsedPage {
			break
		}
		before = page[len(page)-1].OrderID
		if err := ctx.Err(); err != nil {
			return out, err
		}
	}
	out.Changed = int64(len(list))
	slices.SortStableFunc(list, func(a, b changed) int { return int(abs(b.now.Cost-b.was.Cost) - abs(a.now.Cost-a.was.Cost)) })
	list = list[:min(len(list), mostListed)]
	ids := make([]int64, len(list))
	for i := range list {
		ids[i] = list[i].id
	}
	numbers, err := r.Store.NumbersOf(ctx, ids)
	for _, c := range list {
		out.List = append(out.List, Otherwise{numbers[c.id], c.was, c.now})
	}
	return out, err
}

func abs(n int64) int64 { return max(n, -n) }

func (s *Sum) add(q *routing.Question, p routing.Plan) {
	s.Cost += p.Cost
	late, later := false, false
	for _, e := range p.Entries {
		s.Places[e.Place]++
		later = later || e.Later > 0
		late = late || q.By >= 0 && e.Arrives > q.By
	}
	if late {
		s.Late++
	}
	if later {
		s.Later++
	}
	if len(p.Entries) > 1 {
		s.Split++
	}
	if len(p.Waits) > 0 {
		s.Waits++
	}
}
