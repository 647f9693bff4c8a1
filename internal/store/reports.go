package store

import (
	"context"
	"fmt"
	"time"
)

// ReportRow is a row of a report: a name, a second one where there is one, and figures.
type ReportRow struct {
	Name   string  `db:"name"`
	Second string  `db:"second"`
	A      int64   `db:"a"`
	B      int64   `db:"b"`
	C      float64 `db:"c"`
}

// between narrows to orders taken in within a span of time, as a span of ids.
const between = `o.id >= ?3 AND o.id < ?4 AND o.voided = 0 AND o.test = 0 AND o.kind <> 'summary'`

// reports are the reports by their code, each of them a query over a span of time.
var reports = map[string]string{
	// orders and their value in minor units, by channel and by how they came in
	"source": `SELECT c.name, CASE WHEN o.typed_by <> '' THEN 'typed by ' || o.typed_by ELSE o.via END AS second, count(*) AS a, sum(o.total) AS b, 0.0 AS c
		FROM orders o JOIN connection c ON c.id = o.connection_id WHERE ` + between + ` GROUP BY 1, 2 ORDER BY a DESC LIMIT 200`,
	// orders by the day (UTC) of the sale and channel
	"days": `SELECT strftime('%Y-%m-%d', max(o.placed_at, ?1)/1000000, 'unixepoch') AS name, c.name AS second, count(*) AS a, sum(o.total) AS b, 0.0 AS c
		FROM orders o JOIN connection c ON c.id = o.connection_id WHERE ` + between + ` GROUP BY 1, 2 ORDER BY 1, 2 LIMIT 2000`,
	// shipping that buyers paid against what carriers charged, by channel and currency, minor units; c: parcels
	"shipping": `SELECT c.name, o.currency AS second, sum(json_extract(o.record,'$.shipping')) AS a, sum(coalesce(p.paid,0)) AS b, sum(coalesce(p.n,0))*1.0 AS c
		FROM orders o JOIN connection c ON c.id = o.connection_id JOIN (SELECT order_id, sum(price) AS paid, count(*) AS n FROM shipment WHERE state IN ('shipped','delivered') GROUP BY order_id) p ON p.order_id = o.id
		WHERE ` + between + ` GROUP BY 1, 2 ORDER BY a DESC LIMIT 200`,
	// orders by the time from taking in to leaving, of those that we shipped
	"speed": `SELECT CASE WHEN h < 4 THEN '1: under 4 hours' WHEN h < 24 THEN '2: 4 to 24 hours' WHEN h < 48 THEN '3: 1 to 2 days' WHEN h < 96 THEN '4: 2 to 4 days' ELSE '5: 4 days and more' END AS name, '' AS second, count(*) AS a, 0 AS b, avg(h) AS c
		FROM (SELECT (o.shipped_at - o.placed_at)/3.6e9 AS h FROM orders o WHERE ` + between + ` AND o.shipped_at > 0 AND o.routed = 1) GROUP BY 1 ORDER BY 1`,
	// items that ran out: how often stock fell to nothing, and how often orders had to wait
	"stockouts": `SELECT i.sku AS name, i.name AS second, coalesce(z.n,0) AS a, coalesce(w.n,0) AS b, 0.0 AS c FROM item i
		LEFT JOIN (SELECT item_id, count(*) AS n FROM movement WHERE at >= ?1 AND at < ?2 AND after_on_hand - after_allocated <= 0 AND after_on_hand - after_allocated - on_hand + allocated > 0 GROUP BY item_id) z ON z.item_id = i.id
		LEFT JOIN (SELECT subject, count(*) AS n FROM exception WHERE cause = 'no stock' AND opened_at >= ?1 AND opened_at < ?2 GROUP BY subject) w ON w.subject = i.sku
		WHERE z.n > 0 OR w.n > 0 ORDER BY coalesce(w.n,0) DESC, coalesce(z.n,0) DESC LIMIT 200`,
	// exceptions by cause: how many, how many are open, and how many hours they stood on average
	"exceptions": `SELECT cause AS name, '' AS second, count(*) AS a, sum(closed_at = 0) AS b, avg(CASE WHEN closed_at > 0 THEN (closed_at - opened_at)/3.6e9 END) AS c
		FROM exception WHERE opened_at >= ?1 AND opened_at < ?2 GROUP BY 1 ORDER BY a DESC`,
}

// Report runs a report over a span of time.
func (s *Store) Report(ctx context.Context, code string, from, to time.Time) ([]ReportRow, error) {
	q, ok := reports[code]
	if !ok {
		return nil, ErrNotFound
	}
	above, below, err := s.span(ctx, from, to)
	if err != nil {
		return nil, err
	}
	out := []ReportRow{}
	if err := s.read.SelectContext(ctx, &out, "SELECT name, second, a, b, coalesce(c, 0.0) AS c FROM ("+q+") WHERE ?1+?2+?3+?4 > 0", micros(from), micros(to), above, below); err != nil {
		return nil, fmt.Errorf("report %s: %w", code, err)
	}
	return out, nil
}
