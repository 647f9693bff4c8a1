package sheets_test

import (
	"encoding/csv"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// rowsOf lists the rows of a file that was handed in, by their keys.
func rowsOf(t *testing.T, k *trial.Kit, id int64) map[string]store.SheetRow {
	t.Helper()
	rows, err := k.Store.SheetRows(t.Context(), id, "", 0, 1000)
	require.NoError(t, err)
	out := map[string]store.SheetRow{}
	for _, r := range rows {
		out[r.Key] = r
	}
	return out
}

// rich is a table of items with all that a cell can hold.
const rich = `sku,name,kind,weight_g,gtin,customs_code,origin,price,currency,marks,images,serials,description,parts,options
HIVE-BODY,"Hive body, ""deep""",,4200,4006381333931,441400,XW,48.90,EUR,wood heavy,http://a.test/1.jpg http://a.test/2.jpg,no,"Two
lines",,
HIVE-ROOF,=1+1 roof,,1800,,,,"12,50",EUR,,,0,,,
SMOKER,+Smoker ÄÖ 蜂,,900,,,,19.00,EUR,,,yes,,,size M
STRAP,'s strap,,200,,,,3.00,EUR,,,,,,
SET,A hive,,,,,,99.00,EUR,,,,,2×HIVE-BODY 1×HIVE-ROOF,
PAINT,Painting,charge,,,,,15.00,EUR,,,,,,
`

// What is saved and handed in again changes nothing: a person may save a table, change one cell, and know that nothing
// else becomes another.
func TestWhatIsSavedChangesNothing(t *testing.T) {
	k := trial.New(t)
	id, seen := handIn(t, k, "items", rich)
	require.Equal(t, map[string]int{"add": 6}, seen)
	require.Equal(t, map[string]int{"added": 6}, apply(t, k, id))
	k.Take("stall",
		trial.Event("listing", "L-1", 1, message.Listing{SKU: "SMOKER", Title: "A smoker", Price: 1900, Currency: "EUR", Live: true}),
		trial.Event("listing", "L-2", 1, message.Listing{SKU: "?", Title: "=cmd()", Price: 100, Currency: "EUR", Live: true}))
	for _, kind := range []string{"items", "prices", "matches"} {
		table := saved(t, k, kind)
		id, seen := handIn(t, k, kind, table)
		for verdict := range seen {
			require.Equal(t, "nothing", verdict, "%s\n%s\n%+v", kind, table, rowsOf(t, k, id))
		}
		lines, err := csv.NewReader(strings.NewReader(table)).ReadAll()
		require.NoError(t, err)
		require.Len(t, lines, 1+seen["nothing"], "%s: no row is lost", kind)
	}
	table := saved(t, k, "items")
	id, seen = handIn(t, k, "items", strings.Replace(table, "900", "950", 1))
	require.Equal(t, map[string]int{"change": 1, "nothing": 5}, seen)
	require.Contains(t, rowsOf(t, k, id)["SMOKER"].Changes, "950")
	apply(t, k, id)
	it, err := k.Store.Record(t.Context(), "SMOKER")
	require.NoError(t, err)
	require.EqualValues(t, 950, it.WeightG)
	require.Equal(t, "+Smoker ÄÖ 蜂", it.Name)
	roof, err := k.Store.Record(t.Context(), "HIVE-ROOF")
	require.NoError(t, err)
	require.Equal(t, []any{"=1+1 roof", int64(1250)}, []any{roof.Name, roof.Price})
	strap, err := k.Store.Record(t.Context(), "STRAP")
	require.NoError(t, err)
	require.Equal(t, "'s strap", strap.Name, "an apostrophe of its own stays")
	k.Holds()
}

// A cell that is empty leaves a field as it is; (none) empties it.
func TestCellsThatAreEmptyAndCellsThatEmpty(t *testing.T) {
	k := trial.New(t)
	id, _ := handIn(t, k, "items", rich)
	apply(t, k, id)
	id, seen := handIn(t, k, "items", "sku,name,marks,customs_code,images\nHIVE-BODY,,,,\nSMOKER,(none),,,\n")
	require.Equal(t, map[string]int{"nothing": 1, "refused": 1}, seen)
	require.NotEmpty(t, rowsOf(t, k, id)["SMOKER"].Reason)
	id, seen = handIn(t, k, "items", "sku,marks,customs_code,images,weight_g\nHIVE-BODY,(none),(none),(none),(none)\n")
	require.Equal(t, map[string]int{"change": 1}, seen)
	apply(t, k, id)
	it, err := k.Store.Record(t.Context(), "HIVE-BODY")
	require.NoError(t, err)
	assert.Empty(t, it.Marks)
	assert.Empty(t, it.CustomsCode)
	assert.Empty(t, it.Images)
	assert.Zero(t, it.WeightG)
	assert.Equal(t, `Hive body, "deep"`, it.Name)
}

// Each cell that cannot be is refused by its own name, and the row with it.
func TestCellsThatCannotBe(t *testing.T) {
	k := trial.New(t)
	k.Stock(10, "JAR")
	for cell, text := range map[string]string{
		"serials": "perhaps", "archived": "soon", "weight_g": "-1", "length_mm": "ten", "price": "free", "parts": "JAR",
		"gtin": "4006381333930", "customs_code": "44", "origin": "Nowhere", "currency": "euro", "kind": "magic",
	} {
		_, seen := handIn(t, k, "items", fmt.Sprintf("sku,%s\nJAR,%s\n", cell, text))
		assert.Equal(t, map[string]int{"refused": 1}, seen, "%s: %s", cell, text)
	}
	for _, yes := range []string{"yes", "TRUE", "1", "y"} {
		id, seen := handIn(t, k, "items", "sku,name,serials\nS-"+yes+",A thing,"+yes+"\n")
		require.Equal(t, map[string]int{"add": 1}, seen, yes)
		apply(t, k, id)
		it, err := k.Store.Record(t.Context(), "S-"+yes)
		require.NoError(t, err)
		require.True(t, it.Serials, yes)
	}
}

// Which item a listing is: matched, left alone, and let go again, each only where it can be.
func TestMatchesFromATable(t *testing.T) {
	k := trial.New(t)
	k.Stock(10, "JAR", "OLD")
	id, _ := handIn(t, k, "items", "sku,archived\nOLD,yes\n")
	apply(t, k, id)
	k.Take("stall", trial.Event("listing", "L-9", 1, message.Listing{SKU: "ODD", Title: "Glass", Price: 1000, Currency: "EUR", Live: true}))
	item := func() int64 {
		l, err := k.Store.Listing(t.Context(), "stall", "L-9")
		require.NoError(t, err)
		return l.ItemID
	}
	for _, c := range []struct {
		item, verdict string
		matched       bool
	}{
		{"(none)", "nothing", false}, {"OLD", "refused", false}, {"GHOST", "refused", false}, {"ignore", "change", false},
		{"ignore", "nothing", false}, {"JAR", "change", true}, {"JAR", "nothing", true}, {"ignore", "refused", true},
		{"(none)", "change", false}, {"(none)", "nothing", false},
	} {
		id, seen := handIn(t, k, "matches", "connection,listing,item\nstall,L-9,"+c.item+"\n")
		require.Equal(t, map[string]int{c.verdict: 1}, seen, c.item)
		if c.verdict == "change" {
			require.Equal(t, map[string]int{"changed": 1}, apply(t, k, id), c.item)
		}
		require.Equal(t, c.matched, item() != 0, c.item)
	}
	k.Holds()
}

// What was right when the file was looked at and is wrong when it is carried out is refused row by row, and the others are done.
func TestWhatChangedBetweenLookingAndCarryingOut(t *testing.T) {
	k := trial.New(t)
	k.Stock(10, "JAR", "LID", "CUP")
	id, seen := handIn(t, k, "adjustments", "sku,location,change,reason\nJAR,alder,-9,broken\nLID,alder,-1,broken\nCUP,alder,-2,broken\n")
	require.Equal(t, map[string]int{"change": 3}, seen)
	other, _ := handIn(t, k, "adjustments", "sku,location,change,reason\nJAR,alder,-8,lost\n")
	apply(t, k, other)
	require.Equal(t, map[string]int{"changed": 2, "refused": 1}, apply(t, k, id))
	levels := saved(t, k, "levels")
	for _, want := range []string{"JAR,A JAR,alder,,2", "LID,A LID,alder,,9", "CUP,A CUP,alder,,8"} {
		require.Contains(t, levels, want)
	}
	k.Holds()
}

// Counts in bins: what lies in the bin becomes the number, and what lies elsewhere stays.
func TestCountsInBins(t *testing.T) {
	k := trial.New(t)
	k.Stock(10, "JAR")
	for _, c := range []struct {
		row, verdict, says string
	}{
		{"JAR,alder,B-1,4", "change", "0 → 4"}, {"JAR,alder,B-1,4", "nothing", ""}, {"JAR,alder,B-1,1", "change", "4 → 1"},
	} {
		id, seen := handIn(t, k, "counts", "sku,location,bin,counted\n"+c.row+"\n")
		require.Equal(t, map[string]int{c.verdict: 1}, seen, c.row)
		for _, r := range rowsOf(t, k, id) {
			require.Equal(t, c.says, r.Changes)
		}
		if c.verdict == "change" {
			apply(t, k, id)
		}
	}
	require.EqualValues(t, 11, k.OnHand("JAR"))
	k.Holds()
}
