package message

import (
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatAnOrderMayBe names the field of what an order says that cannot be.
func TestWhatAnOrderMayBe(t *testing.T) {
	good := func() *Order {
		return &Order{Number: "MH-1", Status: Open, Currency: "EUR", Kind: Kinds[0], FulfilledBy: ByChannel,
			Vouchers: []Voucher{{"SPRING", 500}}, Lines: []OrderLine{{ID: "1", Quantity: 1, TaxPermille: 190}}}
	}
	require.NoError(t, good().Check())
	for says, spoil := range map[string]func(*Order){
		`kind: "drone"`:                  func(o *Order) { o.Kind = "drone" },
		`fulfilled_by: "moon"`:           func(o *Order) { o.FulfilledBy = "moon" },
		"vouchers[0]: a code":            func(o *Order) { o.Vouchers[0].Code = "" },
		"an amount that is not negative": func(o *Order) { o.Vouchers[0].Amount = -1 },
		"lines[0].tax_permille: 1001":    func(o *Order) { o.Lines[0].TaxPermille = 1001 },
		"lines[0].tax_permille: -1":      func(o *Order) { o.Lines[0].TaxPermille = -1 },
		"lines[0].quantity: -3":          func(o *Order) { o.Lines[0].Quantity = -3 },
		"quantity: 1000001 is beyond":    func(o *Order) { o.Lines[0].Quantity = 1_000_001 },
	} {
		o := good()
		spoil(o)
		assert.ErrorContains(t, o.Check(), says)
	}
	for _, kind := range Kinds {
		o := good()
		o.Kind = kind
		assert.NoError(t, o.Check())
	}
}

// TestLongTextsAreCut: no text of an order is longer than its bound, none breaks a letter, and short ones stay.
func TestLongTextsAreCut(t *testing.T) {
	long := strings.Repeat("ä🐝", 5000)
	o := &Order{Number: long, State: long, BuyerName: long, BuyerEmail: long, Payment: long, RequestedService: long, WindowFrom: long,
		WindowTo: long, Note: long, GiftNote: long, KitchenNote: long,
		Lines: []OrderLine{{SKU: long, Title: long, Note: long, Choices: []LineChoice{{Name: long}}}, {SKU: "JAR", Title: "Jar"}}}
	o.Normal()
	for _, s := range []string{o.Number, o.State, o.BuyerName, o.BuyerEmail, o.Payment, o.RequestedService, o.WindowFrom, o.WindowTo,
		o.Lines[0].SKU, o.Lines[0].Title, o.Lines[0].Choices[0].Name} {
		assert.LessOrEqual(t, len(s), maxName)
		assert.True(t, strings.HasPrefix(long, strings.TrimSuffix(s, "…")) && !strings.ContainsRune(s, '\uFFFD'), "%.20q", s)
	}
	for _, s := range []string{o.Note, o.GiftNote, o.KitchenNote, o.Lines[0].Note} {
		assert.LessOrEqual(t, len(s), maxNote)
		assert.Greater(t, len(s), maxName)
	}
	assert.Equal(t, OrderLine{SKU: "JAR", Title: "Jar"}, o.Lines[1])
}

func TestALineCostsItsChoices(t *testing.T) {
	l := OrderLine{Quantity: 3, UnitPrice: 450, Discount: 100, Choices: []LineChoice{{Name: "Oat", Price: 30}, {Name: "Rye"}}}
	assert.Equal(t, int64(1440), l.Gross(), "before its discount")
}

// TestAnOrderIsWrittenOnce: what was encoded ahead is what encoding now would give.
func TestAnOrderIsWrittenOnce(t *testing.T) {
	o := &Order{Number: "MH-1", Status: Open, Currency: "EUR", Lines: []OrderLine{{ID: "1", Quantity: 2}}}
	fresh, err := o.Encoded()
	require.NoError(t, err)
	require.NoError(t, o.Encode())
	ahead, err := o.Encoded()
	require.NoError(t, err)
	assert.JSONEq(t, string(fresh), string(ahead))
	var back Order
	require.NoError(t, json.Unmarshal(ahead, &back))
	assert.Equal(t, o.Lines, back.Lines)
}

func TestAListingStandsAsItSays(t *testing.T) {
	for want, l := range map[string]Listing{"in review": {State: "in review", Live: true}, "live": {Live: true}, "off": {}} {
		assert.Equal(t, want, l.Standing())
	}
}

func TestALevelSaysWhyItMoved(t *testing.T) {
	for _, cause := range []string{"", "edit", "sale", "ours"} {
		assert.NoError(t, (&StockLevel{SKU: "JAR", Cause: cause}).Check())
	}
	assert.ErrorContains(t, (&StockLevel{SKU: "JAR", Cause: "theft"}).Check(), `cause: "theft"`)
	assert.ErrorContains(t, (&StockLevel{SKU: "JAR", Quantity: -1_000_001}).Check(), "beyond all reason")
	assert.NoError(t, (&StockLevel{Listing: "88016", Quantity: -3}).Check(), "oversold there")
}
