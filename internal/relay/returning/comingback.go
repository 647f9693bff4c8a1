package returning

import (
	"fmt"
	"strings"

	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// SettleComingBack announces a return for each parcel that its carrier brings back, unless one of its number is known.
func (r *Returning) SettleComingBack(ch *engine.Change, parcels []int64) error {
	for _, id := range parcels {
		p, err := ch.ParcelByID(id)
		if err != nil {
			return err
		}
		if err := r.comesBack(ch, &p); err != nil {
			return fmt.Errorf("return of parcel %s: %w", p.Number, err)
		}
	}
	return nil
}

func (r *Returning) comesBack(ch *engine.Change, p *store.Parcel) error {
	o, err := ch.Order(p.OrderID)
	if err != nil {
		return err
	}
	if known, err := ch.ReturnKnown(o.ID, p.Tracking); err != nil || known || len(returns.Sent(o)) == 0 {
		return err
	}
	x := store.GoodsReturn{OrderID: o.ID, Status: returns.Announced, Reason: "not delivered", Tracking: p.Tracking, MadeBy: p.CarrierName,
		LocationID: p.LocationID, CreatedAt: ch.Now.UnixMicro(), Remark: "The carrier brings parcel " + p.Number + " back."}
	err = r.add(ch, &x, o, wholeUnits(p), strings.TrimSpace(p.CarrierName))
	if why, refused := engine.IsRefused(err); refused { // some of it came back already: a person looks what is in the carton
		ch.Tell("order", o.Number)
		return r.NoteOrder(ch, o, p.CarrierName, "return not announced", "Parcel %s comes back: %s", p.Number, why)
	}
	return err
}

// wholeUnits are the units of order lines that lie in a parcel; of a kit, those of which all of it does.
func wholeUnits(p *store.Parcel) map[int64]int64 {
	out := map[int64]int64{}
	for _, l := range p.Lines {
		n := l.Quantity / max(l.Per, 1)
		if have, ok := out[l.LineID]; !ok || n < have {
			out[l.LineID] = n
		}
	}
	for line, n := range out {
		if n == 0 {
			delete(out, line)
		}
	}
	return out
}
