package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/core/routing"
)

// KeptPlan is how the units of an order were placed the last time: what was asked, by which policy, and what came out.
type KeptPlan struct {
	OrderID  int64            `json:"-"`
	At       int64            `json:"-"` // Unix microseconds
	Question routing.Question `json:"question"`
	Policy   routing.Policy   `json:"policy"`
	Plan     routing.Plan     `json:"plan"`
}

// PutPlan keeps how an order was planned, in place of what was kept of it before. A plan by which nothing is sent does not take the place
// of one, and of one that goes on with what waited only that is kept how much still waits.
func (t *Tx) PutPlan(k *KeptPlan, goesOn bool, now time.Time) error {
	waits := k.Plan.Waiting()
	if goesOn {
		_, err := t.exec("UPDATE order_plan SET waits=? WHERE order_id=?", waits, k.OrderID)
		return err
	}
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	then := "UPDATE SET at=excluded.at, waits=excluded.waits, plan=excluded.plan"
	if len(k.Plan.Entries) == 0 {
		then = "UPDATE SET waits=excluded.waits"
	}
	_, err = t.exec("INSERT INTO order_plan (order_id, at, waits, plan) VALUES (?,?,?,?) ON CONFLICT (order_id) DO "+then,
		k.OrderID, micros(now), waits, string(text))
	return err
}

type planRow struct {
	OrderID int64  `db:"order_id"`
	At      int64  `db:"at"`
	Plan    string `db:"plan"`
}

func (r *planRow) read() (KeptPlan, error) {
	k := KeptPlan{OrderID: r.OrderID, At: r.At}
	if err := json.Unmarshal([]byte(r.Plan), &k); err != nil {
		return k, fmt.Errorf("plan of order %d: %w", r.OrderID, err)
	}
	return k, nil
}

// PlanOf is how an order was planned; ErrNotFound: it had no choice, or nothing is kept of it any more.
func (s *Store) PlanOf(ctx context.Context, orderID int64) (KeptPlan, error) {
	var row planRow
	if err := s.read.GetContext(ctx, &row, "SELECT order_id, at, plan FROM order_plan WHERE order_id=?", orderID); err != nil {
		return KeptPlan{}, found(err)
	}
	return row.read()
}

// NewestPlans lists the plans of orders before one, the newest order first.
func (s *Store) NewestPlans(ctx context.Context, before int64, limit int) ([]KeptPlan, error) {
	var rows []planRow
	if err := s.read.SelectContext(ctx, &rows,
		"SELECT order_id, at, plan FROM order_plan WHERE order_id<? ORDER BY order_id DESC LIMIT ?", before, limit); err != nil {
		return nil, err
	}
	out := make([]KeptPlan, len(rows))
	for i := range rows {
		var err error
		if out[i], err = rows[i].read(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// PlaceLoads counts the orders to which something is promised at each location, and has not left.
func (s *Store) PlaceLoads(ctx context.Context) (map[int64]int64, error) {
	var rows []struct {
		Location int64 `db:"location_id"`
		Orders   int64 `db:"orders"`
	}
	if err := s.read.SelectContext(ctx, &rows,
		"SELECT location_id, count(DISTINCT order_id) AS orders FROM allocation GROUP BY location_id"); err != nil {
		return nil, err
	}
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.Location] = r.Orders
	}
	return out, nil
}

// untouched are orders of which something may be that nobody has begun on.
const untouched = "o.stage IN ('ready','held','routed','picking','packed','part shipped') AND o.voided=0 AND o.test=0"

// DueOrder is an order with when it was promised for.
type DueOrder struct {
	ID  int64 `db:"id" json:"id"`
	Due int64 `db:"due_at" json:"due"` // see order.Due; microseconds
}

// OrdersPromisedAt lists orders to which a location (0: any) has promised something that perhaps nobody has begun on, the oldest promise
// first, after one.
func (s *Store) OrdersPromisedAt(ctx context.Context, location int64, after DueOrder, limit int) (out []DueOrder, err error) {
	has := `o.id IN (SELECT a.order_id FROM allocation a INDEXED BY allocation_place WHERE a.location_id=?1)`
	if location == 0 {
		has = `?1=0 AND EXISTS (SELECT 1 FROM order_line l WHERE l.id BETWEEN o.id * 1024 AND o.id * 1024 + 1023 AND l.allocated>0)`
	}
	err = s.selector(ctx)(&out, "SELECT o.id, o.due_at FROM orders o WHERE "+has+" AND "+untouched+
		" AND (o.due_at, o.id) > (?2, ?3) ORDER BY o.due_at, o.id LIMIT ?4", location, after.Due, after.ID, limit)
	return out, err
}

// OrdersUntouched loads those of some orders of which perhaps something is that nobody has begun on, the oldest promise first.
func (t *Tx) OrdersUntouched(ids []int64) ([]*order.Order, error) {
	in, args := list(ids)
	return loadOrders(t.sel, `id IN (SELECT o.id FROM orders o WHERE o.id IN (`+in+`) AND `+untouched+`) ORDER BY due_at, id`, args...)
}

// OrdersPromisedItem lists orders to which a location has promised an item, newest first: those on which nobody has begun, or those on
// which
// somebody has.
func (t *Tx) OrdersPromisedItem(location, item int64, begun bool, limit int) ([]*order.Order, error) {
	return loadOrders(t.sel, `id IN (SELECT DISTINCT a.order_id FROM allocation a JOIN orders o ON o.id=a.order_id WHERE a.location_id=?
		AND a.item_id=? AND a.quantity>0 AND `+untouched+` AND o.routed=?
		ORDER BY a.order_id DESC LIMIT ?) ORDER BY id DESC`, location, item, begun, limit)
}
