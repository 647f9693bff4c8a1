package main

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// stocked makes a file with many items, each listed on six channels that are told quantities, and a ledger of
// so many movements on top, a tenth of them on one item. It returns the relay of the file, which sends nothing.
func (b *bench) stocked(name string, items, movements int) (*relay.Relay, *store.Store, error) {
	file := filepath.Join(b.dir, name)
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return nil, nil, err
	}
	if err := b.addShops(st, 6); err != nil {
		return nil, nil, err
	}
	if err := st.Close(); err != nil {
		return nil, nil, err
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)")
	if err != nil {
		return nil, nil, err
	}
	for _, q := range stockOf(items, movements) {
		if _, err := db.ExecContext(b.ctx, q); err != nil {
			return nil, nil, fmt.Errorf("%.60s: %w", q, err)
		}
	}
	if err := db.Close(); err != nil {
		return nil, nil, err
	}
	if st, err = store.Open(b.ctx, file); err != nil {
		return nil, nil, err
	}
	r, err := relay.Open(b.ctx, st, engine.Options{Reach: connector.Loopback})
	return r, st, err
}

// addShops adds a place and so many channels that sell from it.
func (b *bench) addShops(st *store.Store, n int) error {
	return st.Write(b.ctx, func(t *store.Tx) error {
		if _, err := t.AddLocation(store.Location{Code: "alder", Name: "Alder Yard"}); err != nil {
			return err
		}
		for i := range n {
			id, err := t.AddConnection(store.Connection{Code: fmt.Sprintf("shop-%d", i), Connector: "hedgerow", Side: "channel",
				Name: fmt.Sprintf("Shop %d", i), State: store.On, Settings: `{"offer":{"sources":[1],"buffer":1}}`,
				BeganAt: time.Now().UnixMicro()})
			if err != nil {
				return err
			}
			if _, err := t.AddFeed(store.Feed{ConnectionID: id, Kind: message.StockOut, On: true}); err != nil {
				return err
			}
		}
		return nil
	})
}

// stockOf are the statements that make so many items, listed at every channel, and movements over the last 80 days.
func stockOf(items, movements int) []string {
	now := time.Now()
	begin := now.AddDate(0, 0, -80).UnixMicro()
	step := (now.Add(-time.Hour).UnixMicro() - begin) / int64(max(movements+items, 1))
	return []string{
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n
			WHERE i<%d) INSERT INTO item (id, sku, normal_sku, name, price, currency) SELECT i, 'SKU-'||i, 'SKU'||i,
			'Item '||i, 1290, 'EUR' FROM n`, items),
		`INSERT INTO listing (id, connection_id, outside_id, sku, title, price, currency, item_id, matched_by, told_qty,
			told_at, state) SELECT (c.id-1)*` + fmt.Sprint(items) + `+i.id, c.id, 'i'||i.id, i.sku, i.name, 1290, 'EUR', i.id,
				'same SKU', 999, 1, 'live' FROM connection c, item i`,
		// each item gets an opening count, then the others follow in turn; the first item gets every tenth
		fmt.Sprintf(`WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n
			WHERE i<%d) INSERT INTO movement (id, item_id, location_id, at, kind, on_hand, allocated, reason, who, doc_kind, doc_id, bin)
			SELECT i, CASE WHEN i<=%d THEN i WHEN i%%10=0 THEN 1 ELSE 1+i%%%d END, 1, %d+i*%d, CASE WHEN i<=%d THEN 'count'
			ELSE 'adjust' END, CASE WHEN i<=%d THEN 1000000 ELSE CASE i%%2 WHEN 0 THEN 1 ELSE -1 END END, 0, 'made up',
			'bench', 'hand', 0, '' FROM n`,
			movements+items, items, items, begin, step, items, items),
		`UPDATE movement SET after_on_hand = s.h FROM (SELECT id, sum(on_hand) OVER (PARTITION BY item_id ORDER BY id) AS h
			FROM movement) s WHERE s.id = movement.id`,
		`INSERT INTO level (item_id, location_id, on_hand) SELECT item_id, 1, sum(on_hand) FROM movement GROUP BY item_id`,
		`INSERT INTO bin_level (item_id, location_id, bin, on_hand) SELECT item_id, 1, '', on_hand FROM level WHERE on_hand<>0`,
		`ANALYZE`,
	}
}
