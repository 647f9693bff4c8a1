package main

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"time"

	"openrelay/internal/store"
)

// finding makes a file with a million orders and looks for some of them by each field, and through three filters.
func (b *bench) finding(n int) error {
	file := filepath.Join(b.dir, "million.relay")
	if err := b.fill(file, n); err != nil {
		return err
	}
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return err
	}
	defer st.Close()
	if err := b.searches(st, n); err != nil {
		return err
	}
	if err := b.filters(st, n); err != nil {
		return err
	}
	return b.everyPage(st, n)
}

// fill makes a file with n orders and a fifth as many items.
func (b *bench) fill(file string, n int) error {
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return err
	}
	if err := st.Close(); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)&_pragma=cache_size(-200000)")
	if err != nil {
		return err
	}
	for _, q := range slices.Concat(fillingOf(n), counting) {
		if _, err := db.ExecContext(b.ctx, q); err != nil {
			return fmt.Errorf("%.60s: %w", q, err)
		}
	}
	return db.Close()
}

// fillingOf are the statements that make the records.
func fillingOf(n int) []string {
	now := time.Now().UnixMicro()
	return []string{
		`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<8) INSERT INTO connection (id, code, connector,
			side, name, began_at) SELECT i, 'ch-'||i, 'hedgerow', 'channel', 'Channel '||i, 0 FROM n`,
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
			INSERT INTO orders (id, number, connection_id, outside_id, version, channel_number, channel_state, stage, buyer,
			currency, total, units, placed_at, received_at, via, record, kind)
			SELECT i, 'R'||(10000+i), 1+i/7%%8, 'o'||i, 1, 'MH-'||(500000+i), CASE i%%5 WHEN 0 THEN 'confirmed' ELSE 'sent'
			END, CASE i%%20 WHEN 0 THEN 'ready' WHEN 1 THEN 'held' WHEN 2 THEN 'cancelled' ELSE 'delivered' END,
			'Given'||(i*7919%%3001)||' Family'||(i*104729%%20011), 'EUR', 2900, 2, %d-(%d-i)*20000000, %d-(%d-i)*20000000,
			'push', '{}', CASE i%%11 WHEN 0 THEN 'counter' ELSE 'ship' END FROM n`, n, now, n, now, n),
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d)
			INSERT INTO order_text (rowid, number, channel, name, sku, tracking) SELECT i, 'R'||(10000+i), 'MH-'||(500000+i),
			'Given'||(i*7919%%3001)||' Family'||(i*104729%%20011), 'SKU-'||(i*31%%5000)||' SKU-'||(i*17%%5000),
			'PP'||(100000000+i)||'XW' FROM n`, n),
		"INSERT INTO location (id, code, name) VALUES (1, 'alder', 'Alder Yard')",
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d) INSERT INTO item (id, sku, name,
			price) SELECT i, 'SKU-'||i, 'Thing '||i, 2900 FROM n`, n/5),
		`INSERT INTO level (item_id, location_id, on_hand) SELECT id, 1, id%50 FROM item`,
		`INSERT INTO listing (id, connection_id, outside_id, sku, title, price, currency, item_id, seen_qty,
			told_qty) SELECT id, 1+id%8, 'l'||id, sku, name, price, 'EUR', id, id%50, id%50 FROM item`,
		`INSERT INTO order_tag (tag, order_id) SELECT CASE id%3 WHEN 0 THEN 'fragile' ELSE 'export' END, id FROM orders WHERE id%7=0`,
	}
}

// counting are the statements that count what the program counts where it writes orders.
var counting = []string{
	"INSERT INTO order_count SELECT stage, connection_id, count(*) FROM orders GROUP BY 1, 2",
	`INSERT INTO order_quarter SELECT 'received', received_at/900000000, connection_id, count(*) FROM orders GROUP BY 2, 3`,
	`INSERT INTO order_quarter SELECT stage, max(shipped_at, received_at)/900000000, connection_id, count(*) FROM orders
		WHERE stage IN ('delivered','cancelled') GROUP BY 1, 2, 3`,
	`INSERT INTO order_sum SELECT placed_at/900000000, connection_id, via, typed_by, currency, sum(stage<>'cancelled'),
		sum(CASE WHEN stage<>'cancelled' THEN total ELSE 0 END), sum(stage='cancelled') FROM orders GROUP BY 1, 2, 3, 4, 5`,
}

// lists measures how long a page of a list takes: least is how many orders it must have.
func (b *bench) lists(st *store.Store, name, aim string, most float64, least int, filter func() store.OrderFilter) error {
	var took []time.Duration
	for range b.of(101, 3) {
		f := filter()
		f.Limit = 50
		begin := time.Now()
		list, err := st.ListOrders(b.ctx, f)
		took = append(took, time.Since(begin))
		if err != nil {
			return err
		}
		if len(list) < least {
			return fmt.Errorf("%s found %d orders of %+v", name, len(list), f)
		}
	}
	ms := median(took)
	b.add(name, ms, "ms", 0, aim, ms < most)
	return nil
}

// searches measures finding orders by words.
func (b *bench) searches(st *store.Store, n int) error {
	rng := rand.New(rand.NewPCG(2, 3))
	for _, s := range []struct {
		field string
		text  func(i int) string
	}{
		{"order number", func(i int) string { return fmt.Sprint("R", 10000+i) }},
		{"channel number", func(i int) string { return fmt.Sprint("mh-", 500000+i) }},
		{"family name", func(i int) string { return fmt.Sprint("family", i*104729%20011) }},
		{"beginning of a name", func(i int) string { return fmt.Sprintf("famil%.3s", fmt.Sprint("y", i*104729%20011)) }},
		{"both names", func(i int) string { return fmt.Sprintf("given%d family%d", i*7919%3001, i*104729%20011) }},
		{"SKU", func(i int) string { return fmt.Sprint("SKU-", i*31%5000) }},
		{"tracking number", func(i int) string { return fmt.Sprintf("PP%dXW", 100000000+i) }},
	} {
		if err := b.lists(st, fmt.Sprintf("search by %s among %d orders, a page of 50", s.field, n), "30 ms", 30, b.of(1, 0),
			func() store.OrderFilter {
				return store.OrderFilter{Search: s.text(1 + rng.IntN(n))}
			}); err != nil {
			return err
		}
	}
	return nil
}

// filters measures lists that several conditions narrow.
func (b *bench) filters(st *store.Store, n int) error {
	rng := rand.New(rand.NewPCG(2, 4))
	for name, f := range map[string]func() store.OrderFilter{
		"stage, channel and their state": func() store.OrderFilter {
			return store.OrderFilter{Stages: []string{"ready"}, Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), State: "confirmed"}
		},
		"tag, channel and stage": func() store.OrderFilter {
			return store.OrderFilter{Tag: "fragile", Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), Stages: []string{"delivered"}}
		},
		"several stages, channel and days": func() store.OrderFilter {
			from := time.Now().AddDate(0, 0, -200+rng.IntN(100))
			return store.OrderFilter{Stages: []string{"ready", "held"}, Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), From: from,
				To: from.AddDate(0, 0, 60)}
		},
		"kind, channel and stage": func() store.OrderFilter {
			return store.OrderFilter{Kind: "counter", Connection: fmt.Sprint("ch-", 1+rng.IntN(8)), Stages: []string{"delivered"}}
		},
	} {
		if err := b.lists(st, "list of "+name+", far down too", "20 ms", 20, b.of(1, 0), func() store.OrderFilter {
			x := f()
			if x.From.IsZero() && rng.IntN(2) == 0 {
				x.Before = int64(n/4 + rng.IntN(n/2))
			}
			return x
		}); err != nil {
			return err
		}
	}
	return nil
}
