package shipping

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"sync"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// NearbyPoints are pickup points near an address, and the carriers that did not say theirs.
type NearbyPoints struct {
	Points []message.PickupPoint `json:"points" doc:"The nearest first"`
	Silent []string              `json:"silent" doc:"Carriers that did not answer, by name"`
}

// PointOf is where the buyer of an order fetches it: as a person chose, else as the channel said; nil: it goes to the door.
func PointOf(o *order.Order) *message.PickupPoint {
	p := &o.Record.Point
	if o.Ours.Point != nil {
		p = o.Ours.Point
	}
	if p.ID == "" {
		return nil
	}
	return p
}

// Points asks all carriers that keep parcels to be fetched for their points near an order's address. One that hangs delays nobody.
func (r *Shipping) Points(ctx context.Context, number string) (out NearbyPoints, err error) {
	out.Points, out.Silent = []message.PickupPoint{}, []string{}
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return out, fmt.Errorf("order %s: %w", number, err)
	}
	ctx, cancel := context.WithTimeout(ctx, rateWait)
	defer cancel()
	var mu sync.Mutex
	var wg sync.WaitGroup
	for _, c := range r.All() {
		if !c.Works() || c.Line().Def.Calls["points"] == nil {
			continue
		}
		wg.Add(1)
		go func() {
			defer wg.Done()
			list, err := c.Line().Ask(ctx, "points", o.ShipTo)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				r.Log.Warn("no pickup points", "carrier", c.Rec().Code, "error", err)
				out.Silent = append(out.Silent, c.Rec().Name)
				return
			}
			for _, x := range list {
				p := *x.(*message.PickupPoint)
				p.Carrier = c.Rec().Code
				out.Points = append(out.Points, p)
			}
		}()
	}
	wg.Wait()
	slices.Sort(out.Silent)
	slices.SortFunc(out.Points, func(a, b message.PickupPoint) int {
		return cmp.Or(cmp.Compare(a.Distance, b.Distance), cmp.Compare(a.Carrier, b.Carrier), cmp.Compare(a.ID, b.ID))
	})
	return out, nil
}

// ChoosePoint says where the buyer of an order fetches it; without a carrier it goes to the door.
func (r *Shipping) ChoosePoint(ctx context.Context, number, carrier, id, who string) error {
	chosen := message.PickupPoint{}
	if carrier != "" {
		near, err := r.Points(ctx, number)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(near.Points, func(p message.PickupPoint) bool { return p.Carrier == carrier && p.ID == id })
		if at < 0 {
			return engine.Refuse("%s has no pickup point %q near the address of order %s", carrier, id, number)
		}
		chosen = near.Points[at]
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		if st := o.Stage(); !o.PointOpen() {
			return &engine.Refused{Conflict: true,
				Text: fmt.Sprintf("order %s is %s; where it is fetched cannot be changed any more", o.Number, st)}
		}
		if err := r.pointAnew(ch, o); err != nil {
			return err
		}
		o.Ours.Point = &chosen
		o.Revision++
		text := "It goes to the door"
		if chosen.ID != "" {
			text = fmt.Sprintf("It is fetched at %s, %s %s", chosen.Name, chosen.Postcode, chosen.Town)
		}
		if err := r.NoteOrder(ch, o, who, "pickup point", "%s", text); err != nil {
			return err
		}
		return r.Orders.SaveOrder(ch, o)
	})
}

// pointAnew ends that a carrier refused the point of packed parcels, which go to another one now. A label that is being bought at the
// old one is waited for.
func (r *Shipping) pointAnew(ch *engine.Change, o *order.Order) error {
	list, err := ch.ParcelsOfOrder(o.ID)
	if err != nil {
		return err
	}
	for i := range list {
		p := &list[i]
		if p.State == store.Buying {
			return &engine.Refused{Conflict: true,
				Text: fmt.Sprintf("the label of parcel %s is being bought; wait for its answer", p.Number)}
		}
		if p.State != store.ToShip || p.WrongField != "point" {
			continue
		}
		p.Error = ""
		if err := ch.UpdateParcel(p); err != nil {
			return err
		}
		if err := ch.CloseParcelExceptions(p.ID, engine.LabelRefused, "relay", ch.Now); err != nil {
			return err
		}
		ch.Tell("exception", "")
		tellParcel(ch, p)
	}
	return nil
}

// notAt says why a carrier does not take a parcel that is fetched at another's point; empty: it does.
func (r *Shipping) notAt(o *order.Order, carrier string) string {
	p := PointOf(o)
	if p == nil || p.Carrier == "" || p.Carrier == carrier {
		return ""
	}
	return fmt.Sprintf("it is fetched at %s of %s", p.Name, r.carrierName(p.Carrier))
}

func (r *Shipping) carrierName(code string) string {
	if c := r.ByCode(code); c != nil {
		return c.Rec().Name
	}
	return code
}
