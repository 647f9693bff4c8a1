package store

import (
	"context"
	"fmt"
	"time"
)

// Purchase is an order of ours at a supplier.
type Purchase struct {
	ID           int64          `db:"id"`
	Number       string         `db:"number"`
	Supplier     string         `db:"supplier"`
	LocationID   int64          `db:"location_id"`
	LocationCode string         `db:"location_code"`
	LocationName string         `db:"location_name"`
	State        string         `db:"state"` // open or closed
	Expected     string         `db:"expected"`
	Note         string         `db:"note"`
	Who          string         `db:"who"`
	CreatedAt    int64          `db:"created_at"`
	ClosedAt     int64          `db:"closed_at"`
	Revision     int64          `db:"revision"`
	Ordered      int64          `db:"ordered"`
	Received     int64          `db:"received"`
	Lines        []PurchaseLine `db:"-"`
}

// PurchaseLine is one item of a purchase. Short is what was given up when it was closed.
type PurchaseLine struct {
	Position int    `db:"position"`
	ItemID   int64  `db:"item_id"`
	SKU      string `db:"sku"`
	GTIN     string `db:"gtin"`
	Name     string `db:"name"`
	Serials  bool   `db:"serials"`
	Ordered  int64  `db:"ordered"`
	Received int64  `db:"received"`
	Short    int64  `db:"short"`
	Bin      string `db:"bin"` // where it usually lies
}

// Left is what is still to come.
func (l PurchaseLine) Left() int64 { return max(0, l.Ordered-l.Received-l.Short) }

var purchaseQuery = `SELECT p.id, p.number, p.supplier, p.location_id, l.code AS location_code, l.name AS location_name,
	p.state, p.expected, p.note, ` + called("p.who") + ` AS who, p.created_at, p.closed_at, p.revision,
	(SELECT coalesce(sum(ordered),0) FROM purchase_line x
	WHERE x.purchase_id=p.id) AS ordered, (SELECT coalesce(sum(received),0) FROM purchase_line x WHERE x.purchase_id=p.id) AS received
	FROM purchase p JOIN location l ON l.id=p.location_id `

func onePurchase(sel selector, where string, args ...any) (Purchase, error) {
	var list []Purchase
	if err := sel(&list, purchaseQuery+"WHERE "+where, args...); err != nil {
		return Purchase{}, err
	}
	if len(list) == 0 {
		return Purchase{}, ErrNotFound
	}
	p := list[0]
	err := sel(&p.Lines, `SELECT pl.position, pl.item_id, i.sku, i.gtin, i.name, i.serials, pl.ordered, pl.received, pl.short,
		coalesce(v.bin,'') AS bin FROM purchase_line pl JOIN item i ON i.id=pl.item_id
		LEFT JOIN level v ON v.item_id=pl.item_id AND v.location_id=? WHERE pl.purchase_id=? ORDER BY pl.position`, p.LocationID, p.ID)
	return p, err
}

// Purchase loads a purchase by its number.
func (s *Store) Purchase(ctx context.Context, number string) (Purchase, error) {
	return onePurchase(s.selector(ctx), "p.number=?", number)
}

// Purchase loads a purchase by its number.
func (t *Tx) Purchase(number string) (Purchase, error) {
	return onePurchase(t.sel, "p.number=?", number)
}

// Purchases lists purchases in a state (empty: all), newest first.
func (s *Store) Purchases(ctx context.Context, state string, before int64, limit int) ([]Purchase, error) {
	q, args := purchaseQuery+"WHERE 1=1", []any{}
	if state != "" {
		q += " AND p.state=?"
		args = append(args, state)
	}
	if before > 0 {
		q += " AND p.id<?"
		args = append(args, before)
	}
	out := []Purchase{}
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY p.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// AddPurchase writes a new purchase with its lines; without a number it gets the next.
func (t *Tx) AddPurchase(p *Purchase) (err error) {
	if p.ID, err = t.id("purchase"); err != nil {
		return err
	}
	if p.Number == "" {
		if p.Number, err = t.Number("purchase"); err != nil {
			return err
		}
	}
	if _, err = t.exec(`INSERT INTO purchase (id, number, supplier, location_id, state, expected, note, who, created_at)
		VALUES (?,?,?,?,?,?,?,?,?)`,
		p.ID, p.Number, p.Supplier, p.LocationID, p.State, p.Expected, p.Note, p.Who, p.CreatedAt); err != nil {
		return fmt.Errorf("write purchase %s: %w", p.Number, err)
	}
	rows := make([][]any, len(p.Lines))
	for i, l := range p.Lines {
		rows[i] = []any{p.ID, i + 1, l.ItemID, l.Ordered}
	}
	_, err = t.insertMany("INSERT INTO purchase_line (purchase_id, position, item_id, ordered)", 4, rows)
	return err
}

// UpdatePurchase writes how a purchase and its lines stand.
func (t *Tx) UpdatePurchase(p *Purchase) error {
	p.Revision++
	if _, err := t.exec("UPDATE purchase SET state=?, expected=?, note=?, closed_at=?, revision=? WHERE id=?", p.State, p.Expected,
		p.Note, p.ClosedAt, p.Revision, p.ID); err != nil {
		return err
	}
	return nil
}

// UpdatePurchaseLine writes how a line of a purchase stands.
func (t *Tx) UpdatePurchaseLine(purchase int64, l PurchaseLine) error {
	_, err := t.exec("UPDATE purchase_line SET ordered=?, received=?, short=? WHERE purchase_id=? AND position=?", l.Ordered, l.Received,
		l.Short, purchase, l.Position)
	return err
}

// AddPurchaseLine writes a further line.
func (t *Tx) AddPurchaseLine(purchase int64, l PurchaseLine) error {
	_, err := t.exec("INSERT INTO purchase_line (purchase_id, position, item_id, ordered, received) VALUES (?,?,?,?,?)", purchase,
		l.Position, l.ItemID, l.Ordered, l.Received)
	return err
}

// Transfer is goods on their way from one location of ours to another.
type Transfer struct {
	ID        int64          `db:"id"`
	Number    string         `db:"number"`
	FromID    int64          `db:"from_id"`
	FromCode  string         `db:"from_code"`
	FromName  string         `db:"from_name"`
	ToID      int64          `db:"to_id"`
	ToCode    string         `db:"to_code"`
	ToName    string         `db:"to_name"`
	State     string         `db:"state"` // draft, under way or closed
	Note      string         `db:"note"`
	Who       string         `db:"who"`
	CreatedAt int64          `db:"created_at"`
	SentAt    int64          `db:"sent_at"`
	ClosedAt  int64          `db:"closed_at"`
	Revision  int64          `db:"revision"`
	Units     int64          `db:"units"`
	Arrived   int64          `db:"arrived"`
	Lost      int64          `db:"lost"`
	Lines     []TransferLine `db:"-"`
}

// TransferLine is one item of a transfer.
type TransferLine struct {
	Position int    `db:"position"`
	ItemID   int64  `db:"item_id"`
	SKU      string `db:"sku"`
	GTIN     string `db:"gtin"`
	Name     string `db:"name"`
	Quantity int64  `db:"quantity"`
	Arrived  int64  `db:"arrived"`
	Lost     int64  `db:"lost"`
}

// Left is what has neither arrived nor was given up.
func (l TransferLine) Left() int64 { return l.Quantity - l.Arrived - l.Lost }

var transferQuery = `SELECT t.id, t.number, t.from_id, a.code AS from_code, a.name AS from_name, t.to_id, b.code AS to_code,
	b.name AS to_name, t.state, t.note, ` + called("t.who") + ` AS who, t.created_at, t.sent_at, t.closed_at, t.revision,
	(SELECT coalesce(sum(quantity),0) FROM transfer_line x WHERE x.transfer_id=t.id) AS units, (SELECT coalesce(sum(arrived),0)
	FROM transfer_line x WHERE x.transfer_id=t.id) AS arrived,
	(SELECT coalesce(sum(lost),0) FROM transfer_line x WHERE x.transfer_id=t.id) AS lost FROM transfer t
	JOIN location a ON a.id=t.from_id JOIN location b ON b.id=t.to_id `

func oneTransfer(sel selector, number string) (Transfer, error) {
	var list []Transfer
	if err := sel(&list, transferQuery+"WHERE t.number=?", number); err != nil {
		return Transfer{}, err
	}
	if len(list) == 0 {
		return Transfer{}, ErrNotFound
	}
	x := list[0]
	err := sel(&x.Lines, `SELECT l.position, l.item_id, i.sku, i.gtin, i.name, l.quantity, l.arrived, l.lost
		FROM transfer_line l JOIN item i ON i.id=l.item_id WHERE l.transfer_id=? ORDER BY l.position`, x.ID)
	return x, err
}

// Transfer loads a transfer by its number.
func (s *Store) Transfer(ctx context.Context, number string) (Transfer, error) {
	return oneTransfer(s.selector(ctx), number)
}

// Transfer loads a transfer by its number.
func (t *Tx) Transfer(number string) (Transfer, error) { return oneTransfer(t.sel, number) }

// Transfers lists transfers in a state (empty: all), newest first.
func (s *Store) Transfers(ctx context.Context, state string, before int64, limit int) ([]Transfer, error) {
	q, args := transferQuery+"WHERE 1=1", []any{}
	if state != "" {
		q += " AND t.state=?"
		args = append(args, state)
	}
	if before > 0 {
		q += " AND t.id<?"
		args = append(args, before)
	}
	out := []Transfer{}
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY t.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// AddTransfer writes a new transfer with its lines.
func (t *Tx) AddTransfer(x *Transfer) (err error) {
	if x.ID, err = t.id("transfer"); err != nil {
		return err
	}
	if x.Number == "" {
		if x.Number, err = t.Number("transfer"); err != nil {
			return err
		}
	}
	if _, err = t.exec("INSERT INTO transfer (id, number, from_id, to_id, state, note, who, created_at) VALUES (?,?,?,?,?,?,?,?)", x.ID,
		x.Number, x.FromID, x.ToID, x.State, x.Note, x.Who, x.CreatedAt); err != nil {
		return fmt.Errorf("write transfer %s: %w", x.Number, err)
	}
	rows := make([][]any, len(x.Lines))
	for i, l := range x.Lines {
		rows[i] = []any{x.ID, i + 1, l.ItemID, l.Quantity}
	}
	_, err = t.insertMany("INSERT INTO transfer_line (transfer_id, position, item_id, quantity)", 4, rows)
	return err
}

// UpdateTransfer writes how a transfer and its lines stand.
func (t *Tx) UpdateTransfer(x *Transfer) error {
	x.Revision++
	if _, err := t.exec("UPDATE transfer SET state=?, sent_at=?, closed_at=?, revision=? WHERE id=?", x.State, x.SentAt, x.ClosedAt,
		x.Revision, x.ID); err != nil {
		return err
	}
	for _, l := range x.Lines {
		if _, err := t.exec("UPDATE transfer_line SET quantity=?, arrived=?, lost=? WHERE transfer_id=? AND position=?", l.Quantity,
			l.Arrived, l.Lost, x.ID, l.Position); err != nil {
			return err
		}
	}
	return nil
}

// Count is a counting of a location.
type Count struct {
	ID           int64       `db:"id"`
	Number       string      `db:"number"`
	LocationID   int64       `db:"location_id"`
	LocationCode string      `db:"location_code"`
	LocationName string      `db:"location_name"`
	State        string      `db:"state"` // open, posted or dropped
	Note         string      `db:"note"`
	Who          string      `db:"who"`
	CreatedAt    int64       `db:"created_at"`
	PostedAt     int64       `db:"posted_at"`
	Revision     int64       `db:"revision"`
	Counted      int64       `db:"counted"` // lines
	Differ       int64       `db:"differ"`  // lines that differ
	Lines        []CountLine `db:"-"`
}

// CountLine is what was counted of an item in a bin.
type CountLine struct {
	ItemID   int64  `db:"item_id"`
	SKU      string `db:"sku"`
	GTIN     string `db:"gtin"`
	Name     string `db:"name"`
	Bin      string `db:"bin"`
	Counted  int64  `db:"counted"`
	Expected int64  `db:"expected"`
	At       int64  `db:"at"`
	Who      string `db:"who"`
}

var countQuery = `SELECT c.id, c.number, c.location_id, l.code AS location_code, l.name AS location_name, c.state, c.note,
	` + called("c.who") + ` AS who, c.created_at, c.posted_at, c.revision,
	(SELECT count(*) FROM count_line x WHERE x.count_id=c.id) AS counted, (SELECT count(*) FROM count_line x
	WHERE x.count_id=c.id AND x.counted<>x.expected) AS differ
	FROM stock_count c JOIN location l ON l.id=c.location_id `

func oneCount(sel selector, number string) (Count, error) {
	var list []Count
	if err := sel(&list, countQuery+"WHERE c.number=?", number); err != nil {
		return Count{}, err
	}
	if len(list) == 0 {
		return Count{}, ErrNotFound
	}
	c := list[0]
	err := sel(
		&c.Lines,
		`SELECT x.item_id, i.sku, i.gtin, i.name, x.bin, x.counted, x.expected, x.at, `+called("x.who")+` AS who FROM count_line x
		JOIN item i ON i.id=x.item_id WHERE x.count_id=? ORDER BY x.at DESC, i.sku`,
		c.ID,
	)
	return c, err
}

// Count loads a counting by its number.
func (s *Store) Count(ctx context.Context, number string) (Count, error) {
	return oneCount(s.selector(ctx), number)
}

// Count loads a counting by its number.
func (t *Tx) Count(number string) (Count, error) { return oneCount(t.sel, number) }

// Counts lists countings in a state (empty: all), newest first.
func (s *Store) Counts(ctx context.Context, state string, before int64, limit int) ([]Count, error) {
	q, args := countQuery+"WHERE 1=1", []any{}
	if state != "" {
		q += " AND c.state=?"
		args = append(args, state)
	}
	if before > 0 {
		q += " AND c.id<?"
		args = append(args, before)
	}
	out := []Count{}
	err := s.read.SelectContext(ctx, &out, q+" ORDER BY c.id DESC LIMIT ?", append(args, limit)...)
	return out, err
}

// AddCount writes a new counting.
func (t *Tx) AddCount(c *Count) (err error) {
	if c.ID, err = t.id("stock_count"); err != nil {
		return err
	}
	if c.Number, err = t.Number("count"); err != nil {
		return err
	}
	_, err = t.exec("INSERT INTO stock_count (id, number, location_id, state, note, who, created_at) VALUES (?,?,?,?,?,?,?)", c.ID,
		c.Number, c.LocationID, c.State, c.Note, c.Who, c.CreatedAt)
	return err
}

// UpdateCount writes how a counting stands.
func (t *Tx) UpdateCount(c *Count) error {
	c.Revision++
	_, err := t.exec("UPDATE stock_count SET state=?, posted_at=?, revision=? WHERE id=?", c.State, c.PostedAt, c.Revision, c.ID)
	return err
}

// PutCountLine writes what was counted of an item in a bin.
func (t *Tx) PutCountLine(count int64, l CountLine) error {
	_, err := t.exec("INSERT OR REPLACE INTO count_line (count_id, item_id, bin, counted, expected, at, who) VALUES (?,?,?,?,?,?,?)",
		count, l.ItemID, l.Bin, l.Counted, l.Expected, l.At, l.Who)
	return err
}

// DropCountLine takes a counted line away again.
func (t *Tx) DropCountLine(count, item int64, bin string) error {
	n, err := t.exec("DELETE FROM count_line WHERE count_id=? AND item_id=? AND bin=?", count, item, bin)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	return err
}

// Serial is a serial number of an item and where the unit is.
type Serial struct {
	ItemID     int64  `db:"item_id" json:"-"`
	Serial     string `db:"serial" json:"serial"`
	LocationID int64  `db:"location_id" json:"-"`
	Location   string `db:"location" json:"location"`
	State      string `db:"state" json:"state"            enum:"here,packed,gone"`
	ReceivedAt int64  `db:"received_at" json:"-"`
	Source     string `db:"source" json:"source"                                   doc:"How it became known"`
	Parcel     string `db:"parcel" json:"parcel,omitempty"`
	ParcelID   int64  `db:"parcel_id" json:"-"`
}

const serialQuery = `SELECT x.item_id, x.serial, x.location_id, coalesce(l.name,'') AS location, x.state, x.received_at,
	x.source, coalesce(s.number,'') AS parcel, x.parcel_id
	FROM serial x LEFT JOIN location l ON l.id=x.location_id LEFT JOIN parcel s ON s.id=x.parcel_id `

// Serials lists the serial numbers of an item, those that are here first.
func (s *Store) Serials(ctx context.Context, item int64, limit int) ([]Serial, error) {
	out := []Serial{}
	err := s.read.SelectContext(ctx, &out, serialQuery+"WHERE x.item_id=? ORDER BY x.state<>'here', x.received_at DESC, x.serial LIMIT ?",
		item, limit)
	return out, err
}

// Serial finds a serial number of an item.
func (t *Tx) Serial(item int64, serial string) (Serial, error) {
	var x Serial
	err := t.get(&x, serialQuery+"WHERE x.item_id=? AND x.serial=?", item, serial)
	return x, err
}

// SerialsOf lists the serial numbers that go with a parcel.
func (s *Store) SerialsOf(ctx context.Context, parcel int64) ([]Serial, error) {
	out := []Serial{}
	err := s.read.SelectContext(ctx, &out, serialQuery+"WHERE x.parcel_id=? ORDER BY x.item_id, x.serial", parcel)
	return out, err
}

// AddSerial records a serial number.
func (t *Tx) AddSerial(item int64, serial string, location int64, source string, at time.Time) error {
	_, err := t.exec("INSERT INTO serial (item_id, serial, location_id, state, received_at, source) VALUES (?,?,?,'here',?,?)", item,
		serial, location, micros(at), source)
	return err
}

// PackSerial notes that a unit goes with a parcel.
func (t *Tx) PackSerial(item int64, serial string, parcel int64) error {
	_, err := t.exec("UPDATE serial SET state='packed', parcel_id=? WHERE item_id=? AND serial=?", parcel, item, serial)
	return err
}

// SerialsNoted counts the serial numbers of which it is noted that they go with a parcel, by item.
func (t *Tx) SerialsNoted(parcel int64) (map[int64]int64, error) {
	var rows []struct {
		ItemID int64 `db:"item_id"`
		N      int64 `db:"n"`
	}
	err := t.sel(&rows, "SELECT item_id, count(*) AS n FROM serial WHERE parcel_id=? AND parcel_id<>0 GROUP BY item_id", parcel)
	out := map[int64]int64{}
	for _, x := range rows {
		out[x.ItemID] = x.N
	}
	return out, err
}

// UnpackSerials puts the units of a parcel back.
func (t *Tx) UnpackSerials(parcel int64) error {
	_, err := t.exec("UPDATE serial SET state='here', parcel_id=0 WHERE parcel_id=? AND parcel_id<>0 AND state='packed'", parcel)
	return err
}

// SerialsBack notes that the units of a parcel have not left after all.
func (t *Tx) SerialsBack(parcel int64) error {
	_, err := t.exec("UPDATE serial SET state='packed' WHERE parcel_id=? AND parcel_id<>0 AND state='gone'", parcel)
	return err
}

// SerialsGone notes that the units of a parcel have left.
func (t *Tx) SerialsGone(parcel int64) error {
	_, err := t.exec("UPDATE serial SET state='gone' WHERE parcel_id=? AND parcel_id<>0", parcel)
	return err
}
