package place

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWhatIsOnlySpelling(t *testing.T) {
	a := Address{Name: "Per Lund", Street: "Linden Row 16", Postcode: "41207", Town: "Alderby", Country: "XW"}
	with := func(change func(b *Address)) Address { b := a; change(&b); return b }
	for name, c := range map[string]struct {
		b    Address
		want bool
	}{
		"nothing":              {a, true},
		"large and small":      {with(func(b *Address) { b.Town = "ALDERBY" }), true},
		"a letter":             {with(func(b *Address) { b.Street = "Lindn Row 16" }), true},
		"dots and spaces":      {with(func(b *Address) { b.Street = "Linden-Row  16" }), true},
		"an extended postcode": {with(func(b *Address) { b.Postcode = "41207-3312" }), true},
		"another house":        {with(func(b *Address) { b.Street = "Linden Row 17" }), false},
		"another postcode":     {with(func(b *Address) { b.Postcode = "41208" }), false},
		"another town":         {with(func(b *Address) { b.Town = "Greywick" }), false},
		"another street":       {with(func(b *Address) { b.Street = "Market Row 16" }), false},
		"another country":      {with(func(b *Address) { b.Country = "XE" }), false},
		"no postcode":          {with(func(b *Address) { b.Postcode = "" }), false},
	} {
		require.Equal(t, c.want, OnlySpelling(a, c.b), name)
		require.Equal(t, c.want, OnlySpelling(c.b, a), name)
	}
	require.True(t, SameLines(a, with(func(b *Address) { b.Name, b.Street = "Somebody", "linden  row 16" })))
	require.False(t, SameLines(a, with(func(b *Address) { b.Street = "Linden Row 17" })))
	require.False(t, near("oak", "elk"))
}
