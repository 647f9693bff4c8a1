package freight

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/place"
)

// TestLadder: at each weight it says what the tariff says, and it ends where the service does.
func TestLadder(t *testing.T) {
	tariff := &Tariff{Currency: "EUR", FuelPermille: 100, RemotePrefixes: []string{"9"}, RemotePrice: 250, Services: []Service{
		{Code: "PX", MaxG: 8000, MaxMM: 1200, Zones: []Zone{
			{Name: "home", Countries: []string{"XW"}, Days: 2, Steps: []Step{{1000, 400}, {5000, 600}, {10000, 900}, {20000, 1500}}},
		}},
	}}
	px := &tariff.Services[0]
	for _, postcode := range []string{"41207", "90210"} {
		p := Parcel{To: place.Address{Country: "XW", Postcode: postcode}}
		steps, days := tariff.Ladder(px, p)
		require.Equal(t, int64(2), days)
		require.Len(t, steps, 3)
		require.Equal(t, int64(8000), steps[2].UpToG, "the service takes no more")
		for _, step := range steps {
			p.WeightG = step.UpToG
			require.Equal(t, tariff.Quote("PX", p).Price, step.Price)
		}
	}
	steps, _ := tariff.Ladder(px, Parcel{To: place.Address{Country: "XE", Postcode: "410000"}})
	require.Empty(t, steps)
	steps, _ = tariff.Ladder(px, Parcel{To: place.Address{Country: "XW", Postcode: "41207"}, LengthMM: 1300})
	require.Empty(t, steps, "too long for each of them")
}
