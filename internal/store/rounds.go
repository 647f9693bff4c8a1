package store

import (
	"context"
	"encoding/json"
)

// The states of a round.
const (
	RoundOpen   = "picking"
	RoundPicked = "picked"
	RoundApart  = "taken apart"
)

// Round is shipments of one place that are picked in one walk.
type Round struct {
	ID         int64  `db:"id"`
	Number     string `db:"number"`
	LocationID int64  `db:"location_id"`
	State      string `db:"state"`
	Rule       string `db:"rule"`    // code of the rule by which it was made; empty: by hand
	HeldBy     string `db:"held_by"` // who picks it, by id; empty: nobody yet
	Holder     string `db:"holder"`  // what they are called
	MadeBy     string `db:"made_by"`
	CreatedAt  int64  `db:"created_at"`
	EndedAt    int64  `db:"ended_at"`
	Revision   int64  `db:"revision"`
	Slots      []RoundSlot
}

// RoundSlot is a place on the cart, for one shipment.
type RoundSlot struct {
	Slot        int    `db:"slot"`
	ShipmentID  int64  `db:"shipment_id"`
	Shipment    string `db:"shipment"`
	OrderNumber string `db:"order_number"`
	Buyer       string `db:"buyer"`
	State       string `db:"state"`
	Quantity    int64  `db:"quantity"`
	Picked      int64  `db:"picked"`
}

// Done says whether nothing is to be collected into a slot any more.
func (s *RoundSlot) Done() bool { return s.State != ToPick || s.Picked >= s.Quantity }

var roundQuery = `SELECT r.id, r.number, r.location_id, r.state, r.rule, r.held_by, ` + called("r.held_by") + ` AS holder, ` +
	called("r.made_by") + ` AS made_by, r.created_at, r.ended_at, r.revision FROM round r `

func roundsWhere(sel selector, where string, args ...any) ([]Round, error) {
	var out []Round
	if err := sel(&out, roundQuery+"WHERE "+where, args...); err != nil {
		return nil, err
	}
	for i := range out {
		if err := sel(&out[i].Slots, `SELECT x.slot, x.shipment_id, s.number AS shipment, o.number AS order_number, o.buyer, s.state,
			coalesce(sum(l.quantity),0) AS quantity, coalesce(sum(l.picked),0) AS picked FROM round_slot x
			JOIN shipment s ON s.id=x.shipment_id JOIN orders o ON o.id=s.order_id LEFT JOIN shipment_line l ON l.shipment_id=s.id
			WHERE x.round_id=? GROUP BY x.slot ORDER BY x.slot`, out[i].ID); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func oneRound(sel selector, where string, args ...any) (Round, error) {
	return firstOf(roundsWhere(sel, where, args...))
}

// Round loads a round with its slots.
func (t *Tx) Round(number string) (Round, error) { return oneRound(t.sel, "r.number=?", number) }

// Round loads a round with its slots.
func (s *Store) Round(ctx context.Context, number string) (Round, error) {
	return oneRound(s.selector(ctx), "r.number=?", number)
}

// RoundOf loads the open round in which a shipment is picked.
func (t *Tx) RoundOf(shipment int64) (Round, error) {
	return oneRound(t.sel, "r.state='picking' AND r.id IN (SELECT round_id FROM round_slot WHERE shipment_id=?)", shipment)
}

// RoundOf loads the newest round in which a shipment is or was picked.
func (s *Store) RoundOf(ctx context.Context, shipment int64) (Round, error) {
	return oneRound(s.selector(ctx), "r.state<>'taken apart' AND r.id IN (SELECT round_id FROM round_slot WHERE shipment_id=?) "+
		"ORDER BY r.id DESC LIMIT 1", shipment)
}

// ListRounds lists rounds in some states (none: all), newest first.
func (s *Store) ListRounds(ctx context.Context, states []string, before int64, limit int) ([]Round, error) {
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
	return roundsWhere(s.selector(ctx), where+" ORDER BY r.id DESC LIMIT ?", append(args, limit)...)
}

// AddRound writes a new round with its slots, and gives it its number.
func (t *Tx) AddRound(r *Round) (err error) {
	if r.ID, err = t.id("round"); err != nil {
		return err
	}
	if r.Number, err = t.Number("round"); err != nil {
		return err
	}
	if _, err := t.exec("INSERT INTO round (id, number, location_id, state, rule, made_by, created_at) VALUES (?,?,?,?,?,?,?)", r.ID,
		r.Number, r.LocationID, r.State, r.Rule, r.MadeBy, r.CreatedAt); err != nil {
		return err
	}
	for _, s := range r.Slots {
		if _, err := t.exec("INSERT INTO round_slot (round_id, slot, shipment_id) VALUES (?,?,?)", r.ID, s.Slot, s.ShipmentID); err != nil {
			return err
		}
	}
	return nil
}

// UpdateRound writes where a round stands.
func (t *Tx) UpdateRound(r *Round) error {
	r.Revision++
	_, err := t.exec("UPDATE round SET state=?, held_by=?, ended_at=?, revision=? WHERE id=?", r.State, r.HeldBy, r.EndedAt, r.Revision,
		r.ID)
	return err
}

// DropSlot takes a shipment off a round.
func (t *Tx) DropSlot(round int64, slot int) error {
	_, err := t.exec("DELETE FROM round_slot WHERE round_id=? AND slot=?", round, slot)
	return err
}

// RoundRule says what goes into a round.
type RoundRule struct {
	Code       string   `db:"code" json:"code"`
	Name       string   `db:"name" json:"name"`
	LocationID int64    `db:"location_id" json:"-"`
	Location   string   `db:"location" json:"location" doc:"Code of the place"`
	Slots      int      `db:"slots" json:"slots"    doc:"Slots on the cart"`
	Services   []string `db:"-" json:"services" doc:"Words of service that the buyers wished for; none: any"`
	Units      int      `db:"units" json:"units"    doc:"0: any order; 1: orders of a single unit; 2: all others" enum:"0,1,2"`
	Today      bool     `db:"today" json:"today"    doc:"Only what should leave today, by the hours of the place"`
	Revision   int64    `db:"revision" json:"revision"`

	ServicesText string `db:"services" json:"-"`
}

// RoundRules lists the rules by which rounds are made.
func (s *Store) RoundRules(ctx context.Context) ([]RoundRule, error) {
	out := []RoundRule{}
	if err := s.read.SelectContext(ctx, &out, `SELECT r.code, r.name, r.location_id, l.code AS location, r.slots, r.services, r.units,
		r.today, r.revision FROM round_rule r JOIN location l ON l.id=r.location_id ORDER BY r.code`); err != nil {
		return nil, err
	}
	for i := range out {
		if err := json.Unmarshal([]byte(out[i].ServicesText), &out[i].Services); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PutRoundRule writes a rule; one of the same code is replaced.
func (t *Tx) PutRoundRule(r RoundRule) error {
	services, err := json.Marshal(append([]string{}, r.Services...))
	if err != nil {
		return err
	}
	_, err = t.exec(`INSERT INTO round_rule (code, name, location_id, slots, services, units, today) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT (code) DO UPDATE SET name=excluded.name, location_id=excluded.location_id, slots=excluded.slots,
		services=excluded.services, units=excluded.units, today=excluded.today, revision=revision+1`, r.Code, r.Name, r.LocationID, r.Slots,
		services, r.Units, r.Today)
	return err
}

// DropRoundRule removes a rule and says whether there was one.
func (t *Tx) DropRoundRule(code string) (bool, error) {
	n, err := t.exec("DELETE FROM round_rule WHERE code=?", code)
	return n > 0, err
}

// ToCollect is an item that is to be picked for an order at a place, and how the order is to be sent.
type ToCollect struct {
	OrderID    int64  `db:"order_id"`
	Service    string `db:"service"`
	ReceivedAt int64  `db:"received_at"`
	ItemID     int64  `db:"item_id"`
	Units      int64  `db:"units"`
}

// ToCollect lists what is to be picked at a place for orders that nobody has begun to pick, or that are in no round yet and of which
// nothing is picked: the orders that came first, at most so many.
func (s *Store) ToCollect(ctx context.Context, location int64, orders int) (out []ToCollect, err error) {
	err = s.read.SelectContext(ctx, &out, `WITH o AS (SELECT o.id, o.record->>'$.requested_service' AS service, o.received_at FROM orders o
		WHERE o.stage IN ('ready','routed') AND o.kind='ship' AND o.test=0 AND EXISTS (SELECT 1 FROM allocation a
		WHERE a.line_id BETWEEN o.id*1024 AND o.id*1024+1023 AND a.location_id=?1)
		AND NOT EXISTS (SELECT 1 FROM shipment s JOIN round_slot x ON x.shipment_id=s.id JOIN round r ON r.id=x.round_id
		WHERE s.order_id=o.id AND s.location_id=?1 AND r.state='picking') ORDER BY o.id LIMIT ?2)
		SELECT o.id AS order_id, coalesce(o.service,'') AS service, o.received_at, a.item_id, sum(a.quantity) AS units FROM o
		JOIN allocation a ON a.line_id BETWEEN o.id*1024 AND o.id*1024+1023 AND a.location_id=?1 GROUP BY o.id, a.item_id
		ORDER BY o.id, a.item_id`, location, orders)
	return out, err
}
