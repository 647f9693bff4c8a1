// Package routing chooses from which places the units of an order are sent. What a choice costs is money, part by part: freight, what
// each parcel costs to make, what a place asks for its work, and what a day of waiting is worth. Of the choices that send most of what
// is wanted the cheapest is taken; it can be explained, and asked again with another policy.
package routing

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
)

// Question is what is to be sent, and what it would take from each place. It is kept with the answer, so that the same can be asked
// again under another policy.
type Question struct {
	Currency string    `json:"currency" doc:"ISO 4217, of all amounts; they are in minor units"`
	Day      string    `json:"day" doc:"YYYY-MM-DD: days are counted from it"`
	By       int       `json:"by" doc:"Until which day it was promised, counted from the day; -1: no day was promised"`
	Single   bool      `json:"single,omitempty" doc:"It must not be split"`
	Wants    []Want    `json:"wants"`
	Goods    []Good    `json:"goods" doc:"What is free, by item"`
	Weighs   string    `json:"weighs,omitempty" doc:"Name of the exception that a rule weighs it by"`
	Now      bool      `json:"now,omitempty" doc:"It waits for nothing that is to come"`
	Places   []Place   `json:"places"`
	Services []Service `json:"services" doc:"What carriers ask for a parcel to the address"`
}

// Want is a line of which units are to be sent.
type Want struct {
	Line    int64    `json:"line"`
	SKU     string   `json:"sku"`
	Units   int64    `json:"units"`
	WeightG int64    `json:"weight_g,omitempty" doc:"Of a unit, grams"`
	Needs   []Need   `json:"needs,omitempty" doc:"What a unit takes from the shelf; none: it holds no stock"`
	Marks   []string `json:"marks,omitempty" doc:"What not every place can send"`
}

// Need is an item that a unit takes from the shelf.
type Need struct {
	Good int   `json:"good" doc:"Its place in the list of goods"`
	Per  int64 `json:"per"`
}

// Good is an item, and how many of it are free at each place.
type Good struct {
	Item int64   `json:"item"`
	Free []int64 `json:"free" doc:"Units, in the order of the places"`
	Lies []int64 `json:"lies,omitempty" doc:"What lies there, of which a share may be kept for urgent orders, in the order of the places"`
}

// Place is where units may be sent from.
type Place struct {
	ID      int64  `json:"id"`
	Code    string `json:"code"`
	BeginsG int64  `json:"begins_g,omitempty" doc:"What of the order is sent from there anyhow, grams"`
	First   bool   `json:"first,omitempty" doc:"A rule wants it to be sent from there as far as it can be"`
	Arrives []int  `json:"arrives,omitempty" doc:"By each service, on which day; -1: it does not fetch there"`
	Abroad  bool   `json:"abroad,omitempty" doc:"The address is in another country"`
	Own     bool   `json:"own,omitempty" doc:"It is the only one that the channel sells from: nothing is kept there for others"`
	Km      int64  `json:"km,omitempty" doc:"To the address, as the crow flies, to the nearest ten; 0: near, or not known"`
	Later   int    `json:"later,omitempty" doc:"After so many days: with what is to come until then. The same place as it is now stands before it"`
	Load    int64  `json:"load,omitempty" doc:"Orders that were to leave from there before this one"`
	Barred  string `json:"barred,omitempty" doc:"Why nothing can be sent from there; empty: something can"`
	Asks    *Asks  `json:"asks,omitempty" doc:"A partner sends it: what it asks, in place of freight and of what a parcel of ours costs"`
}

// Asks is what a partner asks for what it sends, minor units.
type Asks struct {
	Order  int64 `json:"order,omitempty"`
	Line   int64 `json:"line,omitempty"`
	Unit   int64 `json:"unit,omitempty"`
	Parcel int64 `json:"parcel,omitempty"`
	Days   int   `json:"days,omitempty" doc:"Until it arrives, as agreed; 0: nobody said"`
}

// Service is what one service of a carrier costs by weight.
type Service struct {
	Carrier string `json:"carrier"`
	Code    string `json:"code"`
	Steps   []Step `json:"steps" doc:"In the order of their weight"`
}

// Step is what a parcel up to a weight costs.
type Step struct {
	UpToG int64 `json:"up_to_g"`
	Price int64 `json:"price"`
}

// Plan is which units are sent from where, and what that costs.
type Plan struct {
	Entries []Entry `json:"entries"`
	Cost    int64   `json:"cost" doc:"Minor units"`
	Waits   []Units `json:"waits,omitempty" doc:"What is nowhere to be had"`
	Rough   bool    `json:"rough,omitempty" doc:"There were too many ways to look at each; another may be cheaper"`
}

// Entry is what one place sends.
type Entry struct {
	Place    string  `json:"place" doc:"Code"`
	PlaceID  int64   `json:"-"`
	Units    []Units `json:"units"`
	WeightG  int64   `json:"weight_g"`
	Parcels  int64   `json:"parcels"`
	Service  string  `json:"service,omitempty" doc:"The cheapest that was counted with, carrier/code; empty: no carrier has published what it asks"`
	Later    int     `json:"later,omitempty" doc:"It waits so many days for goods that are to come"`
	Held     []Units `json:"held,omitempty" doc:"Where it waits: of the units those that lie there already and are kept for it"`
	Arrives  int     `json:"arrives" doc:"Days after the day of the plan; -1: not known"`
	Terms    []Term  `json:"terms"`
	Subtotal int64   `json:"subtotal"`
}

// Units are some of a line.
type Units struct {
	Line  int64  `json:"line"`
	SKU   string `json:"sku"`
	Units int64  `json:"units"`
}

// Term is one part of what a plan costs.
type Term struct {
	Text string `json:"text"`
	Cost int64  `json:"cost"`
}

// Bar is a place from which nothing, or not all, can be sent, and why.
type Bar struct {
	Place string `json:"place"`
	Why   string `json:"why"`
}

// Solve chooses the plan of a question.
func Solve(q *Question, p *Policy) Plan {
	s := newSearch(q, p)
	s.run()
	return s.plan()
}

// Choose is the plan by which an order is sent: of one that must not be split, and of which nothing is sent yet, nothing is sent before
// one place has all of it.
func Choose(q *Question, p *Policy) Plan {
	plan := Solve(q, p)
	begun := slices.ContainsFunc(q.Places, func(pl Place) bool { return pl.BeginsG > 0 })
	if !q.Single || begun || len(plan.Waits) == 0 {
		return plan
	}
	plan = Plan{Entries: []Entry{}}
	for _, w := range q.Wants {
		plan.Waits = append(plan.Waits, Units{w.Line, w.SKU, w.Units})
	}
	return plan
}

// SendsAs tells whether two plans send the same from the same places.
func (a *Plan) SendsAs(b *Plan) bool {
	type part struct {
		place string
		later int
		line  int64
	}
	parts := func(p *Plan) map[part]int64 {
		out := map[part]int64{}
		for _, e := range p.Entries {
			for _, u := range e.Units {
				out[part{e.Place, e.Later, u.Line}] += u.Units
			}
		}
		return out
	}
	return maps.Equal(parts(a), parts(b))
}

// Runner is another plan, and what it would have cost.
type Runner struct {
	Plan
	Without string `json:"without,omitempty" doc:"Code of the place that it does without"`
	Now     bool   `json:"now,omitempty" doc:"It waits for nothing that is to come"`
}

// RunnersUp are the best plans that do without one of the places of the chosen one, and the best that waits for nothing that is to come
// where that one does, the cheapest first. Where less could be sent, that comes last.
func RunnersUp(q *Question, p *Policy, chosen Plan) []Runner {
	var out []Runner
	add := func(r Runner, other *Question) {
		r.Plan = Choose(other, p)
		same := r.SendsAs(&chosen) || slices.ContainsFunc(out, func(o Runner) bool { return o.SendsAs(&r.Plan) })
		if len(r.Entries) > 0 && !same {
			out = append(out, r)
		}
	}
	waits := false
	for _, e := range chosen.Entries {
		waits = waits || e.Later > 0
		other := *q
		other.Places = slices.Clone(q.Places)
		for i := range other.Places {
			if other.Places[i].Code == e.Place {
				other.Places[i].Barred = "left out to see what else there is"
			}
		}
		add(Runner{Without: e.Place}, &other)
	}
	if waits {
		other := *q
		other.Now = true
		add(Runner{Now: true}, &other)
	}
	slices.SortStableFunc(out, func(a, b Runner) int {
		return cmp.Or(cmp.Compare(waiting(a.Plan), waiting(b.Plan)), cmp.Compare(a.Cost, b.Cost))
	})
	return out
}

func waiting(p Plan) (n int64) {
	for _, u := range p.Waits {
		n += u.Units
	}
	return n
}

// Promised are the units of an entry that are promised now.
func (e *Entry) Promised() []Units {
	if e.Later > 0 {
		return e.Held
	}
	return e.Units
}

// Waiting counts the units that are not promised yet: those that are nowhere to be had, and those that are to come.
func (p *Plan) Waiting() int64 {
	n := waiting(*p)
	for i := range p.Entries {
		for _, u := range p.Entries[i].Units {
			n += u.Units
		}
		for _, u := range p.Entries[i].Promised() {
			n -= u.Units
		}
	}
	return n
}

// Bars says of each place from which not all can be sent why.
func Bars(q *Question, p *Policy) []Bar {
	var out []Bar
	s := newSearch(q, p)
	for at, pl := range q.Places {
		if pl.Later > 0 {
			continue // it is told of as it is now
		}
		if why := s.barred(at); why != "" {
			out = append(out, Bar{pl.Code, why})
			continue
		}
		for i := range q.Wants {
			w := &q.Wants[i]
			if why := s.p.cannot(pl.Code, w); why != "" {
				out = append(out, Bar{pl.Code, w.SKU + ": " + why})
			} else if n := s.room(i, at); n < w.Units {
				out = append(out, Bar{pl.Code, fmt.Sprintf("%s: %d of %d are free%s", w.SKU, n, w.Units, s.keptText(w, at))})
			}
		}
	}
	return out
}
