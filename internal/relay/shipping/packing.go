package shipping

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"openrelay/internal/core/gs1"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Packing is what goes into a parcel.
type Packing struct {
	Profile string              // code of a parcel profile
	WeightG int64               // weighed gross weight in grams; 0 takes the sum of the items and the carton
	Serials map[string][]string // serial numbers of the units whose items have them, by SKU
	LetIn   bool                // serial numbers that were not recorded at receipt are let in
	Sure    bool                // a weight that is far from the sum is right
	Units   map[string]int64    // units by SKU; empty: all that the shipment takes and lies in no parcel yet
}

// Pack packs what was picked into a parcel and returns its number. Without units, all that is left goes into it, and all of it
// must be picked. A shipment that lies whole in one parcel without a label is packed anew.
func (r *Shipping) Pack(ctx context.Context, shipment string, w Packing, who string) (number string, err error) {
	profile, err := r.profileFor(ctx, w)
	if err != nil {
		return "", err
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		s, o, err := loadShipment(ch, shipment)
		if err != nil {
			return err
		}
		parcels, err := ch.ParcelsOf(s.ID)
		if err != nil {
			return err
		}
		if s.State == store.ToShip && len(w.Units) == 0 {
			number, err = r.repackOnly(ch, &s, o, parcels, profile, w, who)
			return err
		}
		if s.State != store.ToPick {
			return &engine.Refused{Text: fmt.Sprintf("Shipment %s is %s and cannot be packed", s.Number, s.State), Conflict: true}
		}
		number, err = r.packNew(ch, &s, o, parcels, profile, w, who)
		return err
	})
	return number, err
}

// Repack packs a parcel without a label into another carton, or weighs it anew. What lies in it stays.
func (r *Shipping) Repack(ctx context.Context, parcel string, w Packing, who string) error {
	profile, err := r.profileFor(ctx, w)
	if err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		p, o, err := loadParcel(ch, parcel)
		if err != nil {
			return err
		}
		return r.repack(ch, &p, o, profile, w, who)
	})
}

// profileFor is the profile that is packed into.
func (r *Shipping) profileFor(ctx context.Context, w Packing) (packing.Profile, error) {
	profiles, err := r.Store.Profiles(ctx)
	if err != nil {
		return packing.Profile{}, err
	}
	i := slices.IndexFunc(profiles, func(p packing.Profile) bool { return p.Code == w.Profile })
	switch {
	case i < 0:
		return packing.Profile{}, engine.Refuse("parcel profile %q is not known", w.Profile)
	case w.WeightG < 0 || w.WeightG > 1_000_000:
		return packing.Profile{}, engine.Refuse("weight %d g: between 1 g and 1000 kg is expected", w.WeightG)
	}
	return profiles[i], nil
}

// repackOnly packs the only parcel of a shipment anew.
func (r *Shipping) repackOnly(ch *engine.Change, s *store.Shipment, o *order.Order, parcels []store.Parcel, profile packing.Profile,
	w Packing, who string) (string, error) {
	var open []*store.Parcel
	for i := range parcels {
		if live(&parcels[i]) {
			open = append(open, &parcels[i])
		}
	}
	if len(open) != 1 {
		return "", &engine.Refused{
			Text:     fmt.Sprintf("Shipment %s lies in %d parcels; say which of them is packed anew", s.Number, len(open)),
			Conflict: true,
		}
	}
	return open[0].Number, r.repack(ch, open[0], o, profile, w, who)
}

func (r *Shipping) repack(ch *engine.Change, p *store.Parcel, o *order.Order, profile packing.Profile, w Packing, who string) error {
	if p.State != store.ToShip {
		return &engine.Refused{Text: fmt.Sprintf("Shipment %s is %s and cannot be packed", p.Number, p.State), Conflict: true}
	}
	chosen, err := r.fill(ch, p, profile, w)
	if err != nil {
		return err
	}
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	if err := r.NoteOrder(ch, o, who, "packed", "Packed into %s, %s kg%s", profile.Name, kg(p.WeightG), chosen); err != nil {
		return err
	}
	return r.Orders.SaveOrder(ch, o)
}

// packNew packs units of a shipment into a new parcel.
func (r *Shipping) packNew(ch *engine.Change, s *store.Shipment, o *order.Order, parcels []store.Parcel, profile packing.Profile,
	w Packing, who string) (string, error) {
	lines, err := toPack(ch, s, contents(parcels, live), w.Units)
	if err != nil {
		return "", err
	}
	p := store.Parcel{ShipmentID: s.ID, ShipmentNumber: s.Number, OrderID: s.OrderID, LocationID: s.LocationID, State: store.ToShip,
		CreatedAt: ch.Now.UnixMicro(), Lines: lines}
	if err := ch.AddParcel(&p); err != nil {
		return "", err
	}
	if p.SSCC, err = gs1.SSCC(0, r.GS1Prefix, uint64(p.ID)); err != nil {
		return "", err
	}
	chosen, err := r.fill(ch, &p, profile, w)
	if err != nil {
		return "", err
	}
	before := contents(parcels, live)
	after := contents(append(parcels, p), live)
	for _, line := range lineIDs(s) {
		if n := wholeUnits(s, line, after) - wholeUnits(s, line, before); n > 0 {
			if err := o.Pack(line, n); err != nil {
				return "", engine.OrderStateError(err)
			}
		}
	}
	if err := saveParcel(ch, &p); err != nil {
		return "", err
	}
	if err := r.NoteOrder(ch, o, who, "packed", "Packed into %s, %s kg%s", profile.Name, kg(p.WeightG), chosen); err != nil {
		return "", err
	}
	if carries(o, "ship") {
		if err := r.carryLater(ch, p.Number, carryArgs{Step: "ship"}); err != nil {
			return "", err
		}
	}
	return p.Number, r.Orders.SaveOrder(ch, o)
}

// fill checks that a parcel's contents go into a carton, and notes what it weighs and which units lie in it.
func (r *Shipping) fill(ch *engine.Change, p *store.Parcel, profile packing.Profile, w Packing) (chosen string, err error) {
	items, content, err := contentOf(ch, p, w.WeightG)
	if err != nil {
		return "", err
	}
	if why := profile.Refuses(content); why != "" {
		return "", &engine.Refused{Text: why, Conflict: true}
	}
	if chosen, err = r.chooseSerials(ch, p, items, w.Serials, w.LetIn); err != nil {
		return "", err
	}
	p.Profile, p.LengthMM, p.WidthMM, p.HeightMM, p.Error = profile.Code, profile.LengthMM, profile.WidthMM, profile.HeightMM, ""
	if p.WeightG = profile.Weight(content); w.WeightG > 0 {
		if !w.Sure && far(w.WeightG, p.WeightG) && allWeighed(content) {
			return "", &engine.Refused{
				Text: fmt.Sprintf("%s kg were weighed, and carton and contents should weigh %s kg; look what is in it and "+
					"weigh it again, or say that it is right", kg(w.WeightG), kg(p.WeightG)),
				Conflict: true,
			}
		}
		p.WeightG = w.WeightG
	}
	return chosen, nil
}

// far says whether a weight is so far from what was to be expected that something may be missing, or too much.
func far(weighed, sum int64) bool {
	off := weighed - sum
	return max(off, -off) > 500+sum/5
}

// allWeighed says whether the weight of all contents is known.
func allWeighed(content []packing.Content) bool {
	return !slices.ContainsFunc(content, func(c packing.Content) bool { return c.WeightG == 0 })
}

// toPack is what goes into a new parcel: the units that are said, or all that lie in no parcel yet.
func toPack(ch *engine.Change, s *store.Shipment, packed map[lineItem]int64, units map[string]int64) ([]store.ParcelLine, error) {
	var ids []int64
	for _, sl := range s.Lines {
		ids = append(ids, sl.ItemID)
	}
	items, err := ch.Items(ids)
	if err != nil {
		return nil, err
	}
	left := map[string]int64{}
	for sku, n := range units {
		if n < 1 {
			return nil, engine.Refuse("units: at least 1 × %s is expected", sku)
		}
		left[sku] = n
	}
	var out []store.ParcelLine
	for _, sl := range s.Lines {
		sku := items[sl.ItemID].SKU
		free := sl.Picked - packed[lineItem{sl.LineID, sl.ItemID}]
		if len(units) == 0 && sl.Picked < sl.Quantity {
			return nil, &engine.Refused{Text: fmt.Sprintf("%d × %s is still to be picked", sl.Quantity-sl.Picked, sku), Conflict: true}
		}
		if len(units) > 0 {
			free = min(free, left[sku])
			left[sku] -= free
		}
		if free > 0 {
			out = append(out, store.ParcelLine{LineID: sl.LineID, ItemID: sl.ItemID, Per: sl.Per, Quantity: free})
		}
	}
	for _, sku := range slices.Sorted(maps.Keys(left)) {
		if n := left[sku]; n > 0 {
			return nil, &engine.Refused{Text: fmt.Sprintf("%d × %s more than is picked and lies in no parcel", n, sku), Conflict: true}
		}
	}
	if len(out) == 0 {
		return nil, &engine.Refused{Text: fmt.Sprintf("nothing of shipment %s is left to pack", s.Number), Conflict: true}
	}
	return out, nil
}

// contentOf is what lies in a parcel; of known weight, unless the parcel is weighed.
func contentOf(ch *engine.Change, p *store.Parcel, weight int64) (map[int64]store.Item, []packing.Content, error) {
	var out []packing.Content
	var ids []int64
	for _, l := range p.Lines {
		ids = append(ids, l.ItemID)
	}
	items, err := ch.Items(ids)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range p.Lines {
		it := items[l.ItemID]
		if weight == 0 && it.WeightG == 0 {
			return nil, nil, &engine.Refused{Text: fmt.Sprintf("no weight is known of %s; weigh the parcel and type its weight", it.SKU),
				Conflict: true}
		}
		out = append(out, packing.Content{SKU: it.SKU, Quantity: l.Quantity, WeightG: it.WeightG, LengthMM: it.LengthMM,
			WidthMM: it.WidthMM, HeightMM: it.HeightMM})
	}
	return items, out, nil
}

// Unpack takes everything out of a parcel that has no label: it is picked, and lies in no parcel again.
func (r *Shipping) Unpack(ctx context.Context, parcel, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		p, o, err := loadParcel(ch, parcel)
		if err != nil {
			return err
		}
		if p.State != store.ToShip {
			return &engine.Refused{Text: notUnpacked(&p), Conflict: true}
		}
		s, err := ch.ShipmentByID(p.ShipmentID)
		if err != nil {
			return err
		}
		parcels, err := ch.ParcelsOf(s.ID)
		if err != nil {
			return err
		}
		before := contents(parcels, live)
		p.State, p.Error = store.CalledOff, ""
		if parcels, err = parcelsWith(ch, &p); err != nil {
			return err
		}
		after := contents(parcels, live)
		for _, line := range lineIDs(&s) {
			if n := wholeUnits(&s, line, before) - wholeUnits(&s, line, after); n > 0 {
				if err := o.Unpack(line, min(n, o.Line(line).Packed)); err != nil {
					return engine.OrderStateError(err)
				}
			}
		}
		if err := ch.UnpackSerials(p.ID); err != nil {
			return err
		}
		if err := r.labelSettled(ch, p.ID, o.ID, who); err != nil {
			return err
		}
		if err := saveParcel(ch, &p); err != nil {
			return err
		}
		if err := r.NoteOrder(ch, o, who, "unpacked", "Parcel %s unpacked", p.Number); err != nil {
			return err
		}
		return r.Orders.SaveOrder(ch, o)
	})
}

// notUnpacked says why a parcel is not unpacked.
func notUnpacked(p *store.Parcel) string {
	switch {
	case p.State == store.Buying:
		return fmt.Sprintf("A label for parcel %s was asked for; whether it exists must be known before it is unpacked", p.Number)
	case p.Left():
		return fmt.Sprintf("Parcel %s has left with tracking number %s; only a return brings it back", p.Number, p.Tracking)
	}
	return fmt.Sprintf("Parcel %s is %s", p.Number, p.State)
}

func kg(g int64) string { return fmt.Sprintf("%d.%03d", g/1000, g%1000) }

// Parcel is what a carrier is asked for, and told of, a parcel.
func (r *Shipping) Parcel(p store.Parcel, o *order.Order, c *engine.Conn) message.Parcel {
	from := r.Place(p.LocationID).Address
	if ch := r.ByID(o.ConnectionID); ch != nil {
		if s, ok := r.Sender(ch.Settings().Sender); ok {
			from = s.From(from)
		}
	}
	to := o.ShipTo
	if to.Email == "" {
		to.Email = o.Record.BuyerEmail
	}
	return message.Parcel{Reference: p.Number, From: from, To: to, WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM,
		HeightMM: p.HeightMM, OrderRef: o.Number, Test: c.Rec().Test, Handover: r.Today()}
}

// storedParcel loads a parcel for reading. What is not packed yet is no parcel, and that is said.
func (r *Shipping) storedParcel(ctx context.Context, number string) (store.Parcel, error) {
	p, err := r.Store.Parcel(ctx, number)
	if errors.Is(err, store.ErrNotFound) {
		s, none := r.Store.Shipment(ctx, number)
		if none != nil {
			return p, none
		}
		return p, notPacked(s)
	}
	return p, err
}
