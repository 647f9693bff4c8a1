package shipping

import (
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// SentByPartner books a parcel that a partner sent for a request: of each line at most what is promised at the partner's place, and tells
// the channel. It returns the units that the order wanted. Without any there is no parcel.
func (r *Shipping) SentByPartner(ch *engine.Change, c *engine.Conn, told string, o *order.Order, q *store.Request, units map[int64]int64,
	m *message.Dispatch) (map[int64]int64, error) {
	out := map[int64]int64{}
	channel, err := r.toBeTold(o)
	if err != nil {
		return out, nil // nobody is there to be told of it, so nothing of it was wanted
	}
	r.follow(m)
	scene, err := r.sceneOf(ch, o, channel, c.Rec().Name)
	if err != nil {
		return nil, err
	}
	counted, err := countedSince(ch, o, q.LocationID, units, m)
	if err != nil {
		return nil, err
	}
	s := store.Shipment{OrderID: o.ID, LocationID: q.LocationID, RequestID: q.ID, State: store.Gone, CreatedAt: ch.Now.UnixMicro()}
	for _, line := range engine.Keys(units) {
		l := o.Line(line)
		if n := o.SendFrom(l, units[line], q.LocationID, counted[line], scene, "sent by "+c.Rec().Name); n > 0 {
			out[line] = n
			s.Lines = append(s.Lines, shipmentLines(l, n, n)...)
		}
	}
	if len(s.Lines) == 0 {
		return out, nil
	}
	p := store.Parcel{OrderID: o.ID, State: store.Gone, ServiceName: m.Service, Tracking: m.Tracking, TrackingURL: m.TrackingURL,
		CarrierTold: m.Carrier, ToldBy: c.ID, ToldID: told, CreatedAt: ch.Now.UnixMicro(), ShippedAt: ch.Now.UnixMicro()}
	if err := r.addTold(ch, c, o, &s, &p, m); err != nil {
		return nil, err
	}
	ch.Mark(engine.OrderChanged, o.ID)
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return nil, err
	}
	ch.Tell("shipment", s.Number)
	return out, r.Inventory.Post(ch, scene.Book)
}

// countedSince tells of which lines the partner's own word of its stock is as of about the moment at which they left, or a later one: what
// lies there fell by its word already.
func countedSince(ch *engine.Change, o *order.Order, location int64, units map[int64]int64, m *message.Dispatch) (map[int64]bool, error) {
	out := map[int64]bool{}
	if m.ShippedAt.IsZero() {
		return out, nil
	}
	items := map[int64][]int64{} // lines, by the first item that a unit takes
	for line := range units {
		l := o.Line(line)
		item := l.Goods().Components()
		if len(item) > 0 {
			items[item[0].Item] = append(items[item[0].Item], line)
		}
	}
	if len(items) == 0 {
		return out, nil
	}
	words, err := ch.Words(location, engine.Keys(items))
	for item, at := range words {
		for _, line := range items[item] {
			out[line] = !at.Before(m.ShippedAt.Add(-engine.AboutThen))
		}
	}
	return out, err
}
