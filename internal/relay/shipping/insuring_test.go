package shipping_test

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// asked is what a carrier was asked for the label of an order's parcel.
func asked(t *testing.T, k *trial.Kit, order string) (p message.Parcel) {
	t.Helper()
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf(order, message.LabelsOut).Payload), &p))
	return p
}

// TestAParcelIsInsured for its value where a rule says so, for what a person says before that, and not at all without either.
func TestAParcelIsInsured(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	k.Sell("S-0", trial.Units("JAR", 1))
	require.NoError(t, k.Label(k.Packed("S-0"), "ann"))
	require.Zero(t, asked(t, k, "S-0").Insured)

	require.NoError(t, k.Rule(`insure("its value")`))
	k.Sell("S-1", trial.Units("JAR", 3))
	p := k.Packed("S-1")
	o := orderOf(t, k, "S-1")
	var goods int64
	for _, l := range o.Record.Lines {
		goods += l.Total
		if o.Record.PricesIncludeTax {
			goods -= l.Tax
		}
	}
	require.Positive(t, goods)
	require.NoError(t, k.Label(p, "ann"))
	require.Equal(t, goods, asked(t, k, "S-1").Insured, "what the goods were sold for, without tax")
	require.Equal(t, o.Record.Currency, asked(t, k, "S-1").InsuredIn)
	require.Equal(t, goods, k.ParcelOf(p).InsuredFor)
	require.ErrorContains(t, k.Insure(t.Context(), p, 100, "Pim"), "has left already")

	for value, want := range map[int64]int64{0: 0, 12_000: 12_000, store.InsuredByRules: goods / 3} {
		number := map[int64]string{0: "S-2", 12_000: "S-3", store.InsuredByRules: "S-4"}[value]
		k.Sell(number, trial.Units("JAR", 1))
		p := k.Packed(number)
		require.NoError(t, k.Insure(t.Context(), p, 77, "Pim"))
		require.NoError(t, k.Insure(t.Context(), p, value, "Pim"))
		require.NoError(t, k.Label(p, "ann"))
		require.Equal(t, want, asked(t, k, number).Insured)
	}
	require.ErrorContains(t, k.Rule(`insure("a lot")`), "its value, nothing")
	require.NoError(t, askVoid(t, k, p))
	require.Zero(t, k.ParcelOf(p).InsuredFor, "its label is voided, and the insurance with it")
	k.Holds()
}

// TestACarrierChangesItsPrice between asking and buying: the label is bought, and the order says both prices.
func TestACarrierChangesItsPrice(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(50, "JAR")
	for number, by := range map[string]shipping.Purchase{
		"S-1": {Carrier: "ann", Service: "slow", Expected: 350}, "S-2": {Carrier: "ann", Service: "slow", Expected: 400},
		"S-3": {Carrier: "ann", Service: "slow"},
	} {
		k.Sell(number, trial.Units("JAR", 1))
		p := k.Packed(number)
		require.NoError(t, k.AskLabel(ctx, p, by, "Pim"))
		k.Settle()
		require.Equal(t, int64(400), k.ParcelOf(p).Price)
		require.Equal(t, by.Expected, k.ParcelOf(p).Quoted)
		o, err := k.Order(ctx, number)
		require.NoError(t, err)
		said := false
		for _, x := range o.Timeline {
			said = said || x.What == "shipped" && strings.Contains(x.Text, "3.50 EUR was said before it was asked for")
		}
		require.Equal(t, number == "S-1", said, number)
	}
	k.Holds()
}
