package whole

import (
	"io"
	"log/slog"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/demo"
	"openrelay/internal/wire"
)

// openWorld opens the demo company for one test. Tests that wait for something most of the time run
// beside each other.
func openWorld(t *testing.T, seed bool) *demo.World {
	t.Helper()
	if !seed {
		t.Parallel()
	}
	w, err := demo.Open(t.Context(), demo.Options{Addrs: demo.FreePorts, File: filepath.Join(t.TempDir(), "company.relay")})
	require.NoError(t, err)
	t.Cleanup(w.Close)
	if seed {
		require.NoError(t, w.Seed(t.Context()))
	}
	return w
}

type (
	apiRun       = wire.Run
	apiException = wire.Exception
)

// journal is a log that can be read while it is written.
type journal struct {
	mu  sync.Mutex
	buf strings.Builder
}

func (j *journal) Write(b []byte) (int, error) {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.buf.Write(b)
}

func (j *journal) String() string {
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.buf.String()
}

// openWorldLogging is a world whose log can be read.
func openWorldLogging(t *testing.T, log io.Writer) *demo.World {
	t.Helper()
	t.Parallel()
	w, err := demo.Open(t.Context(), demo.Options{Addrs: demo.FreePorts, File: filepath.Join(t.TempDir(), "company.relay"),
		Log: slog.New(slog.NewTextHandler(log, nil))})
	require.NoError(t, err)
	t.Cleanup(w.Close)
	return w
}
