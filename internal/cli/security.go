package cli

import (
	"context"
	"flag"

	"openrelay/internal/client"
	"openrelay/internal/relay/people"
	"openrelay/internal/wire"
)

// securityOptions narrow what happened at the door.
type securityOptions struct{ rows rows }

func securityCommand() command {
	opt := &securityOptions{}
	return verbs(
		"security",
		"Who came in, who was kept out; of whom a second factor is demanded",
		func(f *flag.FlagSet) { opt.rows.flags(f) },
		[]verb{
			{"list", "", "Security events, newest first", 0, opt.events},
			{"terms", "", "Of whom a second factor is demanded", 0, opt.terms},
			{"demand", "OF", "Demand it of nobody, leads or everybody", 1, opt.demand},
		},
	)
}

func (opt *securityOptions) events(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, more, err := listed[wire.SecurityEvent](ctx, c, "/security-events", "", &opt.rows)
	if err != nil {
		return err
	}
	if err := p.show(list, func(row func(...any)) {
		row("When", "What", "Who", "From", "About")
		for _, e := range list {
			row(e.At, e.Kind, e.Who, e.Source, e.Text)
		}
	}); err != nil {
		return err
	}
	p.cut(len(list), more)
	return nil
}

func (opt *securityOptions) terms(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	t, err := c.FactorTerms(ctx)
	return showTerms(p, t, err)
}

func (opt *securityOptions) demand(ctx context.Context, c *client.Client, p *printer, a []string) error {
	t, err := c.SetFactorTerms(ctx, people.FactorTerms{Of: a[0]})
	return showTerms(p, t, err)
}

func showTerms(p *printer, t people.FactorTerms, err error) error {
	if err != nil {
		return err
	}
	return p.told(t, "A second factor is demanded of %s", t.Of)
}
