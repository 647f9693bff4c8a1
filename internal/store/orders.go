package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
)

type orderRow struct {
	ID           int64  `db:"id"`
	Number       string `db:"number"`
	ConnectionID int64  `db:"connection_id"`
	OutsideID    string `db:"outside_id"`
	Version      int64  `db:"version"`
	ReceivedAt   int64  `db:"received_at"`
	ShippedAt    int64  `db:"shipped_at"`
	Via          string `db:"via"`
	Record       string `db:"record"`
	ShipTo       string `db:"ship_to"`
	Holds        string `db:"holds"`
	Routed       bool   `db:"routed"`
	Delivered    bool   `db:"delivered"`
	Voided       bool   `db:"voided"`
	NoStockMoved bool   `db:"no_stock_moved"`
	Test         bool   `db:"test"`
	Revision     int64  `db:"revision"`
	CustomerID   int64  `db:"customer_id"`
	Assignee     string `db:"assignee"`
	MergedInto   int64  `db:"merged_into"`
	TypedBy      string `db:"typed_by"`
	ForgottenAt  int64  `db:"forgotten_at"`
	Ours         string `db:"ours"`
}

const orderCols = `id, number, connection_id, outside_id, version, received_at, shipped_at, via, record, ship_to, holds,
routed, delivered, voided, no_stock_moved, test, revision,
	customer_id, assignee, merged_into, typed_by, forgotten_at, ours`

func (r *orderRow) order() (*order.Order, error) {
	o := &order.Order{ID: r.ID, Number: r.Number, ConnectionID: r.ConnectionID, OutsideID: r.OutsideID, Version: r.Version,
		ReceivedAt: Time(r.ReceivedAt), ShippedAt: Time(r.ShippedAt), Via: r.Via, Routed: r.Routed, Delivered: r.Delivered,
		Voided: r.Voided, NoStockMoved: r.NoStockMoved, Test: r.Test, Revision: r.Revision, CustomerID: r.CustomerID,
		Assignee: r.Assignee, MergedInto: r.MergedInto,
		TypedBy: r.TypedBy, ForgottenAt: Time(r.ForgottenAt)}
	if r.Ours != "{}" {
		if err := json.Unmarshal([]byte(r.Ours), &o.Ours); err != nil {
			return nil, fmt.Errorf("order %s: ours: %w", r.Number, err)
		}
	}
	if err := json.Unmarshal([]byte(r.Record), &o.Record); err != nil {
		return nil, fmt.Errorf("order %s: record: %w", r.Number, err)
	}
	o.ShipTo = o.Record.ShipTo
	if r.ShipTo != "" {
		o.ShipTo = place.Address{}
		if err := json.Unmarshal([]byte(r.ShipTo), &o.ShipTo); err != nil {
			return nil, fmt.Errorf("order %s: address: %w", r.Number, err)
		}
	}
	if err := json.Unmarshal([]byte(r.Holds), &o.Holds); err != nil {
		return nil, fmt.Errorf("order %s: holds: %w", r.Number, err)
	}
	return o, nil
}

type lineRow struct {
	ID        int64  `db:"id"`
	OrderID   int64  `db:"order_id"`
	Position  int    `db:"position"`
	OutsideID string `db:"outside_id"`
	SKU       string `db:"sku"`
	Title     string `db:"title"`
	ItemID    int64  `db:"item_id"`
	Quantity  int64  `db:"quantity"`
	Cancelled int64  `db:"cancelled"`
	Allocated int64  `db:"allocated"`
	Picked    int64  `db:"picked"`
	Packed    int64  `db:"packed"`
	Shipped   int64  `db:"shipped"`
	UnitPrice int64  `db:"unit_price"`
	Discount  int64  `db:"discount"`
	Tax       int64  `db:"tax"`
	Total     int64  `db:"total"`
	Listing   string `db:"listing"`
	Parts     string `db:"parts"`
	Sells     int    `db:"sells"`
	More      string `db:"more"`
}

// lineMore is what only some lines have.
type lineMore struct {
	Choices []message.LineChoice `json:"choices,omitempty"`
	Note    string               `json:"note,omitempty"`
}

func moreText(l *order.Line) (string, error) {
	if len(l.Choices) == 0 && l.Note == "" {
		return "", nil
	}
	b, err := json.Marshal(lineMore{l.Choices, l.Note})
	return string(b), err
}

// sells says in one number what a line sells.
func sells(l *order.Line) int {
	switch {
	case l.Charge:
		return 2
	case l.NoStock:
		return 1
	}
	return 0
}

func partsText(parts []stock.Component) (string, error) {
	if len(parts) == 0 {
		return "", nil
	}
	b, err := json.Marshal(parts)
	return string(b), err
}

type allocationRow struct {
	LineID     int64 `db:"line_id"`
	LocationID int64 `db:"location_id"`
	ItemID     int64 `db:"item_id"`
	Quantity   int64 `db:"quantity"`
}

// allocations are the rows of what a line was promised: of a kit, one for each of its components.
func allocations(o *order.Order, l *order.Line) (rows [][]any) {
	parts := l.Parts
	if len(parts) == 0 {
		parts = []stock.Component{{Item: l.ItemID, Quantity: 1}}
	}
	for _, a := range l.Allocations {
		for _, p := range parts {
			rows = append(rows, []any{l.ID, a.Location, p.Item, o.ID, a.Quantity * p.Quantity})
		}
	}
	return rows
}

type selector func(dest any, query string, args ...any) error

func (s *Store) selector(ctx context.Context) selector {
	return func(dest any, query string, args ...any) error {
		return s.read.SelectContext(ctx, dest, query, args...)
	}
}

// loadOrders reads whole orders by a condition over the table orders.
func loadOrders(sel selector, where string, args ...any) ([]*order.Order, error) {
	var rows []orderRow
	if err := sel(&rows, "SELECT "+orderCols+" FROM orders WHERE "+where, args...); err != nil {
		return nil, fmt.Errorf("load orders: %w", err)
	}
	if len(rows) == 0 {
		return nil, nil
	}
	out := make([]*order.Order, len(rows))
	byID := make(map[int64]*order.Order, len(rows))
	ids := make([]int64, len(rows))
	for i := range rows {
		o, err := rows[i].order()
		if err != nil {
			return nil, err
		}
		out[i], byID[o.ID], ids[i] = o, o, o.ID
	}
	lines, err := loadLines(sel, ids, byID)
	if err != nil {
		return nil, err
	}
	return out, loadAllocations(sel, lines)
}

// linePlace is where a line stands in memory.
type linePlace struct {
	o *order.Order
	i int
}

// loadLines gives orders their lines, and tells where each line is.
func loadLines(sel selector, ids []int64, orders map[int64]*order.Order) (map[int64]linePlace, error) {
	in, args := list(ids)
	var lines []lineRow
	if err := sel(&lines, `SELECT l.id, l.order_id, l.position, l.outside_id, l.sku, l.title, l.item_id, l.quantity,
		l.cancelled, l.allocated, l.picked, l.packed, l.shipped, l.unit_price, l.discount, l.tax, l.total, l.listing, l.parts,
		l.sells, l.more
		FROM orders o CROSS JOIN order_line l ON l.id BETWEEN o.id * 1024 AND o.id * 1024 + 1023
		WHERE o.id IN (`+in+`) ORDER BY l.id`, args...); err != nil {
		return nil, fmt.Errorf("load order lines: %w", err)
	}
	at := make(map[int64]linePlace, len(lines))
	for i := range lines {
		o := orders[lines[i].OrderID]
		l, err := lines[i].line()
		if err != nil {
			return nil, fmt.Errorf("order %s line %d: %w", o.Number, lines[i].Position, err)
		}
		o.Lines = append(o.Lines, l)
		at[l.ID] = linePlace{o, len(o.Lines) - 1}
	}
	return at, nil
}

func (l *lineRow) line() (order.Line, error) {
	var parts []stock.Component
	if l.Parts != "" {
		if err := json.Unmarshal([]byte(l.Parts), &parts); err != nil {
			return order.Line{}, fmt.Errorf("parts: %w", err)
		}
	}
	var more lineMore
	if l.More != "" {
		if err := json.Unmarshal([]byte(l.More), &more); err != nil {
			return order.Line{}, err
		}
	}
	return order.Line{
		Choices:   more.Choices,
		Note:      more.Note,
		Listing:   l.Listing,
		Parts:     parts,
		NoStock:   l.Sells != 0,
		Charge:    l.Sells == 2,
		ID:        l.ID,
		Position:  l.Position,
		OutsideID: l.OutsideID,
		SKU:       l.SKU,
		Title:     l.Title,
		ItemID:    l.ItemID,
		Quantity:  l.Quantity,
		Cancelled: l.Cancelled,
		Allocated: l.Allocated,
		Picked:    l.Picked,
		Packed:    l.Packed,
		Shipped:   l.Shipped,
		UnitPrice: l.UnitPrice,
		Discount:  l.Discount,
		Tax:       l.Tax,
		Total:     l.Total,
	}, nil
}

// loadAllocations gives lines their allocations.
func loadAllocations(sel selector, at map[int64]linePlace) error {
	lineIDs := slices.Sorted(maps.Keys(at))
	for len(lineIDs) > 0 {
		n := min(len(lineIDs), 512)
		in, args := list(lineIDs[:n])
		var parts []allocationRow
		if err := sel(&parts, `SELECT line_id, location_id, item_id, quantity FROM allocation WHERE line_id IN (`+in+`)`,
			args...); err != nil {
			return fmt.Errorf("load allocations: %w", err)
		}
		for _, a := range parts {
			l := &at[a.LineID].o.Lines[at[a.LineID].i]
			if len(l.Parts) > 0 { // a kit is counted by its first component
				if a.ItemID != l.Parts[0].Item {
					continue
				}
				a.Quantity /= l.Parts[0].Quantity
			}
			l.Allocations = append(l.Allocations, order.Allocation{Location: a.LocationID, Quantity: a.Quantity})
		}
		lineIDs = lineIDs[n:]
	}
	return nil
}

// OrdersByOutside finds our live orders for channel ids of one connection.
func (t *Tx) OrdersByOutside(connection int64, outside []string) (map[string]*order.Order, error) {
	out := make(map[string]*order.Order, len(outside))
	if len(outside) == 0 {
		return out, nil
	}
	in, args := list(outside)
	found, err := loadOrders(t.sel, "connection_id = ? AND voided = 0 AND outside_id IN ("+in+")", append([]any{connection}, args...)...)
	for _, o := range found {
		out[o.OutsideID] = o
	}
	return out, err
}

// Order loads an order by its id.
func (t *Tx) Order(id int64) (*order.Order, error) { return oneOrder(t.sel, "id = ?", id) }

// OrderByNumber loads an order by our number or, failing that, the channel's.
func (t *Tx) OrderByNumber(number string) (*order.Order, error) {
	return orderByNumber(t.sel, number)
}

// OrderByNumber loads an order by our number or, failing that, the channel's.
func (s *Store) OrderByNumber(ctx context.Context, number string) (*order.Order, error) {
	return orderByNumber(s.selector(ctx), number)
}

func orderByNumber(sel selector, number string) (*order.Order, error) {
	o, err := oneOrder(sel, "number = ?", number)
	if err == nil || err != ErrNotFound {
		return o, err
	}
	return oneOrder(sel, "channel_number = ? AND voided = 0 ORDER BY id DESC LIMIT 1", number)
}

// LiveOrder returns the number of the order that counts under a channel's number, or "".
func (t *Tx) LiveOrder(connection int64, channelNumber string) (string, error) {
	var found []struct{ Number string }
	if err := t.sel(&found, "SELECT number FROM orders WHERE channel_number=? AND connection_id=? AND voided=0 LIMIT 1", channelNumber,
		connection); err != nil || len(found) == 0 {
		return "", err
	}
	return found[0].Number, nil
}

func oneOrder(sel selector, where string, args ...any) (*order.Order, error) {
	orders, err := loadOrders(sel, where, args...)
	if err != nil {
		return nil, err
	}
	if len(orders) == 0 {
		return nil, ErrNotFound
	}
	return orders[0], nil
}

// OrdersWaitingFor lists the orders with units of the items that wait for stock, oldest promise first (order.Due), after
// one of a moment and an id.
func (t *Tx) OrdersWaitingFor(items []int64, due, id int64, most int) ([]*order.Order, error) {
	in, args := list(items)
	return loadOrders(t.sel, `voided = 0 AND test = 0 AND id IN (SELECT order_id FROM order_line
		WHERE item_id IN (`+in+`) AND quantity > cancelled + allocated + picked + packed + shipped AND sells <> 2) AND (due_at, id) `+
		`> (?,?) ORDER BY due_at, id LIMIT ?`, append(args, due, id, most)...)
}

// OrdersShort lists the orders of a connection that wait for stock, by id after one.
func (t *Tx) OrdersShort(connection, after int64, most int) ([]*order.Order, error) {
	return loadOrders(t.sel, `id IN (SELECT o.id FROM orders o INDEXED BY orders_stage_connection
		WHERE o.stage IN ('held','pending') AND o.connection_id = ? AND o.id > ? AND o.voided = 0 AND o.test = 0
		AND EXISTS (SELECT 1 FROM order_line l WHERE l.id BETWEEN o.id * 1024 AND o.id * 1024 + 1023 AND l.item_id <> 0
		AND l.sells <> 2 AND l.quantity > l.cancelled + l.allocated + l.picked + l.packed + l.shipped) ORDER BY o.id LIMIT ?)
		ORDER BY id`, connection, after, most)
}

// OrdersUnmatched lists the orders of a connection (0: of all) with lines that no item of ours is known for and that
// name a listing by its number or its SKU, by id after one.
func (t *Tx) OrdersUnmatched(connection int64, listing, sku string, after int64, most int) ([]*order.Order, error) {
	return loadOrders(t.sel, `(connection_id = ?1 OR ?1 = 0) AND voided = 0 AND id > ?2 AND id IN (SELECT order_id
		FROM order_line WHERE item_id = 0 AND ((listing = ?3 AND listing <> '') OR (sku = ?4 AND sku <> '')))
		ORDER BY id LIMIT ?5`, connection, after, listing, sku, most)
}

// SeriesWith makes sure that there is a number series with a prefix, and returns its code.
func (t *Tx) SeriesWith(code, prefix string) (string, error) {
	_, err := t.exec(`INSERT INTO series (code, prefix, next) VALUES (?, ?, 1001) ON CONFLICT DO NOTHING`, code, prefix+"-")
	return code, err
}

// Number hands out the next number of a series.
func (t *Tx) Number(series string) (string, error) {
	var row struct {
		Prefix string `db:"prefix"`
		Next   int64  `db:"next"`
	}
	err := t.get(&row, `UPDATE series SET next = next + 1 WHERE code = ? RETURNING prefix, next - 1 AS next`, series)
	if err == ErrNotFound {
		row.Prefix, row.Next = firstPrefix(series), 10001
		_, err = t.exec(`INSERT INTO series (code, prefix, next) VALUES (?, ?, ?)`, series, row.Prefix, row.Next+1)
	}
	return fmt.Sprintf("%s%d", row.Prefix, row.Next), err
}

// firstPrefix is what the numbers of a series begin with where nobody said otherwise.
func firstPrefix(series string) string {
	switch series { // many a company's orders begin with an R
	case "return":
		return "B" // what comes back
	case "round":
		return "W" // a walk
	case "request":
		return "Q" // what a partner is asked
	}
	return strings.ToUpper(series[:1])
}

// Counter hands out numbers of a series. What it handed out is written with Keep.
type Counter struct {
	code, prefix string
	next, kept   int64
}

// Counter begins to hand out numbers of a series.
func (t *Tx) Counter(series string) (*Counter, error) {
	c := &Counter{code: series}
	var row struct {
		Prefix string `db:"prefix"`
		Next   int64  `db:"next"`
	}
	err := t.get(&row, "SELECT prefix, next FROM series WHERE code=?", series)
	if err == ErrNotFound {
		row.Prefix, row.Next = firstPrefix(series), 10001
		_, err = t.exec("INSERT INTO series (code, prefix, next) VALUES (?,?,?)", series, row.Prefix, row.Next)
	}
	c.prefix, c.next, c.kept = row.Prefix, row.Next, row.Next
	return c, err
}

// Next is the next number.
func (c *Counter) Next() string {
	c.next++
	return fmt.Sprintf("%s%d", c.prefix, c.next-1)
}

// Keep writes how far a counter has come.
func (t *Tx) Keep(c *Counter) error {
	if c.next == c.kept {
		return nil
	}
	c.kept = c.next
	_, err := t.exec("UPDATE series SET next=? WHERE code=?", c.next, c.code)
	return err
}

// OnlyVoid tells which of the channel's orders are known here as voided only, and the newest of them.
func (t *Tx) OnlyVoid(connection int64, outside []string) (map[string]int64, error) {
	in, args := list(outside)
	var rows []struct {
		OutsideID string `db:"outside_id"`
		ID        int64  `db:"id"`
	}
	// By the index of stages: few orders are void.
	err := t.sel(&rows, `SELECT outside_id, max(id) AS id FROM orders INDEXED BY orders_stage_connection WHERE stage='void'
		AND connection_id=? AND outside_id IN (`+in+") GROUP BY outside_id", append([]any{connection}, args...)...)
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.OutsideID] = r.ID
	}
	return out, err
}

// NewestInbox is the newest message of a record that was kept.
func (s *Store) NewestInbox(ctx context.Context, connection int64, feed message.Feed, outside string) (InboxMessage, error) {
	var m InboxMessage
	err := s.read.GetContext(ctx, &m, `SELECT `+inboxCols+` FROM inbox WHERE connection_id=? AND feed=? AND outside_id=?
		ORDER BY version DESC LIMIT 1`, connection, feed, outside)
	return m, found(err)
}

// Inbox loads a message without its text, with what became of it.
func (s *Store) Inbox(ctx context.Context, id int64) (m InboxMessage, state string, err error) {
	var row struct {
		InboxMessage
		State string `db:"state"`
	}
	err = s.read.GetContext(ctx, &row, "SELECT "+inboxCols+", state FROM inbox WHERE id=?", id)
	return row.InboxMessage, row.State, found(err)
}

// OrdersOverdue lists the orders whose channel has waited for an answer until a time.
func (t *Tx) OrdersOverdue(now time.Time) ([]*order.Order, error) {
	return loadOrders(t.sel, "answer_by<>0 AND answer_by<=? ORDER BY answer_by LIMIT 100", micros(now))
}

// NextAnswer is when the next answer is due, or the zero time.
func (s *Store) NextAnswer(ctx context.Context) (time.Time, error) {
	var us int64
	err := s.read.GetContext(ctx, &us, "SELECT coalesce(min(answer_by),0) FROM orders WHERE answer_by<>0")
	return Time(us), err
}

// ToMerge lists single orders of a connection that are done and were placed before a moment, in the order of their sale,
// after the one of this moment and id.
func (t *Tx) ToMerge(connection int64, before, placed time.Time, id int64, most int) ([]*order.Order, error) {
	return loadOrders(t.sel,
		`connection_id=? AND stage IN ('shipped','delivered') AND merged_into=0 AND voided=0 AND test=0 AND kind<>'summary' AND
		placed_at<? AND placed_at>0
		AND (placed_at, id) > (?,?) ORDER BY placed_at, id LIMIT ?`, connection, micros(before), micros(placed), id, most)
}

// MembersOf lists the orders of a summary.
func (t *Tx) MembersOf(summary int64) ([]*order.Order, error) {
	return loadOrders(t.sel, "merged_into=? AND merged_into<>0 ORDER BY id", summary)
}

// SetMerged notes into which summary orders went; 0 takes them out.
func (t *Tx) SetMerged(ids []int64, summary int64) error {
	for len(ids) > 0 {
		n := min(len(ids), 256)
		in, args := list(ids[:n])
		if _, err := t.exec("UPDATE orders SET merged_into=?, revision=revision+1 WHERE id IN ("+in+")",
			append([]any{summary}, args...)...); err != nil {
			return err
		}
		ids = ids[n:]
	}
	return nil
}

func orderValues(o *order.Order) ([]any, error) {
	record, err := o.Record.Encoded()
	if err != nil {
		return nil, err
	}
	shipTo := ""
	if o.ShipTo != o.Record.ShipTo {
		b, err := json.Marshal(o.ShipTo)
		if err != nil {
			return nil, err
		}
		shipTo = string(b)
	}
	holds := "[]"
	if len(o.Holds) > 0 {
		b, err := json.Marshal(o.Holds)
		if err != nil {
			return nil, err
		}
		holds = string(b)
	}
	var units int64
	for i := range o.Lines {
		units += o.Lines[i].Live()
	}
	m := &o.Record
	buyer := m.BuyerName
	if buyer == "" {
		buyer = o.ShipTo.Name
	}
	ours, err := json.Marshal(&o.Ours)
	if err != nil {
		return nil, err
	}
	var answerBy int64
	if a := o.Ours.Answer; a != nil && a.State == order.Wanted {
		answerBy = micros(a.By)
	}
	return []any{o.Number, o.ConnectionID, o.OutsideID, o.Version, m.Number, m.State, string(o.Stage()), buyer, m.Currency, m.Total, units,
		micros(
			placedAt(o)), micros(o.ReceivedAt), micros(o.ShippedAt), o.Via, string(record), shipTo, holds, o.Routed, o.Delivered, o.Voided,
		o.NoStockMoved, o.Test, o.Revision,
		string(o.Kind()), o.CustomerID, o.Assignee, o.MergedInto, o.TypedBy, answerBy, micros(o.ForgottenAt), string(ours),
		placesText(o), recipientOf(o), micros(o.Due()), o.ID}, nil
}

// placesText lists, as JSON, the locations where an order waits to be picked.
func placesText(o *order.Order) string {
	return strings.ReplaceAll(fmt.Sprint(append([]int64{}, placesOf(o)...)), " ", ",")
}

const orderSet = `number, connection_id, outside_id, version, channel_number, channel_state, stage, buyer, currency, total, units,
	placed_at, received_at, shipped_at, via, record, ship_to, holds, routed, delivered, voided, no_stock_moved, test, revision,
	kind, customer_id, assignee, merged_into, typed_by, answer_by, forgotten_at, ours, places, recipient, due_at`

const orderWidth = 36

// InsertOrders writes new orders with their lines and allocations.
func (t *Tx) InsertOrders(orders []*order.Order) error {
	heads := make([][]any, 0, len(orders))
	var lines, parts, tags [][]any
	texts := make([][]any, 0, len(orders))
	for _, o := range orders {
		texts = append(texts, orderText(o, ""))
		for _, tag := range o.Ours.Tags {
			tags = append(tags, []any{tag, o.ID})
		}
		v, err := orderValues(o)
		if err != nil {
			return err
		}
		heads = append(heads, v)
		for i := range o.Lines {
			l := &o.Lines[i]
			text, err := partsText(l.Parts)
			if err != nil {
				return err
			}
			more, err := moreText(l)
			if err != nil {
				return err
			}
			lines = append(
				lines,
				[]any{l.ID, o.ID, l.Position, l.OutsideID, l.SKU, l.Title, l.ItemID, l.Quantity, l.Cancelled, l.Allocated,
					l.Picked, l.Packed, l.Shipped, l.UnitPrice, l.Discount, l.Tax, l.Total, l.Listing, text, sells(l), more},
			)
			parts = append(parts, allocations(o, l)...)
		}
	}
	if _, err := t.insertMany("INSERT INTO orders ("+orderSet+", id)", orderWidth, heads); err != nil {
		return fmt.Errorf("write orders: %w", err)
	}
	if _, err := t.insertMany(`INSERT INTO order_line (id, order_id, position, outside_id, sku, title, item_id, quantity,
		cancelled, allocated,
		picked, packed, shipped, unit_price, discount, tax, total, listing, parts, sells, more)`, 21, lines); err != nil {
		return fmt.Errorf("write order lines: %w", err)
	}
	if _, err := t.insertMany("INSERT INTO allocation (line_id, location_id, item_id, order_id, quantity)", 5, parts); err != nil {
		return fmt.Errorf("write allocations: %w", err)
	}
	if _, err := t.insertMany("INSERT INTO order_tag (tag, order_id)", 2, tags); err != nil {
		return fmt.Errorf("write tags: %w", err)
	}
	if _, err := t.insertMany("INSERT INTO order_text (rowid, number, channel, name, sku, tracking)", 6, texts); err != nil {
		return fmt.Errorf("write search: %w", err)
	}
	return t.countNew(orders)
}

// orderText is what an order is found by.
func orderText(o *order.Order, tracking string) []any {
	skus := make([]string, len(o.Lines))
	for i := range o.Lines {
		skus[i] = o.Lines[i].SKU
	}
	name := o.Record.BuyerName
	if o.ShipTo.Name != name {
		name += " " + o.ShipTo.Name
	}
	return []any{o.ID, o.Number, o.Record.Number, name, strings.Join(skus, " "), tracking}
}

// Findable writes anew what an order is found by; needed where its number, names, SKUs or tracking numbers changed.
func (t *Tx) Findable(o *order.Order) error {
	var tracking string
	if err := t.get(&tracking, `SELECT coalesce(group_concat(p.tracking,' '),'') FROM parcel p JOIN shipment s ON s.id=p.shipment_id
		WHERE s.order_id=?`, o.ID); err != nil {
		return err
	}
	_, err := t.exec("INSERT OR REPLACE INTO order_text (rowid, number, channel, name, sku, tracking) VALUES (?,?,?,?,?,?)",
		orderText(o, tracking)...)
	return err
}

// PutTags writes which tags an order carries.
func (t *Tx) PutTags(o *order.Order) error {
	if _, err := t.exec("DELETE FROM order_tag WHERE order_id=?", o.ID); err != nil {
		return err
	}
	for _, tag := range o.Ours.Tags {
		if _, err := t.exec("INSERT INTO order_tag (tag, order_id) VALUES (?,?)", tag, o.ID); err != nil {
			return err
		}
	}
	return nil
}

// UpdateOrder writes an order that was there before, its lines' quantities and its allocations.
func (t *Tx) UpdateOrder(o *order.Order) error {
	v, err := orderValues(o)
	if err != nil {
		return err
	}
	if _, err := t.exec("UPDATE orders SET ("+orderSet+") = ("+placeholders(orderWidth-1)+") WHERE id = ?", v...); err != nil {
		return fmt.Errorf("write order %s: %w", o.Number, err)
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		text, err := partsText(l.Parts)
		if err != nil {
			return err
		}
		if _, err := t.exec(`UPDATE order_line SET item_id=?, cancelled=?, allocated=?, picked=?, packed=?, shipped=?, parts=?,
			sells=? WHERE id=?`,
			l.ItemID, l.Cancelled, l.Allocated, l.Picked, l.Packed, l.Shipped, text, sells(l), l.ID); err != nil {
			return err
		}
		if _, err := t.exec("DELETE FROM allocation WHERE line_id = ?", l.ID); err != nil {
			return err
		}
		for _, row := range allocations(o, l) {
			if _, err := t.exec("INSERT INTO allocation (line_id, location_id, item_id, order_id, quantity) VALUES (?,?,?,?,?)",
				row...); err != nil {
				return err
			}
		}
	}
	return nil
}

// MoveAllocations writes orders of which nothing has changed but where their units are promised.
func (t *Tx) MoveAllocations(list []*order.Order) error {
	var rows [][]any
	for _, o := range list {
		if _, err := t.exec("UPDATE orders SET revision=?, places=? WHERE id=?", o.Revision, placesText(o), o.ID); err != nil {
			return err
		}
		first, last := order.LineID(o.ID, 0), order.LineID(o.ID, 1023)
		if _, err := t.exec("DELETE FROM allocation WHERE line_id BETWEEN ? AND ?", first, last); err != nil {
			return err
		}
		for i := range o.Lines {
			rows = append(rows, allocations(o, &o.Lines[i])...)
		}
	}
	_, err := t.insertMany("INSERT INTO allocation (line_id, location_id, item_id, order_id, quantity)", 5, rows)
	return err
}

// cleared marks messages of test orders that were cleared: while the connection is in test they are known,
// and do not come in again.
const cleared = "a test order that was cleared"

// ClearTests removes the test orders of a connection with everything about them. It returns how many
// there were.
func (t *Tx) ClearTests(connection int64) (int64, error) {
	const tests = "(SELECT id FROM orders WHERE connection_id=? AND test=1)"
	for _, q := range []string{
		"DELETE FROM order_line WHERE order_id IN " + tests, "UPDATE inbox SET state='skipped', reason='" + cleared +
			"', order_id=0 WHERE order_id<>0 AND order_id IN " + tests,
		"DELETE FROM order_text WHERE rowid IN " + tests, "DELETE FROM order_tag WHERE order_id IN " + tests,
		"DELETE FROM order_facts WHERE order_id IN " + tests,
		"DELETE FROM exception WHERE order_id<>0 AND order_id IN " + tests, `DELETE FROM timeline WHERE thing='order'
			AND thing_id IN ` + tests,
	} {
		if _, err := t.exec(q, connection); err != nil {
			return 0, err
		}
	}
	if _, err := t.exec("DELETE FROM bench WHERE connection_id=?", connection); err != nil {
		return 0, err
	}
	return t.exec("DELETE FROM orders WHERE connection_id=? AND test=1", connection)
}

// ForgetCleared forgets the messages of cleared test orders and how far the feeds of the connection have
// read, so that the orders come in as real ones.
func (t *Tx) ForgetCleared(connection int64) error {
	if _, err := t.exec("DELETE FROM inbox WHERE connection_id=? AND state='skipped' AND reason='"+cleared+"'", connection); err != nil {
		return err
	}
	if _, err := t.exec("DELETE FROM file WHERE connection_id=? AND way='in'", connection); err != nil { // they may come again
		return err
	}
	_, err := t.exec("UPDATE feed SET mark='', validator='', last_try_at=0 WHERE connection_id=?", connection)
	return err
}

// InTest tells whether a connection is in test at this moment.
func (t *Tx) InTest(connection int64) (test bool, err error) {
	err = t.get(&test, "SELECT test FROM connection WHERE id=?", connection)
	return test, err
}

// StageCount is how many orders stand at a stage, and the oldest of them.
type StageCount struct {
	Stage  string `db:"stage"`
	Count  int64  `db:"n"`
	Oldest int64  `db:"oldest"`
}

// StageCounts tells how many orders are still on their way, and how many were done since a time.
func (s *Store) StageCounts(ctx context.Context, since time.Time) ([]StageCount, error) {
	var out []StageCount
	err := s.read.SelectContext(ctx, &out, `SELECT stage, sum(n) AS n, coalesce((SELECT min(placed_at) FROM orders o
		WHERE o.stage=c.stage AND o.`+underWay+`),0) AS oldest FROM order_count c WHERE `+underWay+` AND n>0 GROUP BY stage
		UNION ALL SELECT what, sum(n), 0 FROM order_quarter WHERE what IN ('shipped','delivered','cancelled') AND quarter>=?
		AND n>0 GROUP BY what`, quarter(since))
	return out, err
}

// ChannelVersion is one version of an order as the channel sent it.
type ChannelVersion struct {
	ID         int64  `db:"id"`
	Version    int64  `db:"version"`
	Via        string `db:"via"`
	ReceivedAt int64  `db:"received_at"`
	Raw        []byte `db:"raw"`
	State      string `db:"state"`
	Reason     string `db:"reason"`
}

// ChannelVersions lists what was received for an order, oldest first.
func (s *Store) ChannelVersions(ctx context.Context, orderID int64) ([]ChannelVersion, error) {
	var out []ChannelVersion
	err := s.read.SelectContext(ctx, &out, `SELECT id, version, via, received_at, raw, state, reason FROM inbox
		WHERE order_id = ? AND order_id <> 0 AND feed = 'orders in' ORDER BY id`, orderID)
	return out, err
}

// NewOrderID hands out the id of the next order; its number comes from Numbers.
func (t *Tx) NewOrderID() (int64, error) { return t.id("orders") }

// underWay is said with a stage so that SQLite knows that the index orders_oldest has its orders.
const underWay = "stage IN ('pending','held','ready','routed','picking','packed','part shipped')"

// openStages are the stages of orders that are still to be sent.
var openStages = []order.Stage{order.Ready, order.Routed, order.Picking, order.Packed, order.PartShipped}

// OldestOpen lists the orders that have waited longest to be sent. Of each stage, the oldest are found by its index; so many
// orders as wait need not be looked at.
func (s *Store) OldestOpen(ctx context.Context, limit int) ([]OrderRow, error) {
	var q []string
	args := []any{}
	for _, stage := range openStages {
		q = append(q, `SELECT id FROM (SELECT id FROM orders INDEXED BY orders_oldest WHERE stage='`+string(stage)+
			"' AND "+underWay+" ORDER BY placed_at "+upTo+")")
		args = append(args, limit)
	}
	var out []OrderRow
	err := s.read.SelectContext(ctx, &out, `SELECT `+rowCols+` FROM orders o JOIN connection c ON c.id = o.connection_id
		WHERE o.id IN (`+strings.Join(q, " UNION ALL ")+`) ORDER BY o.placed_at, o.id `+upTo, append(args, limit)...)
	return out, err
}

// PlaceCount is a location and what is to be sent from it.
type PlaceCount struct {
	Code   string `db:"code"`
	Name   string `db:"name"`
	ToPick int64  `db:"to_pick"`
	ToShip int64  `db:"to_ship"`
}

// PlaceCounts tells per location what is to be picked and shipped.
func (s *Store) PlaceCounts(ctx context.Context) ([]PlaceCount, error) {
	var out []PlaceCount
	err := s.read.SelectContext(ctx, &out, `SELECT l.code, l.name, coalesce(p.n,0) AS to_pick, coalesce(h.n,0) AS to_ship FROM location l
		LEFT JOIN place_count p ON p.location_id=l.id AND p.what='to pick' LEFT JOIN place_count h ON h.location_id=l.id
		AND h.what='to ship' ORDER BY l.id`)
	return out, err
}

// CountOrdersOf counts the orders of a connection, up to one.
func (t *Tx) CountOrdersOf(connection int64) (n int64, err error) {
	err = t.get(&n, "SELECT count(*) FROM (SELECT 1 FROM orders WHERE connection_id=? LIMIT 1)", connection)
	return n, err
}

// CountTests counts the test orders of a connection.
func (t *Tx) CountTests(connection int64) (n int64, err error) {
	err = t.get(&n, "SELECT count(*) FROM orders WHERE connection_id=? AND test=1", connection)
	return n, err
}
