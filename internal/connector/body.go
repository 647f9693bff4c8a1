package connector

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// ErrBody marks a body that cannot be read.
var ErrBody = errors.New("the body")

// decode reads a JSON body. Whole numbers become int64; numbers with a fraction stay decimal text, so
// that no amount passes through a floating-point number.
func decode(raw []byte) (any, error) {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			return nil, fmt.Errorf("%w ends in the middle of the JSON text", ErrBody)
		}
		return nil, fmt.Errorf("%w is not JSON: %v", ErrBody, err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return nil, fmt.Errorf("%w holds more than one JSON value", ErrBody)
	}
	return tidy(v), nil
}

func tidy(v any) any {
	switch x := v.(type) {
	case json.Number:
		if n, err := x.Int64(); err == nil {
			return n
		}
		return x.String()
	case map[string]any:
		for k, e := range x {
			switch e.(type) {
			case json.Number, map[string]any, []any:
				x[k] = tidy(e)
			}
		}
	case []any:
		for i, e := range x {
			x[i] = tidy(e)
		}
	}
	return v
}

// slice cuts the raw text of the list at a path out of a JSON body, element by element and byte by
// byte as it came.
func slice(raw []byte, path string) ([]json.RawMessage, error) {
	cut := json.RawMessage(raw)
	if path != "" {
		for _, key := range strings.Split(path, ".") {
			var m map[string]json.RawMessage
			if err := json.Unmarshal(cut, &m); err != nil {
				return nil, fmt.Errorf("%w has no %s: %v", ErrBody, path, err)
			}
			next, ok := m[key]
			if !ok {
				return nil, fmt.Errorf("%w has no %s", ErrBody, path)
			}
			cut = next
		}
	}
	var list []json.RawMessage
	if err := json.Unmarshal(cut, &list); err != nil {
		return nil, fmt.Errorf("%w has no list at %s", ErrBody, path)
	}
	return list, nil
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
