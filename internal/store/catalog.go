package store

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/stock"
)

// Item is a thing sold, as lists show it.
type Item struct {
	ID       int64  `db:"id" json:"id"`
	SKU      string `db:"sku" json:"sku"`
	Kind     string `db:"kind" json:"kind"`
	Family   string `db:"family" json:"family,omitempty"`
	GTIN     string `db:"gtin" json:"gtin,omitempty"`
	Name     string `db:"name" json:"name"`
	Category string `db:"category" json:"category,omitempty"`
	Options  string `db:"options" json:"options,omitempty"`
	Serials  bool   `db:"serials" json:"serials,omitempty"`
	Fragile  bool   `db:"fragile" json:"fragile,omitempty"`
	Upright  bool   `db:"upright" json:"upright,omitempty"`
	Archived bool   `db:"archived" json:"archived,omitempty"`
	WeightG  int64  `db:"weight_g" json:"weight_g"`
	LengthMM int64  `db:"length_mm" json:"length_mm"`
	WidthMM  int64  `db:"width_mm" json:"width_mm"`
	HeightMM int64  `db:"height_mm" json:"height_mm"`
	Price    int64  `db:"price" json:"price"`
	Currency string `db:"currency" json:"currency"`
	Revision int64  `db:"revision" json:"revision"`
}

const itemCols = "id, sku, kind, family, gtin, name, category, options, serials, fragile, upright, archived_at <> 0 AS archived, " +
	"weight_g, length_mm, width_mm, height_mm, price, currency, revision"

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

// ItemByCode finds an item by SKU or GTIN.
func (s *Store) ItemByCode(ctx context.Context, code string) (Item, error) {
	var i Item
	err := s.read.GetContext(ctx, &i, "SELECT "+itemCols+" FROM item WHERE sku = ? OR (gtin = ? AND gtin <> '') LIMIT 1", code, code)
	return i, found(err)
}

// full is an item with all of its columns.
type full struct {
	Item
	CustomsCode string `db:"customs_code"`
	Origin      string `db:"origin"`
	TaxClass    string `db:"tax_class"`
	Description string `db:"description"`
	Images      string `db:"images"`
}

// Record loads the whole record of an item.
func (s *Store) Record(ctx context.Context, sku string) (catalog.Item, error) {
	return record(s.selector(ctx), "sku = ?", sku)
}

// Record loads the whole record of an item.
func (t *Tx) Record(sku string) (catalog.Item, error) { return record(t.sel, "sku = ?", sku) }

func record(sel selector, where string, args ...any) (catalog.Item, error) {
	list, err := records(sel, where, args...)
	if err == nil && len(list) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return catalog.Item{}, err
	}
	return list[0], nil
}

// Records loads the whole records of items in order of SKU after a keyset.
func (s *Store) Records(ctx context.Context, after string, limit int) ([]catalog.Item, error) {
	return records(s.selector(ctx), "sku > ? ORDER BY sku LIMIT ?", after, limit)
}

// RecordsOf loads the whole records of some items.
func (s *Store) RecordsOf(ctx context.Context, ids []int64) ([]catalog.Item, error) {
	in, args := list(ids)
	return records(s.selector(ctx), "id IN ("+in+") ORDER BY sku", args...)
}

// RecordsOf loads the whole records of some items.
func (t *Tx) RecordsOf(ids []int64) ([]catalog.Item, error) {
	in, args := list(ids)
	return records(t.sel, "id IN ("+in+") ORDER BY sku", args...)
}

func records(sel selector, where string, args ...any) ([]catalog.Item, error) {
	var rows []full
	if err := sel(&rows, "SELECT "+itemCols+", customs_code, origin, tax_class, description, images FROM item WHERE "+where,
		args...); err != nil {
		return nil, err
	}
	out := make([]catalog.Item, len(rows))
	byID := make(map[int64]*catalog.Item, len(rows))
	ids := make([]int64, len(rows))
	for i, r := range rows {
		out[i] = catalog.Item{ID: r.ID, SKU: r.SKU, Kind: catalog.Kind(r.Kind), Family: r.Family, Name: r.Name, Options: r.Options,
			GTIN: r.GTIN, Category: r.Category, Description: r.Description,
			Serials: r.Serials, Fragile: r.Fragile, Upright: r.Upright,
			WeightG: r.WeightG, LengthMM: r.LengthMM, WidthMM: r.WidthMM, HeightMM: r.HeightMM,
			CustomsCode: r.CustomsCode, Origin: r.Origin, TaxClass: r.TaxClass,
			Price: r.Price, Currency: r.Currency, Archived: r.Archived, Revision: r.Revision}
		if err := json.Unmarshal([]byte(r.Images), &out[i].Images); err != nil {
			return nil, fmt.Errorf("item %s: images: %w", r.SKU, err)
		}
		byID[r.ID], ids[i] = &out[i], r.ID
	}
	for len(ids) > 0 {
		n := min(len(ids), 512)
		in, args := list(ids[:n])
		var more []struct {
			ItemID int64  `db:"item_id"`
			What   string `db:"what"`
			Text   string `db:"text"`
			Number int64  `db:"number"`
		}
		args = append(append(append(append([]any{}, args...), args...), args...), args...)
		if err := sel(&more, `SELECT item_id, 'mark' AS what, mark AS text, 0 AS number FROM item_mark WHERE item_id IN (`+in+`)
			UNION ALL SELECT item_id, 'price', list, price FROM item_price WHERE item_id IN (`+in+`)
			UNION ALL SELECT g.item_id, 'group', g.code, g.position FROM item_group g WHERE g.item_id IN (`+in+`)
			UNION ALL SELECT p.kit_id, 'part', i.sku, p.quantity FROM kit_part p JOIN item i ON i.id = p.item_id
			WHERE p.kit_id IN (`+in+`) ORDER BY 1, 2, 4, 3`, args...); err != nil {
			return nil, err
		}
		for _, m := range more {
			it := byID[m.ItemID]
			switch m.What {
			case "mark":
				it.Marks = append(it.Marks, m.Text)
			case "price":
				it.Prices = append(it.Prices, catalog.Price{List: m.Text, Price: m.Number})
			case "group":
				it.Groups = append(it.Groups, m.Text)
			case "part":
				it.Parts = append(it.Parts, catalog.Part{SKU: m.Text, Quantity: m.Number})
			}
		}
		ids = ids[n:]
	}
	return out, nil
}

// AddItem writes a new item.
func (t *Tx) AddItem(i catalog.Item, now time.Time) (int64, error) {
	id, err := t.id("item")
	if err != nil {
		return 0, err
	}
	if _, err = t.exec("INSERT INTO item (id, sku, name, normal_sku) VALUES (?,?,?,?)", id, i.SKU, i.Name,
		catalog.NormalSKU(i.SKU)); err != nil {
		return 0, fmt.Errorf("add item %s: %w", i.SKU, err)
	}
	i.ID = id
	return id, t.UpdateItem(i, now)
}

// UpdateItem writes what an item is; its id stays.
func (t *Tx) UpdateItem(i catalog.Item, now time.Time) error {
	images := []byte("[]")
	if len(i.Images) > 0 {
		images, _ = json.Marshal(i.Images)
	}
	var archived int64
	if i.Archived {
		archived = micros(now)
	}
	if _, err := t.exec(`UPDATE item SET sku=?, normal_sku=?, kind=?, family=?, gtin=?, name=?, category=?, options=?,
		serials=?, fragile=?, upright=?, archived_at=CASE WHEN ?=0 THEN 0 WHEN archived_at<>0 THEN archived_at ELSE ? END,
		weight_g=?, length_mm=?, width_mm=?, height_mm=?, price=?, currency=?, customs_code=?, origin=?, tax_class=?,
		description=?, images=?, revision=revision+1 WHERE id=?`,
		i.SKU, catalog.NormalSKU(i.SKU), string(i.Kind), i.Family, i.GTIN, i.Name, i.Category, i.Options, i.Serials,
		i.Fragile, i.Upright, archived, archived,
		i.WeightG, i.LengthMM, i.WidthMM, i.HeightMM, i.Price, i.Currency, i.CustomsCode, i.Origin, i.TaxClass, i.Description,
		string(images), i.ID); err != nil {
		return fmt.Errorf("write item %s: %w", i.SKU, err)
	}
	if _, err := t.exec("INSERT OR REPLACE INTO item_text (rowid, sku, name, gtin, category, options) VALUES (?,?,?,?,?,?)", i.ID, i.SKU,
		i.Name, i.GTIN, i.Category, i.Options); err != nil {
		return err
	}
	for _, q := range []string{"DELETE FROM item_mark WHERE item_id=?", "DELETE FROM item_price WHERE item_id=?",
		"DELETE FROM item_group WHERE item_id=?", "DELETE FROM kit_part WHERE kit_id=?"} {
		if _, err := t.exec(q, i.ID); err != nil {
			return err
		}
	}
	for _, m := range i.Marks {
		if _, err := t.exec("INSERT INTO item_mark (mark, item_id) VALUES (?,?)", m, i.ID); err != nil {
			return err
		}
	}
	for _, p := range i.Prices {
		if _, err := t.exec("INSERT INTO item_price (item_id, list, price) VALUES (?,?,?)", i.ID, p.List, p.Price); err != nil {
			return fmt.Errorf("price of %s on list %s: %w", i.SKU, p.List, err)
		}
	}
	for n, g := range i.Groups {
		if _, err := t.exec("INSERT INTO item_group (item_id, position, code) VALUES (?,?,?)", i.ID, n, g); err != nil {
			return fmt.Errorf("option group %s of %s: %w", g, i.SKU, err)
		}
	}
	for n, p := range i.Parts {
		if _, err := t.exec("INSERT INTO kit_part (kit_id, item_id, quantity, position) SELECT ?, id, ?, ? FROM item WHERE sku=?", i.ID,
			p.Quantity, n, p.SKU); err != nil {
			return err
		}
	}
	return nil
}

// Special loads what is to be known of items that are not simply stocked: kits with their parts, items
// without stock, charges and archived ones.
func (s *Store) Special(ctx context.Context) (map[int64]Sold, error) { return special(s.selector(ctx)) }

// Special loads what is to be known of items that are not simply stocked.
func (t *Tx) Special() (map[int64]Sold, error) { return special(t.sel) }

// Sold is what an item is when it is sold.
type Sold struct {
	stock.Goods
	Charge   bool
	Archived bool
	SKU      string
	Marks    []string // serials: each unit has a number of its own
}

func special(sel selector) (map[int64]Sold, error) {
	var rows []struct {
		ID       int64  `db:"id"`
		SKU      string `db:"sku"`
		Kind     string `db:"kind"`
		Archived bool   `db:"archived"`
	}
	if err := sel(&rows, `SELECT id, sku, kind, archived_at <> 0 AS archived FROM item WHERE kind <> 'stocked'
		OR archived_at <> 0`); err != nil {
		return nil, err
	}
	out := make(map[int64]Sold, len(rows))
	for _, r := range rows {
		g := Sold{Goods: stock.One(r.ID), Archived: r.Archived, SKU: r.SKU}
		switch catalog.Kind(r.Kind) {
		case catalog.MadeToOrder, catalog.Prepared:
			g.NoStock = true
		case catalog.Charge:
			g.NoStock, g.Charge = true, true
		}
		if r.Archived {
			g.Barred = "The item is archived"
		}
		out[r.ID] = g
	}
	var parts []struct {
		Kit      int64  `db:"kit_id"`
		Item     int64  `db:"item_id"`
		Quantity int64  `db:"quantity"`
		SKU      string `db:"sku"`
		Archived bool   `db:"archived"`
		Kind     string `db:"kind"`
	}
	if err := sel(&parts, `SELECT p.kit_id, p.item_id, p.quantity, i.sku, i.archived_at <> 0 AS archived, i.kind
		FROM kit_part p JOIN item i ON i.id = p.item_id ORDER BY p.kit_id, p.position`); err != nil {
		return nil, err
	}
	if err := addMarks(sel, out); err != nil {
		return nil, err
	}
	for _, p := range parts {
		g, ok := out[p.Kit]
		if !ok {
			continue
		}
		if p.Archived && g.Barred == "" {
			g.Barred = fmt.Sprintf("Its component %s is archived", p.SKU)
		}
		g.Parts = append(g.Parts, stock.Component{Item: p.Item, Quantity: p.Quantity})
		out[p.Kit] = g
	}
	return out, nil
}

// addMarks adds what not every place can send.
func addMarks(sel selector, out map[int64]Sold) error {
	var marks []struct {
		Item int64  `db:"item_id"`
		Mark string `db:"mark"`
	}
	if err := sel(&marks, `SELECT item_id, mark FROM item_mark UNION ALL SELECT id, 'serials' FROM item WHERE serials<>0
		ORDER BY 1, 2`); err != nil {
		return err
	}
	for _, m := range marks {
		g, ok := out[m.Item]
		if !ok {
			g = Sold{Goods: stock.One(m.Item)}
		}
		g.Marks = append(g.Marks, m.Mark)
		out[m.Item] = g
	}
	return nil
}

// ItemFilter narrows a list of items. After is the keyset.
type ItemFilter struct {
	Search, Kind, Mark, Family, Category string
	Archived                             bool // those that are archived, otherwise those that are not
	Unlisted                             bool // on no channel
	After                                string
	Limit                                int
}

// ListItems returns items in order of SKU after a keyset.
func (s *Store) ListItems(ctx context.Context, f ItemFilter) ([]Item, error) {
	q, args := listItemsQuery(f)
	var out []Item
	err := s.read.SelectContext(ctx, &out, q, args...)
	return out, err
}

func listItemsQuery(f ItemFilter) (string, []any) {
	q, args := "SELECT "+itemCols+" FROM item WHERE sku > ?", []any{f.After}
	and := func(cond string, a ...any) { q += " AND " + cond; args = append(args, a...) }
	and("(archived_at <> 0) = ?", f.Archived)
	if f.Search != "" {
		cond, a := itemSearch(f.Search)
		and("("+cond+")", a...)
	}
	for _, c := range []struct{ column, value string }{{"kind", f.Kind}, {"family", f.Family}, {"category", f.Category}} {
		if c.value != "" {
			and(c.column+" = ?", c.value)
		}
	}
	if f.Mark != "" {
		and("id IN (SELECT item_id FROM item_mark WHERE mark = ?)", f.Mark)
	}
	if f.Unlisted {
		and("NOT EXISTS (SELECT 1 FROM listing l WHERE l.item_id = item.id)")
	}
	return q + " ORDER BY sku LIMIT ?", append(args, f.Limit)
}

// itemSearch finds items by a part of SKU, name, GTIN, group or options. Text of one or two letters, for
// which there is no index of parts, is looked for at the beginning of the SKU.
func itemSearch(search string) (string, []any) {
	words := strings.Fields(search)
	var long []string
	for _, w := range words {
		if len([]rune(w)) > 2 {
			long = append(long, `"`+strings.ReplaceAll(w, `"`, `""`)+`"`)
		}
	}
	if len(long) == 0 {
		return "item.sku >= ? AND item.sku < ? || char(1114111)", []any{strings.ToUpper(search), strings.ToUpper(search)}
	}
	return "item.id IN (SELECT rowid FROM item_text WHERE item_text MATCH ?)", []any{strings.Join(long, " AND ")}
}

// Known loads all items that are sold, as matching sees them.
func (s *Store) Known(ctx context.Context) ([]catalog.Known, error) {
	rows, err := s.read.QueryContext(ctx, `SELECT id, sku, gtin, name, options, price, currency FROM item WHERE archived_at = 0
		AND kind <> 'charge' ORDER BY id`)
	if err != nil {
		return nil, err
	}
	return scanKnown(rows)
}

func scanKnown(rows interface {
	Next() bool
	Scan(...any) error
	Err() error
	Close() error
}) ([]catalog.Known, error) {
	defer rows.Close()
	var out []catalog.Known
	for rows.Next() {
		var k catalog.Known
		if err := rows.Scan(&k.ID, &k.SKU, &k.GTIN, &k.Name, &k.Options, &k.Price, &k.Currency); err != nil {
			return nil, err
		}
		out = append(out, k)
	}
	return out, rows.Err()
}

// Named finds the items that a listing's codes name.
func (t *Tx) Named(sku, gtin string) (f catalog.Found, err error) {
	for _, c := range []struct {
		where string
		args  []any
		to    *[]catalog.Known
	}{
		{"sku = ?", []any{sku}, &f.SKU},
		{"normal_sku = ? AND archived_at = 0", []any{catalog.NormalSKU(sku)}, &f.Near},
		{"gtin IN (?,?,?) AND gtin <> '' AND archived_at = 0", gtinForms(gtin), &f.GTIN},
	} {
		if c.args[0] == "" {
			continue
		}
		rows, err := t.query("SELECT id, sku, gtin, name, options, price, currency FROM item WHERE "+c.where+" LIMIT 3", c.args...)
		if err != nil {
			return f, err
		}
		if *c.to, err = scanKnown(rows); err != nil {
			return f, err
		}
	}
	return f, nil
}

// gtinForms are the ways in which one GTIN may be written: with and without zeros before it.
func gtinForms(g string) []any {
	if g == "" {
		return []any{"", "", ""}
	}
	short := strings.TrimLeft(g, "0")
	pad := func(n int) string { return strings.Repeat("0", max(0, n-len(short))) + short }
	return []any{g, pad(13), pad(14)}
}

// The owners of a field that are no connection.
const (
	Ours     = 0  // our word counts alone
	Whosever = -1 // nobody said whose word counts
)

// SetOwners writes which connection's word counts for fields of items, or Ours or Whosever.
func (t *Tx) SetOwners(owners map[string]int64) error {
	for f, c := range owners {
		q, args := `INSERT INTO field_owner (field, connection_id) VALUES (?,?) ON CONFLICT (field) DO UPDATE
			SET connection_id = excluded.connection_id`, []any{f, c}
		if c == Whosever {
			q, args = "DELETE FROM field_owner WHERE field = ?", []any{f}
		}
		if _, err := t.exec(q, args...); err != nil {
			return err
		}
	}
	return nil
}

// Owners tells which connection's word counts for fields of items, or Ours. A field of which nobody said it is left out.
func (s *Store) Owners(ctx context.Context) (map[string]int64, error) { return owners(s.selector(ctx)) }

// Owners tells which connection's word counts for fields of items, or Ours. A field of which nobody said it is left out.
func (t *Tx) Owners() (map[string]int64, error) { return owners(t.sel) }

func owners(sel selector) (map[string]int64, error) {
	var rows []struct {
		Field string `db:"field"`
		ID    int64  `db:"connection_id"`
	}
	err := sel(&rows, "SELECT field, connection_id FROM field_owner")
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Field] = r.ID
	}
	return out, err
}

// PriceList is a list of prices beside the items' own.
type PriceList struct {
	Code     string `db:"code" json:"code"`
	Name     string `db:"name" json:"name"`
	Currency string `db:"currency" json:"currency"`
}

// PriceLists lists the price lists.
func (s *Store) PriceLists(ctx context.Context) ([]PriceList, error) {
	out := []PriceList{}
	err := s.read.SelectContext(ctx, &out, "SELECT code, name, currency FROM price_list ORDER BY code")
	return out, err
}

// PutPriceList writes a price list.
func (t *Tx) PutPriceList(p PriceList) error {
	_, err := t.exec(`INSERT INTO price_list (code, name, currency) VALUES (?,?,?) ON CONFLICT (code) DO UPDATE
		SET name=excluded.name, currency=excluded.currency`, p.Code, p.Name, p.Currency)
	return err
}

// Groups lists the option groups.
func (s *Store) Groups(ctx context.Context) ([]catalog.Group, error) { return groups(s.selector(ctx)) }

// Groups lists the option groups.
func (t *Tx) Groups() ([]catalog.Group, error) { return groups(t.sel) }

func groups(sel selector) ([]catalog.Group, error) {
	var rows []struct {
		Code    string `db:"code"`
		Name    string `db:"name"`
		Least   int64  `db:"least"`
		Most    int64  `db:"most"`
		Choices string `db:"choices"`
	}
	if err := sel(&rows, "SELECT code, name, least, most, choices FROM option_group ORDER BY code"); err != nil {
		return nil, err
	}
	out := make([]catalog.Group, len(rows))
	for i, r := range rows {
		out[i] = catalog.Group{Code: r.Code, Name: r.Name, Least: r.Least, Most: r.Most}
		if err := json.Unmarshal([]byte(r.Choices), &out[i].Choices); err != nil {
			return nil, fmt.Errorf("option group %s: %w", r.Code, err)
		}
	}
	return out, nil
}

// PutGroup writes an option group.
func (t *Tx) PutGroup(g catalog.Group) error {
	choices, err := json.Marshal(g.Choices)
	if err != nil {
		return err
	}
	_, err = t.exec(`INSERT INTO option_group (code, name, least, most, choices) VALUES (?,?,?,?,?)
		ON CONFLICT (code) DO UPDATE SET name=excluded.name, least=excluded.least, most=excluded.most, choices=excluded.choices`, g.Code,
		g.Name, g.Least, g.Most, string(choices))
	return err
}

// KitsWith names the kits that an item is part of.
func (t *Tx) KitsWith(item int64) ([]string, error) { return kitsWith(t.sel, item) }

// KitsWith names the kits that an item is part of.
func (s *Store) KitsWith(ctx context.Context, item int64) ([]string, error) {
	return kitsWith(s.selector(ctx), item)
}

func kitsWith(sel selector, item int64) ([]string, error) {
	var rows []struct {
		SKU string `db:"sku"`
	}
	err := sel(&rows, "SELECT i.sku FROM kit_part p JOIN item i ON i.id = p.kit_id WHERE p.item_id = ? ORDER BY i.sku", item)
	out := make([]string, len(rows))
	for i, r := range rows {
		out[i] = r.SKU
	}
	return out, err
}

// OnHandAnywhere counts what lies of an item, or is promised or to come, at any location.
func (t *Tx) OnHandAnywhere(item int64) (n int64, err error) {
	err = t.get(&n, "SELECT coalesce(sum(abs(on_hand) + abs(allocated) + on_order + in_transit), 0) FROM level WHERE item_id = ?", item)
	return n, err
}

// PriceListCodes lists the codes of the price lists.
func (t *Tx) PriceListCodes() ([]string, error) {
	var rows []PriceList
	err := t.sel(&rows, "SELECT code, name, currency FROM price_list ORDER BY code")
	out := make([]string, len(rows))
	for i, r := range rows {
		out[i] = r.Code
	}
	return out, err
}

// VariantWith finds another item of a family with the same options.
func (t *Tx) VariantWith(family, options string, but int64) (string, error) {
	var sku string
	err := t.get(&sku, "SELECT sku FROM item WHERE family = ? AND family <> '' AND options = ? AND id <> ? AND archived_at = 0 LIMIT 1",
		family, options, but)
	if err == ErrNotFound {
		return "", nil
	}
	return sku, err
}
