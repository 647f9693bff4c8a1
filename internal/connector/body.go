package connector

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// decode reads a JSON body. Whole numbers become int64; numbers with a fraction stay decimal text, so
// that no amount passes through a floating-point number.
func decode(raw []byte) (any, error) {
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			return nil, errors.New("the body ends in the middle of the JSON text")
		}
		return nil, fmt.Errorf("the body is not JSON: %w", err)
	}
	if _, err := dec.Token(); err != io.EOF {
		return nil, errors.New("the body holds more than one JSON value")
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
				return nil, fmt.Errorf("the body has no %s: %w", path, err)
			}
			next, ok := m[key]
			if !ok {
				return nil, fmt.Errorf("the body has no %s", path)
			}
			cut = next
		}
	}
	var list []json.RawMessage
	if err := json.Unmarshal(cut, &list); err != nil {
		return nil, fmt.Errorf("%s is not a list", path)
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
