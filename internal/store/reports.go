package store

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"
)

// ReportRow is a row of a report: a name, a second one where there is one, and figures. Amounts are minor units of its
// currency; currencies are never added together.
type ReportRow struct {
	Name      string  `db:"name"`
	Second    string  `db:"second"`
	Currency  string  `db:"currency"`
	A         int64   `db:"a"`
	B         int64   `db:"b"`
	C         float64 `db:"c"`
	Cancelled int64   `db:"cancelled"` // orders that were cancelled; they count in no other figure
}

// sold are the sums of orders by their sale. ?1 and ?2 are the first quarter of the span, and the first after it.
const sold = `FROM order_sum s JOIN connection c ON c.id = s.connection_id WHERE s.quarter >= ?1 AND s.quarter < ?2
	AND s.n + s.cancelled > 0`

// billed are the parcels on bills that came in the span.
const billed = `FROM parcel p JOIN connection c ON c.id=p.carrier_id WHERE p.id IN (SELECT parcel_id FROM bill_line WHERE at >= ?3
	AND at < ?4 AND parcel_id<>0)`

// arrived are the weeks in which parcels arrived: those that touch the span.
const arrived = `FROM transit_sum t JOIN connection c ON c.id = t.carrier_id
	WHERE t.week > date(?3/1000000,'unixepoch','-7 days') AND t.week < datetime(?4/1000000,'unixepoch')`

// reports are the reports by their code, each of them a query over a span: ?1 and ?2 its quarters, ?3 and ?4 its
// moments.
var reports = map[string]string{
	// orders and their value, by channel, how they came in and currency
	"source": `SELECT c.name, CASE WHEN s.typed_by <> '' THEN 'typed by ' || ` + called(
		"s.typed_by") + ` ELSE s.via END AS second, s.currency,
		sum(s.n) AS a, sum(s.total) AS b, 0.0 AS c, sum(s.cancelled) AS cancelled
		` + sold + ` GROUP BY 1, 2, 3 ORDER BY a DESC, 1, 2, 3`,
	// the same by quarter; Report makes days of it
	"days": `SELECT CAST(s.quarter AS TEXT) AS name, c.name AS second, s.currency, sum(s.n) AS a, sum(s.total) AS b, 0.0 AS c,
		sum(s.cancelled) AS cancelled ` + sold + ` GROUP BY s.quarter, 2, 3`,
	// shipping that buyers paid against what carriers charged, of the orders whose parcels left, by channel and currency; c: parcels
	"shipping": `SELECT c.name, '' AS second, f.currency, sum(f.charged) AS a, sum(f.paid) AS b, sum(f.parcels)*1.0 AS c,
		0 AS cancelled FROM freight_sum f JOIN connection c ON c.id = f.connection_id
		WHERE f.quarter >= ?1 AND f.quarter < ?2 AND f.parcels > 0 GROUP BY 1, 3 ORDER BY a DESC`,
	// orders by the time from sale to leaving, of those that we shipped in the span
	"speed": `SELECT CASE WHEN h < 4 THEN '1: under 4 hours' WHEN h < 24 THEN '2: 4 to 24 hours' WHEN h < 48 THEN
		'3: 1 to 2 days' WHEN h < 96 THEN '4: 2 to 4 days' ELSE '5: 4 days and more' END AS name, '' AS second, '' AS currency,
		count(*) AS a, 0 AS b, avg(h) AS c, 0 AS cancelled
		FROM (SELECT (shipped_at - placed_at)/3.6e9 AS h FROM orders INDEXED BY orders_left WHERE shipped_at >= ?3
		AND shipped_at < ?4 AND shipped_at > 0 AND routed = 1) GROUP BY 1 ORDER BY 1`,
	// items that ran out: how often stock fell to nothing, and how often orders had to wait
	"stockouts": `SELECT i.sku AS name, i.name AS second, '' AS currency, coalesce(z.n,0) AS a, coalesce(w.n,0) AS b, 0.0 AS c,
		0 AS cancelled FROM
		(SELECT item_id, sum(n) AS n FROM stockout WHERE quarter >= ?1 AND quarter < ?2 GROUP BY item_id UNION SELECT i.id, 0
		FROM exception e JOIN item i ON i.sku = e.subject WHERE e.cause = 'no stock' AND e.opened_at >= ?3 AND e.opened_at < ?4) x
		JOIN item i ON i.id = x.item_id LEFT JOIN (SELECT item_id, sum(n) AS n FROM stockout WHERE quarter >= ?1
		AND quarter < ?2 GROUP BY item_id) z ON z.item_id = i.id
		LEFT JOIN (SELECT subject, count(*) AS n FROM exception WHERE cause = 'no stock' AND opened_at >= ?3 AND opened_at < ?4
		GROUP BY subject) w ON w.subject = i.sku
		GROUP BY i.id ORDER BY coalesce(w.n,0) DESC, coalesce(z.n,0) DESC, i.sku LIMIT 200`,
	// parcels that arrived, those that came after the promised day, and how many hours they took, by service and region
	"transit": `SELECT c.name || ' ' || t.service AS name, t.region AS second, '' AS currency, sum(t.delivered) AS a,
		sum(t.promised - t.in_time) AS b, sum(t.hours)*1.0/max(sum(t.delivered),1) AS c, 0 AS cancelled ` + arrived +
		` GROUP BY 1, 2 ORDER BY 1, a DESC, 2`,
	// the same by week
	"transit-weeks": `SELECT t.week AS name, c.name AS second, '' AS currency, sum(t.delivered) AS a,
		sum(t.promised - t.in_time) AS b, sum(t.hours)*1.0/max(sum(t.delivered),1) AS c, 0 AS cancelled ` + arrived +
		` GROUP BY 1, 2 ORDER BY 1, 2`,
	// what carriers billed against what they asked, of the parcels on bills that came in the span; c: parcels
	"billed": `SELECT c.name, '' AS second, p.currency, sum(p.price) AS a, sum(p.billed) AS b, count(*)*1.0 AS c, 0 AS cancelled ` +
		billed +
		` GROUP BY 1, 3 ORDER BY 1, 3`,
	// the same parcels' weight: by sum of the contents, by scale, and by bill, in grams
	"weights": `SELECT c.name, '' AS second, '' AS currency, sum(p.sum_g) AS a, sum(p.weight_g) AS b, sum(p.billed_g)*1.0 AS c,
		0 AS cancelled ` + billed + ` AND p.billed_g>0 AND p.sum_g>0 GROUP BY 1 ORDER BY 1`,
	// exceptions by cause: how many, how many are open, and how many hours they stood on average
	"exceptions": `SELECT cause AS name, '' AS second, '' AS currency, count(*) AS a, sum(closed_at = 0) AS b,
		coalesce(avg(CASE WHEN closed_at > 0 THEN (closed_at - opened_at)/3.6e9 END),0.0) AS c, 0 AS cancelled
		FROM exception WHERE opened_at >= ?3 AND opened_at < ?4 GROUP BY 1 ORDER BY a DESC`,
}

// Report runs a report over a span of time; days are days of a time zone.
func (s *Store) Report(ctx context.Context, code string, from, to time.Time, zone *time.Location) ([]ReportRow, error) {
	q, ok := reports[code]
	if !ok {
		return nil, ErrNotFound
	}
	out := []ReportRow{}
	if err := s.read.SelectContext(ctx, &out, q+"/* ?1 ?2 ?3 ?4 */", quarter(from), quarter(to), micros(from), micros(to)); err != nil {
		return nil, fmt.Errorf("report %s: %w", code, err)
	}
	if code == "days" {
		return byDay(out, zone)
	}
	return out, nil
}

// byDay adds rows of quarters up to rows of days.
func byDay(rows []ReportRow, zone *time.Location) ([]ReportRow, error) {
	at := map[[3]string]int{}
	out := []ReportRow{}
	for _, r := range rows {
		var n int64
		if _, err := fmt.Sscan(r.Name, &n); err != nil {
			return nil, err
		}
		r.Name = time.UnixMicro(n * 900_000_000).In(zone).Format(time.DateOnly)
		k := [3]string{r.Name, r.Second, r.Currency}
		i, ok := at[k]
		if !ok {
			at[k] = len(out)
			out = append(out, r)
			continue
		}
		out[i].A, out[i].B, out[i].Cancelled = out[i].A+r.A, out[i].B+r.B, out[i].Cancelled+r.Cancelled
	}
	slices.SortFunc(out, func(a, b ReportRow) int {
		return strings.Compare(a.Name+"\x00"+a.Second+"\x00"+a.Currency, b.Name+"\x00"+b.Second+"\x00"+b.Currency)
	})
	return out, nil
}

// AddFreight counts a parcel that left: what the carrier charged, and, with the first parcel of an order, what its buyer
// paid for shipping. Both are minor units of the order's currency; a label bought in another is counted with nothing.
func (t *Tx) AddFreight(connection int64, currency string, at time.Time, parcels, charged, paid int64) error {
	_, err := t.exec(`INSERT INTO freight_sum (quarter, connection_id, currency, parcels, charged, paid) VALUES (?,?,?,?,?,?)
		ON CONFLICT DO UPDATE SET parcels=parcels+excluded.parcels, charged=charged+excluded.charged, paid=paid+excluded.paid`,
		quarter(at), connection, currency, parcels, charged, paid)
	return err
}
