package connector

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// XML is read in its plain part only: elements, attributes and text. A document type, entities of its
// own and processing instructions are refused: with them a small text can become a huge one, or name
// files. Names lose their namespace prefix, and "-" and "." in them become "_".
//
// An element with nothing but text becomes that text; any other a record of its children, in which a
// name that stands several times gives a list. Attributes are fields that begin with "_", and text
// beside children or attributes is the field "_text". The root is the record itself.

func xmlDecoder(raw []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(raw))
	d.CharsetReader = func(charset string, _ io.Reader) (io.Reader, error) {
		return nil, fmt.Errorf("encoding %q is not read, only UTF-8", charset)
	}
	return d
}

func xmlName(n xml.Name) string {
	return strings.Map(func(r rune) rune {
		if r == '-' || r == '.' {
			return '_'
		}
		return r
	}, n.Local)
}

func xmlError(err error) error {
	switch {
	case err == nil || errors.Is(err, ErrBody):
		return err
	case err == io.EOF:
		return fmt.Errorf("%w ends in the middle of the XML text", ErrBody)
	}
	return fmt.Errorf("%w is not XML: %v", ErrBody, err)
}

// xmlToken returns the next start, end or text.
func xmlToken(d *xml.Decoder) (xml.Token, error) {
	for {
		t, err := d.Token()
		if err != nil {
			return nil, err
		}
		switch x := t.(type) {
		case xml.Directive:
			return nil, fmt.Errorf("%w has a document type, which is not read", ErrBody)
		case xml.ProcInst:
			if x.Target != "xml" {
				return nil, fmt.Errorf("%w has a processing instruction, which is not read", ErrBody)
			}
		case xml.StartElement, xml.EndElement, xml.CharData:
			return t, nil
		}
	}
}

// xmlRoot moves to the root element.
func xmlRoot(d *xml.Decoder) (xml.StartElement, error) {
	for {
		t, err := xmlToken(d)
		if err != nil {
			return xml.StartElement{}, err
		}
		if s, ok := t.(xml.StartElement); ok {
			return s, nil
		}
	}
}

func decodeXML(raw []byte) (any, error) {
	d := xmlDecoder(raw)
	root, err := xmlRoot(d)
	if err != nil {
		return nil, xmlError(err)
	}
	v, err := xmlValue(d, root, 0)
	if err == nil {
		err = xmlEnd(d)
	}
	if err != nil {
		return nil, xmlError(err)
	}
	if v == "" {
		return map[string]any{}, nil
	}
	return v, nil
}

// xmlEnd makes sure that nothing but white space follows.
func xmlEnd(d *xml.Decoder) error {
	for {
		t, err := xmlToken(d)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if text, ok := t.(xml.CharData); !ok || len(bytes.TrimSpace(text)) > 0 {
			return fmt.Errorf("%w holds more than one XML element", ErrBody)
		}
	}
}

func xmlValue(d *xml.Decoder, start xml.StartElement, depth int) (any, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w is nested more than %d deep", ErrBody, maxDepth)
	}
	var rec map[string]any
	put := func(key string, v any) {
		if rec == nil {
			rec = make(map[string]any, 8)
		}
		switch old := rec[key].(type) {
		case nil:
			rec[key] = v
		case []any:
			rec[key] = append(old, v)
		default:
			rec[key] = []any{old, v}
		}
	}
	for _, a := range start.Attr {
		if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" {
			put("_"+xmlName(a.Name), a.Value)
		}
	}
	var text strings.Builder
	for {
		t, err := xmlToken(d)
		if err != nil {
			return nil, err
		}
		switch x := t.(type) {
		case xml.CharData:
			text.Write(x)
		case xml.StartElement:
			v, err := xmlValue(d, x, depth+1)
			if err != nil {
				return nil, err
			}
			put(xmlName(x.Name), v)
		case xml.EndElement:
			s := strings.TrimSpace(text.String())
			if rec == nil {
				return s, nil
			}
			if s != "" {
				rec["_text"] = s
			}
			return rec, nil
		}
	}
}

// sliceXML cuts the raw text of the elements at a path below the root.
func sliceXML(raw []byte, path string) ([][]byte, error) {
	if path == "" {
		return nil, fmt.Errorf("%w: items must name the repeated element", ErrBody)
	}
	keys := strings.Split(path, ".")
	d := xmlDecoder(raw)
	if _, err := xmlRoot(d); err != nil {
		return nil, xmlError(err)
	}
	var out [][]byte
	at := 0 // how many of the keys lead to where we are
	for {
		begin := d.InputOffset()
		t, err := xmlToken(d)
		if err != nil {
			return nil, xmlError(err)
		}
		switch x := t.(type) {
		case xml.StartElement:
			switch {
			case xmlName(x.Name) != keys[at]:
				err = skipXML(d)
			case at == len(keys)-1:
				if err = skipXML(d); err == nil {
					out = append(out, bytes.Clone(bytes.TrimSpace(raw[begin:d.InputOffset()])))
				}
			default:
				at++
			}
			if err != nil {
				return nil, xmlError(err)
			}
		case xml.EndElement:
			if at == 0 {
				return out, xmlError(xmlEnd(d))
			}
			at--
		}
	}
}

// writeXML writes an element. Fields that begin with "_" become attributes, "_text" its text, lists
// repeated elements.
func writeXML(buf *bytes.Buffer, name string, v any) error {
	if !validXMLName(name) {
		return fmt.Errorf("%q is no name for an XML element", name)
	}
	if list, ok := v.([]any); ok {
		for _, el := range list {
			if err := writeXML(buf, name, el); err != nil {
				return err
			}
		}
		return nil
	}
	buf.WriteString("<" + name)
	o, isRecord := v.(object)
	if !isRecord {
		buf.WriteByte('>')
		if err := xml.EscapeText(buf, []byte(textOf(v))); err != nil {
			return err
		}
		buf.WriteString("</" + name + ">")
		return nil
	}
	for _, m := range o {
		if key, ok := strings.CutPrefix(m.key, "_"); ok && key != "text" {
			if !validXMLName(key) {
				return fmt.Errorf("%q is no name for an XML attribute", key)
			}
			buf.WriteString(" " + key + `="`)
			if err := xml.EscapeText(buf, []byte(textOf(m.value))); err != nil {
				return err
			}
			buf.WriteByte('"')
		}
	}
	buf.WriteByte('>')
	for _, m := range o {
		switch {
		case m.key == "_text":
			if err := xml.EscapeText(buf, []byte(textOf(m.value))); err != nil {
				return err
			}
		case !strings.HasPrefix(m.key, "_"):
			if err := writeXML(buf, m.key, m.value); err != nil {
				return err
			}
		}
	}
	buf.WriteString("</" + name + ">")
	return nil
}

func validXMLName(s string) bool {
	for i, r := range s {
		letter := r == '_' || r == ':' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= 0xC0
		if !letter && (i == 0 || !(r == '-' || r == '.' || r >= '0' && r <= '9')) {
			return false
		}
	}
	return s != ""
}

// skipXML passes over the rest of an element, refusing what reading it would refuse.
func skipXML(d *xml.Decoder) error {
	for depth := 0; ; {
		t, err := xmlToken(d)
		if err != nil {
			return err
		}
		switch t.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				return fmt.Errorf("%w is nested more than %d deep", ErrBody, maxDepth)
			}
		case xml.EndElement:
			if depth == 0 {
				return nil
			}
			depth--
		}
	}
}
