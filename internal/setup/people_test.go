package setup

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
)

func TestPeopleAreComparedByTheirEmail(t *testing.T) {
	have := Setup{People: []Person{{Email: "edda@x.example", Name: "Edda", Role: person.Lead}, {Email: "pim@x.example", Name: "Pim",
		Role: person.Clerk}}, Archived: Archived{People: []string{"old@x.example"}}}
	want := Setup{People: []Person{{Email: "pim@x.example", Name: "Pim", Role: person.Packer}, {Email: "runa@x.example", Name: "Runa",
		Role: person.Clerk, Password: "env:RUNA"}, {Email: "old@x.example", Name: "Old", Role: person.Viewer}}}
	var said []string
	for _, c := range Compare(have, want) {
		said = append(said, c.String())
	}
	require.Equal(t, []string{"set  person old@x.example  archived: yes → no",
		"set  person pim@x.example  name and role: Pim, clerk → Pim, packer", "new  person runa@x.example  Runa, clerk"}, said,
		"who is not in the text stays, and no secret is told")
}

func TestTokensAreKnownByTheirNames(t *testing.T) {
	have := Setup{Tokens: []Token{{Name: "display", Role: person.Viewer}, {Name: "night", Role: person.Clerk}}}
	list := Compare(have, Setup{Tokens: []Token{{Name: "display", Role: person.Viewer},
		{Name: "night", Role: person.Lead}, {Name: "new", Role: person.Clerk, Ends: "2099-01-01T00:00:00Z"}}})
	require.Len(t, list, 2)
	require.Equal(t, "see  token night: is there as clerk and stays so; revoke it to have another", list[0].String())
	require.Equal(t, "new  token new  clerk, until 2099-01-01T00:00:00Z", list[1].String())
	at, err := Token{Ends: "2099-01-01T00:00:00Z"}.End()
	require.NoError(t, err)
	require.Equal(t, time.Date(2099, 1, 1, 0, 0, 0, 0, time.UTC), at)
	none, err := Token{}.End()
	require.NoError(t, err)
	require.True(t, none.IsZero())
}

// TestSecretsAreReferredTo of connections, people and tokens alike; what refers to nothing is left out.
func TestSecretsAreReferredTo(t *testing.T) {
	s, err := Parse([]byte(`setup: 1
connections: [{ code: shop, connector: hedgerow, credentials: { token: "env:SHOP" } }]
people: [{ email: " Pim@X.example", name: Pim, role: clerk, password: "env:PIM" }, { email: edda@x.example, name: Edda, role: lead }]
tokens: [{ name: display, role: viewer, secret: "file:/run/display" }, { name: night, role: clerk }]
`))
	require.NoError(t, err)
	require.Equal(t, []Secrets{{"shop", "shop", map[string]string{"token": "env:SHOP"}},
		{"person pim@x.example", "pim@x.example", map[string]string{"password": "env:PIM"}},
		{"token display", "display", map[string]string{"secret": "file:/run/display"}}}, s.Secrets())
	for _, text := range []string{"people: [{ email: p@x.example, name: P, role: clerk, password: hunter2 }]",
		"people: [{ email: p@x.example, name: P, role: clerk, password: \"env:\" }]",
		"tokens: [{ name: t, role: viewer, secret: relay_abc }]",
		"connections: [{ code: a, connector: b, credentials: { k: \"\" } }]"} {
		_, err := Parse([]byte("setup: 1\n" + text))
		require.ErrorIs(t, err, errNoReference, text)
	}
	back, err := s.Text()
	require.NoError(t, err)
	again, err := Parse(back)
	require.NoError(t, err)
	require.Equal(t, s, again)
}
