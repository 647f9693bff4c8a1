package store

import (
	"context"

	"openrelay/internal/core/returns"
)

// GoodsReturn is goods of an order that come back.
type GoodsReturn struct {
	ID             int64         `db:"id"`
	Number         string        `db:"number"`
	OrderID        int64         `db:"order_id"`
	OrderNumber    string        `db:"order_number"`
	Buyer          string        `db:"buyer"`
	Currency       string        `db:"currency"`
	LocationID     int64         `db:"location_id"`
	Status         returns.State `db:"state"`
	Reason         string        `db:"reason"`   // what the buyer says
	Remark         string        `db:"note"`     // what we say
	Tracking       string        `db:"tracking"` // of the parcel in which it comes
	LookBin        string        `db:"look_bin"` // where lies what is to be looked at
	ToldBy         int64         `db:"told_by"`  // connection that announced it; 0: a person did
	ToldID         string        `db:"told_id"`
	MadeBy         string        `db:"made_by"`
	CreatedAt      int64         `db:"created_at"`
	ArrivedAt      int64         `db:"arrived_at"`
	SettledAt      int64         `db:"settled_at"`
	Refund         int64         `db:"refund"` // minor units, with tax and shipping
	RefundTax      int64         `db:"refund_tax"`
	RefundShipping int64         `db:"refund_shipping"`
	ExchangeID     int64         `db:"exchange_id"` // order that is sent instead; 0: none
	Exchange       string        `db:"exchange"`
	Revision       int64         `db:"revision"`
	Lines          []returns.Line
}

// Decision is the return as core decides on it. What was decided is taken over with Decided.
func (r *GoodsReturn) Decision() returns.Return {
	return returns.Return{State: r.Status, Lines: r.Lines}
}

// Decided takes over what core decided.
func (r *GoodsReturn) Decided(d returns.Return) { r.Status, r.Lines = d.State, d.Lines }

var returnQuery = `SELECT r.id, r.number, r.order_id, o.number AS order_number, o.buyer, o.currency, r.location_id, r.state, r.reason,
	r.note, r.tracking, r.look_bin, r.told_by, r.told_id, ` + called("r.made_by") + ` AS made_by, r.created_at, r.arrived_at,
	r.settled_at, r.refund, r.refund_tax, r.refund_shipping, r.exchange_id, coalesce(x.number,'') AS exchange, r.revision
	FROM goods_return r JOIN orders o ON o.id=r.order_id LEFT JOIN orders x ON x.id=r.exchange_id `

func returnsWhere(sel selector, where string, args ...any) ([]GoodsReturn, error) {
	var out []GoodsReturn
	if err := sel(&out, returnQuery+"WHERE "+where, args...); err != nil {
		return nil, err
	}
	for i := range out {
		rows := []struct {
			LineID    int64 `db:"line_id"`
			ItemID    int64 `db:"item_id"`
			Per       int64 `db:"per"`
			Announced int64 `db:"announced"`
			Stock     int64 `db:"stock"`
			Look      int64 `db:"look"`
			Off       int64 `db:"off"`
		}{}
		if err := sel(&rows, `SELECT line_id, item_id, per, announced, stock, look, off FROM goods_return_line WHERE return_id=?
			ORDER BY line_id, item_id`, out[i].ID); err != nil {
			return nil, err
		}
		for _, x := range rows {
			out[i].Lines = append(out[i].Lines, returns.Line(x))
		}
	}
	return out, nil
}

func oneReturn(sel selector, where string, args ...any) (GoodsReturn, error) {
	return firstOf(returnsWhere(sel, where, args...))
}

// Return loads a return by its number, or by the number of the parcel in which it comes.
func (t *Tx) Return(number string) (GoodsReturn, error) {
	return oneReturn(t.sel, "r.number=?1 OR (r.tracking=?1 AND r.tracking<>'') ORDER BY r.id DESC LIMIT 1", number)
}

// Return loads a return by its number, or by the number of the parcel in which it comes.
func (s *Store) Return(ctx context.Context, number string) (GoodsReturn, error) {
	return oneReturn(s.selector(ctx), "r.number=?1 OR (r.tracking=?1 AND r.tracking<>'') ORDER BY r.id DESC LIMIT 1", number)
}

// ReturnTold loads the return that a record of a connection announced.
func (t *Tx) ReturnTold(connection int64, record string) (GoodsReturn, error) {
	return oneReturn(t.sel, "r.told_by=? AND r.told_id=? AND r.told_by<>0", connection, record)
}

// ReturnsOfOrder lists the returns of an order, the oldest first.
func (t *Tx) ReturnsOfOrder(order int64) ([]GoodsReturn, error) {
	return returnsWhere(t.sel, "r.order_id=? ORDER BY r.id", order)
}

// ReturnsOfOrder lists the returns of an order, the oldest first.
func (s *Store) ReturnsOfOrder(ctx context.Context, order int64) ([]GoodsReturn, error) {
	return returnsWhere(s.selector(ctx), "r.order_id=? ORDER BY r.id", order)
}

// ListReturns lists returns in some states (none: all), newest first.
func (s *Store) ListReturns(ctx context.Context, states []string, before int64, limit int) ([]GoodsReturn, error) {
	where, args := "1=1", []any{}
	if len(states) > 0 {
		in, stateArgs := list(states)
		where += " AND r.state IN (" + in + ")"
		args = append(args, stateArgs...)
	}
	if before > 0 {
		where += " AND r.id<?"
		args = append(args, before)
	}
	return returnsWhere(s.selector(ctx), where+" ORDER BY r.id DESC LIMIT ?", append(args, limit)...)
}

// ExchangedFor is the number of the return in whose place an order is sent; empty: it is no such order.
func (s *Store) ExchangedFor(ctx context.Context, order int64) (number string, err error) {
	err = s.read.GetContext(ctx, &number, `SELECT coalesce((SELECT number FROM goods_return WHERE exchange_id=? AND exchange_id<>0), '')`,
		order)
	return number, err
}

// AddReturn writes a new return and gives it its number.
func (t *Tx) AddReturn(r *GoodsReturn) (err error) {
	if r.ID, err = t.id("goods_return"); err != nil {
		return err
	}
	if r.Number, err = t.Number("return"); err != nil {
		return err
	}
	if _, err := t.exec(`INSERT INTO goods_return (id, number, order_id, location_id, state, told_by, told_id, made_by, created_at)
		VALUES (?,?,?,?,?,?,?,?,?)`, r.ID, r.Number, r.OrderID, r.LocationID, r.Status, r.ToldBy, r.ToldID, r.MadeBy,
		r.CreatedAt); err != nil {
		return err
	}
	return t.UpdateReturn(r)
}

// UpdateReturn writes a return and its lines.
func (t *Tx) UpdateReturn(r *GoodsReturn) error {
	r.Revision++
	if _, err := t.exec(`UPDATE goods_return SET location_id=?, state=?, reason=?, note=?, tracking=?, look_bin=?, arrived_at=?,
		settled_at=?, refund=?, refund_tax=?, refund_shipping=?, exchange_id=?, revision=? WHERE id=?`, r.LocationID, r.Status, r.Reason,
		r.Remark, r.Tracking, r.LookBin, r.ArrivedAt, r.SettledAt, r.Refund, r.RefundTax, r.RefundShipping, r.ExchangeID, r.Revision,
		r.ID); err != nil {
		return err
	}
	if _, err := t.exec("DELETE FROM goods_return_line WHERE return_id=?", r.ID); err != nil {
		return err
	}
	for _, l := range r.Lines {
		if l.Announced == 0 && l.Came() == 0 {
			continue
		}
		if _, err := t.exec(`INSERT INTO goods_return_line (return_id, line_id, item_id, per, announced, stock, look, off)
			VALUES (?,?,?,?,?,?,?,?)`, r.ID, l.LineID, l.ItemID, max(l.Per, 1), l.Announced, l.Stock, l.Look, l.Off); err != nil {
			return err
		}
	}
	return nil
}

// ReturnedSerial is a unit with a serial number that came back. ParcelID is the parcel in which it had left; 0: nobody noted it.
type ReturnedSerial struct {
	ReturnID int64           `db:"return_id" json:"-"`
	Return   string          `db:"return" json:"-"`
	ItemID   int64           `db:"item_id" json:"-"`
	SKU      string          `db:"sku" json:"sku"`
	Serial   string          `db:"serial" json:"serial"`
	ParcelID int64           `db:"parcel_id" json:"-"`
	Outcome  returns.Outcome `db:"outcome" json:"outcome" enum:"stock,look,written off"`
}

const returnedSerials = `SELECT x.return_id, r.number AS return, x.item_id, i.sku, x.serial, x.parcel_id, x.outcome
	FROM goods_return_serial x JOIN goods_return r ON r.id=x.return_id JOIN item i ON i.id=x.item_id `

// SerialsReturned lists the units with serial numbers that came back with a return.
func (s *Store) SerialsReturned(ctx context.Context, id int64) ([]ReturnedSerial, error) {
	out := []ReturnedSerial{}
	err := s.read.SelectContext(ctx, &out, returnedSerials+"WHERE x.return_id=? ORDER BY i.sku, x.serial", id)
	return out, err
}

// SerialReturned finds the return with which a unit came back that had left in a parcel.
func (t *Tx) SerialReturned(item int64, serial string, parcel int64) (x ReturnedSerial, err error) {
	err = t.get(&x, returnedSerials+"WHERE x.item_id=? AND x.serial=? AND x.parcel_id=?", item, serial, parcel)
	return x, err
}

// SerialsOfReturn lists the units of an item that came back with a return and of which something became, the newest number first.
func (t *Tx) SerialsOfReturn(id, item int64, outcome returns.Outcome) (out []ReturnedSerial, err error) {
	err = t.sel(&out, returnedSerials+"WHERE x.return_id=? AND x.item_id=? AND x.outcome=? ORDER BY x.serial DESC", id, item, outcome)
	return out, err
}

// PutReturnedSerial notes what became of a unit that came back; an empty outcome forgets that it did.
func (t *Tx) PutReturnedSerial(x ReturnedSerial) error {
	if _, err := t.exec("DELETE FROM goods_return_serial WHERE item_id=? AND serial=? AND parcel_id=?", x.ItemID, x.Serial,
		x.ParcelID); err != nil || x.Outcome == "" {
		return err
	}
	_, err := t.exec("INSERT INTO goods_return_serial (return_id, item_id, serial, parcel_id, outcome) VALUES (?,?,?,?,?)", x.ReturnID,
		x.ItemID, x.Serial, x.ParcelID, x.Outcome)
	return err
}

// SerialHere notes that a unit lies at a location again.
func (t *Tx) SerialHere(item int64, serial string, location int64) error {
	_, err := t.exec("UPDATE serial SET state='here', parcel_id=0, location_id=? WHERE item_id=? AND serial=?", location, item, serial)
	return err
}

// SerialGone notes that a unit left in a parcel.
func (t *Tx) SerialGone(item int64, serial string, parcel int64) error {
	_, err := t.exec("UPDATE serial SET state='gone', parcel_id=? WHERE item_id=? AND serial=?", parcel, item, serial)
	return err
}

// ReturnKnown tells whether a return of an order is known that comes in a parcel of a number, and was not called off.
func (t *Tx) ReturnKnown(order int64, tracking string) (known bool, err error) {
	err = t.get(&known, "SELECT EXISTS (SELECT 1 FROM goods_return WHERE order_id=? AND tracking=? AND tracking<>'' AND state<>?)", order,
		tracking, returns.CalledOff)
	return known, err
}
