package shipping

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// Release takes a hold of an order away on a person's word.
func (r *Shipping) Release(ctx context.Context, number string, cause order.Cause, who string, revision int64) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		if revision != 0 && o.Revision != revision {
			return store.ErrConflict
		}
		if !slices.Contains(order.Waved, order.Cause(cause)) {
			return &engine.Refused{Text: fmt.Sprintf("a hold for %q ends when its cause does; it cannot be waved through", cause),
				Conflict: true}
		}
		c, ok := order.Release(o, order.Cause(cause), who)
		if !ok {
			return &engine.Refused{Text: fmt.Sprintf("order %s is not held for %q", o.Number, cause), Conflict: true}
		}
		if err := ch.Note(orders.Notes(c, who, ch.Now)...); err != nil {
			return err
		}
		return r.Orders.SaveOrder(ch, o)
	})
}

// Readdress changes where an order goes, as long as it is not packed.
func (r *Shipping) Readdress(ctx context.Context, number string, to place.Address, who string, revision int64) error {
	to.Normal()
	if bad := to.Problems(); len(bad) > 0 {
		return engine.Refuse("address: %s", strings.Join(bad, "; "))
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		if revision != 0 && o.Revision != revision {
			return store.ErrConflict
		}
		switch st := o.Stage(); st {
		case order.Pending, order.Held, order.Ready, order.Routed, order.Picking:
		default:
			return &engine.Refused{
				Text: fmt.Sprintf("order %s is %s; what is packed and has no label is corrected on its parcel", o.Number,
					st),
				Conflict: true,
			}
		}
		was := o.ShipTo
		order.Readdress(o, to)
		if text := o.LeavePoint(was); text != "" {
			if err := r.NoteOrder(ch, o, who, "pickup point", "%s", text); err != nil {
				return err
			}
		}
		if err := r.SettleTogether(ch, o); err != nil {
			return err
		}
		ch.Mark(engine.OrderWords, o.ID)
		if err := r.NoteOrder(ch, o, who, "address", "Address changed to %s", strings.Join(to.Lines(), ", ")); err != nil {
			return err
		}
		return r.Orders.SaveOrder(ch, o)
	})
}

// CorrectAddress changes where a packed carton goes whose label was not bought yet, for each order in it: what its carrier did not
// take is corrected, and it is sent again.
func (r *Shipping) CorrectAddress(ctx context.Context, parcel string, to place.Address, who string) error {
	to.Normal()
	if bad := to.Problems(); len(bad) > 0 {
		return engine.Refuse("address: %s", strings.Join(bad, "; "))
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		c, err := loadCarton(ch, parcel)
		if err != nil {
			return err
		}
		if why := notToShip(c.own()); why != "" {
			return &engine.Refused{Text: why, Conflict: true}
		}
		if strings.HasPrefix(c.own().WrongField, "to.") {
			c.own().Error = ""
		}
		for i := range c {
			o := c[i].order
			order.Readdress(o, to)
			ch.Mark(engine.OrderWords, o.ID)
			if err := r.NoteOrder(ch, o, who, "address", "Address of parcel %s corrected to %s", c[i].parcel.Number,
				strings.Join(to.Lines(), ", ")); err != nil {
				return err
			}
			if err := r.Orders.SaveOrder(ch, o); err != nil {
				return err
			}
		}
		return c.save(ch)
	})
}
