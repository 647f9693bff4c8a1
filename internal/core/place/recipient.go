package place

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/runes"
	"golang.org/x/text/transform"
	"golang.org/x/text/unicode/norm"
)

// RecipientKey is the normal form of who receives a parcel and where: addresses that differ only in how they are written have the
// same. It is empty where a part is missing without which nobody can be found: name or company, street, postcode.
//
// Capitals, accents and punctuation do not count; a name is the same in any order of its words and without titles; words that streets
// are shortened by are written out.
func (a Address) RecipientKey() string {
	name := normalWords(a.Name + " " + a.Company)
	name = slices.DeleteFunc(name, func(w string) bool { return titles[w] })
	slices.Sort(name)
	street := normalWords(a.Street + " " + a.Extra)
	for i, w := range street {
		if long, ok := streetWords[w]; ok {
			street[i] = long
		} else if strings.HasSuffix(w, "str") {
			street[i] = w + "asse"
		}
	}
	street = slices.DeleteFunc(street, func(w string) bool { return w == "" })
	postcode := strings.Join(normalWords(a.Postcode), "")
	if len(name) == 0 || len(street) == 0 || postcode == "" {
		return ""
	}
	return strings.Join([]string{strings.Join(slices.Compact(name), " "), strings.Join(street, ""), postcode,
		strings.ToUpper(a.Country)}, "|")
}

// titles are words before a name that say nothing of who is meant.
var titles = map[string]bool{"mr": true, "mrs": true, "ms": true, "miss": true, "mx": true, "dr": true, "prof": true, "herr": true,
	"frau": true, "mme": true, "sr": true, "sra": true}

// streetWords are words of an address that are written in several ways; those that stand for nothing are left out.
var streetWords = map[string]string{"st": "street", "str": "strasse", "rd": "road", "ave": "avenue", "av": "avenue", "ln": "lane",
	"dr": "drive", "sq": "square", "ct": "court", "pl": "place", "blvd": "boulevard", "hwy": "highway", "ter": "terrace", "cl": "close",
	"apt": "flat", "apartment": "flat", "no": "", "nr": ""}

// normalWords splits a text into words of small letters without accents and of digits.
func normalWords(text string) []string {
	text = withoutAccents(spelledOut.Replace(text))
	return strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
}

// spelledOut writes letters that do not come apart into a letter and an accent.
var spelledOut = strings.NewReplacer("ß", "ss", "ẞ", "ss", "æ", "ae", "Æ", "ae", "ø", "o", "Ø", "o", "ł", "l", "Ł", "l", "'", "", "’", "")

func withoutAccents(text string) string {
	if isASCII(text) {
		return text
	}
	plain, _, err := transform.String(transform.Chain(norm.NFKD, runes.Remove(runes.In(unicode.Mn))), text)
	if err != nil {
		return text
	}
	return plain
}

func isASCII(text string) bool {
	for i := range len(text) {
		if text[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}
