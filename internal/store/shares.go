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

// SoldOn tells how many units of an item that is sold as it is orders took of each connection, by what movements of them changed of what
// is available: below 0 where orders were called off. Orders that have no line of the item, as of a kit, are left out.
func (t *Tx) SoldOn(moved []stock.Movement) (map[int64]map[int64]int64, error) {
	type key struct{ item, order int64 }
	by := map[key]int64{}
	var orders []int64
	for _, m := range moved {
		if n := m.Allocated - m.OnHand; m.DocKind == "order" && n != 0 {
			by[key{m.Item, m.DocID}] += n
			orders = append(orders, m.DocID)
		}
	}
	out := map[int64]map[int64]int64{}
	if len(orders) == 0 {
		return out, nil
	}
	in, args := list(orders)
	var rows []struct {
		ID         int64 `db:"id"`
		Connection int64 `db:"connection_id"`
		Item       int64 `db:"item_id"`
	}
	if err := t.sel(&rows, `SELECT DISTINCT o.id, o.connection_id, l.item_id FROM orders o JOIN order_line l ON l.order_id=o.id
		WHERE o.id IN (`+in+`) AND l.item_id<>0`, args...); err != nil {
		return nil, err
	}
	for _, r := range rows {
		if n := by[key{r.Item, r.ID}]; n != 0 {
			if out[r.Item] == nil {
				out[r.Item] = map[int64]int64{}
			}
			out[r.Item][r.Connection] += n
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
