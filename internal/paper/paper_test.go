package paper

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/picking"
	"openrelay/internal/core/place"
)

var maren = place.Address{Name: "Maren Tolland-Ångström", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}

// pdfText reads the words of a PDF where pdftotext is at hand; the check of the pages' number needs nothing.
func pdfText(t *testing.T, pdf []byte) string {
	t.Helper()
	tool, err := exec.LookPath("pdftotext")
	if err != nil {
		return ""
	}
	file := filepath.Join(t.TempDir(), "x.pdf")
	require.NoError(t, os.WriteFile(file, pdf, 0o600))
	out, err := exec.Command(tool, "-layout", file, "-").Output()
	require.NoError(t, err)
	return string(out)
}

func pages(pdf []byte) int {
	return bytes.Count(pdf, []byte("/Type /Page\n"))
}

func TestPickListBreaksPages(t *testing.T) {
	l := PickList{Company: "Morrow Hive Supply", Order: "R10001", ChannelOrder: "MH-1", Shipment: "S1", Place: "Alder Yard",
		ShipTo: maren, Note: "Ring twice", Printed: time.Now()}
	for i := range 40 {
		l.Wants = append(l.Wants,
			picking.Want{SKU: fmt.Sprintf("JAR-%d", i), GTIN: "2007100012474", Title: strings.Repeat("A long name ", 12),
				Bin: fmt.Sprintf("A-%02d-1", i), Quantity: int64(i)})
	}
	var buf bytes.Buffer
	require.NoError(t, WritePickLists(&buf, A4, l))
	require.Equal(t, 4, pages(buf.Bytes()))
	if words := pdfText(t, buf.Bytes()); words != "" {
		require.Contains(t, words, "Pick list R10001")
		require.Contains(t, words, "JAR-39")
		require.Contains(t, words, "Ring twice")
	}
}

func TestLabelSizes(t *testing.T) {
	l := Label{Carrier: "Plover Post", Service: "Plover Parcel", Tracking: "CP407100070XW", Routing: "W1 41", From: maren, To: maren,
		Order: "R1", Shipment: "S1", SSCC: "020000000000000015", WeightG: 7730, Test: true}
	for _, a4 := range []bool{false, true} {
		var buf bytes.Buffer
		require.NoError(t, WriteLabelSheets(&buf, map[bool]string{true: OnA4, false: OnLabels}[a4], 1, LabelPage{Label: l}))
		require.Equal(t, 1, pages(buf.Bytes()))
		box := "[0 0 283.46 425.20]" // 100 × 150 mm in points
		if a4 {
			box = "[0 0 595.28 841.89]"
		}
		require.Contains(t, buf.String(), box)
		if words := pdfText(t, buf.Bytes()); words != "" {
			for _, w := range []string{"Maren Tolland-Ångström", "41360 Harrowmere", "CP 407 100 070 XW", "7.73 kg", "TEST"} {
				require.Contains(t, words, w)
			}
		}
	}
}

func TestManifest(t *testing.T) {
	m := Manifest{Company: "Morrow Hive Supply", Carrier: "Plover Post", Day: "2026-11-23", State: "open", Printed: time.Now()}
	for i := range 70 {
		m.Rows = append(m.Rows, ManifestRow{Tracking: fmt.Sprintf("CP%08dXW", i), Order: "R1", WeightG: 1000, Price: "4.47 EUR"})
	}
	var buf bytes.Buffer
	require.NoError(t, WriteManifest(&buf, m))
	require.Equal(t, 3, pages(buf.Bytes()))
	if words := pdfText(t, buf.Bytes()); words != "" {
		require.Contains(t, words, "70.00 kg")
	}
}

// TestAPickListFitsWhatItIsPrintedOn: a roll is as long as the list; labels are as many as it takes; nothing is left out.
func TestAPickListFitsWhatItIsPrintedOn(t *testing.T) {
	l := PickList{Order: "W10001", Shipment: "3 slots", Place: "Alder Yard", Slots: []string{"1 R10001", "2 R10002", "3 R10003"},
		Printed: time.Now()}
	for i := range 9 {
		l.Wants = append(l.Wants,
			picking.Want{SKU: fmt.Sprintf("JAR-%d", i), Title: "A jar", Bin: fmt.Sprintf("A-%02d-1", i), Quantity: 3})
		l.Shares = append(l.Shares, []picking.Share{{Slot: 1, Quantity: 2}, {Slot: i, Quantity: 1}})
	}
	for size, want := range map[Size]int{A4: 1, Roll: 1, LabelSize: 3} {
		var buf bytes.Buffer
		require.NoError(t, WritePickLists(&buf, size, l))
		require.Equal(t, want, pages(buf.Bytes()), size)
		if words := pdfText(t, buf.Bytes()); words != "" {
			for _, w := range []string{"Round W10001", "3 R10003", "JAR-8", "A-08-1", "1 into slot 8"} {
				require.Contains(t, words, w, size)
			}
		}
	}
	require.True(t, Roll.Known())
	require.False(t, Size("a3").Known())
}

// TestAPackingSlip says what is in a carton, with the buyer's words, and with prices only where they are wished for.
func TestAPackingSlip(t *testing.T) {
	s := PackingSlip{
		Company:      "Morrow Hive Supply",
		Order:        "R10001",
		ChannelOrder: "MH-1",
		Parcel:       "S1-2",
		Of:           "2/3",
		From:         maren,
		To:           maren,
		Day:          "2026-11-29",
		Gift:         "For the garden\nfrom all of us",
		Total:        "30.00 EUR",
		Language:     "de",
	}
	for i := range 26 {
		s.Rows = append(
			s.Rows,
			PackingSlipRow{SKU: fmt.Sprintf("JAR-%d", i), Title: "Honigglas", Price: "1.00", Sum: "1.00 EUR", Quantity: 1,
				Serials: []string{"SN-1"}},
		)
	}
	for _, prices := range []bool{false, true} {
		s.Prices = prices
		var buf bytes.Buffer
		require.NoError(t, WritePackingSlips(&buf, s))
		require.Equal(t, 3, pages(buf.Bytes()))
		if words := pdfText(t, buf.Bytes()); words != "" {
			for _, w := range []string{"Packzettel S1-2", "Paket 2/3", "JAR-25", "SN-1", "For the garden", "from all of us"} {
				require.Contains(t, words, w)
			}
			require.Equal(t, prices, strings.Contains(words, "30.00 EUR"))
			require.Equal(t, prices, strings.Contains(words, "1.00 EUR"))
		}
	}
}
