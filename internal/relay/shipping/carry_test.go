package shipping_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// wished is an order whose buyer was promised a delivery.
func wished(number, service string, lines ...message.OrderLine) message.Order {
	o := trial.Sale(number, lines...)
	o.RequestedService = service
	return o
}

// TestARuleIsRefusedThatPromisesWhatNobodyDoes.
func TestARuleIsRefusedThatPromisesWhatNobodyDoes(t *testing.T) {
	k := trial.New(t, "ann")
	require.ErrorContains(t, k.Rule(`service("fast")`), "no joined carrier has told what it sells")
	k.Learned()
	require.NoError(t, k.Rule(`service("fast")`))
	require.ErrorContains(t, k.Rule(`service("teleport")`), "no joined carrier sells it; there are fast (Fast), slow (Slow)")
	require.ErrorContains(t, k.Rule(`carry("pack")`), "needs a profile")
	require.ErrorContains(t, k.Rule(`carry("ship")`), "needs a profile")
	require.NoError(t, k.Rule(`carry("ship"), profile("small")`))
	require.ErrorContains(t, k.Rule(`profile("crate")`), "not known")
	require.ErrorContains(t, k.Rule(`location("moon")`), "not known")

	set := *k.ByCode("stall").Settings()
	set.Services = map[string]string{"express": "teleport"}
	require.ErrorContains(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"), "services: express")
}

// TestAfterTheLastScanItGoesOn: packed and shipped by a rule, without a person; also where the process ends between the
// last scan and the packing. Nothing outside is asked inside the scan.
func TestAfterTheLastScanItGoesOn(t *testing.T) {
	for _, ends := range []bool{false, true} {
		t.Run(fmt.Sprintf("the process ends: %v", ends), func(t *testing.T) {
			k := trial.New(t, "ann")
			k.Learned()
			require.NoError(t, k.Rule(`carry("ship"), profile("small")`))
			k.Stock(5, "JAR")
			k.Sell("S-1", trial.Units("JAR", 2))
			asked := len(k.Sent("ann", "/prices"))
			s := k.Picked("S-1")
			picked, err := k.Store.Shipment(t.Context(), s)
			require.NoError(t, err)
			require.Equal(t, store.ToPick, picked.State, "the scan has answered")
			require.Len(t, k.Sent("ann", "/prices"), asked)
			if ends {
				k.Again()
			}
			k.Settle()
			require.Equal(t, store.Gone, k.ParcelOf(s).State)
			require.Len(t, k.Sent("ann", "/labels"), 1)
			k.Holds()
		})
	}
}

// TestTheWishedServiceCounts: the buyer was promised something; it is bought, or a person is asked. The cheapest is
// bought only where nothing was promised, or that is what the word stands for.
func TestTheWishedServiceCounts(t *testing.T) {
	for _, c := range []struct {
		name, wish string
		services   map[string]string
		bought     string
		says       string
	}{
		{"nothing was promised", "", nil, "slow", ""},
		{"by the table", "express", map[string]string{"express": "fast"}, "fast", ""},
		{"the table says the cheapest", "standard", map[string]string{"standard": "cheapest"}, "slow", ""},
		{"the word is a service", "fast", nil, "fast", ""},
		{"nobody knows the word", "by swallow", nil, "", "the buyer was promised “by swallow”; which service that is, is not decided"},
	} {
		t.Run(c.name, func(t *testing.T) {
			k := trial.New(t, "ann")
			k.Learned()
			require.NoError(t, k.Rule(`carry("ship"), profile("small")`))
			set := *k.ByCode("stall").Settings()
			set.Services = c.services
			require.NoError(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"))
			k.Stock(5, "JAR")
			k.Take("stall", trial.Event("order", "S-1", 1, wished("S-1", c.wish, trial.Units("JAR", 1))))
			s := k.Picked("S-1")
			k.Settle()
			calls := k.Sent("ann", "/labels")
			if c.bought == "" {
				require.Empty(t, calls)
				require.Equal(t, []order.Cause{engine.ServiceOpen}, k.Causes())
				require.Contains(t, k.Exceptions()[0].Text, c.says)
				set.Services = map[string]string{c.wish: "fast"}
				require.NoError(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"))
				k.Settle()
				require.Equal(t, "fast", k.Sent("ann", "/labels")[0].Body["service"], "the order goes on once it is decided")
				require.Empty(t, k.Causes())
			} else {
				require.Equal(t, c.bought, calls[0].Body["service"])
			}
			require.Equal(t, store.Gone, k.ParcelOf(s).State)
			k.Holds()
		})
	}
}

// TestAPromisedServiceThatNobodyTakesIsNotReplaced.
func TestAPromisedServiceThatNobodyTakesIsNotReplaced(t *testing.T) {
	k := trial.New(t, "ann")
	k.Learned()
	k.On("ann", "/prices", func(trial.Call) (int, any) {
		return 200, map[string]any{"offers": []any{map[string]any{"service": "slow", "name": "Slow", "price": 400, "currency": "EUR"},
			map[string]any{"service": "fast", "name": "Fast", "refused": "not to Harrowmere"}}}
	})
	require.NoError(t, k.Rule(`carry("ship"), profile("small"), service("fast")`))
	k.Stock(5, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	s := k.Picked("S-1")
	k.Settle()
	require.Equal(t, store.ToShip, k.ParcelOf(s).State)
	require.Contains(t, k.Exceptions()[0].Text, "not to Harrowmere")
	require.NoError(t, k.Label(s, "ann"))
	require.Empty(t, k.Causes(), "a person has chosen")
}

// TestShippingManyIsAJob: each order has its outcome, the labels are followed to their end, also after a restart.
func TestShippingManyIsAJob(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	var numbers []string
	for i := range 30 {
		n := fmt.Sprintf("S-%d", i+1)
		k.Sell(n, trial.Units("JAR", 1))
		if i != 7 {
			k.Packed(n)
		}
		numbers = append(numbers, n)
	}
	refused := 0
	k.On("ann", "/labels", func(c trial.Call) (int, any) {
		if refused++; refused == 3 {
			return 422, map[string]any{"message": "no"}
		}
		return 200, map[string]any{"id": c.Ref, "tracking": "T" + c.Ref, "service": "slow", "price": 400, "currency": "EUR"}
	})
	d, err := k.Act(t.Context(), orders.Bulk{Action: "ship", Orders: append(numbers, "S-1", "NOBODY")}, "Pim")
	require.NoError(t, err)
	require.Equal(t, store.JobWaiting, d.State, "labels are being bought")
	require.Equal(t, int64(31), d.Total)
	k.Again()
	for range 6 {
		k.Settle()
		k.Later(time.Second)
	}
	d, err = k.BulkResult(t.Context(), d.ID)
	require.NoError(t, err)
	require.Equal(t, store.JobDone, d.State)
	require.Equal(t, 28, d.Done)
	text := map[string]string{}
	for _, r := range d.Results {
		if !r.OK {
			text[r.Number] = r.Text
		}
	}
	require.Len(t, text, 3)
	require.Equal(t, "nothing of it is packed", text["S-8"])
	require.Equal(t, "there is no such order", text["NOBODY"])
	require.False(t, d.Undo)
	k.Holds()
}

// TestAParcelOfAnOrderStaysPacked where no carrier takes it: the others leave, and the order's result says which stays and why.
func TestAParcelOfAnOrderStaysPacked(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(50, "JAR")
	k.Sell("S-1", trial.Units("JAR", 5))
	s := k.Picked("S-1")
	light := k.PackUnits(s, "small", map[string]int64{"JAR": 1})
	heavy := k.PackUnits(s, "small", map[string]int64{"JAR": 4})
	limit := k.ParcelOf(light).WeightG
	k.On("ann", "/prices", func(c trial.Call) (int, any) {
		offer := map[string]any{"service": "slow", "name": "Slow", "price": 400, "currency": "EUR"}
		if int64(c.Body["grams"].(float64)) > limit {
			offer["refused"] = "too heavy; ask the depot"
		}
		return 200, map[string]any{"offers": []any{offer}}
	})
	d, err := k.Act(t.Context(), orders.Bulk{Action: "ship", Orders: []string{"S-1"}}, "Pim")
	require.NoError(t, err)
	for range 6 {
		k.Settle()
		k.Later(time.Second)
	}
	d, err = k.BulkResult(t.Context(), d.ID)
	require.NoError(t, err)
	require.Equal(t, store.JobDone, d.State)
	require.False(t, d.Results[0].OK)
	require.Equal(t, k.ParcelOf(light).Tracking+" left; "+heavy+" stays packed: no carrier takes parcel "+heavy+
		" (Ann: too heavy; ask the depot)", d.Results[0].Text)
	require.Equal(t, "part shipped", k.Stage("S-1"))
	k.Holds()
}

// TestWhatWasDoneToManyIsUndone, once, and each as it was.
func TestWhatWasDoneToManyIsUndone(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 1))
	_, err := k.Act(t.Context(), orders.Bulk{Action: "assign", Value: "Joss", Orders: []string{"S-2"}}, "Edda")
	require.NoError(t, err)
	d, err := k.Act(t.Context(), orders.Bulk{Action: "assign", Value: "Pim", Orders: []string{"S-1", "S-2"}}, "Edda")
	require.NoError(t, err)
	require.True(t, d.Undo)
	back, err := k.UndoBulk(t.Context(), d.ID, "Edda")
	require.NoError(t, err)
	require.Equal(t, 2, back.Done)
	for n, want := range map[string]string{"S-1": "", "S-2": "Joss"} {
		o, err := k.Store.OrderByNumber(t.Context(), n)
		require.NoError(t, err)
		require.Equal(t, want, o.Assignee, n)
	}
	_, err = k.UndoBulk(t.Context(), d.ID, "Edda")
	require.ErrorContains(t, err, "can no longer be undone")
	_, err = k.BulkResult(t.Context(), 999)
	require.ErrorIs(t, err, store.ErrNotFound)
	for _, bad := range []orders.Bulk{{Action: "fly", Orders: []string{"S-1"}}, {Action: "tag", Value: "a,b", Orders: []string{"S-1"}},
		{Action: "tag", Value: "x"}, {Action: "tag", Orders: []string{"S-1"}}} {
		_, err = k.Act(t.Context(), bad, "Edda")
		_, refused := engine.IsRefused(err)
		require.True(t, refused, "%+v", bad)
	}
}

// TestAHangingWebhookDelaysNoAnswer: telling people has a loop of its own.
func TestAHangingWebhookDelaysNoAnswer(t *testing.T) {
	k := trial.New(t)
	_, _, err := k.PutTarget(t.Context(), attention.NewTarget{Kind: "webhook", Address: "http://tray.test/hook", On: true}, "Edda")
	require.NoError(t, err)
	k.On("tray", "/hook", func(trial.Call) (int, any) { t.Error("the watch must not wait for it"); return 200, nil })
	k.Push("stall", trial.Event("order", "S-1", 1, trial.Sale("S-1", trial.Units("NOBODY", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	_, err = k.Watch(t.Context())
	require.NoError(t, err)
	told := 0
	k.On("tray", "/hook", func(trial.Call) (int, any) { told++; return 200, map[string]any{} })
	k.Settle()
	require.Equal(t, 1, told)
}
