package setup

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestArchivedIsRefusedWhereItIsUsedToo(t *testing.T) {
	for text, say := range map[string]string{
		"setup: 1\nsenders: [{code: a, name: A}]\narchived: {senders: [a]}\n": "archived: senders: a stands under senders too",
		"setup: 1\narchived: {locations: [a, a]}\n":                           "archived: locations: a stands twice",
		"setup: 1\narchived: {carriers: [\"\"]}\n":                            "archived: carriers: one has no code",
		"setup: 1\narchived: {dreams: [a]}\n":                                 "dreams",
	} {
		_, err := Parse([]byte(text))
		require.ErrorContains(t, err, say)
	}
	s, err := Parse([]byte("setup: 1\nsenders: [{code: a, name: A}]\narchived: {carriers: [a]}\n"))
	require.NoError(t, err, "a code is one of its kind")
	text, err := s.Text()
	require.NoError(t, err)
	require.Contains(t, string(text), "archived:\n  carriers:\n    - a\n")
}
