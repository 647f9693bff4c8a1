package api

import (
	"context"
	"encoding/json"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/wire"
)

// passkeyRoutes are those of keys of devices by which people sign in (Web Authentication, W3C).
func (a *API) passkeyRoutes() {
	op(a, person.Anybody, http.MethodPost, "/session/passkey/options", "ask-passkey", "Ask a device for a passkey of this service",
		a.askPasskey)
	op(a, person.Anybody, http.MethodPost, "/session/passkey", "sign-in-by-passkey", "Sign in by what a device answered",
		a.signInByPasskey)
	op(a, person.Own, http.MethodGet, "/me/passkeys", "passkeys", "One's own passkeys", a.passkeys)
	op(a, person.Own, http.MethodPost, "/me/passkeys/options", "ask-new-passkey", "Ask a device to make a passkey", a.askNewPasskey)
	op(a, person.Own, http.MethodPost, "/me/passkeys", "add-passkey", "Keep a passkey that a device made", a.addPasskey)
	op(a, person.Own, http.MethodPost, "/me/passkeys/{id}/remove", "remove-passkey", "Remove one of one's passkeys", a.removePasskey)
}

func (a *API) askPasskey(ctx context.Context, _ *struct{}) (*body[people.Asked], error) {
	asked, err := a.relay.AskPasskey(ctx, originOf(ctx))
	return &body[people.Asked]{asked}, err
}

type passkeyAnswer struct {
	Body struct {
		State  string         `json:"state" maxLength:"8000" doc:"As it came with the question"`
		Answer map[string]any `json:"answer" doc:"Of the device, in the JSON form of WebAuthn level 3"`
	}
}

func (a *API) signInByPasskey(ctx context.Context, in *passkeyAnswer) (*session, error) {
	if err := a.take(ctx, "passkey"); err != nil {
		return nil, err
	}
	answer, err := json.Marshal(in.Body.Answer)
	if err != nil {
		return nil, err
	}
	u, err := a.relay.SignInByPasskey(ctx, originOf(ctx), in.Body.State, answer)
	if err != nil {
		return nil, a.failure(err)
	}
	if u == nil {
		a.refused(ctx, "passkey", "a passkey that is not known")
		return nil, huma.Error401Unauthorized("This passkey is not known here. Sign in by password, or ask who leads the company.")
	}
	a.throttle.succeeded(sourceOf(ctx), "passkey")
	return a.beginSession(ctx, u)
}

func (a *API) passkeys(ctx context.Context, _ *struct{}) (*body[[]wire.Passkey], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.Store.Passkeys(ctx, p.ID)
	out := make([]wire.Passkey, len(list))
	for i, k := range list {
		out[i] = wire.Passkey{ID: k.ID, Name: k.Name, Host: k.Host, AddedAt: at(k.AddedAt), UsedAt: at(k.UsedAt)}
	}
	return &body[[]wire.Passkey]{out}, err
}

func (a *API) askNewPasskey(ctx context.Context, _ *struct{}) (*body[people.Asked], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	asked, err := a.relay.AskNewPasskey(ctx, p.ID, originOf(ctx))
	return &body[people.Asked]{asked}, err
}

type newPasskey struct {
	Body struct {
		State  string         `json:"state" maxLength:"8000" doc:"As it came with the question"`
		Name   string         `json:"name" maxLength:"60" doc:"Which device it is"`
		Answer map[string]any `json:"answer" doc:"Of the device, in the JSON form of WebAuthn level 3"`
	}
}

// addPasskey answers with recovery codes where it is the first second factor; they are told this once.
func (a *API) addPasskey(ctx context.Context, in *newPasskey) (*body[wire.RecoveryCodes], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	answer, err := json.Marshal(in.Body.Answer)
	if err != nil {
		return nil, err
	}
	codes, err := a.relay.AddPasskey(ctx, p.ID, originOf(ctx), in.Body.State, in.Body.Name, answer)
	if codes == nil {
		codes = []string{}
	}
	return &body[wire.RecoveryCodes]{wire.RecoveryCodes{Codes: codes}}, err
}

type removePasskeyInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Password string `json:"password" maxLength:"1000" doc:"One's own"`
	}
}

func (a *API) removePasskey(ctx context.Context, in *removePasskeyInput) (*body[[]wire.Passkey], error) {
	p, err := self(ctx)
	if err != nil {
		return nil, err
	}
	if err := a.take(ctx, p.Email); err != nil {
		return nil, err
	}
	if err := a.relay.DropPasskey(ctx, p.ID, in.ID, in.Body.Password); err != nil {
		return nil, err
	}
	a.throttle.succeeded(sourceOf(ctx), p.Email)
	return a.passkeys(ctx, nil)
}
