package connector

import (
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Signature says how a pushed message proves where it comes from. With an hmac scheme it is an HMAC
// (RFC 2104) over text that an expression composes, and a time that must be near ours, so that an old
// message cannot be played again for ever. With the scheme shared the value is the secret itself.
type Signature struct {
	Scheme    string   `yaml:"scheme"`
	Secret    string   `yaml:"secret"`
	Value     Expr     `yaml:"value"`
	Prefix    string   `yaml:"prefix"` // of the value; of several values, one has to fit
	Over      Expr     `yaml:"over"`
	Encoding  string   `yaml:"encoding"`
	Key       string   `yaml:"key"` // how the secret is written: text, hex or base64
	Time      Expr     `yaml:"time"`
	Tolerance Duration `yaml:"tolerance"`
}

// Sign says how our own requests prove that they are ours: an HMAC over text that an expression
// composes from call.method, call.path, call.query, call.body, call.body_sha256 (hex), call.time and
// call.nonce; the headers in Send carry call.signature and whatever else the other side wants.
type Sign struct {
	Scheme   string          `yaml:"scheme"`
	Secret   string          `yaml:"secret"`
	Key      string          `yaml:"key"`
	Over     Expr            `yaml:"over"`
	Encoding string          `yaml:"encoding"`
	Time     string          `yaml:"time"` // form of call.time; unix where it is not set
	Send     map[string]Expr `yaml:"send"`
}

// ErrSignature is returned for a push that does not prove where it comes from.
var ErrSignature = errors.New("the signature does not fit")

func (s *Signature) compile(l *language, d *Definition) {
	if !d.hasField(s.Secret) {
		l.complain(s.Value.Line, s.Value.Column, "push.signature.secret", "%q is not one of the credential fields", s.Secret)
	}
	if s.Scheme != "shared" && !s.Over.Set() {
		l.complain(s.Value.Line, s.Value.Column, "push.signature.over", "is missing: the text that is signed")
	}
	if s.Tolerance == 0 {
		s.Tolerance = Duration(5 * time.Minute)
	}
	l.at([]string{"header", "raw"})
	l.compile(&s.Value, "push.signature.value")
	l.compile(&s.Over, "push.signature.over")
	l.compile(&s.Time, "push.signature.time")
}

func (s *Sign) compile(l *language, d *Definition) {
	if !d.hasField(s.Secret) {
		l.complain(s.Over.Line, s.Over.Column, "access.sign.secret", "%q is not one of the credential fields", s.Secret)
	}
	if s.Time == "" {
		s.Time = "unix"
	}
	l.at(account, []string{"call"})
	l.compile(&s.Over, "access.sign.over")
	l.compileAll(s.Send, "access.sign.send")
}

// headerVars gives the expressions the headers in lower case.
func headerVars(h http.Header) map[string]any {
	out := make(map[string]any, len(h))
	for k, v := range h {
		if len(v) > 0 {
			out[strings.ReplaceAll(strings.ToLower(k), "-", "_")] = v[0]
		}
	}
	return out
}

func keyBytes(form, secret string) ([]byte, error) {
	switch form {
	case "hex":
		return hex.DecodeString(secret)
	case "base64":
		return base64.StdEncoding.DecodeString(secret)
	}
	return []byte(secret), nil
}

func macOf(scheme string, key []byte, over string) []byte {
	newHash := func() hash.Hash { return sha256.New() }
	if scheme == "hmac-sha512" {
		newHash = func() hash.Hash { return sha512.New() }
	}
	mac := hmac.New(newHash, key)
	mac.Write([]byte(over))
	return mac.Sum(nil)
}

// Check tells whether the push is what the holder of the secret sent.
func (s *Signature) Check(h http.Header, raw []byte, secret string, now time.Time) error {
	v := Vars{"header": headerVars(h), "raw": string(raw)}
	given, err := s.Value.String(v)
	if err != nil || given == "" {
		return fmt.Errorf("%w: it is missing", ErrSignature)
	}
	if secret == "" {
		return ErrSignature
	}
	if s.Scheme == "shared" {
		given, ok := strings.CutPrefix(given, s.Prefix)
		if !ok || subtle.ConstantTimeCompare([]byte(given), []byte(secret)) != 1 {
			return fmt.Errorf("%w: the key is not the one we handed out", ErrSignature)
		}
		return nil
	}
	over, err := s.Over.String(v)
	if err != nil {
		return fmt.Errorf("%w: %v", ErrSignature, err)
	}
	if s.Time.Set() {
		text, err := s.Time.String(v)
		if err != nil {
			return fmt.Errorf("%w: %v", ErrSignature, err)
		}
		sec, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return fmt.Errorf("%w: the time is not a number of seconds", ErrSignature)
		}
		if gap := now.Sub(time.Unix(sec, 0)).Abs(); gap > time.Duration(s.Tolerance) {
			return fmt.Errorf("%w: its time is %s away from ours; check the clock of the sender", ErrSignature, gap.Round(time.Second))
		}
	}
	key, err := keyBytes(s.Key, secret)
	if err != nil {
		return fmt.Errorf("%w: our secret is not written in %s", ErrSignature, s.Key)
	}
	want := macOf(s.Scheme, key, over)
	for _, one := range strings.FieldsFunc(given, func(r rune) bool { return r == ' ' && s.Prefix != "" }) {
		text, ok := strings.CutPrefix(one, s.Prefix)
		if !ok {
			continue
		}
		if got, err := unwritten(s.Encoding, text); err == nil && hmac.Equal(got, want) {
			return nil
		}
	}
	return ErrSignature
}

func unwritten(encoding, text string) ([]byte, error) {
	if encoding == "base64" {
		return base64.StdEncoding.DecodeString(text)
	}
	return hex.DecodeString(text)
}

// apply signs a request that is otherwise complete.
func (s *Sign) apply(req *http.Request, body []byte, v Vars, secret string, now time.Time) error {
	sum := sha256.Sum256(body)
	nonce := make([]byte, 12)
	if _, err := rand.Read(nonce); err != nil {
		return err
	}
	stamp, err := written(now, s.Time, "")
	if err != nil {
		return err
	}
	call := map[string]any{"method": req.Method, "path": req.URL.EscapedPath(), "query": req.URL.RawQuery, "body": string(body),
		"body_sha256": hex.EncodeToString(sum[:]), "time": stamp, "nonce": hex.EncodeToString(nonce)}
	v["call"] = call
	defer delete(v, "call")
	over, err := s.Over.String(v)
	if err != nil {
		return err
	}
	key, err := keyBytes(s.Key, secret)
	if err != nil {
		return fmt.Errorf("the secret is not written in %s", s.Key)
	}
	mac := macOf(s.Scheme, key, over)
	if s.Encoding == "base64" {
		call["signature"] = base64.StdEncoding.EncodeToString(mac)
	} else {
		call["signature"] = hex.EncodeToString(mac)
	}
	for name, e := range s.Send {
		text, err := e.String(v)
		if err != nil {
			return fmt.Errorf("header %s: %w", name, err)
		}
		req.Header.Set(name, text)
	}
	return nil
}
