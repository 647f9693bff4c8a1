package people

import (
	"context"
	"crypto/subtle"
	"strings"
	"sync"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// firstRunLasts is how long the address is good at which a company is named and gets its first person.
const firstRunLasts = time.Hour

// firstRun is the key to a company that has nobody yet.
type firstRun struct {
	mu    sync.Mutex
	key   []byte // its hash; nil: there is none
	until time.Time
}

// Beginning is what a company begins with.
type Beginning struct {
	Company engine.Company `json:"company"`
	Person  NewPerson      `json:"person" doc:"The first person, who leads"`
}

// NewPerson is somebody who may sign in.
type NewPerson struct {
	Name     string `json:"name" maxLength:"100"`
	Email    string `json:"email" maxLength:"200"`
	Password string `json:"password" maxLength:"1000"`
}

// Nobody tells whether the company has no person yet, so that nobody can sign in.
func (r *People) Nobody(ctx context.Context) (bool, error) {
	n, err := r.Store.CountUsers(ctx)
	return n == 0, err
}

// OpenFirstRun makes the key with which a company that has nobody yet is named and gets its first person: once, and for an
// hour. It is empty where there is somebody. A key that was made before is good no more.
func (r *People) OpenFirstRun(ctx context.Context) (string, error) {
	nobody, err := r.Nobody(ctx)
	if err != nil || !nobody {
		return "", err
	}
	key := engine.RandomText(32)
	r.first.mu.Lock()
	r.first.key, r.first.until = tokenHash(key), r.Clock().Add(firstRunLasts)
	r.first.mu.Unlock()
	return key, nil
}

// BeginWith names the company and adds its first person, for who has the key.
func (r *People) BeginWith(ctx context.Context, key string, b Beginning) (*store.User, error) {
	r.first.mu.Lock()
	defer r.first.mu.Unlock() // one at a time: the key is good once
	switch {
	case r.first.key == nil || subtle.ConstantTimeCompare(r.first.key, tokenHash(strings.TrimSpace(key))) != 1:
		return nil, engine.Refuse("the key is not the one that the service printed when it started last, or it was used")
	case r.Clock().After(r.first.until):
		return nil, engine.Refuse("the key was good for an hour; start the service again, and it prints a new one")
	}
	u, err := r.BeginCompany(ctx, b)
	if err != nil {
		return nil, err
	}
	r.first.key = nil
	return u, r.Store.Write(ctx, func(t *store.Tx) error { return t.SignedIn(u.ID, r.Clock()) })
}

// BeginCompany names a company that has nobody yet, and adds its first person.
func (r *People) BeginCompany(ctx context.Context, b Beginning) (*store.User, error) {
	if err := b.Company.Check(); err != nil {
		return nil, err
	}
	u, err := newUser(b.Person, person.Lead)
	if err != nil {
		return nil, err
	}
	if err := r.Commit(ctx, func(ch *engine.Change) error {
		switch n, err := ch.CountUsers(); {
		case err != nil:
			return err
		case n > 0:
			return &engine.Refused{Text: "the company has people already; one of them adds others", Conflict: true}
		}
		if err := ch.PutUser(&u); err != nil {
			return err
		}
		if err := r.PutCompany(ch, b.Company, engine.PersonKey(u.ID)); err != nil {
			return err
		}
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: engine.PersonKey(u.ID), Thing: "company", What: "begun",
			Text: b.Company.Name + " begun; " + u.Name + " leads it"})
	}); err != nil {
		return nil, err
	}
	if err := r.Reload(ctx); err != nil {
		return nil, err
	}
	kept, err := r.Store.UserByEmail(ctx, u.Email)
	return &kept, err
}

// newUser checks a person and hashes the password.
func newUser(p NewPerson, role person.Role) (store.User, error) {
	u, err := checkedUser(p.Name, p.Email, role)
	if err == nil {
		u.PasswordHash, err = newHash(p.Password)
	}
	return u, err
}

// leastPassword is how many characters a password has at least.
const leastPassword = 8

// newHash checks a new password and hashes it.
func newHash(password string) (string, error) {
	if len(password) < leastPassword {
		return "", engine.Refuse("password: at least %d characters are expected", leastPassword)
	}
	return HashPassword(password), nil
}

// checkedUser checks who somebody is and what they may do.
func checkedUser(name, email string, role person.Role) (store.User, error) {
	email, name = NormalEmail(email), strings.TrimSpace(name)
	at := strings.Index(email, "@")
	switch {
	case name == "":
		return store.User{}, engine.Refuse("name: missing")
	case at < 1 || at == len(email)-1 || strings.ContainsAny(email, " ,;<>\t\r\n"):
		return store.User{}, engine.Refuse("email: an address such as ilka@example.org is expected")
	}
	if err := role.Check(); err != nil {
		return store.User{}, engine.Refuse("%v", err)
	}
	return store.User{Email: email, Name: name, Role: role}, nil
}
