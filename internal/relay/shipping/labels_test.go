package shipping_test

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// refusing answers that an address is not served.
func refusing(trial.Call) (int, any) {
	return 422, map[string]any{"message": "no deliveries to Lindenrow"}
}

func silent(trial.Call) (int, any) { return 0, nil }

// labelKit is a company with a packed order and two carriers.
func labelKit(t *testing.T) (*trial.Kit, string) {
	k := trial.New(t, "ann", "bob")
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	return k, k.Packed("S-1")
}

// TestARefusedLabelIsNotSentAgainBesideAnother: carrier A refuses, B ships, somebody presses send again on A: the
// parcel stays as it is, nothing is bought, and what was raised about A has ended.
func TestARefusedLabelIsNotSentAgainBesideAnother(t *testing.T) {
	k, s := labelKit(t)
	k.On("ann", "/labels", refusing)
	require.NoError(t, k.Label(s, "ann"))
	require.Equal(t, []order.Cause{engine.LabelRefused}, k.Causes())
	first := k.OutboxOf("S-1", "labels out")
	require.Equal(t, store.ToShip, k.ParcelOf(s).State)

	require.NoError(t, k.Label(s, "bob"))
	left := k.ParcelOf(s)
	require.Equal(t, store.Gone, left.State)
	require.Empty(t, k.Causes(), "the cause is over")

	err := k.SendAgain(t.Context(), first.ID, "Pim")
	require.ErrorContains(t, err, "has left already with tracking number "+left.Tracking)
	k.Settle()
	require.Equal(t, left, k.ParcelOf(s))
	require.Len(t, k.Sent("ann", "/labels"), 1)
	k.Holds()
}

// TestSendingARefusedLabelAgainBuysItOnce: the carrier has learned; the label is asked for under a new reference,
// because the parcel may have changed since.
func TestSendingARefusedLabelAgainBuysItOnce(t *testing.T) {
	k, s := labelKit(t)
	k.On("ann", "/labels", refusing)
	require.NoError(t, k.Label(s, "ann"))
	k.On("ann", "/labels", nil)
	require.NoError(t, k.SendAgain(t.Context(), k.OutboxOf("S-1", "labels out").ID, "Pim"))
	require.Error(t, k.AskLabel(t.Context(), s, shipping.Purchase{Carrier: "bob", Service: "slow"}, "Pim"), "it is being bought")
	k.Settle()
	require.Equal(t, store.Gone, k.ParcelOf(s).State)
	require.Empty(t, k.Causes())
	calls := k.Sent("ann", "/labels")
	require.Len(t, calls, 2)
	require.NotEqual(t, calls[0].Ref, calls[1].Ref)
	require.Empty(t, k.Sent("bob", "/labels"))
	k.Holds()
}

// TestALabelOfWhichNothingIsKnown: a carrier that never answers may have sold the label. It is asked for under the same
// reference, nothing else is bought, and when the answer comes, the parcel leaves with it.
func TestALabelOfWhichNothingIsKnown(t *testing.T) {
	k, s := labelKit(t)
	k.On("ann", "/labels", silent)
	require.NoError(t, k.Label(s, "ann"))
	k.InVain(exchange.MaxAttempts + 2)
	require.Equal(t, store.Buying, k.ParcelOf(s).State)
	require.Equal(t, []order.Cause{engine.LabelUnknown}, k.Causes())
	require.ErrorContains(t, k.AskLabel(t.Context(), s, shipping.Purchase{Carrier: "bob", Service: "slow"}, "Pim"), "It may exist")

	k.On("ann", "/labels", nil)
	require.NoError(t, k.RemakeAll(t.Context()))
	require.NoError(t, k.SendAgain(t.Context(), k.OutboxOf("S-1", "labels out").ID, "Pim"))
	k.Settle()
	require.Equal(t, store.Gone, k.ParcelOf(s).State)
	require.Empty(t, k.Causes())
	refs := map[string]bool{}
	for _, c := range k.Sent("ann", "/labels") {
		refs[c.Ref] = true
	}
	require.Len(t, refs, 1, "all under one reference")
	k.Holds()
}

// TestALabelThatDoesNotExistByAPersonsWord: who looked at the carrier says that there is none, and the parcel is
// shipped otherwise.
func TestALabelThatDoesNotExistByAPersonsWord(t *testing.T) {
	k, s := labelKit(t)
	k.On("ann", "/labels", silent)
	require.NoError(t, k.Label(s, "ann"))
	m := k.OutboxOf("S-1", "labels out")
	require.Error(t, k.NotBought(t.Context(), m.ID, "Edda"), "it is still being tried")
	k.InVain(exchange.MaxAttempts + 1)
	require.NoError(t, k.NotBought(t.Context(), m.ID, "Edda"))
	require.Empty(t, k.Causes())
	require.NoError(t, k.Label(s, "bob"))
	require.Equal(t, store.Gone, k.ParcelOf(s).State)
	k.Later(time.Hour)
	k.Settle()
	require.Len(t, k.Sent("bob", "/labels"), 1)
	k.Holds()
}

// TestALabelThatComesTooLateIsRaised: the answer of a purchase that was given up comes after all. The parcel keeps its
// own number, and a person is asked to void the other.
func TestALabelThatComesTooLateIsRaised(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.Label(s, "bob"))
	left := k.ParcelOf(s)
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	k.Spoil(`INSERT INTO outbox (connection_id, feed, subject, ref, payload, created_at, next_at, order_id,
		parcel_id) SELECT id, 'labels out', 'shipment '||?, 'late', '{"service":"slow"}', 1, 1, ?, ? FROM connection
		WHERE code='ann'`, s, o.ID, left.ID)
	k.Settle()
	require.Equal(t, left, k.ParcelOf(s))
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.LabelSurplus, open[0].Cause)
	require.Contains(t, open[0].Text, left.Tracking)
	k.Holds()
	n, err := k.Attention.Settle(t.Context(), attention.GroupOf{Cause: engine.LabelSurplus, Connection: "ann",
		Subject: open[0].Subject}, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	require.Empty(t, k.Exceptions())
	k.Holds()
}

// TestVerifyFindsALabelThatNobodyKnowsOf: a label that was bought, stands on no parcel and was never raised.
func TestVerifyFindsALabelThatNobodyKnowsOf(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.Label(s, "bob"))
	k.Holds()
	k.Spoil("UPDATE parcel SET tracking='X1', state='called off' WHERE number=?", s)
	findings, err := k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, findings)
	require.True(t, slices.ContainsFunc(findings, func(f store.Finding) bool {
		return strings.Contains(f.Text, "stands on no parcel and was not raised")
	}), "%v", findings)
}

// TestWhatTheCarrierRefusedIsCorrected: the field that it names is kept with the reason, the address is corrected for all orders in the
// carton, and the label is asked for anew with what was corrected.
func TestWhatTheCarrierRefusedIsCorrected(t *testing.T) {
	k, a, b := packedPair(t)
	k.On("ann", "/labels", func(c trial.Call) (int, any) {
		if c.Body["street"] == "Lindenrow 14" {
			return 422, map[string]any{"message": "a street has a house number", "at": "street"}
		}
		return 200, map[string]any{"id": "L1", "tracking": "AN-77", "price": 410, "currency": "EUR"}
	})
	require.NoError(t, k.Label(a, "ann"))
	p := k.ParcelOf(a)
	require.Equal(t, []any{store.ToShip, "to.street"}, []any{p.State, p.WrongField})
	require.Contains(t, p.Error, "a street has a house number")

	to := trial.Address
	to.Street = ""
	require.ErrorContains(t, k.CorrectAddress(t.Context(), a, to, "Edda"), "street is missing")
	to.Street = "Lindenrow 14 b"
	require.NoError(t, k.CorrectAddress(t.Context(), b, to, "Edda"))
	p = k.ParcelOf(a)
	require.Equal(t, []any{"", ""}, []any{p.Error, p.WrongField})
	for _, n := range []string{"S-1", "S-2"} {
		o, err := k.Store.OrderByNumber(t.Context(), n)
		require.NoError(t, err)
		require.Equal(t, "Lindenrow 14 b", o.ShipTo.Street)
	}
	require.NoError(t, k.Label(a, "ann"))
	require.Equal(t, "AN-77", k.ParcelOf(a).Tracking)
	require.Empty(t, k.Causes())
	require.ErrorContains(t, k.CorrectAddress(t.Context(), a, to, "Edda"), "has left already")
	k.Holds()
}

// TestSerialsOfACancelledParcelAreFree: the order is cancelled while the label is bought; the unit can be sold and packed again.
func TestSerialsOfACancelledParcelAreFree(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	require.NoError(t, k.AddItems(ctx, []listing.Opening{{Item: catalog.Item{SKU: "SCALE", Name: "A scale", WeightG: 500, LengthMM: 100,
		WidthMM: 80, HeightMM: 40, Price: 1000, Currency: "EUR", Serials: true}, Counts: map[int64]int64{k.PlaceID("alder"): 2}}}, "test"))
	pack := func(number string, letIn bool) string {
		s := k.Picked(number)
		_, err := k.Pack(ctx, s, shipping.Packing{Profile: "small", LetIn: letIn, Serials: map[string][]string{"SCALE": {"A1"}}}, "Pim")
		require.NoError(t, err)
		return s
	}
	k.Sell("S-1", trial.Units("SCALE", 1))
	require.NoError(t, k.AskLabel(ctx, pack("S-1", true), shipping.Purchase{Carrier: "ann", Service: "slow"}, "Pim"))
	gone := trial.Sale("S-1", trial.Units("SCALE", 1))
	gone.State, gone.Status = "cancelled", message.Cancelled
	k.Push("stall", trial.Event("order", "S-1", 2, gone))
	k.Settle()
	require.Equal(t, "cancelled", k.Stage("S-1"))
	k.Sell("S-2", trial.Units("SCALE", 1))
	require.NoError(t, k.Label(pack("S-2", false), "ann"))
	require.Equal(t, "shipped", k.Stage("S-2"))
	k.Holds()
}
