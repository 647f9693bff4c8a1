package connector

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
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
	Receipt    string   // reference that the receipt of a file will name
}

// Send sends messages of one feed in one request. ref is our idempotency reference for the request.
func (l *Line) Send(ctx context.Context, kind message.Feed, ref string, msgs []any) (Sent, error) {
	f, v, err := l.ready(kind, ref, msgs)
	if err != nil {
		return Sent{}, err
	}
	var m *Meaning
	for times := 1; ; times++ {
		var again bool
		a, err := l.do(ctx, &f.Send.Request, v, page{})
		if again, m, err = f.Send.hear(l, v, a, err, times); err != nil {
			return Sent{}, err
		}
		if !again {
			break
		}
		delete(v, "steps") // read anew
	}
	if m != nil { // it is so already: the answer tells what it can
		return f.Send.already(v), nil
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
	if out.Receipt, err = f.Send.receiptOf(v); err != nil {
		return out, unclear(err)
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

// already is what an answer tells of a message that the other side had carried out before.
func (s *Send) already(v Vars) (out Sent) {
	if s.answer != nil {
		if told, err := s.answer.run(v); err == nil {
			out.Answer = told
		}
	}
	return out
}

// Looks tells whether the other side can be asked if a message arrived whose answer was lost.
func (l *Line) Looks(kind message.Feed) bool {
	f := l.Def.Feeds[kind]
	return f != nil && f.Send != nil && f.Send.Look != nil
}

// Look asks whether a message arrived whose answer was lost, and returns what that answer would have told.
func (l *Line) Look(ctx context.Context, kind message.Feed, ref string, msg any) (found bool, told any, err error) {
	list, err := toPlain([]any{msg})
	if err != nil {
		return false, nil, err
	}
	k := l.Def.Feeds[kind].Send.Look
	v := l.vars()
	v["msg"], v["batch"], v["ref"] = list[0], list, ref
	a, err := l.do(ctx, &k.Request, v, page{})
	var f *Failure
	switch {
	case err == nil:
		err = v.answered(a, k.Request.Format)
	case errors.As(err, &f) && f.Status == http.StatusNotFound && f.answer != nil:
		maps.Copy(v, f.answer)
		err = nil
	}
	if err != nil {
		return false, nil, err
	}
	out, err := k.Found.Eval(v)
	if err != nil {
		return false, nil, &Failure{Text: "whether it arrived: " + err.Error(), Temporary: true}
	}
	if found, _ = out.(bool); found && k.answer != nil {
		if told, err = k.answer.run(v); err != nil {
			return false, nil, &Failure{Text: "what arrived: " + err.Error(), Temporary: true}
		}
	}
	return found, told, nil
}

// Prepare shows the request that Send would make, without making it.
func (l *Line) Prepare(ctx context.Context, kind message.Feed, ref string, msgs []any) (Exchange, error) {
	f, v, err := l.ready(kind, ref, msgs)
	if err != nil {
		return Exchange{}, err
	}
	request := &f.Send.Request
	if writes, err := l.readSteps(ctx, request, v); err != nil {
		return Exchange{}, err
	} else if writes != nil {
		request = &writes.Request
	}
	if request.File != "" {
		name, body, err := l.fileOf(request, v)
		return l.fileExchange(name, body), err
	}
	req, body, err := l.build(ctx, request, v, page{shown: true}, l.login.Token().Access)
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
	if err := v.answered(a, p.Request.Format); err != nil {
		return nil, false, err
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
	if err := v.answered(a, f.Confirm.Request.Format); err != nil {
		return false, err
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
	if err := v.answered(a, c.Request.Format); err != nil {
		return nil, err
	}
	body := v["body"]
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
	if l.Def.Exchanges() {
		return l.testFiles(ctx)
	}
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
		v.Field = cmp.Or(v.Field, l.Def.Access.onlyField())
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
