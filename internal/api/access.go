package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// accessRoutes are those of second factors, of sessions, and of who came in.
func (a *API) accessRoutes() {
	op(a, person.Own, http.MethodGet, "/me/second-factor", "second-factor", "How one's second factor stands", a.factor)
	op(a, person.Own, http.MethodPost, "/me/second-factor", "propose-second-factor",
		"Make a secret; it counts once a code of it was given", a.proposeFactor)
	op(a, person.Own, http.MethodPut, "/me/second-factor", "confirm-second-factor",
		"Give a code of it; the recovery codes are told this once", a.confirmFactor)
	op(a, person.Own, http.MethodPost, "/me/second-factor/drop", "drop-second-factor", "Give one's second factor up", a.dropFactor)
	op(a, person.Own, http.MethodPost, "/me/recovery-codes", "new-recovery-codes", "Take new recovery codes; the old ones end",
		a.newRecoveryCodes)
	a.passkeyRoutes()
	op(a, person.Own, http.MethodGet, "/me/sessions", "own-sessions", "Where one is signed in", a.ownSessions)
	op(a, person.Own, http.MethodDelete, "/me/sessions/{session}", "end-own-session", "End one of one's sessions", a.endOwnSession)
	op(a, person.ManagePeople, http.MethodGet, "/people/{id}/sessions", "sessions", "Where somebody is signed in", a.sessionsOf)
	op(a, person.ManagePeople, http.MethodDelete, "/people/{id}/sessions/{session}", "end-session", "End one session of somebody",
		a.endSessionOf)
	op(a, person.ManagePeople, http.MethodPost, "/people/{id}/reset-second-factor", "reset-second-factor",
		"Take away the second factor of somebody who lost it", a.resetFactor)
	op(a, person.ManagePeople, http.MethodGet, "/sign-in-terms", "sign-in-terms", "Of whom a second factor is demanded", a.factorTerms)
	op(a, person.ManagePeople, http.MethodPut, "/sign-in-terms", "set-sign-in-terms", "Say of whom a second factor is demanded",
		a.setFactorTerms)
	op(a, person.ManagePeople, http.MethodGet, "/security-events", "security-events",
		"Who came in, who was kept out, who changed what others may do", a.securityEvents)
}

// self is who asks, if they are a person.
func self(ctx context.Context) (*wire.Person, error) {
	if p := personOf(ctx); p.ID != 0 {
		return p, nil
	}
	return nil, huma.Error422UnprocessableEntity("A token signs in nowhere, and has no second factor.")
}

func (a *API) factor(ctx context.Context, _ *struct{}) (*body[people.Factor], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	f, err := a.relay.Factor(ctx, p.ID)
	return &body[people.Factor]{f}, err
}

func (a *API) proposeFactor(ctx context.Context, _ *struct{}) (*body[people.Proposal], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	out, err := a.relay.ProposeFactor(ctx, p.ID)
	return &body[people.Proposal]{out}, err
}

type codeInput struct {
	Body struct {
		Code string `json:"code" maxLength:"20"`
	}
}

func (a *API) confirmFactor(ctx context.Context, in *codeInput) (*body[wire.RecoveryCodes], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.take(ctx, p.Email); err != nil {
		return nil, err
	}
	codes, err := a.relay.ConfirmFactor(ctx, p.ID, in.Body.Code)
	if err == nil {
		a.throttle.succeeded(sourceOf(ctx), p.Email)
	}
	return &body[wire.RecoveryCodes]{wire.RecoveryCodes{Codes: codes}}, err
}

// take takes a try at a secret, or refuses one too many.
func (a *API) take(ctx context.Context, account string) error {
	if a.throttle.begin(sourceOf(ctx), account, time.Now()) {
		return nil
	}
	return huma.Error429TooManyRequests("Too many tries. Wait a minute, then try again.")
}

type passwordInput struct {
	Body struct {
		Password string `json:"password" maxLength:"1000" doc:"One's own"`
	}
}

func (a *API) dropFactor(ctx context.Context, in *passwordInput) (*body[people.Factor], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.take(ctx, p.Email); err != nil {
		return nil, err
	}
	if err := a.relay.DropFactor(ctx, p.ID, in.Body.Password); err != nil {
		return nil, err
	}
	a.throttle.succeeded(sourceOf(ctx), p.Email)
	return a.factor(ctx, nil)
}

func (a *API) newRecoveryCodes(ctx context.Context, in *passwordInput) (*body[wire.RecoveryCodes], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.take(ctx, p.Email); err != nil {
		return nil, err
	}
	codes, err := a.relay.NewRecoveryCodes(ctx, p.ID, in.Body.Password)
	if err == nil {
		a.throttle.succeeded(sourceOf(ctx), p.Email)
	}
	return &body[wire.RecoveryCodes]{wire.RecoveryCodes{Codes: codes}}, err
}

func (a *API) sessionsView(ctx context.Context, user int64) (*body[[]wire.UserSession], error) {
	list, err := a.relay.Store.UserSessions(ctx, user)
	out := make([]wire.UserSession, len(list))
	here := a.sessions.GetInt64(ctx, "session")
	for i, s := range list {
		out[i] = wire.UserSession{ID: s.ID, BeganAt: at(s.BeganAt), UsedAt: at(s.UsedAt), Source: s.Source, Agent: s.Agent,
			Here: s.ID == here}
	}
	return &body[[]wire.UserSession]{out}, err
}

func (a *API) ownSessions(ctx context.Context, _ *struct{}) (*body[[]wire.UserSession], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	return a.sessionsView(ctx, p.ID)
}

type sessionInput struct {
	Session int64 `path:"session"`
}

func (a *API) endOwnSession(ctx context.Context, in *sessionInput) (*body[[]wire.UserSession], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.relay.EndSession(ctx, p.ID, in.Session, who(ctx)); err != nil {
		return nil, err
	}
	return a.sessionsView(ctx, p.ID)
}

func (a *API) sessionsOf(ctx context.Context, in *personIDInput) (*body[[]wire.UserSession], error) {
	return a.sessionsView(ctx, in.ID)
}

type sessionOfInput struct {
	ID      int64 `path:"id"`
	Session int64 `path:"session"`
}

func (a *API) endSessionOf(ctx context.Context, in *sessionOfInput) (*body[[]wire.UserSession], error) {
	if err := a.relay.EndSession(ctx, in.ID, in.Session, who(ctx)); err != nil {
		return nil, err
	}
	return a.sessionsView(ctx, in.ID)
}

func (a *API) resetFactor(ctx context.Context, in *personIDInput) (*body[[]wire.User], error) {
	if err := a.relay.ResetFactor(ctx, in.ID, who(ctx)); err != nil {
		return nil, err
	}
	return a.peopleView(ctx)
}

func (a *API) factorTerms(ctx context.Context, _ *struct{}) (*body[people.FactorTerms], error) {
	t, err := a.relay.FactorTerms(ctx)
	return &body[people.FactorTerms]{t}, err
}

type factorTermsInput struct{ Body people.FactorTerms }

func (a *API) setFactorTerms(ctx context.Context, in *factorTermsInput) (*body[people.FactorTerms], error) {
	if err := a.changeSetting(ctx, "second factor", "", func() error {
		return a.relay.SetFactorTerms(ctx, in.Body, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.factorTerms(ctx, nil)
}

type eventsInput struct {
	PageInput
	Before int64 `query:"before" doc:"Keyset: those before this one"`
}

func (a *API) securityEvents(ctx context.Context, in *eventsInput) (*paged[wire.SecurityEvent], error) {
	list, err := a.relay.Store.SecurityEvents(ctx, in.Before, in.Limit)
	out := &paged[wire.SecurityEvent]{Body: make([]wire.SecurityEvent, len(list))}
	for i, e := range list {
		out.Body[i] = wire.SecurityEvent{ID: e.ID, At: at(e.At), Kind: e.Kind, Who: e.Who, Source: e.Source, Text: e.Text}
	}
	if len(list) == in.Limit {
		out.Link = next("/security-events", url.Values{"limit": {fmt.Sprint(in.Limit)}}, "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, err
}

// codeWanted is the answer where the password is right and the second factor is missing, or wrong.
func codeWanted(given string) error {
	text := "Type the code that your authenticator shows, or a recovery code."
	if given != "" {
		text = "The code does not fit, or it was used already. Wait for the next one."
	}
	return huma.Error401Unauthorized(text, &huma.ErrorDetail{Message: text, Location: "body.code"})
}

// letIn begins the session of somebody who proved who they are.
func (a *API) letIn(ctx context.Context, in *signIn) (*store.User, error) {
	source, account := sourceOf(ctx), people.NormalEmail(in.Body.Email)
	if !a.throttle.begin(source, account, time.Now()) {
		a.refused(ctx, account, "too many tries")
		return nil, huma.Error429TooManyRequests("Too many wrong passwords. Wait a minute, then try again.")
	}
	u, err := a.relay.SignIn(ctx, in.Body.Email, in.Body.Password, in.Body.Code)
	switch {
	case errors.Is(err, people.ErrPasskey):
		a.throttle.succeeded(source, account) // the password was right
		const text = "Sign in by your passkey, or type a recovery code."
		return nil, huma.Error401Unauthorized(text, &huma.ErrorDetail{Message: text, Location: "body.code"})
	case errors.Is(err, people.ErrCode) && in.Body.Code == "":
		a.throttle.succeeded(source, account) // the password was right
		return nil, codeWanted("")
	case errors.Is(err, people.ErrCode):
		a.refused(ctx, account, "wrong code")
		return nil, codeWanted(in.Body.Code)
	case err != nil:
		return nil, a.failure(err)
	case u == nil:
		a.refused(ctx, account, "wrong password")
		return nil, huma.Error401Unauthorized("E-mail and password do not belong together.")
	}
	a.throttle.succeeded(source, account)
	return u, nil
}

// refused keeps that somebody was kept out; of too many, once a minute for a source and an account.
func (a *API) refused(ctx context.Context, account, why string) {
	if a.refusals.begin(sourceOf(ctx), account+" "+why, time.Now()) {
		a.relay.Security(ctx, "refused", account, sourceOf(ctx), why)
	}
}
