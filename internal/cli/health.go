package cli

import (
	"context"
	"errors"
	"flag"

	"openrelay/internal/client"
)

// healthCommand tells how a service is; its exit code does, too.
func healthCommand() command {
	return noun("health", "", "How the service is: its disk, its file, its clock, its connections; it fails where the service does", 0, 0,
		func(*flag.FlagSet) {}, func(ctx context.Context, c *client.Client, p *printer, _ []string) error {
			h, err := c.Health(ctx)
			if err != nil {
				return err
			}
			if err := p.show(h, func(row func(...any)) {
				row("What", "State", "Why")
				for _, x := range h.Checks {
					row(x.Name, x.State, x.Text)
				}
			}); err != nil {
				return err
			}
			if h.State == "failing" {
				return errors.New("the service is failing")
			}
			return nil
		})
}
