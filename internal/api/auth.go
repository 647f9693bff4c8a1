package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/person"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type personKey struct{}

func personOf(ctx context.Context) *wire.Person {
	p, _ := ctx.Value(personKey{}).(*wire.Person)
	return p
}

func who(ctx context.Context) string {
	if p := personOf(ctx); p != nil {
		return p.Name
	}
	return "nobody"
}

func may(p *wire.Person, role person.Role) bool { return p != nil && p.Role.Covers(role) }

func wants(role person.Role, p *wire.Person) string {
	return fmt.Sprintf("This needs the role %s; you are %s.", role, p.Role)
}

// identify finds out who makes a request: an API token, or a session.
func (a *API) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var p *wire.Person
		if token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			t, err := a.relay.TokenFor(r.Context(), token)
			if err != nil {
				problem(w, http.StatusUnauthorized, "The API token is not known.")
				return
			}
			p = &wire.Person{Name: t.Name, Role: t.Role}
		} else if id := a.sessions.GetInt64(r.Context(), "user"); id != 0 && a.awake(r.Context(), time.Now()) {
			u, err := a.relay.Store.User(r.Context(), id)
			if err == nil {
				p = &wire.Person{Name: u.Name, Email: u.Email, Role: u.Role}
			} else if !errors.Is(err, store.ErrNotFound) {
				problem(w, http.StatusInternalServerError, "The session could not be read.")
				return
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), personKey{}, p)))
	})
}

// A session that nobody uses for idleFor ends. When it was last used is noted at most every idleNote, so that looking at
// pages writes nothing.
const (
	idleFor  = 3 * 24 * time.Hour
	idleNote = time.Hour
)

// awake tells whether a session was used lately, and notes now and then that it is.
func (a *API) awake(ctx context.Context, now time.Time) bool {
	used := time.Unix(a.sessions.GetInt64(ctx, "used"), 0)
	if now.Sub(used) > idleFor {
		return false
	}
	if now.Sub(used) > idleNote {
		a.sessions.Put(ctx, "used", now.Unix())
	}
	return true
}

// only lets a raw handler be used by a role only.
func only(role person.Role, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch p := personOf(r.Context()); {
		case p == nil:
			problem(w, http.StatusUnauthorized, "Sign in, or send an API token.")
		case !may(p, role):
			problem(w, http.StatusForbidden, wants(role, p))
		default:
			next(w, r)
		}
	}
}

// guard is the same for the described operations.
func guard(api huma.API, role person.Role) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		switch p := personOf(ctx.Context()); {
		case p == nil:
			huma.WriteErr(api, ctx, http.StatusUnauthorized, "Sign in, or send an API token.")
		case !may(p, role):
			huma.WriteErr(api, ctx, http.StatusForbidden, wants(role, p))
		default:
			next(ctx)
		}
	}
}

// throttle slows down those who guess passwords: after five failures for an address or an account,
// further tries wait until a minute has passed.
type throttle struct {
	mu   sync.Mutex
	fail map[string][]time.Time
}

const (
	throttleMost   = 5
	throttleWindow = time.Minute
)

func (t *throttle) blocked(key string, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	recent := t.fail[key][:0]
	for _, at := range t.fail[key] {
		if now.Sub(at) < throttleWindow {
			recent = append(recent, at)
		}
	}
	if len(recent) == 0 {
		delete(t.fail, key)
	} else {
		t.fail[key] = recent
	}
	return len(recent) >= throttleMost
}

func (t *throttle) failed(key string, now time.Time) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.fail == nil || len(t.fail) > 10_000 {
		t.fail = map[string][]time.Time{}
	}
	t.fail[key] = append(t.fail[key], now)
}
