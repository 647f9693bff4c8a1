package shipping

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// What a channel takes of a dispatch that it was told before; see the feed's "takes" in its definition.
const (
	corrections = "corrections" // another number under the reference of the first replaces it
	withdrawals = "withdrawals" // that the parcel has not left after all
)

// takes says whether a channel takes something of a dispatch that it was told before.
func (r *Shipping) takes(connection int64, what string) bool {
	c := r.ByID(connection)
	if c == nil || c.Line() == nil {
		return false
	}
	f := c.Line().Def.Feeds[message.DispatchOut]
	return f != nil && slices.Contains(f.Takes, what)
}

// tellChannel tells the channel of a parcel that left. Channels are told of whole units: where only a part of a kit lies in a
// parcel, they hear of the parcel that completes it, and a person is asked to tell the buyer the other number.
func (r *Shipping) tellChannel(ch *engine.Change, o *order.Order, p *store.Parcel, d message.Dispatch) error {
	if len(d.Lines) > 0 {
		return r.queueDispatch(ch, o, p, d)
	}
	ch.Tell("exception", o.Number)
	if err := ch.Raise(store.Exception{Cause: engine.NumberUntold, Subject: d.Tracking,
		Text: fmt.Sprintf("Parcel %s left with %s and holds only a part of a kit. The channel is told of whole units, with the number of "+
			"the parcel in which the last part leaves.", p.Number, d.Tracking),
		Expected:     "A buyer who can follow both parcels: tell them this number, then settle this here.",
		ConnectionID: o.ConnectionID, OrderID: o.ID, Standing: true}, ch.Now); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, "relay", string(engine.NumberUntold), "Number %s of parcel %s cannot be told to the channel", d.Tracking,
		p.Number)
}

// queueDispatch tells the channel of an order that a parcel with some of it has left, or corrects what it was told. Where the
// channel cannot replace what it knows, it is told anew, and a person is asked to take the other number off there.
func (r *Shipping) queueDispatch(ch *engine.Change, o *order.Order, p *store.Parcel, d message.Dispatch) error {
	if r.takes(o.ConnectionID, corrections) {
		if err := ch.CloseParcelExceptions(p.ID, engine.NumberStands, "relay", ch.Now); err != nil { // it is replaced now
			return err
		}
		return r.putDispatch(ch, o, p, d)
	}
	told, err := ch.LastOfParcel(p.ID, message.DispatchOut)
	if errors.Is(err, store.ErrNotFound) {
		return r.putDispatch(ch, o, p, d)
	}
	if err != nil {
		return err
	}
	d.Reference = fmt.Sprintf("%s-%d", d.Reference, told.ID)
	if err := r.raiseStanding(ch, o, p, d.Tracking); err != nil {
		return err
	}
	return r.putDispatch(ch, o, p, d)
}

// putDispatch puts what a channel is told of a parcel into the outbox.
func (r *Shipping) putDispatch(ch *engine.Change, o *order.Order, p *store.Parcel, d message.Dispatch) error {
	payload, err := json.Marshal(d)
	if err != nil {
		return err
	}
	_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: o.ConnectionID, Feed: message.DispatchOut, Subject: "shipment " + p.Number,
		Payload: string(payload), OrderID: o.ID, ParcelID: p.ID})
	return err
}

// raiseStanding asks a person to take the numbers of a parcel off at a channel, that it may have been told and that are not
// right any more.
func (r *Shipping) raiseStanding(ch *engine.Change, o *order.Order, p *store.Parcel, right string) error {
	told, err := ch.ToldOfParcel(p.ID, engine.NumberStands)
	if err != nil {
		return err
	}
	for _, m := range told {
		var d message.Dispatch
		if err := json.Unmarshal([]byte(m.Payload), &d); err != nil {
			return err
		}
		if d.Withdrawn || d.Tracking == right {
			continue
		}
		ch.Tell("exception", o.Number)
		if err := ch.Raise(store.Exception{Cause: engine.NumberStands, Subject: d.Tracking,
			Text: fmt.Sprintf("%s was told %s for parcel %s of order %s. That is not right any more, and the channel cannot be told so.",
				r.connectionName(o.ConnectionID), engine.Or(d.Tracking, "a number"), p.Number, o.Number),
			Expected:     "A buyer who follows the right number: take this one off at the channel, or tell them; then settle this here.",
			ConnectionID: o.ConnectionID, OrderID: o.ID, OutboxID: m.ID, Standing: true}, ch.Now); err != nil {
			return err
		}
	}
	return nil
}

func (r *Shipping) connectionName(id int64) string {
	if c := r.ByID(id); c != nil {
		return c.Rec().Name
	}
	return "The channel"
}

// withdraw lets a channel know that a parcel has not left after all. What it was not told yet is not told at all.
func (r *Shipping) withdraw(ch *engine.Change, o *order.Order, p *store.Parcel) error {
	if err := ch.DropWaiting(p.ID, message.DispatchOut); err != nil {
		return err
	}
	told, err := ch.ToldOfParcel(p.ID, engine.NumberStands)
	if err != nil || len(told) == 0 {
		return err
	}
	if !r.takes(o.ConnectionID, withdrawals) {
		return r.raiseStanding(ch, o, p, "")
	}
	var d message.Dispatch
	if err := json.Unmarshal([]byte(told[len(told)-1].Payload), &d); err != nil {
		return err
	}
	d.Withdrawn, d.LastOfOrder = true, false
	return r.putDispatch(ch, o, p, d)
}

// SettleSeen confirms what a channel was told of parcels of an order, where its own record shows them: then it need not be asked.
func (r *Shipping) SettleSeen(ch *engine.Change, o *order.Order) error {
	sent, err := ch.SentOfOrder(o.ID, message.DispatchOut)
	if err != nil {
		return err
	}
	for _, m := range sent {
		var d message.Dispatch
		if err := json.Unmarshal([]byte(m.Payload), &d); err != nil {
			return err
		}
		seen := slices.ContainsFunc(o.Record.Parcels, func(p message.ParcelSeen) bool {
			return p.Reference == d.Reference && p.Tracking == d.Tracking
		})
		if d.Withdrawn || !seen {
			continue
		}
		if newer, err := ch.Overtaken(m); err != nil || newer {
			return err
		}
		if err := r.Exchange.SeenThere(ch, m); err != nil {
			return err
		}
	}
	return nil
}
