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
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Packing is what goes into a parcel.
type Packing struct {
	Profile string              // code of a parcel profile; empty: that of the carton into which it goes
	Into    string              // number of a packed parcel into whose carton it goes; empty: into a new one
	WeightG int64               // weighed gross weight in grams; 0 takes the sum of the items and the carton
	Serials map[string][]string // serial numbers of the units whose items have them, by SKU
	LetIn   bool                // serial numbers that were not recorded at receipt are let in
	Sure    bool                // a weight that is far from the sum is right
	Units   map[string]int64    // units by SKU; empty: all that the shipment takes and lies in no parcel yet
}

// Pack packs what was picked into a parcel and returns its number. Without units, all that is left goes into it, and all of it
// must be picked. What travels together is packed together. A shipment that lies whole in one parcel without a label is packed anew.
func (r *Shipping) Pack(ctx context.Context, shipment string, w Packing, who string) (number string, err error) {
	if w.Into != "" && w.Profile == "" {
		into, err := r.storedParcel(ctx, w.Into)
		if err != nil {
			return "", err
		}
		w.Profile = into.Profile
	}
	profile, err := r.profileFor(ctx, w)
	if err != nil {
		return "", err
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		parts, err := loadParts(ch, shipment)
		if err != nil {
			return err
		}
		s := &parts[0].shipment
		switch open := parts.toPick(); {
		case s.State == store.ToShip && len(w.Units) == 0 && len(open) == 0:
			number, err = r.repackOnly(ch, &parts[0], profile, w, who)
			return err
		case len(open) == 0:
			return &engine.Refused{Text: fmt.Sprintf("Shipment %s is %s and cannot be packed", s.Number, s.State), Conflict: true}
		default:
			number, err = r.packNew(ch, open, profile, w, who)
			return err
		}
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
		c, err := loadCarton(ch, parcel)
		if err != nil {
			return err
		}
		return r.repack(ch, c, profile, w, who)
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
func (r *Shipping) repackOnly(ch *engine.Change, x *part, profile packing.Profile, w Packing, who string) (string, error) {
	var open []*store.Parcel
	for i := range x.parcels {
		if live(&x.parcels[i]) {
			open = append(open, &x.parcels[i])
		}
	}
	if len(open) != 1 {
		return "", &engine.Refused{
			Text:     fmt.Sprintf("Shipment %s lies in %d parcels; say which of them is packed anew", x.shipment.Number, len(open)),
			Conflict: true,
		}
	}
	c, err := cartonOf(ch, *open[0])
	if err != nil {
		return "", err
	}
	return open[0].Number, r.repack(ch, c, profile, w, who)
}

func (r *Shipping) repack(ch *engine.Change, c carton, profile packing.Profile, w Packing, who string) error {
	p := c.own()
	if p.State != store.ToShip {
		return &engine.Refused{Text: fmt.Sprintf("Shipment %s is %s and cannot be packed", p.Number, p.State), Conflict: true}
	}
	chosen, err := r.fill(ch, c, profile, w)
	if err != nil {
		return err
	}
	if err := c.save(ch); err != nil {
		return err
	}
	return r.notePacked(ch, c, profile, chosen, who)
}

// notePacked writes on the orders of a carton that it was packed.
func (r *Shipping) notePacked(ch *engine.Change, c carton, profile packing.Profile, chosen, who string) error {
	for i := range c {
		with := ""
		if i > 0 {
			with = fmt.Sprintf(" with order %s, in the carton of parcel %s", c[0].order.Number, c.own().Number)
		}
		if err := r.NoteOrder(ch, c[i].order, who, "packed", "Packed into %s, %s kg%s%s", profile.Name, kg(c.own().WeightG), with,
			chosen); err != nil {
			return err
		}
		if err := r.Orders.SaveOrder(ch, c[i].order); err != nil {
			return err
		}
	}
	return nil
}

// packNew packs units of shipments that travel together into a new carton, or into one that is packed already.
func (r *Shipping) packNew(ch *engine.Change, parts parts, profile packing.Profile, w Packing, who string) (string, error) {
	lines, err := toPack(ch, parts, w.Units)
	if err != nil {
		return "", err
	}
	var c carton
	if w.Into != "" {
		if c, err = openCarton(ch, w.Into, parts); err != nil {
			return "", err
		}
	}
	for i := range parts {
		if len(lines[i]) == 0 {
			continue
		}
		if c, err = r.putInto(ch, c, &parts[i], lines[i]); err != nil {
			return "", err
		}
	}
	chosen, err := r.fill(ch, c, profile, w)
	if err != nil {
		return "", err
	}
	if err := c.save(ch); err != nil {
		return "", err
	}
	if carries(c[0].order, "ship") && w.Into == "" {
		if err := r.carryLater(ch, c.own().Number, carryArgs{Step: "ship"}); err != nil {
			return "", err
		}
	}
	return c.own().Number, r.notePacked(ch, c, profile, chosen, who)
}

// putInto puts lines of a shipment into a carton; into a new one where there is none yet.
func (r *Shipping) putInto(ch *engine.Change, c carton, x *part, lines []store.ParcelLine) (carton, error) {
	before := contents(x.parcels, live)
	at := slices.IndexFunc(c, func(y content) bool { return y.parcel.ShipmentID == x.shipment.ID })
	if at < 0 {
		p := store.Parcel{ShipmentID: x.shipment.ID, ShipmentNumber: x.shipment.Number, OrderID: x.shipment.OrderID,
			LocationID: x.shipment.LocationID, State: store.ToShip, CreatedAt: ch.Now.UnixMicro()}
		if len(c) > 0 {
			p.TravelsIn, p.Carton = c.own().ID, c.own().Number
		}
		if err := ch.AddParcel(&p); err != nil {
			return nil, err
		}
		if p.TravelsIn == 0 {
			var err error
			if p.SSCC, err = gs1.SSCC(0, r.GS1Prefix, uint64(p.ID)); err != nil {
				return nil, err
			}
		}
		c, at = append(c, content{p, x.order}), len(c)
	}
	p := &c[at].parcel
	for _, l := range lines {
		if i := slices.IndexFunc(p.Lines, func(y store.ParcelLine) bool { return y.LineID == l.LineID && y.ItemID == l.ItemID }); i >= 0 {
			p.Lines[i].Quantity += l.Quantity
		} else {
			p.Lines = append(p.Lines, l)
		}
	}
	after := maps.Clone(before)
	for _, l := range lines {
		after[lineItem{l.LineID, l.ItemID}] += l.Quantity
	}
	for _, line := range lineIDs(&x.shipment) {
		if n := wholeUnits(&x.shipment, line, after) - wholeUnits(&x.shipment, line, before); n > 0 {
			if err := c[at].order.Pack(line, n); err != nil {
				return nil, engine.OrderStateError(err)
			}
		}
	}
	return c, nil
}

// fill checks that a carton's contents go into it, and notes what it weighs and which units lie in it.
func (r *Shipping) fill(ch *engine.Change, c carton, profile packing.Profile, w Packing) (chosen string, err error) {
	items, content, err := contentOf(ch, c.lines(), w.WeightG)
	if err != nil {
		return "", err
	}
	if why := profile.Refuses(content); why != "" {
		return "", &engine.Refused{Text: why, Conflict: true}
	}
	if chosen, err = r.chooseSerials(ch, c, items, w); err != nil {
		return "", err
	}
	p := c.own()
	p.Profile, p.LengthMM, p.WidthMM, p.HeightMM, p.Error = profile.Code, profile.LengthMM, profile.WidthMM, profile.HeightMM, ""
	p.SumG = 0
	if allWeighed(content) {
		p.SumG = profile.Weight(content)
	}
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

// toPack is what goes into a new parcel, by part: the units that are said, or all that lie in no parcel yet.
func toPack(ch *engine.Change, all parts, units map[string]int64) ([][]store.ParcelLine, error) {
	var ids []int64
	for i := range all {
		for _, sl := range all[i].shipment.Lines {
			ids = append(ids, sl.ItemID)
		}
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
	some := false
	out := make([][]store.ParcelLine, len(all))
	for i := range all {
		packed := contents(all[i].parcels, live)
		for _, sl := range all[i].shipment.Lines {
			sku := items[sl.ItemID].SKU
			free := sl.Picked - packed[lineItem{sl.LineID, sl.ItemID}]
			if len(units) == 0 && sl.Picked < sl.Quantity {
				return nil, all.unpicked(i, sl.Quantity-sl.Picked, sku)
			}
			if len(units) > 0 {
				free = min(free, left[sku])
				left[sku] -= free
			}
			if free > 0 {
				some = true
				out[i] = append(out[i], store.ParcelLine{LineID: sl.LineID, ItemID: sl.ItemID, Per: sl.Per, Quantity: free})
			}
		}
	}
	for _, sku := range slices.Sorted(maps.Keys(left)) {
		if n := left[sku]; n > 0 {
			return nil, &engine.Refused{Text: fmt.Sprintf("%d × %s more than is picked and lies in no parcel", n, sku), Conflict: true}
		}
	}
	if !some {
		return nil, &engine.Refused{Text: fmt.Sprintf("nothing of shipment %s is left to pack", all[0].shipment.Number), Conflict: true}
	}
	return out, nil
}

// contentOf is what lies in a carton; of known weight, unless it is weighed.
func contentOf(ch *engine.Change, lines []store.ParcelLine, weight int64) (map[int64]store.Item, []packing.Content, error) {
	var out []packing.Content
	var ids []int64
	for _, l := range lines {
		ids = append(ids, l.ItemID)
	}
	items, err := ch.Items(ids)
	if err != nil {
		return nil, nil, err
	}
	for _, l := range lines {
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

// Unpack takes everything out of a parcel that has no label: it is picked, and lies in no parcel again. With a carton, all that
// travels in it is unpacked; of what only travels in another's carton, the rest stays in there.
func (r *Shipping) Unpack(ctx context.Context, parcel, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		p, _, err := loadParcel(ch, parcel)
		if err != nil {
			return err
		}
		if p.State != store.ToShip {
			return &engine.Refused{Text: notUnpacked(&p), Conflict: true}
		}
		c, err := cartonOf(ch, p)
		if err != nil {
			return err
		}
		goes := func(x *store.Parcel) bool { return p.TravelsIn == 0 || x.ID == p.ID }
		for i := range c {
			if goes(&c[i].parcel) {
				if err := r.unpack(ch, &c[i], who); err != nil {
					return err
				}
			}
		}
		stays, err := takeOutOf(ch, c, goes)
		if err != nil {
			return err
		}
		return stays.save(ch)
	})
}

// unpack takes out what of one order lies in a carton.
func (r *Shipping) unpack(ch *engine.Change, x *content, who string) error {
	p, o := &x.parcel, x.order
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
	if parcels, err = parcelsWith(ch, p); err != nil {
		return err
	}
	after := contents(parcels, live)
	if err := unpackUnits(o, &s, before, after); err != nil {
		return err
	}
	if err := ch.UnpackSerials(p.ID); err != nil {
		return err
	}
	if err := r.labelSettled(ch, p.ID, o.ID, who); err != nil {
		return err
	}
	if err := saveParcel(ch, p); err != nil {
		return err
	}
	if err := r.NoteOrder(ch, o, who, "unpacked", "Parcel %s unpacked", p.Number); err != nil {
		return err
	}
	return r.Orders.SaveOrder(ch, o)
}

// unpackUnits notes on an order which of its units lie in no parcel any more: those that lay in one before, and not after.
func unpackUnits(o *order.Order, s *store.Shipment, before, after map[lineItem]int64) error {
	for _, line := range lineIDs(s) {
		if n := wholeUnits(s, line, before) - wholeUnits(s, line, after); n > 0 {
			if err := o.Unpack(line, min(n, o.Line(line).Packed)); err != nil {
				return engine.OrderStateError(err)
			}
		}
	}
	return nil
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
	from := r.From(&p, o)
	to := o.ShipTo
	if to.Email == "" {
		to.Email = o.Record.BuyerEmail
	}
	out := message.Parcel{Reference: p.Number, From: from, To: to, WeightG: p.WeightG, LengthMM: p.LengthMM, WidthMM: p.WidthMM,
		HeightMM: p.HeightMM, OrderRef: o.Number, Test: c.Rec().Test, Handover: r.handoverDay(c, p.LocationID)}
	r.billTo(&out, o, c)
	return out
}

// From is whom a parcel comes from: the sender of its order's channel, at the place that sends it.
func (r *Shipping) From(p *store.Parcel, o *order.Order) place.Address {
	from := r.Place(p.LocationID).Address
	s, ok := r.SenderOf(o)
	if !ok {
		return from
	}
	if own := r.senderAddress(s.Code); own.Address != (place.Address{}) {
		from = own.Address
	}
	return s.From(from)
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
