package attention

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRoomOnTheDisk(t *testing.T) {
	const gb = 1 << 30
	for _, c := range []struct {
		free, total uint64
		want        string
	}{
		{40 * gb, 100 * gb, stateWell}, {gb / 2, 100 * gb, stateWantsUs}, {gb / 2, 4 * gb, stateWell}, {gb / 8, 4 * gb, stateWantsUs},
		{noRoom - 1, 100 * gb, stateFailing}, {0, 0, stateFailing},
	} {
		got := diskState(c.free, c.total)
		require.Equal(t, c.want, got.State, "%d of %d", c.free, c.total)
		require.Equal(t, c.want != stateWell, len(got.raise) == 1)
	}
}
