package store

import (
	"context"
	"encoding/json"
	"fmt"

	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
)

// Location is a place that holds stock.
type Location struct {
	ID      int64         `db:"id" json:"id"`
	Code    string        `db:"code" json:"code"`
	Name    string        `db:"name" json:"name"`
	Address place.Address `db:"-" json:"address"`
}

// Locations lists all locations.
func (s *Store) Locations(ctx context.Context) ([]Location, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT id, code, name, address FROM location ORDER BY id")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Location
	for rows.Next() {
		var l Location
		var addr string
		if err := rows.Scan(&l.ID, &l.Code, &l.Name, &addr); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(addr), &l.Address); err != nil {
			return nil, fmt.Errorf("location %s: address: %w", l.Code, err)
		}
		out = append(out, l)
	}
	return out, rows.Err()
}

// AddLocation writes a new location.
func (t *Tx) AddLocation(l Location) (int64, error) {
	addr, err := json.Marshal(l.Address)
	if err != nil {
		return 0, err
	}
	id, err := t.id("location")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO location (id, code, name, address) VALUES (?,?,?,?)", id, l.Code, l.Name, string(addr))
	return id, err
}

type levelRow struct {
	ItemID     int64 `db:"item_id"`
	LocationID int64 `db:"location_id"`
	OnHand     int64 `db:"on_hand"`
	Allocated  int64 `db:"allocated"`
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
		if err := sel(&rows, "SELECT item_id, location_id, on_hand, allocated FROM level WHERE item_id IN ("+in+")", args...); err != nil {
			return nil, fmt.Errorf("load levels: %w", err)
		}
		for _, r := range rows {
			levels[stock.Key{Item: r.ItemID, Location: r.LocationID}] = stock.Level{OnHand: r.OnHand, Allocated: r.Allocated}
		}
		items = items[n:]
	}
	return levels, nil
}

// Post writes the movements of a book to the ledger and brings the levels along.
func (t *Tx) Post(b *stock.Book) error {
	if len(b.Movements) == 0 {
		return nil
	}
	rows := make([][]any, len(b.Movements))
	for i, m := range b.Movements {
		rows[i] = []any{m.Item, m.Location, micros(m.At), string(m.Kind), m.OnHand, m.Allocated, m.Reason, m.Who, m.DocKind, m.DocID}
	}
	if _, err := t.insertMany("INSERT INTO movement (item_id, location_id, at, kind, on_hand, allocated, reason, who, doc_kind, doc_id)", 10, rows); err != nil {
		return fmt.Errorf("write ledger: %w", err)
	}
	for _, k := range b.Touched() {
		l := b.Level(k)
		if _, err := t.exec(`INSERT INTO level (item_id, location_id, on_hand, allocated) VALUES (?,?,?,?)
			ON CONFLICT (item_id, location_id) DO UPDATE SET on_hand = excluded.on_hand, allocated = excluded.allocated`, k.Item, k.Location, l.OnHand, l.Allocated); err != nil {
			return fmt.Errorf("write level: %w", err)
		}
	}
	return nil
}

// SetBin notes the bin where an item usually lies.
func (t *Tx) SetBin(item, location int64, bin string) error {
	_, err := t.exec("INSERT INTO level (item_id, location_id, bin) VALUES (?,?,?) ON CONFLICT (item_id, location_id) DO UPDATE SET bin = excluded.bin", item, location, bin)
	return err
}

// Bins tells where the items lie at a location.
func (s *Store) Bins(ctx context.Context, location int64, items []int64) (map[int64]string, error) {
	return loadBins(s.selector(ctx), location, items)
}

// Bins tells where the items lie at a location.
func (t *Tx) Bins(location int64, items []int64) (map[int64]string, error) {
	return loadBins(t.sel, location, items)
}

func loadBins(sel selector, location int64, items []int64) (map[int64]string, error) {
	var rows []struct {
		ItemID int64  `db:"item_id"`
		Bin    string `db:"bin"`
	}
	in, args := list(items)
	err := sel(&rows, "SELECT item_id, bin FROM level WHERE location_id = ? AND item_id IN ("+in+")", append([]any{location}, args...)...)
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
}

// ListStock returns levels in order of SKU and location, those after a keyset first.
func (s *Store) ListStock(ctx context.Context, search, location, afterSKU string, afterLocation int64, limit int) ([]StockRow, error) {
	q := `SELECT i.id AS item_id, i.sku, i.name, i.category, l.location_id, p.code AS location_code, p.name AS location_name, l.bin, l.on_hand, l.allocated
		FROM item i JOIN level l ON l.item_id = i.id JOIN location p ON p.id = l.location_id WHERE (i.sku, l.location_id) > (?, ?)`
	args := []any{afterSKU, afterLocation}
	if search != "" {
		like := "%" + likeEscape(search) + "%"
		q += ` AND (i.sku LIKE ? ESCAPE '\' OR i.name LIKE ? ESCAPE '\' OR i.gtin = ?)`
		args = append(args, like, like, search)
	}
	if location != "" {
		q += " AND p.code = ?"
		args = append(args, location)
	}
	var out []StockRow
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY i.sku, l.location_id LIMIT ?", append(args, limit)...)
	return out, err
}

// MovementRow is a ledger entry as people read it.
type MovementRow struct {
	ID         int64  `db:"id"`
	At         int64  `db:"at"`
	Kind       string `db:"kind"`
	OnHand     int64  `db:"on_hand"`
	Allocated  int64  `db:"allocated"`
	Reason     string `db:"reason"`
	Who        string `db:"who"`
	DocKind    string `db:"doc_kind"`
	DocID      int64  `db:"doc_id"`
	Document   string `db:"document"`
	LocationID int64  `db:"location_id"`
}

// Movements lists the newest ledger entries of a level (location 0: of all locations).
func (s *Store) Movements(ctx context.Context, item, location, before int64, limit int) ([]MovementRow, error) {
	q := `SELECT m.id, m.at, m.kind, m.on_hand, m.allocated, m.reason, m.who, m.doc_kind, m.doc_id, m.location_id,
		coalesce(CASE m.doc_kind WHEN 'order' THEN (SELECT number FROM orders WHERE id = m.doc_id) END, '') AS document
		FROM movement m WHERE m.item_id = ?`
	args := []any{item}
	if location != 0 {
		q += " AND m.location_id = ?"
		args = append(args, location)
	}
	if before > 0 {
		q += " AND m.id < ?"
		args = append(args, before)
	}
	var out []MovementRow
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY m.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// OpenAllocation is an order that holds stock of an item.
type OpenAllocation struct {
	OrderNumber string `db:"number"`
	Stage       string `db:"stage"`
	LocationID  int64  `db:"location_id"`
	Quantity    int64  `db:"quantity"`
}

// OpenAllocations lists the orders that hold stock of an item, newest first.
func (s *Store) OpenAllocations(ctx context.Context, item int64, limit int) ([]OpenAllocation, error) {
	var out []OpenAllocation
	err := s.read.SelectContext(ctx, &out, `SELECT o.number, o.stage, a.location_id, a.quantity FROM allocation a JOIN orders o ON o.id = a.order_id
		WHERE a.item_id = ? ORDER BY a.order_id DESC LIMIT ?`, item, limit)
	return out, err
}

// HasMovements tells whether the ledger knows an item at a location.
func (t *Tx) HasMovements(item, location int64) (bool, error) {
	var n int
	err := t.get(&n, "SELECT count(*) FROM (SELECT 1 FROM movement WHERE item_id=? AND location_id=? LIMIT 1)", item, location)
	return n > 0, err
}

// UpdateLocation writes name and address of a location.
func (t *Tx) UpdateLocation(l Location) error {
	addr, err := json.Marshal(l.Address)
	if err != nil {
		return err
	}
	_, err = t.exec("UPDATE location SET name=?, address=? WHERE id=?", l.Name, string(addr), l.ID)
	return err
}
