package store

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestFilesAreRemembered by their content, by feed and connection; one that was refused may come again.
func TestFilesAreRemembered(t *testing.T) {
	s := open(t)
	ctx := t.Context()
	add := func(f File) { write(t, s, func(tx *Tx) error { return tx.AddFile(f) }) }
	taken := func(connection int64, feed, hash string) bool {
		known, err := s.FileWasTaken(ctx, connection, feed, hash)
		require.NoError(t, err)
		return known
	}
	add(File{ConnectionID: 1, Feed: "orders in", Way: FileIn, Name: "A.edi", Hash: "h1", State: FileTaken, Records: 3, Size: 9, At: 5})
	add(File{ConnectionID: 1, Feed: "orders in", Way: FileIn, Name: "B.edi", Hash: "h2", State: FileRefused, Reason: "no EDIFACT"})
	add(File{ConnectionID: 2, Feed: "orders in", Way: FileOut, Name: "C.edi", Hash: "h3", State: FileSent})
	require.True(t, taken(1, "orders in", "h1"))
	for _, not := range [][2]string{{"orders in", "h2"}, {"stock in", "h1"}, {"orders in", "h4"}} {
		require.False(t, taken(1, not[0], not[1]))
	}
	require.False(t, taken(2, "orders in", "h1"))
	require.False(t, taken(2, "orders in", "h3"), "what we wrote did not come")
	names := func(connection, before int64, limit int) (out []string) {
		list, err := s.Files(ctx, connection, before, limit)
		require.NoError(t, err)
		for _, f := range list {
			out = append(out, f.Name)
		}
		return out
	}
	require.Equal(t, []string{"C.edi", "B.edi", "A.edi"}, names(0, 0, 9))
	require.Equal(t, []string{"B.edi", "A.edi"}, names(1, 0, 9))
	require.Equal(t, []string{"B.edi"}, names(1, 0, 1))
	require.Equal(t, []string{"A.edi"}, names(1, 2, 1))
	write(t, s, func(tx *Tx) error { return tx.ForgetCleared(1) })
	require.False(t, taken(1, "orders in", "h1"), "what came in a test may come again")
	require.Equal(t, []string{"C.edi"}, names(0, 0, 9))
}
