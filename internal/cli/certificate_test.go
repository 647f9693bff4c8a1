package cli

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"log/slog"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// writePair writes a certificate for this machine, and its key.
func writePair(t *testing.T, name, certFile, keyFile string, at time.Time) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	for file, block := range map[string]*pem.Block{certFile: {Type: "CERTIFICATE", Bytes: der},
		keyFile: {Type: "PRIVATE KEY", Bytes: raw}} {
		require.NoError(t, os.WriteFile(file, pem.EncodeToMemory(block), 0o600))
		require.NoError(t, os.Chtimes(file, at, at))
	}
}

// commonName is who a certificate speaks of.
func commonName(t *testing.T, c *certificate) string {
	t.Helper()
	c.looked = time.Time{} // as after a while
	pair, err := c.get(nil)
	require.NoError(t, err)
	return pair.Leaf.Subject.CommonName
}

// TestACertificateIsReadAgain when its files change; a pair that does not fit leaves the one before.
func TestACertificateIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	_, err := newCertificate(cert, key, slog.New(slog.DiscardHandler))
	require.ErrorContains(t, err, "read the certificate")
	began := time.Now().Add(-time.Hour)
	writePair(t, "first", cert, key, began)
	c, err := newCertificate(cert, key, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	require.Equal(t, "first", commonName(t, c))
	writePair(t, "second", cert, key, began.Add(time.Minute))
	require.Equal(t, "second", commonName(t, c))
	require.NoError(t, os.WriteFile(key, []byte("half written"), 0o600))
	require.Equal(t, "second", commonName(t, c))
	require.NoError(t, os.Remove(cert))
	require.Equal(t, "second", commonName(t, c))
	writePair(t, "third", cert, key, began.Add(2*time.Minute))
	require.Equal(t, "third", commonName(t, c))
}

// heard is what a command printed, as far as it came.
type heard chan string

func (h heard) Write(p []byte) (int, error) { h <- string(p); return len(p), nil }

// TestServedOverTLS by itself: the console's cookies are for TLS only, and a header of a proxy counts for nothing.
func TestServedOverTLS(t *testing.T) {
	dir := t.TempDir()
	cert, key := filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem")
	writePair(t, "here", cert, key, time.Now())
	run := func(ctx context.Context, out heard, args ...string) int {
		return Run(ctx, &Env{Out: out, Err: make(heard, 100), Getenv: func(string) string { return "" }, Version: "test"},
			append([]string{"serve", "-data", filepath.Join(dir, "company.relay"), "-listen", "127.0.0.1:0"}, args...))
	}
	require.NotZero(t, run(t.Context(), make(heard, 100), "-tls-cert", cert), "the key is missing")
	ctx, cancel := context.WithCancel(t.Context())
	out, done := make(heard, 100), make(chan int, 1)
	go func() { done <- run(ctx, out, "-tls-cert", cert, "-tls-key", key) }()
	url := regexp.MustCompile(`https://\S+`).FindString(<-out)
	require.NotEmpty(t, url)
	client := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{InsecureSkipVerify: true}, ForceAttemptHTTP2: true}}
	res, err := client.Get(url + "/livez")
	require.NoError(t, err)
	res.Body.Close()
	require.Equal(t, http.StatusNoContent, res.StatusCode)
	require.Equal(t, 2, res.ProtoMajor)
	require.NotEmpty(t, res.Header.Get("Strict-Transport-Security"))
	cancel()
	require.Zero(t, <-done)
}
