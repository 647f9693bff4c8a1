package people_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// peopled is a company that Edda leads and for which Pim works.
func peopled(t *testing.T) (k *trial.Kit, edda, pim int64) {
	t.Helper()
	k = trial.New(t)
	edda, err := k.AddPerson(t.Context(), people.NewPerson{Name: "Edda", Email: "edda@morrow.example", Password: "honeycomb"}, person.Lead,
		"test")
	require.NoError(t, err)
	pim, err = k.AddPerson(t.Context(), people.NewPerson{Name: "Pim", Email: " Pim@morrow.example", Password: "beekeeper"}, person.Clerk,
		"Edda")
	require.NoError(t, err)
	return k, edda, pim
}

// user is what is kept of a person.
func user(t *testing.T, k *trial.Kit, id int64) store.User {
	t.Helper()
	u, err := k.Store.User(t.Context(), id)
	require.NoError(t, err)
	return u
}

// TestPeopleComeAndGo: who has left signs in no more, what they did keeps their name, and they may come back.
func TestPeopleComeAndGo(t *testing.T) {
	k, edda, pim := peopled(t)
	ctx := t.Context()
	_, err := k.AddPerson(ctx, people.NewPerson{Name: "Pim again", Email: "PIM@morrow.example", Password: "beekeeper"}, person.Viewer,
		"Edda")
	require.ErrorContains(t, err, "Pim signs in as pim@morrow.example already")
	in, err := k.SignIn(ctx, "PIM@morrow.example ", "beekeeper", "")
	require.NoError(t, err)
	require.Equal(t, pim, in.ID)
	require.NotZero(t, user(t, k, pim).SignedInAt)
	before := user(t, k, pim).Epoch
	require.NoError(t, k.LeavePerson(ctx, pim, true, "Edda"))
	require.Greater(t, user(t, k, pim).Epoch, before, "all sessions end")
	in, err = k.SignIn(ctx, "pim@morrow.example", "beekeeper", "")
	require.NoError(t, err)
	require.Nil(t, in)
	require.NoError(t, k.LeavePerson(ctx, pim, false, "Edda"))
	in, err = k.SignIn(ctx, "pim@morrow.example", "beekeeper", "")
	require.NoError(t, err)
	require.NotNil(t, in)
	require.ErrorContains(t, k.LeavePerson(ctx, edda, true, "Edda"), "Edda is the last with the role lead")
	require.ErrorIs(t, k.LeavePerson(ctx, 999, true, "Edda"), store.ErrNotFound)
	list, err := k.Store.Activity(ctx, store.ActivityFilter{Thing: "person", Limit: 10})
	require.NoError(t, err)
	require.Equal(t, "Pim may sign in again", list[0].Text)
}

// TestWhatIsChangedOfAPerson: another role or password ends their sessions, another name does not; the last who leads keeps that.
func TestWhatIsChangedOfAPerson(t *testing.T) {
	k, edda, pim := peopled(t)
	ctx := t.Context()
	change := func(id int64, p people.PersonChange) error { return k.ChangePerson(ctx, id, p, "Edda") }
	require.NoError(t, change(pim, people.PersonChange{Name: "Pim Oster", Email: "oster@morrow.example"}))
	u := user(t, k, pim)
	require.Equal(t, []any{"Pim Oster", "oster@morrow.example", person.Clerk, int64(0)}, []any{u.Name, u.Email, u.Role, u.Epoch})
	require.NoError(t, change(pim, people.PersonChange{Role: person.Viewer}))
	require.Equal(t, int64(1), user(t, k, pim).Epoch)
	require.NoError(t, change(pim, people.PersonChange{Password: "beekeeper2"}))
	require.Equal(t, int64(2), user(t, k, pim).Epoch)
	require.NoError(t, k.EndSessions(ctx, pim, "Edda"))
	require.Equal(t, int64(3), user(t, k, pim).Epoch)
	in, err := k.SignIn(ctx, "oster@morrow.example", "beekeeper2", "")
	require.NoError(t, err)
	require.NotNil(t, in)
	for words, err := range map[string]error{
		"password: at least 8":                         change(pim, people.PersonChange{Password: "short"}),
		"email: an address":                            change(pim, people.PersonChange{Email: "nowhere"}),
		"Edda signs in as edda@morrow.example already": change(pim, people.PersonChange{Email: "EDDA@morrow.example"}),
		`role "king" is none of viewer`:                change(pim, people.PersonChange{Role: "king"}),
		"Edda is the last with the role lead; give it": change(edda, people.PersonChange{Role: person.Viewer}),
	} {
		require.ErrorContains(t, err, words)
	}
	require.NoError(t, change(pim, people.PersonChange{Role: person.Lead}))
	require.NoError(t, change(edda, people.PersonChange{Role: person.Viewer}), "there is another now")
}

// TestOnesOwnPassword: only who knows the old one changes it.
func TestOnesOwnPassword(t *testing.T) {
	k, _, pim := peopled(t)
	ctx := t.Context()
	require.ErrorContains(t, k.OwnPassword(ctx, pim, "guessed!", "beekeeper2"), "old: that is not your password")
	require.ErrorContains(t, k.OwnPassword(ctx, pim, "beekeeper", "short"), "at least 8")
	require.NoError(t, k.OwnPassword(ctx, pim, "beekeeper", "beekeeper2"))
	require.Equal(t, int64(1), user(t, k, pim).Epoch)
	in, err := k.SignIn(ctx, "pim@morrow.example", "beekeeper", "")
	require.NoError(t, err)
	require.Nil(t, in)
}

// TestTokensEnd: by their time, or at once when they are revoked; their last use is noted, at most hourly.
func TestTokensEnd(t *testing.T) {
	k, _, _ := peopled(t)
	ctx := t.Context()
	id, secret, err := k.MakeToken(ctx, "label printer", person.Clerk, k.Now().Add(24*time.Hour), "Edda")
	require.NoError(t, err)
	tok, err := k.TokenFor(ctx, secret)
	require.NoError(t, err)
	require.Equal(t, []any{id, "label printer", person.Clerk, "Edda"}, []any{tok.ID, tok.Name, tok.Role, tok.MadeBy})
	used := func() int64 {
		list, err := k.Store.Tokens(ctx)
		require.NoError(t, err)
		return list[0].UsedAt
	}
	first := used()
	require.NotZero(t, first)
	k.Later(10 * time.Minute)
	_, err = k.TokenFor(ctx, secret)
	require.NoError(t, err)
	require.Equal(t, first, used())
	k.Later(time.Hour)
	_, err = k.TokenFor(ctx, secret)
	require.NoError(t, err)
	require.Greater(t, used(), first)
	k.Later(24 * time.Hour)
	_, err = k.TokenFor(ctx, secret)
	require.ErrorIs(t, err, store.ErrNotFound, "its time is over")

	id, secret, err = k.MakeToken(ctx, "scale", person.Viewer, time.Time{}, "Edda")
	require.NoError(t, err)
	require.NoError(t, k.RevokeToken(ctx, id, "Edda"))
	_, err = k.TokenFor(ctx, secret)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.ErrorIs(t, k.RevokeToken(ctx, 999, "Edda"), store.ErrNotFound)
	_, _, err = k.MakeToken(ctx, " ", person.Viewer, time.Time{}, "Edda")
	require.ErrorContains(t, err, "name: missing")
	_, _, err = k.MakeToken(ctx, "late", person.Viewer, k.Now().Add(-time.Hour), "Edda")
	require.ErrorContains(t, err, "is over already")
	_, _, err = k.MakeToken(ctx, "king", "king", time.Time{}, "Edda")
	require.ErrorContains(t, err, "role")
}

// TestAChangeOfAPersonIsUndone: of name and role, and that they left; what they may do follows at once.
func TestAChangeOfAPersonIsUndone(t *testing.T) {
	k, edda, pim := peopled(t)
	ctx, code := t.Context(), engine.PersonKey(pim)
	was := user(t, k, pim)
	undo := func() error {
		list, err := k.Store.SettingChanges(ctx, []string{"person"}, 0, 1)
		require.NoError(t, err)
		require.NotEmpty(t, list)
		return k.UndoSetting(ctx, list[0].ID, engine.PersonKey(edda))
	}
	require.NoError(t, k.ChangeSetting(ctx, "person", code, "1", func() error {
		return k.ChangePerson(ctx, pim, people.PersonChange{Name: "Pim Oster", Role: person.Lead}, "1")
	}))
	require.NoError(t, undo())
	now := user(t, k, pim)
	require.Equal(t, []any{was.Name, was.Role}, []any{now.Name, now.Role})
	require.NoError(t, k.ChangeSetting(ctx, "person", code, "1", func() error { return k.LeavePerson(ctx, pim, true, "1") }))
	require.NotZero(t, user(t, k, pim).LeftAt)
	require.NoError(t, undo())
	require.Zero(t, user(t, k, pim).LeftAt)
	require.NoError(t, undo(), "and away again")
	require.NotZero(t, user(t, k, pim).LeftAt)
	require.NoError(t, k.ChangeSetting(ctx, "person", "999", "1", func() error { return nil }), "nobody: nothing is kept")
}
