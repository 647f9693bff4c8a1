package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"runtime"
	"strings"

	"golang.org/x/crypto/argon2"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// PutUser adds a person, or sets name, role and password of the one with this e-mail.
func (r *People) PutUser(ctx context.Context, email, name string, role person.Role, password string) error {
	u, err := newUser(NewPerson{Name: name, Email: email, Password: password}, role)
	if err != nil {
		return err
	}
	return r.Commit(ctx, func(ch *engine.Change) error { return ch.PutUser(&u) })
}

// SignIn returns the person with this e-mail and password, or nil. Who has left is nobody. Of who has a second factor a code
// is asked for, ErrCode says.
func (r *People) SignIn(ctx context.Context, email, password, code string) (*store.User, error) {
	u, err := r.Store.UserByEmail(ctx, NormalEmail(email))
	if err != nil && err != store.ErrNotFound {
		return nil, err
	}
	hash := u.PasswordHash
	if hash == "" {
		hash = dummyHash // takes as long as for somebody who exists
	}
	if !r.fits(ctx, hash, password) || u.ID == 0 || u.LeftAt != 0 {
		return nil, nil
	}
	if err := r.checkCode(ctx, u, code); err != nil {
		return nil, err
	}
	if err := r.Store.Write(ctx, func(t *store.Tx) error { return t.SignedIn(u.ID, r.Clock()) }); err != nil {
		return nil, err
	}
	return &u, nil
}

// NormalEmail is the one form of an address, however it was typed.
func NormalEmail(email string) string { return strings.ToLower(strings.TrimSpace(email)) }

// hashesAtOnce is how many passwords are hashed at a time: each takes the memory that argonMemory says.
const hashesAtOnce = 2

// fits tells whether a password fits a hash, when its turn has come.
func (r *People) fits(ctx context.Context, hash, password string) bool {
	select {
	case r.hashing <- struct{}{}:
		defer func() { <-r.hashing }()
	case <-ctx.Done():
		return false
	}
	fits := PasswordFits(hash, password)
	runtime.GC() // what the hash took is free for the next one at once: who guesses from everywhere does not fill the memory
	return fits
}

// The parameters of argon2id follow RFC 9106, section 4, second recommendation, with a smaller memory
// so that a burst of sign-ins does not fill a small machine.
const (
	argonTime, argonMemory, argonLanes, argonLen = 3, 19 * 1024, 1, 32
)

// dummyHash is one that no password fits; to look takes as long as with any other.
var dummyHash = hashText(make([]byte, 16), make([]byte, argonLen))

// HashPassword hashes a password with a salt of its own.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	if _, err := rand.Read(salt); err != nil {
		panic("no randomness: " + err.Error())
	}
	return hashText(salt, argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonLanes, argonLen))
}

func hashText(salt, key []byte) string {
	b := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonLanes, b(salt), b(key))
}

// PasswordFits tells whether a hash was made from a password.
func PasswordFits(hash, password string) bool {
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || len(password) > 1000 {
		return false
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(want, argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want)))) == 1
}

func tokenHash(token string) []byte {
	h := sha256.Sum256([]byte(token))
	return h[:]
}
