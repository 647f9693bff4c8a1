package store

import (
	"context"
	"time"

	"openrelay/internal/core/request"
)

// Request is what a partner is asked to send of an order.
type Request struct {
	request.Request
	ID           int64
	OrderID      int64
	OrderNumber  string
	Buyer        string
	ConnectionID int64
	LocationID   int64
	Test         bool
	Away         bool  // what is called off is to be sent from elsewhere
	Asks         int64 // how often it was asked
	LookAt       int64 // when it is looked at again, Unix microseconds; 0: not by itself
	Currency     string
	Cost         int64 // what the partner asks for what it has sent, as agreed; minor units
	Billed       int64 // what it has billed
	CreatedAt    int64
	AskedAt      int64
	HeardAt      int64 // when it last said something
	EndedAt      int64
	Revision     int64
}

type requestRow struct {
	ID           int64  `db:"id"`
	Number       string `db:"number"`
	OrderID      int64  `db:"order_id"`
	OrderNumber  string `db:"order_number"`
	Buyer        string `db:"buyer"`
	ConnectionID int64  `db:"connection_id"`
	LocationID   int64  `db:"location_id"`
	State        string `db:"state"`
	Test         bool   `db:"test"`
	TheirID      string `db:"their_id"`
	Reason       string `db:"reason"`
	Expected     string `db:"expected"`
	Away         bool   `db:"away"`
	Asks         int64  `db:"asks"`
	LookAt       int64  `db:"look_at"`
	Currency     string `db:"currency"`
	Cost         int64  `db:"cost"`
	Billed       int64  `db:"billed"`
	CreatedAt    int64  `db:"created_at"`
	AskedAt      int64  `db:"asked_at"`
	HeardAt      int64  `db:"heard_at"`
	EndedAt      int64  `db:"ended_at"`
	Revision     int64  `db:"revision"`
}

func (r *requestRow) request() Request {
	return Request{Request: request.Request{Number: r.Number, State: request.State(r.State), TheirID: r.TheirID, Reason: r.Reason,
		Expected: r.Expected}, ID: r.ID, OrderID: r.OrderID, OrderNumber: r.OrderNumber, Buyer: r.Buyer, ConnectionID: r.ConnectionID,
		LocationID: r.LocationID, Test: r.Test, Away: r.Away, Asks: r.Asks, LookAt: r.LookAt, Currency: r.Currency, Cost: r.Cost,
		Billed:    r.Billed,
		CreatedAt: r.CreatedAt, AskedAt: r.AskedAt, HeardAt: r.HeardAt, EndedAt: r.EndedAt, Revision: r.Revision}
}

type requestLineRow struct {
	LineID    int64  `db:"line_id"`
	ItemID    int64  `db:"item_id"`
	SKU       string `db:"sku"`
	Title     string `db:"title"`
	Units     int64  `db:"units"`
	Sent      int64  `db:"sent"`
	Refused   int64  `db:"refused"`
	CalledOff int64  `db:"called_off"`
}

const requestQuery = `SELECT q.id, q.number, q.order_id, o.number AS order_number, o.buyer, q.connection_id, q.location_id, q.state, q.test,
	q.their_id, q.reason, q.expected, q.away, q.asks, q.look_at, q.currency, q.cost, q.billed, q.created_at, q.asked_at, q.heard_at,
	q.ended_at,
	q.revision FROM request q JOIN orders o ON o.id=q.order_id `

func requestsWhere(sel selector, where string, args ...any) ([]Request, error) {
	var rows []requestRow
	if err := sel(&rows, requestQuery+"WHERE "+where, args...); err != nil {
		return nil, err
	}
	out := make([]Request, len(rows))
	for i := range rows {
		out[i] = rows[i].request()
		var lines []requestLineRow
		if err := sel(&lines, `SELECT line_id, item_id, sku, title, units, sent, refused, called_off FROM request_line WHERE request_id=?
			ORDER BY line_id`, out[i].ID); err != nil {
			return nil, err
		}
		for _, l := range lines {
			out[i].Lines = append(out[i].Lines, request.Line(l))
		}
	}
	return out, nil
}

// RequestsOfOrder lists what partners were asked to send of an order, oldest first.
func (t *Tx) RequestsOfOrder(order int64) ([]Request, error) {
	return requestsWhere(t.sel, "q.order_id=? ORDER BY q.id", order)
}

// RequestsOfOrder lists what partners were asked to send of an order, oldest first.
func (s *Store) RequestsOfOrder(ctx context.Context, order int64) ([]Request, error) {
	return requestsWhere(s.selector(ctx), "q.order_id=? ORDER BY q.id", order)
}

// Request finds a request by its number.
func (t *Tx) Request(number string) (Request, error) {
	return firstOf(requestsWhere(t.sel, "q.number=?", number))
}

// Request finds a request by its number.
func (s *Store) Request(ctx context.Context, number string) (Request, error) {
	return firstOf(requestsWhere(s.selector(ctx), "q.number=?", number))
}

// RequestByID loads a request.
func (t *Tx) RequestByID(id int64) (Request, error) {
	return firstOf(requestsWhere(t.sel, "q.id=?", id))
}

// RequestFilter says which requests are listed; what is empty does not matter.
type RequestFilter struct {
	Partner int64
	States  []string
	Before  int64 // by id
	Limit   int
}

// ListRequests lists requests, newest first.
func (s *Store) ListRequests(ctx context.Context, f RequestFilter) ([]Request, error) {
	where, args := "1=1", []any{}
	if len(f.States) > 0 {
		in, stateArgs := list(f.States)
		where += " AND q.state IN (" + in + ")"
		args = append(args, stateArgs...)
	}
	if f.Partner != 0 {
		where += " AND q.connection_id=?"
		args = append(args, f.Partner)
	}
	if f.Before > 0 {
		where += " AND q.id<?"
		args = append(args, f.Before)
	}
	return requestsWhere(s.selector(ctx), where+" ORDER BY q.id DESC LIMIT ?", append(args, f.Limit)...)
}

// AddRequest writes a new request with its lines.
func (t *Tx) AddRequest(q *Request) (err error) {
	if q.ID, err = t.id("request"); err != nil {
		return err
	}
	if q.Number, err = t.Number("request"); err != nil {
		return err
	}
	if _, err = t.exec(`INSERT INTO request (id, number, order_id, connection_id, location_id, state, test, reason, currency, created_at)
		VALUES (?,?,?,?,?,?,?,?,?,?)`, q.ID, q.Number, q.OrderID, q.ConnectionID, q.LocationID, string(q.State), q.Test, q.Reason,
		q.Currency,
		q.CreatedAt); err != nil {
		return err
	}
	return t.UpdateRequest(q)
}

// UpdateRequest writes a request and its lines.
func (t *Tx) UpdateRequest(q *Request) error {
	q.Revision++
	if _, err := t.exec(`UPDATE request SET state=?, their_id=?, reason=?, expected=?, away=?, asks=?, look_at=?, currency=?, cost=?,
		billed=?,
		asked_at=?, heard_at=?, ended_at=?, revision=? WHERE id=?`, string(q.State), q.TheirID, q.Reason, q.Expected, q.Away, q.Asks,
		q.LookAt, q.Currency, q.Cost, q.Billed, q.AskedAt, q.HeardAt, q.EndedAt, q.Revision, q.ID); err != nil {
		return err
	}
	for _, l := range q.Lines {
		if _, err := t.exec(`INSERT INTO request_line (request_id, line_id, item_id, sku, title, units, sent, refused, called_off)
			VALUES (?,?,?,?,?,?,?,?,?) ON CONFLICT DO UPDATE SET sku=excluded.sku, sent=excluded.sent, refused=excluded.refused,
			called_off=excluded.called_off`, q.ID, l.LineID, l.ItemID, l.SKU, l.Title, l.Units, l.Sent, l.Refused,
			l.CalledOff); err != nil {
			return err
		}
	}
	return nil
}

// RequestsToLookAt lists requests that are to be looked at by now, those first that have waited longest.
func (t *Tx) RequestsToLookAt(now time.Time, limit int) ([]Request, error) {
	return requestsWhere(t.sel, "q.look_at<>0 AND q.look_at<=? ORDER BY q.look_at LIMIT ?", micros(now), limit)
}

// NextRequestLook is when a request is next to be looked at; the zero time: none is.
func (s *Store) NextRequestLook(ctx context.Context) (time.Time, error) {
	var at int64
	err := s.read.GetContext(ctx, &at, "SELECT coalesce(min(look_at),0) FROM request WHERE look_at<>0")
	return Time(at), err
}

// RequestsWaitingFor lists the requests at a partner that wait, and of which a line is about an item.
func (t *Tx) RequestsWaitingFor(connection, item int64) ([]Request, error) {
	return requestsWhere(t.sel, `q.connection_id=? AND q.state='waits' AND EXISTS (SELECT 1 FROM request_line l WHERE l.request_id=q.id
		AND l.item_id=?) ORDER BY q.id`, connection, item)
}

// OpenRequests lists the requests of a partner that have not ended, after one by its id, oldest first.
func (t *Tx) OpenRequests(connection, after int64, limit int) ([]Request, error) {
	return requestsWhere(t.sel, `q.connection_id=? AND q.state IN ('waits','asked','acknowledged','partly sent','being called off')
		AND q.id>? ORDER BY q.id LIMIT ?`, connection, after, limit)
}

// ShipmentsOfRequest lists what a partner sent for a request.
func (t *Tx) ShipmentsOfRequest(id int64) ([]Shipment, error) {
	return shipmentsWhere(t.sel, "s.request_id=? AND s.request_id<>0 ORDER BY s.id", id)
}

// ParcelsOfRequest counts the parcels that a partner sent for a request.
func (t *Tx) ParcelsOfRequest(id int64) (n int64, err error) {
	return n, t.get(&n, `SELECT count(*) FROM parcel p JOIN shipment s ON s.id=p.shipment_id WHERE s.request_id=? AND s.request_id<>0
		AND p.state IN ('shipped','delivered')`, id)
}

// DropTestRequests removes what a partner was asked only to try it, and returns how many there were.
func (t *Tx) DropTestRequests(connection int64) (int64, error) {
	const tests = "(SELECT id FROM request WHERE connection_id=? AND test=1)"
	for _, q := range []string{"DELETE FROM request_line WHERE request_id IN " + tests,
		`DELETE FROM outbox WHERE feed IN ('requests out','request cancellations out') AND connection_id=?1 AND EXISTS (SELECT 1
		FROM request q WHERE q.connection_id=?1 AND q.test=1 AND outbox.subject='request '||q.number)`} {
		if _, err := t.exec(q, connection); err != nil {
			return 0, err
		}
	}
	return t.exec("DELETE FROM request WHERE connection_id=? AND test=1", connection)
}

// OrdersPromisedUnasked lists orders, after one by its id, to which a location has promised something, and of which no request is open.
func (t *Tx) OrdersPromisedUnasked(location, after int64, limit int) (ids []int64, err error) {
	var rows []struct {
		ID int64 `db:"order_id"`
	}
	err = t.sel(&rows, `SELECT DISTINCT a.order_id FROM allocation a WHERE a.location_id=? AND a.order_id>? AND NOT EXISTS
		(SELECT 1 FROM request q WHERE q.order_id=a.order_id AND q.location_id=a.location_id
		AND q.state IN ('waits','asked','acknowledged','partly sent','being called off')) ORDER BY a.order_id LIMIT ?`,
		location, after, limit)
	for _, r := range rows {
		ids = append(ids, r.ID)
	}
	return ids, err
}

// PartnerTally counts the requests of a partner in a state.
type PartnerTally struct {
	ConnectionID int64  `db:"connection_id"`
	State        string `db:"state"`
	Count        int64  `db:"n"`
}

// PartnerTallies counts the requests of partners that have not ended, and those that ended since a time, by state.
func (s *Store) PartnerTallies(ctx context.Context, since time.Time) (out []PartnerTally, err error) {
	return out, s.read.SelectContext(ctx, &out, `SELECT connection_id, state, count(*) AS n FROM request WHERE test=0 AND
		(state IN ('waits','asked','acknowledged','partly sent','being called off') OR ended_at>=?) GROUP BY connection_id, state`,
		micros(since))
}

// PartnerItem is what a partner calls an item.
type PartnerItem struct {
	ConnectionID int64  `db:"connection_id"`
	ItemID       int64  `db:"item_id"`
	Code         string `db:"code"`    // empty: by our SKU
	Ignored      bool   `db:"ignored"` // it is never asked for it
	At           int64  `db:"at"`
	SKU          string `db:"sku"`
	Name         string `db:"name"`
}

const partnerItemQuery = `SELECT p.connection_id, p.item_id, p.code, p.ignored, p.at, i.sku, i.name FROM partner_item p
	JOIN item i ON i.id=p.item_id `

// PartnerItems lists what a partner calls our items, by SKU, after one.
func (s *Store) PartnerItems(ctx context.Context, connection int64, after string, limit int) (out []PartnerItem, err error) {
	out = []PartnerItem{}
	return out, s.read.SelectContext(ctx, &out, partnerItemQuery+"WHERE p.connection_id=? AND i.sku>? ORDER BY i.sku LIMIT ?", connection,
		after, limit)
}

// PartnerItem is what a partner calls an item; ErrNotFound: nothing was said of it.
func (t *Tx) PartnerItem(connection, item int64) (p PartnerItem, err error) {
	return p, t.get(&p, partnerItemQuery+"WHERE p.connection_id=? AND p.item_id=?", connection, item)
}

// PartnerItemOf is what a partner calls an item; ErrNotFound: nothing was said of it.
func (s *Store) PartnerItemOf(ctx context.Context, connection, item int64) (p PartnerItem, err error) {
	return p, found(s.read.GetContext(ctx, &p, partnerItemQuery+"WHERE p.connection_id=? AND p.item_id=?", connection, item))
}

// ItemOfPartner finds the item that a partner calls so; 0: none.
func (t *Tx) ItemOfPartner(connection int64, code string) (item int64, err error) {
	err = t.get(&item, "SELECT item_id FROM partner_item WHERE connection_id=? AND code=? AND code<>'' ORDER BY item_id LIMIT 1",
		connection, code)
	if err == ErrNotFound {
		return 0, nil
	}
	return item, err
}

// PutPartnerItem says what a partner calls an item.
func (t *Tx) PutPartnerItem(p PartnerItem, now time.Time) error {
	_, err := t.exec(`INSERT INTO partner_item (connection_id, item_id, code, ignored, at) VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE
		SET code=excluded.code, ignored=excluded.ignored, at=excluded.at`, p.ConnectionID, p.ItemID, p.Code, p.Ignored, micros(now))
	return err
}

// DropPartnerItem forgets what a partner calls an item.
func (t *Tx) DropPartnerItem(connection, item int64) error {
	n, err := t.exec("DELETE FROM partner_item WHERE connection_id=? AND item_id=?", connection, item)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// StockDifference is where a partner's word of its stock was another than our books.
type StockDifference struct {
	ID           int64  `db:"id"`
	ConnectionID int64  `db:"connection_id"`
	LocationID   int64  `db:"location_id"`
	ItemID       int64  `db:"item_id"`
	Ours         int64  `db:"ours"`
	Theirs       int64  `db:"theirs"`
	At           int64  `db:"at"`
	SettledAt    int64  `db:"settled_at"`
	SettledBy    string `db:"settled_by"`
	Note         string `db:"note"`
	SKU          string `db:"sku"`
	Name         string `db:"name"`
}

// AddStockDifference keeps a difference. One of the same item at the same place that nobody has looked at yet goes on with the new word.
func (t *Tx) AddStockDifference(d StockDifference, now time.Time) error {
	n, err := t.exec("UPDATE stock_difference SET theirs=?, at=? WHERE settled_at=0 AND connection_id=? AND location_id=? AND item_id=?",
		d.Theirs, micros(now), d.ConnectionID, d.LocationID, d.ItemID)
	if err != nil || n > 0 {
		return err
	}
	_, err = t.exec("INSERT INTO stock_difference (connection_id, location_id, item_id, ours, theirs, at) VALUES (?,?,?,?,?,?)",
		d.ConnectionID, d.LocationID, d.ItemID, d.Ours, d.Theirs, micros(now))
	return err
}

// StockDifferences lists the differences of a partner, or of all (0), newest first; open: only those that nobody has looked at.
func (s *Store) StockDifferences(ctx context.Context, connection int64, open bool, before int64, limit int) (out []StockDifference,
	err error) {
	out = []StockDifference{}
	return out, s.read.SelectContext(ctx, &out, `SELECT d.id, d.connection_id, d.location_id, d.item_id, d.ours, d.theirs, d.at,
		d.settled_at,
		d.settled_by, d.note, i.sku, i.name FROM stock_difference d JOIN item i ON i.id=d.item_id WHERE (?1=0 OR d.connection_id=?1)
		AND (?2=0 OR d.settled_at=0) AND (?3=0 OR d.id<?3) ORDER BY d.id DESC LIMIT ?4`, connection, open, before, limit)
}

// SettleStockDifference notes that somebody has looked at a difference, and returns of which partner it is.
func (t *Tx) SettleStockDifference(id int64, who, note string, now time.Time) (connection int64, err error) {
	err = t.get(&connection, `UPDATE stock_difference SET settled_at=?, settled_by=?, note=? WHERE id=? AND settled_at=0
		RETURNING connection_id`, micros(now), who, note, id)
	return connection, err
}

// OpenStockDifferences counts the differences of a partner that nobody has looked at.
func (t *Tx) OpenStockDifferences(connection int64) (n int64, err error) {
	return n, t.get(&n, "SELECT count(*) FROM stock_difference WHERE connection_id=? AND settled_at=0", connection)
}

// ParcelsForRequest lists the parcels that a partner sent for a request.
func (s *Store) ParcelsForRequest(ctx context.Context, id int64) ([]Parcel, error) {
	return parcelsWhere(s.selector(ctx), "s.request_id=? AND s.request_id<>0 ORDER BY p.id", id)
}

// RetakeStock lets the newest word of a connection about each of some things be decided on again that was skipped, and tells whether
// there was one.
func (t *Tx) RetakeStock(connection int64, names ...string) (bool, error) {
	some := false
	for _, name := range names {
		n, err := t.exec(`UPDATE inbox SET state='waiting', reason='', attempts=0, next_at=0 WHERE state='skipped' AND id=(SELECT id FROM
			inbox
			WHERE connection_id=? AND feed='stock in' AND outside_id=? ORDER BY version DESC LIMIT 1)`, connection, name)
		if err != nil {
			return some, err
		}
		some = some || n > 0
	}
	return some, nil
}
