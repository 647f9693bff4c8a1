package shipping_test

import (
	"strings"
	"testing"
	"time"

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

// TestALabelThatCostsOtherwise than the carrier's tariff says shows both prices in the order's timeline; one that costs that shows one.
func TestALabelThatCostsOtherwise(t *testing.T) {
	k := trial.New(t)
	k.JoinTariff("tess")
	k.Stock(5, "JAR")
	bought := func(number string, price int) string {
		k.On("tess", "/tariff", func(trial.Call) (int, any) {
			return 200, map[string]any{"currency": "EUR", "services": []any{map[string]any{"code": "slow", "name": "Slow", "max_g": 9000,
				"max_mm": 900, "divisor": 0, "zones": []any{map[string]any{"name": "home", "countries": []any{"XW"}, "days": 2,
					"steps": []any{map[string]any{"up_to_g": 9000, "price": price}}}}}}}
		})
		k.Sell(number, trial.Units("JAR", 1))
		s := k.Packed(number)
		_, err := k.Rates(t.Context(), s)
		require.NoError(t, err)
		require.NoError(t, k.Label(s, "tess"))
		o, err := k.Order(t.Context(), number)
		require.NoError(t, err)
		for _, step := range o.Timeline {
			if strings.HasPrefix(step.Text, "Label bought") {
				return step.Text
			}
		}
		return ""
	}
	require.Contains(t, bought("S-1", 640), "4.00 EUR; by the carrier's tariff it would be 6.40 EUR")
	k.Later(11 * time.Minute) // the tariff is read again
	require.NotContains(t, bought("S-2", 400), "tariff")
}
