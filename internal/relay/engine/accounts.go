package engine

import (
	"openrelay/internal/connector"
	"openrelay/internal/store"
)

// OpenAccount unseals what lets us in.
func (r *Engine) OpenAccount(a store.Account) (map[string]string, connector.Token, error) {
	var token connector.Token
	secrets, err := r.Sealer.Open(a.Credentials)
	if err != nil {
		return nil, token, err
	}
	if len(a.Token) > 0 {
		err = r.Sealer.OpenInto(a.Token, &token)
	}
	return secrets, token, err
}

// keepToken keeps each new token of an account before it is used: a refresh token may be good only once.
func (r *Engine) keepToken(account int64) func(connector.Token) error {
	return func(t connector.Token) error {
		box, err := r.Sealer.Seal(t)
		if err != nil {
			return err
		}
		return r.Store.Write(r.Ctx, func(tx *store.Tx) error { return tx.PutToken(account, box) })
	}
}

// Tested is the verdict on an access, with what was kept of it.
type Tested struct {
	connector.Verdict
	Given map[string]string `json:"given,omitempty" doc:"Keys that we made up; they are shown this once"`
	Back  string            `json:"back,omitempty" doc:"Code of a connection that was left before and is continued by this one"`
}
