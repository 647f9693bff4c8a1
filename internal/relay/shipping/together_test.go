package shipping_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// pairKit has two orders to one recipient that travel together and are picked; it returns their shipments.
func pairKit(t *testing.T) (k *trial.Kit, a, b string) {
	k = trial.New(t, "ann", "bob")
	k.Stock(5, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("LID", 1), trial.Units("JAR", 1))
	require.NoError(t, k.SendTogether(t.Context(), "S-1", []string{"S-2"}, "Pim"))
	return k, k.Picked("S-1"), k.Picked("S-2")
}

// packedPair has the two of them packed into one carton.
func packedPair(t *testing.T) (k *trial.Kit, a, b string) {
	k, a, b = pairKit(t)
	require.NoError(t, k.PackInto(a, "small"))
	return k, a, b
}

// TestTwoOrdersLeaveAsOne: one carton, one label, one price and one place on the list, and each channel hears of its own.
func TestTwoOrdersLeaveAsOne(t *testing.T) {
	k, a, b := packedPair(t)
	own, rider := k.ParcelOf(a), k.ParcelOf(b)
	require.Equal(t, []any{own.ID, a, store.ToShip, b}, []any{rider.TravelsIn, rider.Carton, rider.State, own.Riders})
	require.Equal(t, int64(220+4*500), own.WeightG, "carton and contents of both")
	require.Equal(t, []string{"packed", "packed"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Holds()

	require.NoError(t, k.Label(b, "ann"), "whichever of them is named, the carton is meant")
	own, rider = k.ParcelOf(a), k.ParcelOf(b)
	require.Equal(t, []string{store.Gone, store.Gone}, []string{own.State, rider.State})
	require.NotEmpty(t, own.Tracking)
	require.Equal(t, own.Tracking, rider.Tracking)
	require.Equal(t, []int64{0, 0}, []int64{rider.Price, rider.ManifestID})
	require.Equal(t, a, k.ParcelOf(own.Tracking).Number, "the number is the carton's")
	require.Len(t, k.Sent("ann", "/labels"), 1)
	one, two := told(t, k, "S-1"), told(t, k, "S-2")
	require.Equal(t, []string{"S-1", "S-2"}, []string{one.OrderNumber, two.OrderNumber})
	require.Equal(t, []string{own.Tracking, own.Tracking}, []string{one.Tracking, two.Tracking})
	require.NotEqual(t, one.Reference, two.Reference)
	require.Equal(t, []message.DispatchLine{{ID: "1", SKU: "LID", Quantity: 1}, {ID: "2", SKU: "JAR", Quantity: 1}}, two.Lines)
	require.Equal(t, []int64{2, 4}, []int64{k.OnHand("JAR"), k.OnHand("LID")})
	k.Holds()

	scanned(t, k, "T-1", own.Tracking, "delivered")
	require.Equal(t, []string{"delivered", "delivered"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Holds()
}

// TestTheFirstOfTwoIsCancelled: the other keeps the carton, and what was put into it is asked back.
func TestTheFirstOfTwoIsCancelled(t *testing.T) {
	k, a, b := packedPair(t)
	sscc := k.ParcelOf(a).SSCC
	k.CancelOrder("S-1")
	k.Settle()
	require.Equal(t, store.CalledOff, k.ParcelOf(a).State)
	own := k.ParcelOf(b)
	require.Equal(t, []any{int64(0), store.ToShip, "small", sscc, int64(220 + 2*500)},
		[]any{own.TravelsIn, own.State, own.Profile, own.SSCC, own.WeightG})
	require.Equal(t, []order.Cause{engine.PutBack}, k.Causes())
	k.Holds()
	require.NoError(t, k.Label(b, "ann"))
	require.Equal(t, []string{"cancelled", "shipped"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	require.Equal(t, int64(4), k.OnHand("JAR"))
	k.Holds()
}

// TestTheSecondOfTwoIsCancelled: the carton weighs less and leaves with the first.
func TestTheSecondOfTwoIsCancelled(t *testing.T) {
	k, a, b := packedPair(t)
	k.CancelOrder("S-2")
	k.Settle()
	require.Equal(t, store.CalledOff, k.ParcelOf(b).State)
	require.Equal(t, []any{"", int64(220 + 2*500)}, []any{k.ParcelOf(a).Riders, k.ParcelOf(a).WeightG})
	k.Holds()
	require.NoError(t, k.Label(a, "ann"))
	require.Equal(t, []string{"shipped", "cancelled"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Holds()
}

// TestOneOfTwoIsCancelledWhileTheLabelIsBought: the carton leaves with what is left in it; only where nothing is, the label is void.
func TestOneOfTwoIsCancelledWhileTheLabelIsBought(t *testing.T) {
	for _, c := range []struct {
		name      string
		cancelled []string
		stages    []string
		causes    []order.Cause
	}{
		{"the first", []string{"S-1"}, []string{"cancelled", "shipped"}, []order.Cause{engine.PutBack}},
		{"the second", []string{"S-2"}, []string{"shipped", "cancelled"}, []order.Cause{engine.PutBack}},
		{"both", []string{"S-1", "S-2"}, []string{"cancelled", "cancelled"},
			[]order.Cause{order.LateCancel, engine.PutBack, engine.PutBack}},
	} {
		t.Run(c.name, func(t *testing.T) {
			k, a, _ := packedPair(t)
			require.NoError(t, k.AskLabel(t.Context(), a, shipping.Purchase{Carrier: "ann", Service: "slow"}, "Pim"))
			for _, n := range c.cancelled {
				gone := trial.Sale(n, trial.Units("JAR", 2))
				if n == "S-2" {
					gone = trial.Sale(n, trial.Units("LID", 1), trial.Units("JAR", 1))
				}
				gone.State, gone.Status = "cancelled", message.Cancelled
				k.Push("stall", trial.Event("order", n, 2, gone))
			}
			k.Settle()
			require.Equal(t, c.stages, []string{k.Stage("S-1"), k.Stage("S-2")})
			causes := k.Causes()
			slices.Sort(causes)
			want := slices.Clone(c.causes)
			slices.Sort(want)
			require.Equal(t, want, causes)
			require.Len(t, k.Sent("ann", "/labels"), 1)
			k.Holds()
		})
	}
}

// TestACartonOfTwoIsVoided: both come back packed, both channels hear of it, and it leaves by another number.
func TestACartonOfTwoIsVoided(t *testing.T) {
	k, a, b := packedPair(t)
	require.NoError(t, k.Label(a, "ann"))
	first := k.ParcelOf(a).Tracking
	require.NoError(t, askVoid(t, k, b))
	require.Len(t, k.Sent("ann", "/voids"), 1)
	require.Equal(t, []string{store.ToShip, store.ToShip, "", ""},
		[]string{k.ParcelOf(a).State, k.ParcelOf(b).State, k.ParcelOf(a).Tracking, k.ParcelOf(b).Tracking})
	require.Equal(t, []bool{true, true}, []bool{told(t, k, "S-1").Withdrawn, told(t, k, "S-2").Withdrawn})
	require.Equal(t, int64(5), k.OnHand("JAR"))
	k.Holds()
	require.NoError(t, k.Label(a, "bob"))
	require.NotEqual(t, first, told(t, k, "S-2").Tracking)
	require.Empty(t, k.Causes())
	k.Holds()
}

// TestARefusedLabelLeavesBothPacked, and a typed number lets both leave; a corrected one reaches both channels.
func TestARefusedLabelLeavesBothPacked(t *testing.T) {
	k, a, b := packedPair(t)
	k.On("ann", "/labels", refusing)
	require.NoError(t, k.Label(a, "ann"))
	require.Equal(t, []string{store.ToShip, store.ToShip}, []string{k.ParcelOf(a).State, k.ParcelOf(b).State})
	require.Equal(t, []order.Cause{engine.LabelRefused}, k.Causes())
	k.Holds()
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "cart", Name: "Hand Cart"}, "Edda"))
	require.NoError(t, k.TypeNumber(t.Context(), b, shipping.Typed{Carrier: "cart", Number: "HC 1"}, "Pim"))
	k.Settle()
	require.Empty(t, k.Causes())
	require.Equal(t, []string{"HC 1", "HC 1"}, []string{told(t, k, "S-1").Tracking, told(t, k, "S-2").Tracking})
	k.Holds()
	require.NoError(t, k.TypeNumber(t.Context(), a, shipping.Typed{Carrier: "cart", Number: "HC 2"}, "Pim"))
	k.Settle()
	require.Equal(t, []string{"HC 2", "HC 2"}, []string{told(t, k, "S-1").Tracking, told(t, k, "S-2").Tracking})
	k.Holds()
}

// TestOneIsTakenOutOfTheCarton, and put back into it.
func TestOneIsTakenOutOfTheCarton(t *testing.T) {
	k, a, b := packedPair(t)
	require.ErrorContains(t, k.SendAlone(t.Context(), "S-2", "Pim"), "lies in a carton with others; unpack it first")
	require.NoError(t, k.Unpack(t.Context(), b, "Pim"))
	require.Equal(t, []string{"packed", "picking"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	require.Equal(t, int64(220+2*500), k.ParcelOf(a).WeightG)
	k.Holds()
	n, err := k.Pack(t.Context(), b, shipping.Packing{Into: a}, "Pim")
	require.NoError(t, err)
	require.Equal(t, a, n)
	require.Equal(t, int64(220+4*500), k.ParcelOf(a).WeightG)
	k.Holds()
	require.NoError(t, k.Unpack(t.Context(), a, "Pim"), "with the carton, all that lies in it")
	require.Equal(t, []string{"picking", "picking"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	require.NoError(t, k.SendAlone(t.Context(), "S-2", "Pim"))
	require.ErrorContains(t, k.SendAlone(t.Context(), "S-2", "Pim"), "travels alone")
	require.NoError(t, k.PackInto(a, "small"))
	require.Equal(t, []string{"packed", "picking"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	_, err = k.Pack(t.Context(), b, shipping.Packing{Into: a}, "Pim")
	require.ErrorContains(t, err, "is called off; nothing more goes into it")
	_, err = k.Pack(t.Context(), b, shipping.Packing{Into: a + "-2"}, "Pim")
	require.ErrorContains(t, err, "is of another shipment, which does not travel with this one")
	k.Holds()
}

// TestUnitsOfBothInTwoCartons: units are said over all that travel together; what is not picked there is said.
func TestUnitsOfBothInTwoCartons(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Sell("S-2", trial.Units("JAR", 2), trial.Units("LID", 1))
	require.NoError(t, k.SendTogether(t.Context(), "S-2", []string{"S-1"}, "Pim"))
	a := k.Picked("S-1")
	require.ErrorContains(t, k.PackInto(a, "small"), "travels with it, and 2 × JAR is still to be picked for that")
	b := k.Picked("S-2")
	p, err := k.Propose(t.Context(), a)
	require.NoError(t, err)
	units := map[string]int64{}
	for _, c := range p.Cartons {
		for sku, n := range c.Units {
			units[sku] += n
		}
	}
	require.Equal(t, map[string]int64{"JAR": 4, "LID": 1}, units, "cartons are proposed for both")
	first := k.PackUnits(a, "small", map[string]int64{"JAR": 3})
	require.Equal(t, a, first)
	second := k.PackUnits(a, "small", map[string]int64{"JAR": 1, "LID": 1})
	require.Equal(t, b+"-2", second, "what is left is the other's: it has a carton of its own")
	require.Equal(t, []int64{k.ParcelOf(a).ID, 0}, []int64{k.ParcelOf(b).TravelsIn, k.ParcelOf(second).TravelsIn})
	k.Holds()
	require.NoError(t, k.Label(first, "ann"))
	require.Equal(t, []string{"shipped", "part shipped"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	require.NoError(t, k.Label(second, "ann"))
	require.Equal(t, "shipped", k.Stage("S-2"))
	k.Holds()
}

// TestWhatMayTravelTogether: the same person and address, by the company's rule, from one place.
func TestWhatMayTravelTogether(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	elsewhere, later := trial.Sale("S-2", trial.Units("JAR", 1)), trial.Sale("S-3", trial.Units("JAR", 1))
	elsewhere.ShipTo.Street = "Lindenrow 15"
	later.PlacedAt, later.RequestedService = trial.Morning.AddDate(0, 0, -1), "swift"
	later.ShipTo.Name, later.ShipTo.Street = "TOLLAND, Maren", "Lindenrow, 14"
	k.Take("stall", trial.Event("order", "S-2", 1, elsewhere), trial.Event("order", "S-3", 1, later))

	list, err := k.Companions(ctx, "S-1")
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, []string{"same recipient: Maren Tolland", "same address: Lindenrow 14, 41360 Harrowmere, XW",
		"written there as “TOLLAND, Maren, Lindenrow, 14, 41360 Harrowmere, XW”"}, list[0].Reasons)
	require.Equal(t, []string{"its buyer was promised “swift”, this one's no service"}, list[0].Mind)
	require.ErrorContains(t, k.SendTogether(ctx, "S-1", []string{"S-2"}, "Pim"), "does not go to the same recipient and address")
	require.ErrorContains(t, k.SendTogether(ctx, "S-1", []string{"S-1"}, "Pim"), "not with itself")
	require.ErrorIs(t, k.SendTogether(ctx, "S-1", []string{"S-9"}, "Pim"), store.ErrNotFound)

	company, err := k.Company(ctx)
	require.NoError(t, err)
	company.Name, company.Together = "Morrow Hive", order.SameDay
	require.NoError(t, k.SetCompany(ctx, company, "Edda"))
	list, err = k.Companions(ctx, "S-1")
	require.NoError(t, err)
	require.Empty(t, list, "on another day")
	require.NoError(t, k.SendTogether(ctx, "S-1", []string{"S-3"}, "Pim"), "the rule is for what is offered")
	list, err = k.Companions(ctx, "S-1")
	require.NoError(t, err)
	require.True(t, list[0].Together)
	k.CancelOrder("S-3")
	list, err = k.Companions(ctx, "S-1")
	require.NoError(t, err)
	require.Empty(t, list)
}

// TestAnotherAddressPartsThem: whoever moves while it is picked is sent their own.
func TestAnotherAddressPartsThem(t *testing.T) {
	k, a, b := pairKit(t)
	to := trial.Address
	to.Street = "Lindenrow 15"
	o, err := k.Store.OrderByNumber(t.Context(), "S-2")
	require.NoError(t, err)
	require.NoError(t, k.Readdress(t.Context(), "S-2", to, "Edda", o.Revision))
	require.NoError(t, k.PackInto(a, "small"))
	require.Equal(t, []string{"packed", "picking"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	require.NoError(t, k.PackInto(b, "small"))
	require.Zero(t, k.ParcelOf(b).TravelsIn)
	k.Holds()
}

// TestARoundTakesThoseThatTravelTogether into slots side by side.
func TestARoundTakesThoseThatTravelTogether(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	for _, n := range []string{"S-1", "S-2", "S-3"} {
		k.Sell(n, trial.Units("JAR", 1))
	}
	require.NoError(t, k.SendTogether(t.Context(), "S-1", []string{"S-3"}, "Pim"))
	made, err := k.MakeRound(t.Context(), shipping.NewRound{Orders: []string{"S-1", "S-2", "S-3"}}, "Pim")
	require.NoError(t, err)
	require.Empty(t, made.Left)
	x, err := k.Store.Round(t.Context(), made.Number)
	require.NoError(t, err)
	o, err := k.Store.OrderByNumber(t.Context(), "S-3")
	require.NoError(t, err)
	require.Len(t, x.Slots, 3)
	require.Equal(t, o.Number, x.Slots[1].OrderNumber)
	k.Holds()
}

// TestUnitsAreMovedBetweenCartons: some are taken out of one and put into another; an empty carton is unpacked.
func TestUnitsAreMovedBetweenCartons(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 3), trial.Units("LID", 1))
	s := k.Picked("S-1")
	one := k.PackUnits(s, "small", map[string]int64{"JAR": 3})
	two := k.PackUnits(s, "small", map[string]int64{"LID": 1})
	require.Equal(t, "packed", k.Stage("S-1"))
	out := func(parcel string, units map[string]int64) error { return k.TakeOut(t.Context(), parcel, units, "Pim") }
	require.ErrorContains(t, out(one, nil), "say what is taken out")
	require.ErrorContains(t, out(one, map[string]int64{"JAR": 0}), "at least 1 × JAR is expected")
	require.ErrorContains(t, out(one, map[string]int64{"JAR": 4}), "1 × JAR more than lie in parcel")
	require.ErrorContains(t, out(one, map[string]int64{"SPOON": 1}), "1 × SPOON more than lie in parcel")
	require.NoError(t, out(one, map[string]int64{"JAR": 2}))
	require.Equal(t, []any{"picking", int64(220 + 500)}, []any{k.Stage("S-1"), k.ParcelOf(one).WeightG})
	k.Holds()
	_, err := k.Pack(t.Context(), s, shipping.Packing{Into: two, Units: map[string]int64{"JAR": 2}}, "Pim")
	require.NoError(t, err)
	require.Equal(t, []any{"packed", int64(220 + 3*500)}, []any{k.Stage("S-1"), k.ParcelOf(two).WeightG})
	k.Holds()
	require.NoError(t, out(one, map[string]int64{"JAR": 1}))
	require.Equal(t, store.CalledOff, k.ParcelOf(one).State)
	_, err = k.Pack(t.Context(), s, shipping.Packing{Into: two}, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.Label(two, "ann"))
	require.Equal(t, "shipped", k.Stage("S-1"))
	require.ErrorContains(t, out(two, map[string]int64{"JAR": 1}), "only a return brings it back")
	k.Holds()
}

// TestUnitsAreTakenOutOfACartonOfTwo: the carton goes on with what is left, whichever order that is of.
func TestUnitsAreTakenOutOfACartonOfTwo(t *testing.T) {
	k, a, b := packedPair(t) // 2 jars of S-1; a lid and a jar of S-2
	require.NoError(t, k.TakeOut(t.Context(), b, map[string]int64{"JAR": 3}, "Pim"))
	require.Equal(t, store.CalledOff, k.ParcelOf(a).State)
	require.Equal(t, []any{int64(0), int64(220 + 500)}, []any{k.ParcelOf(b).TravelsIn, k.ParcelOf(b).WeightG})
	require.Equal(t, []string{"picking", "picking"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Holds()
	_, err := k.Pack(t.Context(), a, shipping.Packing{Into: b}, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.Label(a+"-2", "ann"))
	require.Equal(t, []string{"shipped", "shipped"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Holds()
}
