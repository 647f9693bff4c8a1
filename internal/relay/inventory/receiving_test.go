package inventory_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/catalog"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/listing"
	"openrelay/internal/relay/trial"
)

// orderedFrom orders goods at a supplier, to Alder Yard.
func orderedFrom(t *testing.T, k *trial.Kit, lines ...inventory.Quantity) string {
	t.Helper()
	number, err := k.AddPurchase(t.Context(), inventory.NewPurchase{Supplier: "Clay works", Location: "alder", Lines: lines}, "Edda")
	require.NoError(t, err)
	return number
}

// requireRefused says that every attempt is refused with the words it stands under.
func requireRefused(t *testing.T, attempts map[string]func() error) {
	t.Helper()
	for words, do := range attempts {
		require.ErrorContains(t, do(), words)
	}
}

// TestAPurchaseIsCheckedBeforeItIsOrdered: what is wrong is named, and nothing is on order.
func TestAPurchaseIsCheckedBeforeItIsOrdered(t *testing.T) {
	k := trial.New(t)
	k.Stock(0, "JAR")
	require.NoError(
		t,
		k.CreateItem(t.Context(), catalog.Item{SKU: "CLASS", Name: "A class", Kind: catalog.MadeToOrder, Currency: "EUR"}, "Edda"),
	)
	jar := []inventory.Quantity{{SKU: "JAR", Quantity: 1}}
	add := func(n inventory.NewPurchase) func() error {
		return func() error { _, err := k.AddPurchase(t.Context(), n, "Edda"); return err }
	}
	_, err := k.AddPurchase(t.Context(), inventory.NewPurchase{Number: "PO-77", Supplier: "C", Location: "alder", Lines: jar}, "Edda")
	require.NoError(t, err)
	requireRefused(t, map[string]func() error{
		"lines: none":       add(inventory.NewPurchase{Supplier: "C", Location: "alder"}),
		"supplier: missing": add(inventory.NewPurchase{Supplier: "  ", Location: "alder", Lines: jar}),
		`"31.1." is no day`: add(
			inventory.NewPurchase{Supplier: "C", Location: "alder", Expected: "31.1.", Lines: jar},
		),
		"there is a purchase order PO-77 already": add(
			inventory.NewPurchase{Number: "PO-77", Supplier: "C", Location: "alder", Lines: jar},
		),
		"CLASS is made to order and holds no stock": add(
			inventory.NewPurchase{Supplier: "C", Location: "alder", Lines: []inventory.Quantity{{SKU: "CLASS", Quantity: 1}}},
		),
		"line 2: quantity 1000001": add(
			inventory.NewPurchase{
				Supplier: "C",
				Location: "alder",
				Lines:    append(jar, inventory.Quantity{SKU: "JAR", Quantity: 1_000_001}),
			},
		),
		`"4000000000006" is no SKU and no GTIN of`: add(
			inventory.NewPurchase{Supplier: "C", Location: "alder", Lines: []inventory.Quantity{{SKU: "4000000000006", Quantity: 1}}},
		),
	})
	require.Equal(t, int64(1), level(k, t, "JAR", "alder").OnOrder)
	k.Holds()
}

// TestOneLineAnItem: an item that is written twice, once by its GTIN, is one line.
func TestOneLineAnItem(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.AddItems(t.Context(), []listing.Opening{{Item: catalog.Item{SKU: "JAR", Name: "A jar", GTIN: "4006381333931",
		Price: 1000, Currency: "EUR"}}}, "test"))
	number := orderedFrom(t, k, inventory.Quantity{SKU: "JAR", Quantity: 4}, inventory.Quantity{SKU: "4006381333931", Quantity: 3})
	p, err := k.Store.Purchase(t.Context(), number)
	require.NoError(t, err)
	require.Len(t, p.Lines, 1)
	require.Equal(t, int64(7), p.Lines[0].Ordered)
	p, err = k.Receive(t.Context(), number, []inventory.Arrival{{Code: " 4006381333931 ", Quantity: 7, Bin: "B4"}}, "Pim")
	require.NoError(t, err)
	require.Equal(t, "B4", p.Lines[0].Bin)
	require.Zero(t, p.Lines[0].Left())
	k.Holds()
}

// TestWhatArrivesThatWasNotOrdered needs a word; with it, it gets a line of its own.
func TestWhatArrivesThatWasNotOrdered(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(0, "JAR", "LID")
	number := orderedFrom(t, k, inventory.Quantity{SKU: "JAR", Quantity: 2})
	receive := func(a ...inventory.Arrival) func() error {
		return func() error { _, err := k.Receive(ctx, number, a, "Pim"); return err }
	}
	requireRefused(t, map[string]func() error{
		"nothing was received":                               receive(),
		"LID is not on purchase order " + number:             receive(inventory.Arrival{Code: "LID"}),
		"3 × JAR is more than is to come: 2 ordered, 0 rece": receive(inventory.Arrival{Code: "JAR", Quantity: 3}),
		"JAR has no serial numbers":                          receive(inventory.Arrival{Code: "JAR", Serials: []string{"1"}}),
		`"CUP" is no SKU`:                                    receive(inventory.Arrival{Code: "JAR"}, inventory.Arrival{Code: "CUP"}),
	})
	require.Equal(t, int64(0), level(k, t, "JAR", "alder").OnHand, "a list with one fault in it is not half taken")
	p, err := k.Receive(ctx, number, []inventory.Arrival{{Code: "LID", Quantity: 5, Over: true}, {Code: "JAR", Quantity: 2}}, "Pim")
	require.NoError(t, err)
	require.Len(t, p.Lines, 2)
	require.Equal(t, []int64{0, 5}, []int64{p.Lines[1].Ordered, p.Lines[1].Received})
	require.NoError(t, k.ClosePurchase(ctx, number, "Edda"))
	requireRefused(t, map[string]func() error{
		"is closed":              receive(inventory.Arrival{Code: "JAR", Over: true}),
		"purchase order PO-NONE": func() error { return k.ClosePurchase(ctx, "PO-NONE", "Edda") },
	})
	k.Holds()
}

// TestSerialNumbersComeInWithTheGoods: as many as units, none twice, and they are found where they lie.
func TestSerialNumbersComeInWithTheGoods(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	require.NoError(t, k.AddItems(ctx, []listing.Opening{{Item: catalog.Item{SKU: "SCALE", Name: "A scale", Serials: true, Price: 9000,
		Currency: "EUR"}}}, "test"))
	number := orderedFrom(t, k, inventory.Quantity{SKU: "SCALE", Quantity: 4})
	receive := func(n int64, serials ...string) func() error {
		return func() error {
			_, err := k.Receive(ctx, number, []inventory.Arrival{{Code: "SCALE", Quantity: n, Serials: serials}}, "Pim")
			return err
		}
	}
	require.NoError(t, receive(2, "A1", " A2 ")())
	requireRefused(t, map[string]func() error{
		"2 were received, 1 numbers were given":                receive(2, "A3"),
		"serial number A2 of SCALE is known already: it is at": receive(1, "A2"),
		"serial number B1 of SCALE is known already":           receive(2, "B1", "B1"),
		`serial "": 1 to 80 characters`:                        receive(1, " "),
	})
	why, err := k.WhyLevel(ctx, "SCALE", 0, k.Now())
	require.NoError(t, err)
	require.Len(t, why.Serials, 2)
	require.Equal(t, int64(2), level(k, t, "SCALE", "alder").OnHand)
	require.Contains(t, inventory.SerialText(why.Serials[0]), "at Alder Yard")
	k.Holds()
}

// TestATransferIsReceivedScanByScan: what is no part of it or more than is under way is refused; without a list, all that
// is left has arrived.
func TestATransferIsReceivedScanByScan(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR", "LID")
	number, err := k.AddTransfer(ctx, inventory.NewTransfer{From: "alder", To: "pier", Lines: []inventory.Quantity{
		{SKU: "JAR", Quantity: 2}, {SKU: "JAR", Quantity: 3}, {SKU: "LID", Quantity: 1}}}, "Edda")
	require.NoError(t, err)
	arrive := func(a ...inventory.Arrival) func() error {
		return func() error { return k.ArriveTransfer(ctx, number, a, "Pim") }
	}
	requireRefused(t, map[string]func() error{"is draft, not under way": arrive()})
	require.NoError(t, k.SendTransfer(ctx, number, "Edda"))
	requireRefused(t, map[string]func() error{
		`"CUP" is not part of transfer`:        arrive(inventory.Arrival{Code: "CUP"}),
		`"" is not part of transfer`:           arrive(inventory.Arrival{Code: " "}),
		"6 × JAR is more than is under way: 5": arrive(inventory.Arrival{Code: "jar", Quantity: 6}),
		"is under way, not draft":              func() error { return k.DropTransfer(ctx, number, "Edda") },
		"transfer T-NONE":                      func() error { return k.SendTransfer(ctx, "T-NONE", "Edda") },
	})
	require.NoError(t, arrive(inventory.Arrival{Code: "jar", Bin: "P1"})())
	require.NoError(t, arrive()())
	x, err := k.Store.Transfer(ctx, number)
	require.NoError(t, err)
	require.Equal(t, "closed", x.State)
	require.Equal(t, int64(5), level(k, t, "JAR", "pier").OnHand)
	require.Equal(t, int64(1), level(k, t, "LID", "pier").OnHand)
	k.Holds()
}

// TestACountBinByBin: each bin is a line, the goods that were picked and have not left are not missing, and a count can be
// dropped without a trace in the stock.
func TestACountBinByBin(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(10, "JAR")
	require.NoError(t, k.Rebin(ctx, "JAR", "alder", "", "A1", 10, true, "Pim"))
	require.NoError(t, k.Rebin(ctx, "JAR", "alder", "A1", "Z9", 4, false, "Pim"))
	k.Sell("S-1", trial.Units("JAR", 2))
	k.Picked("S-1")
	number, err := k.StartCount(ctx, "alder", "spring", "Pim")
	require.NoError(t, err)
	requireRefused(t, map[string]func() error{
		"nothing was counted yet": func() error { return k.PostCount(ctx, number, "", "Pim") },
		"quantity -1": func() error {
			_, err := k.CountItem(ctx, number, inventory.Counted{Code: "JAR", Quantity: -1}, "Pim")
			return err
		},
		`JAR in bin "B2"`: func() error { return k.Uncount(ctx, number, "JAR", "B2") },
	})
	_, err = k.CountItem(ctx, number, inventory.Counted{Code: "JAR", Quantity: 4}, "Pim") // the usual bin: 6, of which 2 are picked
	require.NoError(t, err)
	c, err := k.CountItem(ctx, number, inventory.Counted{Code: "JAR", Bin: "Z9", Quantity: 3}, "Pim")
	require.NoError(t, err)
	expected := map[string]int64{}
	for _, l := range c.Lines {
		expected[l.Bin] = l.Expected
	}
	require.Equal(t, map[string]int64{"A1": 4, "Z9": 4}, expected)
	require.NoError(t, k.PostCount(ctx, number, "", "Pim"))
	require.Equal(t, int64(9), level(k, t, "JAR", "alder").OnHand)
	why, err := k.WhyLevel(ctx, "JAR", 0, k.Now())
	require.NoError(t, err)
	require.Equal(t, "counted 3 where 4 should lie", why.Movements[0].Reason)

	dropped, err := k.StartCount(ctx, "alder", "", "Pim")
	require.NoError(t, err)
	_, err = k.CountItem(ctx, dropped, inventory.Counted{Code: "JAR", Quantity: 500}, "Pim")
	require.NoError(t, err)
	require.NoError(t, k.DropCount(ctx, dropped, "Pim"))
	require.Equal(t, int64(9), level(k, t, "JAR", "alder").OnHand)
	requireRefused(t, map[string]func() error{
		fmt.Sprintf("count %s is dropped", dropped): func() error { return k.PostCount(ctx, dropped, "", "Pim") },
		"count C-NONE": func() error { return k.DropCount(ctx, "C-NONE", "Pim") },
	})
	k.Holds()
}
