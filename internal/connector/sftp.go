package connector

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"path"
	"strings"
	"time"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"
)

// SFTP is how we are let in where files are exchanged by SFTP.
type SFTP struct {
	User     Expr `yaml:"user"`
	Password Expr `yaml:"password"`
	Key      Expr `yaml:"key"`      // private key, PEM or as OpenSSH writes it, without a passphrase
	HostKey  Expr `yaml:"host_key"` // fingerprint of the host's key, such as SHA256:…
}

func (s *SFTP) compile(l *language) {
	for what, e := range map[string]*Expr{"user": &s.User, "password": &s.Password, "key": &s.Key, "host_key": &s.HostKey} {
		l.compile(e, "access.sftp."+what)
	}
}

// errHostKey is raised where a host is not the one that is expected.
type errHostKey struct{ shown, wanted string }

func (e *errHostKey) Error() string {
	if e.wanted == "" {
		return fmt.Sprintf("the host shows the key %s; compare it with what its operator says, and put it in as its fingerprint", e.shown)
	}
	return fmt.Sprintf("the host shows the key %s, and %s is expected: it was changed, or somebody else answers; nothing was sent",
		e.shown, e.wanted)
}

// sftpFiles is a place that is reached by SFTP.
type sftpFiles struct {
	conn   *ssh.Client
	client *sftp.Client
	base   string // folder of the address, from the root; empty: where one stands who is let in
}

// openSFTP reaches the place of the connection's address.
func (l *Line) openSFTP(ctx context.Context) (Files, error) {
	config, err := l.sshConfig()
	if err != nil {
		return nil, err
	}
	host := l.base.Host
	if l.base.Port() == "" {
		host = net.JoinHostPort(l.base.Hostname(), "22")
	}
	ctx, cancel := context.WithTimeout(ctx, time.Duration(l.Def.Limits.Timeout))
	defer cancel()
	raw, err := l.dial(ctx, "tcp", host)
	if err != nil {
		return nil, &Failure{Text: l.Blank("sftp: " + reason(err)), Temporary: true, Unsent: true}
	}
	if deadline, ok := ctx.Deadline(); ok {
		if err := raw.SetDeadline(deadline); err != nil {
			return nil, errors.Join(err, raw.Close())
		}
	}
	shake, chans, requests, err := ssh.NewClientConn(raw, host, config)
	if err != nil {
		return nil, errors.Join(l.sshFailure(err), raw.Close())
	}
	if err := raw.SetDeadline(time.Now().Add(10 * time.Minute)); err != nil { // of all that is done with it
		return nil, errors.Join(err, shake.Close())
	}
	conn := ssh.NewClient(shake, chans, requests)
	client, err := sftp.NewClient(conn)
	if err != nil {
		return nil, errors.Join(&Failure{Text: "sftp: " + reason(err), Temporary: true, Unsent: true}, conn.Close())
	}
	return &sftpFiles{conn, client, l.base.Path}, nil
}

// sshConfig is how we prove who we are, and whom we expect.
func (l *Line) sshConfig() (*ssh.ClientConfig, error) {
	a := l.Def.Access.SFTP
	if a == nil {
		return nil, &Failure{Text: l.Def.Title + " does not say (access.sftp) how we are let in by SFTP", Unsent: true}
	}
	v := l.vars()
	var texts [4]string
	for i, e := range []*Expr{&a.User, &a.Password, &a.Key, &a.HostKey} {
		var err error
		if texts[i], err = e.String(v); err != nil {
			return nil, err
		}
	}
	wanted := strings.TrimSpace(texts[3])
	config := &ssh.ClientConfig{User: texts[0], Timeout: time.Duration(l.Def.Limits.Timeout),
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			if shown := ssh.FingerprintSHA256(key); shown != wanted {
				return &errHostKey{shown, wanted}
			}
			return nil
		}}
	if texts[2] != "" {
		key, err := ssh.ParsePrivateKey([]byte(texts[2]))
		if err != nil {
			return nil, &Failure{Text: "the private key cannot be read; one without a passphrase is expected", Unsent: true,
				Field: secretOf(a.Key)}
		}
		config.Auth = append(config.Auth, ssh.PublicKeys(key))
	}
	if texts[1] != "" {
		config.Auth = append(config.Auth, ssh.Password(texts[1]))
	}
	return config, nil
}

// secretOf is the credential field that an expression is, as it stands.
func secretOf(e Expr) string {
	name, plain := strings.CutPrefix(e.Text, "secret.")
	if !plain || strings.ContainsAny(name, " .+([") {
		return ""
	}
	return name
}

func (l *Line) sshFailure(err error) error {
	var host *errHostKey
	if errors.As(err, &host) {
		return &Failure{Text: host.Error(), Unsent: true, Field: secretOf(l.Def.Access.SFTP.HostKey), Said: host.Error(), Status: 403}
	}
	if strings.Contains(err.Error(), "unable to authenticate") {
		return &Failure{Text: "sftp: the host does not let us in", Status: 401, Unsent: true, Said: "the host does not let us in"}
	}
	return &Failure{Text: l.Blank("sftp: " + reason(err)), Temporary: true, Unsent: true}
}

func (f *sftpFiles) at(name string) string {
	if p := path.Join(f.base, name); p != "" {
		return p
	}
	return "."
}

func (f *sftpFiles) List(ctx context.Context, at string) ([]FileInfo, error) {
	entries, err := f.client.ReadDirContext(ctx, f.at(at))
	if err != nil {
		return nil, err
	}
	var out []FileInfo
	for _, e := range entries {
		if e.Mode().IsRegular() {
			out = append(out, FileInfo{e.Name(), e.Size(), e.ModTime()})
		}
	}
	return out, nil
}

func (f *sftpFiles) Open(_ context.Context, name string) (io.ReadCloser, error) {
	return f.client.Open(f.at(name))
}

func (f *sftpFiles) Put(_ context.Context, name, meanwhile string, data []byte) error {
	file, err := f.client.Create(f.at(meanwhile))
	if err != nil {
		return err
	}
	_, err = file.Write(data)
	if err = errors.Join(err, file.Close()); err != nil {
		return err
	}
	return f.Move(context.Background(), meanwhile, name)
}

// Move replaces what lies there, also at servers that know only the renaming that does not.
func (f *sftpFiles) Move(_ context.Context, from, to string) error {
	err := f.client.PosixRename(f.at(from), f.at(to))
	var status *sftp.StatusError
	if err == nil || !errors.As(err, &status) || status.FxCode() != sftp.ErrSSHFxOpUnsupported {
		return err
	}
	if err := f.client.Remove(f.at(to)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return f.client.Rename(f.at(from), f.at(to))
}

func (f *sftpFiles) Has(_ context.Context, name string) (bool, error) {
	_, err := f.client.Lstat(f.at(name))
	return there(err)
}

func (f *sftpFiles) Make(_ context.Context, at string) error {
	if at == "" || at == "." {
		return nil
	}
	return f.client.MkdirAll(f.at(at))
}

func (f *sftpFiles) Close() error { return errors.Join(f.client.Close(), f.conn.Close()) }
