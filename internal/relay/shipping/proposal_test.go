package shipping_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestCartonsAreProposed for what lies in no parcel yet; packed so, the shipment is packed.
func TestCartonsAreProposed(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(60, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 30), trial.Units("LID", 6)) // 100×80×40 mm and 500 g each; the carton carries 8 kg
	number := k.Picked("S-1")
	k.PackUnits(number, "small", units("JAR", 2))
	p, err := k.Propose(ctx, number)
	require.NoError(t, err)
	require.Empty(t, p.Unfit)
	require.Empty(t, p.Unsized)
	require.False(t, p.Tariff)
	require.Len(t, p.Cartons, 3, "34 units of 500 g, 16 to a carton")
	var n int64
	for _, c := range p.Cartons {
		require.Equal(t, "small", c.Profile.Code)
		require.LessOrEqual(t, c.WeightG, c.Profile.MaxG+c.Profile.TareG)
		sum := int64(0)
		for _, q := range c.Units {
			sum += q
		}
		require.Len(t, c.Places, int(sum))
		n += sum
		_, err := k.Pack(ctx, number, shipping.Packing{Profile: c.Profile.Code, Units: c.Units}, "Pim")
		require.NoError(t, err)
	}
	require.EqualValues(t, 34, n)
	s, _ := shipmentOf(t, k, number)
	require.Equal(t, store.ToShip, s.State)
	p, err = k.Propose(ctx, number)
	require.NoError(t, err)
	require.Empty(t, p.Cartons, "nothing is left")
	_, err = k.Propose(ctx, "S777")
	require.ErrorIs(t, err, store.ErrNotFound)
	k.Holds()
}

// TestAProposalIsTheCheapestByTariff, and where the carrier does not tell its tariff, by volume.
func TestAProposalIsTheCheapestByTariff(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	require.NoError(t, k.PutProfile(ctx, crateOf("crate"), "Edda"))
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 4))
	number, err := k.StartPick(ctx, "S-1", "Pim")
	require.NoError(t, err)
	p, err := k.Propose(ctx, number)
	require.NoError(t, err)
	require.Len(t, p.Cartons, 1, "also while it is still to be picked")
	require.Equal(t, "small", p.Cartons[0].Profile.Code)
	require.Equal(t, p.Tariff, p.Cartons[0].Cost > 0)
	k.On("ann", "/tariff", func(trial.Call) (int, any) { return http.StatusInternalServerError, nil })
	k.Later(3600e9)
	p, err = k.Propose(ctx, number)
	require.NoError(t, err)
	require.Len(t, p.Cartons, 1)
}

// TestWhatFitsNoCartonIsSaidAsItComesIn, and no more when there is a carton, or the item turns out to be smaller.
func TestWhatFitsNoCartonIsSaidAsItComesIn(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	ladder := catalog.Item{
		SKU:      "LADDER",
		Name:     "A ladder",
		WeightG:  4000,
		LengthMM: 1900,
		WidthMM:  400,
		HeightMM: 60,
		Price:    8000,
		Currency: "EUR",
	}
	require.NoError(t, k.AddItems(ctx, []listing.Opening{{Item: ladder, Counts: map[int64]int64{k.PlaceID("alder"): 9}}}, "Edda"))
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1), trial.Units("LADDER", 1))
	require.Equal(t, []order.Cause{engine.NoCarton}, k.Causes())
	e := k.Exceptions()[0]
	require.Equal(t, "LADDER", e.Subject)
	require.Contains(t, e.Text, "LADDER (1900×400×60 mm) does not fit into Small carton")
	require.Equal(t, "ready", k.Stage("S-1"), "it is no hold: somebody may send it in another way")
	long := crateOf("long")
	long.LengthMM = 2000
	require.NoError(t, k.PutProfile(ctx, long, "Edda"))
	require.Empty(t, k.Causes())
	require.NoError(t, k.ArchiveProfile(ctx, "long", true, "Edda"))
	k.Sell("S-2", trial.Units("LADDER", 1))
	require.Equal(t, []order.Cause{engine.NoCarton}, k.Causes())
	p, err := k.StartPick(ctx, "S-2", "Pim")
	require.NoError(t, err)
	got, err := k.Propose(ctx, p)
	require.NoError(t, err)
	require.Empty(t, got.Cartons)
	require.Equal(t, []shipping.UnfitUnits{{SKU: "LADDER", Quantity: 1,
		Why: "LADDER (1900×400×60 mm) does not fit into Small carton"}}, got.Unfit)
	k.Sell("S-3", trial.Units("LADDER", 1))
	k.CancelOrder("S-3")
	k.Holds()
}

// TestWhatIsFragileOrUprightLiesSo: a bottle that would fit lying down does not when it has to stand, and nothing stands on glass.
func TestWhatIsFragileOrUprightLiesSo(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	item := func(sku string, l, w, h int64, fragile, upright bool) {
		require.NoError(t, k.AddItems(ctx, []listing.Opening{{Item: catalog.Item{SKU: sku, Name: "A " + sku, WeightG: 500, LengthMM: l,
			WidthMM: w, HeightMM: h, Price: 1000, Currency: "EUR", Fragile: fragile, Upright: upright},
			Counts: map[int64]int64{k.PlaceID("alder"): 9}}}, "test"))
	}
	item("LYING", 100, 100, 200, false, false)
	item("STANDING", 100, 100, 200, false, true)
	item("GLASS", 340, 240, 70, true, false)
	parcels := func(number, sku string, n int64) int {
		k.Sell(number, trial.Units(sku, n))
		p, err := k.Propose(ctx, k.Picked(number))
		require.NoError(t, err)
		return len(p.Cartons)
	}
	require.Equal(t, 1, parcels("S-1", "LYING", 1))
	require.Equal(t, 2, parcels("S-3", "GLASS", 2), "nothing stands on it")
	require.Empty(t, k.Causes())
	k.Sell("S-2", trial.Units("STANDING", 1))
	require.Equal(t, []order.Cause{engine.NoCarton}, k.Causes(), "the carton is 150 mm high")
	before, err := k.Store.Record(ctx, "STANDING")
	require.NoError(t, err)
	require.True(t, before.Upright)
}
