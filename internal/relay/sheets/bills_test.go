package sheets_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/trial"
)

// TestABillFromAFile: with semicolons and decimal commas, each row by itself; handed in anew it changes nothing.
func TestABillFromAFile(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	s := k.Packed("S-1")
	require.NoError(t, k.Label(s, "ann"))
	number := k.ParcelOf(s).Tracking
	file := "Bill;Number;Amount;Weight kg;What\n" +
		"B-1;" + number + ";4,00;0,4;\n" +
		"B-1;" + number + ";1,20;;remote place\n" +
		"B-1;;3,00;;\n" +
		"B-1;XX9;4,00;heavy;\n" +
		"B-1;XX8;much;;\n" +
		"B-1;XX7;4,00;;\n"
	id, got := handIn(t, k, "bills", file)
	require.Equal(t, map[string]int{"add": 3, "refused": 3}, got)
	require.Equal(t, map[string]int{"added": 3, "refused": 3}, apply(t, k, id))
	require.ElementsMatch(t, []order.Cause{engine.BillDiffers, engine.BillDiffers}, k.Causes(), "of ann, and of nobody that is known")
	require.EqualValues(t, 520, k.ParcelOf(s).Billed)
	require.EqualValues(t, 400, k.ParcelOf(s).BilledG)
	_, got = handIn(t, k, "bills", file)
	require.Equal(t, map[string]int{"nothing": 3, "refused": 3}, got)
}
