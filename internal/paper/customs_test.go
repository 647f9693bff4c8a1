package paper

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/place"
)

// TestCustomsPapers hold each line, whatever the number of lines; a form that is not known is refused.
func TestCustomsPapers(t *testing.T) {
	c := Customs{Number: "S10001", Order: "O10001", Tracking: "CP407100155XW", Carrier: "Plover Post", GrossG: 2400,
		Day:         time.Date(2026, 11, 30, 0, 0, 0, 0, time.UTC),
		From:        place.Address{Name: "Morrow Hive Supply", Street: "Alder Yard 1", Postcode: "41207", Town: "Alderby", Country: "XW"},
		To:          place.Address{Name: "Per Lund", Street: "Ö Storgatan 4 🐝", Postcode: "208114", Town: "Östvik", Country: "XE"},
		Declaration: &customs.Declaration{Reason: "sale", Terms: "DAP", SenderNumber: "XW99", Currency: "EUR", Signer: "Edda Morrow"}}
	for range 60 {
		c.Declaration.Lines = append(
			c.Declaration.Lines,
			customs.Line{SKU: "JAR", Description: strings.Repeat("Glass jar ", 20), Code: "701090",
				Origin: "XW", Quantity: 2, Value: 900, WeightG: 700},
		)
	}
	c.Declaration.Sum()
	for form, pages := range map[string]int{Invoice: 3, CN22: 8, CN23: 10} {
		var buf bytes.Buffer
		require.NoError(t, WriteCustoms(&buf, form, c))
		require.True(t, bytes.HasPrefix(buf.Bytes(), []byte("%PDF")), form)
		n := bytes.Count(buf.Bytes(), []byte("/Type /Page\n"))
		require.GreaterOrEqual(t, n, pages/2, form)
	}
	require.ErrorContains(t, WriteCustoms(&bytes.Buffer{}, "poem", c), "invoice, cn22 or cn23")
}
