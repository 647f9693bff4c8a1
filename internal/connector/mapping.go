package connector

import (
	"errors"
	"fmt"
	"reflect"
	"sort"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// Tree is a mapping as written: a scalar is an expression, a mapping a record, a mapping with the key
// "each" a repeated record.
type Tree struct{ node *yaml.Node }

// UnmarshalYAML keeps the node; it is compiled once the tables are known.
func (t *Tree) UnmarshalYAML(n *yaml.Node) error { t.node = n; return nil }

// Set tells whether the definition has this mapping.
func (t *Tree) Set() bool { return t.node != nil }

// setter fills a Go value from the variables.
type setter func(dst reflect.Value, v Vars) error

var timeType = reflect.TypeFor[time.Time]()

// compileInto prepares a mapping whose targets are the JSON fields of a Go type. Unknown targets and
// targets of a wrong form are refused with their line.
func (l *language) compileInto(n *yaml.Node, t reflect.Type, path string) (setter, error) {
	if n.Kind == yaml.ScalarNode {
		e := &Expr{Text: n.Value, Line: n.Line}
		if err := l.compile(e); err != nil {
			return nil, fmt.Errorf("%w (for %s)", err, path)
		}
		return func(dst reflect.Value, v Vars) error {
			out, err := e.Eval(v)
			if err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
			if out == nil {
				return nil
			}
			if err := assign(dst, out); err != nil {
				return fmt.Errorf("%s: %w", path, err)
			}
			return nil
		}, nil
	}
	if n.Kind != yaml.MappingNode {
		return nil, fmt.Errorf("line %d: %s: an expression or a mapping is expected", n.Line, path)
	}
	if t.Kind() == reflect.Slice {
		return l.compileEach(n, t, path)
	}
	if t.Kind() != reflect.Struct || t == timeType {
		return nil, fmt.Errorf("line %d: %s takes %s, not a nested mapping", n.Line, path, kindName(t))
	}
	fields := jsonFields(t)
	type part struct {
		index int
		set   setter
	}
	var parts []part
	for i := 0; i < len(n.Content); i += 2 {
		key, val := n.Content[i], n.Content[i+1]
		at, ok := fields[key.Value]
		if !ok {
			return nil, fmt.Errorf("line %d: %s has no field %q; it has %s", key.Line, path, key.Value, strings.Join(sortedKeys(fields), ", "))
		}
		set, err := l.compileInto(val, t.Field(at).Type, path+"."+key.Value)
		if err != nil {
			return nil, err
		}
		parts = append(parts, part{at, set})
	}
	return func(dst reflect.Value, v Vars) error {
		for _, p := range parts {
			if err := p.set(dst.Field(p.index), v); err != nil {
				return err
			}
		}
		return nil
	}, nil
}

// eachForm reads "each: list, as: name, map|put: …".
func eachForm(n *yaml.Node, body string) (list *Expr, as string, inner *yaml.Node, err error) {
	as = "each"
	for i := 0; i < len(n.Content); i += 2 {
		switch key, val := n.Content[i], n.Content[i+1]; key.Value {
		case "each":
			list = &Expr{Text: val.Value, Line: val.Line}
		case "as":
			as = val.Value
		case body:
			inner = val
		default:
			return nil, "", nil, fmt.Errorf("line %d: %q is not expected here; a repeated record has each, as and %s", key.Line, key.Value, body)
		}
	}
	if list == nil || inner == nil {
		return nil, "", nil, fmt.Errorf("line %d: a repeated record needs each and %s", n.Line, body)
	}
	known := false
	for _, name := range names {
		known = known || name == as
	}
	if !known {
		return nil, "", nil, fmt.Errorf("line %d: as: %q; it may be one of line, each, part, step, item, event", n.Line, as)
	}
	return list, as, inner, nil
}

func (l *language) compileEach(n *yaml.Node, t reflect.Type, path string) (setter, error) {
	list, as, inner, err := eachForm(n, "map")
	if err != nil {
		return nil, err
	}
	if err := l.compile(list); err != nil {
		return nil, err
	}
	set, err := l.compileInto(inner, t.Elem(), path+"[]")
	if err != nil {
		return nil, err
	}
	return func(dst reflect.Value, v Vars) error {
		out, err := list.Eval(v)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		items, ok := out.([]any)
		if !ok {
			if out == nil {
				return nil
			}
			return fmt.Errorf("%s: %s is not a list", path, short(list.Text))
		}
		s := reflect.MakeSlice(t, len(items), len(items))
		old, had := v[as]
		for i, it := range items {
			v[as] = it
			if err := set(s.Index(i), v); err != nil {
				return fmt.Errorf("%s (number %d): %w", path, i+1, err)
			}
		}
		if had {
			v[as] = old
		} else {
			delete(v, as)
		}
		dst.Set(s)
		return nil
	}, nil
}

func jsonFields(t reflect.Type) map[string]int {
	out := map[string]int{}
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ","); name != "" && name != "-" {
			out[name] = i
		}
	}
	return out
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func assign(dst reflect.Value, v any) error {
	switch dst.Kind() {
	case reflect.String:
		switch x := v.(type) {
		case string:
			dst.SetString(x)
			return nil
		case int64:
			dst.SetString(strconv.FormatInt(x, 10))
			return nil
		}
	case reflect.Int64:
		switch x := v.(type) {
		case int64:
			dst.SetInt(x)
			return nil
		case string:
			if n, err := strconv.ParseInt(x, 10, 64); err == nil {
				dst.SetInt(n)
				return nil
			}
		}
	case reflect.Bool:
		if b, ok := v.(bool); ok {
			dst.SetBool(b)
			return nil
		}
	case reflect.Slice:
		items, ok := v.([]any)
		if !ok {
			break
		}
		s := reflect.MakeSlice(dst.Type(), len(items), len(items))
		for i, it := range items {
			if err := assign(s.Index(i), it); err != nil {
				return err
			}
		}
		dst.Set(s)
		return nil
	case reflect.Struct:
		if dst.Type() != timeType {
			break
		}
		switch x := v.(type) {
		case time.Time:
			dst.Set(reflect.ValueOf(x.UTC()))
			return nil
		case string:
			if x == "" {
				return nil
			}
			t, err := time.Parse(time.RFC3339Nano, x)
			if err != nil {
				return fmt.Errorf("%q is not a time in RFC 3339 form", short(x))
			}
			dst.Set(reflect.ValueOf(t.UTC()))
			return nil
		}
	}
	return fmt.Errorf("%s is expected, not %s", kindName(dst.Type()), describe(v))
}

func describe(v any) string {
	switch x := v.(type) {
	case string:
		return fmt.Sprintf("the text %q", short(x))
	case float64:
		return "a floating-point number"
	case []any:
		return "a list"
	case map[string]any:
		return "a record"
	}
	return fmt.Sprintf("%v", v)
}

// maker builds a plain value (for a JSON body) from the variables.
type maker func(Vars) (any, error)

// compileOut prepares a template whose leaves are expressions.
func (l *language) compileOut(n *yaml.Node) (maker, error) {
	switch n.Kind {
	case yaml.ScalarNode:
		e := &Expr{Text: n.Value, Line: n.Line}
		if err := l.compile(e); err != nil {
			return nil, err
		}
		return e.Eval, nil
	case yaml.MappingNode:
		if len(n.Content) > 0 && n.Content[0].Value == "each" {
			return l.compileOutEach(n)
		}
		type part struct {
			key  string
			make maker
		}
		var parts []part
		for i := 0; i < len(n.Content); i += 2 {
			m, err := l.compileOut(n.Content[i+1])
			if err != nil {
				return nil, err
			}
			parts = append(parts, part{n.Content[i].Value, m})
		}
		return func(v Vars) (any, error) {
			out := make(map[string]any, len(parts))
			for _, p := range parts {
				x, err := p.make(v)
				if err != nil {
					return nil, fmt.Errorf("%s: %w", p.key, err)
				}
				if x != nil {
					out[p.key] = x
				}
			}
			return out, nil
		}, nil
	}
	return nil, fmt.Errorf("line %d: an expression, a record or a repeated record is expected", n.Line)
}

func (l *language) compileOutEach(n *yaml.Node) (maker, error) {
	list, as, inner, err := eachForm(n, "put")
	if err != nil {
		return nil, err
	}
	if err := l.compile(list); err != nil {
		return nil, err
	}
	m, err := l.compileOut(inner)
	if err != nil {
		return nil, err
	}
	return func(v Vars) (any, error) {
		x, err := list.Eval(v)
		if err != nil {
			return nil, err
		}
		items, _ := x.([]any)
		out := make([]any, len(items))
		old, had := v[as]
		for i, it := range items {
			v[as] = it
			if out[i], err = m(v); err != nil {
				return nil, err
			}
		}
		if had {
			v[as] = old
		} else {
			delete(v, as)
		}
		return out, nil
	}, nil
}

// mapper is a mapping prepared for one Go type.
type mapper struct {
	set setter
	typ reflect.Type
}

func (l *language) mapper(t Tree, typ reflect.Type, what string) (*mapper, error) {
	if !t.Set() {
		return nil, errors.New(what + ": a map is missing")
	}
	set, err := l.compileInto(t.node, typ, what)
	if err != nil {
		return nil, err
	}
	return &mapper{set, typ}, nil
}

func (m *mapper) run(v Vars) (any, error) {
	dst := reflect.New(m.typ)
	if err := m.set(dst.Elem(), v); err != nil {
		return nil, err
	}
	return dst.Interface(), nil
}
