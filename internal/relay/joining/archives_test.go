package joining_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// withASpare is a company that has one spare of each kind of thing that can be archived.
func withASpare(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	ctx := t.Context()
	require.NoError(t, k.PutPlace(ctx, "shed", joining.Place{Name: "The shed"}, "Edda"))
	require.NoError(t, k.PutSender(ctx, store.Sender{Code: "skep", Name: "Little Skep"}, "Edda"))
	require.NoError(t, k.PutNamedCarrier(ctx, store.NamedCarrier{Code: "barge", Name: "Barge"}, "Edda"))
	require.NoError(t, k.PutProfile(ctx, crate("crate"), "Edda"))
	return k
}

const spares = `setup: 1
archived:
  locations: [shed]
  profiles: [crate]
  senders: [skep]
  carriers: [barge]
`

// plan tells what taking a text over would change.
func plan(t *testing.T, k *trial.Kit, want setup.Setup) string {
	t.Helper()
	changes, err := k.PlanSetup(t.Context(), want, nil)
	require.NoError(t, err)
	var said []string
	for _, c := range changes {
		said = append(said, c.String())
	}
	return strings.Join(said, "\n")
}

// TestArchivedAsText: what a text says is used no more is archived, and what it says is used comes back.
func TestArchivedAsText(t *testing.T) {
	k := withASpare(t)
	ctx := t.Context()
	used, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	want, err := setup.Parse([]byte(spares))
	require.NoError(t, err)
	require.Equal(t, "set  location shed  archived: no → yes\nset  parcel profile crate  archived: no → yes\n"+
		"set  sender skep  archived: no → yes\nset  carrier barge  archived: no → yes", plan(t, k, want))
	_, err = k.ApplySetup(ctx, want, nil, "Edda")
	require.NoError(t, err)
	require.Empty(t, plan(t, k, want), "a second time changes nothing")
	out, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	require.Equal(t, want.Archived, out.Archived)
	text, err := out.Text()
	require.NoError(t, err)
	again, err := setup.Parse(text)
	require.NoError(t, err)
	require.Empty(t, plan(t, k, again), "what is written is what is")

	require.Equal(t, "set  location shed  archived: yes → no\nset  parcel profile crate  archived: yes → no\n"+
		"set  sender skep  archived: yes → no\nset  carrier barge  archived: yes → no", plan(t, k, used))
	_, err = k.ApplySetup(ctx, used, nil, "Edda")
	require.NoError(t, err)
	require.Empty(t, plan(t, k, used))
	out, err = k.ExportSetup(ctx)
	require.NoError(t, err)
	require.Zero(t, out.Archived)
}

// TestArchivedIsRefusedWhereItIsNamed: the preview says so first, and what is named stays in use.
func TestArchivedIsRefusedWhereItIsNamed(t *testing.T) {
	k := withASpare(t)
	require.NoError(t, k.Rule(`location("shed")`))
	want, err := setup.Parse([]byte("setup: 1\narchived: {locations: [shed, nowhere], senders: [skep]}\n"))
	require.NoError(t, err)
	told := plan(t, k, want)
	require.Contains(t, told, "see  location shed: cannot be archived now: the rule “By itself: location(\"shed\")” names shed")
	require.Contains(t, told, "see  location nowhere: is to be archived, and is not there")
	_, err = k.ApplySetup(t.Context(), want, nil, "Edda")
	require.ErrorContains(t, err, "archived: location shed: the rule")
	at, err := k.Location("shed")
	require.NoError(t, err)
	require.Zero(t, at.ArchivedAt)
}
