package freight

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatIsBilledIsComparedWithWhatWasAsked, and says why it is another.
func TestWhatIsBilledIsComparedWithWhatWasAsked(t *testing.T) {
	for _, c := range []struct {
		name  string
		lines []BillLine
		more  int64
		why   string
	}{
		{"as asked", []BillLine{{"", 447, 1900}}, 0, ""},
		{"as asked, in two lines", []BillLine{{"Freight", 420, 1900}, {"fuel", 27, 0}}, 0, ""},
		{"heavier", []BillLine{{"", 596, 2400}}, 149, "weight: billed by 2.400 kg, sent with 1.900 kg"},
		{"a surcharge", []BillLine{{"freight", 447, 1900}, {"address corrected", 350, 0}}, 350, "address corrected"},
		{"for nothing that is said", []BillLine{{"", 500, 0}}, 53, "price"},
		{"less", []BillLine{{"", 400, 1800}}, -47, "price"},
	} {
		t.Run(c.name, func(t *testing.T) {
			more, why := Billed(447, 1900, c.lines)
			require.Equal(t, c.more, more)
			require.Equal(t, c.why, why)
		})
	}
}
