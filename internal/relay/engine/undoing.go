package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/store"
)

// SettingKind is a kind of setting whose changes can be undone: how it stands, and how it is put back.
type SettingKind struct {
	Kind string // as people call it, such as sender
	// Read answers how one of a code stands, to be kept as JSON, and whether it is there.
	Read func(ctx context.Context, code string) (value any, there bool, err error)
	// Write puts one back to how it stood.
	Write func(ctx context.Context, code string, was json.RawMessage, who string) error
	// Unmake undoes that one was made; nil where there always is one.
	Unmake func(ctx context.Context, code, who string) error
}

// AddSettingKind makes the changes of a kind of setting undoable; a room does it once, when it is made.
func (r *Engine) AddSettingKind(k SettingKind) { r.kinds[k.Kind] = k }

// decoded reads what was kept and writes it.
func decoded[T any](write func(ctx context.Context, v T, who string) error) func(context.Context, string, json.RawMessage, string) error {
	return func(ctx context.Context, _ string, was json.RawMessage, who string) error {
		var v T
		if err := json.Unmarshal(was, &v); err != nil {
			return err
		}
		return write(ctx, v, who)
	}
}

// OneSetting is a kind of which a company has one.
func OneSetting[T any](kind string, read func(ctx context.Context) (T, error), write func(ctx context.Context, v T, who string) error,
) SettingKind {
	return SettingKind{Kind: kind, Write: decoded(write), Read: func(ctx context.Context, _ string) (any, bool, error) {
		v, err := read(ctx)
		return v, true, err
	}}
}

// ChangeSetting does a change of a setting and keeps how it stood before. What changed nothing, or was refused, is not kept.
// How it stood is written first, so that it is known whatever happens while it is changed.
func (r *Engine) ChangeSetting(ctx context.Context, kind, code, who string, do func() error) error {
	return r.changeSetting(ctx, kind, code, who, 0, do)
}

func (r *Engine) changeSetting(ctx context.Context, kind, code, who string, undoes int64, do func() error) error {
	k, known := r.kinds[kind]
	if !known {
		return fmt.Errorf("no kind of setting is called %q", kind)
	}
	before, err := k.stands(ctx, code)
	if err != nil {
		return err
	}
	id, err := r.keepSetting(ctx, store.SettingChange{Kind: kind, Code: code, Who: who, Before: before, Undoes: undoes})
	if err != nil {
		return err
	}
	failed := do()
	ctx = context.WithoutCancel(ctx)
	after, err := k.stands(ctx, code)
	if err != nil {
		return err
	}
	if failed != nil || bytes.Equal([]byte(before), []byte(after)) {
		if err := r.Store.Write(ctx, func(t *store.Tx) error { return t.DropSettingChange(id) }); err != nil {
			r.Log.Warn("a change of a setting that was none is kept", "kind", kind, "error", err)
		}
		return failed
	}
	return r.Commit(ctx, func(ch *Change) error {
		ch.Tell("setting", kind)
		if undoes == 0 {
			return nil
		}
		return ch.SettingUndone(undoes, ch.Now)
	})
}

func (r *Engine) keepSetting(ctx context.Context, c store.SettingChange) (id int64, err error) {
	c.At = r.Clock().UnixMicro()
	err = r.Store.Write(ctx, func(t *store.Tx) (err error) {
		id, err = t.AddSettingChange(c)
		return err
	})
	return id, err
}

// stands is how a setting stands, as JSON; empty where there is none of the code.
func (k SettingKind) stands(ctx context.Context, code string) (string, error) {
	v, there, err := k.Read(ctx, code)
	if err != nil || !there {
		return "", err
	}
	text, err := json.Marshal(v)
	return string(text), err
}

// UndoSetting puts a setting back to how it stood before a change. Where it was changed since, that is undone first. An
// undone change can be undone itself.
func (r *Engine) UndoSetting(ctx context.Context, id int64, who string) error {
	c, err := r.Store.SettingChange(ctx, id)
	if err != nil {
		return err
	}
	if err := r.MayUndo(c); err != nil {
		return err
	}
	k := r.kinds[c.Kind]
	return r.changeSetting(ctx, c.Kind, c.Code, who, c.ID, func() error {
		if c.Before == "" {
			return k.Unmake(ctx, c.Code, who)
		}
		return k.Write(ctx, c.Code, json.RawMessage(c.Before), who)
	})
}

// MayUndo says why a change of a setting cannot be undone, or nothing.
func (r *Engine) MayUndo(c store.SettingChange) error {
	k, known := r.kinds[c.Kind]
	switch {
	case !known:
		return Refuse("%s: this can no longer be undone", c.Kind)
	case c.UndoneAt != 0:
		return &Refused{Text: fmt.Sprintf("it was undone already, at %s", store.Time(c.UndoneAt).Format(time.RFC3339)), Conflict: true}
	case c.Newer != 0:
		return &Refused{
			Text:     fmt.Sprintf("%s was changed again since; undo that first", strings.TrimSpace(c.Kind+" "+c.Code)),
			Conflict: true,
		}
	case c.Before == "" && k.Unmake == nil:
		return Refuse("%s: that it was made cannot be undone", c.Kind)
	}
	return nil
}
