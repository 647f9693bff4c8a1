package cli

import (
	"context"

	"openrelay/internal/client"
)

func privacyEraseCommand() command {
	return noun("erase", "EMAIL", "Remove the personal data of a buyer; the books stay", 1, 1, nil, erasePrivate)
}

func erasePrivate(ctx context.Context, c *client.Client, p *printer, a []string) error {
	n, err := c.ErasePerson(ctx, a[0])
	if err != nil {
		return err
	}
	return p.told(n, "personal data removed from %d orders", n)
}

func privacyShowCommand() command {
	return noun("show", "EMAIL", "Print all that is kept of a buyer, as JSON", 1, 1, nil, showPrivate)
}

func showPrivate(ctx context.Context, c *client.Client, p *printer, a []string) error {
	d, err := c.Person(ctx, a[0])
	if err != nil {
		return err
	}
	return printJSON(p.w, d)
}

func keepPersonalCommand() command {
	return noun("keep", "DAYS", "Say how many days after an order is done its personal data is removed; 0: never", 1, 1, nil,
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
