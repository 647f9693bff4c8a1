package connector

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

const sampledDefinition = `
connector: sampled
title: Sampled
side: channel
access: { way: token, fields: [ { name: token, label: Token, secret: true } ], steps: [ "Ask." ] }
calls: { identity: { request: { method: GET, path: /me }, map: { name: body.name, number: body.no } } }
feeds:
  listings in:
    id: item.no
    read: { every: 1m, request: { method: GET, path: /things }, items: things }
    map: { sku: item.code, title: item.text, price: 'amount(item.price, "EUR")', currency: '"EUR"', live: "true" }
  stock out:
    send: { request: { method: PUT, path: "/things/{msg.outside_id}", body: { qty: msg.quantity } } }
`

// sampledBy is a line by a definition that nobody answers on.
func sampledBy(t *testing.T, text string) *Line {
	t.Helper()
	def, err := Load("sampled.yaml", []byte(text), nil)
	require.NoError(t, err)
	line, err := NewLine(def, LineOptions{Base: Nowhere})
	require.NoError(t, err)
	return line
}

// sampleFolder writes files into a folder of samples.
func sampleFolder(t *testing.T, files map[string]string) string {
	t.Helper()
	dir := SamplesFolder(filepath.Join(t.TempDir(), "sampled.yaml"))
	require.NoError(t, os.MkdirAll(dir, 0o750))
	for name, text := range files {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

// TestSamplesBesides runs what lies beside a definition: records, whole answers, and messages of ours; each says what is wrong.
func TestSamplesBesides(t *testing.T) {
	line := sampledBy(t, sampledDefinition)
	record := `{"no": 7, "code": "HON-250", "text": "Honey", "price": "9.50"}`
	dir := sampleFolder(t, map[string]string{
		"listings-in.json":            record,
		"listings-in.want.json":       `{"sku": "HON-250", "price": 950}`,
		"listings-in.page.json":       `{"things": [` + record + `, {"no": 8, "code": "HON-500", "text": "More", "price": "none"}]}`,
		"listings-in.other.json":      record,
		"listings-in.other.want.json": `{"sku": "HON-500", "gone": "x"}`,
		"orders-in.json":              `{}`,
		"stock-out.1.json":            `{"outside_id": "L 7", "quantity": 3}`,
		"stock-out.1.want.json":       `{"method": "PUT", "body": {"qty": 3}, "url": "http://nowhere.invalid/things/L%207"}`,
		"stock-out.2.json":            `{"outside_id": "L7", "quantity": 4}`,
		"stock-out.2.want.json":       `{"body": {"qty": 3}}`,
		".hidden":                     "no sample",
	})
	list, err := line.RunSamples(t.Context(), dir)
	require.NoError(t, err)
	wrong := map[string]string{}
	for _, s := range list {
		wrong[s.File] = strings.Join(s.Wrong, "; ")
	}
	require.Len(t, wrong, 6)
	require.Empty(t, wrong["listings-in.json"])
	require.Empty(t, wrong["stock-out.1.json"])
	require.Contains(t, wrong["listings-in.page.json"], "record 2: ")
	require.Equal(t, `gone is "", and "x" is wanted; sku is "HON-250", and "HON-500" is wanted`, wrong["listings-in.other.json"])
	require.Equal(t, `body.qty is "4", and "3" is wanted`, wrong["stock-out.2.json"])
	require.Contains(t, wrong["orders-in.json"], `there is no feed "orders in"`)

	none, err := line.RunSamples(t.Context(), filepath.Join(dir, "nowhere"))
	require.NoError(t, err)
	require.Empty(t, none)
	_, err = line.RunSamples(t.Context(), sampleFolder(t, map[string]string{"notes.txt": "by hand"}))
	require.ErrorContains(t, err, "begins with its feed")
}

// TestKeepingASample writes it with what becomes of it, so that it holds from then on.
func TestKeepingASample(t *testing.T) {
	line := sampledBy(t, sampledDefinition)
	raw := []byte(`{"things": [{"no": 7, "code": "HON-250", "text": "Honey", "price": "9.50"}]}`)
	trial, err := line.Try(message.ListingsIn, raw)
	require.NoError(t, err)
	require.Equal(t, 1, trial.Records)
	dir := sampleFolder(t, nil)
	_, err = line.KeepSample(dir, message.ListingsIn, "../out", ".json", raw, trial.Message)
	require.ErrorContains(t, err, "is no label")
	kept, err := line.KeepSample(dir, message.ListingsIn, "paid", ".json", raw, trial.Message)
	require.NoError(t, err)
	require.Equal(t, "listings-in.paid.json", filepath.Base(kept.File))
	require.Empty(t, kept.Refused)
	list, err := line.RunSamples(t.Context(), dir)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Empty(t, list[0].Wrong)
	changed := sampledBy(t, strings.Replace(sampledDefinition, "sku: item.code", "sku: item.text", 1))
	list, err = changed.RunSamples(t.Context(), dir)
	require.NoError(t, err)
	require.Equal(t, []string{`sku is "Honey", and "HON-250" is wanted`}, list[0].Wrong)
}

// TestAKeptSampleMayHoldWhatIsRefused: it is wanted from then on that just that is refused.
func TestAKeptSampleMayHoldWhatIsRefused(t *testing.T) {
	line := sampledBy(t, sampledDefinition)
	page := func(price string) []byte {
		const things = `{"things": [{"no": 7, "code": "HON-250", "text": "Honey", "price": "9.50"},
			{"no": 8, "code": "HON-500", "price": %q}]}`
		return fmt.Appendf(nil, things, price)
	}
	trial, err := line.Try(message.ListingsIn, page("none"))
	require.NoError(t, err)
	dir := sampleFolder(t, nil)
	kept, err := line.KeepSample(dir, message.ListingsIn, "page", ".json", page("none"), trial.Message)
	require.NoError(t, err)
	require.Len(t, kept.Refused, 1)
	require.Contains(t, kept.Refused[0], "record 2: ")
	wrong := func() []string {
		list, err := line.RunSamples(t.Context(), dir)
		require.NoError(t, err)
		require.Len(t, list, 1)
		return list[0].Wrong
	}
	require.Empty(t, wrong())

	require.NoError(t, os.WriteFile(kept.File, page("3.50"), 0o600))
	require.Len(t, wrong(), 1)
	require.Contains(t, wrong()[0], "it is not refused any more: record 2: ")
	kept, err = line.KeepSample(dir, message.ListingsIn, "page", ".json", page("3.50"), trial.Message)
	require.NoError(t, err)
	require.Empty(t, kept.Refused)
	require.Empty(t, wrong(), "what was wanted before is forgotten")
	require.NoError(t, os.WriteFile(strings.TrimSuffix(kept.File, ".json")+".refused.json", []byte("{"), 0o600))
	_, err = line.RunSamples(t.Context(), dir)
	require.ErrorContains(t, err, "a list of texts is expected")
}

// TestComparedRecords: fields that are drawn anew for every request are not taken for a difference.
func TestComparedRecords(t *testing.T) {
	was := sampledBy(t, sampledDefinition)
	now := sampledBy(
		t,
		strings.Replace(sampledDefinition, "body: { qty: msg.quantity }", "headers: { X-Count: msg.quantity }, body: { count: "+
			"msg.quantity }", 1),
	)
	c, err := CompareOut(t.Context(), was, now, message.StockOut, json.RawMessage(`{"outside_id": "L7", "sku": "HON-250", "quantity": 3}`))
	require.NoError(t, err)
	require.Equal(t, "HON-250", c.ID)
	require.Equal(t, []Difference{{"body.count", "", "3"}, {"body.qty", "3", ""}, {"headers.X-Count", "", "3"}}, c.Fields)
	same, err := CompareOut(t.Context(), was, was, message.StockOut, json.RawMessage(`{"outside_id": "L7", "quantity": 3}`))
	require.NoError(t, err)
	require.True(t, same.Same())
	gone := CompareIn(was, now, message.OrdersIn, "poll", []byte(`{}`))
	require.True(t, gone.Same(), "neither takes it")
	require.NotEmpty(t, gone.NotNow)
}
