package connector

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/oauth2"
	"golang.org/x/oauth2/clientcredentials"
	"golang.org/x/time/rate"
)

// OAuth says how a token is got (RFC 6749): with the grant code by a person's consent on a page of the
// other side, with PKCE (RFC 7636); with the grant client by our own credentials alone.
type OAuth struct {
	Grant        string   `yaml:"grant"`     // code or client
	Authorize    string   `yaml:"authorize"` // path or address of the consent page
	Token        string   `yaml:"token"`     // path or address of the token endpoint
	Scopes       []string `yaml:"scopes"`
	ClientID     Expr     `yaml:"client_id"`
	ClientSecret Expr     `yaml:"client_secret"`
	Client       string   `yaml:"client"` // how the client proves itself: header or body
	Skew         Duration `yaml:"skew"`   // a token is renewed so long before it expires
}

// Token is what lets us in for a while.
type Token struct {
	Access  string    `json:"access"`
	Refresh string    `json:"refresh,omitempty"`
	Expires time.Time `json:"expires,omitzero"`
}

// Login is an account on an outside system: credentials, the token they gave, and the pace that all
// connections of the account share.
type Login struct {
	// Keep is called with each new token before it is used; nil keeps it in memory only.
	Keep func(Token) error

	mu      sync.Mutex // held while a token is renewed: one renewal serves all
	secrets atomic.Pointer[map[string]any]
	token   atomic.Pointer[Token]
	limiter *rate.Limiter
	quietTo atomic.Int64 // Unix nanoseconds until which the other side asked us to wait
}

// NewLogin prepares an account of a definition's system.
func NewLogin(def *Definition, secrets map[string]string, token Token) *Login {
	l := &Login{limiter: rate.NewLimiter(rate.Limit(def.Limits.PerSecond), def.Limits.Burst)}
	l.Set(secrets, token)
	return l
}

// Set replaces credentials and token, as a renewal does.
func (l *Login) Set(secrets map[string]string, token Token) {
	m := make(map[string]any, len(secrets))
	for k, v := range secrets {
		m[k] = v
	}
	l.secrets.Store(&m)
	l.token.Store(&token)
}

// Pace changes how often the other side is called, as the overrides of a connection may.
func (l *Login) Pace(limits Limits) {
	l.limiter.SetLimit(rate.Limit(limits.PerSecond))
	l.limiter.SetBurst(limits.Burst)
}

// Token returns the token that is held now.
func (l *Login) Token() Token { return *l.token.Load() }

func (l *Login) vars() map[string]any { return *l.secrets.Load() }

// blank takes the account's secrets out of a text.
func (l *Login) blank(s string, def *Definition) string {
	hide := func(secret string) {
		if len(secret) < 4 {
			return
		}
		s = strings.ReplaceAll(s, secret, blanked)
		if esc := url.QueryEscape(secret); esc != secret {
			s = strings.ReplaceAll(s, esc, blanked)
		}
	}
	secret := def.Secrets()
	for k, v := range l.vars() {
		if text, _ := v.(string); secret[k] {
			hide(text)
		}
	}
	t := l.Token()
	hide(t.Access)
	hide(t.Refresh)
	return s
}

const blanked = "•••"

func (l *Line) oauthConfig(redirect string) (*oauth2.Config, error) {
	a := l.Def.Access.OAuth
	if a == nil {
		return nil, fmt.Errorf("%s has no consent page", l.Def.Title)
	}
	v := l.vars()
	id, err := a.ClientID.String(v)
	if err != nil {
		return nil, err
	}
	secret, err := a.ClientSecret.String(v)
	if err != nil {
		return nil, err
	}
	cfg := &oauth2.Config{ClientID: id, ClientSecret: secret, Scopes: a.Scopes, RedirectURL: redirect,
		Endpoint: oauth2.Endpoint{AuthStyle: oauth2.AuthStyleInParams}}
	if a.Client == "header" {
		cfg.Endpoint.AuthStyle = oauth2.AuthStyleInHeader
	}
	for _, part := range []struct {
		text string
		to   *string
	}{{a.Authorize, &cfg.Endpoint.AuthURL}, {a.Token, &cfg.Endpoint.TokenURL}} {
		if strings.HasPrefix(part.text, "/") {
			*part.to = l.base.String() + part.text
		} else {
			*part.to = part.text
		}
	}
	return cfg, nil
}

// ConsentURL is the page on which a person lets us in. state comes back with the answer; verifier is
// kept for Exchange.
func (l *Line) ConsentURL(redirect, state, verifier string) (string, error) {
	cfg, err := l.oauthConfig(redirect)
	if err != nil {
		return "", err
	}
	var more []oauth2.AuthCodeOption
	if l.Site != "" {
		more = append(more, oauth2.SetAuthURLParam("site", l.Site))
	}
	return cfg.AuthCodeURL(state, append(more, oauth2.S256ChallengeOption(verifier))...), nil
}

// NewVerifier makes the secret of one consent (RFC 7636, section 4.1).
func NewVerifier() string { return oauth2.GenerateVerifier() }

// Exchange turns the code that a consent gave into a token, and keeps it.
func (l *Line) Exchange(ctx context.Context, redirect, code, verifier string) (Token, error) {
	cfg, err := l.oauthConfig(redirect)
	if err != nil {
		return Token{}, err
	}
	ctx, cancel := l.tokenContext(ctx)
	defer cancel()
	got, err := cfg.Exchange(ctx, code, oauth2.VerifierOption(verifier))
	if err != nil {
		return Token{}, l.tokenFailure(err)
	}
	return l.keep(got)
}

func (l *Line) tokenContext(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithTimeout(ctx, time.Duration(l.Def.Limits.Timeout))
	return context.WithValue(ctx, oauth2.HTTPClient, l.client), cancel
}

func (l *Line) keep(got *oauth2.Token) (Token, error) {
	t := Token{Access: got.AccessToken, Refresh: got.RefreshToken}
	// The life of a token is counted by our clock from when it arrived: the other side's clock may be wrong.
	if !got.Expiry.IsZero() {
		t.Expires = l.now().Add(time.Until(got.Expiry))
	}
	if l.login.Keep != nil {
		if err := l.login.Keep(t); err != nil {
			return t, fmt.Errorf("the token could not be kept: %w", err)
		}
	}
	l.login.token.Store(&t)
	return t, nil
}

func (l *Line) tokenFailure(err error) error {
	var answer *oauth2.RetrieveError
	if !errors.As(err, &answer) {
		return &Failure{Text: "token: " + reason(err), Temporary: true}
	}
	status := answer.Response.StatusCode
	f := &Failure{Text: fmt.Sprintf("token: answered %d", status), Status: status}
	switch {
	case status >= 500 || status == http.StatusTooManyRequests:
		f.Temporary = true
	case answer.ErrorCode != "" || status == http.StatusBadRequest || status == http.StatusForbidden:
		f.Status = http.StatusUnauthorized // RFC 6749, section 5.2: refused, whatever the status
	}
	if answer.ErrorCode != "" {
		f.Text += " " + answer.ErrorCode
		f.Code = answer.ErrorCode
	} else if f.Status != http.StatusUnauthorized {
		f.Text += " " + http.StatusText(status) + "; is " + l.Def.Access.OAuth.Token + " the address at which tokens are given?"
	}
	if answer.ErrorDescription != "" {
		f.Text += ": " + short(answer.ErrorDescription)
	}
	f.Text = l.login.blank(f.Text, l.Def)
	f.Said = l.login.blank(cmp.Or(short(answer.ErrorDescription), answer.ErrorCode), l.Def)
	if answer.ErrorCode == "invalid_client" {
		f.Field = secretOf(l.Def.Access.OAuth.ClientSecret)
	}
	v := l.vars()
	v["status"], v["header"] = int64(status), headerVars(answer.Response.Header)
	v["body"] = l.errorBody(Format{Answer: "json"}, answer.Response.Header.Get("Content-Type"), answer.Body)
	l.nameField(f, v)
	return f
}

// access returns a token that is good for a while yet, renewing it where it is not. stale is a token
// that was just refused; it is not given out again.
func (l *Line) access(ctx context.Context, stale string) (string, error) {
	good := func() (string, bool) {
		t := l.login.Token()
		skew := time.Duration(l.Def.Access.OAuth.Skew)
		return t.Access, t.Access != "" && t.Access != stale && (t.Expires.IsZero() || l.now().Add(skew).Before(t.Expires))
	}
	if t, ok := good(); ok {
		return t, nil
	}
	l.login.mu.Lock()
	defer l.login.mu.Unlock()
	if t, ok := good(); ok { // another call renewed it meanwhile
		return t, nil
	}
	cfg, err := l.oauthConfig("")
	if err != nil {
		return "", err
	}
	ctx, cancel := l.tokenContext(ctx)
	defer cancel()
	var got *oauth2.Token
	if l.Def.Access.OAuth.Grant == "client" {
		cc := clientcredentials.Config{ClientID: cfg.ClientID, ClientSecret: cfg.ClientSecret, TokenURL: cfg.Endpoint.TokenURL,
			Scopes: cfg.Scopes, AuthStyle: cfg.Endpoint.AuthStyle}
		got, err = cc.Token(ctx)
	} else {
		old := l.login.Token()
		if old.Refresh == "" {
			return "", &Failure{Text: "our access has run out, and there is nothing to renew it with", Status: http.StatusUnauthorized,
				Unsent: true}
		}
		got, err = cfg.TokenSource(ctx, &oauth2.Token{RefreshToken: old.Refresh}).Token()
	}
	if err != nil {
		return "", l.tokenFailure(err)
	}
	t, err := l.keep(got)
	return t.Access, err
}
