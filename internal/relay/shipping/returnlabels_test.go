package shipping_test

import (
	"context"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// sellsBack is ann's answer to a purchase.
func sellsBack(c trial.Call) (int, any) {
	return 200, map[string]any{"id": "B" + c.Ref, "tracking": "AB" + c.Ref[len(c.Ref)-4:], "service": "slow", "price": 350,
		"currency": "EUR"}
}

// comingBack is a company with ann, who brings goods back, bob, who does not, and a return of one of two units.
func comingBack(t *testing.T) (k *trial.Kit, number string) {
	t.Helper()
	k = trial.New(t, "bob")
	definition := strings.Replace(trial.Carter("ann"), "  voids out:\n", `  return labels out:
    send:
      request:
        method: POST
        path: /back
        headers: { Idempotency-Key: ref }
        body: { reference: msg.reference, fetch: msg.from.name, to: msg.to.name, grams: msg.weight_g }
      answer: { id: body.id, tracking: body.tracking, service: body.service, price: body.price, currency: body.currency }
  voids out:
`, 1)
	feeds := map[message.Feed]setup.Feed{}
	for _, f := range []message.Feed{message.LabelsOut, message.ReturnLabels, message.VoidsOut, message.TrackingIn, message.HandoversOut} {
		feeds[f] = setup.Feed{On: true}
	}
	_, err := k.ApplySetup(t.Context(), setup.Setup{Version: 1, Connectors: []string{definition},
		Connections: []setup.Connection{{Code: "ann", Connector: "ann", Name: "Ann", Address: "http://ann.test", Feeds: feeds}}},
		map[string]map[string]string{"ann": {"key": "ann-key"}}, "test")
	require.NoError(t, err)
	k.On("ann", "/back", sellsBack)
	k.Stock(50, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	require.NoError(t, k.Label(k.Packed("S-1"), "ann"))
	o := orderOf(t, k, "S-1")
	number, err = k.AnnounceReturn(t.Context(), returning.NewReturn{Order: "S-1", Lines: map[int64]int64{o.Lines[0].ID: 1}}, "Edda")
	require.NoError(t, err)
	return k, number
}

// buyBack buys the label of a return while everything that is due is done.
func buyBack(t *testing.T, k *trial.Kit, number, carrier string) error {
	t.Helper()
	return buyBoxed(t, k, number, carrier, shipping.ReturnParcel{})
}

func buyBoxed(t *testing.T, k *trial.Kit, number, carrier string, box shipping.ReturnParcel) error {
	t.Helper()
	return meanwhile(t, k, func() bool {
		x, err := k.Store.Return(t.Context(), number)
		require.NoError(t, err)
		l, err := k.Store.ReturnLabel(t.Context(), x.ID)
		return err == nil && (l.State == store.ReturnLabelAsked || l.State == store.ReturnLabelVoiding)
	}, func(ctx context.Context) error {
		by := shipping.Purchase{Carrier: carrier, Service: "slow"}
		_, err := k.BuyReturnLabel(ctx, number, box, by, "Edda")
		return err
	})
}

func labelOfReturn(t *testing.T, k *trial.Kit, number string) store.ReturnLabel {
	t.Helper()
	x, err := k.Store.Return(t.Context(), number)
	require.NoError(t, err)
	l, err := k.Store.ReturnLabel(t.Context(), x.ID)
	require.NoError(t, err)
	return l
}

// TestALabelBringsGoodsBack: bought once, from the buyer to us, followed, and found by its number when the goods are here.
func TestALabelBringsGoodsBack(t *testing.T) {
	k, number := comingBack(t)
	rates, err := k.ReturnRates(t.Context(), number, shipping.ReturnParcel{})
	require.NoError(t, err)
	for _, r := range rates {
		require.Equal(t, "ann", r.Carrier, "who brings nothing back is not asked")
	}
	require.NotEmpty(t, rates)
	require.ErrorContains(t, buyBack(t, k, number, "bob"), "sells no labels by which goods come back")
	require.NoError(t, buyBack(t, k, number, "ann"))
	l := labelOfReturn(t, k, number)
	require.Equal(t, store.ReturnLabelBought, l.State)
	require.Equal(t, int64(350), l.Price)
	call := k.Sent("ann", "/back")[0]
	require.Equal(t, orderOf(t, k, "S-1").ShipTo.Name, call.Body["fetch"])
	require.Equal(t, number, call.Body["reference"])
	require.Positive(t, call.Body["grams"])
	require.ErrorContains(t, buyBack(t, k, number, "ann"), "has a label, which is bought")
	require.Len(t, k.Sent("ann", "/back"), 1)
	x, err := k.Store.Return(t.Context(), l.Tracking)
	require.NoError(t, err)
	require.Equal(t, number, x.Number, "who has the carton finds the return by its number")
	says(t, k, "e1", l.Tracking, "under way", k.Now().Add(time.Hour))
	require.Equal(t, "under way", labelOfReturn(t, k, number).Journey)
	claims(t, k, "e0", l.Tracking, "accepted", k.Now().Add(-30*time.Minute))
	require.Equal(t, "under way", labelOfReturn(t, k, number).Journey, "an older event overtakes nothing")
	_, err = k.VoidReturnLabel(t.Context(), number, "Edda")
	require.ErrorContains(t, err, "has the parcel of return")
	_, _, _, made, err := k.ReturnDocument(t.Context(), number)
	require.NoError(t, err)
	require.False(t, made, "it is drawn here")
	k.Holds()
}

// TestTheLabelOfAReturnIsRefusedOrUnknown: a refusal is raised until another is bought; without an answer it is asked again.
func TestTheLabelOfAReturnIsRefusedOrUnknown(t *testing.T) {
	k, number := comingBack(t)
	k.On("ann", "/back", func(trial.Call) (int, any) { return 422, map[string]any{"reason": "nobody fetches there"} })
	require.NoError(t, buyBack(t, k, number, "ann"))
	require.Equal(t, store.ReturnLabelRefused, labelOfReturn(t, k, number).State)
	require.Contains(t, k.Causes(), engine.LabelRefused)
	k.Holds()
	called, err := k.AnnounceReturn(t.Context(), returning.NewReturn{Order: "S-1",
		Lines: map[int64]int64{orderOf(t, k, "S-1").Lines[0].ID: 1}}, "Edda")
	require.NoError(t, err)
	require.NoError(t, buyBack(t, k, called, "ann"))
	require.Len(t, k.Causes(), 2)
	require.NoError(t, k.CallOffReturn(t.Context(), called, "Edda"))
	require.Len(t, k.Causes(), 1, "what was raised about its label is over with the return")
	k.On("ann", "/back", func(trial.Call) (int, any) { return 0, nil })
	require.NoError(t, buyBack(t, k, number, "ann"))
	require.NotContains(t, k.Causes(), engine.LabelRefused, "it is being bought anew")
	k.InVain(14)
	require.Contains(t, k.Causes(), engine.LabelUnknown)
	_, err = k.BuyReturnLabel(t.Context(), number, shipping.ReturnParcel{}, shipping.Purchase{Carrier: "ann", Service: "slow"}, "Edda")
	require.ErrorContains(t, err, "which is asked")
	refs := map[string]bool{}
	for _, c := range k.Sent("ann", "/back")[2:] {
		refs[c.Ref] = true
	}
	require.Len(t, refs, 1, "it is asked for under one reference")
	k.Holds()
	k.On("ann", "/back", sellsBack)
	require.NoError(t, k.SendAgain(t.Context(), k.OutboxOf("S-1", message.ReturnLabels).ID, "Edda"))
	k.Settle()
	require.Equal(t, store.ReturnLabelBought, labelOfReturn(t, k, number).State)
	require.NotContains(t, k.Causes(), engine.LabelUnknown)
	k.Holds()
}

// TestTheLabelOfAReturnDoesNotExist, as a person says who looked at the carrier; then another is bought.
func TestTheLabelOfAReturnDoesNotExist(t *testing.T) {
	k, number := comingBack(t)
	k.On("ann", "/back", func(trial.Call) (int, any) { return 0, nil })
	require.NoError(t, buyBack(t, k, number, "ann"))
	m := k.OutboxOf("S-1", message.ReturnLabels)
	require.ErrorContains(t, k.NotBought(t.Context(), m.ID, "Edda"), "no purchase of a label that waits for an answer in vain")
	k.InVain(14)
	require.NoError(t, k.NotBought(t.Context(), m.ID, "Edda"))
	require.NotContains(t, k.Causes(), engine.LabelUnknown)
	k.Holds()
	k.On("ann", "/back", sellsBack)
	require.NoError(t, buyBack(t, k, number, "ann"))
	require.Equal(t, store.ReturnLabelBought, labelOfReturn(t, k, number).State)
	k.Holds()
}

// TestTheLabelOfAReturnIsVoided by its carrier, or stays where that does not; then another can be bought.
func TestTheLabelOfAReturnIsVoided(t *testing.T) {
	k, number := comingBack(t)
	void := func() error {
		voiding := func() bool { return labelOfReturn(t, k, number).State == store.ReturnLabelVoiding }
		return meanwhile(t, k, voiding, func(ctx context.Context) error {
			_, err := k.VoidReturnLabel(ctx, number, "Edda")
			return err
		})
	}
	_, err := k.VoidReturnLabel(t.Context(), number, "Edda")
	require.ErrorContains(t, err, "has no label that could be voided")
	require.NoError(t, buyBack(t, k, number, "ann"))
	first := labelOfReturn(t, k, number)
	k.On("ann", "/voids", func(trial.Call) (int, any) { return 409, map[string]any{"reason": "too late"} })
	require.NoError(t, void())
	require.Equal(t, store.ReturnLabelBought, labelOfReturn(t, k, number).State)
	require.NotEmpty(t, labelOfReturn(t, k, number).Error)
	k.On("ann", "/voids", nil)
	require.NoError(t, void())
	require.Equal(t, store.ReturnLabelVoided, labelOfReturn(t, k, number).State)
	_, err = k.Store.Return(t.Context(), first.Tracking)
	require.ErrorIs(t, err, store.ErrNotFound)
	require.NoError(t, buyBack(t, k, number, "ann"))
	require.NotEqual(t, first.ID, labelOfReturn(t, k, number).ID)
	k.Holds()
	o := orderOf(t, k, "S-1")
	require.NotNil(t, o)
	var asked message.LabelVoid
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf("S-1", message.VoidsOut).Payload), &asked))
	require.Equal(t, number, asked.ParcelNumber)
}

// TestAReturnOfWhichNothingIsKnown needs a weight before a label is bought, and one that is settled needs none.
func TestAReturnOfWhichNothingIsKnown(t *testing.T) {
	k, number := comingBack(t)
	other, err := k.AnnounceReturn(t.Context(), returning.NewReturn{Order: "S-1"}, "Edda")
	require.NoError(t, err)
	require.ErrorContains(t, buyBack(t, k, other, "ann"), "say what its parcel weighs")
	_, err = k.ReturnRates(t.Context(), other, shipping.ReturnParcel{Profile: "no such"})
	require.ErrorContains(t, err, "is not known")
	rates, err := k.ReturnRates(t.Context(), other, shipping.ReturnParcel{WeightG: 900})
	require.NoError(t, err)
	require.NotEmpty(t, rates)
	comes, err := k.AnnounceReturn(t.Context(), returning.NewReturn{Order: "S-1", Tracking: "ZZ1"}, "Edda")
	require.NoError(t, err)
	k.Holds()
	require.ErrorContains(t, buyBoxed(t, k, comes, "ann", shipping.ReturnParcel{WeightG: 900}), "comes as ZZ1 already")
	require.NoError(t, k.CallOffReturn(t.Context(), number, "Edda"))
	require.ErrorContains(t, buyBack(t, k, number, "ann"), "it needs no label")
}
