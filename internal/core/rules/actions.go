package rules

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
)

// Action is one thing that a rule does.
type Action struct {
	Do    string `json:"do" enum:"tag,hold,note,location,weigh,profile,service,account,insure,split,carry"`
	Value string `json:"value"`
}

// ActionKind is something a rule can do.
type ActionKind struct {
	Do     string   `json:"do"`
	Label  string   `json:"label" doc:"How a sentence names it"`
	Values []string `json:"values,omitempty" doc:"What may be given, where it is not free"`
}

// ItsValue insures a parcel for what the goods in it were sold for.
const ItsValue = "its value"

// Steps are how far an order may go without a person, each beyond the one before.
var Steps = []string{"create", "approve", "pick", "pack", "ship", "invoice"}

var actionKinds = []ActionKind{
	{Do: "tag", Label: "tag it"},
	{Do: "hold", Label: "hold it for a person, because"},
	{Do: "note", Label: "note"},
	{Do: "location", Label: "ship it from"},
	{Do: "weigh", Label: "plan it by the exception"},
	{Do: "profile", Label: "pack it into"},
	{Do: "service", Label: "send it by"},
	{Do: "account", Label: "let its carrier be paid by account"},
	{Do: "insure", Label: "insure its parcels for", Values: []string{ItsValue, "nothing"}},
	{Do: "split", Label: "splitting it over locations is", Values: []string{"never", "allowed"}},
	{Do: "carry", Label: "without a person it goes as far as", Values: Steps},
}

// ActionKinds lists what rules can do.
func ActionKinds() []ActionKind { return slices.Clone(actionKinds) }

var actionEnv = func() *cel.Env {
	e, err := cel.NewCustomEnv()
	if err != nil {
		panic(err)
	}
	return e
}()

// ParseActions reads actions as they are written: calls with one text each, separated by commas.
func ParseActions(text string) ([]Action, error) {
	if len(text) > maxText {
		return nil, fmt.Errorf("%w: its actions have more than %d characters", ErrRule, maxText)
	}
	parsed, iss := actionEnv.Parse("[" + text + "]")
	if iss.Err() != nil {
		return nil, fmt.Errorf("%w: actions: %s", ErrRule, iss.Errors()[0].Message)
	}
	list := parsed.NativeRep().Expr()
	if list.Kind() != ast.ListKind || len(list.AsList().Elements()) == 0 {
		return nil, fmt.Errorf("%w: it does nothing; actions are such as tag(\"export\")", ErrRule)
	}
	var out []Action
	for _, e := range list.AsList().Elements() {
		if e.Kind() != ast.CallKind || e.AsCall().IsMemberFunction() || len(e.AsCall().Args()) != 1 ||
			e.AsCall().Args()[0].Kind() != ast.LiteralKind {
			return nil, fmt.Errorf("%w: each action is a word with one text, such as tag(\"export\")", ErrRule)
		}
		value, ok := e.AsCall().Args()[0].AsLiteral().Value().(string)
		if !ok {
			return nil, fmt.Errorf("%w: %s takes a text in quotes", ErrRule, e.AsCall().FunctionName())
		}
		a := Action{e.AsCall().FunctionName(), strings.TrimSpace(value)}
		if err := a.check(); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

func (a Action) check() error {
	i := slices.IndexFunc(actionKinds, func(k ActionKind) bool { return k.Do == a.Do })
	if i < 0 {
		var known []string
		for _, k := range actionKinds {
			known = append(known, k.Do)
		}
		return fmt.Errorf("%w: there is no action %q; there are %s", ErrRule, a.Do, strings.Join(known, ", "))
	}
	if a.Value == "" || len(a.Value) > 200 {
		return fmt.Errorf("%w: %s needs a text of 1 to 200 characters", ErrRule, a.Do)
	}
	if v := actionKinds[i].Values; v != nil && !slices.Contains(v, a.Value) {
		return fmt.Errorf("%w: %s takes one of %s", ErrRule, a.Do, strings.Join(v, ", "))
	}
	return nil
}

// ActionsText writes actions as ParseActions reads them.
func ActionsText(list []Action) string {
	out := make([]string, len(list))
	for i, a := range list {
		out[i] = a.Do + "(" + strconv.Quote(a.Value) + ")"
	}
	return strings.Join(out, ", ")
}

// apply carries the action out on an outcome, and says what it changed.
func (a Action) apply(out *Outcome, v *view) string {
	set := func(field *string, what string) string {
		was := *field
		*field = a.Value
		if was != "" && was != a.Value {
			return fmt.Sprintf("%s %s instead of %s", what, a.Value, was)
		}
		return what + " " + a.Value
	}
	add := func(list *[]string, what string) string {
		if slices.Contains(*list, a.Value) {
			return ""
		}
		*list = append(slices.Clip(*list), a.Value) // a rehearsal shares what is before
		return what + " " + a.Value
	}
	switch a.Do {
	case "tag":
		if slices.Contains(v.tags, a.Value) {
			return ""
		}
		v.tags = append(slices.Clip(v.tags), a.Value)
		return add(&out.Tags, "tag")
	case "hold":
		return add(&out.Holds, "held:")
	case "note":
		return add(&out.Notes, "note:")
	case "location":
		return set(&out.Location, "location")
	case "weigh":
		return set(&out.Weigh, "planned by")
	case "profile":
		return set(&out.Profile, "profile")
	case "service":
		return set(&out.Service, "service")
	case "account":
		return set(&out.Account, "account")
	case "insure":
		return set(&out.Insure, "insured for")
	case "split":
		return set(&out.Split, "splitting")
	case "carry":
		return set(&out.Carry, "goes as far as")
	}
	return ""
}
