package standin

import (
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
)

// shopReturn is what a shopper wants to send back.
type shopReturn struct {
	ID       string
	Order    *shopOrder
	Why      string
	Lines    []shopParcelLine
	Off      bool // the shopper keeps it after all
	Revision int64
	Changed  time.Time
}

// shopRefund is money that went back to a shopper.
type shopRefund struct {
	Reference string `json:"reference"`
	Return    string `json:"return"`
	Cents     int64  `json:"-"`
	Amount    string `json:"amount"`
	Why       string `json:"why"`
}

func (h *Hedgerow) returnRecord(b *shopReturn) map[string]any {
	state := "wanted"
	if b.Off {
		state = "off"
	}
	return map[string]any{"id": b.ID, "order_id": b.Order.ID, "order": b.Order.Name, "why": b.Why, "state": state, "lines": b.Lines,
		"revision": b.Revision, "changed_at": b.Changed.Format(stampForm)}
}

// SendBack lets a shopper announce that units of an order's lines come back, and returns the store's number of it.
func (h *Hedgerow) SendBack(order, why string, lines map[string]int64) (string, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[order]
	if o == nil {
		return "", fmt.Errorf("there is no order %s", order)
	}
	b := &shopReturn{ID: fmt.Sprintf("rb%d", len(h.returns)+1), Order: o, Why: why, Lines: []shopParcelLine{}}
	for _, l := range o.Lines {
		n, ok := lines[l.ID]
		if lines == nil {
			n, ok = l.Qty, true
		}
		if ok && (n < 1 || n > l.Qty) {
			return "", fmt.Errorf("line %s has %d", l.ID, l.Qty)
		}
		if ok {
			b.Lines = append(b.Lines, shopParcelLine{LineID: l.ID, Quantity: n})
		}
	}
	if len(b.Lines) == 0 {
		return "", fmt.Errorf("say which lines of order %s", order)
	}
	h.returns = append(h.returns, b)
	h.returnChanged(b)
	return b.ID, nil
}

// returnChanged gives a return its next revision and tells whoever listens. The caller holds the lock.
func (h *Hedgerow) returnChanged(b *shopReturn) {
	b.Revision++
	b.Changed = h.stamp()
	h.tell(map[string]any{"topic": "send_back", "send_back": h.returnRecord(b)})
}

// KeepAfterAll lets a shopper keep what they wanted to send back.
func (h *Hedgerow) KeepAfterAll(id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, b := range h.returns {
		if b.ID == id {
			b.Off = true
			h.returnChanged(b)
			return nil
		}
	}
	return fmt.Errorf("there is no return %s", id)
}

func (h *Hedgerow) apiReturns(w http.ResponseWriter, r *http.Request) {
	var from time.Time
	if since := r.URL.Query().Get("changed_since"); since != "" {
		var err error
		if from, err = time.Parse(time.RFC3339Nano, since); err != nil {
			answer(w, 400, map[string]any{"error": "changed_since is not a time"})
			return
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	var list []*shopReturn
	for _, b := range h.returns {
		if !b.Changed.Before(from) {
			list = append(list, b)
		}
	}
	out := []map[string]any{}
	for _, b := range page(w, r, list, func(b *shopReturn) string { return b.Changed.Format(stampForm) }) {
		out = append(out, h.returnRecord(b))
	}
	answer(w, 200, map[string]any{"send_backs": out})
}

// apiRefund gives a shopper money back; under the same reference once.
func (h *Hedgerow) apiRefund(w http.ResponseWriter, r *http.Request) {
	var in struct {
		shopRefund
		Cents int64 `json:"cents"`
	}
	if !read(w, r, &in) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[chi.URLParam(r, "id")]
	if o == nil {
		answer(w, 404, map[string]any{"error": "no such order"})
		return
	}
	back := int64(0)
	for _, x := range o.Refunds {
		if x.Reference == in.Reference {
			answer(w, 200, map[string]any{"refund": x})
			return
		}
		back += x.Cents
	}
	if in.Reference == "" || in.Cents < 1 || back+in.Cents > o.total() {
		answer(w, 422, map[string]any{"error": fmt.Sprintf("a reference is needed, and at most %s", dec(o.total()-back))})
		return
	}
	x := in.shopRefund
	x.Cents, x.Amount = in.Cents, dec(in.Cents)
	o.Refunds = append(o.Refunds, x)
	h.changed(o)
	answer(w, 201, map[string]any{"refund": x})
}

// Refunded is what a shopper got back for an order, in cents.
func (h *Hedgerow) Refunded(id string) (cents int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if o := h.byID[id]; o != nil {
		for _, x := range o.Refunds {
			cents += x.Cents
		}
	}
	return cents
}

func (h *Hedgerow) controlSendBack(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Why   string           `json:"why"`
		Lines map[string]int64 `json:"lines"`
	}
	if !read(w, r, &in) {
		return
	}
	id, err := h.SendBack(chi.URLParam(r, "id"), in.Why, in.Lines)
	if err != nil {
		said(w, err)
		return
	}
	answer(w, 200, map[string]any{"id": id})
}
