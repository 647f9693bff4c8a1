package main

import (
	"context"
	"database/sql"
	"fmt"
	"log/slog"
	"path/filepath"
	"time"

	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/store"
)

// old are statements that give orders what is thinned after its time: what came and went word for word, and each step.
func old(n int) []string {
	at := time.Now().AddDate(-3, 0, 0).UnixMicro()
	series := fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n WHERE i<%d) ", n)
	return []string{
		series + fmt.Sprintf(`INSERT INTO inbox (connection_id, feed, outside_id, version, via, received_at, raw, state, order_id)
			SELECT 1+i/7%%8, 'orders in', 'o'||i, 1, 'push', %d+i, json_object('padding', hex(zeroblob(450))), 'done', i FROM n`, at),
		series + fmt.Sprintf(`INSERT INTO outbox (connection_id, feed, subject, ref, payload, state, created_at, next_at)
			SELECT 1+i%%8, 'stock out', 'listing '||(i%%500), 'b-'||i, json_object('quantity', i%%50, 'sku', 'SKU-'||i),
			'confirmed', %d+i, 0 FROM n`, at),
		series + fmt.Sprintf(`INSERT INTO timeline (at, who, thing, thing_id, what, text) SELECT %d+i, 'relay', 'order', i,
			CASE i%%3 WHEN 0 THEN 'taken in' WHEN 1 THEN 'picked' ELSE 'packed' END, 'A step of this order' FROM n`, at),
	}
}

// aged makes a file of so many orders with much that is old.
func (b *bench) aged(file string, n int) error {
	if err := b.fill(file, n); err != nil {
		return err
	}
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)")
	if err != nil {
		return err
	}
	for _, q := range old(n) {
		if _, err := db.ExecContext(b.ctx, q); err != nil {
			return fmt.Errorf("%.60s: %w", q, err)
		}
	}
	return db.Close()
}

// thinning thins a large file while changes come in.
func (b *bench) thinning(n int) error {
	file := filepath.Join(b.dir, "old.relay")
	if err := b.aged(file, n); err != nil {
		return err
	}
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return err
	}
	defer st.Close()
	r, err := relay.Open(b.ctx, st, engine.Options{Log: slog.New(slog.DiscardHandler), Bare: true})
	if err != nil {
		return err
	}
	const perSecond = 50
	alone, err := b.pauses(st, perSecond, time.Duration(b.of(5000, 200))*time.Millisecond)
	if err != nil {
		return err
	}
	var p keeping.Pass
	began := time.Now()
	done := make(chan error, 1)
	go func() {
		var err error
		p, err = r.Thin(context.WithoutCancel(b.ctx))
		done <- err
	}()
	worst, err := b.pausesUntil(st, perSecond, done)
	if err != nil {
		return err
	}
	thinned := 0
	for _, k := range p.Thinned {
		thinned += k
	}
	b.add(fmt.Sprintf("rows thinned of a file of %d orders, %d changes a second beside it", n, perSecond),
		float64(thinned)/time.Since(began).Seconds(), "a second", 0, "more than half of what was old", thinned > n)
	b.add("longest step of thinning, with its commit; baseline: longest write without thinning", p.Longest, "ms", milliseconds(alone),
		"below 20 ms", p.Longest < 20)
	b.add("longest that a writer took meanwhile; baseline: without thinning", milliseconds(worst), "ms", milliseconds(alone), "", true)
	return nil
}

// pausesUntil writes so many changes a second until something is done, and returns the longest that one took.
func (b *bench) pausesUntil(st *store.Store, perSecond int, done <-chan error) (worst time.Duration, err error) {
	for {
		select {
		case err := <-done:
			return worst, err
		default:
			w, err := b.pauses(st, perSecond, 200*time.Millisecond)
			if err != nil {
				return worst, err
			}
			worst = max(worst, w)
		}
	}
}
