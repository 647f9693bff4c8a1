package main

import (
	"context"
	"flag"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestEveryPartRuns carries out each part of the bench at its smallest size: what it prints there says nothing of speed,
// only that the part still measures something.
func TestEveryPartRuns(t *testing.T) {
	binary := filepath.Join(t.TempDir(), "openrelay")
	out, err := exec.Command("go", "build", "-o", binary, "openrelay/cmd/openrelay").CombinedOutput()
	require.NoError(t, err, string(out))
	require.NoError(t, flag.Set("test.benchtime", "20x"))
	for _, part := range []struct {
		name  string
		run   func(*bench) error
		least int // figures
	}{
		{"all that make bench measures", func(b *bench) error { return b.run(binary) }, 44},
		{"what needs a large file", func(b *bench) error { return b.runLarge(binary) }, 17},
	} {
		t.Run(part.name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 4*time.Minute)
			defer cancel()
			b := &bench{ctx: ctx, small: true}
			defer b.close()
			require.NoError(t, part.run(b))
			require.GreaterOrEqual(t, len(b.figures), part.least)
			for _, f := range b.figures {
				require.NotEmpty(t, f.Name)
				require.GreaterOrEqual(t, f.Value, 0.0, f.Name)
			}
		})
	}
}
