package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"openrelay/internal/relay/keeping"
	"openrelay/internal/store"
)

// keeping copies a large file while changes come in, and brings it back.
func (b *bench) keeping(n int) error {
	file := filepath.Join(b.dir, "kept.relay")
	if err := b.fill(file, n); err != nil {
		return err
	}
	st, err := store.Open(b.ctx, file)
	if err != nil {
		return err
	}
	defer st.Close()
	const perSecond = 50
	alone, err := b.pauses(st, perSecond, time.Duration(b.of(5000, 200))*time.Millisecond)
	if err != nil {
		return err
	}
	to := filepath.Join(b.dir, "kept.copy")
	began := time.Now()
	done := make(chan error, 1)
	go func() { done <- store.Copy(b.ctx, file, to, nil) }()
	worst, err := b.pausesUntil(st, perSecond, done)
	if err != nil {
		return err
	}
	took := time.Since(began)
	info, err := os.Stat(to)
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("copy of a file of %d orders (%d MB), %d changes a second beside it", n, info.Size()>>20, perSecond), took.Seconds(),
		"s", 0, "", true)
	b.add("longest pause of a writer meanwhile; baseline: without a copy", milliseconds(worst), "ms", milliseconds(alone), "below 50 ms",
		worst < 50*time.Millisecond)
	return b.restored(n/500, n/5)
}

func milliseconds(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// pauses writes so many changes a second for a while, ten rows each, and returns the longest that one took.
func (b *bench) pauses(st *store.Store, perSecond int, during time.Duration) (worst time.Duration, err error) {
	tick := time.NewTicker(time.Second / time.Duration(perSecond))
	defer tick.Stop()
	for end := time.Now().Add(during); time.Now().Before(end); {
		<-tick.C
		began := time.Now()
		err := st.Write(b.ctx, func(t *store.Tx) error {
			rows := make([]store.Entry, 10)
			for i := range rows {
				rows[i] = store.Entry{At: began.UnixMicro(), Who: "bench", Thing: "order", ThingID: int64(i + 1), What: "changed",
					Text: "A change"}
			}
			return t.Note(rows...)
		})
		if err != nil {
			return worst, err
		}
		worst = max(worst, time.Since(began))
	}
	return worst, nil
}

// restored makes a backup of a company with so many movements of stock, with all checks, and brings it back.
func (b *bench) restored(items, movements int) error {
	const passphrase = "a passphrase of the bench"
	r, st, err := b.stocked("checked.relay", items, movements)
	if err != nil {
		return err
	}
	defer st.Close()
	defer r.Stop()
	ctx := context.WithoutCancel(b.ctx)
	to, back := filepath.Join(b.dir, "checked.backup"), filepath.Join(b.dir, "back.relay")
	began := time.Now()
	m, err := keeping.Backup(ctx, st.Path(), to, passphrase, nil)
	if err != nil {
		return err
	}
	b.add(fmt.Sprintf("backup of %d items with %d movements (%d MB), with all checks", items, movements, m.Bytes>>20),
		time.Since(began).Seconds(), "s", 0, "", true)
	began = time.Now()
	if m, err = keeping.Restore(ctx, to, back, passphrase, true, nil); err != nil {
		return err
	}
	b.add("restored from it, with all checks", time.Since(began).Seconds(), "s", 0, "all items are there", m.Items == int64(items))
	return nil
}
