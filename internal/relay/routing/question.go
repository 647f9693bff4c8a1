package routing

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/core/routing"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// question gathers what is to be known to plan what waits of an order: what is free at which place, what carriers ask, when it arrives.
func (r *Routing) question(ch *engine.Change, book *stock.Book, o *order.Order, from []int64, policy *kept, k *known,
) (*routing.Question, error) {
	if err := k.learn(ch, o); err != nil {
		return nil, err
	}
	traits := k.traits
	q := &routing.Question{Currency: policy.currency, Day: r.Today(), By: -1, Single: o.Ours.Decided.Split == "never",
		Weighs: o.Ours.Decided.Weigh, Now: o.Ours.Now,
		Wants: []routing.Want{}, Goods: []routing.Good{}, Services: []routing.Service{}}
	if o.Record.DeliverBy != "" {
		q.By = max(0, daysBetween(q.Day, o.Record.DeliverBy))
	}
	if err := r.places(q, o, from, policy, traits); err != nil {
		return nil, err
	}
	longest := int64(0)
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.Charge || l.ItemID == 0 {
			continue
		}
		longest = max(longest, traits[l.ItemID].LongestMM)
		if l.Waiting() > 0 {
			q.Wants = append(q.Wants, want(q, l, traits, book))
		}
	}
	if err := r.later(ch, q, o, k); err != nil {
		return nil, err
	}
	r.services(q, o, longest)
	return q, nil
}

// known is what is known of items for the length of a change: what they weigh and may be, and what of them is to come.
type known struct {
	traits map[int64]store.Traits
	coming map[int64][]store.Coming
}

// learn reads what is to be known of the items of an order, as far as it is not known yet.
func (k *known) learn(ch *engine.Change, o *order.Order) error {
	var need []int64
	add := func(item int64) {
		if _, known := k.traits[item]; !known && item != 0 && !slices.Contains(need, item) {
			need = append(need, item)
		}
	}
	for i := range o.Lines {
		add(o.Lines[i].ItemID)
		for _, c := range o.Lines[i].Parts {
			add(c.Item)
		}
	}
	if len(need) == 0 {
		return nil
	}
	got, err := ch.Traits(need)
	for item, t := range got {
		k.traits[item] = t
	}
	if err != nil {
		return err
	}
	coming, err := ch.Coming(need)
	for _, c := range coming {
		k.coming[c.ItemID] = append(k.coming[c.ItemID], c)
	}
	return err
}

// Bounds of what is to come: it is looked at so many days ahead, and on so many days of each place.
const (
	laterMost = 60
	laterDays = 2
)

// later adds to the places as they are now those to which goods are to come, as they will be then. What others wait for already is
// theirs.
func (r *Routing) later(ch *engine.Change, q *routing.Question, o *order.Order, k *known) error {
	var items []int64
	days := map[int64][]int{} // by location, on which something comes
	for _, g := range q.Goods {
		for _, c := range k.coming[g.Item] {
			if day := daysBetween(q.Day, c.Day); c.Day >= q.Day && day <= laterMost {
				items = append(items, g.Item)
				days[c.LocationID] = append(days[c.LocationID], max(1, day))
			}
		}
	}
	if len(items) == 0 {
		return nil
	}
	owed, err := ch.WaitingUnits(items, o.ID)
	if err != nil {
		return err
	}
	for at, n := 0, len(q.Places); at < n; at++ {
		if q.Places[at].Asks != nil || q.Places[at].Barred != "" {
			continue
		}
		on := days[q.Places[at].ID]
		slices.Sort(on)
		on = slices.Compact(on)
		for _, day := range on[:min(len(on), laterDays)] {
			then := q.Places[at]
			then.Later = day
			q.Places = append(q.Places, then)
			for i := range q.Goods {
				g := &q.Goods[i]
				g.Free = append(g.Free, g.Free[at]+max(0, comesBy(k.coming[g.Item], then.ID, q.Day, day)-owed[g.Item]))
				g.Lies = append(g.Lies, g.Lies[at])
			}
		}
	}
	return nil
}

// comesBy counts the units that come to a location within so many days.
func comesBy(list []store.Coming, location int64, today string, days int) (n int64) {
	for _, c := range list {
		if c.LocationID == location && c.Day >= today && daysBetween(today, c.Day) <= days {
			n += c.Units
		}
	}
	return n
}

// unitWeight is what a unit of a line weighs, grams: of a kit that has no weight of its own what its parts do.
func unitWeight(l *order.Line, traits map[int64]store.Traits) int64 {
	if w := traits[l.ItemID].WeightG; w > 0 {
		return w
	}
	var sum int64
	for _, c := range l.Parts {
		sum += c.Quantity * traits[c.Item].WeightG
	}
	return sum
}

// want writes what waits of a line, and what is free of what it takes.
func want(q *routing.Question, l *order.Line, traits map[int64]store.Traits, book *stock.Book) routing.Want {
	w := routing.Want{Line: l.ID, SKU: cmp.Or(l.SKU, l.Title), Units: l.Waiting(), WeightG: unitWeight(l, traits)}
	mark := func(item int64) {
		t := traits[item]
		if t.Serials {
			w.Marks = append(w.Marks, routing.Serials)
		}
		w.Marks = append(w.Marks, t.Marks...)
	}
	mark(l.ItemID)
	for _, c := range l.Goods().Components() {
		if c.Item != l.ItemID {
			mark(c.Item)
		}
		at := slices.IndexFunc(q.Goods, func(g routing.Good) bool { return g.Item == c.Item })
		if at < 0 {
			at = len(q.Goods)
			g := routing.Good{Item: c.Item}
			for _, p := range q.Places {
				level := book.Level(stock.Key{Item: c.Item, Location: p.ID})
				g.Free, g.Lies = append(g.Free, max(0, level.Available())), append(g.Lies, max(0, level.OnHand))
			}
			q.Goods = append(q.Goods, g)
		}
		if i := slices.IndexFunc(w.Needs, func(n routing.Need) bool { return n.Good == at }); i >= 0 {
			w.Needs[i].Per += c.Quantity
			continue
		}
		w.Needs = append(w.Needs, routing.Need{Good: at, Per: c.Quantity})
	}
	return w
}

// places writes the places that may send it, in their order.
func (r *Routing) places(q *routing.Question, o *order.Order, from []int64, policy *kept, traits map[int64]store.Traits) error {
	to := addressAt(o)
	for i, id := range from {
		l := r.Place(id)
		p := routing.Place{ID: id, Code: l.Code, Own: len(from) == 1, First: i == 0 && o.Ours.Decided.Location == l.Code,
			Abroad: o.ShipTo.Country != "" && l.Address.Country != "" && o.ShipTo.Country != l.Address.Country}
		if at, err := place.ParsePosition(l.Position); err == nil && to != nil {
			p.Km = int64(at.Km(*to)/nearKm+0.5) * nearKm
		}
		r.asks(q, &p)
		if l.ArchivedAt != 0 {
			p.Barred = "is used no more"
		}
		if why, refused := o.Ours.RefusedBy[id]; refused {
			p.Barred = strings.TrimSuffix("has refused: "+why, ": ")
		}
		if policy.Places[l.Code].PerDay > 0 {
			var err error
			if p.Load, err = r.load(r.Ctx, id); err != nil {
				return err
			}
		}
		for k := range o.Lines {
			for _, a := range o.Lines[k].Allocations {
				if a.Location == id {
					p.BeginsG += max(1, a.Quantity*unitWeight(&o.Lines[k], traits))
				}
			}
		}
		q.Places = append(q.Places, p)
	}
	return nil
}

// nearKm is how exactly it is kept how far places are: an address cannot be found from that.
const nearKm = 10

// addressAt is where the address of an order is, as an address service said of it as it stands; nil: not known.
func addressAt(o *order.Order) *place.Position {
	if c := o.Ours.Checked; c != nil {
		return c.Position
	}
	return nil
}

// asks writes what the partner of a place asks. In another currency than the company's, that cannot be weighed: it counts as nothing.
func (r *Routing) asks(q *routing.Question, p *routing.Place) {
	if r.PartnerAsks == nil {
		return
	}
	asks, currency := r.PartnerAsks(p.ID)
	if asks != nil && currency != "" && currency != q.Currency {
		asks = &routing.Asks{Days: asks.Days}
	}
	p.Asks = asks
}

// services writes what carriers ask for a parcel to the address by its weight, and on which day it would arrive from each place.
// Tariffs in another currency than the company's are left out, as are those of which nobody knows when their carrier comes.
func (r *Routing) services(q *routing.Question, o *order.Order, longest int64) {
	if r.Carriers == nil || o.ShipTo.Country == "" {
		return
	}
	p := freight.Parcel{To: o.ShipTo, LengthMM: longest}
	if c := o.Ours.Checked; c != nil {
		p.Kind, p.Remote = c.Kind, c.Remote
	}
	handover := make([][]time.Time, len(q.Places))
	for _, c := range r.Carriers() {
		if c.Tariff.Currency != q.Currency {
			continue
		}
		leaves := make([]time.Time, len(q.Places))
		for i := range q.Places {
			leaves[i], _ = time.Parse(time.DateOnly, c.Leaves(q.Places[i].ID))
		}
		for i := range c.Tariff.Services {
			s := &c.Tariff.Services[i]
			steps, days := c.Tariff.Ladder(s, p)
			if len(steps) == 0 {
				continue
			}
			v := routing.Service{Carrier: c.Code, Code: s.Code, Steps: make([]routing.Step, len(steps))}
			for k, step := range steps {
				v.Steps[k] = routing.Step{UpToG: step.UpToG, Price: step.Price}
			}
			q.Services = append(q.Services, v)
			for k := range q.Places {
				at := -1
				if !leaves[k].IsZero() && q.Places[k].Asks == nil {
					at = max(0, daysBetween(q.Day, c.Tariff.Calendar.Arrival(leaves[k], days).Format(time.DateOnly)))
				}
				q.Places[k].Arrives, handover[k] = append(q.Places[k].Arrives, at), append(handover[k], leaves[k])
			}
		}
	}
	r.limit(q, o, handover)
}

// limit leaves those services by which the parcel may go: by rule, by what the buyer was promised, by the table of services. Where none of
// them is among those whose tariffs are known, all stay: which it is will be asked when the parcel is packed. handover is when each service
// takes what is packed now at each place.
func (r *Routing) limit(q *routing.Question, o *order.Order, handover [][]time.Time) {
	if r.PickOf == nil || len(q.Services) == 0 {
		return
	}
	var weight int64
	for i := range q.Wants {
		weight += q.Wants[i].Units * q.Wants[i].WeightG
	}
	pick, said := r.PickOf(r.Ctx, o, weight)
	if !said || pick == (freight.Pick{Way: freight.Cheapest}) {
		return
	}
	today, _ := time.Parse(time.DateOnly, q.Day)
	left, any := make([][]int, len(q.Places)), false
	for k := range q.Places {
		left[k] = slices.Clone(q.Places[k].Arrives)
		soonest := -1
		for i, at := range left[k] {
			v := &q.Services[i]
			offer := freight.Offer{Carrier: v.Carrier, Service: v.Code, Arrives: today.AddDate(0, 0, at).Format(time.DateOnly)}
			if at < 0 || !pick.Fits(offer, handover[k][i]) {
				left[k][i] = -1
				continue
			}
			if any = true; soonest < 0 || at < soonest {
				soonest = at
			}
		}
		if pick.Way != freight.Fastest {
			continue
		}
		for i, at := range left[k] {
			if at > soonest {
				left[k][i] = -1
			}
		}
	}
	if !any {
		return
	}
	for k := range q.Places {
		q.Places[k].Arrives = left[k]
	}
}

// daysBetween counts the days from one to another, YYYY-MM-DD; what is no day is the first.
func daysBetween(from, to string) int {
	a, errA := time.Parse(time.DateOnly, from)
	b, errB := time.Parse(time.DateOnly, to)
	if errA != nil || errB != nil {
		return 0
	}
	return int(b.Sub(a).Hours()) / 24
}
