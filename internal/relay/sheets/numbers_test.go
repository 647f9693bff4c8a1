package sheets_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// TestNumbersFromAFile: packed parcels leave with the numbers of a file, which corrects them when it is handed in anew; a row that
// fits nothing keeps no other back.
func TestNumbersFromAFile(t *testing.T) {
	k := trial.New(t)
	require.NoError(t, k.PutNamedCarrier(t.Context(), store.NamedCarrier{Code: "ferry", Name: "Greywick Ferry"}, "Edda"))
	k.Stock(9, "JAR", "LID")
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 2), trial.Units("LID", 1))
	k.Sell("S-3", trial.Units("JAR", 1))
	one := k.Packed("S-1")
	two := k.Picked("S-2")
	k.PackUnits(two, "small", map[string]int64{"JAR": 2})
	require.NoError(t, k.PackInto(two, "small"))
	file := "parcel,carrier,number,service\n" +
		one + ",ferry,GF 1,\n" +
		"S-2,ferry,GF 2,\n" + // two parcels: which?
		two + ",ferry,GF 2,overnight\n" +
		two + "-2,barge,GF 3,\n" + // no such carrier
		"S-3,ferry,GF 4,\n" + // nothing is packed
		"S-9,ferry,GF 5,\n" +
		two + "-2,ferry,G,\n"
	id, got := handIn(t, k, "numbers", file)
	require.Equal(t, map[string]int{"add": 2, "refused": 5}, got)
	require.Equal(t, map[string]int{"added": 2, "refused": 5}, apply(t, k, id))
	require.Equal(t, []string{"shipped", "part shipped"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	require.Contains(t, k.OutboxOf("S-1", message.DispatchOut).Payload, `"tracking":"GF 1"`)
	k.Holds()

	// The order's number will do now: only one parcel of it wants a number.
	id, got = handIn(t, k, "numbers", "parcel,carrier,number\nS-2,ferry,GF 3\nS-1,ferry,GF 11\n")
	require.Equal(t, map[string]int{"add": 1, "change": 1}, got)
	require.Equal(t, map[string]int{"added": 1, "changed": 1}, apply(t, k, id))
	require.Equal(t, []string{"GF 11", "GF 2", "GF 3"},
		[]string{k.ParcelOf(one).Tracking, k.ParcelOf(two).Tracking, k.ParcelOf(two + "-2").Tracking})
	require.Equal(t, "shipped", k.Stage("S-2"))
	k.Holds()
}
