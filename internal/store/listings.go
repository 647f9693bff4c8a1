package store

import (
	"context"
	"encoding/json"
	"time"

	"openrelay/internal/core/stock"
)

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
	GTIN           string `db:"gtin"`
	State          string `db:"state"`  // live, off, in review, rejected, submitted, or what else the channel says
	Reason         string `db:"reason"` // why the channel rejected it
	Category       string `db:"category"`
	Doubt          string `db:"doubt"` // why it was not matched by itself
	IgnoredAt      int64  `db:"ignored_at"`
	IgnoredBy      string `db:"ignored_by"`
	IgnoredName    string `db:"ignored_name"` // what that person is called
	Own            string `db:"own"`          // JSON: what is said on this channel only
	Policy         string `db:"policy"`       // JSON: a stock.Override
	Published      string `db:"published"`    // JSON: what the channel last accepted of us
}

// Override is how the quantity of the listing differs from its channel's policy, or nil.
func (l *Listing) Override() *stock.Override {
	if l.Policy == "" {
		return nil
	}
	o := new(stock.Override)
	if json.Unmarshal([]byte(l.Policy), o) != nil {
		return nil
	}
	return o
}

var listingQuery = `SELECT l.id, l.connection_id, c.code AS connection_code, c.name AS connection_name, l.outside_id, l.sku,
	l.title, l.price, l.currency,
	l.url, l.live, l.item_id, l.matched_by, l.seen_qty, l.seen_at, l.told_qty, l.told_at, l.gtin, l.state, l.reason,
	l.category, l.doubt, l.ignored_at, l.ignored_by, ` + called("l.ignored_by") + ` AS ignored_name,
	l.own, l.policy, l.published
	FROM listing l JOIN connection c ON c.id = l.connection_id `

// ListingsOfItems lists where the items are listed.
func (s *Store) ListingsOfItems(ctx context.Context, items []int64) ([]Listing, error) {
	return listingsOf(s.selector(ctx), items)
}

// ListingsOfItems lists where the items are listed.
func (t *Tx) ListingsOfItems(items []int64) ([]Listing, error) { return listingsOf(t.sel, items) }

// ListingsByID loads listings.
func (t *Tx) ListingsByID(ids []int64) ([]Listing, error) { return listingsWhere(t.sel, "l.id", ids) }

func listingsOf(sel selector, items []int64) ([]Listing, error) {
	return listingsWhere(sel, "l.item_id", items)
}

// listingsWhere loads the listings that have one of the values in a column, some at a time.
func listingsWhere(sel selector, column string, items []int64) ([]Listing, error) {
	var out []Listing
	for len(items) > 0 {
		n := min(len(items), 512)
		in, args := list(items[:n])
		var part []Listing
		if err := sel(&part, listingQuery+"WHERE "+column+" IN ("+in+") ORDER BY l.id", args...); err != nil {
			return nil, err
		}
		out = append(out, part...)
		items = items[n:]
	}
	return out, nil
}

// Listing loads one listing of a connection by SKU or the channel's number.
func (s *Store) Listing(ctx context.Context, connection, sku string) (Listing, error) {
	var l Listing
	err := s.read.GetContext(ctx, &l, listingQuery+`WHERE c.code = ? AND (l.sku = ? OR l.outside_id = ?)
		ORDER BY l.outside_id <> ?, l.item_id = 0, l.id LIMIT 1`, connection, sku, sku, sku)
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
func (t *Tx) PutListing(l *Listing, now time.Time) (isNew bool, err error) {
	var old struct {
		ID      int64 `db:"id"`
		SeenQty int64 `db:"seen_qty"`
	}
	err = t.get(&old, "SELECT id, seen_qty FROM listing WHERE connection_id=? AND outside_id=?", l.ConnectionID, l.OutsideID)
	switch {
	case err == nil:
		l.ID = old.ID
		if _, err := t.exec(`UPDATE listing SET sku=?, title=?, price=?, currency=?, url=?, live=?, seen_qty=?, seen_at=?,
			gtin=?, state=?, reason=?, category=?,
			doubt = CASE WHEN item_id = 0 THEN ? ELSE '' END, item_id = CASE WHEN item_id = 0
			AND ignored_at = 0 THEN ? ELSE item_id END, matched_by = CASE WHEN item_id = 0 AND ignored_at = 0 THEN ? ELSE matched_by END
			WHERE id=?`, l.SKU, l.Title, l.Price, l.Currency, l.URL, l.Live, l.SeenQty, micros(now), l.GTIN, l.State, l.Reason,
			l.Category, l.Doubt, l.ItemID, l.MatchedBy, l.ID); err != nil {
			return false, err
		}
		if old.SeenQty != l.SeenQty {
			err = t.Shown(l.ID, l.SeenQty, "seen", now)
		}
		return false, err
	case err != ErrNotFound:
		return false, err
	}
	if l.ID, err = t.id("listing"); err != nil {
		return false, err
	}
	if _, err = t.exec(`INSERT INTO listing (id, connection_id, outside_id, sku, title, price, currency, url, live, item_id,
		matched_by, seen_qty, seen_at, gtin, state, reason, category, doubt)
		VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)`, l.ID, l.ConnectionID, l.OutsideID, l.SKU, l.Title, l.Price, l.Currency, l.URL,
		l.Live, l.ItemID, l.MatchedBy, l.SeenQty, micros(now),
		l.GTIN, l.State, l.Reason, l.Category, l.Doubt); err != nil {
		return false, err
	}
	return true, t.Shown(l.ID, l.SeenQty, "seen", now)
}

// Shown notes what a listing shows from a moment on, and how we know: "told" by us, "seen" there.
func (t *Tx) Shown(listing, qty int64, how string, at time.Time) error {
	_, err := t.exec("INSERT OR REPLACE INTO shown (listing_id, at, how, qty) VALUES (?,?,?,?)", listing, micros(at), how, qty)
	return err
}

// ForgetShown forgets what listings showed before a moment, but for the newest of each.
func (t *Tx) ForgetShown(before time.Time) (int64, error) {
	return t.exec(`DELETE FROM shown WHERE at < ? AND at < (SELECT max(s.at) FROM shown s WHERE s.listing_id = shown.listing_id
		AND s.at < ?)`, micros(before), micros(before))
}

// ShownAt tells what a listing showed at a moment.
func (s *Store) ShownAt(ctx context.Context, listing int64, at time.Time) (qty int64, how string, since int64, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT qty, how, at FROM shown WHERE listing_id=? AND at<=? ORDER BY at DESC LIMIT 1", listing,
		micros(at)).Scan(&qty, &how, &since)
	return qty, how, since, found(err)
}

// Told notes the quantity a channel accepted for a listing.
func (t *Tx) Told(listing, qty int64, at time.Time) error {
	if _, err := t.exec("UPDATE listing SET told_qty=?, told_at=?, seen_qty=?, seen_at=? WHERE id=?", qty, micros(at), qty, micros(at),
		listing); err != nil {
		return err
	}
	return t.Shown(listing, qty, "told", at)
}

// Seen notes the quantity a channel shows for a listing, found by its number there or by its SKU, and returns it.
func (t *Tx) Seen(connection int64, outside, sku string, qty int64, at time.Time) (Listing, error) {
	l, err := t.ListingFor(connection, outside, sku)
	if err != nil {
		return l, err
	}
	l.SeenQty, l.SeenAt = qty, micros(at)
	if _, err := t.exec("UPDATE listing SET seen_qty=?, seen_at=? WHERE id=?", qty, micros(at), l.ID); err != nil {
		return l, err
	}
	return l, t.Shown(l.ID, qty, "seen", at)
}

// ListingFor finds a listing of a connection by the channel's number or, failing that, by its SKU.
func (t *Tx) ListingFor(connection int64, outside, sku string) (l Listing, err error) {
	if outside != "" {
		if err = t.get(&l, listingQuery+"WHERE l.connection_id=? AND l.outside_id=?", connection, outside); err != ErrNotFound {
			return l, err
		}
	}
	if sku == "" {
		return l, ErrNotFound
	}
	err = t.get(&l, listingQuery+"WHERE l.connection_id=? AND l.sku=? ORDER BY l.item_id = 0, l.id LIMIT 1", connection, sku)
	return l, err
}

// ListingMatch is which item a listing is, as orders need it.
type ListingMatch struct {
	OutsideID string `db:"outside_id"`
	SKU       string `db:"sku"`
	Title     string `db:"title"`
	ItemID    int64  `db:"item_id"`
	Ignored   bool   `db:"ignored"`
	Doubt     string `db:"doubt"`
}

// Why says why the listing is no item, if it is none.
func (m ListingMatch) Why() string {
	switch {
	case m.ItemID != 0:
		return ""
	case m.Ignored:
		return "The listing is ignored on purpose; end that, or cancel the line at the channel."
	case m.Doubt != "":
		return "Listing " + m.OutsideID + " waits to be matched: " + m.Doubt + "."
	}
	return "Listing " + m.OutsideID + " waits to be matched."
}

// ListingMatches finds the listings of a connection that carry one of the SKUs or one of the channel's numbers.
func (t *Tx) ListingMatches(connection int64, skus, numbers []string) ([]ListingMatch, error) {
	var out []ListingMatch
	seen := map[string]bool{}
	for _, c := range []struct {
		column string
		values []string
	}{{"sku", skus}, {"outside_id", numbers}} {
		for len(c.values) > 0 {
			n := min(len(c.values), 512)
			in, args := list(c.values[:n])
			var part []ListingMatch
			if err := t.sel(&part, `SELECT outside_id, sku, title, item_id, ignored_at <> 0 AS ignored, doubt FROM listing
				WHERE connection_id = ? AND `+c.column+" IN ("+in+")", append([]any{connection}, args...)...); err != nil {
				return nil, err
			}
			for _, m := range part {
				if !seen[m.OutsideID] {
					seen[m.OutsideID] = true
					out = append(out, m)
				}
			}
			c.values = c.values[n:]
		}
	}
	return out, nil
}

// CountTold counts the listings that a channel has accepted a quantity for.
func (s *Store) CountTold(ctx context.Context) (int, error) {
	var n int
	err := s.read.GetContext(ctx, &n, "SELECT count(*) FROM listing WHERE told_qty >= 0")
	return n, err
}

// ListingByID loads a listing.
func (s *Store) ListingByID(ctx context.Context, id int64) (Listing, error) {
	var l Listing
	err := s.read.GetContext(ctx, &l, listingQuery+"WHERE l.id = ?", id)
	return l, found(err)
}

// ListingByID loads a listing.
func (t *Tx) ListingByID(id int64) (Listing, error) {
	var l Listing
	err := t.get(&l, listingQuery+"WHERE l.id = ?", id)
	return l, err
}

// SetMatch writes which item a listing is (0: none), by what, and whether it is ignored.
func (t *Tx) SetMatch(l Listing) error {
	_, err := t.exec("UPDATE listing SET item_id=?, matched_by=?, ignored_at=?, ignored_by=?, doubt=? WHERE id=?", l.ItemID, l.MatchedBy,
		l.IgnoredAt, l.IgnoredBy, l.Doubt, l.ID)
	return err
}

// SetListing writes what we say of a listing ourselves: state, reason, what is said on this channel only, its
// policy, and what was published.
func (t *Tx) SetListing(l Listing) error {
	_, err := t.exec("UPDATE listing SET outside_id=?, sku=?, state=?, reason=?, live=?, own=?, policy=?, published=?, url=? WHERE id=?",
		l.OutsideID, l.SKU, l.State, l.Reason, l.Live, l.Own, l.Policy, l.Published, l.URL, l.ID)
	return err
}

// DoubleSKU finds another listing of a connection with the same SKU.
func (t *Tx) DoubleSKU(connection int64, sku, outside string) (string, error) {
	var other string
	err := t.get(&other, `SELECT outside_id FROM listing WHERE connection_id=? AND sku=? AND outside_id<>?
		AND state<>'submitted' ORDER BY id LIMIT 1`, connection, sku, outside)
	if err == ErrNotFound {
		return "", nil
	}
	return other, err
}

// KnownNumber finds the item that a listing with this number is on another connection to the same account.
func (t *Tx) KnownNumber(connection int64, outside string) (int64, error) {
	var id int64
	err := t.get(&id, `SELECT l.item_id FROM connection me JOIN connection c ON c.account_id = me.account_id
		AND c.account_id <> 0 AND c.id <> me.id
		JOIN listing l ON l.connection_id = c.id AND l.outside_id = ? WHERE me.id = ? AND l.item_id <> 0 LIMIT 1`, outside, connection)
	if err == ErrNotFound {
		return 0, nil
	}
	return id, err
}

// Submitted finds the listing that we asked a channel for and that it has not given a number yet.
func (t *Tx) Submitted(connection int64, sku string) (Listing, error) {
	var l Listing
	err := t.get(&l, listingQuery+"WHERE l.connection_id=? AND l.sku=? AND l.outside_id=?", connection, sku, NewListing(sku))
	return l, err
}

// NewListing stands for the channel's number of a listing that has none yet.
func NewListing(sku string) string { return "new " + sku }

// ListingFilter narrows a list of listings. Match is matched, to match, ignored or empty for all; After is the
// keyset, a listing's id.
type ListingFilter struct {
	Connection, Match, State, Search string
	Differs                          bool // shows another quantity than it was told
	After                            int64
	Limit                            int
}

// FindListings lists listings in the order in which they became known.
func (s *Store) FindListings(ctx context.Context, f ListingFilter) ([]Listing, error) {
	q, args := listingQuery+"WHERE l.id > ?", []any{f.After}
	and := func(cond string, a ...any) { q += " AND " + cond; args = append(args, a...) }
	if f.Connection != "" {
		and("c.code = ?", f.Connection)
	}
	switch f.Match {
	case "matched":
		and("l.item_id <> 0")
	case "to match":
		and("l.item_id = 0 AND l.ignored_at = 0")
	case "ignored":
		and("l.ignored_at <> 0")
	}
	if f.State != "" {
		and("l.state = ?", f.State)
	}
	if f.Search != "" {
		like := "%" + likeEscape(f.Search) + "%"
		and(`(l.sku LIKE ? ESCAPE '\' OR l.title LIKE ? ESCAPE '\' OR l.outside_id = ? OR l.gtin = ?)`, like, like, f.Search, f.Search)
	}
	out := []Listing{}
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY l.id LIMIT ?", append(args, f.Limit)...)
	return out, err
}

// ListingCount counts the listings of a connection by how they stand.
type ListingCount struct {
	ConnectionCode string `db:"code" json:"connection"`
	ConnectionName string `db:"name" json:"connection_name"`
	Matched        int64  `db:"matched" json:"matched"`
	ToMatch        int64  `db:"to_match" json:"to_match"`
	Ignored        int64  `db:"ignored" json:"ignored"`
	Rejected       int64  `db:"rejected" json:"rejected"`
	InReview       int64  `db:"in_review" json:"in_review"`
}

// CountListings counts the listings of all channels.
func (s *Store) CountListings(ctx context.Context) ([]ListingCount, error) {
	out := []ListingCount{}
	err := s.read.SelectContext(ctx, &out, `SELECT c.code, c.name, l.matched, l.to_match, l.ignored, l.rejected, l.in_review
		FROM listing_count l
		JOIN connection c ON c.id=l.connection_id WHERE l.n > 0 ORDER BY c.id`)
	return out, err
}

// OrdersWaitingForListing counts the orders held because a listing is no item.
func (s *Store) OrdersWaitingForListing(ctx context.Context, l Listing) (int64, error) {
	var n int64
	err := s.read.GetContext(ctx, &n, `SELECT count(DISTINCT o.id) FROM order_line ol JOIN orders o ON o.id = ol.order_id
		WHERE ol.item_id = 0 AND o.connection_id = ? AND o.stage = 'held' AND ((ol.listing = ? AND ol.listing <> '')
		OR (ol.sku = ? AND ol.sku <> ''))`, l.ConnectionID, l.OutsideID, l.SKU)
	return n, err
}

// ListingOf loads a listing of a connection by the channel's number.
func (t *Tx) ListingOf(connection int64, outside string) (Listing, error) {
	var l Listing
	err := t.get(&l, listingQuery+"WHERE l.connection_id=? AND l.outside_id=?", connection, outside)
	return l, err
}

// ListingsBySKU lists the listings of a connection that carry a SKU.
func (t *Tx) ListingsBySKU(connection int64, sku string) ([]Listing, error) {
	var out []Listing
	err := t.sel(&out, listingQuery+"WHERE l.connection_id=? AND l.sku=? ORDER BY l.id", connection, sku)
	return out, err
}

// UnmatchedBySKU lists the listings of all connections that carry a SKU and are no item yet.
func (t *Tx) UnmatchedBySKU(sku string) ([]Listing, error) {
	var out []Listing
	err := t.sel(&out, listingQuery+`WHERE l.connection_id IN (SELECT id FROM connection) AND l.sku = ? AND l.item_id = 0
		AND l.ignored_at = 0 ORDER BY l.id`, sku)
	return out, err
}

// KeepPolicy notes how quantities are worked out from a moment on; listing 0 stands for the connection.
func (t *Tx) KeepPolicy(connection, listing int64, policy, who string, at time.Time) error {
	_, err := t.exec("INSERT OR REPLACE INTO policy (connection_id, listing_id, at, policy, who) VALUES (?,?,?,?,?)", connection, listing,
		micros(at), policy, who)
	return err
}

// PolicyAt tells how quantities were worked out at a moment, as JSON; empty where nothing is known.
func (s *Store) PolicyAt(ctx context.Context, connection, listing int64, at time.Time) (string, error) {
	var text string
	err := s.read.GetContext(ctx, &text, `SELECT policy FROM policy WHERE connection_id=? AND listing_id=? AND at<=?
		ORDER BY at DESC LIMIT 1`, connection, listing, micros(at))
	if found(err) == ErrNotFound {
		return "", nil
	}
	return text, err
}

// Select finds items by their SKUs, or those that are sold and carry a mark, and names SKUs that are not there.
func (s *Store) Select(ctx context.Context, skus []string, mark string, most int) (ids []int64, missing []string, err error) {
	if mark != "" {
		err = s.read.SelectContext(ctx, &ids, `SELECT m.item_id FROM item_mark m JOIN item i ON i.id=m.item_id WHERE m.mark=?
			AND i.archived_at=0 ORDER BY i.sku LIMIT ?`, mark, most)
		return ids, nil, err
	}
	for _, sku := range skus[:min(len(skus), most)] {
		var id int64
		switch err := s.read.GetContext(ctx, &id, "SELECT id FROM item WHERE sku=?", sku); {
		case found(err) == ErrNotFound:
			missing = append(missing, sku)
		case err != nil:
			return nil, nil, err
		default:
			ids = append(ids, id)
		}
	}
	return ids, missing, nil
}

// ShownSince tells since when a listing has shown a quantity, as far as it was seen.
func (t *Tx) ShownSince(listing, qty int64) (time.Time, error) {
	var row struct {
		At  int64 `db:"at"`
		Qty int64 `db:"qty"`
	}
	err := t.get(&row, "SELECT at, qty FROM shown WHERE listing_id=? ORDER BY at DESC LIMIT 1", listing)
	if err == ErrNotFound || err == nil && row.Qty != qty {
		return time.Time{}, nil
	}
	return Time(row.At), err
}

// CountInReview counts the listings of a connection that we published and the channel is looking at.
func (s *Store) CountInReview(ctx context.Context, connection int64) (int, error) {
	var n int
	err := s.read.GetContext(ctx, &n, `SELECT count(*) FROM (SELECT 1 FROM listing WHERE connection_id=? AND state='in review'
		AND published<>'' LIMIT 1)`, connection)
	return n, err
}

// UnknownTitle is what an order line calls a SKU that nobody here knows.
func (s *Store) UnknownTitle(ctx context.Context, connection int64, sku string) (string, error) {
	var out string
	err := s.read.GetContext(ctx, &out, `SELECT l.title FROM order_line l JOIN orders o ON o.id=l.order_id WHERE l.item_id=0
		AND l.sku=? AND o.connection_id=? LIMIT 1`, sku, connection)
	return out, found(err)
}
