package standin

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/go-chi/chi/v5"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// Letter is something that lies in the tray.
type Letter struct {
	At      time.Time
	How     string // mail or call
	From    string
	To      string
	Subject string
	Text    string
	ID      string
	Proved  bool // of a call: its signature fits
}

// Tray is where people get their mail, and a place that can be called: it keeps what comes in, for looking.
type Tray struct {
	http.Handler
	smtp   *smtp.Server
	mu     sync.Mutex
	list   []Letter
	secret string
	refuse int // so many calls are refused
}

// NewTray opens a tray.
func NewTray() *Tray {
	t := &Tray{}
	r := chi.NewRouter()
	r.Get("/", t.page)
	r.Post("/call", t.call)
	t.Handler = r
	t.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &traySession{tray: t}, nil }))
	t.smtp.Domain, t.smtp.ReadTimeout, t.smtp.WriteTimeout, t.smtp.MaxMessageBytes =
		"tray.example.test", 10*time.Second, 10*time.Second, 1<<20
	return t
}

// ServeMail takes mail until the listener is closed.
func (t *Tray) ServeMail(l net.Listener) { _ = t.smtp.Serve(l) }

// Stop ends taking mail.
func (t *Tray) Stop() { _ = t.smtp.Close() }

// Trust says with which secret calls are signed.
func (t *Tray) Trust(secret string) {
	t.mu.Lock()
	t.secret = secret
	t.mu.Unlock()
}

// Refuse lets the next n calls fail.
func (t *Tray) Refuse(n int) {
	t.mu.Lock()
	t.refuse = n
	t.mu.Unlock()
}

// Letters lists what came in, oldest first.
func (t *Tray) Letters() []Letter {
	t.mu.Lock()
	defer t.mu.Unlock()
	return append([]Letter(nil), t.list...)
}

func (t *Tray) put(l Letter) {
	t.mu.Lock()
	t.list = append(t.list, l)
	t.list = t.list[max(0, len(t.list)-500):]
	t.mu.Unlock()
}

// call takes a signed call; one that came before is taken and not kept again.
func (t *Tray) call(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err != nil {
		answer(w, 413, map[string]any{"error": "too large"})
		return
	}
	t.mu.Lock()
	secret, refuse := t.secret, t.refuse > 0
	if refuse {
		t.refuse--
	}
	id := r.Header.Get(standardwebhooks.HeaderWebhookID)
	known := false
	for _, l := range t.list {
		known = known || l.ID == id
	}
	t.mu.Unlock()
	if refuse {
		answer(w, 503, map[string]any{"error": "not now"})
		return
	}
	proved := false
	if v, err := standardwebhooks.NewWebhook(secret); err == nil {
		proved = v.Verify(body, r.Header) == nil
	}
	if !proved {
		answer(w, 401, map[string]any{"error": "the signature does not fit"})
		return
	}
	if !known {
		t.put(Letter{At: time.Now(), How: "call", Subject: r.Header.Get("Content-Type"), Text: string(body), ID: id, Proved: proved})
	}
	w.WriteHeader(http.StatusNoContent)
}

type traySession struct {
	tray     *Tray
	from, to string
}

// Mail begins a message.
func (s *traySession) Mail(from string, _ *smtp.MailOptions) error { s.from = from; return nil }

// Rcpt names a recipient.
func (s *traySession) Rcpt(to string, _ *smtp.RcptOptions) error { s.to = to; return nil }

// Data takes the message.
func (s *traySession) Data(r io.Reader) error {
	m, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	text, err := io.ReadAll(m.Body)
	if err != nil {
		return err
	}
	s.tray.put(Letter{At: time.Now(), How: "mail", From: s.from, To: s.to, Subject: m.Header.Get("Subject"), Text: string(text),
		ID: m.Header.Get("Message-ID")})
	return nil
}

// Reset forgets a message that was begun.
func (s *traySession) Reset() { s.from, s.to = "", "" }

// Logout ends the session.
func (s *traySession) Logout() error { return nil }

func (t *Tray) page(w http.ResponseWriter, _ *http.Request) {
	var out strings.Builder
	out.WriteString(
		`<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Tray</title>` +
			`<style>body{font:15px/1.5 system-ui,sans-serif;max-width:52rem;margin:2rem auto;color:#222b26}` +
			`h2{font-size:1rem;margin:1.4rem 0 .2rem}pre{white-space:pre-wrap;background:#f3f5f1;padding:.6rem}</style></head><body>` +
			`<h1>A pretend letter tray</h1>`)
	list := t.Letters()
	for i := len(list) - 1; i >= 0; i-- {
		l := list[i]
		fmt.Fprintf(&out, "<h2>%s · %s · %s</h2><pre>%s</pre>", esc(l.How), esc(l.To), esc(l.Subject), esc(l.Text))
	}
	if len(list) == 0 {
		out.WriteString("<p>Nothing came yet.</p>")
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write([]byte(out.String()))
}
