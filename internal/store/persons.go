package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
)

// CustomersByEmail finds the customers of a connection by their e-mail, and tells which of them bought before.
func (t *Tx) CustomersByEmail(connection int64, emails []string) (ids map[string]int64, returning map[int64]bool, err error) {
	ids, returning = map[string]int64{}, map[int64]bool{}
	if len(emails) == 0 {
		return ids, returning, nil
	}
	in, args := list(emails)
	var rows []struct {
		ID     int64  `db:"id"`
		Email  string `db:"email"`
		Before bool   `db:"before"`
	}
	err = t.sel(&rows, `SELECT id, email, EXISTS (SELECT 1 FROM orders o WHERE o.customer_id=c.id
		AND o.customer_id<>0) AS before FROM customer c
		WHERE connection_id=? AND email<>'' AND email IN (`+in+`) ORDER BY id DESC`, append([]any{connection}, args...)...)
	for _, r := range rows {
		ids[r.Email], returning[r.ID] = r.ID, r.Before
	}
	return ids, returning, err
}

// AddCustomer writes a new customer and returns the id. One with the same number there is found.
func (t *Tx) AddCustomer(c Customer) (int64, error) {
	var id int64
	err := t.get(&id, `INSERT INTO customer (connection_id, outside_id, name, email, phone, address, changed_at) VALUES (?,?,?,?,?,?,?)
		ON CONFLICT (connection_id, outside_id) DO UPDATE SET changed_at=excluded.changed_at RETURNING id`, c.ConnectionID, c.OutsideID,
		c.Name, c.Email, c.Phone, c.Address, c.ChangedAt)
	delete(t.s.next, "customer")
	return id, err
}

// Customer loads a customer.
func (s *Store) Customer(ctx context.Context, id int64) (Customer, error) {
	var c Customer
	err := s.read.GetContext(ctx, &c, `SELECT id, connection_id, outside_id, name, email, phone, address, changed_at
		FROM customer WHERE id=?`, id)
	return c, found(err)
}

// CustomersOf finds the customers with an e-mail, on all connections.
func (s *Store) CustomersOf(ctx context.Context, email string) ([]Customer, error) {
	out := []Customer{}
	err := s.read.SelectContext(ctx, &out, `SELECT id, connection_id, outside_id, name, email, phone, address, changed_at
		FROM customer WHERE email=? AND email<>''`, email)
	return out, err
}

// OrdersOfPerson lists the ids of the orders of the customers with an e-mail.
func (s *Store) OrdersOfPerson(ctx context.Context, email string) ([]int64, error) {
	var out []int64
	err := s.read.SelectContext(ctx, &out,
		`SELECT o.id FROM customer c JOIN orders o INDEXED BY orders_customer ON o.customer_id=c.id AND o.customer_id<>0
			WHERE c.email=? AND c.email<>'' ORDER BY o.id`, email)
	return out, err
}

// OrderByID loads an order.
func (s *Store) OrderByID(ctx context.Context, id int64) (*order.Order, error) {
	return oneOrder(s.selector(ctx), "id = ?", id)
}

// ToForget lists orders with personal data that were taken in before a time and are done, oldest first.
func (s *Store) ToForget(ctx context.Context, before time.Time, limit int) ([]int64, error) {
	var out []int64
	err := s.read.SelectContext(ctx, &out, `SELECT id FROM orders INDEXED BY orders_keeping WHERE forgotten_at=0
		AND received_at<? AND stage IN ('shipped','delivered','cancelled','void')
		AND max(shipped_at, received_at)<? ORDER BY received_at, id LIMIT ?`, micros(before), micros(before), limit)
	return out, err
}

// Forgotten stands where personal data was.
const Forgotten = "removed"

// ForgetOrder takes personal data out of everything that is kept of an order: the order itself must have been
// cleared by the caller. What was received of it is replaced by a word that says so; the money stays. Of its timeline, the
// texts of the kinds that are named stay, too.
func (t *Tx) ForgetOrder(o *order.Order, impersonal []string) error {
	in, kept := list(impersonal)
	gone, _ := json.Marshal(map[string]string{"removed": "personal data, after its time"})
	for _, q := range []struct {
		text string
		args []any
	}{
		{"UPDATE inbox SET raw=? WHERE order_id=? AND order_id<>0", []any{gone, o.ID}},
		{`UPDATE outbox SET payload='{}', answer='' WHERE order_id=? AND order_id<>0 AND feed='labels out'
			AND state IN ('confirmed','refused','superseded')`, []any{o.ID}},
		{"UPDATE goods_return SET reason='', note='', tracking='' WHERE order_id=?", []any{o.ID}},
		{"UPDATE parcel SET label='' WHERE shipment_id IN (SELECT id FROM shipment WHERE order_id=?)", []any{o.ID}},
		{`UPDATE outbox SET payload='{}' WHERE order_id=? AND order_id<>0 AND feed IN ('answers out','cancellations out','refunds out')
			AND state IN ('confirmed','refused','superseded')`, []any{o.ID}},
		{"UPDATE outbox SET error='" + Forgotten + "' WHERE order_id=? AND order_id<>0 AND error<>''", []any{o.ID}},
		{"UPDATE parcel SET error='" + Forgotten +
			"' WHERE shipment_id IN (SELECT id FROM shipment WHERE order_id=?) AND error<>''", []any{o.ID}},
		{`UPDATE OR REPLACE parcel_event SET text='' WHERE parcel_id IN (SELECT p.id FROM parcel p JOIN shipment s ON s.id=p.shipment_id
			WHERE s.order_id=?)`, []any{o.ID}},
		{`UPDATE claim SET note='' WHERE parcel_id IN (SELECT p.id FROM parcel p JOIN shipment s ON s.id=p.shipment_id
			WHERE s.order_id=?)`, []any{o.ID}},
		{"UPDATE exception SET text='" + Forgotten + "', subject='' WHERE order_id=? AND order_id<>0", []any{o.ID}},
		{"UPDATE timeline SET text='" + Forgotten + "' WHERE thing='order' AND thing_id=? AND what NOT IN (" + in + ")",
			append([]any{o.ID}, kept...)},
	} {
		if _, err := t.exec(q.text, q.args...); err != nil {
			return fmt.Errorf("forget order %s: %w", o.Number, err)
		}
	}
	if err := t.UpdateOrder(o); err != nil {
		return err
	}
	return t.Findable(o)
}

// ForgetRaw takes out of the inbox what was received, where it is of an order of which personal data was removed.
func (t *Tx) ForgetRaw(inbox int64) error {
	gone, _ := json.Marshal(map[string]string{"removed": "personal data, after its time"})
	_, err := t.exec("UPDATE inbox SET raw=? WHERE id=?", gone, inbox)
	return err
}

// quoting are the columns that may quote anybody: what came and was not understood, what others answered, what people typed and
// searched for. They are of no order that could be asked for.
var quoting = []struct{ table, column string }{
	{"run_log", "text"}, {"run", "error"}, {"feed", "last_error"}, {"exception", "text"}, {"exception", "subject"}, {"timeline", "text"},
	{"notice", "payload"}, {"notice", "subject"}, {"look", "key"}, {"bench", "message"}, {"bench", "exchange"}, {"bench", "error"},
	{"outbox", "error"}, {"outbox", "answer"}, {"job", "args"}, {"job", "error"}, {"inbox", "reason"}, {"security_event", "who"},
	{"security_event", "text"}, {"goods_return", "reason"}, {"goods_return", "note"}, {"file", "name"}, {"file", "reason"},
}

// ForgetWords takes words that tell who somebody is out of all texts that may quote them: a text in which one stands is
// replaced. Messages that were not taken in and hold one are given up. Every row is looked at, which takes a while.
func (t *Tx) ForgetWords(words []string, now time.Time) error {
	gone, _ := json.Marshal(map[string]string{"removed": "personal data, as the person asked"})
	for _, w := range words {
		for _, q := range quoting {
			stands := Forgotten
			if q.table == "notice" && q.column == "payload" || q.table == "bench" && q.column != "error" || q.column == "args" {
				stands = string(gone) // it is JSON
			}
			if _, err := t.exec(fmt.Sprintf("UPDATE %s SET %s=? WHERE instr(lower(%s), ?)>0", q.table, q.column, q.column), stands,
				strings.ToLower(w)); err != nil {
				return err
			}
		}
		const holds = "(SELECT id FROM inbox WHERE order_id=0 AND state<>'done' AND instr(lower(CAST(raw AS TEXT)), ?)>0)"
		if _, err := t.exec("UPDATE exception SET closed_at=?, closed_by='relay', text='"+Forgotten+
			"', subject='' WHERE closed_at=0 AND inbox_id<>0 AND inbox_id IN "+holds, micros(now), strings.ToLower(w)); err != nil {
			return err
		}
		if _, err := t.exec("UPDATE inbox SET raw=?, state='skipped', reason='personal data removed' WHERE id IN "+holds, gone,
			strings.ToLower(w)); err != nil {
			return err
		}
	}
	return nil
}

// FactsOf reads what rules look at of one order.
func (t *Tx) FactsOf(order int64) ([]byte, error) {
	var b []byte
	err := t.get(&b, "SELECT facts FROM order_facts WHERE order_id=?", order)
	return b, err
}

// OrderFacts reads what rules look at of one order.
func (s *Store) OrderFacts(ctx context.Context, order int64) ([]byte, error) {
	var b []byte
	err := s.read.GetContext(ctx, &b, "SELECT facts FROM order_facts WHERE order_id=?", order)
	return b, found(err)
}

// ForgetCustomers takes personal data out of customers: of one e-mail, or of those none of whose orders has any.
func (t *Tx) ForgetCustomers(email string, now time.Time) (int64, error) {
	const set = "UPDATE customer SET name='" + Forgotten + `', email='', phone='', address='{}', outside_id='removed:'||id,
		forgotten_at=? WHERE forgotten_at=0 AND `
	if email != "" {
		return t.exec(set+"email=?", micros(now), email)
	}
	return t.exec(set+`EXISTS (SELECT 1 FROM orders o WHERE o.customer_id=customer.id AND o.customer_id<>0)
		AND NOT EXISTS (SELECT 1 FROM orders o WHERE o.customer_id=customer.id AND o.customer_id<>0 AND o.forgotten_at=0)`, micros(now))
}

// Look is that somebody looked at personal data.
type Look struct {
	ID    int64       `db:"id"`
	At    int64       `db:"at"`
	Who   string      `db:"who"`
	Role  person.Role `db:"role"`
	Thing string      `db:"thing"` // order, list, person, table
	Key   string      `db:"key"`
}

// NoteLook writes that somebody looked.
func (t *Tx) NoteLook(l Look) error {
	_, err := t.exec("INSERT INTO look (at, who, role, thing, key) VALUES (?,?,?,?,?)", l.At, l.Who, l.Role, l.Thing, l.Key)
	return err
}

// Looks lists who looked, newest first: at one thing, or at anything.
func (s *Store) Looks(ctx context.Context, thing, key string, before int64, limit int) ([]Look, error) {
	q, args := "SELECT id, at, "+called("who")+" AS who, role, thing, key FROM look WHERE 1=1", []any{}
	if key != "" {
		q += " AND thing=? AND key=?"
		args = append(args, thing, key)
	}
	if before > 0 {
		q += " AND id<?"
		args = append(args, before)
	}
	var out []Look
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY id DESC LIMIT ?", append(args, limit)...)
	return out, err
}
