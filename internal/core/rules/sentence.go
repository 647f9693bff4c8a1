package rules

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
)

// Sentence is a condition as people read it: comparisons of which all, or any, must hold.
type Sentence struct {
	Any        bool         `json:"any" doc:"One is enough; otherwise all must hold"`
	Conditions []Comparison `json:"conditions"`
}

// Comparison is one comparison of a sentence.
type Comparison struct {
	Field  string   `json:"field"`
	Is     string   `json:"is" enum:"is,is not,is one of,is none of,begins with,contains,does not contain,above,at least,below,at most"`
	Values []string `json:"values" doc:"One text or number; several for is one of; for a truth: true or false"`
}

// comparisons lists the words that may stand between a field of a type and its value.
var comparisons = map[string][]string{
	"text":   {"is", "is not", "is one of", "is none of", "begins with", "contains", "does not contain"},
	"number": {"is", "is not", "above", "at least", "below", "at most"},
	"truth":  {"is"},
	"list":   {"contains", "does not contain"},
}

// Comparisons lists the words of a type of field.
func Comparisons(fieldType string) []string { return slices.Clone(comparisons[fieldType]) }

var signs = map[string]string{"is": "==", "is not": "!=", "above": ">", "at least": ">=", "below": "<", "at most": "<="}

// Text writes the sentence as CEL.
func (s Sentence) Text() (string, error) {
	parts := make([]string, len(s.Conditions))
	for i, c := range s.Conditions {
		text, err := c.text()
		if err != nil {
			return "", err
		}
		parts[i] = text
	}
	if s.Any {
		return strings.Join(parts, " || "), nil
	}
	return strings.Join(parts, " && "), nil
}

func (c Comparison) text() (string, error) {
	i, ok := place[c.Field]
	if !ok {
		return "", fmt.Errorf("%w: there is no field %q", ErrRule, c.Field)
	}
	f := fields[i].Field
	if !slices.Contains(comparisons[f.Type], c.Is) {
		return "", fmt.Errorf("%w: %s cannot be asked whether it %q", ErrRule, c.Field, c.Is)
	}
	if len(c.Values) == 0 {
		return "", fmt.Errorf("%w: %s %s: a value is missing", ErrRule, c.Field, c.Is)
	}
	one := c.Values[0]
	switch f.Type {
	case "truth":
		if one == "false" {
			return "!" + c.Field, nil
		}
		return c.Field, nil
	case "number":
		if _, err := strconv.ParseInt(one, 10, 64); err != nil {
			return "", fmt.Errorf("%w: %s: %q is not a whole number", ErrRule, c.Field, one)
		}
		return c.Field + " " + signs[c.Is] + " " + one, nil
	case "list":
		if c.Is == "contains" {
			return strconv.Quote(one) + " in " + c.Field, nil
		}
		return "!(" + strconv.Quote(one) + " in " + c.Field + ")", nil
	}
	switch c.Is {
	case "is", "is not":
		return c.Field + " " + signs[c.Is] + " " + strconv.Quote(one), nil
	case "begins with":
		return c.Field + ".startsWith(" + strconv.Quote(one) + ")", nil
	case "contains":
		return c.Field + ".contains(" + strconv.Quote(one) + ")", nil
	case "does not contain":
		return "!" + c.Field + ".contains(" + strconv.Quote(one) + ")", nil
	}
	quoted := make([]string, len(c.Values))
	for i, v := range c.Values {
		quoted[i] = strconv.Quote(v)
	}
	in := c.Field + " in [" + strings.Join(quoted, ", ") + "]"
	if c.Is == "is none of" {
		return "!(" + in + ")", nil
	}
	return in, nil
}

// ParseSentence reads a condition as a sentence. ok is false where it says more than a sentence can.
func ParseSentence(text string) (s Sentence, ok bool) {
	s.Conditions = []Comparison{}
	if strings.TrimSpace(text) == "" {
		return s, true
	}
	parsed, iss := env.Parse(text)
	if iss.Err() != nil {
		return s, false
	}
	e := parsed.NativeRep().Expr()
	join := ""
	if e.Kind() == ast.CallKind {
		if f := e.AsCall().FunctionName(); f == operators.LogicalAnd || f == operators.LogicalOr {
			join = f
		}
	}
	s.Any = join == operators.LogicalOr
	ok = flatten(e, join, func(part ast.Expr) bool {
		c, ok := comparison(part)
		s.Conditions = append(s.Conditions, c)
		return ok
	})
	return s, ok
}

// flatten hands the parts of a chain of one operator to f.
func flatten(e ast.Expr, join string, f func(ast.Expr) bool) bool {
	if join != "" && e.Kind() == ast.CallKind && e.AsCall().FunctionName() == join {
		for _, a := range e.AsCall().Args() {
			if !flatten(a, join, f) {
				return false
			}
		}
		return true
	}
	return f(e)
}

func comparison(e ast.Expr) (Comparison, bool) {
	if e.Kind() == ast.IdentKind {
		i, ok := place[e.AsIdent()]
		return Comparison{e.AsIdent(), "is", []string{"true"}}, ok && fields[i].Type == "truth"
	}
	if e.Kind() != ast.CallKind {
		return Comparison{}, false
	}
	call := e.AsCall()
	name := call.FunctionName()
	if name == operators.LogicalNot {
		return negated(call.Args()[0])
	}
	if call.IsMemberFunction() {
		field, known := fieldOf(call.Target())
		if !known || field.Type != "text" || len(call.Args()) != 1 {
			return Comparison{}, false
		}
		v, ok := literal(call.Args()[0])
		is := map[string]string{"startsWith": "begins with", "contains": "contains"}[name]
		return Comparison{field.Name, is, []string{v}}, ok && is != ""
	}
	if len(call.Args()) != 2 {
		return Comparison{}, false
	}
	a, b := call.Args()[0], call.Args()[1]
	if name == operators.In {
		return oneOf(a, b)
	}
	field, known := fieldOf(a)
	v, ok := literal(b)
	is := map[string]string{operators.Equals: "is", operators.NotEquals: "is not", operators.Greater: "above",
		operators.GreaterEquals: "at least", operators.Less: "below", operators.LessEquals: "at most"}[name]
	return Comparison{field.Name, is, []string{v}}, known && ok && is != "" && slices.Contains(comparisons[field.Type], is) &&
		field.Type != "truth"
}

// oneOf reads "a in b": a list that contains a word, or a text that is one of some.
func oneOf(a, b ast.Expr) (Comparison, bool) {
	if field, known := fieldOf(b); known && field.Type == "list" {
		v, ok := literal(a)
		return Comparison{field.Name, "contains", []string{v}}, ok
	}
	field, known := fieldOf(a)
	if !known || field.Type != "text" || b.Kind() != ast.ListKind || b.AsList().Size() == 0 {
		return Comparison{}, false
	}
	c := Comparison{Field: field.Name, Is: "is one of"}
	for _, el := range b.AsList().Elements() {
		v, ok := literal(el)
		if !ok {
			return c, false
		}
		c.Values = append(c.Values, v)
	}
	return c, true
}

// negated reads the opposite of a comparison.
func negated(e ast.Expr) (Comparison, bool) {
	c, ok := comparison(e)
	if !ok {
		return c, false
	}
	switch {
	case c.Is == "is" && fields[place[c.Field]].Type == "truth" && c.Values[0] == "true":
		c.Values = []string{"false"}
	case c.Is == "is one of":
		c.Is = "is none of"
	case c.Is == "contains":
		c.Is = "does not contain"
	default:
		return c, false
	}
	return c, true
}

func fieldOf(e ast.Expr) (Field, bool) {
	if e.Kind() != ast.IdentKind {
		return Field{}, false
	}
	i, ok := place[e.AsIdent()]
	if !ok {
		return Field{}, false
	}
	return fields[i].Field, true
}

func literal(e ast.Expr) (string, bool) {
	if e.Kind() != ast.LiteralKind {
		return "", false
	}
	switch v := e.AsLiteral().Value().(type) {
	case string:
		return v, true
	case int64:
		return strconv.FormatInt(v, 10), true
	}
	return "", false
}
