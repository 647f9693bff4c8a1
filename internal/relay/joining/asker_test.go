package joining

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhoAskedForAConsentBringsItsAnswer: of two people who are called alike the one who asked, and of a token whoever is
// called as it is.
func TestWhoAskedForAConsentBringsItsAnswer(t *testing.T) {
	for _, c := range []struct {
		asked, brings Asker
		may           bool
	}{
		{Asker{1, "Edda"}, Asker{1, "Edda"}, true},
		{Asker{1, "Edda"}, Asker{1, "Edda Married"}, true},
		{Asker{1, "Edda"}, Asker{2, "Edda"}, false},
		{Asker{1, "Edda"}, Asker{0, "Edda"}, false},
		{Asker{0, "Edda"}, Asker{1, "Edda"}, true},
		{Asker{0, "Edda"}, Asker{1, "Odo"}, false},
	} {
		require.Equal(t, c.may, c.asked.may(c.brings), "%+v", c)
	}
}
