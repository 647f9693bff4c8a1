package shipping_test

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"image"
	"image/png"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// askedOf is what ann was asked for the label of an order.
func askedOf(t *testing.T, k *trial.Kit, o message.Order) message.Parcel {
	t.Helper()
	k.Take("stall", trial.Event("order", o.Number, 1, o))
	s := k.Packed(o.Number)
	require.NoError(t, k.Label(s, "ann"))
	var p message.Parcel
	require.NoError(t, json.Unmarshal([]byte(k.OutboxOf(o.Number, message.LabelsOut).Payload), &p))
	return p
}

// TestTheCarrierHearsWhoPays, and what others pay is not counted as paid by us.
func TestTheCarrierHearsWhoPays(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	ctx := t.Context()
	require.NoError(t, k.Accounts.Change(ctx, k.Engine, []freight.Account{
		{Code: "big", Carrier: "ann", Number: "4711", Payer: freight.Third, Customer: "@big.example", Postcode: "41207", Country: "XW"},
	}, "Edda"))
	plain := askedOf(t, k, trial.Sale("S-1", trial.Units("JAR", 1)))
	require.Equal(t, []string{freight.Sender, ""}, []string{plain.Payer, plain.Account})
	require.Equal(t, plain.From, plain.ReturnTo)
	big := trial.Sale("S-2", trial.Units("JAR", 1))
	big.BuyerEmail = "Buying@Big.example"
	p := askedOf(t, k, big)
	require.Equal(t, []string{freight.Third, "4711", "41207", "XW"}, []string{p.Payer, p.Account, p.PayerZip, p.PayerLand})
	told := trial.Sale("S-3", trial.Units("JAR", 1))
	told.FreightPayer, told.FreightAccount = freight.Recipient, "88"
	p = askedOf(t, k, told)
	require.Equal(t, []string{freight.Recipient, "88"}, []string{p.Payer, p.Account})
	list, err := k.Store.ListParcels(ctx, []string{store.Gone}, 0, 0, 10)
	require.NoError(t, err)
	require.Equal(t, []int64{0, 0, 400}, []int64{list[0].Price, list[1].Price, list[2].Price}, "others pay the first two")
	require.ErrorContains(t, k.Rule(`account("gone")`), "not known")
	require.NoError(t, k.Rule(`account("big")`))
	require.Equal(t, "4711", askedOf(t, k, trial.Sale("S-4", trial.Units("JAR", 1))).Account, "a rule wants it")
	for _, c := range []struct {
		rows []freight.Account
		says string
	}{
		{[]freight.Account{{Code: "x", Carrier: "stall", Number: "1", Payer: freight.Third}}, "sells labels"},
		{[]freight.Account{{Code: "x", Carrier: "ann", Number: "1", Payer: freight.Sender, Sender: "nobody"}}, "no sender"},
		{[]freight.Account{{Code: "x", Carrier: "ann", Number: "1", Payer: freight.Third},
			{Code: "x", Carrier: "ann", Number: "2", Payer: freight.Third}}, "twice"},
		{[]freight.Account{{Code: "x", Carrier: "ann", Payer: freight.Third}}, "number: missing"},
	} {
		require.ErrorContains(t, k.Accounts.Change(ctx, k.Engine, c.rows, "Edda"), c.says)
	}
}

// TestASenderHasItsOwnAddress, one to which parcels come back, and a logo.
func TestASenderHasItsOwnAddress(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	ctx := t.Context()
	require.NoError(t, k.PutSender(ctx, store.Sender{Code: "skep", Name: "Little Skep"}, "Edda"))
	set := *k.ByCode("stall").Settings()
	set.Sender = "skep"
	require.NoError(t, k.SetSettings(ctx, "stall", set, 0, "Edda"))
	var logo bytes.Buffer
	require.NoError(t, png.Encode(&logo, image.NewGray(image.Rect(0, 0, 40, 20))))
	own := place.SenderAddress{Sender: "skep", Logo: base64.StdEncoding.EncodeToString(logo.Bytes()),
		Address:  place.Address{Street: "Hill Road 2", Postcode: "41360", Town: "Lindenrow", Country: "XW"},
		ReturnTo: place.Address{Street: "PO Box 7", Postcode: "41207", Town: "Alderby", Country: "XW"}}
	require.NoError(t, k.SenderAddresses.Change(ctx, k.Engine, []place.SenderAddress{own}, "Edda"))
	p := askedOf(t, k, trial.Sale("S-1", trial.Units("JAR", 1)))
	require.Equal(t, []string{"Little Skep", "Hill Road 2"}, []string{p.From.Name, p.From.Street})
	require.Equal(t, []string{"Little Skep", "PO Box 7"}, []string{p.ReturnTo.Name, p.ReturnTo.Street})
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, own.Logo, k.LogoOf(o))
	for _, c := range []struct {
		row  place.SenderAddress
		says string
	}{
		{place.SenderAddress{Sender: "nobody"}, "no sender"},
		{place.SenderAddress{Sender: "skep", Logo: "!"}, "no base64"},
		{place.SenderAddress{Sender: "skep", Logo: "aGVsbG8="}, "a PNG is expected"},
		{place.SenderAddress{Sender: "skep", Address: place.Address{Street: "Hill Road 2"}}, "address of skep"},
	} {
		require.ErrorContains(t, k.SenderAddresses.Change(ctx, k.Engine, []place.SenderAddress{c.row}, "Edda"), c.says)
	}
}
