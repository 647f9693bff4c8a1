package store

import (
	"context"
	"time"

	"openrelay/internal/core/journey"
)

// ParcelEvent is what a carrier says of a parcel on its way.
type ParcelEvent struct {
	ParcelID int64  `db:"parcel_id"`
	At       int64  `db:"at"`
	State    string `db:"state"`
	Text     string `db:"text"`
	Place    string `db:"place"`
	ToldAt   int64  `db:"told_at"` // when it happened as the carrier says, also where that is in the future
	CameAt   int64  `db:"came_at"`
}

// Event is it as the core has it.
func (e ParcelEvent) Event() journey.Event {
	return journey.Event{State: journey.State(e.State), Text: e.Text, Where: e.Place, At: Time(e.At)}
}

// AddParcelEvent keeps what a carrier says of a parcel, and tells whether it was not known.
func (t *Tx) AddParcelEvent(e ParcelEvent) (isNew bool, err error) {
	n, err := t.exec(`INSERT INTO parcel_event (parcel_id, at, state, text, place, told_at, came_at) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT DO NOTHING`, e.ParcelID, e.At, e.State, e.Text, e.Place, e.ToldAt, e.CameAt)
	return n > 0, err
}

const parcelEvents = "SELECT parcel_id, at, state, text, place, told_at, came_at FROM parcel_event WHERE parcel_id=? ORDER BY at, came_at"

// ParcelEvents lists what is known of a parcel's way, in the order in which it happened.
func (t *Tx) ParcelEvents(parcel int64) (out []ParcelEvent, err error) {
	return out, t.sel(&out, parcelEvents, parcel)
}

// ParcelEvents lists what is known of a parcel's way, in the order in which it happened.
func (s *Store) ParcelEvents(ctx context.Context, parcel int64) (out []ParcelEvent, err error) {
	return out, s.read.SelectContext(ctx, &out, parcelEvents, parcel)
}

// DropParcelEvents forgets the way of a parcel whose number does not stand any more.
func (t *Tx) DropParcelEvents(parcel int64) error {
	_, err := t.exec("DELETE FROM parcel_event WHERE parcel_id=?", parcel)
	return err
}

// ParcelsToWatch lists parcels that are to be looked at by a moment, the longest due first.
func (t *Tx) ParcelsToWatch(now time.Time, limit int) ([]Parcel, error) {
	return parcelsWhere(t.sel, "p.watch_at<>0 AND p.watch_at<=? ORDER BY p.watch_at LIMIT ?", micros(now), limit)
}

// NextWatch is when the next parcel is to be looked at; the zero time: none is.
func (s *Store) NextWatch(ctx context.Context) (time.Time, error) {
	var at int64
	err := s.read.GetContext(ctx, &at, "SELECT coalesce(min(watch_at),0) FROM parcel WHERE watch_at<>0")
	return Time(at), err
}

// Gaps are the times between two events of parcels of a service, of the newest of them that arrived.
func (s *Store) Gaps(ctx context.Context, carrier int64, service string, parcels int) ([]time.Duration, error) {
	var rows []struct {
		Parcel int64 `db:"parcel_id"`
		At     int64 `db:"at"`
	}
	if err := s.read.SelectContext(ctx, &rows, `SELECT e.parcel_id, e.at FROM (SELECT id FROM parcel WHERE carrier_id=?1 AND carrier_id<>0
		AND service=?2 AND state='delivered' ORDER BY id DESC LIMIT ?3) p JOIN parcel_event e ON e.parcel_id=p.id
		ORDER BY e.parcel_id, e.at`,
		carrier, service, parcels); err != nil {
		return nil, err
	}
	var out []time.Duration
	for i := 1; i < len(rows); i++ {
		if rows[i].Parcel == rows[i-1].Parcel {
			out = append(out, time.Duration(rows[i].At-rows[i-1].At)*time.Microsecond)
		}
	}
	return out, nil
}

// Transit is how a parcel arrived, for the reports.
type Transit struct {
	Week, Service, Region string // Monday of its week, YYYY-MM-DD; region: country and the first two of the postcode
	Carrier               int64
	Promised, InTime      bool
	Hours                 int64 // from hand-over to the door
}

// AddTransit counts a parcel that arrived.
func (t *Tx) AddTransit(x Transit) error {
	_, err := t.exec(`INSERT INTO transit_sum (week, carrier_id, service, region, delivered, promised, in_time, hours)
		VALUES (?,?,?,?,1,?,?,?) ON CONFLICT DO UPDATE SET delivered=delivered+1, promised=promised+excluded.promised,
		in_time=in_time+excluded.in_time, hours=hours+excluded.hours`, x.Week, x.Carrier, x.Service, x.Region, x.Promised, x.InTime,
		x.Hours)
	return err
}

// Claim is what is asked of a carrier for a parcel. States: noted, sent, granted, declined, paid.
type Claim struct {
	ParcelID  int64  `db:"parcel_id"`
	State     string `db:"state"`
	Amount    int64  `db:"amount"` // minor units
	Currency  string `db:"currency"`
	Note      string `db:"note"`
	MadeBy    string `db:"made_by"`
	MadeAt    int64  `db:"made_at"`
	ChangedAt int64  `db:"changed_at"`
}

// PutClaim writes a claim.
func (t *Tx) PutClaim(c Claim) error {
	_, err := t.exec(`INSERT INTO claim (parcel_id, state, amount, currency, note, made_by, made_at, changed_at) VALUES (?,?,?,?,?,?,?,?)
		ON CONFLICT (parcel_id) DO UPDATE SET state=excluded.state, amount=excluded.amount, currency=excluded.currency, note=excluded.note,
		changed_at=excluded.changed_at`, c.ParcelID, c.State, c.Amount, c.Currency, c.Note, c.MadeBy, c.MadeAt, c.ChangedAt)
	return err
}

const claimQuery = "SELECT parcel_id, state, amount, currency, note, made_by, made_at, changed_at FROM claim "

// ClaimOf is the claim about a parcel.
func (s *Store) ClaimOf(ctx context.Context, parcel int64) (c Claim, err error) {
	err = found(s.read.GetContext(ctx, &c, claimQuery+"WHERE parcel_id=?", parcel))
	return c, err
}

// ClaimOf is the claim about a parcel.
func (t *Tx) ClaimOf(parcel int64) (c Claim, err error) {
	return c, t.get(&c, claimQuery+"WHERE parcel_id=?", parcel)
}

// Claims lists claims, the last changed first.
func (s *Store) Claims(ctx context.Context, limit int) (out []Claim, err error) {
	return out, s.read.SelectContext(ctx, &out, claimQuery+"ORDER BY changed_at DESC LIMIT ?", limit)
}
