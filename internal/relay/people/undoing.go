package people

import (
	"context"
	"encoding/json"
	"errors"
	"strconv"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// personValue is how a person stands. Passwords and second factors are not kept: a new one cannot be undone.
type personValue struct {
	Name, Email string
	Role        person.Role
	Left        bool
}

// personKind makes changes of people undoable; its codes are their ids.
func (r *People) personKind() engine.SettingKind {
	return engine.SettingKind{Kind: "person", Read: r.readPerson, Write: r.writePerson}
}

func (r *People) readPerson(ctx context.Context, code string) (any, bool, error) {
	id, err := strconv.ParseInt(code, 10, 64)
	if err != nil {
		return nil, false, nil
	}
	u, err := r.Store.User(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, false, nil
	}
	return personValue{u.Name, u.Email, u.Role, u.LeftAt != 0}, true, err
}

func (r *People) writePerson(ctx context.Context, code string, text json.RawMessage, who string) error {
	var was personValue
	if err := json.Unmarshal(text, &was); err != nil {
		return err
	}
	id, err := strconv.ParseInt(code, 10, 64)
	if err != nil {
		return err
	}
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return err
	}
	if left := u.LeftAt != 0; left != was.Left {
		if err := r.LeavePerson(ctx, id, was.Left, who); err != nil {
			return err
		}
	}
	if was.Left || u.Name == was.Name && u.Email == was.Email && u.Role == was.Role {
		return nil
	}
	return r.ChangePerson(ctx, id, PersonChange{Name: was.Name, Email: was.Email, Role: was.Role}, who)
}
