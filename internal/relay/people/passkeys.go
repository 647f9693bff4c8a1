package people

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ErrPasskey says that the password is right, and that who it belongs to signs in by a passkey.
var ErrPasskey = errors.New("this person signs in by a passkey")

// Asked is a question to a device (Web Authentication, W3C): what the browser is given, and a sealed note of it that it
// brings back.
type Asked struct {
	Options any    `json:"options" doc:"For navigator.credentials, in the JSON form of WebAuthn level 3"`
	State   string `json:"state" doc:"To be sent back with the device's answer; good for five minutes, once"`
}

// asking is what is noted of a question.
type asking struct {
	Session webauthn.SessionData `json:"session"`
	Until   time.Time            `json:"until"`
	Origin  string               `json:"origin"`
}

// askedFor is how long a question can be answered.
const askedFor = 5 * time.Minute

// mostPasskeys is how many a person may have.
const mostPasskeys = 20

// answeredOnce remembers the questions that were answered, as long as they could be answered again.
type answeredOnce struct {
	mu   sync.Mutex
	till map[string]time.Time
}

func (a *answeredOnce) take(challenge string, until, now time.Time) bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	for c, t := range a.till {
		if now.After(t) {
			delete(a.till, c)
		}
	}
	if _, used := a.till[challenge]; used {
		return false
	}
	if a.till == nil {
		a.till = map[string]time.Time{}
	}
	a.till[challenge] = until
	return true
}

// holder is a person as devices know them.
type holder struct {
	u    store.User
	keys []webauthn.Credential
}

func (h holder) WebAuthnID() []byte                         { return handleOf(h.u.ID) }
func (h holder) WebAuthnName() string                       { return h.u.Email }
func (h holder) WebAuthnDisplayName() string                { return h.u.Name }
func (h holder) WebAuthnCredentials() []webauthn.Credential { return h.keys }

// handleOf is how a device knows a person; it says nothing of them.
func handleOf(user int64) []byte { return []byte("person-" + strconv.FormatInt(user, 10)) }

// holderOf loads a person with the keys that are good under a host.
func (r *People) holderOf(ctx context.Context, u store.User, host string) (h holder, err error) {
	h.u = u
	list, err := r.Store.Passkeys(ctx, u.ID)
	for _, p := range list {
		var c webauthn.Credential
		if p.Host != host {
			continue
		}
		if err := json.Unmarshal([]byte(p.Credential), &c); err != nil {
			return h, fmt.Errorf("passkey %d: %w", p.ID, err)
		}
		h.keys = append(h.keys, c)
	}
	return h, err
}

// party is the service as devices know it, under the name by which a browser reaches it.
func (r *People) party(ctx context.Context, origin string) (*webauthn.WebAuthn, string, error) {
	u, err := url.Parse(origin)
	if err != nil || u.Hostname() == "" {
		return nil, "", engine.Refuse("passkeys need a browser")
	}
	if _, err := netip.ParseAddr(u.Hostname()); err == nil {
		return nil, "", engine.Refuse("passkeys go with a name, and this page was opened by the address %s; open it by its name, such as "+
			"http://localhost:8410 on this machine", u.Host)
	}
	company, err := r.Store.Setting(ctx, "company")
	if err != nil {
		return nil, "", err
	}
	w, err := webauthn.New(
		&webauthn.Config{RPID: u.Hostname(), RPDisplayName: engine.Or(company, "Open Relay"), RPOrigins: []string{origin}})
	return w, u.Hostname(), err
}

// ask seals what is noted of a question.
func (r *People) ask(options any, s *webauthn.SessionData, origin string) (a Asked, err error) {
	box, err := r.Sealer.Seal(asking{*s, r.Clock().Add(askedFor), origin})
	return Asked{options, base64.RawURLEncoding.EncodeToString(box)}, err
}

// answered opens what was noted of a question that an answer belongs to. Each is answered once.
func (r *People) answered(state, origin string) (a asking, err error) {
	box, err := base64.RawURLEncoding.DecodeString(state)
	if err == nil {
		err = r.Sealer.OpenInto(box, &a)
	}
	if err != nil || a.Origin != origin || r.Clock().After(a.Until) || !r.once.take(a.Session.Challenge, a.Until, r.Clock()) {
		return a, engine.Refuse("the question was not asked here, was answered before, or is older than five minutes; try again")
	}
	return a, nil
}

// AskNewPasskey asks a device of a person for a new passkey.
func (r *People) AskNewPasskey(ctx context.Context, id int64, origin string) (a Asked, err error) {
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return a, err
	}
	w, host, err := r.party(ctx, origin)
	if err != nil {
		return a, err
	}
	h, err := r.holderOf(ctx, u, host)
	if err != nil {
		return a, err
	}
	if len(h.keys) >= mostPasskeys {
		return a, &engine.Refused{Text: fmt.Sprintf("%d passkeys are enough; remove one first", mostPasskeys), Conflict: true}
	}
	options, session, err := w.BeginRegistration(h, webauthn.WithExclusions(webauthn.Credentials(h.keys).CredentialDescriptors()),
		webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{ResidentKey: protocol.ResidentKeyRequirementRequired,
			UserVerification: protocol.VerificationRequired}))
	if err != nil {
		return a, fmt.Errorf("ask for a passkey: %w", err)
	}
	return r.ask(options.Response, session, origin)
}

// AddPasskey keeps a passkey that a device of a person made. With the first second factor come recovery codes, which are
// told this once.
func (r *People) AddPasskey(ctx context.Context, id int64, origin, state, name string, answer []byte) (codes []string, err error) {
	name = strings.TrimSpace(name)
	if name == "" || len(name) > 60 {
		return nil, engine.Refuse("name: say which device it is, in up to 60 characters")
	}
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return nil, err
	}
	w, host, err := r.party(ctx, origin)
	if err != nil {
		return nil, err
	}
	a, err := r.answered(state, origin)
	if err != nil {
		return nil, err
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return nil, engine.Refuse("what the device answered cannot be read")
	}
	made, err := w.CreateCredential(holder{u: u}, a.Session, parsed)
	if err != nil {
		return nil, engine.Refuse("what the device answered does not fit what it was asked")
	}
	kept, err := json.Marshal(made)
	if err != nil {
		return nil, err
	}
	had := u.HasFactor()
	codes, hashes := newRecoveryCodes()
	if had {
		codes = nil
	}
	return codes, r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		if err := ch.AddPasskey(store.Passkey{UserID: id, CredentialID: made.ID, Credential: string(kept), Host: host, Name: name,
			AddedAt: ch.Now.UnixMicro()}); err != nil {
			return err
		}
		if !had {
			if err := ch.SetRecoveryCodes(id, hashes); err != nil {
				return err
			}
		}
		return r.notePerson(ch, *u, engine.PersonKey(u.ID), "second factor", "%s has a passkey, %s", u.Name, name)
	})
}

// DropPasskey removes one of a person's own passkeys, unless it is the last second factor and one is demanded.
func (r *People) DropPasskey(ctx context.Context, user, id int64, password string) error {
	u, err := r.knows(ctx, user, password)
	if err != nil {
		return err
	}
	demanded, err := r.FactorDemanded(ctx, u.Role)
	if err != nil {
		return err
	}
	return r.changeUser(ctx, user, func(ch *engine.Change, u *store.User) error {
		if demanded && u.TOTPAt == 0 && u.Passkeys == 1 { // asked here, so that two at once do not remove both
			return &engine.Refused{Text: "the company demands a second factor, and this is your last; add another first", Conflict: true}
		}
		if err := ch.DropPasskey(user, id); err != nil {
			return fmt.Errorf("passkey %d: %w", id, err)
		}
		return r.notePerson(ch, *u, engine.PersonKey(u.ID), "second factor", "%s removed a passkey", u.Name)
	})
}

// AskPasskey asks any device for a passkey of this service; it knows whose it is.
func (r *People) AskPasskey(ctx context.Context, origin string) (a Asked, err error) {
	w, _, err := r.party(ctx, origin)
	if err != nil {
		return a, err
	}
	options, session, err := w.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return a, fmt.Errorf("ask for a passkey: %w", err)
	}
	return r.ask(options.Response, session, origin)
}

// SignInByPasskey returns the person whose device answered; nil: nobody's who may sign in. A passkey is something that one
// has, and the device has asked for what one knows or is: no other factor is asked for.
func (r *People) SignInByPasskey(ctx context.Context, origin, state string, answer []byte) (*store.User, error) {
	w, host, err := r.party(ctx, origin)
	if err != nil {
		return nil, err
	}
	a, err := r.answered(state, origin)
	if err != nil {
		return nil, err
	}
	parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
	if err != nil {
		return nil, engine.Refuse("what the device answered cannot be read")
	}
	var u store.User
	made, err := w.ValidateDiscoverableLogin(func(_, handle []byte) (webauthn.User, error) {
		id, err := strconv.ParseInt(strings.TrimPrefix(string(handle), "person-"), 10, 64)
		if err != nil {
			return nil, err
		}
		if u, err = r.Store.User(ctx, id); err != nil {
			return nil, err
		}
		return r.holderOf(ctx, u, host)
	}, a.Session, parsed)
	if err != nil || u.ID == 0 || u.LeftAt != 0 || made.Authenticator.CloneWarning {
		return nil, nil
	}
	kept, err := json.Marshal(made)
	if err != nil {
		return nil, err
	}
	err = r.Store.Write(ctx, func(t *store.Tx) error {
		return errors.Join(t.PasskeyUsed(made.ID, string(kept), r.Clock()), t.SignedIn(u.ID, r.Clock()))
	})
	return &u, err
}
