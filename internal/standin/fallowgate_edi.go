package standin

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// segment is one of a message: its tag and its elements, each of components.
type segment [][]string

func (s segment) at(element, component int) string {
	if element < len(s) && component <= len(s[element]) {
		return s[element][component-1]
	}
	return ""
}

// cutSegments takes an interchange apart: segments end with ', elements with +, components with :, and ? takes what follows as it is.
func cutSegments(text string) (out []segment) {
	var seg segment
	var element []string
	var part strings.Builder
	component := func() { element = append(element, part.String()); part.Reset() }
	for i := 0; i < len(text); i++ {
		switch c := text[i]; c {
		case '?':
			if i++; i < len(text) {
				part.WriteByte(text[i])
			}
		case ':':
			component()
		case '+':
			component()
			seg, element = append(seg, element), nil
		case '\'':
			component()
			out, seg, element = append(out, append(seg, element)), nil, nil
		case '\r', '\n':
		default:
			part.WriteByte(c)
		}
	}
	return out
}

var escaper = strings.NewReplacer("?", "??", "+", "?+", ":", "?:", "'", "?'")

// gateMessage is a message as the warehouse writes it.
type gateMessage struct {
	kind  string // such as DESADV
	lines []string
}

// add writes a segment; what is handed in is escaped where it is marked by %s.
func (m *gateMessage) add(format string, args ...any) {
	for i, a := range args {
		if s, ok := a.(string); ok {
			args[i] = escaper.Replace(s)
		}
	}
	m.lines = append(m.lines, fmt.Sprintf(format, args...))
}

// interchange writes messages, counts and all, in Latin-1 (UNOC).
func interchange(from, to string, no int, at time.Time, list []gateMessage) []byte {
	ref := "FG" + strconv.Itoa(no)
	var b strings.Builder
	fmt.Fprintf(&b, "UNB+UNOC:3+%s:14+%s:14+%s:%s+%s'", from, to, at.Format("060102"), at.Format("1504"), ref)
	for i, m := range list {
		fmt.Fprintf(&b, "UNH+%d+%s:D:96A:UN:EAN008'", i+1, m.kind)
		for _, l := range m.lines {
			b.WriteString(l + "'")
		}
		fmt.Fprintf(&b, "UNT+%d+%d'", len(m.lines)+2, i+1)
	}
	fmt.Fprintf(&b, "UNZ+%d+%s'", len(list), ref)
	return latin1(b.String())
}

func latin1(s string) []byte {
	out := make([]byte, 0, len(s))
	for _, r := range s {
		if r > 255 {
			r = '?'
		}
		out = append(out, byte(r))
	}
	return out
}

func fromLatin1(raw []byte) string {
	out := make([]rune, len(raw))
	for i, b := range raw {
		out[i] = rune(b)
	}
	return string(out)
}

// gateAsk is an order, or the wish to call one off, as it came.
type gateAsk struct {
	kind, ref, again string // ORDERS or ORDCHG; again: BGM function, 7 of a duplicate
	order            string // of ORDCHG: the order it is about
	to               []string
	notes            []string // texts for who packs, and how the buyer is reached
	lines            []gateLine
	trial            bool
	sheets           bool // it came as a table, and is answered by tables
}

type gateLine struct {
	No, SKU string
	Qty     int64
}

// readAsks reads what the relay wrote. wrong says what does not fit, where something does not.
func readAsks(text string) (sender, ref string, asks []gateAsk, wrong string) {
	text = strings.TrimPrefix(text, "UNA:+.? '")
	var cur *gateAsk
	trial, began := false, 0
	segments := cutSegments(text)
	for i, s := range segments {
		switch s.at(0, 1) {
		case "UNB":
			sender, ref, trial = s.at(2, 1), s.at(5, 1), s.at(11, 1) == "1"
		case "UNH":
			asks = append(asks, gateAsk{kind: s.at(2, 1), trial: trial})
			cur, began = &asks[len(asks)-1], i
		case "UNT":
			if n, _ := strconv.Atoi(s.at(1, 1)); n != i-began+1 {
				wrong = fmt.Sprintf("a message says that it has %d segments and has %d", n, i-began+1)
			}
			cur = nil
		default:
			if cur != nil {
				cur.segment(s)
			}
		}
	}
	if len(segments) == 0 || segments[len(segments)-1].at(0, 1) != "UNZ" {
		wrong = "the interchange does not end"
	}
	return sender, ref, asks, wrong
}

func (a *gateAsk) segment(s segment) {
	switch s.at(0, 1) {
	case "BGM":
		a.ref, a.again = s.at(2, 1), s.at(3, 1)
	case "RFF":
		if s.at(1, 1) == "ON" {
			a.order = s.at(1, 2)
		}
	case "NAD":
		if s.at(1, 1) == "DP" {
			for _, at := range [][2]int{{4, 1}, {4, 2}, {4, 3}, {4, 4}, {5, 1}, {5, 2}, {5, 3}, {8, 1}, {6, 1}, {9, 1}} {
				if text := s.at(at[0], at[1]); text != "" {
					a.to = append(a.to, text)
				}
			}
		}
	case "FTX":
		a.notes = append(a.notes, s.at(4, 1))
	case "COM":
		a.notes = append(a.notes, s.at(1, 1))
	case "LIN":
		a.lines = append(a.lines, gateLine{No: s.at(1, 1), SKU: s.at(3, 1)})
	case "QTY":
		if n := len(a.lines); n > 0 && s.at(1, 1) == "21" {
			a.lines[n-1].Qty, _ = strconv.ParseInt(s.at(1, 2), 10, 64)
		}
	}
}
