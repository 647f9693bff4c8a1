// Package rules decides by rules that people write: when an order arrives and a condition over what is
// known of it holds, then tag it, hold it, choose where it ships from. It knows nothing of how orders are
// kept; it is handed facts and returns what to do, so that the same rules can be rehearsed on the past.
//
// A condition is an expression of the Common Expression Language over the fields listed by Fields. Those
// that are simple comparisons, joined by all or any, can be read and written as sentences (see Sentence).
package rules

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/checker"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/interpreter"
)

// Rule is one rule as a person wrote it.
type Rule struct {
	ID   int64  `json:"id"`
	Name string `json:"name"`
	On   bool   `json:"on"`
	When string `json:"when" doc:"Condition in CEL; empty: every order"`
	Then string `json:"then" doc:"Actions, such as tag(\"export\"), hold(\"look at the papers\")"`
}

// Field is something a condition may look at.
type Field struct {
	Name  string `json:"name"`
	Type  string `json:"type" enum:"text,number,truth,list"`
	Label string `json:"label" doc:"How a sentence names it"`
	Unit  string `json:"unit,omitempty" doc:"amount: minor units; g: grams; text lists what may stand there"`
}

// fields lists what conditions may look at, and how it is had from the facts.
var fields = []struct {
	Field
	of func(*view) ref.Val
}{
	{Field{"channel", "text", "the channel", "connection"}, func(v *view) ref.Val { return types.String(v.f.Channel) }},
	{Field{"state", "text", "the channel's state", ""}, func(v *view) ref.Val { return types.String(v.f.State) }},
	{Field{"kind", "text", "the kind of order", "kind"}, func(v *view) ref.Val { return types.String(v.f.Kind) }},
	{Field{"fulfilled_by", "text", "who fulfils it", ""}, func(v *view) ref.Val { return types.String(v.f.FulfilledBy) }},
	{Field{"service", "text", "the wished service", ""}, func(v *view) ref.Val { return types.String(v.f.Service) }},
	{Field{"payment", "text", "the method of payment", ""}, func(v *view) ref.Val { return types.String(v.f.Payment) }},
	{Field{"paid", "truth", "it is paid", ""}, func(v *view) ref.Val { return types.Bool(v.f.Paid) }},
	{Field{"currency", "text", "the currency", ""}, func(v *view) ref.Val { return types.String(v.f.Currency) }},
	{Field{"total", "number", "the total", "amount"}, func(v *view) ref.Val { return types.Int(v.f.Total) }},
	{Field{"goods", "number", "the value of the goods", "amount"}, func(v *view) ref.Val { return types.Int(v.f.Goods) }},
	{Field{"shipping", "number", "what was paid for shipping", "amount"}, func(v *view) ref.Val { return types.Int(v.f.Shipping) }},
	{Field{"weight", "number", "the weight", "g"}, func(v *view) ref.Val { return types.Int(v.f.Weight) }},
	{Field{"units", "number", "the number of units", ""}, func(v *view) ref.Val { return types.Int(v.f.Units) }},
	{Field{"lines", "number", "the number of lines", ""}, func(v *view) ref.Val { return types.Int(v.f.Lines) }},
	{Field{"country", "text", "the country", ""}, func(v *view) ref.Val { return types.String(v.f.Country) }},
	{Field{"postcode", "text", "the postcode", ""}, func(v *view) ref.Val { return types.String(v.f.Postcode) }},
	{Field{"town", "text", "the town", ""}, func(v *view) ref.Val { return types.String(v.f.Town) }},
	{Field{"company", "text", "the company of the address", ""}, func(v *view) ref.Val { return types.String(v.f.Company) }},
	{Field{"buyer", "text", "the buyer's name", ""}, func(v *view) ref.Val { return types.String(v.f.Buyer) }},
	{Field{"email", "text", "the buyer's e-mail", ""}, func(v *view) ref.Val { return types.String(v.f.Email) }},
	{Field{"returning", "truth", "the buyer bought before", ""}, func(v *view) ref.Val { return types.Bool(v.f.Returning) }},
	{Field{"note", "text", "the note", ""}, func(v *view) ref.Val { return types.String(v.f.Note) }},
	{Field{"via", "text", "how it came in", ""}, func(v *view) ref.Val { return types.String(v.f.Via) }},
	{Field{"skus", "list", "the SKUs", ""}, func(v *view) ref.Val { return texts(v.f.SKUs) }},
	{Field{"categories", "list", "the groups of its items", ""}, func(v *view) ref.Val { return texts(v.f.Categories) }},
	{Field{"marks", "list", "the marks of its items", ""}, func(v *view) ref.Val { return texts(v.f.Marks) }},
	{Field{"tags", "list", "the tags", ""}, func(v *view) ref.Val { return texts(v.tags) }},
}

// Fields lists what conditions may look at.
func Fields() []Field {
	out := make([]Field, len(fields))
	for i, f := range fields {
		out[i] = f.Field
	}
	return out
}

func texts(list []string) ref.Val { return types.NewStringList(types.DefaultTypeAdapter, list) }

var place = func() map[string]int {
	m := map[string]int{}
	for i, f := range fields {
		m[f.Name] = i
	}
	return m
}()

// view is an order as a condition sees it: its facts, and the tags that rules before have given it.
type view struct {
	f    *Facts
	tags []string
}

// ResolveName finds a field.
func (v *view) ResolveName(name string) (any, bool) {
	i, ok := place[name]
	if !ok {
		return nil, false
	}
	return fields[i].of(v), true
}

// Parent ends the search.
func (v *view) Parent() interpreter.Activation { return nil }

var env = func() *cel.Env {
	var opts []cel.EnvOption
	for _, f := range fields {
		t := map[string]*cel.Type{"text": cel.StringType, "number": cel.IntType, "truth": cel.BoolType,
			"list": cel.ListType(cel.StringType)}[f.Type]
		opts = append(opts, cel.Variable(f.Name, t))
	}
	e, err := cel.NewEnv(opts...)
	if err != nil {
		panic(err)
	}
	return e
}()

// Limits of what a person may write.
const (
	maxText = 2000
	maxCost = 2_000_000 // of the worst order there may be, in the units of CEL's estimate
)

// sizes tells the estimate how long texts and lists may be.
type sizes struct{}

func (sizes) EstimateSize(n checker.AstNode) *checker.SizeEstimate {
	if len(n.Path()) == 1 {
		if i, ok := place[n.Path()[0]]; ok && fields[i].Type == "list" {
			return &checker.SizeEstimate{Min: 0, Max: 1000}
		}
	}
	return &checker.SizeEstimate{Min: 0, Max: 200}
}

func (sizes) EstimateCallCost(string, string, *checker.AstNode, []checker.AstNode) *checker.CallEstimate {
	return nil
}

// ErrRule is wrapped by what is wrong with a rule's text.
var ErrRule = errors.New("the rule cannot be read")

// condition is a condition ready to be asked.
type condition struct{ prg cel.Program }

func compileWhen(text string) (condition, error) {
	if strings.TrimSpace(text) == "" {
		return condition{}, nil
	}
	if len(text) > maxText {
		return condition{}, fmt.Errorf("%w: its condition has more than %d characters", ErrRule, maxText)
	}
	ast, iss := env.Compile(text)
	if iss.Err() != nil {
		e := iss.Errors()[0]
		return condition{}, fmt.Errorf("%w: condition, character %d: %s", ErrRule, e.Location.Column()+1, e.Message)
	}
	if ast.OutputType() != cel.BoolType {
		return condition{}, fmt.Errorf("%w: its condition is a %s; true or false is expected", ErrRule, ast.OutputType())
	}
	cost, err := env.EstimateCost(ast, sizes{})
	if err != nil || cost.Max > maxCost {
		return condition{}, fmt.Errorf("%w: its condition could take too long for a large order", ErrRule)
	}
	prg, err := env.Program(ast, cel.EvalOptions(cel.OptOptimize))
	if err != nil {
		return condition{}, fmt.Errorf("%w: %v", ErrRule, err)
	}
	return condition{prg}, nil
}

// holds tells whether the condition holds. One that fails on an order, such as by dividing by nothing, does not.
func (c condition) holds(v *view) bool {
	if c.prg == nil {
		return true
	}
	out, _, err := c.prg.Eval(v)
	return err == nil && out == types.True
}

// Outcome is what rules decided about an order. What is empty was not decided.
type Outcome struct {
	Location string   `json:"location,omitempty" doc:"Code of the location to ship from"`
	Weigh    string   `json:"weigh,omitempty" doc:"Name of the exception of the routing policy that it is planned by"`
	Profile  string   `json:"profile,omitempty" doc:"Code of a parcel profile"`
	Service  string   `json:"service,omitempty" doc:"Carrier's service"`
	Account  string   `json:"account,omitempty" doc:"Code of the account on which the carrier is paid"`
	Insure   string   `json:"insure,omitempty" doc:"What its parcels are insured for"                  enum:",its value,nothing"`
	Split    string   `json:"split,omitempty" enum:",never,allowed"`
	Carry    string   `json:"carry,omitempty" doc:"How far it goes without a person"                 enum:",create,approve,pick,pack,ship,invoice"`
	Tags     []string `json:"tags,omitempty"`
	Holds    []string `json:"holds,omitempty" doc:"Why it is held"`
	Notes    []string `json:"notes,omitempty"`
}

// Equal tells whether two outcomes decide the same.
func (o *Outcome) Equal(p *Outcome) bool {
	return o.Location == p.Location && o.Weigh == p.Weigh && o.Profile == p.Profile && o.Service == p.Service && o.Split == p.Split &&
		o.Carry == p.Carry &&
		o.Account == p.Account && o.Insure == p.Insure &&
		slices.Equal(o.Tags, p.Tags) &&
		slices.Equal(o.Holds, p.Holds) &&
		slices.Equal(o.Notes, p.Notes)
}

// Differences says in words what another outcome decides differently.
func (o *Outcome) Differences(to *Outcome) []string {
	var out []string
	for _, f := range []struct{ what, was, is string }{
		{"location", o.Location, to.Location}, {"planned by", o.Weigh, to.Weigh}, {"profile", o.Profile, to.Profile}, {"service", o.Service,
			to.Service},
		{"account", o.Account, to.Account}, {"insured for", o.Insure, to.Insure},
		{"split", o.Split, to.Split}, {"goes without a person as far as", o.Carry, to.Carry},
	} {
		switch {
		case f.was == f.is:
		case f.was == "":
			out = append(out, fmt.Sprintf("%s %s", f.what, f.is))
		case f.is == "":
			out = append(out, fmt.Sprintf("no %s (was %s)", f.what, f.was))
		default:
			out = append(out, fmt.Sprintf("%s %s (was %s)", f.what, f.is, f.was))
		}
	}
	for _, f := range []struct {
		what    string
		was, is []string
	}{{"tag", o.Tags, to.Tags}, {"hold:", o.Holds, to.Holds}, {"note:", o.Notes, to.Notes}} {
		for _, s := range f.is {
			if !slices.Contains(f.was, s) {
				out = append(out, f.what+" "+s)
			}
		}
		for _, s := range f.was {
			if !slices.Contains(f.is, s) {
				out = append(out, "no "+f.what+" "+s)
			}
		}
	}
	return out
}

// Touch is what one rule did to an order.
type Touch struct {
	Rule    int64    `json:"rule"`
	Name    string   `json:"name"`
	Changes []string `json:"changes"`
}

// Set is rules in their order, ready to decide.
type Set struct {
	rules []compiled
}

type compiled struct {
	Rule
	when condition
	then []Action
}

// NewSet makes a set of those rules that are on, in their order. The error names the first that cannot be read.
func NewSet(list []Rule) (*Set, error) {
	s := &Set{}
	for _, r := range list {
		if !r.On {
			continue
		}
		c, err := compile(r)
		if err != nil {
			return nil, err
		}
		s.rules = append(s.rules, c)
	}
	return s, nil
}

func compile(r Rule) (compiled, error) {
	when, err := compileWhen(r.When)
	if err != nil {
		return compiled{}, fmt.Errorf("rule %q: %w", r.Name, err)
	}
	then, err := ParseActions(r.Then)
	if err != nil {
		return compiled{}, fmt.Errorf("rule %q: %w", r.Name, err)
	}
	return compiled{r, when, then}, nil
}

// Check tells whether a rule can be read. Locations, profiles and the like are not looked up.
func Check(r Rule) error {
	if strings.TrimSpace(r.Name) == "" || len(r.Name) > 120 {
		return fmt.Errorf("%w: a name of 1 to 120 characters is needed", ErrRule)
	}
	_, err := compile(r)
	return err
}

// Len is the number of rules that decide.
func (s *Set) Len() int { return len(s.rules) }

// Decide applies the rules to an order, one after the other: what an earlier one tagged, a later one sees.
// Later decisions replace earlier ones; tags, holds and notes add up. tags are those the order has already.
func (s *Set) Decide(f *Facts, tags []string) (Outcome, []Touch) {
	var out Outcome
	var touched []Touch
	v := view{f: f, tags: tags}
	for i := range s.rules {
		r := &s.rules[i]
		if !r.when.holds(&v) {
			continue
		}
		t := Touch{Rule: r.ID, Name: r.Name}
		for _, a := range r.then {
			if text := a.apply(&out, &v); text != "" {
				t.Changes = append(t.Changes, text)
			}
		}
		touched = append(touched, t)
	}
	return out, touched
}

// outcome is Decide without the words, for rehearsing.
func (s *Set) outcome(v *view, out *Outcome) {
	for i := range s.rules {
		r := &s.rules[i]
		if !r.when.holds(v) {
			continue
		}
		for _, a := range r.then {
			a.apply(out, v)
		}
	}
}
