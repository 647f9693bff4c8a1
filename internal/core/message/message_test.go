package message

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCheckNamesTheField(t *testing.T) {
	good := func() *Order {
		return &Order{Number: "MH-1", State: "confirmed", Status: Open, Currency: "EUR",
			Lines: []OrderLine{{ID: "1", Quantity: 1}, {ID: "2", Quantity: 5}}}
	}
	require.NoError(t, good().Check())
	for want, change := range map[string]func(*Order){
		"number: missing":                  func(o *Order) { o.Number = "" },
		`currency: "eur"`:                  func(o *Order) { o.Currency = "eur" },
		"lines: none":                      func(o *Order) { o.Lines = nil },
		"lines: 1001":                      func(o *Order) { o.Lines = make([]OrderLine, 1001) },
		`channel state "confirmed" has no`: func(o *Order) { o.Status = "" },
		"lines[1].id: missing":             func(o *Order) { o.Lines[1].ID = "" },
		`lines[1].id: "1" stands twice`:    func(o *Order) { o.Lines[1].ID = "1" },
		"lines[0].quantity: 0":             func(o *Order) { o.Lines[0].Quantity = 0 },
		"beyond all reason":                func(o *Order) { o.Lines[0].Quantity = 1e9 },
	} {
		o := good()
		change(o)
		require.ErrorContains(t, o.Check(), want)
	}
}
