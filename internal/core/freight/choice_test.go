package freight

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/place"
)

func TestPicksAreReadAndWritten(t *testing.T) {
	for text, want := range map[string]Pick{"PX": {Service: "PX"}, "plover/PX": {Carrier: "plover", Service: "PX"},
		"cheapest":          {Way: Cheapest},
		"cheapest in 1 day": {Way: Cheapest, Days: 1}, "cheapest in 12 days": {Way: Cheapest, Days: 12}, "fastest": {Way: Fastest},
		"ask": {Way: AskFirst}} {
		got, err := ParsePick(" " + text + " ")
		require.NoError(t, err, text)
		require.Equal(t, want, got)
		require.Equal(t, text, got.String())
	}
	for _, wrong := range []string{"", "  ", "/PX", "plover/", "cheapest in 0 days"} {
		_, err := ParsePick(wrong)
		require.Error(t, err, wrong)
	}
}

// TestPickingAnOffer: what is refused is never taken, and what was wished is never replaced.
func TestPickingAnOffer(t *testing.T) {
	friday := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	offers := []Offer{
		{"ann", "slow", 400, "2026-11-25", ""},
		{"ann", "fast", 900, "2026-11-21", ""},
		{"bob", "fast", 850, "2026-11-21", ""},
		{"bob", "gift", 100, "2026-11-20", "not to Harrowmere"},
		{"cam", "odd", 390, "", ""},
	}
	for text, want := range map[string]int{"cheapest": 4, "fastest": 2, "cheapest in 1 day": 2, "cheapest in 4 days": 0, "fast": 2,
		"ann/fast": 1,
		"ask":      -1, "gift": -1, "bob/slow": -1} {
		p, err := ParsePick(text)
		require.NoError(t, err)
		require.Equal(t, want, p.Of(offers, friday), text)
	}
	require.Equal(t, -1, Pick{Way: Cheapest}.Of(nil, friday))
}

// TestTheTableOfServices: rows for a channel go before those for all, the first that holds counts, and bounds are held.
func TestTheTableOfServices(t *testing.T) {
	table := []Choice{
		{Word: "express", Service: "PX"},
		{Word: "express", Connection: "tansy", Countries: []string{"XE"}, Service: "ask"},
		{Word: "standard", ToG: 2000, Service: "letter"},
		{Word: "standard", FromG: 2001, Postcodes: []string{"97", "98"}, Service: "remote"},
		{FromValue: 50_000, Currency: "EUR", Service: "insured"},
		{Service: "cheapest"},
	}
	for i := range table {
		require.NoError(t, table[i].Check())
		require.Equal(t, -1, Hidden(table, i), "%d", i)
	}
	home := place.Address{Country: "XW", Postcode: "97310"}
	for _, c := range []struct {
		d    Delivery
		want int
	}{
		{Delivery{Word: "Express", Connection: "skep", To: home}, 0},
		{Delivery{Word: "express", Connection: "tansy", To: place.Address{Country: "XE"}}, 1},
		{Delivery{Word: "express", Connection: "tansy", To: home}, 0},
		{Delivery{Word: "standard", WeightG: 2000, To: home}, 2},
		{Delivery{Word: "standard", WeightG: 2001, To: home}, 3},
		{Delivery{Word: "standard", WeightG: 2001, To: place.Address{Country: "XW", Postcode: "41360"}}, 5},
		{Delivery{Value: 50_000, Currency: "EUR"}, 4},
		{Delivery{Value: 50_000, Currency: "XWD"}, 5},
		{Delivery{}, 5},
	} {
		require.Equal(t, c.want, Choose(table, c.d), "%+v", c.d)
	}
	require.Equal(t, -1, Choose(table[:4], Delivery{Word: "by swallow"}))
	hidden := append(table, Choice{Word: "express", Service: "fastest"})
	require.Equal(t, 0, Hidden(hidden, 6), "the first row takes all of it")
	for _, wrong := range []Choice{{}, {Service: "PX", Countries: []string{"xw"}}, {Service: "PX", FromG: 5, ToG: 4},
		{Service: "PX", ToValue: 4},
		{Service: "PX", FromValue: 9, ToValue: 4, Currency: "EUR"}, {Service: "PX", Postcodes: []string{""}}} {
		require.Error(t, wrong.Check(), "%+v", wrong)
	}
}

// TestAHiddenRowIsNeverChosen, whatever is to be sent.
func TestAHiddenRowIsNeverChosen(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	word := func() string { return []string{"", "express", "standard"}[rng.IntN(3)] }
	some := func(list ...string) (out []string) {
		for _, x := range list {
			if rng.IntN(3) == 0 {
				out = append(out, x)
			}
		}
		return out
	}
	hidden := 0
	for range 3000 {
		var table []Choice
		for range 4 {
			c := Choice{
				Word:       word(),
				Connection: []string{"", "skep"}[rng.IntN(2)],
				Countries:  some("XW", "XE"),
				Postcodes:  some("41", "97"),
				FromG:      rng.Int64N(3) * 500,
				Service:    "PX",
			}
			if rng.IntN(2) == 0 {
				c.ToG = c.FromG + rng.Int64N(1500)
			}
			table = append(table, c)
		}
		for row := range table {
			if Hidden(table, row) < 0 {
				continue
			}
			hidden++
			for range 20 {
				d := Delivery{Word: word(), Connection: []string{"tansy", "skep"}[rng.IntN(2)], WeightG: rng.Int64N(3000),
					To: place.Address{
						Country:  []string{"XW", "XE"}[rng.IntN(2)],
						Postcode: []string{"41360", "97310", "60000"}[rng.IntN(3)],
					}}
				require.NotEqual(t, row, Choose(table, d), "%+v of %+v", d, table)
			}
		}
	}
	require.Greater(t, hidden, 100)
}
