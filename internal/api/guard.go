package api

import (
	"net/http"
	"strings"
	"time"
)

// headers are those that every answer has: nothing is guessed of its kind, kept by who carries it, or shown inside another
// page, and pages run nothing that is not ours. Over TLS, browsers are told to come back over TLS only.
func headers(secure bool) func(http.Handler) http.Handler {
	const policy = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; object-src 'none'; base-uri 'none'; " +
		"form-action 'self'; frame-ancestors 'none'"
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			h := w.Header()
			h.Set("X-Content-Type-Options", "nosniff")
			h.Set("Referrer-Policy", "same-origin")
			h.Set("Content-Security-Policy", policy)
			if secure {
				h.Set("Strict-Transport-Security", "max-age=31536000")
			}
			if !strings.HasPrefix(r.URL.Path, "/assets/") {
				h.Set("Cache-Control", "no-store") // a page of the console says otherwise
			}
			next.ServeHTTP(w, r)
		})
	}
}

// longestAnswer is how long an answer may take to be read by who asked; streams of events have no end.
const longestAnswer = 5 * time.Minute

// deadlines keep those who ask and never read from holding a connection. A stream has none, also where the request before it on
// the same connection had one.
func deadlines(most time.Duration) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			var end time.Time
			if r.URL.Path != "/api/v1/events" {
				end = time.Now().Add(most)
			}
			// A server that cannot do it, as in tests, has no connection that could be held.
			_ = http.NewResponseController(w).SetWriteDeadline(end)
			next.ServeHTTP(w, r)
		})
	}
}

// cookieName is that of the session's cookie. Over TLS, browsers are made to keep it to this host and to TLS.
func cookieName(secure bool) string {
	if secure {
		return "__Host-openrelay"
	}
	return "openrelay"
}
