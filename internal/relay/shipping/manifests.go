package shipping

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// CloseManifest ends a carrier's day at a place: the carrier gets the list of what it takes, and is asked to come for it.
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
		h, err := r.handover(&m, list)
		if err != nil {
			return err
		}
		payload, err := json.Marshal(h)
		if err != nil {
			return err
		}
		m.State, m.Refused = "closing", ""
		if h.WindowFrom != "" {
			m.Window = h.WindowFrom + "-" + h.WindowTo
		}
		if err := ch.SetManifest(m); err != nil {
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

// handover is what a carrier is told of what it takes on a day.
func (r *Shipping) handover(m *store.Manifest, list []store.Parcel) (message.Handover, error) {
	at := m.LocationID
	if at == 0 {
		at = list[0].LocationID
	}
	h := message.Handover{Reference: fmt.Sprintf("%s-m%d", r.Prefix, m.ID), Day: m.Day, From: r.Place(at).Address,
		Parcels: int64(len(list)), TimeZone: r.Zone().String()}
	if c := r.ByID(m.CarrierID); c != nil {
		h.WindowFrom, h.WindowTo = r.window(c, at, m.Day)
	}
	for _, p := range list {
		var l message.Label
		if err := json.Unmarshal([]byte(p.Label), &l); err != nil {
			return h, err
		}
		if !slices.Contains(h.Labels, l.ID) { // several parcels may be under one
			h.Labels = append(h.Labels, l.ID)
		}
		if !slices.Contains(h.Tracking, p.Tracking) {
			h.Tracking = append(h.Tracking, p.Tracking)
		}
		h.WeightG += p.WeightG
	}
	return h, nil
}

// manifestOf is the list that a message tells a carrier.
func manifestOf(ch *engine.Change, m store.OutboxMessage) (store.Manifest, error) {
	var id int64
	if _, err := fmt.Sscanf(m.Subject, "manifest %d", &id); err != nil {
		return store.Manifest{}, err
	}
	return ch.Manifest(id)
}

// DayClosed takes what a carrier answers to the list of a day. What is not on its own list goes on our next one and is raised, and so
// is that it does not come.
func (r *Shipping) DayClosed(ch *engine.Change, c *engine.Conn, m store.OutboxMessage, answer any) error {
	receipt, ok := answer.(*message.HandoverReceipt)
	if !ok {
		return fmt.Errorf("%s: the carrier's answer is no receipt", m.Subject)
	}
	list, err := manifestOf(ch, m)
	if err != nil {
		return err
	}
	ch.Tell("manifest", fmt.Sprint(list.ID))
	list.State, list.Receipt, list.ClosedAt = "closed", receipt.ID, ch.Now.UnixMicro()
	list.Window, list.Refused = engine.Or(receipt.Window, list.Window), receipt.NoCollection
	if err := ch.SetManifest(list); err != nil {
		return err
	}
	if err := r.notOnTheirList(ch, c, &list, receipt.NotTaken); err != nil {
		return err
	}
	if list.Refused == "" {
		return nil
	}
	ch.Tell("exception", "")
	return ch.Raise(store.Exception{Cause: engine.NotCollected, Subject: fmt.Sprintf("%s %s", c.Rec().Name, list.Day),
		Text: fmt.Sprintf("%s took the list of %s with %d parcels, and does not come for them: %s", c.Rec().Name, list.Day, list.Parcels,
			list.Refused),
		Expected:     "Parcels at the carrier: bring them there, or agree on a collection with it; then settle this here.",
		ConnectionID: c.ID, OutboxID: m.ID, Standing: true}, ch.Now)
}

// notOnTheirList moves parcels that a carrier did not put on its own list to our next one.
func (r *Shipping) notOnTheirList(ch *engine.Change, c *engine.Conn, list *store.Manifest, labels []string) error {
	if len(labels) == 0 {
		return nil
	}
	parcels, err := ch.ManifestParcels(list.ID)
	if err != nil {
		return err
	}
	for i := range parcels {
		p := &parcels[i]
		var l message.Label
		if err := json.Unmarshal([]byte(p.Label), &l); err != nil {
			return err
		}
		if !slices.Contains(labels, l.ID) && !slices.Contains(labels, l.Tracking) {
			continue
		}
		day := r.dayAfter(c, p.LocationID, list.Day)
		if p.ManifestID, err = ch.OpenManifest(c.ID, p.LocationID, day); err != nil {
			return err
		}
		if err := ch.UpdateParcel(p); err != nil {
			return err
		}
		tellParcel(ch, p)
		ch.Tell("exception", p.OrderNumber)
		if err := ch.Raise(store.Exception{Cause: engine.NotHandedOver, Subject: p.Tracking,
			Text: fmt.Sprintf("%s did not take parcel %s of order %s on its list of %s; it stands on that of %s", c.Rec().Name, p.Number,
				p.OrderNumber, list.Day, day),
			Expected: "The parcel at the carrier: it is over when the carrier first says where it is. Ask the carrier why, or void its " +
				"label.", ConnectionID: c.ID, OrderID: p.OrderID, Standing: true}, ch.Now); err != nil {
			return err
		}
	}
	return nil
}

// HandoverRefused opens a list again that its carrier did not take.
func (r *Shipping) HandoverRefused(ch *engine.Change, _ *engine.Conn, m store.OutboxMessage) (order.Cause, error) {
	list, err := manifestOf(ch, m)
	if err != nil {
		return "", err
	}
	ch.Tell("manifest", fmt.Sprint(list.ID))
	list.State, list.Receipt, list.ClosedAt = "open", "", 0
	return engine.WriteBackRefused, ch.SetManifest(list)
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
