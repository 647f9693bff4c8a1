package connector

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
)

// Step is a call that comes before another one, which uses what it answered.
type Step struct {
	Name    string          `yaml:"name"`
	When    Expr            `yaml:"when"` // without it always
	Request Request         `yaml:"request"`
	Takes   []int           `yaml:"takes"`  // status codes beyond 299 that are an answer, too, such as 404
	Answer  map[string]Expr `yaml:"answer"` // what is kept, by name; without it status, header and body
}

// reads tells whether a step changes nothing at the other side.
func (s *Step) reads() bool {
	return s.Request.Method == http.MethodGet || s.Request.Method == http.MethodHead
}

// compileSteps prepares the steps before a request, in their order: each may use the answers of those before it.
func (l *language) compileSteps(list []Step, what string) {
	before := l.scope
	known := map[string]*stepAnswers{}
	for i := range list {
		s := &list[i]
		at := what + ".steps." + s.Name
		l.scope = before
		l.scope.steps = maps.Clone(known)
		l.and([]string{"steps"})
		if known[s.Name] != nil {
			l.complain(s.When.Line, s.When.Column, at, "a step before has the same name")
		}
		if len(s.Request.Steps) > 0 {
			l.complain(s.When.Line, s.When.Column, at, "a step has no steps of its own")
		}
		l.compile(&s.When, at+".when")
		s.Request.compile(l, at+".request")
		l.and(answerVars)
		l.compileAll(s.Answer, at+".answer")
		known[s.Name] = &stepAnswers{sortedKeys(s.Answer)}
		if len(s.Answer) == 0 {
			known[s.Name].names = slices.Clone(answerVars)
		}
	}
	l.scope = before
	l.scope.steps = known
	l.and([]string{"steps"})
}

// steps carries out the steps before a request, once for the variables: further pages and the request itself see what they
// answered.
func (l *Line) steps(ctx context.Context, r *Request, v Vars) error {
	if len(r.Steps) == 0 || v["steps"] != nil {
		return nil
	}
	known, harmless := map[string]any{}, true
	inside := maps.Clone(v)
	inside["steps"] = known
	for i := range r.Steps {
		s := &r.Steps[i]
		if s.When.Set() {
			if on, err := s.When.Eval(inside); err != nil {
				return &Failure{Text: fmt.Sprintf("step %s: %v", s.Name, err), Unsent: harmless}
			} else if on != true {
				continue
			}
		}
		harmless = harmless && s.reads()
		kept, err := l.step(ctx, s, inside)
		if err != nil {
			var f *Failure
			if errors.As(err, &f) {
				f.Text, f.Before = "step "+s.Name+": "+f.Text, harmless
				return f
			}
			return err
		}
		known[s.Name] = kept
	}
	v["steps"] = known
	return nil
}

// step carries out one step and returns what is kept of its answer.
func (l *Line) step(ctx context.Context, s *Step, v Vars) (map[string]any, error) {
	said := maps.Clone(v)
	a, err := l.do(ctx, &s.Request, v, page{})
	var f *Failure
	switch {
	case err == nil:
		if err := said.answered(a, s.Request.Format); err != nil {
			return nil, err
		}
	case errors.As(err, &f) && f.answer != nil && slices.Contains(s.Takes, f.Status):
		maps.Copy(said, f.answer)
	default:
		return nil, err
	}
	if len(s.Answer) == 0 {
		return map[string]any{"status": said["status"], "header": said["header"], "body": said["body"]}, nil
	}
	kept := map[string]any{}
	for _, name := range sortedKeys(s.Answer) {
		e := s.Answer[name]
		out, err := e.Eval(said)
		if err != nil {
			return nil, &Failure{Text: fmt.Sprintf("%s: %v", name, err)}
		}
		if out != nil {
			kept[name] = out
		}
	}
	return kept, nil
}

// answered adds an answer to the variables.
func (v Vars) answered(a *answer, format Format) error {
	v["status"], v["header"] = int64(a.status), headerVars(a.header)
	if len(a.raw) == 0 {
		delete(v, "body")
		return nil
	}
	body, err := format.read(a.raw)
	if err != nil {
		return &Failure{Text: err.Error(), Temporary: true}
	}
	v["body"] = body
	return nil
}

// readSteps carries out the steps before a request where they change nothing; otherwise it returns the first that would.
func (l *Line) readSteps(ctx context.Context, r *Request, v Vars) (writes *Step, err error) {
	for i := range r.Steps {
		if !r.Steps[i].reads() {
			return &r.Steps[i], nil
		}
	}
	return nil, l.steps(ctx, r, v)
}
