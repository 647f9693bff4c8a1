package client

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/joining"
	"openrelay/internal/relay/people"
	"openrelay/internal/wire"
)

// People lists who may sign in, and who has left.
func (c *Client) People(ctx context.Context) ([]wire.User, error) {
	return get[[]wire.User](ctx, c, "/people")
}

// AddPerson adds somebody who may sign in.
func (c *Client) AddPerson(ctx context.Context, p people.NewPerson, role person.Role) (out []wire.User, err error) {
	in := struct {
		people.NewPerson
		Role person.Role `json:"role"`
	}{p, role}
	_, err = c.Do(ctx, http.MethodPost, "/people", in, &out)
	return out, err
}

// ChangePerson changes who somebody is and what they may do; what is empty stays.
func (c *Client) ChangePerson(ctx context.Context, id int64, p people.PersonChange) (out []wire.User, err error) {
	_, err = c.Do(ctx, http.MethodPatch, fmt.Sprint("/people/", id), p, &out)
	return out, err
}

// LeavePerson lets somebody leave, or come back.
func (c *Client) LeavePerson(ctx context.Context, id int64, left bool) (out []wire.User, err error) {
	_, err = c.Do(ctx, http.MethodPost, fmt.Sprintf("/people/%d/leave", id), map[string]bool{"left": left}, &out)
	return out, err
}

// EndSessions ends all sessions of a person.
func (c *Client) EndSessions(ctx context.Context, id int64) (out []wire.User, err error) {
	_, err = c.Do(ctx, http.MethodPost, fmt.Sprintf("/people/%d/end-sessions", id), nil, &out)
	return out, err
}

// Sessions lists where a person is signed in.
func (c *Client) Sessions(ctx context.Context, id int64) ([]wire.UserSession, error) {
	return get[[]wire.UserSession](ctx, c, fmt.Sprintf("/people/%d/sessions", id))
}

// EndSession ends one session of a person.
func (c *Client) EndSession(ctx context.Context, id, session int64) (out []wire.UserSession, err error) {
	_, err = c.Do(ctx, http.MethodDelete, fmt.Sprintf("/people/%d/sessions/%d", id, session), nil, &out)
	return out, err
}

// ResetFactor takes away the second factor of a person.
func (c *Client) ResetFactor(ctx context.Context, id int64) (out []wire.User, err error) {
	_, err = c.Do(ctx, http.MethodPost, fmt.Sprintf("/people/%d/reset-second-factor", id), nil, &out)
	return out, err
}

// FactorTerms tells of whom a second factor is demanded.
func (c *Client) FactorTerms(ctx context.Context) (people.FactorTerms, error) {
	return get[people.FactorTerms](ctx, c, "/sign-in-terms")
}

// SetFactorTerms says of whom a second factor is demanded.
func (c *Client) SetFactorTerms(ctx context.Context, t people.FactorTerms) (out people.FactorTerms, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/sign-in-terms", t, &out)
	return out, err
}

// Tokens lists the API tokens, without their secrets.
func (c *Client) Tokens(ctx context.Context) ([]wire.Token, error) {
	return get[[]wire.Token](ctx, c, "/tokens")
}

// MakeToken makes an API token that ends at a time; the zero time: not by itself.
func (c *Client) MakeToken(ctx context.Context, name string, role person.Role, ends time.Time) (out wire.NewToken, err error) {
	in := struct {
		Name string      `json:"name"`
		Role person.Role `json:"role"`
		Ends time.Time   `json:"ends,omitzero"`
	}{name, role, ends}
	_, err = c.Do(ctx, http.MethodPost, "/tokens", in, &out)
	return out, err
}

// RevokeToken revokes an API token at once.
func (c *Client) RevokeToken(ctx context.Context, id int64) error {
	_, err := c.Do(ctx, http.MethodDelete, fmt.Sprint("/tokens/", id), nil, nil)
	return err
}

// PutPlace adds a place that holds stock, or changes it.
func (c *Client) PutPlace(ctx context.Context, code string, p joining.Place) (out wire.Location, err error) {
	_, err = c.Do(ctx, http.MethodPut, "/locations/"+esc(code), p, &out)
	return out, err
}
