package store

import (
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// tablesOf says how each table, index and trigger of a file is made.
func tablesOf(t *testing.T, s *Store) []string {
	t.Helper()
	var made []string
	require.NoError(t, s.read.SelectContext(t.Context(), &made,
		`SELECT type || ' ' || name || ': ' || COALESCE(sql, '') FROM sqlite_schema ORDER BY 1`))
	return made
}

// TestANewFileIsACopyOfABlankOne: the second file of a process is a copy, has the same tables, and nothing of the first.
func TestANewFileIsACopyOfABlankOne(t *testing.T) {
	dir := t.TempDir()
	first, err := Open(t.Context(), filepath.Join(dir, "first.relay"))
	require.NoError(t, err)
	defer first.Close()
	require.NoError(t, first.Write(t.Context(), func(tx *Tx) error { return tx.PutSetting("name", "Morrow Hive") }))
	require.NotEmpty(t, blank.bytes, "kept when the first was made")

	second, err := Open(t.Context(), filepath.Join(dir, "second.relay"))
	require.NoError(t, err)
	defer second.Close()
	assert.Equal(t, tablesOf(t, first), tablesOf(t, second))
	name, err := second.Setting(t.Context(), "name")
	require.NoError(t, err)
	assert.Empty(t, name)
	info, err := os.Stat(second.Path())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "for its owner only")
	left, err := filepath.Glob(filepath.Join(dir, ".new-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestFilesOpenedTogether: whoever comes second to a new file works on the file of the first.
func TestFilesOpenedTogether(t *testing.T) {
	path := filepath.Join(t.TempDir(), "company.relay")
	var work sync.WaitGroup
	for i := range 6 {
		work.Go(func() {
			s, err := Open(t.Context(), path)
			if !assert.NoError(t, err) {
				return
			}
			defer s.Close()
			assert.NoError(t, s.Write(t.Context(), func(tx *Tx) error { return tx.PutSetting(fmt.Sprint(i), "here") }))
		})
	}
	work.Wait()
	s, err := Open(t.Context(), path)
	require.NoError(t, err)
	defer s.Close()
	for i := range 6 {
		said, err := s.Setting(t.Context(), fmt.Sprint(i))
		require.NoError(t, err)
		assert.Equal(t, "here", said)
	}
}

// TestAFileThatIsThereStays: an empty file gets its tables in place, and what is not a company file is refused untouched.
func TestAFileThatIsThereStays(t *testing.T) {
	dir := t.TempDir()
	empty := filepath.Join(dir, "empty.relay")
	require.NoError(t, os.WriteFile(empty, nil, 0o600))
	s, err := Open(t.Context(), empty)
	require.NoError(t, err)
	assert.NotEmpty(t, tablesOf(t, s))
	require.NoError(t, s.Close())

	letter := filepath.Join(dir, "letter.txt")
	require.NoError(t, os.WriteFile(letter, []byte("Dear customer, the honey is on its way."), 0o600))
	_, err = Open(t.Context(), letter)
	require.ErrorContains(t, err, letter)
	kept, err := os.ReadFile(letter)
	require.NoError(t, err)
	assert.Equal(t, "Dear customer, the honey is on its way.", string(kept))

	_, err = Open(t.Context(), filepath.Join(dir, "no", "such", "folder.relay"))
	require.ErrorContains(t, err, "no such file")
}
