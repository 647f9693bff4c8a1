package store

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
)

// Location is a place that holds stock.
type Location struct {
	ID       int64         `db:"id" json:"id"`
	Code     string        `db:"code" json:"code"`
	Name     string        `db:"name" json:"name"`
	Address  place.Address `db:"-" json:"address"`
	Keeper   int64         `db:"keeper" json:"keeper,omitempty"` // connection whose word counts there; 0: ours
	Hours    place.Hours   `db:"-" json:"hours"`
	Position string        `db:"position" json:"position,omitempty"` // latitude and longitude, as place.ParsePosition reads them
	Bins     string        `db:"bins" json:"bins,omitempty"`         // one a line or by pattern; empty: any

	ArchivedAt int64 `db:"archived_at" json:"archived_at,omitempty"` // since when it is used no more; 0: it is used
}

// Locations lists all locations.
func (s *Store) Locations(ctx context.Context) ([]Location, error) {
	rows, err := s.read.QueryContext(ctx,
		"SELECT id, code, name, address, keeper, hours, bins, position, archived_at FROM location ORDER BY archived_at<>0, id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Location
	for rows.Next() {
		var l Location
		var addr, hours string
		if err := rows.Scan(&l.ID, &l.Code, &l.Name, &addr, &l.Keeper, &hours, &l.Bins, &l.Position, &l.ArchivedAt); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(addr), &l.Address); err != nil {
			return nil, fmt.Errorf("location %s: address: %w", l.Code, err)
		}
		if hours != "" {
			if err := json.Unmarshal([]byte(hours), &l.Hours); err != nil {
				return nil, fmt.Errorf("location %s: hours: %w", l.Code, err)
			}
		}
		out = append(out, l)
	}
	return out, rows.Err()
}

// AddLocation writes a new location.
func (t *Tx) AddLocation(l Location) (int64, error) {
	addr, hours, err := placeText(l)
	if err != nil {
		return 0, err
	}
	id, err := t.id("location")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO location (id, code, name, address, keeper, hours, bins, position) VALUES (?,?,?,?,?,?,?,?)", id, l.Code,
		l.Name, addr, l.Keeper, hours, l.Bins, l.Position)
	return id, err
}

// placeText is a location's address and hours as they are kept.
func placeText(l Location) (address, hours string, err error) {
	a, err := json.Marshal(l.Address)
	if err != nil || !l.Hours.Said() {
		return string(a), "", err
	}
	h, err := json.Marshal(l.Hours)
	return string(a), string(h), err
}

type levelRow struct {
	ItemID     int64 `db:"item_id"`
	LocationID int64 `db:"location_id"`
	OnHand     int64 `db:"on_hand"`
	Allocated  int64 `db:"allocated"`
	OnOrder    int64 `db:"on_order"`
	InTransit  int64 `db:"in_transit"`
}

// Book loads the levels of the items at all locations.
func (t *Tx) Book(items []int64) (*stock.Book, error) {
	levels, err := loadLevels(t.sel, items)
	if err != nil {
		return nil, err
	}
	return stock.NewBook(levels), nil
}

// Levels loads the levels of the items at all locations.
func (s *Store) Levels(ctx context.Context, items []int64) (map[stock.Key]stock.Level, error) {
	return loadLevels(s.selector(ctx), items)
}

func loadLevels(sel selector, items []int64) (map[stock.Key]stock.Level, error) {
	levels := make(map[stock.Key]stock.Level, 2*len(items))
	for len(items) > 0 {
		n := min(len(items), 512)
		in, args := list(items[:n])
		var rows []levelRow
		if err := sel(&rows, "SELECT item_id, location_id, on_hand, allocated, on_order, in_transit FROM level WHERE item_id IN ("+in+")",
			args...); err != nil {
			return nil, fmt.Errorf("load levels: %w", err)
		}
		for _, r := range rows {
			levels[stock.Key{Item: r.ItemID, Location: r.LocationID}] = stock.Level{OnHand: r.OnHand, Allocated: r.Allocated,
				OnOrder: r.OnOrder, InTransit: r.InTransit}
		}
		items = items[n:]
	}
	return levels, nil
}

// Levels loads the levels of the items at all locations.
func (t *Tx) Levels(items []int64) (map[stock.Key]stock.Level, error) {
	return loadLevels(t.sel, items)
}

// Post writes the movements of a book to the ledger and brings the levels along. Each entry keeps the
// level after it, and no entry is older than the one before it, so that the past can be looked up.
func (t *Tx) Post(b *stock.Book) error {
	if len(b.Movements) == 0 {
		return nil
	}
	moves, err := t.intoBins(b.Movements)
	if err != nil {
		return err
	}
	after := make(map[stock.Key]stock.Level, len(moves))
	for _, k := range b.Touched() { // what was there before: the book's level less what it moved
		after[k] = b.Level(k)
	}
	for _, m := range b.Movements {
		l := after[m.Key]
		after[m.Key] = stock.Level{OnHand: l.OnHand - m.OnHand, Allocated: l.Allocated - m.Allocated, OnOrder: l.OnOrder - m.OnOrder,
			InTransit: l.InTransit - m.InTransit}
	}
	last, err := t.lastMoved()
	if err != nil {
		return err
	}
	rows := make([][]any, len(moves))
	for i, m := range moves {
		l := after[m.Key]
		l = stock.Level{OnHand: l.OnHand + m.OnHand, Allocated: l.Allocated + m.Allocated, OnOrder: l.OnOrder + m.OnOrder,
			InTransit: l.InTransit + m.InTransit}
		after[m.Key] = l
		last = max(last, micros(m.At))
		rows[i] = []any{m.Item, m.Location, last, string(m.Kind), m.OnHand, m.Allocated, m.Reason, m.Who, m.DocKind, m.DocID, m.OnOrder,
			m.InTransit, m.Bin, l.OnHand, l.Allocated, l.OnOrder, l.InTransit}
	}
	t.s.moved = last
	if _, err := t.insertMany(`INSERT INTO movement (item_id, location_id, at, kind, on_hand, allocated, reason, who, doc_kind,
		doc_id, on_order, in_transit, bin,
		after_on_hand, after_allocated, after_on_order, after_in_transit)`, 17, rows); err != nil {
		return fmt.Errorf("write ledger: %w", err)
	}
	for _, k := range b.Touched() {
		l := b.Level(k)
		if _, err := t.exec(`INSERT INTO level (item_id, location_id, on_hand, allocated, on_order, in_transit) VALUES (?,?,?,?,?,?)
			ON CONFLICT (item_id, location_id) DO UPDATE SET on_hand = excluded.on_hand, allocated = excluded.allocated,
			on_order = excluded.on_order, in_transit = excluded.in_transit`,
			k.Item, k.Location, l.OnHand, l.Allocated, l.OnOrder, l.InTransit); err != nil {
			return fmt.Errorf("write level: %w", err)
		}
	}
	return nil
}

// lastMoved is the time of the newest ledger entry. Only the one writer asks.
func (t *Tx) lastMoved() (int64, error) {
	if t.s.moved == 0 {
		if err := t.get(&t.s.moved, "SELECT coalesce((SELECT at FROM movement ORDER BY id DESC LIMIT 1), 1)"); err != nil {
			return 0, err
		}
	}
	return t.s.moved, nil
}

// intoBins decides from which bins goods are taken and into which they are put, where a movement does not
// say so: into the usual bin, and from it as far as it has them, then from the fullest others.
func (t *Tx) intoBins(list []stock.Movement) ([]stock.Movement, error) {
	out := make([]stock.Movement, 0, len(list))
	for _, m := range list {
		if m.OnHand == 0 {
			out = append(out, m)
			continue
		}
		parts := []binLevel{{m.Bin, m.OnHand}}
		if m.Bin == "" {
			usual, bins, err := t.binsOf(m.Item, m.Location)
			if err != nil {
				return nil, err
			}
			parts = draw(m.OnHand, usual, bins)
		}
		if m.Bin == stock.NoBin {
			parts[0].Bin = ""
		}
		for i, p := range parts {
			part := m
			part.Bin, part.OnHand = p.Bin, p.OnHand
			if i > 0 { // what is promised and under way moves once
				part.Allocated, part.OnOrder, part.InTransit = 0, 0, 0
			}
			if err := t.bin(m.Key, p.Bin, p.OnHand); err != nil {
				return nil, err
			}
			out = append(out, part)
		}
	}
	return out, nil
}

type binLevel struct {
	Bin    string `db:"bin"`
	OnHand int64  `db:"on_hand"`
}

func (t *Tx) binsOf(item, location int64) (usual string, bins []binLevel, err error) {
	if err = t.get(&usual, "SELECT bin FROM level WHERE item_id=? AND location_id=?", item, location); err != nil && err != ErrNotFound {
		return "", nil, err
	}
	err = t.sel(&bins, "SELECT bin, on_hand FROM bin_level WHERE item_id=? AND location_id=? ORDER BY on_hand DESC, bin", item, location)
	return usual, bins, err
}

// draw spreads a quantity over bins. What is put goes into the usual bin; what is taken comes from it, then
// from the others; what is nowhere is owed by the usual bin.
func draw(qty int64, usual string, bins []binLevel) []binLevel {
	if qty > 0 {
		return []binLevel{{usual, qty}}
	}
	var out []binLevel
	take := func(b binLevel) {
		if n := min(-qty, b.OnHand); n > 0 {
			out = append(out, binLevel{b.Bin, -n})
			qty += n
		}
	}
	for _, b := range bins {
		if b.Bin == usual {
			take(b)
		}
	}
	for _, b := range bins {
		if b.Bin != usual {
			take(b)
		}
	}
	if qty < 0 {
		for i := range out {
			if out[i].Bin == usual {
				out[i].OnHand += qty
				return out
			}
		}
		out = append(out, binLevel{usual, qty})
	}
	return out
}

func (t *Tx) bin(k stock.Key, bin string, by int64) error {
	if _, err := t.exec(`INSERT INTO bin_level (item_id, location_id, bin, on_hand) VALUES (?,?,?,?)
		ON CONFLICT (item_id, location_id, bin) DO UPDATE SET on_hand = on_hand + excluded.on_hand`, k.Item, k.Location, bin,
		by); err != nil {
		return fmt.Errorf("write bin: %w", err)
	}
	_, err := t.exec("DELETE FROM bin_level WHERE item_id=? AND location_id=? AND bin=? AND on_hand=0", k.Item, k.Location, bin)
	return err
}

// BinRow is what lies in a bin.
type BinRow struct {
	ItemID     int64  `db:"item_id"`
	LocationID int64  `db:"location_id"`
	Bin        string `db:"bin"`
	OnHand     int64  `db:"on_hand"`
}

// BinLevels lists what lies in which bins of the items.
func (s *Store) BinLevels(ctx context.Context, items []int64) ([]BinRow, error) {
	return binLevels(s.selector(ctx), items)
}

// BinLevels lists what lies in which bins of the items.
func (t *Tx) BinLevels(items []int64) ([]BinRow, error) { return binLevels(t.sel, items) }

func binLevels(sel selector, items []int64) ([]BinRow, error) {
	in, args := list(items)
	var out []BinRow
	err := sel(&out, "SELECT item_id, location_id, bin, on_hand FROM bin_level WHERE item_id IN ("+in+
		") ORDER BY item_id, location_id, bin", args...)
	return out, err
}

// InBin lists what lies in a bin of a location.
func (s *Store) InBin(ctx context.Context, location int64, bin string) ([]BinRow, error) {
	var out []BinRow
	err := s.read.SelectContext(ctx, &out, `SELECT item_id, location_id, bin, on_hand FROM bin_level WHERE location_id=?
		AND bin=? ORDER BY item_id`, location, bin)
	return out, err
}

// PickedAway counts the units of items that were picked or packed at a location and have not left: they
// are on hand by the ledger and no longer in their bins.
func (t *Tx) PickedAway(location int64, items []int64) (map[int64]int64, error) {
	in, args := list(items)
	var rows []struct {
		ItemID   int64 `db:"item_id"`
		Quantity int64 `db:"q"`
	}
	err := t.sel(&rows, `SELECT sl.item_id, sum(sl.picked - coalesce((SELECT sum(pl.quantity) FROM parcel p
		JOIN parcel_line pl ON pl.parcel_id=p.id AND pl.line_id=sl.line_id AND pl.item_id=sl.item_id
		WHERE p.shipment_id=s.id AND p.state IN ('shipped','delivered')), 0)) AS q
		FROM shipment s JOIN shipment_line sl ON sl.shipment_id = s.id
		WHERE s.state IN ('picking','packed') AND s.location_id = ? AND sl.item_id IN (`+in+`) GROUP BY sl.item_id`,
		append([]any{location}, args...)...)
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.ItemID] = r.Quantity
	}
	return out, err
}

// LevelsAt tells the levels of items at a moment, from the entries before it.
func (s *Store) LevelsAt(ctx context.Context, items []int64, at time.Time) (map[stock.Key]stock.Level, error) {
	last, err := s.movementAt(ctx, at)
	if err != nil {
		return nil, err
	}
	locations, err := s.Locations(ctx)
	if err != nil {
		return nil, err
	}
	out := map[stock.Key]stock.Level{}
	for _, item := range items {
		for _, l := range locations {
			var row levelRow
			err := s.read.GetContext(ctx, &row, `SELECT item_id, location_id, after_on_hand AS on_hand,
				after_allocated AS allocated, after_on_order AS on_order, after_in_transit AS in_transit
				FROM movement WHERE item_id=? AND location_id=? AND id<=? ORDER BY id DESC LIMIT 1`, item, l.ID, last)
			if found(err) == ErrNotFound {
				continue
			}
			if err != nil {
				return nil, err
			}
			out[stock.Key{Item: item, Location: l.ID}] = stock.Level{OnHand: row.OnHand, Allocated: row.Allocated, OnOrder: row.OnOrder,
				InTransit: row.InTransit}
		}
	}
	return out, nil
}

// movementAt finds the newest entry that is not younger than a moment. The ledger is ordered by time, so
// halving finds it without an index.
func (s *Store) movementAt(ctx context.Context, at time.Time) (int64, error) {
	var low, high int64
	if err := s.read.QueryRowContext(ctx, "SELECT 0, coalesce(max(id),0) FROM movement").Scan(&low, &high); err != nil {
		return 0, err
	}
	want := micros(at)
	for low < high { // entries up to low are not younger; those beyond high are
		mid := low + (high-low+1)/2
		var id, t int64
		if err := s.read.QueryRowContext(ctx, "SELECT id, at FROM movement WHERE id>=? ORDER BY id LIMIT 1", mid).Scan(&id,
			&t); err != nil {
			return 0, err
		}
		if t <= want {
			low = id
		} else {
			high = mid - 1
		}
	}
	return low, nil
}

// SetBin notes the bin where an item usually lies.
func (t *Tx) SetBin(item, location int64, bin string) error {
	_, err := t.exec(`INSERT INTO level (item_id, location_id, bin) VALUES (?,?,?) ON CONFLICT (item_id, location_id) DO UPDATE
		SET bin = excluded.bin`, item, location, bin)
	return err
}

// Bins tells where the items lie at a location.
func (s *Store) Bins(ctx context.Context, location int64, items []int64) (map[int64]string, error) {
	return loadBins(s.selector(ctx), location, items)
}

// Bins tells where the items lie at a location: in their usual bin, or, where it is empty, in the one with the most.
func (t *Tx) Bins(location int64, items []int64) (map[int64]string, error) {
	return loadBins(t.sel, location, items)
}

func loadBins(sel selector, location int64, items []int64) (map[int64]string, error) {
	var rows []struct {
		ItemID int64  `db:"item_id"`
		Bin    string `db:"bin"`
	}
	in, args := list(items)
	err := sel(&rows, `SELECT l.item_id, coalesce((SELECT b.bin FROM bin_level b WHERE b.item_id=l.item_id AND b.location_id=l.location_id
		AND b.on_hand>0 AND b.bin<>'' ORDER BY b.bin<>l.bin, b.on_hand DESC, b.bin LIMIT 1), l.bin) AS bin
		FROM level l WHERE l.location_id = ? AND l.item_id IN (`+in+`)`, append([]any{location}, args...)...)
	out := make(map[int64]string, len(rows))
	for _, r := range rows {
		out[r.ItemID] = r.Bin
	}
	return out, err
}

// StockRow is a level as lists show it.
type StockRow struct {
	ItemID       int64  `db:"item_id"`
	SKU          string `db:"sku"`
	Name         string `db:"name"`
	Category     string `db:"category"`
	LocationID   int64  `db:"location_id"`
	LocationCode string `db:"location_code"`
	LocationName string `db:"location_name"`
	Bin          string `db:"bin"`
	OnHand       int64  `db:"on_hand"`
	Allocated    int64  `db:"allocated"`
	OnOrder      int64  `db:"on_order"`
	InTransit    int64  `db:"in_transit"`
}

// StockFilter narrows a list of levels. State is negative, short (nothing available), low, coming (ordered or
// under way) or empty.
type StockFilter struct {
	Search, Location, State string
	AfterSKU                string
	AfterLocation           int64
	Limit                   int
}

// ListStock returns levels in order of SKU and location, those after a keyset first.
func (s *Store) ListStock(ctx context.Context, f StockFilter) ([]StockRow, error) {
	q := `SELECT item.id AS item_id, item.sku, item.name, item.category, l.location_id, p.code AS location_code,
		p.name AS location_name, l.bin, l.on_hand, l.allocated, l.on_order, l.in_transit
		FROM item JOIN level l ON l.item_id = item.id JOIN location p ON p.id = l.location_id WHERE (item.sku, l.location_id) > (?, ?)`
	args := []any{f.AfterSKU, f.AfterLocation}
	if f.Search != "" {
		cond, a := itemSearch(f.Search)
		q += " AND (" + cond + ")"
		args = append(args, a...)
	}
	if f.Location != "" {
		q += " AND p.code = ?"
		args = append(args, f.Location)
	}
	switch f.State {
	case "negative":
		q += " AND l.on_hand < 0"
	case "short":
		q += " AND l.on_hand - l.allocated <= 0"
	case "low":
		q += " AND l.on_hand - l.allocated BETWEEN 1 AND 4"
	case "coming":
		q += " AND (l.on_order > 0 OR l.in_transit > 0)"
	}
	var out []StockRow
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY item.sku, l.location_id LIMIT ?", append(args, f.Limit)...)
	return out, err
}

// MovementRow is a ledger entry as people read it.
type MovementRow struct {
	ID             int64  `db:"id"`
	At             int64  `db:"at"`
	Kind           string `db:"kind"`
	OnHand         int64  `db:"on_hand"`
	Allocated      int64  `db:"allocated"`
	OnOrder        int64  `db:"on_order"`
	InTransit      int64  `db:"in_transit"`
	Bin            string `db:"bin"`
	AfterOnHand    int64  `db:"after_on_hand"`
	AfterAllocated int64  `db:"after_allocated"`
	Reason         string `db:"reason"`
	Who            string `db:"who"`
	DocKind        string `db:"doc_kind"`
	DocID          int64  `db:"doc_id"`
	Document       string `db:"document"`
	LocationID     int64  `db:"location_id"`
}

// Movements lists the newest ledger entries of a level (location 0: of all locations) up to a moment (zero: now).
func (s *Store) Movements(ctx context.Context, item, location, before int64, upTo time.Time, limit int) ([]MovementRow, error) {
	if !upTo.IsZero() {
		last, err := s.movementAt(ctx, upTo)
		if err != nil {
			return nil, err
		}
		if before == 0 || last+1 < before {
			before = last + 1
		}
	}
	places := []int64{location}
	if location == 0 {
		places = places[:0]
		if err := s.read.SelectContext(ctx, &places, "SELECT id FROM location"); err != nil {
			return nil, err
		}
	}
	var out []MovementRow
	for _, at := range places { // each by its index, so that much-sold items are not sorted as a whole
		q := `SELECT m.id, m.at, m.kind, m.on_hand, m.allocated, m.on_order, m.in_transit, m.bin, m.after_on_hand,
			m.after_allocated, m.reason, ` + called("m.who") + ` AS who, m.doc_kind, m.doc_id, m.location_id,
			coalesce(CASE m.doc_kind WHEN 'order' THEN (SELECT number FROM orders
			WHERE id = m.doc_id) WHEN 'purchase' THEN (SELECT number FROM purchase WHERE id = m.doc_id)
			WHEN 'transfer' THEN (SELECT number FROM transfer WHERE id = m.doc_id) WHEN 'count' THEN (SELECT number
			FROM stock_count WHERE id = m.doc_id) END, '') AS document
			FROM movement m WHERE m.item_id = ? AND m.location_id = ?`
		args := []any{item, at}
		if before > 0 {
			q += " AND m.id < ?"
			args = append(args, before)
		}
		var part []MovementRow
		if err := s.read.SelectContext(ctx, &part, q+" ORDER BY m.id DESC LIMIT ?", append(args, limit)...); err != nil {
			return nil, err
		}
		out = append(out, part...)
	}
	slices.SortFunc(out, func(a, b MovementRow) int { return int(b.ID - a.ID) })
	return out[:min(len(out), limit)], nil
}

// OpenAllocation is an order that holds stock of an item.
type OpenAllocation struct {
	OrderNumber string `db:"number"`
	Stage       string `db:"stage"`
	LocationID  int64  `db:"location_id"`
	Quantity    int64  `db:"quantity"`
	OrderID     int64  `db:"order_id"`
}

// OpenAllocations lists the orders that hold stock of an item, newest first.
func (s *Store) OpenAllocations(ctx context.Context, item int64, limit int) ([]OpenAllocation, error) {
	var out []OpenAllocation
	err := s.read.SelectContext(ctx, &out, `SELECT o.number, o.stage, a.location_id, a.quantity, a.order_id FROM allocation a
		JOIN orders o ON o.id = a.order_id
		WHERE a.item_id = ? ORDER BY a.order_id DESC LIMIT ?`, item, limit)
	return out, err
}

// HasMovements tells whether the ledger knows an item at a location.
func (t *Tx) HasMovements(item, location int64) (bool, error) {
	var n int
	err := t.get(&n, "SELECT count(*) FROM (SELECT 1 FROM movement WHERE item_id=? AND location_id=? LIMIT 1)", item, location)
	return n > 0, err
}

// UpdateLocation writes what is said of a location.
func (t *Tx) UpdateLocation(l Location) error {
	addr, hours, err := placeText(l)
	if err != nil {
		return err
	}
	_, err = t.exec("UPDATE location SET name=?, address=?, keeper=?, hours=?, bins=?, position=?, archived_at=? WHERE id=?", l.Name, addr,
		l.Keeper, hours, l.Bins, l.Position, l.ArchivedAt, l.ID)
	return err
}

// PromisedAt lists the orders that held stock of an item at a moment, as far as a bounded look into the ledger
// finds them, newest first.
func (s *Store) PromisedAt(ctx context.Context, item int64, at time.Time, limit int) ([]OpenAllocation, error) {
	last, err := s.movementAt(ctx, at)
	if err != nil {
		return nil, err
	}
	var places []int64
	if err := s.read.SelectContext(ctx, &places, "SELECT id FROM location"); err != nil {
		return nil, err
	}
	var out []OpenAllocation
	for _, at := range places { // each by its index, and no further back than is bearable
		var part []OpenAllocation
		if err := s.read.SelectContext(ctx, &part, `SELECT coalesce(o.number, '') AS number, coalesce(o.stage, '') AS stage,
			m.location_id, m.quantity, m.doc_id AS order_id
			FROM (SELECT location_id, doc_id, sum(allocated) AS quantity FROM (SELECT location_id, allocated, doc_id, doc_kind
			FROM movement WHERE item_id = ? AND location_id = ? AND id <= ? ORDER BY id DESC LIMIT 3000)
			WHERE doc_kind = 'order' AND allocated <> 0 GROUP BY doc_id HAVING sum(allocated) > 0 ORDER BY doc_id DESC
			LIMIT ?) m LEFT JOIN orders o ON o.id = m.doc_id ORDER BY m.doc_id DESC`, item, at, last, limit); err != nil {
			return nil, err
		}
		out = append(out, part...)
	}
	return out, nil
}

// OnHand tells the least that lies of an item at any location; it may be below nothing.
func (t *Tx) OnHand(item int64) (least int64, err error) {
	err = t.get(&least, "SELECT coalesce(min(on_hand), 0) FROM level WHERE item_id = ?", item)
	return least, err
}
