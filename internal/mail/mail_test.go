package mail

import (
	"context"
	"io"
	"net"
	"net/mail"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/stretchr/testify/require"
)

// postOffice is a mail server that keeps what it is given.
type postOffice struct {
	mu     sync.Mutex
	got    []string
	refuse string // recipient that it does not know
}

func (p *postOffice) NewSession(*smtp.Conn) (smtp.Session, error) { return &counter{p}, nil }

type counter struct{ at *postOffice }

func (c *counter) Mail(string, *smtp.MailOptions) error { return nil }

func (c *counter) Rcpt(to string, _ *smtp.RcptOptions) error {
	if to == c.at.refuse {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such person"}
	}
	return nil
}

func (c *counter) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	c.at.mu.Lock()
	defer c.at.mu.Unlock()
	c.at.got = append(c.at.got, string(b))
	return err
}

func (c *counter) Reset()        {}
func (c *counter) Logout() error { return nil }

func open(t *testing.T) (*postOffice, Sender) {
	t.Helper()
	p := &postOffice{refuse: "nobody@morrow.example"}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	s := smtp.NewServer(p)
	s.Domain = "localhost"
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return p, Sender{Server: l.Addr().String(), From: "relay@morrow.example", Plain: true}
}

// TestSend: the message arrives as it was written, under a Message-ID by which a repeat can be told.
func TestSend(t *testing.T) {
	p, s := open(t)
	for range 2 {
		require.NoError(t, s.Send(t.Context(), "edda@morrow.example", "3 exceptions – no stock", "Short of 12 of TANK-50.\nJärnväg 4\n",
			"notice-7"))
	}
	require.Len(t, p.got, 2)
	m, err := mail.ReadMessage(strings.NewReader(p.got[0]))
	require.NoError(t, err)
	require.Equal(t, "<notice-7@open-relay>", m.Header.Get("Message-ID"))
	require.Contains(t, m.Header.Get("To"), "edda@morrow.example")
	require.Contains(t, m.Header.Get("From"), "relay@morrow.example")
	again, err := mail.ReadMessage(strings.NewReader(p.got[1]))
	require.NoError(t, err)
	require.Equal(t, m.Header.Get("Message-ID"), again.Header.Get("Message-ID"))
	body, err := io.ReadAll(m.Body)
	require.NoError(t, err)
	require.Contains(t, string(body), "TANK-50")
}

// TestWhatCannotBeSentSaysWhy, without the password.
func TestWhatCannotBeSentSaysWhy(t *testing.T) {
	_, s := open(t)
	s.Password = "a secret"
	require.ErrorContains(t, s.Send(t.Context(), "nobody@morrow.example", "x", "x", "r"), "no such person")
	require.ErrorContains(t, s.Send(t.Context(), "not an address", "x", "x", "r"), `recipient "not an address"`)
	for server, says := range map[string]string{"mail.example": "host:port is expected", "mail.example:smtp-ish": "the port is no number",
		"127.0.0.1:1": "127.0.0.1:1"} {
		bad := s
		bad.Server = server
		err := bad.Send(t.Context(), "edda@morrow.example", "x", "x", "r")
		require.ErrorContains(t, err, says)
		require.NotContains(t, err.Error(), "a secret")
	}
	bad := s
	bad.From = "nobody at all"
	require.ErrorContains(t, bad.Send(t.Context(), "edda@morrow.example", "x", "x", "r"), "sender")
}

// TestAServerThatHangs is left when the caller leaves.
func TestAServerThatHangs(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	began := time.Now()
	ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer cancel()
	err = Sender{Server: l.Addr().String(), From: "relay@morrow.example", Plain: true}.Send(ctx, "edda@morrow.example", "x", "x", "r")
	require.Error(t, err)
	require.Error(t, ctx.Err(), "it ended with its caller, not before")
	require.Less(t, time.Since(began), 8*time.Second, "and did not wait for its own end")
}
