package standin

import (
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// tansyOut is something that the marketplace was asked to send out of its store room, for a sale that was made elsewhere.
type tansyOut struct {
	No, Ref, State, Why, To string // accepted, sent, refused, withdrawn
	Lines                   []tansyOutLine
	Number                  string
	Turn                    int64
	At                      time.Time
	Sent                    time.Time
}

type tansyOutLine struct {
	Code  string `json:"code"`
	Count int64  `json:"count"`
}

// outboundRoutes take what is to be sent out of the store room.
func (t *Tansy) outboundRoutes(r chi.Router) {
	r.Put("/outbounds/{ref}", t.askOutbound)
	r.Get("/outbounds/{ref}", func(w http.ResponseWriter, r *http.Request) {
		t.mu.Lock()
		defer t.mu.Unlock()
		if o := t.outbound(chi.URLParam(r, "ref")); o != nil {
			answer(w, 200, map[string]any{"outbound": o.told()})
			return
		}
		answer(w, 404, map[string]any{"code": "no_such_outbound", "why": "nothing was asked under this reference"})
	})
	r.Post("/outbounds/{ref}/withdraw", t.withdrawOutbound)
	r.Get("/outbounds", t.outbounds)
}

func (t *Tansy) outbound(ref string) *tansyOut {
	at := slices.IndexFunc(t.outs, func(o *tansyOut) bool { return o.Ref == ref })
	if at < 0 {
		return nil
	}
	return t.outs[at]
}

func (o *tansyOut) told() map[string]any {
	out := map[string]any{"no": o.No, "ref": o.Ref, "state": o.State, "why": o.Why, "rev": o.Turn, "pieces": o.Lines}
	if o.Number != "" {
		out["parcel"] = map[string]any{"carrier": "Tansy Van", "number": o.Number, "left": o.Sent.Format(stampForm)}
	}
	return out
}

// askOutbound takes what is to be sent: the same under the same reference is the same.
func (t *Tansy) askOutbound(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Pieces []tansyOutLine
		To     struct{ Name, Company, Street, Extra, Postcode, Town, Land string }
	}
	if !read(w, r, &in) {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	ref := chi.URLParam(r, "ref")
	if r.Header.Get("Tansy-Rehearsal") != "" {
		t.trials = append(t.trials, "outbound "+ref)
		answer(w, 200, map[string]any{"outbound": map[string]any{"no": "rehearsal", "ref": ref, "state": "accepted"}})
		return
	}
	if o := t.outbound(ref); o != nil {
		answer(w, 200, map[string]any{"outbound": o.told()})
		return
	}
	for _, p := range in.Pieces {
		at := slices.IndexFunc(t.list, func(g *Good) bool { return g.SKU == p.Code })
		switch {
		case at < 0:
			answer(w, 422, map[string]any{"code": "unknown_piece", "why": fmt.Sprintf("no offer has the code %s", p.Code)})
			return
		case t.list[at].Room < p.Count:
			answer(w, 409, map[string]any{"code": "room_short", "why": fmt.Sprintf("the store room has %d of %s", t.list[at].Room, p.Code)})
			return
		}
	}
	to := slices.DeleteFunc([]string{in.To.Name, in.To.Company, in.To.Street, in.To.Extra, in.To.Postcode, in.To.Town, in.To.Land},
		func(text string) bool { return text == "" })
	o := &tansyOut{No: fmt.Sprintf("TO-%d", 300+len(t.outs)), Ref: ref, State: "accepted", Lines: in.Pieces, To: strings.Join(to, ", "),
		Turn: 1, At: t.stamp()}
	t.outs = append(t.outs, o)
	answer(w, 201, map[string]any{"outbound": o.told()})
}

func (t *Tansy) withdrawOutbound(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	o := t.outbound(chi.URLParam(r, "ref"))
	switch {
	case o == nil:
		answer(w, 404, map[string]any{"code": "no_such_outbound", "why": "nothing was asked under this reference"})
	case o.State == "sent":
		answer(w, 409, map[string]any{"code": "too_late", "why": "it is on the van"})
	default:
		if o.State == "accepted" {
			o.State, o.Turn = "withdrawn", o.Turn+1
		}
		answer(w, 200, map[string]any{"outbound": o.told()})
	}
}

// outbounds lists them, those first that were asked for first.
func (t *Tansy) outbounds(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := []map[string]any{}
	for _, o := range t.outs {
		if state := r.URL.Query().Get("state"); state == "" || state == o.State {
			out = append(out, o.told())
		}
	}
	part, more := tansyPage(r, out)
	answer(w, 200, map[string]any{"outbounds": part, "more": more})
}

// SendOutbounds lets the store room send what it was asked for, and returns how much.
func (t *Tansy) SendOutbounds() (n int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, o := range t.outs {
		if o.State != "accepted" {
			continue
		}
		for _, p := range o.Lines {
			for _, g := range t.list {
				if g.SKU == p.Code {
					g.Room -= p.Count
					g.roomRev++
					g.roomAt = t.stamp()
				}
			}
		}
		o.State, o.Turn, o.Number, o.Sent = "sent", o.Turn+1, fmt.Sprintf("TV%08d", 41000+len(t.outs)*7+n), t.stamp()
		n++
	}
	return n
}

// Outbounds lists the references of what it was asked to send and where each stands, the oldest first.
func (t *Tansy) Outbounds() (out [][2]string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for _, o := range t.outs {
		out = append(out, [2]string{o.Ref, o.State})
	}
	return out
}
