package catalog

import (
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// word is a piece of a title. Measures and counts are brought to one form, so that "0.5 kg", "500g" and
// "500 gr." are the same word.
type word struct {
	text  string
	class byte // 'w' a word, 's' a clothing size, 'm' a measure with its unit, 'n' a bare number
	unit  string
}

// sizes are the ways in which clothing sizes are written.
var sizes = map[string]string{
	"xxs": "xxs", "xs": "xs", "s": "s", "m": "m", "l": "l", "xl": "xl", "xxl": "xxl", "2xl": "xxl", "3xl": "xxxl", "xxxl": "xxxl",
	"small": "s", "sml": "s", "medium": "m", "med": "m", "large": "l", "lge": "l", "lrg": "l", "xlarge": "xl", "xlge": "xl", "xsmall": "xs",
}

// units turns what is written after a number into a base unit and a factor.
var units = map[string]struct {
	unit   string
	factor float64
}{
	"g": {"g", 1}, "gr": {"g", 1}, "gram": {"g", 1}, "grams": {"g", 1}, "gramme": {"g", 1}, "kg": {"g", 1000}, "kilo": {"g", 1000},
	"kilos": {"g", 1000}, "kilogram": {"g", 1000},
	"ml": {"ml", 1}, "cl": {"ml", 10}, "l": {"ml", 1000}, "ltr": {"ml", 1000}, "litre": {"ml", 1000}, "litres": {"ml", 1000},
	"liter": {"ml", 1000}, "liters": {"ml", 1000},
	"mm": {"mm", 1}, "cm": {"mm", 10},
	"pc": {"x", 1}, "pcs": {"x", 1}, "piece": {"x", 1}, "pieces": {"x", 1}, "pack": {"x", 1}, "pk": {"x", 1}, "ct": {"x", 1},
	"frame": {"x", 1}, "frames": {"x", 1},
}

// countWords stand before a number that counts pieces: "tray of 24", "set of 10", "x 12".
var countWords = map[string]bool{"of": true, "x": true, "per": true, "pack": true, "box": true, "tray": true, "set": true}

// idle words say nothing about which item it is.
var idle = map[string]bool{"size": true, "sz": true, "the": true, "a": true, "an": true, "of": true,
	"with": true, "and": true, "in": true, "for": true, "new": true, "at": true, "to": true, "your": true, "by": true,
	"x": true, "no": true}

// kin are words of this kind of goods that shops write in several ways.
var kin = map[string]string{
	"colour": "color", "grey": "gray", "moulds": "mold", "mould": "mold", "stainless": "steel", "metal": "steel",
	"beekeeper": "bee", "beekeepers": "bee", "beekeeping": "bee", "bees": "bee", "beeswax": "wax",
}

// numbers are numbers written as words.
var numbers = map[string]string{"two": "2", "three": "3", "four": "4", "five": "5", "six": "6", "seven": "7", "eight": "8", "nine": "9",
	"ten": "10", "twelve": "12"}

// sizeWords are the sizes that are long enough for a slip of the finger.
var sizeWords = []string{"small", "medium", "large"}

// words takes a title apart.
func words(text string) []word {
	raw := split(text)
	var out []word
	for i := 0; i < len(raw); i++ {
		t := raw[i]
		if n, ok := numbers[t]; ok {
			t = n
		}
		if n, ok := numberOf(t); ok {
			next, prev := "", ""
			if i+1 < len(raw) {
				next = raw[i+1]
			}
			if i > 0 {
				prev = raw[i-1]
			}
			if u, ok := units[next]; ok && !(next == "l" && n >= 100) {
				out = append(out, word{measure(n*u.factor, u.unit), 'm', u.unit})
				if next == "frame" || next == "frames" { // a thing that is counted, not a unit only
					out = append(out, word{"frame", 'w', ""})
				}
				i++
				continue
			}
			if countWords[prev] {
				out = append(out, word{measure(n, "x"), 'm', "x"})
				continue
			}
			out = append(out, word{strconv.FormatFloat(n, 'f', -1, 64), 'n', ""})
			continue
		}
		if (t == "x" || t == "extra") && i+1 < len(raw) {
			if s := sizes[raw[i+1]]; s == "l" || s == "s" {
				out = append(out, word{"x" + s, 's', ""})
				i++
				continue
			}
		}
		if s, ok := sizes[t]; ok {
			out = append(out, word{s, 's', ""})
			continue
		}
		if idle[t] {
			continue
		}
		if i := slices.IndexFunc(sizeWords, func(s string) bool { return len(t) >= 5 && t != s && distance(t, s) == 1 }); i >= 0 {
			out = append(out, word{sizes[sizeWords[i]], 's', ""})
			continue
		}
		if k, ok := kin[t]; ok {
			t = k
		}
		out = append(out, word{stem(t), 'w', ""})
	}
	return out
}

func measure(n float64, unit string) string { return strconv.FormatFloat(n, 'f', -1, 64) + unit }

func numberOf(t string) (float64, bool) {
	n, err := strconv.ParseFloat(t, 64)
	return n, err == nil && t[0] >= '0' && t[0] <= '9'
}

// split cuts text into lower-case runs of letters and numbers; a number may have a decimal point or comma.
func split(text string) []string {
	var out []string
	var cur []rune
	class := 0
	flush := func() {
		if len(cur) > 0 {
			out = append(out, strings.TrimRight(string(cur), "."))
			cur = cur[:0]
		}
		class = 0
	}
	runes := []rune(strings.ToLower(fold(text)))
	for i, r := range runes {
		switch {
		case unicode.IsLetter(r):
			if class == 2 {
				flush()
			}
			class = 1
			cur = append(cur, r)
		case unicode.IsDigit(r):
			if class == 1 {
				flush()
			}
			class = 2
			cur = append(cur, r)
		case (r == '.' || r == ',') && class == 2 && i+1 < len(runes) && unicode.IsDigit(runes[i+1]):
			cur = append(cur, '.')
		case r == '\'' || r == '’':
			// beekeeper's is one word
		default:
			flush()
		}
	}
	flush()
	return out
}

// fold writes letters with marks as plain ones.
func fold(s string) string {
	return strings.NewReplacer("ä", "a", "ö", "o", "ü", "u", "Ä", "A", "Ö", "O", "Ü", "U", "ß", "ss", "é", "e", "è",
		"e", "ê", "e", "á", "a", "à", "a", "â", "a", "å", "a", "ç", "c", "ñ", "n", "ø", "o", "æ", "ae", "í", "i", "ó", "o", "ú",
		"u").Replace(s)
}

// stem takes the ending of a plural away.
func stem(w string) string {
	switch {
	case len(w) > 4 && strings.HasSuffix(w, "ies"):
		return w[:len(w)-3] + "y"
	case len(w) > 4 && (strings.HasSuffix(w, "ses") || strings.HasSuffix(w, "xes") || strings.HasSuffix(w, "shes")):
		return w[:len(w)-2]
	case len(w) > 3 && strings.HasSuffix(w, "s") && !strings.HasSuffix(w, "ss"):
		return w[:len(w)-1]
	}
	return w
}

// alike tells how much two words are the same: 1 when they are, less for a slip of the finger, 0 when
// they are two words.
func alike(a, b string) float64 {
	if a == b {
		return 1
	}
	short, long := len(a), len(b)
	if short > long {
		short, long = long, short
	}
	if short < 4 {
		return 0
	}
	most := 1
	if short >= 8 {
		most = 2
	}
	if long-short <= most {
		if d := distance(a, b); d <= most {
			return 1 - float64(d)/float64(long)*1.2
		}
	}
	if short >= 5 && (strings.HasPrefix(a, b) || strings.HasPrefix(b, a)) {
		return 0.75 // refract. for refractometer
	}
	return 0
}

// distance counts the letters to change, add, take away or swap (optimal string alignment).
func distance(a, b string) int {
	prev2, prev, cur := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range prev {
		prev[j] = j
	}
	for i := 1; i <= len(a); i++ {
		cur[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			cur[j] = min(prev[j]+1, cur[j-1]+1, prev[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cur[j] = min(cur[j], prev2[j-2]+1)
			}
		}
		prev2, prev, cur = prev, cur, prev2
	}
	return prev[len(b)]
}
