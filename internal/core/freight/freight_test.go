package freight

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/place"
)

func tariff() *Tariff {
	return &Tariff{Currency: "EUR", FuelPermille: 65, RemotePrefixes: []string{"97"}, RemotePrice: 280, Services: []Service{{
		Code: "PP", Name: "Parcel", MaxG: 20000, MaxMM: 1200, Divisor: 6000, Zones: []Zone{
			{Name: "near", Countries: []string{"XW"}, Prefixes: []string{"41"}, Days: 1, Steps: []Step{{2000, 420}, {10000, 780}}},
			{Name: "far", Countries: []string{"XW"}, Days: 2, Steps: []Step{{2000, 490}, {10000, 910}}},
		},
	}}}
}

func TestQuote(t *testing.T) {
	for _, c := range []struct {
		name     string
		postcode string
		country  string
		g, mm    int64 // a cube
		price    int64
		charged  int64
		refused  string
	}{
		{"near, light", "41360", "XW", 500, 100, 420 + 27, 500, ""},
		{"at the step", "41360", "XW", 2000, 100, 420 + 27, 2000, ""},
		{"a gram above", "41360", "XW", 2001, 100, 780 + 51, 2001, ""},
		{"bulky: 300 mm cubed counts as 4.5 kg", "60277", "XW", 500, 300, 910 + 59, 4500, ""},
		{"remote", "97310", "XW", 500, 100, 490 + 32 + 280, 500, ""},
		{"abroad", "208114", "XE", 500, 100, 0, 500, "does not deliver"},
		{"too heavy", "41360", "XW", 20001, 100, 0, 20001, "heavier"},
		{"too long", "41360", "XW", 500, 1201, 0, 288721, "longer"},
		{"beyond the steps", "41360", "XW", 15000, 100, 0, 15000, "last weight step"},
	} {
		t.Run(c.name, func(t *testing.T) {
			q := tariff().Quote("PP", Parcel{To: place.Address{Country: c.country, Postcode: c.postcode}, WeightG: c.g, LengthMM: c.mm,
				WidthMM: c.mm, HeightMM: c.mm})
			if c.refused != "" {
				require.Contains(t, q.Refused, c.refused)
				require.Zero(t, q.Price)
				return
			}
			require.Empty(t, q.Refused)
			require.Equal(t, c.price, q.Price)
			require.Equal(t, c.charged, q.ChargeableG)
		})
	}
	require.NotEmpty(t, tariff().Quote("NO", Parcel{}).Refused)
}

// TestHeavierIsNeverCheaper, and the terms always add up.
func TestHeavierIsNeverCheaper(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for range 2000 {
		p := Parcel{To: place.Address{Country: "XW", Postcode: []string{"41000", "97000", "60000"}[rng.IntN(3)]},
			WeightG: rng.Int64N(9000), LengthMM: rng.Int64N(400), WidthMM: rng.Int64N(400), HeightMM: rng.Int64N(300)}
		a := tariff().Quote("PP", p)
		p.WeightG += rng.Int64N(1000)
		b := tariff().Quote("PP", p)
		require.LessOrEqual(t, a.Price, b.Price)
		var sum int64
		for _, term := range b.Terms {
			sum += term.Price
		}
		require.Equal(t, b.Price, sum)
	}
}

func TestArrivalSkipsSundays(t *testing.T) {
	friday := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	for days, want := range map[int64]string{0: "2026-11-20", 1: "2026-11-21", 2: "2026-11-23", 8: "2026-11-30"} {
		require.Equal(t, want, Arrival(friday, days).Format(time.DateOnly), days)
	}
}

// TestOversize costs more above a longest side, whatever the weight.
func TestOversize(t *testing.T) {
	long := tariff()
	long.OversizeMM, long.OversizePrice = 1000, 690
	quote := func(mm int64) Quote {
		return long.Quote("PP",
			Parcel{To: place.Address{Country: "XW", Postcode: "41360"}, WeightG: 500, LengthMM: mm, WidthMM: 50, HeightMM: 50})
	}
	require.EqualValues(t, 447, quote(1000).Price)
	require.EqualValues(t, 447+690, quote(1001).Price)
	require.Equal(t, "Longer than 1000 mm", quote(1001).Terms[2].Text)
	require.NotEmpty(t, quote(1201).Refused)
}

// TestRemote places cost more by the carrier's own list, or by an address service's word where it publishes none.
func TestRemote(t *testing.T) {
	tariff := Tariff{Currency: "EUR", RemotePrice: 250, Services: []Service{{Code: "P",
		Zones: []Zone{{Name: "home", Countries: []string{"XW"}, Steps: []Step{{UpToG: 5000, Price: 400}}}}}}}
	price := func(postcode string, said bool) int64 {
		return tariff.Quote("P", Parcel{To: place.Address{Country: "XW", Postcode: postcode}, WeightG: 1, Remote: said}).Price
	}
	require.Equal(t, []int64{400, 650}, []int64{price("41207", false), price("41207", true)})
	tariff.RemotePrefixes = []string{"97"}
	require.Equal(t, []int64{400, 400, 650}, []int64{price("41207", false), price("41207", true), price("97310", false)})
}

// TestInsurance costs nothing up to what is included, then a share, at least the least; what is beyond the most, in another currency, or
// at a carrier that insures nothing is refused.
func TestInsurance(t *testing.T) {
	tariff := Tariff{Currency: "EUR", Insurance: Insurance{Included: 5000, Permille: 12, Least: 100, Most: 250_000},
		Services: []Service{{Code: "P",
			Zones: []Zone{{Name: "home", Countries: []string{"XW"}, Steps: []Step{{UpToG: 5000, Price: 400}}}}}}}
	p := Parcel{To: place.Address{Country: "XW"}, WeightG: 1000, InsuredIn: "EUR"}
	for value, want := range map[int64]int64{0: 400, 1: 400, 5000: 400, 5001: 500, 13_333: 500, 13_400: 501, 105_000: 1600, 250_000: 3340} {
		p.Insured = value
		q := tariff.Quote("P", p)
		require.Equal(t, want, q.Price, "%d: %+v", value, q)
		require.Empty(t, q.Refused)
		require.Equal(t, value > 0, len(q.Terms) == 2, "the sum says what the insurance costs")
	}
	p.Insured = 250_001
	require.Contains(t, tariff.Quote("P", p).Refused, "insures up to 2500.00 EUR")
	p.Insured, p.InsuredIn = 100, "GBP"
	require.Contains(t, tariff.Quote("P", p).Refused, "insures in EUR, not in GBP")
	tariff.Insurance = Insurance{}
	q := tariff.Quote("P", p)
	require.Equal(t, "does not insure parcels", q.Refused)
	require.Zero(t, q.Price)
}
