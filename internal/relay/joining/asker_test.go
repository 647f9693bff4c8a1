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
		{Asker{ID: 1, Name: "Edda"}, Asker{ID: 1, Name: "Edda"}, true},
		{Asker{ID: 1, Name: "Edda"}, Asker{ID: 1, Name: "Edda Married"}, true},
		{Asker{ID: 1, Name: "Edda"}, Asker{ID: 2, Name: "Edda"}, false},
		{Asker{ID: 1, Name: "Edda"}, Asker{ID: 0, Name: "Edda"}, false},
		{Asker{ID: 0, Name: "Edda"}, Asker{ID: 1, Name: "Edda"}, true},
		{Asker{ID: 0, Name: "Edda"}, Asker{ID: 1, Name: "Odo"}, false},
	} {
		require.Equal(t, c.may, c.asked.may(c.brings), "%+v", c)
	}
}
