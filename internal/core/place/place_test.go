package place

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestProblems(t *testing.T) {
	good := Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}
	require.Empty(t, good.Problems())
	east := good
	east.Country, east.Postcode = "XE", "208114"
	require.Empty(t, east.Problems())
	for want, change := range map[string]func(*Address){
		"name is missing":     func(a *Address) { a.Name = " " },
		"town is missing":     func(a *Address) { a.Town = "" },
		"XW has 5 digits":     func(a *Address) { a.Postcode = "413" },
		"XE has 6 digits":     func(a *Address) { a.Country = "XE" },
		"two-letter ISO 3166": func(a *Address) { a.Country = "Westmark" },
	} {
		a := good
		change(&a)
		require.Len(t, a.Problems(), 1, want)
		require.Contains(t, a.Problems()[0], want)
	}
	require.Equal(t, []string{"Maren Tolland", "Lindenrow 14", "41360 Harrowmere", "XW"}, good.Lines())
}

func TestCountriesAreKnown(t *testing.T) {
	a := Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere"}
	for country, good := range map[string]bool{"XW": true, "PT": true, "NZ": true, "ZZ": false, "QQ": false, "xw": false, "EU": false,
		"001": false, "UK": false, "X": false, "": false} {
		a.Country = country
		if country == "PT" || country == "NZ" {
			a.Postcode = "any form"
		} else {
			a.Postcode = "41360"
		}
		require.Equal(t, good, len(a.Problems()) == 0, "%q: %v", country, a.Problems())
	}
}

func TestNormalAddresses(t *testing.T) {
	a := Address{Name: " Maren Tolland\n", Street: strings.Repeat("Lindenrow ", 100), Country: " xw "}
	a.Normal()
	require.Equal(t, "Maren Tolland", a.Name)
	require.Equal(t, "XW", a.Country)
	require.LessOrEqual(t, len(a.Street), 200)
}
