package money

import (
	"testing"
	"testing/quick"

	"github.com/stretchr/testify/require"
)

func TestParse(t *testing.T) {
	for _, c := range []struct {
		text, currency string
		want           int64
		bad            bool
	}{
		{"12.50", "EUR", 1250, false},
		{"12.5", "EUR", 1250, false},
		{"12", "EUR", 1200, false},
		{"-0.01", "EUR", -1, false},
		{"12.500", "EUR", 1250, false},
		{"12.501", "EUR", 0, true},
		{"1200", "JPY", 1200, false},
		{"1200.5", "JPY", 0, true},
		{"1.234", "KWD", 1234, false},
		{"", "EUR", 0, true},
		{".5", "EUR", 0, true},
		{"5.", "EUR", 0, true},
		{"1,50", "EUR", 0, true},
		{"1e3", "EUR", 0, true},
		{"--1", "EUR", 0, true},
		{"99999999999999999999", "EUR", 0, true},
		{"1", "euro", 0, true},
	} {
		got, err := Parse(c.text, c.currency)
		if c.bad {
			require.ErrorIs(t, err, ErrSyntax, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		require.Equal(t, c.want, got, c.text)
	}
}

func TestDecimalAndParseAreInverse(t *testing.T) {
	for _, currency := range []string{"EUR", "JPY", "KWD"} {
		require.NoError(t, quick.Check(func(n int64) bool {
			n /= 1000 // keeps the text within what Parse takes
			back, err := Parse(Decimal(n, currency), currency)
			return err == nil && back == n
		}, nil), currency)
	}
}

func TestShareRoundsHalfAway(t *testing.T) {
	for _, c := range []struct{ minor, num, den, want int64 }{
		{780, 65, 1000, 51}, {100, 1, 3, 33}, {200, 1, 3, 67}, {1, 1, 2, 1}, {-1, 1, 2, -1}, {-100, 1, 3, -33}, {0, 5, 7, 0},
	} {
		require.Equal(t, c.want, Share(c.minor, c.num, c.den), c)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{"12.50", "-3", "0.001", "9223372036854775807", "١٢"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		n, err := Parse(s, "EUR")
		if err != nil {
			return
		}
		back, err := Parse(Decimal(n, "EUR"), "EUR")
		if err != nil || back != n {
			t.Fatalf("%q: %d, back %d, %v", s, n, back, err)
		}
	})
}
