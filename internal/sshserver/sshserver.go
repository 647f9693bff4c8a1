// Package sshserver starts an OpenSSH server of this machine on loopback, for tests and measurements of what goes by SFTP. It is part
// of no program.
package sshserver

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
)

// Server lets in whoever has its user's key.
type Server struct {
	Dir         string // what it keeps, and below which files may be exchanged
	Port        int
	User, Key   string // the private key, PEM
	Fingerprint string // of its own key
	cmd         *exec.Cmd
}

// New makes a server with its keys in a folder; it is not started.
func New(dir string) (*Server, error) {
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{Dir: dir, Port: free.Addr().(*net.TCPAddr).Port, User: me.Username}
	if err := free.Close(); err != nil {
		return nil, err
	}
	key, public, err := newKey(filepath.Join(dir, "mine"))
	if err != nil {
		return nil, err
	}
	s.Key = key
	return s, os.WriteFile(filepath.Join(dir, "authorized"), ssh.MarshalAuthorizedKey(public), 0o600)
}

// newKey writes a private key, and returns its text and its public half.
func newKey(file string) (string, ssh.PublicKey, error) {
	public, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		return "", nil, err
	}
	text := pem.EncodeToMemory(block)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return "", nil, err
	}
	pub, err := ssh.NewPublicKey(public)
	return string(text), pub, err
}

func program() (string, error) {
	const usual = "/usr/sbin/sshd" // not on the path of people
	if _, err := os.Stat(usual); err == nil {
		return usual, nil
	}
	path, err := exec.LookPath("sshd")
	if err != nil {
		return "", fmt.Errorf("an OpenSSH server is needed; make sshd installs it: %w", err)
	}
	return path, nil
}

// Start starts the server with a new key of its own, and waits until it answers.
func (s *Server) Start() error {
	path, err := program()
	if err != nil {
		return err
	}
	_, host, err := newKey(filepath.Join(s.Dir, "host"))
	if err != nil {
		return err
	}
	s.Fingerprint = ssh.FingerprintSHA256(host)
	config := fmt.Sprintf(`ListenAddress 127.0.0.1:%d
HostKey %[2]s/host
AuthorizedKeysFile %[2]s/authorized
PidFile %[2]s/pid
StrictModes no
UsePAM no
PermitRootLogin yes
PasswordAuthentication no
Subsystem sftp internal-sftp
`, s.Port, s.Dir)
	file := filepath.Join(s.Dir, "config")
	if err := os.WriteFile(file, []byte(config), 0o600); err != nil {
		return err
	}
	if os.Geteuid() == 0 {
		if err := os.MkdirAll("/run/sshd", 0o755); err != nil { // where it gives its rights away
			return err
		}
	}
	log, err := os.Create(filepath.Join(s.Dir, "log"))
	if err != nil {
		return err
	}
	defer log.Close()
	s.cmd = exec.Command(path, "-D", "-e", "-f", file)
	s.cmd.Stdout, s.cmd.Stderr = log, log
	if err := s.cmd.Start(); err != nil {
		return err
	}
	for begin := time.Now(); ; {
		c, err := net.Dial("tcp", fmt.Sprintf("127.0.0.1:%d", s.Port))
		if err == nil {
			return c.Close()
		}
		if time.Since(begin) > 10*time.Second {
			said, _ := os.ReadFile(log.Name())
			return errors.Join(fmt.Errorf("the server does not answer: %s", said), s.Stop())
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Stop ends the server.
func (s *Server) Stop() error {
	if s.cmd == nil {
		return nil
	}
	err := s.cmd.Process.Kill()
	_ = s.cmd.Wait() // it was killed
	s.cmd = nil
	return err
}
