// Package seal keeps secrets from those who only have the company file. They are encrypted with AES-256-GCM (NIST SP 800-38D)
// by a key that lies beside the file, readable by its owner only; for a backup, that key itself is encrypted under a
// passphrase. Keys have numbers, so that a new one can take over while what older ones sealed can still be opened.
package seal

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
)

// keySize is that of AES-256, in bytes.
const keySize = 32

// mark begins what was sealed with a key that has a number; what was sealed before there were numbers has none.
var mark = []byte{'o', 'r', 's', 1}

// ErrNoKey says that a file is sealed and its key is not there.
var ErrNoKey = errors.New("the company file holds credentials that are sealed, and its key is not beside it")

// Ring is the keys of one company. The one with the highest number seals; each opens what it sealed.
type Ring struct {
	path string

	mu   sync.RWMutex
	keys map[uint32][]byte
}

// Open reads the keys at a path. Where there are none one is made, unless something was sealed before.
func Open(path string, sealed bool) (*Ring, error) {
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) && sealed {
		return nil, fmt.Errorf("%w: put %s back from where you keep it; without it, the credentials of all connections are lost and must "+
			"be given again", ErrNoKey, path)
	}
	r := &Ring{path: path, keys: map[uint32][]byte{}}
	if errors.Is(err, fs.ErrNotExist) {
		_, err := r.Add()
		return r, err
	} else if err != nil {
		return nil, fmt.Errorf("read the keys of the credentials: %w", err)
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s can be read by others (mode %o); set it to 600", path, info.Mode().Perm())
	}
	if r.keys, err = parse(raw); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return r, nil
}

// Restore writes keys, as Text told them, to a path where there are none.
func Restore(path, text string) error {
	if _, err := parse([]byte(text)); err != nil {
		return err
	}
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%s is there already", path)
	}
	return write(path, text)
}

// parse reads a file of keys: a line for each, its number and the key in base64. 32 bytes alone are the key of number 0.
func parse(raw []byte) (map[uint32][]byte, error) {
	if len(raw) == keySize {
		return map[uint32][]byte{0: raw}, nil
	}
	keys := map[uint32][]byte{}
	for line := range strings.Lines(string(raw)) {
		var id uint32
		var text string
		if _, err := fmt.Sscanf(line, "%d %s", &id, &text); err != nil {
			return nil, errors.New("these are no keys: lines of a number and a key are expected")
		}
		key, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(key) != keySize {
			return nil, fmt.Errorf("key %d is not one of %d bytes", id, keySize)
		}
		keys[id] = key
	}
	if len(keys) == 0 {
		return nil, errors.New("there is no key in it")
	}
	return keys, nil
}

func text(keys map[uint32][]byte) string {
	var b strings.Builder
	for _, id := range slices.Sorted(maps.Keys(keys)) {
		fmt.Fprintf(&b, "%d %s\n", id, base64.StdEncoding.EncodeToString(keys[id]))
	}
	return b.String()
}

// write replaces the file of keys as a whole.
func write(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".key-*") // for its owner only
	if err != nil {
		return fmt.Errorf("write the keys of the credentials: %w", err)
	}
	_, err = f.WriteString(text)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return fmt.Errorf("write the keys of the credentials: %w", err)
	}
	return nil
}

// Text is all keys, as a file of them is written.
func (r *Ring) Text() string {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return text(r.keys)
}

// Current is the number of the key that seals.
func (r *Ring) Current() uint32 {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return slices.Max(slices.Collect(maps.Keys(r.keys)))
}

// Add makes a new key, which seals from now on, and returns its number.
func (r *Ring) Add() (uint32, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	var id uint32 = 1
	for have := range r.keys {
		id = max(id, have+1)
	}
	key := make([]byte, keySize)
	if _, err := rand.Read(key); err != nil {
		return 0, err
	}
	keys := maps.Clone(r.keys)
	keys[id] = key
	if err := write(r.path, text(keys)); err != nil {
		return 0, err
	}
	r.keys = keys
	return id, nil
}

// Forget throws away all keys but the one that seals and the one before it, which something may have been sealed with a
// moment ago; what older ones sealed must have been sealed anew.
func (r *Ring) Forget() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	ids := slices.Sorted(maps.Keys(r.keys))
	keys := map[uint32][]byte{}
	for _, id := range ids[max(0, len(ids)-2):] {
		keys[id] = r.keys[id]
	}
	if err := write(r.path, text(keys)); err != nil {
		return err
	}
	r.keys = keys
	return nil
}

// Seal encrypts a value, written as JSON.
func (r *Ring) Seal(v any) ([]byte, error) {
	plain, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return r.seal(plain)
}

func (r *Ring) seal(plain []byte) ([]byte, error) {
	id := r.Current()
	r.mu.RLock()
	defer r.mu.RUnlock()
	box := binary.BigEndian.AppendUint32(slices.Clone(mark), id)
	return encrypt(r.keys[id], box, plain)
}

// Open decrypts secrets that have names. Nothing holds none.
func (r *Ring) Open(box []byte) (out map[string]string, err error) {
	if len(box) == 0 {
		return nil, nil
	}
	return out, r.OpenInto(box, &out)
}

// OpenInto decrypts what Seal encrypted.
func (r *Ring) OpenInto(box []byte, v any) error {
	plain, err := r.open(box)
	if err != nil {
		return err
	}
	return json.Unmarshal(plain, v)
}

// Again seals anew with the current key; done tells that it was sealed with it already.
func (r *Ring) Again(box []byte) (fresh []byte, done bool, err error) {
	if id, _, ok := numbered(box); ok && id == r.Current() {
		return box, true, nil
	}
	plain, err := r.open(box)
	if err != nil {
		return nil, false, err
	}
	fresh, err = r.seal(plain)
	return fresh, false, err
}

// Mark is a keyed hash (HMAC-SHA-256, RFC 2104) of texts, by which the same texts are found again without being kept. What it is for
// keeps marks of different things apart. It changes with the current key.
func (r *Ring) Mark(what string, texts ...string) []byte {
	id := r.Current()
	r.mu.RLock()
	defer r.mu.RUnlock()
	mac := hmac.New(sha256.New, r.keys[id])
	for _, text := range append([]string{"mark", what}, texts...) {
		fmt.Fprintf(mac, "%d:%s", len(text), text)
	}
	return mac.Sum(nil)
}

func (r *Ring) open(box []byte) ([]byte, error) {
	id, rest, ok := numbered(box)
	if !ok {
		id, rest = 0, box
	}
	r.mu.RLock()
	key := r.keys[id]
	r.mu.RUnlock()
	if key == nil {
		return nil, errors.New("the credentials cannot be opened with the keys beside the file")
	}
	plain, err := decrypt(key, rest)
	if err != nil {
		return nil, errors.New("the credentials cannot be opened with the keys beside the file")
	}
	return plain, nil
}

func numbered(box []byte) (id uint32, rest []byte, ok bool) {
	if len(box) < len(mark)+4 || string(box[:len(mark)]) != string(mark) {
		return 0, nil, false
	}
	return binary.BigEndian.Uint32(box[len(mark):]), box[len(mark)+4:], true
}

// encrypt appends nonce and cipher text to a head.
func encrypt(key, head, plain []byte) ([]byte, error) {
	aead, err := newAEAD(key)
	if err != nil {
		return nil, err
	}
	nonce := make([]byte, aead.NonceSize())
	if _, err := rand.Read(nonce); err != nil {
		return nil, err
	}
	return aead.Seal(append(head, nonce...), nonce, plain, nil), nil
}

func decrypt(key, box []byte) ([]byte, error) {
	aead, err := newAEAD(key)
	if err != nil {
		return nil, err
	}
	n := aead.NonceSize()
	if len(box) < n {
		return nil, errors.New("it is damaged")
	}
	return aead.Open(nil, box[:n], box[n:], nil)
}

func newAEAD(key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}
