package cli

import (
	"context"
	"flag"

	"openrelay/internal/client"
)

type personOptions struct {
	remove bool
}

func personCommand() command {
	opt := &personOptions{}
	return noun("person", "EMAIL", "Print all that is kept of a person, as JSON; or remove it", 1, 1, opt.flags, opt.run)
}

func (opt *personOptions) flags(f *flag.FlagSet) {
	f.BoolVar(&opt.remove, "erase", false, "remove their personal data; the books stay")
}

func (opt *personOptions) run(ctx context.Context, c *client.Client, p *printer, a []string) error {
	if opt.remove {
		n, err := c.ErasePerson(ctx, a[0])
		if err != nil {
			return err
		}
		return p.told(n, "personal data removed from %d orders", n)
	}
	d, err := c.Person(ctx, a[0])
	if err != nil {
		return err
	}
	return printJSON(p.w, d)
}

func keepPersonalCommand() command {
	return noun("keep-personal", "DAYS", "Say how many days after an order is done its personal data is removed; 0: never", 1, 1, nil,
		runKeepPersonal)
}

func runKeepPersonal(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := number(a[0])
	if err != nil {
		return err
	}
	if err := c.KeepFor(ctx, int(n)); err != nil {
		return err
	}
	return p.told(n, "kept for %d days", n)
}

func looksCommand() command {
	return noun("looks", "", "Who looked at personal data, newest first", 0, 0, nil, runLooks)
}

func runLooks(ctx context.Context, c *client.Client, p *printer, _ []string) error {
	list, err := c.Looks(ctx, "limit=100")
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		for _, l := range list {
			row(&l.At, l.Who, l.Thing, l.Key)
		}
	})
}
