package shipping_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestAParcelThatCrossesABorder is declared to its carrier line by line; while something of its goods is not known, no label is bought,
// and the items are named.
func TestAParcelThatCrossesABorder(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR", "LID")
	ctx := t.Context()
	o := trial.Sale("S-1", trial.Units("JAR", 2), trial.Units("LID", 1))
	o.ShipTo.Country, o.ShipTo.Postcode, o.BuyerTaxNumber = "XE", "208114", "XE55"
	o.Shipping = 900
	o.Total += 900
	k.Take("stall", trial.Event("order", "S-1", 1, o))
	s := k.Packed("S-1")
	require.ErrorContains(t, k.AskLabel(ctx, s, shipping.Purchase{Carrier: "ann", Service: "slow"}, "Edda"),
		"no customs code: JAR, LID; no country of origin: JAR, LID")
	require.Empty(t, k.Sent("ann", "/labels"))
	for _, sku := range []string{"JAR", "LID"} {
		it, err := k.Store.Record(ctx, sku)
		require.NoError(t, err)
		it.CustomsCode, it.Origin = "701090", "XW"
		require.NoError(t, k.Store.Write(ctx, func(tx *store.Tx) error { return tx.UpdateItem(it, k.Now()) }))
	}
	require.NoError(
		t,
		k.Declarants.Change(ctx, k.Engine, []customs.Declarant{{Number: "XW99", Reason: "sale", Terms: "DDP", Signer: "Edda Morrow"}},
			"Edda"),
	)
	require.NoError(t, k.Label(s, "ann"))
	var asked message.Parcel
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf("S-1", message.LabelsOut).Payload), &asked))
	d := asked.Customs
	require.Equal(t, []string{"DDP", "XW99", "XE55", "EUR"}, []string{d.Terms, d.SenderNumber, d.RecipientNumber, d.Currency})
	require.Len(t, d.Lines, 2)
	require.EqualValues(t, 2, d.Lines[0].Quantity)
	require.Equal(t, o.Lines[0].Total+o.Lines[1].Total, d.Value)
	require.EqualValues(t, 900, d.Shipping)

	home := k.Packed(sold(k, "S-2"))
	require.NoError(t, k.Label(home, "ann"))
	require.NotContains(t, k.OutboxOf("S-2", message.LabelsOut).Payload, `"customs"`)
	for _, c := range []struct {
		rows []customs.Declarant
		says string
	}{
		{[]customs.Declarant{{Sender: "nobody", Reason: "sale", Terms: "DAP"}}, "no sender"},
		{[]customs.Declarant{{Reason: "sale", Terms: "DAP"}, {Reason: "gift", Terms: "DAP"}}, "twice"},
		{[]customs.Declarant{{Reason: "fun", Terms: "DAP"}}, "reason"},
	} {
		require.ErrorContains(t, k.Declarants.Change(ctx, k.Engine, c.rows, "Edda"), c.says)
	}
	require.NoError(t,
		k.Declarants.Change(ctx, k.Engine, []customs.Declarant{{Area: []string{"XW", "XE"}, Reason: "sale", Terms: "DAP"}}, "Edda"))
	p, sale := k.ParcelOf(s), orderOf(t, k, "S-1")
	none, err := k.Declaration(ctx, &p, sale)
	require.NoError(t, err)
	require.Nil(t, none, "there is no border any more")
}

func orderOf(t *testing.T, k *trial.Kit, number string) *order.Order {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	return o
}
