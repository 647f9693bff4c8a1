package gs1

import (
	"fmt"
	"strconv"
	"strings"
)

// Elements are what a GS1-128 or GS1 Data Matrix symbol says, as far as whoever picks and packs needs it: GS1 General
// Specifications, section 3 (application identifiers).
type Elements struct {
	GTIN   string // of the item, or of what a logistic unit contains: AI 01, 02
	Serial string // AI 21
	Batch  string // AI 10
	Count  int64  // of units: AI 30, 37; 0: it does not say
	SSCC   string // AI 00
}

// separator stands between elements of variable length: FNC1, as readers transmit it.
const separator = '\x1d'

// symbols are what readers put before the data of a GS1 symbol: ISO/IEC 15424, symbology identifiers.
var symbols = []string{"]C1", "]d2", "]Q3", "]e0"}

// fixed are the lengths of elements that are always as long, by the first two digits of their identifier, identifier included:
// GS1 General Specifications, figure 7.8.5-2.
var fixed = map[string]int{"00": 20, "01": 16, "02": 16, "03": 16, "04": 18, "11": 8, "12": 8, "13": 8, "14": 8, "15": 8, "16": 8,
	"17": 8, "18": 8, "19": 8, "20": 4, "31": 10, "32": 10, "33": 10, "34": 10, "35": 10, "36": 10, "41": 16}

// idLength is how many digits an identifier has, by its first two.
func idLength(first string) int {
	switch first[0] {
	case '2':
		if first == "23" || first == "24" || first == "25" {
			return 3
		}
	case '3':
		if first == "30" || first == "37" {
			return 2
		}
		return 4
	case '4':
		return 3
	case '7', '8':
		return 4
	}
	return 2
}

// ParseElements reads what a GS1 symbol says: as a reader transmits it, with or without a symbology identifier, or as it stands
// in clear below the bars, with identifiers in parentheses. Anything else is no error, and ok is false; a symbol that says of
// itself that it is one of GS1 and is not, is an error.
func ParseElements(text string) (e Elements, ok bool, err error) {
	text = strings.TrimSpace(text)
	for _, s := range symbols {
		if rest, has := strings.CutPrefix(text, s); has {
			e, err = parse(strings.TrimLeft(rest, string(separator)))
			return e, err == nil, err
		}
	}
	switch {
	case strings.HasPrefix(text, "(") && strings.Contains(text, ")"):
		e, err = parseClear(text)
		return e, err == nil, err
	case strings.ContainsRune(text, separator):
		e, err = parse(strings.TrimLeft(text, string(separator)))
		return e, err == nil, err
	case len(text) > 16 && strings.HasPrefix(text, "01"): // a reader that transmits no identifier
		e, err = parse(text)
		return e, err == nil && ValidGTIN(e.GTIN), nil
	}
	return e, false, nil
}

func parse(text string) (e Elements, err error) {
	for text != "" {
		if len(text) < 2 || !digits(text[:2]) {
			return e, fmt.Errorf("gs1: %q begins with no application identifier", clip(text))
		}
		n := idLength(text[:2])
		if len(text) < n || !digits(text[:n]) {
			return e, fmt.Errorf("gs1: %q begins with no application identifier", clip(text))
		}
		id, end := text[:n], fixed[text[:2]]
		if end == 0 {
			if end = strings.IndexByte(text, separator); end < 0 {
				end = len(text)
			}
		}
		if len(text) < end {
			return e, fmt.Errorf("gs1: element %s is too short", id)
		}
		if err := e.set(id, text[n:end]); err != nil {
			return e, err
		}
		text = strings.TrimLeft(text[end:], string(separator))
	}
	return e, nil
}

// parseClear reads elements as people read them: (01)02007100010528(21)A7.
func parseClear(text string) (e Elements, err error) {
	for text != "" {
		id, rest, ok := strings.Cut(strings.TrimPrefix(text, "("), ")")
		if !ok || text[0] != '(' || !digits(id) || len(id) < 2 || len(id) > 4 {
			return e, fmt.Errorf("gs1: %q begins with no application identifier", clip(text))
		}
		end := strings.IndexByte(rest, '(')
		if end < 0 {
			end = len(rest)
		}
		if err := e.set(id, rest[:end]); err != nil {
			return e, err
		}
		text = rest[end:]
	}
	return e, nil
}

func (e *Elements) set(id, value string) error {
	if value == "" {
		return fmt.Errorf("gs1: element %s is empty", id)
	}
	switch id {
	case "00":
		if !ValidSSCC(value) {
			return fmt.Errorf("gs1: %q is no SSCC", clip(value))
		}
		e.SSCC = value
	case "01", "02":
		if !ValidGTIN(value) {
			return fmt.Errorf("gs1: %q is no GTIN", clip(value))
		}
		e.GTIN = value
	case "10":
		e.Batch = value
	case "21":
		e.Serial = value
	case "30", "37":
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil || n < 1 || len(value) > 8 {
			return fmt.Errorf("gs1: %q is no count", clip(value))
		}
		e.Count = n
	}
	return nil
}

func digits(s string) bool {
	return s != "" && strings.IndexFunc(s, func(r rune) bool { return r < '0' || r > '9' }) < 0
}

func clip(s string) string { return s[:min(len(s), 24)] }

// SameGTIN says whether two GTINs are of the same item, however many leading zeros they are written with.
func SameGTIN(a, b string) bool {
	return a != "" && b != "" && strings.TrimLeft(a, "0") == strings.TrimLeft(b, "0")
}
