package standin

import (
	"encoding/json"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// control is its page and its control interface.
func (g *Fallowgate) control(r chi.Router) {
	r.Get("/", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/control", http.StatusSeeOther) })
	r.Get("/control", g.page)
	r.Post("/control/mood", func(w http.ResponseWriter, r *http.Request) {
		seconds, _ := strconv.ParseFloat(r.FormValue("pace"), 64)
		on := func(name string) bool { return r.FormValue(name) != "" }
		more, _ := strconv.ParseInt(r.FormValue("more"), 10, 64)
		g.Mood(GateMood{Refuse: r.FormValue("refuse"), Silent: on("silent"), Parts: on("parts"), More: max(0, more), TooLate: on("toolate"),
			Half: on("half"), Count: on("count"), Twice: on("twice"), Pace: time.Duration(max(0, seconds) * float64(time.Second))})
		back(w, r)
	})
	r.Post("/control/count", func(w http.ResponseWriter, r *http.Request) {
		if n, err := strconv.ParseInt(r.FormValue("count"), 10, 64); err == nil {
			g.Count(r.FormValue("sku"), n)
		}
		back(w, r)
	})
	r.Post("/control/bill", func(w http.ResponseWriter, r *http.Request) { g.Bill(180, 12); back(w, r) })
	r.Post("/control/api/faults", g.mis.setFaults)
	r.Post("/control/api/mood", func(w http.ResponseWriter, r *http.Request) {
		var m GateMood
		if read(w, r, &m) {
			g.Mood(m)
			answer(w, 200, m)
		}
	})
	r.Post("/control/api/work", func(w http.ResponseWriter, _ *http.Request) { g.Work(); answer(w, 200, g.Orders()) })
	r.Post("/control/api/count", func(w http.ResponseWriter, r *http.Request) {
		var in struct {
			SKU   string
			Count int64
		}
		if read(w, r, &in) {
			g.Count(in.SKU, in.Count)
			answer(w, 200, in)
		}
	})
	r.Post("/control/api/bill", func(w http.ResponseWriter, r *http.Request) {
		var in struct{ Order, Unit int64 }
		if read(w, r, &in) {
			g.Bill(in.Order, in.Unit)
			answer(w, 200, in)
		}
	})
	r.Get("/control/api/orders", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, g.Orders()) })
}

func back(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, "/control", http.StatusSeeOther)
}

func (g *Fallowgate) page(w http.ResponseWriter, _ *http.Request) {
	g.mu.Lock()
	mood, _ := json.Marshal(g.mood)
	type row struct {
		SKU   string
		Count int64
	}
	var stock []row
	for sku, n := range g.stock {
		stock = append(stock, row{sku, n})
	}
	orders := slices.Clone(g.orders)
	in, out := g.list("in/read"), g.list("out")
	g.mu.Unlock()
	slices.SortFunc(stock, func(a, b row) int { return strings.Compare(a.SKU, b.SKU) })
	slices.Reverse(orders)
	slices.Reverse(out)
	slices.Reverse(in)
	show(w, "fallowgate", map[string]any{"Name": "Fallowgate", "Tag": "a pretend partner warehouse", "Accent": "#4b5a3c",
		"Orders": orders[:min(len(orders), 100)], "Stock": stock, "Mood": string(mood), "In": in[:min(len(in), 30)],
		"Out": out[:min(len(out), 30)]})
}
