package cli

import (
	"context"
	"flag"
	"fmt"
	"maps"
	"slices"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/core/money"
	"openrelay/internal/core/routing"
	"openrelay/internal/wire"
)

// routingOptions change a policy: what is not said stays as it is.
type routingOptions struct {
	set       *flag.FlagSet
	want      routing.Policy
	urgent    routing.Urgent
	code      string
	terms     routing.PlaceTerms
	cannot    string
	exception string
	soon      bool
	not       string
	forget    bool
}

func (opt *routingOptions) flags(f *flag.FlagSet) {
	opt.set = f
	f.BoolVar(&opt.want.On, "on", false, "plan orders by it; -on=false takes the first place that has all")
	f.Int64Var(&opt.want.Parcel, "parcel", 0, "what a parcel costs beside its freight, in `minor units`")
	f.Int64Var(&opt.want.Day, "day", 0, "what a day sooner is worth, in `minor units`")
	f.Int64Var(&opt.want.LateDay, "late-day", 0, "what each day after the promised one costs, in `minor units`")
	f.Int64Var(&opt.want.Km100, "km-100", 0, "what 100 km to the address cost a parcel, in `minor units`")
	f.IntVar(&opt.want.MostPlaces, "most-places", 0, "so many `places` at most send of an order; 0: no bound")
	f.IntVar(&opt.want.MostWait, "most-wait", 0, "so many `days` an order may wait for goods that are to come; 0: none")
	f.IntVar(&opt.urgent.Days, "urgent-days", 0, "an order is urgent that was promised within so many `days`")
	f.IntVar(&opt.urgent.Share, "urgent-share", 0, "`percent` of what lies at a place that only urgent orders get; 0: nothing")
	f.StringVar(&opt.exception, "exception", "", "`name` of the exception that the other flags are of; rules choose it by weigh(\"NAME\")")
	f.BoolVar(&opt.soon, "urgent", false, "orders of the exception get what is kept for urgent ones")
	f.StringVar(&opt.not, "not", "", "`codes` of places that send nothing of the exception's orders, by comma")
	f.StringVar(&opt.code, "place", "", "`code` of the place that the flags below are of")
	f.Int64Var(&opt.terms.Order, "order", 0, "what an order costs at the place, in `minor units`")
	f.Int64Var(&opt.terms.Unit, "unit", 0, "and each unit, in `minor units`")
	f.Int64Var(&opt.terms.Keep, "keep", 0, "so many `units` of each item stay there for its own buyers")
	f.Int64Var(&opt.terms.PerDay, "per-day", 0, "so many `orders` can leave there on a day; 0: no bound")
	f.StringVar(&opt.cannot, "cannot", "", "`marks` of items that it does not send, by comma; serials and abroad, too")
	f.BoolVar(&opt.forget, "forget", false, "forget what was said of the place, or else of the exception")
}

// change makes of a policy the one that is meant.
func (opt *routingOptions) change(p routing.Policy) (routing.Policy, error) {
	said := map[string]bool{}
	opt.set.Visit(func(f *flag.Flag) { said[f.Name] = true })
	ofPlace := opt.forget && opt.exception == ""
	for _, name := range []string{"order", "unit", "keep", "per-day", "cannot"} {
		ofPlace = ofPlace || said[name]
	}
	if ofPlace && opt.code == "" {
		return p, fmt.Errorf("-place: the code of the place is expected")
	}
	if opt.exception == "" {
		if said["urgent"] || said["not"] {
			return p, fmt.Errorf("-urgent and -not are of an exception: -exception its name")
		}
		opt.ofPolicy(said, &p)
		p.Places = opt.places(said, p.Places)
		return p, nil
	}
	for _, name := range []string{"on", "parcel", "urgent-days", "urgent-share"} {
		if said[name] {
			return p, fmt.Errorf("-%s is of the policy and not of an exception", name)
		}
	}
	e := p.Exceptions[opt.exception]
	p.Exceptions = maps.Clone(p.Exceptions)
	if opt.forget && opt.code == "" {
		delete(p.Exceptions, opt.exception)
		return p, nil
	}
	opt.ofException(said, &e)
	e.Places = opt.places(said, e.Places)
	if p.Exceptions == nil {
		p.Exceptions = map[string]routing.Exception{}
	}
	p.Exceptions[opt.exception] = e
	return p, nil
}

func (opt *routingOptions) ofPolicy(said map[string]bool, p *routing.Policy) {
	if said["on"] {
		p.On = opt.want.On
	}
	if said["parcel"] {
		p.Parcel = opt.want.Parcel
	}
	if said["day"] {
		p.Day = opt.want.Day
	}
	if said["late-day"] {
		p.LateDay = opt.want.LateDay
	}
	if said["km-100"] {
		p.Km100 = opt.want.Km100
	}
	if said["most-places"] {
		p.MostPlaces = opt.want.MostPlaces
	}
	if said["most-wait"] {
		p.MostWait = opt.want.MostWait
	}
	if said["urgent-days"] || said["urgent-share"] {
		u := routing.Urgent{}
		if p.Urgent != nil {
			u = *p.Urgent
		}
		if said["urgent-days"] {
			u.Days = opt.urgent.Days
		}
		if said["urgent-share"] {
			u.Share = opt.urgent.Share
		}
		if p.Urgent = &u; said["urgent-share"] && u.Share == 0 {
			p.Urgent = nil
		}
	}
}

func (opt *routingOptions) ofException(said map[string]bool, e *routing.Exception) {
	if said["day"] {
		e.Day = &opt.want.Day
	}
	if said["late-day"] {
		e.LateDay = &opt.want.LateDay
	}
	if said["km-100"] {
		e.Km100 = &opt.want.Km100
	}
	if said["most-places"] {
		e.MostPlaces = &opt.want.MostPlaces
	}
	if said["most-wait"] {
		e.MostWait = &opt.want.MostWait
	}
	if said["urgent"] {
		e.Urgent = opt.soon
	}
	if said["not"] {
		e.Not = splitComma(opt.not)
	}
}

// places are what holds at places, with what is said of one.
func (opt *routingOptions) places(said map[string]bool, places map[string]routing.PlaceTerms) map[string]routing.PlaceTerms {
	if opt.code == "" {
		return places
	}
	places = maps.Clone(places)
	if opt.forget {
		delete(places, opt.code)
		return places
	}
	if places == nil {
		places = map[string]routing.PlaceTerms{}
	}
	t := places[opt.code]
	if said["order"] {
		t.Order = opt.terms.Order
	}
	if said["unit"] {
		t.Unit = opt.terms.Unit
	}
	if said["keep"] {
		t.Keep = opt.terms.Keep
	}
	if said["per-day"] {
		t.PerDay = opt.terms.PerDay
	}
	if said["cannot"] {
		t.Cannot = splitComma(opt.cannot)
	}
	places[opt.code] = t
	return places
}

func splitComma(text string) (out []string) {
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part != "" {
			out = append(out, part)
		}
	}
	return out
}

func routingCommand() command {
	set, rehearse, replan := &routingOptions{}, &routingOptions{}, &replanOptions{}
	return of("routing", "From which places orders are sent",
		noun("show", "", "What is weighed when places are chosen", 0, 0, nil, showRouting),
		noun("set", "", "Change what is weighed; what is not said stays", 0, 0, set.flags, set.run),
		noun("rehearse", "", "How the newest orders would have been sent, had it been so", 0, 0, rehearse.flags, rehearse.rehearse),
		noun("replan", "", "Plan anew what a place was to send and nobody has begun on", 0, 0, replan.flags, replan.run))
}

func showRouting(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	out, err := c.RoutingPolicy(ctx)
	if err != nil {
		return err
	}
	return showPolicy(p, out)
}

// wanted is the policy at work with what the flags change of it.
func (opt *routingOptions) wanted(ctx context.Context, c *client.Client) (routing.Policy, error) {
	have, err := c.RoutingPolicy(ctx)
	if err != nil {
		return routing.Policy{}, err
	}
	return opt.change(have.Policy)
}

func (opt *routingOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	want, err := opt.wanted(ctx, c)
	if err != nil {
		return err
	}
	out, err := c.SetRoutingPolicy(ctx, want)
	if err != nil {
		return err
	}
	return showPolicy(p, out)
}

// amountsIn writes minor units of a currency.
func amountsIn(currency string) func(int64) string {
	return func(n int64) string { return money.Amount{Minor: n, Currency: currency}.String() }
}

func showPolicy(p *printer, out wire.PolicyInUse) error {
	return p.show(out, func(row func(...any)) {
		how := "off: the first place of the channel's list that has all is taken"
		if out.Policy.On {
			how = "on: what costs least"
		}
		amount := amountsIn(out.Currency)
		row("Chosen", how)
		row("A parcel, beside its freight", amount(out.Policy.Parcel))
		row("A day sooner", amount(out.Policy.Day))
		row("A day after the promised one", amount(out.Policy.LateDay))
		row("100 km to the address", amount(out.Policy.Km100))
		row("Places for an order at most", bound(out.Policy.MostPlaces, "no bound"))
		row("Days to wait for goods that are to come, at most", bound(out.Policy.MostWait, "none"))
		if u := out.Policy.Urgent; u != nil {
			row("Kept for urgent orders", fmt.Sprintf("%d %% of what lies there, for those promised within %d days", u.Share, u.Days))
		}
		showPlaceTerms(row, "", out.Policy.Places, amount)
		for _, name := range slices.Sorted(maps.Keys(out.Policy.Exceptions)) {
			e := out.Policy.Exceptions[name]
			row("Exception "+name, exceptionText(e, amount))
			showPlaceTerms(row, name+", ", e.Places, amount)
		}
	})
}

func bound(n int, none string) string {
	if n == 0 {
		return none
	}
	return fmt.Sprint(n)
}

func showPlaceTerms(row func(...any), before string, places map[string]routing.PlaceTerms, amount func(int64) string) {
	for _, code := range slices.Sorted(maps.Keys(places)) {
		t := places[code]
		row(before+code, fmt.Sprintf("an order %s, a unit %s, keeps %d, %d a day, cannot: %s",
			amount(t.Order), amount(t.Unit), t.Keep, t.PerDay, or(strings.Join(t.Cannot, ", "), "-")))
	}
}

// exceptionText says what an exception weighs otherwise.
func exceptionText(e routing.Exception, amount func(int64) string) string {
	var out []string
	for _, x := range []struct {
		what string
		n    *int64
	}{{"a day sooner", e.Day}, {"a day after the promised one", e.LateDay}, {"100 km", e.Km100}} {
		if x.n != nil {
			out = append(out, x.what+" "+amount(*x.n))
		}
	}
	if e.MostPlaces != nil {
		out = append(out, "places at most: "+bound(*e.MostPlaces, "no bound"))
	}
	if e.MostWait != nil {
		out = append(out, "days to wait at most: "+bound(*e.MostWait, "none"))
	}
	if e.Urgent {
		out = append(out, "urgent")
	}
	if len(e.Not) > 0 {
		out = append(out, "not from "+strings.Join(e.Not, ", "))
	}
	return or(strings.Join(out, "; "), "as the policy, but for places")
}

func (opt *routingOptions) rehearse(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	want, err := opt.wanted(ctx, c)
	if err != nil {
		return err
	}
	out, err := c.RehearseRouting(ctx, want)
	if err != nil {
		return err
	}
	amount := amountsIn(out.Currency)
	return p.show(out, func(row func(...any)) {
		row(fmt.Sprintf("%d orders", out.Orders), "Was", "Would be")
		row("cost", amount(out.Was.Cost), amount(out.Now.Cost))
		row(fmt.Sprintf("late, of %d", out.Promised), out.Was.Late, out.Now.Late)
		row("split", out.Was.Split, out.Now.Split)
		row("waiting", out.Was.Waits, out.Now.Waits)
		row("waiting for goods to come", out.Was.Later, out.Now.Later)
		both := maps.Clone(out.Was.Places)
		maps.Copy(both, out.Now.Places)
		for _, code := range slices.Sorted(maps.Keys(both)) {
			row("from "+code, out.Was.Places[code], out.Now.Places[code])
		}
		row(fmt.Sprintf("%d sent otherwise", out.Changed), "", "")
		for _, x := range out.List {
			row(x.Order, placesText(x.Was)+", "+amount(x.Was.Cost), placesText(x.Now)+", "+amount(x.Now.Cost))
		}
		if more := out.Changed - int64(len(out.List)); more > 0 {
			row(fmt.Sprintf("and %d more", more), "", "")
		}
	})
}

// placesText says which units of a plan come from where.
func placesText(plan routing.Plan) string {
	var parts []string
	for _, e := range plan.Entries {
		at := e.Place
		if e.Later > 0 {
			at = fmt.Sprintf("%s in %d days", at, e.Later)
		}
		parts = append(parts, at+" "+plannedUnits(e.Units))
	}
	if len(plan.Waits) > 0 {
		parts = append(parts, "waits "+plannedUnits(plan.Waits))
	}
	return strings.Join(parts, "; ")
}

func plannedUnits(list []routing.Units) string {
	var parts []string
	for _, u := range list {
		parts = append(parts, fmt.Sprintf("%d × %s", u.Units, u.SKU))
	}
	return strings.Join(parts, ", ")
}

type replanOptions struct{ place, reason string }

func (opt *replanOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.place, "place", "", "`code` of the place; without it all")
	f.StringVar(&opt.reason, "reason", "", "`text` for the timelines of the orders")
}

func (opt *replanOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	job, err := c.ReplanPlace(ctx, opt.place, opt.reason)
	if err != nil {
		return err
	}
	return p.show(wire.StartedJob{Job: job}, func(row func(...any)) { row("Planned anew by job", job) })
}

// orderPlanCommand explains from where an order is sent.
func orderPlanCommand() command {
	return noun("plan", "NUMBER", "From which places an order is sent, what that costs, and what else there was", 1, 1, nil, runOrderPlan)
}

func runOrderPlan(ctx context.Context, c *client.Client, p *printer, a []string) error {
	out, err := c.OrderPlan(ctx, a[0])
	if err != nil {
		return err
	}
	amount := amountsIn(out.Currency)
	return p.show(out, func(row func(...any)) {
		if !out.Planned {
			row("It had no choice of places, or nothing is kept of how it was planned")
			return
		}
		for _, e := range out.Plan.Entries {
			row(e.Place, plannedUnits(e.Units), amount(e.Subtotal))
			if e.Later > 0 {
				row("", fmt.Sprintf("waits %d days for goods that are to come; kept for it: %s", e.Later, or(plannedUnits(e.Held),
					"nothing")), "")
			}
			for _, t := range e.Terms {
				row("", t.Text, amount(t.Cost))
			}
		}
		if len(out.Plan.Waits) > 0 {
			row("waits", plannedUnits(out.Plan.Waits), "")
		}
		row("together", "", amount(out.Plan.Cost))
		for _, r := range out.Runners {
			without := "without " + r.Without
			if r.Now {
				without = "without waiting"
			}
			row(without, placesText(r.Plan), amount(r.Cost))
		}
		for _, b := range out.Bars {
			row("not from "+b.Place, b.Why, "")
		}
	})
}

func replanCommand() command {
	opt := &wire.ReplanOrder{}
	flags := func(f *flag.FlagSet) {
		now := func(yes bool) func(string) error { return func(string) error { opt.Now = &yes; return nil } }
		f.BoolFunc("now", "it waits for nothing that is to come", now(true))
		f.BoolFunc("may-wait", "it may wait again for goods that are to come", now(false))
	}
	return noun("replan", "NUMBER", "Plan an order anew that nobody has begun on", 1, 1, flags,
		func(ctx context.Context, c *client.Client, p *printer, a []string) error {
			return runReplan(ctx, c, p, a, *opt)
		})
}

func runReplan(ctx context.Context, c *client.Client, p *printer, a []string, how wire.ReplanOrder) error {
	changed, err := c.ReplanOrder(ctx, a[0], how)
	if err != nil {
		return err
	}
	if !changed {
		p.say("%s is planned so already.", a[0])
		return nil
	}
	return runOrderPlan(ctx, c, p, a)
}
