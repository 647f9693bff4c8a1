// Package mail sends e-mail over SMTP (RFC 5321). It decides nothing: the relay says what goes to whom.
package mail

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// Sender sends through one mail server.
type Sender struct {
	Server         string // host:port
	From           string
	User, Password string // empty: the server asks for none
	Plain          bool   // without TLS, for a server on the same machine
}

// Send hands one message to the server. ref becomes its Message-ID, so that a repeat can be told.
func (s Sender) Send(ctx context.Context, to, subject, text, ref string) error {
	host, portText, err := net.SplitHostPort(s.Server)
	if err != nil {
		return fmt.Errorf("mail server %q: host:port is expected", s.Server)
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return fmt.Errorf("mail server %q: the port is no number", s.Server)
	}
	m := gomail.NewMsg()
	if err := m.From(s.From); err != nil {
		return fmt.Errorf("sender %q: %w", s.From, err)
	}
	if err := m.To(to); err != nil {
		return fmt.Errorf("recipient %q: %w", to, err)
	}
	m.Subject(subject)
	m.SetMessageIDWithValue(ref + "@open-relay")
	m.SetBodyString(gomail.TypeTextPlain, text)
	// The line is cut when the caller leaves: a server that took the call and says nothing holds nobody.
	end := func() bool { return true }
	defer func() { end() }()
	dial := func(dialing context.Context, network, address string) (net.Conn, error) {
		c, err := (&net.Dialer{}).DialContext(dialing, network, address)
		if err == nil {
			end = context.AfterFunc(ctx, func() { c.Close() })
		}
		return c, err
	}
	opts := []gomail.Option{gomail.WithPort(port), gomail.WithTimeout(10 * time.Second), gomail.WithDialContextFunc(dial)}
	if s.Plain {
		opts = append(opts, gomail.WithTLSPolicy(gomail.NoTLS))
	}
	if s.User != "" {
		opts = append(opts, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(s.User), gomail.WithPassword(s.Password))
	}
	c, err := gomail.NewClient(host, opts...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, m)
}
