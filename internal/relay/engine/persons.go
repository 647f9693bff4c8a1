package engine

import (
	"context"
	"errors"
	"strconv"
	"strings"

	"openrelay/internal/store"
)

// PersonKey is under what a person is kept wherever it says who did something.
func PersonKey(id int64) string { return strconv.FormatInt(id, 10) }

// CheckName refuses a name of digits alone for what acts beside people, such as a connection or a token: where it says who did
// something, a number is a person's.
func CheckName(name string) error {
	if _, err := strconv.ParseInt(strings.TrimSpace(name), 10, 64); err == nil {
		return Refuse("name %q: a letter is needed, since people are known by numbers", name)
	}
	return nil
}

// PersonRef is how it is kept that a person looks after something: by their id, whatever they are called. The text is an
// id, an e-mail address, or a name that one person alone has; who is here goes before who left. A text that is nobody's, such
// as that of a team, stays.
func (r *Engine) PersonRef(ctx context.Context, text string) (ref string, err error) {
	text = strings.TrimSpace(text)
	if text == "" {
		return "", nil
	}
	list, err := r.Store.Users(ctx)
	if err != nil {
		return "", err
	}
	var named, gone []int64
	for _, u := range list {
		id := PersonKey(u.ID)
		if text == id || strings.EqualFold(text, u.Email) {
			return id, nil
		}
		if u.Name == text && u.LeftAt == 0 {
			named = append(named, u.ID)
		} else if u.Name == text {
			gone = append(gone, u.ID)
		}
	}
	if len(named) == 0 {
		named = gone
	}
	switch len(named) {
	case 0:
		return text, nil
	case 1:
		return PersonKey(named[0]), nil
	}
	return "", Refuse("%d people are called %s; give the e-mail address of the one that is meant", len(named), text)
}

// PersonName is what a person is called who is kept by their id: by name, or by e-mail where two share it. A text that is
// nobody's stands for itself.
func (r *Engine) PersonName(ctx context.Context, ref string) (string, error) {
	id, err := strconv.ParseInt(ref, 10, 64)
	if err != nil {
		return ref, nil
	}
	name, err := r.Store.UserName(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return ref, nil
	}
	return name, err
}
