package connector

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

// trade writes and reads the messages of trade that partners send: ORDRSP, DESADV with SSCC, INVRPT and INVOIC, of the directories
// D.96A and D.01B.
const trade = `connector: trade
title: Trade
side: channel
access: { way: files }
format: { answer: edifact, body: edifact }
feeds:
  dispatch in:
    id: edi(item, "BGM", "2")
    read: { files: { folder: out, name: "*.edi", settled: 0s }, items: DESADV }
    map:
      reference: edi(item, "BGM", "2")
      order_number: edi(before(item, "CPS"), "RFF+ON", "1.2")
      tracking: first([edi(item, "RFF+CN", "1.2"), edi(item, "GIN+BJ", "2")])
      lines:
        each: groups(item, "LIN", "CPS CNT UNT")
        as: line
        map:
          sku: edi(line, "PIA+1", "2")
          quantity: number(edi(line, "QTY+12", "1.2"))
  stock in:
    id: edi(item, "LIN", "3")
    version: moment(edi(before(item, "LIN"), "DTM+137", "1.2"), "yyyyMMdd", "UTC")
    read: { files: { folder: out, name: "*.edi", settled: 0s }, items: INVRPT }
    map:
      sku: edi(item, "PIA+1", "2")
      quantity: number(edi(item, "QTY+145", "1.2"))
      location: edi(item, "LOC+18", "2")
  answers out:
    send:
      request:
        file: "in/RSP_{msg.order_number}.edi"
        body:
          interchange: { sender: '"OURS"', recipient: '"THEIRS"', reference: 'digest(ref, 14)' }
          message: '"ORDRSP:D:01B:UN:EAN009"'
          BGM: '["231", msg.reference, msg.accepted ? "29" : "27"]'
          FTX: 'has(msg.reason) && msg.reason != "" ? ["AAO", "", "", msg.reason] : []'
          RFF/order: '[["ON", msg.order_number]]'
  refunds out:
    send:
      request:
        file: "in/CRN_{msg.return_number}.edi"
        body:
          interchange: { sender: '"OURS"', recipient: '"THEIRS"', reference: 'digest(ref, 14)' }
          message: '"INVOIC:D:96A:UN:EAN008"'
          BGM: '["381", msg.reference, "9"]'
          RFF/order: '[["ON", msg.order_number]]'
          CUX: '[["2", msg.currency, "4"]]'
          lines:
            each: msg.lines
            as: line
            put:
              LIN: '[line.id]'
              PIA: '["1", [line.sku, "SA"]]'
              QTY: '[["47", line.quantity]]'
              MOA: '[["203", decimal(line.amount, msg.currency)]]'
          UNS: '["S"]'
          MOA/total: '[["77", decimal(msg.amount, msg.currency)]]'
          MOA/tax: '[["124", decimal(msg.tax, msg.currency)]]'
`

const (
	withSSCC = `UNB+UNOC:3+YARD:14+OURS:14+261123:0727+D7'UNH+1+DESADV:D:01B:UN:EAN007'BGM+351+DES-7+9'RFF+ON:MH-1024'` +
		`CPS+1'PAC+2++CT'CPS+2+1'PAC+1++CT'PCI+33E'GIN+BJ+220071000000000017'LIN+1++2007100014508:SRV'PIA+1+JAR-500-T12:SA'QTY+12:3'` +
		`CPS+3+1'PAC+1++CT'PCI+33E'GIN+BJ+220071000000000024'LIN+2'PIA+1+SUIT:SA'QTY+12:1'CNT+2:2'UNT+21+1'UNZ+1+D7'`
	stockReport = `UNB+UNOC:3+YARD:14+OURS:14+261123:0727+I7'UNH+1+INVRPT:D:96A:UN:EAN004'BGM+35+I-7+9'DTM+137:20261123:102'` +
		`LIN+1++2007100014508:EN'PIA+1+JAR-500-T12:SA'QTY+145:40'LOC+18+ALDER'UNT+8+1'UNZ+1+I7'`
)

// TestMessagesOfTradeAreRead from both directories, with what stands in groups of groups.
func TestMessagesOfTradeAreRead(t *testing.T) {
	y := newAgreed(t, trade)
	for kind, c := range map[message.Feed]struct {
		text string
		want any
	}{
		message.DispatchIn: {withSSCC, &message.Dispatch{Reference: "DES-7", OrderNumber: "MH-1024", Tracking: "220071000000000017",
			Lines: []message.DispatchLine{{SKU: "JAR-500-T12", Quantity: 3}, {SKU: "SUIT", Quantity: 1}}}},
		message.StockIn: {stockReport, &message.StockLevel{SKU: "JAR-500-T12", Quantity: 40, Location: "ALDER"}},
	} {
		tried, err := y.line.Try(kind, []byte(c.text))
		require.NoError(t, err)
		require.Empty(t, tried.Mistake)
		got, err := y.line.Map(kind, "poll", []byte(c.text))
		require.NoError(t, err)
		require.Equal(t, c.want, got)
	}
}

// TestMessagesOfTradeAreWritten segment by segment, with their counts, and can be read back.
func TestMessagesOfTradeAreWritten(t *testing.T) {
	y := newAgreed(t, trade)
	for _, c := range []struct {
		kind message.Feed
		msg  any
		file string
		want []string
	}{
		{message.AnswersOut, message.OrderAnswer{OrderNumber: "MH-1024", Accepted: false, Reason: "not in stock", Reference: "A-1"},
			"RSP_MH-1024.edi", []string{"UNH+1+ORDRSP:D:01B:UN:EAN009", "BGM+231+A-1+27", "FTX+AAO+++not in stock",
				"RFF+ON:MH-1024", "UNT+5+1"}},
		{message.AnswersOut, message.OrderAnswer{OrderNumber: "MH-1025", Accepted: true, ReadyAt: time.Unix(0, 0), Reference: "A-2"},
			"RSP_MH-1025.edi", []string{"UNH+1+ORDRSP:D:01B:UN:EAN009", "BGM+231+A-2+29", "RFF+ON:MH-1025", "UNT+4+1"}},
		{message.RefundsOut, message.Refund{ReturnNumber: "RET-77", OrderNumber: "MH-1024", Currency: "EUR", Amount: 2870, Tax: 478,
			Reference: "C-1", Lines: []message.RefundLine{{ID: "1", SKU: "JAR-500-T12", Quantity: 2, Amount: 2380}}},
			"CRN_RET-77.edi", []string{"UNH+1+INVOIC:D:96A:UN:EAN008", "BGM+381+C-1+9", "RFF+ON:MH-1024", "CUX+2:EUR:4", "LIN+1",
				"PIA+1+JAR-500-T12:SA", "QTY+47:2", "MOA+203:23.80", "UNS+S", "MOA+77:28.70", "MOA+124:4.78", "UNT+12+1"}},
	} {
		_, err := y.line.Send(t.Context(), c.kind, "or-1", []any{c.msg})
		require.NoError(t, err)
		raw, err := os.ReadFile(filepath.Join(y.dir, "in", c.file))
		require.NoError(t, err)
		segments := strings.Split(strings.ReplaceAll(string(raw), "'\n", "'"), "'")
		require.Equal(t, c.want, segments[2:len(segments)-2], c.file)
		back, err := readEDIFACT(raw)
		require.NoError(t, err)
		reference, err := edi(back, "BGM", "2")
		require.NoError(t, err)
		require.Contains(t, c.want[1], reference)
	}
}

// TestABillIsReadBySegments: sums of the head are told from those of its lines.
func TestABillIsReadBySegments(t *testing.T) {
	const bill = `UNB+UNOC:3+YARD:14+OURS:14+261130:0700+R9'UNH+1+INVOIC:D:01B:UN:EAN011'BGM+380+R-2026-11+9'DTM+137:20261130:102'` +
		`CUX+2:EUR:4'LIN+1'PIA+1+PICK:SA'QTY+47:120'PRI+AAA:0.45'MOA+203:54.00'LIN+2'PIA+1+CARTON:SA'QTY+47:88'MOA+203:61.60'` +
		`UNS+S'MOA+77:137.56'MOA+124:21.96'UNT+17+1'UNZ+1+R9'`
	doc, err := readEDIFACT([]byte(bill))
	require.NoError(t, err)
	at := func(record any, name, place string) string {
		out, err := edi(record, name, place)
		require.NoError(t, err)
		return textOf(out)
	}
	require.Equal(
		t,
		"R-2026-11 EUR 137.56 21.96",
		strings.Join([]string{at(doc, "BGM", "2"), at(doc, "CUX+2", "1.2"), at(doc, "MOA+77", "1.2"),
			at(doc, "MOA+124", "1.2")}, " "),
	)
	lines, err := groups(doc, "LIN", "UNS")
	require.NoError(t, err)
	var got []string
	for _, l := range lines {
		got = append(got, at(l, "PIA+1", "2")+" "+at(l, "QTY+47", "1.2")+" "+at(l, "MOA+203", "1.2"))
	}
	require.Equal(t, []string{"PICK 120 54.00", "CARTON 88 61.60"}, got)
}

// TestGroupsOfAMessageAreRecords: a report of stock has one for each item, with what stands before the first.
func TestGroupsOfAMessageAreRecords(t *testing.T) {
	y := newAgreed(t, strings.Replace(trade, "items: INVRPT }", "items: INVRPT/LIN CNT }", 1))
	const report = `UNB+UNOC:3+YARD:14+OURS:14+261123:0727+I8'UNH+1+INVRPT:D:96A:UN:EAN004'BGM+35+I-8+9'DTM+137:20261123:102'` +
		`LIN+1++A:EN'PIA+1+JAR:SA'QTY+145:40'LIN+2++B:EN'PIA+1+LID:SA'QTY+145:7'LOC+18+PIER'CNT+2:2'UNT+12+1'UNZ+1+I8'`
	require.NoError(t, os.MkdirAll(filepath.Join(y.dir, "out"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(y.dir, "out", "LEV.edi"), []byte(report), 0o600))
	var got []message.StockLevel
	_, err := y.line.Read(t.Context(), message.StockIn, Reading{Keep: func(list []Record) error {
		for _, r := range list {
			require.NoError(t, r.Err)
			m, err := y.line.Map(message.StockIn, "poll", r.Raw)
			require.NoError(t, err)
			got = append(got, *m.(*message.StockLevel))
			require.EqualValues(t, 1795392000000000, r.Version, "the day stands before the lines")
		}
		return nil
	}})
	require.NoError(t, err)
	require.Equal(t, []message.StockLevel{{SKU: "JAR", Quantity: 40}, {SKU: "LID", Quantity: 7, Location: "PIER"}}, got)
	for _, wrong := range []string{"INVRPT/lin", "INVRPT/"} {
		_, err := Load("trade.yaml", []byte(strings.Replace(trade, "items: INVRPT }", "items: "+wrong+" }", 1)), nil)
		require.ErrorContains(t, err, "behind the kind of a message")
	}
}
