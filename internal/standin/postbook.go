package standin

import (
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// PostbookConfig is a contract with the address service.
type PostbookConfig struct{ Holder, Contract, Desk, Token string }

// Postbook is a running address service.
type Postbook struct {
	mis mischief
	cfg PostbookConfig
	http.Handler
}

// gazetteerTown is a town of the invented countries. Positions are decimal degrees, as invented as the rest.
type gazetteerTown struct {
	Code, Name, Land, Lat, Lon string
	Far                        bool
}

var gazetteer = func() []gazetteerTown {
	out := []gazetteerTown{
		{"41207", "Alderby", "XW", "54.1120", "3.2210", false}, {"77102", "Greywick", "XW", "53.8070", "2.9020", false},
	}
	known := map[string]bool{"41207": true, "77102": true}
	for i, t := range townsOf {
		if !known[t.code] {
			known[t.code] = true
			out = append(out, gazetteerTown{Code: t.code, Name: t.name, Land: t.land,
				Lat: "53." + pad(2210+i*37), Lon: "3." + pad(1010+i*53), Far: strings.HasPrefix(t.code, "97") ||
					strings.HasPrefix(t.code, "98")})
		}
	}
	return out
}()

func pad(n int) string { return fmt.Sprintf("%04d", n) }

// NewPostbook opens the service.
func NewPostbook(cfg PostbookConfig) *Postbook {
	p := &Postbook{cfg: cfg}
	r := chi.NewRouter()
	r.Route("/pb/{contract}/{desk}", func(r chi.Router) {
		r.Use(p.mis.around, p.let)
		r.Get("/", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"holder": cfg.Holder, "contract": cfg.Contract, "desk": cfg.Desk, "land": "XW"})
		})
		r.Get("/check", p.check)
	})
	r.Get("/control", func(w http.ResponseWriter, _ *http.Request) {
		seen, total := p.mis.calledSoFar()
		show(w, "postbook", map[string]any{"Towns": gazetteer, "Calls": total, "Recent": seen[max(0, len(seen)-20):]})
	})
	r.Post("/control/api/faults", p.mis.setFaults)
	p.Handler = r
	return p
}

func (p *Postbook) let(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.Header.Get("Postbook-Token") != p.cfg.Token:
			answer(w, 401, map[string]any{"reason": "this token is not known", "about": "token"})
		case chi.URLParam(r, "contract") != p.cfg.Contract:
			answer(w, 404, map[string]any{"reason": "there is no contract " + chi.URLParam(r, "contract"), "about": "contract"})
		case chi.URLParam(r, "desk") != p.cfg.Desk:
			answer(w, 404, map[string]any{"reason": "the contract has no desk " + chi.URLParam(r, "desk"), "about": "desk"})
		default:
			next.ServeHTTP(w, r)
		}
	})
}

// check looks an address up: by postcode and town; one letter may be wrong.
func (p *Postbook) check(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	code, town, street := strings.TrimSpace(q.Get("code")), strings.TrimSpace(q.Get("town")), strings.Join(
		strings.Fields(q.Get("street")), " ")
	out := map[string]any{"verdict": "unknown", "remark": "no place of this postcode and name", "premises": "home", "far": false}
	for _, t := range gazetteer {
		if q.Get("land") != "" && q.Get("land") != t.Land || t.Code != code && !strings.EqualFold(t.Name, town) {
			continue
		}
		verdict, remark := "sure", ""
		switch {
		case t.Code != code:
			verdict, remark = "guess", "postcode corrected to "+t.Code
		case !strings.EqualFold(t.Name, town):
			verdict, remark = "guess", "town corrected to "+t.Name
		}
		if street == "" || !strings.ContainsAny(street, "0123456789") {
			verdict, remark = "unknown", "the house number is missing"
		}
		premises := "home"
		if q.Get("company") != "" {
			premises = "business"
		}
		out = map[string]any{"verdict": verdict, "remark": remark, "premises": premises, "far": t.Far,
			"spot":    map[string]any{"lat": t.Lat, "lon": t.Lon},
			"address": map[string]any{"street": street, "code": t.Code, "town": t.Name, "land": t.Land}}
		if t.Code == code {
			break
		}
	}
	answer(w, 200, out)
}

// Live lets it live so long ago.
func (p *Postbook) Live(ago time.Duration) { p.mis.Live(ago) }
