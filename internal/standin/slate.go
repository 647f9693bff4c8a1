package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// SlateConfig is a customer's account at the maker.
type SlateConfig struct {
	Customer, Account, Password string
	Word                        string            // by which its customer knows its calls
	Makes                       map[string]string // what it makes, by its code
	ByHand                      bool
}

// Slate is Scribe & Slate, a maker: it takes one form per order, with the fields of the lines repeated and the password in the form,
// makes what is to be engraved, and calls back when it has sent it.
type Slate struct {
	cfg  SlateConfig
	mis  mischief
	http http.Client
	http.Handler

	mu     sync.Mutex
	jobs   []*slateJob
	hook   string
	refuse string
	calls  []url.Values // that did not get through
	end    chan struct{}
	ended  sync.Once
}

type slateJob struct {
	No, Ref, To, State string // cutting, sent, stopped
	Notes              string // what was written for who packs, and how the buyer is reached
	Items, Texts       []string
	Counts             []int64
	Number             string
	Trial              bool
	At                 time.Time
}

// NewSlate opens the workshop.
func NewSlate(cfg SlateConfig) *Slate {
	s := &Slate{cfg: cfg, http: http.Client{Timeout: 5 * time.Second}, end: make(chan struct{})}
	r := chi.NewRouter()
	r.Group(func(r chi.Router) {
		r.Use(s.mis.around, s.known)
		r.Post("/order.do", s.order)
		r.Post("/stop.do", s.stop)
		r.Post("/look.do", s.look)
		r.Post("/account.do", func(w http.ResponseWriter, _ *http.Request) {
			formOut(w, url.Values{"result": {"ok"}, "customer": {cfg.Customer}, "account": {cfg.Account}, "land": {"XW"}})
		})
	})
	r.Get("/", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/control", http.StatusSeeOther) })
	r.Get("/control", s.page)
	r.Post("/control/refuse", func(w http.ResponseWriter, r *http.Request) { s.Refuse(r.FormValue("why")); back(w, r) })
	r.Post("/control/hook", func(w http.ResponseWriter, r *http.Request) { s.SetHook(r.FormValue("hook")); back(w, r) })
	r.Post("/control/send", func(w http.ResponseWriter, r *http.Request) { s.SendAll(); back(w, r) })
	r.Post("/control/api/send", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, map[string]int{"sent": s.SendAll()}) })
	r.Post("/control/api/faults", s.mis.setFaults)
	s.Handler = r
	if !cfg.ByHand {
		go s.live()
	}
	return s
}

// live tells again what did not get through, until it is stopped.
func (s *Slate) live() {
	t := time.NewTicker(2 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-s.end:
			return
		case <-t.C:
			s.TellAgain()
		}
	}
}

// Stop ends it.
func (s *Slate) Stop() { s.ended.Do(func() { close(s.end) }) }

// Misbehave switches faults on, or off with the zero value.
func (s *Slate) Misbehave(f Faults) { s.mis.set(f) }

// Live lets it live so long ago.
func (s *Slate) Live(ago time.Duration) { s.mis.Live(ago) }

// SetHook says where it calls.
func (s *Slate) SetHook(address string) { s.mu.Lock(); s.hook = address; s.mu.Unlock() }

// SetWord says by which word its customer knows its calls.
func (s *Slate) SetWord(word string) { s.mu.Lock(); s.cfg.Word = word; s.mu.Unlock() }

// Refuse lets it refuse each order from now on; "": it takes them.
func (s *Slate) Refuse(why string) { s.mu.Lock(); s.refuse = why; s.mu.Unlock() }

// Through lets its calls go by another way, for tests.
func (s *Slate) Through(rt http.RoundTripper) { s.http.Transport = rt }

func (s *Slate) known(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
		if r.ParseForm() != nil || r.PostForm.Get("account") != s.cfg.Account || r.PostForm.Get("password") != s.cfg.Password {
			w.WriteHeader(http.StatusForbidden)
			formOut(w, url.Values{"result": {"error"}, "text": {"account or password is wrong"}})
			return
		}
		next.ServeHTTP(w, r)
	})
}

// formOut answers as it always does: with a form.
func formOut(w http.ResponseWriter, v url.Values) {
	w.Header().Set("Content-Type", "application/x-www-form-urlencoded")
	_, _ = io.WriteString(w, v.Encode())
}

// order takes an order. The same reference again is the same order.
func (s *Slate) order(w http.ResponseWriter, r *http.Request) {
	f := r.PostForm
	s.mu.Lock()
	defer s.mu.Unlock()
	ref := f.Get("order_ref")
	for _, j := range s.jobs {
		if j.Ref == ref {
			formOut(w, url.Values{"result": {"ok"}, "job": {j.No}, "ready": {j.At.AddDate(0, 0, 2).Format(time.DateOnly)}})
			return
		}
	}
	j := &slateJob{No: fmt.Sprintf("J%d", 1400+len(s.jobs)), Ref: ref,
		To:    formLine(f, "ship_name", "ship_company", "ship_street", "ship_extra", "ship_postcode", "ship_town", "ship_country"),
		Notes: formLine(f, "note", "gift_note", "ship_phone"), State: "cutting",
		Items: f["item"], Texts: f["text"], Trial: f.Get("mode") == "test", At: s.mis.clock()}
	for _, q := range f["qty"] {
		n, err := strconv.ParseInt(q, 10, 64)
		if err != nil || n < 1 {
			formOut(w, url.Values{"result": {"error"}, "text": {"qty is no number"}})
			return
		}
		j.Counts = append(j.Counts, n)
	}
	why := s.wrong(f, j)
	if why != "" {
		formOut(w, url.Values{"result": {"no"}, "text": {why}})
		return
	}
	s.jobs = append(s.jobs, j)
	formOut(w, url.Values{"result": {"ok"}, "job": {j.No}, "ready": {j.At.AddDate(0, 0, 2).Format(time.DateOnly)}})
}

// formLine is what some fields of a form say, in one line.
func formLine(f url.Values, names ...string) string {
	var out []string
	for _, name := range names {
		if text := f.Get(name); text != "" {
			out = append(out, text)
		}
	}
	return strings.Join(out, ", ")
}

// wrong says why an order is not taken.
func (s *Slate) wrong(f url.Values, j *slateJob) string {
	switch {
	case s.refuse != "":
		return s.refuse
	case len(j.Items) == 0 || len(j.Items) != len(j.Counts) || len(j.Texts) != len(j.Items):
		return "item, qty and text do not match"
	case f.Get("ship_name") != strings.Join(strings.Fields(f.Get("ship_name")), " "):
		return "ship_name has spaces where none belong"
	}
	for _, item := range j.Items {
		if _, made := s.cfg.Makes[item]; !made {
			return "we do not make " + item
		}
	}
	return ""
}

func (s *Slate) find(ref string) *slateJob {
	at := slices.IndexFunc(s.jobs, func(j *slateJob) bool { return j.Ref == ref })
	if at < 0 {
		return nil
	}
	return s.jobs[at]
}

// look says where an order stands.
func (s *Slate) look(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	j := s.find(r.PostForm.Get("order_ref"))
	if j == nil {
		formOut(w, url.Values{"result": {"none"}})
		return
	}
	formOut(w, url.Values{"result": {"ok"}, "job": {j.No}, "state": {j.State}})
}

// stop does not make what is not made yet.
func (s *Slate) stop(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	j := s.find(r.PostForm.Get("order_ref"))
	switch {
	case j == nil:
		formOut(w, url.Values{"result": {"none"}})
	case j.State == "sent":
		formOut(w, url.Values{"result": {"late"}, "text": {"it is made and gone"}})
	default:
		j.State = "stopped"
		formOut(w, url.Values{"result": {"ok"}})
	}
}

// SendAll makes and sends what is to be made, tells its customer, and returns how many orders it sent.
func (s *Slate) SendAll() (n int) {
	s.mu.Lock()
	for _, j := range s.jobs {
		if j.State != "cutting" {
			continue
		}
		n++
		j.State, j.Number = "sent", fmt.Sprintf("SLT%07d", 550100+len(s.jobs)*3+n)
		v := url.Values{"event": {"sent"}, "order_ref": {j.Ref}, "job": {j.No}, "carrier": {"Plover Post"}, "number": {j.Number},
			"item": j.Items, "at": {s.mis.clock().UTC().Format(time.RFC3339)}}
		for _, c := range j.Counts {
			v.Add("qty", strconv.FormatInt(c, 10))
		}
		if j.Trial {
			v.Set("mode", "test")
		}
		s.calls = append(s.calls, v)
	}
	s.mu.Unlock()
	s.TellAgain()
	return n
}

// TellAgain calls with what its customer has not taken yet.
func (s *Slate) TellAgain() {
	s.mu.Lock()
	hook, calls := s.hook, s.calls
	s.calls = nil
	s.mu.Unlock()
	for _, v := range calls {
		if hook == "" || !s.call(hook, v) {
			s.mu.Lock()
			s.calls = append(s.calls, v)
			s.mu.Unlock()
		}
	}
}

func (s *Slate) call(hook string, v url.Values) bool {
	req, err := http.NewRequestWithContext(context.Background(), http.MethodPost, hook, strings.NewReader(v.Encode()))
	if err != nil {
		return false
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	s.mu.Lock()
	req.Header.Set("X-Slate-Word", s.cfg.Word)
	s.mu.Unlock()
	res, err := s.http.Do(req)
	if err != nil {
		return false
	}
	_, _ = io.Copy(io.Discard, res.Body)
	res.Body.Close()
	return res.StatusCode < 300
}

// SlateJob is an order as the maker has it.
type SlateJob struct {
	Ref, State string
	Texts      []string
	Trial      bool
}

// Jobs lists what it was asked to make, the oldest first.
func (s *Slate) Jobs() []SlateJob {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]SlateJob, len(s.jobs))
	for i, j := range s.jobs {
		out[i] = SlateJob{j.Ref, j.State, slices.Clone(j.Texts), j.Trial}
	}
	return out
}

func (s *Slate) page(w http.ResponseWriter, _ *http.Request) {
	s.mu.Lock()
	jobs := slices.Clone(s.jobs)
	hook, refuse, open := s.hook, s.refuse, len(s.calls)
	s.mu.Unlock()
	faults, _ := json.Marshal(s.mis.now())
	slices.Reverse(jobs)
	show(w, "slate", map[string]any{"Name": "Scribe & Slate", "Tag": "a pretend maker", "Accent": "#39424e", "Jobs": jobs[:min(len(jobs),
		100)],
		"Makes": s.cfg.Makes, "Hook": hook, "Refuse": refuse, "Open": open, "Faults": string(faults)})
}
