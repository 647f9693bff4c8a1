package message

import (
	"bytes"
	"encoding/json"
	"os"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"
)

// TestShapesArePublishedAsTheyAre: the schemas in docs are those of the types, the examples fit them and
// would be taken in, and what does not fit is refused.
func TestShapesArePublishedAsTheyAre(t *testing.T) {
	for _, s := range Shapes() {
		t.Run(s.Name, func(t *testing.T) {
			text, err := s.SchemaText()
			require.NoError(t, err)
			kept, err := os.ReadFile("../../../docs/shapes/" + s.Name + ".schema.json")
			require.NoError(t, err)
			require.Equal(t, string(kept), string(text), "write it anew: openrelay connector shapes %s > docs/shapes/%s.schema.json",
				s.Name, s.Name)
			doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
			require.NoError(t, err)
			c := jsonschema.NewCompiler()
			require.NoError(t, c.AddResource("shape.json", doc))
			schema, err := c.Compile("shape.json")
			require.NoError(t, err)
			example, err := json.Marshal(s.Example)
			require.NoError(t, err)
			v, err := jsonschema.UnmarshalJSON(bytes.NewReader(example))
			require.NoError(t, err)
			require.NoError(t, schema.Validate(v))
			require.NoError(t, s.Example.(interface{ Check() error }).Check())
			v.(map[string]any)["colour"] = "red"
			require.Error(t, schema.Validate(v), "a field that does not exist")
			require.Error(t, schema.Validate(map[string]any{}), "nothing that is needed")
		})
	}
}

func TestChecksNameTheField(t *testing.T) {
	for _, c := range []struct {
		m    interface{ Check() error }
		says string
	}{
		{&Item{Name: "x"}, "sku: missing"},
		{&Item{SKU: "x"}, "name: missing"},
		{&Item{SKU: "x", Name: "x", GTIN: "2007100014509"}, "gtin"},
		{&Item{SKU: "x", Name: "x", Currency: "EURO"}, "currency"},
		{&Item{SKU: "x", Name: "x", WeightG: -1}, "not negative"},
		{&Listing{}, "sku, title"},
		{&Listing{SKU: "x", Currency: "e"}, "currency"},
		{&Customer{}, "name"},
		{&StockLevel{}, "sku"},
		{&StockLevel{SKU: "x", Quantity: 2_000_000_000}, "beyond all reason"},
		{&Dispatch{}, "reference"},
		{&Dispatch{Reference: "r"}, "order_id, order_number, our_number"},
		{&Dispatch{Reference: "r", OrderID: "o"}, "tracking"},
		{&Dispatch{Reference: "r", OrderID: "o", Tracking: "t", Lines: []DispatchLine{{Quantity: 0}}}, "lines[0]"},
		{&Tracking{State: "flying"}, `state: "flying"`},
		{&Tracking{State: "delivered"}, "tracking"},
		{&Order{Number: "1", Currency: "EUR", Lines: []OrderLine{{ID: "1", Quantity: 1}}, Status: "odd"}, `status: "odd"`},
	} {
		require.ErrorContains(t, c.m.Check(), c.says)
	}
}
