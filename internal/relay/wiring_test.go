package relay

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// What a room marks is settled by somebody, each kind of message has its handler, and each kind of job its step.
func TestNothingIsLeftUnanswered(t *testing.T) {
	st, err := store.Open(t.Context(), filepath.Join(t.TempDir(), "company.db"))
	require.NoError(t, err)
	defer st.Close()
	r, err := Open(t.Context(), st, engine.Options{})
	require.NoError(t, err)
	require.Empty(t, r.Unsettled())
	for _, kind := range engine.JobKinds {
		require.NotNil(t, r.JobSteps[kind], "nobody works on jobs of the kind %q", kind)
	}
}
