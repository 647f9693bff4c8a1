package connector

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestXMLIsReadIntoRecords(t *testing.T) {
	got, err := decodeXML([]byte(
		`<?xml version="1.0"?><s:Orders xmlns:s="urn:x" page="2"><s:Order id="7"><No>A-1</No><Line><Sku>JAR</Sku></Line><Line>` +
			`<Sku>LID &amp; RING</Sku></Line><Ship-To/></s:Order><Empty> </Empty></s:Orders>`))
	require.NoError(t, err)
	require.Equal(t, map[string]any{"_page": "2", "Empty": "", "Order": map[string]any{"_id": "7", "No": "A-1", "Ship_To": "",
		"Line": []any{map[string]any{"Sku": "JAR"}, map[string]any{"Sku": "LID & RING"}}}}, got)
}

func TestXMLIsCutByteByByte(t *testing.T) {
	raw :=
		[]byte(
			`<Page><Skip><Order>no</Order></Skip><Orders><Order id="1"><A>x</A></Order> <Order id="2"/></Orders><Orders>` +
				`<Order id="3">y</Order></Orders></Page>`)
	parts, err := sliceXML(raw, "Orders.Order")
	require.NoError(t, err)
	require.Equal(t, [][]byte{[]byte(`<Order id="1"><A>x</A></Order>`), []byte(`<Order id="2"/>`), []byte(`<Order id="3">y</Order>`)},
		parts)
	v, err := decodeXML(parts[0])
	require.NoError(t, err)
	require.Equal(t, map[string]any{"_id": "1", "A": "x"}, v)
}

// TestXMLThatIsRefused: what could blow up or name files is not read at all, and quickly.
func TestXMLThatIsRefused(t *testing.T) {
	laughs := `<!DOCTYPE a [<!ENTITY b "ha"><!ENTITY c "&b;&b;&b;&b;">]><a>&c;</a>`
	for name, c := range map[string]struct{ raw, says string }{
		"entities of its own":      {laughs, "document type"},
		"an outside entity":        {`<!DOCTYPE a SYSTEM "file:///etc/hosts"><a/>`, "document type"},
		"an unknown entity":        {`<a>&b;</a>`, "not XML"},
		"a processing instruction": {`<?run this?><a/>`, "processing instruction"},
		"half a body":              {`<a><b>`, "XML"},
		"two roots":                {`<a/><b/>`, "more than one"},
		"another encoding":         {`<?xml version="1.0" encoding="ISO-8859-1"?><a/>`, "UTF-8"},
		"no XML":                   {`{"a":1}`, "XML"},
		"nested without end":       {strings.Repeat("<a>", 200_000), "deep"},
	} {
		t.Run(name, func(t *testing.T) {
			begin := time.Now()
			for _, read := range []func() error{
				func() error { _, err := decodeXML([]byte(c.raw)); return err },
				func() error { _, err := sliceXML([]byte(c.raw), "q"); return err },
			} {
				err := read()
				require.ErrorIs(t, err, ErrBody)
			}
			_, err := decodeXML([]byte(c.raw))
			require.ErrorContains(t, err, c.says)
			require.Less(t, time.Since(begin), 2*time.Second)
		})
	}
}

func TestXMLIsWrittenInOrder(t *testing.T) {
	body := object{{"Batch",
		object{{"_kind", `a"b`}, {"Line", []any{object{{"Sku", "A&B"}, {"Qty", int64(3)}}, object{{"Sku", "C"}, {"Qty", int64(0)}}}},
			{"Note", "<hi>"}}}}
	got, kind, err := Format{Body: "xml"}.write(body)
	require.NoError(t, err)
	require.Equal(t, "application/xml; charset=utf-8", kind)
	require.Equal(t,
		`<?xml version="1.0" encoding="UTF-8"?><Batch kind="a&#34;b"><Line><Sku>A&amp;B</Sku><Qty>3</Qty></Line><Line><Sku>C</Sku>`+
			`<Qty>0</Qty></Line><Note>&lt;hi&gt;</Note></Batch>`, string(got))
	_, _, err = Format{Body: "xml"}.write(object{{"A", "x"}, {"B", "y"}})
	require.ErrorContains(t, err, "one outermost element")
	_, _, err = Format{Body: "xml"}.write(object{{"no name", "x"}})
	require.ErrorContains(t, err, "no name")
}

func TestCSVIsReadByItsHead(t *testing.T) {
	f := Format{Answer: "csv", Separator: ";"}
	raw := []byte("\ufeffArt. No;Title;In stock\r\n00-7;\"Jar; with\nlid\";12\r\n8;\"say \"\"hi\"\"\";-1")
	parts, err := f.cut(raw, "")
	require.NoError(t, err)
	require.Len(t, parts, 2)
	one, err := f.record(parts[0])
	require.NoError(t, err)
	require.Equal(t, map[string]any{"art_no": "00-7", "title": "Jar; with\nlid", "in_stock": "12"}, one,
		"a leading zero stays, a quoted line break stays")
	two, err := f.record(parts[1])
	require.NoError(t, err)
	require.Equal(t, map[string]any{"art_no": "8", "title": `say "hi"`, "in_stock": "-1"}, two)
	for _, bad := range []string{"a;b\n1", "a\n\"x", strings.Repeat("x;", 2000) + "\n"} {
		_, err := f.cut([]byte(bad), "")
		require.ErrorIs(t, err, ErrBody, short(bad))
	}
	out, _, err := Format{Body: "csv", Separator: ";"}.write([]any{object{{"sku", "A"}, {"qty", int64(2)}},
		object{{"sku", "B;C"}, {"qty", int64(3)}}})
	require.NoError(t, err)
	require.Equal(t, "sku;qty\r\nA;2\r\n\"B;C\";3\r\n", string(out))
}

func TestFormRepeatsItsLines(t *testing.T) {
	body := object{{"user", "me & you"},
		{"lines", []any{object{{"item", "A"}, {"qty_{n}", int64(2)}}, object{{"item", "B"}, {"qty_{n}", int64(1)}}}},
		{"tag", []any{"x", "y"}}}
	got, kind, err := Format{Body: "form"}.write(body)
	require.NoError(t, err)
	require.Equal(t, "application/x-www-form-urlencoded", kind)
	require.Equal(t, "user=me+%26+you&item=A&qty_1=2&item=B&qty_2=1&tag=x&tag=y", string(got))
	back, err := decodeForm(got)
	require.NoError(t, err)
	require.Equal(t, map[string]any{"user": "me & you", "item": []any{"A", "B"}, "qty_1": "2", "qty_2": "1", "tag": []any{"x", "y"}}, back)
	_, err = decodeForm([]byte("a=%zz"))
	require.ErrorIs(t, err, ErrBody)
}

func TestObjectKeepsItsOrderInJSON(t *testing.T) {
	b, err := json.Marshal(object{{"z", int64(1)}, {"a", []any{object{{"q", nil}}}}})
	require.NoError(t, err)
	require.Equal(t, `{"z":1,"a":[{"q":null}]}`, string(b))
}

// FuzzXML: whatever comes ends in a value or a marked error, and what is cut can be read.
func FuzzXML(f *testing.F) {
	for _, s := range []string{`<a><b>1</b><b x="2">3</b></a>`, `<a><b>`, `<!DOCTYPE a><a/>`, `<a>&lt;</a>`, "<a:b xmlns:a=''><b/></a:b>",
		strings.Repeat("<b>", 300)} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		v, err := decodeXML(raw)
		if err != nil && !errors.Is(err, ErrBody) {
			t.Fatalf("unmarked error %v", err)
		}
		parts, cutErr := sliceXML(raw, "b")
		if cutErr != nil {
			if !errors.Is(cutErr, ErrBody) {
				t.Fatalf("unmarked error %v", cutErr)
			}
			return
		}
		if err != nil {
			t.Fatalf("cut but not read: %v", err)
		}
		m, _ := v.(map[string]any)
		list, _ := elements(m["b"])
		if s, ok := m["b"].(string); ok && m["b"] != nil {
			list = []any{s}
		}
		if len(list) != len(parts) {
			t.Fatalf("%d parts of %d in %q", len(parts), len(list), raw)
		}
		for i, p := range parts {
			one, err := decodeXML(p)
			if err != nil {
				t.Fatalf("part %d of %q cannot be read alone: %v", i, raw, err)
			}
			if s, ok := one.(map[string]any); ok && len(s) == 0 {
				continue
			}
			if fmt.Sprint(one) != fmt.Sprint(list[i]) {
				t.Fatalf("part %d is %v alone and %v in its place", i, one, list[i])
			}
		}
	})
}

// FuzzCSV: a list that was cut has as many parts as it has records, each the same alone.
func FuzzCSV(f *testing.F) {
	for _, s := range []string{"a,b\n1,2\n", "a\n\"x\ny\"", "\ufeffa;b", "a,a\r\n1,2\r\n\r\n3,4", "\"", ""} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		format := Format{Answer: "csv", Separator: ","}
		v, err := format.read(raw)
		if err != nil && !errors.Is(err, ErrBody) {
			t.Fatalf("unmarked error %v", err)
		}
		parts, cutErr := format.cut(raw, "")
		if (err == nil) != (cutErr == nil) {
			t.Fatalf("read: %v, cut: %v", err, cutErr)
		}
		if err != nil {
			return
		}
		list := v.([]any)
		if len(list) != len(parts) {
			t.Fatalf("%d parts of %d", len(parts), len(list))
		}
		for i, p := range parts {
			one, err := format.record(p)
			if err != nil {
				t.Fatalf("line %d of %q alone: %v", i, raw, err)
			}
			if fmt.Sprint(one) != fmt.Sprint(list[i]) {
				t.Fatalf("line %d is %v alone and %v in its place (%q)", i, one, list[i], p)
			}
		}
	})
}

// FuzzForm: reading what was written gives the same fields.
func FuzzForm(f *testing.F) {
	f.Add("a", "b c", "ä&=%")
	f.Fuzz(func(t *testing.T, key, one, two string) {
		if key == "" || strings.Contains(key, "{n}") || strings.TrimSpace(key) != key {
			return
		}
		var buf bytes.Buffer
		if err := writeForm(&buf, object{{key, []any{one, two}}}); err != nil {
			t.Fatal(err)
		}
		got, err := decodeForm(buf.Bytes())
		if err != nil {
			t.Fatal(err)
		}
		if m := got.(map[string]any); fmt.Sprint(m[key]) != fmt.Sprint([]any{one, two}) {
			t.Fatalf("%q: %v", buf.String(), m)
		}
	})
}

// TestAJSONBodyIsReadAsItIs: texts with and without escapes, numbers with and without a fraction, and what is none.
func TestAJSONBodyIsReadAsItIs(t *testing.T) {
	got, err := decode([]byte(` {"a":"caf\u00e9 \"x\"","b":"Zoë","c":[1,-2.50,1e3,"",null,true,false,[],{}],"d":12345678901234567890} `))
	require.NoError(t, err)
	require.Equal(t, map[string]any{"a": `café "x"`, "b": "Zoë",
		"c": []any{int64(1), "-2.50", "1e3", "", nil, true, false, []any{}, map[string]any{}}, "d": "12345678901234567890"}, got)
	for text, says := range map[string]string{`{"a":1,"a":2}`: "has a twice in one record", `{"a":1} {}`: "more than one JSON value",
		`{"a":`: "ends in the middle", `{"a":"\x"}`: "is not JSON", "\"\xff\"": "is not JSON",
		``: "ends in the middle", `[1,]`: "is not JSON",
		strings.Repeat("[", 200): "nested more than 100 deep"} {
		_, err := decode([]byte(text))
		require.ErrorContains(t, err, says, text)
		require.ErrorIs(t, err, ErrBody)
	}
}
