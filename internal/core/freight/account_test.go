package freight

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhoPays: a rule goes before the order, the order before the customer, the customer before the sender; an account at another
// carrier never counts.
func TestWhoPays(t *testing.T) {
	list := []Account{
		{Code: "skep", Carrier: "ann", Number: "1", Payer: Sender, Sender: "skep"},
		{Code: "big", Carrier: "ann", Number: "2", Payer: Third, Customer: "@big.example"},
		{Code: "edda", Carrier: "ann", Number: "3", Payer: Recipient, Customer: "edda@big.example"},
		{Code: "gift", Carrier: "bob", Number: "4", Payer: Third},
	}
	for i := range list {
		require.NoError(t, list[i].Check())
	}
	number := func(b Billing) string {
		if a := Pays(list, b); a != nil {
			return a.Payer + " " + a.Number
		}
		return ""
	}
	require.Equal(t, "", number(Billing{Carrier: "ann"}))
	require.Equal(t, "sender 1", number(Billing{Carrier: "ann", Sender: "skep"}))
	require.Equal(t, "third 2", number(Billing{Carrier: "ann", Sender: "skep", Email: "Pim@BIG.example"}))
	require.Equal(t, "third 2", number(Billing{Carrier: "ann", Email: "edda@big.example"}), "the first row that fits")
	require.Equal(t, "recipient 77", number(Billing{Carrier: "ann", Payer: Recipient, Number: "77", Email: "pim@big.example"}))
	require.Equal(t, "third 4", number(Billing{Carrier: "bob", Decided: "gift", Payer: Recipient}))
	require.Equal(t, "", number(Billing{Carrier: "ann", Decided: "gift"}))
	for _, wrong := range []Account{{}, {Code: "x"}, {Code: "x", Number: "1", Payer: "nobody"},
		{Code: "x", Number: "1", Payer: Sender, Customer: "Edda"}, {Code: "x", Number: "1", Payer: Third, Sender: "skep"},
		{Code: "x", Number: "1", Payer: Sender, Country: "xw"}} {
		require.Error(t, wrong.Check(), "%+v", wrong)
	}
}
