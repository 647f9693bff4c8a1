package joining

import (
	"context"
	"encoding/json"
	"fmt"

	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// keptByCode is a kind of setting of which a company has many, each by its code: made, changed, used no more and used again.
type keptByCode[T any] struct {
	kind    string
	list    func(ctx context.Context) ([]T, error)
	of      func(x T) (code string, archived bool)
	put     func(ctx context.Context, x T, who string) error
	archive func(ctx context.Context, code string, archived bool, who string) error
}

// keptValue is how one stands.
type keptValue[T any] struct {
	Value    T
	Archived bool
}

func (k keptByCode[T]) find(ctx context.Context, code string) (v keptValue[T], there bool, err error) {
	list, err := k.list(ctx)
	for _, x := range list {
		if has, archived := k.of(x); has == code {
			return keptValue[T]{x, archived}, true, nil
		}
	}
	return v, false, err
}

// write puts one back: what is used no more is used again first, since only then it may be changed.
func (k keptByCode[T]) write(ctx context.Context, code string, text json.RawMessage, who string) error {
	var was keptValue[T]
	if err := json.Unmarshal(text, &was); err != nil {
		return err
	}
	now, there, err := k.find(ctx, code)
	if err != nil {
		return err
	}
	if there && now.Archived && !was.Archived {
		if err := k.archive(ctx, code, false, who); err != nil {
			return err
		}
	}
	if !now.Archived || !was.Archived {
		if err := k.put(ctx, was.Value, who); err != nil {
			return err
		}
	}
	if was.Archived && !now.Archived {
		return k.archive(ctx, code, true, who)
	}
	return nil
}

func (k keptByCode[T]) kindOf() engine.SettingKind {
	return engine.SettingKind{Kind: k.kind, Write: k.write,
		Read: func(ctx context.Context, code string) (any, bool, error) { return k.find(ctx, code) },
		Unmake: func(ctx context.Context, code, who string) error {
			return k.archive(ctx, code, true, who)
		}}
}

// placeValue is how a place stands.
type placeValue struct {
	Code     string
	Place    Place
	Archived bool
}

// keepsSettings makes the changes of what a company stands on undoable.
func (r *Joining) keepsSettings() {
	r.AddSettingKind(keptByCode[store.Sender]{"sender", r.Store.Senders,
		func(s store.Sender) (string, bool) { return s.Code, s.ArchivedAt != 0 }, r.PutSender, r.ArchiveSender}.kindOf())
	r.AddSettingKind(keptByCode[store.NamedCarrier]{"carrier", r.Store.NamedCarriers,
		func(c store.NamedCarrier) (string, bool) { return c.Code, c.ArchivedAt != 0 }, r.PutNamedCarrier, r.ArchiveNamedCarrier}.kindOf())
	r.AddSettingKind(keptByCode[store.KeptProfile]{"profile", r.Store.KeptProfiles,
		func(p store.KeptProfile) (string, bool) { return p.Code, p.ArchivedAt != 0 },
		func(ctx context.Context, p store.KeptProfile, who string) error {
			return r.PutProfile(ctx, p.Profile, who)
		},
		r.ArchiveProfile}.kindOf())
	r.AddSettingKind(keptByCode[placeValue]{"place", r.placeValues,
		func(p placeValue) (string, bool) { return p.Code, p.Archived },
		func(ctx context.Context, p placeValue, who string) error {
			return r.PutPlace(ctx, p.Code, p.Place, who)
		},
		r.ArchivePlace}.kindOf())
	r.AddSettingKind(engine.SettingKind{Kind: "number series", Read: r.readSeries, Write: r.writeSeries})
}

func (r *Joining) placeValues(ctx context.Context) ([]placeValue, error) {
	list, err := r.Store.Locations(ctx)
	out := make([]placeValue, len(list))
	for i, l := range list {
		at, hours, bins, position := place.Address(l.Address), l.Hours, l.Bins, l.Position
		out[i] = placeValue{l.Code, Place{Name: l.Name, Keeper: r.Code(l.Keeper), Address: &at, Hours: &hours, Bins: &bins,
			Position: &position},
			l.ArchivedAt != 0}
	}
	return out, err
}

// readSeries reads how numbers of a series begin. Which comes next is not put back: a number is never given twice.
func (r *Joining) readSeries(ctx context.Context, code string) (any, bool, error) {
	list, err := r.Store.Series(ctx)
	for _, s := range list {
		if s.Code == code {
			return s, true, err
		}
	}
	return nil, false, err
}

func (r *Joining) writeSeries(ctx context.Context, code string, text json.RawMessage, who string) error {
	var was store.Series
	if err := json.Unmarshal(text, &was); err != nil {
		return err
	}
	var given int64
	if err := r.Store.Write(ctx, func(t *store.Tx) (err error) {
		given, err = t.HighestNumber(code, was.Prefix)
		return err
	}); err != nil {
		return fmt.Errorf("number series %s: %w", code, err)
	}
	was.Next = max(was.Next, given+1)
	return r.SetSeries(ctx, was, who)
}
