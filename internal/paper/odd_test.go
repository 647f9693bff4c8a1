package paper

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/picking"
	"openrelay/internal/core/place"
)

// oddPapers draws everything with a text in every place that comes from outside.
func oddPapers(t testing.TB, s string) {
	t.Helper()
	to := place.Address{Name: s, Company: s, Street: s, Extra: s, Postcode: s, Town: s, Country: "XW"}
	var buf bytes.Buffer
	require.NoError(t, WriteLabelSheets(&buf, OnLabels, 1, LabelPage{Label: Label{Carrier: s, Service: s, Tracking: "RR123456785XW",
		Routing: s, Imprint: s, From: to, To: to, Order: s, Shipment: s, SSCC: s}}))
	require.NoError(t, WriteCodeSheet(&buf, CodeSheet{Company: s, Commands: Commands, Cartons: []Code{{s, s, s}}}))
	require.NoError(t, WritePickLists(&buf, A4, PickList{Company: s, Order: s, ChannelOrder: s,
		Shipment: s, Place: s, ShipTo: to, Note: s, Wish: s, Gift: s,
		Wants: []picking.Want{{SKU: s, GTIN: s, Title: s, Bin: s, Quantity: 1}}}))
	require.NoError(t, WriteManifest(&buf,
		Manifest{Company: s, Carrier: s, Day: s, State: s, Receipt: s,
			Rows: []ManifestRow{{Tracking: s, Service: s, Order: s, To: s, Price: s}}}))
	require.True(t, bytes.HasPrefix(buf.Bytes(), []byte("%PDF-")))
}

func TestWhatFontsCannotDrawIsReplaced(t *testing.T) {
	for in, want := range map[string]string{
		"Maren Tolland": "Maren Tolland", "Łucja Ωmega Пчела": "Łucja Ωmega Пчела", "Bee 🐝!": "Bee □!", "👩‍🌾 farm": "□□ farm", "蜂": "□",
		"a\tb\nc": "a b c", "\xff": "□", "": "",
	} {
		require.Equal(t, want, drawable(sans, "", in), "%q", in)
	}
	oddPapers(t, "Bee 🐝 of the 蜂 \x00 meadow")
}

// TestALongNoteIsDrawnQuickly: the time does not grow with the length of a text beyond what a line holds.
func TestALongNoteIsDrawnQuickly(t *testing.T) {
	begin := time.Now()
	oddPapers(t, strings.Repeat("🐝 honey ", 5000))
	require.Less(t, time.Since(begin), 10*time.Second, "it took 19 s for one note when each shorter text was measured")
}

func TestFittedKeepsWhatFits(t *testing.T) {
	p := newPDF(100, 100, "")
	p.SetFont(sans, "", 9)
	require.Equal(t, "short", fitted(p, "short", 50))
	out := fitted(p, strings.Repeat("honey ", 30), 30)
	require.True(t, strings.HasSuffix(out, "…"))
	require.LessOrEqual(t, p.GetStringWidth(out), 30.0)
	require.Greater(t, p.GetStringWidth(out), 26.0, "as much as fits")
}

func FuzzPapers(f *testing.F) {
	for _, s := range []string{"Maren", "🐝", "\xff\xfe", "a\x00b", strings.Repeat("x", 3000), "‮right to left"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) { oddPapers(t, s) })
}
