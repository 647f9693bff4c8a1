package shipping

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// CloseManifest ends a carrier's day: the carrier gets the list of what it takes.
func (r *Shipping) CloseManifest(ctx context.Context, id int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		m, err := ch.Manifest(id)
		if err != nil {
			return fmt.Errorf("manifest %d: %w", id, err)
		}
		if m.State != "open" {
			return &engine.Refused{Text: fmt.Sprintf("the manifest of %s, %s, is %s", m.CarrierName, m.Day, m.State), Conflict: true}
		}
		list, err := ch.ManifestParcels(id)
		if err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(p store.Parcel) bool { return p.VoidAskedAt != 0 }) // their labels are being voided
		if len(list) == 0 {
			return &engine.Refused{Text: "the manifest is empty", Conflict: true}
		}
		h := message.Handover{Reference: fmt.Sprintf("%s-m%d", r.Prefix, id), Day: m.Day}
		for _, p := range list {
			var l message.Label
			if err := json.Unmarshal([]byte(p.Label), &l); err != nil {
				return err
			}
			h.Labels = append(h.Labels, l.ID)
			h.Tracking = append(h.Tracking, p.Tracking)
		}
		payload, err := json.Marshal(h)
		if err != nil {
			return err
		}
		if err := ch.SetManifest(id, "closing", "", time.Time{}); err != nil {
			return err
		}
		ch.Tell("manifest", fmt.Sprint(id))
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connection", ThingID: m.CarrierID, What: "manifest",
			Text: fmt.Sprintf("Day %s closed with %d parcels", m.Day, len(list))}); err != nil {
			return err
		}
		_, err = r.Queue(ch, store.OutboxMessage{ConnectionID: m.CarrierID, Feed: message.HandoversOut,
			Subject: fmt.Sprintf("manifest %d", id), Payload: string(payload)})
		return err
	})
}

func manifestOf(m store.OutboxMessage) (id int64, err error) {
	_, err = fmt.Sscanf(m.Subject, "manifest %d", &id)
	return id, err
}

func (r *Shipping) DayClosed(ch *engine.Change, _ *engine.Conn, m store.OutboxMessage, answer any) error {
	receipt, ok := answer.(*message.HandoverReceipt)
	if !ok {
		return fmt.Errorf("%s: the carrier's answer is no receipt", m.Subject)
	}
	id, err := manifestOf(m)
	if err != nil {
		return err
	}
	ch.Tell("manifest", fmt.Sprint(id))
	return ch.SetManifest(id, "closed", receipt.ID, ch.Now)
}

func (r *Shipping) HandoverRefused(ch *engine.Change, _ *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	id, err := manifestOf(m)
	if err != nil {
		return "", err
	}
	ch.Tell("manifest", fmt.Sprint(id))
	return engine.WriteBackRefused, ch.SetManifest(id, "open", "", time.Time{})
}

// DispatchSent notes on the order that its channel was told of a parcel.
func (r *Shipping) DispatchSent(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, _ any) error {
	return r.noteDispatch(ch, c, m, "sent", "sent to")
}

func (r *Shipping) DispatchConfirmed(ch *engine.Change, c *engine.Conn, m store.OutboxMessage) error {
	return r.noteDispatch(ch, c, m, "confirmed", "read back from")
}

func (r *Shipping) noteDispatch(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, what, how string) error {
	var d message.Dispatch
	if err := json.Unmarshal([]byte(m.Payload), &d); err != nil {
		return err
	}
	ch.Tell("order", d.OurNumber)
	number := "Tracking number"
	if d.Withdrawn {
		number = "Withdrawal of tracking number"
	}
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: "relay", Thing: "order", ThingID: m.OrderID, What: "write-back " + what,
		Text: fmt.Sprintf("%s %s %s %s", number, d.Tracking, how, c.Rec().Name)})
}
