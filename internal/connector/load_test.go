package connector

import (
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

func TestBuiltInDefinitionsLoad(t *testing.T) {
	lib, err := BuiltIn()
	require.NoError(t, err)
	require.Equal(
		t,
		[]message.Feed{"orders in", "listings in", "stock in", "returns in", "stock out", "items out", "dispatch out", "states out",
			"cancellations out", "refunds out"},
		lib["hedgerow"].Kinds(),
	)
	require.Equal(t, []message.Feed{"tracking in", "labels out", "return labels out", "voids out", "handovers out"},
		lib["plover-post"].Kinds())
}

const small = `connector: small
title: Small shop
side: channel
access:
  way: token
  fields:
    - { name: token, label: Token, secret: true }
  send:
    Authorization: '"Bearer " + secret.token'
tables:
  states: { new: open }
feeds:
  orders in:
    read:
      request: { method: GET, path: /orders, query: { since: mark } }
      items: orders
      mark: item.changed
    id: item.id
    version: item.rev
    map:
      number: item.no
      status: lookup("states", item.state)
      currency: '"EUR"'
      total: amount(item.total, "EUR")
      lines:
        each: item.rows
        as: line
        map: { id: line.no, sku: line.sku, quantity: line.n }
`

// TestMistakesAreNamed changes one thing of a good definition and expects file, line and what was expected.
func TestMistakesAreNamed(t *testing.T) {
	_, err := Load("small.yaml", []byte(small), nil)
	require.NoError(t, err)
	for _, c := range []struct{ name, old, new, says string }{
		{"unknown key", "title: Small shop", "title: Small shop\ncolour: red", "small.yaml:3:1: colour"},
		{"unknown side", "side: channel", "side: friend", "small.yaml:3:1: side: value must be one of 'channel'"},
		{"missing part", "connector: small\n", "", "missing property 'connector'"},
		{"unknown way in", "way: token", "way: knocking", "small.yaml:5:3: access.way"},
		{"unknown feed", "  orders in:", "  gossip in:", "gossip in"},
		{"unknown target", "number: item.no", "numbr: item.no",
			`small.yaml:21:7: feeds.orders in.map: there is no field "numbr"; there are`},
		{"syntax", "number: item.no", "number: item.no +", `small.yaml:21:24: feeds.orders in.map.number: expression "item.no +"`},
		{"unknown name", "number: item.no", "number: thing.no", "undeclared reference to 'thing'"},
		{"a float for money", `total: amount(item.total, "EUR")`, "total: 1.5", "floating-point"},
		{"a record for text", "number: item.no", "number: { a: item.no }", "takes text, not a nested mapping"},
		{"no list", "each: item.rows", "all: item.rows", `"all" is not expected here`},
		{"unknown loop name", "as: line", "as: rung", "it may be one of line"},
		{"bad span", "items: orders", "items: orders\n      every: soon", "read.every"},
		{"open brace", "path: /orders", "path: '/orders/{item.id'", "is not closed"},
		{"an anchor", "title: Small shop", "title: &t Small shop", "anchors and aliases"},
		{"no YAML", "connector: small", "connector: [small", "small.yaml"},
		{"no id", "    id: item.id\n", "", "missing property 'id'"},
		{"an endless expression", "number: item.no", "number: " + strings.Repeat("item.a + ", 900) + "item.b", "at most 4000"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, small, c.old)
			_, err := Load("small.yaml", []byte(strings.Replace(small, c.old, c.new, 1)), nil)
			require.ErrorContains(t, err, c.says)
			require.ErrorContains(t, err, "small.yaml")
		})
	}
	_, err = Load("empty.yaml", nil, nil)
	require.ErrorContains(t, err, "the file is empty")
}

const labels = `
connector: cart
title: Cart
side: carrier
access: { way: key, fields: [ { name: key, label: Key, secret: true } ], steps: [ "Ask." ], send: { X-Key: secret.key } }
calls:
  identity: { request: { method: GET, path: /who }, map: { name: body.name, number: body.no } }
feeds:
  labels out:
    require: [ { when: msg.to.street == "", say: A street is wanted., field: to.street } ]
    send:
      answers: [ { when: 'body.at == "kg"', field: weight_g } ]
      request: { method: POST, path: /labels, body: { ref: msg.reference } }
      answer: { id: body.no, tracking: body.no }
`

// TestOnlyFieldsOfAParcelAreWrong: a refusal speaks of a field that there is, and only of labels.
func TestOnlyFieldsOfAParcelAreWrong(t *testing.T) {
	_, err := Load("cart.yaml", []byte(labels), nil)
	require.NoError(t, err)
	for _, c := range []struct{ old, new, says string }{
		{"field: weight_g", "field: weight", `feeds.labels out.send.answers.field: "weight" is no field of a parcel`},
		{"field: to.street", "field: to", `feeds.labels out.require.field: "to" is no field of a parcel`},
		{"field: to.street", "field: to.street.name", "is no field of a parcel"},
		{"labels out:", "dispatch out:", "only of a label's parcel a field is said to be wrong"},
	} {
		_, err := Load("cart.yaml", []byte(strings.Replace(labels, c.old, c.new, 1)), nil)
		require.ErrorContains(t, err, c.says)
	}
}

// TestARefusalNamesItsField: before sending by what is required, and afterwards by the answer.
func TestARefusalNamesItsField(t *testing.T) {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(422)
		_, _ = io.WriteString(w, `{"reason":"too heavy","at":"kg"}`)
	}))
	t.Cleanup(srv.Close)
	def, err := Load("cart.yaml", []byte(labels), nil)
	require.NoError(t, err)
	l, err := NewLine(def,
		LineOptions{Base: srv.URL, Client: http.DefaultClient, Login: NewLogin(def, map[string]string{"key": "k"}, Token{})})
	require.NoError(t, err)
	for field, p := range map[string]message.Parcel{"to.street": {}, "weight_g": {To: place.Address{Street: "Lindenrow 14"}}} {
		_, err := l.Send(t.Context(), message.LabelsOut, "r1", []any{p})
		var f *Failure
		require.ErrorAs(t, err, &f)
		require.Equal(t, field, f.Wrong, f.Text)
	}
}

func TestExpensiveExpressionIsStopped(t *testing.T) {
	l, err := newLanguage(nil)
	require.NoError(t, err)
	list := make([]any, 300)
	for i := range list {
		list[i] = int64(i)
	}
	e := &Expr{Text: "item.all(a, item.all(b, item.all(c, item.all(d, a + b + c + d >= 0))))"}
	l.compile(e, "test")
	require.Empty(t, l.mistakes)
	begin := time.Now()
	_, err = e.Eval(Vars{"item": list})
	require.ErrorContains(t, err, "cost")
	require.Less(t, time.Since(begin), 10*time.Second)
}

func TestExpressions(t *testing.T) {
	l, err := newLanguage(map[string]map[string]string{"states": {"new": "open", "1": "one"}, "any": {"*": "other"}})
	require.NoError(t, err)
	vars := Vars{"item": map[string]any{"a": "x", "n": int64(1), "price": "12.50", "deep": map[string]any{"b": "  "},
		"list": []any{"p", "", "q"}}}
	for _, c := range []struct {
		text string
		want any
		bad  string
	}{
		{"item.a", "x", ""},
		{`item.a + "!"`, "x!", ""},
		{"item.nothing", nil, ""},
		{"item.nothing.further", nil, ""},
		{`item.nothing + "x"`, nil, ""},
		{`amount(item.price, "EUR")`, int64(1250), ""},
		{`amount(item.price + "0", "EUR")`, int64(1250), ""},
		{`amount(item.a, "EUR")`, nil, "not an amount"},
		{`decimal(amount(item.price, "EUR"), "EUR")`, "12.50", ""},
		{`lookup("states", "new")`, "open", ""},
		{`lookup("states", item.n)`, "one", ""},
		{`lookup("any", "whatever")`, "other", ""},
		{`lookup("states", "old")`, nil, "no entry"},
		{`lookup("no" + "where", "old")`, nil, "no table"},
		{`joined([item.a, item.gone, item.deep.gone.b], " · ")`, "x", ""},
		{`first([item.gone, item.deep.b.trim(), "last"])`, "last", ""},
		{`number("3.000")`, int64(3), ""},
		{`number("3.5")`, nil, "not a whole number"},
		{`moment("24.12.2026 18:30", "dd.MM.yyyy HH:mm", "UTC")`, time.Date(2026, 12, 24, 18, 30, 0, 0, time.UTC), ""},
		{`moment(item.n, "unix", "")`, time.Unix(1, 0).UTC(), ""},
		{`moment("soon", "rfc3339", "")`, nil, "not a time"},
		{`written("2026-01-31T10:00:00Z", "dd.MM.yyyy", "")`, "31.01.2026", ""},
		{`written("2026-01-31T10:00:00Z", "unix", "")`, "1769853600", ""},
		{`joined([item.a, item.deep.b, "z"], ", ")`, "x, z", ""},
		{`size(words("one  two"))`, int64(2), ""},
		{`item.list.exists(s, s == "q")`, true, ""},
		{`item.a.upperAscii()`, "X", ""},
	} {
		t.Run(c.text, func(t *testing.T) {
			e := &Expr{Text: c.text}
			l.compile(e, "test")
			require.Empty(t, l.mistakes)
			got, err := e.Eval(vars)
			if c.bad != "" {
				require.ErrorContains(t, err, c.bad)
				return
			}
			require.NoError(t, err)
			require.Equal(t, c.want, got)
		})
	}
}

// TestDirectAgreesWithTheMachine: expressions that are evaluated without the CEL machine give what it gives.
func TestDirectAgreesWithTheMachine(t *testing.T) {
	l, err := newLanguage(map[string]map[string]string{"t": {"k": "v"}})
	require.NoError(t, err)
	item := map[string]any{"a": "12.50", "k": "k", "m": map[string]any{"b": true, "n": int64(-4)}, "none": nil}
	for _, text := range []string{"item.a", "item.m.n", "item.m.b", "item.m", `amount(item.a, "EUR")`, `lookup("t", item.k)`, `"word"`,
		"12", "item.none", "item.gone"} {
		direct := &Expr{Text: text}
		l.compile(direct, "test")
		machine := &Expr{Text: "[" + text + "][0]"}
		l.compile(machine, "test")
		require.Empty(t, l.mistakes)
		a, errA := direct.Eval(Vars{"item": item})
		b, errB := machine.Eval(Vars{"item": item})
		require.Equal(t, errA == nil, errB == nil, text)
		require.Equal(t, a, b, text)
	}
}

func TestMapOrder(t *testing.T) {
	lib, err := BuiltIn()
	require.NoError(t, err)
	raw, err := os.ReadFile("testdata/hedgerow-order.json")
	require.NoError(t, err)
	l, err := NewLine(lib["hedgerow"], LineOptions{Base: "http://127.0.0.1"})
	require.NoError(t, err)
	got, err := l.Map("orders in", "poll", raw)
	require.NoError(t, err)
	o := got.(*message.Order)
	require.NoError(t, o.Check())
	require.Equal(t, "MH-1024", o.Number)
	require.Equal(t, message.Open, o.Status)
	require.Equal(t, int64(11770), o.Total)
	require.Equal(t, []int64{2, 1}, []int64{o.Lines[0].Quantity, o.Lines[1].Quantity})
	require.Equal(t, int64(8900), o.Lines[1].UnitPrice)
	require.Equal(t, "41360", o.ShipTo.Postcode)
	require.Equal(t, "maren.tolland@example.test", o.ShipTo.Email)
	require.Equal(t, time.Date(2026, 11, 23, 7, 27, 12, 345678000, time.UTC), o.PlacedAt)
	require.Empty(t, o.WindowFrom, "a window that is missing stays empty")

	_, err = l.Map("orders in", "poll", []byte(strings.Replace(string(raw), `"117.70"`, `"a lot"`, 1)))
	require.ErrorContains(t, err, "total")
	_, err = l.Map("orders in", "poll", []byte(strings.Replace(string(raw), `"quantity": 1`, `"quantity": 1.5`, 1)))
	require.ErrorContains(t, err, "a whole number is expected")
}

func TestMapTariff(t *testing.T) {
	l, err := newLanguage(nil)
	require.NoError(t, err)
	lib, err := BuiltIn()
	require.NoError(t, err)
	m := l.mapper(&lib["plover-post"].Calls["tariff"].Map, reflect.TypeFor[freight.Tariff](), "tariff")
	require.Empty(t, l.mistakes)
	body, err := decode([]byte(
		`{"currency":"EUR","fuel_permille":65,"remote":{"postcodes_beginning":["97"],"cents":280},"products":[{"code":"PP",
		"label":"Parcel","heaviest_g":20000,"longest_mm":1200,"volume_divisor":6000,
		"zones":[{"zone":"W1","lands":["XW"],"postcodes_beginning":["41"],"working_days":1,"steps":[{"to_g":2000,
		"cents":420},{"to_g":5000,"cents":560}]},{"zone":"W2","lands":["XW"],"postcodes_beginning":[],"working_days":2,"steps":[]}]}]}`))
	require.NoError(t, err)
	out, err := m.run(Vars{"body": body})
	require.NoError(t, err)
	got := out.(*freight.Tariff)
	require.Equal(t, []freight.Step{{UpToG: 2000, Price: 420}, {UpToG: 5000, Price: 560}}, got.Services[0].Zones[0].Steps)
	require.Len(t, got.Services[0].Zones, 2)
	require.Equal(t, []string{"97"}, got.RemotePrefixes)
}

func FuzzLoad(f *testing.F) {
	f.Add([]byte(small))
	for _, name := range []string{"hedgerow", "plover-post"} {
		text, err := builtIn.ReadFile("definitions/" + name + ".yaml")
		if err != nil {
			f.Fatal(err)
		}
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		d, err := Load("fuzz.yaml", text, nil)
		if err == nil && (d.Connector == "" || d.Side == "") {
			t.Fatalf("loaded without a name: %q", text)
		}
	})
}

func BenchmarkMapOrder(b *testing.B) {
	lib, err := BuiltIn()
	require.NoError(b, err)
	raw, err := os.ReadFile("testdata/hedgerow-order.json")
	require.NoError(b, err)
	l, err := NewLine(lib["hedgerow"], LineOptions{Base: "http://127.0.0.1"})
	require.NoError(b, err)
	b.ReportAllocs()
	for b.Loop() {
		if _, err := l.Map("orders in", "poll", raw); err != nil {
			b.Fatal(err)
		}
	}
}
