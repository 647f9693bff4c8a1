package orders

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Cancelling is what of an order is cancelled here.
type Cancelling struct {
	Reason string          `json:"reason" maxLength:"200" doc:"Why; the channel is told"`
	Lines  map[int64]int64 `json:"lines,omitempty" doc:"Units by the line's id; without them all that is not shipped"`
}

// CancelUnits cancels units of an order, or all that is not shipped, at any stage before it leaves. The channel is told where it
// can be; where not, a person is asked to.
func (r *Orders) CancelUnits(ctx context.Context, number string, c Cancelling, revision int64, who string) error {
	c.Reason = strings.TrimSpace(c.Reason)
	if c.Reason == "" {
		return engine.Refuse("reason: say why; the channel is told")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		return r.onOrder(ch, number, revision, who, func(o *order.Order, conn *engine.Conn, s *order.Scene) (got order.Change, err error) {
			before := liveUnits(o)
			if len(c.Lines) == 0 {
				got, err = order.CallOff(o, who, c.Reason, s)
			} else if err = known(o, c.Lines); err == nil {
				got, err = order.CancelUnits(o, c.Lines, c.Reason, s)
			}
			if err != nil {
				return got, err
			}
			return got, r.tellCancelled(ch, conn, o, before, c.Reason)
		})
	})
}

// known refuses lines that an order does not have.
func known(o *order.Order, lines map[int64]int64) error {
	for _, id := range slices.Sorted(maps.Keys(lines)) {
		if o.Line(id) == nil {
			return engine.Refuse("lines: order %s has no line %d", o.Number, id)
		}
	}
	return nil
}

// liveUnits are the units of each line that are not cancelled.
func liveUnits(o *order.Order) map[int64]int64 {
	out := map[int64]int64{}
	for i := range o.Lines {
		out[o.Lines[i].ID] = o.Lines[i].Live()
	}
	return out
}

// tellCancelled tells the channel what was cancelled since the order had so many units, or asks a person to.
func (r *Orders) tellCancelled(ch *engine.Change, c *engine.Conn, o *order.Order, before map[int64]int64, reason string) error {
	m := message.Cancellation{Reference: fmt.Sprintf("%s-c-%s-%d", r.Prefix, o.Number, o.Revision), OrderID: o.OutsideID,
		OrderNumber: o.Record.Number, OurNumber: o.Number, Reason: reason, Whole: o.Stage() == order.Cancelled}
	for i := range o.Lines {
		l := &o.Lines[i]
		if n := before[l.ID] - l.Live(); n > 0 {
			m.Lines = append(m.Lines, message.CancellationLine{ID: l.OutsideID, SKU: l.SKU, Quantity: n, Left: l.Live()})
		}
	}
	if len(m.Lines) == 0 || o.Test || Typed(o) {
		return nil // nobody there knows of it
	}
	if _, on := r.Feed(c, message.CancelOut); !on {
		return r.askToTell(ch, c, o, m)
	}
	payload, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: c.ID, Feed: message.CancelOut, Subject: fmt.Sprintf("order %s, %d", o.Number,
		o.Revision), Payload: string(payload), OrderID: o.ID})
	return err
}

// askToTell asks a person to tell a channel what was cancelled, that cannot be told by us.
func (r *Orders) askToTell(ch *engine.Change, c *engine.Conn, o *order.Order, m message.Cancellation) error {
	what := "all of it"
	if !m.Whole {
		var parts []string
		for _, l := range m.Lines {
			parts = append(parts, fmt.Sprintf("%d × %s", l.Quantity, l.SKU))
		}
		what = engine.Join(parts)
	}
	ch.Tell("exception", o.Number)
	return ch.Raise(store.Exception{Cause: engine.CancelUntold, Subject: m.Reference,
		Text: fmt.Sprintf("Of order %s, %s was cancelled here (%s). %s is not told of cancellations, and still believes in it.", o.Number,
			what, m.Reason, c.Rec().Name),
		Expected: "A channel that knows: cancel it there, then settle this here; or switch “cancellations out” on, where it can be " +
			"told.",
		ConnectionID: c.ID, OrderID: o.ID, Standing: true}, ch.Now)
}
