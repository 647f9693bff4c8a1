package shipping

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"openrelay/internal/core/order"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
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
				out = engine.Or(out, s.Number)
			}
		}
		if err := o.Workable(); err != nil && out != "" {
			return nil
		} else if err != nil {
			return engine.OrderStateError(err)
		}
		more, err := r.beginPick(ch, o, who)
		if _, refused := engine.IsRefused(err); refused && out != "" {
			return nil
		}
		if err != nil {
			return err
		}
		out = engine.Or(out, more)
		return r.Orders.SaveOrder(ch, o)
	})
	return out, err
}

// beginPick makes shipments for what of an order is allocated and that no open one takes. The caller saves the order.
func (r *Shipping) beginPick(ch *engine.Change, o *order.Order, who string) (first string, err error) {
	taken, err := takenByOpen(ch, o)
	if err != nil {
		return "", err
	}
	byPlace := map[int64]*store.Shipment{}
	var places []int64
	for i := range o.Lines {
		l := &o.Lines[i]
		room := roomFor(o, l, taken)
		for _, a := range l.Allocations {
			a.Quantity = min(a.Quantity-taken[lineItem{l.ID, a.Location}], room)
			if a.Quantity <= 0 || r.PartnerAt(a.Location) != nil {
				continue
			}
			room -= a.Quantity
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
		return "", &engine.Refused{Text: fmt.Sprintf("order %s has nothing left to pick%s%s", o.Number, keptText(o), r.sentByText(o)),
			Conflict: true}
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

// roomFor counts the units of a line that may be picked and that no open shipment takes: what is kept back is left out.
func roomFor(o *order.Order, l *order.Line, taken map[lineItem]int64) (room int64) {
	if l.Allocated == 0 {
		return 0
	}
	for _, a := range l.Allocations {
		room += max(0, a.Quantity-taken[lineItem{l.ID, a.Location}])
	}
	return room - (l.Allocated - o.Sendable(l))
}

// sentByText says which partners send what is left of an order.
func (r *Shipping) sentByText(o *order.Order) string {
	var names []string
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			if c := r.PartnerAt(a.Location); c != nil && !slices.Contains(names, c.Rec().Name) {
				names = append(names, c.Rec().Name)
			}
		}
	}
	if len(names) == 0 {
		return ""
	}
	return "; what is left is sent by " + engine.Join(names)
}

// keptText says what of an order is kept back.
func keptText(o *order.Order) string {
	var parts []string
	for i := range o.Lines {
		if l := &o.Lines[i]; o.Kept(l) > 0 {
			parts = append(parts, fmt.Sprintf("%d × %s", o.Kept(l), engine.Or(l.SKU, l.Title)))
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "; kept back: " + engine.Join(parts)
}

// takenByOpen counts the units of each line that the open shipments of a place take and that have not left, by line and place.
func takenByOpen(ch *engine.Change, o *order.Order) (map[lineItem]int64, error) {
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return nil, err
	}
	out := map[lineItem]int64{}
	for i := range list {
		s := &list[i]
		if s.State != store.ToPick && s.State != store.ToShip {
			continue
		}
		parcels, err := ch.ParcelsOf(s.ID)
		if err != nil {
			return nil, err
		}
		gone := contents(parcels, left)
		for _, line := range lineIDs(s) {
			_, units := complete(s, line)
			out[lineItem{line, s.LocationID}] += units - wholeUnits(s, line, gone)
		}
	}
	return out, nil
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
		if err := notInRound(ch, &s); err != nil {
			return err
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
		for i := range wants {
			if wants[i].ItemID == got.ItemID {
				wants[i].Picked += got.Quantity
			}
		}
		return r.pickUnits(ch, &s, o, got, who)
	})
	return out, err
}

// pickUnits notes that units were picked for a shipment, and lets it go on where a rule says so.
func (r *Shipping) pickUnits(ch *engine.Change, s *store.Shipment, o *order.Order, got picking.Outcome, who string) error {
	if err := take(s, o, got.ItemID, got.Quantity); err != nil {
		return err
	}
	if !slices.Contains(strings.Split(s.Pickers, store.PickersApart), who) {
		s.Pickers = strings.TrimPrefix(s.Pickers+store.PickersApart+who, store.PickersApart)
	}
	if err := ch.UpdateShipment(s); err != nil {
		return err
	}
	if err := r.NoteOrder(ch, o, who, "picked", "Picked %d × %s%s", got.Quantity, got.SKU, binText(got.Bin)); err != nil {
		return err
	}
	ch.Tell("shipment", s.Number)
	if into := o.Ours.Decided.Profile; into != "" && carries(o, "pack") &&
		!slices.ContainsFunc(s.Lines, func(l store.ShipmentLine) bool { return l.Picked < l.Quantity }) {
		if err := r.carryLater(ch, s.Number, carryArgs{Step: "pack", Profile: into}); err != nil {
			return err
		}
	}
	return r.Orders.SaveOrder(ch, o)
}

func binText(bin string) string {
	if bin == "" {
		return ""
	}
	return " from bin " + bin
}

// TakeBack takes back that units of an item were picked for a shipment, such as the last scan. What is packed is unpacked
// first.
func (r *Shipping) TakeBack(ctx context.Context, shipment, code string, qty int64, who string) error {
	if qty < 0 {
		return engine.Refuse("quantity %d: at least 1 is expected", qty)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		s, _, err := loadShipment(ch, shipment)
		if err != nil {
			return err
		}
		if s.State != store.ToPick {
			return &engine.Refused{
				Text:     fmt.Sprintf("Shipment %s is %s; there is nothing to take back", s.Number, s.State),
				Conflict: true,
			}
		}
		if err := notInRound(ch, &s); err != nil {
			return err
		}
		return r.takeBackUnits(ch, &s, code, max(qty, 1), who)
	})
}

// takeBackUnits takes back that units of an item were picked for a shipment.
func (r *Shipping) takeBackUnits(ch *engine.Change, s *store.Shipment, code string, qty int64, who string) error {
	o, err := ch.Order(s.OrderID)
	if err != nil {
		return err
	}
	wants, err := r.wants(ch.Tx, *s, o)
	if err != nil {
		return err
	}
	w, err := picking.Find(wants, code)
	if err != nil {
		return err
	}
	parcels, err := ch.ParcelsOf(s.ID)
	if err != nil {
		return err
	}
	if err := untake(s, o, contents(parcels, live), w.ItemID, w.SKU, qty); err != nil {
		return err
	}
	if err := ch.UpdateShipment(s); err != nil {
		return err
	}
	ch.Tell("shipment", s.Number)
	if err := r.NoteOrder(ch, o, who, "taken back", "%d × %s put back%s", qty, w.SKU, intoBin(w.Bin)); err != nil {
		return err
	}
	return r.Orders.SaveOrder(ch, o)
}

// untake notes that qty units of an item are not picked after all, of the lines that were picked last first.
func untake(s *store.Shipment, o *order.Order, packed map[lineItem]int64, item int64, sku string, qty int64) error {
	var free int64
	for _, sl := range s.Lines {
		if sl.ItemID == item {
			free += sl.Picked - packed[lineItem{sl.LineID, sl.ItemID}]
		}
	}
	if free < qty {
		return &engine.Refused{Text: fmt.Sprintf("%d × %s are picked and lie in no parcel; %d cannot be taken back", free, sku, qty),
			Conflict: true}
	}
	for i := len(s.Lines) - 1; i >= 0 && qty > 0; i-- {
		sl := &s.Lines[i]
		n := min(qty, sl.Picked-packed[lineItem{sl.LineID, sl.ItemID}])
		if sl.ItemID != item || n <= 0 {
			continue
		}
		before, _ := complete(s, sl.LineID)
		sl.Picked -= n
		qty -= n
		if now, _ := complete(s, sl.LineID); now < before {
			if err := o.Unpick(sl.LineID, before-now); err != nil {
				return engine.OrderStateError(err)
			}
		}
	}
	return nil
}

func intoBin(bin string) string {
	if bin == "" {
		return ""
	}
	return " into bin " + bin
}
