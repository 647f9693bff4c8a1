package packing

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestRefuses(t *testing.T) {
	carton := Profile{Name: "Small carton", LengthMM: 350, WidthMM: 250, HeightMM: 150, TareG: 220, MaxG: 8000}
	jar := Content{SKU: "JAR", Quantity: 1, WeightG: 2950, LengthMM: 245, WidthMM: 110, HeightMM: 330}
	for _, c := range []struct {
		name string
		in   []Content
		why  string
	}{
		{"turned, it fits", []Content{jar}, ""},
		{"too long", []Content{{SKU: "FORK", Quantity: 1, LengthMM: 360, WidthMM: 10, HeightMM: 10}}, "does not fit"},
		{"too much", []Content{{SKU: "BOX", Quantity: 20, LengthMM: 100, WidthMM: 100, HeightMM: 100, WeightG: 1}}, "need 20.0 l"},
		{"too heavy", []Content{{SKU: "LEAD", Quantity: 3, LengthMM: 50, WidthMM: 50, HeightMM: 50, WeightG: 3000}}, "weigh 9.00 kg"},
		{"nothing known of its size", []Content{{SKU: "CARD", Quantity: 5}}, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got := carton.Refuses(c.in)
			if c.why == "" {
				require.Empty(t, got)
			} else {
				require.Contains(t, got, c.why)
			}
		})
	}
	require.Equal(t, int64(220+2*2950), carton.Weight([]Content{{Quantity: 2, WeightG: 2950}}))
}
