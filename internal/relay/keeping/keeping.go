package keeping

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync/atomic"
	"time"

	"openrelay/internal/relay/engine"
	"openrelay/internal/seal"
	"openrelay/internal/store"
)

// Keeping looks after the file of a running company.
type Keeping struct {
	*engine.Engine
	Wake *engine.Waker // a backup may be due

	folder string // where backups go; empty: the service was started without one
	under  atomic.Pointer[Progress]
	asked  atomic.Pointer[string] // who wants a backup now

	WakeThin  *engine.Waker        // what is old may be thinned
	thinning  atomic.Pointer[Pass] // while it is
	thinAsked atomic.Bool          // somebody wants it now
}

// New makes the room. Backups go to a folder, if there is one.
func New(e *engine.Engine, folder string) *Keeping {
	r := &Keeping{Engine: e, Wake: engine.NewWaker(), WakeThin: engine.NewWaker(), folder: folder}
	r.AddSettingKind(engine.OneSetting("backups", r.scheduleSet, func(ctx context.Context, s Schedule, who string) error {
		return r.SetSchedule(ctx, s, "", who)
	}))
	r.AddSettingKind(engine.OneSetting("retention", r.retentionSet, r.SetRetention))
	return r
}

// Folder is where backups go; empty where the service was started without one.
func (r *Keeping) Folder() string { return r.folder }

// Progress is how far a backup is that is being made, in pages.
type Progress struct{ Done, Total int }

// Underway tells how far a backup is that is being made, or nil.
func (r *Keeping) Underway() *Progress { return r.under.Load() }

const (
	scheduleSetting   = "backups"
	passphraseSetting = "backup passphrase"
)

// Schedule is when backups are made, and how many are kept.
type Schedule struct {
	On   bool   `json:"on"`
	At   string `json:"at" doc:"Time of day at which it is made, HH:MM by the company's clocks" example:"02:30"`
	Keep int    `json:"keep" doc:"How many are kept; older ones are removed"                                      minimum:"1" maximum:"400"`

	Since time.Time `json:"since,omitzero" readOnly:"true" doc:"When it was set; the first backup comes after it"`
}

// usual is the schedule where none was set.
var usual = Schedule{At: "02:30", Keep: 14}

// Schedule tells when backups are made, and whether a passphrase is known.
func (r *Keeping) Schedule(ctx context.Context) (s Schedule, passphrase bool, err error) {
	s = usual
	text, err := r.Store.Setting(ctx, scheduleSetting)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &s)
	}
	if err != nil {
		return s, false, err
	}
	box, err := r.Store.Setting(ctx, passphraseSetting)
	return s, box != "", err
}

// scheduleSet is when backups are made, as it was set. A passphrase is never told, so that a new one cannot be undone.
func (r *Keeping) scheduleSet(ctx context.Context) (Schedule, error) {
	s, _, err := r.Schedule(ctx)
	s.Since = time.Time{}
	return s, err
}

// SetSchedule says when backups are made. An empty passphrase leaves the one that is known.
func (r *Keeping) SetSchedule(ctx context.Context, s Schedule, passphrase, who string) error {
	if _, err := time.Parse("15:04", s.At); err != nil {
		return engine.Refuse("at: %q is no time of day; HH:MM is expected", s.At)
	}
	if s.Keep < 1 || s.Keep > 400 {
		return engine.Refuse("keep: 1 to 400 backups can be kept, not %d", s.Keep)
	}
	_, known, err := r.Schedule(ctx)
	if err != nil {
		return err
	}
	switch {
	case s.On && r.folder == "":
		return engine.Refuse("on: the service has no folder for backups; start it with -backups FOLDER")
	case s.On && !known && passphrase == "":
		return engine.Refuse("passphrase: missing; the keys in a backup are sealed under it")
	case passphrase != "" && len(passphrase) < seal.LeastPassphrase:
		return engine.Refuse("passphrase: too short; %d characters are the least", seal.LeastPassphrase)
	}
	s.Since = r.Clock()
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	said := "backups are not made by themselves"
	if s.On {
		said = fmt.Sprintf("a backup each day at %s; %d are kept", s.At, s.Keep)
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		if passphrase != "" {
			box, err := r.Sealer.Seal(map[string]string{"passphrase": passphrase})
			if err != nil {
				return err
			}
			if err := ch.PutSetting(passphraseSetting, base64.StdEncoding.EncodeToString(box)); err != nil {
				return err
			}
			said += "; a new passphrase"
			if err := r.NoteSecurity(ch, "secrets", who, "", "backups have a new passphrase"); err != nil {
				return err
			}
		}
		if err := ch.PutSetting(scheduleSetting, string(text)); err != nil {
			return err
		}
		ch.After(r.Wake.Now)
		return r.NoteThing(ch, "company", 0, who, "backups", "%s", said)
	})
}

// BackupNow asks for a backup; it is made beside the work.
func (r *Keeping) BackupNow(ctx context.Context, who string) error {
	_, known, err := r.Schedule(ctx)
	switch {
	case err != nil:
		return err
	case r.folder == "":
		return engine.Refuse("the service has no folder for backups; start it with -backups FOLDER, or use openrelay backup")
	case !known:
		return engine.Refuse("give a passphrase first; the keys in a backup are sealed under it")
	case r.under.Load() != nil:
		return &engine.Refused{Text: "a backup is being made already", Conflict: true}
	}
	r.asked.Store(&who)
	r.Wake.Now()
	return nil
}

// BackupsDue makes a backup if one is due or wanted, and returns when the next is.
func (r *Keeping) BackupsDue(ctx context.Context) (next time.Time, err error) {
	s, known, err := r.Schedule(ctx)
	if err != nil || r.folder == "" || !known {
		return next, err
	}
	who := r.asked.Swap(nil)
	if who == nil {
		if !s.On {
			return next, nil
		}
		last, err := r.Store.Backups(ctx, 1)
		if err != nil {
			return next, err
		}
		if next = r.nextAfter(s, last); r.Clock().Before(next) {
			return next, nil
		}
		relay := "relay"
		who = &relay
	}
	r.makeOne(ctx, *who, s)
	last, err := r.Store.Backups(ctx, 1)
	if err != nil || !s.On {
		return time.Time{}, err
	}
	return r.nextAfter(s, last), nil
}

// againAfter is when a backup that failed is tried again.
const againAfter = time.Hour

// nextAfter is when the next backup is due, after the last that was made or tried.
func (r *Keeping) nextAfter(s Schedule, last []store.Backup) time.Time {
	now := r.Clock()
	at, err := time.Parse("15:04", s.At)
	if err != nil {
		return now.Add(againAfter)
	}
	day := now.In(r.Zone())
	due := time.Date(day.Year(), day.Month(), day.Day(), at.Hour(), at.Minute(), 0, 0, r.Zone())
	if due.After(now) {
		due = due.AddDate(0, 0, -1)
	}
	began := s.Since
	if len(last) > 0 {
		began = engine.Later(began, store.Time(last[0].BeganAt))
	}
	if began.Before(due) {
		return due // also one that was missed while the service rested
	}
	if len(last) > 0 && last[0].Error != "" {
		return began.Add(againAfter)
	}
	return due.AddDate(0, 0, 1)
}

var unfit = regexp.MustCompile(`[^a-z0-9]+`)

// makeOne makes a backup, notes what became of it, and removes those that are not to be kept any more.
func (r *Keeping) makeOne(ctx context.Context, who string, s Schedule) {
	now := r.Clock()
	base := strings.TrimSuffix(filepath.Base(r.Store.Path()), ".relay")
	b := store.Backup{BeganAt: now.UnixMicro(), Who: who,
		Name: fmt.Sprintf("%s-%s.backup", strings.Trim(unfit.ReplaceAllString(strings.ToLower(base), "-"), "-"),
			now.UTC().Format("20060102-150405"))}
	err := r.Commit(ctx, func(ch *engine.Change) (err error) {
		b.ID, err = ch.BeginBackup(b)
		ch.Tell("backup", "")
		return err
	})
	if err == nil {
		r.under.Store(&Progress{})
		b.Bytes, err = r.copyNow(ctx, filepath.Join(r.folder, b.Name))
		r.under.Store(nil)
	}
	if ctx.Err() != nil {
		return // the service ends; what was begun is noted as such when the next begins
	}
	b.EndedAt = r.Clock().UnixMicro()
	if err != nil {
		b.Error = engine.Clip(err.Error(), 300)
		r.Log.Error("no backup could be made", "error", err)
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error { return r.settle(ch, b) }); err != nil {
		r.Log.Error("what became of a backup could not be noted", "error", err)
		return
	}
	if b.Error == "" {
		r.removeOld(ctx, s.Keep)
	}
}

func (r *Keeping) copyNow(ctx context.Context, to string) (int64, error) {
	text, err := r.Store.Setting(ctx, passphraseSetting)
	if err != nil {
		return 0, err
	}
	box, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return 0, err
	}
	secret, err := r.Sealer.Open(box)
	if err != nil {
		return 0, err
	}
	if err := os.MkdirAll(r.folder, 0o700); err != nil {
		return 0, err
	}
	m, err := Backup(ctx, r.Store.Path(), to, secret["passphrase"], func(done, total int) { r.under.Store(&Progress{done, total}) })
	return m.Bytes, err
}

// settle notes what became of a backup; one that failed is raised, until one is made.
func (r *Keeping) settle(ch *engine.Change, b store.Backup) error {
	ch.Tell("backup", "")
	if err := ch.EndBackup(b); err != nil {
		return err
	}
	if b.Error == "" {
		return ch.CloseConnectionException(0, engine.BackupFailed, ch.Now)
	}
	ch.Tell("exception", "")
	return ch.Raise(store.Exception{Cause: engine.BackupFailed, Text: "No backup could be made: " + b.Error,
		Expected: "a folder that can be written to, with room for the file"}, ch.Now)
}

// removeOld removes the backups beyond those that are kept. Only what was made here is touched.
func (r *Keeping) removeOld(ctx context.Context, keep int) {
	list, err := r.Store.KeptBackups(ctx)
	if err != nil {
		r.Log.Error("old backups could not be listed", "error", err)
		return
	}
	for _, b := range list[min(keep, len(list)):] {
		if err := os.Remove(filepath.Join(r.folder, b.Name)); err != nil && !os.IsNotExist(err) {
			r.Log.Error("an old backup could not be removed", "backup", b.Name, "error", err)
			continue
		}
		if err := r.Store.Write(ctx, func(t *store.Tx) error { return t.BackupGone(b.ID, r.Clock()) }); err != nil {
			r.Log.Error("that an old backup is gone could not be noted", "backup", b.Name, "error", err)
		}
	}
}

// RotateKey seals everything anew with a new key, and throws the older ones away. It returns how much was sealed anew.
func (r *Keeping) RotateKey(ctx context.Context, who string) (n int, id uint32, err error) {
	if id, err = r.Sealer.Add(); err != nil {
		return 0, 0, err
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		again := func(box []byte) ([]byte, error) {
			fresh, _, err := r.Sealer.Again(box)
			return fresh, err
		}
		if n, err = ch.Reseal(again); err != nil {
			return err
		}
		text, err := ch.Setting(passphraseSetting)
		if err != nil {
			return err
		}
		if text != "" {
			box, err := base64.StdEncoding.DecodeString(text)
			if err != nil {
				return err
			}
			if box, err = again(box); err != nil {
				return err
			}
			if err := ch.PutSetting(passphraseSetting, base64.StdEncoding.EncodeToString(box)); err != nil {
				return err
			}
			n++
		}
		if err := r.NoteSecurity(ch, "secrets", who, "", fmt.Sprintf("%d secrets were sealed anew with key %d", n, id)); err != nil {
			return err
		}
		return r.NoteThing(ch, "company", 0, who, "key", "%d secrets were sealed anew with key %d", n, id)
	})
	if err != nil {
		return 0, id, fmt.Errorf("seal anew: %w", err) // the older key is kept; what it sealed still opens
	}
	return n, id, r.Sealer.Forget()
}
