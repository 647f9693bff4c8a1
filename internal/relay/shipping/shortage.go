package shipping

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"openrelay/internal/core/order"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// Missing is that units of an item are not where they should lie.
type Missing struct {
	Code     string `json:"code" maxLength:"200" doc:"SKU or barcode of the item"`
	Quantity int64  `json:"quantity" doc:"Units that are not there"                               minimum:"1"`
	Bin      string `json:"bin,omitempty" maxLength:"80"  doc:"Where they are not; empty: where the item usually lies"`
}

// Shortage is what was made of units that are not there.
type Shortage struct {
	Text      string `json:"text"`
	Bin       string `json:"bin,omitempty" doc:"Where the item lies, too: the units are taken from there"`
	Elsewhere int64  `json:"elsewhere" doc:"Units that another place sends instead"`
	Waiting   int64  `json:"waiting" doc:"Units for which there is no stock anywhere; the order waits"`
	Expected  int64  `json:"expected" doc:"Units of the item that are on order"`

	Waits []ShortLine `json:"waits" doc:"Which lines wait: they can be cancelled, or kept back so that the rest is sent"`
}

// ShortLine is an order's line that waits because units were not there.
type ShortLine struct {
	Order string `json:"order"`
	Line  int64  `json:"line" doc:"Id of the order's line"`
	Units int64  `json:"units"`
	Kept  int64  `json:"kept" doc:"Units of it that are kept back already"`
}

// ReportShort takes in that a picker does not find units: they are taken off the stock at once, so that nobody else is promised
// them, and the bin is to be counted. Where more of the item lies at the place the picker goes there; else the units are planned
// anew: another place sends them, or the order waits.
func (r *Shipping) ReportShort(ctx context.Context, shipment string, m Missing, who string) (out Shortage, err error) {
	if m.Quantity < 1 {
		return out, engine.Refuse("quantity: at least 1 is expected")
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		s, o, err := loadShipment(ch, shipment)
		if err != nil {
			return err
		}
		if s.State != store.ToPick {
			return &engine.Refused{
				Text:     fmt.Sprintf("Shipment %s is %s; nothing of it is to be picked", s.Number, s.State),
				Conflict: true,
			}
		}
		at := r.Place(s.LocationID)
		if at.Keeper != 0 {
			return &engine.Refused{Text: fmt.Sprintf("the stock of %s is kept by %s; it has to be said there", at.Name, r.Code(at.Keeper)),
				Conflict: true}
		}
		wants, err := r.wants(ch.Tx, s, o)
		if err != nil {
			return err
		}
		w, err := picking.Find(wants, m.Code)
		if err != nil {
			return err
		}
		if m.Quantity > w.Left() {
			return &engine.Refused{
				Text:     fmt.Sprintf("%d × %s are still to be picked, not %d", w.Left(), w.SKU, m.Quantity),
				Conflict: true,
			}
		}
		m.Bin = engine.Or(strings.TrimSpace(m.Bin), w.Bin)
		released, err := r.takeOff(ch, &s, o, w, m, who)
		if err != nil {
			return err
		}
		if err := r.askCount(ch, &s, o, w, m, who); err != nil {
			return err
		}
		out = Shortage{Waiting: released, Waits: []ShortLine{}}
		ch.Tell("shipment", s.Number)
		return nil
	})
	if err != nil {
		return out, err
	}
	return out, r.planShort(ctx, shipment, m, &out, who)
}

// takeOff takes missing units off the stock of a place. Those that then are promised and not there are let go of by the order,
// and wait.
func (r *Shipping) takeOff(ch *engine.Change, s *store.Shipment, o *order.Order, w picking.Want, m Missing, who string) (int64, error) {
	ids := map[int64]bool{w.ItemID: true}
	orders.ItemsOf(o, ids)
	book, err := r.Inventory.Book(ch, engine.Keys(ids))
	if err != nil {
		return 0, err
	}
	key := stock.Key{Item: w.ItemID, Location: s.LocationID}
	off, err := shouldLie(ch, key, m, book.Level(key).OnHand)
	if err != nil {
		return 0, err
	}
	if off > 0 {
		book.Post(stock.Movement{Key: key, At: ch.Now, Kind: stock.Adjust, OnHand: -off, Bin: m.Bin,
			Reason: "not found when shipment " + s.Number + " was picked", Who: who, DocKind: "hand"})
	}
	channel := r.ByID(o.ConnectionID)
	if channel == nil {
		return 0, &engine.Refused{Text: fmt.Sprintf("the channel of order %s is gone", o.Number), Conflict: true}
	}
	sc, err := r.Orders.SceneFor(channel, ch, book, who)
	if err != nil {
		return 0, err
	}
	level := book.Level(key)
	lacking := min(m.Quantity, max(0, level.Allocated-level.OnHand))
	released, err := letGo(s, o, w.ItemID, lacking, sc.Scene)
	if err != nil {
		return 0, err
	}
	if released > 0 {
		ch.Mark(engine.StockFreed, w.ItemID) // another place may have them
		ch.Mark(engine.OrderChanged, o.ID)
	}
	if err := r.NoteOrder(ch, o, who, "not found", "%d × %s not found%s at %s", m.Quantity, w.SKU, inBin(m.Bin),
		r.PlaceName(s.LocationID)); err != nil {
		return 0, err
	}
	if err := r.Orders.SaveOrder(ch, o); err != nil {
		return 0, err
	}
	return released, r.Inventory.Post(ch, book)
}

// shouldLie is how many of the missing units should lie there by the stock: no more than its bin has, where it is known what lies
// in which bin. What should not have been there is not missing.
func shouldLie(ch *engine.Change, key stock.Key, m Missing, onHand int64) (int64, error) {
	bins, err := ch.BinLevels([]int64{key.Item})
	if err != nil {
		return 0, err
	}
	there := onHand
	for _, b := range bins {
		if b.LocationID == key.Location && b.Bin == m.Bin && b.Bin != "" {
			there = min(onHand, b.OnHand)
		}
	}
	return max(0, min(m.Quantity, there)), nil
}

// letGo lets an order let go of the units of its lines that want an item and are not picked, as many as are lacking. Of a kit,
// a component that is missing lets go of the whole unit.
func letGo(s *store.Shipment, o *order.Order, item, lacking int64, sc *order.Scene) (released int64, err error) {
	for i := len(s.Lines) - 1; i >= 0 && lacking > 0; i-- {
		sl := &s.Lines[i]
		if sl.ItemID != item || sl.Picked >= sl.Quantity {
			continue
		}
		per := max(sl.Per, 1)
		n := min((min(lacking, sl.Quantity-sl.Picked)+per-1)/per, o.Line(sl.LineID).Allocated)
		if n == 0 {
			continue
		}
		if err := o.Short(sl.LineID, n, s.LocationID, sc, "not found at the place"); err != nil {
			return released, engine.OrderStateError(err)
		}
		lacking -= n * per
		released += n
	}
	return released, nil
}

// askCount asks for the bin to be counted in which something was missing.
func (r *Shipping) askCount(ch *engine.Change, s *store.Shipment, o *order.Order, w picking.Want, m Missing, who string) error {
	ch.Tell("exception", "")
	return ch.Raise(store.Exception{Cause: engine.CountBin, Subject: strings.TrimSpace(w.SKU + " " + m.Bin), ItemID: w.ItemID,
		Text: fmt.Sprintf("%d × %s were not found%s at %s when shipment %s was picked. They were taken off the stock.", m.Quantity, w.SKU,
			inBin(m.Bin), r.PlaceName(s.LocationID), s.Number),
		Expected: "A count of what lies there. Count it, or say that it was.", ConnectionID: o.ConnectionID, Standing: true}, ch.Now)
}

func inBin(bin string) string {
	if bin == "" {
		return ""
	}
	return " in bin " + bin
}

// planShort begins what another place sends, and says what became of the missing units.
func (r *Shipping) planShort(ctx context.Context, shipment string, m Missing, out *Shortage, who string) error {
	s, err := r.Store.Shipment(ctx, shipment)
	if err != nil {
		return err
	}
	if _, err := r.StartPick(ctx, s.OrderNumber, who); err != nil {
		if _, refused := engine.IsRefused(err); !refused {
			return err
		}
	}
	it, err := r.Store.ItemByCode(ctx, m.Code)
	if err != nil {
		return err
	}
	o, err := r.Store.OrderByID(ctx, s.OrderID)
	if err != nil {
		return err
	}
	var waiting int64
	for i := range o.Lines {
		if l := &o.Lines[i]; lineWants(l, it.ID) {
			waiting += l.Waiting()
		}
	}
	out.Elsewhere, out.Waiting = max(0, out.Waiting-waiting), min(out.Waiting, waiting)
	left := out.Waiting
	for i := range o.Lines {
		if l := &o.Lines[i]; lineWants(l, it.ID) && l.Waiting() > 0 && left > 0 {
			n := min(l.Waiting(), left)
			out.Waits = append(out.Waits, ShortLine{Order: o.Number, Line: l.ID, Units: n, Kept: o.Kept(l)})
			left -= n
		}
	}
	levels, err := r.Store.Levels(ctx, []int64{it.ID})
	if err != nil {
		return err
	}
	for _, l := range levels {
		out.Expected += l.OnOrder
	}
	bins, err := r.Store.BinLevels(ctx, []int64{it.ID})
	if err != nil {
		return err
	}
	out.Text = shortText(it.SKU, *out)
	if out.Elsewhere+out.Waiting < m.Quantity {
		out.Bin = otherBin(bins, s.LocationID, m.Bin)
		where := "by the stock there is more at " + r.PlaceName(s.LocationID)
		if out.Bin != "" {
			where = "take them from bin " + out.Bin
		}
		text := fmt.Sprintf("%d × %s: %s", m.Quantity-out.Elsewhere-out.Waiting, it.SKU, where)
		out.Text = strings.TrimSuffix(text+"; "+out.Text, "; ")
	}
	return nil
}

// otherBin is the bin of a place with the most of an item, other than the one in which it was missing.
func otherBin(bins []store.BinRow, location int64, not string) string {
	var best store.BinRow
	for _, b := range bins {
		if b.LocationID == location && b.Bin != not && b.OnHand > best.OnHand {
			best = b
		}
	}
	return best.Bin
}

// lineWants says whether a line takes an item, itself or in a kit.
func lineWants(l *order.Line, item int64) bool {
	return l.ItemID == item || slices.ContainsFunc(l.Parts, func(c stock.Component) bool { return c.Item == item })
}

func shortText(sku string, out Shortage) string {
	text := ""
	if out.Elsewhere > 0 {
		text += fmt.Sprintf("; %d × %s are sent by another place", out.Elsewhere, sku)
	}
	if out.Waiting > 0 {
		text += fmt.Sprintf("; %d × %s wait, no place has them", out.Waiting, sku)
		if out.Expected > 0 {
			text += fmt.Sprintf(" (%d are on order)", out.Expected)
		}
	}
	return strings.TrimPrefix(text, "; ")
}
