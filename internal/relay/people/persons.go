package people

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// AddPerson adds somebody who may sign in, and returns the id.
func (r *People) AddPerson(ctx context.Context, p NewPerson, role person.Role, who string) (id int64, err error) {
	u, err := newUser(p, role)
	if err != nil {
		return 0, err
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		if old, err := ch.UserByEmail(u.Email); err == nil {
			return &engine.Refused{Text: fmt.Sprintf("%s signs in as %s already", old.Name, old.Email), Conflict: true}
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := ch.PutUser(&u); err != nil {
			return err
		}
		made, err := ch.UserByEmail(u.Email)
		if err != nil {
			return err
		}
		id = made.ID
		return r.notePerson(ch, made, who, "added", "%s added, as %s", made.Name, made.Role)
	})
	return id, err
}

// PersonChange is what is to be changed of a person; what is empty stays.
type PersonChange struct {
	Name     string      `json:"name,omitempty" maxLength:"100"`
	Email    string      `json:"email,omitempty" maxLength:"200"`
	Role     person.Role `json:"role,omitempty"`
	Password string      `json:"password,omitempty" maxLength:"1000" doc:"A new one; all sessions of the person end"`
}

// ChangePerson changes who somebody is and what they may do. With another role or password, all their sessions end.
func (r *People) ChangePerson(ctx context.Context, id int64, p PersonChange, who string) error {
	return r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		was := *u
		u.Name, u.Email = engine.Or(strings.TrimSpace(p.Name), u.Name), engine.Or(strings.TrimSpace(p.Email), u.Email)
		if p.Role != "" {
			u.Role = p.Role
		}
		checked, err := checkedUser(u.Name, u.Email, u.Role)
		if err != nil {
			return err
		}
		u.Email = checked.Email
		if other, err := ch.UserByEmail(u.Email); err == nil && other.ID != u.ID {
			return &engine.Refused{Text: fmt.Sprintf("%s signs in as %s already", other.Name, other.Email), Conflict: true}
		}
		if p.Password != "" {
			if u.PasswordHash, err = newHash(p.Password); err != nil {
				return err
			}
		}
		if p.Password != "" || u.Role != was.Role {
			u.Epoch++
		}
		if was.Role == person.Lead && u.Role != person.Lead {
			if err := r.lastOne(ch, was); err != nil {
				return err
			}
		}
		return r.notePerson(ch, *u, who, "changed", "%s", changedText(was, *u, p.Password != ""))
	})
}

func changedText(was, is store.User, password bool) string {
	var parts []string
	for _, f := range [][3]string{{"name", was.Name, is.Name}, {"e-mail", was.Email, is.Email},
		{"role", string(was.Role), string(is.Role)}} {
		if f[1] != f[2] {
			parts = append(parts, fmt.Sprintf("%s %s becomes %s", f[0], f[1], f[2]))
		}
	}
	if password {
		parts = append(parts, "a new password")
	}
	return is.Name + ": " + engine.Or(strings.Join(parts, ", "), "nothing was changed")
}

// LeavePerson lets somebody leave, or come back. Who has left signs in no more; what they did keeps their name.
func (r *People) LeavePerson(ctx context.Context, id int64, left bool, who string) error {
	return r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		if (u.LeftAt != 0) == left {
			return nil
		}
		if !left {
			u.LeftAt = 0
			return r.notePerson(ch, *u, who, "came back", "%s may sign in again", u.Name)
		}
		if u.Role == person.Lead {
			if err := r.lastOne(ch, *u); err != nil {
				return err
			}
		}
		u.LeftAt = ch.Now.UnixMicro()
		u.Epoch++
		return r.notePerson(ch, *u, who, "left", "%s signs in no more", u.Name)
	})
}

// EndSessions ends all sessions of a person.
func (r *People) EndSessions(ctx context.Context, id int64, who string) error {
	return r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		u.Epoch++
		return r.notePerson(ch, *u, who, "sessions ended", "all sessions of %s were ended", u.Name)
	})
}

// OwnPassword changes the password of who knows the old one. All their sessions end.
func (r *People) OwnPassword(ctx context.Context, id int64, old, fresh string) error {
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return err
	}
	if !r.fits(ctx, u.PasswordHash, old) {
		return engine.Refuse("old: that is not your password")
	}
	hash, err := newHash(fresh)
	if err != nil {
		return err
	}
	return r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		u.PasswordHash = hash
		u.Epoch++
		return r.notePerson(ch, *u, engine.PersonKey(u.ID), "password", "%s has a new password", u.Name)
	})
}

// changeUser changes a person within a change.
func (r *People) changeUser(ctx context.Context, id int64, f func(*engine.Change, *store.User) error) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		u, err := ch.User(id)
		if err != nil {
			return fmt.Errorf("person %d: %w", id, err)
		}
		epoch := u.Epoch
		if err := f(ch, &u); err != nil {
			return err
		}
		if u.Epoch != epoch {
			ch.Tell("session", "")
			if err := ch.EndUserSessions(id, ch.Now); err != nil {
				return err
			}
		}
		return ch.UpdateUser(u)
	})
}

// lastOne refuses to lose the last who may set up the company.
func (r *People) lastOne(ch *engine.Change, u store.User) error {
	n, err := ch.CountRole(person.Lead)
	if err != nil || n > 1 || u.LeftAt != 0 {
		return err
	}
	return errLast(u)
}

func errLast(u store.User) error {
	return &engine.Refused{Text: fmt.Sprintf("%s is the last with the role %s; give it to somebody else first", u.Name, person.Lead),
		Conflict: true}
}

func (r *People) notePerson(ch *engine.Change, u store.User, who, what, text string, args ...any) error {
	said := fmt.Sprintf(text, args...)
	if err := r.NoteSecurity(ch, what, who, "", said); err != nil {
		return err
	}
	return ch.Note(
		store.Entry{At: ch.Now.UnixMicro(), Who: who, Thing: "person", ThingID: u.ID, What: what, Text: said})
}

// NewToken makes an API token. The text is shown once; only its hash is kept.
func (r *People) NewToken(ctx context.Context, name string, role person.Role) (string, error) {
	_, token, err := r.MakeToken(ctx, name, role, time.Time{}, "")
	return token, err
}

// MakeToken makes an API token that ends at a time; the zero time: not by itself. The text is shown once; only its hash is kept.
func (r *People) MakeToken(ctx context.Context, name string, role person.Role, ends time.Time, who string) (id int64, token string,
	err error) {
	token = newTokenText()
	id, err = r.keepToken(ctx, name, role, token, ends, who)
	return id, token, err
}

// AddToken keeps an API token by its hash.
func (r *People) AddToken(ctx context.Context, name string, role person.Role, token string) error {
	_, err := r.keepToken(ctx, name, role, token, time.Time{}, "")
	return err
}

func newTokenText() string { return "relay_" + engine.RandomText(40) }

// anyToken stands for one that is made up later.
var anyToken = strings.Repeat("x", leastToken)

// leastToken is how many characters a token has at least.
const leastToken = 20

// checkToken refuses a token that cannot be kept.
func (r *People) checkToken(name string, role person.Role, token string, ends time.Time) error {
	switch {
	case len(token) < leastToken:
		return engine.Refuse("token: at least %d characters are expected", leastToken)
	case strings.TrimSpace(name) == "":
		return engine.Refuse("name: missing; it says what the token is for")
	case !ends.IsZero() && !ends.After(r.Clock()):
		return engine.Refuse("ends: %s is over already", ends.Format(time.RFC3339))
	}
	if err := role.Check(); err != nil {
		return engine.Refuse("%v", err)
	}
	return engine.CheckName(name)
}

func (r *People) keepToken(ctx context.Context, name string, role person.Role, token string, ends time.Time, who string) (id int64,
	err error) {
	if err := r.checkToken(name, role, token, ends); err != nil {
		return 0, err
	}
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		k := store.Token{Name: strings.TrimSpace(name), Role: role, MadeBy: who, CreatedAt: ch.Now.UnixMicro()}
		if !ends.IsZero() {
			k.EndsAt = ends.UnixMicro()
		}
		if id, err = ch.AddToken(k, tokenHash(token)); err != nil || who == "" {
			return err
		}
		return r.notePerson(ch, store.User{}, who, "token made", "API token %s made, as %s", k.Name, role)
	})
	return id, err
}

// RevokeToken ends an API token at once.
func (r *People) RevokeToken(ctx context.Context, id int64, who string) error {
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.Tell("session", "")
		k, err := ch.RevokeToken(id, ch.Now)
		if err != nil {
			return fmt.Errorf("token %d: %w", id, err)
		}
		return r.notePerson(ch, store.User{}, who, "token revoked", "API token %s revoked", k.Name)
	})
}

// TokenAlive tells whether a token is good now.
func (r *People) TokenAlive(ctx context.Context, id int64) bool {
	k, err := r.Store.Token(ctx, id)
	return err == nil && k.RevokedAt == 0 && (k.EndsAt == 0 || r.Clock().Before(store.Time(k.EndsAt)))
}

// tokenUse is how often it is noted that a token is used.
const tokenUse = time.Hour

// TokenFor returns whose token this is. One that ended or was revoked is not known.
func (r *People) TokenFor(ctx context.Context, token string) (store.Token, error) {
	k, err := r.Store.TokenByHash(ctx, tokenHash(token))
	if err != nil {
		return k, err
	}
	now := r.Clock()
	if k.RevokedAt != 0 || k.EndsAt != 0 && !now.Before(store.Time(k.EndsAt)) {
		return store.Token{}, store.ErrNotFound
	}
	if now.Sub(store.Time(k.UsedAt)) >= tokenUse {
		if err := r.Store.Write(ctx, func(t *store.Tx) error { return t.TokenUsed(k.ID, now) }); err != nil {
			r.Log.Warn("that a token was used could not be noted", "token", k.Name, "error", err)
		}
	}
	return k, nil
}
