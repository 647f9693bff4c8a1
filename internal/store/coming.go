package store

// Coming is what is to come of an item to a location on a day.
type Coming struct {
	ItemID     int64  `db:"item_id"`
	LocationID int64  `db:"location_id"`
	Day        string `db:"day"` // YYYY-MM-DD
	Units      int64  `db:"units"`
}

// Coming lists what is to come of items by open purchase orders that say when, earliest first.
func (t *Tx) Coming(items []int64) (out []Coming, err error) {
	in, args := list(items)
	err = t.sel(&out, `SELECT l.item_id, p.location_id, p.expected AS day, sum(l.ordered - l.received - l.short) AS units
		FROM purchase_line l JOIN purchase p ON p.id=l.purchase_id WHERE l.item_id IN (`+in+`) AND p.state='open' AND p.expected<>''
		AND l.ordered > l.received + l.short GROUP BY l.item_id, p.location_id, p.expected ORDER BY p.expected, l.item_id, p.location_id`,
		args...)
	return out, err
}

// WaitingUnits counts the units of items that orders wait for, but one order.
func (t *Tx) WaitingUnits(items []int64, but int64) (map[int64]int64, error) {
	in, args := list(items)
	var rows []struct {
		ItemID int64 `db:"item_id"`
		Units  int64 `db:"units"`
	}
	err := t.sel(&rows, `SELECT l.item_id, sum(l.quantity - l.cancelled - l.allocated - l.picked - l.packed - l.shipped) AS units
		FROM order_line l JOIN orders o ON o.id=l.order_id WHERE l.item_id IN (`+in+`)
		AND l.quantity > l.cancelled + l.allocated + l.picked + l.packed + l.shipped AND l.sells<>2
		AND o.voided=0 AND o.test=0 AND o.stage IN ('held','pending') AND o.id<>? GROUP BY l.item_id`, append(args, but)...)
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.ItemID] = r.Units
	}
	return out, err
}
