package standin

import (
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
)

// control offers what people and tests need to make things happen.
func (h *Hedgerow) control(r chi.Router) {
	r.Route("/control/api", func(r chi.Router) {
		r.Post("/orders", h.controlPlace)
		r.Get("/orders", h.controlOrders)
		r.Get("/orders/{id}", h.apiOrder)
		r.Post("/orders/{id}/cancel", func(w http.ResponseWriter, r *http.Request) { said(w, h.Cancel(chi.URLParam(r, "id"))) })
		r.Post("/orders/{id}/complete", func(w http.ResponseWriter, r *http.Request) { said(w, h.Complete(chi.URLParam(r, "id"))) })
		r.Post("/orders/{id}/change", h.controlChange)
		r.Post("/orders/{id}/send-back", h.controlSendBack)
		r.Post("/send-backs/{id}/keep", func(w http.ResponseWriter, r *http.Request) {
			said(w, h.KeepAfterAll(chi.URLParam(r, "id")))
		})
		r.Post("/stock", func(w http.ResponseWriter, r *http.Request) {
			var in struct {
				SKU      string `json:"sku"`
				Quantity int64  `json:"quantity"`
			}
			if read(w, r, &in) {
				said(w, h.EditStock(in.SKU, in.Quantity, "control"))
			}
		})
		r.Get("/stock", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, h.Shelf())
		})
		r.Post("/hook", func(w http.ResponseWriter, r *http.Request) {
			var in struct {
				URL     string `json:"url"`
				Options string `json:"options"`
			}
			if read(w, r, &in) {
				h.mu.Lock()
				h.hook, h.options = in.URL, in.Options
				h.mu.Unlock()
				answer(w, 200, map[string]any{"ok": true})
			}
		})
		r.Post("/faults", h.mis.setFaults)
		r.Get("/state", h.controlState)
	})
}

func (h *Hedgerow) controlState(w http.ResponseWriter, _ *http.Request) {
	seen, total := h.mis.calledSoFar()
	h.mu.Lock()
	defer h.mu.Unlock()
	answer(w, 200, map[string]any{"shop": h.cfg.Name, "orders": len(h.orders), "hook": h.hook, "pushes": h.pushes,
		"pushes_failed": h.pushFail,
		"waiting":       len(h.pending), "calls": total, "recent": seen[max(0, len(seen)-50):], "faults": h.mis.now(),
		"time": time.Now()})
}

func (h *Hedgerow) controlChange(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Quantities map[string]int64 `json:"quantities"`
		Delivery   *Delivery        `json:"delivery"`
	}
	if read(w, r, &in) {
		said(w, h.Change(chi.URLParam(r, "id"), in.Quantities, in.Delivery))
	}
}

func (h *Hedgerow) controlOrders(w http.ResponseWriter, _ *http.Request) {
	h.mu.Lock()
	out := make([]map[string]any, len(h.orders))
	for i, o := range h.orders {
		out[i] = h.record(o)
	}
	h.mu.Unlock()
	answer(w, 200, map[string]any{"orders": out})
}

func (h *Hedgerow) controlPlace(w http.ResponseWriter, r *http.Request) {
	var s Sale
	if !read(w, r, &s) {
		return
	}
	id, name, err := h.Place(s)
	if err != nil {
		answer(w, 409, map[string]any{"error": err.Error()})
		return
	}
	answer(w, 201, map[string]any{"id": id, "name": name})
}

func said(w http.ResponseWriter, err error) {
	if err != nil {
		answer(w, 409, map[string]any{"error": err.Error()})
		return
	}
	answer(w, 200, map[string]any{"ok": true})
}
