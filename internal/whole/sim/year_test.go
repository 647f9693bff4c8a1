package sim

import (
	"flag"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/trial"
)

var year = flag.Int("year", 0, "days of trade for TestAYearOfTradeStaysWithinABound, ten orders a day; 0: 50 of two")

// What the file may grow by with everything kept as short as it may be: for each order what stays for ever, and for each
// order of the last thirty days what is still whole. What an empty company takes is measured: a page for each table and index.
const (
	boundPerOrder  = 4_800 // bytes
	boundPerRecent = 4_600 // bytes
)

// TestAYearOfTradeStaysWithinABound: days of trade go by on a clock that is moved by hand. What is old is thinned each
// night, everything holds in the end, and the file is no larger than the bound, which is printed.
func TestAYearOfTradeStaysWithinABound(t *testing.T) {
	days, perDay := 50, 2
	if *year > 0 {
		days, perDay = *year, 10
	}
	k := trial.New(t, "ann")
	ctx := t.Context()
	empty, _, err := k.Store.Size(ctx)
	require.NoError(t, err)
	k.Stock(int64(days*perDay*2), "JAR", "LID")
	list, err := k.Retentions(ctx)
	require.NoError(t, err)
	least := map[string]int{}
	for _, x := range list {
		least[x.Kind] = x.Least
	}
	require.NoError(t, k.SetRetention(ctx, least, "Edda"))
	sold, longest := 0, 0.0
	for day := range days {
		for range perDay {
			sold++
			number := fmt.Sprintf("S-%d", sold)
			order := trial.Event("order", number, 1, trial.Sale(number, trial.Units("JAR", 1), trial.Units("LID", 1)))
			order["besides"] = strings.Repeat("what a channel says besides ", 150) // records are some kilobytes long
			k.Take("stall", order)
			require.NoError(t, k.Label(k.Packed(number), "ann"))
		}
		k.Later(24 * time.Hour)
		p, err := k.Thin(ctx)
		require.NoError(t, err, "day %d", day)
		longest = max(longest, p.Longest)
	}
	k.Holds()
	size, free, err := k.Store.Size(ctx)
	require.NoError(t, err)
	recent := min(days, 30) * perDay
	bound := empty + int64(sold*boundPerOrder+recent*boundPerRecent)
	fmt.Printf("%d days, %d orders: the file has %.2f MB, %.2f of them free; the bound is %.2f MB; nobody waited longer than %.1f ms\n",
		days, sold, float64(size)/1e6, float64(free)/1e6, float64(bound)/1e6, longest)
	require.LessOrEqual(t, size, bound)
}
