package connector

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"sync"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
	"cel.dev/cel-go/ext"
	"go.yaml.in/yaml/v3"

	"openrelay/internal/core/money"
)

// maxCost bounds the work of one expression, in CEL cost units. A mapping of a long record takes a
// few hundred; what goes beyond this is a mistake or an attack.
const maxCost = 1_000_000

// maxExpression bounds the length of an expression's text.
const maxExpression = 4000

// errMissing means that an expression names a field the record does not have.
var errMissing = errors.New("not in the record")

// Vars are the names an expression may use.
type Vars map[string]any

// names lists every variable of the language; which of them are set depends on the place.
var names = []string{"item", "body", "event", "msg", "batch", "ref", "mark", "secret", "settings", "header", "raw", "line", "each", "part", "step"}

// Expr is one expression of a definition. The zero Expr is absent.
type Expr struct {
	Text string
	Line int
	eval func(Vars) (any, error)
}

// UnmarshalYAML reads the text of an expression and where it stands.
func (e *Expr) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind != yaml.ScalarNode {
		return fmt.Errorf("line %d: an expression is expected", n.Line)
	}
	e.Text, e.Line = n.Value, n.Line
	return nil
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
	case bool, int64, int:
		return fmt.Sprint(x)
	}
	return fmt.Sprint(v)
}

type language struct {
	env    *cel.Env
	tables map[string]map[string]string
}

func newLanguage(tables map[string]map[string]string) (*language, error) {
	l := &language{tables: tables}
	base, err := sharedEnv()
	if err != nil {
		return nil, err
	}
	l.env, err = base.Extend(cel.Function("lookup", cel.Overload("lookup_table_key", []*cel.Type{cel.StringType, cel.DynType}, cel.StringType,
		cel.BinaryBinding(func(t, k ref.Val) ref.Val {
			s, err := l.lookup(t.Value().(string), k.Value())
			if err != nil {
				return types.WrapErr(err)
			}
			return types.String(s)
		}))))
	return l, err
}

// sharedEnv is the part of the language that is the same for all definitions; making it is slow.
var sharedEnv = sync.OnceValues(func() (*cel.Env, error) {
	opts := []cel.EnvOption{ext.Strings(), ext.Math()}
	for _, n := range names {
		opts = append(opts, cel.Variable(n, cel.DynType))
	}
	opts = append(opts,
		cel.Function("amount", cel.Overload("amount_dyn_string", []*cel.Type{cel.DynType, cel.StringType}, cel.IntType,
			cel.BinaryBinding(func(a, c ref.Val) ref.Val {
				n, err := amount(a.Value(), textOf(c.Value()))
				if err != nil {
					return types.WrapErr(err)
				}
				return types.Int(n)
			}))),
		cel.Function("decimal", cel.Overload("decimal_int_string", []*cel.Type{cel.IntType, cel.StringType}, cel.StringType,
			cel.BinaryBinding(func(a, c ref.Val) ref.Val {
				return types.String(money.Decimal(int64(a.(types.Int)), textOf(c.Value())))
			}))),
		cel.Function("words", cel.Overload("words_string", []*cel.Type{cel.StringType}, cel.ListType(cel.StringType),
			cel.UnaryBinding(func(a ref.Val) ref.Val {
				return types.NewStringList(types.DefaultTypeAdapter, strings.Fields(textOf(a.Value())))
			}))),
		cel.Function("joined", cel.Overload("joined_list_string", []*cel.Type{cel.ListType(cel.DynType), cel.StringType}, cel.StringType,
			cel.BinaryBinding(func(a, sep ref.Val) ref.Val {
				var parts []string
				for it := a.(traits.Lister).Iterator(); it.HasNext() == types.True; {
					if s := strings.TrimSpace(textOf(plain(it.Next()))); s != "" {
						parts = append(parts, s)
					}
				}
				return types.String(strings.Join(parts, textOf(sep.Value())))
			}))),
	)
	return cel.NewEnv(opts...)
})

// amount reads decimal text or a whole number of major units as minor units.
func amount(v any, currency string) (int64, error) {
	switch x := v.(type) {
	case string:
		return money.Parse(strings.TrimSpace(x), currency)
	case int64:
		return money.Parse(fmt.Sprint(x), currency)
	}
	return 0, fmt.Errorf("amount: %v is neither decimal text nor a whole number", v)
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

// compile checks the expression and prepares it. Paths, literals and calls of our own functions are
// evaluated without the CEL machine; everything else runs on it, with bounded cost.
func (l *language) compile(e *Expr) error {
	if !e.Set() {
		return nil
	}
	if len(e.Text) > maxExpression {
		return fmt.Errorf("line %d: the expression has %d characters, at most %d are allowed", e.Line, len(e.Text), maxExpression)
	}
	parsed, iss := l.env.Compile(e.Text)
	if iss != nil && iss.Err() != nil {
		errs := iss.Errors()
		return fmt.Errorf("line %d: expression %q: %s", e.Line, short(e.Text), errs[0].Message)
	}
	if parsed.OutputType() == cel.DoubleType {
		return fmt.Errorf("line %d: expression %q gives a floating-point number; amounts are made with amount(text, currency)", e.Line, short(e.Text))
	}
	if f := l.direct(parsed.NativeRep().Expr()); f != nil {
		e.eval = f
		return nil
	}
	prog, err := l.env.Program(parsed, cel.CostLimit(maxCost), cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return fmt.Errorf("line %d: expression %q: %w", e.Line, short(e.Text), err)
	}
	text := e.Text
	e.eval = func(v Vars) (any, error) {
		out, _, err := prog.Eval(map[string]any(v))
		if err != nil {
			if strings.Contains(err.Error(), "no such key") || strings.Contains(err.Error(), "no such attribute") {
				return nil, errMissing
			}
			return nil, fmt.Errorf("%s: %w", short(text), err)
		}
		return plain(out), nil
	}
	return nil
}

// direct turns simple expressions into functions, or returns nil.
func (l *language) direct(x ast.Expr) func(Vars) (any, error) {
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
		of, field := l.direct(s.Operand()), s.FieldName()
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
		c := x.AsCall()
		if c.IsMemberFunction() || len(c.Args()) != 2 {
			return nil
		}
		a, b := l.direct(c.Args()[0]), l.direct(c.Args()[1])
		if a == nil || b == nil {
			return nil
		}
		both := func(v Vars) (any, any, error) {
			av, err := a(v)
			if err != nil {
				return nil, nil, err
			}
			bv, err := b(v)
			return av, bv, err
		}
		switch c.FunctionName() {
		case "amount":
			return func(v Vars) (any, error) {
				av, bv, err := both(v)
				if err != nil {
					return nil, err
				}
				return amount(av, textOf(bv))
			}
		case "lookup":
			return func(v Vars) (any, error) {
				av, bv, err := both(v)
				if err != nil {
					return nil, err
				}
				return l.lookup(textOf(av), bv)
			}
		}
	}
	return nil
}

// plain turns a CEL value into nil, bool, int64, string, []any or map[string]any. Doubles stay float64
// and are refused where they would become an amount.
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
		var out []any
		for it := x.Iterator(); it.HasNext() == types.True; {
			out = append(out, plain(it.Next()))
		}
		return out
	}
	return v.Value()
}

func short(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	if len(s) > 80 {
		return s[:80] + "…"
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
