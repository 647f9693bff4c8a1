package store

import (
	"context"
	"time"
)

// States of a line of a carrier's bill.
const (
	BillAgrees   = "agrees"   // as it was asked
	BillDiffers  = "differs"  // more or less than was asked: a person looks
	BillUnknown  = "unknown"  // of no parcel of ours: a person looks
	BillAccepted = "accepted" // a person says that it is right
	BillDisputed = "disputed" // a person says that it is not
)

// BillLine is a line of a carrier's bill.
type BillLine struct {
	ID        int64  `db:"id"`
	CarrierID int64  `db:"carrier_id"` // 0: not known
	Bill      string `db:"bill"`       // the carrier's number of it
	Tracking  string `db:"tracking"`
	ParcelID  int64  `db:"parcel_id"`  // 0: it is about none of ours
	RequestID int64  `db:"request_id"` // of a partner's bill; 0: it is about no request
	What      string `db:"what"`
	Amount    int64  `db:"amount"` // minor units
	Currency  string `db:"currency"`
	WeightG   int64  `db:"weight_g"`
	State     string `db:"state"`
	Why       string `db:"why"`  // it differs
	Note      string `db:"note"` // of whoever accepted or disputed it
	At        int64  `db:"at"`

	Carrier string `db:"carrier"`
	Parcel  string `db:"parcel"`
	Request string `db:"request"`
	Order   string `db:"order_number"`
	Asked   int64  `db:"asked"`  // when the label of its parcel was bought
	Billed  int64  `db:"billed"` // for its parcel, by all bills
}

const billQuery = `SELECT b.id, b.carrier_id, b.bill, b.tracking, b.parcel_id, b.request_id, b.what, b.amount, b.currency, b.weight_g,
	b.state,
  b.why, b.note,
	b.at, coalesce(c.name,'') AS carrier, coalesce(p.number,'') AS parcel, coalesce(q.number,'') AS request,
	coalesce(o.number,'') AS order_number, coalesce(q.cost,p.price,0) AS asked, coalesce(q.billed,p.billed,0) AS billed
	FROM bill_line b LEFT JOIN connection c ON c.id=b.carrier_id AND b.carrier_id<>0 LEFT JOIN parcel p ON p.id=b.parcel_id AND
		b.parcel_id<>0
	LEFT JOIN request q ON q.id=b.request_id AND b.request_id<>0
	LEFT JOIN shipment s ON s.id=p.shipment_id LEFT JOIN orders o ON o.id=coalesce(q.order_id, s.order_id) `

// BillLines lists lines of bills in some states (none: all), newest first.
func (s *Store) BillLines(ctx context.Context, states []string, before int64, limit int) (out []BillLine, err error) {
	out = []BillLine{}
	return out, s.read.SelectContext(ctx, &out, billQuery+`WHERE (json_array_length(?1)=0 OR b.state IN (SELECT value FROM json_each(?1)))
		AND (?2=0 OR b.id<?2) ORDER BY b.id DESC LIMIT ?3`, jsonList(states), before, limit)
}

// BillLine is one line.
func (t *Tx) BillLine(id int64) (b BillLine, err error) {
	return b, t.get(&b, billQuery+"WHERE b.id=?", id)
}

// BilledFor lists the lines about a parcel, in the order in which they came.
func (t *Tx) BilledFor(parcel int64) (out []BillLine, err error) {
	return out, t.sel(&out, billQuery+"WHERE b.parcel_id=? AND b.parcel_id<>0 ORDER BY b.id", parcel)
}

// BilledForRequest lists the lines about a request, in the order in which they came.
func (t *Tx) BilledForRequest(request int64) (out []BillLine, err error) {
	return out, t.sel(&out, billQuery+"WHERE b.request_id=? AND b.request_id<>0 ORDER BY b.id", request)
}

// BillLineKnown tells whether a line was read before.
func (s *Store) BillLineKnown(ctx context.Context, b BillLine) (known bool, err error) {
	err = s.read.GetContext(ctx, &known, `SELECT EXISTS (SELECT 1 FROM bill_line WHERE bill=? AND tracking=? AND what=? AND amount=?
		AND weight_g=?)`, b.Bill, b.Tracking, b.What, b.Amount, b.WeightG)
	return known, err
}

// AddBillLine writes a line, and tells whether it was not known.
func (t *Tx) AddBillLine(b *BillLine, now time.Time) (isNew bool, err error) {
	n, err := t.exec(`INSERT INTO bill_line (carrier_id, bill, tracking, parcel_id, request_id, what, amount, currency, weight_g, state, at)
		VALUES (?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO NOTHING`, b.CarrierID, b.Bill, b.Tracking, b.ParcelID, b.RequestID, b.What, b.Amount,
		b.Currency, b.WeightG, b.State, micros(now))
	if err != nil || n == 0 {
		return false, err
	}
	return true, t.get(&b.ID, "SELECT last_insert_rowid()")
}

// SetBillLine writes how a line stands.
func (t *Tx) SetBillLine(b BillLine) error {
	_, err := t.exec("UPDATE bill_line SET state=?, why=?, note=?, parcel_id=?, request_id=?, carrier_id=? WHERE id=?", b.State, b.Why,
		b.Note, b.ParcelID, b.RequestID, b.CarrierID, b.ID)
	return err
}

// OpenBills counts what of a carrier's bills wants a look: lines that differ, and lines about no parcel of ours.
func (t *Tx) OpenBills(carrier int64) (differs, unknown int64, err error) {
	if err = t.get(&differs, "SELECT count(*) FROM bill_line WHERE state='differs' AND carrier_id=?", carrier); err != nil {
		return 0, 0, err
	}
	return differs, unknown, t.get(&unknown, "SELECT count(*) FROM bill_line WHERE state='unknown' AND carrier_id=?", carrier)
}
