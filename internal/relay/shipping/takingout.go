package shipping

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// TakeOut takes some units out of a packed carton without a label: they are picked, and lie in no parcel again. Where nothing is left
// in it, the carton is unpacked. Units are by SKU; of what has serial numbers, the whole carton is unpacked instead.
func (r *Shipping) TakeOut(ctx context.Context, parcel string, units map[string]int64, who string) error {
	if len(units) == 0 {
		return engine.Refuse("units: say what is taken out")
	}
	for sku, n := range units {
		if n < 1 {
			return engine.Refuse("units: at least 1 × %s is expected", sku)
		}
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		c, err := loadCarton(ch, parcel)
		if err != nil {
			return err
		}
		if p := c.own(); p.State != store.ToShip {
			return &engine.Refused{Text: notUnpacked(p), Conflict: true}
		}
		left := maps.Clone(units)
		for i := len(c) - 1; i >= 0; i-- { // of an order that travels in it first
			if err := r.takeOutUnits(ch, &c[i], left, who); err != nil {
				return err
			}
		}
		for _, sku := range slices.Sorted(maps.Keys(left)) {
			if n := left[sku]; n > 0 {
				return &engine.Refused{Text: fmt.Sprintf("%d × %s more than lie in parcel %s", n, sku, c.own().Number), Conflict: true}
			}
		}
		c, err = takeOutOf(ch, c, func(p *store.Parcel) bool { return !live(p) })
		if err != nil {
			return err
		}
		return c.save(ch)
	})
}

// takeOutUnits takes units out of what of one order lies in a carton, as far as there are any, and off those that are to be taken.
func (r *Shipping) takeOutUnits(ch *engine.Change, x *content, left map[string]int64, who string) error {
	p, o := &x.parcel, x.order
	items, _, err := contentOf(ch, p.Lines, 1)
	if err != nil {
		return err
	}
	s, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return err
	}
	parcels, err := ch.ParcelsOf(s.ID)
	if err != nil {
		return err
	}
	before := contents(parcels, live)
	after := maps.Clone(before)
	var taken, rest int64
	for i := range p.Lines {
		l := &p.Lines[i]
		it := items[l.ItemID]
		n := min(left[it.SKU], l.Quantity)
		if n > 0 && it.Serials {
			return &engine.Refused{
				Text:     fmt.Sprintf("%s has serial numbers: unpack the parcel, and scan them anew", it.SKU),
				Conflict: true,
			}
		}
		l.Quantity -= n
		left[it.SKU] -= n
		after[lineItem{l.LineID, l.ItemID}] -= n
		taken += n
		rest += l.Quantity
	}
	if taken == 0 {
		return nil
	}
	if err := unpackUnits(o, &s, before, after); err != nil {
		return err
	}
	if p.Error = ""; rest == 0 {
		p.State = store.CalledOff
	}
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	if err := r.NoteOrder(ch, o, who, "taken out", "%s taken out of parcel %s", engine.Counted(taken, "unit", "units"),
		p.Number); err != nil {
		return err
	}
	return r.Orders.SaveOrder(ch, o)
}
