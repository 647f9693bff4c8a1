package standin

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// Faults is bad behaviour that can be switched on. The counted ones use themselves up.
type Faults struct {
	Status     int    `json:"status,omitempty"`      // answer with this status …
	RetryAfter int    `json:"retry_after,omitempty"` // … and ask to wait so many seconds
	Text       string `json:"text,omitempty"`        // what such an answer says
	HangMS     int    `json:"hang_ms,omitempty"`     // say nothing for so long
	Half       bool   `json:"half,omitempty"`        // break off in the middle of the body
	HTML       bool   `json:"html,omitempty"`        // answer a web page instead of data
	Garbage    bool   `json:"garbage,omitempty"`     // answer text that is no data at all
	LoseAnswer bool   `json:"lose_answer,omitempty"` // do the work, then cut the connection
	Count      int    `json:"count,omitempty"`       // for so many calls; 0: until switched off
	EveryNth   int    `json:"every_nth,omitempty"`   // only every Nth call
	Only       string `json:"only,omitempty"`        // only calls whose path contains this
	PushLateMS int    `json:"push_late_ms,omitempty"`
	PushTwice  bool   `json:"push_twice,omitempty"`
	PushMixed  bool   `json:"push_mixed,omitempty"` // out of order
	PushNever  bool   `json:"push_never,omitempty"`
	ClockMin   int    `json:"clock_min,omitempty"` // the clock goes wrong by so many minutes
}

// chosen makes faults from the fields of a control page.
func chosen(r *http.Request) Faults {
	f := Faults{}
	f.Count, _ = strconv.Atoi(r.FormValue("count"))
	f.EveryNth, _ = strconv.Atoi(r.FormValue("every"))
	f.ClockMin, _ = strconv.Atoi(r.FormValue("clock"))
	switch r.FormValue("fault") {
	case "500":
		f.Status = 500
	case "429":
		f.Status, f.RetryAfter = 429, 5
	case "slow":
		f.HangMS = 2000
	case "hang":
		f.HangMS = 30_000
	case "half":
		f.Half = true
	case "cut":
		f.LoseAnswer = true
	case "html":
		f.HTML = true
	case "garbage":
		f.Garbage = true
	}
	switch r.FormValue("push") {
	case "late":
		f.PushLateMS = 5000
	case "twice":
		f.PushTwice = true
	case "mixed":
		f.PushMixed = true
	case "never":
		f.PushNever = true
	}
	return f
}

// Seen is one call that was received.
type Seen struct {
	At     time.Time `json:"at"`
	Method string    `json:"method"`
	Path   string    `json:"path"`
	Status int       `json:"status"`
}

// mischief applies faults to calls of the data interface and remembers all calls.
type mischief struct {
	ago    atomic.Int64 // how long ago it lives, in nanoseconds
	mu     sync.Mutex
	faults Faults
	calls  int
	seen   []Seen
	total  int
}

func (m *mischief) set(f Faults) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.faults, m.calls = f, 0
}

// setFaults is the call of the control interface that switches faults on and off.
func (m *mischief) setFaults(w http.ResponseWriter, r *http.Request) {
	var f Faults
	if read(w, r, &f) {
		m.set(f)
		answer(w, 200, f)
	}
}

func (m *mischief) now() Faults {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.faults
}

// clock is the stand-in's own time.
func (m *mischief) clock() time.Time {
	return time.Now().Add(time.Duration(m.now().ClockMin)*time.Minute - time.Duration(m.ago.Load()))
}

// Live lets a stand-in live so long ago, until it is told otherwise: what it dates is dated then.
func (m *mischief) Live(ago time.Duration) { m.ago.Store(int64(ago)) }

// take says which faults hit this call.
func (m *mischief) take(path string) Faults {
	m.mu.Lock()
	defer m.mu.Unlock()
	f := m.faults
	if f.Only != "" && !strings.Contains(path, f.Only) {
		return Faults{}
	}
	if f.Status == 0 && f.HangMS == 0 && !f.Half && !f.HTML && !f.Garbage && !f.LoseAnswer {
		return Faults{}
	}
	m.calls++
	if f.EveryNth > 1 && m.calls%f.EveryNth != 0 {
		return Faults{}
	}
	if f.Count > 0 {
		m.faults.Count--
		if m.faults.Count == 0 {
			push := m.faults
			m.faults = Faults{PushLateMS: push.PushLateMS, PushTwice: push.PushTwice, PushMixed: push.PushMixed,
				PushNever: push.PushNever, ClockMin: push.ClockMin}
		}
	}
	return f
}

func (m *mischief) remember(r *http.Request, status int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.total++
	m.seen = append(m.seen, Seen{time.Now(), r.Method, r.URL.RequestURI(), status})
	if len(m.seen) > 1000 {
		m.seen = append(m.seen[:0], m.seen[500:]...)
	}
}

func (m *mischief) calledSoFar() ([]Seen, int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Seen(nil), m.seen...), m.total
}

// around wraps the data interface of a stand-in.
func (m *mischief) around(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if m.ago.Load() != 0 {
			w.Header().Set("Date", m.clock().UTC().Format(http.TimeFormat))
		}
		f := m.take(r.URL.Path)
		if f.HangMS > 0 {
			select {
			case <-time.After(time.Duration(f.HangMS) * time.Millisecond):
			case <-r.Context().Done():
				m.remember(r, 0)
				return
			}
		}
		switch {
		case f.Status > 0:
			if f.RetryAfter > 0 {
				w.Header().Set("Retry-After", fmt.Sprint(f.RetryAfter))
			}
			m.remember(r, f.Status)
			text := f.Text
			if text == "" {
				text = "switched on for practice"
			}
			answer(w, f.Status, map[string]any{"error": text})
			return
		case f.HTML:
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			fmt.Fprint(w, "<!doctype html><title>Back soon</title><h1>We are painting the shop</h1>")
			m.remember(r, 200)
			return
		case f.Garbage:
			w.Header().Set("Content-Type", "application/json")
			fmt.Fprint(w, "\x00\x01{{{ not data")
			m.remember(r, 200)
			return
		}
		rec := httptest.NewRecorder()
		next.ServeHTTP(rec, r)
		m.remember(r, rec.Code)
		if f.LoseAnswer {
			panic(http.ErrAbortHandler)
		}
		for k, v := range rec.Header() {
			w.Header()[k] = v
		}
		body := rec.Body.Bytes()
		if f.Half {
			w.Header().Set("Content-Length", fmt.Sprint(len(body)))
			w.WriteHeader(rec.Code)
			w.Write(body[:len(body)/2])
			http.NewResponseController(w).Flush() // else nothing at all would leave
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(rec.Code)
		w.Write(body)
	})
}

func answer(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(v)
}

func read(w http.ResponseWriter, r *http.Request, v any) bool {
	dec := json.NewDecoder(http.MaxBytesReader(w, r.Body, 4<<20))
	if err := dec.Decode(v); err != nil {
		answer(w, http.StatusBadRequest, map[string]any{"error": "the body cannot be read: " + err.Error()})
		return false
	}
	return true
}
