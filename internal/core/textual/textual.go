// Package textual bounds texts that come from outside.
package textual

import "unicode/utf8"

// Clip shortens a text to at most so many bytes, never inside a character, and marks that something is missing.
func Clip(s string, most int) string {
	if len(s) <= most {
		return s
	}
	const mark = "…"
	cut := max(most-len(mark), 0)
	for cut > 0 && !utf8.RuneStart(s[cut]) {
		cut--
	}
	return s[:cut] + mark
}
