package connector

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// ErrBody marks a body that cannot be read.
var ErrBody = errors.New("the body")

// decode reads a JSON body. Whole numbers become int64; numbers with a fraction stay decimal text, so
// that no amount passes through a floating-point number.
func decode(raw []byte) (any, error) {
	r := bodyReader{dec: jsontext.NewDecoder(bytes.NewReader(raw), jsontext.AllowDuplicateNames(true)), text: string(raw)}
	v, err := r.value(0)
	if err == nil {
		if _, more := r.dec.ReadToken(); more != io.EOF {
			return nil, fmt.Errorf("%w holds more than one JSON value", ErrBody)
		}
	}
	return v, bodyError(err)
}

func bodyError(err error) error {
	if err == nil || errors.Is(err, ErrBody) {
		return err
	}
	if errors.Is(err, io.ErrUnexpectedEOF) || err == io.EOF {
		return fmt.Errorf("%w ends in the middle of the JSON text", ErrBody)
	}
	return fmt.Errorf("%w is not JSON: %v", ErrBody, err)
}

// maxDepth bounds how deeply a body may be nested.
const maxDepth = 100

// bodyReader reads values of a body. Texts are parts of the body as they stand in it, so that none is copied.
type bodyReader struct {
	dec  *jsontext.Decoder
	text string
}

func (r *bodyReader) value(depth int) (any, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w is nested more than %d deep", ErrBody, maxDepth)
	}
	switch r.dec.PeekKind() {
	case '"':
		return r.string()
	case '0':
		raw, err := r.dec.ReadValue()
		if err != nil {
			return nil, err
		}
		text := r.last(raw)
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n, nil
		}
		return text, nil
	case '[':
		return r.list(depth)
	case '{':
		return r.record(depth)
	}
	t, err := r.dec.ReadToken()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case 't':
		return true, nil
	case 'f':
		return false, nil
	}
	return nil, nil
}

// last is the text of the value that was read last.
func (r *bodyReader) last(raw jsontext.Value) string {
	end := r.dec.InputOffset()
	return r.text[end-int64(len(raw)) : end]
}

func (r *bodyReader) string() (string, error) {
	raw, err := r.dec.ReadValue()
	if err != nil {
		return "", err
	}
	if bytes.IndexByte(raw, '\\') < 0 {
		text := r.last(raw)
		return text[1 : len(text)-1], nil
	}
	out, err := jsontext.AppendUnquote(nil, raw)
	return string(out), err
}

func (r *bodyReader) list(depth int) (any, error) {
	if _, err := r.dec.ReadToken(); err != nil {
		return nil, err
	}
	list := make([]any, 0, 4)
	for r.dec.PeekKind() != ']' {
		v, err := r.value(depth + 1)
		if err != nil {
			return nil, err
		}
		list = append(list, v)
	}
	_, err := r.dec.ReadToken()
	return list, err
}

func (r *bodyReader) record(depth int) (any, error) {
	if _, err := r.dec.ReadToken(); err != nil {
		return nil, err
	}
	room := 8
	if depth < 2 { // a whole record has more fields than what lies in it
		room = 24
	}
	m := make(map[string]any, room)
	for r.dec.PeekKind() != '}' {
		name, err := r.string()
		if err != nil {
			return nil, err
		}
		if _, twice := m[name]; twice { // it is looked at here, where names are kept anyway
			return nil, fmt.Errorf("%w has %s twice in one record", ErrBody, short(name))
		}
		if m[name], err = r.value(depth + 1); err != nil {
			return nil, err
		}
	}
	_, err := r.dec.ReadToken()
	return m, err
}

// slice cuts the raw text of the list at a path out of a JSON body, element by element and byte by
// byte as it came.
func slice(raw []byte, path string) ([][]byte, error) {
	dec := jsontext.NewDecoder(bytes.NewReader(raw))
	for _, key := range strings.Split(path, ".") {
		if path == "" {
			break
		}
		if err := enter(dec, key); err != nil {
			return nil, bodyError(err)
		}
	}
	if dec.PeekKind() != '[' {
		if _, err := dec.ReadToken(); err != nil {
			return nil, bodyError(err)
		}
		if path == "" {
			return nil, fmt.Errorf("%w is no list; items says where in it the list stands", ErrBody)
		}
		return nil, fmt.Errorf("%w has no list at %s", ErrBody, path)
	}
	if _, err := dec.ReadToken(); err != nil {
		return nil, bodyError(err)
	}
	var out [][]byte
	for dec.PeekKind() != ']' {
		v, err := dec.ReadValue()
		if err != nil {
			return nil, bodyError(err)
		}
		out = append(out, bytes.Clone(v))
	}
	if _, err := dec.ReadToken(); err != nil {
		return nil, bodyError(err)
	}
	// What follows the list must be whole too: half a body is no body.
	for {
		if _, err := dec.ReadToken(); err == io.EOF {
			return out, nil
		} else if err != nil {
			return nil, bodyError(err)
		}
	}
}

// enter moves into the value of a key of the object that comes next.
func enter(dec *jsontext.Decoder, key string) error {
	if dec.PeekKind() != '{' {
		if _, err := dec.ReadToken(); err != nil {
			return err
		}
		return fmt.Errorf("%w has no %s", ErrBody, key)
	}
	if _, err := dec.ReadToken(); err != nil {
		return err
	}
	for dec.PeekKind() != '}' {
		name, err := dec.ReadToken()
		if err != nil {
			return err
		}
		if name.String() == key {
			return nil
		}
		if err := dec.SkipValue(); err != nil {
			return err
		}
	}
	return fmt.Errorf("%w has no %s", ErrBody, key)
}

// dig follows a path into a decoded value; an empty path is the value itself.
func dig(v any, path string) any {
	if path == "" {
		return v
	}
	for _, key := range strings.Split(path, ".") {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[key]
	}
	return v
}
