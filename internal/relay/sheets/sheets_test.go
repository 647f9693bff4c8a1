package sheets_test

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// handIn hands a file in, waits until it was looked at, and returns what of each row.
func handIn(t *testing.T, k *trial.Kit, kind, text string) (int64, map[string]int) {
	t.Helper()
	id, err := k.HandIn(t.Context(), kind, kind+".csv", strings.NewReader(text), "Edda")
	require.NoError(t, err)
	return id, verdicts(t, k, id, store.Checked)
}

func verdicts(t *testing.T, k *trial.Kit, id int64, state string) map[string]int {
	t.Helper()
	var s store.Sheet
	require.Eventually(t, func() bool {
		var err error
		s, err = k.Store.Sheet(t.Context(), id)
		require.NoError(t, err)
		return s.State == state || s.State == "failed"
	}, 20*time.Second, 5*time.Millisecond)
	require.Equal(t, state, s.State, s.Error)
	rows, err := k.Store.SheetRows(t.Context(), id, "", 0, 1000)
	require.NoError(t, err)
	out := map[string]int{}
	for _, r := range rows {
		out[r.Verdict]++
		if r.Verdict == "refused" {
			require.NotEmpty(t, r.Reason)
		}
	}
	return out
}

// apply carries a file out.
func apply(t *testing.T, k *trial.Kit, id int64) map[string]int {
	t.Helper()
	require.NoError(t, k.ApplySheet(t.Context(), id, "Edda"))
	out := verdicts(t, k, id, "done")
	k.Settle()
	return out
}

func saved(t *testing.T, k *trial.Kit, kind string) string {
	t.Helper()
	var out bytes.Buffer
	require.NoError(t, k.Save(t.Context(), kind, &out))
	return out.String()
}

// TestTablesInAndOut: each kind of table is looked at row by row before anything is done, a row that is wrong keeps no other
// from being carried out, and what was carried out comes out again.
func TestTablesInAndOut(t *testing.T) {
	k := trial.New(t)
	k.Stock(10, "JAR", "LID")
	k.Take("stall", trial.Event("listing", "L-9", 1, message.Listing{SKU: "STALL-JAR", Title: "Glass", Price: 1000, Currency: "EUR",
		Live: true}))
	for _, c := range []struct {
		kind, text string
		seen, done map[string]int
		back       string // kind that is saved after
		says       []string
	}{
		{"items", "sku,name,weight_g\nCUP,A cup,200\nJAR,,900\n,no sku,1\nPOT,A pot,heavy\n",
			map[string]int{"add": 1, "change": 1, "refused": 2}, map[string]int{"added": 1, "changed": 1, "refused": 2},
			"items", []string{"CUP", "JAR,stocked,,A JAR"}},
		{"prices", "sku,list,price\nJAR,,12.90\nJAR,none-such,1.00\n", map[string]int{"change": 1, "refused": 1},
			map[string]int{"changed": 1, "refused": 1}, "items", []string{"12.90"}},
		{"counts", "sku,location,counted\nJAR,alder,7\nJAR,nowhere,7\nNONE,alder,1\nLID,alder,some\n",
			map[string]int{"change": 1, "refused": 3}, map[string]int{"changed": 1, "refused": 3}, "levels",
			[]string{"JAR,A JAR,alder,,7"}},
		{"adjustments", "sku,location,change,reason\nLID,alder,-4,broken\nLID,alder,-400,broken\nLID,alder,1,\n", nil, nil, "levels",
			[]string{"LID,A LID,alder,,6"}},
		{"purchases", "number,supplier,location,expected,sku,quantity\nPO-1,Clay works,alder,2026-12-01,JAR,5\nPO-1,Clay " +
			"works,alder,2026-12-01,LID,2\nPO-2,Clay works,nowhere,,JAR,1\n", nil, nil, "purchases", []string{"PO-1,Clay works"}},
		{"receipts", "number,sku,quantity\nPO-1,JAR,3\nPO-9,JAR,3\n", nil, nil, "levels", []string{"JAR,A JAR,alder,,10"}},
		{"transfers", "transfer,from,to,sku,quantity\nfirst,alder,pier,JAR,2\nsecond,alder,alder,JAR,2\n", nil, nil, "transfers",
			[]string{"alder,pier,JAR,2"}},
		{"matches", "connection,listing,item\nstall,L-9,JAR\nstall,L-77,JAR\nnowhere,L-9,JAR\n",
			map[string]int{"change": 1, "refused": 2}, nil, "listings", []string{"stall,L-9,STALL-JAR,Glass,JAR"}},
	} {
		id, seen := handIn(t, k, c.kind, c.text)
		if c.seen != nil {
			require.Equal(t, c.seen, seen, c.kind)
		}
		require.NotZero(t, seen["refused"], "%s: each has a row that is wrong: %v", c.kind, seen)
		done := apply(t, k, id)
		if c.done != nil {
			require.Equal(t, c.done, done, c.kind)
		}
		require.Equal(t, seen["refused"], done["refused"], "%s: %v", c.kind, done)
		out := saved(t, k, c.back)
		for _, s := range c.says {
			require.Contains(t, out, s, c.kind)
		}
		require.Error(t, k.ApplySheet(t.Context(), id, "Edda"), "%s: it is done", c.kind)
		k.Holds()
	}
}

// TestFilesThatAreNoTables are refused as a whole, saying why.
func TestFilesThatAreNoTables(t *testing.T) {
	k := trial.New(t)
	for _, c := range []struct{ kind, text, says string }{
		{"gossip", "sku\nA\n", "there is no kind of sheet"},
		{"levels", "sku\nA\n", "can be saved, not handed in"},
		{"items", "", ""},
		{"items", "name\nA jar\n", "the column sku is missing"},
		{"items", "sku,name,colour\nA,b,c\n", "colour"},
	} {
		_, err := k.HandIn(t.Context(), c.kind, "file.csv", strings.NewReader(c.text), "Edda")
		require.ErrorContains(t, err, c.says, "%q", c.text)
	}
	require.Error(t, k.Save(t.Context(), "gossip", &bytes.Buffer{}))
	require.Error(t, k.ApplySheet(t.Context(), 99, "Edda"))
}

// TestAFileThatWasLookedAtIsCarriedOutAfterTheProcessEnded: and only once.
func TestAFileThatWasLookedAtIsCarriedOutAfterTheProcessEnded(t *testing.T) {
	k := trial.New(t)
	k.Stock(10, "JAR")
	id, seen := handIn(t, k, "adjustments", "sku,location,change,reason\nJAR,alder,-1,broken\nJAR,alder,-2,broken\nJAR,alder,-99,broken\n")
	require.NotZero(t, seen)
	k.Again()
	apply(t, k, id)
	require.Contains(t, saved(t, k, "levels"), "JAR,A JAR,alder,,7")
	k.Holds()
}
