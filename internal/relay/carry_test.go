package relay

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
)

// learned lets the relay know what its carriers sell.
func (k *kit) learned() {
	k.t.Helper()
	require.NoError(k.t, k.learnServices())
	k.settle()
}

func (k *kit) rule(then string) error {
	_, err := k.PutRule(k.t.Context(), orders.RuleChange{Name: "By itself", On: true, Then: then}, "Edda")
	return err
}

// wished is an order whose buyer was promised a delivery.
func wished(number, service string, lines ...message.OrderLine) message.Order {
	o := sale(number, lines...)
	o.RequestedService = service
	return o
}

// picked picks an order whole.
func (k *kit) picked(number string) string {
	k.t.Helper()
	s, err := k.StartPick(k.t.Context(), number, "Pim")
	require.NoError(k.t, err)
	v, err := k.Shipment(k.t.Context(), s)
	require.NoError(k.t, err)
	for _, w := range v.Wants {
		_, err := k.Scan(k.t.Context(), s, w.SKU, "", w.Quantity, "Pim")
		require.NoError(k.t, err)
	}
	return s
}

// TestARuleIsRefusedThatPromisesWhatNobodyDoes.
func TestARuleIsRefusedThatPromisesWhatNobodyDoes(t *testing.T) {
	k := newKit(t, "ann")
	require.ErrorContains(t, k.rule(`service("fast")`), "no joined carrier has told what it sells")
	k.learned()
	require.NoError(t, k.rule(`service("fast")`))
	require.ErrorContains(t, k.rule(`service("teleport")`), "no joined carrier sells it; there are fast (Fast), slow (Slow)")
	require.ErrorContains(t, k.rule(`carry("pack")`), "needs a profile")
	require.ErrorContains(t, k.rule(`carry("ship")`), "needs a profile")
	require.NoError(t, k.rule(`carry("ship"), profile("small")`))
	require.ErrorContains(t, k.rule(`profile("crate")`), "not known")
	require.ErrorContains(t, k.rule(`location("moon")`), "not known")

	set := *k.ByCode("stall").Settings()
	set.Services = map[string]string{"express": "teleport"}
	require.ErrorContains(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"), "services: express")
}

// TestAfterTheLastScanItGoesOn: packed and shipped by a rule, without a person; also where the process ends between the
// last scan and the packing. Nothing outside is asked inside the scan.
func TestAfterTheLastScanItGoesOn(t *testing.T) {
	for _, ends := range []bool{false, true} {
		t.Run(fmt.Sprintf("the process ends: %v", ends), func(t *testing.T) {
			k := newKit(t, "ann")
			k.learned()
			require.NoError(t, k.rule(`carry("ship"), profile("small")`))
			k.stock(5, "JAR")
			k.sell("S-1", units("JAR", 2))
			asked := len(k.sent("ann", "/prices"))
			s := k.picked("S-1")
			require.Equal(t, store.ToPick, k.parcelOf(s).State, "the scan has answered")
			require.Len(t, k.sent("ann", "/prices"), asked)
			if ends {
				k.again()
			}
			k.settle()
			require.Equal(t, store.Gone, k.parcelOf(s).State)
			require.Len(t, k.sent("ann", "/labels"), 1)
			k.holds()
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
			k := newKit(t, "ann")
			k.learned()
			require.NoError(t, k.rule(`carry("ship"), profile("small")`))
			set := *k.ByCode("stall").Settings()
			set.Services = c.services
			require.NoError(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"))
			k.stock(5, "JAR")
			k.take("stall", event("order", "S-1", 1, wished("S-1", c.wish, units("JAR", 1))))
			s := k.picked("S-1")
			k.settle()
			calls := k.sent("ann", "/labels")
			if c.bought == "" {
				require.Empty(t, calls)
				require.Equal(t, []string{engine.ServiceOpen}, k.causes())
				require.Contains(t, k.exceptions()[0].Text, c.says)
				set.Services = map[string]string{c.wish: "fast"}
				require.NoError(t, k.SetSettings(t.Context(), "stall", set, 0, "Edda"))
				k.settle()
				require.Equal(t, "fast", k.sent("ann", "/labels")[0].body["service"], "the order goes on once it is decided")
				require.Empty(t, k.causes())
			} else {
				require.Equal(t, c.bought, calls[0].body["service"])
			}
			require.Equal(t, store.Gone, k.parcelOf(s).State)
			k.holds()
		})
	}
}

// TestAPromisedServiceThatNobodyTakesIsNotReplaced.
func TestAPromisedServiceThatNobodyTakesIsNotReplaced(t *testing.T) {
	k := newKit(t, "ann")
	k.learned()
	k.on("ann", "/prices", func(call) (int, any) {
		return 200, map[string]any{"offers": []any{map[string]any{"service": "slow", "name": "Slow", "price": 400, "currency": "EUR"}, map[string]any{"service": "fast", "name": "Fast", "refused": "not to Harrowmere"}}}
	})
	require.NoError(t, k.rule(`carry("ship"), profile("small"), service("fast")`))
	k.stock(5, "JAR")
	k.sell("S-1", units("JAR", 1))
	s := k.picked("S-1")
	k.settle()
	require.Equal(t, store.ToShip, k.parcelOf(s).State)
	require.Contains(t, k.exceptions()[0].Text, "not to Harrowmere")
	require.NoError(t, k.ask(s, "ann"))
	require.Empty(t, k.causes(), "a person has chosen")
}

// TestShippingManyIsAJob: each order has its outcome, the labels are followed to their end, also after a restart.
func TestShippingManyIsAJob(t *testing.T) {
	k := newKit(t, "ann")
	k.stock(50, "JAR")
	var numbers []string
	for i := range 30 {
		n := fmt.Sprintf("S-%d", i+1)
		k.sell(n, units("JAR", 1))
		if i != 7 {
			k.packed(n)
		}
		numbers = append(numbers, n)
	}
	refused := 0
	k.on("ann", "/labels", func(c call) (int, any) {
		if refused++; refused == 3 {
			return 422, map[string]any{"message": "no"}
		}
		return 200, map[string]any{"id": c.ref, "tracking": "T" + c.ref, "service": "slow", "price": 400, "currency": "EUR"}
	})
	d, err := k.Act(t.Context(), orders.Bulk{Action: "ship", Orders: append(numbers, "S-1", "NOBODY")}, "Pim")
	require.NoError(t, err)
	require.Equal(t, store.JobWaiting, d.State, "labels are being bought")
	require.Equal(t, int64(31), d.Total)
	k.again()
	for range 6 {
		k.settle()
		k.later(time.Second)
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
	k.holds()
}

// TestWhatWasDoneToManyIsUndone, once, and each as it was.
func TestWhatWasDoneToManyIsUndone(t *testing.T) {
	k := newKit(t)
	k.stock(9, "JAR")
	k.sell("S-1", units("JAR", 1))
	k.sell("S-2", units("JAR", 1))
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
	for _, bad := range []orders.Bulk{{Action: "fly", Orders: []string{"S-1"}}, {Action: "tag", Value: "a,b", Orders: []string{"S-1"}}, {Action: "tag", Value: "x"}, {Action: "tag", Orders: []string{"S-1"}}} {
		_, err = k.Act(t.Context(), bad, "Edda")
		_, refused := engine.IsRefused(err)
		require.True(t, refused, "%+v", bad)
	}
}

// TestAHangingWebhookDelaysNoAnswer: telling people has a loop of its own.
func TestAHangingWebhookDelaysNoAnswer(t *testing.T) {
	k := newKit(t)
	_, _, err := k.PutTarget(t.Context(), attention.NewTarget{Kind: "webhook", Address: "http://tray.test/hook", On: true}, "Edda")
	require.NoError(t, err)
	k.on("tray", "/hook", func(call) (int, any) { t.Error("the watch must not wait for it"); return 200, nil })
	k.push("stall", event("order", "S-1", 1, sale("S-1", units("NOBODY", 1))))
	require.NoError(t, k.DecideAll(k.ByCode("stall")))
	_, err = k.Watch(t.Context())
	require.NoError(t, err)
	told := 0
	k.on("tray", "/hook", func(call) (int, any) { told++; return 200, map[string]any{} })
	k.settle()
	require.Equal(t, 1, told)
}
