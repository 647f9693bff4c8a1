package connector

import (
	"bytes"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"strconv"
	"strings"
	"unicode"
)

// Decode reads a body as expressions see it.
func (f Format) Decode(raw []byte) (any, error) { return f.read(raw) }

// read turns a body into what expressions see: nil, text, whole numbers, true and false, lists, records.
func (f Format) read(raw []byte) (any, error) {
	raw, err := f.decoded(raw)
	if err != nil {
		return nil, err
	}
	switch f.Answer {
	case "xml":
		return decodeXML(raw)
	case "csv":
		return f.readCSV(raw)
	case "fixed":
		return f.readFixed(raw)
	case "form":
		return decodeForm(raw)
	case "edifact":
		return readEDIFACT(raw)
	case "text":
		return string(raw), nil
	case "binary":
		return base64.StdEncoding.EncodeToString(raw), nil
	}
	return decode(raw)
}

// cut takes the list at a path apart into the raw text of its elements. Each element can be read alone
// by the same format.
func (f Format) cut(raw []byte, path string) ([][]byte, error) {
	raw, err := f.decoded(raw)
	if err != nil {
		return nil, err
	}
	out, err := f.pieces(raw, path)
	for i := range out {
		if err == nil {
			out[i], err = f.encoded(out[i])
		}
	}
	return out, err
}

func (f Format) pieces(raw []byte, path string) ([][]byte, error) {
	switch f.Answer {
	case "xml":
		return sliceXML(raw, path)
	case "fixed":
		var out [][]byte
		for _, line := range lines(raw) {
			out = append(out, []byte(line))
		}
		return out, nil
	case "csv":
		return f.sliceCSV(raw)
	case "form":
		return [][]byte{raw}, nil
	case "edifact":
		return cutEDIFACT(raw, path)
	case "text":
		return nil, fmt.Errorf("%w is text and holds no list", ErrBody)
	}
	return slice(raw, path)
}

// fits tells whether a content type is the format's.
func (f Format) fits(contentType string) bool {
	t, _, err := mime.ParseMediaType(contentType)
	if err != nil {
		return false
	}
	switch f.Answer {
	case "xml":
		return t == "application/xml" || t == "text/xml" || strings.HasSuffix(t, "+xml")
	case "csv", "fixed":
		return t == "text/csv" || t == "text/plain"
	case "form":
		return t == "application/x-www-form-urlencoded" || t == "text/plain"
	case "edifact": // RFC 1767
		return strings.EqualFold(t, "application/edifact") || t == "text/plain" || t == "application/octet-stream"
	case "text":
		return strings.HasPrefix(t, "text/")
	case "binary":
		return true
	}
	return isJSON(contentType)
}

func (f Format) accept() string {
	switch f.Answer {
	case "xml":
		return "application/xml"
	case "csv":
		return "text/csv"
	case "form":
		return "application/x-www-form-urlencoded"
	case "edifact":
		return "application/EDIFACT"
	case "text", "fixed":
		return "text/plain"
	case "binary":
		return "*/*"
	}
	return "application/json"
}

// write makes the body of a request, and its content type.
func (f Format) write(v any) ([]byte, string, error) {
	raw, kind, err := f.written(v)
	if err == nil && f.Charset != "" {
		kind = strings.Replace(kind, "utf-8", strings.ToLower(f.Charset), 1)
		raw, err = f.encoded(raw)
	}
	return raw, kind, err
}

func (f Format) written(v any) ([]byte, string, error) {
	var buf bytes.Buffer
	switch f.Body {
	case "xml":
		o, ok := v.(object)
		if !ok || len(o) != 1 {
			return nil, "", errors.New("an XML body has one outermost element")
		}
		buf.WriteString(`<?xml version="1.0" encoding="UTF-8"?>`)
		err := writeXML(&buf, o[0].key, o[0].value)
		return buf.Bytes(), "application/xml; charset=utf-8", err
	case "form":
		err := writeForm(&buf, v)
		return buf.Bytes(), "application/x-www-form-urlencoded", err
	case "edifact":
		raw, err := writeEDIFACT(v)
		return raw, "application/EDIFACT", err
	case "text":
		return []byte(textOf(v)), "text/plain; charset=utf-8", nil
	case "fixed":
		err := f.writeFixed(&buf, v)
		return buf.Bytes(), "text/plain; charset=utf-8", err
	case "csv":
		err := f.writeCSV(&buf, v)
		return buf.Bytes(), "text/csv; charset=utf-8", err
	}
	b, err := json.Marshal(v)
	return b, "application/json", err
}

// decodeForm reads application/x-www-form-urlencoded (WHATWG URL, section 5): a name that stands once
// gives a text, one that stands several times a list.
func decodeForm(raw []byte) (any, error) {
	q, err := url.ParseQuery(strings.TrimSpace(string(raw)))
	if err != nil {
		return nil, fmt.Errorf("%w is not form-encoded: %v", ErrBody, err)
	}
	out := make(map[string]any, len(q))
	for k, list := range q {
		if len(list) == 1 {
			out[k] = list[0]
		} else {
			out[k] = toList(list)
		}
	}
	return out, nil
}

// writeForm writes a record as a form. A repeated record writes its own fields once per element, in
// order; {n} in their names is the element's number, counted from 1.
func writeForm(buf *bytes.Buffer, v any) error {
	o, ok := v.(object)
	if !ok {
		return errors.New("a form body is a record")
	}
	pair := func(key string, v any) {
		if buf.Len() > 0 {
			buf.WriteByte('&')
		}
		buf.WriteString(url.QueryEscape(key) + "=" + url.QueryEscape(textOf(v)))
	}
	for _, m := range o {
		switch x := m.value.(type) {
		case object:
			return fmt.Errorf("%s: a form has no nested records", m.key)
		case []any:
			for i, el := range x {
				row, isRow := el.(object)
				if !isRow {
					pair(m.key, el)
					continue
				}
				for _, c := range row {
					pair(strings.ReplaceAll(c.key, "{n}", strconv.Itoa(i+1)), c.value)
				}
			}
		default:
			pair(m.key, x)
		}
	}
	return nil
}

// column makes a name for expressions from the head of a CSV column: "Art. No" becomes art_no.
func column(head string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.ToLower(strings.TrimSpace(strings.TrimPrefix(head, "\ufeff"))) {
		if unicode.IsLetter(r) && r < 128 || unicode.IsDigit(r) && r < 128 {
			if gap && b.Len() > 0 {
				b.WriteByte('_')
			}
			gap = false
			b.WriteRune(r)
		} else {
			gap = true
		}
	}
	if s := b.String(); s != "" && (s[0] < '0' || s[0] > '9') {
		return s
	}
	return "column_" + b.String()
}

func (f Format) csvReader(raw []byte) *csv.Reader {
	r := csv.NewReader(bytes.NewReader(bytes.TrimPrefix(raw, []byte("\ufeff"))))
	if f.Separator != "" {
		r.Comma = []rune(f.Separator)[0]
	}
	return r
}

// maxCSVFields bounds the columns of a CSV body.
const maxCSVFields = 1000

// readCSV reads CSV (RFC 4180) with a head line into a list of records.
func (f Format) readCSV(raw []byte) (any, error) {
	r := f.csvReader(raw)
	head, err := r.Read()
	if err == io.EOF {
		return []any{}, nil
	}
	if err == nil && len(head) > maxCSVFields {
		err = fmt.Errorf("%d columns, at most %d are read", len(head), maxCSVFields)
	}
	if err != nil {
		return nil, fmt.Errorf("%w is not CSV: %v", ErrBody, err)
	}
	keys := make([]string, len(head))
	for i, h := range head {
		keys[i] = column(h)
	}
	out := []any{}
	for {
		row, err := r.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%w is not CSV: %v", ErrBody, err)
		}
		rec := make(map[string]any, len(keys))
		for i, k := range keys {
			rec[k] = row[i]
		}
		out = append(out, rec)
	}
}

// sliceCSV gives each line together with the head, so that it can be read alone.
func (f Format) sliceCSV(raw []byte) ([][]byte, error) {
	raw = bytes.TrimPrefix(raw, []byte("\ufeff"))
	r := f.csvReader(raw)
	head, err := r.Read()
	if err == io.EOF {
		return nil, nil
	}
	if err == nil && len(head) > maxCSVFields {
		err = fmt.Errorf("%d columns, at most %d are read", len(head), maxCSVFields)
	}
	if err != nil {
		return nil, fmt.Errorf("%w is not CSV: %v", ErrBody, err)
	}
	begin := r.InputOffset()
	top := raw[:begin]
	if len(top) == 0 || top[len(top)-1] != '\n' {
		top = append(bytes.Clone(top), '\n')
	}
	var out [][]byte
	for {
		if _, err := r.Read(); err == io.EOF {
			return out, nil
		} else if err != nil {
			return nil, fmt.Errorf("%w is not CSV: %v", ErrBody, err)
		}
		end := r.InputOffset()
		out = append(out, append(bytes.Clone(top), raw[begin:end]...))
		begin = end
	}
}

func (f Format) writeCSV(buf *bytes.Buffer, v any) error {
	rows, ok := v.([]any)
	if !ok {
		return errors.New("a CSV body is a repeated record")
	}
	w := csv.NewWriter(buf)
	w.UseCRLF = true
	if f.Separator != "" {
		w.Comma = []rune(f.Separator)[0]
	}
	for i, el := range rows {
		o, ok := el.(object)
		if !ok {
			return errors.New("a CSV body is a repeated record")
		}
		head, row := make([]string, len(o)), make([]string, len(o))
		for j, m := range o {
			head[j], row[j] = m.key, textOf(m.value)
		}
		if i == 0 {
			if err := w.Write(head); err != nil {
				return err
			}
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// record reads a body that is one element of a cut list.
func (f Format) record(raw []byte) (any, error) {
	v, err := f.read(raw)
	if err != nil {
		return nil, err
	}
	if list, ok := v.([]any); ok && (f.Answer == "csv" || f.Answer == "fixed") {
		if len(list) != 1 {
			return nil, fmt.Errorf("%w holds %d lines instead of one", ErrBody, len(list))
		}
		return list[0], nil
	}
	return v, nil
}
