package store

import (
	"context"
	"time"

	"openrelay/internal/core/stock"
)

// Share is what a listing has of the last units of its item.
type Share struct {
	ListingID    int64 `db:"listing_id"`
	ItemID       int64 `db:"item_id"`
	ConnectionID int64 `db:"connection_id"`
	Left         int64 `db:"left_qty"`
	Before       int64 `db:"before_qty"`
	Doubt        int64 `db:"doubt_qty"`
	ToldAt       int64 `db:"told_at"`
	AcceptedAt   int64 `db:"accepted_at"`
}

const shareQuery = `SELECT listing_id, item_id, connection_id, left_qty, before_qty, doubt_qty, told_at, accepted_at FROM share `

// Shares are the shares of the listings of items.
func (t *Tx) Shares(items []int64) ([]Share, error) { return sharesOf(t.sel, items) }

// Shares are the shares of the listings of items.
func (s *Store) Shares(ctx context.Context, items []int64) ([]Share, error) {
	return sharesOf(s.selector(ctx), items)
}

func sharesOf(sel selector, items []int64) (out []Share, err error) {
	for len(items) > 0 {
		n := min(len(items), 512)
		in, args := list(items[:n])
		var part []Share
		if err := sel(&part, shareQuery+"WHERE item_id IN ("+in+") ORDER BY listing_id", args...); err != nil {
			return nil, err
		}
		out = append(out, part...)
		items = items[n:]
	}
	return out, nil
}

// PutShare writes the share of a listing.
func (t *Tx) PutShare(s Share) error {
	_, err := t.exec(`INSERT OR REPLACE INTO share (listing_id, item_id, connection_id, left_qty, before_qty, doubt_qty, told_at,
		accepted_at) VALUES (?,?,?,?,?,?,?,?)`, s.ListingID, s.ItemID, s.ConnectionID, s.Left, s.Before, s.Doubt, s.ToldAt, s.AcceptedAt)
	return err
}

// DropShare ends the share of a listing: it shows everything again.
func (t *Tx) DropShare(listing int64) error {
	_, err := t.exec("DELETE FROM share WHERE listing_id=?", listing)
	return err
}

// ShareAccepted notes that a channel accepted the last quantity of a listing that shares, and returns its item; 0 where it does not.
func (t *Tx) ShareAccepted(listing int64, at time.Time) (item int64, err error) {
	err = t.get(&item, "UPDATE share SET accepted_at=? WHERE listing_id=? AND accepted_at=0 RETURNING item_id", micros(at), listing)
	if err == ErrNotFound {
		return 0, nil
	}
	return item, err
}

// SharesUnderWay are the shares of which something that a channel was told earlier may be sold without our knowing.
func (s *Store) SharesUnderWay(ctx context.Context) (out []Share, err error) {
	err = s.read.SelectContext(ctx, &out, shareQuery+"WHERE before_qty>0 ORDER BY item_id, listing_id")
	return out, err
}

// OrderTook is what movements of an order changed of what is available of an item that it has a line of.
type OrderTook struct {
	Order      int64  `db:"order_id"`
	Connection int64  `db:"connection_id"`
	Item       int64  `db:"item_id"`
	SKU        string `db:"sku"`     // of the line, as the channel calls it
	Listing    string `db:"listing"` // the channel's number of the listing, where it tells it
	Units      int64  `db:"-"`       // below 0 where it gave back
}

// OrdersTook tells what orders took of items that are sold as they are, by movements of them: each line's words, with the units of the
// order as a whole. Orders that have no line of the item, as of a kit, are left out.
func (t *Tx) OrdersTook(moved []stock.Movement) ([]OrderTook, error) {
	type key struct{ item, order int64 }
	by := map[key]int64{}
	var orders []int64
	for _, m := range moved {
		if n := m.Allocated - m.OnHand; m.DocKind == "order" && n != 0 {
			by[key{m.Item, m.DocID}] += n
			orders = append(orders, m.DocID)
		}
	}
	if len(orders) == 0 {
		return nil, nil
	}
	in, args := list(orders)
	var rows []OrderTook
	if err := t.sel(&rows, `SELECT DISTINCT l.order_id, o.connection_id, l.item_id, l.sku, l.listing
		FROM orders o JOIN order_line l ON l.order_id=o.id WHERE o.id IN (`+in+`) AND l.item_id<>0 ORDER BY l.order_id, l.item_id`,
		args...); err != nil {
		return nil, err
	}
	out := rows[:0]
	for _, r := range rows {
		if r.Units = by[key{r.Item, r.Order}]; r.Units != 0 {
			out = append(out, r)
		}
	}
	return out, nil
}

// Paces tells how many units of an item orders of each connection took since a moment.
func (t *Tx) Paces(item int64, since time.Time) (map[int64]int64, error) {
	return pacesOf(t.sel, item, since)
}

// Paces tells how many units of an item orders of each connection took since a moment.
func (s *Store) Paces(ctx context.Context, item int64, since time.Time) (map[int64]int64, error) {
	return pacesOf(s.selector(ctx), item, since)
}

func pacesOf(sel selector, item int64, since time.Time) (map[int64]int64, error) {
	var rows []struct {
		Connection int64 `db:"connection_id"`
		Units      int64 `db:"units"`
	}
	err := sel(&rows, `SELECT o.connection_id, sum(m.allocated) AS units FROM movement m JOIN orders o ON o.id=m.doc_id
		WHERE m.item_id=? AND m.at>=? AND m.doc_kind='order' AND m.kind IN (?,?) GROUP BY o.connection_id`, item, micros(since),
		stock.Allocate, stock.Release)
	out := make(map[int64]int64, len(rows))
	for _, r := range rows {
		out[r.Connection] = max(0, r.Units)
	}
	return out, err
}

// SoldOut is an item of which few were left for a while.
type SoldOut struct {
	ID  int64  `db:"id"`
	SKU string `db:"sku"`
}

// RanLow lists items that several channels list and of which at some place no more than so many were left since a moment, those that
// moved most first, and how many there are.
func (s *Store) RanLow(ctx context.Context, since time.Time, most int64, limit int) (list []SoldOut, all int, err error) {
	first, err := s.firstMovement(ctx, since)
	if err != nil {
		return nil, 0, err
	}
	err = s.read.SelectContext(ctx, &list, `SELECT i.id, i.sku FROM (SELECT item_id, count(*) AS n FROM movement
			WHERE id>=? AND after_on_hand-after_allocated<=? AND doc_kind='order' GROUP BY item_id) m JOIN item i ON i.id=m.item_id
		WHERE i.kind='stocked' AND (SELECT count(DISTINCT connection_id) FROM listing l WHERE l.item_id=i.id)>1 ORDER BY m.n DESC, i.id`,
		first, most)
	return list[:min(len(list), limit)], len(list), err
}

// firstMovement is the first entry of the ledger since a moment. No entry is older than one before it.
func (s *Store) firstMovement(ctx context.Context, since time.Time) (int64, error) {
	var low, high int64
	if err := s.read.GetContext(ctx, &high, "SELECT coalesce(max(id), 0)+1 FROM movement"); err != nil {
		return 0, err
	}
	for low < high {
		var at int64
		middle := low + (high-low)/2
		err := s.read.GetContext(ctx, &at, "SELECT at FROM movement WHERE id>=? ORDER BY id LIMIT 1", middle)
		switch {
		case found(err) == ErrNotFound || err == nil && at >= micros(since):
			high = middle
		case err != nil:
			return 0, err
		default:
			low = middle + 1
		}
	}
	return low, nil
}

// PastSale is what an order asked for of an item.
type PastSale struct {
	Item       int64 `db:"item_id"`
	Connection int64 `db:"connection_id"`
	PlacedAt   int64 `db:"placed_at"`
	ReceivedAt int64 `db:"received_at"`
	Units      int64 `db:"units"`
}

// SalesOf lists what orders that came in since a moment asked for of items, whether it was there or not, in the order in which they were
// placed.
func (s *Store) SalesOf(ctx context.Context, items []int64, since time.Time) (out []PastSale, err error) {
	in, args := list(items)
	err = s.read.SelectContext(ctx, &out, `SELECT l.item_id, o.connection_id, o.placed_at, o.received_at, l.quantity AS units
		FROM orders o JOIN order_line l ON l.order_id=o.id WHERE o.received_at>=? AND o.forgotten_at=0 AND o.voided=0 AND o.test=0
			AND o.no_stock_moved=0 AND l.item_id IN (`+in+`) ORDER BY o.placed_at, o.id`, append([]any{micros(since)}, args...)...)
	return out, err
}

// PastChange is what an entry of the ledger did to what is available.
type PastChange struct {
	At     int64 `db:"at"`
	Change int64 `db:"change"`
	Sale   bool  `db:"sale"`
}

// ChangesOf lists how what is available of an item changed since a moment, oldest first, and how much there was then.
func (s *Store) ChangesOf(ctx context.Context, item int64, since time.Time) (list []PastChange, free int64, err error) {
	if err = s.read.SelectContext(ctx, &list, `SELECT at, on_hand-allocated AS change, kind=? AND doc_kind='order' AS sale FROM movement
		WHERE item_id=? AND at>=? AND on_hand<>allocated ORDER BY id`, stock.Allocate, item, micros(since)); err != nil {
		return nil, 0, err
	}
	if err = s.read.GetContext(ctx, &free, "SELECT coalesce(sum(on_hand-allocated),0) FROM level WHERE item_id=?", item); err != nil {
		return nil, 0, err
	}
	for _, m := range list {
		free -= m.Change
	}
	return list, free, nil
}
