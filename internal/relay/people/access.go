package people

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// ErrCode says that a second factor is asked for, and none was given or it does not fit.
var ErrCode = errors.New("the code of the second factor is missing or wrong")

// Codes are those of RFC 6238 as authenticator programs expect them: six digits, good for half a minute, and the one before
// and after where clocks differ.
const (
	codePeriod = 30
	codeSkew   = 1
)

// recoveryCodes is how many codes there are for the day on which the second factor is lost.
const recoveryCodes = 10

// Factor is the second factor of a person.
type Factor struct {
	On       bool      `json:"on" doc:"An authenticator's codes are asked for"`
	Passkeys int64     `json:"passkeys" doc:"How many passkeys there are"`
	Since    time.Time `json:"since,omitzero"`
	Left     int64     `json:"left" doc:"Recovery codes that were not used"`
	Demanded bool      `json:"demanded" doc:"The company demands one"`
}

// Factor tells how somebody's second factor stands.
func (r *People) Factor(ctx context.Context, id int64) (f Factor, err error) {
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return f, err
	}
	f.On, f.Since, f.Passkeys = u.TOTPAt != 0, store.Time(u.TOTPAt), u.Passkeys
	if f.Demanded, err = r.FactorDemanded(ctx, u.Role); err != nil {
		return f, err
	}
	f.Left, err = r.Store.RecoveryCodes(ctx, id)
	return f, err
}

// Proposal is a second factor that does not count until a code of it was given.
type Proposal struct {
	Secret  string `json:"secret" doc:"To be typed where the picture cannot be seen"`
	Address string `json:"address" doc:"otpauth address"`
	Picture string `json:"picture" doc:"The address as a QR code, a data URL of PNG"`
}

// ProposeFactor makes a secret for somebody's second factor. One that counts is not replaced: it is given up first.
func (r *People) ProposeFactor(ctx context.Context, id int64) (p Proposal, err error) {
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return p, err
	}
	if u.TOTPAt != 0 {
		return p, &engine.Refused{Text: "you have a second factor; give it up first", Conflict: true}
	}
	company, err := r.Store.Setting(ctx, "company")
	if err != nil {
		return p, err
	}
	issuer := strings.ReplaceAll(engine.Or(company, "Open Relay"), ":", " ")
	key, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: u.Email, Period: codePeriod})
	if err != nil {
		return p, err
	}
	box, err := r.Sealer.Seal(key.Secret())
	if err != nil {
		return p, err
	}
	img, err := key.Image(220, 220)
	if err != nil {
		return p, err
	}
	var buf bytes.Buffer
	if err := png.Encode(&buf, img); err != nil {
		return p, err
	}
	p = Proposal{key.Secret(), key.URL(), "data:image/png;base64," + base64.StdEncoding.EncodeToString(buf.Bytes())}
	return p, r.Store.Write(ctx, func(t *store.Tx) error { return t.SetTOTP(id, box, 0) })
}

// ConfirmFactor lets a second factor count that was proposed, once a code of it fits. It returns the recovery codes, which are
// told this once.
func (r *People) ConfirmFactor(ctx context.Context, id int64, code string) (codes []string, err error) {
	u, err := r.Store.User(ctx, id)
	if err != nil {
		return nil, err
	}
	switch {
	case u.TOTPAt != 0:
		return nil, &engine.Refused{Text: "it counts already", Conflict: true}
	case len(u.TOTP) == 0:
		return nil, engine.Refuse("ask for a secret first")
	}
	step, err := r.stepOf(u, code)
	if err != nil {
		return nil, err
	}
	if step == 0 {
		return nil, engine.Refuse("code: it does not fit; look at the clock of the device, and type the code it shows now")
	}
	codes, hashes := newRecoveryCodes()
	return codes, r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		if err := ch.SetTOTP(id, u.TOTP, ch.Now.UnixMicro()); err != nil {
			return err
		}
		if _, err := ch.UseTOTPStep(id, step); err != nil {
			return err
		}
		if err := ch.SetRecoveryCodes(id, hashes); err != nil {
			return err
		}
		return r.notePerson(ch, *u, engine.PersonKey(u.ID), "second factor", "%s has a second factor", u.Name)
	})
}

// NewRecoveryCodes replaces somebody's recovery codes.
func (r *People) NewRecoveryCodes(ctx context.Context, id int64, password string) (codes []string, err error) {
	u, err := r.knows(ctx, id, password)
	if err != nil {
		return nil, err
	}
	if !u.HasFactor() {
		return nil, engine.Refuse("there is no second factor that they could stand in for")
	}
	codes, hashes := newRecoveryCodes()
	return codes, r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		if err := ch.SetRecoveryCodes(id, hashes); err != nil {
			return err
		}
		return r.notePerson(ch, *u, engine.PersonKey(u.ID), "second factor", "%s has new recovery codes", u.Name)
	})
}

func newRecoveryCodes() (codes []string, hashes [][]byte) {
	for range recoveryCodes {
		text := engine.RandomText(10)
		codes = append(codes, text[:5]+"-"+text[5:])
		hashes = append(hashes, recoveryHash(text))
	}
	return codes, hashes
}

// recoveryHash is that of a code, however it was typed. The codes are random, so that nothing is gained by a slow one.
func recoveryHash(code string) []byte {
	h := sha256.Sum256([]byte(strings.ToLower(strings.NewReplacer("-", "", " ", "").Replace(code))))
	return h[:]
}

// knows loads a person who knows their password.
func (r *People) knows(ctx context.Context, id int64, password string) (store.User, error) {
	u, err := r.Store.User(ctx, id)
	if err == nil && !r.fits(ctx, u.PasswordHash, password) {
		err = engine.Refuse("password: that is not your password")
	}
	return u, err
}

// DropFactor gives up one's own second factor, unless the company demands it.
func (r *People) DropFactor(ctx context.Context, id int64, password string) error {
	u, err := r.knows(ctx, id, password)
	if err != nil {
		return err
	}
	if demanded, err := r.FactorDemanded(ctx, u.Role); err != nil || demanded && u.Passkeys == 0 {
		return errors.Join(err, &engine.Refused{Text: "the company demands a second factor; somebody who leads it can take yours away, " +
			"and you set up another", Conflict: true})
	}
	if u.Passkeys == 0 {
		return r.ResetFactor(ctx, id, u.Name)
	}
	return r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		if err := ch.SetTOTP(id, nil, 0); err != nil {
			return err
		}
		return r.notePerson(ch, *u, engine.PersonKey(u.ID), "second factor", "%s signs in by passkeys alone", u.Name)
	})
}

// ResetFactor takes somebody's second factor away, for whoever lost it.
func (r *People) ResetFactor(ctx context.Context, id int64, who string) error {
	return r.changeUser(ctx, id, func(ch *engine.Change, u *store.User) error {
		if err := ch.SetTOTP(id, nil, 0); err != nil {
			return err
		}
		if err := errors.Join(ch.SetRecoveryCodes(id, nil), ch.DropPasskeys(id)); err != nil {
			return err
		}
		return r.notePerson(ch, *u, who, "second factor", "%s has no second factor any more", u.Name)
	})
}

// stepOf finds the time step whose code this is; 0: none near now.
func (r *People) stepOf(u store.User, code string) (int64, error) {
	var secret string
	if err := r.Sealer.OpenInto(u.TOTP, &secret); err != nil {
		return 0, err
	}
	now := r.Clock().UTC()
	code = strings.ReplaceAll(code, " ", "")
	for by := -codeSkew; by <= codeSkew; by++ {
		at := now.Add(time.Duration(by*codePeriod) * time.Second)
		fits, err := totp.ValidateCustom(code, secret, at, totp.ValidateOpts{Period: codePeriod, Digits: otp.DigitsSix,
			Algorithm: otp.AlgorithmSHA1})
		if err != nil && !errors.Is(err, otp.ErrValidateInputInvalidLength) {
			return 0, err
		}
		if fits {
			return at.Unix() / codePeriod, nil
		}
	}
	return 0, nil
}

// checkCode asks for the second factor of who has one. A code is good once.
func (r *People) checkCode(ctx context.Context, u store.User, code string) error {
	if !u.HasFactor() {
		return nil
	}
	if strings.TrimSpace(code) == "" {
		if u.TOTPAt == 0 {
			return ErrPasskey
		}
		return ErrCode
	}
	step := int64(0)
	if u.TOTPAt != 0 {
		var err error
		if step, err = r.stepOf(u, code); err != nil {
			return err
		}
	}
	fresh := false
	err := r.Store.Write(ctx, func(t *store.Tx) (err error) {
		if step != 0 {
			fresh, err = t.UseTOTPStep(u.ID, step)
		} else {
			fresh, err = t.UseRecoveryCode(u.ID, recoveryHash(code))
		}
		return err
	})
	if err == nil && !fresh {
		err = ErrCode
	}
	return err
}

const factorSetting = "second factor"

// FactorTerms say of whom a second factor is demanded.
type FactorTerms struct {
	Of string `json:"of" enum:"nobody,leads,everybody"`
}

// FactorTerms tells of whom a second factor is demanded.
func (r *People) FactorTerms(ctx context.Context) (FactorTerms, error) {
	if known := r.terms.Load(); known != nil { // it is asked with each request of who is signed in
		return *known, nil
	}
	of, err := r.Store.Setting(ctx, factorSetting)
	terms := FactorTerms{engine.Or(of, "nobody")}
	if err == nil {
		r.terms.CompareAndSwap(nil, &terms)
	}
	return terms, err
}

// FactorDemanded tells whether a second factor is demanded of those with a role.
func (r *People) FactorDemanded(ctx context.Context, role person.Role) (bool, error) {
	terms, err := r.FactorTerms(ctx)
	return terms.Of == "everybody" || terms.Of == "leads" && role == person.Lead, err
}

// SetFactorTerms says of whom a second factor is demanded. Who has none is asked to set one up before anything else.
func (r *People) SetFactorTerms(ctx context.Context, t FactorTerms, who string) error {
	if t.Of != "nobody" && t.Of != "leads" && t.Of != "everybody" {
		return engine.Refuse("of: one of nobody, leads, everybody is expected")
	}
	return r.Commit(ctx, func(ch *engine.Change) error {
		ch.After(func() { r.terms.Store(&t) })
		if err := ch.PutSetting(factorSetting, t.Of); err != nil {
			return err
		}
		return r.NoteSecurity(ch, "terms", who, "", fmt.Sprintf("a second factor is demanded of %s", t.Of))
	})
}

// Security keeps that somebody came in, went, or was kept out.
func (r *People) Security(ctx context.Context, kind, who, source, text string) {
	err := r.Commit(context.WithoutCancel(ctx), func(ch *engine.Change) error { return r.NoteSecurity(ch, kind, who, source, text) })
	if err != nil {
		r.Log.Error("a security event could not be kept", "kind", kind, "who", who, "source", source, "error", err)
	}
}

// Sessions that nobody has used for SessionRest have ended; SessionMemory after their end they are forgotten.
const (
	SessionRest   = 3 * 24 * time.Hour
	SessionMemory = 90 * 24 * time.Hour
)

// BeginSession begins a session of a person.
func (r *People) BeginSession(ctx context.Context, u store.User, source, agent string) (id int64, err error) {
	err = r.Commit(ctx, func(ch *engine.Change) (err error) {
		id, err = ch.AddUserSession(store.UserSession{UserID: u.ID, BeganAt: ch.Now.UnixMicro(), Source: source,
			Agent: engine.Clip(agent, 200)})
		if err != nil {
			return err
		}
		return r.NoteSecurity(ch, "signed in", engine.PersonKey(u.ID), source, "")
	})
	return id, err
}

// EndSession ends one session of a person.
func (r *People) EndSession(ctx context.Context, user, id int64, who string) error {
	return r.changeUser(ctx, user, func(ch *engine.Change, u *store.User) error {
		ch.Tell("session", "")
		if err := ch.EndUserSession(user, id, ch.Now); err != nil {
			return fmt.Errorf("session %d: %w", id, err)
		}
		return r.NoteSecurity(ch, "session ended", who, "", "of "+u.Name)
	})
}
