package seal_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/seal"
)

func secret(t *testing.T, r *seal.Ring, text string) []byte {
	t.Helper()
	box, err := r.Seal(map[string]string{"token": text})
	require.NoError(t, err)
	require.False(t, bytes.Contains(box, []byte(text)))
	return box
}

func opens(t *testing.T, r *seal.Ring, box []byte, want string) {
	t.Helper()
	got, err := r.Open(box)
	require.NoError(t, err)
	require.Equal(t, want, got["token"])
}

func TestSecretsAreSealed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.key")
	r, err := seal.Open(path, false)
	require.NoError(t, err)
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	box := secret(t, r, "hr_secret")
	again, err := seal.Open(path, true)
	require.NoError(t, err)
	opens(t, again, box, "hr_secret")
	none, err := r.Open(nil)
	require.NoError(t, err)
	require.Nil(t, none)

	box[len(box)-1] ^= 1
	_, err = again.Open(box)
	require.ErrorContains(t, err, "cannot be opened")
	box[len(box)-1] ^= 1
	other, err := seal.Open(filepath.Join(t.TempDir(), "y.key"), false)
	require.NoError(t, err)
	for _, bad := range [][]byte{box, {1}, box[:6], box[:10], []byte("plain text, never sealed")} {
		_, err = other.Open(bad)
		require.ErrorContains(t, err, "cannot be opened")
	}
	require.NoError(t, os.Chmod(path, 0o644))
	_, err = seal.Open(path, false)
	require.ErrorContains(t, err, "can be read by others")
}

// TestKeysTakeOver: what an older key sealed can be opened and sealed anew; the key before the last still opens. The key of a
// company from before keys had numbers is number 0.
func TestKeysTakeOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "x.key")
	require.NoError(t, os.WriteFile(path, bytes.Repeat([]byte{7}, 32), 0o600))
	r, err := seal.Open(path, true)
	require.NoError(t, err)
	require.EqualValues(t, 0, r.Current())
	old := secret(t, r, "from before")
	id, err := r.Add()
	require.NoError(t, err)
	require.EqualValues(t, 1, id)
	opens(t, r, old, "from before")
	fresh, done, err := r.Again(old)
	require.NoError(t, err)
	require.False(t, done)
	same, done, err := r.Again(fresh)
	require.NoError(t, err)
	require.True(t, done)
	require.Equal(t, fresh, same)

	require.NoError(t, r.Forget())
	again, err := seal.Open(path, true)
	require.NoError(t, err)
	opens(t, again, fresh, "from before")
	opens(t, again, old, "from before") // it may have been sealed a moment before the new key came
	next, err := again.Add()
	require.NoError(t, err)
	require.EqualValues(t, 2, next, "numbers are not used twice")
	require.NoError(t, again.Forget())
	opens(t, again, fresh, "from before")
	_, err = again.Open(old)
	require.ErrorContains(t, err, "cannot be opened")
	_, _, err = again.Again(old)
	require.Error(t, err)
}

func TestFilesThatAreNoKeys(t *testing.T) {
	dir := t.TempDir()
	_, err := seal.Open(filepath.Join(dir, "gone.key"), true)
	require.ErrorIs(t, err, seal.ErrNoKey)
	for name, text := range map[string]string{"short": "abc", "text": "these are words\n", "half": "1 AAAA\n", "empty": ""} {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		_, err := seal.Open(path, true)
		require.Error(t, err, name)
	}
	_, err = seal.Open(filepath.Join(dir, "no", "such", "folder.key"), false)
	require.ErrorContains(t, err, "write the keys")
	require.Error(t, seal.Restore(filepath.Join(dir, "new"), "nonsense"))
	require.ErrorContains(t, seal.Restore(filepath.Join(dir, "short"), "1 "+strings.Repeat("A", 43)+"=\n"), "there already")
}

func TestAPassphraseLocks(t *testing.T) {
	_, err := seal.Lock("keys", "short")
	require.ErrorContains(t, err, "too short")
	l, err := seal.Lock("1 the keys", "a long passphrase")
	require.NoError(t, err)
	require.NotContains(t, string(l.Box), "keys")
	got, err := l.Unlock("a long passphrase")
	require.NoError(t, err)
	require.Equal(t, "1 the keys", got)
	for _, wrong := range []string{"", "a long passphrasE"} {
		_, err = l.Unlock(wrong)
		require.ErrorIs(t, err, seal.ErrPassphrase)
	}
	_, err = seal.Locked{}.Unlock("a long passphrase")
	require.ErrorIs(t, err, seal.ErrPassphrase)
}

// TestALostKeyIsNotMadeAnew: where something is sealed, a new key would make it unreadable for ever; nothing is sealed in a new
// file, and a company that has joined nothing needs none.
func TestALostKeyIsNotMadeAnew(t *testing.T) {
	path := filepath.Join(t.TempDir(), "company.relay.key")
	_, err := seal.Open(path, true)
	require.ErrorIs(t, err, seal.ErrNoKey)
	require.ErrorContains(t, err, path)
	require.NoFileExists(t, path)
	_, err = seal.Open(path, false)
	require.NoError(t, err)
	_, err = seal.Open(path, true)
	require.NoError(t, err)
}

// TestMarks are the same for the same texts, and tell nothing to whoever lacks the key.
func TestMarks(t *testing.T) {
	r, err := seal.Open(filepath.Join(t.TempDir(), "key"), false)
	require.NoError(t, err)
	other, err := seal.Open(filepath.Join(t.TempDir(), "key"), false)
	require.NoError(t, err)
	mark := r.Mark("address", "Quay Street", "2")
	require.Equal(t, mark, r.Mark("address", "Quay Street", "2"))
	for _, m := range [][]byte{r.Mark("address", "Quay Street2", ""), r.Mark("other", "Quay Street", "2"),
		r.Mark("address", "Quay Street 2"), other.Mark("address", "Quay Street", "2")} {
		require.NotEqual(t, mark, m)
	}
}
