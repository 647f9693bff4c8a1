package store

import (
	"context"
	"fmt"
	"time"

	"openrelay/internal/core/rules"
)

// Rule is a rule with who changed it last.
type Rule struct {
	ID        int64  `db:"id"`
	Position  int64  `db:"position"`
	Name      string `db:"name"`
	On        bool   `db:"is_on"`
	Condition string `db:"condition"`
	Actions   string `db:"actions"`
	ChangedAt int64  `db:"changed_at"`
	ChangedBy string `db:"changed_by"`
	Revision  int64  `db:"revision"`
}

// Rule is the rule as core knows it.
func (r *Rule) Rule() rules.Rule {
	return rules.Rule{ID: r.ID, Name: r.Name, On: r.On, When: r.Condition, Then: r.Actions}
}

const ruleCols = "id, position, name, is_on, condition, actions, changed_at, changed_by, revision"

// Rules lists all rules in their order.
func (s *Store) Rules(ctx context.Context) ([]Rule, error) {
	out := []Rule{}
	err := s.read.SelectContext(ctx, &out, "SELECT "+ruleCols+" FROM rule ORDER BY position, id")
	return out, err
}

// Rules lists all rules in their order.
func (t *Tx) Rules() ([]Rule, error) {
	out := []Rule{}
	err := t.sel(&out, "SELECT "+ruleCols+" FROM rule ORDER BY position, id")
	return out, err
}

// PutRule adds a rule (id 0), or changes the one that has this id and revision. It returns the id.
func (t *Tx) PutRule(r Rule) (int64, error) {
	if r.ID == 0 {
		var id int64
		err := t.get(&id, `INSERT INTO rule (position, name, is_on, condition, actions, changed_at, changed_by)
			VALUES (?,?,?,?,?,?,?) RETURNING id`,
			r.Position, r.Name, r.On, r.Condition, r.Actions, r.ChangedAt, r.ChangedBy)
		return id, err
	}
	n, err := t.exec(`UPDATE rule SET position=?, name=?, is_on=?, condition=?, actions=?, changed_at=?, changed_by=?,
		revision=revision+1 WHERE id=? AND revision=?`,
		r.Position, r.Name, r.On, r.Condition, r.Actions, r.ChangedAt, r.ChangedBy, r.ID, r.Revision)
	if err == nil && n == 0 {
		return 0, ErrConflict
	}
	return r.ID, err
}

// DropRule removes a rule.
func (t *Tx) DropRule(id int64) error {
	n, err := t.exec("DELETE FROM rule WHERE id=?", id)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// PutFacts keeps what rules look at of an order.
func (t *Tx) PutFacts(facts map[int64]*rules.Facts, ids []int64) error {
	rows := make([][]any, 0, len(ids))
	for _, id := range ids {
		rows = append(rows, []any{id, facts[id].Append(make([]byte, 0, 256))})
	}
	_, err := t.insertMany("INSERT OR REPLACE INTO order_facts (order_id, facts)", 2, rows)
	return err
}

// EachFacts reads the facts of the newest orders, newest first, from one id downwards, and hands each to f. The
// bytes are valid only until f returns. An error of f ends it.
func (s *Store) EachFacts(ctx context.Context, from, to int64, f func(id int64, facts []byte) error) error {
	rows, err := s.read.QueryContext(ctx, `SELECT order_id, facts FROM order_facts WHERE order_id <= ? AND order_id > ?
		ORDER BY order_id DESC`, from, to)
	if err != nil {
		return fmt.Errorf("read facts: %w", err)
	}
	defer rows.Close()
	var id int64
	var b []byte
	for rows.Next() {
		if err := rows.Scan(&id, &b); err != nil {
			return err
		}
		if err := f(id, b); err != nil {
			return err
		}
	}
	return rows.Err()
}

// NewestFacts tells between which ids the facts of the newest n orders lie, and how many there are.
func (s *Store) NewestFacts(ctx context.Context, n int64) (high, low, there int64, err error) {
	if err = s.read.GetContext(ctx, &high, "SELECT coalesce(max(order_id),0) FROM order_facts"); err != nil {
		return
	}
	if err = s.read.GetContext(ctx, &there, "SELECT count(*) FROM (SELECT 1 FROM order_facts ORDER BY order_id DESC LIMIT ?)",
		n); err != nil {
		return
	}
	err = s.read.GetContext(ctx, &low, `SELECT coalesce(min(order_id),1)-1 FROM (SELECT order_id FROM order_facts
		ORDER BY order_id DESC LIMIT ?)`, n)
	return
}

// NumbersOf finds the numbers of orders by their ids.
func (s *Store) NumbersOf(ctx context.Context, ids []int64) (map[int64]string, error) {
	out := make(map[int64]string, len(ids))
	for len(ids) > 0 {
		n := min(len(ids), 512)
		in, args := list(ids[:n])
		var rows []struct {
			ID     int64  `db:"id"`
			Number string `db:"number"`
		}
		if err := s.read.SelectContext(ctx, &rows, "SELECT id, number FROM orders WHERE id IN ("+in+")", args...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.ID] = r.Number
		}
		ids = ids[n:]
	}
	return out, nil
}

// Traits is what rules want to know of an item.
type Traits struct {
	WeightG  int64
	Category string
	Marks    []string

	Serials   bool  // each unit has a number
	LongestMM int64 // of its sides
}

// Traits reads what rules want to know of items.
func (t *Tx) Traits(items []int64) (map[int64]Traits, error) {
	out := make(map[int64]Traits, len(items))
	if len(items) == 0 {
		return out, nil
	}
	in, args := list(items)
	var rows []struct {
		ID       int64  `db:"id"`
		WeightG  int64  `db:"weight_g"`
		Category string `db:"category"`
		Marks    string `db:"marks"`
		Serials  bool   `db:"serials"`
		Longest  int64  `db:"longest"`
	}
	if err := t.sel(&rows, `SELECT i.id, i.weight_g, i.category, i.serials, max(i.length_mm, i.width_mm, i.height_mm)
		AS longest, coalesce((SELECT group_concat(mark, char(31)) FROM item_mark m
		WHERE m.item_id=i.id),'') AS marks FROM item i WHERE i.id IN (`+in+`)`, args...); err != nil {
		return nil, fmt.Errorf("read items: %w", err)
	}
	for _, r := range rows {
		x := Traits{WeightG: r.WeightG, Category: r.Category, Serials: r.Serials, LongestMM: r.Longest}
		if r.Marks != "" {
			x.Marks = splitUnit(r.Marks)
		}
		out[r.ID] = x
	}
	return out, nil
}

// Word keeps as of when a keeper's word about an item is.
func (t *Tx) Word(item, location int64, at time.Time) error {
	_, err := t.exec(`INSERT INTO keeper_word (item_id, location_id, at) VALUES (?,?,?)
		ON CONFLICT (item_id, location_id) DO UPDATE SET at=max(at, excluded.at)`, item, location, micros(at))
	return err
}

// Words reads as of when the keeper's words about all items at a location are.
func (t *Tx) Words(location int64, items []int64) (map[int64]time.Time, error) {
	in, args := list(items)
	var rows []struct {
		Item int64 `db:"item_id"`
		At   int64 `db:"at"`
	}
	err := t.sel(&rows, "SELECT item_id, at FROM keeper_word WHERE location_id=? AND item_id IN ("+in+")",
		append([]any{location}, args...)...)
	out := make(map[int64]time.Time, len(rows))
	for _, r := range rows {
		out[r.Item] = Time(r.At)
	}
	return out, err
}
