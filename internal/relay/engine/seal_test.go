package engine_test

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
)

func TestCredentialsAreSealed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.key")
	s, err := engine.OpenSealer(path, false)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	box, err := s.Seal(map[string]string{"token": "hr_secret"})
	require.NoError(t, err)
	require.False(t, bytes.Contains(box, []byte("hr_secret")))
	again, err := engine.OpenSealer(path, false)
	require.NoError(t, err)
	got, err := again.Open(box)
	require.NoError(t, err)
	require.Equal(t, "hr_secret", got["token"])

	box[len(box)-1] ^= 1
	_, err = again.Open(box)
	require.ErrorContains(t, err, "cannot be opened")
	other, err := engine.OpenSealer(filepath.Join(t.TempDir(), "y.key"), false)
	require.NoError(t, err)
	box[len(box)-1] ^= 1
	_, err = other.Open(box)
	require.ErrorContains(t, err, "cannot be opened")
	require.NoError(t, os.Chmod(path, 0o644))
	_, err = engine.OpenSealer(path, false)
	require.ErrorContains(t, err, "can be read by others")
}

func TestPasswords(t *testing.T) {
	h := people.HashPassword("honeycomb")
	require.True(t, people.PasswordFits(h, "honeycomb"))
	require.False(t, people.PasswordFits(h, "honeycomB"))
	require.False(t, people.PasswordFits("", "x"))
	require.False(t, people.PasswordFits("$argon2id$v=19$m=x$y$z", "x"))
	require.NotEqual(t, h, people.HashPassword("honeycomb"), "salted")
}

func TestDelayGrowsAndStaysBounded(t *testing.T) {
	for i := range 50 {
		require.Less(t, engine.Delay(1, fmt.Sprint(i)).Seconds(), 0.7)
		require.Greater(t, engine.Delay(4, fmt.Sprint(i)).Seconds(), 2.5)
		require.LessOrEqual(t, engine.Delay(12, fmt.Sprint(i)).Minutes(), 6.5)
	}
}

// TestALostKeyIsNotMadeAnew: where something is sealed, a new key would make it unreadable for ever; nothing is sealed in a new
// file, and a company that has joined nothing needs none.
func TestALostKeyIsNotMadeAnew(t *testing.T) {
	path := filepath.Join(t.TempDir(), "company.relay.key")
	_, err := engine.OpenSealer(path, true)
	require.ErrorIs(t, err, engine.ErrNoKey)
	require.ErrorContains(t, err, path)
	require.NoFileExists(t, path)
	_, err = engine.OpenSealer(path, false)
	require.NoError(t, err)
	_, err = engine.OpenSealer(path, true)
	require.NoError(t, err)
}
