package connector

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/sshserver"
)

// sshd is an OpenSSH server of this machine.
type sshd struct {
	*sshserver.Server
	t *testing.T
}

func startSSHD(t *testing.T) *sshd {
	t.Helper()
	server, err := sshserver.New(t.TempDir())
	require.NoError(t, err)
	s := &sshd{server, t}
	t.Cleanup(s.stop)
	require.NoError(t, s.Start())
	return s
}

func (s *sshd) stop() { require.NoError(s.t, s.Stop()) }

// line reaches the server as somebody who knows these secrets.
func (s *sshd) line(secrets map[string]string) *Line {
	s.t.Helper()
	def, err := Load("tray.yaml", []byte(strings.Replace(tray, "settled: 2s", "settled: 0s", 1)), nil)
	require.NoError(s.t, err)
	guard := Guard{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	l, err := NewLine(
		def,
		LineOptions{Base: fmt.Sprintf("sftp://127.0.0.1:%d%s/tray", s.Port, s.Dir), Login: NewLogin(def, secrets, Token{}),
			Dial: guard.Dial()},
	)
	require.NoError(s.t, err)
	return l
}

func (s *sshd) secrets() map[string]string {
	return map[string]string{"user": s.User, "key": s.Key, "host_key": s.Fingerprint}
}

// TestFilesBySFTP go both ways at a real server; they are never seen half written, and lie where they belong afterwards.
func TestFilesBySFTP(t *testing.T) {
	s := startSSHD(t)
	out := filepath.Join(s.Dir, "tray", "out")
	require.NoError(t, os.MkdirAll(out, 0o755))
	l := s.line(s.secrets())
	v := l.Test(t.Context())
	require.True(t, v.LetIn, v.Text)
	require.NoError(t, os.WriteFile(filepath.Join(out, "LEV1.csv"), []byte("sku;n\nJAR;4\nLID;2\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(out, "LEV2.csv.part"), []byte("sku;n\nPOT"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(out, "LEV3.csv"), []byte("sku;n\nJAR;4;5;6\n"), 0o644))
	var kept []string
	var took []TakenFile
	rd := Reading{Keep: func(list []Record) error {
		for _, r := range list {
			kept = append(kept, r.ID)
		}
		return nil
	}, Took: func(f TakenFile) error { took = append(took, f); return nil }}
	_, err := l.Read(t.Context(), message.StockIn, rd)
	require.NoError(t, err)
	require.Equal(t, []string{"JAR", "LID"}, kept)
	require.Len(t, took, 2)
	require.FileExists(t, filepath.Join(out, "done", "LEV1.csv"))
	require.FileExists(t, filepath.Join(out, "failed", "LEV3.csv"))
	require.FileExists(t, filepath.Join(out, "LEV2.csv.part"))
	for range 2 { // the second replaces the first
		_, err = l.Send(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: "JAR", Quantity: 5}})
		require.NoError(t, err)
	}
	in, err := os.ReadDir(filepath.Join(s.Dir, "tray", "in"))
	require.NoError(t, err)
	require.Len(t, in, 1)
	raw, err := os.ReadFile(filepath.Join(s.Dir, "tray", "in", in[0].Name()))
	require.NoError(t, err)
	require.Equal(t, "sku;n\r\nJAR;5\r\n", string(raw))
}

// TestWhoAnswersIsChecked before anything is said; what is wrong is told with its field.
func TestWhoAnswersIsChecked(t *testing.T) {
	s := startSSHD(t)
	require.NoError(t, os.MkdirAll(filepath.Join(s.Dir, "tray", "out"), 0o755))
	for _, c := range []struct{ field, value, wrong, says string }{
		{"host_key", "", "host_key", "the host shows the key " + s.Fingerprint + "; compare it with what its operator says"},
		{"host_key", "SHA256:somebodyelse", "host_key", "and SHA256:somebodyelse is expected: it was changed, or somebody else answers"},
		{"key", "no key at all", "key", "the private key cannot be read"},
		{"key", "", "", "does not let us in"},
	} {
		secrets := s.secrets()
		secrets[c.field] = c.value
		v := s.line(secrets).Test(t.Context())
		require.False(t, v.LetIn, c.says)
		require.Equal(t, c.wrong, v.Field, c.says)
		require.Contains(t, v.Text, c.says)
		require.NotContains(t, v.Text, "PRIVATE")
	}
	l := s.line(s.secrets())
	require.True(t, l.Test(t.Context()).LetIn)
	s.stop()
	_, err := l.Send(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: "JAR", Quantity: 5}})
	f := failure(t, err)
	require.True(t, f.Temporary && f.Unsent, "it is tried again: %s", f.Text)
	require.NoError(t, s.Start()) // another key, as after a change of the machine
	_, err = l.Send(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: "JAR", Quantity: 5}})
	require.Contains(t, failure(t, err).Text, "it was changed, or somebody else answers; nothing was sent")
	require.NoDirExists(t, filepath.Join(s.Dir, "tray", "in"))

	guarded, err := NewLine(l.Def, LineOptions{Base: fmt.Sprintf("sftp://127.0.0.1:%d/tray", s.Port), Login: NewLogin(l.Def, s.secrets(),
		Token{}), Dial: Guard{}.Dial()})
	require.NoError(t, err)
	require.Contains(t, guarded.Test(t.Context()).Text, "is not a public one", "where calls may go holds for it, too")
}
