package store

import (
	"context"
	"fmt"
	"time"
)

// Item is a thing sold.
type Item struct {
	ID       int64  `db:"id" json:"id"`
	SKU      string `db:"sku" json:"sku"`
	GTIN     string `db:"gtin" json:"gtin,omitempty"`
	Name     string `db:"name" json:"name"`
	Category string `db:"category" json:"category,omitempty"`
	Options  string `db:"options" json:"options,omitempty"`
	WeightG  int64  `db:"weight_g" json:"weight_g"`
	LengthMM int64  `db:"length_mm" json:"length_mm"`
	WidthMM  int64  `db:"width_mm" json:"width_mm"`
	HeightMM int64  `db:"height_mm" json:"height_mm"`
	Price    int64  `db:"price" json:"price"`
	Currency string `db:"currency" json:"currency"`
}

const itemCols = "id, sku, gtin, name, category, options, weight_g, length_mm, width_mm, height_mm, price, currency"

// AddItem writes a new item.
func (t *Tx) AddItem(i Item) (int64, error) {
	id, err := t.id("item")
	if err != nil {
		return 0, err
	}
	_, err = t.exec("INSERT INTO item ("+itemCols+") VALUES ("+placeholders(12)+")", id, i.SKU, i.GTIN, i.Name, i.Category, i.Options,
		i.WeightG, i.LengthMM, i.WidthMM, i.HeightMM, i.Price, i.Currency)
	if err != nil {
		return 0, fmt.Errorf("add item %s: %w", i.SKU, err)
	}
	return id, nil
}

// UpdateItem writes what an item is; its id and SKU stay.
func (t *Tx) UpdateItem(i Item) error {
	_, err := t.exec("UPDATE item SET gtin=?, name=?, category=?, options=?, weight_g=?, length_mm=?, width_mm=?, height_mm=?, price=?, currency=? WHERE id=?",
		i.GTIN, i.Name, i.Category, i.Options, i.WeightG, i.LengthMM, i.WidthMM, i.HeightMM, i.Price, i.Currency, i.ID)
	return err
}

// ItemByGTIN finds an item by its GTIN.
func (t *Tx) ItemByGTIN(gtin string) (int64, error) {
	var id int64
	err := t.get(&id, "SELECT id FROM item WHERE gtin=? AND gtin<>''", gtin)
	return id, err
}

// ItemsBySKU finds items by their SKUs.
func (t *Tx) ItemsBySKU(skus []string) (map[string]int64, error) {
	out := make(map[string]int64, len(skus))
	for len(skus) > 0 {
		n := min(len(skus), 512)
		in, args := list(skus[:n])
		rows, err := t.query("SELECT sku, id FROM item WHERE sku IN ("+in+")", args...)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			var sku string
			var id int64
			if err := rows.Scan(&sku, &id); err != nil {
				rows.Close()
				return nil, err
			}
			out[sku] = id
		}
		if err := rows.Close(); err != nil {
			return nil, err
		}
		skus = skus[n:]
	}
	return out, nil
}

// MatchesBySKU finds, for one connection, the items that listings with these SKUs were matched to.
func (t *Tx) MatchesBySKU(connection int64, skus []string) (map[string]int64, error) {
	out := make(map[string]int64)
	for len(skus) > 0 {
		n := min(len(skus), 512)
		in, args := list(skus[:n])
		var rows []struct {
			SKU    string `db:"sku"`
			ItemID int64  `db:"item_id"`
		}
		if err := t.sel(&rows, "SELECT sku, item_id FROM listing WHERE connection_id = ? AND item_id <> 0 AND sku IN ("+in+")", append([]any{connection}, args...)...); err != nil {
			return nil, err
		}
		for _, r := range rows {
			out[r.SKU] = r.ItemID
		}
		skus = skus[n:]
	}
	return out, nil
}

// Item loads one item by its SKU.
func (s *Store) Item(ctx context.Context, sku string) (Item, error) {
	var i Item
	err := s.read.GetContext(ctx, &i, "SELECT "+itemCols+" FROM item WHERE sku = ?", sku)
	return i, found(err)
}

// Items loads items by id.
func (s *Store) Items(ctx context.Context, ids []int64) (map[int64]Item, error) {
	return loadItems(s.selector(ctx), ids)
}

// Items loads items by id.
func (t *Tx) Items(ids []int64) (map[int64]Item, error) { return loadItems(t.sel, ids) }

func loadItems(sel selector, ids []int64) (map[int64]Item, error) {
	in, args := list(ids)
	var rows []Item
	err := sel(&rows, "SELECT "+itemCols+" FROM item WHERE id IN ("+in+")", args...)
	out := make(map[int64]Item, len(rows))
	for _, i := range rows {
		out[i.ID] = i
	}
	return out, err
}

// ListItems returns items in order of SKU after a keyset.
func (s *Store) ListItems(ctx context.Context, search, after string, limit int) ([]Item, error) {
	q, args := "SELECT "+itemCols+" FROM item WHERE sku > ?", []any{after}
	if search != "" {
		like := "%" + likeEscape(search) + "%"
		q += ` AND (sku LIKE ? ESCAPE '\' OR name LIKE ? ESCAPE '\' OR gtin = ?)`
		args = append(args, like, like, search)
	}
	var out []Item
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY sku LIMIT ?", append(args, limit)...)
	return out, err
}

// Listing is an item as one channel knows it.
type Listing struct {
	ID             int64  `db:"id"`
	ConnectionID   int64  `db:"connection_id"`
	ConnectionCode string `db:"connection_code"`
	ConnectionName string `db:"connection_name"`
	OutsideID      string `db:"outside_id"`
	SKU            string `db:"sku"`
	Title          string `db:"title"`
	Price          int64  `db:"price"`
	Currency       string `db:"currency"`
	URL            string `db:"url"`
	Live           bool   `db:"live"`
	ItemID         int64  `db:"item_id"`
	MatchedBy      string `db:"matched_by"`
	SeenQty        int64  `db:"seen_qty"`
	SeenAt         int64  `db:"seen_at"`
	ToldQty        int64  `db:"told_qty"`
	ToldAt         int64  `db:"told_at"`
}

const listingQuery = `SELECT l.id, l.connection_id, c.code AS connection_code, c.name AS connection_name, l.outside_id, l.sku, l.title, l.price, l.currency,
	l.url, l.live, l.item_id, l.matched_by, l.seen_qty, l.seen_at, l.told_qty, l.told_at FROM listing l JOIN connection c ON c.id = l.connection_id `

// ListingsOfItems lists where the items are listed.
func (s *Store) ListingsOfItems(ctx context.Context, items []int64) ([]Listing, error) {
	return listingsOf(s.selector(ctx), items)
}

// ListingsOfItems lists where the items are listed.
func (t *Tx) ListingsOfItems(items []int64) ([]Listing, error) { return listingsOf(t.sel, items) }

func listingsOf(sel selector, items []int64) ([]Listing, error) {
	var out []Listing
	for len(items) > 0 {
		n := min(len(items), 512)
		in, args := list(items[:n])
		var part []Listing
		if err := sel(&part, listingQuery+"WHERE l.item_id IN ("+in+") ORDER BY l.id", args...); err != nil {
			return nil, err
		}
		out = append(out, part...)
		items = items[n:]
	}
	return out, nil
}

// Listing loads one listing of a connection by SKU.
func (s *Store) Listing(ctx context.Context, connection, sku string) (Listing, error) {
	var l Listing
	err := s.read.GetContext(ctx, &l, listingQuery+"WHERE c.code = ? AND l.sku = ?", connection, sku)
	return l, found(err)
}

// MatchedListings lists the ids of all matched listings of a connection with their items.
func (t *Tx) MatchedListings(connection int64) ([]Listing, error) {
	var out []Listing
	err := t.sel(&out, listingQuery+"WHERE l.connection_id = ? AND l.item_id <> 0 ORDER BY l.id", connection)
	return out, err
}

// ListingsOf lists all listings of a connection.
func (s *Store) ListingsOf(ctx context.Context, connection int64) ([]Listing, error) {
	var out []Listing
	err := s.read.SelectContext(ctx, &out, listingQuery+"WHERE l.connection_id = ? ORDER BY l.sku, l.id", connection)
	return out, err
}

// PutListing writes a listing as the channel shows it and tells whether it is new. A match made
// before stays.
func (t *Tx) PutListing(l Listing, now time.Time) (isNew bool, err error) {
	n, err := t.exec(`UPDATE listing SET sku=?, title=?, price=?, currency=?, url=?, live=?, seen_qty=?, seen_at=?,
		item_id = CASE WHEN item_id = 0 THEN ? ELSE item_id END, matched_by = CASE WHEN item_id = 0 THEN ? ELSE matched_by END
		WHERE connection_id=? AND outside_id=?`, l.SKU, l.Title, l.Price, l.Currency, l.URL, l.Live, l.SeenQty, micros(now), l.ItemID, l.MatchedBy, l.ConnectionID, l.OutsideID)
	if err != nil || n > 0 {
		return false, err
	}
	_, err = t.exec(`INSERT INTO listing (connection_id, outside_id, sku, title, price, currency, url, live, item_id, matched_by, seen_qty, seen_at)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?)`, l.ConnectionID, l.OutsideID, l.SKU, l.Title, l.Price, l.Currency, l.URL, l.Live, l.ItemID, l.MatchedBy, l.SeenQty, micros(now))
	return true, err
}

// Told notes the quantity a channel accepted for a listing.
func (t *Tx) Told(listing, qty int64, at time.Time) error {
	_, err := t.exec("UPDATE listing SET told_qty=?, told_at=?, seen_qty=?, seen_at=? WHERE id=?", qty, micros(at), qty, micros(at), listing)
	return err
}

// Seen notes the quantity a channel shows for a SKU and returns the listing.
func (t *Tx) Seen(connection int64, sku string, qty int64, at time.Time) (Listing, error) {
	var l Listing
	if _, err := t.exec("UPDATE listing SET seen_qty=?, seen_at=? WHERE connection_id=? AND sku=?", qty, micros(at), connection, sku); err != nil {
		return l, err
	}
	err := t.get(&l, listingQuery+"WHERE l.connection_id=? AND l.sku=?", connection, sku)
	return l, err
}

// ItemByCode finds an item by SKU or GTIN.
func (s *Store) ItemByCode(ctx context.Context, code string) (Item, error) {
	var i Item
	err := s.read.GetContext(ctx, &i, "SELECT "+itemCols+" FROM item WHERE sku = ? OR (gtin = ? AND gtin <> '') LIMIT 1", code, code)
	return i, found(err)
}

// CountTold counts the listings that a channel has accepted a quantity for.
func (s *Store) CountTold(ctx context.Context) (int, error) {
	var n int
	err := s.read.GetContext(ctx, &n, "SELECT count(*) FROM listing WHERE told_qty >= 0")
	return n, err
}
