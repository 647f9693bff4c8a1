package connector

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestBuiltInDefinitionsLoad(t *testing.T) {
	lib, err := BuiltIn()
	require.NoError(t, err)
	require.Contains(t, lib, "hedgerow")
	require.Contains(t, lib, "plover-post")
}
