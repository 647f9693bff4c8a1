package paper

import (
	"bytes"
	"image"
	"image/png"
	"testing"

	"codeberg.org/go-pdf/fpdf"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/place"
)

// made is a label as a carrier made it: PDF, or PNG.
func made(t *testing.T, form string) []byte {
	t.Helper()
	var buf bytes.Buffer
	if form == "png" {
		require.NoError(t, png.Encode(&buf, image.NewGray(image.Rect(0, 0, 400, 600))))
		return buf.Bytes()
	}
	p := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: fpdf.SizeType{Wd: 100, Ht: 150}})
	p.AddPage()
	p.SetFont("Helvetica", "B", 18)
	p.Text(8, 20, "SWIFT HERON")
	require.NoError(t, p.Output(&buf))
	return buf.Bytes()
}

// TestLabelsOnSheets: drawn here or made by carriers, in one document; the free places of an A4 sheet are used.
func TestLabelsOnSheets(t *testing.T) {
	drawn := LabelPage{Label: Label{Carrier: "Plover Post", Service: "Parcel", Tracking: "CP407100155XW", Routing: "W2 60",
		To: place.Address{Name: "Per Lund", Street: "Linden Row 3", Postcode: "60277", Town: "Harrowmere", Country: "XW"}}}
	pdf, dots := drawn, drawn
	pdf.Document, pdf.Form, pdf.Tracking = made(t, "pdf"), "pdf", "SH500000013"
	dots.Document, dots.Form, dots.Tracking = made(t, "png"), "png", "IW1"
	labels := []LabelPage{drawn, pdf, dots, drawn, pdf}
	for _, c := range []struct {
		size         string
		first, pages int
	}{{OnLabels, 1, 5}, {OnRoll, 1, 5}, {OnA4, 1, 2}, {OnA4, 4, 2}, {OnA4, 2, 2}} {
		var buf bytes.Buffer
		require.NoError(t, WriteLabelSheets(&buf, c.size, c.first, labels...))
		require.Equal(t, c.pages, bytes.Count(buf.Bytes(), []byte("/Type /Page\n")), "%s from %d", c.size, c.first)
	}
	var buf bytes.Buffer
	require.ErrorContains(t, WriteLabelSheets(&buf, "a5", 1, drawn), "label, a4 or roll")
	require.ErrorContains(t, WriteLabelSheets(&buf, OnA4, 5, drawn), "places 1 to 4")
	for _, form := range []string{"pdf", "png"} {
		broken := drawn
		broken.Document, broken.Form = []byte("%PDF-1.4 nothing"), form
		require.ErrorContains(t, WriteLabelSheets(&buf, OnLabels, 1, broken), "print it by itself")
	}
	require.NoError(t, WriteTestPage(&buf, OnA4, "Bench 1", "now"))
}
