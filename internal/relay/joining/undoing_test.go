package joining_test

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/keeping"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestChangesOfSettingsAreUndone: each kind that is changed stands as before when the change is undone, and as after when that
// is undone again.
func TestChangesOfSettingsAreUndone(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	loft := func(p joining.Place) func() error {
		return func() error { return k.PutPlace(ctx, "loft", p, "1") }
	}
	bins := "A-1\nA-2"
	require.NoError(t, loft(joining.Place{Name: "The Loft"})())
	require.NoError(t, k.PutSender(ctx, store.Sender{Code: "skep", Name: "Little Skep"}, "1"))
	require.NoError(t, k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "ferry", Name: "Greywick Ferry"}, "1"))
	require.NoError(t, k.PutProfile(ctx, crate("crate"), "1"))
	require.NoError(t, k.SetSeries(ctx, store.Series{Code: "order", Prefix: "O", Next: 5}, "1"))
	bigger := crate("crate")
	bigger.MaxG = 25_000
	company, err := k.Company(ctx)
	require.NoError(t, err)
	company.Currency, company.Language = "SEK", "de"
	for _, c := range []struct {
		kind, code string
		do         func() error
	}{
		{"place", "loft", loft(joining.Place{Name: "The High Loft", Bins: &bins, Address: &place.Address{Name: "Loft",
			Street: "Oak Hollow 1", Postcode: "41360", Town: "Harrowmere", Country: "XW"}})},
		{"place", "loft", func() error { return k.ArchivePlace(ctx, "loft", true, "1") }},
		{"place", "shed", func() error { return k.PutPlace(ctx, "shed", joining.Place{Name: "The Shed"}, "1") }},
		{"sender", "skep", func() error {
			return k.PutSender(ctx, store.Sender{Code: "skep", Name: "Little Skep", Phone: "555 0117"}, "1")
		}},
		{"sender", "skep", func() error { return k.ArchiveSender(ctx, "skep", true, "1") }},
		{"sender", "comb", func() error { return k.PutSender(ctx, store.Sender{Code: "comb", Name: "Comb"}, "1") }},
		{"carrier", "ferry", func() error {
			return k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "ferry", Name: "Ferry", TrackingURL: "https://f.example/{number}"}, "1")
		}},
		{"profile", "crate", func() error { return k.PutProfile(ctx, bigger, "1") }},
		{"profile", "crate", func() error { return k.ArchiveProfile(ctx, "crate", true, "1") }},
		{"number series", "order", func() error { return k.SetSeries(ctx, store.Series{Code: "order", Prefix: "MH-", Next: 7}, "1") }},
		{"company", "", func() error { return k.SetCompany(ctx, company, "1") }},
		{"retention", "", func() error { return k.SetRetention(ctx, map[string]int{"looks": 400}, "1") }},
		{"backups", "", func() error { return k.SetSchedule(ctx, keeping.Schedule{At: "04:00", Keep: 3}, "", "1") }},
		{"second factor", "", func() error { return k.SetFactorTerms(ctx, people.FactorTerms{Of: "leads"}, "1") }},
		{"personal data", "", func() error { return k.SetKeepDays(ctx, 90, "1") }},
	} {
		before := stands(t, k, c.kind, c.code)
		require.NoError(t, k.ChangeSetting(ctx, c.kind, c.code, "1", c.do))
		after := stands(t, k, c.kind, c.code)
		require.NotEqual(t, before, after, "%s %s", c.kind, c.code)
		require.NoError(t, k.UndoSetting(ctx, newest(t, k).ID, "1"))
		undone := stands(t, k, c.kind, c.code)
		if before == "" {
			require.Contains(t, undone, "rchived", "what was made is used no more")
		} else {
			require.Equal(t, before, undone, "%s %s", c.kind, c.code)
		}
		require.NoError(t, k.UndoSetting(ctx, newest(t, k).ID, "1"))
		require.Equal(t, after, stands(t, k, c.kind, c.code), "undone again: %s %s", c.kind, c.code)
	}
	k.Holds()
}

// stands is how a setting stands, as it is kept: by a change that fails, which keeps nothing.
func stands(t *testing.T, k *trial.Kit, kind, code string) (text string) {
	t.Helper()
	refused := engine.Refuse("no")
	require.ErrorIs(t, k.ChangeSetting(t.Context(), kind, code, "1", func() error {
		text = newest(t, k).Before
		return refused
	}), refused)
	var plain map[string]any
	if json.Unmarshal([]byte(text), &plain) == nil {
		if v, ok := plain["Value"].(map[string]any); ok && plain["Archived"] == true {
			v["ArchivedAt"] = "since then"
			b, err := json.Marshal(plain)
			require.NoError(t, err)
			return string(b)
		}
	}
	return text
}

func newest(t *testing.T, k *trial.Kit) store.SettingChange {
	t.Helper()
	list, err := k.Store.SettingChanges(t.Context(), nil, 0, 1)
	require.NoError(t, err)
	require.NotEmpty(t, list)
	return list[0]
}

// TestOnlyTheLatestChangeIsUndone: what was changed since is not lost, and what changed nothing or was refused is not kept.
func TestOnlyTheLatestChangeIsUndone(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	named := func(name string) error {
		return k.ChangeSetting(ctx, "sender", "skep", "1", func() error {
			return k.PutSender(ctx, store.Sender{Code: "skep", Name: name}, "1")
		})
	}
	require.NoError(t, named("Little Skep"))
	first := newest(t, k)
	require.NoError(t, named("Skep"))
	second := newest(t, k)
	require.ErrorContains(t, k.UndoSetting(ctx, first.ID, "1"), "changed again since")
	require.NoError(t, named("Skep"), "as it stands")
	require.Equal(t, second.ID, newest(t, k).ID)
	require.ErrorContains(t, named(" "), "name: missing")
	require.Equal(t, second.ID, newest(t, k).ID)
	require.NoError(t, k.UndoSetting(ctx, second.ID, "1"))
	require.ErrorContains(t, k.UndoSetting(ctx, second.ID, "1"), "undone already")
	s, _ := k.Sender("skep")
	require.Equal(t, "Little Skep", s.Name)
	require.ErrorIs(t, k.UndoSetting(ctx, 9999, "1"), store.ErrNotFound)
	require.ErrorContains(t, k.ChangeSetting(ctx, "weather", "", "1", func() error { return nil }), "weather")
}

// TestAChangeThatIsCutShortCanBeUndone: how it stood was written before it was changed.
func TestAChangeThatIsCutShortCanBeUndone(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.PutSender(t.Context(), store.Sender{Code: "skep", Name: "Little Skep"}, "1"))
	require.Panics(t, func() {
		_ = k.ChangeSetting(t.Context(), "sender", "skep", "1", func() error {
			require.NoError(t, k.PutSender(context.Background(), store.Sender{Code: "skep", Name: "Typo"}, "1"))
			panic("the service ends")
		})
	})
	k.Again()
	require.NoError(t, k.UndoSetting(t.Context(), newest(t, k).ID, "1"))
	s, _ := k.Sender("skep")
	require.Equal(t, "Little Skep", s.Name)
}
