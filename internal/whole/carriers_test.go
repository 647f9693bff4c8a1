package whole

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/demo"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/standin"
)

// getRaw asks for what is no JSON.
func getRaw(t *testing.T, w *demo.World, path string) (string, int) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, w.URL+"/api/v1"+path, nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+w.Token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return string(raw), res.StatusCode
}

// TestASecondCarrier as unlike the first as carriers are: compared, bought with its own label, voided, handed over, and followed by
// reading.
func TestASecondCarrier(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.JoinIronway(ctx))
	_, name := sellReady(t, w, jars(1))
	v, err := w.PackOne(ctx, name)
	require.NoError(t, err)
	rates, err := w.Client.Rates(ctx, v.Number)
	require.NoError(t, err)
	of := map[string]shipping.Rate{}
	for _, r := range rates {
		of[r.Carrier+"/"+r.Service] = r
	}
	rail := of["ironway/IR"]
	require.Empty(t, rail.Refused)
	require.True(t, rail.Agrees, "our own sum is the carrier's: %+v", rail)
	require.NotEmpty(t, of["plover/PP"].Arrives)

	p, err := w.Client.Ship(ctx, v.Number, "ironway", "IR")
	require.NoError(t, err)
	require.Equal(t, "shipped", p.State, p.Error)
	require.Equal(t, rail.Price, p.Price)
	require.Len(t, p.Tracking, 18, "an SSCC")
	require.Equal(t, "zpl", p.LabelForm)
	raw, status := getRaw(t, w, "/parcels/"+p.Number+"/carrier-label")
	require.Equal(t, 200, status)
	require.True(t, strings.HasPrefix(raw, "^XA") && strings.Contains(raw, p.Tracking), "the printer's language goes through unchanged")
	drawn, status := getRaw(t, w, "/parcels/"+p.Number+"/label.pdf")
	require.Equal(t, 200, status)
	require.True(t, strings.HasPrefix(drawn, "%PDF"))

	voided, err := w.Client.VoidLabel(ctx, p.Number, false)
	require.NoError(t, err)
	require.Equal(t, "packed", voided.State)
	require.True(t, w.Ironway.Sold()[0].Voided)
	p, err = w.Client.Ship(ctx, v.Number, "ironway", "IR")
	require.NoError(t, err)
	require.Len(t, w.Ironway.Sold(), 2)
	again, err := w.Client.CloseManifest(ctx, p.ManifestID)
	require.NoError(t, err)
	require.NotEmpty(t, again.State)

	for range 5 {
		require.NoError(t, w.Ironway.Move(p.Tracking))
	}
	_, err = w.Client.RunNow(ctx, "ironway", "tracking in", "")
	require.NoError(t, err)
	eventually(t, "it is delivered", func() bool {
		got, err := w.Client.Parcel(ctx, p.Number)
		require.NoError(t, err)
		return got.State == "delivered"
	})
}

// TestALostAnswerOfACarrierWithoutReferences buys once: it is asked what it has under our reference before anything is sent again.
func TestALostAnswerOfACarrierWithoutReferences(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.JoinIronway(ctx))
	_, name := sellReady(t, w, jars(1))
	v, err := w.PackOne(ctx, name)
	require.NoError(t, err)
	w.Ironway.Misbehave(standin.Faults{LoseAnswer: true, Count: 1, Only: "/consignments"})
	_, err = w.Client.Ship(ctx, v.Number, "ironway", "IR")
	require.NoError(t, err)
	eventually(t, "its label is known", func() bool {
		p, err := w.Client.Parcel(ctx, v.Number)
		require.NoError(t, err)
		return p.State == "shipped" && p.LabelForm == "zpl"
	})
	require.Len(t, w.Ironway.Sold(), 1)
}

// TestWhatRailDoesNotTake is refused before anything is bought, and said of the field that is wrong.
func TestWhatRailDoesNotTake(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.JoinIronway(ctx))
	sale := jars(1)
	sale.Delivery.Street = "The Very Long Street Beside the Old Orchard 14"
	_, name := sellReady(t, w, sale)
	v, err := w.PackOne(ctx, name)
	require.NoError(t, err)
	p, err := w.Client.Ship(ctx, v.Number, "ironway", "IR")
	require.NoError(t, err)
	require.Equal(t, "packed", p.State)
	require.Contains(t, p.Error, "at most 35 letters")
	require.Equal(t, "to.street", p.WrongField)
	require.Empty(t, w.Ironway.Sold())
	_, status := getRaw(t, w, "/parcels/"+p.Number+"/carrier-label")
	require.Equal(t, http.StatusConflict, status, "it has none yet")
}

// TestAThirdCarrier lets programs in by tokens that run out, asks more for homes, hands its label out by a second request, and calls
// with news.
func TestAThirdCarrier(t *testing.T) {
	w := openWorld(t, false)
	ctx := t.Context()
	require.NoError(t, w.JoinHeron(ctx))
	_, name := sellReady(t, w, jars(1))
	v, err := w.PackOne(ctx, name)
	require.NoError(t, err)
	rates, err := w.Client.Rates(ctx, v.Number)
	require.NoError(t, err)
	terms := ""
	for _, r := range rates {
		if r.Carrier == "heron" && r.Refused == "" {
			require.True(t, r.Agrees, "%+v", r)
			for _, x := range r.Terms {
				terms += x.Text + "; "
			}
		}
	}
	require.Contains(t, terms, "To a home")
	w.Heron.Misbehave(standin.Faults{LoseAnswer: true, Count: 1, Only: "/jobs"})
	p, err := w.Client.Ship(ctx, v.Number, "heron", "SH-ECO")
	require.NoError(t, err)
	eventually(t, "its label is known", func() bool {
		p, err = w.Client.Parcel(ctx, v.Number)
		require.NoError(t, err)
		return p.State == "shipped"
	})
	require.Len(t, w.Heron.Sold(), 1, "the same reference is the same job")
	require.Equal(t, "document", p.LabelForm, "it is asked for when it is wanted")

	w.Heron.Misbehave(standin.Faults{Status: 500, Count: 1, Only: "/label"})
	text, status := getRaw(t, w, "/parcels/"+p.Number+"/carrier-label")
	require.Equal(t, http.StatusUnprocessableEntity, status, text)
	require.Contains(t, text, "the label can be drawn here instead")
	first, status := getRaw(t, w, "/parcels/"+p.Number+"/carrier-label")
	require.Equal(t, 200, status)
	require.True(t, strings.HasPrefix(first, "%PDF-") && strings.Contains(first, p.Tracking))
	w.Heron.Misbehave(standin.Faults{Status: 500})
	again, status := getRaw(t, w, "/parcels/"+p.Number+"/carrier-label")
	require.Equal(t, 200, status, "it was kept")
	require.Equal(t, first, again)
	w.Heron.Misbehave(standin.Faults{})
	p, err = w.Client.Parcel(ctx, v.Number)
	require.NoError(t, err)
	require.Equal(t, "pdf", p.LabelForm)

	for range 4 {
		require.NoError(t, w.Heron.Move(p.Tracking))
	}
	eventually(t, "it is delivered", func() bool {
		got, err := w.Client.Parcel(ctx, p.Number)
		require.NoError(t, err)
		return got.State == "delivered"
	})
}
