package store

import "context"

// How a label by which goods come back stands.
const (
	ReturnLabelAsked   = "asked"
	ReturnLabelBought  = "bought"
	ReturnLabelRefused = "refused"
	ReturnLabelVoiding = "being voided"
	ReturnLabelVoided  = "voided"
)

// ReturnLabel is a label by which goods come back.
type ReturnLabel struct {
	ID        int64  `db:"id"`
	ReturnID  int64  `db:"return_id"`
	CarrierID int64  `db:"carrier_id"`
	Service   string `db:"service"`
	State     string `db:"state"`
	Tracking  string `db:"tracking"`
	Label     string `db:"label"` // JSON of what the carrier answered
	Price     int64  `db:"price"` // minor units
	Currency  string `db:"currency"`
	WeightG   int64  `db:"weight_g"`
	Error     string `db:"error"`
	AskedAt   int64  `db:"asked_at"`
	Journey   string `db:"journey"` // state of its latest event; empty: its carrier said nothing yet
	JourneyAt int64  `db:"journey_at"`
}

// Stands tells whether it is bought, or may be.
func (l *ReturnLabel) Stands() bool {
	return l.State != ReturnLabelRefused && l.State != ReturnLabelVoided
}

const returnLabelQuery = `SELECT id, return_id, carrier_id, service, state, tracking, label, price, currency, weight_g, error, asked_at,
	journey, journey_at FROM return_label `

func oneReturnLabel(sel selector, where string, args ...any) (ReturnLabel, error) {
	var out []ReturnLabel
	err := sel(&out, returnLabelQuery+where+" ORDER BY id DESC LIMIT 1", args...)
	return firstOf(out, err)
}

// ReturnLabel loads the newest label of a return.
func (t *Tx) ReturnLabel(returnID int64) (ReturnLabel, error) {
	return oneReturnLabel(t.sel, "WHERE return_id=?", returnID)
}

// ReturnLabel loads the newest label of a return.
func (s *Store) ReturnLabel(ctx context.Context, returnID int64) (ReturnLabel, error) {
	return oneReturnLabel(s.selector(ctx), "WHERE return_id=?", returnID)
}

// ReturnLabelNumbered loads the label of a return by its tracking number.
func (t *Tx) ReturnLabelNumbered(tracking string) (ReturnLabel, error) {
	return oneReturnLabel(t.sel, "WHERE tracking=? AND tracking<>''", tracking)
}

// AddReturnLabel writes a new label of a return.
func (t *Tx) AddReturnLabel(l *ReturnLabel) (err error) {
	if l.ID, err = t.id("return_label"); err != nil {
		return err
	}
	if _, err = t.exec("INSERT INTO return_label (id, return_id, carrier_id, service, state, asked_at) VALUES (?,?,?,?,?,?)", l.ID,
		l.ReturnID, l.CarrierID, l.Service, l.State, l.AskedAt); err != nil {
		return err
	}
	return t.UpdateReturnLabel(l)
}

// UpdateReturnLabel writes a label of a return.
func (t *Tx) UpdateReturnLabel(l *ReturnLabel) error {
	_, err := t.exec(`UPDATE return_label SET state=?, tracking=?, label=?, price=?, currency=?, weight_g=?, error=?, journey=?,
		journey_at=? WHERE id=?`, l.State, l.Tracking, l.Label, l.Price, l.Currency, l.WeightG, l.Error, l.Journey, l.JourneyAt, l.ID)
	return err
}

// ReturnByID loads a return.
func (t *Tx) ReturnByID(id int64) (GoodsReturn, error) { return oneReturn(t.sel, "r.id=?", id) }
