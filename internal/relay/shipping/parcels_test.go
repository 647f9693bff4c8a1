package shipping_test

import (
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// units are units of one item.
func units(sku string, n int64) map[string]int64 { return map[string]int64{sku: n} }

// shipmentOf is a shipment as it stands, with its parcels.
func shipmentOf(t *testing.T, k *trial.Kit, number string) (store.Shipment, []store.Parcel) {
	t.Helper()
	s, err := k.Store.Shipment(t.Context(), number)
	require.NoError(t, err)
	list, err := k.Store.ParcelsOf(t.Context(), s.ID)
	require.NoError(t, err)
	return s, list
}

// TestAShipmentLeavesInSeveralParcels: each with its own contents and label; the channel hears what is in which.
func TestAShipmentLeavesInSeveralParcels(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 5), trial.Units("LID", 1))
	number := k.Picked("S-1")
	one := k.PackUnits(number, "small", units("JAR", 2))
	s, _ := shipmentOf(t, k, number)
	require.Equal(t, store.ToPick, s.State, "not all of it lies in parcels")
	_, err := k.Pack(t.Context(), number, shipping.Packing{Profile: "small", Units: units("JAR", 4)}, "Pim")
	require.ErrorContains(t, err, "1 × JAR more than is picked and lies in no parcel")
	_, err = k.Pack(t.Context(), number, shipping.Packing{Profile: "small", Units: units("JAR", -1)}, "Pim")
	require.ErrorContains(t, err, "at least 1 × JAR")
	require.NoError(t, k.Label(one, "ann"))
	require.Equal(t, "part shipped", k.Stage("S-1"))
	require.NoError(t, k.PackInto(number, "small"), "the rest")
	s, parcels := shipmentOf(t, k, number)
	require.Equal(t, store.ToShip, s.State)
	require.Equal(t, []string{number, number + "-2"}, []string{parcels[0].Number, parcels[1].Number})
	require.NotEqual(t, parcels[0].SSCC, parcels[1].SSCC)
	require.NoError(t, k.Label(parcels[1].Number, "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	s, parcels = shipmentOf(t, k, number)
	require.Equal(t, store.Gone, s.State)
	require.NotEqual(t, parcels[0].Tracking, parcels[1].Tracking)
	calls := k.Sent("stall", "/parcels")
	require.Len(t, calls, 2)
	require.Equal(t, parcels[0].Tracking, calls[0].Body["tracking"])
	require.Equal(t, parcels[1].Tracking, calls[1].Body["tracking"])
	require.NotEqual(t, calls[0].Body["reference"], calls[1].Body["reference"])
	require.EqualValues(t, 4, k.OnHand("JAR"))
	k.Holds()
}

// TestAKitOverTwoParcels leaves with its last part; the number of the first parcel is told by a person.
func TestAKitOverTwoParcels(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	require.NoError(t, k.CreateItem(t.Context(), catalog.Item{SKU: "SET", Name: "Set", Kind: catalog.Kit, Price: 1500, Currency: "EUR",
		Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 1}}}, "Edda"))
	k.Sell("S-1", trial.Units("SET", 2))
	number := k.Picked("S-1")
	one := k.PackUnits(number, "small", units("JAR", 3))
	require.NoError(t, k.PackInto(number, "small"))
	require.NoError(t, k.Label(one, "ann"))
	require.Equal(t, []order.Cause{engine.NumberUntold}, k.Causes())
	require.Equal(t, k.ParcelOf(one).Tracking, k.Exceptions()[0].Subject)
	require.Empty(t, k.Sent("stall", "/parcels"), "no whole unit left")
	require.Equal(t, "packed", k.Stage("S-1"))
	k.Holds()
	require.NoError(t, k.Label(number+"-2", "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.Len(t, k.Sent("stall", "/parcels"), 1)
	require.EqualValues(t, 5, k.OnHand("JAR"))
	require.EqualValues(t, 7, k.OnHand("LID"))
	k.Holds()
}

// TestAParcelIsUnpacked as long as it has no label: what was in it is picked, and can be put back to its bin.
func TestAParcelIsUnpacked(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2), trial.Units("LID", 1))
	number := k.Packed("S-1")
	require.ErrorContains(t, k.TakeBack(ctx, number, "JAR", 1, "Pim"), "there is nothing to take back")
	require.NoError(t, k.Unpack(ctx, number, "Pim"))
	require.Equal(t, "picking", k.Stage("S-1"))
	s, parcels := shipmentOf(t, k, number)
	require.Equal(t, store.ToPick, s.State)
	require.Equal(t, store.CalledOff, parcels[0].State)
	require.ErrorContains(t, k.Unpack(ctx, number, "Pim"), "is called off")
	require.ErrorContains(t, k.TakeBack(ctx, number, "JAR", 3, "Pim"), "2 × JAR are picked and lie in no parcel")
	require.ErrorContains(t, k.TakeBack(ctx, number, "SMOKER", 1, "Pim"), "not among what is picked")
	require.ErrorContains(t, k.TakeBack(ctx, number, "JAR", -1, "Pim"), "at least 1")
	require.NoError(t, k.TakeBack(ctx, number, "JAR", 2, "Pim"))
	require.NoError(t, k.TakeBack(ctx, number, "LID", 0, "Pim"))
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.EqualValues(t, []int64{2, 0, 0}, []int64{o.Lines[0].Allocated, o.Lines[0].Picked, o.Lines[0].Packed})
	k.Holds()
	again := k.Packed("S-1")
	require.Equal(t, number, again, "the shipment goes on")
	require.NoError(t, k.Label(number+"-2", "ann"))
	require.ErrorContains(t, k.Unpack(ctx, number+"-2", "Pim"), "only a return brings it back")
	require.ErrorContains(t, k.Repack(ctx, number+"-2", shipping.Packing{Profile: "small"}, "Pim"), "cannot be packed")
	k.Holds()
}

// TestWhatIsPackedIsCancelled: units are taken out of the newest parcel first; what has left stays, and so does what has its
// label bought.
func TestWhatIsPackedIsCancelled(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 6))
	number := k.Picked("S-1")
	for range 3 {
		k.PackUnits(number, "small", units("JAR", 2))
	}
	require.NoError(t, k.Label(number, "ann"))
	k.Take("stall", trial.Event("order", "S-1", 2, trial.Sale("S-1", trial.Units("JAR", 3))))
	s, parcels := shipmentOf(t, k, number)
	require.Equal(t, store.ToShip, s.State)
	require.EqualValues(t, 1, parcels[1].Lines[0].Quantity)
	require.Equal(t, store.CalledOff, parcels[2].State)
	require.Contains(t, k.Causes(), engine.PutBack)
	k.Holds()
	require.NoError(t, k.Label(number+"-2", "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	k.Holds()
}

// TestALabelOfACancelledParcelAmongOthers: the order is cancelled while one of its parcels has its label bought.
func TestALabelOfACancelledParcelAmongOthers(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 4))
	number := k.Picked("S-1")
	for range 2 {
		k.PackUnits(number, "small", units("JAR", 2))
	}
	require.NoError(t, k.AskLabel(t.Context(), number, shipping.Purchase{Carrier: "ann", Service: "slow"}, "Pim"))
	require.ErrorContains(t, k.Unpack(t.Context(), number, "Pim"), "must be known before it is unpacked")
	gone := trial.Sale("S-1", trial.Units("JAR", 4))
	gone.Status = message.Cancelled
	k.Take("stall", trial.Event("order", "S-1", 2, gone))
	s, parcels := shipmentOf(t, k, number)
	require.Equal(t, store.CalledOff, s.State)
	require.Equal(t, []string{store.CalledOff, store.CalledOff}, []string{parcels[0].State, parcels[1].State})
	require.EqualValues(t, 9, k.OnHand("JAR"))
	k.Holds()
}

// TestAParcelIsPackedAnew: into another carton, or weighed; of several parcels it must be said which.
func TestAParcelIsPackedAnew(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(9, "JAR")
	require.NoError(t, k.PutProfile(ctx, crateOf("crate"), "Edda"))
	k.Sell("S-1", trial.Units("JAR", 4))
	number := k.Packed("S-1")
	require.NoError(t, k.PackInto(number, "crate"), "there is one parcel only")
	require.Equal(t, "crate", k.ParcelOf(number).Profile)
	require.NoError(t, k.Unpack(ctx, number, "Pim"))
	two := k.PackUnits(number, "small", units("JAR", 1))
	require.NoError(t, k.PackInto(number, "small"))
	require.ErrorContains(t, k.PackInto(number, "crate"), "lies in 2 parcels; say which")
	require.ErrorContains(t, k.Repack(ctx, two, shipping.Packing{Profile: "crate", WeightG: 4100}, "Pim"),
		"4.100 kg were weighed, and carton and contents should weigh 1.400 kg")
	require.NoError(t, k.Repack(ctx, two, shipping.Packing{Profile: "crate", WeightG: 4100, Sure: true}, "Pim"))
	p := k.ParcelOf(two)
	require.Equal(t, []any{"crate", int64(4100)}, []any{p.Profile, p.WeightG})
	require.ErrorContains(t, k.Repack(ctx, two, shipping.Packing{Profile: "barrel"}, "Pim"), "barrel")
	k.Holds()
}

// TestParcelsHoldWhatIsPickedWhateverIsDone: scans, cartons, unpacking, labels and cancellations in any order leave every
// packed unit in exactly one parcel.
func TestParcelsHoldWhatIsPickedWhateverIsDone(t *testing.T) {
	for seed := range uint64(12) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			rng := rand.New(rand.NewPCG(seed, 7))
			k := trial.New(t, "ann")
			ctx := t.Context()
			k.Stock(40, "JAR", "LID")
			require.NoError(t, k.CreateItem(ctx, catalog.Item{SKU: "SET", Name: "Set", Kind: catalog.Kit, Price: 1500, Currency: "EUR",
				Parts: []catalog.Part{{SKU: "JAR", Quantity: 2}, {SKU: "LID", Quantity: 1}}}, "Edda"))
			ordered, version := int64(4), 1
			k.Sell("S-1", trial.Units("SET", 3), trial.Units("JAR", ordered))
			number, err := k.StartPick(ctx, "S-1", "Pim")
			require.NoError(t, err)
			for range 40 {
				_, parcels := shipmentOf(t, k, number)
				any := number
				if len(parcels) > 0 {
					any = parcels[rng.IntN(len(parcels))].Number
				}
				sku := []string{"JAR", "LID"}[rng.IntN(2)]
				switch rng.IntN(9) { // what cannot be done now is refused
				case 0, 1, 2:
					_, _ = k.Scan(ctx, number, sku, "", 1+rng.Int64N(3), "Pim")
				case 3, 4:
					_, _ = k.Pack(ctx, number, shipping.Packing{Profile: "small", Units: units(sku, 1+rng.Int64N(3))}, "Pim")
				case 5:
					_ = k.TakeBack(ctx, number, sku, 1, "Pim")
				case 6:
					_ = k.Unpack(ctx, any, "Pim")
				case 7:
					_ = k.Label(any, "ann")
				case 8:
					if ordered > 0 && rng.IntN(3) == 0 {
						ordered, version = ordered-1, version+1
						k.Take("stall", trial.Event("order", "S-1", version, trial.Sale("S-1", trial.Units("SET", 3),
							trial.Units("JAR", ordered))))
					}
				}
				k.Holds()
			}
		})
	}
}

func crateOf(code string) packing.Profile {
	return packing.Profile{Code: code, Name: "A crate", LengthMM: 600, WidthMM: 400, HeightMM: 300, TareG: 900, MaxG: 20_000}
}
