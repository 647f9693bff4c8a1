package message

import (
	"encoding/base64"
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

// TestALabelAsItsCarrierMadeIt goes through unchanged; one that is not what it says is told.
func TestALabelAsItsCarrierMadeIt(t *testing.T) {
	text := func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }
	document, form, made, err := (&Label{Document: text("^XA^FDMaren^FS^XZ"), DocumentForm: "zpl"}).MadeBy()
	require.NoError(t, err)
	require.True(t, made)
	require.Equal(t, "^XA^FDMaren^FS^XZ zpl", string(document)+" "+form)
	_, _, made, err = (&Label{}).MadeBy()
	require.NoError(t, err)
	require.False(t, made)
	for says, l := range map[string]Label{
		"is no base64":                       {ID: "L1", Document: "^XA", DocumentForm: "zpl"},
		`in the form "doc"`:                  {ID: "L1", Document: text("x"), DocumentForm: "doc"},
		"the document of label L1 is no pdf": {ID: "L1", Document: text("<html>"), DocumentForm: "pdf"},
		"is no png":                          {ID: "L1", Document: text("GIF89a"), DocumentForm: "png"},
	} {
		_, _, _, err := l.MadeBy()
		require.ErrorContains(t, err, says)
	}
	_, form, _, err = (&Label{Document: text("%PDF-1.7"), DocumentForm: "pdf"}).MadeBy()
	require.NoError(t, err)
	require.Equal(t, "pdf", form)
}
