package joining_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/packing"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

func crate(code string) packing.Profile {
	return packing.Profile{Code: code, Name: "A crate", LengthMM: 600, WidthMM: 400, HeightMM: 300, TareG: 900, MaxG: 20_000}
}

// TestProfilesComeAndGo: what cannot be is refused where it is said; what is archived packs nothing and stays for what it packed.
func TestProfilesComeAndGo(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	for want, change := range map[string]func(*packing.Profile){
		"code": func(p *packing.Profile) { p.Code = "A crate" }, "name: missing": func(p *packing.Profile) { p.Name = " " },
		"length_mm": func(p *packing.Profile) { p.LengthMM = 0 }, "millimetres each": func(p *packing.Profile) { p.HeightMM = 99_999 },
		"tare_g": func(p *packing.Profile) { p.TareG = -1 }, "max_g": func(p *packing.Profile) { p.MaxG = 0 },
	} {
		p := crate("crate")
		change(&p)
		require.ErrorContains(t, k.PutProfile(ctx, p, "Edda"), want)
	}
	require.NoError(t, k.PutProfile(ctx, crate("crate"), "Edda"))
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	s := k.Picked("S-1")
	require.NoError(t, k.Rule(`profile("crate")`))
	require.ErrorContains(t, k.ArchiveProfile(ctx, "crate", true, "Edda"), "names crate")
	list, err := k.Store.Rules(ctx)
	require.NoError(t, err)
	_, err = k.PutRule(ctx, orders.RuleChange{ID: list[0].ID, Revision: list[0].Revision, Remove: true}, "Edda")
	require.NoError(t, err)
	require.NoError(t, k.ArchiveProfile(ctx, "crate", true, "Edda"))
	require.ErrorContains(t, k.PackInto(s, "crate"), "crate")
	require.ErrorContains(t, k.Rule(`profile("crate")`), "not known")
	require.NoError(t, k.ArchiveProfile(ctx, "crate", false, "Edda"))
	require.NoError(t, k.PackInto(s, "crate"))
	require.NoError(t, k.ArchiveProfile(ctx, "crate", true, "Edda"))
	require.Equal(t, "crate", k.ParcelOf(s).Profile)
	require.ErrorIs(t, k.ArchiveProfile(ctx, "sack", true, "Edda"), store.ErrNotFound)
	k.Holds()
}

// TestNumbersAreGivenOnce, whatever a series is told to go on with.
func TestNumbersAreGivenOnce(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	require.Equal(t, "O10001", o.Number)
	for want, s := range map[string]store.Series{"code": {Code: "An order", Next: 1},
		"prefix": {Code: "order", Prefix: "no spaces", Next: 1}, "next: from 1": {Code: "order", Prefix: "X"},
		"O10001 was given already; 10002 is the least": {Code: "order", Prefix: "O", Next: 10001},
	} {
		require.ErrorContains(t, k.SetSeries(ctx, s, "Edda"), want)
	}
	require.NoError(t, k.SetSeries(ctx, store.Series{Code: "order", Prefix: "MH-", Next: 7}, "Edda"))
	k.Sell("S-2", trial.Units("JAR", 1))
	o, err = k.Store.OrderByNumber(ctx, "S-2")
	require.NoError(t, err)
	require.Equal(t, "MH-7", o.Number)
	require.ErrorContains(t, k.SetSeries(ctx, store.Series{Code: "order", Prefix: "O", Next: 9}, "Edda"), "10002 is the least")
	require.NoError(t, k.SetSeries(ctx, store.Series{Code: "order", Prefix: "O1", Next: 2}, "Edda"), "O12 is not O10001")
	k.Holds()
}
