package place_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"openrelay/internal/core/place"
)

func to(name, street, postcode string) place.Address {
	return place.Address{Name: name, Street: street, Postcode: postcode, Town: "Fenwick", Country: "XW"}
}

func TestTheSameRecipientWrittenInOtherWays(t *testing.T) {
	key := to("Zoë O'Malley", "5 Kiln Street", "20417").RecipientKey()
	assert.NotEmpty(t, key)
	for _, same := range []place.Address{
		to("ZOE OMALLEY", "5 kiln st.", " 20417 "),
		to("O’Malley, Zoé", "5, Kiln Street", "20-417"),
		to("Mrs. Zoe O'Malley", "No. 5 Kiln St", "20417"),
		{Name: "Zoë", Company: "O'Malley", Street: "5 Kiln", Extra: "Street", Postcode: "20417", Country: "xw"},
	} {
		assert.Equal(t, key, same.RecipientKey(), "%+v", same)
	}
	for _, other := range []place.Address{
		to("Zoe O'Malley", "15 Kiln Street", "20417"),
		to("Zoe O'Malley", "5 Kiln Street", "20418"),
		to("Zoe O'Malley", "5 Kiln Lane", "20417"),
		to("Joe O'Malley", "5 Kiln Street", "20417"),
		{Name: "Zoe O'Malley", Street: "5 Kiln Street", Postcode: "20417", Country: "XE"},
		{Name: "Zoe O'Malley", Street: "5 Kiln Street", Extra: "Flat 3", Postcode: "20417", Country: "XW"},
	} {
		assert.NotEqual(t, key, other.RecipientKey(), "%+v", other)
	}
	assert.Equal(t, to("Jörg Weiß", "Hauptstraße 7", "20417").RecipientKey(), to("Jorg Weiss", "Hauptstr 7", "20417").RecipientKey())
}

func TestNobodyIsFoundWithoutAnAddress(t *testing.T) {
	assert.Empty(t, to("", "5 Kiln Street", "20417").RecipientKey())
	assert.Empty(t, to("Dr.", "5 Kiln Street", "20417").RecipientKey(), "a title is no name")
	assert.Empty(t, to("Zoe", " - ", "20417").RecipientKey())
	assert.Empty(t, to("Zoe", "5 Kiln Street", "").RecipientKey())
}

// The normal form of a normal form is itself, whatever was typed, and it tells its four parts apart.
func FuzzRecipientKey(f *testing.F) {
	f.Add("Zoë O'Malley", "5 Kiln St.", "20417")
	f.Add("|", "ß|", "\xff")
	f.Fuzz(func(t *testing.T, name, street, postcode string) {
		key := to(name, street, postcode).RecipientKey()
		if key == "" {
			return
		}
		parts := strings.Split(key, "|")
		if len(parts) != 4 {
			t.Fatalf("%q: %d parts", key, len(parts))
		}
		if again := to(parts[0], street, parts[2]).RecipientKey(); again != key {
			t.Fatalf("%q became %q", key, again)
		}
	})
}
