package connector

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"reflect"
	"strings"
	"time"

	"openrelay/internal/core/message"
)

// Sent is what the other side answered.
type Sent struct {
	Results    []Result // per message of a batch; nil where there are none
	Answer     any      // of a single message, mapped
	Submission string   // number of a batch whose report comes later
}

// Send sends messages of one feed in one request. ref is our idempotency reference for the request.
func (l *Line) Send(ctx context.Context, kind message.Feed, ref string, msgs []any) (Sent, error) {
	f, v, err := l.ready(kind, ref, msgs)
	if err != nil {
		return Sent{}, err
	}
	a, err := l.do(ctx, &f.Send.Request, v, page{})
	if err != nil {
		return Sent{}, f.Send.wrong(v, err)
	}
	if len(a.raw) > 0 {
		if v["body"], err = f.Send.Request.Format.read(a.raw); err != nil {
			return Sent{}, &Failure{Text: err.Error(), Temporary: true}
		}
	}
	var out Sent
	unclear := func(err error) error { return &Failure{Text: "the answer: " + err.Error(), Temporary: true} }
	if f.Send.results != nil {
		list, err := f.Send.results.run(v)
		if err != nil {
			return out, unclear(err)
		}
		out.Results = *list.(*[]Result)
	}
	if f.Send.answer != nil {
		if out.Answer, err = f.Send.answer.run(v); err != nil {
			return out, unclear(err)
		}
	}
	if f.Send.Report != nil {
		if s, ok := out.Answer.(*SendAnswer); ok {
			out.Submission = s.Submission
		}
		if out.Submission == "" {
			return out, unclear(errors.New("it does not tell the number of the submission"))
		}
	}
	return out, nil
}

// ready prepares what Send and Prepare have in common.
func (l *Line) ready(kind message.Feed, ref string, msgs []any) (*Feed, Vars, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.Send == nil {
		return nil, nil, &Failure{Text: fmt.Sprintf("%s has no way to send %s", l.Def.Title, kind), Unsent: true}
	}
	list, err := toPlain(msgs)
	if err != nil {
		return nil, nil, err
	}
	v := l.vars()
	v["batch"], v["ref"], v["msg"] = list, ref, list[0]
	if no := refuses(f.Require, v); no != nil {
		return nil, nil, no
	}
	return f, v, nil
}

// wrong adds to a refusal which field of what was sent it speaks of, where the definition can tell.
func (s *Send) wrong(v Vars, err error) error {
	var f *Failure
	if !errors.As(err, &f) || f.answer == nil {
		return err
	}
	v = maps.Clone(v)
	maps.Copy(v, f.answer)
	for i := range s.Refusals {
		r := &s.Refusals[i]
		if hit, err := r.When.Eval(v); err == nil && hit == true {
			f.Wrong = r.Field
			if r.Say != "" {
				f.Text += ". " + r.Say
			}
			break
		}
	}
	return err
}

// Prepare shows the request that Send would make, without making it.
func (l *Line) Prepare(ctx context.Context, kind message.Feed, ref string, msgs []any) (Exchange, error) {
	f, v, err := l.ready(kind, ref, msgs)
	if err != nil {
		return Exchange{}, err
	}
	req, body, err := l.build(ctx, &f.Send.Request, v, page{}, l.login.Token().Access)
	if err != nil {
		return Exchange{}, err
	}
	return l.exchange(req, body), nil
}

// Subject is what the results of a batch call a message.
func (l *Line) Subject(kind message.Feed, msg json.RawMessage) string {
	list, err := toPlain([]any{msg})
	if err != nil {
		return ""
	}
	if f := l.Def.Feeds[kind]; f != nil && f.Send != nil && f.Send.Subject.Set() {
		s, err := f.Send.Subject.String(Vars{"msg": list[0]})
		if err == nil {
			return s
		}
	}
	return textOf(dig(list[0], "sku"))
}

// Reports tells how a feed's submissions are reported on; nil where they are not.
func (l *Line) Reports(kind message.Feed) *Report {
	if f := l.Def.Feeds[kind]; f != nil && f.Send != nil {
		return f.Send.Report
	}
	return nil
}

// Report asks what became of a submission. ready is false while the other side is still at it.
func (l *Line) Report(ctx context.Context, kind message.Feed, submission string) (results []Result, ready bool, err error) {
	p := l.Reports(kind)
	if p == nil {
		return nil, false, &Failure{Text: fmt.Sprintf("%s does not report on %s", l.Def.Title, kind), Unsent: true}
	}
	v := l.vars()
	v["submission"] = submission
	a, err := l.do(ctx, &p.Request, v, page{})
	if err != nil {
		return nil, false, err
	}
	if v["body"], err = p.Request.Format.read(a.raw); err != nil {
		return nil, false, &Failure{Text: err.Error(), Temporary: true}
	}
	done, err := p.Ready.Eval(v)
	if err != nil {
		return nil, false, &Failure{Text: "the report: " + err.Error(), Temporary: true}
	}
	if done != true {
		return nil, false, nil
	}
	list, err := p.results.run(v)
	if err != nil {
		return nil, false, &Failure{Text: "the report: " + err.Error(), Temporary: true}
	}
	return *list.(*[]Result), true, nil
}

// Confirmable tells whether a feed's writes can be read back, and how long after sending.
func (l *Line) Confirmable(kind message.Feed) (bool, time.Duration) {
	f := l.Def.Feeds[kind]
	if f == nil || f.Confirm == nil {
		return false, 0
	}
	return true, time.Duration(f.Confirm.After)
}

// Confirm reads back what a sent message did and tells whether it is there.
func (l *Line) Confirm(ctx context.Context, kind message.Feed, ref string, msg any) (bool, error) {
	f := l.Def.Feeds[kind]
	v := l.vars()
	list, err := toPlain([]any{msg})
	if err != nil {
		return false, err
	}
	v["msg"], v["ref"] = list[0], ref
	a, err := l.do(ctx, &f.Confirm.Request, v, page{})
	if err != nil {
		return false, err
	}
	if v["body"], err = f.Confirm.Request.Format.read(a.raw); err != nil {
		return false, &Failure{Text: err.Error(), Temporary: true}
	}
	out, err := f.Confirm.When.Eval(v)
	if err != nil {
		return false, &Failure{Text: "read back: " + err.Error()}
	}
	ok, _ := out.(bool)
	return ok, nil
}

// Ask carries out a call (identity, rates, tariff, address) with a message and returns the mapped
// answer: one value, or one per element where the call has items.
func (l *Line) Ask(ctx context.Context, name string, msg any) ([]any, error) {
	c := l.Def.Calls[name]
	if c == nil {
		return nil, &Failure{Text: fmt.Sprintf("%s has no call %q", l.Def.Title, name), Unsent: true}
	}
	v := l.vars()
	if msg != nil {
		list, err := toPlain([]any{msg})
		if err != nil {
			return nil, err
		}
		v["msg"] = list[0]
	}
	if no := refuses(c.Require, v); no != nil {
		return nil, no
	}
	a, err := l.do(ctx, &c.Request, v, page{})
	if err != nil {
		return nil, err
	}
	body, err := c.Request.Format.read(a.raw)
	if err != nil {
		return nil, &Failure{Text: err.Error(), Temporary: true}
	}
	v["body"] = body
	list := []any{body}
	if c.Items != "" {
		at := dig(body, c.Items)
		var ok bool
		if list, ok = elements(at); !ok || at == nil {
			return nil, &Failure{Text: "the answer has no " + c.Items, Temporary: true}
		}
	}
	out := make([]any, 0, len(list))
	for _, it := range list {
		v["item"] = it
		m, err := c.out.run(v)
		if err != nil {
			return nil, &Failure{Text: "the answer: " + err.Error(), Temporary: true}
		}
		out = append(out, m)
	}
	return out, nil
}

// Verdict is the outcome of a test of credentials.
type Verdict struct {
	LetIn    bool              `json:"let_in"`
	Text     string            `json:"text" doc:"What happened, for people"`
	Field    string            `json:"field,omitempty" doc:"The credential field that is wrong, where it can be told"`
	Trimmed  []string          `json:"trimmed" doc:"Fields whose surrounding spaces were taken off"`
	Identity *message.Identity `json:"identity,omitempty" doc:"Who we are to the other side"`
}

// Test asks the other side who we are there. It changes nothing on either side.
func (l *Line) Test(ctx context.Context) Verdict {
	if l.Def.Calls["identity"] == nil {
		return Verdict{LetIn: true, Text: l.Def.Title + " has no way to tell who we are there; nothing was called."}
	}
	out, err := l.Ask(ctx, "identity", nil)
	if err == nil && len(out) == 1 {
		id := out[0].(*message.Identity)
		if strings.TrimSpace(id.Number) != "" {
			return Verdict{LetIn: true, Text: fmt.Sprintf("Let in as %s, number %s.", id.Name, id.Number), Identity: id}
		}
		err = errors.New("the answer does not tell an account number")
	}
	var f *Failure
	if !errors.As(err, &f) {
		return Verdict{Text: l.Blank(fmt.Sprint(err))}
	}
	v := Verdict{Text: f.Text, Field: f.Field}
	switch said := strings.Trim(f.Said, ". "); {
	case f.Status == 401 || f.Status == 403:
		v.Text = l.Def.Title + " does not let us in"
		if said != "" {
			v.Text += ": " + said
		}
		v.Text += "."
	case f.Status != 0 && said != "":
		v.Text = fmt.Sprintf("%s answered %d: %s.", l.Def.Title, f.Status, said)
	case f.Status == 0 && !f.Unsent:
		v.Text = fmt.Sprintf("%s was not reached: %s.", l.Def.Title,
			strings.TrimPrefix(f.Text, l.Def.Calls["identity"].Request.Method+" "+l.Def.Calls["identity"].Request.Path+": "))
	}
	return v
}

// Trim takes surrounding white space off credentials, as it comes along with copy and paste, and says
// which fields had some.
func Trim(secrets map[string]string) (trimmed []string) {
	for _, k := range sortedKeys(secrets) {
		v := strings.Trim(secrets[k], " \t\r\n\u00a0\u200b\ufeff")
		if v != secrets[k] {
			trimmed = append(trimmed, k)
			secrets[k] = v
		}
	}
	return trimmed
}

// toPlain turns messages of ours into what expressions see: maps, lists, text, whole numbers.
func toPlain(msgs []any) ([]any, error) {
	out := make([]any, len(msgs))
	for i, m := range msgs {
		raw, ok := m.(json.RawMessage)
		if !ok {
			b, err := json.Marshal(m)
			if err != nil {
				return nil, fmt.Errorf("message: %w", err)
			}
			raw = b
		}
		v, err := decode(raw)
		if err != nil {
			return nil, fmt.Errorf("message %s: %w", reflect.TypeOf(m), err)
		}
		out[i] = v
	}
	return out, nil
}
