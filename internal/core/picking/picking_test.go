package picking

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

func wants() []Want {
	return []Want{
		{LineID: 1, SKU: "SUIT-M", GTIN: "2007100010135", Title: "Suit", Bin: "A-01-2", Quantity: 1},
		{LineID: 2, SKU: "JAR-500", GTIN: "2007100012474", Title: "Jars", Bin: "B-01-2", Quantity: 3, Picked: 1},
		{LineID: 3, SKU: "BOOK", Title: "Book", Quantity: 1, Picked: 1},
	}
}

func TestScan(t *testing.T) {
	for _, c := range []struct {
		name, code, bin string
		qty             int64
		kind            string
		line, took      int64
		refused         string
		expected        string
	}{
		{"the order", "r10001", "", 0, "order", 0, 0, "", ""},
		{"a bin", "a-01-2", "", 0, "bin", 0, 0, "", ""},
		{"a product by GTIN", "2007100012474", "B-01-2", 0, "product", 2, 1, "", ""},
		{"a product by SKU, typed small", " jar-500 ", "", 2, "product", 2, 2, "", ""},
		{"too many", "JAR-500", "", 3, "", 0, 0, "3 × JAR-500 is too many", "at most 2"},
		{"the wrong bin", "SUIT-M", "B-01-2", 0, "", 0, 0, "lies in bin A-01-2", "bin A-01-2 first"},
		{"a foreign product", "SMOKER-L", "", 0, "", 0, 0, "not part of order R10001", "SUIT-M from bin A-01-2"},
		{"one that is complete", "BOOK", "", 0, "", 0, 0, "already complete", "SUIT-M"},
		{"a foreign bin", "Z-99-9", "", 0, "", 0, 0, "not part", "SUIT-M"},
		{"nothing", "  ", "", 0, "", 0, 0, "Nothing was read", "SUIT-M"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := Scan("R10001", wants(), c.code, c.bin, c.qty)
			if c.refused != "" {
				var r *Refusal
				require.True(t, errors.As(err, &r), "%v", got)
				require.Contains(t, r.Read, c.refused)
				require.Contains(t, r.Expected, c.expected)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.kind, got.Kind)
			require.Equal(t, c.line, got.LineID)
			require.Equal(t, c.took, got.Quantity)
		})
	}
}

// FuzzScan: no code, however odd, picks more than is wanted or breaks the decision.
func FuzzScan(f *testing.F) {
	f.Add("JAR-500", "B-01-2", int64(1))
	f.Add("2007100010135", "", int64(-5))
	f.Fuzz(func(t *testing.T, code, bin string, qty int64) {
		got, err := Scan("R1", wants(), code, bin, qty)
		if err == nil && got.Kind == "product" {
			for _, w := range wants() {
				if w.LineID == got.LineID && (got.Quantity < 1 || got.Quantity > w.Left()) {
					t.Fatalf("%q took %d of %d", code, got.Quantity, w.Left())
				}
			}
		}
	})
}

// TestAGS1SymbolIsRead: its GTIN is the product, its count the units, its serial number is told.
func TestAGS1SymbolIsRead(t *testing.T) {
	wants := []Want{{LineID: 1, ItemID: 7, SKU: "SUIT", GTIN: "2007100010524", Title: "Suit", Quantity: 5}}
	got, err := Scan("O1", wants, "]C1010200710001052421A7-9", "", 0)
	require.NoError(t, err)
	require.Equal(t, []any{int64(7), int64(1), "A7-9"}, []any{got.ItemID, got.Quantity, got.Serial})
	got, err = Scan("O1", wants, "]C102020071000105243704", "", 0)
	require.NoError(t, err)
	require.EqualValues(t, 4, got.Quantity)
	_, err = Scan("O1", wants, "]C102020071000105243706", "", 0)
	require.ErrorContains(t, err, "6 × SUIT is too many")
	_, err = Scan("O1", wants, "]C10102007100010529", "", 0)
	require.ErrorContains(t, err, "is no GTIN")
	w, err := Find(wants, "(01)02007100010524")
	require.NoError(t, err)
	require.Equal(t, "SUIT", w.SKU)
}
