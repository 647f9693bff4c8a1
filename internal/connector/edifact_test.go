package connector

import (
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// yard is a warehouse that speaks EDIFACT: it is told of dispatches here as an ORDERS, for want of a partner, and tells of others.
const yard = `connector: yard
title: Yard
side: fulfiller
access: ` + keyAccess + `
format: { body: edifact, answer: edifact }
tables: { carriers: { PP: Plover Post } }
feeds:
  dispatch in:
    id: edi(item, "BGM", "2")
    read:
      request: { method: GET, path: /tray }
      items: DESADV
    map:
      reference: edi(item, "BGM", "2")
      order_number: edi(item, "RFF+ON", "1.2")
      carrier: lookup("carriers", edi(item, "TDT+20", "5"))
      tracking: first(edis(item, "RFF+CN", "1.2"))
      shipped_at: moment(edi(before(item, "CPS"), "DTM+137", "1.2"), "yyyyMMddHHmm", "UTC")
      lines:
        each: groups(item, "LIN", "CPS CNT")
        as: line
        map: { sku: 'edi(line, "PIA+5", "2.1")', quantity: 'number(edi(line, "QTY+12", "1.2"))' }
  dispatch out:
    send:
      request:
        method: POST
        path: /tray
        body:
          interchange:
            sender: '"2007100000018"'
            sender_code: '"14"'
            recipient: '"2007100000025"'
            recipient_code: '"14"'
            reference: digest(ref, 14)
            test: test
          message: '"ORDERS:D:96A:UN:EAN008"'
          BGM: '["220", msg.reference, "9"]'
          DTM/sent: '[["137", written(msg.shipped_at, "yyyyMMddHHmm", "UTC"), "203"]]'
          FTX: 'msg.last_of_order ? ["AAI", "", "", "last", msg.tracking_url] : []'
          RFF: '[["ON", msg.order_number]]'
          lines:
            each: msg.lines
            as: line
            put:
              LIN: '["1", "", [line.sku, "SA"]]'
              QTY: '[["21", line.quantity]]'
          UNS: '["S"]'
`

const despatch = `UNA:+.? '
UNB+UNOA:2+2007100000025:14+2007100000018:14+261123:0727+77'
UNH+1+DESADV:D:96A:UN:EAN005'BGM+351+D-9+9'DTM+137:202611231640:203'RFF+ON:MH-1024'RFF+CN:PP123456785XW'TDT+20++30++PP'
CPS+1'LIN+1'PIA+5+JAR-500-T12:SA'QTY+12:2'CPS+2'LIN+2'PIA+5+SUIT:SA'QTY+12:1'CNT+2:2'UNT+16+1'
UNH+2+INVRPT:D:96A:UN'BGM+35+I-1'UNT+3+2'
UNH+3+DESADV:D:96A:UN:EAN005'BGM+351+D-10+9'UNT+9+3'
UNZ+3+77'`

func yardWith(t *testing.T, h http.HandlerFunc) *Line {
	t.Helper()
	return dial(t, yard, h, map[string]string{"key": "k1234"}, Token{})
}

// TestMessagesOfAnInterchange: those of the kind that the feed wants, each by itself; one that is wrong concerns no other.
func TestMessagesOfAnInterchange(t *testing.T) {
	l := yardWith(t, func(w http.ResponseWriter, r *http.Request) {
		require.Equal(t, "application/EDIFACT", r.Header.Get("Accept"))
		w.Header().Set("Content-Type", "application/edifact")
		_, _ = io.WriteString(w, despatch)
	})
	var got []Record
	_, err := l.Read(t.Context(), message.DispatchIn, Reading{Keep: func(list []Record) error { got = list; return nil }})
	require.NoError(t, err)
	require.Len(t, got, 2, "the report on stock is for another feed")
	require.Equal(t, "D-9", got[0].ID)
	require.ErrorContains(t, got[1].Err, `says "9" segments, and has 3`)
	m, err := l.Map(message.DispatchIn, "poll", got[0].Raw)
	require.NoError(t, err)
	require.Equal(t, &message.Dispatch{Reference: "D-9", OrderNumber: "MH-1024", Carrier: "Plover Post", Tracking: "PP123456785XW",
		ShippedAt: time.Date(2026, 11, 23, 16, 40, 0, 0, time.UTC),
		Lines:     []message.DispatchLine{{SKU: "JAR-500-T12", Quantity: 2}, {SKU: "SUIT", Quantity: 1}}}, m)
	tried, err := l.Try(message.DispatchIn, got[0].Raw)
	require.NoError(t, err)
	require.Empty(t, tried.Mistake)
	require.Equal(t, "D-9", tried.ID)
}

func TestAnInterchangeIsSent(t *testing.T) {
	var body, kind string
	l := yardWith(t, func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		body, kind = string(raw), r.Header.Get("Content-Type")
		w.Header().Set("Content-Type", "text/plain")
	})
	d := message.Dispatch{Reference: "R-1", OrderNumber: "MH+1024", ShippedAt: time.Date(2026, 11, 23, 16, 40, 0, 0, time.UTC),
		Lines: []message.DispatchLine{{SKU: "JAR", Quantity: 2}, {SKU: "SÜIT", Quantity: 1}}}
	_, err := l.Send(t.Context(), message.DispatchOut, "or-r1", []any{d})
	require.NoError(t, err)
	require.Equal(t, "application/EDIFACT", kind)
	_, rest, _ := strings.Cut(body, "\nUNH")
	require.Equal(t, "+1+ORDERS:D:96A:UN:EAN008'\nBGM+220+R-1+9'\nDTM+137:202611231640:203'\nRFF+ON:MH?+1024'\n"+
		"LIN+1++JAR:SA'\nQTY+21:2'\nLIN+1++S\xdcIT:SA'\nQTY+21:1'\nUNS+S'\nUNT+10+1'\n", strings.SplitAfter(rest, "UNT+10+1'\n")[0])
	first := body
	_, err = l.Send(t.Context(), message.DispatchOut, "or-r1", []any{d})
	require.NoError(t, err)
	require.Equal(t, strings.Split(first, "+")[7], strings.Split(body, "+")[7], "the same message goes under the same reference")
	d.Lines[0].SKU = "蜂"
	_, err = l.Send(t.Context(), message.DispatchOut, "or-r1", []any{d})
	require.ErrorContains(t, err, "LIN: no EDIFACT: UNOC has no '蜂'")
}

func TestWhatIsNoBodyOfSegments(t *testing.T) {
	for _, c := range []struct{ old, new, says string }{
		{"          message: '\"ORDERS:D:96A:UN:EAN008\"'\n", "", "an EDIFACT body has message"},
		{"            test: test\n", "            tests: test\n", `interchange: there is no "tests"`},
		{"msg.last_of_order ?", "true ?", "msg.tracking_url] : [] has no value; of one that may be missing"},
		{"UNS: ", "Uns: ", "Uns: segments are expected, such as LIN or DTM/order"},
		{"reference: digest(ref, 14)", "reference: digest(ref, 50)", "6 to 40 characters"},
		{"reference: digest(ref, 14)", "reference: digest(ref, 20)", "1 to 14 characters"},
	} {
		def, err := Load("yard.yaml", []byte(strings.Replace(yard, c.old, c.new, 1)), nil)
		if err == nil {
			var l *Line
			l, err = NewLine(def, LineOptions{Base: "http://127.0.0.1:1"})
			require.NoError(t, err)
			_, err = l.Prepare(t.Context(), message.DispatchOut, "r",
				[]any{message.Dispatch{Reference: "R-1", Lines: []message.DispatchLine{{SKU: "JAR"}}}})
		}
		require.ErrorContains(t, err, c.says, c.new)
	}
}

func TestPlacesOfSegments(t *testing.T) {
	body, err := readEDIFACT([]byte(strings.Split(despatch, "UNH+2")[0] + "UNZ+1+77'"))
	require.NoError(t, err)
	l, err := newLanguage(nil)
	require.NoError(t, err)
	for text, want := range map[string]any{
		`edi(item, "BGM", "2")`:                                    "D-9",
		`edi(item, "RFF+CN", "1.2")`:                               "PP123456785XW",
		`edi(item, "RFF+XX", "1.2")`:                               "",
		`edi(item, "DTM+137", "1.*")`:                              "137 202611231640 203",
		`edi(item, "TDT+20", "9.*") + edi(item, "TDT+20", "3")`:    "30",
		`edis(item, "RFF", "1.1").size()`:                          int64(2),
		`groups(item, "CPS", "CNT").size()`:                        int64(2),
		`groups(item, "CPS", "CNT").map(c, edi(c, "LIN", "1"))[1]`: "2",
		`edi(before(item, "CPS"), "LIN", "1")`:                     "",
		`item.type + " " + item.version + item.interchange.sender`: "DESADV D.96A2007100000025",
		`item.interchange.test`:                                    false,
	} {
		e := &Expr{Text: text}
		l.compile(e, "test")
		require.Empty(t, l.mistakes)
		got, err := e.Eval(Vars{"item": body})
		require.NoError(t, err, text)
		require.Equal(t, want, got, text)
	}
	for text, says := range map[string]string{`edi(item, "BGM", "two")`: "no place of a segment", `edi(item, "BGM", "2.x")`: "no place",
		`edi("BGM", "BGM", "2")`: "no EDIFACT message"} {
		e := &Expr{Text: text}
		l.compile(e, "test")
		_, err := e.Eval(Vars{"item": body})
		require.ErrorContains(t, err, says)
	}
}

const ledgerLines = `connector: lines
title: Lines
side: channel
access: ` + keyAccess + `
format:
  body: fixed
  answer: fixed
  charset: windows-1252
  columns: [{ name: no, width: 4, right: true, fill: "0" }, { name: name, width: 8 }]
feeds:
  customers in:
    id: item.no
    read: { request: { method: GET, path: /people } }
    map: { name: item.name }
  stock out:
    send: { request: { method: POST, path: /levels, body: { no: msg.quantity, name: msg.sku } } }
`

func TestLinesOfFixedWidth(t *testing.T) {
	answer, sent := "0041Zo\xeb     \r\n0000Ilka\r\n\r\n", ""
	l := dial(t, ledgerLines, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/plain")
		raw, _ := io.ReadAll(r.Body)
		if sent += string(raw); r.Method == "GET" {
			_, _ = io.WriteString(w, answer)
		}
	}), map[string]string{"key": "k1234"}, Token{})
	var names []string
	read := func() error {
		_, err := l.Read(t.Context(), message.CustomersIn, Reading{Keep: func(list []Record) error {
			for _, rec := range list {
				if rec.Err != nil {
					return rec.Err
				}
				m, err := l.Map(message.CustomersIn, "poll", rec.Raw)
				require.NoError(t, err)
				names = append(names, rec.ID+" "+m.(*message.Customer).Name)
			}
			return nil
		}})
		return err
	}
	require.NoError(t, read())
	require.Equal(t, []string{"41 Zoë", "0 Ilka"}, names, "in its character set, without what only fills")
	answer = "0041Zoe     and more\r\n"
	require.ErrorContains(t, read(), `goes on behind its last column: "and more"`)

	send := func(sku string, n int64) error {
		_, err := l.Send(t.Context(), message.StockOut, "r", []any{message.Offer{SKU: sku, Quantity: n}})
		return err
	}
	require.NoError(t, send("JÄR", 7))
	require.Equal(t, "0007J\xc4R     \r\n", sent)
	require.ErrorContains(t, send("JAR-500-T12", 7), `name: "JAR-500-T12" does not go into 8 characters`, "nothing is cut off in silence")
	require.ErrorContains(t, send("蜂", 7), "windows-1252 has no '蜂'")
	for old, c := range map[string]struct{ new, says string }{
		"name: msg.sku": {"nam: msg.sku", "there is no column nam"},
		"windows-1252":  {"klingon", `the character set "klingon" is not known`},
		"  columns: [{ name: no, width: 4, right: true, fill: \"0\" }, { name: name, width: 8 }]\n": {"", "columns are missing"},
	} {
		def, err := Load("lines.yaml", []byte(strings.Replace(ledgerLines, old, c.new, 1)), nil)
		if err == nil {
			var l *Line
			l, err = NewLine(def, LineOptions{Base: "http://127.0.0.1:1"})
			require.NoError(t, err)
			_, err = l.Prepare(t.Context(), message.StockOut, "r", []any{message.Offer{SKU: "JAR"}})
		}
		require.ErrorContains(t, err, c.says)
	}
}

func TestCSVInACharacterSet(t *testing.T) {
	f := Format{Answer: "csv", Body: "csv", Separator: ";", Charset: "ISO-8859-1"}
	parts, err := f.cut([]byte("Art. No;Name\n1;K\xe4se\n2;Jar\n"), "")
	require.NoError(t, err)
	require.Len(t, parts, 2)
	rec, err := f.record(parts[0])
	require.NoError(t, err)
	require.Equal(t, map[string]any{"art_no": "1", "name": "Käse"}, rec, "a part is in the same character set, and read alone")
	raw, kind, err := f.write([]any{object{{"Name", "Käse"}}})
	require.NoError(t, err)
	require.Equal(t, []string{"Name\r\nK\xe4se\r\n", "text/csv; charset=iso-8859-1"}, []string{string(raw), kind})
}

func FuzzFixed(f *testing.F) {
	f.Add([]byte("0041Zo\xeb     \r\n"))
	f.Add([]byte("\x1a"))
	format := Format{
		Answer:  "fixed",
		Charset: "windows-1252",
		Columns: []Column{{Name: "no", Width: 4, Right: true, Fill: "0"}, {Name: "x", Width: 3}},
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		parts, err := format.cut(raw, "")
		for i := 0; err == nil && i < len(parts); i++ {
			if _, err := format.record(parts[i]); err != nil && !strings.Contains(err.Error(), "goes on behind") {
				t.Fatal(err)
			}
		}
	})
}

func TestTheGuideHasAnInterchange(t *testing.T) {
	guide, err := os.ReadFile("../../docs/connectors.md")
	require.NoError(t, err)
	for _, name := range []string{"edi(", "edis(", "groups(", "before(", "digest("} {
		require.Contains(t, string(guide), name)
	}
}
