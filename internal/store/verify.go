package store

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"openrelay/internal/core/stock"
)

// Finding is something that must hold and does not.
type Finding struct {
	Rule int    `json:"rule"`
	Text string `json:"text"`
}

// invariants are queries that return one text per violation.
var invariants = []struct {
	rule  int
	query string
}{
	{1, `SELECT
		'level of item '||l.item_id||' at location '||l.location_id||': on hand '||l.on_hand||', ledger '||coalesce(m.h,0)||
		'; allocated '||l.allocated||', ledger '||coalesce(m.a,0)||
		'; on order '||l.on_order||', ledger '||coalesce(m.o,0)||'; in transit '||l.in_transit||', ledger '||coalesce(m.t,0)
		FROM level l LEFT JOIN (SELECT item_id, location_id, sum(on_hand) h, sum(allocated) a, sum(on_order) o,
		sum(in_transit) t FROM movement GROUP BY item_id, location_id) m USING (item_id, location_id)
		WHERE l.on_hand <> coalesce(m.h,0) OR l.allocated <> coalesce(m.a,0) OR l.on_order <> coalesce(m.o,0)
		OR l.in_transit <> coalesce(m.t,0)`},
	{1, `SELECT 'ledger of item '||item_id||' at location '||location_id||' has no level'
		FROM (SELECT DISTINCT item_id, location_id FROM movement) m
		WHERE NOT EXISTS (SELECT 1 FROM level l WHERE l.item_id=m.item_id AND l.location_id=m.location_id)`},
	{1, `SELECT
		'ledger entry '||id||' says '||after_on_hand||' on hand and '||after_allocated||
		' allocated after it; the entries up to it make '||h||' and '||a FROM
		(SELECT id, after_on_hand, after_allocated, sum(on_hand) OVER w AS h, sum(allocated) OVER w AS a
		FROM movement WINDOW w AS (PARTITION BY item_id, location_id ORDER BY id)) WHERE after_on_hand <> h OR after_allocated <> a`},
	{1, `SELECT 'item '||l.item_id||' at location '||l.location_id||': '||l.on_hand||' on hand, '||coalesce(b.q,0)||' in its bins'
		FROM level l LEFT JOIN (SELECT item_id, location_id, sum(on_hand) q FROM bin_level
		GROUP BY item_id, location_id) b USING (item_id, location_id) WHERE l.on_hand <> coalesce(b.q,0)`},
	{1, `SELECT 'item '||l.item_id||' at location '||l.location_id||': allocated '||l.allocated||', open allocations '||coalesce(a.q,0)
		FROM level l LEFT JOIN (SELECT a.item_id, a.location_id, sum(a.quantity) q FROM allocation a
		JOIN order_line ol ON ol.id=a.line_id AND ol.sells=0 GROUP BY a.item_id, a.location_id) a USING (item_id, location_id)
		WHERE l.allocated <> coalesce(a.q,0)`},
	{1, `SELECT 'item '||l.item_id||' at location '||l.location_id||': '||l.on_order||' on order, open purchase orders '||coalesce(p.q,0)
		FROM level l LEFT JOIN (SELECT pl.item_id, p.location_id, sum(max(pl.ordered-pl.received-pl.short,0)) q FROM purchase p
		JOIN purchase_line pl ON pl.purchase_id=p.id WHERE p.state='open' GROUP BY 1,2) p USING (item_id, location_id)
		WHERE l.on_order <> coalesce(p.q,0)`},
	{1, `SELECT 'item '||l.item_id||' at location '||l.location_id||': '||l.in_transit||' in transit, open transfers '||coalesce(p.q,0)
		FROM level l LEFT JOIN (SELECT tl.item_id, t.to_id AS location_id, sum(tl.quantity-tl.arrived-tl.lost) q
		FROM transfer t JOIN transfer_line tl ON tl.transfer_id=t.id WHERE t.state='under way' GROUP BY 1,2) p USING (item_id, location_id)
		WHERE l.in_transit <> coalesce(p.q,0)`},
	{2, `SELECT 'connection '||connection_id||' order '||outside_id||' has '||count(*)||' live orders' FROM orders
		WHERE voided=0 GROUP BY connection_id, outside_id HAVING count(*)>1`},
	{3, `SELECT
		'order '||o.number||' line '||l.position||': '||l.quantity||' ordered, cancelled '||l.cancelled||', allocated '||
		l.allocated||', picked '||l.picked||', packed '||l.packed||', shipped '||l.shipped
		FROM order_line l JOIN orders o ON o.id=l.order_id WHERE min(l.cancelled,l.allocated,l.picked,l.packed,l.shipped)<0
		OR l.quantity < l.cancelled+l.allocated+l.picked+l.packed+l.shipped`},
	{3, `SELECT
		'order '||o.number||' line '||l.position||': allocated, picked and packed '||(l.allocated+l.picked+l.packed)||
		', allocations '||coalesce(a.q,0)
		FROM order_line l JOIN orders o ON o.id=l.order_id
		LEFT JOIN (SELECT line_id, item_id, sum(quantity) q FROM allocation GROUP BY line_id, item_id) a ON a.line_id=l.id
		AND a.item_id=coalesce(json_extract(nullif(l.parts,''),'$[0].item'), l.item_id)
		WHERE (l.allocated+l.picked+l.packed) * coalesce(json_extract(nullif(l.parts,''),'$[0].quantity'),1) <> coalesce(a.q,0)`},
	{3, `SELECT 'order '||number||' has no lines' FROM orders o WHERE NOT EXISTS (SELECT 1 FROM order_line l
		WHERE l.id BETWEEN o.id*1024 AND o.id*1024+1023)`},
	{3, `SELECT 'line '||id||' does not lie with its order '||order_id FROM order_line WHERE id <> order_id*1024+position`},
	{5, `SELECT 'parcel '||p.number||' left without a write-back' FROM parcel p WHERE p.state IN ('shipped','delivered')
		AND NOT EXISTS (SELECT 1 FROM outbox x WHERE x.parcel_id=p.id AND x.feed='dispatch out')
		AND NOT EXISTS (SELECT 1 FROM exception e WHERE e.cause='number not told' AND e.subject=p.tracking)`},
	{5, `SELECT 'shipment '||s.number||': '||l.picked||' of item '||l.item_id||' picked, '||sum(k.quantity)||' in its parcels'
		FROM shipment s JOIN shipment_line l ON l.shipment_id=s.id JOIN parcel p ON p.shipment_id=s.id AND p.state<>'called off'
		JOIN parcel_line k ON k.parcel_id=p.id AND k.line_id=l.line_id AND k.item_id=l.item_id
		GROUP BY l.shipment_id, l.line_id, l.item_id HAVING sum(k.quantity)>l.picked`},
	{5, `SELECT 'parcel '||p.number||' holds what its shipment does not' FROM parcel p JOIN parcel_line k ON k.parcel_id=p.id
		WHERE p.state<>'called off' AND NOT EXISTS (SELECT 1 FROM shipment_line l WHERE l.shipment_id=p.shipment_id
		AND l.line_id=k.line_id AND l.item_id=k.item_id)`},
	{5, `SELECT 'shipment '||s.number||' is '||s.state||', but '||CASE WHEN s.state='packed' THEN 'not all of it is packed'
		ELSE 'not all of it left' END FROM shipment s JOIN shipment_line l ON l.shipment_id=s.id
		WHERE s.state IN ('packed','shipped','delivered') GROUP BY s.id, l.line_id, l.item_id HAVING l.quantity <>
		coalesce((SELECT sum(k.quantity) FROM parcel p JOIN parcel_line k ON k.parcel_id=p.id AND k.line_id=l.line_id
		AND k.item_id=l.item_id WHERE p.shipment_id=s.id AND p.state<>'called off'
		AND (s.state='packed' OR p.state IN ('shipped','delivered'))), 0)`},
	{
		5,
		`SELECT 'of item '||k.item_id||' of line '||k.line_id||', '||sum(k.stock+k.look+k.off)||' came back and '||
		(l.shipped*k.per)||' left'
		FROM goods_return_line k JOIN order_line l ON l.id=k.line_id GROUP BY k.line_id, k.item_id
		HAVING sum(k.stock+k.look+k.off)>l.shipped*k.per`,
	},
	{5, `SELECT 'of item '||k.item_id||' of order '||k.order_id||', '||k.n||' came back to stock, and '||coalesce(m.n,0)||
		' were booked' FROM (SELECT r.order_id, x.item_id, sum(x.stock) AS n FROM goods_return r JOIN goods_return_line x
		ON x.return_id=r.id GROUP BY 1, 2) k LEFT JOIN (SELECT doc_id, item_id, sum(on_hand) AS n FROM movement WHERE kind='return'
		AND doc_kind='order' GROUP BY 1, 2) m ON m.doc_id=k.order_id AND m.item_id=k.item_id WHERE k.n<>coalesce(m.n,0)`},
	{5, `SELECT 'outbox message '||ref||' is '||state||' and has no next try' FROM outbox
		WHERE state IN ('waiting','sending','sent') AND next_at<=0`},
	{5, `SELECT 'tracking number '||tracking||' stands on '||count(*)||' parcels' FROM parcel WHERE tracking<>'' AND travels_in=0
		GROUP BY tracking HAVING count(DISTINCT CASE consigned_in WHEN 0 THEN id ELSE consigned_in END)>1`},
	{5, `SELECT 'parcel '||r.number||' is '||r.state||' '||r.tracking||' and lies in the carton of '||coalesce(p.number||', which is '||
		p.state||' '||p.tracking||CASE WHEN p.travels_in<>0 THEN ' in another' ELSE '' END, 'none')
		FROM parcel r LEFT JOIN parcel p ON p.id=r.travels_in WHERE r.travels_in<>0 AND r.state<>'called off'
		AND (p.id IS NULL OR p.travels_in<>0 OR p.state<>r.state OR p.tracking<>r.tracking)`},
	{5, `SELECT 'label '||(x.answer->>'$.tracking')||' of '||x.subject||' was bought, stands on no parcel and was not raised'
		FROM outbox x WHERE x.feed='labels out' AND x.state='confirmed' AND json_valid(x.answer)
		AND NOT EXISTS (SELECT 1 FROM voided_label v WHERE v.tracking=x.answer->>'$.tracking')
		AND NOT EXISTS (SELECT 1 FROM parcel s WHERE s.tracking=x.answer->>'$.tracking' AND s.travels_in=0)
		AND NOT EXISTS (SELECT 1 FROM json_each(x.answer, '$.parcels') j LEFT JOIN parcel s ON s.tracking=j.value->>'$.tracking'
			LEFT JOIN voided_label v ON v.tracking=j.value->>'$.tracking' WHERE coalesce(s.id, v.parcel_id) IS NOT NULL)
		AND NOT EXISTS (SELECT 1 FROM exception e WHERE e.outbox_id=x.id AND e.cause='label not needed')`},
	{5, `SELECT 'label '||(x.answer->>'$.tracking')||' of '||x.subject||' was bought and stands on no return' FROM outbox x
		WHERE x.feed='return labels out' AND x.state='confirmed' AND json_valid(x.answer)
		AND NOT EXISTS (SELECT 1 FROM return_label l WHERE l.tracking=x.answer->>'$.tracking')`},
	{5, `SELECT 'return '||r.number||' waits for a label that nobody asks for' FROM return_label l JOIN goods_return r
		ON r.id=l.return_id WHERE l.state='asked' AND NOT EXISTS (SELECT 1 FROM outbox x WHERE x.subject='return '||r.number
		AND x.feed='return labels out' AND x.state IN ('waiting','sending'))`},
	{5, `SELECT 'parcel '||p.number||' left with label '||p.tracking||', which is voided' FROM parcel p JOIN voided_label v
		ON v.tracking=p.tracking AND v.parcel_id=p.id AND v.voided_at>p.shipped_at WHERE p.state IN ('shipped','delivered')`},
	{5, `SELECT 'parcel '||s.number||' waits for a label that nobody asks for' FROM parcel s WHERE s.state='buying label'
		AND s.travels_in=0 AND NOT EXISTS (SELECT 1 FROM outbox x
		WHERE x.parcel_id=CASE s.consigned_in WHEN 0 THEN s.id ELSE s.consigned_in END AND x.feed='labels out'
		AND x.state IN ('waiting','sending'))`},
	{7, `SELECT 'count of orders at '||stage||' of connection '||connection_id||': '||coalesce(c.n,0)||' kept, '||o.n||' there'
		FROM (SELECT stage, connection_id, count(*) AS n FROM orders GROUP BY 1, 2) o LEFT
		JOIN order_count c USING (stage, connection_id) WHERE coalesce(c.n,0)<>o.n`},
	{7, `SELECT 'count of orders at '||stage||' of connection '||connection_id||': '||n||' kept, none there' FROM order_count c
		WHERE n<>0 AND NOT EXISTS (SELECT 1 FROM orders o WHERE o.stage=c.stage AND o.connection_id=c.connection_id)`},
	{7, `SELECT
		'orders taken in by connection '||connection_id||' in quarter '||quarter||': '||coalesce(c.n,0)||' kept, '||o.n||
		' there' FROM (SELECT received_at/900000000 AS quarter, connection_id, count(*) AS n FROM orders GROUP BY 1, 2) o
		LEFT JOIN (SELECT quarter, connection_id, n FROM order_quarter WHERE what='received') c USING (quarter, connection_id)
		WHERE coalesce(c.n,0)<>o.n`},
	{7, `SELECT 'orders that became '||what||' in quarter '||quarter||': '||coalesce(c.n,0)||' kept, '||o.n||' there'
		FROM (SELECT stage AS what, max(shipped_at, received_at)/900000000 AS quarter, connection_id, count(*) AS n FROM orders
		WHERE stage IN ('shipped','delivered','cancelled') GROUP BY 1, 2, 3) o
		LEFT JOIN order_quarter c USING (what, quarter, connection_id) WHERE coalesce(c.n,0)<>o.n`},
	{7, `SELECT
		'sums of orders of connection '||connection_id||' in '||currency||': '||coalesce(k.n,0)||' orders of '||
		coalesce(k.total,0)||' kept, '||o.n||' of '||o.total||' there' FROM
		(SELECT connection_id, currency, sum(stage<>'cancelled') AS n, sum(CASE WHEN stage<>'cancelled' THEN total ELSE 0 END)
		AS total, sum(stage='cancelled') AS c FROM orders WHERE test=0 AND kind<>'summary' AND stage<>'void' GROUP BY 1, 2) o
		LEFT JOIN (SELECT connection_id, currency, sum(n) AS n, sum(total) AS total, sum(cancelled) AS c FROM order_sum
		GROUP BY 1, 2) k USING (connection_id, currency) WHERE coalesce(k.n,0)<>o.n OR coalesce(k.total,0)<>o.total
		OR coalesce(k.c,0)<>o.c`},
	{7, `SELECT 'parcels that left: '||k.n||' kept, '||s.n||' there' FROM (SELECT coalesce(sum(parcels),0) AS n
		FROM freight_sum) k, (SELECT count(*) AS n FROM parcel WHERE state IN ('shipped','delivered')
		AND travels_in=0) s WHERE k.n<>s.n`},
	{7, `SELECT
		'listings of connection '||l.connection_id||': '||coalesce(k.n,0)||' kept, '||l.n||' there, or one of their states'
		FROM (SELECT connection_id, count(*) AS n, sum(item_id<>0) AS m,
		sum(item_id=0 AND ignored_at=0) AS t, sum(ignored_at<>0) AS i, sum(state='rejected') AS r,
		sum(state IN ('in review','submitted')) AS v FROM listing GROUP BY 1) l LEFT JOIN listing_count k USING (connection_id)
		WHERE coalesce(k.n,0)<>l.n OR k.matched<>l.m OR k.to_match<>l.t OR k.ignored<>l.i OR k.rejected<>l.r OR k.in_review<>l.v`},
	{7, `SELECT 'tag '||t.tag||': '||coalesce(k.n,0)||' kept, '||t.n||' there' FROM (SELECT tag, count(*) AS n FROM order_tag
		GROUP BY 1) t LEFT JOIN tag_count k USING (tag) WHERE coalesce(k.n,0)<>t.n`},
	{7, `SELECT 'tag '||tag||': '||n||' kept, none there' FROM tag_count k WHERE n<>0 AND NOT EXISTS (SELECT 1 FROM order_tag t
		WHERE t.tag=k.tag)`},
	{7, `SELECT 'place '||location_id||': '||n||' '||what||' kept, '||there||' there' FROM (SELECT c.location_id, c.what, c.n,
		CASE c.what WHEN 'to ship' THEN (SELECT count(*) FROM parcel p JOIN shipment s ON s.id=p.shipment_id
		WHERE s.location_id=c.location_id
		AND p.travels_in=0 AND p.state IN ('packed','buying label'))
		ELSE (SELECT count(*) FROM orders o, json_each(o.places) j WHERE o.stage IN ('ready','routed','picking','part shipped')
		AND j.value=c.location_id) END AS there FROM place_count c) WHERE n<>there`},
	{7, `SELECT 'order '||number||' waits at '||places||', and has stock allocated at '||there FROM (SELECT o.number, o.places,
		(SELECT json_group_array(k.location_id) FROM (SELECT DISTINCT a.location_id FROM allocation a
		WHERE a.line_id BETWEEN o.id*1024 AND o.id*1024+1023 ORDER BY 1) k) AS there FROM orders o
		WHERE o.stage IN ('ready','routed','picking','part shipped') AND o.ours->'$.kept_back' IS NULL) WHERE places<>there`},
	{9, `SELECT 'request '||q.number||' line '||l.line_id||': '||l.units||' asked, '||l.sent||' sent, '||l.refused||' refused, '||
		l.called_off||' called off' FROM request_line l JOIN request q ON q.id=l.request_id WHERE min(l.sent,l.refused,l.called_off)<0
		OR l.sent+l.refused+l.called_off>l.units`},
	{9, `SELECT 'request '||number||' is '||state||' with '||open||' units open' FROM (SELECT q.number, q.state,
		sum(l.units-l.sent-l.refused-l.called_off) AS open FROM request q JOIN request_line l ON l.request_id=q.id GROUP BY q.id)
		WHERE (state IN ('sent','refused','called off')) <> (open=0)`},
	{9, `SELECT 'request '||q.number||' line '||l.line_id||': '||l.sent||' sent, '||coalesce(x.n,0)||' left in parcels'
		FROM request q JOIN request_line l ON l.request_id=q.id LEFT JOIN (SELECT request_id, line_id, sum(n) AS n FROM
		(SELECT s.request_id, sl.line_id, min(sl.picked/max(sl.per,1)) AS n FROM shipment s JOIN shipment_line sl ON sl.shipment_id=s.id
		WHERE s.request_id<>0 GROUP BY s.id, sl.line_id) GROUP BY 1, 2) x ON x.request_id=q.id AND x.line_id=l.line_id
		WHERE q.test=0 AND l.sent<>min(coalesce(x.n,0), l.units)`},
	{9, `SELECT 'request '||q.number||' line '||l.line_id||' is to be sent, and only '||coalesce(a.n,0)||' are promised there'
		FROM request q JOIN request_line l ON l.request_id=q.id LEFT JOIN (SELECT line_id, location_id, max(quantity) AS n
		FROM allocation GROUP BY 1, 2) a ON a.line_id=l.line_id AND a.location_id=q.location_id
		WHERE q.test=0 AND q.state IN ('waits','asked','acknowledged','partly sent')
		AND l.units-l.sent-l.refused-l.called_off>coalesce(a.n,0)`},
	{9, `SELECT 'request '||q.number||' is '||q.state||', and nobody looks at it again' FROM request q WHERE q.test=0 AND q.look_at=0
		AND q.state IN ('waits','asked','acknowledged','partly sent','being called off') AND NOT EXISTS (SELECT 1 FROM exception e
		WHERE e.closed_at=0 AND e.subject=q.number AND e.order_id=q.order_id AND e.cause IN ('partner silent','request to look at',
		'request not taken')) AND NOT EXISTS (SELECT 1 FROM exception e JOIN request_line l ON l.item_id=e.item_id WHERE
		l.request_id=q.id AND e.closed_at=0 AND e.connection_id=q.connection_id AND e.cause='item not known there')`},
	{3, `SELECT 'test order '||o.number||' holds stock' FROM orders o JOIN allocation a ON a.order_id=o.id WHERE o.test=1`},
	{6, `SELECT 'order '||number||' has no timeline' FROM orders o WHERE NOT EXISTS (SELECT 1 FROM timeline t
		WHERE t.thing='order' AND t.thing_id=o.id)`},
	{6, `SELECT 'ledger entry '||id||' lacks who or why' FROM movement WHERE who='' OR reason=''`},
}

// Verify checks everything that must always hold, on one snapshot of the file, and returns what does not.
func (s *Store) Verify(ctx context.Context) ([]Finding, error) {
	tx, err := s.read.BeginTxx(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	var out []Finding
	var integrity string
	if err := tx.GetContext(ctx, &integrity, "PRAGMA quick_check(1)"); err != nil {
		return nil, err
	}
	if integrity != "ok" {
		out = append(out, Finding{0, "the file is damaged: " + integrity})
	}
	sel := func(dest any, q string, args ...any) error { return tx.SelectContext(ctx, dest, q, args...) }
	for _, inv := range invariants {
		var texts []string
		if err := sel(&texts, inv.query); err != nil {
			return nil, fmt.Errorf("verify rule %d: %w", inv.rule, err)
		}
		found := make([]Finding, len(texts))
		for i, text := range texts {
			found[i] = Finding{inv.rule, text}
		}
		out = append(out, shown(found)...)
	}
	offers, err := verifyOffers(sel)
	if err != nil {
		return nil, err
	}
	waiting, err := verifyWaiting(sel)
	return append(append(out, shown(offers)...), shown(waiting)...), err
}

// maxShown is how many findings of a kind are told one by one.
const maxShown = 20

// shown tells the first findings of a kind, and how many more there are.
func shown(found []Finding) []Finding {
	if len(found) <= maxShown {
		return found
	}
	more := Finding{found[0].Rule, fmt.Sprintf("%d more like the one before", len(found)-maxShown)}
	return append(found[:maxShown:maxShown], more)
}

// verifyWaiting finds orders that wait for stock beside stock that is free for them, with nothing under way that would
// give it to them. Kits, and orders that must not be split, are left to the tests of core.
func verifyWaiting(sel selector) ([]Finding, error) {
	var rows []struct {
		Number   string `db:"number"`
		SKU      string `db:"sku"`
		Item     int64  `db:"item_id"`
		Waits    int64  `db:"waits"`
		Settings string `db:"settings"`
		Refused  string `db:"refused"` // places that do not send it, as a record by their ids
	}
	if err := sel(&rows, `SELECT o.number, coalesce(o.ours->'$.refused_by','{}') AS refused, l.sku, l.item_id, l.quantity - l.cancelled -
		l.allocated - l.picked - l.packed -
		l.shipped AS waits, c.settings
		FROM order_line l JOIN orders o ON o.id=l.order_id JOIN connection c ON c.id=o.connection_id
		WHERE l.item_id IN (SELECT item_id FROM level WHERE on_hand > allocated)
		AND l.quantity > l.cancelled + l.allocated + l.picked + l.packed + l.shipped AND l.sells=0 AND l.parts=''
		AND o.stage IN ('held','pending') AND o.voided=0 AND o.test=0 AND o.no_stock_moved=0
		AND NOT EXISTS (SELECT 1 FROM order_plan p WHERE p.order_id=o.id AND p.waits>0)
		AND coalesce(o.ours->>'$.decided.split','')<>'never' AND coalesce(o.record->>'$.status','') IN ('open','pending')
		AND coalesce(o.record->>'$.fulfilled_by','')=''
		AND NOT EXISTS (SELECT 1 FROM job j WHERE j.state='waiting' AND (j.kind='serve waiting orders'
		AND j.subject='item '||l.item_id OR j.kind='look for stock again' AND j.subject=c.code))`); err != nil {
		return nil, fmt.Errorf("verify waiting orders: %w", err)
	}
	items := map[int64]bool{}
	for _, r := range rows {
		items[r.Item] = true
	}
	levels, err := loadLevels(sel, slices.Collect(maps.Keys(items)))
	if err != nil {
		return nil, fmt.Errorf("verify waiting orders: %w", err)
	}
	var out []Finding
	for _, r := range rows {
		var settings struct {
			Offer stock.Policy `json:"offer"`
		}
		if err := json.Unmarshal([]byte(r.Settings), &settings); err != nil {
			return nil, fmt.Errorf("verify waiting order %s: %w", r.Number, err)
		}
		refused := map[int64]string{}
		if err := json.Unmarshal([]byte(r.Refused), &refused); err != nil {
			return nil, fmt.Errorf("verify waiting order %s: %w", r.Number, err)
		}
		var free int64
		for _, at := range settings.Offer.Sources {
			if _, no := refused[at]; no {
				continue
			}
			free += max(levels[stock.Key{Item: r.Item, Location: at}].Available(), 0)
		}
		if free > 0 {
			out = append(out, Finding{8, fmt.Sprintf("order %s waits for %d of %s, of which %d are free", r.Number, r.Waits, r.SKU, free)})
		}
	}
	return out, nil
}

// allShares are the shares by listing, and what of each item is shown before and may be sold.
func allShares(sel selector) (by map[int64]Share, under map[int64]int64, err error) {
	var rows []Share
	err = sel(&rows, shareQuery)
	by, under = map[int64]Share{}, map[int64]int64{}
	for _, s := range rows {
		by[s.ListingID] = s
		under[s.ItemID] += s.Before
	}
	return by, under, err
}

// itemsSold lists the items of listings, and what the kits among them are made of.
func itemsSold(listings []int64, sold map[int64]Sold) (items []int64) {
	seen := map[int64]bool{}
	add := func(id int64) {
		if !seen[id] {
			seen[id] = true
			items = append(items, id)
		}
	}
	for _, id := range listings {
		add(id)
	}
	for _, id := range items[:len(items):len(items)] {
		for _, c := range sold[id].Parts {
			add(c.Item)
		}
	}
	return items
}

// verifyOffers finds listings that were told more than their policy allows with no correction on its way.
func verifyOffers(sel selector) ([]Finding, error) {
	var listings []struct {
		Listing
		Settings string `db:"settings"`
		Open     int64  `db:"open"`
	}
	if err := sel(&listings, `SELECT l.id, l.connection_id, c.code AS connection_code, l.sku, l.item_id, l.told_qty, l.policy, c.settings,
		(SELECT count(*) FROM outbox x WHERE x.connection_id=l.connection_id AND x.feed='stock out'
		AND x.subject='listing '||l.id AND x.state IN ('waiting','sending','sent')) + (SELECT count(*) FROM offer_due) AS open
		FROM listing l JOIN connection c ON c.id=l.connection_id JOIN feed f ON f.connection_id=c.id AND f.kind='stock out' AND f.is_on=1
		WHERE l.item_id<>0 AND l.told_qty>=0 AND l.state NOT IN ('submitted','in review','rejected','sold there')
		AND c.state='on' AND c.test=0`); err != nil {
		return nil, fmt.Errorf("verify offers: %w", err)
	}
	listed := make([]int64, len(listings))
	for i, l := range listings {
		listed[i] = l.ItemID
	}
	sold, err := special(sel)
	if err != nil {
		return nil, err
	}
	levels, err := loadLevels(sel, itemsSold(listed, sold))
	if err != nil {
		return nil, err
	}
	shares, under, err := allShares(sel)
	if err != nil {
		return nil, err
	}
	var out []Finding
	for _, l := range listings {
		var settings struct {
			Offer stock.Policy `json:"offer"`
		}
		if err := json.Unmarshal([]byte(l.Settings), &settings); err != nil {
			return nil, fmt.Errorf("verify offers of %s: %w", l.ConnectionCode, err)
		}
		goods := stock.One(l.ItemID)
		if g, ok := sold[l.ItemID]; ok {
			goods = g.Goods
		}
		want := settings.Offer.With(l.Override()).Offer(goods, func(k stock.Key) stock.Level { return levels[k] })
		if share, ok := shares[l.ID]; ok { // it has sold of what it was told, and more of that is under way while something comes back
			l.ToldQty, l.Open = share.Left, l.Open+under[l.ItemID]
		}
		if l.ToldQty > want && l.Open == 0 {
			out = append(out, Finding{4, fmt.Sprintf("%s was told %d of %s, the policy allows %d, and no correction is on its way",
				l.ConnectionCode, l.ToldQty, l.SKU, want)})
		}
	}
	return out, nil
}
