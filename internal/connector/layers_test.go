package connector

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

func smallLibrary(t *testing.T) Library {
	t.Helper()
	d, err := Load("small.yaml", []byte(small), nil)
	require.NoError(t, err)
	return Library{"small": d}
}

func TestDefinitionsExtendOthers(t *testing.T) {
	lib := smallLibrary(t)
	d, err := Load("mine.yaml", []byte(`connector: mine
extends: small
title: Mine
limits: { per_second: 2 }
tables: { states: { gone: cancelled } }
feeds:
  orders in:
    map: { number: item.no + "/M", note: item.note, total: null }
`), lib)
	require.NoError(t, err)
	l, err := NewLine(d, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	m, err := l.Map("orders in", "poll",
		[]byte(`{"id":"1","no":"7","state":"gone","note":"hi","total":"3.00","rows":[{"no":"1","sku":"A","n":1}]}`))
	require.NoError(t, err)
	o := m.(*message.Order)
	require.Equal(t, []any{"7/M", message.Cancelled, "hi", int64(0)}, []any{o.Number, o.Status, o.Note, o.Total})
	require.Equal(t, "open", d.Tables["states"]["new"], "what is not changed stays")
	require.Equal(t, 5.0, lib["small"].Limits.PerSecond, "the other is as it was")

	for _, c := range []struct{ text, says string }{
		{"connector: mine\nextends: nothing\n", `mine.yaml:2:10: extends: there is no connector "nothing"; there are: small`},
		{"connector: small\nextends: small\n", "needs a code of its own"},
		{"connector: mine\nextends: small\nfeeds:\n  orders in:\n    map: { number: item.no + }\n",
			"mine.yaml:5:29: feeds.orders in.map.number"},
		{"connector: mine\nextends: small\nfeeds:\n  orders in:\n    map: { status: null }\n", "status is needed and not mapped"},
	} {
		_, err := Load("mine.yaml", []byte(c.text), lib)
		require.ErrorContains(t, err, c.says)
	}
}

func TestOverridesOfAConnection(t *testing.T) {
	d := smallLibrary(t)["small"]
	own, err := d.With("feeds: { orders in: { map: { note: '\"from here\"' } } }")
	require.NoError(t, err)
	require.NotSame(t, d, own)
	l, err := NewLine(own, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	m, err := l.Map("orders in", "poll", []byte(`{"id":"1","no":"7","state":"new","rows":[]}`))
	require.NoError(t, err)
	require.Equal(t, "from here", m.(*message.Order).Note)
	same, err := d.With("  \n")
	require.NoError(t, err)
	require.Same(t, d, same)
	for text, says := range map[string]string{
		"connector: other": "cannot be overridden", "feeds: { gossip: {} }": "gossip", "- a": "a mapping is expected", "feeds: [": "",
	} {
		_, err := d.With(text)
		require.ErrorContains(t, err, says)
	}
}

func TestAllMistakesAreListed(t *testing.T) {
	_, err := Load("small.yaml",
		[]byte(strings.NewReplacer("number: item.no", "numbr: item.no", "total: amount(item.total, \"EUR\")", "total: thing", `"states"`,
			`"stats"`).Replace(small)), nil)
	var m Mistakes
	require.ErrorAs(t, err, &m)
	var places [][2]int
	for _, one := range m {
		require.Equal(t, "small.yaml", one.File)
		places = append(places, [2]int{one.Line, one.Column})
	}
	require.Equal(t, [][2]int{{21, 7}, {21, 7}, {22, 15}, {24, 14}}, places, "%v", err)
	require.ErrorContains(t, err, `small.yaml:22:15: feeds.orders in.map.status: there is no table "stats"; there are: states`)
	require.ErrorContains(t, err, "number is needed and not mapped")
}

func TestColumnInsideABlock(t *testing.T) {
	text := strings.Replace(small, "number: item.no", "number: |-\n        item.no +\n          thing.no", 1)
	_, err := Load("small.yaml", []byte(text), nil)
	require.ErrorContains(t, err, "small.yaml:22:3:", "the line inside the block")
}

func TestMoneyNeverBecomesAFloat(t *testing.T) {
	for _, expr := range []string{"1.5", "double(item.total)", "double(item.total) * 100.0", "math.least(1.5, 2.5)"} {
		_, err := Load("small.yaml", []byte(strings.Replace(small, `amount(item.total, "EUR")`, expr, 1)), nil)
		require.ErrorContains(t, err, "floating-point", expr)
	}
	// What hides its type until it runs is refused then.
	d, err := Load("small.yaml", []byte(strings.Replace(small, `amount(item.total, "EUR")`, `'item.odd == 1 ? dyn(12.5) : dyn(3)'`, 1)),
		nil)
	require.NoError(t, err)
	l, err := NewLine(d, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	_, err = l.Map("orders in", "poll", []byte(`{"id":"1","no":"7","state":"new","odd":1,"rows":[]}`))
	require.ErrorContains(t, err, "a whole number is expected, not a floating-point number")
}

func TestDefaultsTablesAndRequired(t *testing.T) {
	text := strings.Replace(small, "number: item.no", `number: { from: item.no, required: true }
      payment: { from: item.pay, default: '"card"' }
      requested_service: { from: item.ship, table: ways, default: '"standard"' }`, 1)
	text = strings.Replace(text, "states: { new: open }", "states: { new: open }\n  ways: { fast: express }", 1)
	d, err := Load("small.yaml", []byte(text), nil)
	require.NoError(t, err)
	l, err := NewLine(d, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	get := func(rec string) (*message.Order, error) {
		m, err := l.Map("orders in", "poll", []byte(rec))
		if err != nil {
			return nil, err
		}
		return m.(*message.Order), nil
	}
	o, err := get(`{"id":"1","no":"7","state":"new","ship":"fast"}`)
	require.NoError(t, err)
	require.Equal(t, []string{"card", "express"}, []string{o.Payment, o.RequestedService})
	o, err = get(`{"id":"1","no":"7","state":"new","ship":"","pay":"cash"}`)
	require.NoError(t, err)
	require.Equal(t, []string{"cash", "standard"}, []string{o.Payment, o.RequestedService})
	_, err = get(`{"id":"1","state":"new"}`)
	require.ErrorContains(t, err, "number: is required and the record has nothing at item.no")
	_, err = get(`{"id":"1","no":"7","state":"new","ship":"slow"}`)
	require.ErrorContains(t, err, `table "ways" has no entry for "slow"`)
	_, err = Load("small.yaml", []byte(strings.Replace(text, "table: ways", "table: wys", 1)), nil)
	require.ErrorContains(t, err, `there is no table "wys"`)
}

func TestTryNamesMissingAndUnused(t *testing.T) {
	d := smallLibrary(t)["small"]
	l, err := NewLine(d, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	got, err := l.Try("orders in",
		[]byte(
			`{"id":"9","rev":4,"no":"","state":"new","total":"3.10","changed":"x","buyer":{"name":"Ann","vip":true},"rows":[{"no":"1",`+
				`"sku":"A","n":2,"colour":"sand"},{"no":"2","sku":"B","n":1}]}`))
	require.NoError(t, err)
	require.Equal(t, "9", got.ID)
	require.Equal(t, int64(4), got.Version)
	require.Equal(t, []string{"number"}, got.Missing)
	require.Equal(t, []string{"buyer.name", "buyer.vip", "rows[].colour"}, got.Unused)
	require.Contains(t, got.Empty, "ship_to.street")
	require.Contains(t, got.Empty, "point.id", "nothing is needed of a part that may be left out")
	require.Contains(t, got.Fields, TrialField{Path: "number", Kind: "text", Needed: true,
		About: "The channel's number, as people there know it"})
	require.Contains(t, got.Fields, TrialField{Path: "lines[1].sku", Kind: "text", Value: "B"})
	require.Equal(t, "number: missing", got.Mistake)
	var o message.Order
	require.NoError(t, json.Unmarshal(got.Message, &o))
	require.Equal(t, int64(310), o.Total)

	_, err = l.Try("stock out", []byte(`{}`))
	require.ErrorContains(t, err, `no feed "stock out" that comes in; it has: orders in`)
	_, err = l.Try("orders in", []byte(`{"id":`))
	require.ErrorIs(t, err, ErrBody)
	lib, err := BuiltIn()
	require.NoError(t, err)
	l, err = NewLine(lib["bramble-row"], LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	one, err := l.Try("orders in",
		[]byte(
			`<Order no="7" turn="2"><Stands>to-send</Stands><Currency>EUR</Currency><Gift>yes</Gift><Lines><Line no="1">`+
				`<Own-Code>A</Own-Code><Pieces>2</Pieces><Colour>sand</Colour></Line></Lines></Order>`))
	require.NoError(t, err)
	require.Equal(t, []string{"Gift", "Lines.Line[].Colour"}, one.Unused, "a single element is looked at like one of several")
	l, err = NewLine(lib["hedgerow"], LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	raw, err := os.ReadFile("testdata/hedgerow-order.json")
	require.NoError(t, err)
	bare, err := l.Try("orders in", raw)
	require.NoError(t, err)
	pushed, err := l.Try("orders in", []byte(`{"topic":"order","order":`+string(raw)+`}`))
	require.NoError(t, err)
	require.Equal(t, bare, pushed, "a sample may be the record or the event around it")
	require.Empty(t, bare.Mistake)
}

func TestFolderOfDefinitions(t *testing.T) {
	dir := t.TempDir()
	lib := smallLibrary(t)
	write := func(name, text string) {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	write("a.yaml", "connector: alpha\nextends: small\n")
	write("b.yaml", "connector: beta\nextends: alpha\ntitle: Beta\n")
	require.NoError(t, lib.AddFolder(dir))
	require.Equal(t, "Beta", lib["beta"].Title)
	require.ErrorContains(t, lib.Clone().AddFolder(dir), "there is a connector")
	require.Error(t, lib.AddFolder(dir+"/nowhere"))
}

// TestHugeExpressionIsEnded: whatever an expression does to a record, its cost is bounded.
func TestHugeExpressionIsEnded(t *testing.T) {
	d, err := Load("small.yaml",
		[]byte(strings.Replace(small, "number: item.no",
			`number: 'item.rows.map(a, item.rows.map(b, item.rows.map(c, item.rows.map(d, "x")))).size() > 0 ? "a" : "b"'`, 1)), nil)
	require.NoError(t, err)
	l, err := NewLine(d, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	raw := `{"id":"1","state":"new","rows":[` + strings.TrimSuffix(strings.Repeat(`{"n":1},`, 500), ",") + `]}`
	_, err = l.Map("orders in", "poll", []byte(raw))
	require.ErrorContains(t, err, "cost", "500 × 500 × 500 × 500 elements would go on for hours")
}

func TestCapabilities(t *testing.T) {
	lib, err := BuiltIn()
	require.NoError(t, err)
	c := lib["hedgerow"].Capabilities()
	require.Equal(t, []message.Feed{"orders in", "listings in", "stock in", "returns in"}, c.In)
	require.Equal(t, []message.Feed{"stock out", "items out", "dispatch out", "states out", "cancellations out", "refunds out"}, c.Out)
	require.Equal(t, []message.Feed{"dispatch out", "cancellations out", "refunds out"}, c.ReadBack)
	require.True(t, c.Pushes)
	require.Equal(t, "token", c.Way)
}

// TestTheGuideIsRight: the example of docs/connectors.md loads, and maps the record that it shows.
func TestTheGuideIsRight(t *testing.T) {
	guide, err := os.ReadFile("../../docs/connectors.md")
	require.NoError(t, err)
	_, rest, ok := strings.Cut(string(guide), "\n    connector: corner-shop\n")
	require.True(t, ok)
	lines := []string{"connector: corner-shop"}
	for _, line := range strings.Split(rest, "\n") {
		if line != "" && !strings.HasPrefix(line, "    ") {
			break
		}
		lines = append(lines, strings.TrimPrefix(line, "    "))
	}
	d, err := Load("guide.yaml", []byte(strings.Join(lines, "\n")), nil)
	require.NoError(t, err)
	l, err := NewLine(d, LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	got, err := l.Try("orders in",
		[]byte(
			`{"id":17,"ref":"S-17","stage":"paid","created":"2026-01-31T10:00:00Z","updated":"2026-01-31T10:00:00Z","rows":[{"n":1,`+
				`"code":"JAR","name":"Jar","qty":2,"eur":"11.90","sum":"23.80"}],"eur":"28.70"}`))
	require.NoError(t, err)
	require.Empty(t, got.Mistake)
	require.Empty(t, got.Unused)
}

// TestHugeXMLIsNotRead: an answer without end is given up at its limit.
func TestHugeXMLIsNotRead(t *testing.T) {
	var sent atomic.Int64
	l := dial(t, strings.Replace(paged("{ page: page, first: 1, size: 3 }", ""), "limits:", "format: { answer: xml }\nlimits:", 1),
		http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/xml")
			fmt.Fprint(w, "<list>")
			row := []byte(strings.Repeat("<row>something</row>", 1000))
			for sent.Load() < 100<<20 {
				n, err := w.Write(row)
				if err != nil {
					return
				}
				sent.Add(int64(n))
			}
		}), nil, Token{})
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err := l.Read(t.Context(), "orders in", Reading{Keep: func([]Record) error { return nil }})
	runtime.ReadMemStats(&after)
	require.ErrorContains(t, err, "larger than 8388608 bytes and was not read")
	require.Less(t, sent.Load(), int64(40<<20), "most of the 100 MB was never sent")
	require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(80<<20))
}

// TestShippedDefinitionsAreShared by all companies of a process, and by their connections that override nothing: each is compiled once.
func TestShippedDefinitionsAreShared(t *testing.T) {
	one, err := BuiltIn()
	require.NoError(t, err)
	other, err := BuiltIn()
	require.NoError(t, err)
	require.NotEmpty(t, one)
	for code, d := range one {
		require.Same(t, d, other[code])
		plain, err := d.With("")
		require.NoError(t, err)
		require.Same(t, d, plain)
	}
	delete(one, "hedgerow")
	require.NotNil(t, other["hedgerow"], "what a company adds or takes away is its own")
}
