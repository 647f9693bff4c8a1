package relay

import (
	"openrelay/internal/connector"
	"openrelay/internal/store"
)

// openAccount unseals what lets us in.
func (r *Relay) openAccount(a store.Account) (map[string]string, connector.Token, error) {
	var token connector.Token
	secrets, err := r.seal.open(a.Credentials)
	if err != nil {
		return nil, token, err
	}
	if len(a.Token) > 0 {
		err = r.seal.openInto(a.Token, &token)
	}
	return secrets, token, err
}

// keepToken keeps each new token of an account before it is used: a refresh token may be good only once.
func (r *Relay) keepToken(account int64) func(connector.Token) error {
	return func(t connector.Token) error {
		box, err := r.seal.seal(t)
		if err != nil {
			return err
		}
		return r.Store.Write(r.ctx, func(tx *store.Tx) error { return tx.PutToken(account, box) })
	}
}
