package cli

import (
	"context"
	"fmt"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/relay/shipping"
)

func companionsCommand() command {
	return noun("companions", "NUMBER", "List open orders to the same recipient and address that may be sent together with an order", 1, 1,
		nil, runCompanions)
}

func runCompanions(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.Companions(ctx, a[0])
	return showCompanions(p, list, err)
}

func togetherCommand() command {
	return noun("together", "NUMBER OTHER...", "Let an order travel together with others to the same recipient: in the same cartons", 2,
		-1, nil, runTogether)
}

func runTogether(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.SendTogether(ctx, a[0], a[1:]...)
	return showCompanions(p, list, err)
}

func aloneCommand() command {
	return noun("alone", "NUMBER", "Let an order travel alone again", 1, 1, nil, runAlone)
}

func runAlone(ctx context.Context, c *client.Client, p *printer, a []string) error {
	list, err := c.SendAlone(ctx, a[0])
	return showCompanions(p, list, err)
}

func showCompanions(p *printer, list []shipping.TravelCompanion, err error) error {
	if err != nil {
		return err
	}
	return p.show(list, func(row func(...any)) {
		if len(list) == 0 {
			row("No other open order goes to the same recipient and address.")
			return
		}
		row("Order", "Channel", "Stage", "Units", "", "Why")
		for _, x := range list {
			row(x.Order, x.Channel, x.Stage, x.Units, companionState(x), strings.Join(x.Reasons, "; "))
			for _, m := range x.Mind {
				row("", "", "", "", "mind", m)
			}
		}
	})
}

func companionState(x shipping.TravelCompanion) string {
	switch {
	case x.Together:
		return fmt.Sprintf("together, shipment %s at %s", x.Shipment, x.Place)
	case x.Why != "":
		return "not now: " + x.Why
	}
	return "may be sent together, from " + x.Place
}
