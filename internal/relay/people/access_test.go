package people_test

import (
	"strings"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// code is what an authenticator shows now.
func code(t *testing.T, k *trial.Kit, secret string) string {
	t.Helper()
	text, err := totp.GenerateCode(secret, k.Now())
	require.NoError(t, err)
	return text
}

// factored is a company in which Pim has a second factor.
func factored(t *testing.T) (k *trial.Kit, pim int64, secret string, recovery []string) {
	t.Helper()
	k, _, pim = peopled(t)
	p, err := k.ProposeFactor(t.Context(), pim)
	require.NoError(t, err)
	require.True(t, strings.HasPrefix(p.Address, "otpauth://totp/"), p.Address)
	require.True(t, strings.HasPrefix(p.Picture, "data:image/png;base64,"))
	recovery, err = k.ConfirmFactor(t.Context(), pim, code(t, k, p.Secret))
	require.NoError(t, err)
	require.Len(t, recovery, 10)
	k.Later(time.Minute)
	return k, pim, p.Secret, recovery
}

func signIn(t *testing.T, k *trial.Kit, code string) (*store.User, error) {
	t.Helper()
	return k.SignIn(t.Context(), "pim@morrow.example", "beekeeper", code)
}

// TestASecondFactorIsAskedFor once it counts; each code is good once, also of those that stand in for it.
func TestASecondFactorIsAskedFor(t *testing.T) {
	k, pim, secret, recovery := factored(t)
	ctx := t.Context()
	_, err := signIn(t, k, "")
	require.ErrorIs(t, err, people.ErrCode)
	u, err := k.SignIn(ctx, "pim@morrow.example", "wrong", code(t, k, secret))
	require.NoError(t, err)
	require.Nil(t, u, "whether there is a second factor is not told to who has no password")
	now := code(t, k, secret)
	u, err = signIn(t, k, now[:3]+" "+now[3:])
	require.NoError(t, err)
	require.Equal(t, pim, u.ID)
	_, err = signIn(t, k, now)
	require.ErrorIs(t, err, people.ErrCode, "seen over somebody's shoulder")
	k.Later(time.Minute)
	late := code(t, k, secret)
	k.Later(30 * time.Second)
	u, err = signIn(t, k, late)
	require.NoError(t, err, "a clock may be a little off")
	require.NotNil(t, u)
	for _, bad := range []string{"000000", "12", "not a code", strings.Repeat("9", 40)} {
		_, err = signIn(t, k, bad)
		require.ErrorIs(t, err, people.ErrCode, bad)
	}
	u, err = signIn(t, k, strings.ToUpper(recovery[0]))
	require.NoError(t, err)
	require.NotNil(t, u)
	_, err = signIn(t, k, recovery[0])
	require.ErrorIs(t, err, people.ErrCode)
	f, err := k.Factor(ctx, pim)
	require.NoError(t, err)
	require.True(t, f.On)
	require.EqualValues(t, 9, f.Left)

	fresh, err := k.NewRecoveryCodes(ctx, pim, "beekeeper")
	require.NoError(t, err)
	_, err = signIn(t, k, recovery[1])
	require.ErrorIs(t, err, people.ErrCode, "the old ones ended")
	_, err = signIn(t, k, fresh[1])
	require.NoError(t, err)
	_, err = k.NewRecoveryCodes(ctx, pim, "guessed")
	require.ErrorContains(t, err, "not your password")
}

// TestASecondFactorThatWasNotConfirmedCountsForNothing, and one that counts is not replaced unseen.
func TestASecondFactorThatWasNotConfirmed(t *testing.T) {
	k, edda, pim := peopled(t)
	ctx := t.Context()
	_, err := k.ConfirmFactor(ctx, pim, "123456")
	require.ErrorContains(t, err, "secret first")
	p, err := k.ProposeFactor(ctx, pim)
	require.NoError(t, err)
	_, err = k.ConfirmFactor(ctx, pim, "000000")
	require.ErrorContains(t, err, "does not fit")
	u, err := signIn(t, k, "")
	require.NoError(t, err)
	require.NotNil(t, u)
	_, err = k.ConfirmFactor(ctx, pim, code(t, k, p.Secret))
	require.NoError(t, err)
	_, err = k.ProposeFactor(ctx, pim)
	require.ErrorContains(t, err, "give it up first")
	_, err = k.NewRecoveryCodes(ctx, edda, "honeycomb")
	require.ErrorContains(t, err, "no second factor")
	var kept string
	k.Scalar(&kept, "SELECT hex(totp) FROM user WHERE totp_at<>0")
	require.NotContains(t, kept, p.Secret)
}

// TestTheCompanyDemandsASecondFactor: then nobody gives theirs up; whoever lost it is helped by who leads.
func TestTheCompanyDemandsASecondFactor(t *testing.T) {
	k, pim, secret, _ := factored(t)
	ctx := t.Context()
	require.ErrorContains(t, k.SetFactorTerms(ctx, people.FactorTerms{Of: "cats"}, "Edda"), "one of")
	require.NoError(t, k.SetFactorTerms(ctx, people.FactorTerms{Of: "leads"}, "Edda"))
	for role, want := range map[person.Role]bool{person.Lead: true, person.Clerk: false} {
		got, err := k.FactorDemanded(ctx, role)
		require.NoError(t, err)
		require.Equal(t, want, got, role)
	}
	require.NoError(t, k.SetFactorTerms(ctx, people.FactorTerms{Of: "everybody"}, "Edda"))
	require.ErrorContains(t, k.DropFactor(ctx, pim, "beekeeper"), "demands a second factor")
	require.NoError(t, k.ResetFactor(ctx, pim, "Edda"))
	u, err := signIn(t, k, "")
	require.NoError(t, err)
	require.NotNil(t, u)
	require.NoError(t, k.SetFactorTerms(ctx, people.FactorTerms{Of: "nobody"}, "Edda"))
	p, err := k.ProposeFactor(ctx, pim)
	require.NoError(t, err)
	require.NotEqual(t, secret, p.Secret)
	_, err = k.ConfirmFactor(ctx, pim, code(t, k, p.Secret))
	require.NoError(t, err)
	require.ErrorContains(t, k.DropFactor(ctx, pim, "wrong"), "not your password")
	require.NoError(t, k.DropFactor(ctx, pim, "beekeeper"))

	list, err := k.Store.SecurityEvents(ctx, 0, 100)
	require.NoError(t, err)
	var texts []string
	for _, e := range list {
		texts = append(texts, e.Kind+": "+e.Text)
	}
	require.Contains(t, texts, "terms: a second factor is demanded of everybody")
	require.Contains(t, texts, "second factor: Pim has no second factor any more")
	require.Contains(t, texts, "added: Pim added, as clerk")
}

// TestSessionsOfAPerson are seen and ended one by one; a new password ends them all.
func TestSessionsOfAPerson(t *testing.T) {
	k, _, pim := peopled(t)
	ctx := t.Context()
	u := user(t, k, pim)
	one, err := k.BeginSession(ctx, u, "10.0.0.7", "A browser")
	require.NoError(t, err)
	_, err = k.BeginSession(ctx, u, "10.0.0.8", "Another")
	require.NoError(t, err)
	require.ErrorIs(t, k.EndSession(ctx, 99, one, "Edda"), store.ErrNotFound, "of somebody else")
	require.NoError(t, k.EndSession(ctx, pim, one, "Edda"))
	require.ErrorIs(t, k.EndSession(ctx, pim, one, "Edda"), store.ErrNotFound)
	list, err := k.Store.UserSessions(ctx, pim)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "10.0.0.8", list[0].Source)
	require.NoError(t, k.OwnPassword(ctx, pim, "beekeeper", "beekeeper2"))
	list, err = k.Store.UserSessions(ctx, pim)
	require.NoError(t, err)
	require.Empty(t, list)
}
