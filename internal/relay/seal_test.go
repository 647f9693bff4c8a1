package relay

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCredentialsAreSealed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.key")
	s, err := openSealer(path)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	box, err := s.seal(map[string]string{"token": "hr_secret"})
	require.NoError(t, err)
	require.False(t, bytes.Contains(box, []byte("hr_secret")))
	again, err := openSealer(path)
	require.NoError(t, err)
	got, err := again.open(box)
	require.NoError(t, err)
	require.Equal(t, "hr_secret", got["token"])

	box[len(box)-1] ^= 1
	_, err = again.open(box)
	require.ErrorContains(t, err, "cannot be opened")
	other, err := openSealer(filepath.Join(t.TempDir(), "y.key"))
	require.NoError(t, err)
	box[len(box)-1] ^= 1
	_, err = other.open(box)
	require.ErrorContains(t, err, "cannot be opened")
	require.NoError(t, os.Chmod(path, 0o644))
	_, err = openSealer(path)
	require.ErrorContains(t, err, "can be read by others")
}

func TestPasswords(t *testing.T) {
	h := hashPassword("honeycomb")
	require.True(t, passwordFits(h, "honeycomb"))
	require.False(t, passwordFits(h, "honeycomB"))
	require.False(t, passwordFits("", "x"))
	require.False(t, passwordFits("$argon2id$v=19$m=x$y$z", "x"))
	require.NotEqual(t, h, hashPassword("honeycomb"), "salted")
}

func TestDelayGrowsAndStaysBounded(t *testing.T) {
	for i := range 50 {
		require.Less(t, delay(1, fmt.Sprint(i)).Seconds(), 0.7)
		require.Greater(t, delay(4, fmt.Sprint(i)).Seconds(), 2.5)
		require.LessOrEqual(t, delay(12, fmt.Sprint(i)).Minutes(), 6.5)
	}
}
