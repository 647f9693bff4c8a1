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
	dec := jsontext.NewDecoder(bytes.NewReader(raw))
	v, err := value(dec, 0)
	if err == nil {
		if _, more := dec.ReadToken(); more != io.EOF {
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

func value(dec *jsontext.Decoder, depth int) (any, error) {
	if depth > maxDepth {
		return nil, fmt.Errorf("%w is nested more than %d deep", ErrBody, maxDepth)
	}
	t, err := dec.ReadToken()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case 'n':
		return nil, nil
	case 't':
		return true, nil
	case 'f':
		return false, nil
	case '"':
		return t.String(), nil
	case '0':
		text := t.String()
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n, nil
		}
		return text, nil
	case '[':
		list := []any{}
		for dec.PeekKind() != ']' {
			v, err := value(dec, depth+1)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := dec.ReadToken()
		return list, err
	}
	m := make(map[string]any, 8)
	for dec.PeekKind() != '}' {
		key, err := dec.ReadToken()
		if err != nil {
			return nil, err
		}
		name := key.String()
		if m[name], err = value(dec, depth+1); err != nil {
			return nil, err
		}
	}
	_, err = dec.ReadToken()
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
