package connector

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"reflect"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/sony/gobreaker/v2"
	"golang.org/x/time/rate"
)

// Failure is a call that did not succeed. Its text never holds a secret.
type Failure struct {
	Text       string
	Status     int           // HTTP status, 0 when there was no answer
	Temporary  bool          // another try may succeed
	Unsent     bool          // the call never left
	RetryAfter time.Duration // what the other side asked for
}

func (f *Failure) Error() string { return f.Text }

// Line is a connection ready to be used: a definition with an address, credentials, and the limits
// and the breaker that all its calls share.
type Line struct {
	Def      *Definition
	base     *url.URL
	secrets  map[string]any
	settings map[string]any
	client   *http.Client
	limiter  *rate.Limiter
	breaker  *gobreaker.CircuitBreaker[*answer]
	quietTo  atomic.Int64 // Unix nanoseconds until which the other side asked us to wait
	now      func() time.Time
}

type answer struct {
	raw    []byte
	header http.Header
	status int
}

// NewLine prepares a connection.
func NewLine(def *Definition, base string, secrets map[string]string, settings map[string]any, client *http.Client, now func() time.Time) (*Line, error) {
	u, err := url.Parse(strings.TrimRight(base, "/"))
	if err != nil || (u.Scheme != "http" && u.Scheme != "https") || u.Host == "" {
		return nil, fmt.Errorf("address %q: an http or https address is expected", base)
	}
	s := make(map[string]any, len(secrets))
	for k, v := range secrets {
		s[k] = v
	}
	return &Line{
		Def: def, base: u, secrets: s, settings: settings, client: client, now: now,
		limiter: rate.NewLimiter(rate.Limit(def.Limits.PerSecond), def.Limits.Burst),
		breaker: gobreaker.NewCircuitBreaker[*answer](gobreaker.Settings{
			Name: def.Connector, Timeout: 5 * time.Second, MaxRequests: 1,
			ReadyToTrip: func(c gobreaker.Counts) bool { return c.ConsecutiveFailures >= 5 },
			IsSuccessful: func(err error) bool {
				var f *Failure
				return err == nil || (errors.As(err, &f) && !f.Temporary) || (errors.As(err, &f) && f.Status == http.StatusTooManyRequests)
			},
		}),
	}, nil
}

// Secret returns one of the connection's credentials.
func (l *Line) Secret(name string) string { s, _ := l.secrets[name].(string); return s }

// State tells how the breaker stands: closed, half-open or open.
func (l *Line) State() string { return l.breaker.State().String() }

func (l *Line) vars() Vars {
	return Vars{"secret": l.secrets, "settings": l.settings}
}

// do carries out a request under the connection's limits.
func (l *Line) do(ctx context.Context, r *Request, v Vars, at string) (*answer, error) {
	target, err := l.target(r, v, at)
	if err != nil {
		return nil, err
	}
	if wait := time.Until(time.Unix(0, l.quietTo.Load())); wait > 0 {
		if wait > time.Duration(l.Def.Limits.Timeout) {
			return nil, &Failure{Text: fmt.Sprintf("the other side asked us to wait %s more", wait.Round(time.Second)), Temporary: true, Unsent: true, RetryAfter: wait}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
	}
	if err := l.limiter.Wait(ctx); err != nil {
		return nil, &Failure{Text: "stopped while waiting for the rate limit", Temporary: true, Unsent: true}
	}
	out, err := l.breaker.Execute(func() (*answer, error) { return l.once(ctx, r, v, target) })
	if errors.Is(err, gobreaker.ErrOpenState) || errors.Is(err, gobreaker.ErrTooManyRequests) {
		return nil, &Failure{Text: "not called: too many failures in a row, trying again in a few seconds", Temporary: true, Unsent: true, RetryAfter: 5 * time.Second}
	}
	return out, err
}

func (l *Line) target(r *Request, v Vars, at string) (string, error) {
	if at != "" { // a next page: must stay on the same host
		u, err := l.base.Parse(at)
		if err != nil || u.Host != l.base.Host || u.Scheme != l.base.Scheme {
			return "", &Failure{Text: "the next page lies on another host; it was not followed"}
		}
		return u.String(), nil
	}
	var path strings.Builder
	for _, p := range r.path {
		if !p.expr.Set() {
			path.WriteString(p.text)
			continue
		}
		s, err := p.expr.String(v)
		if err != nil {
			return "", fmt.Errorf("path: %w", err)
		}
		path.WriteString(url.PathEscape(s))
	}
	q := url.Values{}
	for name, e := range r.Query {
		s, err := e.String(v)
		if err != nil {
			return "", fmt.Errorf("query %s: %w", name, err)
		}
		if s != "" {
			q.Set(name, s)
		}
	}
	out := l.base.String() + path.String()
	if len(q) > 0 {
		out += "?" + q.Encode()
	}
	return out, nil
}

func (l *Line) once(ctx context.Context, r *Request, v Vars, target string) (*answer, error) {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(l.Def.Limits.Timeout))
	defer cancel()
	var body io.Reader
	if r.body != nil {
		x, err := r.body(v)
		if err != nil {
			return nil, &Failure{Text: fmt.Sprintf("%s %s: %v", r.Method, r.Path, err), Unsent: true}
		}
		b, err := json.Marshal(x)
		if err != nil {
			return nil, &Failure{Text: fmt.Sprintf("%s %s: %v", r.Method, r.Path, err), Unsent: true}
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, target, body)
	if err != nil {
		return nil, &Failure{Text: r.Method + " " + r.Path + ": the address cannot be used", Unsent: true}
	}
	req.Header.Set("Accept", "application/json")
	req.Header.Set("User-Agent", "openrelay")
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for _, set := range []map[string]Expr{l.Def.Access.Send, r.Headers} {
		for name, e := range set {
			s, err := e.String(v)
			if err != nil {
				return nil, &Failure{Text: fmt.Sprintf("%s %s: header %s: %v", r.Method, r.Path, name, err), Unsent: true}
			}
			req.Header.Set(name, s)
		}
	}
	what := r.Method + " " + r.Path
	res, err := l.client.Do(req)
	if err != nil {
		return nil, &Failure{Text: what + ": " + reason(err), Temporary: true}
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, int64(l.Def.Limits.MaxBody)+1))
	if err != nil {
		return nil, &Failure{Text: what + ": the answer broke off: " + reason(err), Temporary: true}
	}
	if len(raw) > int(l.Def.Limits.MaxBody) {
		return nil, &Failure{Text: fmt.Sprintf("%s: the answer is larger than %d bytes and was not read", what, l.Def.Limits.MaxBody), Status: res.StatusCode}
	}
	if res.StatusCode >= 300 {
		return nil, l.refused(what, res, raw)
	}
	if ct := res.Header.Get("Content-Type"); len(raw) > 0 && !isJSON(ct) {
		return nil, &Failure{Text: fmt.Sprintf("%s: answered %q instead of JSON", what, ct), Status: res.StatusCode, Temporary: true}
	}
	return &answer{raw: raw, header: res.Header, status: res.StatusCode}, nil
}

func (l *Line) refused(what string, res *http.Response, raw []byte) *Failure {
	f := &Failure{Status: res.StatusCode}
	switch res.StatusCode {
	case http.StatusTooManyRequests, http.StatusRequestTimeout, http.StatusTooEarly:
		f.Temporary = true
	default:
		f.Temporary = res.StatusCode >= 500
	}
	if after := res.Header.Get("Retry-After"); after != "" {
		if sec, err := strconv.Atoi(after); err == nil {
			f.RetryAfter = time.Duration(sec) * time.Second
		} else if t, err := http.ParseTime(after); err == nil {
			f.RetryAfter = t.Sub(l.now())
		}
		f.RetryAfter = min(max(f.RetryAfter, 0), time.Hour)
		l.quietTo.Store(time.Now().Add(f.RetryAfter).UnixNano())
	}
	f.Text = fmt.Sprintf("%s: answered %d %s", what, res.StatusCode, http.StatusText(res.StatusCode))
	if said := l.blank(said(res.Header.Get("Content-Type"), raw)); said != "" {
		f.Text += ": " + said
	}
	return f
}

// said finds the sentence in an error answer that is meant for people.
func said(contentType string, raw []byte) string {
	if !isJSON(contentType) {
		return ""
	}
	v, err := decode(raw)
	if err != nil {
		return ""
	}
	m, _ := v.(map[string]any)
	for _, k := range []string{"detail", "message", "error", "reason", "title"} {
		if s, ok := m[k].(string); ok {
			return short(s)
		}
	}
	return ""
}

// blank takes the connection's secrets out of a text.
func (l *Line) blank(s string) string {
	for _, v := range l.secrets {
		if secret, _ := v.(string); len(secret) >= 4 {
			s = strings.ReplaceAll(s, secret, "•••")
		}
	}
	return s
}

func isJSON(ct string) bool {
	t, _, err := mime.ParseMediaType(ct)
	return err == nil && (t == "application/json" || strings.HasSuffix(t, "+json"))
}

// reason says what went wrong with a call without naming its address, which may hold secrets.
func reason(err error) string {
	var ue *url.Error
	if errors.As(err, &ue) {
		if ue.Timeout() {
			return "no answer in time"
		}
		err = ue.Err
	}
	if errors.Is(err, context.DeadlineExceeded) {
		return "no answer in time"
	}
	return err.Error()
}

// Record is a foreign record with what tells it apart.
type Record struct {
	Feed    string
	ID      string
	Version int64
	Mark    string
	Raw     []byte
	Body    any   // Raw decoded, for MapBody
	Err     error // set where the record has no id or version; it is then not to be kept
}

// Read fetches the pages of a feed from a mark on and hands each to keep before it asks for the next.
// It returns the largest mark seen; where a page fails, that is the mark of the pages before.
func (l *Line) Read(ctx context.Context, kind, mark string, keep func([]Record) error) (string, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.Read == nil {
		return mark, fmt.Errorf("%s has no read for %s", l.Def.Title, kind)
	}
	v := l.vars()
	v["mark"] = back(mark, time.Duration(f.Read.Overlap))
	high, at := mark, ""
	for page := 1; ; page++ {
		if page > l.Def.Limits.MaxPages {
			return high, &Failure{Text: fmt.Sprintf("more than %d pages; stopped", l.Def.Limits.MaxPages), Temporary: true}
		}
		a, err := l.do(ctx, &f.Read.Request, v, at)
		if err != nil {
			return high, err
		}
		raws, err := slice(a.raw, f.Read.Items)
		if err != nil {
			return high, &Failure{Text: f.Read.Request.Method + " " + f.Read.Request.Path + ": " + err.Error(), Temporary: true}
		}
		records := make([]Record, 0, len(raws))
		pageHigh := high
		for _, raw := range raws {
			body, err := decode(raw)
			if err != nil {
				return high, &Failure{Text: err.Error(), Temporary: true}
			}
			r := f.identify(kind, raw, body, "")
			if r.Mark > pageHigh {
				pageHigh = r.Mark
			}
			records = append(records, r)
		}
		if err := keep(records); err != nil {
			return high, err
		}
		high = pageHigh
		if at = f.Read.Next.of(a, v, &f.Read.Request); at == "" {
			return high, nil
		}
	}
}

// back moves a time mark back by the overlap, so that records written while the last page was read
// are not missed; marks that are no times stay.
func back(mark string, overlap time.Duration) string {
	if t, err := time.Parse(time.RFC3339Nano, mark); err == nil && overlap > 0 {
		return t.Add(-overlap).Format(time.RFC3339Nano)
	}
	return mark
}

func (n *Next) of(a *answer, v Vars, r *Request) string {
	if n.Link {
		return nextLink(a.header.Values("Link"))
	}
	if n.Cursor.Set() {
		body, err := decode(a.raw)
		if err != nil {
			return ""
		}
		v["body"] = body
		c, err := n.Cursor.String(v)
		if err != nil || c == "" {
			return ""
		}
		return r.Path + "?" + url.Values{n.Param: {c}}.Encode()
	}
	return ""
}

// nextLink finds the target with rel=next (RFC 8288).
func nextLink(links []string) string {
	for _, h := range links {
		for _, part := range strings.Split(h, ",") {
			target, params, ok := strings.Cut(strings.TrimSpace(part), ">")
			if !ok || !strings.HasPrefix(target, "<") {
				continue
			}
			for _, p := range strings.Split(params, ";") {
				if k, val, _ := strings.Cut(strings.TrimSpace(p), "="); strings.EqualFold(k, "rel") && strings.Trim(val, `"`) == "next" {
					return target[1:]
				}
			}
		}
	}
	return ""
}

// identify reads id, version and mark of a record. inside is the path of the record in the body.
func (f *Feed) identify(kind string, raw []byte, body any, inside string) Record {
	r := Record{Feed: kind, Raw: raw, Body: body}
	v := Vars{"item": dig(body, inside), "event": body}
	if r.ID, r.Err = f.ID.String(v); r.Err == nil && r.ID == "" {
		r.Err = errors.New("the record has no id")
	}
	if r.Err == nil && f.Version.Set() {
		out, err := f.Version.Eval(v)
		n, ok := out.(int64)
		if s, isText := out.(string); isText {
			var perr error
			n, perr = strconv.ParseInt(s, 10, 64)
			ok = perr == nil
		}
		if err != nil || !ok {
			r.Err = fmt.Errorf("record %s has no version", r.ID)
		}
		r.Version = n
	}
	if f.Read != nil && r.Err == nil {
		r.Mark, r.Err = f.Read.Mark.String(v)
	}
	return r
}

// Accept checks a pushed message and takes its events apart by feed. Events of topics that no feed
// takes are counted in ignored.
func (l *Line) Accept(h http.Header, raw []byte) (records []Record, ignored int, err error) {
	p := l.Def.Push
	if p == nil {
		return nil, 0, fmt.Errorf("%s does not push", l.Def.Title)
	}
	if err := p.Signature.Check(h, raw, l.Secret(p.Signature.Secret), l.now()); err != nil {
		return nil, 0, err
	}
	events := [][]byte{raw}
	if p.Events != "" {
		if events, err = slice(raw, p.Events); err != nil {
			return nil, 0, err
		}
	}
	for _, e := range events {
		body, err := decode(e)
		if err != nil {
			return nil, 0, err
		}
		kind, f := l.Def.feedOf(textOf(dig(body, p.Topic)))
		if f == nil {
			ignored++
			continue
		}
		records = append(records, f.identify(kind, e, body, f.Record))
	}
	return records, ignored, nil
}

// feedOf finds the feed that takes pushed events of a topic.
func (d *Definition) feedOf(topic string) (string, *Feed) {
	for kind, f := range d.Feeds {
		if f.Topic != "" && f.Topic == topic {
			return kind, f
		}
	}
	return "", nil
}

// Map turns a kept record into a message of ours: *message.Order, *message.Listing and so on. Pushed
// records are wrapped in their event; read ones are bare.
func (l *Line) Map(kind, via string, raw []byte) (any, error) {
	body, err := decode(raw)
	if err != nil {
		return nil, err
	}
	return l.MapBody(kind, via, body)
}

// MapBody does the same for a record that was decoded before.
func (l *Line) MapBody(kind, via string, body any) (any, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.in == nil {
		return nil, fmt.Errorf("%s has no map for %s", l.Def.Title, kind)
	}
	inside := ""
	if via == "push" {
		inside = f.Record
	}
	v := l.vars()
	v["item"], v["event"] = dig(body, inside), body
	return f.in.run(v)
}

// Inside returns the bare record of a kept one, for showing.
func (l *Line) Inside(kind, via string, raw []byte) any {
	body, err := decode(raw)
	if err != nil {
		return nil
	}
	if f := l.Def.Feeds[kind]; f != nil && via == "push" {
		return dig(body, f.Record)
	}
	return body
}

// Send sends messages of one feed in one request. ref is our idempotency reference for the request.
// For a batch it returns a result per message, for a single message the mapped answer.
func (l *Line) Send(ctx context.Context, kind, ref string, msgs []any) ([]Result, any, error) {
	f := l.Def.Feeds[kind]
	if f == nil || f.Send == nil {
		return nil, nil, &Failure{Text: fmt.Sprintf("%s has no way to send %s", l.Def.Title, kind)}
	}
	v := l.vars()
	list, err := toPlain(msgs)
	if err != nil {
		return nil, nil, err
	}
	v["batch"], v["ref"], v["msg"] = list, ref, list[0]
	if say, err := refuses(f.Require, v); err != nil || say != "" {
		if err != nil {
			return nil, nil, &Failure{Text: err.Error()}
		}
		return nil, nil, &Failure{Text: say, Unsent: true}
	}
	a, err := l.do(ctx, &f.Send.Request, v, "")
	if err != nil {
		return nil, nil, err
	}
	if len(a.raw) > 0 {
		if v["body"], err = decode(a.raw); err != nil {
			return nil, nil, &Failure{Text: err.Error(), Temporary: true}
		}
	}
	if f.Send.results != nil {
		out, err := f.Send.results.run(v)
		if err != nil {
			return nil, nil, &Failure{Text: "the answer: " + err.Error(), Temporary: true}
		}
		return *out.(*[]Result), nil, nil
	}
	if f.Send.answer != nil {
		out, err := f.Send.answer.run(v)
		if err != nil {
			return nil, nil, &Failure{Text: "the answer: " + err.Error(), Temporary: true}
		}
		return nil, out, nil
	}
	return nil, nil, nil
}

// Confirmable tells whether a feed's writes can be read back, and how long after sending.
func (l *Line) Confirmable(kind string) (bool, time.Duration) {
	f := l.Def.Feeds[kind]
	if f == nil || f.Confirm == nil {
		return false, 0
	}
	return true, time.Duration(f.Confirm.After)
}

// Confirm reads back what a sent message did and tells whether it is there.
func (l *Line) Confirm(ctx context.Context, kind, ref string, msg any) (bool, error) {
	f := l.Def.Feeds[kind]
	v := l.vars()
	list, err := toPlain([]any{msg})
	if err != nil {
		return false, err
	}
	v["msg"], v["ref"] = list[0], ref
	a, err := l.do(ctx, &f.Confirm.Request, v, "")
	if err != nil {
		return false, err
	}
	if v["body"], err = decode(a.raw); err != nil {
		return false, &Failure{Text: err.Error(), Temporary: true}
	}
	out, err := f.Confirm.When.Eval(v)
	if err != nil {
		return false, &Failure{Text: "read back: " + err.Error()}
	}
	ok, _ := out.(bool)
	return ok, nil
}

// Ask carries out a call (identity, rates, tariff) with a message and returns the mapped answer: one
// value, or one per element where the call has items.
func (l *Line) Ask(ctx context.Context, name string, msg any) ([]any, error) {
	c := l.Def.Calls[name]
	if c == nil {
		return nil, &Failure{Text: fmt.Sprintf("%s has no call %q", l.Def.Title, name)}
	}
	v := l.vars()
	if msg != nil {
		list, err := toPlain([]any{msg})
		if err != nil {
			return nil, err
		}
		v["msg"] = list[0]
	}
	if say, err := refuses(c.Require, v); err != nil || say != "" {
		if err != nil {
			return nil, &Failure{Text: err.Error()}
		}
		return nil, &Failure{Text: say, Unsent: true}
	}
	a, err := l.do(ctx, &c.Request, v, "")
	if err != nil {
		return nil, err
	}
	body, err := decode(a.raw)
	if err != nil {
		return nil, &Failure{Text: err.Error(), Temporary: true}
	}
	v["body"] = body
	list := []any{body}
	if c.Items != "" {
		var ok bool
		if list, ok = dig(body, c.Items).([]any); !ok {
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
