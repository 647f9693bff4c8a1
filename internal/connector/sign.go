package connector

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
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

// Signature says how a pushed message proves where it comes from: an HMAC (RFC 2104) over text that
// an expression composes, and a time that must be near ours, so that an old message cannot be played
// again for ever.
type Signature struct {
	Scheme    string   `yaml:"scheme"`
	Secret    string   `yaml:"secret"`
	Value     Expr     `yaml:"value"`
	Over      Expr     `yaml:"over"`
	Encoding  string   `yaml:"encoding"`
	Time      Expr     `yaml:"time"`
	Tolerance Duration `yaml:"tolerance"`
}

// ErrSignature is returned for a push that does not prove where it comes from.
var ErrSignature = errors.New("the signature does not fit")

func (s *Signature) compile(l *language, d *Definition) error {
	known := false
	for _, f := range d.Access.Fields {
		known = known || f.Name == s.Secret
	}
	if !known {
		return fmt.Errorf("secret: %q is not one of the credential fields", s.Secret)
	}
	if s.Tolerance == 0 {
		s.Tolerance = Duration(5 * time.Minute)
	}
	return errors.Join(l.compile(&s.Value), l.compile(&s.Over), l.compile(&s.Time))
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

// Check tells whether the push is what the holder of the secret sent.
func (s *Signature) Check(h http.Header, raw []byte, secret string, now time.Time) error {
	v := Vars{"header": headerVars(h), "raw": string(raw)}
	given, err := s.Value.String(v)
	if err != nil || given == "" {
		return fmt.Errorf("%w: it is missing", ErrSignature)
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
	newHash := func() hash.Hash { return sha256.New() }
	if s.Scheme == "hmac-sha512" {
		newHash = func() hash.Hash { return sha512.New() }
	}
	mac := hmac.New(newHash, []byte(secret))
	mac.Write([]byte(over))
	var got []byte
	if s.Encoding == "base64" {
		got, err = base64.StdEncoding.DecodeString(given)
	} else {
		got, err = hex.DecodeString(given)
	}
	if err != nil || secret == "" || !hmac.Equal(got, mac.Sum(nil)) {
		return ErrSignature
	}
	return nil
}
