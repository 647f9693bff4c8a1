// Package routing says from which places the units of an order are sent: it asks what is free, what carriers charge and when they
// come, and has core/routing weigh it by the company's policy. The question, the policy and the plan are kept with the order, so that
// it can be explained and asked again with another policy. It moves no stock: orders takes the plan, and promises what it says.
package routing

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/routing"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// Routing chooses places.
type Routing struct {
	*engine.Engine
	Orders *orders.Orders

	// Carriers are those whose tariffs are known; the room of parcels knows them. nil: there are none.
	Carriers func() []Carrier

	// PickOf says how the service of a parcel of an order is picked, if it weighs so much; false: that is open. nil: nobody says so.
	PickOf func(ctx context.Context, o *order.Order, weightG int64) (freight.Pick, bool)

	// PartnerAsks is what the partner of a location asks for what it sends, in a currency; nil of a location of ours. The room of
	// partners knows it. nil: there are no partners.
	PartnerAsks func(location int64) (asks *routing.Asks, currency string)

	policy atomic.Pointer[kept]

	loadMu   sync.Mutex
	loads    map[int64]int64 // orders to leave, by location
	loadedAt time.Time
}

// Carrier is a carrier as plans are priced by it.
type Carrier struct {
	Code   string
	Tariff *freight.Tariff
	// Leaves is the day, YYYY-MM-DD, on which it takes what is packed now at a location.
	Leaves func(location int64) string
}

// kept is the policy, with the currency that its amounts are in.
type kept struct {
	routing.Policy
	currency string
}

// policyKey is the setting that holds the policy, and policyKind what its changes are called.
const (
	policyKey  = "routing"
	policyKind = "routing policy"
)

// loadRest is for how long the orders of each place are counted on, not anew.
const loadRest = 10 * time.Second

// New makes the routing of a company; LoadPolicy reads its policy.
func New(e *engine.Engine, o *orders.Orders) *Routing {
	r := &Routing{Engine: e, Orders: o}
	r.policy.Store(&kept{})
	e.AddSettingKind(engine.OneSetting(policyKind, r.Policy, r.putPolicy))
	return r
}

// LoadPolicy reads the policy.
func (r *Routing) LoadPolicy(ctx context.Context) error {
	p, err := r.Policy(ctx)
	if err != nil {
		return err
	}
	c, err := r.Company(ctx)
	if err == nil {
		r.policy.Store(&kept{p, c.Currency})
	}
	return err
}

// Policy is what is weighed when places are chosen.
func (r *Routing) Policy(ctx context.Context) (p routing.Policy, err error) {
	text, err := r.Store.Setting(ctx, policyKey)
	if err == nil && text != "" {
		if err = json.Unmarshal([]byte(text), &p); err != nil {
			err = fmt.Errorf("routing policy: %w", err)
		}
	}
	return p, err
}

// SetPolicy replaces it; what has been planned stays as it is.
func (r *Routing) SetPolicy(ctx context.Context, p routing.Policy, who string) error {
	return r.ChangeSetting(ctx, policyKind, "", who, func() error { return r.putPolicy(ctx, p, who) })
}

func (r *Routing) putPolicy(ctx context.Context, p routing.Policy, who string) error {
	if err := r.check(&p); err != nil {
		return err
	}
	for _, name := range r.Exceptions() {
		if _, stays := p.Exceptions[name]; stays {
			continue
		}
		if err := r.Orders.RuledBy(ctx, "weigh", name); err != nil {
			return err
		}
	}
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		if err := ch.PutSetting(policyKey, string(text)); err != nil {
			return err
		}
		said := "Places are chosen by the first that has all"
		if p.On {
			said = "Places are chosen by what a plan costs"
		}
		ch.Tell("company", "")
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "company", What: policyKind, Text: said})
	}); err != nil {
		return err
	}
	before := r.policy.Load()
	if err := r.LoadPolicy(context.WithoutCancel(ctx)); err != nil || reflect.DeepEqual(cannots(&before.Policy), cannots(&p)) {
		return err
	}
	return r.offerAgain(context.WithoutCancel(ctx))
}

func (r *Routing) check(p *routing.Policy) error {
	if err := p.Check(func(code string) bool { return r.PlaceID(code) != 0 }); err != nil {
		return engine.Refuse("%v", err)
	}
	return nil
}

// CannotSend says why a location does not send an item with some marks to the buyers of a country, as the policy has it; "": it does.
func (r *Routing) CannotSend(location int64, marks []string, country string) string {
	policy := r.policy.Load()
	if !policy.On {
		return ""
	}
	l := r.Place(location)
	for _, mark := range policy.Places[l.Code].Cannot {
		switch {
		case slices.Contains(marks, mark):
			return "not sent from there: " + mark
		case mark == routing.Abroad && country != "" && l.Address.Country != "" && country != l.Address.Country:
			return "sends nothing to another country"
		}
	}
	return ""
}

// offerAgain works out anew what channels may show, after what places send is another.
func (r *Routing) offerAgain(ctx context.Context) error {
	for _, c := range r.Sorted() {
		if !r.FeedOn(c, message.StockOut) {
			continue
		}
		if err := r.Commit(ctx, func(ch *engine.Change) error { return r.Orders.Inventory.QueueAllOffers(ch, c) }); err != nil {
			return err
		}
	}
	return nil
}

// cannots are what places do not send, by their code; nothing where no policy is on.
func cannots(p *routing.Policy) map[string][]string {
	out := map[string][]string{}
	for code, t := range p.Places {
		if p.On && len(t.Cannot) > 0 {
			out[code] = t.Cannot
		}
	}
	return out
}

// HoursChanged plans anew what a place was to send, where places are chosen by a policy: it may arrive sooner from elsewhere now.
func (r *Routing) HoursChanged(ch *engine.Change, at store.Location, who string) error {
	if !r.policy.Load().On {
		return nil
	}
	_, err := r.Orders.StartReplan(ch, at, "when the place is at work has changed", who)
	return err
}

// AddressPlaced plans an order anew of which it has become known where it goes, where the way is weighed.
func (r *Routing) AddressPlaced(ch *engine.Change, o *order.Order) error {
	policy := r.policy.Load()
	if !policy.On || policy.Weighing(o.Ours.Decided.Weigh).Km100 == 0 || o.Kind() != message.Ship {
		return nil
	}
	return r.Orders.ReplanOne(ch, o, "it is known where its address is")
}

// Exceptions are the names of what the policy weighs otherwise.
func (r *Routing) Exceptions() []string {
	return slices.Sorted(maps.Keys(r.policy.Load().Policy.Exceptions))
}

// dayKey is the setting that holds the day on which what waits was looked at last.
const dayKey = "routing day"

// NewDay looks again, once a day, at what waits: an order may have become urgent, and what one waits for may not have come. It returns
// when the next day begins.
func (r *Routing) NewDay(ctx context.Context) (time.Time, error) {
	policy := r.policy.Load()
	if !policy.On || !policy.byDay() {
		return time.Time{}, nil
	}
	today := r.Today()
	next := r.DayEnds()
	if seen, err := r.Store.Setting(ctx, dayKey); err != nil || seen == today {
		return next, err
	}
	return next, r.Commit(ctx, func(ch *engine.Change) error {
		for _, c := range r.Sorted() {
			has, err := ch.HasJob(string(engine.JobSources), c.Rec().Code)
			if err == nil && !has {
				_, err = ch.StartJob(engine.JobSources, c.Rec().Code, "relay", nil)
			}
			if err != nil {
				return err
			}
		}
		return ch.PutSetting(dayKey, today)
	})
}

// byDay tells whether what is weighed may be another on another day.
func (k *kept) byDay() bool {
	if k.Urgent != nil || k.MostWait > 0 {
		return true
	}
	for _, e := range k.Policy.Exceptions {
		if e.MostWait != nil && *e.MostWait > 0 {
			return true
		}
	}
	return false
}

// Plan plans the orders of a change: it returns what says which units of an order are sent from which of some locations. nil: no policy
// is on.
func (r *Routing) Plan(ch *engine.Change, book *stock.Book) func(*order.Order, []int64) map[int64][]stock.Part {
	policy := r.policy.Load()
	if !policy.On {
		return nil
	}
	k := &known{traits: map[int64]store.Traits{}, coming: map[int64][]store.Coming{}}
	return func(o *order.Order, from []int64) map[int64][]stock.Part {
		if o.Kind() != message.Ship {
			return nil // it is fetched, eaten or brought where it was bought
		}
		out, err := r.plan(ch, book, o, from, policy, k)
		if err != nil {
			r.Log.Error("an order could not be planned; the first place that has all is taken", "order", o.Number, "error", err)
			return nil
		}
		return out
	}
}

func (r *Routing) plan(ch *engine.Change, book *stock.Book, o *order.Order, from []int64, policy *kept, k *known,
) (map[int64][]stock.Part, error) {
	if len(from) == 0 {
		return nil, nil
	}
	q, err := r.question(ch, book, o, from, policy, k)
	if err != nil || len(q.Wants) == 0 {
		return nil, err
	}
	plan := routing.Choose(q, &policy.Policy)
	if err := keep(ch, o.ID, q, policy, plan); err != nil {
		return nil, err
	}
	out := map[int64][]stock.Part{}
	o.Ours.Awaits = r.awaits(&plan, q.Day)
	for _, e := range plan.Entries {
		if e.Later == 0 {
			r.loaded(e.PlaceID)
		}
		for _, u := range e.Promised() {
			out[u.Line] = append(out[u.Line], stock.Part{Location: e.PlaceID, Quantity: u.Units})
		}
	}
	return out, nil
}

// awaits says what is to come that an order waits for by its plan.
func (r *Routing) awaits(plan *routing.Plan, today string) string {
	var out []string
	for _, e := range plan.Entries {
		if e.Later > 0 {
			day, _ := time.Parse(time.DateOnly, today)
			out = append(out, fmt.Sprintf("goods that are to come to %s on %s", r.PlaceName(e.PlaceID),
				day.AddDate(0, 0, e.Later).Format(time.DateOnly)))
		}
	}
	return strings.Join(out, ", ")
}

// keep keeps how an order was planned, where there was a choice or something waits all the same.
func keep(ch *engine.Change, order int64, q *routing.Question, policy *kept, plan routing.Plan) error {
	if len(q.Places) < 2 && len(plan.Waits) == 0 {
		return nil
	}
	goesOn := slices.ContainsFunc(q.Places, func(p routing.Place) bool { return p.BeginsG > 0 })
	k := &store.KeptPlan{OrderID: order, Question: *q, Policy: policy.Policy, Plan: plan}
	return ch.PutPlan(k, goesOn, ch.Now)
}

// load counts the orders that are to leave a location, about as of now.
func (r *Routing) load(ctx context.Context, location int64) (int64, error) {
	r.loadMu.Lock()
	defer r.loadMu.Unlock()
	if now := r.Clock(); r.loads == nil || now.Sub(r.loadedAt) > loadRest || now.Before(r.loadedAt) {
		loads, err := r.Store.PlaceLoads(ctx)
		if err != nil {
			return 0, err
		}
		r.loads, r.loadedAt = loads, now
	}
	return r.loads[location], nil
}

// loaded counts one more.
func (r *Routing) loaded(location int64) {
	r.loadMu.Lock()
	defer r.loadMu.Unlock()
	if r.loads != nil {
		r.loads[location]++
	}
}
