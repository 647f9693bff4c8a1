package connector

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"go.yaml.in/yaml/v3"
)

// Tree is a mapping as written: a scalar is an expression, a mapping a record, a mapping with the key
// "each" a repeated record, and, for a single value, a mapping with the key "from" an expression with a
// default or a code table.
type Tree struct{ node *yaml.Node }

// UnmarshalYAML keeps the node; it is compiled once the tables are known.
func (t *Tree) UnmarshalYAML(n *yaml.Node) error { t.node = n; return nil }

// Set tells whether the definition has this mapping.
func (t *Tree) Set() bool { return t != nil && t.node != nil }

// setter fills a Go value from the variables.
type setter func(dst reflect.Value, v Vars) error

var timeType = reflect.TypeFor[time.Time]()

// compileInto prepares a mapping whose targets are the JSON fields of a Go type. Unknown targets,
// targets of a wrong form and needed targets that are left out are complained of with their place.
func (l *language) compileInto(n *yaml.Node, t reflect.Type, path string) setter {
	if n.Kind == yaml.ScalarNode {
		return l.compileValue(n, t, path)
	}
	if n.Kind != yaml.MappingNode {
		l.complain(n.Line, n.Column, path, "an expression or a mapping is expected")
		return nil
	}
	if t.Kind() == reflect.Slice {
		return l.compileEach(n, t, path)
	}
	if t.Kind() != reflect.Struct || t == timeType {
		if valueOf(n, "from") != nil {
			return l.compileFrom(n, t, path)
		}
		l.complain(n.Line, n.Column, path, "takes %s, not a nested mapping; with a default or a table, write from: … default: … table: …",
			kindName(t))
		return nil
	}
	fields := jsonFields(t)
	type part struct {
		index int
		set   setter
	}
	var parts []part
	for i := 0; i+1 < len(n.Content); i += 2 {
		key, val := n.Content[i], n.Content[i+1]
		at, ok := fields[key.Value]
		if !ok {
			l.complain(key.Line, key.Column, path, "there is no field %q; there are %s", key.Value, strings.Join(sortedKeys(fields), ", "))
			continue
		}
		parts = append(parts, part{at, l.compileInto(val, t.Field(at).Type, path+"."+key.Value)})
	}
	for _, name := range needed(t) {
		if valueOf(n, name) == nil {
			l.complain(n.Line, n.Column, path, "%s is needed and not mapped", name)
		}
	}
	return func(dst reflect.Value, v Vars) error {
		for _, p := range parts {
			if err := p.set(dst.Field(p.index), v); err != nil {
				return err
			}
		}
		return nil
	}
}

// compileValue prepares a single expression. A record of ours may be given whole, as a map of its own
// fields.
// fieldOf is what a path of a definition means to whoever sent the record: the field, within its line or part, without
// where it stands in the definition.
func fieldOf(path string) string {
	if i := strings.LastIndex(path, "[]."); i >= 0 {
		return path[i+len("[]."):]
	}
	if _, field, ok := strings.Cut(path, ".map."); ok {
		return field
	}
	return path[strings.LastIndexByte(path, '.')+1:]
}

func (l *language) compileValue(n *yaml.Node, t reflect.Type, path string) setter {
	e := exprOf(n)
	l.compile(&e, path)
	whole := t.Kind() == reflect.Struct && t != timeType
	field := fieldOf(path)
	return func(dst reflect.Value, v Vars) error {
		out, err := e.Eval(v)
		if err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
		if out == nil {
			return nil
		}
		if whole {
			err = assignWhole(dst, out)
		} else {
			err = assign(dst, out)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
		return nil
	}
}

func (l *language) compileFrom(n *yaml.Node, t reflect.Type, path string) setter {
	var from, otherwise Expr
	var table string
	required, field := false, fieldOf(path)
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch key, val := n.Content[i], n.Content[i+1]; key.Value {
		case "from":
			from = exprOf(val)
			l.compile(&from, path+".from")
		case "default":
			otherwise = exprOf(val)
			l.compile(&otherwise, path+".default")
		case "table":
			if table = val.Value; l.tables[table] == nil {
				l.complain(val.Line, val.Column, path+".table", "there is no table %q; there are: %s", table,
					strings.Join(sortedKeys(l.tables), ", "))
			}
		case "required":
			required = val.Value == "true"
		default:
			l.complain(key.Line, key.Column, path, "%q is not expected here; a value has from, default, table and required", key.Value)
		}
	}
	return func(dst reflect.Value, v Vars) error {
		out, err := from.Eval(v)
		if err == nil && table != "" && out != nil && out != "" {
			out, err = l.lookup(table, out)
		}
		if err == nil && (out == nil || out == "") && otherwise.Set() {
			out, err = otherwise.Eval(v)
		}
		if err == nil && (out == nil || out == "") {
			if required {
				return fmt.Errorf("%s: is required and the record has nothing at %s", field, short(from.Text))
			}
			return nil
		}
		if err == nil {
			err = assign(dst, out)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
		return nil
	}
}

// needed lists the fields of a shape that a mapping must give.
func needed(t reflect.Type) []string {
	var out []string
	for i := range t.NumField() {
		if t.Field(i).Tag.Get("need") == "yes" {
			name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
			out = append(out, name)
		}
	}
	return out
}

// eachForm reads "each: list, as: name, map|put: …".
func (l *language) eachForm(n *yaml.Node, path, body string) (list Expr, as string, inner *yaml.Node, ok bool) {
	as = "each"
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch key, val := n.Content[i], n.Content[i+1]; key.Value {
		case "each":
			list = exprOf(val)
		case "as":
			if as = val.Value; !slices.Contains(loopNames, as) {
				l.complain(val.Line, val.Column, path, "as: %q; it may be one of %s", as, strings.Join(loopNames, ", "))
				return list, as, nil, false
			}
		case body:
			inner = val
		default:
			l.complain(key.Line, key.Column, path, "%q is not expected here; a repeated record has each, as and %s", key.Value, body)
			return list, as, nil, false
		}
	}
	if !list.Set() || inner == nil {
		l.complain(n.Line, n.Column, path, "a repeated record needs each and %s", body)
		return list, as, nil, false
	}
	return list, as, inner, true
}

// within compiles the inside of a repeated record: its name stands for an element of the list.
func (l *language) within(list *Expr, as string, inside func()) {
	compile := inside
	inside = func() {
		l.loops = append(l.loops, as)
		compile()
		l.loops = l.loops[:len(l.loops)-1]
	}
	if l.scopes == nil {
		l.compile(list, "each")
		inside()
		return
	}
	before, had := l.scopes[as]
	paths := l.paths
	l.paths = map[string]bool{}
	l.compile(list, "each")
	found := l.paths
	l.paths = paths
	delete(l.scopes, as)
	for p := range found {
		if len(found) == 1 {
			l.scopes[as] = p + "[]"
		} else {
			l.paths[p] = true
		}
	}
	inside()
	if delete(l.scopes, as); had {
		l.scopes[as] = before
	}
}

// elements returns a list; a single record counts as a list of one, since XML cannot tell them apart.
func elements(v any) ([]any, bool) {
	switch x := v.(type) {
	case nil:
		return nil, true
	case []any:
		return x, true
	case map[string]any:
		return []any{x}, true
	}
	return nil, v == ""
}

func (l *language) compileEach(n *yaml.Node, t reflect.Type, path string) setter {
	list, as, inner, ok := l.eachForm(n, path, "map")
	if !ok {
		return nil
	}
	var set setter
	field := fieldOf(path)
	l.within(&list, as, func() { set = l.compileInto(inner, t.Elem(), path+"[]") })
	return func(dst reflect.Value, v Vars) error {
		out, err := list.Eval(v)
		if err != nil {
			return fmt.Errorf("%s: %w", field, err)
		}
		items, ok := elements(out)
		if !ok {
			return fmt.Errorf("%s: %s is not a list", field, short(list.Text))
		}
		if len(items) == 0 {
			return nil
		}
		s := reflect.MakeSlice(t, len(items), len(items))
		old, had := v[as]
		for i, it := range items {
			v[as] = it
			if err := set(s.Index(i), v); err != nil {
				return fmt.Errorf("%s %d, %w", strings.TrimSuffix(field, "s"), i+1, err)
			}
		}
		if had {
			v[as] = old
		} else {
			delete(v, as)
		}
		dst.Set(s)
		return nil
	}
}

// fieldsOf remembers, by type, what jsonFields found: it is asked for each record.
var fieldsOf sync.Map

// jsonFields lists the fields of a struct by their names in JSON. The map is shared; it is not to be changed.
func jsonFields(t reflect.Type) map[string]int {
	if known, ok := fieldsOf.Load(t); ok {
		return known.(map[string]int)
	}
	out := map[string]int{}
	for i := range t.NumField() {
		if name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ","); name != "" && name != "-" {
			out[name] = i
		}
	}
	fieldsOf.Store(t, out)
	return out
}

// sortedKeys lists the keys of a map in their order; of an empty one none, which is a list all the same.
func sortedKeys[K ~string, V any](m map[K]V) []K {
	out := slices.AppendSeq(make([]K, 0, len(m)), maps.Keys(m))
	slices.Sort(out)
	return out
}

// assignWhole fills a record of ours from a map of its own fields; a field that it does not have is
// refused, so that a mistyped name does not vanish.
func assignWhole(dst reflect.Value, v any) error {
	m, ok := v.(map[string]any)
	if !ok {
		return fmt.Errorf("a record is expected, not %s", describe(v))
	}
	fields := jsonFields(dst.Type())
	for key := range m {
		if _, ok := fields[key]; !ok {
			return fmt.Errorf("there is no field %q; there are %s", key, strings.Join(sortedKeys(fields), ", "))
		}
	}
	for key, at := range fields {
		x, ok := m[key]
		if !ok || x == nil {
			continue
		}
		field := dst.Field(at)
		var err error
		switch {
		case field.Kind() == reflect.Struct && field.Type() != timeType:
			err = assignWhole(field, x)
		case field.Kind() == reflect.Slice && field.Type().Elem().Kind() == reflect.Struct:
			items, ok := elements(x)
			if !ok {
				return fmt.Errorf("%s: a list is expected, not %s", key, describe(x))
			}
			s := reflect.MakeSlice(field.Type(), len(items), len(items))
			for i, it := range items {
				if err = assignWhole(s.Index(i), it); err != nil {
					return fmt.Errorf("%s[%d].%w", key, i, err)
				}
			}
			field.Set(s)
		default:
			err = assign(field, x)
		}
		if err != nil {
			return fmt.Errorf("%s: %w", key, err)
		}
	}
	return nil
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
			if n, err := strconv.ParseInt(strings.TrimSpace(x), 10, 64); err == nil {
				dst.SetInt(n)
				return nil
			}
		}
	case reflect.Bool:
		switch x := v.(type) {
		case bool:
			dst.SetBool(x)
			return nil
		case string: // XML, CSV and forms know no other
			if b, err := strconv.ParseBool(x); err == nil {
				dst.SetBool(b)
				return nil
			}
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
		if done, err := assignTime(dst, v); done || err != nil {
			return err
		}
	}
	return fmt.Errorf("%s is expected, not %s", kindName(dst.Type()), describe(v))
}

// assignTime writes a moment, where v is one or a text of one.
func assignTime(dst reflect.Value, v any) (bool, error) {
	switch x := v.(type) {
	case time.Time:
		dst.Set(reflect.ValueOf(x.UTC()))
		return true, nil
	case string:
		if x == "" {
			return true, nil
		}
		t, err := time.Parse(time.RFC3339Nano, x)
		if err != nil {
			return false, fmt.Errorf("%q is not a time in RFC 3339 form; others are read with moment(text, form, zone)", short(x))
		}
		dst.Set(reflect.ValueOf(t.UTC()))
		return true, nil
	}
	return false, nil
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

// maker builds a plain value (for a body) from the variables.
type maker func(Vars) (any, error)

// object is a record to be written, its members in the order of the definition: XML and forms keep it.
type object []member

type member struct {
	key   string
	value any
}

// MarshalJSON writes the object with its members in their order.
func (o object) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			b = append(b, ',')
		}
		key, err := json.Marshal(m.key)
		if err != nil {
			return nil, err
		}
		val, err := json.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, key...), ':'), val...)
	}
	return append(b, '}'), nil
}

// compileOut prepares a template whose leaves are expressions.
func (l *language) compileOut(n *yaml.Node, path string) maker {
	switch n.Kind {
	case yaml.ScalarNode:
		e := exprOf(n)
		l.compile(&e, path)
		if !l.strict {
			return e.Eval
		}
		return func(v Vars) (any, error) {
			x, err := e.Eval(v)
			if err == nil && x == nil {
				err = fmt.Errorf("%s has no value; of one that may be missing write joined([…], \"\"), of a segment condition ? […] : []",
					short(e.Text))
			}
			return x, err
		}
	case yaml.MappingNode:
		if valueOf(n, "each") != nil {
			return l.compileOutEach(n, path)
		}
		type part struct {
			key  string
			make maker
		}
		var parts []part
		for i := 0; i+1 < len(n.Content); i += 2 {
			key := n.Content[i].Value
			if key == "put" && n.Content[i+1].Kind == yaml.MappingNode {
				l.complain(n.Content[i].Line, n.Content[i].Column, path, "put stands beside each, which is missing; a record is written "+
					"without it")
			}
			parts = append(parts, part{key, l.compileOut(n.Content[i+1], path+"."+key)})
		}
		return func(v Vars) (any, error) {
			out := make(object, 0, len(parts))
			for _, p := range parts {
				x, err := p.make(v)
				if err != nil {
					return nil, fmt.Errorf("%s: %w", p.key, err)
				}
				if x != nil {
					out = append(out, member{p.key, x})
				}
			}
			return out, nil
		}
	}
	l.complain(n.Line, n.Column, path, "an expression, a record or a repeated record is expected")
	return nil
}

func (l *language) compileOutEach(n *yaml.Node, path string) maker {
	list, as, inner, ok := l.eachForm(n, path, "put")
	if !ok {
		return nil
	}
	var m maker
	l.within(&list, as, func() { m = l.compileOut(inner, path+"[]") })
	return func(v Vars) (any, error) {
		x, err := list.Eval(v)
		if err != nil {
			return nil, err
		}
		items, ok := elements(x)
		if !ok {
			return nil, fmt.Errorf("%s is not a list", short(list.Text))
		}
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
	}
}

// mapper is a mapping prepared for one Go type.
type mapper struct {
	set   setter
	typ   reflect.Type
	reads map[string]bool // paths of the record that it looks at
}

func (l *language) mapper(t *Tree, typ reflect.Type, what string) *mapper {
	if !t.Set() || typ == nil {
		l.complain(0, 0, what, "a map is missing")
		return nil
	}
	l.watch("item", "event", "body")
	set := l.compileInto(t.node, typ, what)
	return &mapper{set, typ, l.watched()}
}

func (m *mapper) run(v Vars) (any, error) {
	dst := reflect.New(m.typ)
	if err := m.set(dst.Elem(), v); err != nil {
		return nil, err
	}
	return dst.Interface(), nil
}
