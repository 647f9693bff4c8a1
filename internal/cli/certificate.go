package cli

import (
	"crypto/tls"
	"fmt"
	"log/slog"
	"os"
	"sync"
	"time"
)

// certificate is read from two files, and again when they change: whoever renews it needs no restart.
type certificate struct {
	certFile, keyFile string
	log               *slog.Logger

	mu     sync.Mutex
	loaded *tls.Certificate
	asOf   [2]time.Time // when the files were changed last
	looked time.Time
}

// lookAgain is how often the files are looked at, at most.
const lookAgain = time.Second

// newCertificate reads both files; what is wrong with them is said at once.
func newCertificate(certFile, keyFile string, log *slog.Logger) (*certificate, error) {
	c := &certificate{certFile: certFile, keyFile: keyFile, log: log}
	asOf, err := c.changed()
	if err != nil {
		return nil, err
	}
	return c, c.read(asOf)
}

func (c *certificate) changed() (at [2]time.Time, err error) {
	for i, file := range []string{c.certFile, c.keyFile} {
		info, err := os.Stat(file)
		if err != nil {
			return at, fmt.Errorf("read the certificate: %w", err)
		}
		at[i] = info.ModTime()
	}
	return at, nil
}

func (c *certificate) read(asOf [2]time.Time) error {
	pair, err := tls.LoadX509KeyPair(c.certFile, c.keyFile)
	if err != nil {
		return fmt.Errorf("read the certificate: %w", err)
	}
	c.loaded, c.asOf = &pair, asOf
	return nil
}

// get answers a client. A pair that does not fit, as while its files are being replaced, leaves the one that was there.
func (c *certificate) get(*tls.ClientHelloInfo) (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if now := time.Now(); now.Sub(c.looked) >= lookAgain {
		c.looked = now
		asOf, err := c.changed()
		if err == nil && asOf != c.asOf {
			if err = c.read(asOf); err == nil {
				c.log.Info("the certificate was read again")
			}
		}
		if err != nil {
			c.log.Error("the certificate cannot be read again; the one before is used", "error", err)
		}
	}
	return c.loaded, nil
}
