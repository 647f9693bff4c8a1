// Package place holds postal addresses and what can be said of one without asking anybody.
package place

import (
	"fmt"
	"strings"

	"golang.org/x/text/language"

	"openrelay/internal/core/textual"
)

// Address is where a parcel goes or comes from. Country is an ISO 3166-1 alpha-2 code.
type Address struct {
	Name     string `json:"name" doc:"Recipient or sender as printed"`
	Company  string `json:"company,omitempty"`
	Street   string `json:"street"`
	Extra    string `json:"extra,omitempty" doc:"Second address line"`
	Postcode string `json:"postcode"`
	Town     string `json:"town"`
	Country  string `json:"country" doc:"ISO 3166-1 alpha-2"`
	Phone    string `json:"phone,omitempty"`
	Email    string `json:"email,omitempty"`
}

// postcodeDigits tells how many digits a postcode has in the countries whose form we know.
var postcodeDigits = map[string]int{"XW": 5, "XE": 6}

// Known tells whether a code stands for a country: one that is assigned in ISO 3166-1, or one left to users of which
// we know what it stands for.
func Known(country string) bool {
	if _, ours := postcodeDigits[country]; ours {
		return true
	}
	if len(country) != 2 || strings.ToUpper(country) != country {
		return false
	}
	r, err := language.ParseRegion(country)
	return err == nil && r.IsCountry() && r.Canonicalize().String() == country
}

// maxField is how long a part of an address may be, in bytes.
const maxField = 200

// Normal brings an address to its usual form: no stray spaces, the country in capitals, no part longer than a label
// could ever hold.
func (a *Address) Normal() {
	for _, f := range []*string{&a.Name, &a.Company, &a.Street, &a.Extra, &a.Postcode, &a.Town, &a.Country, &a.Phone, &a.Email} {
		*f = textual.Clip(strings.TrimSpace(*f), maxField)
	}
	a.Country = strings.ToUpper(a.Country)
}

// Problems lists what keeps a carrier from delivering to the address, in words for a person.
func (a Address) Problems() []string {
	var out []string
	for _, f := range []struct{ name, text string }{
		{"name", a.Name}, {"street", a.Street}, {"postcode", a.Postcode}, {"town", a.Town},
	} {
		if strings.TrimSpace(f.text) == "" {
			out = append(out, f.name+" is missing")
		}
	}
	if !Known(a.Country) {
		out = append(out, fmt.Sprintf("country %q is not a two-letter ISO 3166 code of a country", a.Country))
	}
	if want, known := postcodeDigits[a.Country]; known && a.Postcode != "" {
		if len(a.Postcode) != want || strings.Trim(a.Postcode, "0123456789") != "" {
			out = append(out, fmt.Sprintf("postcode %q: %s has %d digits", a.Postcode, a.Country, want))
		}
	}
	return out
}

// Lines writes the address as the lines of a label, leaving out what is empty.
func (a Address) Lines() []string {
	var out []string
	for _, l := range []string{a.Name, a.Company, a.Street, a.Extra, strings.TrimSpace(a.Postcode + " " + a.Town), a.Country} {
		if strings.TrimSpace(l) != "" {
			out = append(out, l)
		}
	}
	return out
}
