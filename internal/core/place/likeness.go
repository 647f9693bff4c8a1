package place

import (
	"strings"
	"unicode"
)

// OnlySpelling tells whether two addresses are the same but for how they are spelled: letters that are large or small, dots and spaces, a
// letter or two in a name, a postcode that one has longer than the other. Numbers of houses must be the same, and so must the country.
func OnlySpelling(a, b Address) bool {
	return a.Country == b.Country && postcodeGrew(bare(a.Postcode), bare(b.Postcode)) && near(bare(a.Town), bare(b.Town)) &&
		numbers(a.Street) == numbers(b.Street) && near(bare(a.Street), bare(b.Street))
}

// SameLines tells whether two addresses are printed alike, but for names.
func SameLines(a, b Address) bool {
	return strings.EqualFold(joined(a), joined(b))
}

func joined(a Address) string {
	return strings.Join(strings.Fields(strings.Join([]string{a.Street, a.Postcode, a.Town, a.Country}, " ")), " ")
}

// bare is a text without spaces, dots and hyphens, in small letters.
func bare(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

func numbers(s string) string {
	return strings.Join(strings.FieldsFunc(s, func(r rune) bool { return !unicode.IsDigit(r) }), " ")
}

func postcodeGrew(a, b string) bool {
	return a != "" && b != "" && (strings.HasPrefix(a, b) || strings.HasPrefix(b, a))
}

// near tells whether two words differ in at most two letters, and in one of short ones.
func near(a, b string) bool {
	most := 2
	if len([]rune(a)) < 6 {
		most = 1
	}
	return distance([]rune(a), []rune(b)) <= most
}

// distance is how many letters have to be put in, taken out or replaced to make one word of the other (Levenshtein).
func distance(a, b []rune) int {
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i, x := range a {
		before := row[0]
		row[0] = i + 1
		for j, y := range b {
			cost := before
			if x != y {
				cost++
			}
			before = row[j+1]
			row[j+1] = min(cost, row[j]+1, row[j+1]+1)
		}
	}
	return row[len(b)]
}
