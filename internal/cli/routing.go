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
	set               *flag.FlagSet
	want              routing.Policy
	code              string
	terms             routing.PlaceTerms
	cannot            string
	placePart, forget bool
}

func (opt *routingOptions) flags(f *flag.FlagSet) {
	opt.set = f
	f.BoolVar(&opt.want.On, "on", false, "plan orders by it; -on=false takes the first place that has all")
	f.Int64Var(&opt.want.Parcel, "parcel", 0, "what a parcel costs beside its freight, in `minor units`")
	f.Int64Var(&opt.want.Day, "day", 0, "what a day sooner is worth, in `minor units`")
	f.Int64Var(&opt.want.LateDay, "late-day", 0, "what each day after the promised one costs, in `minor units`")
	f.IntVar(&opt.want.MostPlaces, "most-places", 0, "so many `places` at most send of an order; 0: no bound")
	f.StringVar(&opt.code, "place", "", "`code` of the place that the flags below are of")
	f.Int64Var(&opt.terms.Order, "order", 0, "what an order costs at the place, in `minor units`")
	f.Int64Var(&opt.terms.Unit, "unit", 0, "and each unit, in `minor units`")
	f.Int64Var(&opt.terms.Keep, "keep", 0, "so many `units` of each item stay there for its own buyers")
	f.Int64Var(&opt.terms.PerDay, "per-day", 0, "so many `orders` can leave there on a day; 0: no bound")
	f.StringVar(&opt.cannot, "cannot", "", "`marks` of items that it does not send, by comma; serials and abroad, too")
	f.BoolVar(&opt.forget, "forget", false, "forget what was said of the place")
}

// change makes of a policy the one that is meant.
func (opt *routingOptions) change(p routing.Policy) (routing.Policy, error) {
	p.Places = maps.Clone(p.Places)
	t := p.Places[opt.code]
	opt.set.Visit(func(f *flag.Flag) {
		switch f.Name {
		case "on":
			p.On = opt.want.On
		case "parcel":
			p.Parcel = opt.want.Parcel
		case "day":
			p.Day = opt.want.Day
		case "late-day":
			p.LateDay = opt.want.LateDay
		case "most-places":
			p.MostPlaces = opt.want.MostPlaces
		case "order", "unit", "keep", "per-day", "cannot", "forget":
			opt.placePart = true
			opt.ofPlace(f.Name, &t)
		}
	})
	switch {
	case opt.placePart && opt.code == "":
		return p, fmt.Errorf("-place: the code of the place is expected")
	case opt.code == "":
		return p, nil
	case opt.forget:
		delete(p.Places, opt.code)
		return p, nil
	case p.Places == nil:
		p.Places = map[string]routing.PlaceTerms{}
	}
	p.Places[opt.code] = t
	return p, nil
}

func (opt *routingOptions) ofPlace(name string, t *routing.PlaceTerms) {
	switch name {
	case "order":
		t.Order = opt.terms.Order
	case "unit":
		t.Unit = opt.terms.Unit
	case "keep":
		t.Keep = opt.terms.Keep
	case "per-day":
		t.PerDay = opt.terms.PerDay
	case "cannot":
		t.Cannot = splitComma(opt.cannot)
	}
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
		most := "no bound"
		if out.Policy.MostPlaces > 0 {
			most = fmt.Sprint(out.Policy.MostPlaces)
		}
		row("Places for an order at most", most)
		for _, code := range slices.Sorted(maps.Keys(out.Policy.Places)) {
			t := out.Policy.Places[code]
			row(code, fmt.Sprintf("an order %s, a unit %s, keeps %d, %d a day, cannot: %s",
				amount(t.Order), amount(t.Unit), t.Keep, t.PerDay, or(strings.Join(t.Cannot, ", "), "-")))
		}
	})
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
		parts = append(parts, e.Place+" "+plannedUnits(e.Units))
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
			for _, t := range e.Terms {
				row("", t.Text, amount(t.Cost))
			}
		}
		if len(out.Plan.Waits) > 0 {
			row("waits", plannedUnits(out.Plan.Waits), "")
		}
		row("together", "", amount(out.Plan.Cost))
		for _, r := range out.Runners {
			row("without "+r.Without, placesText(r.Plan), amount(r.Cost))
		}
		for _, b := range out.Bars {
			row("not from "+b.Place, b.Why, "")
		}
	})
}

func replanCommand() command {
	return noun("replan", "NUMBER", "Plan an order anew that nobody has begun on", 1, 1, nil, runReplan)
}

func runReplan(ctx context.Context, c *client.Client, p *printer, a []string) error {
	changed, err := c.ReplanOrder(ctx, a[0])
	if err != nil {
		return err
	}
	if !changed {
		p.say("%s is planned so already.", a[0])
		return nil
	}
	return runOrderPlan(ctx, c, p, a)
}
