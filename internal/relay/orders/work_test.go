package orders_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

func orderOf(t *testing.T, k *trial.Kit, number string) *order.Order {
	t.Helper()
	o, err := k.Store.OrderByNumber(t.Context(), number)
	require.NoError(t, err)
	return o
}

// read reads a feed of the booth and does all that follows.
func read(t *testing.T, k *trial.Kit, kind string) {
	t.Helper()
	k.Later(6 * time.Minute)
	steps, err := k.Steps()
	require.NoError(t, err)
	for _, s := range steps {
		if s.Name == "read booth "+kind {
			require.NoError(t, s.Do())
		}
	}
	k.Settle()
}

// TestOrdersThatAreReadPageByPage: all pages are taken in, a record that cannot be read is raised and keeps no other back.
func TestOrdersThatAreReadPageByPage(t *testing.T) {
	k := trial.New(t)
	k.Stock(9, "JAR")
	k.JoinBooth(nil)
	odd := map[string]any{"number": "B-3", "status": "open", "currency": "EUR", "total": "a lot", "lines": []any{}}
	k.Has("/orders", trial.Record("o-1", 1, trial.Sale("B-1", trial.Units("JAR", 1))),
		trial.Record("o-2", 1, trial.Sale("B-2", trial.Units("JAR", 1))),
		trial.Record("o-3", 1, odd), trial.Record("o-4", 1, trial.Sale("B-4", trial.Units("JAR", 1))),
		trial.Record("o-5", 1, trial.Sale("B-5", trial.Units("JAR", 1))))
	read(t, k, "orders in")
	for _, number := range []string{"B-1", "B-2", "B-4", "B-5"} {
		require.Equal(t, "ready", k.Stage(number))
	}
	open := k.Exceptions()
	require.Len(t, open, 1)
	require.Contains(t, open[0].Text, "total")
	require.NotContains(t, open[0].Text, "feeds.", "it names the field, not where a definition says so")
	read(t, k, "orders in")
	require.Len(t, k.Exceptions(), 1, "the same again is nothing new")
	raw, m, _, err := k.Original(t.Context(), open[0].InboxID)
	require.NoError(t, err)
	require.Contains(t, raw, "a lot")
	require.Nil(t, m)

	typed := trial.Sale("B-3", trial.Units("JAR", 1))
	number, err := k.TypeOrder(t.Context(), orders.TypedOrder{Connection: "booth", Inbox: open[0].InboxID, Order: typed}, "Edda")
	require.NoError(t, err)
	require.Equal(t, "ready", k.Stage("B-3"))
	require.Equal(t, "Edda", orderOf(t, k, number).TypedBy)
	require.Empty(t, k.Exceptions(), "it was the order that could not be read")
	_, err = k.TypeOrder(t.Context(), orders.TypedOrder{Connection: "booth", Order: typed}, "Edda")
	require.ErrorContains(t, err, "B-3", "it is there already")
	k.Holds()
}

// TestAChannelThatWaitsForAnAnswer: it is told what a person says, or the order ends when nobody says anything.
func TestAChannelThatWaitsForAnAnswer(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(9, "JAR")
	k.JoinBooth(nil)
	asks := func(number string) message.Order {
		o := trial.Sale(number, trial.Units("JAR", 1))
		o.AnswerBy = k.Now().Add(20 * time.Minute)
		return o
	}
	k.Has("/orders", trial.Record("o-1", 1, asks("B-1")), trial.Record("o-2", 1, asks("B-2")), trial.Record("o-3", 1, asks("B-3")))
	read(t, k, "orders in")
	require.Equal(t, "held", k.Stage("B-1"))
	number := func(channel string) string { return orderOf(t, k, channel).Number }
	require.NoError(t, k.Answer(ctx, number("B-1"), true, 30, "", "Edda"))
	require.Error(t, k.Answer(ctx, number("B-2"), false, 0, "", "Edda"), "say why")
	require.NoError(t, k.Answer(ctx, number("B-2"), false, 0, "no bees", "Edda"))
	require.Error(t, k.Answer(ctx, number("B-2"), true, 1, "", "Edda"), "it was answered")
	require.Error(t, k.Answer(ctx, number("B-1"), true, -1, "", "Edda"))
	k.Settle()
	said := map[any]any{}
	for _, c := range k.Sent("booth", "/answers") {
		said[c.Body["order"]] = c.Body["taken"]
	}
	require.Equal(t, map[any]any{"o-1": true, "o-2": false}, said)
	require.Equal(t, "ready", k.Stage("B-1"))
	require.Equal(t, "cancelled", k.Stage("B-2"))
	require.Equal(t, "held", k.Stage("B-3"))
	k.Later(30 * time.Minute)
	k.Settle()
	_, err := k.AnswersDue(ctx)
	require.NoError(t, err)
	require.Contains(t, k.Causes(), order.NotAnswered)
	k.Holds()
}

// TestAnOrderIsVoidedAndTakenInAgain: it stays for the record, its number can be given again, and what the channel sent makes a
// new one.
func TestAnOrderIsVoidedAndTakenInAgain(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(3, "JAR")
	k.Sell("S-1", trial.Units("JAR", 2))
	_, err := k.TakeInAgain(ctx, "O10001", "Edda")
	require.ErrorContains(t, err, "is not void")
	o := orderOf(t, k, "O10001")
	_, err = k.Void(ctx, "O10001", "typed twice", true, o.Revision+5, "Edda")
	require.Error(t, err, "somebody changed it meanwhile")
	now, err := k.Void(ctx, "O10001", "typed twice", true, o.Revision, "Edda")
	require.NoError(t, err)
	require.NotEqual(t, "O10001", now)
	require.Equal(t, order.Void, orderOf(t, k, now).Stage())
	again, err := k.TakeInAgain(ctx, now, "Edda")
	require.NoError(t, err)
	require.Equal(t, "O10001", again, "the number that was let go")
	k.Settle()
	require.Equal(t, order.Ready, orderOf(t, k, again).Stage())
	k.Holds()
}

// shippedOf sells and ships an order of each of these SKUs.
func shippedOf(t *testing.T, k *trial.Kit, skus ...string) {
	t.Helper()
	for i, sku := range skus {
		number := fmt.Sprintf("S-%s-%d", sku, i)
		k.Sell(number, trial.Units(sku, 1))
		require.NoError(t, k.Label(k.Packed(number), "ann"))
	}
}

// TestADayBecomesOneOrder: what is done is merged, what is not stays single, and undoing it makes them single again.
func TestADayBecomesOneOrder(t *testing.T) {
	k := trial.New(t, "ann")
	ctx := t.Context()
	k.Stock(20, "JAR", "LID")
	shippedOf(t, k, "JAR", "JAR", "LID")
	k.Sell("S-open", trial.Units("JAR", 1))
	made, err := k.Merge(ctx, "stall", k.Now().Add(48*time.Hour), "Edda")
	require.NoError(t, err)
	require.Len(t, made, 1)
	sum := orderOf(t, k, made[0])
	require.Equal(t, []any{int64(3000), 2, int64(3)}, []any{sum.Record.Total, len(sum.Lines), sum.Ours.Members})
	again, err := k.Merge(ctx, "stall", k.Now().Add(48*time.Hour), "Edda")
	require.NoError(t, err)
	require.Empty(t, again, "they are in one already")
	k.Holds()
	require.NoError(t, k.UndoMerge(ctx, made[0], "Edda"))
	again, err = k.Merge(ctx, "stall", k.Now().Add(48*time.Hour), "Edda")
	require.NoError(t, err)
	require.Len(t, again, 1)
	require.NoError(t, k.Posted(ctx, again[0], "the books"))
	require.Error(t, k.UndoMerge(ctx, again[0], "Edda"), "it stands in the books")
	_, err = k.Merge(ctx, "nowhere", k.Now(), "Edda")
	require.ErrorIs(t, err, store.ErrNotFound)
	k.Holds()
}

// TestADayOfMoreThanOneSummaryHolds: nothing is left over.
func TestADayOfMoreThanOneSummaryHolds(t *testing.T) {
	k := trial.New(t, "ann")
	k.Stock(20, "JAR")
	shippedOf(t, k, "JAR", "JAR")
	o := orderOf(t, k, "O10001")
	var more []*order.Order
	for i := range 2100 {
		c := *o
		c.ID, c.Number, c.OutsideID = 500_000+int64(i), fmt.Sprintf("X%d", i), fmt.Sprintf("x-%d", i)
		c.Record.Number, c.Record.PlacedAt = c.OutsideID, o.Record.PlacedAt.Add(-time.Hour)
		c.Lines = slices.Clone(o.Lines)
		c.Lines[0].ID = order.LineID(c.ID, 1)
		more = append(more, &c)
	}
	require.NoError(t, k.Store.Write(t.Context(), func(tx *store.Tx) error { return tx.InsertOrders(more) }))
	made, err := k.Merge(t.Context(), "stall", k.Now().Add(48*time.Hour), "Edda")
	require.NoError(t, err)
	require.Len(t, made, 2)
	require.Equal(t, int64(2102), orderOf(t, k, made[0]).Ours.Members+orderOf(t, k, made[1]).Ours.Members)
}

// TestARuleIsRehearsed: what it would have made of past orders is told, and nothing is changed.
func TestARuleIsRehearsed(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(20, "JAR")
	for i := range 5 {
		k.Sell(fmt.Sprintf("S-%d", i), trial.Units("JAR", int64(i+1)))
	}
	r, err := k.Rehearse(ctx, orders.RuleChange{Name: "Big", On: true, When: "total > 2500", Then: `tag("big")`}, 100)
	require.NoError(t, err)
	require.Equal(t, []int64{5, 3}, []int64{r.Seen, r.Changed})
	require.Empty(t, orderOf(t, k, "O10005").Ours.Tags)
	id, err := k.PutRule(ctx, orders.RuleChange{Name: "Big", On: true, When: "total > 2500", Then: `tag("big")`}, "Edda")
	require.NoError(t, err)
	k.Sell("S-9", trial.Units("JAR", 3))
	require.Equal(t, []string{"big"}, orderOf(t, k, "S-9").Ours.Tags)
	_, err = k.PutRule(ctx, orders.RuleChange{ID: id, Revision: 99, Name: "Big", Remove: true}, "Edda")
	require.Error(t, err, "somebody changed it meanwhile")
	_, err = k.PutRule(ctx, orders.RuleChange{Name: "Big", On: true, Then: `tag("again")`}, "Edda")
	require.Error(t, err, "there is one of that name")
	_, err = k.PutRule(ctx, orders.RuleChange{ID: id, Revision: 1, Name: "Big", Remove: true}, "Edda")
	require.NoError(t, err)
	k.Sell("S-10", trial.Units("JAR", 3))
	require.Empty(t, orderOf(t, k, "S-10").Ours.Tags)
}

// TestAnUnknownSKUIsMadeKnown: all orders that wait for it go on, and later ones do not wait.
func TestAnUnknownSKUIsMadeKnown(t *testing.T) {
	k := trial.New(t)
	ctx := t.Context()
	k.Stock(20, "JAR")
	for _, number := range []string{"S-1", "S-2"} {
		k.Sell(number, message.OrderLine{SKU: "GLASS", Title: "A JAR of glass", Quantity: 1})
		require.Equal(t, "held", k.Stage(number))
	}
	may, err := k.MayBe(ctx, "stall", "GLASS")
	require.NoError(t, err)
	require.NotEmpty(t, may)
	_, err = k.MakeKnown(ctx, "stall", "GLASS", "CUP", false, "Edda")
	require.Error(t, err)
	done, err := k.MakeKnown(ctx, "stall", "GLASS", "JAR", false, "Edda")
	require.NoError(t, err)
	require.Equal(t, 2, done.Freed)
	k.Settle()
	require.Equal(t, []string{"ready", "ready"}, []string{k.Stage("S-1"), k.Stage("S-2")})
	k.Sell("S-3", message.OrderLine{SKU: "GLASS", Quantity: 1})
	require.Equal(t, "ready", k.Stage("S-3"))
	k.Sell("S-4", message.OrderLine{SKU: "NEW", Title: "Something new", Quantity: 1})
	_, err = k.MakeKnown(ctx, "stall", "NEW", "NEW", true, "Edda")
	require.NoError(t, err)
	k.Settle()
	require.Equal(t, "held", k.Stage("S-4"), "it is known, and there is none")
	require.Equal(t, []order.Cause{order.NoStock}, k.Causes())
	k.Holds()
}
