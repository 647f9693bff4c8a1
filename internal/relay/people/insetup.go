package people

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/setup"
	"openrelay/internal/store"
)

// ExportPeople writes who works here and which programs are let in, without what is secret.
func (r *People) ExportPeople(ctx context.Context, out *setup.Setup) error {
	list, err := r.Store.Users(ctx)
	if err != nil {
		return err
	}
	for _, u := range list {
		if u.LeftAt != 0 {
			out.Archived.People = append(out.Archived.People, u.Email)
		} else {
			out.People = append(out.People, setup.Person{Email: u.Email, Name: u.Name, Role: u.Role})
		}
	}
	tokens, err := r.tokensAlive(ctx)
	for _, k := range tokens {
		if slices.ContainsFunc(out.Tokens, func(t setup.Token) bool { return t.Name == k.Name }) {
			continue // several of one name stand as one: the newest
		}
		t := setup.Token{Name: k.Name, Role: k.Role}
		if k.EndsAt != 0 {
			t.Ends = store.Time(k.EndsAt).Format(time.RFC3339)
		}
		out.Tokens = append(out.Tokens, t)
	}
	return err
}

// tokensAlive lists those that let somebody in now, the newest first.
func (r *People) tokensAlive(ctx context.Context) ([]store.Token, error) {
	list, err := r.Store.Tokens(ctx)
	now := r.Clock().UnixMicro()
	return slices.DeleteFunc(list, func(k store.Token) bool { return k.RevokedAt != 0 || k.EndsAt != 0 && k.EndsAt <= now }), err
}

// PlanPeople refuses what could not be applied of the people and tokens of a set-up, and says whose secrets will be made up.
func (r *People) PlanPeople(have, want setup.Setup, secrets map[string]map[string]string) (out []setup.Change, err error) {
	madeUp := func(thing, what string) {
		out = append(out, setup.Change{Action: "note", Thing: thing, To: "its " + what + " is made up and shown once"})
	}
	for _, w := range want.People {
		if _, err := checkedUser(w.Name, w.Email, w.Role); err != nil {
			return nil, fmt.Errorf("people: %s: %w", w.Email, err)
		}
		if slices.Contains(have.Used("people"), w.Email) || slices.Contains(have.Archived.People, w.Email) {
			continue
		}
		password := secrets[w.Key()]["password"]
		if password == "" {
			madeUp(w.Key(), "password")
		} else if len(password) < leastPassword {
			return nil, engine.Refuse("people: %s: password: at least %d characters are expected", w.Email, leastPassword)
		}
	}
	for _, w := range fresh(have, want) {
		ends, err := w.End()
		if err != nil {
			return nil, engine.Refuse("%v", err)
		}
		secret := secrets[w.Key()]["secret"]
		if err := r.checkToken(w.Name, w.Role, engine.Or(secret, anyToken), ends); err != nil {
			return nil, fmt.Errorf("tokens: %s: %w", w.Name, err)
		}
		if secret == "" {
			madeUp(w.Key(), "secret")
		}
	}
	return out, nil
}

// fresh are the tokens of a set-up that are not there yet.
func fresh(have, want setup.Setup) (out []setup.Token) {
	for _, w := range want.Tokens {
		if !slices.ContainsFunc(have.Tokens, func(h setup.Token) bool { return h.Name == w.Name }) {
			out = append(out, w)
		}
	}
	return out
}

// ApplyPeople adds who is not there and changes who is; nobody leaves. It returns what was made up, by whom it is for.
func (r *People) ApplyPeople(ctx context.Context, want setup.Setup, secrets map[string]map[string]string, who string) (
	map[string]map[string]string, error) {
	given := map[string]map[string]string{}
	have := setup.Setup{}
	if err := r.ExportPeople(ctx, &have); err != nil {
		return given, err
	}
	list, err := r.Store.Users(ctx)
	if err != nil {
		return given, err
	}
	for _, w := range want.People {
		i := slices.IndexFunc(list, func(u store.User) bool { return u.Email == w.Email })
		if i < 0 {
			err = r.addFromSetup(ctx, w, secrets[w.Key()]["password"], given, who)
		} else if u := list[i]; u.Name != w.Name || u.Role != w.Role {
			err = r.ChangePerson(ctx, u.ID, PersonChange{Name: w.Name, Role: w.Role}, who)
		}
		if err != nil {
			return given, fmt.Errorf("people: %s: %w", w.Email, err)
		}
	}
	for _, w := range fresh(have, want) {
		ends, err := w.End()
		if err != nil {
			return given, err
		}
		secret := secrets[w.Key()]["secret"]
		if secret == "" {
			secret = newTokenText()
			given[w.Key()] = map[string]string{"secret": secret}
		}
		if _, err := r.keepToken(ctx, w.Name, w.Role, secret, ends, who); err != nil {
			return given, fmt.Errorf("tokens: %s: %w", w.Name, err)
		}
	}
	return given, nil
}

func (r *People) addFromSetup(ctx context.Context, w setup.Person, password string, given map[string]map[string]string,
	who string) error {
	if password == "" {
		password = engine.RandomText(16)
		given[w.Key()] = map[string]string{"password": password}
	}
	_, err := r.AddPerson(ctx, NewPerson{Name: w.Name, Email: w.Email, Password: password}, w.Role, who)
	return err
}

// IsLast refuses to lose the last who may set up the company.
func (r *People) IsLast(ctx context.Context, email string) error {
	u, err := r.Store.UserByEmail(ctx, NormalEmail(email))
	if err != nil || u.Role != person.Lead {
		return err
	}
	list, err := r.Store.Users(ctx)
	for _, other := range list {
		if other.ID != u.ID && other.Role == person.Lead && other.LeftAt == 0 {
			return err
		}
	}
	return cmp.Or(err, errLast(u))
}

// LeaveByEmail lets somebody leave, or come back, by the e-mail under which they sign in.
func (r *People) LeaveByEmail(ctx context.Context, email string, left bool, who string) error {
	u, err := r.Store.UserByEmail(ctx, NormalEmail(email))
	if err != nil {
		return fmt.Errorf("person %s: %w", email, err)
	}
	return r.LeavePerson(ctx, u.ID, left, who)
}
