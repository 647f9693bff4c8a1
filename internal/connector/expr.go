package connector

import (
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/money"
)

// maxExpression bounds the length of an expression's text.
const maxExpression = 4000

// errMissing means that an expression names a field the record does not have.
var errMissing = errors.New("not in the record")

// Vars are the names an expression may use.
type Vars map[string]any

// loopNames may name the elements of repeated records.
var loopNames = []string{"line", "each", "part", "step", "row", "item", "event"}

// names lists every variable of the language; which of them are set depends on the place.
var names = append([]string{"body", "msg", "batch", "ref", "mark", "secret", "settings", "header", "raw", "site", "test", "call",
	"status", "submission", "steps", "since", "file"}, loopNames...)

// Expr is one expression of a definition. The zero Expr is absent.
type Expr struct {
	Text         string
	Line, Column int
	eval         func(Vars) (any, error)
}

// UnmarshalYAML reads the text of an expression and where it stands.
func (e *Expr) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind != yaml.ScalarNode {
		return mistakeAt(n, "", "an expression is expected")
	}
	*e = exprOf(n)
	return nil
}

func exprOf(n *yaml.Node) Expr {
	e := Expr{Text: n.Value, Line: n.Line, Column: n.Column}
	if n.Line > 0 && n.Style&(yaml.SingleQuotedStyle|yaml.DoubleQuotedStyle) != 0 {
		e.Column++
	}
	return e
}

// Set tells whether the definition has this expression.
func (e *Expr) Set() bool { return e.Text != "" }

// Eval computes the expression. A field that is missing gives nil.
func (e *Expr) Eval(v Vars) (any, error) {
	if e.eval == nil {
		return nil, nil
	}
	out, err := e.eval(v)
	if errors.Is(err, errMissing) {
		return nil, nil
	}
	return out, err
}

// String computes the expression as text.
func (e *Expr) String(v Vars) (string, error) {
	out, err := e.Eval(v)
	if err != nil || out == nil {
		return "", err
	}
	return textOf(out), nil
}

func textOf(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case int64:
		return strconv.FormatInt(x, 10)
	case time.Time:
		return x.UTC().Format(time.RFC3339Nano)
	}
	return fmt.Sprint(v)
}

// language compiles the expressions of one definition and collects what is wrong with them.
type language struct {
	env      *cel.Env
	tables   map[string]map[string]string
	mistakes Mistakes

	// What the expressions compiled since watch look at: paths into the record.
	paths  map[string]bool
	scopes map[string]string // loop names in scope, with the path they stand for

	scope  scope    // what expressions may name where they stand; one without names is not looked at
	strict bool     // of a body whose fields have no names on their way: none may be missing
	loops  []string // names of elements of repeated records around them
	fields []string // credential fields

	cursor func(Expr) // told of every expression before it is compiled, while somebody types; nil otherwise
}

func (l *language) complain(line, column int, path, format string, args ...any) {
	l.mistakes = append(l.mistakes, Mistake{Line: line, Column: column, Path: path, Text: fmt.Sprintf(format, args...)})
}

// watch begins to note which parts of a record expressions look at; the names stand for the record.
func (l *language) watch(names ...string) {
	l.paths, l.scopes = map[string]bool{}, map[string]string{}
	for _, n := range names {
		l.scopes[n] = n
	}
}

func (l *language) watched() map[string]bool {
	out := l.paths
	l.paths, l.scopes = nil, nil
	return out
}

func newLanguage(tables map[string]map[string]string) (*language, error) {
	l := &language{tables: tables}
	base, err := sharedEnv()
	if err != nil {
		return nil, err
	}
	l.env, err = base.Extend(cel.Function("lookup", cel.Overload("lookup_table_key", []*cel.Type{cel.StringType, cel.DynType},
		cel.StringType,
		cel.BinaryBinding(func(t, k ref.Val) ref.Val {
			s, err := l.lookup(t.Value().(string), plain(k))
			if err != nil {
				return types.WrapErr(err)
			}
			return types.String(s)
		}))))
	return l, err
}

// sharedEnv is the part of the language that is the same for all definitions; making it is slow.
var sharedEnv = sync.OnceValues(func() (*cel.Env, error) {
	opts := []cel.EnvOption{ext.Strings(), ext.Math(), ext.Encoders()}
	for _, n := range names {
		opts = append(opts, cel.Variable(n, cel.DynType))
	}
	dyn, text := cel.DynType, cel.StringType
	for _, f := range []struct {
		name string
		args []*cel.Type
		out  *cel.Type
		do   func(args []any) (any, error)
	}{
		{"amount", []*cel.Type{dyn, text}, cel.IntType, func(a []any) (any, error) { return amount(a[0], textOf(a[1])) }},
		{"decimal", []*cel.Type{cel.IntType, text}, text, func(a []any) (any, error) {
			return money.Decimal(a[0].(int64), textOf(a[1])), nil
		}},
		{"number", []*cel.Type{dyn}, cel.IntType, func(a []any) (any, error) { return number(a[0]) }},
		{"words", []*cel.Type{text}, cel.ListType(text), func(a []any) (any, error) { return toList(strings.Fields(textOf(a[0]))), nil }},
		{"cut", []*cel.Type{text, cel.IntType}, cel.ListType(text), func(a []any) (any, error) { return cut(textOf(a[0]), a[1].(int64)) }},
		{"moment", []*cel.Type{dyn, text, dyn}, cel.TimestampType, func(a []any) (any, error) {
			return moment(a[0], textOf(a[1]), textOf(a[2]))
		}},
		{"written", []*cel.Type{dyn, text, dyn}, text, func(a []any) (any, error) { return written(a[0], textOf(a[1]), textOf(a[2])) }},
		{"joined", []*cel.Type{cel.ListType(dyn), text}, text, func(a []any) (any, error) {
			return joined(a[0].([]any), textOf(a[1])), nil
		}},
		{"several", []*cel.Type{dyn}, cel.ListType(dyn), func(a []any) (any, error) { return several(a[0]), nil }},
		{"abreast", []*cel.Type{cel.ListType(dyn)}, cel.ListType(dyn), func(a []any) (any, error) { return abreast(a[0].([]any)) }},
		{"edi", []*cel.Type{dyn, text, text}, dyn, func(a []any) (any, error) { return edi(a[0], textOf(a[1]), textOf(a[2])) }},
		{"edis", []*cel.Type{dyn, text, text}, cel.ListType(dyn), func(a []any) (any, error) {
			return edis(a[0], textOf(a[1]), textOf(a[2]))
		}},
		{"groups", []*cel.Type{dyn, text, text}, cel.ListType(dyn), func(a []any) (any, error) {
			return groups(a[0], textOf(a[1]), textOf(a[2]))
		}},
		{"before", []*cel.Type{dyn, text}, dyn, func(a []any) (any, error) { return before(a[0], textOf(a[1])) }},
		{"digest", []*cel.Type{dyn, cel.IntType}, text, func(a []any) (any, error) { return digest(textOf(a[0]), a[1].(int64)) }},
		{"first", []*cel.Type{cel.ListType(dyn)}, dyn, func(a []any) (any, error) { return first(a[0].([]any)), nil }},
	} {
		opts = append(opts, cel.Function(f.name,
			cel.Overload(f.name+"_fixed", f.args, f.out, cel.FunctionBinding(func(args ...ref.Val) ref.Val {
				in := make([]any, len(args))
				for i, a := range args {
					in[i] = plain(a)
				}
				out, err := f.do(in)
				if err != nil {
					return types.WrapErr(err)
				}
				return types.DefaultTypeAdapter.NativeToValue(out)
			}))))
	}
	return cel.NewEnv(opts...)
})

// cut cuts a text into parts of so many letters at most, between words where that can be.
func cut(text string, most int64) (any, error) {
	if most < 1 {
		return nil, fmt.Errorf("cut: parts of %d letters; at least 1 is expected", most)
	}
	var out []string
	line := []rune{}
	for _, word := range strings.Fields(text) {
		w := []rune(word)
		if len(line) > 0 && int64(len(line)+1+len(w)) <= most {
			line = append(append(line, ' '), w...)
			continue
		}
		if len(line) > 0 {
			out = append(out, string(line))
		}
		for int64(len(w)) > most {
			out, w = append(out, string(w[:most])), w[most:]
		}
		line = slices.Clone(w)
	}
	if len(line) > 0 {
		out = append(out, string(line))
	}
	return toList(out), nil
}

func toList(in []string) []any {
	out := make([]any, len(in))
	for i, s := range in {
		out[i] = s
	}
	return out
}

// amount reads decimal text or a whole number of major units as minor units.
func amount(v any, currency string) (int64, error) {
	switch x := v.(type) {
	case string:
		return money.Parse(strings.TrimSpace(x), currency)
	case int64:
		return money.Parse(strconv.FormatInt(x, 10), currency)
	}
	return 0, fmt.Errorf("amount: %v is neither decimal text nor a whole number", v)
}

func number(v any) (int64, error) {
	switch x := v.(type) {
	case int64:
		return x, nil
	case string:
		// A count may come as "3.000"; anything behind the point but zeros is refused.
		whole, rest, _ := strings.Cut(strings.TrimSpace(x), ".")
		if n, err := strconv.ParseInt(whole, 10, 64); err == nil && strings.Trim(rest, "0") == "" {
			return n, nil
		}
	}
	return 0, fmt.Errorf("number: %s is not a whole number", describe(v))
}

// joined joins what is not empty.
func joined(list []any, sep string) string {
	var parts []string
	for _, x := range list {
		if s := strings.TrimSpace(textOf(x)); s != "" {
			parts = append(parts, s)
		}
	}
	return strings.Join(parts, sep)
}

// several makes a list of what may be one record or a list of them: XML cannot tell.
func several(v any) []any {
	if list, ok := elements(v); ok {
		return list
	}
	return []any{v}
}

// abreast makes records of what stands at the same place of lists that are as long as each other, such as the repeated fields of a form: a
// has what is in the first list, b what is in the second, and so on.
func abreast(lists []any) ([]any, error) {
	const names = "abcdefghijklmnopqrstuvwxyz"
	var out []any
	for i, l := range lists {
		column := several(l)
		switch {
		case i == len(names):
			return nil, fmt.Errorf("abreast: %d lists, at most %d can stand abreast", len(lists), len(names))
		case i == 0:
			out = make([]any, len(column))
			for k := range out {
				out[k] = map[string]any{}
			}
		case len(column) != len(out):
			return nil, fmt.Errorf("abreast: the first list has %d, list %d has %d", len(out), i+1, len(column))
		}
		for k, x := range column {
			out[k].(map[string]any)[names[i:i+1]] = x
		}
	}
	return out, nil
}

// first returns the first that is neither missing nor empty.
func first(list []any) any {
	for _, x := range list {
		if x != nil && x != "" {
			return x
		}
	}
	return nil
}

// digest is a short name for a text that may be long: so many letters and digits of its SHA-256.
func digest(text string, n int64) (string, error) {
	if n < 6 || n > 40 {
		return "", fmt.Errorf("digest: 6 to 40 characters, not %d", n)
	}
	sum := sha256.Sum256([]byte(text))
	return base32.StdEncoding.EncodeToString(sum[:])[:n], nil
}

// patterns turns the letters of a date pattern (Unicode Technical Standard 35, part 4, section 8) into
// those of Go.
var patterns = strings.NewReplacer("yyyy", "2006", "MMM", "Jan", "MM", "01", "dd", "02", "HH", "15", "mm", "04", "ss", "05", "SSS", "000",
	"XXX", "Z07:00", "xx", "-0700", "'", "")

// moment reads a time: "unix" seconds, "unix ms" milliseconds, "rfc3339", or text in a date pattern such
// as "dd.MM.yyyy HH:mm". zone is an IANA time zone for text that names none; empty means UTC.
func moment(v any, form, zone string) (time.Time, error) {
	if v == nil || v == "" {
		return time.Time{}, errMissing
	}
	switch form {
	case "unix", "unix ms":
		n, err := number(v)
		if err != nil {
			return time.Time{}, fmt.Errorf("moment: %s is not a number", describe(v))
		}
		if form == "unix" {
			return time.Unix(n, 0).UTC(), nil
		}
		return time.UnixMilli(n).UTC(), nil
	}
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return time.Time{}, fmt.Errorf("moment: there is no time zone %q", zone)
	}
	layout := time.RFC3339Nano
	if form != "rfc3339" {
		layout = patterns.Replace(form)
	}
	t, err := time.ParseInLocation(layout, strings.TrimSpace(textOf(v)), loc)
	if err != nil {
		return time.Time{}, fmt.Errorf("moment: %q is not a time like %s", short(textOf(v)), form)
	}
	return t.UTC(), nil
}

// written is the way back.
func written(v any, form, zone string) (string, error) {
	t, ok := v.(time.Time)
	if !ok {
		var err error
		if t, err = moment(v, "rfc3339", ""); err != nil {
			return "", err
		}
	}
	switch form {
	case "unix":
		return strconv.FormatInt(t.Unix(), 10), nil
	case "unix ms":
		return strconv.FormatInt(t.UnixMilli(), 10), nil
	}
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return "", fmt.Errorf("written: there is no time zone %q", zone)
	}
	if form == "rfc3339" {
		return t.In(loc).Format(time.RFC3339Nano), nil
	}
	return t.In(loc).Format(patterns.Replace(form)), nil
}

func (l *language) lookup(table string, key any) (string, error) {
	t, ok := l.tables[table]
	if !ok {
		return "", fmt.Errorf("lookup: there is no table %q", table)
	}
	if s, ok := t[textOf(key)]; ok {
		return s, nil
	}
	if s, ok := t["*"]; ok {
		return s, nil
	}
	return "", fmt.Errorf("lookup: table %q has no entry for %q", table, textOf(key))
}

func (l *language) compileAll(m map[string]Expr, what string) {
	for _, name := range sortedKeys(m) {
		e := m[name]
		l.compile(&e, what+"."+name)
		m[name] = e
	}
}

// compile checks the expression and prepares it. Paths, literals and calls of our own functions are
// evaluated without the CEL machine; everything else runs on it, with bounded cost.
func (l *language) compile(e *Expr, path string) {
	if !e.Set() {
		return
	}
	if l.cursor != nil {
		l.cursor(*e)
	}
	if len(e.Text) > maxExpression {
		l.complain(e.Line, e.Column, path, "the expression has %d characters, at most %d are allowed", len(e.Text), maxExpression)
		return
	}
	checked, iss := l.env.Compile(e.Text)
	if iss != nil && iss.Err() != nil {
		first := iss.Errors()[0]
		line, column := e.Line, e.Column
		if line > 0 {
			if n := first.Location.Line(); n > 1 {
				line, column = line+n-1, first.Location.Column()+1
			} else {
				column += max(0, first.Location.Column())
			}
		}
		l.complain(line, column, path, "expression %q: %s", short(e.Text), first.Message)
		return
	}
	if checked.OutputType() == cel.DoubleType {
		l.complain(e.Line, e.Column, path, "expression %q gives a floating-point number; amounts are made with amount(text, currency)",
			short(e.Text))
		return
	}
	tree := checked.NativeRep()
	if l.scope.names != nil {
		if why := l.never(tree.Expr(), nil); why != "" {
			l.complain(e.Line, e.Column, path, "expression %q: %s", short(e.Text), why)
			return
		}
	}
	if l.paths != nil {
		l.note(tree.Expr())
	}
	l.checkTables(e, path, tree.Expr())
	f, err := l.prepare(tree, tree.Expr())
	if err != nil {
		l.complain(e.Line, e.Column, path, "expression %q: %v", short(e.Text), err)
		return
	}
	e.eval = f
}

// checkTables refuses the name of a table that the definition does not have.
func (l *language) checkTables(e *Expr, path string, x ast.Expr) {
	ast.PostOrderVisit(x, ast.NewExprVisitor(func(x ast.Expr) {
		if x.Kind() != ast.CallKind || x.AsCall().FunctionName() != "lookup" || len(x.AsCall().Args()) != 2 {
			return
		}
		if arg := x.AsCall().Args()[0]; arg.Kind() == ast.LiteralKind {
			if name := textOf(plain(arg.AsLiteral())); l.tables[name] == nil {
				l.complain(e.Line, e.Column, path, "there is no table %q; there are: %s", name, strings.Join(sortedKeys(l.tables), ", "))
			}
		}
	}))
}

// prepare turns a checked expression, or a part of one, into a function.
func (l *language) prepare(tree *ast.AST, x ast.Expr) (func(Vars) (any, error), error) {
	if f := l.direct(tree, x); f != nil {
		return f, nil
	}
	part := ast.NewCheckedAST(ast.NewAST(x, tree.SourceInfo()), tree.TypeMap(), tree.ReferenceMap())
	prog, err := l.env.PlanProgram(part, bounds()...)
	if err != nil {
		return nil, err
	}
	return func(v Vars) (any, error) {
		out, _, err := prog.Eval(map[string]any(v))
		if err != nil {
			if text := err.Error(); errors.Is(err, errMissing) || strings.Contains(text, "no such key") ||
				strings.Contains(text, "no such attribute") {
				return nil, errMissing
			}
			return nil, err
		}
		return plain(out), nil
	}, nil
}

// direct turns simple expressions into functions, or returns nil.
func (l *language) direct(tree *ast.AST, x ast.Expr) func(Vars) (any, error) {
	switch x.Kind() {
	case ast.LiteralKind:
		v := plain(x.AsLiteral())
		return func(Vars) (any, error) { return v, nil }
	case ast.IdentKind:
		name := x.AsIdent()
		return func(v Vars) (any, error) { return v[name], nil }
	case ast.SelectKind:
		s := x.AsSelect()
		if s.IsTestOnly() {
			return nil
		}
		of, field := l.direct(tree, s.Operand()), s.FieldName()
		if of == nil {
			return nil
		}
		return func(v Vars) (any, error) {
			m, err := of(v)
			if err != nil {
				return nil, err
			}
			switch mm := m.(type) {
			case map[string]any:
				if out, ok := mm[field]; ok {
					return out, nil
				}
			case map[string]string:
				if out, ok := mm[field]; ok {
					return out, nil
				}
			}
			return nil, errMissing
		}
	case ast.CallKind:
		return l.directCall(tree, x.AsCall())
	}
	return nil
}

func (l *language) directCall(tree *ast.AST, c ast.CallExpr) func(Vars) (any, error) {
	if c.IsMemberFunction() || len(c.Args()) == 0 {
		return nil
	}
	switch c.FunctionName() {
	case "joined", "first":
		return l.directList(tree, c)
	case "amount", "lookup":
	default:
		return nil
	}
	a, errA := l.prepare(tree, c.Args()[0])
	b, errB := l.prepare(tree, c.Args()[1])
	if errA != nil || errB != nil {
		return nil
	}
	isAmount := c.FunctionName() == "amount"
	return func(v Vars) (any, error) {
		av, err := a(v)
		if err != nil {
			return nil, err
		}
		bv, err := b(v)
		if err != nil {
			return nil, err
		}
		if isAmount {
			return amount(av, textOf(bv))
		}
		return l.lookup(textOf(av), bv)
	}
}

// directList evaluates the elements of joined and first one by one: one that is missing is empty and
// does not make the whole missing.
func (l *language) directList(tree *ast.AST, c ast.CallExpr) func(Vars) (any, error) {
	if c.Args()[0].Kind() != ast.ListKind {
		return nil
	}
	var parts []func(Vars) (any, error)
	for _, el := range c.Args()[0].AsList().Elements() {
		f, err := l.prepare(tree, el)
		if err != nil {
			return nil
		}
		parts = append(parts, f)
	}
	sep := func(Vars) (any, error) { return "", nil }
	if len(c.Args()) == 2 {
		f, err := l.prepare(tree, c.Args()[1])
		if err != nil {
			return nil
		}
		sep = f
	}
	isJoined := c.FunctionName() == "joined"
	return func(v Vars) (any, error) {
		list := make([]any, len(parts))
		for i, f := range parts {
			out, err := f(v)
			if err != nil && !errors.Is(err, errMissing) {
				return nil, err
			}
			list[i] = out
		}
		if !isJoined {
			return first(list), nil
		}
		s, err := sep(v)
		if err != nil {
			return nil, err
		}
		return joined(list, textOf(s)), nil
	}
}

// note remembers which parts of the record an expression looks at.
func (l *language) note(x ast.Expr) {
	if p := l.pathOf(x); p != "" {
		l.paths[p] = true
		return
	}
	switch x.Kind() {
	case ast.SelectKind:
		l.note(x.AsSelect().Operand())
	case ast.CallKind:
		if x.AsCall().IsMemberFunction() {
			l.note(x.AsCall().Target())
		}
		for _, a := range x.AsCall().Args() {
			l.note(a)
		}
	case ast.ListKind:
		for _, e := range x.AsList().Elements() {
			l.note(e)
		}
	case ast.MapKind:
		for _, e := range x.AsMap().Entries() {
			l.note(e.AsMapEntry().Key())
			l.note(e.AsMapEntry().Value())
		}
	case ast.ComprehensionKind:
		c := x.AsComprehension()
		for _, part := range []ast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
			l.note(part)
		}
	}
}

// pathOf returns the path of a chain of fields that begins at a record or a loop name in scope.
func (l *language) pathOf(x ast.Expr) string {
	switch x.Kind() {
	case ast.IdentKind:
		return l.scopes[x.AsIdent()]
	case ast.SelectKind:
		if of := l.pathOf(x.AsSelect().Operand()); of != "" {
			return of + "." + x.AsSelect().FieldName()
		}
	}
	return ""
}

// plain turns a CEL value into nil, bool, int64, string, time.Time, []any or map[string]any. Doubles
// stay float64 and are refused where they would become an amount.
func plain(v ref.Val) any {
	switch x := v.(type) {
	case types.Null:
		return nil
	case types.Bool:
		return bool(x)
	case types.Int:
		return int64(x)
	case types.Uint:
		return int64(x)
	case types.String:
		return string(x)
	case types.Timestamp:
		return x.Time
	case traits.Mapper:
		if m, ok := x.Value().(map[string]any); ok {
			return m
		}
		out := map[string]any{}
		for it := x.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			out[textOf(plain(k))] = plain(x.Get(k))
		}
		return out
	case traits.Lister:
		if l, ok := x.Value().([]any); ok {
			return l
		}
		out := []any{}
		for it := x.Iterator(); it.HasNext() == types.True; {
			out = append(out, plain(it.Next()))
		}
		return out
	}
	return v.Value()
}

func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if r := []rune(s); len(r) > 80 {
		return string(r[:80]) + "…"
	}
	return s
}

func kindName(t reflect.Type) string {
	switch {
	case t.String() == "time.Time":
		return "a time (RFC 3339 text)"
	case t.Kind() == reflect.Int64:
		return "a whole number"
	case t.Kind() == reflect.String:
		return "text"
	case t.Kind() == reflect.Bool:
		return "true or false"
	case t.Kind() == reflect.Slice:
		return "a list (each: … map: …)"
	}
	return "a record (nested map)"
}
