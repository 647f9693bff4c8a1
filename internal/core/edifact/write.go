package edifact

import (
	"bytes"
	"cmp"
	"fmt"
	"strconv"
	"time"
)

// Write writes an interchange with its messages, one segment a line, with the usual separators and the counts that belong to it.
func Write(in Interchange, messages []Message) ([]byte, error) {
	set := charsets[in.Charset]
	switch {
	case set == nil:
		return nil, syntax("the character set %q is not known", in.Charset)
	case in.Sender == "" || in.Recipient == "":
		return nil, syntax("an interchange names its sender and its recipient")
	case in.Reference == "" || len(in.Reference) > 14:
		return nil, syntax("the reference %q of an interchange has 1 to 14 characters", in.Reference)
	case len(messages) == 0:
		return nil, syntax("an interchange has a message")
	}
	w := writer{set: set, sep: Usual}
	if in.Version == "4" {
		w.sep.Repetition = '*'
	}
	w.buf.WriteString("UNA" + string([]byte{w.sep.Component, w.sep.Element, w.sep.Decimal, w.sep.Release, w.sep.Repetition,
		w.sep.Terminator}) + "\n")
	w.segment(unb(in))
	for i, m := range messages {
		m.Reference = cmp.Or(m.Reference, strconv.Itoa(i+1))
		w.message(m)
	}
	w.segment(Segment{"UNZ", [][]string{{strconv.Itoa(len(messages))}, {in.Reference}}})
	return w.buf.Bytes(), w.err
}

func unb(in Interchange) Segment {
	day := "060102"
	if in.Version == "4" {
		day = "20060102"
	}
	flag := func(on bool) string { return map[bool]string{true: "1"}[on] }
	at := in.PreparedAt
	if at.IsZero() {
		at = time.Unix(0, 0).UTC()
	}
	return Segment{"UNB", [][]string{{in.Charset, cmp.Or(in.Version, "3")}, {in.Sender, in.SenderQualifier},
		{in.Recipient, in.RecipientQualifier}, {at.Format(day), at.Format("1504")}, {in.Reference}, {}, {in.Application}, {},
		{flag(in.AcknowledgeWanted)}, {}, {flag(in.Test)}}}
}

// writer writes segments; the first error stays.
type writer struct {
	buf bytes.Buffer
	set *charset
	sep Separators
	err error
}

func (w *writer) message(m Message) {
	w.segment(Segment{"UNH", [][]string{{m.Reference}, {m.Type, m.Version, m.Release, m.Agency, m.Assigned}}})
	for _, s := range m.Segments {
		w.segment(s)
	}
	if m.Err != nil { // it was read so; it does not become right by being written
		w.segment(m.ends)
		return
	}
	w.segment(Segment{"UNT", [][]string{{strconv.Itoa(len(m.Segments) + 2)}, {m.Reference}}})
}

// segment writes a segment without the empty elements and components at its ends.
func (w *writer) segment(s Segment) {
	if !isTag(s.Tag) && w.err == nil {
		w.err = syntax("%q is no tag of a segment", clip(s.Tag))
	}
	w.buf.WriteString(s.Tag)
	elements := s.Elements
	for len(elements) > 0 && len(trimmed(elements[len(elements)-1])) == 0 {
		elements = elements[:len(elements)-1]
	}
	for _, e := range elements {
		w.buf.WriteByte(w.sep.Element)
		for i, c := range trimmed(e) {
			if i > 0 {
				w.buf.WriteByte(w.sep.Component)
			}
			w.text(s.Tag, c)
		}
	}
	w.buf.WriteByte(w.sep.Terminator)
	w.buf.WriteByte('\n')
}

func trimmed(components []string) []string {
	for len(components) > 0 && components[len(components)-1] == "" {
		components = components[:len(components)-1]
	}
	return components
}

func (w *writer) text(tag, text string) {
	raw, err := w.set.encode(text)
	if err != nil && w.err == nil {
		w.err = fmt.Errorf("%s: %w", tag, err)
	}
	for _, c := range raw {
		if c == w.sep.Component || c == w.sep.Element || c == w.sep.Release || c == w.sep.Terminator ||
			c == w.sep.Repetition && c != ' ' {
			w.buf.WriteByte(w.sep.Release)
		}
		w.buf.WriteByte(c)
	}
}
