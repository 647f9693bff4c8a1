package connector

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"cel.dev/cel-go/common/ast"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

// scope is what expressions of one place may name.
type scope struct {
	names []string                // variables that may have a value there
	msg   reflect.Type            // what msg is; nil: it is not looked at
	steps map[string]*stepAnswers // steps whose answers are known by then
}

// stepAnswers are the names under which a step's answer is kept; none where it is kept as it came.
type stepAnswers struct{ names []string }

// Names that are there in groups.
var (
	account    = []string{"secret", "settings", "site", "test"}
	answerVars = []string{"body", "status", "header"}
	sentVars   = []string{"msg", "batch", "ref"}
	recordVars = []string{"item", "event"}

	settingNames = []string{"time_zone", "sender", "price_list", "tax_name", "tax_permille", "prep_minutes", "anonymous"}
	callNames    = []string{"method", "path", "query", "body", "body_sha256", "time", "nonce", "signature"}
)

// at sets what the expressions that are compiled from now on may name.
func (l *language) at(groups ...[]string) { l.scope = scope{names: slices.Concat(groups...)} }

// and adds to what they may name.
func (l *language) and(groups ...[]string) {
	l.scope.names = slices.Concat(append([][]string{l.scope.names}, groups...)...)
}

// shapes of what is sent, by feed, and of what calls ask with.
var (
	sentShapes = map[message.Feed]reflect.Type{
		message.StockOut:     reflect.TypeFor[message.Offer](),
		message.ItemsOut:     reflect.TypeFor[message.Publication](),
		message.DispatchOut:  reflect.TypeFor[message.Dispatch](),
		message.AnswersOut:   reflect.TypeFor[message.OrderAnswer](),
		message.StatesOut:    reflect.TypeFor[message.OrderState](),
		message.CancelOut:    reflect.TypeFor[message.Cancellation](),
		message.RefundsOut:   reflect.TypeFor[message.Refund](),
		message.LabelsOut:    reflect.TypeFor[message.Parcel](),
		message.ReturnLabels: reflect.TypeFor[message.Parcel](),
		message.VoidsOut:     reflect.TypeFor[message.LabelVoid](),
		message.HandoversOut: reflect.TypeFor[message.Handover](),
		message.RequestsOut:  reflect.TypeFor[message.Request](),
		message.RequestStops: reflect.TypeFor[message.RequestStop](),
	}
	askedShapes = map[string]reflect.Type{
		"rates": reflect.TypeFor[message.Parcel](), "tariff": reflect.TypeFor[freight.Tariff](),
		"address": reflect.TypeFor[place.Address](), "document": reflect.TypeFor[message.Label](),
		"points": reflect.TypeFor[place.Address](),
	}
)

// never says why a name of an expression can have no value where it stands; "": it can.
func (l *language) never(x ast.Expr, shadowed []string) string {
	switch x.Kind() {
	case ast.IdentKind:
		return l.neverName(x.AsIdent(), shadowed)
	case ast.SelectKind:
		if chain := chainOf(x); chain != nil && !slices.Contains(shadowed, chain[0]) {
			return l.neverPath(chain)
		}
		return l.never(x.AsSelect().Operand(), shadowed)
	case ast.ComprehensionKind:
		c := x.AsComprehension()
		if why := l.never(c.IterRange(), shadowed); why != "" {
			return why
		}
		inside := append(slices.Clone(shadowed), c.IterVar(), c.IterVar2(), c.AccuVar())
		return l.firstNever([]ast.Expr{c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()}, inside)
	}
	return l.firstNever(partsOf(x), shadowed)
}

func (l *language) firstNever(list []ast.Expr, shadowed []string) string {
	for _, x := range list {
		if why := l.never(x, shadowed); why != "" {
			return why
		}
	}
	return ""
}

// partsOf lists the expressions that a call, a list or a map is made of.
func partsOf(x ast.Expr) (out []ast.Expr) {
	switch x.Kind() {
	case ast.CallKind:
		if x.AsCall().IsMemberFunction() {
			out = append(out, x.AsCall().Target())
		}
		return append(out, x.AsCall().Args()...)
	case ast.ListKind:
		return x.AsList().Elements()
	case ast.MapKind:
		for _, e := range x.AsMap().Entries() {
			out = append(out, e.AsMapEntry().Key(), e.AsMapEntry().Value())
		}
	}
	return out
}

// chainOf takes a.b.c apart; nil where it does not begin with a name.
func chainOf(x ast.Expr) []string {
	switch x.Kind() {
	case ast.IdentKind:
		return []string{x.AsIdent()}
	case ast.SelectKind:
		if of := chainOf(x.AsSelect().Operand()); of != nil {
			return append(of, x.AsSelect().FieldName())
		}
	}
	return nil
}

func (l *language) neverName(name string, shadowed []string) string {
	if slices.Contains(shadowed, name) || slices.Contains(l.loops, name) || !slices.Contains(names, name) ||
		slices.Contains(l.scope.names, name) {
		return ""
	}
	known := slices.Concat(l.scope.names, l.loops)
	slices.Sort(known)
	return fmt.Sprintf("%s has no value here; there are: %s", name, strings.Join(slices.Compact(known), ", "))
}

// neverPath says why a.b.c can have no value.
func (l *language) neverPath(chain []string) string {
	if why := l.neverName(chain[0], nil); why != "" || slices.Contains(l.loops, chain[0]) {
		return why
	}
	var of []string
	switch chain[0] {
	case "settings":
		of = settingNames
	case "call":
		of = callNames
	case "secret":
		of = l.fields
	case "steps":
		return l.neverStep(chain)
	case "msg":
		return neverField(l.scope.msg, chain)
	default:
		return ""
	}
	if !slices.Contains(of, chain[1]) {
		return fmt.Sprintf("%s has no %s; it has: %s", chain[0], chain[1], strings.Join(of, ", "))
	}
	return ""
}

func (l *language) neverStep(chain []string) string {
	step := l.scope.steps[chain[1]]
	switch {
	case step == nil:
		return fmt.Sprintf("there is no step %s before this; there are: %s", chain[1], strings.Join(sortedKeys(l.scope.steps), ", "))
	case len(chain) > 2 && !slices.Contains(step.names, chain[2]):
		return fmt.Sprintf("step %s has no %s; it has: %s", chain[1], chain[2], strings.Join(step.names, ", "))
	}
	return ""
}

// neverField follows the fields of a message of ours.
func neverField(t reflect.Type, chain []string) string {
	for i, name := range chain[1:] {
		if t == nil || t.Kind() != reflect.Struct || t == timeType {
			return ""
		}
		fields := jsonFields(t)
		at, ok := fields[name]
		if !ok {
			return fmt.Sprintf("%s has no %s; it has: %s", strings.Join(chain[:i+1], "."), name, strings.Join(sortedKeys(fields), ", "))
		}
		t = t.Field(at).Type
	}
	return ""
}
