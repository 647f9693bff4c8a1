package shipping_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/trial"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// choosing is a company with two carriers that ships without a person.
func choosing(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t, "ann", "bob")
	k.On("bob", "/prices", func(trial.Call) (int, any) {
		return 200, map[string]any{"offers": []any{map[string]any{"service": "crate", "name": "Crate", "price": 300, "currency": "EUR"},
			map[string]any{"service": "fast", "name": "Fast", "price": 850, "currency": "EUR"}}}
	})
	k.Learned()
	require.NoError(t, k.Rule(`carry("ship"), profile("small")`))
	k.Stock(50, "JAR")
	return k
}

// sells lets an order come, and returns the service of the label that was bought for it; "": none was.
func sells(k *trial.Kit, number, wish string) string {
	k.Take("stall", trial.Event("order", number, 1, wished(number, wish, trial.Units("JAR", 1))))
	s := k.Picked(number)
	k.Settle()
	p := k.ParcelOf(s)
	if p.State != store.Gone {
		return ""
	}
	return k.ByID(p.CarrierID).Rec().Code + "/" + p.ServiceName
}

// TestTheTableOfServicesDecides for all channels: the channel's own words go before it, and what is in neither waits, said once with
// all orders that wait; they go on once it is decided.
func TestTheTableOfServicesDecides(t *testing.T) {
	k := choosing(t)
	ctx := t.Context()
	require.Equal(t, "bob/crate", sells(k, "S-1", ""), "nothing was promised, and the table is empty")
	require.Empty(t, sells(k, "S-2", "overnight"))
	require.Empty(t, sells(k, "S-3", "overnight"))
	require.Equal(t, []order.Cause{engine.ServiceOpen, engine.ServiceOpen}, k.Causes())
	open, err := k.Store.OpenServices(ctx, engine.ServiceOpen)
	require.NoError(t, err)
	require.Equal(t, []store.OpenService{{Word: "overnight", ConnectionID: k.ByCode("stall").ID, Orders: 2}}, open)

	table := []freight.Choice{
		{Word: "overnight", Service: "ann/fast"},
		{Word: "careful", Service: "ask"},
		{Word: "standard", ToG: 100, Service: "crate"},
		{Word: "standard", Service: "fast"},
		{Countries: []string{"XE"}, Service: "ask"},
		{Service: "slow"},
	}
	require.NoError(t, k.PutServices(ctx, table, "Edda"))
	k.Settle()
	require.Empty(t, k.Causes(), "both went on")
	for _, n := range []string{"S-2", "S-3"} {
		require.Equal(t, "shipped", k.Stage(n))
	}
	require.Equal(t, "bob/fast", sells(k, "S-4", "standard"), "it weighs more than the row before takes; the cheaper of two that sell it")
	require.Equal(t, "ann/slow", sells(k, "S-5", ""), "what was not promised goes by the last row, too")
	require.Empty(t, sells(k, "S-6", "careful"))
	require.Contains(t, k.Exceptions()[0].Text, "a person picks its service")
	set := *k.ByCode("stall").Settings()
	set.Services = map[string]string{"careful": "cheapest"}
	require.NoError(t, k.SetSettings(ctx, "stall", set, 0, "Edda"))
	k.Settle()
	require.Equal(t, "shipped", k.Stage("S-6"), "the channel's own words go before the table")
	k.Again()
	again, err := k.Store.ServiceChoices(ctx)
	require.NoError(t, err)
	require.Equal(t, table, again)
	k.Holds()
}

// TestWhatCannotBeInTheTable is refused where it is set, with its row; a change is undone.
func TestWhatCannotBeInTheTable(t *testing.T) {
	k := choosing(t)
	ctx := t.Context()
	for says, list := range map[string][]freight.Choice{
		`row 1: service "teleport": no joined carrier sells it`:     {{Service: "teleport"}},
		`row 1: service: Bob does not sell "slow"`:                  {{Service: "bob/slow"}},
		`row 2: service: "stall" is no carrier that is joined`:      {{Word: "a", Service: "fast"}, {Word: "b", Service: "stall/fast"}},
		`row 1: there is no connection "nowhere"`:                   {{Connection: "nowhere", Service: "fast"}},
		`row 2 would never be looked at: row 1 before it holds all`: {{Service: "fast"}, {Word: "express", Service: "slow"}},
		`row 1: a service is expected`:                              {{Word: "express"}},
		`at most 500 are expected`:                                  make([]freight.Choice, 501),
	} {
		require.ErrorContains(t, k.PutServices(ctx, list, "Edda"), says)
	}
	have, err := k.Store.ServiceChoices(ctx)
	require.NoError(t, err)
	require.Empty(t, have)
	put := func(service string) {
		require.NoError(t, k.ChangeSetting(ctx, shipping.ServiceTableKind, shipping.ServiceTable, "Edda", func() error {
			return k.PutServices(ctx, []freight.Choice{{Connection: "stall", Service: service}}, "Edda")
		}))
	}
	put("slow")
	put("fast")
	changes, err := k.Store.SettingChanges(ctx, []string{shipping.ServiceTableKind}, 0, 10)
	require.NoError(t, err)
	require.Len(t, changes, 2)
	require.NoError(t, k.UndoSetting(ctx, changes[0].ID, "Edda"))
	have, err = k.Store.ServiceChoices(ctx)
	require.NoError(t, err)
	require.Equal(t, []freight.Choice{{Connection: "stall", Service: "slow"}}, have)
}

// TestACarrierThatHangsDelaysNobody: its published tariff stands in, marked so, also after a new start; one without says so.
func TestACarrierThatHangsDelaysNobody(t *testing.T) {
	k := trial.New(t, "ann")
	tariff := map[string]any{
		"currency": "EUR",
		"services": []any{map[string]any{"code": "T1", "name": "By tariff", "max_g": 9000, "max_mm": 900,
			"divisor": 0, "zones": []any{map[string]any{"name": "home", "countries": []any{"XW"}, "days": 2,
				"steps": []any{map[string]any{"up_to_g": 9000, "price": 640}}}}}},
	}
	k.JoinTariff("tess")
	k.JoinTariff("tom")
	hung := make(chan struct{})
	t.Cleanup(func() { close(hung) })
	hang := func(trial.Call) (int, any) { <-hung; return 0, nil }
	k.On("tess", "/tariff", func(trial.Call) (int, any) { return 200, tariff })
	k.On("tess", "/prices", hang)
	k.On("tom", "/prices", hang)
	k.On("tom", "/tariff", func(trial.Call) (int, any) { return 500, nil })
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	parcel := k.Packed("S-1")
	ask := func() []shipping.Rate {
		begin := time.Now()
		list, err := k.Rates(context.Background(), parcel)
		require.NoError(t, err)
		require.Less(t, time.Since(begin), 5*time.Second, "nobody waits for who hangs")
		return list
	}
	byCarrier := map[string]shipping.Rate{}
	for _, r := range ask() {
		byCarrier[r.Carrier+" "+r.Service] = r
	}
	require.False(t, byCarrier["ann slow"].Estimated)
	require.Equal(t, []string{"cheapest"}, byCarrier["ann slow"].Best)
	require.True(t, byCarrier["tess T1"].Estimated)
	require.EqualValues(t, 640, byCarrier["tess T1"].Price)
	require.Equal(t, []string{"fastest"}, byCarrier["tess T1"].Best, "the others do not say when they arrive")
	require.Contains(t, byCarrier["tom "].Refused, "no answer")

	k.On("tess", "/tariff", hang)
	k.Again()
	kept := 0
	for _, r := range ask() {
		if r.Carrier == "tess" && r.Estimated && r.Price == 640 {
			kept++
		}
	}
	require.Equal(t, 1, kept)
}

// TestTheTableIsPartOfASetUp: it is written with it, and brings another company to the same.
func TestTheTableIsPartOfASetUp(t *testing.T) {
	k := choosing(t)
	ctx := t.Context()
	table := []freight.Choice{{Word: "express", Connection: "stall", Countries: []string{"XW"}, ToG: 2000, Service: "ann/fast"},
		{Service: "cheapest"}}
	require.NoError(t, k.PutServices(ctx, table, "Edda"))
	written, err := k.ExportSetup(ctx)
	require.NoError(t, err)
	text, err := written.Text()
	require.NoError(t, err)
	read, err := setup.Parse(text)
	require.NoError(t, err)
	require.Equal(t, table, read.Services)

	other := choosing(t)
	want := setup.Setup{Version: 1, Services: read.Services}
	plan, err := other.PlanSetup(ctx, want, nil)
	require.NoError(t, err)
	require.Contains(t, plan, setup.Change{Action: "change", Thing: "table of services", Field: "rows", From: "0 rows", To: "2 rows"})
	_, err = other.ApplySetup(ctx, want, nil, "Edda")
	require.NoError(t, err)
	have, err := other.Store.ServiceChoices(ctx)
	require.NoError(t, err)
	require.Equal(t, table, have)
	plan, err = other.PlanSetup(ctx, want, nil)
	require.NoError(t, err)
	require.Empty(t, plan, "nothing is left to do")
	_, err = setup.Parse([]byte("setup: 1\nservices: [ { word: express, service: cheapest in 0 days } ]\n"))
	require.ErrorContains(t, err, "services[0]")
}

// TestWhatACarrierSellsIsLearned also where the job begins before the connection is ready in memory: it is put off, not left out.
func TestWhatACarrierSellsIsLearned(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	written := func(state string) {
		require.NoError(t, k.Store.Write(ctx, func(tx *store.Tx) error {
			rec, err := tx.Connection("ann")
			if err != nil {
				return err
			}
			rec.State = state
			return tx.UpdateConnection(rec)
		}))
	}
	written(store.Joining)
	require.NoError(t, k.Reload(ctx))
	j := &store.Job{Subject: "ann"}
	done, err := k.ServicesStep(ctx, j)
	require.NoError(t, err)
	require.True(t, done, "one that is not switched on is not asked")
	written(store.On) // and memory does not know it yet
	done, err = k.ServicesStep(ctx, j)
	require.NoError(t, err)
	require.False(t, done)
	require.Greater(t, j.NextAt, k.Now().UnixMicro())
	require.NoError(t, k.Reload(ctx))
	done, err = k.ServicesStep(ctx, j)
	require.NoError(t, err)
	require.True(t, done)
	sold, err := k.Store.CarrierServices(ctx)
	require.NoError(t, err)
	require.Len(t, sold, 2)
}
