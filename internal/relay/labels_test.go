package relay

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// refusing answers that an address is not served.
func refusing(call) (int, any) {
	return 422, map[string]any{"message": "no deliveries to Lindenrow"}
}

func silent(call) (int, any) { return 0, nil }

// labelKit is a company with a packed order and two carriers.
func labelKit(t *testing.T) (*kit, string) {
	k := newKit(t, "ann", "bob")
	k.stock(5, "JAR")
	k.sell("S-1", units("JAR", 2))
	return k, k.packed("S-1")
}

func (k *kit) ask(shipment, carrier string) error {
	k.t.Helper()
	err := k.AskLabel(k.t.Context(), shipment, carrier, "slow", "Pim")
	k.settle()
	return err
}

func (k *kit) parcelOf(shipment string) store.Shipment {
	k.t.Helper()
	s, err := k.Store.Shipment(k.t.Context(), shipment)
	require.NoError(k.t, err)
	return s
}

// outboxOf is the newest message of a feed about an order.
func (k *kit) outboxOf(number, feed string) store.OutboxMessage {
	k.t.Helper()
	o, err := k.Store.OrderByNumber(k.t.Context(), number)
	require.NoError(k.t, err)
	list, err := k.Store.OutboxOfOrder(k.t.Context(), o.ID)
	require.NoError(k.t, err)
	for i := len(list) - 1; i >= 0; i-- {
		if list[i].Feed == feed {
			return list[i]
		}
	}
	k.t.Fatalf("no message %s about %s", feed, number)
	return store.OutboxMessage{}
}

// causes lists the causes of what is open.
func (k *kit) causes() []string {
	k.t.Helper()
	out := []string{}
	for _, e := range k.exceptions() {
		out = append(out, e.Cause)
	}
	return out
}

// inVain lets something be tried n times while nobody answers. Lines are made anew: their breakers go by the real clock.
func (k *kit) inVain(n int) {
	k.t.Helper()
	for range n {
		require.NoError(k.t, k.RemakeAll(k.t.Context()))
		k.later(6 * time.Minute)
		k.settle()
	}
}

// TestARefusedLabelIsNotSentAgainBesideAnother: carrier A refuses, B ships, somebody presses send again on A: the
// parcel stays as it is, nothing is bought, and what was raised about A has ended.
func TestARefusedLabelIsNotSentAgainBesideAnother(t *testing.T) {
	k, s := labelKit(t)
	k.on("ann", "/labels", refusing)
	require.NoError(t, k.ask(s, "ann"))
	require.Equal(t, []string{engine.LabelRefused}, k.causes())
	first := k.outboxOf("S-1", "labels out")
	require.Equal(t, store.ToShip, k.parcelOf(s).State)

	require.NoError(t, k.ask(s, "bob"))
	left := k.parcelOf(s)
	require.Equal(t, store.Gone, left.State)
	require.Empty(t, k.causes(), "the cause is over")

	err := k.SendAgain(t.Context(), first.ID, "Pim")
	require.ErrorContains(t, err, "has left already with tracking number "+left.Tracking)
	k.settle()
	require.Equal(t, left, k.parcelOf(s))
	require.Len(t, k.sent("ann", "/labels"), 1)
	k.holds()
}

// TestSendingARefusedLabelAgainBuysItOnce: the carrier has learned; the label is asked for under a new reference,
// because the parcel may have changed since.
func TestSendingARefusedLabelAgainBuysItOnce(t *testing.T) {
	k, s := labelKit(t)
	k.on("ann", "/labels", refusing)
	require.NoError(t, k.ask(s, "ann"))
	k.on("ann", "/labels", nil)
	require.NoError(t, k.SendAgain(t.Context(), k.outboxOf("S-1", "labels out").ID, "Pim"))
	require.Error(t, k.AskLabel(t.Context(), s, "bob", "slow", "Pim"), "it is being bought")
	k.settle()
	require.Equal(t, store.Gone, k.parcelOf(s).State)
	require.Empty(t, k.causes())
	calls := k.sent("ann", "/labels")
	require.Len(t, calls, 2)
	require.NotEqual(t, calls[0].ref, calls[1].ref)
	require.Empty(t, k.sent("bob", "/labels"))
	k.holds()
}

// TestALabelOfWhichNothingIsKnown: a carrier that never answers may have sold the label. It is asked for under the same
// reference, nothing else is bought, and when the answer comes, the parcel leaves with it.
func TestALabelOfWhichNothingIsKnown(t *testing.T) {
	k, s := labelKit(t)
	k.on("ann", "/labels", silent)
	require.NoError(t, k.ask(s, "ann"))
	k.inVain(exchange.MaxAttempts + 2)
	require.Equal(t, store.Buying, k.parcelOf(s).State)
	require.Equal(t, []string{engine.LabelUnknown}, k.causes())
	require.ErrorContains(t, k.AskLabel(t.Context(), s, "bob", "slow", "Pim"), "It may exist")

	k.on("ann", "/labels", nil)
	require.NoError(t, k.RemakeAll(t.Context()))
	require.NoError(t, k.SendAgain(t.Context(), k.outboxOf("S-1", "labels out").ID, "Pim"))
	k.settle()
	require.Equal(t, store.Gone, k.parcelOf(s).State)
	require.Empty(t, k.causes())
	refs := map[string]bool{}
	for _, c := range k.sent("ann", "/labels") {
		refs[c.ref] = true
	}
	require.Len(t, refs, 1, "all under one reference")
	k.holds()
}

// TestALabelThatDoesNotExistByAPersonsWord: who looked at the carrier says that there is none, and the parcel is
// shipped otherwise.
func TestALabelThatDoesNotExistByAPersonsWord(t *testing.T) {
	k, s := labelKit(t)
	k.on("ann", "/labels", silent)
	require.NoError(t, k.ask(s, "ann"))
	m := k.outboxOf("S-1", "labels out")
	require.Error(t, k.NotBought(t.Context(), m.ID, "Edda"), "it is still being tried")
	k.inVain(exchange.MaxAttempts + 1)
	require.NoError(t, k.NotBought(t.Context(), m.ID, "Edda"))
	require.Empty(t, k.causes())
	require.NoError(t, k.ask(s, "bob"))
	require.Equal(t, store.Gone, k.parcelOf(s).State)
	k.later(time.Hour)
	k.settle()
	require.Len(t, k.sent("bob", "/labels"), 1)
	k.holds()
}

// TestALabelThatComesTooLateIsRaised: the answer of a purchase that was given up comes after all. The parcel keeps its
// own number, and a person is asked to void the other.
func TestALabelThatComesTooLateIsRaised(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.ask(s, "bob"))
	left := k.parcelOf(s)
	o, err := k.Store.OrderByNumber(t.Context(), "S-1")
	require.NoError(t, err)
	k.spoil(`INSERT INTO outbox (connection_id, feed, subject, ref, payload, created_at, next_at, order_id, shipment_id) SELECT id, 'labels out', 'shipment '||?, 'late', '{"service":"slow"}', 1, 1, ?, ? FROM connection WHERE code='ann'`, s, o.ID, left.ID)
	k.settle()
	require.Equal(t, left, k.parcelOf(s))
	open := k.exceptions()
	require.Len(t, open, 1)
	require.Equal(t, engine.LabelSurplus, open[0].Cause)
	require.Contains(t, open[0].Text, left.Tracking)
	k.holds()
	n, err := k.Settle(t.Context(), attention.GroupOf{Cause: engine.LabelSurplus, Connection: "ann", Subject: open[0].Subject}, "Edda")
	require.NoError(t, err)
	require.Equal(t, int64(1), n)
	require.Empty(t, k.exceptions())
	k.holds()
}

// TestVerifyFindsALabelThatNobodyKnowsOf: a label that was bought, stands on no parcel and was never raised.
func TestVerifyFindsALabelThatNobodyKnowsOf(t *testing.T) {
	k, s := labelKit(t)
	require.NoError(t, k.ask(s, "bob"))
	k.holds()
	k.spoil("UPDATE shipment SET tracking='X1', state='called off' WHERE number=?", s)
	findings, err := k.Store.Verify(t.Context())
	require.NoError(t, err)
	require.NotEmpty(t, findings)
	require.Contains(t, findings[0].Text, "stands on no parcel and was not raised")
}
