package keeping_test

import (
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

const passphrase = "heather and lime"

// sold is a company with one order and one connection whose key is sealed.
func sold(t *testing.T) *trial.Kit {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	return k
}

// TestABackupBecomesTheCompanyAgain while the service works on: the copy is of one moment, and opens with its own keys.
func TestABackupBecomesTheCompanyAgain(t *testing.T) {
	k, ctx := sold(t), t.Context()
	dir := t.TempDir()
	backup, back := filepath.Join(dir, "morrow.backup"), filepath.Join(dir, "back.relay")
	_, err := keeping.Backup(ctx, k.Store.Path(), backup, "short", nil)
	require.ErrorContains(t, err, "too short")
	require.NoFileExists(t, backup)
	steps := 0
	made, err := keeping.Backup(ctx, k.Store.Path(), backup, passphrase, func(done, total int) {
		if steps == 0 { // sold while it is copied
			k.Sell("S-2", trial.Units("JAR", 1))
		}
		steps++
		require.LessOrEqual(t, done, total)
	})
	require.NoError(t, err)
	require.Positive(t, steps)
	require.Equal(t, "Morrow Hive Supply", made.Company)
	require.EqualValues(t, 1, made.Orders)
	require.Equal(t, "ready", k.Stage("S-2"))
	info, err := os.Stat(backup)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	_, err = keeping.Backup(ctx, k.Store.Path(), backup, passphrase, nil)
	require.ErrorContains(t, err, "is there already")

	_, err = keeping.Restore(ctx, backup, back, "heather and limE", false, nil)
	require.ErrorContains(t, err, "does not open")
	require.NoFileExists(t, back)
	require.NoFileExists(t, back+".key")
	got, err := keeping.Restore(ctx, backup, back, passphrase, true, nil)
	require.NoError(t, err)
	require.EqualValues(t, 1, got.Orders)
	require.WithinDuration(t, made.At, got.At, time.Millisecond)
	_, err = keeping.Restore(ctx, backup, back, passphrase, false, nil)
	require.ErrorContains(t, err, "is there already")
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 3, "the backup, the file and its key, and nothing half done")

	st, err := store.Open(ctx, back)
	require.NoError(t, err)
	defer st.Close()
	r, err := relay.Open(ctx, st, engine.Options{Transport: k})
	require.NoError(t, err)
	c := r.ByCode("stall")
	require.True(t, c.Rec().Paused, "for a trial, nothing moves")
	accounts, err := st.Accounts(ctx)
	require.NoError(t, err)
	require.Len(t, accounts, 1)
	secrets, err := r.Sealer.Open(accounts[0].Credentials)
	require.NoError(t, err)
	require.Equal(t, "stall-key", secrets["key"])
	locked, err := st.Setting(ctx, "backup")
	require.NoError(t, err)
	require.Empty(t, locked, "the keys are not in the file that is worked on")
}

// TestWhatIsNoBackup is refused before anything is written.
func TestWhatIsNoBackup(t *testing.T) {
	k, ctx, dir := sold(t), t.Context(), t.TempDir()
	text := filepath.Join(dir, "notes.txt")
	require.NoError(t, os.WriteFile(text, []byte("no company"), 0o600))
	for from, want := range map[string]string{
		k.Store.Path():               "is not a backup",
		text:                         "is no company file",
		filepath.Join(dir, "absent"): "cannot be read",
	} {
		_, err := keeping.Restore(ctx, from, filepath.Join(dir, "back.relay"), passphrase, false, nil)
		require.ErrorContains(t, err, want)
	}
	_, err := keeping.Backup(ctx, filepath.Join(dir, "absent"), filepath.Join(dir, "x.backup"), passphrase, nil)
	require.Error(t, err)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1)
}

// TestACopyThatDoesNotHoldIsNoBackup: what is wrong with the file is told while the file is still there.
func TestACopyThatDoesNotHoldIsNoBackup(t *testing.T) {
	k, to := sold(t), filepath.Join(t.TempDir(), "morrow.backup")
	k.Spoil("UPDATE level SET on_hand=on_hand+5")
	_, err := keeping.Backup(t.Context(), k.Store.Path(), to, passphrase, nil)
	require.ErrorContains(t, err, "the copy does not hold")
	require.NoFileExists(t, to)
}

// TestBackupsByTheClock: one a day, also one that was missed; older ones go; one that fails is raised and tried again.
func TestBackupsByTheClock(t *testing.T) {
	k, ctx := sold(t), t.Context()
	folder := filepath.Dir(k.Store.Path())
	kept := func() []string {
		found, err := filepath.Glob(filepath.Join(folder, "*.backup"))
		require.NoError(t, err)
		return found
	}
	for want, s := range map[string]keeping.Schedule{"no time of day": {On: true, At: "25:99", Keep: 3}, "keep:": {At: "02:30"},
		"passphrase: missing": {On: true, At: "02:30", Keep: 2}} {
		require.ErrorContains(t, k.SetSchedule(ctx, s, "", "Edda"), want)
	}
	require.ErrorContains(t, k.BackupNow(ctx, "Edda"), "passphrase first")
	require.NoError(t, k.SetSchedule(ctx, keeping.Schedule{On: true, At: "02:30", Keep: 2}, passphrase, "Edda"))
	next, err := k.BackupsDue(ctx)
	require.NoError(t, err)
	require.Equal(t, "2026-11-24 02:30", next.Format("2006-01-02 15:04"), "not at once, but the next night")
	require.Empty(t, kept())
	for day := range 3 {
		k.Later(24 * time.Hour)
		_, err = k.BackupsDue(ctx)
		require.NoError(t, err)
		require.Len(t, kept(), min(day+1, 2))
	}
	list, err := k.Store.Backups(ctx, 10)
	require.NoError(t, err)
	require.Len(t, list, 3)
	require.NotZero(t, list[2].GoneAt)
	require.NoError(t, k.BackupNow(ctx, "Edda"))
	_, err = k.BackupsDue(ctx)
	require.NoError(t, err)
	list, err = k.Store.Backups(ctx, 1)
	require.NoError(t, err)
	require.Equal(t, "Edda", list[0].Who)

	k.Spoil("UPDATE level SET on_hand=on_hand+5")
	k.Later(24 * time.Hour)
	next, err = k.BackupsDue(ctx)
	require.NoError(t, err)
	require.Equal(t, k.Now().Add(time.Hour).UnixMicro(), next.UnixMicro(), "it is tried again soon")
	require.Contains(t, k.AllCauses(), engine.BackupFailed)
	k.Spoil("UPDATE level SET on_hand=on_hand-5")
	k.Later(time.Hour)
	_, err = k.BackupsDue(ctx)
	require.NoError(t, err)
	require.NotContains(t, k.AllCauses(), order.Cause(engine.BackupFailed))
}

// TestNoFolderNoBackups: what the service cannot do is refused where it is set.
func TestNoFolderNoBackups(t *testing.T) {
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "x.relay"))
	require.NoError(t, err)
	defer st.Close()
	r, err := relay.Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
	err = r.SetSchedule(t.Context(), keeping.Schedule{On: true, At: "02:30", Keep: 3}, passphrase, "Edda")
	require.ErrorContains(t, err, "start it with -backups")
	require.ErrorContains(t, r.BackupNow(t.Context(), "Edda"), "start it with -backups")
}

// TestTheKeyIsRotated while everything that is sealed stays open.
func TestTheKeyIsRotated(t *testing.T) {
	k, ctx := sold(t), t.Context()
	require.NoError(t, k.SetSchedule(ctx, keeping.Schedule{At: "02:30", Keep: 2}, passphrase, "Edda"))
	before := k.Sealer.Current()
	n, id, err := k.RotateKey(ctx, "Edda")
	require.NoError(t, err)
	require.Greater(t, id, before)
	require.Equal(t, 2, n, "the stall's key and the passphrase")
	_, _, err = k.RotateKey(ctx, "Edda")
	require.NoError(t, err)
	events, err := k.Store.SecurityEvents(ctx, 0, 10)
	require.NoError(t, err)
	require.Equal(t, "2 secrets were sealed anew with key 3", events[0].Text)
	require.Equal(t, "backups have a new passphrase", events[2].Text)
	k.Again()
	accounts, err := k.Store.Accounts(ctx)
	require.NoError(t, err)
	secrets, err := k.Sealer.Open(accounts[0].Credentials)
	require.NoError(t, err)
	require.Equal(t, "stall-key", secrets["key"])
	require.NoError(t, k.BackupNow(ctx, "Edda"))
	_, err = k.BackupsDue(context.WithoutCancel(ctx))
	require.NoError(t, err)
	list, err := k.Store.Backups(ctx, 1)
	require.NoError(t, err)
	require.Empty(t, list[0].Error, fmt.Sprint(list))
}

// TestACompanyOfAnEarlierVersionGoesOn with the key it had, from before keys had numbers.
func TestACompanyOfAnEarlierVersionGoesOn(t *testing.T) {
	ctx, path := t.Context(), filepath.Join(t.TempDir(), "company.relay")
	packed, err := os.Open("../../store/testdata/company-7.relay.gz")
	require.NoError(t, err)
	defer packed.Close()
	unpacked, err := gzip.NewReader(packed)
	require.NoError(t, err)
	raw, err := io.ReadAll(unpacked)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, raw, 0o600))
	key, err := os.ReadFile("../../store/testdata/company-7.keys")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path+".key", key, 0o600))
	_, err = keeping.Backup(ctx, path, path+".backup", passphrase, nil)
	require.ErrorContains(t, err, "is of an older version")
	require.NoFileExists(t, path+".backup")

	st, err := store.Open(ctx, path)
	require.NoError(t, err)
	defer st.Close()
	r, err := relay.Open(ctx, st, engine.Options{})
	require.NoError(t, err)
	accounts, err := st.Accounts(ctx)
	require.NoError(t, err)
	for _, a := range accounts {
		_, err := r.Sealer.Open(a.Credentials)
		require.NoError(t, err, a.Name)
	}
	n, id, err := r.RotateKey(ctx, "Edda")
	require.NoError(t, err)
	require.EqualValues(t, 1, id)
	require.GreaterOrEqual(t, n, len(accounts))
	_, err = keeping.Backup(ctx, path, path+".backup", passphrase, nil)
	require.NoError(t, err)
}
