package api

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type personKey struct{}

func personOf(ctx context.Context) *wire.Person {
	p, _ := ctx.Value(personKey{}).(*wire.Person)
	return p
}

// who is under what it is kept who does something: a person's id, or the name of the token that a program uses.
func who(ctx context.Context) string {
	switch p := personOf(ctx); {
	case p == nil:
		return "nobody"
	case p.ID != 0:
		return engine.PersonKey(p.ID)
	default:
		return p.Name
	}
}

func may(p *wire.Person, any person.Permission) bool { return p != nil && p.Role.May(any) }

func wants(any person.Permission, p *wire.Person) string {
	return fmt.Sprintf("This needs the role %s; you are %s.", person.Needs(any), p.Role)
}

// signedIn is a person who makes a request.
func (a *API) signedIn(ctx context.Context, u store.User) (*wire.Person, error) {
	p := &wire.Person{ID: u.ID, Name: u.Name, Email: u.Email, Role: u.Role, May: u.Role.Permissions().Names()}
	if u.HasFactor() {
		return p, nil
	}
	due, err := a.relay.FactorDemanded(ctx, u.Role)
	p.FactorDue = due
	return p, err
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
			p = &wire.Person{Name: t.Name, Role: t.Role, May: t.Role.Permissions().Names(), Token: t.ID}
		} else if id := a.sessions.GetInt64(r.Context(), "user"); id != 0 && a.awake(r.Context(), time.Now()) {
			var err error
			if p, err = a.whoseSession(r.Context(), id); err != nil {
				problem(w, http.StatusInternalServerError, "The session could not be read.")
				return
			}
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(withSource(r, a.proxied), personKey{}, p)))
	})
}

// whoseSession is whom the session of a request belongs to; nobody where it has ended.
func (a *API) whoseSession(ctx context.Context, user int64) (*wire.Person, error) {
	u, err := a.relay.Store.User(ctx, user)
	if errors.Is(err, store.ErrNotFound) || err == nil && (u.LeftAt != 0 || u.Epoch != a.sessions.GetInt64(ctx, "epoch")) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	s, err := a.relay.Store.UserSession(ctx, a.sessions.GetInt64(ctx, "session"))
	if errors.Is(err, store.ErrNotFound) || err == nil && (s.EndedAt != 0 || s.UserID != user) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return a.signedIn(ctx, u)
}

// idleNote is how often it is noted, at most, that a session is used: looking at pages writes nothing.
const idleNote = time.Hour

// awake tells whether a session was used lately, and notes now and then that it is.
func (a *API) awake(ctx context.Context, now time.Time) bool {
	used := time.Unix(a.sessions.GetInt64(ctx, "used"), 0)
	if now.Sub(used) > people.SessionRest {
		return false
	}
	if now.Sub(used) > idleNote {
		a.sessions.Put(ctx, "used", now.Unix())
		if err := a.relay.Store.Write(ctx, func(t *store.Tx) error {
			return t.UserSessionUsed(a.sessions.GetInt64(ctx, "session"), now)
		}); err != nil {
			a.log.Warn("that a session is used could not be noted", "error", err)
		}
	}
	return true
}

// factorFirst is told to who must set up a second factor.
const factorFirst = "The company demands a second factor. Set yours up first, under You."

// only lets a raw handler be used by those who have one of the permissions.
func only(any person.Permission, next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		switch p := personOf(r.Context()); {
		case p == nil:
			problem(w, http.StatusUnauthorized, "Sign in, or send an API token.")
		case p.FactorDue && any&person.Own == 0:
			problem(w, http.StatusForbidden, factorFirst)
		case !may(p, any):
			problem(w, http.StatusForbidden, wants(any, p))
		default:
			next(w, r)
		}
	}
}

// guard is the same for the described operations.
func guard(api huma.API, any person.Permission) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		switch p := personOf(ctx.Context()); {
		case p == nil:
			huma.WriteErr(api, ctx, http.StatusUnauthorized, "Sign in, or send an API token.")
		case p.FactorDue && any&person.Own == 0:
			huma.WriteErr(api, ctx, http.StatusForbidden, factorFirst)
		case !may(p, any):
			huma.WriteErr(api, ctx, http.StatusForbidden, wants(any, p))
		default:
			next(ctx)
		}
	}
}

// throttle slows down those who guess passwords: five tries a minute for an account from one source, and thirty from a source
// whatever the account. It goes by source, so that nobody can lock somebody else out. A try counts from its beginning, so that
// many at once are no way around it; those that succeed are given back.
type throttle struct {
	mu   sync.Mutex
	seen map[string][]time.Time
}

const (
	triesPerAccount = 5
	triesPerSource  = 30
	throttleWindow  = time.Minute
	throttleKeys    = 10_000 // what is remembered at most
)

// begin takes a try, or tells that there were too many.
func (t *throttle) begin(source, account string, now time.Time) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.seen == nil || len(t.seen) > throttleKeys {
		t.seen = map[string][]time.Time{}
	}
	keys := throttleKeysOf(source, account)
	for i, most := range []int{triesPerSource, triesPerAccount} {
		recent := slices.DeleteFunc(t.seen[keys[i]], func(at time.Time) bool { return now.Sub(at) >= throttleWindow })
		if t.seen[keys[i]] = recent; len(recent) >= most {
			return false
		}
	}
	for _, k := range keys {
		t.seen[k] = append(t.seen[k], now)
	}
	return true
}

// succeeded gives a try back.
func (t *throttle) succeeded(source, account string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	keys := throttleKeysOf(source, account)
	delete(t.seen, keys[1])
	if tries := t.seen[keys[0]]; len(tries) > 0 {
		t.seen[keys[0]] = tries[:len(tries)-1]
	}
}

func throttleKeysOf(source, account string) [2]string {
	return [2]string{source, source + " " + account}
}

type sourceKey struct{}

type agentKey struct{}

// agentOf is what the browser of a request says of itself.
func agentOf(ctx context.Context) string {
	agent, _ := ctx.Value(agentKey{}).(string)
	return agent
}

// sourceOf is the address that a request comes from.
func sourceOf(ctx context.Context) string {
	source, _ := ctx.Value(sourceKey{}).(string)
	return source
}

// withSource notes the address that a request comes from. Behind a proxy of ours that is the one it added last: by the
// proxy's own, everybody would be one source, and one could keep out all.
func withSource(r *http.Request, proxied bool) context.Context {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	if hops := r.Header.Values("X-Forwarded-For"); proxied && len(hops) > 0 {
		last := hops[len(hops)-1]
		last = strings.TrimSpace(last[strings.LastIndex(last, ",")+1:])
		if net.ParseIP(last) != nil {
			host = last
		}
	}
	ctx := context.WithValue(context.WithValue(r.Context(), sourceKey{}, host), agentKey{}, r.UserAgent())
	if from, err := url.Parse(r.Header.Get("Origin")); err == nil && from.Host == r.Host {
		ctx = context.WithValue(ctx, originKey{}, r.Header.Get("Origin"))
	}
	return ctx
}

type originKey struct{}

// originOf is the address of this service as the browser of a request says that it reached it; empty where none says so.
func originOf(ctx context.Context) string {
	origin, _ := ctx.Value(originKey{}).(string)
	return origin
}
