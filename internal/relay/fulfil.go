package relay

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/gs1"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// orderStateError turns a refusal of core into one for a person.
func orderStateError(err error) error {
	if errors.Is(err, order.ErrState) {
		return &Refused{Text: strings.TrimPrefix(err.Error(), order.ErrState.Error()+": "), Conflict: true}
	}
	return err
}

func (r *Relay) noteOrder(ch *change, o *order.Order, who, what, format string, args ...any) error {
	return ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "order", ThingID: o.ID, What: what, Text: fmt.Sprintf(format, args...)})
}

// shipment loads a shipment with its order.
func (ch *change) shipment(number string) (store.Shipment, *order.Order, error) {
	s, err := ch.Shipment(number)
	if err != nil {
		return s, nil, err
	}
	o, err := ch.Order(s.OrderID)
	return s, o, err
}

// syncShipments brings open shipments along with an order that changed under them.
func (r *Relay) syncShipments(ch *change, o *order.Order) error {
	if !o.Routed {
		return nil
	}
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.State != store.ToPick && s.State != store.ToShip {
			continue
		}
		var left int64
		changed := false
		for i := range s.Lines {
			sl := &s.Lines[i]
			l := o.Line(sl.LineID)
			var at int64
			for _, a := range l.Allocations {
				if a.Location == s.LocationID {
					at = a.Quantity
				}
			}
			if at *= max(sl.Per, 1); at < sl.Quantity {
				sl.Quantity, sl.Picked = at, min(sl.Picked, at)
				changed = true
			}
			left += sl.Quantity
		}
		if left == 0 {
			s.State = store.CalledOff
			if err := r.noteOrder(ch, o, "relay", "called off", "Shipment %s called off: put back what was picked", s.Number); err != nil {
				return err
			}
		}
		if changed {
			if err := ch.UpdateShipment(&s); err != nil {
				return err
			}
			ch.tell("shipment", s.Number)
		}
	}
	return nil
}

// StartPick makes the shipments of an order, one per location that holds its stock, or finds those
// begun before, and returns the first that is still to be picked or packed.
func (r *Relay) StartPick(ctx context.Context, number, who string) (string, error) {
	var out string
	err := r.commit(ctx, func(ch *change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		list, err := ch.ShipmentsOfOrder(o.ID)
		if err != nil {
			return err
		}
		for _, s := range list {
			if s.State == store.ToPick || s.State == store.ToShip {
				out = s.Number
				return nil
			}
		}
		if err := o.Workable(); err != nil {
			return orderStateError(err)
		}
		if out, err = r.beginPick(ch, o, who); err != nil {
			return err
		}
		return r.saveOrder(ch, o)
	})
	return out, err
}

// beginPick makes the shipments of an order that can be worked on and has none open. The caller saves the order.
func (r *Relay) beginPick(ch *change, o *order.Order, who string) (first string, err error) {
	byPlace := map[int64]*store.Shipment{}
	var places []int64
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.Allocated == 0 {
			continue
		}
		for _, a := range l.Allocations {
			s := byPlace[a.Location]
			if s == nil {
				s = &store.Shipment{OrderID: o.ID, LocationID: a.Location, State: store.ToPick, CreatedAt: ch.now.UnixMicro()}
				byPlace[a.Location] = s
				places = append(places, a.Location)
			}
			s.Lines = append(s.Lines, shipmentLines(l, a.Quantity, 0)...)
		}
	}
	if len(places) == 0 {
		return "", &Refused{Text: fmt.Sprintf("order %s has nothing left to pick", o.Number), Conflict: true}
	}
	for _, loc := range places {
		s := byPlace[loc]
		if err := ch.AddShipment(s); err != nil {
			return "", err
		}
		first = or(first, s.Number)
		ch.tell("shipment", s.Number)
		if err := r.noteOrder(ch, o, who, "routed", "Shipment %s: to be picked at %s", s.Number, r.placeName(loc)); err != nil {
			return "", err
		}
	}
	o.Routed = true
	o.Revision++
	return first, nil
}

// shipmentLines are what a shipment takes for qty units of an order line: of a kit, each of its components.
func shipmentLines(l *order.Line, qty, picked int64) []store.ShipmentLine {
	parts := l.Parts
	if len(parts) == 0 {
		parts = []stock.Component{{Item: l.ItemID, Quantity: 1}}
	}
	out := make([]store.ShipmentLine, len(parts))
	for i, p := range parts {
		out[i] = store.ShipmentLine{LineID: l.ID, ItemID: p.Item, Per: p.Quantity, Quantity: qty * p.Quantity, Picked: picked * p.Quantity}
	}
	return out
}

// complete counts the units of an order line of which all that a shipment takes is picked, and how many it
// is to take.
func complete(s *store.Shipment, line int64) (picked, quantity int64) {
	first := true
	for _, sl := range s.Lines {
		if sl.LineID != line {
			continue
		}
		n := sl.Picked / max(sl.Per, 1)
		if first || n < picked {
			picked = n
		}
		quantity, first = sl.Quantity/max(sl.Per, 1), false
	}
	return picked, quantity
}

// lineIDs lists the order lines of a shipment, each once.
func lineIDs(s *store.Shipment) []int64 {
	var out []int64
	for _, sl := range s.Lines {
		if !slices.Contains(out, sl.LineID) {
			out = append(out, sl.LineID)
		}
	}
	return out
}

// wants lists what a shipment needs, in the order of the bins.
func (r *Relay) wants(t *store.Tx, s store.Shipment, o *order.Order) ([]picking.Want, error) {
	ids := make([]int64, 0, len(s.Lines))
	for _, sl := range s.Lines {
		ids = append(ids, sl.ItemID)
	}
	items, err := t.Items(ids)
	if err != nil {
		return nil, err
	}
	bins, err := t.Bins(s.LocationID, ids)
	if err != nil {
		return nil, err
	}
	return wantList(s, o, items, bins), nil
}

func wantList(s store.Shipment, o *order.Order, items map[int64]store.Item, bins map[int64]string) []picking.Want {
	out := make([]picking.Want, 0, len(s.Lines))
	for _, sl := range s.Lines {
		l := o.Line(sl.LineID)
		if sl.Quantity == 0 {
			continue
		}
		it := items[sl.ItemID]
		w := picking.Want{LineID: l.ID, ItemID: it.ID, SKU: it.SKU, GTIN: it.GTIN, Title: it.Name, Bin: bins[it.ID], Quantity: sl.Quantity, Picked: sl.Picked, Serials: it.Serials}
		if len(l.Parts) > 0 {
			w.KitSKU = l.SKU
		}
		out = append(out, w)
	}
	slices.SortStableFunc(out, func(a, b picking.Want) int { return strings.Compare(a.Bin, b.Bin) })
	return out
}

// Scanned is the outcome of a scan and what is left to do.
type Scanned struct {
	Outcome picking.Outcome
	Wants   []picking.Want
}

// Scan takes one scan while a shipment is picked. A wrong one changes nothing and says what was expected.
func (r *Relay) Scan(ctx context.Context, shipment, code, bin string, qty int64, who string) (Scanned, error) {
	var out Scanned
	if qty < 0 {
		return out, Refuse("quantity %d: at least 1 is expected", qty)
	}
	goesInto := ""
	err := r.commit(ctx, func(ch *change) error {
		s, o, err := ch.shipment(shipment)
		if err != nil {
			return err
		}
		if s.State != store.ToPick {
			return &Refused{Text: fmt.Sprintf("Shipment %s is %s; there is nothing to scan", s.Number, s.State), Conflict: true}
		}
		if err := o.Workable(); err != nil {
			return orderStateError(err)
		}
		wants, err := r.wants(ch.Tx, s, o)
		if err != nil {
			return err
		}
		got, err := picking.Scan(o.Number, wants, code, bin, qty)
		if err != nil {
			return err
		}
		out.Outcome, out.Wants, goesInto = got, wants, ""
		if got.Kind != "product" {
			return nil
		}
		before, _ := complete(&s, got.LineID)
		for i := range s.Lines {
			if s.Lines[i].LineID == got.LineID && s.Lines[i].ItemID == got.ItemID {
				s.Lines[i].Picked += got.Quantity
			}
		}
		if now, _ := complete(&s, got.LineID); now > before { // of a kit, when its last component is there
			if err := o.Pick(got.LineID, now-before); err != nil {
				return orderStateError(err)
			}
		}
		for i := range wants {
			if wants[i].LineID == got.LineID && wants[i].ItemID == got.ItemID {
				wants[i].Picked += got.Quantity
			}
		}
		if !slices.Contains(strings.Split(s.Pickers, ", "), who) {
			s.Pickers = strings.TrimPrefix(s.Pickers+", "+who, ", ")
		}
		if err := ch.UpdateShipment(&s); err != nil {
			return err
		}
		if err := r.noteOrder(ch, o, who, "picked", "Picked %d × %s%s", got.Quantity, got.SKU, binText(got.Bin)); err != nil {
			return err
		}
		ch.tell("shipment", s.Number)
		if carries(o, "pack") && !slices.ContainsFunc(s.Lines, func(l store.ShipmentLine) bool { return l.Picked < l.Quantity }) {
			goesInto = o.Ours.Decided.Profile
		}
		return r.saveOrder(ch, o)
	})
	if err == nil && goesInto != "" {
		err = r.packOn(ctx, shipment, goesInto)
	}
	return out, err
}

func binText(bin string) string {
	if bin == "" {
		return ""
	}
	return " from bin " + bin
}

// Pack packs what was picked into one parcel of a profile, or repacks it while it has no label.
// weight is the weighed gross weight in grams; 0 takes the sum of the items and the carton.
// serials are the serial numbers of the units whose items have them, by SKU.
func (r *Relay) Pack(ctx context.Context, shipment, profile string, weight int64, serials map[string][]string, who string) error {
	profiles, err := r.Store.Profiles(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(profiles, func(p packing.Profile) bool { return p.Code == profile })
	if i < 0 {
		return Refuse("parcel profile %q is not known", profile)
	}
	if weight < 0 || weight > 1_000_000 {
		return Refuse("weight %d g: between 1 g and 1000 kg is expected", weight)
	}
	p := profiles[i]
	ships := false
	err = r.commit(ctx, func(ch *change) error {
		s, o, err := ch.shipment(shipment)
		if err != nil {
			return err
		}
		if s.State != store.ToPick && s.State != store.ToShip {
			return &Refused{Text: fmt.Sprintf("Shipment %s is %s and cannot be packed", s.Number, s.State), Conflict: true}
		}
		var content []packing.Content
		var ids []int64
		for _, sl := range s.Lines {
			ids = append(ids, sl.ItemID)
		}
		items, err := ch.Items(ids)
		if err != nil {
			return err
		}
		for _, sl := range s.Lines {
			it := items[sl.ItemID]
			if sl.Picked < sl.Quantity {
				return &Refused{Text: fmt.Sprintf("%d × %s is still to be picked", sl.Quantity-sl.Picked, it.SKU), Conflict: true}
			}
			content = append(content, packing.Content{SKU: it.SKU, Quantity: sl.Quantity, WeightG: it.WeightG, LengthMM: it.LengthMM, WidthMM: it.WidthMM, HeightMM: it.HeightMM})
		}
		if why := p.Refuses(content); why != "" {
			return &Refused{Text: why, Conflict: true}
		}
		chosen, err := r.chooseSerials(ch, &s, items, serials)
		if err != nil {
			return err
		}
		first := s.State == store.ToPick
		s.State, s.Profile, s.LengthMM, s.WidthMM, s.HeightMM, s.Error = store.ToShip, p.Code, p.LengthMM, p.WidthMM, p.HeightMM, ""
		s.WeightG = p.Weight(content)
		if weight > 0 {
			s.WeightG = weight
		}
		if s.SSCC, err = gs1.SSCC(0, r.gs1Prefix, uint64(s.ID)); err != nil {
			return err
		}
		if err := ch.UpdateShipment(&s); err != nil {
			return err
		}
		if first {
			for _, line := range lineIDs(&s) {
				_, n := complete(&s, line)
				if n == 0 {
					continue
				}
				if err := o.Pack(line, n); err != nil {
					return orderStateError(err)
				}
			}
		}
		ch.tell("shipment", s.Number)
		if err := r.noteOrder(ch, o, who, "packed", "Packed into %s, %s kg%s", p.Name, kg(s.WeightG), chosen); err != nil {
			return err
		}
		ships = first && carries(o, "ship")
		return r.saveOrder(ch, o)
	})
	if err == nil && ships {
		err = r.shipOn(ctx, shipment)
	}
	return err
}

func kg(g int64) string { return fmt.Sprintf("%d.%03d", g/1000, g%1000) }

func (r *Relay) parcel(s store.Shipment, o *order.Order, c *conn) message.Parcel {
	from := r.Place(s.LocationID).Address
	if ch := r.byID(o.ConnectionID); ch != nil && ch.settings().Sender != "" {
		from.Name = ch.settings().Sender
	}
	to := o.ShipTo
	if to.Email == "" {
		to.Email = o.Record.BuyerEmail
	}
	return message.Parcel{Reference: s.Number, From: from, To: to, WeightG: s.WeightG, LengthMM: s.LengthMM, WidthMM: s.WidthMM, HeightMM: s.HeightMM,
		OrderRef: o.Number, Test: c.rec().Test, Handover: r.today()}
}

// today is the day in the company's time zone.
func (r *Relay) today() string { return r.now().Format(time.DateOnly) }

// Ship buys the label of a packed shipment by one service. The purchase goes through the outbox, so
// that it happens once; Ship waits a little for its outcome and returns the shipment as it then is.
func (r *Relay) Ship(ctx context.Context, shipment, carrier, service, who string) (store.Shipment, error) {
	events, end := r.Bus.Listen()
	defer end()
	if err := r.askLabel(ctx, shipment, carrier, service, who); err != nil {
		return store.Shipment{}, err
	}
	deadline := time.NewTimer(8 * time.Second)
	defer deadline.Stop()
	for {
		select {
		case e := <-events:
			if e.Kind != "shipment" || e.Key != shipment {
				continue
			}
			s, err := r.Store.Shipment(ctx, shipment)
			if err != nil || s.State != store.Buying {
				return s, err
			}
		case <-deadline.C:
			return r.Store.Shipment(ctx, shipment)
		case <-ctx.Done():
			return r.Store.Shipment(context.WithoutCancel(ctx), shipment)
		}
	}
}

// askLabel puts the purchase of a label into the outbox.
func (r *Relay) askLabel(ctx context.Context, shipment, carrier, service, who string) error {
	c := r.byCode(carrier)
	if c == nil || c.line().Def.Feeds["labels out"] == nil {
		return Refuse("carrier %q is not a connection that sells labels", carrier)
	}
	if _, on := r.feed(c, "labels out"); !on {
		return &Refused{Text: c.rec().Name + " is paused or its labels are switched off", Conflict: true}
	}
	if service == "" {
		return Refuse("service: choose one of the carrier's services")
	}
	return r.commit(ctx, func(ch *change) error {
		s, o, err := ch.shipment(shipment)
		if err != nil {
			return err
		}
		switch s.State {
		case store.ToShip:
		case store.ToPick:
			return &Refused{Text: fmt.Sprintf("Shipment %s is not packed yet", s.Number), Conflict: true}
		case store.Gone, store.Arrived:
			return &Refused{Text: fmt.Sprintf("Shipment %s has left already with tracking number %s; no second label was bought", s.Number, s.Tracking), Conflict: true}
		default:
			return &Refused{Text: fmt.Sprintf("Shipment %s: %s", s.Number, s.State), Conflict: true}
		}
		if err := o.Workable(); err != nil {
			return orderStateError(err)
		}
		if c.rec().Test && !o.Test {
			return &Refused{Text: fmt.Sprintf("%s is in test and sells no real labels; take it live first", c.rec().Name), Conflict: true}
		}
		p := r.parcel(s, o, c)
		p.Service = service
		if bad := p.To.Problems(); len(bad) > 0 {
			return &Refused{Text: "The address cannot be delivered to: " + strings.Join(bad, "; "), Conflict: true}
		}
		payload, err := json.Marshal(p)
		if err != nil {
			return err
		}
		s.State, s.CarrierID, s.Service, s.Error = store.Buying, c.rec().ID, service, ""
		if err := ch.UpdateShipment(&s); err != nil {
			return err
		}
		_, err = r.queue(ch, store.OutboxMessage{ConnectionID: c.rec().ID, Feed: "labels out", Subject: "shipment " + s.Number, Payload: string(payload), OrderID: o.ID, ShipmentID: s.ID})
		if err != nil {
			return err
		}
		ch.tell("shipment", s.Number)
		return r.noteOrder(ch, o, who, "label asked", "Label by %s %s asked for", c.rec().Name, service)
	})
}

// labelBought books a parcel that has its label: goods out, number kept, manifest, write-back.
func (r *Relay) labelBought(ch *change, c *conn, m store.OutboxMessage, label *message.Label) error {
	s, err := ch.ShipmentByID(m.ShipmentID)
	if err != nil {
		return err
	}
	o, err := ch.Order(s.OrderID)
	if err != nil {
		return err
	}
	var asked message.Parcel
	if err := json.Unmarshal([]byte(m.Payload), &asked); err != nil {
		return err
	}
	raw, err := json.Marshal(label)
	if err != nil {
		return err
	}
	s.Tracking, s.TrackingURL, s.Label, s.Price, s.Currency, s.Error = label.Tracking, label.URL, string(raw), label.Price, label.Currency, ""
	s.ServiceName = label.Service
	ch.tell("shipment", s.Number)
	var units int64
	for _, line := range lineIDs(&s) {
		_, n := complete(&s, line)
		units += min(o.Line(line).Packed, n)
	}
	if units == 0 { // the order was cancelled while the label was on its way
		s.State = store.CalledOff
		o.Hold(order.Hold{Cause: order.LateCancel, Text: fmt.Sprintf("Cancelled at the channel while label %s was being bought.", label.Tracking), Expected: "No parcel. Void the label at the carrier."})
		if err := ch.UpdateShipment(&s); err != nil {
			return err
		}
		return r.saveOrder(ch, o)
	}
	ids := map[int64]bool{}
	itemsOf(o, ids)
	book, err := r.book(ch, keys(ids))
	if err != nil {
		return err
	}
	sc, err := r.sceneFor(c, ch, book, c.rec().Name)
	if err != nil {
		return err
	}
	d := message.Dispatch{OrderID: o.OutsideID, OrderNumber: o.Record.Number, OurNumber: o.Number, Carrier: c.rec().Name, Service: or(s.ServiceName, s.Service),
		Tracking: label.Tracking, TrackingURL: label.URL, ShippedAt: ch.now.UTC(), ParcelNumber: s.Number, Reference: r.prefix + "-" + s.Number}
	for _, line := range lineIDs(&s) {
		l := o.Line(line)
		_, n := complete(&s, line)
		if n = min(n, l.Packed); n == 0 {
			continue
		}
		if err := o.Ship(line, n, s.LocationID, sc.Scene, "shipped with "+label.Tracking); err != nil {
			return err
		}
		d.Lines = append(d.Lines, message.DispatchLine{ID: l.OutsideID, SKU: l.SKU, Quantity: n})
	}
	if d.LastOfOrder = o.Stage() == order.Shipped; d.LastOfOrder { // charges go with the last parcel
		for i := range o.Lines {
			if l := &o.Lines[i]; l.Charge && l.Live() > 0 {
				d.Lines = append(d.Lines, message.DispatchLine{ID: l.OutsideID, SKU: l.SKU, Quantity: l.Live()})
			}
		}
	}
	if err := ch.SerialsGone(s.ID); err != nil {
		return err
	}
	s.State, s.ShippedAt = store.Gone, ch.now.UnixMicro()
	if s.ManifestID, err = ch.OpenManifest(c.rec().ID, asked.Handover); err != nil {
		return err
	}
	if err := ch.UpdateShipment(&s); err != nil {
		return err
	}
	if err := ch.Findable(o); err != nil {
		return err
	}
	ch.tell("manifest", fmt.Sprint(s.ManifestID))
	payload, err := json.Marshal(d)
	if err != nil {
		return err
	}
	if _, err := r.queue(ch, store.OutboxMessage{ConnectionID: o.ConnectionID, Feed: "dispatch out", Subject: "shipment " + s.Number, Payload: string(payload), OrderID: o.ID, ShipmentID: s.ID}); err != nil {
		return err
	}
	if err := r.noteOrder(ch, o, c.rec().Name, "shipped", "Label bought: %s, tracking number %s, %s", or(s.ServiceName, s.Service), label.Tracking, price(label.Price, label.Currency)); err != nil {
		return err
	}
	if err := r.saveOrder(ch, o); err != nil {
		return err
	}
	return r.post(ch, book)
}

func (r *Relay) labelRefused(ch *change, m store.OutboxMessage) error {
	s, err := ch.ShipmentByID(m.ShipmentID)
	if err != nil {
		return err
	}
	if s.State == store.Buying {
		s.State, s.Error = store.ToShip, m.Error
		if err := ch.UpdateShipment(&s); err != nil {
			return err
		}
	}
	ch.tell("shipment", s.Number)
	return nil
}

// CloseManifest ends a carrier's day: the carrier gets the list of what it takes.
func (r *Relay) CloseManifest(ctx context.Context, id int64, who string) error {
	return r.commit(ctx, func(ch *change) error {
		m, err := ch.Manifest(id)
		if err != nil {
			return err
		}
		if m.State != "open" {
			return &Refused{Text: fmt.Sprintf("the manifest of %s, %s, is %s", m.CarrierName, m.Day, m.State), Conflict: true}
		}
		if m.Parcels == 0 {
			return &Refused{Text: "the manifest is empty", Conflict: true}
		}
		list, err := ch.ManifestShipments(id)
		if err != nil {
			return err
		}
		h := message.Handover{Reference: fmt.Sprintf("%s-m%d", r.prefix, id), Day: m.Day}
		for _, s := range list {
			var l message.Label
			if err := json.Unmarshal([]byte(s.Label), &l); err != nil {
				return err
			}
			h.Labels = append(h.Labels, l.ID)
			h.Tracking = append(h.Tracking, s.Tracking)
		}
		payload, err := json.Marshal(h)
		if err != nil {
			return err
		}
		if err := ch.SetManifest(id, "closing", "", time.Time{}); err != nil {
			return err
		}
		ch.tell("manifest", fmt.Sprint(id))
		if err := ch.Note(store.Entry{At: ch.now.UnixMicro(), Who: who, Thing: "connection", ThingID: m.CarrierID, What: "manifest", Text: fmt.Sprintf("Day %s closed with %d parcels", m.Day, m.Parcels)}); err != nil {
			return err
		}
		_, err = r.queue(ch, store.OutboxMessage{ConnectionID: m.CarrierID, Feed: "handovers out", Subject: fmt.Sprintf("manifest %d", id), Payload: string(payload)})
		return err
	})
}

func manifestOf(m store.OutboxMessage) (id int64, err error) {
	_, err = fmt.Sscanf(m.Subject, "manifest %d", &id)
	return id, err
}

func (r *Relay) dayClosed(ch *change, _ *conn, m store.OutboxMessage, receipt *message.HandoverReceipt) error {
	id, err := manifestOf(m)
	if err != nil {
		return err
	}
	ch.tell("manifest", fmt.Sprint(id))
	return ch.SetManifest(id, "closed", receipt.ID, ch.now)
}

func (r *Relay) handoverRefused(ch *change, m store.OutboxMessage) error {
	id, err := manifestOf(m)
	if err != nil {
		return err
	}
	ch.tell("manifest", fmt.Sprint(id))
	return ch.SetManifest(id, "open", "", time.Time{})
}

// placeID finds a location by its code; 0 where there is none.
func (r *Relay) placeID(code string) int64 {
	if code == "" {
		return 0
	}
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	for id, l := range r.places {
		if l.Code == code {
			return id
		}
	}
	return 0
}

func (r *Relay) location(code string) (store.Location, error) {
	r.placeMu.RLock()
	defer r.placeMu.RUnlock()
	var known []string
	for _, l := range r.places {
		if l.Code == code {
			return l, nil
		}
		known = append(known, l.Code)
	}
	slices.Sort(known)
	return store.Location{}, Refuse("location %q is not known; there are %s", code, join(known))
}

// Release takes a hold of an order away on a person's word.
func (r *Relay) Release(ctx context.Context, number, cause, who string, revision int64) error {
	return r.commit(ctx, func(ch *change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		if revision != 0 && o.Revision != revision {
			return store.ErrConflict
		}
		if !slices.Contains(order.Waved, order.Cause(cause)) {
			return &Refused{Text: fmt.Sprintf("a hold for %q ends when its cause does; it cannot be waved through", cause), Conflict: true}
		}
		c, ok := order.Release(o, order.Cause(cause), who)
		if !ok {
			return &Refused{Text: fmt.Sprintf("order %s is not held for %q", o.Number, cause), Conflict: true}
		}
		if err := ch.Note(notes(c, who, ch.now)...); err != nil {
			return err
		}
		return r.saveOrder(ch, o)
	})
}

// Readdress changes where an order goes, as long as it is not packed.
func (r *Relay) Readdress(ctx context.Context, number string, to place.Address, who string, revision int64) error {
	if bad := to.Problems(); len(bad) > 0 {
		return Refuse("address: %s", strings.Join(bad, "; "))
	}
	return r.commit(ctx, func(ch *change) error {
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
			return &Refused{Text: fmt.Sprintf("order %s is %s; its address can no longer be changed", o.Number, st), Conflict: true}
		}
		o.ShipTo = to
		o.Free(order.BadAddress)
		o.Revision++
		if err := ch.Findable(o); err != nil {
			return err
		}
		if err := r.noteOrder(ch, o, who, "address", "Address changed to %s", strings.Join(to.Lines(), ", ")); err != nil {
			return err
		}
		return r.saveOrder(ch, o)
	})
}
