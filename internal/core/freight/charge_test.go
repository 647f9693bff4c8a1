package freight

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsCharged(t *testing.T) {
	for want, r := range map[int64]ChargeRule{
		550: {Name: "a", Do: MarkUp, Permille: 100}, 450: {Name: "b", Do: Discount, Permille: 100},
		690: {Name: "c", Do: Add, Amount: 190, Currency: "EUR"},
		490: {Name: "d", Do: Fix, Amount: 490, Currency: "eur"}, 0: {Name: "e", Do: Waive},
	} {
		require.NoError(t, r.Check(), r.Name)
		require.Equal(t, want, r.Charge(500), r.Name)
	}
	r := ChargeRule{Name: "f", Do: Waive, Service: "plover/PX"}
	require.True(t, r.Fits("plover", "PX", "EUR"))
	require.False(t, r.Fits("ironway", "PX", "EUR"))
	r = ChargeRule{Name: "g", Do: Fix, Amount: 1, Currency: "SEK", Service: "PX"}
	require.True(t, r.Fits("ironway", "PX", "SEK"))
	require.False(t, r.Fits("ironway", "PX", "EUR"), "an amount of another currency")
	for _, wrong := range []ChargeRule{{Do: Waive}, {Name: "x", Do: "give"}, {Name: "x", Do: MarkUp},
		{Name: "x", Do: Discount, Permille: 1001},
		{Name: "x", Do: Fix, Amount: 4}, {Name: "x", Do: Waive, Amount: 4, Currency: "EUR"},
		{Name: "x", Do: Add, Permille: 4, Currency: "EUR"}} {
		require.Error(t, wrong.Check(), "%+v", wrong)
	}
}
