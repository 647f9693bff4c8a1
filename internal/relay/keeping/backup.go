package keeping

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"openrelay/internal/relay/engine"
	"openrelay/internal/seal"
	"openrelay/internal/store"
)

// lockedSetting is where a backup keeps the keys of the company, under a passphrase. A file that is worked on has none.
const lockedSetting = "backup"

// locked is what a backup says of itself.
type locked struct {
	At   time.Time   `json:"at"`
	Keys seal.Locked `json:"keys"`
}

// Made is what was copied, or brought back.
type Made struct {
	Company string    // its name
	At      time.Time // of this moment
	Bytes   int64
	Orders  int64
	Items   int64
	Took    time.Duration

	Upgraded int64 // version of the tables that were brought up to date; 0: they were
}

// Backup writes a copy of a company file as it stands now, with its keys under a passphrase, and checks that everything holds
// in it before it stands under its name. It works on the file, whether or not a service does, too.
func Backup(ctx context.Context, from, to, passphrase string, progress func(done, total int)) (m Made, err error) {
	began := time.Now()
	if _, err := os.Stat(to); err == nil {
		return m, engine.Refuse("%s is there already; nothing is overwritten", to)
	}
	ring, err := seal.Open(from+".key", true)
	if err != nil {
		return m, err
	}
	keys, err := seal.Lock(ring.Text(), passphrase)
	if err != nil {
		return m, engine.Refuse("%v", err)
	}
	unchecked := to + ".unchecked"
	defer removeFile(unchecked)
	removeFile(unchecked)
	if err := store.Copy(ctx, from, unchecked, progress); err != nil {
		return m, err
	}
	note, err := json.Marshal(locked{At: began.UTC(), Keys: keys})
	if err != nil {
		return m, err
	}
	if m, err = check(ctx, unchecked, func(t *store.Tx) error { return t.PutSetting(lockedSetting, string(note)) }); err != nil {
		return m, err
	}
	if m.Upgraded != 0 {
		return m, engine.Refuse("%s is of an older version of the program, and a backup would not be: back it up with that version, or "+
			"start the service, which keeps a copy before it upgrades", from)
	}
	if err := store.Plain(ctx, unchecked); err != nil {
		return m, err
	}
	m.At, m.Took = began, time.Since(began)
	return m, os.Rename(unchecked, to)
}

// removeFile removes a file that was not finished, with what the database keeps beside it.
func removeFile(path string) {
	for _, part := range []string{"", "-wal", "-shm"} {
		os.Remove(path + part)
	}
}

// check changes a copy and holds it against everything that must always hold.
func check(ctx context.Context, path string, change func(*store.Tx) error) (m Made, err error) {
	st, err := store.Open(ctx, path)
	if err != nil {
		return m, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	if u := st.Upgraded(); u.Copy != "" { // the backup itself is the copy of before
		m.Upgraded = u.From
		if err := os.Remove(u.Copy); err != nil {
			return m, err
		}
	}
	if err := st.Write(ctx, change); err != nil {
		return m, err
	}
	findings, err := st.Verify(ctx)
	if err != nil {
		return m, err
	}
	if len(findings) > 0 {
		return m, fmt.Errorf("the copy does not hold: %s, and %d more; openrelay verify tells all", findings[0].Text, len(findings)-1)
	}
	if m.Company, err = st.Setting(ctx, "company"); err != nil {
		return m, err
	}
	if m.Orders, m.Items, err = st.Holds(ctx); err != nil {
		return m, err
	}
	info, err := os.Stat(path)
	if err == nil {
		m.Bytes = info.Size()
	}
	return m, err
}

// Restore makes a company file of a backup, and its keys beside it. A file that is there is left alone, and nothing stands
// under its name until everything holds. With still, its connections are paused: for a trial, beside the company that works on.
func Restore(ctx context.Context, from, to, passphrase string, still bool, progress func(done, total int)) (m Made, err error) {
	began := time.Now()
	for _, path := range []string{to, to + ".key"} {
		if _, err := os.Stat(path); err == nil {
			return m, engine.Refuse("%s is there already; nothing is overwritten", path)
		}
	}
	text, err := store.ReadSetting(ctx, from, lockedSetting)
	if err != nil {
		return m, err
	}
	var note locked
	if text == "" || json.Unmarshal([]byte(text), &note) != nil {
		return m, engine.Refuse("%s is not a backup: it holds no keys under a passphrase", from)
	}
	keys, err := note.Keys.Unlock(passphrase)
	if err != nil {
		return m, engine.Refuse("%v", err)
	}
	unchecked := to + ".unchecked"
	defer removeFile(unchecked)
	removeFile(unchecked)
	if err := store.Copy(ctx, from, unchecked, progress); err != nil {
		return m, err
	}
	m, err = check(ctx, unchecked, func(t *store.Tx) error {
		if still {
			if err := t.PauseAll(); err != nil {
				return err
			}
		}
		return t.DropSetting(lockedSetting)
	})
	if err != nil {
		return m, err
	}
	if err := seal.Restore(to+".key", keys); err != nil {
		return m, err
	}
	m.At, m.Took = note.At, time.Since(began)
	if err := os.Rename(unchecked, to); err != nil {
		return m, errors.Join(err, os.Remove(to+".key"))
	}
	return m, nil
}
