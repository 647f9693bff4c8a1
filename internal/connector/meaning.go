package connector

import (
	"errors"
	"fmt"
	"maps"
	"net/http"
	"time"

	"go.yaml.in/yaml/v3"
)

// Meaning says what an answer means that would otherwise be told by its status alone.
type Meaning struct {
	When  Expr     `yaml:"when"`
	Means string   `yaml:"means"` // one of those below; refused where it is not said
	After Duration `yaml:"after"` // of wait: at least so long
	Field string   `yaml:"field"` // which field of a label's parcel it speaks of, such as to.name
	Say   string   `yaml:"say"`   // added to what the other side says
}

// What an answer may mean.
const (
	MeansAgain   = "again"   // it changed meanwhile: read anew and said again at once
	MeansDone    = "done"    // it is so already
	MeansWait    = "wait"    // not now; tried again later
	MeansRefused = "refused" // not taken; a person is asked
)

// timesAgain is how often an answer that asks for it is read anew at once; after that the message waits for its next attempt.
const timesAgain = 3

// Says is where an error answer tells people what is wrong, and of which field of ours or theirs it speaks.
type Says struct {
	Text  Expr `yaml:"text"`
	Field Expr `yaml:"field"`
}

// UnmarshalYAML reads an expression for the text, or a mapping.
func (s *Says) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		return n.Decode(&s.Text)
	}
	type plain Says
	return n.Decode((*plain)(s))
}

// words are those of an answer for people, or nothing.
func (s *Says) words(v Vars) string {
	text, err := s.Text.String(v)
	if err != nil || text == "" {
		return ""
	}
	if field, err := s.Field.String(v); err == nil && field != "" {
		text += " (" + field + ")"
	}
	return short(text)
}

// meant finds what an answer means by the definition; nil where it says nothing of it.
func (s *Send) meant(v Vars) *Meaning {
	for i := range s.Answers {
		if hit, err := s.Answers[i].When.Eval(v); err == nil && hit == true {
			return &s.Answers[i]
		}
	}
	return nil
}

// failure is what an answer with this meaning comes to; was is the failure by its status, nil where that is none.
func (m *Meaning) failure(l *Line, r *Request, v Vars, was error) error {
	var f *Failure
	if !errors.As(was, &f) {
		words := l.Def.Says.words(v)
		if words == "" {
			words = said(v["body"])
		}
		status, _ := v["status"].(int64)
		f = &Failure{Status: int(status), Said: l.Blank(words)}
		f.Text = fmt.Sprintf("%s %s: answered %d %s", r.Method, r.Path, f.Status, http.StatusText(f.Status))
		if f.Said != "" {
			f.Text += ": " + f.Said
		}
	}
	f.Means, f.Wrong = m.Means, m.Field
	if m.Say != "" {
		f.Text += ". " + m.Say
	}
	f.Temporary = m.Means == MeansWait || m.Means == MeansAgain
	f.RetryAfter = max(f.RetryAfter, time.Duration(m.After))
	return f
}

// hear takes what an answer of a request that sends means. It tells whether it is to be said again at once.
func (s *Send) hear(l *Line, v Vars, a *answer, err error, times int) (again bool, m *Meaning, _ error) {
	var f *Failure
	switch {
	case err == nil:
		if err = v.answered(a, s.Request.Format); err != nil {
			return false, nil, err
		}
	case errors.As(err, &f) && f.answer != nil && !f.Before:
		maps.Copy(v, f.answer)
	default:
		return false, nil, err
	}
	m = s.meant(v)
	switch {
	case m == nil:
		return false, nil, err
	case m.Means == MeansDone:
		return false, m, nil
	case m.Means == MeansAgain && times < timesAgain:
		return true, m, nil
	}
	return false, m, m.failure(l, &s.Request, v, err)
}
