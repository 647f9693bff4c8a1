package standin

import (
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"math/rand/v2"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// Good is what a marketplace or a till lists. Price is in hundredths.
type Good struct {
	No      string `json:"no"` // the system's own number
	SKU     string `json:"sku"`
	Title   string `json:"title"`
	Barcode string `json:"barcode"`
	Price   int64  `json:"price"`
	Shown   int64  `json:"shown"`
	Review  string `json:"review,omitempty"` // in review, or refused; empty: it can be bought
	Why     string `json:"why,omitempty"`    // it was refused
	About   string `json:"about,omitempty"`
	Off     bool   `json:"off,omitempty"`
	Room    int64  `json:"room,omitempty"` // in the store room of the marketplace itself
	roomRev int64
	roomAt  time.Time // when the store room last moved
	since   time.Time // of the review
}

// StockEntry is a line in a till's stock book.
type StockEntry struct {
	ID      int64
	No, SKU string
	Kind    string // sale, hand, interface
	Change  int64
	Left    int64
	At      time.Time
	By      string
}

// deskSale is a sale as the books of a marketplace or a till have it.
type deskSale struct {
	No       int64
	ID       string
	State    string // pending, open, sent, cancelled
	Turn     int64  // counts changes
	Placed   time.Time
	Changed  time.Time
	Buyer    string
	Mail     string
	To       Delivery
	Lines    []shopLine
	Fee      int64
	Own      bool // shipped from the marketplace's own store room
	Register int64
	PayType  int64
	Parcels  []shopParcel
}

func (s *deskSale) goods() (sum int64) {
	for _, l := range s.Lines {
		sum += l.Qty*l.Price - l.Off
	}
	return sum
}

func (s *deskSale) total() int64 { return s.goods() + s.Fee }

// desk is what the marketplaces and the till have in common behind their different tongues: goods,
// sales, faults, and the control page. How they speak is each one's own.
type desk struct {
	name, tag, accent, prefix string
	mis                       mischief

	mu     sync.Mutex
	list   []*Good
	sales  []*deskSale
	byID   map[string]*deskSale
	last   time.Time
	trials []string // what came in marked as a test
	final  bool     // sales are handed over at once, as at a till
	book   []StockEntry
}

// write notes a change of a quantity in the stock book. The caller holds the lock.
func (d *desk) write(g *Good, kind string, to int64, by string) {
	change := to - g.Shown
	g.Shown = to
	d.book = append(d.book, StockEntry{int64(len(d.book) + 1), g.No, g.SKU, kind, change, to, d.stamp(), by})
}

// EditShown sets a quantity by hand, as somebody at the desk does.
func (d *desk) EditShown(sku string, qty int64, by string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, g := range d.list {
		if g.SKU == sku || g.No == sku {
			d.write(g, "hand", qty, by)
			return nil
		}
	}
	return fmt.Errorf("there is no %q here", sku)
}

func newDesk(name, tag, accent, prefix string, goods []Good) *desk {
	d := &desk{name: name, tag: tag, accent: accent, prefix: prefix, byID: map[string]*deskSale{}}
	for i, g := range goods {
		if g.No == "" {
			g.No = strconv.Itoa(7000 + i)
		}
		d.list = append(d.list, &g)
	}
	return d
}

// stamp returns the time, never the same twice. The caller holds the lock.
func (d *desk) stamp() time.Time {
	t := d.mis.clock().UTC().Truncate(time.Microsecond)
	if !t.After(d.last) {
		t = d.last.Add(time.Microsecond)
	}
	d.last = t
	return t
}

// Live lets it live so long ago.
func (d *desk) Live(ago time.Duration) { d.mis.Live(ago) }

// Misbehave switches faults on, or off with the zero value.
func (d *desk) Misbehave(f Faults) { d.mis.set(f) }

// Calls counts the calls of the data interface.
func (d *desk) Calls() int { _, n := d.mis.calledSoFar(); return n }

// Trials lists what came in marked as a test.
func (d *desk) Trials() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string(nil), d.trials...)
}

// Hold says how much of a good lies in the marketplace's own store room.
func (d *desk) Hold(sku string, qty int64) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, g := range d.list {
		if g.SKU == sku {
			d.inRoom(g, qty-g.Room)
			return nil
		}
	}
	return fmt.Errorf("there is no %q here", sku)
}

// inRoom moves what lies in the marketplace's own store room. The caller holds the lock.
func (d *desk) inRoom(g *Good, by int64) {
	g.Room += by
	g.roomRev++
	g.roomAt = d.stamp()
}

// Room tells how much of a good lies in the marketplace's own store room.
func (d *desk) Room(sku string) int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, g := range d.list {
		if g.SKU == sku {
			return g.Room
		}
	}
	return 0
}

// DeskSale is a sale to be made.
type DeskSale struct {
	SKU       string `json:"sku"` // empty: something from the list
	No        string `json:"no"`  // or the system's own number of it
	Quantity  int64  `json:"quantity"`
	Pending   bool   `json:"pending"`
	Own       bool   `json:"own"`        // shipped by the marketplace itself
	PlacedAgo int    `json:"placed_ago"` // seconds
}

// Sell makes a sale and returns its id.
func (d *desk) Sell(s DeskSale) (string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	var g *Good
	for _, one := range d.list {
		if s.No != "" && one.No != s.No {
			continue
		}
		if s.No != "" || one.SKU == s.SKU || s.SKU == "" && one.Shown > 0 && (g == nil || rand.IntN(4) == 0) {
			g = one
		}
	}
	if g == nil {
		return "", fmt.Errorf("there is no %q to sell here", s.SKU)
	}
	qty := max(s.Quantity, 1)
	n := int64(len(d.sales) + 1)
	who, at := lastNames[int(n)%len(lastNames)], townsOf[int(n)%len(townsOf)]
	first := firstNames[int(n)%len(firstNames)]
	sale := &deskSale{No: n, ID: fmt.Sprintf("%s%d", d.prefix, 2200+n), State: "open", Buyer: first + " " + who,
		Mail: strings.ToLower(first) + "@example.test",
		To: Delivery{Name: first + " " + who, Street: fmt.Sprintf("%s %d", streets[int(n)%len(streets)], 1+n%70), Postcode: at.code,
			Town: at.name, Country: at.land, Method: "tracked"},
		Lines: []shopLine{{ID: "1", SKU: g.SKU, Title: g.Title, Qty: qty, Price: g.Price}},
		Fee:   390, Own: s.Own, Register: 1 + n%2, PayType: 1 + n%3}
	if s.Pending {
		sale.State = "pending"
	}
	if s.Own && !s.Pending {
		d.shipOwn(sale)
	}
	if d.final {
		sale.State, sale.Fee = "sent", 0
	}
	if s.Own {
		d.inRoom(g, -qty)
	} else {
		d.write(g, "sale", max(0, g.Shown-qty), "sale "+sale.ID)
	}
	sale.Placed = d.stamp().Add(-time.Duration(s.PlacedAgo) * time.Second)
	d.sales = append(d.sales, sale)
	d.byID[sale.ID] = sale
	d.touch(sale)
	return sale.ID, nil
}

// SellNo sells what goes by the system's own number.
func (d *desk) SellNo(no string, qty int64) (string, error) {
	return d.Sell(DeskSale{No: no, Quantity: qty})
}

// shipOwn lets the marketplace send a sale from its own store room.
func (d *desk) shipOwn(s *deskSale) {
	s.State = "sent"
	s.Parcels = []shopParcel{{ID: "own", Reference: "own-" + s.ID, Carrier: d.name, Tracking: "SR" + strconv.FormatInt(100000+s.No, 10)}}
}

func (d *desk) touch(s *deskSale) {
	s.Turn++
	s.Changed = d.stamp()
}

// Complete makes a pending sale one that can be shipped.
func (d *desk) Complete(id string) error { return d.move(id, "pending", "open") }

// Cancel calls a sale off.
func (d *desk) Cancel(id string) error { return d.move(id, "", "cancelled") }

func (d *desk) move(id, from, to string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	s := d.byID[id]
	if s == nil || from != "" && s.State != from {
		return errors.New("no such sale stands there")
	}
	if to == "cancelled" && s.State == to {
		return nil
	}
	if to == "cancelled" && s.State != "sent" && s.Own { // what was not sent lies in the store room again
		for _, l := range s.Lines {
			for _, g := range d.list {
				if g.SKU == l.SKU {
					d.inRoom(g, l.Qty)
					break
				}
			}
		}
	}
	s.State = to
	if s.Own && to == "open" { // nobody else works on it
		d.shipOwn(s)
	}
	d.touch(s)
	return nil
}

// Sold lists the sales by their state: what a customer would say has become of them.
func (d *desk) Sold() map[string]string {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]string{}
	for _, s := range d.sales {
		out[s.ID] = s.State
	}
	return out
}

// Shows lists the quantities that are shown, by SKU.
func (d *desk) Shows() map[string]int64 {
	d.mu.Lock()
	defer d.mu.Unlock()
	out := map[string]int64{}
	for _, g := range d.list {
		out[g.SKU] = g.Shown
	}
	return out
}

// changedSince lists sales in the order of their last change.
func (d *desk) changedSince(from time.Time) []*deskSale {
	var out []*deskSale
	for _, s := range d.sales {
		if !s.Changed.Before(from) {
			out = append(out, s)
		}
	}
	slices.SortFunc(out, func(a, b *deskSale) int { return a.Changed.Compare(b.Changed) })
	return out
}

// ship notes a parcel; the same reference again replaces it.
func (d *desk) ship(s *deskSale, p shopParcel) {
	for i := range s.Parcels {
		if s.Parcels[i].Reference == p.Reference {
			s.Parcels[i] = p
			return
		}
	}
	s.Parcels = append(s.Parcels, p)
	s.State = "sent"
	d.touch(s)
}

// control adds the control page and the control API.
func (d *desk) control(r chi.Router) {
	r.Get("/control", d.page)
	r.Get("/", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/control", http.StatusSeeOther) })
	r.Post("/control/sell", func(w http.ResponseWriter, r *http.Request) {
		count, _ := strconv.Atoi(r.FormValue("count"))
		for range min(max(count, 1), 2000) {
			_, _ = d.Sell(DeskSale{Pending: r.FormValue("kind") == "pending", Own: r.FormValue("kind") == "own"})
		}
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/goods", func(w http.ResponseWriter, r *http.Request) {
		if n, err := strconv.ParseInt(r.FormValue("quantity"), 10, 64); err == nil && n >= 0 {
			_ = d.EditShown(r.FormValue("no"), n, "somebody at the desk")
		}
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/faults", func(w http.ResponseWriter, r *http.Request) {
		d.mis.set(chosen(r))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/sales/{id}/{what}", func(w http.ResponseWriter, r *http.Request) {
		_ = d.act(chi.URLParam(r, "id"), chi.URLParam(r, "what"))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Route("/control/api", func(r chi.Router) {
		r.Post("/sales", d.controlSell)
		r.Post("/sales/{id}/{what}", func(w http.ResponseWriter, r *http.Request) {
			said(w, d.act(chi.URLParam(r, "id"), chi.URLParam(r, "what")))
		})
		r.Get("/sales/{id}", d.controlSale)
		r.Post("/goods", func(w http.ResponseWriter, r *http.Request) {
			var in struct {
				SKU      string `json:"sku"`
				Quantity int64  `json:"quantity"`
			}
			if read(w, r, &in) {
				said(w, d.EditShown(in.SKU, in.Quantity, "control"))
			}
		})
		r.Get("/goods", func(w http.ResponseWriter, _ *http.Request) { answer(w, 200, d.Shows()) })
		r.Post("/faults", d.mis.setFaults)
		r.Get("/state", d.controlState)
	})
}

func (d *desk) controlState(w http.ResponseWriter, _ *http.Request) {
	seen, total := d.mis.calledSoFar()
	d.mu.Lock()
	defer d.mu.Unlock()
	answer(w, 200, map[string]any{"name": d.name, "sales": len(d.sales), "calls": total, "recent": seen[max(0, len(seen)-50):],
		"faults": d.mis.now(), "trials": d.trials})
}

func (d *desk) controlSale(w http.ResponseWriter, r *http.Request) {
	d.mu.Lock()
	defer d.mu.Unlock()
	s := d.byID[chi.URLParam(r, "id")]
	if s == nil {
		answer(w, 404, map[string]any{"error": "no such sale"})
		return
	}
	answer(w, 200, map[string]any{"id": s.ID, "state": s.State, "parcels": s.Parcels})
}

func (d *desk) controlSell(w http.ResponseWriter, r *http.Request) {
	var s DeskSale
	if read(w, r, &s) {
		id, err := d.Sell(s)
		if err != nil {
			answer(w, 409, map[string]any{"error": err.Error()})
			return
		}
		answer(w, 201, map[string]any{"id": id})
	}
}

func (d *desk) act(id, what string) error {
	switch what {
	case "complete":
		return d.Complete(id)
	case "cancel":
		return d.Cancel(id)
	}
	return errors.New("complete or cancel")
}

type deskRow struct {
	ID, State, Buyer, Line, Tracking string
	Total                            int64
}

func (d *desk) page(w http.ResponseWriter, _ *http.Request) {
	seen, total := d.mis.calledSoFar()
	faults, _ := json.Marshal(d.mis.now())
	var recent []Seen
	for i := len(seen) - 1; i >= max(0, len(seen)-12); i-- {
		recent = append(recent, seen[i])
	}
	d.mu.Lock()
	var rows []deskRow
	for i := len(d.sales) - 1; i >= max(0, len(d.sales)-50); i-- {
		s := d.sales[i]
		row := deskRow{ID: s.ID, State: s.State, Buyer: s.Buyer, Total: s.total(),
			Line: fmt.Sprintf("%d × %s", s.Lines[0].Qty, s.Lines[0].Title)}
		for _, p := range s.Parcels {
			row.Tracking += p.Tracking + " "
		}
		rows = append(rows, row)
	}
	goods := make([]Good, len(d.list))
	for i, g := range d.list {
		goods[i] = *g
	}
	d.mu.Unlock()
	show(w, "desk", map[string]any{"Name": d.name, "Tag": d.tag, "Accent": template.CSS(d.accent), "Sales": rows, "Goods": goods,
		"Calls": total, "Recent": recent, "Faults": string(faults), "Final": d.final})
}
