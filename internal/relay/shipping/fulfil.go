package shipping

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
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
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// shipment loads a shipment with its order.
func loadShipment(ch *engine.Change, number string) (store.Shipment, *order.Order, error) {
	s, err := ch.Shipment(number)
	if err != nil {
		return s, nil, err
	}
	o, err := ch.Order(s.OrderID)
	return s, o, err
}

// SettleShipments brings open shipments along with an order that changed under them.
func (r *Shipping) SettleShipments(ch *engine.Change, o *order.Order) error {
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
		changed, spare := false, map[int64]int64{}
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
				if back := sl.Picked - at; back > 0 {
					spare[sl.ItemID] += back
				}
				sl.Quantity, sl.Picked = at, min(sl.Picked, at)
				changed = true
			}
			left += sl.Quantity
		}
		if left == 0 {
			s.State = store.CalledOff
			if err := r.NoteOrder(ch, o, "relay", "called off", "Shipment %s called off", s.Number); err != nil {
				return err
			}
		}
		if err := r.raisePutBack(ch, o, &s, spare); err != nil {
			return err
		}
		if changed {
			if err := ch.UpdateShipment(&s); err != nil {
				return err
			}
			ch.Tell("shipment", s.Number)
		}
	}
	return nil
}

// raisePutBack asks for goods to be put back that were picked for a shipment and are not wanted any more.
func (r *Shipping) raisePutBack(ch *engine.Change, o *order.Order, s *store.Shipment, spare map[int64]int64) error {
	if len(spare) == 0 {
		return nil
	}
	items, err := ch.Items(engine.Keys(spare))
	if err != nil {
		return err
	}
	bins, err := ch.Bins(s.LocationID, engine.Keys(spare))
	if err != nil {
		return err
	}
	var parts []string
	for _, id := range engine.Keys(spare) {
		text := fmt.Sprintf("%d × %s", spare[id], items[id].SKU)
		if bins[id] != "" {
			text += " into bin " + bins[id]
		}
		parts = append(parts, text)
	}
	ch.Tell("exception", o.Number)
	if err := ch.Raise(store.Exception{Cause: engine.PutBack, Subject: s.Number,
		Text: fmt.Sprintf("Put back %s at %s: order %s was changed after it was picked.", engine.Join(parts),
			r.PlaceName(s.LocationID), o.Number),
		Expected: "The goods in their bin, where the next order finds them. Settle this when they are.", ConnectionID: o.ConnectionID,
		OrderID: o.ID, Standing: true}, ch.Now); err != nil {
		return err
	}
	return r.NoteOrder(ch, o, "relay", string(engine.PutBack), "To be put back: %s", engine.Join(parts))
}

// StartPick makes the shipments of an order, one per location that holds its stock, or finds those
// begun before, and returns the first that is still to be picked or packed.
func (r *Shipping) StartPick(ctx context.Context, number, who string) (string, error) {
	var out string
	err := r.Commit(ctx, func(ch *engine.Change) error {
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
			return engine.OrderStateError(err)
		}
		if out, err = r.beginPick(ch, o, who); err != nil {
			return err
		}
		return r.Orders.SaveOrder(ch, o)
	})
	return out, err
}

// beginPick makes the shipments of an order that can be worked on and has none open. The caller saves the order.
func (r *Shipping) beginPick(ch *engine.Change, o *order.Order, who string) (first string, err error) {
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
				s = &store.Shipment{OrderID: o.ID, LocationID: a.Location, State: store.ToPick, CreatedAt: ch.Now.UnixMicro()}
				byPlace[a.Location] = s
				places = append(places, a.Location)
			}
			s.Lines = append(s.Lines, shipmentLines(l, a.Quantity, 0)...)
		}
	}
	if len(places) == 0 {
		return "", &engine.Refused{Text: fmt.Sprintf("order %s has nothing left to pick", o.Number), Conflict: true}
	}
	for _, loc := range places {
		s := byPlace[loc]
		if err := ch.AddShipment(s); err != nil {
			return "", err
		}
		first = engine.Or(first, s.Number)
		ch.Tell("shipment", s.Number)
		if err := r.NoteOrder(ch, o, who, "routed", "Shipment %s: to be picked at %s", s.Number, r.PlaceName(loc)); err != nil {
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
func (r *Shipping) wants(t *store.Tx, s store.Shipment, o *order.Order) ([]picking.Want, error) {
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
	walk, err := t.BinPositions(s.LocationID, slices.Collect(maps.Values(bins)))
	if err != nil {
		return nil, err
	}
	return WantList(s, o, items, bins, walk), nil
}

// WantList lists what is to be taken, each item once, however many lines and kits want it.
// walk says where bins stand in the walk through the place; those that it does not name come last, by name.
func WantList(s store.Shipment, o *order.Order, items map[int64]store.Item, bins map[int64]string, walk map[string]int64) []picking.Want {
	out := make([]picking.Want, 0, len(s.Lines))
	at := map[int64]int{}
	for _, sl := range s.Lines {
		l := o.Line(sl.LineID)
		if sl.Quantity == 0 {
			continue
		}
		it := items[sl.ItemID]
		i, known := at[it.ID]
		if !known {
			i = len(out)
			at[it.ID] = i
			out = append(out, picking.Want{LineID: l.ID, ItemID: it.ID, SKU: it.SKU, GTIN: it.GTIN, Title: it.Name, Bin: bins[it.ID],
				Serials: it.Serials})
		}
		w := &out[i]
		w.Quantity += sl.Quantity
		w.Picked += sl.Picked
		if len(l.Parts) > 0 && !slices.Contains(strings.Split(w.KitSKU, ", "), l.SKU) {
			w.KitSKU = strings.TrimPrefix(w.KitSKU+", "+l.SKU, ", ")
		}
	}
	stands := func(bin string) int64 {
		if n, ok := walk[bin]; ok {
			return n
		}
		return math.MaxInt64
	}
	slices.SortStableFunc(out, func(a, b picking.Want) int {
		return cmp.Or(cmp.Compare(stands(a.Bin), stands(b.Bin)), strings.Compare(a.Bin, b.Bin))
	})
	return out
}

// take notes qty picked units of an item on the lines of a shipment that want it, and on its order where all that a
// unit of a line takes is there.
func take(s *store.Shipment, o *order.Order, item, qty int64) error {
	for i := range s.Lines {
		sl := &s.Lines[i]
		n := min(qty, sl.Quantity-sl.Picked)
		if sl.ItemID != item || n <= 0 {
			continue
		}
		before, _ := complete(s, sl.LineID)
		sl.Picked += n
		qty -= n
		if now, _ := complete(s, sl.LineID); now > before { // of a kit, when its last component is there
			if err := o.Pick(sl.LineID, now-before); err != nil {
				return engine.OrderStateError(err)
			}
		}
	}
	return nil
}

// Scanned is the outcome of a scan and what is left to do.
type Scanned struct {
	Outcome picking.Outcome
	Wants   []picking.Want
}

// Scan takes one scan while a shipment is picked. A wrong one changes nothing and says what was expected.
func (r *Shipping) Scan(ctx context.Context, shipment, code, bin string, qty int64, who string) (Scanned, error) {
	var out Scanned
	if qty < 0 {
		return out, engine.Refuse("quantity %d: at least 1 is expected", qty)
	}
	err := r.Commit(ctx, func(ch *engine.Change) error {
		s, o, err := loadShipment(ch, shipment)
		if err != nil {
			return err
		}
		if s.State != store.ToPick {
			return &engine.Refused{Text: fmt.Sprintf("Shipment %s is %s; there is nothing to scan", s.Number, s.State), Conflict: true}
		}
		if err := o.Workable(); err != nil {
			return engine.OrderStateError(err)
		}
		wants, err := r.wants(ch.Tx, s, o)
		if err != nil {
			return err
		}
		got, err := picking.Scan(o.Number, wants, code, bin, qty)
		if err != nil {
			return err
		}
		out.Outcome, out.Wants = got, wants
		if got.Kind != "product" {
			return nil
		}
		if err := take(&s, o, got.ItemID, got.Quantity); err != nil {
			return err
		}
		for i := range wants {
			if wants[i].ItemID == got.ItemID {
				wants[i].Picked += got.Quantity
			}
		}
		if !slices.Contains(strings.Split(s.Pickers, store.PickersApart), who) {
			s.Pickers = strings.TrimPrefix(s.Pickers+store.PickersApart+who, store.PickersApart)
		}
		if err := ch.UpdateShipment(&s); err != nil {
			return err
		}
		if err := r.NoteOrder(ch, o, who, "picked", "Picked %d × %s%s", got.Quantity, got.SKU, binText(got.Bin)); err != nil {
			return err
		}
		ch.Tell("shipment", s.Number)
		if into := o.Ours.Decided.Profile; into != "" && carries(o, "pack") &&
			!slices.ContainsFunc(s.Lines, func(l store.ShipmentLine) bool { return l.Picked < l.Quantity }) {
			if err := r.carryLater(ch, &s, carryArgs{Step: "pack", Profile: into}); err != nil {
				return err
			}
		}
		return r.Orders.SaveOrder(ch, o)
	})
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
func (r *Shipping) Pack(ctx context.Context, shipment, profile string, weight int64, serials map[string][]string, who string) error {
	profiles, err := r.Store.Profiles(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(profiles, func(p packing.Profile) bool { return p.Code == profile })
	if i < 0 {
		return engine.Refuse("parcel profile %q is not known", profile)
	}
	if weight < 0 || weight > 1_000_000 {
		return engine.Refuse("weight %d g: between 1 g and 1000 kg is expected", weight)
	}
	p := profiles[i]
	return r.Commit(ctx, func(ch *engine.Change) error {
		s, o, err := loadShipment(ch, shipment)
		if err != nil {
			return err
		}
		if s.State != store.ToPick && s.State != store.ToShip {
			return &engine.Refused{Text: fmt.Sprintf("Shipment %s is %s and cannot be packed", s.Number, s.State), Conflict: true}
		}
		items, content, err := contentOf(ch, &s, weight)
		if err != nil {
			return err
		}
		if why := p.Refuses(content); why != "" {
			return &engine.Refused{Text: why, Conflict: true}
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
		if err := r.putParcel(ch, &s); err != nil {
			return err
		}
		if first {
			if err := packLines(o, &s); err != nil {
				return err
			}
		}
		ch.Tell("shipment", s.Number)
		if err := r.NoteOrder(ch, o, who, "packed", "Packed into %s, %s kg%s", p.Name, kg(s.WeightG), chosen); err != nil {
			return err
		}
		if first && carries(o, "ship") {
			if err := r.carryLater(ch, &s, carryArgs{Step: "ship"}); err != nil {
				return err
			}
		}
		return r.Orders.SaveOrder(ch, o)
	})
}

// putParcel gives a packed parcel its number and writes it.
func (r *Shipping) putParcel(ch *engine.Change, s *store.Shipment) (err error) {
	if s.SSCC, err = gs1.SSCC(0, r.GS1Prefix, uint64(s.ID)); err != nil {
		return err
	}
	if err := ch.UpdateShipment(s); err != nil {
		return err
	}
	return nil
}

// packLines counts what a shipment has of an order as packed.
func packLines(o *order.Order, s *store.Shipment) error {
	for _, line := range lineIDs(s) {
		_, n := complete(s, line)
		if n == 0 {
			continue
		}
		if err := o.Pack(line, n); err != nil {
			return engine.OrderStateError(err)
		}
	}
	return nil
}

// contentOf is what was picked for a shipment, all of which must be there, and of known weight unless the parcel is weighed.
func contentOf(ch *engine.Change, s *store.Shipment, weight int64) (map[int64]store.Item, []packing.Content, error) {
	var content []packing.Content
	var ids []int64
	for _, sl := range s.Lines {
		ids = append(ids, sl.ItemID)
	}
	items, err := ch.Items(ids)
	if err != nil {
		return nil, nil, err
	}
	for _, sl := range s.Lines {
		it := items[sl.ItemID]
		if sl.Picked < sl.Quantity {
			return nil, nil, &engine.Refused{Text: fmt.Sprintf("%d × %s is still to be picked", sl.Quantity-sl.Picked, it.SKU),
				Conflict: true}
		}
		if weight == 0 && it.WeightG == 0 && sl.Quantity > 0 {
			return nil, nil, &engine.Refused{Text: fmt.Sprintf("no weight is known of %s; weigh the parcel and type its weight", it.SKU),
				Conflict: true}
		}
		content = append(content, packing.Content{SKU: it.SKU, Quantity: sl.Quantity, WeightG: it.WeightG, LengthMM: it.LengthMM,
			WidthMM: it.WidthMM, HeightMM: it.HeightMM})
	}
	return items, content, nil
}

func kg(g int64) string { return fmt.Sprintf("%d.%03d", g/1000, g%1000) }

func (r *Shipping) Parcel(s store.Shipment, o *order.Order, c *engine.Conn) message.Parcel {
	from := r.Place(s.LocationID).Address
	if ch := r.ByID(o.ConnectionID); ch != nil {
		if s, ok := r.Sender(ch.Settings().Sender); ok {
			from = s.From(from)
		}
	}
	to := o.ShipTo
	if to.Email == "" {
		to.Email = o.Record.BuyerEmail
	}
	return message.Parcel{Reference: s.Number, From: from, To: to, WeightG: s.WeightG, LengthMM: s.LengthMM, WidthMM: s.WidthMM,
		HeightMM: s.HeightMM,
		OrderRef: o.Number, Test: c.Rec().Test, Handover: r.Today()}
}

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
		if m.Parcels == 0 {
			return &engine.Refused{Text: "the manifest is empty", Conflict: true}
		}
		list, err := ch.ManifestShipments(id)
		if err != nil {
			return err
		}
		h := message.Handover{Reference: fmt.Sprintf("%s-m%d", r.Prefix, id), Day: m.Day}
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
		ch.Tell("manifest", fmt.Sprint(id))
		if err := ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "connection", ThingID: m.CarrierID, What: "manifest",
			Text: fmt.Sprintf("Day %s closed with %d parcels", m.Day, m.Parcels)}); err != nil {
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
	return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: "relay", Thing: "order", ThingID: m.OrderID, What: "write-back " + what,
		Text: fmt.Sprintf("Tracking number %s %s %s", d.Tracking, how, c.Rec().Name)})
}

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
			return &engine.Refused{Text: fmt.Sprintf("order %s is %s; its address can no longer be changed", o.Number, st), Conflict: true}
		}
		order.Readdress(o, to)
		ch.Mark(engine.OrderWords, o.ID)
		if err := r.NoteOrder(ch, o, who, "address", "Address changed to %s", strings.Join(to.Lines(), ", ")); err != nil {
			return err
		}
		return r.Orders.SaveOrder(ch, o)
	})
}
