package standin

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
)

// The warehouse's second way: tables with semicolons in UTF-8, in trays of their own beside those for EDIFACT. An order is a file with a
// row for each line; what it answers and reports are rows, goods of one parcel in one cell. What was asked by tables is answered by tables.

// sheetTrays are the trays for tables.
const sheetTrays = "sheets"

// readSheet takes a table out of the in-tray: an order, or the wish to call one off.
func (g *Fallowgate) readSheet(name string) (ask gateAsk, ok bool) {
	ctx := context.Background()
	f, err := g.fs.OpenFile(ctx, name, os.O_RDONLY, 0)
	if err != nil {
		return ask, false
	}
	raw, err := io.ReadAll(f)
	f.Close()
	if err != nil {
		return ask, false
	}
	away := path.Join(sheetTrays, "in/read", path.Base(name))
	_ = g.fs.RemoveAll(ctx, away)
	if err := g.fs.Rename(ctx, name, away); err != nil {
		return ask, false
	}
	rows := sheetRows(string(raw))
	if len(rows) == 0 || g.mood.Silent {
		return ask, false
	}
	first := rows[0]
	ask = gateAsk{kind: "ORDERS", ref: first["order"], trial: first["test"] == "yes", sheets: true}
	if stop := first["stop"]; stop != "" {
		ask.kind, ask.order = "ORDCHG", stop
		return ask, true
	}
	for _, column := range []string{"name", "company", "street", "extra", "postcode", "town", "country"} {
		if text := first[column]; text != "" {
			ask.to = append(ask.to, text)
		}
	}
	for _, column := range []string{"gift", "note", "phone"} {
		if text := first[column]; text != "" {
			ask.notes = append(ask.notes, text)
		}
	}
	for i, row := range rows {
		n, err := strconv.ParseInt(row["qty"], 10, 64)
		if err != nil || n < 1 {
			return ask, false
		}
		ask.lines = append(ask.lines, gateLine{No: strconv.Itoa(i + 1), SKU: row["article"], Qty: n})
	}
	return ask, true
}

// sheetRows reads a table by the words of its head.
func sheetRows(text string) (out []map[string]string) {
	r := csv.NewReader(strings.NewReader(text))
	r.Comma = ';'
	rows, err := r.ReadAll()
	if err != nil || len(rows) < 2 {
		return nil
	}
	for _, row := range rows[1:] {
		record := map[string]string{}
		for i, word := range rows[0] {
			record[word] = row[i]
		}
		out = append(out, record)
	}
	return out
}

// sheetAnswers are the words for what becomes of an order, by the codes of EDIFACT.
var sheetAnswers = map[string]string{"29": "taken", "4": "less", "27": "not taken", "1": "called off"}

// sheetKinds are the tables of the out-tray by the kind of message: how their names begin, and their heads.
var sheetKinds = map[string]struct {
	prefix string
	head   []string
}{
	"ORDRSP": {"ANS", []string{"order", "number", "answer", "why", "ready", "goods"}},
	"DESADV": {"GONE", []string{"parcel", "order", "carrier", "number", "left", "goods"}},
	"INVRPT": {"SHELF", []string{"counted", "article", "count"}},
	"INVOIC": {"BILL", []string{"bill", "row", "order", "what", "eur"}},
}

// writeSheets lays what it has to say into the out-tray for tables, a table for each kind of it.
func (g *Fallowgate) writeSheets(list []gateMessage) {
	rows := map[string][][]string{}
	for i := range list {
		rows[list[i].kind] = append(rows[list[i].kind], sheetOf(&list[i])...)
	}
	for _, kind := range []string{"ORDRSP", "DESADV", "INVRPT", "INVOIC"} {
		if len(rows[kind]) == 0 {
			continue
		}
		g.files++
		var b bytes.Buffer
		w := csv.NewWriter(&b)
		w.Comma = ';'
		_ = w.WriteAll(append([][]string{sheetKinds[kind].head}, rows[kind]...))
		g.layIn(path.Join(sheetTrays, "out"), fmt.Sprintf("%s%05d.csv", sheetKinds[kind].prefix, g.files), b.Bytes())
	}
}

// sheetOf writes a message as rows of the table of its kind.
func sheetOf(m *gateMessage) (rows [][]string) {
	segments := cutSegments(strings.Join(m.lines, "'") + "'")
	find := func(from []segment, tag, qualifier string, element, component int) string {
		for _, s := range from {
			if s.at(0, 1) == tag && (qualifier == "" || s.at(1, 1) == qualifier) {
				return s.at(element, component)
			}
		}
		return ""
	}
	first := slices.IndexFunc(segments, func(s segment) bool { return s.at(0, 1) == "LIN" })
	if first < 0 {
		first = len(segments)
	}
	var goods []string
	var groups [][]segment
	for _, s := range segments[first:] {
		if s.at(0, 1) == "LIN" {
			groups = append(groups, nil)
		}
		groups[len(groups)-1] = append(groups[len(groups)-1], s)
	}
	for _, line := range groups {
		if n := find(line, "QTY", "", 1, 2); n != "" {
			goods = append(goods, line[0].at(3, 1)+"*"+n)
		}
	}
	head, about := segments[:first], find(segments, "RFF", "ON", 1, 2)
	switch m.kind {
	case "ORDRSP":
		said := sheetAnswers[find(head, "BGM", "", 3, 1)]
		switch {
		case find(head, "FTX", "AAO", 3, 1) == "UNK":
			said = "not known"
		case find(head, "RFF", "ACW", 1, 2) != "":
			said = "too late"
		}
		return [][]string{{about, find(head, "BGM", "", 2, 1), said, find(head, "FTX", "AAO", 4, 1), find(head, "DTM", "2", 1, 2),
			strings.Join(goods, " ")}}
	case "DESADV":
		return [][]string{{find(head, "BGM", "", 2, 1), about, find(head, "TDT", "20", 5, 4), find(head, "GIN", "BJ", 2, 1),
			find(head, "DTM", "11", 1, 2), strings.Join(goods, " ")}}
	case "INVRPT":
		for _, line := range groups {
			rows = append(rows, []string{find(head, "DTM", "137", 1, 2), line[0].at(3, 1), find(line, "QTY", "145", 1, 2)})
		}
	case "INVOIC":
		for _, line := range groups {
			rows = append(rows, []string{find(head, "BGM", "", 2, 1), line[0].at(1, 1), find(line, "RFF", "ON", 1, 2),
				find(line, "IMD", "", 3, 4), find(line, "MOA", "203", 1, 2)})
		}
	}
	return rows
}

// workSheets reads and answers what lies in the in-tray for tables.
func (g *Fallowgate) workSheets() {
	var out []gateMessage
	for _, name := range g.list(path.Join(sheetTrays, "in")) {
		if ask, ok := g.readSheet(name); ok {
			if m := g.answer(ask); m != nil {
				out = append(out, *m)
			}
		}
	}
	g.writeSheets(out)
}
