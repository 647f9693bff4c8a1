package connector

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"

	"openrelay/internal/core/edifact"
)

// ediRecord is a message, a group of its segments, or what stands before the first group, as expressions see it. The segments are
// looked at by edi, edis, groups and before.
func ediRecord(segments []edifact.Segment) map[string]any {
	return map[string]any{"segments": segmentList(segments)}
}

// segmentList is a value that the expression machine hands around without looking into it.
type segmentList []edifact.Segment

var segmentListType = cel.OpaqueType("segments")

// ConvertToNative implements ref.Val.
func (l segmentList) ConvertToNative(t reflect.Type) (any, error) {
	if t == reflect.TypeFor[segmentList]() {
		return l, nil
	}
	return nil, fmt.Errorf("segments are looked at by edi, edis, groups and before")
}

// ConvertToType implements ref.Val.
func (l segmentList) ConvertToType(ref.Type) ref.Val {
	return types.NewErr("segments are looked at by edi, edis, groups and before")
}

// Equal implements ref.Val.
func (l segmentList) Equal(ref.Val) ref.Val { return types.False }

// Type implements ref.Val.
func (l segmentList) Type() ref.Type { return segmentListType }

// Size implements traits.Sizer: what it counts as where memory is bounded.
func (l segmentList) Size() ref.Val { return types.Int(len(l)) }

// Value implements ref.Val.
func (l segmentList) Value() any { return l }

// readEDIFACT reads interchanges into a record with all their messages, or with the message where there is one.
func readEDIFACT(raw []byte) (any, error) {
	list := []any{}
	var in edifact.Interchange
	err := edifact.Read(bytes.NewReader(raw), edifact.Handler{
		Begin: func(x edifact.Interchange) error { in = x; return nil },
		Take: func(m edifact.Message) error {
			if m.Err != nil {
				return m.Err
			}
			rec := ediRecord(m.Segments)
			rec["type"], rec["version"], rec["reference"] = m.Type, m.Version+"."+m.Release, m.Reference
			rec["interchange"] = map[string]any{"sender": in.Sender, "recipient": in.Recipient, "reference": in.Reference, "test": in.Test,
				"application": in.Application, "prepared_at": in.PreparedAt}
			list = append(list, rec)
			return nil
		},
		End: func(_ edifact.Interchange, err error) error { return err },
	})
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrBody, err)
	}
	if len(list) == 1 {
		return list[0], nil
	}
	return map[string]any{"messages": list}, nil
}

// cutEDIFACT gives each message of a type, or each at all, as an interchange of its own, so that it can be read alone.
func cutEDIFACT(raw []byte, kind string) (out [][]byte, err error) {
	err = eachEDIFACT(bytes.NewReader(raw), kind, func(one []byte) error { out = append(out, one); return nil })
	return out, err
}

// eachEDIFACT does the same one by one. A message that is wrong in itself stays as wrong as it came: it is refused when it is read,
// and the others are not concerned.
func eachEDIFACT(from io.Reader, kind string, take func(one []byte) error) error {
	var in edifact.Interchange
	var stopped error
	err := edifact.Read(from, edifact.Handler{
		Begin: func(x edifact.Interchange) error {
			if in = x; in.Charset == "UNOA" || in.Charset == "UNOB" {
				in.Charset = "UNOC" // senders write letters that these do not have; they are kept
			}
			if len(in.Reference) > 14 || in.Reference == "" || in.Sender == "" || in.Recipient == "" {
				return fmt.Errorf("%w: the interchange does not say from whom to whom it goes under which reference", edifact.ErrSyntax)
			}
			return nil
		},
		Take: func(m edifact.Message) error {
			if !takesKind(kind, m.Type) {
				return nil
			}
			for _, part := range parts(m, kind) {
				one, err := edifact.Write(in, []edifact.Message{part})
				if err == nil {
					stopped = take(one)
					err = stopped
				}
				if err != nil {
					return err
				}
			}
			return nil
		},
		End: func(_ edifact.Interchange, err error) error { return err },
	})
	if err != nil && stopped == nil && !isReadError(err) {
		err = fmt.Errorf("%w: %w", ErrBody, err)
	}
	return err
}

// parts are the records of a message: itself, or each of its groups behind what stands before the first of them.
func parts(m edifact.Message, items string) []edifact.Message {
	begins, until, grouped := groupsIn(items)
	if !grouped || m.Err != nil {
		return []edifact.Message{m}
	}
	whole := ediRecord(m.Segments)
	list, _ := groups(whole, begins, until) // it is a record
	head, _ := before(whole, begins)
	top, _ := segmentsOf(head)
	var out []edifact.Message
	for _, g := range list {
		segments, _ := segmentsOf(g)
		one := edifact.Message{Reference: m.Reference, Type: m.Type, Version: m.Version, Release: m.Release, Agency: m.Agency,
			Assigned: m.Assigned, Segments: slices.Concat(top, segments)}
		out = append(out, one)
	}
	return out
}

// segmentsOf are the segments of what expressions hold as a message or a group.
func segmentsOf(v any) ([]edifact.Segment, error) {
	m, _ := v.(map[string]any)
	list, ok := m["segments"].(segmentList)
	if !ok {
		return nil, fmt.Errorf("%s is no EDIFACT message and no group of one", describe(v))
	}
	return list, nil
}

// fits tells whether a segment is the one named, such as DTM+137: its tag, and its first components in order.
func fits(s edifact.Segment, name string) bool {
	tag, rest, qualified := strings.Cut(name, "+")
	if s.Tag != tag {
		return false
	}
	if !qualified {
		return true
	}
	for i, want := range strings.Split(rest, "+") {
		if want != "" && s.At(i+1, 1) != want {
			return false
		}
	}
	return true
}

// partAt is what stands at a place of a segment: 2 is an element (its first component), 2.3 its third component, 4.* all its
// components, joined.
func partAt(s edifact.Segment, place string) (string, error) {
	element, component, has := strings.Cut(place, ".")
	e, err := strconv.Atoi(element)
	if err != nil || e < 1 {
		return "", fmt.Errorf("edi: %q is no place of a segment; there are such as 2, 2.3 and 4.*", place)
	}
	switch {
	case !has:
		return s.At(e, 1), nil
	case component == "*":
		if e > len(s.Elements) {
			return "", nil
		}
		return strings.Join(slices.DeleteFunc(slices.Clone(s.Elements[e-1]), func(c string) bool { return c == "" }), " "), nil
	}
	c, err := strconv.Atoi(component)
	if err != nil || c < 1 {
		return "", fmt.Errorf("edi: %q is no place of a segment; there are such as 2, 2.3 and 4.*", place)
	}
	return s.At(e, c), nil
}

// edi is what stands at a place of the first segment of a name.
func edi(record any, name, place string) (any, error) {
	list, err := segmentsOf(record)
	if err != nil {
		return nil, err
	}
	for _, s := range list {
		if fits(s, name) {
			text, err := partAt(s, place)
			return text, err
		}
	}
	return "", nil
}

// edis lists what stands at a place of every segment of a name.
func edis(record any, name, place string) ([]any, error) {
	list, err := segmentsOf(record)
	out := []any{}
	for _, s := range list {
		if !fits(s, name) {
			continue
		}
		text, err := partAt(s, place)
		if err != nil {
			return nil, err
		}
		out = append(out, text)
	}
	return out, err
}

// groups cuts the segments of a record into groups, each beginning with a segment of a name, the last ending before one of the names
// in until (separated by spaces).
func groups(record any, name, until string) ([]any, error) {
	list, err := segmentsOf(record)
	out, begin := []any{}, -1
	finish := func(end int) {
		if begin >= 0 {
			out = append(out, ediRecord(list[begin:end:end]))
		}
		begin = -1
	}
	for i, s := range list {
		switch {
		case fits(s, name):
			finish(i)
			begin = i
		case begin >= 0 && slices.ContainsFunc(strings.Fields(until), func(n string) bool { return fits(s, n) }):
			finish(i)
		}
	}
	finish(len(list))
	return out, err
}

// before are the segments of a record before the first of a name.
func before(record any, name string) (any, error) {
	list, err := segmentsOf(record)
	for i, s := range list {
		if fits(s, name) {
			return ediRecord(list[:i:i]), err
		}
	}
	return ediRecord(list), err
}

// segmentKey is a key of a body that is a segment: a tag, and where several have the same, a word that tells them apart.
var segmentKey = regexp.MustCompile(`^([A-Z][A-Z0-9]{2})(/[^/]+)?$`)

// writeEDIFACT writes a body as an interchange with one message.
func writeEDIFACT(v any) ([]byte, error) {
	o, ok := v.(object)
	if !ok {
		return nil, errors.New("an EDIFACT body is a record of segments")
	}
	in, m := edifact.Interchange{Charset: "UNOC", Version: "3", PreparedAt: time.Now().UTC()}, edifact.Message{}
	var rest object
	for _, x := range o {
		switch x.key {
		case "interchange":
			if err := envelopeOf(&in, x.value); err != nil {
				return nil, err
			}
		case "message":
			parts := append(strings.Split(textOf(x.value), ":"), "", "", "", "")
			m.Type, m.Version, m.Release, m.Agency, m.Assigned = parts[0], parts[1], parts[2], parts[3], parts[4]
		case "reference":
			m.Reference = textOf(x.value)
		default:
			rest = append(rest, x)
		}
	}
	var err error
	if m.Segments, err = segmentsFrom(nil, rest); err != nil {
		return nil, err
	}
	return edifact.Write(in, []edifact.Message{m})
}

func envelopeOf(in *edifact.Interchange, v any) error {
	o, ok := v.(object)
	if !ok {
		return errors.New("interchange: a record is expected")
	}
	for _, x := range o {
		text := textOf(x.value)
		switch x.key {
		case "charset":
			in.Charset = text
		case "syntax":
			in.Version = text
		case "sender":
			in.Sender = text
		case "sender_code":
			in.SenderQualifier = text
		case "recipient":
			in.Recipient = text
		case "recipient_code":
			in.RecipientQualifier = text
		case "reference":
			in.Reference = text
		case "application":
			in.Application = text
		case "acknowledge":
			in.AcknowledgeWanted = x.value == true
		case "test":
			in.Test = x.value == true
		default:
			return fmt.Errorf("interchange: there is no %q; there are charset, syntax, sender, sender_code, recipient, recipient_code, "+
				"reference, application, acknowledge, test", x.key)
		}
	}
	return nil
}

// segmentsFrom adds the segments of a record, with those of the records in it, in their order.
func segmentsFrom(out []edifact.Segment, o object) ([]edifact.Segment, error) {
	var err error
	for _, x := range o {
		if key := segmentKey.FindStringSubmatch(x.key); key != nil {
			if s := segmentFrom(key[1], x.value); s != nil {
				out = append(out, *s)
			}
			continue
		}
		inner, _ := x.value.([]any)
		if one, ok := x.value.(object); ok {
			inner = []any{one}
		}
		for _, el := range inner {
			group, ok := el.(object)
			if !ok {
				return nil, fmt.Errorf("%s: segments are expected, such as LIN or DTM/order", x.key)
			}
			if out, err = segmentsFrom(out, group); err != nil {
				return nil, err
			}
		}
		if inner == nil {
			return nil, fmt.Errorf("%s: a segment has three capitals, a group is a record", x.key)
		}
	}
	return out, nil
}

// segmentFrom makes a segment of a list of elements, each a text or a list of components; nil where nothing is in it.
func segmentFrom(tag string, v any) *edifact.Segment {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	s, said := edifact.Segment{Tag: tag}, false
	for _, el := range list {
		components, ok := el.([]any)
		if !ok {
			components = []any{el}
		}
		texts := make([]string, len(components))
		for i, c := range components {
			texts[i] = textOf(c)
			said = said || texts[i] != ""
		}
		s.Elements = append(s.Elements, texts)
	}
	if !said {
		return nil
	}
	return &s
}
