package cli

import (
	"context"
	"flag"
	"fmt"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/relay/orders"
	"openrelay/internal/wire"
)

func rulesCommand() command {
	return noun("list", "", "List the rules in their order", 0, 0, nil, runRules)
}

func runRules(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Rules(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) { ruleRows(list, row) })
}

type ruleOptions struct {
	when, then      string
	on, off, remove bool
	position        int64
}

func ruleCommand() command {
	opt := &ruleOptions{}
	return noun("set", "NAME", "Add, change, move, switch or remove a rule by its name", 1, 1, opt.flags, opt.run)
}

func (opt *ruleOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.when, "when", "\x00", "condition in CEL, such as 'total > 50000 && country == \"XE\"'")
	f.Lookup("when").DefValue = ""
	f.StringVar(&opt.then, "then", "", "actions, such as 'tag(\"export\"), hold(\"look at the papers\")'")
	f.BoolVar(&opt.on, "on", false, "switch it on")
	f.BoolVar(&opt.off, "off", false, "switch it off")
	f.BoolVar(&opt.remove, "remove", false, "remove it")
	f.Int64Var(&opt.position, "position", 0, "its `place` among the rules, from 1")
}

func (opt *ruleOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := ruleChange(ctx, c, a[0], opt.when, opt.then, opt.on, opt.off, opt.remove, opt.position)
	if err != nil {
		return err
	}
	list, err := c.ChangeRule(ctx, x)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) { ruleRows(list, row) })
}

type rehearseOptions struct {
	when, then     string
	off, remove    bool
	position, last int64
}

func rehearseCommand() command {
	opt := &rehearseOptions{}
	return noun("rehearse", "NAME", "Show what a change of a rule would have made of past orders; nothing is changed", 1, 1,
		opt.flags, opt.run)
}

func (opt *rehearseOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.when, "when", "\x00", "condition in CEL")
	f.Lookup("when").DefValue = ""
	f.StringVar(&opt.then, "then", "", "actions")
	f.BoolVar(&opt.off, "off", false, "as if it were off")
	f.BoolVar(&opt.remove, "remove", false, "as if it were removed")
	f.Int64Var(&opt.position, "position", 0, "as if it stood at this `place`")
	f.Int64Var(&opt.last, "orders", 10_000, "the newest so many")
}

func (opt *rehearseOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	x, err := ruleChange(ctx, c, a[0], opt.when, opt.then, !opt.off, opt.off, opt.remove, opt.position)
	if err != nil {
		return err
	}
	r, err := c.Rehearse(ctx, x, opt.last)
	if err != nil {
		return err
	}
	return p.show(r, func(row func(...any)) {
		row(fmt.Sprintf("%d of %d orders would have been decided on differently (%.0f ms)", r.Changed, r.Seen, r.TookMS))
		for _, o := range r.Orders {
			row(o.Number, strings.Join(o.Changes, "; "))
		}
	})
}

func ruleRows(list []wire.Rule, row func(...any)) {
	row("", "Rule", "", "When", "Then")
	for _, r := range list {
		w := r.When
		if w == "" {
			w = "an order arrives"
		}
		row(r.Position, r.Name, map[bool]string{true: "on", false: "off"}[r.On], w, r.Then)
	}
}

// ruleChange makes the change of a rule that is named: what is not said stays as it is.
func ruleChange(ctx context.Context, c *client.Client, name, when, then string, on, off, remove bool,
	position int64) (orders.RuleChange, error) {
	list, err := c.Rules(ctx)
	if err != nil {
		return orders.RuleChange{}, err
	}
	x := orders.RuleChange{Name: name}
	for _, r := range list {
		if r.Name == name {
			x = orders.RuleChange{ID: r.ID, Revision: r.Revision, Name: name, On: r.On, When: r.When, Then: r.Then}
		}
	}
	if when != "\x00" {
		x.When = when
	}
	if then != "" {
		x.Then = then
	}
	x.On = (x.On || on) && !off
	x.Remove, x.Position = remove, int(position)
	return x, nil
}
