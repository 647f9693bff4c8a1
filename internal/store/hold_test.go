package store

import (
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneWorksOnAFile: the second is told who does; commands that only look go on; what is let go can be taken.
func TestOneWorksOnAFile(t *testing.T) {
	first := open(t)
	second, err := Open(t.Context(), first.Path())
	require.NoError(t, err)
	defer second.Close()
	require.NoError(t, first.Hold())
	require.NoError(t, first.Hold(), "it has it already")
	err = second.Hold()
	var held *Held
	require.ErrorAs(t, err, &held)
	assert.Equal(t, first.Path(), held.File)
	assert.ErrorContains(t, err, fmt.Sprintf("process %d on ", os.Getpid()))
	require.NoError(t, second.Write(t.Context(), func(tx *Tx) error { return tx.PutSetting("name", "looked") }))
	first.LetGo()
	require.NoError(t, second.Hold())
	require.ErrorAs(t, first.Hold(), &held)
	require.NoError(t, second.Close())
	require.NoError(t, first.Hold(), "closing lets go, too")
}
