package connector

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"openrelay/internal/core/message"
)

// sshd is an OpenSSH server of this machine that lets in whoever has its user's key.
type sshd struct {
	t               *testing.T
	dir, key, print string
	port            int
	cmd             *exec.Cmd
}

// newKey writes a private key, and returns its text and its public half.
func newKey(t *testing.T, file string) (string, ssh.PublicKey) {
	t.Helper()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	block, err := ssh.MarshalPrivateKey(private, "")
	require.NoError(t, err)
	text := pem.EncodeToMemory(block)
	require.NoError(t, os.WriteFile(file, text, 0o600))
	pub, err := ssh.NewPublicKey(public)
	require.NoError(t, err)
	return string(text), pub
}

func startSSHD(t *testing.T) *sshd {
	t.Helper()
	program := "/usr/sbin/sshd"
	if _, err := os.Stat(program); err != nil {
		program, err = exec.LookPath("sshd")
		require.NoError(t, err, "an OpenSSH server is needed; make sshd installs it")
	}
	s := &sshd{t: t, dir: t.TempDir()}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s.port = free.Addr().(*net.TCPAddr).Port
	require.NoError(t, free.Close())
	var mine ssh.PublicKey
	s.key, mine = newKey(t, filepath.Join(s.dir, "mine"))
	require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized"), ssh.MarshalAuthorizedKey(mine), 0o600))
	s.start(program)
	return s
}

// start starts the server with a host key of its own.
func (s *sshd) start(program string) {
	_, host := newKey(s.t, filepath.Join(s.dir, "host"))
	s.print = ssh.FingerprintSHA256(host)
	config := fmt.Sprintf(`ListenAddress 127.0.0.1:%d
HostKey %[2]s/host
AuthorizedKeysFile %[2]s/authorized
PidFile %[2]s/pid
StrictModes no
UsePAM no
PermitRootLogin yes
PasswordAuthentication no
Subsystem sftp internal-sftp
`, s.port, s.dir)
	file := filepath.Join(s.dir, "config")
	require.NoError(s.t, os.WriteFile(file, []byte(config), 0o600))
	if os.Geteuid() == 0 {
		require.NoError(s.t, os.MkdirAll("/run/sshd", 0o755)) // where it gives its rights away
	}
	s.cmd = exec.Command(program, "-D", "-e", "-f", file)
	log, err := os.Create(filepath.Join(s.dir, "log"))
	require.NoError(s.t, err)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	require.NoError(s.t, s.cmd.Start())
	s.t.Cleanup(s.stop)
	require.Eventually(s.t, func() bool {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.port))
		if err != nil {
			return false
		}
		return c.Close() == nil
	}, 10*time.Second, 20*time.Millisecond)
}

func (s *sshd) stop() {
	if s.cmd != nil {
		_ = s.cmd.Process.Kill()
		_ = s.cmd.Wait()
		s.cmd = nil
	}
}

// line reaches the server as somebody who knows these secrets.
func (s *sshd) line(secrets map[string]string) *Line {
	s.t.Helper()
	def, err := Load("tray.yaml", []byte(strings.Replace(tray, "settled: 2s", "settled: 0s", 1)), nil)
	require.NoError(s.t, err)
	guard := Guard{Allowed: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}
	l, err := NewLine(
		def,
		LineOptions{Base: fmt.Sprintf("sftp://127.0.0.1:%d%s/tray", s.port, s.dir), Login: NewLogin(def, secrets, Token{}),
			Dial: guard.Dial()},
	)
	require.NoError(s.t, err)
	return l
}

func (s *sshd) secrets() map[string]string {
	me, err := user.Current()
	require.NoError(s.t, err)
	return map[string]string{"user": me.Username, "key": s.key, "host_key": s.print}
}

// TestFilesBySFTP go both ways at a real server; they are never seen half written, and lie where they belong afterwards.
func TestFilesBySFTP(t *testing.T) {
	s := startSSHD(t)
	out := filepath.Join(s.dir, "tray", "out")
	require.NoError(t, os.MkdirAll(out, 0o755))
	l := s.line(s.secrets())
	v := l.Test(t.Context())
	require.True(t, v.LetIn, v.Text)
	require.NoError(t, os.WriteFile(filepath.Join(out, "LEV1.csv"), []byte("sku;n\nJAR;4\nLID;2\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(out, "LEV2.csv.part"), []byte("sku;n\nPOT"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(out, "LEV3.csv"), []byte(strings.Repeat("x", 5000)), 0o644))
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
	in, err := os.ReadDir(filepath.Join(s.dir, "tray", "in"))
	require.NoError(t, err)
	require.Len(t, in, 1)
	raw, err := os.ReadFile(filepath.Join(s.dir, "tray", "in", in[0].Name()))
	require.NoError(t, err)
	require.Equal(t, "sku;n\r\nJAR;5\r\n", string(raw))
}

// TestWhoAnswersIsChecked before anything is said; what is wrong is told with its field.
func TestWhoAnswersIsChecked(t *testing.T) {
	s := startSSHD(t)
	require.NoError(t, os.MkdirAll(filepath.Join(s.dir, "tray", "out"), 0o755))
	for _, c := range []struct{ field, value, wrong, says string }{
		{"host_key", "", "host_key", "the host shows the key " + s.print + "; compare it with what its operator says"},
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
	program := s.cmd.Path
	s.stop()
	_, err := l.Send(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: "JAR", Quantity: 5}})
	f := failure(t, err)
	require.True(t, f.Temporary && f.Unsent, "it is tried again: %s", f.Text)
	s.start(program) // another key, as after a change of the machine
	_, err = l.Send(t.Context(), message.StockOut, "or-17", []any{message.Offer{SKU: "JAR", Quantity: 5}})
	require.Contains(t, failure(t, err).Text, "it was changed, or somebody else answers; nothing was sent")
	require.NoDirExists(t, filepath.Join(s.dir, "tray", "in"))

	guarded, err := NewLine(l.Def, LineOptions{Base: fmt.Sprintf("sftp://127.0.0.1:%d/tray", s.port), Login: NewLogin(l.Def, s.secrets(),
		Token{}), Dial: Guard{}.Dial()})
	require.NoError(t, err)
	require.Contains(t, guarded.Test(t.Context()).Text, "is not a public one", "where calls may go holds for it, too")
}
