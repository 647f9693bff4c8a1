package api

import (
	"context"
	"net/http"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/core/rules"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) ruleOf(ctx context.Context, r store.Rule) wire.Rule {
	out := wire.Rule{ID: r.ID, Position: r.Position, Name: r.Name, On: r.On,
		When: r.Condition, Then: r.Actions, Actions: []rules.Action{}, ChangedAt: at(r.ChangedAt), ChangedBy: a.called(ctx, r.ChangedBy),
		Revision: r.Revision}
	if err := rules.Check(r.Rule()); err != nil {
		out.Broken = err.Error()
	}
	if s, ok := rules.ParseSentence(r.Condition); ok {
		out.Sentence = &s
	}
	if list, err := rules.ParseActions(r.Actions); err == nil {
		out.Actions = list
	}
	return out
}

func (a *API) rulesRoutes() {
	op(a, person.Look, http.MethodGet, "/rules", "rules", "All rules, in the order in which they are applied", a.rules)
	op(a, person.Look, http.MethodGet, "/rules/words", "rule-words", "What conditions may look at, and what rules can do", a.ruleWords)
	op(a, person.Look, http.MethodPost, "/rules/read", "read-rule",
		"Turn a rule's text into a sentence, or a sentence into text; nothing is changed", a.readRule)
	op(a, person.SetUp, http.MethodPost, "/rules", "change-rule", "Add, change, move, switch or remove a rule", a.changeRule)
	op(a, person.WorkOrders, http.MethodPost, "/rules/rehearse", "rehearse",
		"What a change of the rules would have made of past orders; nothing is changed", a.rehearse)
}

func (a *API) ruleList(ctx context.Context) (*body[[]wire.Rule], error) {
	rows, err := a.relay.Store.Rules(ctx)
	out := make([]wire.Rule, len(rows))
	for i, r := range rows {
		out[i] = a.ruleOf(ctx, r)
	}
	return &body[[]wire.Rule]{out}, err
}

func (a *API) rules(ctx context.Context, _ *struct{}) (*body[[]wire.Rule], error) {
	return a.ruleList(ctx)
}

type words struct {
	Fields      []rules.Field       `json:"fields"`
	Comparisons map[string][]string `json:"comparisons" doc:"By type of field"`
	Actions     []rules.ActionKind  `json:"actions"`
}

func (a *API) ruleWords(ctx context.Context, _ *struct{}) (*body[words], error) {
	w := words{Fields: rules.Fields(), Comparisons: map[string][]string{}, Actions: rules.ActionKinds()}
	for _, t := range []string{"text", "number", "truth", "list"} {
		w.Comparisons[t] = rules.Comparisons(t)
	}
	return &body[words]{w}, nil
}

type ruleTextInput struct {
	Body struct {
		When     string          `json:"when,omitempty" doc:"A condition as text"`
		Then     string          `json:"then,omitempty" doc:"Actions as text"`
		Sentence *rules.Sentence `json:"sentence,omitempty" doc:"Or the condition as a sentence"`
		Actions  []rules.Action  `json:"actions,omitempty" doc:"Or the actions one by one"`
	}
}

type reading struct {
	When     string          `json:"when"`
	Then     string          `json:"then"`
	Sentence *rules.Sentence `json:"sentence,omitempty" doc:"Missing where the condition says more than a sentence can"`
	Actions  []rules.Action  `json:"actions"`
	Problem  string          `json:"problem,omitempty" doc:"Why it cannot be read"`
}

func (a *API) readRule(ctx context.Context, in *ruleTextInput) (*body[reading], error) {
	out := reading{When: in.Body.When, Then: in.Body.Then, Actions: []rules.Action{}}
	if in.Body.Sentence != nil {
		text, err := in.Body.Sentence.Text()
		if err != nil {
			out.Problem = err.Error()
		}
		out.When = text
	}
	if in.Body.Actions != nil {
		out.Then = rules.ActionsText(in.Body.Actions)
	}
	if s, ok := rules.ParseSentence(out.When); ok {
		out.Sentence = &s
	}
	if list, err := rules.ParseActions(out.Then); err == nil {
		out.Actions = list
	} else if out.Problem == "" {
		out.Problem = err.Error()
	}
	if err := rules.Check(rules.Rule{Name: "rule", When: out.When, Then: `tag("x")`}); err != nil && out.Problem == "" {
		out.Problem = err.Error()
	}
	return &body[reading]{out}, nil
}

type ruleChangeInput struct{ Body orders.RuleChange }

func (a *API) changeRule(ctx context.Context, in *ruleChangeInput) (*body[[]wire.Rule], error) {
	if _, err := a.relay.PutRule(ctx, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.ruleList(ctx)
}

type rehearseInput struct {
	Body struct {
		orders.RuleChange
		Orders int64 `json:"orders,omitempty" minimum:"0" maximum:"1000000" doc:"The newest so many; 0: 10,000"`
	}
}

func (a *API) rehearse(ctx context.Context, in *rehearseInput) (*body[wire.Rehearsed], error) {
	n := in.Body.Orders
	if n == 0 {
		n = 10_000
	}
	begin := time.Now()
	got, err := a.relay.Rehearse(ctx, in.Body.RuleChange, n)
	if err != nil {
		return nil, err
	}
	return &body[wire.Rehearsed]{wire.Rehearsed{Rehearsal: *got, TookMS: float64(time.Since(begin).Microseconds()) / 1000}}, nil
}
