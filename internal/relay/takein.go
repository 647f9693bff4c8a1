package relay

import (
	"encoding/json"
	"errors"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// itemFor finds the item of ours that a SKU or, failing that, a GTIN names, and says by what.
func (b *batch) itemFor(sku, gtin string) (int64, string, error) {
	items, err := b.ch.ItemsBySKU([]string{sku})
	if err != nil || items[sku] != 0 {
		return items[sku], "same SKU", err
	}
	if gtin != "" {
		id, err := b.ch.ItemByGTIN(gtin)
		if err == nil {
			return id, "same GTIN", nil
		}
		if !errors.Is(err, store.ErrNotFound) {
			return 0, "", err
		}
	}
	return 0, "", nil
}

func (b *batch) skip(in store.InboxMessage, y *store.Tally, reason, text string) {
	y.Skipped++
	y.Reason(reason)
	b.settle(in, "skipped", text, 0)
}

// stockLevel takes in a quantity that the other side tells. By setting it counts as ours, or it is
// noted and ours is put back.
func (b *batch) stockLevel(in store.InboxMessage, m *message.StockLevel) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	if b.c.settings().StockIn == "take in" {
		return b.countAs(in, y, m)
	}
	l, err := b.ch.Seen(b.c.id, m.SKU, m.Quantity, b.ch.now)
	if errors.Is(err, store.ErrNotFound) {
		b.skip(in, y, "no such listing", "no listing with SKU "+m.SKU)
		return nil
	}
	if err != nil {
		return err
	}
	y.Changed++
	b.settle(in, "done", "", 0)
	if l.ItemID == 0 {
		return nil
	}
	name := b.c.rec().Name
	if err := b.ch.Note(store.Entry{At: b.ch.now.UnixMicro(), Who: name, Thing: "item", ThingID: l.ItemID, What: "edited at the channel",
		Text: fmt.Sprintf("%s set %s to %d at %s; our quantity is sent again", or(m.Who, "Somebody"), m.SKU, m.Quantity, name)}); err != nil {
		return err
	}
	book, err := b.ch.Book([]int64{l.ItemID})
	if err != nil {
		return err
	}
	return b.r.queueOffers(b.ch, book, []int64{l.ItemID})
}

// countAs books a told quantity as a count.
func (b *batch) countAs(in store.InboxMessage, y *store.Tally, m *message.StockLevel) error {
	if b.c.rec().Test {
		b.skip(in, y, "the connection is in test", "the connection is in test; no stock moves")
		return nil
	}
	items, err := b.ch.ItemsBySKU([]string{m.SKU})
	if err != nil {
		return err
	}
	id := items[m.SKU]
	if id == 0 {
		b.skip(in, y, "no such item", "no item with SKU "+m.SKU)
		return nil
	}
	var at int64
	if m.Location != "" {
		l, err := b.r.location(m.Location)
		if err != nil {
			b.skip(in, y, "no such location", err.Error())
			return nil
		}
		at = l.ID
	} else if s := b.c.settings().Offer.Sources; len(s) > 0 {
		at = s[0]
	} else {
		b.skip(in, y, "no location", "the message names no location and the connection has none")
		return nil
	}
	book, err := b.ch.Book([]int64{id})
	if err != nil {
		return err
	}
	k := stock.Key{Item: id, Location: at}
	by := m.Quantity - book.Level(k).OnHand
	b.settle(in, "done", "", 0)
	if by == 0 {
		y.Changed++
		return nil
	}
	y.Changed++
	book.Post(stock.Movement{Key: k, At: b.ch.now, Kind: stock.Count, OnHand: by, Reason: fmt.Sprintf("counted as %d by %s", m.Quantity, or(m.Who, b.c.rec().Name)), Who: b.c.rec().Name, DocKind: "message", DocID: in.ID})
	return b.r.post(b.ch, book)
}

// item takes in a thing sold: a new one is added, one we have gets what the other side says.
func (b *batch) item(in store.InboxMessage, m *message.Item) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	items, err := b.ch.ItemsBySKU([]string{m.SKU})
	if err != nil {
		return err
	}
	it := store.Item{ID: items[m.SKU], SKU: m.SKU, GTIN: m.GTIN, Name: m.Name, Category: m.Category, Options: m.Options, WeightG: m.WeightG, LengthMM: m.LengthMM, WidthMM: m.WidthMM, HeightMM: m.HeightMM, Price: m.Price, Currency: or(m.Currency, "EUR")}
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
	what := "added"
	if it.ID == 0 {
		y.New++
		if it.ID, err = b.ch.AddItem(it); err != nil {
			return err
		}
	} else {
		y.Changed++
		what = "changed"
		if err := b.ch.UpdateItem(it); err != nil {
			return err
		}
	}
	b.settle(in, "done", "", 0)
	b.ch.tell("item", it.SKU)
	return b.ch.Note(store.Entry{At: b.ch.now.UnixMicro(), Who: b.c.rec().Name, Thing: "item", ThingID: it.ID, What: what, Text: fmt.Sprintf("%s %s by %s", it.Name, what, b.c.rec().Name)})
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
	for i := range o.Lines {
		l := &o.Lines[i]
		ids[l.ItemID] = true
		units += want[l.ID]
		if want[l.ID] > l.Allocated {
			return false, fmt.Sprintf("%d × %s left elsewhere, but only %d of order %s wait to be picked", want[l.ID], l.SKU, l.Allocated, o.Number), nil
		}
	}
	if units == 0 {
		return false, fmt.Sprintf("nothing of order %s is left to send", o.Number), nil
	}
	book, err := ch.Book(keys(ids))
	if err != nil {
		return false, "", err
	}
	scene := r.sceneFor(channel, book, ch.now, c.rec().Name)
	s := store.Shipment{OrderID: o.ID, State: store.Gone, ServiceName: m.Service, Tracking: m.Tracking, TrackingURL: m.TrackingURL, CreatedAt: ch.now.UnixMicro(), ShippedAt: ch.now.UnixMicro()}
	d := message.Dispatch{OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number, Carrier: m.Carrier, Service: m.Service, Tracking: m.Tracking, TrackingURL: m.TrackingURL,
		ShippedAt: m.ShippedAt}
	for i := range o.Lines {
		l := &o.Lines[i]
		n := want[l.ID]
		if n == 0 {
			continue
		}
		for loc, part := range l.SendAllocated(n) {
			if s.LocationID == 0 {
				s.LocationID = loc
			}
			book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: loc}, At: ch.now, Kind: stock.Ship, OnHand: -part, Allocated: -part, Reason: "left elsewhere with " + m.Tracking, Who: scene.Who, DocKind: "order", DocID: o.ID})
		}
		s.Lines = append(s.Lines, store.ShipmentLine{LineID: l.ID, Quantity: n, Picked: n})
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
