package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) peopleRoutes() {
	op(a, person.Anybody, http.MethodPost, "/session", "sign-in", "Sign in with e-mail and password, and a second factor", a.signIn)
	op(a, person.Anybody, http.MethodDelete, "/session", "sign-out", "Sign out", a.signOut)
	op(a, person.Anybody, http.MethodGet, "/first-run", "first-run", "Whether the company has nobody yet", a.firstRun)
	op(a, person.Anybody, http.MethodPost, "/first-run", "begin",
		"Name the company and add its first person, with the key that the service printed", a.begin)
	op(a, person.Own, http.MethodGet, "/me", "me", "Who am I", a.me)
	op(a, person.Own, http.MethodPost, "/me/password", "own-password", "Change one's own password; all other sessions end",
		a.ownPassword)
	op(a, person.ManagePeople, http.MethodGet, "/people", "people", "Who may sign in, and who could", a.people)
	op(a, person.ManagePeople, http.MethodPost, "/people", "add-person", "Add somebody who may sign in", a.addPerson)
	op(a, person.ManagePeople, http.MethodPatch, "/people/{id}", "change-person", "Change who somebody is and what they may do",
		a.changePerson)
	op(a, person.ManagePeople, http.MethodPost, "/people/{id}/leave", "leave-person", "Let somebody leave, or come back", a.leavePerson)
	op(a, person.ManagePeople, http.MethodPost, "/people/{id}/end-sessions", "end-sessions", "End all sessions of a person", a.endSessions)
	op(a, person.ManagePeople, http.MethodGet, "/tokens", "tokens", "The API tokens, without their secrets", a.tokens)
	op(a, person.ManagePeople, http.MethodPost, "/tokens", "make-token", "Make an API token; it is told once", a.makeToken)
	op(a, person.ManagePeople, http.MethodDelete, "/tokens/{id}", "revoke-token", "Revoke an API token at once", a.revokeToken)
}

type signIn struct {
	Body struct {
		Email    string `json:"email" maxLength:"200"`
		Password string `json:"password" maxLength:"1000"`
		Code     string `json:"code,omitempty" maxLength:"40" doc:"Of the second factor, or a recovery code; asked for where there is one"`
	}
}

type session struct {
	Body wire.Person
}

func (a *API) signIn(ctx context.Context, in *signIn) (*session, error) {
	u, err := a.letIn(ctx, in)
	if err != nil {
		return nil, err
	}
	return a.beginSession(ctx, u)
}

// beginSession lets a person in.
func (a *API) beginSession(ctx context.Context, u *store.User) (*session, error) {
	if err := a.sessions.RenewToken(ctx); err != nil {
		return nil, a.failure(err)
	}
	if was := a.sessions.GetInt64(ctx, "session"); was != 0 { // of this browser; it goes on as another
		if err := a.relay.EndSession(ctx, a.sessions.GetInt64(ctx, "user"), was, u.Name); err != nil &&
			!errors.Is(err, store.ErrNotFound) {
			return nil, a.failure(err)
		}
	}
	id, err := a.relay.BeginSession(ctx, *u, sourceOf(ctx), agentOf(ctx))
	if err != nil {
		return nil, a.failure(err)
	}
	a.sessions.Put(ctx, "session", id)
	a.sessions.Put(ctx, "user", u.ID)
	a.sessions.Put(ctx, "epoch", u.Epoch)
	a.sessions.Put(ctx, "used", time.Now().Unix())
	p, err := a.signedIn(ctx, *u)
	if err != nil {
		return nil, a.failure(err)
	}
	return &session{*p}, nil
}

func (a *API) firstRun(ctx context.Context, _ *struct{}) (*body[wire.FirstRun], error) {
	nobody, err := a.relay.Nobody(ctx)
	return &body[wire.FirstRun]{wire.FirstRun{Nobody: nobody}}, err
}

type beginInput struct {
	Body struct {
		Key string `json:"key" maxLength:"100" doc:"As it stands in the address that the service printed"`
		people.Beginning
	}
}

// begin names the company, adds its first person, and signs them in.
func (a *API) begin(ctx context.Context, in *beginInput) (*session, error) {
	u, err := a.relay.BeginWith(ctx, in.Body.Key, in.Body.Beginning)
	if err != nil {
		return nil, err
	}
	return a.beginSession(ctx, u)
}

func (a *API) signOut(ctx context.Context, _ *struct{}) (*struct{}, error) {
	if id := a.sessions.GetInt64(ctx, "session"); id != 0 {
		err := a.relay.EndSession(ctx, a.sessions.GetInt64(ctx, "user"), id, who(ctx))
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
	}
	return nil, a.sessions.Destroy(ctx)
}

func (a *API) me(ctx context.Context, _ *struct{}) (*session, error) {
	return &session{*personOf(ctx)}, nil
}

type ownPasswordInput struct {
	Body struct {
		Old string `json:"old" maxLength:"1000"`
		New string `json:"new" maxLength:"1000"`
	}
}

// ownPassword changes the password of who asks. The session that asks goes on; the others end.
func (a *API) ownPassword(ctx context.Context, in *ownPasswordInput) (*session, error) {
	p := personOf(ctx)
	if p.ID == 0 {
		return nil, huma.Error422UnprocessableEntity("A token has no password.")
	}
	source := sourceOf(ctx)
	if !a.throttle.begin(source, p.Email, time.Now()) {
		return nil, huma.Error429TooManyRequests("Too many wrong passwords. Wait a minute, then try again.")
	}
	if err := a.relay.OwnPassword(ctx, p.ID, in.Body.Old, in.Body.New); err != nil {
		return nil, err
	}
	a.throttle.succeeded(source, p.Email)
	u, err := a.relay.Store.User(ctx, p.ID)
	if err != nil {
		return nil, err
	}
	return a.beginSession(ctx, &u)
}

// peopleView are the people as they are answered.
func (a *API) peopleView(ctx context.Context) (*body[[]wire.User], error) {
	list, err := a.relay.Store.Users(ctx)
	out := make([]wire.User, len(list))
	for i, u := range list {
		out[i] = wire.User{ID: u.ID, Name: u.Name, Email: u.Email, Role: u.Role, LeftAt: at(u.LeftAt), SignedInAt: at(u.SignedInAt),
			FactorAt: at(u.TOTPAt), Passkeys: u.Passkeys}
	}
	return &body[[]wire.User]{out}, err
}

func (a *API) people(ctx context.Context, _ *struct{}) (*body[[]wire.User], error) {
	return a.peopleView(ctx)
}

type addPersonInput struct {
	Body struct {
		people.NewPerson
		Role person.Role `json:"role" enum:"viewer,driver,packer,bookkeeper,clerk,lead"`
	}
}

func (a *API) addPerson(ctx context.Context, in *addPersonInput) (*body[[]wire.User], error) {
	if _, err := a.relay.AddPerson(ctx, in.Body.NewPerson, in.Body.Role, who(ctx)); err != nil {
		return nil, err
	}
	return a.peopleView(ctx)
}

type changePersonInput struct {
	ID   int64 `path:"id"`
	Body people.PersonChange
}

func (a *API) changePerson(ctx context.Context, in *changePersonInput) (*body[[]wire.User], error) {
	if err := a.changeSetting(ctx, "person", engine.PersonKey(in.ID), func() error {
		return a.relay.ChangePerson(ctx, in.ID, in.Body, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.peopleView(ctx)
}

type leavePersonInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Left bool `json:"left"`
	}
}

func (a *API) leavePerson(ctx context.Context, in *leavePersonInput) (*body[[]wire.User], error) {
	if err := a.changeSetting(ctx, "person", engine.PersonKey(in.ID), func() error {
		return a.relay.LeavePerson(ctx, in.ID, in.Body.Left, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.peopleView(ctx)
}

type personIDInput struct {
	ID int64 `path:"id"`
}

func (a *API) endSessions(ctx context.Context, in *personIDInput) (*body[[]wire.User], error) {
	if err := a.relay.EndSessions(ctx, in.ID, who(ctx)); err != nil {
		return nil, err
	}
	return a.peopleView(ctx)
}

func (a *API) tokens(ctx context.Context, _ *struct{}) (*body[[]wire.Token], error) {
	list, err := a.relay.Store.Tokens(ctx)
	out := make([]wire.Token, len(list))
	for i, k := range list {
		out[i] = wire.Token{ID: k.ID, Name: k.Name, Role: k.Role, MadeBy: k.MadeBy, MadeAt: at(k.CreatedAt), UsedAt: at(k.UsedAt),
			EndsAt: at(k.EndsAt), RevokedAt: at(k.RevokedAt)}
	}
	return &body[[]wire.Token]{out}, err
}

type makeTokenInput struct {
	Body struct {
		Name string      `json:"name" maxLength:"100" doc:"What it is for"`
		Role person.Role `json:"role" enum:"viewer,driver,packer,bookkeeper,clerk,lead"`
		Ends time.Time   `json:"ends,omitzero" doc:"When it ends; empty: not by itself"`
	}
}

func (a *API) makeToken(ctx context.Context, in *makeTokenInput) (*body[wire.NewToken], error) {
	id, token, err := a.relay.MakeToken(ctx, in.Body.Name, in.Body.Role, in.Body.Ends, who(ctx))
	return &body[wire.NewToken]{wire.NewToken{ID: id, Token: token}}, err
}

func (a *API) revokeToken(ctx context.Context, in *personIDInput) (*struct{}, error) {
	return nil, a.relay.RevokeToken(ctx, in.ID, who(ctx))
}
