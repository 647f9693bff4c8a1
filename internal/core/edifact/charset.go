package edifact

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/unicode/norm"
)

// charset is a character set of ISO 9735 (syntax identifiers UNOA to UNOY).
type charset struct {
	name  string
	bytes encoding.Encoding // nil: UTF-8
	level byte              // A and B are subsets of ASCII
}

// charsets are those that are known, by their identifier in UNB.
var charsets = map[string]*charset{
	"UNOA": {"UNOA", charmap.ISO8859_1, 'A'}, "UNOB": {"UNOB", charmap.ISO8859_1, 'B'},
	"UNOC": {"UNOC", charmap.ISO8859_1, 0}, "UNOD": {"UNOD", charmap.ISO8859_2, 0}, "UNOE": {"UNOE", charmap.ISO8859_5, 0},
	"UNOF": {"UNOF", charmap.ISO8859_7, 0}, "UNOG": {"UNOG", charmap.ISO8859_3, 0}, "UNOH": {"UNOH", charmap.ISO8859_4, 0},
	"UNOI": {"UNOI", charmap.ISO8859_6, 0}, "UNOJ": {"UNOJ", charmap.ISO8859_8, 0}, "UNOK": {"UNOK", charmap.ISO8859_9, 0},
	"UNOY": {"UNOY", nil, 0}, "UNOW": {"UNOW", nil, 0},
}

// decode reads text. What a set of small letters does not have, such as umlauts in UNOA, is read all the same: senders write it.
func (c *charset) decode(raw []byte) (string, error) {
	ascii := true
	for _, b := range raw {
		if b >= utf8.RuneSelf {
			ascii = false
			break
		}
	}
	switch {
	case ascii:
		return string(raw), nil
	case c.bytes == nil:
		if !utf8.Valid(raw) {
			return "", syntax("a text is not UTF-8, as %s says", c.name)
		}
		return string(raw), nil
	}
	out, err := c.bytes.NewDecoder().Bytes(raw)
	if err != nil || strings.ContainsRune(string(out), utf8.RuneError) {
		return "", syntax("a text has characters that %s does not have", c.name)
	}
	return string(out), nil
}

// encode writes text. A letter that the set does not have loses its accent; what has no form in it at all is refused.
func (c *charset) encode(text string) ([]byte, error) {
	out := make([]byte, 0, len(text))
	for _, r := range text {
		if r < ' ' { // a new line, say
			r = ' '
		}
		b, ok := c.rune(r)
		if !ok {
			return nil, syntax("%s has no %q", c.name, r)
		}
		out = append(out, b...)
	}
	if c.level == 'A' {
		out = bytes.ToUpper(out)
	}
	return out, nil
}

// plain are letters that do not come apart into a letter and an accent.
var plain = map[rune]string{'ß': "ss", 'æ': "ae", 'Æ': "AE", 'ø': "o", 'Ø': "O", 'ł': "l", 'Ł': "L", '’': "'", '‘': "'", '“': `"`,
	'”': `"`, '„': `"`, '–': "-", '—': "-", '…': "...", '\u00a0': " "}

func (c *charset) rune(r rune) ([]byte, bool) {
	if b, ok := c.single(r); ok {
		return b, true
	}
	text, known := plain[r]
	if !known {
		text = norm.NFKD.String(string(r))
	}
	var out []byte
	for _, part := range text {
		if part >= 0x300 && part < 0x370 { // an accent
			continue
		}
		b, ok := c.single(part)
		if !ok || part == r {
			return nil, false
		}
		out = append(out, b...)
	}
	return out, len(out) > 0
}

func (c *charset) single(r rune) ([]byte, bool) {
	switch {
	case r < utf8.RuneSelf:
		return []byte{byte(r)}, true
	case c.level != 0:
		return nil, false
	case c.bytes == nil:
		return utf8.AppendRune(nil, r), true
	}
	b, err := c.bytes.NewEncoder().Bytes(utf8.AppendRune(nil, r))
	return b, err == nil
}
