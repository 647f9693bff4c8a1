package standin

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

//go:embed pages/*.html
var pageFiles embed.FS

var pageSet = template.Must(template.New("").Funcs(template.FuncMap{"cents": dec}).ParseFS(pageFiles, "pages/*.html"))

func show(w http.ResponseWriter, name string, data any) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	var buf bytes.Buffer
	if err := pageSet.ExecuteTemplate(&buf, name, data); err != nil {
		http.Error(w, err.Error(), 500)
		return
	}
	io.Copy(w, &buf)
}

type basket []SaleLine

const basketCookie = "basket"

func basketOf(r *http.Request) (b basket) {
	c, err := r.Cookie(basketCookie)
	if err != nil {
		return nil
	}
	text, _ := url.QueryUnescape(c.Value)
	for _, part := range strings.Split(text, ",") {
		sku, n, ok := strings.Cut(part, ":")
		if q, err := strconv.ParseInt(n, 10, 64); ok && err == nil && q > 0 {
			b = append(b, SaleLine{SKU: sku, Qty: q})
		}
	}
	return b
}

func (b basket) save(w http.ResponseWriter) {
	var parts []string
	for _, l := range b {
		parts = append(parts, fmt.Sprintf("%s:%d", l.SKU, l.Qty))
	}
	http.SetCookie(w, &http.Cookie{Name: basketCookie, Value: url.QueryEscape(strings.Join(parts, ",")), Path: "/", HttpOnly: true,
		SameSite: http.SameSiteLaxMode})
}

func (h *Hedgerow) head(r *http.Request, title string) map[string]any {
	var count int64
	for _, l := range basketOf(r) {
		count += l.Qty
	}
	return map[string]any{"Title": title + " · " + h.cfg.Name, "Shop": h.cfg.Name, "Accent": template.CSS(h.cfg.Accent), "Count": count,
		"Error": r.URL.Query().Get("error")}
}

func (h *Hedgerow) pages(r chi.Router) {
	r.Get("/", h.pageShelf)
	r.Post("/basket", h.postBasket)
	r.Get("/basket", h.pageBasket)
	r.Post("/basket/empty", func(w http.ResponseWriter, r *http.Request) {
		basket{}.save(w)
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	r.Post("/checkout", h.postCheckout)
	r.Get("/order/{id}", h.pageOrder)
	r.Get("/admin", h.pageAdmin)
	r.Get("/admin/orders/{id}", h.pageOrder)
	back := func(w http.ResponseWriter, r *http.Request, to string, err error) {
		if err != nil {
			to += "?error=" + url.QueryEscape(err.Error())
		}
		http.Redirect(w, r, to, http.StatusSeeOther)
	}
	r.Post("/admin/orders/{id}/cancel", func(w http.ResponseWriter, r *http.Request) {
		back(w, r, "/admin", h.Cancel(chi.URLParam(r, "id")))
	})
	r.Post("/admin/orders/{id}/complete", func(w http.ResponseWriter, r *http.Request) {
		back(w, r, "/admin", h.Complete(chi.URLParam(r, "id")))
	})
	r.Post("/admin/stock", func(w http.ResponseWriter, r *http.Request) {
		n, err := strconv.ParseInt(r.FormValue("quantity"), 10, 64)
		if err == nil {
			err = h.EditStock(r.FormValue("sku"), n, "shop admin")
		}
		back(w, r, "/admin", err)
	})
	r.Get("/control", h.pageControl)
	r.Post("/control/sell", func(w http.ResponseWriter, r *http.Request) {
		count, _ := strconv.Atoi(r.FormValue("count"))
		rate, _ := strconv.Atoi(r.FormValue("rate"))
		go h.Stream(min(max(count, 1), 5000), min(max(rate, 1), 200), r.FormValue("kind"))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/faults", func(w http.ResponseWriter, r *http.Request) {
		h.mis.set(chosen(r))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
}

// Stream sells count orders of one to three items, so many a second, to made-up people.
func (h *Hedgerow) Stream(count, perSecond int, kind string) {
	tick := time.NewTicker(time.Second / time.Duration(perSecond))
	defer tick.Stop()
	for range count {
		s := h.RandomSale(rand.IntN)
		switch kind {
		case "pending":
			s.Pending = true
		case "unknown":
			s.Lines = append(s.Lines, SaleLine{SKU: "OLD-STOCK-7", Title: "Smoker, old model", Qty: 1, Price: 1900})
		case "wrong":
			s.TotalOff = 119
		}
		h.Place(s)
		select {
		case <-h.stopped:
			return
		case <-tick.C:
		}
	}
}

var (
	firstNames = []string{"Maren", "Tobin", "Ilka", "Joss", "Edda", "Corvin", "Linnea", "Aldous", "Petra", "Hale", "Runa", "Severin"}
	lastNames  = []string{"Tolland", "Brackwater", "Ashgrove", "Fenn", "Quillon", "Marchbank", "Oster", "Wendlow", "Thorne", "Hollis"}
	streets    = []string{"Lindenrow", "Quay Street", "Old Mill Path", "Heron Lane", "Bakers Rise", "Orchard Way", "Tanner's Yard"}
	townsOf    = []struct{ code, name, land string }{
		{"41207", "Alderby", "XW"}, {"41360", "Harrowmere", "XW"}, {"42811", "Stonequay", "XW"}, {"53018", "Wickham Vale", "XW"},
		{"60277", "Larkfold", "XW"},
		{"77140", "Greywick", "XW"}, {"97310", "Farholm", "XW"}, {"208114", "Ostvik", "XE"}, {"311902", "Norrsund", "XE"},
	}
)

// RandomSale makes up an order; the numbers come from the function, so that a seed can repeat it.
func (h *Hedgerow) RandomSale(pick func(n int) int) Sale {
	h.mu.Lock()
	defer h.mu.Unlock()
	first, last := firstNames[pick(len(firstNames))], lastNames[pick(len(lastNames))]
	t := townsOf[pick(len(townsOf))]
	s := Sale{Customer: first + " " + last, Email: strings.ToLower(first+"."+strings.ReplaceAll(last, "'", "")) + "@example.test",
		Shipping: 490,
		Delivery: Delivery{Name: first + " " + last, Street: fmt.Sprintf("%s %d", streets[pick(len(streets))], 1+pick(80)),
			Postcode: t.code, Town: t.name, Country: t.land, Method: "standard"}}
	for range 1 + pick(3) {
		it := h.items[pick(len(h.items))]
		dup := false
		for _, l := range s.Lines {
			dup = dup || l.SKU == it.SKU
		}
		if !dup && it.Quantity > 2 {
			s.Lines = append(s.Lines, SaleLine{SKU: it.SKU, Qty: int64(1 + pick(2))})
		}
	}
	return s
}

type shelfGroup struct {
	Name  string
	Items []ShopItem
}

func (h *Hedgerow) pageShelf(w http.ResponseWriter, r *http.Request) {
	d := h.head(r, "Shop")
	h.mu.Lock()
	var groups []shelfGroup
	at := map[string]int{}
	for _, it := range h.items {
		i, ok := at[it.Group]
		if !ok {
			i = len(groups)
			at[it.Group] = i
			groups = append(groups, shelfGroup{Name: it.Group})
		}
		groups[i].Items = append(groups[i].Items, *it)
	}
	h.mu.Unlock()
	d["Groups"] = groups
	show(w, "shelf", d)
}

func (h *Hedgerow) postBasket(w http.ResponseWriter, r *http.Request) {
	n, err := strconv.ParseInt(r.FormValue("quantity"), 10, 64)
	sku := r.FormValue("sku")
	if err != nil || n < 1 || strings.ContainsAny(sku, ",:") {
		http.Redirect(w, r, "/?error="+url.QueryEscape("How many?"), http.StatusSeeOther)
		return
	}
	b := basketOf(r)
	found := false
	for i := range b {
		if b[i].SKU == sku {
			b[i].Qty += n
			found = true
		}
	}
	if !found {
		b = append(b, SaleLine{SKU: sku, Qty: n})
	}
	b.save(w)
	http.Redirect(w, r, "/basket", http.StatusSeeOther)
}

type choice struct {
	Code  string `json:"code"`
	Name  string `json:"name"`
	Price int64  `json:"price"`
}

// choices asks whoever is set to answer for delivery choices; after a second, or without an answer,
// the store has its own.
func (h *Hedgerow) choices(b basket) []choice {
	own := []choice{{"standard", "Standard", 490}, {"express", "Express", 990}}
	h.mu.Lock()
	ask := h.options
	h.mu.Unlock()
	if ask == "" {
		return own
	}
	body, err := json.Marshal(map[string]any{"lines": b})
	if err != nil {
		return own
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "POST", ask, bytes.NewReader(body))
	if err != nil {
		return own
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return own
	}
	defer res.Body.Close()
	var out struct {
		Choices []choice `json:"choices"`
	}
	if res.StatusCode != 200 || json.NewDecoder(io.LimitReader(res.Body, 64<<10)).Decode(&out) != nil || len(out.Choices) == 0 {
		return own
	}
	return out.Choices
}

type basketLine struct {
	SKU, Title      string
	Qty, Price, Sum int64
}

func (h *Hedgerow) pageBasket(w http.ResponseWriter, r *http.Request) {
	d := h.head(r, "Basket")
	b := basketOf(r)
	var lines []basketLine
	var goods int64
	h.mu.Lock()
	for _, l := range b {
		if it := h.item(l.SKU); it != nil {
			lines = append(lines, basketLine{it.SKU, it.Title, l.Qty, it.Price, l.Qty * it.Price})
			goods += l.Qty * it.Price
		}
	}
	h.mu.Unlock()
	d["Lines"], d["Goods"], d["Options"] = lines, goods, h.choices(b)
	show(w, "basket", d)
}

func (h *Hedgerow) postCheckout(w http.ResponseWriter, r *http.Request) {
	method, priceText, _ := strings.Cut(r.FormValue("delivery"), "|")
	shipping, _ := strconv.ParseInt(priceText, 10, 64)
	f := r.FormValue
	id, _, err := h.Place(Sale{Lines: basketOf(r), Customer: f("name"), Email: f("email"), Shipping: shipping, Note: f("note"),
		Method: f("method"), Pending: f("method") == "transfer",
		Delivery: Delivery{Name: f("name"), Street: f("street"), Extra: f("extra"), Postcode: strings.TrimSpace(f("postcode")),
			Town: f("town"), Country: f("country"), Method: method}})
	if err != nil {
		http.Redirect(w, r, "/basket?error="+url.QueryEscape("That did not work: "+err.Error()), http.StatusSeeOther)
		return
	}
	basket{}.save(w)
	http.Redirect(w, r, "/order/"+id, http.StatusSeeOther)
}

var stateWords = map[string]string{"awaiting": "waiting for your payment", "confirmed": "being prepared",
	"part_sent": "partly on its way", "sent": "on its way", "cancelled": "cancelled"}

func (h *Hedgerow) pageOrder(w http.ResponseWriter, r *http.Request) {
	d := h.head(r, "Order")
	h.mu.Lock()
	o := h.byID[chi.URLParam(r, "id")]
	if o == nil {
		h.mu.Unlock()
		http.NotFound(w, r)
		return
	}
	copied := *o
	h.mu.Unlock()
	d["Order"], d["Word"], d["Total"] = copied, stateWords[copied.State], copied.total()
	show(w, "thanks", d)
}

type adminOrder struct {
	shopOrder
	Sum int64
}

func (h *Hedgerow) pageAdmin(w http.ResponseWriter, r *http.Request) {
	d := h.head(r, "Admin")
	h.mu.Lock()
	var orders []adminOrder
	for i := len(h.orders) - 1; i >= max(0, len(h.orders)-100); i-- {
		orders = append(orders, adminOrder{*h.orders[i], h.orders[i].total()})
	}
	var items []ShopItem
	for _, it := range h.items {
		items = append(items, *it)
	}
	h.mu.Unlock()
	d["Orders"], d["Items"] = orders, items
	show(w, "admin", d)
}

func (h *Hedgerow) pageControl(w http.ResponseWriter, r *http.Request) {
	d := h.head(r, "Control")
	seen, total := h.mis.calledSoFar()
	faults, _ := json.Marshal(h.mis.now())
	h.mu.Lock()
	d["Hook"], d["Pushes"], d["PushFail"], d["Waiting"] = h.hook, h.pushes, h.pushFail, len(h.pending)
	h.mu.Unlock()
	var recent []Seen
	for i := len(seen) - 1; i >= max(0, len(seen)-20); i-- {
		recent = append(recent, seen[i])
	}
	d["Faults"], d["Calls"], d["Recent"] = string(faults), total, recent
	show(w, "control", d)
}

func (p *Plover) controlPage(w http.ResponseWriter, _ *http.Request) {
	p.mu.Lock()
	var labels []ploverLabel
	for i := len(p.labels) - 1; i >= max(0, len(p.labels)-200); i-- {
		labels = append(labels, *p.labels[i])
	}
	p.mu.Unlock()
	faults, _ := json.Marshal(p.mis.now())
	show(w, "plover", map[string]any{"Labels": labels, "Faults": string(faults)})
}

func (p *Plover) follow(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	l := p.byItem[chi.URLParam(r, "item")]
	if l == nil {
		p.mu.Unlock()
		http.NotFound(w, r)
		return
	}
	var way []string
	for i := range l.Scans {
		way = append(way, ploverWay[i].text)
	}
	item := l.Item
	p.mu.Unlock()
	show(w, "plover", map[string]any{"Item": item, "Way": way})
}
