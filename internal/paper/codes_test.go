package paper

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheSheetOfCodes has each command in the sheet's language, and goes on over several pages.
func TestTheSheetOfCodes(t *testing.T) {
	for _, l := range []string{"en", "de", "fr"} {
		s := CodeSheet{Company: "Morrow Hive", Commands: Commands, Language: l}
		for i := range 20 {
			s.Cartons = append(s.Cartons, Code{fmt.Sprintf("carton-%d", i), fmt.Sprintf("Carton %d", i), "300 × 200 × 100 mm"})
		}
		var buf bytes.Buffer
		require.NoError(t, WriteCodeSheet(&buf, s))
		assert.Equal(t, 3, bytes.Count(buf.Bytes(), []byte("/Type /Page\n")), l)
		for _, c := range Commands {
			if l != "en" {
				assert.NotEmpty(t, words[l][c.Title], c.Title)
				assert.NotEmpty(t, words[l][c.About], c.About)
			}
		}
	}
}
