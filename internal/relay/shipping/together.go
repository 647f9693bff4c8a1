package shipping

import (
	"context"
	"fmt"
	"slices"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// part is a shipment of those that travel together, with its order and its parcels.
type part struct {
	shipment store.Shipment
	order    *order.Order
	parcels  []store.Parcel
}

type parts []part

// loadParts loads a shipment, and after it those that travel with it and may still be packed.
func loadParts(ch *engine.Change, number string) (parts, error) {
	s, err := ch.Shipment(number)
	if err != nil {
		return nil, err
	}
	all, err := ch.ShipmentsTogether(s.Together)
	if err != nil {
		return nil, err
	}
	all = append([]store.Shipment{s}, slices.DeleteFunc(all, func(x store.Shipment) bool { return x.ID == s.ID })...)
	out := make(parts, len(all))
	for i, x := range all {
		out[i].shipment = x
		if out[i].order, err = ch.Order(x.OrderID); err != nil {
			return nil, err
		}
		if out[i].parcels, err = ch.ParcelsOf(x.ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// toPick are those of which something lies in no parcel yet.
func (p parts) toPick() parts {
	return slices.DeleteFunc(slices.Clone(p), func(x part) bool { return x.shipment.State != store.ToPick })
}

// unpicked says what of a part is still to be picked, and what can be done where that is another order's.
func (p parts) unpicked(i int, n int64, sku string) error {
	text := fmt.Sprintf("%d × %s is still to be picked", n, sku)
	if i > 0 {
		text = fmt.Sprintf("order %s travels with it, and %s for that; pick it first, pack only some units, or let it travel alone",
			p[i].order.Number, text)
	}
	return &engine.Refused{Text: text, Conflict: true}
}

// openCarton loads a carton that others are put into.
func openCarton(ch *engine.Change, number string, parts parts) (carton, error) {
	c, err := loadCarton(ch, number)
	if err != nil {
		return nil, err
	}
	p := c.own()
	if p.State != store.ToShip {
		return nil, &engine.Refused{Text: fmt.Sprintf("Parcel %s is %s; nothing more goes into it", p.Number, p.State), Conflict: true}
	}
	for i := range c {
		for k := range parts {
			if parts[k].order.ID == c[i].order.ID {
				parts[k].order = c[i].order // one order, whichever way it was found
			}
		}
	}
	own, err := ch.ShipmentByID(p.ShipmentID)
	if err != nil {
		return nil, err
	}
	same := slices.ContainsFunc(parts, func(x part) bool { return x.shipment.ID == own.ID })
	if !same && (own.Together == 0 || own.Together != parts[0].shipment.Together) {
		return nil, &engine.Refused{Text: fmt.Sprintf("Parcel %s is of another shipment, which does not travel with this one", p.Number),
			Conflict: true}
	}
	return c, nil
}

// TravelCompanion is an order that may be sent together with another, to the same recipient.
type TravelCompanion struct {
	Order    string   `json:"order"`
	Channel  string   `json:"channel"`
	Stage    string   `json:"stage"`
	Units    int64    `json:"units"`
	Shipment string   `json:"shipment,omitempty" doc:"Number of its open shipment that travels with the order"`
	Place    string   `json:"place,omitempty" doc:"Where both are sent from"`
	Together bool     `json:"together" doc:"They travel together already"`
	Reasons  []string `json:"reasons" doc:"What they have in common"`
	Mind     []string `json:"mind" doc:"In what they differ that whoever sends them should know"`
	Why      string   `json:"why,omitempty" doc:"Why they cannot be sent together now"`
}

// Companions lists the open orders that may be sent together with an order, the oldest first.
func (r *Shipping) Companions(ctx context.Context, number string) ([]TravelCompanion, error) {
	o, err := r.Store.OrderByNumber(ctx, number)
	if err != nil {
		return nil, err
	}
	others, err := r.Store.OrdersTo(ctx, o)
	if err != nil || len(others) == 0 {
		return nil, err
	}
	company, err := r.Company(ctx)
	if err != nil {
		return nil, err
	}
	mine, err := r.openPlaces(ctx, o)
	if err != nil {
		return nil, err
	}
	var out []TravelCompanion
	for _, other := range others {
		c, ok := order.TravelsWith(o, other, company.Together, r.Zone())
		theirs, err := r.openPlaces(ctx, other)
		if err != nil {
			return nil, err
		}
		x := TravelCompanion{Order: other.Number, Channel: r.connectionName(other.ConnectionID), Stage: string(other.Stage()),
			Reasons: c.Reasons, Mind: append([]string{}, c.Mind...), Why: c.Why}
		for i := range other.Lines {
			x.Units += other.Lines[i].Live()
		}
		r.placeTogether(&x, mine, theirs)
		if ok || x.Together {
			if a, b := r.senderOf(o), r.senderOf(other); a != b {
				x.Mind = append(x.Mind, fmt.Sprintf("it goes out in the name of %s, this one in that of %s", b, a))
			}
			out = append(out, x)
		}
	}
	return out, nil
}

// openPlace is a place where something of an order waits to be sent, with its open shipment there.
type openPlace struct {
	location, together int64
	shipment           string
}

// openPlaces are the places where something of an order waits to be sent.
func (r *Shipping) openPlaces(ctx context.Context, o *order.Order) (out []openPlace, err error) {
	list, err := r.Store.ShipmentsOfOrder(ctx, o.ID)
	if err != nil {
		return nil, err
	}
	for i := range list {
		if s := &list[i]; s.State == store.ToPick || s.State == store.ToShip {
			out = append(out, openPlace{s.LocationID, s.Together, s.Number})
		}
	}
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			if !slices.ContainsFunc(out, func(x openPlace) bool { return x.location == a.Location }) {
				out = append(out, openPlace{location: a.Location})
			}
		}
	}
	return out, nil
}

// placeTogether says where an order and its companion are sent from, and whether they travel together already.
func (r *Shipping) placeTogether(x *TravelCompanion, mine, theirs []openPlace) {
	for _, a := range mine {
		for _, b := range theirs {
			if a.location != b.location {
				continue
			}
			x.Place, x.Shipment = r.PlaceName(a.location), b.shipment
			if x.Together = a.together != 0 && a.together == b.together; x.Together {
				return
			}
		}
	}
	if x.Place == "" && x.Why == "" && len(mine) > 0 && len(theirs) > 0 {
		x.Why = fmt.Sprintf("it lies at %s, this one at %s", r.PlaceName(theirs[0].location), r.PlaceName(mine[0].location))
	}
}

// senderOf is in whose name an order is sent.
func (r *Shipping) senderOf(o *order.Order) string {
	if c := r.ByID(o.ConnectionID); c != nil {
		if s, ok := r.Sender(c.Settings().Sender); ok {
			return s.Name
		}
	}
	return "the place"
}

// SendTogether lets orders to one recipient travel together, from a place where something of all of them waits. They are picked and
// packed as they are, and lie in the same cartons; each channel hears of its own. One order that cannot refuses it all.
func (r *Shipping) SendTogether(ctx context.Context, number string, others []string, who string) error {
	if len(others) == 0 {
		return engine.Refuse("with: say which other orders")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		list, err := sameRecipient(ch, number, others)
		if err != nil {
			return err
		}
		location, err := r.placeOfAll(ch, list)
		if err != nil {
			return err
		}
		shipments := make([]store.Shipment, len(list))
		for i, o := range list {
			if shipments[i], err = r.shipmentAt(ch, o, location, who); err != nil {
				return err
			}
		}
		return r.joinShipments(ch, list, shipments, who)
	})
}

// sameRecipient loads orders that go to one recipient and may be worked on.
func sameRecipient(ch *engine.Change, number string, others []string) (list []*order.Order, err error) {
	for _, n := range append([]string{number}, others...) {
		o, err := ch.OrderByNumber(n)
		if err != nil {
			return nil, fmt.Errorf("order %s: %w", n, err)
		}
		if slices.ContainsFunc(list, func(x *order.Order) bool { return x.ID == o.ID }) {
			continue
		}
		if len(list) > 0 {
			if c, ok := order.TravelsWith(list[0], o, order.AnyTogether, ch.Now.Location()); !ok {
				return nil, &engine.Refused{
					Text: fmt.Sprintf("order %s does not go to the same recipient and address as order %s", o.Number,
						list[0].Number),
					Conflict: true,
				}
			} else if c.Why != "" {
				return nil, &engine.Refused{Text: fmt.Sprintf("order %s cannot travel with it: %s", o.Number, c.Why), Conflict: true}
			}
		}
		if err := o.Workable(); err != nil {
			return nil, engine.OrderStateError(err)
		}
		list = append(list, o)
	}
	if len(list) < 2 {
		return nil, engine.Refuse("with: an order travels with another, not with itself")
	}
	return list, nil
}

// placeOfAll is a place where something of each order waits to be sent.
func (r *Shipping) placeOfAll(ch *engine.Change, list []*order.Order) (int64, error) {
	common := map[int64]int{}
	var first []int64
	for i, o := range list {
		here := map[int64]bool{}
		for k := range o.Lines {
			l := &o.Lines[k]
			for _, a := range l.Allocations { // what is allocated, picked or packed, and has not left
				if a.Quantity > 0 && !here[a.Location] {
					here[a.Location] = true
					common[a.Location]++
					if i == 0 {
						first = append(first, a.Location)
					}
				}
			}
		}
	}
	for _, location := range first {
		if common[location] == len(list) {
			return location, nil
		}
	}
	return 0, &engine.Refused{Text: "there is no place where something of all of them waits to be sent", Conflict: true}
}

// shipmentAt is the open shipment of an order at a place; where there is none yet, its picking begins.
func (r *Shipping) shipmentAt(ch *engine.Change, o *order.Order, location int64, who string) (store.Shipment, error) {
	for again := range 2 {
		list, err := ch.ShipmentsOfOrder(o.ID)
		if err != nil {
			return store.Shipment{}, err
		}
		for i := range list {
			if s := &list[i]; s.LocationID == location && (s.State == store.ToPick || s.State == store.ToShip) {
				return *s, nil
			}
		}
		if again == 0 {
			if _, err := r.beginPick(ch, o, who); err != nil {
				return store.Shipment{}, err
			}
			if err := r.Orders.SaveOrder(ch, o); err != nil {
				return store.Shipment{}, err
			}
		}
	}
	return store.Shipment{}, &engine.Refused{Text: fmt.Sprintf("nothing of order %s is left to send from %s", o.Number,
		r.PlaceName(location)), Conflict: true}
}

// joinShipments lets shipments travel together, with those that travel with any of them already.
func (r *Shipping) joinShipments(ch *engine.Change, list []*order.Order, shipments []store.Shipment, who string) error {
	all := slices.Clone(shipments)
	for i := range shipments {
		more, err := ch.ShipmentsTogether(shipments[i].Together)
		if err != nil {
			return err
		}
		for _, s := range more {
			if !slices.ContainsFunc(all, func(x store.Shipment) bool { return x.ID == s.ID }) {
				all = append(all, s)
			}
		}
	}
	together := all[0].ID
	for i := range all {
		together = min(together, all[i].ID)
	}
	for i := range all {
		all[i].Together = together
		ch.Tell("shipment", all[i].Number)
		if err := ch.UpdateShipment(&all[i]); err != nil {
			return err
		}
	}
	for i, o := range list {
		var with []string
		for k, x := range list {
			if k != i {
				with = append(with, x.Number)
			}
		}
		if err := r.NoteOrder(ch, o, who, "together", "Shipment %s travels together with order %s", shipments[i].Number,
			engine.Join(with)); err != nil {
			return err
		}
	}
	return nil
}

// SendAlone lets an order travel alone again. What of it lies in a carton with others is unpacked first.
func (r *Shipping) SendAlone(ctx context.Context, number, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		o, err := ch.OrderByNumber(number)
		if err != nil {
			return err
		}
		n, err := r.partFromOthers(ch, o, who, true)
		if err == nil && n == 0 {
			return &engine.Refused{Text: fmt.Sprintf("order %s travels alone", o.Number), Conflict: true}
		}
		return err
	})
}

// partFromOthers lets the open shipments of an order travel alone and counts them. What lies in a carton with others refuses it, or
// is left as it is.
func (r *Shipping) partFromOthers(ch *engine.Change, o *order.Order, who string, refuse bool) (n int, err error) {
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return 0, err
	}
	for i := range list {
		s := &list[i]
		if s.Together == 0 || s.State != store.ToPick && s.State != store.ToShip {
			continue
		}
		parcels, err := ch.ParcelsOf(s.ID)
		if err != nil {
			return n, err
		}
		shared := slices.IndexFunc(parcels, func(p store.Parcel) bool { return live(&p) && (p.TravelsIn != 0 || p.Riders != "") })
		if shared >= 0 && refuse {
			return n, &engine.Refused{Text: fmt.Sprintf("parcel %s lies in a carton with others; unpack it first", parcels[shared].Number),
				Conflict: true}
		}
		if shared >= 0 {
			continue
		}
		s.Together = 0
		if err := ch.UpdateShipment(s); err != nil {
			return n, err
		}
		ch.Tell("shipment", s.Number)
		n++
		if err := r.NoteOrder(ch, o, who, "alone", "Shipment %s travels alone", s.Number); err != nil {
			return n, err
		}
	}
	return n, nil
}

// SettleTogether lets an order travel alone whose recipient is not that of the others any more.
func (r *Shipping) SettleTogether(ch *engine.Change, o *order.Order) error {
	list, err := ch.ShipmentsOfOrder(o.ID)
	if err != nil {
		return err
	}
	for i := range list {
		others, err := ch.ShipmentsTogether(list[i].Together)
		if err != nil {
			return err
		}
		for k := range others {
			if others[k].OrderID == o.ID {
				continue
			}
			other, err := ch.Order(others[k].OrderID)
			if err != nil {
				return err
			}
			if other.ShipTo.RecipientKey() != o.ShipTo.RecipientKey() {
				_, err = r.partFromOthers(ch, o, "relay", false)
				return err
			}
		}
	}
	return nil
}
