package standin

import (
	"encoding/csv"
	"fmt"
	"net/http"
	"sort"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
)

// CounterpaneConfig is a till system with one shop.
type CounterpaneConfig struct {
	Company, Shop, Land string
	ShopNo              int64
	User, Password      string
	Zone                *time.Location // in which it writes times
	Goods               []Good
	Menu                []Dish
}

// Counterpane is a running till. Sales are paid and handed over when we see them.
type Counterpane struct {
	*desk
	cfg CounterpaneConfig
	http.Handler
}

// NewCounterpane opens the till.
func NewCounterpane(cfg CounterpaneConfig) *Counterpane {
	if cfg.Zone == nil {
		cfg.Zone = time.UTC
	}
	c := &Counterpane{desk: newDesk("Counterpane", "a pretend till", "#2f6b78", "CP-", cfg.Goods), cfg: cfg}
	c.final = true
	r := chi.NewRouter()
	r.Route("/till", func(r chi.Router) {
		r.Use(c.mis.around, c.knows)
		r.Get("/shop", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"shop_id": cfg.ShopNo, "shop_name": cfg.Shop, "company": cfg.Company, "land": cfg.Land})
		})
		r.Get("/articles.csv", c.articles)
		r.Get("/sales", c.salesAfter)
		r.Get("/stockbook", c.stockBook)
		r.Get("/menu", c.menu)
		r.Post("/onhand", c.onHand)
	})
	c.control(r)
	c.Handler = r
	return c
}

func (c *Counterpane) knows(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		user, password, _ := r.BasicAuth()
		refuse := func(what, text string) {
			answer(w, 401, map[string]any{"fault": map[string]any{"what": what, "text": text}})
		}
		switch {
		case user != c.cfg.User:
			refuse("user", "nobody of that name works here")
		case password != c.cfg.Password:
			refuse("password", "the password is wrong")
		case r.FormValue("shop") != strconv.FormatInt(c.cfg.ShopNo, 10):
			answer(w, 403, map[string]any{"fault": map[string]any{"what": "shop", "text": "there is no shop " + r.FormValue("shop")}})
		default:
			next.ServeHTTP(w, r)
		}
	})
}

func (c *Counterpane) articles(w http.ResponseWriter, _ *http.Request) {
	c.mu.Lock()
	list := append([]*Good(nil), c.list...)
	sort.Slice(list, func(i, j int) bool { return list[i].No < list[j].No })
	w.Header().Set("Content-Type", "text/csv; charset=utf-8")
	out := csv.NewWriter(w)
	out.Comma = ';'
	_ = out.Write([]string{"Article", "Own code", "Name", "Price", "On hand", "Bar code"})
	for _, g := range list {
		_ = out.Write([]string{g.No, g.SKU, g.Title, dec(g.Price), strconv.FormatInt(g.Shown, 10), g.Barcode})
	}
	c.mu.Unlock()
	out.Flush()
}

// salesAfter lists sales whose number is beyond a number, at most 50.
func (c *Counterpane) salesAfter(w http.ResponseWriter, r *http.Request) {
	after, _ := strconv.ParseInt(r.URL.Query().Get("after"), 10, 64)
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []map[string]any{}
	for _, s := range c.sales {
		id := 1200 + s.No
		if id <= after || len(out) == 50 {
			continue
		}
		rows := []map[string]any{}
		for i, l := range s.Lines {
			number, _ := strconv.ParseInt(c.numberOf(l.SKU, l.Title), 10, 64)
			rows = append(rows, map[string]any{"row_id": id*10 + int64(i), "article_id": number,
				"own_code": l.SKU, "label": l.Title, "pieces": fmt.Sprintf("%d.000", l.Qty), "price": dec(l.Price),
				"amount": dec(l.Qty * l.Price)})
		}
		out = append(out, map[string]any{"sale_id": id, "register_id": s.Register, "payment_type_id": s.PayType,
			"closed": s.Placed.In(c.cfg.Zone).Format("02.01.2006 15:04:05"), "rows": rows, "tax": dec(tax(s.total())),
			"sum": dec(s.total())})
	}
	answer(w, 200, map[string]any{"sales": out})
}

// numberOf is the system's own number of what was sold; two may carry the same code.
func (d *desk) numberOf(sku, title string) string {
	no := "0"
	for _, g := range d.list {
		if g.SKU == sku && (no == "0" || g.Title == title) {
			no = g.No
		}
	}
	return no
}

// stockBook lists the entries beyond a number, at most 100.
func (c *Counterpane) stockBook(w http.ResponseWriter, r *http.Request) {
	after, _ := strconv.ParseInt(r.URL.Query().Get("after"), 10, 64)
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []map[string]any{}
	for _, e := range c.book {
		if e.ID <= after || len(out) == 100 {
			continue
		}
		no, _ := strconv.ParseInt(e.No, 10, 64)
		out = append(out, map[string]any{"entry_id": e.ID, "article_id": no, "own_code": e.SKU, "kind": e.Kind,
			"change": fmt.Sprintf("%d.000", e.Change), "left": fmt.Sprintf("%d.000", e.Left),
			"noted": e.At.In(c.cfg.Zone).Format("02.01.2006 15:04:05"), "by": e.By})
	}
	answer(w, 200, map[string]any{"entries": out})
}

// Dish is something on a till's menu.
type Dish struct {
	No, Code, Label, About string
	Price                  int64
	Groups                 []DishGroup
}

// DishGroup is a choice that a guest makes.
type DishGroup struct {
	Code, Label string
	Min, Max    int64
	Choices     []DishChoice
}

// DishChoice is one of the choices.
type DishChoice struct {
	Code, Label string
	Extra       int64
}

// SetPrice changes the price of a dish.
func (c *Counterpane) SetPrice(code string, price int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i := range c.cfg.Menu {
		if c.cfg.Menu[i].Code == code {
			c.cfg.Menu[i].Price = price
		}
	}
}

func (c *Counterpane) menu(w http.ResponseWriter, _ *http.Request) {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := []map[string]any{}
	for _, d := range c.cfg.Menu {
		groups := []map[string]any{}
		for _, g := range d.Groups {
			choices := []map[string]any{}
			for _, ch := range g.Choices {
				choices = append(choices, map[string]any{"code": ch.Code, "label": ch.Label, "extra": dec(ch.Extra)})
			}
			groups = append(groups, map[string]any{"code": g.Code, "label": g.Label, "min": g.Min, "max": g.Max, "choices": choices})
		}
		out = append(out, map[string]any{"dish_id": d.No, "own_code": d.Code, "label": d.Label, "about": d.About, "price": dec(d.Price),
			"groups": groups})
	}
	answer(w, 200, map[string]any{"dishes": out})
}

func (c *Counterpane) onHand(w http.ResponseWriter, r *http.Request) {
	pieces, err := strconv.ParseInt(r.FormValue("pieces"), 10, 64)
	c.mu.Lock()
	defer c.mu.Unlock()
	w.Header().Set("Content-Type", "application/x-www-form-urlencoded")
	for _, g := range c.list {
		if g.No == r.FormValue("article") && err == nil {
			if r.FormValue("practice") != "" {
				c.trials = append(c.trials, fmt.Sprintf("article %s: %d", g.No, pieces))
			} else {
				c.write(g, "interface", pieces, "interface")
			}
			fmt.Fprintf(w, "result=ok&article=%s", g.No)
			return
		}
	}
	w.WriteHeader(http.StatusUnprocessableEntity)
	fmt.Fprint(w, "result=no&reason=no+such+article")
}
