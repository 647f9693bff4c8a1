package engine

import "crypto/rand"

const textAlphabet = "abcdefghjkmnpqrstuvwxyz23456789"

// RandomText makes n characters that people can tell apart, from the system's secure source.
func RandomText(n int) string {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic("no randomness: " + err.Error())
	}
	for i := range b {
		b[i] = textAlphabet[int(b[i])%len(textAlphabet)]
	}
	return string(b)
}
