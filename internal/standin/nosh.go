package standin

import (
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// NoshConfig is a kitchen's account at the ordering portal.
type NoshConfig struct {
	Kitchen, Number, Land string
	Key                   string        // of the kitchen's menu
	Patience              time.Duration // how long guests wait for an answer; 0: ten seconds
	ByHand                bool          // nothing rings unless RingNext is called
}

// noshDish is a dish as the portal shows it.
type noshDish struct {
	Code     string      `json:"code"`
	Name     string      `json:"name"`
	Text     string      `json:"text"`
	Cents    int64       `json:"cents"`
	Sold     bool        `json:"can_be_ordered"`
	Portions int64       `json:"portions"`
	Choices  []noshGroup `json:"choices"`
	No       string      `json:"no"`
}

type noshGroup struct {
	Key     string       `json:"key"`
	Name    string       `json:"name"`
	Take    [2]int64     `json:"take"` // at least, at most
	Options []noshOption `json:"options"`
}

type noshOption struct {
	Key   string `json:"key"`
	Name  string `json:"name"`
	Cents int64  `json:"cents"`
}

// Nosh is a running ordering portal.
type Nosh struct {
	*desk
	cfg NoshConfig
	http.Handler
	dishes map[string]*noshDish // by code; guarded by desk.mu
	bell   noshBell
}

// NewNosh opens the portal.
func NewNosh(cfg NoshConfig) *Nosh {
	if cfg.Patience == 0 {
		cfg.Patience = 10 * time.Second
	}
	n := &Nosh{desk: newDesk("Nosh Lane", "a pretend ordering portal", "#a2542f", "NL-", nil), cfg: cfg, dishes: map[string]*noshDish{}}
	n.bell.init()
	r := chi.NewRouter()
	r.Route("/np", func(r chi.Router) {
		r.Use(n.mis.around, func(next http.Handler) http.Handler {
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if r.Header.Get("Kitchen-Key") != cfg.Key {
					answer(w, 401, map[string]any{"oops": "this is no kitchen's key"})
					return
				}
				next.ServeHTTP(w, r)
			})
		})
		r.Get("/kitchen", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"kitchen": cfg.Kitchen, "no": cfg.Number, "land": cfg.Land})
		})
		r.Get("/menu", n.menu)
		r.Post("/menu", n.setMenu)
		r.Post("/portions", n.setPortions)
		r.Get("/orders", n.ordersSince)
		r.Post("/orders/{ref}/answer", n.answered)
		r.Post("/orders/{ref}/out", n.wentOut)
	})
	n.control(r)
	n.ringing(r)
	if !cfg.ByHand {
		go n.ringLoop()
	}
	r.Get("/menu", n.page)
	n.Handler = r
	return n
}

// Menu lists the dishes that can be ordered, by code, with how many choices each asks for.
func (n *Nosh) Menu() map[string]int {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := map[string]int{}
	for code, d := range n.dishes {
		if d.Sold {
			out[code] = len(d.Choices)
		}
	}
	return out
}

// Price is what a dish costs, in cents.
func (n *Nosh) Price(code string) int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	if d := n.dishes[code]; d != nil {
		return d.Cents
	}
	return 0
}

func (n *Nosh) sorted() []*noshDish {
	out := []*noshDish{}
	for _, d := range n.dishes {
		out = append(out, d)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Code < out[j].Code })
	return out
}

func (n *Nosh) menu(w http.ResponseWriter, _ *http.Request) {
	n.mu.Lock()
	defer n.mu.Unlock()
	answer(w, 200, map[string]any{"dishes": n.sorted()})
}

func (n *Nosh) setMenu(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Dishes []noshDish `json:"dishes"`
	}
	if !read(w, r, &in) {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	out := []map[string]any{}
	for _, d := range in.Dishes {
		res := map[string]any{"code": d.Code, "ok": false}
		switch {
		case d.Code == "" || d.Name == "" || d.Cents <= 0:
			res["why"] = "a dish has a code, a name and a price"
		case len(d.Choices) > 5:
			res["why"] = "guests are asked at most five questions"
		default:
			d.No = fmt.Sprintf("D%d", 10+len(n.dishes))
			if old := n.dishes[d.Code]; old != nil {
				d.No = old.No
			}
			n.dishes[d.Code] = &d
			res["ok"], res["no"] = true, d.No
		}
		out = append(out, res)
	}
	answer(w, 200, map[string]any{"results": out})
}

func (n *Nosh) setPortions(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Portions []struct {
			No    string `json:"no"`
			Count int64  `json:"count"`
		} `json:"portions"`
	}
	if !read(w, r, &in) {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	out := []map[string]any{}
	for _, p := range in.Portions {
		ok := false
		for _, d := range n.dishes {
			if d.No == p.No {
				d.Portions, ok = p.Count, true
			}
		}
		out = append(out, map[string]any{"no": p.No, "ok": ok})
	}
	answer(w, 200, map[string]any{"results": out})
}

// page shows the menu as guests see it.
func (n *Nosh) page(w http.ResponseWriter, _ *http.Request) {
	n.mu.Lock()
	defer n.mu.Unlock()
	var out strings.Builder
	out.WriteString(
		`<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Nosh Lane</title>` +
			`<style>body{font:16px/1.5 system-ui,sans-serif;max-width:44rem;margin:2rem auto;color:#2b211b}h1{font-size:1.3rem}` +
			`h2{font-size:1rem;margin:1.2rem 0 0}p{margin:.1rem 0;color:#6b5d53}</style></head><body><h1>`)
	out.WriteString(esc(n.cfg.Kitchen) + " on Nosh Lane, a pretend ordering portal</h1>")
	for _, d := range n.sorted() {
		if !d.Sold {
			continue
		}
		fmt.Fprintf(&out, "<h2>%s · %s EUR</h2><p>%s</p>", esc(d.Name), dec(d.Cents), esc(d.Text))
		for _, g := range d.Choices {
			names := make([]string, len(g.Options))
			for i, o := range g.Options {
				names[i] = esc(o.Name)
				if o.Cents > 0 {
					names[i] += " +" + dec(o.Cents)
				}
			}
			fmt.Fprintf(&out, "<p>%s (%d to %d): %s</p>", esc(g.Name), g.Take[0], g.Take[1], strings.Join(names, ", "))
		}
	}
	out.WriteString(
		`<h2>Order</h2><form method="post" action="/control/order"><p><label><input type="checkbox" name="brought"> bring it</label> ` +
			`<label>to the kitchen <input name="note" maxlength="200"></label> <label>voucher, cents <input name="voucher" size="5">` +
			`</label> <button>Order the first dish</button></p></form>`)
	n.relayForm(&out)
	for i := len(n.bell.orders) - 1; i >= max(0, len(n.bell.orders)-20); i-- {
		o := n.bell.orders[i]
		fmt.Fprintf(&out, "<p>%s · %s · %s · %s EUR</p>", esc(o.Ref), esc(o.Guest.Name), esc(o.Stands), dec(o.total()))
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write([]byte(out.String()))
}

// relayForm is where the kitchen says whom the portal calls about an order, and with which key it proves that it is it.
func (n *Nosh) relayForm(out *strings.Builder) {
	n.bell.mu.Lock()
	hook, key := n.bell.hook, n.bell.key
	n.bell.mu.Unlock()
	state := "Nobody is called yet: orders wait here until somebody asks for them."
	if hook != "" {
		state = "Orders are told to " + esc(hook)
		if key != "" {
			state += ", with the key that was put in"
		}
		state += "."
	}
	fmt.Fprintf(out, `<h2>Whom the portal calls</h2><p>%s</p><form method="post" action="/control/relay"><p>`+
		`<label>Address <input name="hook" size="50" value="%s" placeholder="http://127.0.0.1:8410/in/…" required></label> `+
		`<label>Key <input name="key" size="40" autocomplete="off" placeholder="%s"></label> <button>Keep them</button></p>`+
		`</form><h2>Orders</h2>`,
		state, esc(hook), map[bool]string{true: "as it is", false: "that the relay gave"}[key != ""])
}

// keepRelay takes whom the portal calls, and the key; an empty key leaves the one that was put in.
func (n *Nosh) keepRelay(w http.ResponseWriter, r *http.Request) {
	hook, err := url.Parse(strings.TrimSpace(r.FormValue("hook")))
	if err != nil || hook.Scheme != "http" && hook.Scheme != "https" || hook.Host == "" {
		http.Error(w, "An address such as http://127.0.0.1:8410/in/nosh is expected. Go back and correct it.",
			http.StatusUnprocessableEntity)
		return
	}
	n.SetHook(hook.String())
	if key := strings.TrimSpace(r.FormValue("key")); key != "" {
		n.SetBell(key)
	}
	http.Redirect(w, r, "/menu", http.StatusSeeOther)
}
