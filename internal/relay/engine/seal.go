package engine

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
)

// Sealer encrypts credentials with AES-256-GCM. The key lies beside the company file, readable by its
// owner only; the file alone gives no credential away.
type Sealer struct{ aead cipher.AEAD }

// ErrNoKey says that a file is sealed and its key is not there.
var ErrNoKey = errors.New("the company file holds credentials that are sealed, and its key is not beside it")

// OpenSealer reads the key at a path. Where there is none it is made, unless something was sealed with one before.
func OpenSealer(path string, sealed bool) (*Sealer, error) {
	key, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && sealed {
		return nil, fmt.Errorf("%w: put %s back from where you keep it; without it, the credentials of all connections are lost and must "+
			"be given again", ErrNoKey, path)
	}
	if errors.Is(err, fs.ErrNotExist) {
		key = make([]byte, 32)
		if _, err := rand.Read(key); err != nil {
			return nil, err
		}
		if err := os.WriteFile(path, key, 0o600); err != nil {
			return nil, fmt.Errorf("write the key of the credentials: %w", err)
		}
	} else if err != nil {
		return nil, fmt.Errorf("read the key of the credentials: %w", err)
	}
	if len(key) != 32 {
		return nil, fmt.Errorf("%s is not a key of 32 bytes", path)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s can be read by others (mode %o); set it to 600", path, info.Mode().Perm())
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return &Sealer{aead}, err
}

// Seal encrypts a value, written as JSON.
func (s *Sealer) Seal(v any) ([]byte, error) {
	plain, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, s.aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return s.aead.Seal(nonce, nonce, plain, nil), nil
}

func (s *Sealer) Open(box []byte) (out map[string]string, err error) {
	if len(box) == 0 {
		return nil, nil
	}
	return out, s.OpenInto(box, &out)
}

func (s *Sealer) OpenInto(box []byte, v any) error {
	n := s.aead.NonceSize()
	if len(box) < n {
		return errors.New("the credentials are damaged")
	}
	plain, err := s.aead.Open(nil, box[:n], box[n:], nil)
	if err != nil {
		return errors.New("the credentials cannot be opened with the key beside the file")
	}
	return json.Unmarshal(plain, v)
}

const textAlphabet = "abcdefghjkmnpqrstuvwxyz23456789"

// RandomText makes n characters that people can tell apart, from the system's secure source.
func RandomText(n int) string {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic("no randomness: " + err.Error())
	}
	for i := range b {
		b[i] = textAlphabet[int(b[i])%len(textAlphabet)]
	}
	return string(b)
}
