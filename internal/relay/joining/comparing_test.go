package joining_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

// selling is a company whose stall has sold, been told of quantities, and works by a definition that was added.
func selling(t *testing.T) (k *trial.Kit, text string) {
	t.Helper()
	k = trial.New(t)
	k.Stock(20, "HON-250", "HON-500")
	k.Listed("HON-250")
	k.Sell("R1", trial.Units("HON-250", 2))
	k.Sell("R2", trial.Units("HON-500", 1))
	k.Settle()
	return k, k.Connector("stall").Text
}

// feedOf is what a comparison says of one feed.
func feedOf(t *testing.T, c joining.Comparison, feed message.Feed) joining.FeedComparison {
	t.Helper()
	for _, f := range c.Feeds {
		if f.Feed == feed {
			return f
		}
	}
	require.Fail(t, "not compared", feed)
	return joining.FeedComparison{}
}

// TestComparing tells what a changed definition would do otherwise, on what is kept, and takes it only when a person says so.
func TestComparing(t *testing.T) {
	k, text := selling(t)
	ctx := t.Context()
	compare := func(text string) joining.Comparison {
		c, err := k.CompareDefinition(ctx, "stall.yaml", text)
		require.NoError(t, err)
		return c
	}
	same := compare(strings.Replace(text, "title: Stall", "title: The stall", 1))
	require.False(t, same.Differs())
	require.EqualValues(t, 1, same.Version)
	require.Contains(t, same.Lines, "+title: The stall")
	require.Equal(t, 2, feedOf(t, same, message.OrdersIn).Looked)
	require.Contains(t, same.Says(), "all come out the same")

	renamed := strings.Replace(text, "body: { sku: msg.sku, quantity: msg.quantity }", "body: { sku: msg.sku, level: msg.quantity }", 1)
	out := feedOf(t, compare(renamed), message.StockOut)
	require.Positive(t, out.Looked)
	require.Equal(t, out.Looked, out.Otherwise)
	require.Equal(t, map[string]int{"body.level": out.Looked, "body.quantity": out.Looked}, out.Fields)
	require.Equal(t, "body.level", out.Examples[0].Fields[0].Path)
	require.Empty(t, out.Examples[0].Fields[0].Was)

	unversioned := strings.Replace(text, "record: order, id: event.id, version: event.version",
		"record: order, id: event.id, version: event.revision", 1)
	in := feedOf(t, compare(unversioned), message.OrdersIn)
	require.Equal(t, 2, in.Refused)
	require.Contains(t, in.Examples[0].Now, "has no version")

	_, err := k.AddDefinition(ctx, joining.NewDefinition{File: "stall.yaml", Text: unversioned}, "Edda")
	conflicts(t, err, "2 would be refused")
	require.Equal(t, text, k.Connector("stall").Text, "and all stays as it was")
	_, err = k.AddDefinition(ctx, joining.NewDefinition{File: "stall.yaml", Text: unversioned, Anyway: true, Note: "counts revisions"},
		"Edda")
	require.NoError(t, err)

	mended := feedOf(t, compare(text), message.OrdersIn)
	require.Equal(t, 2, mended.Mended)
	require.NotEmpty(t, mended.Examples[0].Was)
	_, err = k.TakeDefinitionBack(ctx, "stall", 1, false, "Edda")
	require.NoError(t, err, "what mends needs nobody's word")
	require.Equal(t, text, k.Connector("stall").Text)
	_, err = k.TakeDefinitionBack(ctx, "stall", 1, false, "Edda")
	require.ErrorContains(t, err, "at work already")
	_, err = k.TakeDefinitionBack(ctx, "stall", 9, false, "Edda")
	require.ErrorIs(t, err, store.ErrNotFound)

	list, err := k.Store.DefinitionVersions(ctx, "stall")
	require.NoError(t, err)
	require.Len(t, list, 3)
	require.Equal(t, []string{"as version 1", "counts revisions", ""}, []string{list[0].Note, list[1].Note, list[2].Note})
	changed, err := k.VersionChanged(ctx, list[1])
	require.NoError(t, err)
	require.Contains(t, changed, "event.revision")
	k.Again()
	require.Equal(t, text, k.Connector("stall").Text)
}

// TestWhatExtendsIsCompared, too: it changes with what it extends.
func TestWhatExtendsIsCompared(t *testing.T) {
	k, text := selling(t)
	ctx := t.Context()
	k.Join("annex", "connector: annex\nextends: stall\ntitle: Annex\n", nil, message.OrdersIn)
	k.Take("annex", trial.Event("order", "A1", 1, trial.Sale("A1", trial.Units("HON-250", 1))))
	c, err := k.CompareDefinition(ctx, "stall.yaml", strings.Replace(text, "record: order, id: event.id, version: event.version",
		"record: order, id: event.id, version: event.revision", 1))
	require.NoError(t, err)
	refused := map[string]int{}
	for _, f := range c.Feeds {
		refused[f.Connection] += f.Refused
	}
	require.Equal(t, map[string]int{"stall": 2, "annex": 1}, refused)

	_, err = k.AddDefinition(ctx, joining.NewDefinition{File: "stall.yaml", Anyway: true,
		Text: strings.Replace(text, "connector: stall\n", "connector: stall\nextends: annex\n", 1)}, "Edda")
	require.Error(t, err, "what extends it would not load any more")
	require.Equal(t, text, k.Connector("stall").Text)
	require.NotNil(t, k.Connector("annex"))
	k.Again()
}

// TestComparingCallsNobody: a request whose steps would ask first is not compared, and that is said.
func TestComparingCallsNobody(t *testing.T) {
	k, text := selling(t)
	before := len(k.Sent("stall", "/ask"))
	stepped := strings.Replace(text, "request: { method: PUT, path: /stock, headers: { Idempotency-Key: ref },",
		"request: { steps: [{ name: now, request: { method: GET, path: /ask } }], method: PUT, path: /stock, "+
			"headers: { Idempotency-Key: ref },", 1)
	require.NotEqual(t, text, stepped)
	c, err := k.CompareDefinition(t.Context(), "stall.yaml", stepped)
	require.NoError(t, err)
	require.Contains(t, feedOf(t, c, message.StockOut).NotLooked, "its steps would call Stall first")
	require.Len(t, k.Sent("stall", "/ask"), before)
	_, err = k.CompareDefinition(t.Context(), "stall.yaml", strings.Replace(text, "title: Stall", "titel: Stall", 1))
	var bad connector.Mistakes
	require.ErrorAs(t, err, &bad)
}
