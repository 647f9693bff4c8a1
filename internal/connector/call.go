package connector

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/sony/gobreaker/v2"
)

// Failure is a call that did not succeed. Its text never holds a secret.
type Failure struct {
	Text       string
	Status     int           // HTTP status, 0 when there was no answer
	Said       string        // the other side's own words
	Code       string        // the other side's own code for the error, if it gave one
	Field      string        // the credential field that is wrong, where the definition can tell
	Wrong      string        // the field of what was sent that is wrong, where the definition can tell
	Temporary  bool          // another try may succeed
	Unsent     bool          // the call never left
	Before     bool          // what failed came before the call that writes; nothing was written
	Means      string        // what the answer means, where the definition says so; then nothing was written
	RetryAfter time.Duration // what the other side asked for

	answer Vars // status, body and header, where there was an answer
}

func (f *Failure) Error() string { return f.Text }

// Line is a connection ready to be used: a definition with an address, an account, and the breaker that
// all its calls share.
type Line struct {
	Def      *Definition
	Site     string // the site of the account that this connection is for
	InTest   bool   // marks what is sent as a test
	base     *url.URL
	login    *Login
	settings map[string]any
	client   *http.Client
	folders  []string // in which files may be exchanged on this machine
	dial     Dialer
	breaker  *gobreaker.CircuitBreaker[*answer]
	now      func() time.Time

	sightings sightings
}

// Dialer opens a connection to an address that may be called.
type Dialer func(ctx context.Context, network, address string) (net.Conn, error)

type answer struct {
	raw    []byte
	header http.Header
	status int
}

// LineOptions are what a connection is made of, beside its definition.
type LineOptions struct {
	Base     string // address of the other side
	Site     string
	Test     bool
	Login    *Login
	Settings map[string]any
	Client   *http.Client
	Folders  []string // of this machine, in which files may be exchanged
	Dial     Dialer   // of what is not HTTP; nil: there is nothing else
	Now      func() time.Time
}

// Nowhere is the address of a connection that has none yet.
const Nowhere = "http://nowhere.invalid"

// NewLine prepares a connection.
func NewLine(def *Definition, o LineOptions) (*Line, error) {
	u, err := addressOf(o.Base)
	if err != nil {
		return nil, err
	}
	if (u.Scheme == "file" || u.Scheme == "sftp") && !def.Exchanges() {
		return nil, fmt.Errorf("address %q: %s is called; an http or https address is expected", o.Base, def.Title)
	}
	if o.Dial == nil {
		o.Dial = func(context.Context, string, string) (net.Conn, error) {
			return nil, errors.New("nothing but HTTP is called from here")
		}
	}
	if o.Site != "" && def.Site(o.Site) == nil {
		return nil, fmt.Errorf("%s has no site %q", def.Title, o.Site)
	}
	if o.Login == nil {
		o.Login = NewLogin(def, nil, Token{})
	}
	if o.Now == nil {
		o.Now = time.Now
	}
	return &Line{
		Def: def, Site: o.Site, InTest: o.Test, base: u, login: o.Login, settings: o.Settings, client: o.Client, now: o.Now,
		folders: o.Folders, dial: o.Dial,
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

// Secret returns one of the account's credentials.
func (l *Line) Secret(name string) string { s, _ := l.login.vars()[name].(string); return s }

// State tells how the breaker stands: closed, half-open or open.
func (l *Line) State() string { return l.breaker.State().String() }

func (l *Line) vars() Vars {
	return Vars{"secret": l.login.vars(), "settings": l.settings, "site": l.Site, "test": l.InTest}
}

// Exchange is a call with its answer, as people may see it: secrets are blanked.
type Exchange struct {
	Method  string        `json:"method"`
	URL     string        `json:"url"`
	Headers [][2]string   `json:"headers"`
	Body    string        `json:"body"`
	Status  int           `json:"status,omitempty"`
	Answer  string        `json:"answer,omitempty"`
	Took    time.Duration `json:"took" doc:"nanoseconds"`
	File    string        `json:"file,omitempty" doc:"Instead of a call: the file that is written, below the address"`
	Size    int64         `json:"size,omitempty" doc:"Of the file, in bytes"`
}

type exchangeKey struct{}

// Recording makes the calls under a context note what was sent and what came back; of several, the last.
func Recording(ctx context.Context, to *Exchange) context.Context {
	return context.WithValue(ctx, exchangeKey{}, to)
}

// page says which page of a list a request is for.
type page struct {
	at    string            // a whole address, from a Link header
	query map[string]string // laid over the request's own parameters
	alone bool              // the query replaces them
	check string            // validator of the last reading, for a conditional request
	shown bool              // the request is only shown: it may lack what a person has not brought yet
}

// do carries out a request, with the steps before it, under the account's limits.
func (l *Line) do(ctx context.Context, r *Request, v Vars, p page) (*answer, error) {
	if err := l.steps(ctx, r, v); err != nil {
		return nil, err
	}
	if wait := time.Until(time.Unix(0, l.login.quietTo.Load())); wait > 0 {
		if wait > time.Duration(l.Def.Limits.Timeout) {
			return nil, &Failure{Text: fmt.Sprintf("the other side asked us to wait %s more", wait.Round(time.Second)), Temporary: true,
				Unsent: true, RetryAfter: wait}
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(wait):
		}
	}
	if err := l.login.limiter.Wait(ctx); err != nil {
		return nil, &Failure{Text: "stopped while waiting for the rate limit", Temporary: true, Unsent: true}
	}
	out, err := l.breaker.Execute(func() (*answer, error) {
		if r.File != "" {
			return l.putFile(ctx, r, v)
		}
		return l.once(ctx, r, v, p, "")
	})
	if errors.Is(err, gobreaker.ErrOpenState) || errors.Is(err, gobreaker.ErrTooManyRequests) {
		return nil, &Failure{Text: "not called: too many failures in a row, trying again in a few seconds", Temporary: true, Unsent: true,
			RetryAfter: 5 * time.Second}
	}
	return out, err
}

func (l *Line) target(r *Request, v Vars, p page) (*url.URL, error) {
	if p.at != "" { // a next page: must stay on the same host
		u, err := l.base.Parse(p.at)
		if err != nil || u.Host != l.base.Host || u.Scheme != l.base.Scheme || u.User != nil {
			return nil, &Failure{Text: "the next page lies on another host; it was not followed"}
		}
		return u, nil
	}
	path, err := r.pathOf(v, p.shown)
	if err != nil {
		return nil, fmt.Errorf("path: %w", err)
	}
	q := url.Values{}
	fill := func(m map[string]Expr) error {
		for name, e := range m {
			s, err := e.String(v)
			if err != nil {
				return fmt.Errorf("parameter %s: %w", name, err)
			}
			if s != "" {
				q.Set(name, s)
			}
		}
		return nil
	}
	sets := []map[string]Expr{l.Def.Access.Query}
	if !p.alone {
		sets = append(sets, r.Query)
	}
	if l.InTest && l.Def.Test != nil {
		sets = append(sets, l.Def.Test.Query)
	}
	for _, m := range sets {
		if err := fill(m); err != nil {
			return nil, err
		}
	}
	for k, s := range p.query {
		q.Set(k, s)
	}
	u := *l.base
	u.Path, u.RawPath = "", ""
	u.RawQuery = q.Encode()
	full, err := u.Parse(l.base.EscapedPath() + path)
	if err != nil {
		return nil, fmt.Errorf("path: %w", err)
	}
	full.RawQuery = q.Encode()
	return full, nil
}

// pathOf fills the expressions of a path. One without a value is refused, unless the request is only shown.
func (r *Request) pathOf(v Vars, shown bool) (string, error) {
	var path strings.Builder
	for _, part := range r.path {
		if !part.expr.Set() {
			path.WriteString(part.text)
			continue
		}
		s, err := part.expr.String(v)
		if err == nil && s == "" && !shown {
			err = fmt.Errorf("%s has no value", short(part.expr.Text))
		}
		if err != nil {
			return "", err
		}
		path.WriteString(url.PathEscape(s))
	}
	return path.String(), nil
}

// build makes the request, complete and signed, with the body it carries.
func (l *Line) build(ctx context.Context, r *Request, v Vars, p page, token string) (*http.Request, []byte, error) {
	target, err := l.target(r, v, p)
	if err != nil {
		return nil, nil, err
	}
	var body []byte
	var kind string
	if r.body != nil {
		x, err := r.body(v)
		if err != nil {
			return nil, nil, err
		}
		if x, err = l.markTest(x, v); err != nil {
			return nil, nil, err
		}
		if body, kind, err = r.Format.write(x); err != nil {
			return nil, nil, err
		}
	}
	var reader io.Reader
	if r.body != nil {
		reader = bytes.NewReader(body)
	}
	req, err := http.NewRequestWithContext(ctx, r.Method, target.String(), reader)
	if err != nil {
		return nil, nil, errors.New("the address cannot be used")
	}
	req.Header.Set("Accept", r.Format.accept())
	req.Header.Set("User-Agent", "openrelay")
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	if p.check != "" {
		if strings.HasPrefix(p.check, `"`) || strings.HasPrefix(p.check, `W/`) {
			req.Header.Set("If-None-Match", p.check)
		} else {
			req.Header.Set("If-Modified-Since", p.check)
		}
	}
	if err := l.identify(req, r, v, p, token); err != nil {
		return nil, nil, err
	}
	a := &l.Def.Access
	if a.Sign != nil {
		if err := a.Sign.apply(req, body, v, l.Secret(a.Sign.Secret), l.now()); err != nil {
			return nil, nil, fmt.Errorf("signing: %w", err)
		}
	}
	return req, body, nil
}

// identify adds to a request what lets us in, and its headers.
func (l *Line) identify(req *http.Request, r *Request, v Vars, p page, token string) error {
	a := &l.Def.Access
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if a.Basic != nil {
		name, err := a.Basic.Name.String(v)
		if err != nil {
			return err
		}
		password, err := a.Basic.Password.String(v)
		if err != nil {
			return err
		}
		req.SetBasicAuth(name, password)
	}
	sets := []map[string]Expr{a.Send, r.Headers}
	if l.InTest && l.Def.Test != nil {
		sets = append(sets, l.Def.Test.Headers)
	}
	for _, set := range sets {
		for name, e := range set {
			out, err := e.Eval(v)
			if err == nil && out == nil && !p.shown {
				err = fmt.Errorf("%s has no value; of one that may be missing write joined([…], \"\")", short(e.Text))
			}
			if err != nil {
				return fmt.Errorf("header %s: %w", name, err)
			}
			if s := textOf(out); s != "" {
				req.Header.Set(name, s)
			}
		}
	}
	return nil
}

// markTest adds the fields that mark a test to the outermost record of a body; in XML to the root.
func (l *Line) markTest(x any, v Vars) (any, error) {
	if !l.InTest || l.Def.Test == nil || len(l.Def.Test.Body) == 0 {
		return x, nil
	}
	o, ok := x.(object)
	if !ok {
		return x, nil
	}
	var extra object
	for _, key := range sortedKeys(l.Def.Test.Body) {
		e := l.Def.Test.Body[key]
		val, err := e.Eval(v)
		if err != nil {
			return nil, fmt.Errorf("test.body.%s: %w", key, err)
		}
		extra = append(extra, member{key, val})
	}
	if l.Def.Format.Body == "xml" && len(o) == 1 {
		if root, ok := o[0].value.(object); ok {
			return object{{o[0].key, append(append(object{}, extra...), root...)}}, nil
		}
	}
	return append(append(object{}, o...), extra...), nil
}

// once carries out a request. stale is a token that was just refused.
func (l *Line) once(ctx context.Context, r *Request, v Vars, p page, stale string) (*answer, error) {
	what := r.Method + " " + r.Path
	token := ""
	if l.Def.Access.OAuth != nil {
		var err error
		if token, err = l.access(ctx, stale); err != nil {
			return nil, err
		}
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(l.Def.Limits.Timeout))
	defer cancel()
	req, body, err := l.build(ctx, r, v, p, token)
	if err != nil {
		var f *Failure
		if errors.As(err, &f) {
			return nil, f
		}
		return nil, &Failure{Text: l.Blank(fmt.Sprintf("%s: %v", what, err)), Unsent: true}
	}
	note, _ := ctx.Value(exchangeKey{}).(*Exchange)
	if note != nil {
		*note = l.exchange(req, body)
	}
	begin := time.Now()
	res, err := l.client.Do(req)
	if err != nil {
		return nil, &Failure{Text: l.Blank(what + ": " + reason(err)), Temporary: true}
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, int64(l.Def.Limits.MaxBody)+1))
	if note != nil {
		note.Status, note.Took = res.StatusCode, time.Since(begin)
		note.Answer = l.Blank(string(raw[:min(len(raw), maxShown)]))
	}
	if err != nil {
		return nil, &Failure{Text: what + ": the answer broke off: " + reason(err), Temporary: true}
	}
	if len(raw) > int(l.Def.Limits.MaxBody) {
		return nil, &Failure{Text: fmt.Sprintf("%s: the answer is larger than %d bytes and was not read", what, l.Def.Limits.MaxBody),
			Status: res.StatusCode}
	}
	if res.StatusCode == http.StatusUnauthorized && token != "" && stale == "" {
		return l.once(ctx, r, v, p, token) // it may have run out on the way: once more with a new one
	}
	if res.StatusCode == http.StatusNotModified && p.check != "" {
		return &answer{header: res.Header, status: res.StatusCode}, nil
	}
	if res.StatusCode >= 300 {
		return nil, l.refused(what, r.Format, res, raw)
	}
	if ct := res.Header.Get("Content-Type"); len(raw) > 0 && !r.Format.fits(ct) {
		return nil, &Failure{Text: fmt.Sprintf("%s: answered %q instead of %s", what, short(ct), strings.ToUpper(r.Format.Answer)),
			Status: res.StatusCode, Temporary: true}
	}
	return &answer{raw: raw, header: res.Header, status: res.StatusCode}, nil
}

// maxShown bounds what people are shown of an answer, in bytes.
const maxShown = 64 << 10

func (l *Line) exchange(req *http.Request, body []byte) Exchange {
	x := Exchange{Method: req.Method, URL: l.Blank(req.URL.String()), Body: l.Blank(string(body[:min(len(body), maxShown)]))}
	hidden := map[string]bool{"Authorization": true}
	for name := range l.Def.Access.Send {
		hidden[http.CanonicalHeaderKey(name)] = true
	}
	if s := l.Def.Access.Sign; s != nil {
		for name := range s.Send {
			hidden[http.CanonicalHeaderKey(name)] = true
		}
	}
	for _, name := range sortedKeys(req.Header) {
		val := l.Blank(req.Header.Get(name))
		if hidden[name] {
			val = blanked
		}
		x.Headers = append(x.Headers, [2]string{name, val})
	}
	return x
}

func (l *Line) refused(what string, format Format, res *http.Response, raw []byte) *Failure {
	f := &Failure{Status: res.StatusCode}
	switch res.StatusCode {
	case http.StatusTooManyRequests, http.StatusRequestTimeout, http.StatusTooEarly:
		f.Temporary = true
	default:
		f.Temporary = res.StatusCode >= 500
	}
	if after := res.Header.Get("Retry-After"); after != "" {
		if sec, err := strconv.Atoi(after); err == nil {
			f.RetryAfter = time.Duration(min(sec, 3600)) * time.Second
		} else if t, err := http.ParseTime(after); err == nil {
			f.RetryAfter = t.Sub(l.now())
		}
		f.RetryAfter = min(max(f.RetryAfter, 0), time.Hour)
		l.login.quietTo.Store(time.Now().Add(f.RetryAfter).UnixNano())
	}
	f.Text = fmt.Sprintf("%s: answered %d %s", what, res.StatusCode, http.StatusText(res.StatusCode))
	if res.StatusCode < 400 {
		f.Text += "; redirects are not followed"
	}
	body := l.errorBody(format, res.Header.Get("Content-Type"), raw)
	v := l.vars()
	v["status"], v["body"], v["header"] = int64(res.StatusCode), body, headerVars(res.Header)
	f.answer = Vars{"status": v["status"], "body": body, "header": v["header"]}
	words := cmp.Or(l.Def.Says.words(v), said(body))
	if f.Said = l.Blank(words); f.Said != "" {
		f.Text += ": " + f.Said
	}
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		if at, err := http.ParseTime(res.Header.Get("Date")); err == nil && l.Def.Access.Sign != nil {
			if gap := at.Sub(l.now()).Round(time.Second); gap.Abs() > 30*time.Second {
				clock := fmt.Sprintf("its clock is %s away from ours", gap.Abs())
				f.Text += " (" + clock + ")"
				f.Said = strings.TrimPrefix(f.Said+"; "+clock, "; ")
			}
		}
	}
	l.nameField(f, v)
	return f
}

// nameField adds which credential field an answer speaks of, where the definition can tell.
func (l *Line) nameField(f *Failure, v Vars) {
	for i := range l.Def.Access.Refusals {
		r := &l.Def.Access.Refusals[i]
		if hit, err := r.When.Eval(v); err == nil && hit == true {
			f.Field = r.Field
			if r.Say != "" {
				f.Text += ". " + r.Say
				f.Said = strings.TrimPrefix(f.Said+". "+r.Say, ". ")
			}
			return
		}
	}
}

// errorBody reads the body of an error answer, whatever of the formats it is in.
func (l *Line) errorBody(format Format, contentType string, raw []byte) any {
	for _, f := range []Format{format, {Answer: "json"}, {Answer: "xml"}} {
		if f.Answer != "csv" && f.fits(contentType) {
			if v, err := f.read(raw); err == nil {
				return v
			}
		}
	}
	return nil
}

// said finds the sentence in an error answer that is meant for people.
func said(body any) string {
	m, _ := body.(map[string]any)
	for _, k := range []string{"detail", "message", "Message", "error_description", "error", "Error", "reason", "Reason", "title"} {
		switch x := m[k].(type) {
		case string:
			return short(x)
		case map[string]any:
			if s := said(x); s != "" {
				return s
			}
		}
	}
	if s, ok := body.(string); ok {
		return short(s)
	}
	return ""
}

// Blank takes the account's secrets out of a text.
func (l *Line) Blank(s string) string { return l.login.blank(s, l.Def) }

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
