package textual

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

func TestClip(t *testing.T) {
	require.Equal(t, "short", Clip("short", 5))
	require.Equal(t, "sho…", Clip("shorter", 6))
	require.Equal(t, "🐝…", Clip("🐝🐝🐝", 8), "no half character")
	require.Equal(t, "…", Clip("🐝🐝", 5))
}

func FuzzClip(f *testing.F) {
	f.Add("🐝 and more", 7)
	f.Fuzz(func(t *testing.T, s string, most int) {
		if most < 3 || most > 1<<20 || !utf8.ValidString(s) {
			return
		}
		out := Clip(s, most)
		require.LessOrEqual(t, len(out), most)
		require.True(t, utf8.ValidString(out))
		require.True(t, strings.HasPrefix(s, strings.TrimSuffix(out, "…")))
	})
}
