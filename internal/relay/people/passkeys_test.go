package people_test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"testing"
	"time"

	"github.com/fxamacker/cbor/v2"
	"github.com/stretchr/testify/require"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/trial"
	"openrelay/internal/store"
)

const origin = "https://relay.example"

// device is one that holds a passkey, as Web Authentication has it: an ES256 key, resident, unlocked by its owner.
type device struct {
	t      *testing.T
	key    *ecdsa.PrivateKey
	id     []byte
	handle string
	uses   uint32
	rp     string
}

func b64(b []byte) string { return base64.RawURLEncoding.EncodeToString(b) }

func (d *device) client(kind, challenge, origin string) []byte {
	b, err := json.Marshal(map[string]any{"type": kind, "challenge": challenge, "origin": origin})
	require.NoError(d.t, err)
	return b
}

func (d *device) authData(flags byte, more []byte) []byte {
	rp := sha256.Sum256([]byte(d.rp))
	out := append(rp[:], flags)
	d.uses++
	out = binary.BigEndian.AppendUint32(out, d.uses)
	return append(out, more...)
}

// options reads what a device is asked.
func options(t *testing.T, a people.Asked) (o struct {
	Challenge string
	User      struct{ ID string }
}) {
	b, err := json.Marshal(a.Options)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(b, &o))
	return o
}

// made answers to the question for a new passkey.
func (d *device) made(a people.Asked, origin string) []byte {
	o := options(d.t, a)
	d.handle = o.User.ID
	pub, err := cbor.Marshal(
		map[int]any{1: 2, 3: -7, -1: 1, -2: d.key.X.FillBytes(make([]byte, 32)), -3: d.key.Y.FillBytes(make([]byte, 32))})
	require.NoError(d.t, err)
	attested := append(make([]byte, 16), byte(len(d.id)>>8), byte(len(d.id)))
	attested = append(append(attested, d.id...), pub...)
	object, err := cbor.Marshal(map[string]any{"fmt": "none", "attStmt": map[string]any{}, "authData": d.authData(0x45, attested)})
	require.NoError(d.t, err)
	answer, err := json.Marshal(map[string]any{"id": b64(d.id), "rawId": b64(d.id), "type": "public-key", "response": map[string]any{
		"attestationObject": b64(object), "clientDataJSON": b64(d.client("webauthn.create", o.Challenge, origin))}})
	require.NoError(d.t, err)
	return answer
}

// proves answers to the question for a passkey.
func (d *device) proves(a people.Asked, origin string) []byte {
	client := d.client("webauthn.get", options(d.t, a).Challenge, origin)
	auth := d.authData(0x05, nil)
	hash := sha256.Sum256(client)
	digest := sha256.Sum256(append(append([]byte{}, auth...), hash[:]...))
	signature, err := ecdsa.SignASN1(rand.Reader, d.key, digest[:])
	require.NoError(d.t, err)
	answer, err := json.Marshal(map[string]any{"id": b64(d.id), "rawId": b64(d.id), "type": "public-key", "response": map[string]any{
		"authenticatorData": b64(auth), "clientDataJSON": b64(client), "signature": b64(signature), "userHandle": d.handle}})
	require.NoError(d.t, err)
	return answer
}

func newDevice(t *testing.T, id string) *device {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	return &device{t: t, key: key, id: []byte(id), rp: "relay.example"}
}

// TestPasskeys: one is made, signs in its owner and nobody else, once per question, at this address only, and never
// somebody who left; it stands in for the codes where a second factor is demanded.
func TestPasskeys(t *testing.T) {
	k, ctx := trial.New(t), t.Context()
	require.NoError(t, k.PutUser(ctx, "edda@morrow.example", "Edda", person.Lead, "heather and lime"))
	require.NoError(t, k.PutUser(ctx, "joss@morrow.example", "Joss", person.Lead, "heather and lime"))
	u, err := k.Store.UserByEmail(ctx, "edda@morrow.example")
	require.NoError(t, err)
	d := newDevice(t, "a-passkey-of-edda")

	_, err = k.AskNewPasskey(ctx, u.ID, "http://127.0.0.1:8410")
	require.ErrorContains(t, err, "open it by its name")
	_, err = k.AskPasskey(ctx, "")
	require.ErrorContains(t, err, "need a browser")
	asked, err := k.AskNewPasskey(ctx, u.ID, origin)
	require.NoError(t, err)
	_, err = k.AddPasskey(ctx, u.ID, origin, asked.State, " ", d.made(asked, origin))
	require.ErrorContains(t, err, "name: say which device")
	_, err = k.AddPasskey(ctx, u.ID, origin, asked.State, "A phone", d.made(asked, "https://elsewhere.example"))
	require.ErrorContains(t, err, "does not fit")
	_, err = k.AddPasskey(ctx, u.ID, origin, asked.State, "A phone", d.made(asked, origin))
	require.ErrorContains(t, err, "answered before", "a question is answered once")
	asked, err = k.AskNewPasskey(ctx, u.ID, origin)
	require.NoError(t, err)
	codes, err := k.AddPasskey(ctx, u.ID, origin, asked.State, "A phone", d.made(asked, origin))
	require.NoError(t, err)
	require.Len(t, codes, 10)

	signIn := func(at string) (*store.User, error) {
		asked, err := k.AskPasskey(ctx, origin)
		require.NoError(t, err)
		return k.SignInByPasskey(ctx, at, asked.State, d.proves(asked, at))
	}
	who, err := signIn(origin)
	require.NoError(t, err)
	require.Equal(t, "Edda", who.Name)
	_, err = signIn("https://other.example")
	require.ErrorContains(t, err, "was not asked here")
	stranger := newDevice(t, "a-passkey-of-edda")
	stranger.handle = d.handle
	question, err := k.AskPasskey(ctx, origin)
	require.NoError(t, err)
	who, err = k.SignInByPasskey(ctx, origin, question.State, stranger.proves(question, origin))
	require.NoError(t, err)
	require.Nil(t, who, "another key under the same name")
	question, err = k.AskPasskey(ctx, origin)
	require.NoError(t, err)
	k.Later(6 * time.Minute)
	_, err = k.SignInByPasskey(ctx, origin, question.State, d.proves(question, origin))
	require.ErrorContains(t, err, "older than five minutes")

	_, err = k.SignIn(ctx, u.Email, "heather and lime", "")
	require.ErrorIs(t, err, people.ErrPasskey, "the password alone is not enough any more")
	in, err := k.SignIn(ctx, u.Email, "heather and lime", codes[0])
	require.NoError(t, err)
	require.NotNil(t, in)
	_, err = k.SignIn(ctx, u.Email, "heather and lime", codes[0])
	require.ErrorIs(t, err, people.ErrCode, "a code is good once")

	require.NoError(t, k.SetFactorTerms(ctx, people.FactorTerms{Of: "everybody"}, "Joss"))
	list, err := k.Store.Passkeys(ctx, u.ID)
	require.NoError(t, err)
	require.ErrorContains(t, k.DropPasskey(ctx, u.ID, list[0].ID, "a guess"), "not your password")
	require.ErrorContains(t, k.DropPasskey(ctx, u.ID, list[0].ID, "heather and lime"), "this is your last")
	require.NoError(t, k.SetFactorTerms(ctx, people.FactorTerms{Of: "nobody"}, "Joss"))
	other, err := k.Store.UserByEmail(ctx, "joss@morrow.example")
	require.NoError(t, err)
	require.ErrorIs(t, k.DropPasskey(ctx, other.ID, list[0].ID, "heather and lime"), store.ErrNotFound, "it is Edda's")

	require.NoError(t, k.LeavePerson(ctx, u.ID, true, "Joss"))
	who, err = signIn(origin)
	require.NoError(t, err)
	require.Nil(t, who, "somebody who left")
	require.NoError(t, k.LeavePerson(ctx, u.ID, false, "Joss"))
	require.NoError(t, k.ResetFactor(ctx, u.ID, "Joss"))
	who, err = signIn(origin)
	require.NoError(t, err)
	require.Nil(t, who, "it was taken away")
	in, err = k.SignIn(ctx, u.Email, "heather and lime", "")
	require.NoError(t, err)
	require.NotNil(t, in)
}
