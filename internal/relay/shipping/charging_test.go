package shipping_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/freight"
	"openrelay/internal/relay/trial"
)

// TestWhatIsChargedForAParcel by the first rule that fits its order and service, rehearsed on those that left.
func TestWhatIsChargedForAParcel(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	ctx := t.Context()
	ship := func(number string, units int64) (charged int64, by string) {
		k.Sell(number, trial.Units("JAR", units))
		s := k.Packed(number)
		require.NoError(t, k.Label(s, "ann"))
		p := k.ParcelOf(s)
		return p.Charged, p.ChargedBy
	}
	charged, by := ship("S-1", 1)
	require.Equal(t, []any{int64(400), ""}, []any{charged, by}, "without a rule, what the carrier asks")
	rows := []freight.ChargeRule{{Name: "Large orders", When: "units >= 3", Do: freight.Waive},
		{Name: "Handling", Do: freight.MarkUp, Permille: 100}}
	tried, err := k.RehearseCharges(ctx, rows)
	require.NoError(t, err)
	require.Equal(t, 1, tried.Parcels)
	require.Equal(t, []any{int64(400), int64(440), "Handling"}, []any{tried.Changed[0].Was, tried.Changed[0].Would, tried.Changed[0].By})
	require.EqualValues(t, 440, tried.Sums[0].Would)
	require.NoError(t, k.ChargeRules.Change(ctx, k.Engine, rows, "Edda"))
	charged, by = ship("S-2", 3)
	require.Equal(t, []any{int64(0), "Large orders"}, []any{charged, by})
	charged, by = ship("S-3", 1)
	require.Equal(t, []any{int64(440), "Handling"}, []any{charged, by})
	for _, c := range []struct {
		row  freight.ChargeRule
		says string
	}{
		{freight.ChargeRule{Name: "x", When: "unit > 3", Do: freight.Waive}, "row 1"},
		{freight.ChargeRule{Name: "x", When: "units", Do: freight.Waive}, "true or false"},
		{freight.ChargeRule{Name: "x", Do: "give"}, "mark up"},
	} {
		_, err := k.RehearseCharges(ctx, []freight.ChargeRule{c.row})
		require.ErrorContains(t, err, c.says)
		require.ErrorContains(t, k.ChargeRules.Change(ctx, k.Engine, []freight.ChargeRule{c.row}, "Edda"), c.says)
	}
	k.Holds()
}
