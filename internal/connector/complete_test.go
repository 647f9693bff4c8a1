package connector

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// unfinished is a definition while somebody types it; the cursor stands at the parts named in @.
const unfinished = `connector: typed
title: Typed
side: @side@
access:
  way: @way@
  fields: [ { name: token, label: Token, secret: true } ]
  steps: [ "Ask." ]
  send: { X-Token: secret.@secret@ }
calls:
  identity:
    request: { method: GET, path: /me }
    map: { name: body.name, @identity@ }
feeds:
  orders in:
    id: item.no
    read:
      every: 1m
      request: { method: @method@, path: /orders, query: { since: @query@ } }
      items: list
      @read@
    map:
      number: item.@item@
      ship_to: { @address@ }
      currency: '"EUR"'
      total: amount(item.sum, @argument@)
      lines:
        each: item.rows
        as: row
        map: { id: row.@row@, @line@ }
      @map@
  stock out:
    send:
      request: { method: PUT, path: "/things/{msg.@path@}", body: { qty: msg.quantity } }
      answers: [ { when: @when@, means: @means@ } ]
  @feed@
@top@
`

// typedAt is what is offered at one of the places, with a word begun there.
func typedAt(t *testing.T, name, begun, sample string) (Completions, []string) {
	t.Helper()
	var out strings.Builder
	line, column := 0, 0
	rest := unfinished
	for {
		before, after, more := strings.Cut(rest, "@")
		out.WriteString(before)
		if !more {
			break
		}
		place, tail, _ := strings.Cut(after, "@")
		switch {
		case place == name:
			out.WriteString(begun)
			text := out.String()
			line = strings.Count(text, "\n") + 1
			column = len(text) - strings.LastIndexByte(text, '\n')
		case usual[place] != "":
			out.WriteString(usual[place])
		}
		rest = tail
	}
	require.Positive(t, line, name)
	got := Complete(Typing{Text: out.String(), Line: line, Column: column, Sample: sample}, nil)
	var labels []string
	for _, c := range got.List {
		labels = append(labels, c.Label)
	}
	return got, labels
}

// usual is what stands at the other places.
var usual = map[string]string{"side": "channel", "way": "token", "secret": "token", "identity": "number: body.no", "method": "GET",
	"query": "mark", "item": "no", "address": "name: item.who", "argument": `"EUR"`, "row": "n", "line": "quantity: row.q", "path": "sku",
	"when": "status == 409", "means": "done"}

// TestComplete offers keys, values, fields and functions by where the cursor stands.
func TestComplete(t *testing.T) {
	const sample = `{"list": [{"no": 7, "sum": "9.50", "to": {"street": "Lindenrow 14"}, "rows": [{"n": 1, "code": "HON-250"}]}]}`
	for _, c := range []struct {
		place, begun string
		want         []string // first offered
		not          string
	}{
		{"side", "", []string{"channel", "back office"}, ""},
		{"side", "back o", []string{"back office"}, "channel"},
		{"way", "k", []string{"key", "token"}, "files"},
		{"secret", "", []string{"token"}, ""},
		{"method", "P", []string{"POST", "PUT"}, "GET"},
		{"read", "", []string{"begin", "conditional", "detail"}, "every"},
		{"read", "ma", []string{"mark"}, "next"},
		{"top", "ta", []string{"tables"}, "title"},
		{"feed", "disp", []string{"dispatch in", "dispatch out"}, "orders in"},
		{"identity", "nu", []string{"number"}, "name"},
		{"map", "sta", []string{"state", "status"}, "number"},
		{"address", "str", []string{"street"}, ""},
		{"line", "q", []string{"quantity"}, "number"},
		{"query", "m", []string{"mark"}, "item"},
		{"item", "", []string{"no", "rows", "sum", "to"}, "amount"},
		{"item", "to.", []string{"street"}, ""},
		{"row", "", []string{"code", "n"}, ""},
		{"argument", "dec", []string{"decimal"}, "amount"},
		{"argument", "ro", []string{}, "row"},
		{"path", "out", []string{"outside_id"}, "sku"},
		{"when", "b", []string{"body", "batch"}, ""},
		{"means", "d", []string{"done"}, "again"},
	} {
		got, labels := typedAt(t, c.place, c.begun, sample)
		for _, w := range c.want {
			assert.Contains(t, labels, w, "%s %q", c.place, c.begun)
		}
		if c.not != "" {
			assert.NotContains(t, labels, c.not, "%s %q", c.place, c.begun)
		}
		assert.NotNil(t, got.List)
	}
	got, _ := typedAt(t, "map", "sta", "")
	require.Equal(t, 7, got.From)
	require.Equal(t, Completion{Label: "status", Kind: "field", Insert: "status: ",
		Detail: "text, needed. What that state means: pending, open, shipped or cancelled"}, got.List[1])
	got, _ = typedAt(t, "item", "to.str", sample)
	require.Equal(t, "street", got.List[0].Label)
	require.Equal(t, len("      number: item.to.")+1, got.From, "what stands before the point stays")
}

// TestEveryFunctionIsOffered with what it does.
func TestEveryFunctionIsOffered(t *testing.T) {
	l, err := newLanguage(nil)
	require.NoError(t, err)
	helped := map[string]bool{}
	for _, f := range functionHelp {
		helped[f.name] = true
		if f.name != "has" { // a macro of CEL
			require.True(t, l.env.HasFunction(f.name), f.name)
		}
	}
	own := 0
	for name, f := range l.env.Functions() {
		for _, o := range f.OverloadDecls() {
			if strings.HasSuffix(o.ID(), "_fixed") {
				own++
				require.True(t, helped[name], name)
			}
		}
	}
	require.Greater(t, own, 10)
	for _, n := range names {
		if n != "line" && n != "each" && n != "part" && n != "step" && n != "row" {
			require.NotEmpty(t, nameHelp[n], n)
		}
	}
}

// FuzzComplete: wherever somebody types, in whatever, something or nothing is offered.
func FuzzComplete(f *testing.F) {
	f.Add(unfinished, 5, 8, `{"a": 1}`)
	f.Add("a: {b: [", 1, 9, "<a/>")
	f.Add("feeds:\n  orders in:\n    map:\n      lines: { each: item., as: x", 4, 27, "")
	f.Fuzz(func(t *testing.T, text string, line, column int, sample string) {
		got := Complete(Typing{Text: text, Line: max(line, 1), Column: max(column, 1), Sample: sample}, nil)
		if got.List == nil || got.From < 1 {
			t.Fatal("nothing was answered")
		}
	})
}
