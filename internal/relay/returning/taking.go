package returning

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/gs1"
	"openrelay/internal/core/order"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/returns"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/store"
)

// Returned is units that came back, as they are scanned.
type Returned struct {
	Code     string          `json:"code" maxLength:"200" doc:"What the scanner read: a product, or the serial number of a unit"`
	Quantity int64           `json:"quantity,omitempty" doc:"Units; 0 means one"                                                               minimum:"0"`
	Outcome  returns.Outcome `json:"outcome" doc:"What becomes of them"                                                                         enum:"stock,look,written off"`
	Serial   string          `json:"serial,omitempty" maxLength:"80"  doc:"The unit's serial number, where the code does not have it"`
	Bin      string          `json:"bin,omitempty" maxLength:"80"  doc:"Where they are put"`
	Sure     bool            `json:"sure,omitempty" doc:"The unit is of this order, although its serial number was not noted when it left"`
}

// ScanReturned takes in units that came back. Wrong ones are refused with what may come.
func (r *Returning) ScanReturned(ctx context.Context, number string, g Returned, who string) error {
	if err := known(g.Outcome); err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, o, others, err := loadReturn(ch, number)
		if err != nil {
			return err
		}
		it, serial, qty, err := r.readCode(ch, &x, o, others, g)
		if err != nil {
			return err
		}
		d := x.Decision()
		if err := d.Take(o, others, it.ID, qty, g.Outcome); err != nil {
			return refused(&x, err)
		}
		x.Decided(d)
		if x.ArrivedAt == 0 {
			x.ArrivedAt = ch.Now.UnixMicro()
		}
		if it.Serials {
			if err := r.takeSerial(ch, &x, o, it, serial, g); err != nil {
				return err
			}
		}
		where, err := r.put(ch, &x, o, it, qty, g.Outcome, g.Bin, who)
		if err != nil {
			return err
		}
		text := fmt.Sprintf("%d × %s came back (%s)", qty, it.SKU, x.Number)
		if serial != "" {
			text = fmt.Sprintf("%s %s came back (%s)", it.SKU, serial, x.Number)
		}
		return r.save(ch, &x, o, who, "came back", "%s: %s", text, where)
	})
}

func known(o returns.Outcome) error {
	for _, k := range returns.Outcomes {
		if o == k {
			return nil
		}
	}
	return engine.Refuse("outcome %q: one of stock, look, written off is expected", o)
}

// put lets units that came back lie where they belong: on stock, or in a bin for a look. It says where.
func (r *Returning) put(ch *engine.Change, x *store.GoodsReturn, o *order.Order, it store.Item, qty int64, outcome returns.Outcome, bin,
	who string) (string, error) {
	bin = strings.TrimSpace(bin)
	if bin != "" {
		if err := r.Inventory.KnownBin(ch, x.LocationID, bin); err != nil {
			return "", err
		}
	}
	switch outcome {
	case returns.ToStock:
		if k := catalog.Kind(it.Kind); k == catalog.MadeToOrder || k == catalog.Prepared {
			return "", &engine.Refused{Text: fmt.Sprintf("%s holds no stock; look at it, or write it off", it.SKU), Conflict: true}
		}
		if err := r.post(ch, x, o, it, qty, bin, who); err != nil {
			return "", err
		}
		if bin == "" {
			return "to stock at " + r.PlaceName(x.LocationID), nil
		}
		return "to stock, bin " + bin, nil
	case returns.ToLook:
		x.LookBin = engine.Or(bin, x.LookBin)
		if x.LookBin == "" {
			return "to be looked at", nil
		}
		return "to be looked at, in bin " + x.LookBin, nil
	}
	return "written off", nil
}

// post books units onto the stock of the place where they came back, or takes them off again.
func (r *Returning) post(ch *engine.Change, x *store.GoodsReturn, o *order.Order, it store.Item, qty int64, bin, who string) error {
	book, err := r.Inventory.Book(ch, []int64{it.ID})
	if err != nil {
		return err
	}
	book.Post(stock.Movement{Key: stock.Key{Item: it.ID, Location: x.LocationID}, At: ch.Now, Kind: stock.Return, OnHand: qty, Bin: bin,
		Reason: "came back with " + x.Number, Who: who, DocKind: "order", DocID: o.ID})
	return r.Inventory.Post(ch, book)
}

// readCode finds the item that was scanned among what has left for an order.
func (r *Returning) readCode(ch *engine.Change, x *store.GoodsReturn, o *order.Order, others []returns.Return,
	g Returned) (it store.Item, serial string, qty int64, err error) {
	code, qty, serial, err := picking.Read(strings.TrimSpace(g.Code), g.Quantity)
	if err != nil {
		return it, "", 0, engine.Refuse("%v", err)
	}
	serial, qty = engine.Or(strings.TrimSpace(g.Serial), serial), max(qty, 1)
	var ids []int64
	for _, l := range returns.Sent(o) {
		ids = append(ids, l.ItemID)
	}
	items, err := ch.Items(ids)
	if err != nil {
		return it, "", 0, err
	}
	for _, id := range ids {
		if it := items[id]; strings.EqualFold(code, it.SKU) || gs1.SameGTIN(code, it.GTIN) {
			return it, serial, qty, nil
		}
	}
	for _, id := range ids { // it may be the number of a unit
		if !items[id].Serials {
			continue
		}
		if _, err := ch.Serial(id, code); err == nil {
			return items[id], code, 1, nil
		} else if !errors.Is(err, store.ErrNotFound) {
			return it, "", 0, err
		}
	}
	return it, "", 0, &engine.Refused{Text: fmt.Sprintf("%q did not leave with order %s. Expected %s", engine.Clip(g.Code, 40), o.Number,
		expected(x, o, others, items)), Conflict: true}
}

// expected says what may come back of an order.
func expected(x *store.GoodsReturn, o *order.Order, others []returns.Return, items map[int64]store.Item) string {
	left := returns.Left(o, append(append([]returns.Return(nil), others...), returns.Return{State: returns.Settled, Lines: x.Lines}))
	var out []string
	for _, l := range returns.Sent(o) {
		if n := left[returns.Key{Line: l.LineID, Item: l.ItemID}]; n > 0 {
			out = append(out, fmt.Sprintf("%d × %s", n, items[l.ItemID].SKU))
		}
	}
	if len(out) == 0 {
		return "nothing more: all that has left came back"
	}
	return engine.Join(out)
}

// takeSerial notes that a unit came back: one that left with this order, and has not come back before.
func (r *Returning) takeSerial(ch *engine.Change, x *store.GoodsReturn, o *order.Order, it store.Item, serial string, g Returned) error {
	if serial == "" || g.Quantity > 1 {
		return &engine.Refused{Text: fmt.Sprintf("each %s has a serial number: scan it, one unit after the other", it.SKU), Conflict: true}
	}
	s, err := ch.Serial(it.ID, serial)
	switch {
	case errors.Is(err, store.ErrNotFound) && g.Sure:
		if err := ch.AddSerial(it.ID, serial, x.LocationID, "first seen when it came back", ch.Now); err != nil {
			return err
		}
	case errors.Is(err, store.ErrNotFound):
		return &engine.Refused{Text: fmt.Sprintf("serial number %s of %s is not known; if the unit is of order %s all the same, say that "+
			"you are sure", serial, it.SKU, o.Number), Conflict: true}
	case err != nil:
		return err
	case s.State != "gone":
		return &engine.Refused{Text: fmt.Sprintf("serial number %s of %s has not left: it is %s", serial, it.SKU, inventory.SerialText(s)),
			Conflict: true}
	default:
		if err := leftWith(ch, o, it, s); err != nil {
			return err
		}
	}
	return r.settleSerial(ch, store.ReturnedSerial{ReturnID: x.ID, ItemID: it.ID, Serial: serial, ParcelID: s.ParcelID,
		Outcome: g.Outcome}, x.LocationID)
}

// leftWith refuses a unit that left with another order, or that came back before.
func leftWith(ch *engine.Change, o *order.Order, it store.Item, s store.Serial) error {
	p, err := ch.ParcelByID(s.ParcelID)
	if err != nil {
		return err
	}
	if p.OrderID != o.ID {
		return &engine.Refused{Text: fmt.Sprintf("serial number %s of %s left with parcel %s of order %s, not with %s", s.Serial, it.SKU,
			p.Number, p.OrderNumber, o.Number), Conflict: true}
	}
	before, err := ch.SerialReturned(it.ID, s.Serial, s.ParcelID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	return &engine.Refused{Text: fmt.Sprintf("serial number %s of %s came back with return %s already", s.Serial, it.SKU, before.Return),
		Conflict: true}
}

// settleSerial notes what became of a unit with a serial number. Only what went to stock is here again.
func (r *Returning) settleSerial(ch *engine.Change, x store.ReturnedSerial, location int64) error {
	if err := ch.PutReturnedSerial(x); err != nil {
		return err
	}
	if x.Outcome == returns.ToStock {
		return ch.SerialHere(x.ItemID, x.Serial, location)
	}
	return ch.SerialGone(x.ItemID, x.Serial, x.ParcelID)
}

// MovedReturn is units that came back and of which something else becomes.
type MovedReturn struct {
	Code     string          `json:"code" maxLength:"200" doc:"SKU or barcode of the item, or the serial number of a unit"`
	Quantity int64           `json:"quantity,omitempty" doc:"Units; 0 means one"                                            minimum:"0"`
	From     returns.Outcome `json:"from" doc:"What has become of them so far"                                            enum:"stock,look,written off"`
	To       returns.Outcome `json:"to,omitempty" doc:"What becomes of them; empty: they did not come back after all"             enum:",stock,look,written off"`
	Bin      string          `json:"bin,omitempty" maxLength:"80"  doc:"Where they are put"`
}

// MoveReturned decides anew on units that came back: what was looked at goes to stock or is written off, or a scan is taken back.
func (r *Returning) MoveReturned(ctx context.Context, number string, m MovedReturn, who string) error {
	if err := known(m.From); err != nil {
		return err
	}
	if m.To != "" {
		if err := known(m.To); err != nil {
			return err
		}
	}
	if m.From == m.To {
		return engine.Refuse("to: it is there already")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		x, o, others, err := loadReturn(ch, number)
		if err != nil {
			return err
		}
		it, serial, qty, err := r.readCode(ch, &x, o, others, Returned{Code: m.Code, Quantity: m.Quantity})
		if err != nil {
			return err
		}
		d := x.Decision()
		if err := d.Move(it.ID, qty, m.From, m.To); err != nil {
			return refused(&x, err)
		}
		x.Decided(d)
		if it.Serials {
			if err := r.moveSerials(ch, &x, it, serial, qty, m); err != nil {
				return err
			}
		}
		if m.From == returns.ToStock {
			if err := r.post(ch, &x, o, it, -qty, strings.TrimSpace(m.Bin), who); err != nil {
				return err
			}
		}
		if m.To == "" {
			return r.save(ch, &x, o, who, "taken back", "%d × %s did not come back after all (%s)", qty, it.SKU, x.Number)
		}
		where, err := r.put(ch, &x, o, it, qty, m.To, m.Bin, who)
		if err != nil {
			return err
		}
		return r.save(ch, &x, o, who, "came back", "%d × %s of %s: %s", qty, it.SKU, x.Number, where)
	})
}

// moveSerials decides anew on the unit that is named, or, where none is, on as many as are moved.
func (r *Returning) moveSerials(ch *engine.Change, x *store.GoodsReturn, it store.Item, serial string, qty int64, m MovedReturn) error {
	list, err := ch.SerialsOfReturn(x.ID, it.ID, m.From)
	if err != nil {
		return err
	}
	for _, s := range list {
		if serial != "" && s.Serial != serial || qty == 0 {
			continue
		}
		s.Outcome = m.To
		if err := r.settleSerial(ch, s, x.LocationID); err != nil {
			return err
		}
		qty--
	}
	if qty > 0 {
		return &engine.Refused{Text: fmt.Sprintf("serial number %s of %s is not among what came back so", engine.Or(serial, "?"), it.SKU),
			Conflict: true}
	}
	return nil
}
