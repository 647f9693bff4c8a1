package place

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestPositions(t *testing.T) {
	p, err := ParsePosition(" 51.5,7.25 ")
	require.NoError(t, err)
	require.Equal(t, Position{51.5, 7.25}, p)
	require.Equal(t, "51.5, 7.25", p.String())
	for _, text := range []string{"", "51.5", "51.5 7.25", "91, 0", "0, 181", "NaN, 0", "a, b", "1, 2, 3"} {
		_, err := ParsePosition(text)
		require.Error(t, err, text)
	}
}

// TestHowFarItIs by a quarter of the earth, by a degree of latitude, and as distances are: alike both ways, and never longer than by a
// third place.
func TestHowFarItIs(t *testing.T) {
	require.InDelta(t, 10007.6, Position{0, 0}.Km(Position{0, 90}), 0.1)
	require.InDelta(t, 111.2, Position{50, 8}.Km(Position{51, 8}), 0.1)
	require.Zero(t, Position{50, 8}.Km(Position{50, 8}))
	require.InDelta(t, 20015.1, Position{50, 8}.Km(Position{-50, -172}), 0.1)
	rng := rand.New(rand.NewPCG(1, 2))
	at := func() Position { return Position{rng.Float64()*180 - 90, rng.Float64()*360 - 180} }
	for range 1000 {
		a, b, c := at(), at(), at()
		require.InDelta(t, a.Km(b), b.Km(a), 1e-6)
		require.LessOrEqual(t, a.Km(b), a.Km(c)+c.Km(b)+1e-6)
	}
}
