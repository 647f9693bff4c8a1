package whole

import (
	"context"
	"strings"

	"openrelay/internal/client"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

// roundPacker picks orders in rounds, sends those to one person together, and packs each shipment into two cartons. Whatever fails is
// taken up again later: by it, or by whoever comes along.
type roundPacker struct{ c *client.Client }

// work does one round, or goes on with one that a kill left open.
func (p *roundPacker) work(ctx context.Context, orders []string) error {
	open, err := p.c.Rounds(ctx, "state=picking&limit=5")
	if err != nil {
		return err
	}
	number := ""
	if len(open) > 0 {
		number = open[0].Number
		if _, err := p.c.TakeRound(ctx, number, true); err != nil {
			return err
		}
	} else {
		p.together(ctx, orders)
		made, err := p.c.MakeRound(ctx, shipping.NewRound{Orders: orders})
		if err != nil {
			return err
		}
		number = made.Number
	}
	r, err := p.c.Round(ctx, number)
	if err != nil {
		return err
	}
	for _, stop := range r.Stops {
		if left := stop.Quantity - stop.Picked; left > 0 {
			if _, err := p.c.ScanRound(ctx, number, shipping.RoundScan{Code: stop.SKU, Quantity: left}); err != nil {
				return err
			}
		}
	}
	for _, slot := range r.Slots {
		if err := p.packAndShip(ctx, slot.Shipment); err != nil {
			return err
		}
	}
	return nil
}

// together lets orders travel together that go to one person.
func (p *roundPacker) together(ctx context.Context, orders []string) {
	for _, n := range orders {
		list, err := p.c.Companions(ctx, n)
		if err != nil {
			return
		}
		for _, x := range list {
			if !x.Together && x.Why == "" {
				_, _ = p.c.SendTogether(ctx, n, x.Order)
			}
		}
	}
}

// packAndShip packs a unit apart, then the rest, and ships all that is packed.
func (p *roundPacker) packAndShip(ctx context.Context, shipment string) error {
	v, err := p.c.Shipment(ctx, shipment)
	if err != nil {
		return err
	}
	if v.State == "picking" && len(v.Parcels) == 0 && len(v.Wants) > 0 {
		if _, err := p.c.PackUnits(ctx, shipment, wire.Packing{Carton: wire.Carton{Profile: "large"},
			Units: map[string]int64{v.Wants[0].SKU: 1}}); err != nil {
			return err
		}
	}
	if v, err = p.c.Shipment(ctx, shipment); err != nil {
		return err
	}
	if v.State == "picking" {
		if v, err = p.c.Pack(ctx, shipment, "large", 0, nil); err != nil {
			return err
		}
	}
	for _, x := range v.Parcels {
		if x.State != "packed" || x.Carton != "" {
			continue
		}
		rates, err := p.c.Rates(ctx, x.Number)
		if err != nil {
			return err
		}
		for _, rate := range rates {
			if rate.Refused == "" {
				if _, err := p.c.Ship(ctx, x.Number, rate.Carrier, rate.Service); err != nil {
					return err
				}
				break
			}
		}
	}
	return nil
}

// roundOf are the numbers of some orders that a round takes.
func roundOf(list []wire.OrderRow) (numbers []string) {
	for _, o := range list {
		if !strings.Contains("packed, part shipped", o.Stage) && len(numbers) < 4 {
			numbers = append(numbers, o.Number)
		}
	}
	return numbers
}
