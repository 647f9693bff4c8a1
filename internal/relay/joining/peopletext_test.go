package joining_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
)

const staff = `setup: 1
people:
  - { email: " Edda@Morrow.example", name: Edda Quillon, role: lead }
  - { email: pim@morrow.example, name: Pim, role: packer, password: "env:PIM" }
  - { email: runa@morrow.example, name: Runa, role: clerk }
tokens:
  - { name: shelf display, role: viewer, ends: 2099-01-31T18:00:00Z }
  - { name: night run, role: clerk, secret: "env:NIGHT" }
`

func told(list []setup.Change) string {
	var lines []string
	for _, c := range list {
		lines = append(lines, c.String())
	}
	return strings.Join(lines, "\n")
}

// TestPeopleAndTokensStandInASetUp: who is not there comes, with a password that is given or made up; who is there keeps theirs.
func TestPeopleAndTokensStandInASetUp(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	_, err := k.AddPerson(ctx, people.NewPerson{Name: "Edda", Email: "edda@morrow.example", Password: "honeycomb"}, person.Clerk, "x")
	require.NoError(t, err)
	s, err := joining.ReadSetup(staff)
	require.NoError(t, err)
	secrets := map[string]map[string]string{"person pim@morrow.example": {"password": "beekeeper"},
		"token night run": {"secret": "a-secret-of-the-night-run"}}
	list, err := k.PlanSetup(ctx, s, secrets)
	require.NoError(t, err)
	require.Equal(t, `set  person edda@morrow.example  name and role: Edda, clerk → Edda Quillon, lead
new  person pim@morrow.example  Pim, packer
new  person runa@morrow.example  Runa, clerk
new  token shelf display  viewer, until 2099-01-31T18:00:00Z
new  token night run  clerk
see  person runa@morrow.example: its password is made up and shown once
see  token shelf display: its secret is made up and shown once`, told(list))

	out, err := k.ApplySetup(ctx, s, secrets, "Edda")
	require.NoError(t, err)
	require.Len(t, out.Given, 2, "nothing that was given is shown")
	for email, password := range map[string]string{"edda@morrow.example": "honeycomb", "pim@morrow.example": "beekeeper",
		"runa@morrow.example": out.Given["person runa@morrow.example"]["password"]} {
		u, err := k.SignIn(ctx, email, password, "")
		require.NoError(t, err)
		require.NotNil(t, u, email)
	}
	display, err := k.TokenFor(ctx, out.Given["token shelf display"]["secret"])
	require.NoError(t, err)
	require.Equal(t, person.Viewer, display.Role)
	require.NotZero(t, display.EndsAt)
	_, err = k.TokenFor(ctx, "a-secret-of-the-night-run")
	require.NoError(t, err)

	list, err = k.PlanSetup(ctx, s, nil)
	require.NoError(t, err)
	require.Empty(t, told(list), "taken over again, nothing changes")
	back, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	text, err := back.Text()
	require.NoError(t, err)
	for _, secret := range []string{"beekeeper", "honeycomb", "a-secret", out.Given["token shelf display"]["secret"]} {
		require.NotContains(t, string(text), secret)
	}
	require.Contains(t, string(text), "email: runa@morrow.example")
	k.Holds()
}

// TestWhoLeftStandsInASetUp, and comes back where the text says so; the last who leads stays.
func TestWhoLeftStandsInASetUp(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	s, err := joining.ReadSetup(staff)
	require.NoError(t, err)
	_, err = k.ApplySetup(ctx, s, nil, "Edda")
	require.NoError(t, err)
	apply := func(text string) (string, error) {
		s, err := joining.ReadSetup("setup: 1\n" + text)
		require.NoError(t, err)
		list, err := k.PlanSetup(ctx, s, nil)
		require.NoError(t, err)
		_, err = k.ApplySetup(ctx, s, nil, "Edda")
		return told(list), err
	}
	left := func(email string) bool {
		u, err := k.Store.UserByEmail(ctx, email)
		require.NoError(t, err)
		return u.LeftAt != 0
	}
	said, err := apply("archived: { people: [Pim@morrow.example] }")
	require.NoError(t, err)
	require.Equal(t, "set  person pim@morrow.example  archived: no → yes", said)
	require.True(t, left("pim@morrow.example"))
	back, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	require.Equal(t, []string{"pim@morrow.example"}, back.Archived.People)
	said, err = apply("people: [{ email: pim@morrow.example, name: Pim, role: packer }]")
	require.NoError(t, err)
	require.Equal(t, "set  person pim@morrow.example  archived: yes → no", said)
	require.False(t, left("pim@morrow.example"))

	said, err = apply("archived: { people: [edda@morrow.example] }")
	require.ErrorContains(t, err, "give it to somebody else first")
	require.Contains(t, said, "cannot be archived now: Edda Quillon is the last")
	said, err = apply("people: [{ email: runa@morrow.example, name: Runa, role: lead }]\narchived: { people: [edda@morrow.example] }")
	require.NoError(t, err)
	require.NotContains(t, said, "cannot")
	require.True(t, left("edda@morrow.example"))
}

// TestWhatCannotBeTakenOverOfPeople is said before anything is changed.
func TestWhatCannotBeTakenOverOfPeople(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	for text, says := range map[string]string{
		"people: [{ email: pim@x.example, name: Pim, role: baker }]":                                  `role "baker" is none of`,
		"people: [{ email: pim@x.example, name: Pim, role: clerk, password: honey }]":                 "secrets do not stand in a set-up",
		"people: [{ name: Pim, role: clerk }]":                                                        "people: one has no code",
		"tokens: [{ name: a, role: viewer, ends: tomorrow }]":                                         "a time such as",
		"tokens: [{ name: a, role: viewer }, { name: a, role: clerk }]":                               "a stands twice",
		"tokens: [{ name: a, role: viewer, secret: relay_1234567890123456789 }]":                      "secrets do not stand",
		"people: [{ email: p@x.example, name: P, role: clerk }]\narchived: { people: [P@x.example] }": "it is used or it is not",
	} {
		_, err := joining.ReadSetup("setup: 1\n" + text)
		require.ErrorContains(t, err, says, text)
	}
	for text, says := range map[string]string{
		"people: [{ email: pim, name: Pim, role: clerk }]":                                "an address such as",
		"people: [{ email: pim@x.example, role: clerk }]":                                 "name: missing",
		"people: [{ email: pim@x.example, name: Pim, role: clerk, password: \"env:P\" }]": "at least 8 characters",
		"tokens: [{ name: a, role: viewer, ends: 2001-01-01T00:00:00Z }]":                 "is over already",
	} {
		s, err := joining.ReadSetup("setup: 1\nlocations: [{ code: shed, name: The shed }]\n" + text)
		require.NoError(t, err, text)
		_, err = k.ApplySetup(ctx, s, map[string]map[string]string{"person pim@x.example": {"password": "short"}}, "Edda")
		require.ErrorContains(t, err, says, text)
		_, err = k.Location("shed")
		require.ErrorContains(t, err, "is not known", "nothing was changed")
	}
	list, err := k.PlanSetup(ctx, setup.Setup{Tokens: []setup.Token{{Name: "t", Role: person.Viewer}}}, nil)
	require.NoError(t, err)
	require.Len(t, list, 2)
	_, err = k.NewToken(ctx, "t", person.Clerk)
	require.NoError(t, err)
	list, err = k.PlanSetup(ctx, setup.Setup{Tokens: []setup.Token{{Name: "t", Role: person.Viewer}}}, nil)
	require.NoError(t, err)
	require.Equal(t, "see  token t: is there as clerk and stays so; revoke it to have another", told(list))
}
