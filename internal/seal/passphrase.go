package seal

import (
	"crypto/rand"
	"errors"

	"golang.org/x/crypto/argon2"
)

// Passphrases are stretched by argon2id with the parameters that RFC 9106, section 4, recommends where memory is scarce.
const (
	stretchTime, stretchMemory, stretchLanes = 3, 64 * 1024, 4
	saltSize                                 = 16
)

// LeastPassphrase is how long one must be at least: a backup can be guessed at without anybody noticing.
const LeastPassphrase = 12

// Locked is a text that a passphrase opens.
type Locked struct {
	Salt []byte `json:"salt"`
	Box  []byte `json:"box"`
}

// ErrPassphrase says that a passphrase does not open what was locked.
var ErrPassphrase = errors.New("the passphrase does not open the key of the backup")

// Lock encrypts a text under a passphrase.
func Lock(plain, passphrase string) (Locked, error) {
	if len(passphrase) < LeastPassphrase {
		return Locked{}, errors.New("the passphrase is too short; 12 characters are the least")
	}
	l := Locked{Salt: make([]byte, saltSize)}
	if _, err := rand.Read(l.Salt); err != nil {
		return l, err
	}
	var err error
	l.Box, err = encrypt(stretch(passphrase, l.Salt), nil, []byte(plain))
	return l, err
}

// Unlock decrypts it.
func (l Locked) Unlock(passphrase string) (string, error) {
	plain, err := decrypt(stretch(passphrase, l.Salt), l.Box)
	if err != nil {
		return "", ErrPassphrase
	}
	return string(plain), nil
}

func stretch(passphrase string, salt []byte) []byte {
	return argon2.IDKey([]byte(passphrase), salt, stretchTime, stretchMemory, stretchLanes, keySize)
}
