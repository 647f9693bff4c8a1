package shipping

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"openrelay/internal/core/picking"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// loadRound loads a round that is being picked.
func loadRound(ch *engine.Change, number string) (store.Round, error) {
	x, err := ch.Round(number)
	if err != nil {
		return x, err
	}
	if x.State != store.RoundOpen {
		return x, &engine.Refused{Text: fmt.Sprintf("round %s is %s", x.Number, x.State), Conflict: true}
	}
	return x, nil
}

// notInRound refuses work on a shipment that is picked in a round.
func notInRound(ch *engine.Change, s *store.Shipment) error {
	x, err := ch.RoundOf(s.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	slot := 0
	for _, y := range x.Slots {
		if y.ShipmentID == s.ID {
			slot = y.Slot
		}
	}
	return &engine.Refused{Text: fmt.Sprintf("Shipment %s is slot %d of round %s; pick it there, or take it off the round", s.Number, slot,
		x.Number), Conflict: true}
}

// heldBy refuses work on a round that somebody else picks. A round that nobody picks yet is the first one's who does.
func heldBy(ch *engine.Change, x *store.Round, who string) error {
	switch x.HeldBy {
	case who:
		return nil
	case "":
		x.HeldBy = who
		return ch.UpdateRound(x)
	}
	return &engine.Refused{Text: fmt.Sprintf("%s picks round %s; take it over first", engine.Or(x.Holder, "somebody"), x.Number),
		Conflict: true}
}

// TakeRound lets somebody pick a round; over says that they take it over from who picks it.
func (r *Shipping) TakeRound(ctx context.Context, number string, over bool, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, err := loadRound(ch, number)
		if err != nil {
			return err
		}
		if over && x.HeldBy != "" && x.HeldBy != who {
			if err := r.NoteThing(ch, "round", x.ID, who, "taken over", "Taken over from %s", x.Holder); err != nil {
				return err
			}
			x.HeldBy = who
			ch.Tell("round", x.Number)
			return ch.UpdateRound(&x)
		}
		ch.Tell("round", x.Number)
		return heldBy(ch, &x, who)
	})
}

// slotsOf is what is collected into each slot of a round, and the shipments by slot.
func (r *Shipping) slotsOf(ch *engine.Change, x *store.Round) (slots []picking.Slot, bySlot map[int]*store.Shipment, err error) {
	bySlot = map[int]*store.Shipment{}
	for _, y := range x.Slots {
		s, err := ch.ShipmentByID(y.ShipmentID)
		if err != nil {
			return nil, nil, err
		}
		bySlot[y.Slot] = &s
		if s.State != store.ToPick {
			continue
		}
		o, err := ch.Order(s.OrderID)
		if err != nil {
			return nil, nil, err
		}
		wants, err := r.wants(ch.Tx, s, o)
		if err != nil {
			return nil, nil, err
		}
		slots = append(slots, picking.Slot{Number: y.Slot, Wants: wants})
	}
	return slots, bySlot, nil
}

// heldRound loads a round that somebody picks, with what is collected into its slots.
func (r *Shipping) heldRound(ch *engine.Change, number, who string) (x store.Round, slots []picking.Slot,
	bySlot map[int]*store.Shipment, err error) {
	if x, err = loadRound(ch, number); err != nil {
		return x, nil, nil, err
	}
	if err = heldBy(ch, &x, who); err != nil {
		return x, nil, nil, err
	}
	slots, bySlot, err = r.slotsOf(ch, &x)
	return x, slots, bySlot, err
}

// stops lists what is collected in a round, in the order of the walk.
func (r *Shipping) stops(ch *engine.Change, x *store.Round, slots []picking.Slot) ([]picking.Stop, error) {
	bins := map[string]bool{}
	for _, s := range slots {
		for _, w := range s.Wants {
			bins[w.Bin] = true
		}
	}
	walk, err := ch.BinPositions(x.LocationID, slices.Collect(maps.Keys(bins)))
	if err != nil {
		return nil, err
	}
	return picking.Stops(slots, walk), nil
}

// RoundScan is one scan in a round.
type RoundScan struct {
	Code     string `json:"code" maxLength:"200" doc:"What the scanner read"`
	Bin      string `json:"bin,omitempty" maxLength:"80"  doc:"The bin scanned last, if any"`
	Quantity int64  `json:"quantity,omitempty" doc:"Units; 0 means one"                                   minimum:"0"`
	Slot     int    `json:"slot,omitempty" doc:"Into which slot; 0: into the first ones that take it" minimum:"0"`
}

// ScanInRound takes one scan while a round is picked. A wrong one changes nothing and says what was expected.
func (r *Shipping) ScanInRound(ctx context.Context, number string, in RoundScan, who string) (out picking.RoundOutcome, err error) {
	if in.Quantity < 0 {
		return out, engine.Refuse("quantity %d: at least 1 is expected", in.Quantity)
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		x, slots, bySlot, err := r.heldRound(ch, number, who)
		if err != nil {
			return err
		}
		stops, err := r.stops(ch, &x, slots)
		if err != nil {
			return err
		}
		if out, err = picking.ScanRound(x.Number, stops, in.Code, in.Bin, in.Quantity, in.Slot); err != nil {
			return err
		}
		for _, put := range out.Puts {
			s := bySlot[put.Slot]
			o, err := ch.Order(s.OrderID)
			if err != nil {
				return err
			}
			if err := o.Workable(); err != nil {
				return engine.OrderStateError(err)
			}
			got := out.Outcome
			got.Quantity = put.Quantity
			if err := r.pickUnits(ch, s, o, got, who); err != nil {
				return err
			}
		}
		ch.Tell("round", x.Number)
		return r.settleRound(ch, &x)
	})
	return out, err
}

// TakeBackInRound takes back that units of an item were picked into a slot of a round; without one, into the last that has some.
func (r *Shipping) TakeBackInRound(ctx context.Context, number string, in RoundScan, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, slots, bySlot, err := r.heldRound(ch, number, who)
		if err != nil {
			return err
		}
		for i := len(slots) - 1; i >= 0; i-- {
			w, err := picking.Find(slots[i].Wants, in.Code)
			if err != nil || w.Picked == 0 || in.Slot != 0 && slots[i].Number != in.Slot {
				continue
			}
			ch.Tell("round", x.Number)
			return r.takeBackUnits(ch, bySlot[slots[i].Number], in.Code, max(in.Quantity, 1), who)
		}
		return &engine.Refused{
			Text: fmt.Sprintf("nothing of %q is picked in round %s; nothing can be taken back", engine.Clip(in.Code, 40),
				x.Number),
			Conflict: true,
		}
	})
}

// ShortInRound takes in that a picker does not find units of an item for a round: the last slots go without.
func (r *Shipping) ShortInRound(ctx context.Context, number string, m Missing, who string) (out Shortage, err error) {
	if m.Quantity < 1 {
		return out, engine.Refuse("quantity: at least 1 is expected")
	}
	var of []string
	var left []int64
	err = r.Commit(ctx, func(ch *engine.Change) error { // what is missing of which shipment
		of, left = nil, nil
		x, slots, bySlot, err := r.heldRound(ch, number, who)
		if err != nil {
			return err
		}
		missing := m.Quantity
		for i := len(slots) - 1; i >= 0 && missing > 0; i-- {
			w, err := picking.Find(slots[i].Wants, m.Code)
			if n := min(missing, w.Left()); err == nil && n > 0 {
				of, left = append(of, bySlot[slots[i].Number].Number), append(left, n)
				missing -= n
			}
		}
		if missing > 0 {
			return &engine.Refused{Text: fmt.Sprintf("%d × %s are still to be picked in round %s, not %d", m.Quantity-missing,
				engine.Clip(m.Code, 40), x.Number, m.Quantity), Conflict: true}
		}
		return nil
	})
	if err != nil {
		return out, err
	}
	out.Waits = []ShortLine{}
	for i, shipment := range of {
		one := m
		one.Quantity = left[i]
		got, err := r.ReportShort(ctx, shipment, one, who)
		if err != nil {
			return out, err
		}
		out.Text, out.Bin, out.Expected = got.Text, engine.Or(got.Bin, out.Bin), got.Expected
		out.Elsewhere += got.Elsewhere
		out.Waiting += got.Waiting
		out.Waits = append(out.Waits, got.Waits...)
	}
	return out, r.Commit(ctx, func(ch *engine.Change) error {
		x, err := ch.Round(number)
		if err != nil {
			return err
		}
		ch.Tell("round", x.Number)
		return r.settleRound(ch, &x)
	})
}

// LeaveRound takes a shipment off a round; it is picked by itself then.
func (r *Shipping) LeaveRound(ctx context.Context, number string, slot int, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, err := loadRound(ch, number)
		if err != nil {
			return err
		}
		i := slices.IndexFunc(x.Slots, func(s store.RoundSlot) bool { return s.Slot == slot })
		if i < 0 {
			return engine.Refuse("slot: round %s has no slot %d", x.Number, slot)
		}
		if err := ch.DropSlot(x.ID, slot); err != nil {
			return err
		}
		ch.Tell("round", x.Number)
		ch.Tell("shipment", x.Slots[i].Shipment)
		if err := r.NoteThing(ch, "round", x.ID, who, "slot", "Shipment %s taken off slot %d", x.Slots[i].Shipment, slot); err != nil {
			return err
		}
		x.Slots = slices.Delete(x.Slots, i, i+1)
		return r.settleRound(ch, &x)
	})
}

// TakeRoundApart ends a round: its shipments are picked by themselves. What is picked stays picked.
func (r *Shipping) TakeRoundApart(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, err := loadRound(ch, number)
		if err != nil {
			return err
		}
		x.State, x.EndedAt = store.RoundApart, ch.Now.UnixMicro()
		ch.Tell("round", x.Number)
		if err := r.NoteThing(ch, "round", x.ID, who, "taken apart", "Taken apart; its shipments are picked by themselves"); err != nil {
			return err
		}
		return ch.UpdateRound(&x)
	})
}

// settleRound ends a round of which nothing is left to be collected.
func (r *Shipping) settleRound(ch *engine.Change, x *store.Round) error {
	now, err := ch.Round(x.Number)
	if err != nil || now.State != store.RoundOpen {
		return err
	}
	for i := range now.Slots {
		if !now.Slots[i].Done() {
			return nil
		}
	}
	now.State = store.RoundPicked
	if len(now.Slots) == 0 {
		now.State = store.RoundApart
	}
	now.EndedAt = ch.Now.UnixMicro()
	ch.Tell("round", now.Number)
	return ch.UpdateRound(&now)
}

// settleRoundOf lets the round of a shipment follow what became of it elsewhere.
func (r *Shipping) settleRoundOf(ch *engine.Change, shipment int64) error {
	x, err := ch.RoundOf(shipment)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	ch.Tell("round", x.Number)
	return r.settleRound(ch, &x)
}
