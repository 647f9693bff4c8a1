package relay

import (
	"encoding/json"
	"errors"
	"fmt"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/store"
)

func (b *batch) skip(in store.InboxMessage, y *store.Tally, reason, text string) {
	y.Skipped++
	y.Reason(reason)
	b.settle(in, "skipped", text, 0)
}

// item takes in a thing sold: a new one is added, one we have gets what the other side says, field by field,
// as far as its word counts there.
func (b *batch) item(in store.InboxMessage, m *message.Item) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	groups := make([]catalog.Group, len(m.Groups))
	for i, g := range m.Groups {
		groups[i] = catalog.Group{Code: g.Code, Name: g.Name, Least: g.Least, Most: g.Most}
		for _, c := range g.Choices {
			groups[i].Choices = append(groups[i].Choices, catalog.Choice(c))
		}
		if err := groups[i].Check(); err != nil {
			b.skip(in, y, "its option groups do not fit", err.Error())
			return nil
		}
	}
	told := catalog.Item{SKU: m.SKU, Kind: catalog.Kind(m.Kind), GTIN: m.GTIN, Name: m.Name, Category: m.Category, Options: m.Options, Description: m.Description,
		WeightG: m.WeightG, LengthMM: m.LengthMM, WidthMM: m.WidthMM, HeightMM: m.HeightMM, Price: m.Price, Currency: m.Currency}
	for _, g := range groups {
		told.Groups = append(told.Groups, g.Code)
	}
	if told.Kind == "" && len(groups) > 0 {
		told.Kind = catalog.Prepared
	}
	it, err := b.ch.Record(m.SKU)
	isNew := errors.Is(err, store.ErrNotFound)
	if err != nil && !isNew {
		return err
	}
	var kept []string
	if isNew {
		it = told
	} else {
		owners, err := b.ch.Owners()
		if err != nil {
			return err
		}
		before := it
		kept = catalog.Overwrite(&it, told, func(field string) bool {
			return owners[field] == b.c.id || owners[field] == 0 && !b.c.settings().oursStay(field)
		})
		if len(catalog.Differences(before, it)) == 0 && len(groups) == 0 {
			b.skip(in, y, "nothing new", "nothing of it is new"+keptText(kept))
			return nil
		}
	}
	it.Complete()
	if err := it.Check(); err != nil {
		b.skip(in, y, "it cannot be an item", err.Error())
		return nil
	}
	if it.GTIN != "" {
		other, err := b.ch.ItemByGTIN(it.GTIN)
		if err == nil && other != it.ID {
			b.skip(in, y, "its GTIN is another item's", fmt.Sprintf("GTIN %s is another item's", it.GTIN))
			return nil
		}
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	for _, g := range groups {
		if err := b.ch.PutGroup(g); err != nil {
			return err
		}
	}
	b.settle(in, "done", "", 0)
	if isNew {
		y.New++
		_, err = b.r.addItem(b.ch, it, b.c.rec().Name, fmt.Sprintf("%s added by %s", it.Name, b.c.rec().Name))
		return err
	}
	y.Changed++
	return b.r.changeItem(b.ch, it, b.c.rec().Name, fmt.Sprintf("%s changed by %s%s", it.Name, b.c.rec().Name, keptText(kept)))
}

func keptText(kept []string) string {
	if len(kept) == 0 {
		return ""
	}
	return "; its word does not count for " + join(kept)
}

// customer takes in somebody who buys.
func (b *batch) customer(in store.InboxMessage, m *message.Customer) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	isNew, err := b.putCustomer(in.OutsideID, m)
	if err != nil {
		return err
	}
	if isNew {
		y.New++
	} else {
		y.Changed++
	}
	b.settle(in, "done", "", 0)
	return nil
}

// putCustomer keeps a customer under the other side's number, and tells whether it is new.
func (b *batch) putCustomer(outsideID string, m *message.Customer) (bool, error) {
	address, err := json.Marshal(m.Address)
	if err != nil {
		return false, err
	}
	return b.ch.PutCustomer(store.Customer{ConnectionID: b.c.id, OutsideID: outsideID, Name: m.Name, Email: m.Email, Phone: m.Phone, Address: string(address), ChangedAt: b.ch.now.UnixMicro()})
}

// dispatch takes in that a parcel left with goods of an order of ours, whoever printed its label: the
// order and the stock follow, and the channel is told like of any other parcel.
func (b *batch) dispatch(in store.InboxMessage, m *message.Dispatch) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	if _, err := b.ch.Shipment(m.Tracking); err == nil {
		b.skip(in, y, "the parcel is known", "a parcel with number "+m.Tracking+" is known")
		return nil
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	o, err := b.ch.OrderByNumber(or(m.OurNumber, or(m.OrderNumber, m.OrderID)))
	if errors.Is(err, store.ErrNotFound) {
		b.skip(in, y, "no such order", "no order with number "+or(m.OurNumber, or(m.OrderNumber, m.OrderID)))
		return nil
	}
	if err != nil {
		return err
	}
	done, reason, err := b.r.dispatchedElsewhere(b.ch, b.c, o, m)
	if err != nil {
		return err
	}
	if !done {
		b.skip(in, y, "the order cannot be shipped", reason)
		return nil
	}
	y.New++
	b.settle(in, "done", "", o.ID)
	return nil
}

// dispatchedElsewhere books a parcel that left without our label. Only units that are allocated and not
// yet picked here can have left elsewhere.
func (r *Relay) dispatchedElsewhere(ch *change, c *conn, o *order.Order, m *message.Dispatch) (bool, string, error) {
	if o.Test || o.Voided {
		return false, fmt.Sprintf("order %s is %s", o.Number, map[bool]string{true: "a test", false: "void"}[o.Test]), nil
	}
	channel := r.byID(o.ConnectionID)
	if channel == nil {
		return false, "its channel is gone", nil
	}
	want := map[int64]int64{}
	for i := range o.Lines {
		l := &o.Lines[i]
		if len(m.Lines) == 0 {
			want[l.ID] = l.Allocated
			continue
		}
		for _, d := range m.Lines {
			if d.ID == l.OutsideID && d.ID != "" || d.ID == "" && d.SKU == l.SKU {
				want[l.ID] += d.Quantity
			}
		}
	}
	ids, units := map[int64]bool{}, int64(0)
	itemsOf(o, ids)
	for i := range o.Lines {
		l := &o.Lines[i]
		units += want[l.ID]
		if want[l.ID] > l.Allocated {
			return false, fmt.Sprintf("%d × %s left elsewhere, but only %d of order %s wait to be picked", want[l.ID], l.SKU, l.Allocated, o.Number), nil
		}
	}
	if units == 0 {
		return false, fmt.Sprintf("nothing of order %s is left to send", o.Number), nil
	}
	book, err := r.book(ch, keys(ids))
	if err != nil {
		return false, "", err
	}
	sc, err := r.sceneFor(channel, ch, book, c.rec().Name)
	if err != nil {
		return false, "", err
	}
	s := store.Shipment{OrderID: o.ID, State: store.Gone, ServiceName: m.Service, Tracking: m.Tracking, TrackingURL: m.TrackingURL, CreatedAt: ch.now.UnixMicro(), ShippedAt: ch.now.UnixMicro()}
	d := message.Dispatch{OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number, Carrier: m.Carrier, Service: m.Service, Tracking: m.Tracking, TrackingURL: m.TrackingURL,
		ShippedAt: m.ShippedAt}
	for i := range o.Lines {
		l := &o.Lines[i]
		n := want[l.ID]
		if n == 0 {
			continue
		}
		if from := o.SendAllocated(l, n, sc.Scene, "left elsewhere with "+m.Tracking); s.LocationID == 0 {
			s.LocationID = from
		}
		s.Lines = append(s.Lines, shipmentLines(l, n, n)...)
		d.Lines = append(d.Lines, message.DispatchLine{ID: l.OutsideID, SKU: l.SKU, Quantity: n})
	}
	o.Routed = true
	d.LastOfOrder = o.Stage() == order.Shipped
	if d.LastOfOrder {
		o.ShippedAt = ch.now
	}
	o.Revision++
	if err := ch.AddShipment(&s); err != nil {
		return false, "", err
	}
	if err := ch.UpdateShipment(&s); err != nil {
		return false, "", err
	}
	if err := ch.Findable(o); err != nil {
		return false, "", err
	}
	d.ParcelNumber, d.Reference = s.Number, r.prefix+"-"+s.Number
	payload, err := json.Marshal(d)
	if err != nil {
		return false, "", err
	}
	if _, err := r.queue(ch, store.OutboxMessage{ConnectionID: o.ConnectionID, Feed: "dispatch out", Subject: "shipment " + s.Number, Payload: string(payload), OrderID: o.ID, ShipmentID: s.ID}); err != nil {
		return false, "", err
	}
	if err := r.noteOrder(ch, o, c.rec().Name, "shipped", "Left elsewhere by %s, tracking number %s, told by %s", or(m.Carrier, "a carrier"), m.Tracking, c.rec().Name); err != nil {
		return false, "", err
	}
	if err := r.saveOrder(ch, o); err != nil {
		return false, "", err
	}
	ch.tell("shipment", s.Number)
	return true, "", r.post(ch, book)
}
