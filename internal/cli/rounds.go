package cli

import (
	"context"
	"flag"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type roundsOptions struct {
	state string
	want  rows
}

func roundsCommand() command {
	opt := &roundsOptions{}
	return noun("list", "", "List rounds, newest first", 0, 0, opt.flags, opt.run)
}

func (opt *roundsOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.state, "state", "", "only this state, or several by comma")
	opt.want.flags(f)
}

func (opt *roundsOptions) run(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.Round](ctx, c, "/rounds", query("state", opt.state), &opt.want)
	if err != nil {
		return err
	}
	defer func() { p.cut(len(list), more) }()
	return p.show(list, func(row func(...any)) {
		row("Round", "At", "State", "Slots", "Picked", "Of", "Picked by", "Rule")
		for _, x := range list {
			row(x.Number, x.Location, x.State, len(x.Slots), x.Picked, x.Quantity, x.Holder, x.Rule)
		}
	})
}

func roundCommand() command {
	return noun("show", "ROUND", "Show what is collected in a round, in the order of the walk, and into which slots it goes", 1, 1, nil,
		showRound)
}

func showRound(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.Round(ctx, a[0])
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { roundTable(v, row) })
}

func roundTable(v wire.RoundView, row func(...any)) {
	row("Round", v.Number, v.State, "at "+v.Location, fmt.Sprintf("%d of %d", v.Picked, v.Quantity), v.Holder)
	for _, x := range v.Left {
		row("", x.Order, "not in it: "+x.Why)
	}
	for _, s := range v.Slots {
		row("Slot", s.Slot, s.OrderNumber, s.Shipment, fmt.Sprintf("%d of %d", s.Picked, s.Quantity), s.State)
	}
	for _, s := range v.Stops {
		var into []string
		for _, x := range s.Slots {
			into = append(into, fmt.Sprintf("%d/%d into slot %d", x.Picked, x.Quantity, x.Slot))
		}
		row("Bin", s.Bin, s.SKU, s.Title, fmt.Sprintf("%d of %d", s.Picked, s.Quantity), strings.Join(into, ", "))
	}
}

type makeRoundOptions struct{ n shipping.NewRound }

func makeRoundCommand() command {
	opt := &makeRoundOptions{}
	return noun("make", "[ORDER…]", "Let orders be picked in one walk: those that are named, or those that a rule chooses", 0, 60,
		opt.flags, opt.run)
}

func (opt *makeRoundOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.n.Rule, "rule", "", "code of a `rule` for rounds")
	f.StringVar(&opt.n.Location, "at", "", "code of the `place`; else where the first order lies")
}

func (opt *makeRoundOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.n.Orders = a
	v, err := c.MakeRound(ctx, opt.n)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { roundTable(v, row) })
}

type takeRoundOptions struct{ over bool }

func takeRoundCommand() command {
	opt := &takeRoundOptions{}
	return noun("take", "ROUND", "Pick a round", 1, 1, opt.flags, opt.run)
}

func (opt *takeRoundOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.over, "over", false, "take it over from who picks it")
}

func (opt *takeRoundOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.TakeRound(ctx, a[0], opt.over)
	if err != nil {
		return err
	}
	return p.told(v, "%s is picked by %s", v.Number, v.Holder)
}

type scanRoundOptions struct{ s shipping.RoundScan }

func scanRoundCommand() command {
	opt := &scanRoundOptions{}
	return noun("scan", "ROUND CODE", "Scan a bin or a product in a round", 2, 2, opt.flags, opt.run)
}

func (opt *scanRoundOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.s.Bin, "bin", "", "the bin scanned last")
	f.Int64Var(&opt.s.Quantity, "quantity", 0, "units; 0 means one")
	f.IntVar(&opt.s.Slot, "slot", 0, "into which slot; 0: into the first ones that take it")
}

func (opt *scanRoundOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.s.Code = a[1]
	v, err := c.ScanRound(ctx, a[0], opt.s)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) {
		row(v.Said.Text)
		row("Next: " + v.Expected)
	})
}

func takeBackRoundCommand() command {
	opt := &scanRoundOptions{}
	return noun("take-back", "ROUND CODE", "Take back that units were picked into a slot", 2, 2, opt.backFlags, opt.back)
}

func (opt *scanRoundOptions) backFlags(f *flag.FlagSet) {
	f.Int64Var(&opt.s.Quantity, "quantity", 0, "units; 0 means one")
	f.IntVar(&opt.s.Slot, "slot", 0, "out of which slot; 0: of the last that has some")
}

func (opt *scanRoundOptions) back(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.s.Code = a[1]
	v, err := c.TakeBackRound(ctx, a[0], opt.s)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { roundTable(v, row) })
}

type shortRoundOptions struct{ m shipping.Missing }

func shortRoundCommand() command {
	opt := &shortRoundOptions{}
	return noun("short", "ROUND CODE", "Say that units are not where they should lie; the last slots go without", 2, 2, opt.flags, opt.run)
}

func (opt *shortRoundOptions) flags(f *flag.FlagSet) {
	f.Int64Var(&opt.m.Quantity, "quantity", 1, "units that are not there")
	f.StringVar(&opt.m.Bin, "bin", "", "where they are not; else where the item usually lies")
}

func (opt *shortRoundOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	opt.m.Code = a[1]
	s, err := c.ShortRound(ctx, a[0], opt.m)
	if err != nil {
		return err
	}
	return p.told(s, "%s", s.Text)
}

func leaveRoundCommand() command {
	return noun("leave", "ROUND SLOT", "Take a shipment off a round; it is picked by itself", 2, 2, nil, runLeaveRound)
}

func runLeaveRound(ctx context.Context, c *client.Client, p *printer, a []string) error {
	slot, err := strconv.Atoi(a[1])
	if err != nil || slot < 1 {
		return usage{fmt.Sprintf("%q: the number of a slot is expected", a[1])}
	}
	v, err := c.LeaveRound(ctx, a[0], slot)
	if err != nil {
		return err
	}
	return p.show(v, func(row func(...any)) { roundTable(v, row) })
}

func takeRoundApartCommand() command {
	return noun("take-apart", "ROUND", "End a round; its shipments are picked by themselves", 1, 1, nil, runTakeRoundApart)
}

func runTakeRoundApart(ctx context.Context, c *client.Client, p *printer, a []string) error {
	v, err := c.TakeRoundApart(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(v, "%s is taken apart", v.Number)
}

func roundRulesCommand() command {
	return noun("rules", "", "List the rules by which rounds are made", 0, 0, nil, runRoundRules)
}

func runRoundRules(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.RoundRules(ctx)
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		row("Rule", "Name", "At", "Slots", "Services", "Orders", "")
		for _, x := range list {
			today := ""
			if x.Today {
				today = "what should leave today"
			}
			row(x.Code, x.Name, x.Location, x.Slots, strings.Join(x.Services, ", "), []string{"any", "of one unit", "of more"}[x.Units],
				today)
		}
	})
}

type roundRuleOptions struct {
	x    store.RoundRule
	drop bool
}

func roundRuleCommand() command {
	opt := &roundRuleOptions{}
	return noun("rule", "CODE", "Set a rule by which rounds are made, or remove it with -remove", 1, 1, opt.flags, opt.run)
}

func (opt *roundRuleOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.x.Name, "name", "", "what it is called")
	f.StringVar(&opt.x.Location, "at", "", "code of the `place`")
	f.IntVar(&opt.x.Slots, "slots", 0, "slots on the cart; else twelve")
	f.Func("service", "a `word` of service that the buyers wished for; may be given several times; without it any", func(s string) error {
		opt.x.Services = append(opt.x.Services, s)
		return nil
	})
	f.IntVar(&opt.x.Units, "units", 0, "0: any order, 1: those of a single unit, 2: all others")
	f.BoolVar(&opt.x.Today, "today", false, "only what should leave today, by the hours of the place")
	f.BoolVar(&opt.drop, "remove", false, "remove it")
}

func (opt *roundRuleOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.drop {
		if err := c.DropRoundRule(ctx, a[0]); err != nil {
			return err
		}
		return p.told(a[0], "%s is removed", a[0])
	}
	x, err := c.PutRoundRule(ctx, a[0], opt.x)
	if err != nil {
		return err
	}
	return p.told(x, "%s is set: %s, %d slots at %s", x.Code, x.Name, x.Slots, x.Location)
}

type roundListOptions struct{ out, size string }

func roundListCommand() command {
	opt := &roundListOptions{}
	return noun("paper", "ROUND", "Save the list of a round as PDF", 1, 1, opt.flags, opt.run)
}

func (opt *roundListOptions) flags(f *flag.FlagSet) {
	f.StringVar(&opt.out, "o", "", "`file` to write; without it round-ROUND.pdf")
	f.StringVar(&opt.size, "size", "a4", "a4, roll (80 mm) or label (100×150 mm)")
}

func (opt *roundListOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	return savePDF(ctx, c, p, "/rounds/"+url.PathEscape(a[0])+"/round.pdf?size="+url.QueryEscape(opt.size), opt.out, "round-"+a[0]+".pdf")
}
