package orders_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// told is what became of each order, as a line.
func told(d orders.BulkDone) string {
	var parts []string
	for _, r := range d.Results {
		parts = append(parts, r.Number+": "+r.State+" "+r.Text)
	}
	return strings.Join(parts, "; ")
}

// manySales is a company with two ready orders and one that is held for its total.
func manySales(t *testing.T) *trial.Kit {
	t.Helper()
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.Sell("S-1", trial.Units("JAR", 1))
	k.Sell("S-2", trial.Units("JAR", 1))
	sale := trial.Sale("S-3", trial.Units("JAR", 1))
	sale.Total += 500
	k.Take("stall", trial.Event("order", "S-3", 1, sale))
	require.Equal(t, "held", k.Stage("S-3"))
	return k
}

// TestManyOrdersAtOnce: each has its own outcome with its reason, and what was done can be taken back, once.
func TestManyOrdersAtOnce(t *testing.T) {
	k := manySales(t)
	ctx := t.Context()
	act := func(a orders.ActionKind, value string, numbers ...string) orders.BulkDone {
		d, err := k.Act(ctx, orders.Bulk{Action: a, Value: value, Orders: numbers}, "Edda")
		require.NoError(t, err)
		return d
	}
	undo := func(d orders.BulkDone) string {
		back, err := k.UndoBulk(ctx, d.ID, "Edda")
		require.NoError(t, err)
		return told(back)
	}
	tags := func(number string) string {
		o, err := k.Store.OrderByNumber(ctx, number)
		require.NoError(t, err)
		return strings.Join(o.Ours.Tags, ",")
	}
	number := func(channel string) string {
		o, err := k.Store.OrderByNumber(ctx, channel)
		require.NoError(t, err)
		return o.Number
	}

	d := act(orders.Tag, "gift", "S-1", "S-2", "S-1", "S-9")
	assert.Equal(t, 2, d.Done)
	assert.Len(t, d.Results, 3, "an order that is named twice is one")
	assert.Contains(t, told(d), "S-9: refused")
	assert.Equal(t, "gift", tags("S-1"))
	again := act(orders.Tag, "gift", "S-1")
	assert.Contains(t, told(again), "refused")
	undo(d)
	assert.Empty(t, tags("S-1")+tags("S-2"))
	_, err := k.UndoBulk(ctx, d.ID, "Edda")
	require.Error(t, err, "taken back already")

	d = act(orders.Assign, "Joss", "S-1")
	o, err := k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	assert.Equal(t, "Joss", o.Assignee)
	undo(d)
	o, err = k.Store.OrderByNumber(ctx, "S-1")
	require.NoError(t, err)
	assert.Empty(t, o.Assignee)

	d = act(orders.Hold, "call the buyer", "S-1")
	assert.Equal(t, "held", k.Stage("S-1"))
	assert.Equal(t, 1, d.Done)
	undo(d)
	assert.Equal(t, "ready", k.Stage("S-1"))

	d = act(orders.Approve, "", "S-1", "S-3")
	assert.Contains(t, told(d), "S-1: refused not held")
	assert.Contains(t, told(d), "goes on although held for total differs")
	k.Settle()
	assert.Equal(t, "ready", k.Stage("S-3"))
	undo(d)
	assert.Equal(t, "held", k.Stage("S-3"), "held again, by a person's word")

	d = act(orders.Cancel, "the buyer asked", "S-2", "S-2")
	assert.Equal(t, "cancelled", k.Stage("S-2"))
	assert.False(t, d.Undo, "the channel was told")
	_, err = k.UndoBulk(ctx, d.ID, "Edda")
	require.Error(t, err)
	d = act(orders.Cancel, "once more", "S-2")
	assert.Contains(t, told(d), "refused")
	one, err := k.Orders.BulkResult(ctx, d.ID)
	require.NoError(t, err)
	assert.Equal(t, told(d), told(one), "asked for by its id it says the same")
	assert.NotEmpty(t, number("S-1"))
	k.Holds()
}

// TestWhatIsNoActionIsRefused before anything is done to any order.
func TestWhatIsNoActionIsRefused(t *testing.T) {
	k := manySales(t)
	many := make([]string, 5001)
	for i := range many {
		many[i] = fmt.Sprint("S-", i)
	}
	for says, b := range map[string]orders.Bulk{
		`action "burn" is none of`: {Action: "burn", Orders: []string{"S-1"}},
		"1 to 60 characters":       {Action: orders.Tag, Value: " ", Orders: []string{"S-1"}},
		"neither comma nor quotes": {Action: orders.Untag, Value: `a"b`, Orders: []string{"S-1"}},
		"1 to 5000 orders":         {Action: orders.Tag, Value: "gift"},
		"5000 orders are expected": {Action: orders.Tag, Value: "gift", Orders: many},
	} {
		_, err := k.Act(t.Context(), b, "Edda")
		require.ErrorContains(t, err, says)
		var refused *engine.Refused
		require.ErrorAs(t, err, &refused)
	}
	_, err := k.Orders.BulkResult(t.Context(), 99)
	require.ErrorIs(t, err, store.ErrNotFound)
	jobs, err := k.Store.OpenJobs(t.Context(), 10)
	require.NoError(t, err)
	assert.Empty(t, jobs)
}

// TestACustomerIsKept under the other side's number, and told again is changed, not doubled.
func TestACustomerIsKept(t *testing.T) {
	k := trial.New(t)
	k.JoinBooth(nil)
	customer := func(name string) map[string]any {
		return map[string]any{"number": "C-1", "name": name, "email": "maren.tolland@example.test", "address": map[string]any{"name": name,
			"street": "Lindenrow 14", "postcode": "41360", "town": "Harrowmere", "country": "XW"}}
	}
	for i, name := range []string{"Maren Tolland", "Maren Tolland-Fenn"} {
		k.Has("/customers", trial.Record("C-1", i+1, customer(name)))
		read(t, k, "customers in")
	}
	list, err := k.Store.CustomersOf(t.Context(), "maren.tolland@example.test")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "Maren Tolland-Fenn", list[0].Name)
	k.Holds()
}
