package standin

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/url"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// TansySeller is somebody who sells on Tansy. The first one owns the goods of the stand-in.
type TansySeller struct{ Name, No, Site, Land string }

// TansyConfig is the marketplace with its sellers and one application that may ask for consent.
type TansyConfig struct {
	AppNo, AppSecret string
	Sellers          []TansySeller
	Goods            []Good
	TokenLife        time.Duration // how long an access token lives
	PerSecond        int           // calls a second before it answers 429; 0: any number
}

type tansyConsent struct {
	seller    TansySeller
	redirect  string
	challenge string
	until     time.Time
}

type tansyToken struct {
	seller TansySeller
	until  time.Time
}

// Tansy is a running marketplace.
type Tansy struct {
	*desk
	cfg TansyConfig
	http.Handler

	outs []*tansyOut // guarded by the desk's lock

	tokens  sync.Mutex
	codes   map[string]tansyConsent
	access  map[string]tansyToken
	refresh map[string]TansySeller
	revoked bool
	second  int64
	count   int
}

// NewTansy opens the marketplace.
func NewTansy(cfg TansyConfig) *Tansy {
	if cfg.TokenLife == 0 {
		cfg.TokenLife = 2 * time.Minute
	}
	t := &Tansy{desk: newDesk("Tansy", "a pretend marketplace", "#6d4f8f", "TN-", cfg.Goods), cfg: cfg, codes: map[string]tansyConsent{},
		access: map[string]tansyToken{}, refresh: map[string]TansySeller{}}
	r := chi.NewRouter()
	r.Get("/consent", t.consentPage)
	r.Post("/consent", t.consent)
	r.With(t.mis.around).Post("/token", t.token)
	r.With(t.mis.around, t.pace, t.let).Get("/account", t.account)
	r.Route("/m/{site}", func(r chi.Router) {
		r.Use(t.mis.around, t.pace, t.let, t.onSite)
		r.Get("/purchases", t.purchases)
		r.Get("/purchases/{id}", t.purchase)
		r.Post("/purchases/{id}/consignments", t.consign)
		r.Get("/offers", t.offers)
		r.Put("/offers/{code}", t.offer)
		r.Get("/store-room", t.storeRoom)
		t.outboundRoutes(r)
		r.Patch("/offers", t.setOffers)
	})
	t.control(r)
	r.Post("/control/api/outbounds", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, 200,
			map[string]int{"sent": t.SendOutbounds()})
	})
	t.Handler = r
	return t
}

// Revoke ends all consents: refreshing is refused from now on, or, with false, allowed again.
func (t *Tansy) Revoke(on bool) {
	t.tokens.Lock()
	defer t.tokens.Unlock()
	t.revoked = on
	if on {
		clear(t.access)
	}
}

// ExpireTokens makes all access tokens run out now.
func (t *Tansy) ExpireTokens() {
	t.tokens.Lock()
	defer t.tokens.Unlock()
	clear(t.access)
}

func randomHex(n int) string {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic("no randomness: " + err.Error())
	}
	return hex.EncodeToString(b)
}

func (t *Tansy) consentPage(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	problem := ""
	switch {
	case q.Get("client_id") != t.cfg.AppNo:
		problem = "No application with this number is registered here."
	case q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" || q.Get("code_challenge") == "":
		problem = "The application did not ask in the form that is expected here."
	case q.Get("redirect_uri") == "" || q.Get("state") == "":
		problem = "The application did not say where to go back to."
	}
	if problem != "" {
		w.WriteHeader(http.StatusBadRequest)
	}
	show(w, "tansy-consent", map[string]any{"Problem": problem, "Sellers": t.cfg.Sellers, "Query": r.URL.RawQuery, "Site": q.Get("site")})
}

func (t *Tansy) consent(w http.ResponseWriter, r *http.Request) {
	q, err := url.ParseQuery(r.FormValue("query"))
	if err != nil || q.Get("client_id") != t.cfg.AppNo {
		http.Error(w, "no", http.StatusBadRequest)
		return
	}
	back, err := url.Parse(q.Get("redirect_uri"))
	if err != nil {
		http.Error(w, "no", http.StatusBadRequest)
		return
	}
	out := url.Values{"state": {q.Get("state")}}
	if r.FormValue("decision") != "allow" {
		out.Set("error", "access_denied")
		out.Set("error_description", "the seller said no")
	} else {
		seller := t.cfg.Sellers[0]
		for _, s := range t.cfg.Sellers {
			if s.No == r.FormValue("seller") {
				seller = s
			}
		}
		code := randomHex(12)
		t.tokens.Lock()
		t.codes[code] = tansyConsent{seller, q.Get("redirect_uri"), q.Get("code_challenge"), t.mis.clock().Add(5 * time.Minute)}
		t.tokens.Unlock()
		out.Set("code", code)
	}
	back.RawQuery = out.Encode()
	http.Redirect(w, r, back.String(), http.StatusSeeOther)
}

// token answers as RFC 6749, section 5, says.
func (t *Tansy) token(w http.ResponseWriter, r *http.Request) {
	bad := func(code, text string) {
		answer(w, 400, map[string]any{"error": code, "error_description": text})
	}
	if r.FormValue("client_id") != t.cfg.AppNo || subtle.ConstantTimeCompare([]byte(r.FormValue("client_secret")),
		[]byte(t.cfg.AppSecret)) != 1 {
		bad("invalid_client", "application number and secret do not fit")
		return
	}
	t.tokens.Lock()
	defer t.tokens.Unlock()
	var seller TansySeller
	switch r.FormValue("grant_type") {
	case "authorization_code":
		c, ok := t.codes[r.FormValue("code")]
		delete(t.codes, r.FormValue("code"))
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || t.mis.clock().After(c.until) || c.redirect != r.FormValue("redirect_uri") ||
			base64.RawURLEncoding.EncodeToString(sum[:]) != c.challenge {
			bad("invalid_grant", "the code is unknown, used, or not yours")
			return
		}
		seller = c.seller
	case "refresh_token":
		var ok bool
		if seller, ok = t.refresh[r.FormValue("refresh_token")]; !ok || t.revoked {
			bad("invalid_grant", "the seller took the consent back")
			return
		}
		delete(t.refresh, r.FormValue("refresh_token"))
	default:
		bad("unsupported_grant_type", "code or refresh")
		return
	}
	access, refresh := "ta_"+randomHex(16), "tr_"+randomHex(16)
	t.access[access] = tansyToken{seller, t.mis.clock().Add(t.cfg.TokenLife)}
	t.refresh[refresh] = seller
	answer(w, 200, map[string]any{"access_token": access, "refresh_token": refresh, "token_type": "Bearer",
		"expires_in": int(t.cfg.TokenLife.Seconds())})
}

// pace answers 429 to those who call too often.
func (t *Tansy) pace(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		t.tokens.Lock()
		if now := time.Now().Unix(); now != t.second {
			t.second, t.count = now, 0
		}
		t.count++
		over := t.cfg.PerSecond > 0 && t.count > t.cfg.PerSecond
		t.tokens.Unlock()
		if over {
			w.Header().Set("Retry-After", "1")
			answer(w, 429, map[string]any{"message": "too many calls in this second", "code": "slow_down"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (t *Tansy) sellerOf(r *http.Request) (TansySeller, bool) {
	t.tokens.Lock()
	defer t.tokens.Unlock()
	tok, ok := t.access[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
	return tok.seller, ok && t.mis.clock().Before(tok.until)
}

func (t *Tansy) let(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if _, ok := t.sellerOf(r); !ok {
			answer(w, 401, map[string]any{"message": "the token is unknown or has run out", "code": "no_token"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (t *Tansy) onSite(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s, _ := t.sellerOf(r); s.Site != chi.URLParam(r, "site") {
			answer(w, 403, map[string]any{"message": fmt.Sprintf("seller %s sells on the site %s only", s.No, s.Site),
				"code": "other_site"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (t *Tansy) account(w http.ResponseWriter, r *http.Request) {
	s, _ := t.sellerOf(r)
	answer(w, 200, map[string]any{"seller": map[string]any{"name": s.Name, "no": s.No, "site": s.Site, "land": s.Land}})
}

// tansyPage is 100 long; the cursor is the number of records before it.
func tansyPage[T any](r *http.Request, list []T) ([]T, any) {
	begin, _ := strconv.Atoi(strings.TrimPrefix(r.URL.Query().Get("cursor"), "c"))
	begin = min(max(begin, 0), len(list))
	end := min(begin+100, len(list))
	if end < len(list) {
		return list[begin:end], fmt.Sprintf("c%d", end)
	}
	return list[begin:end], nil
}

var tansyPhase = map[string]string{"pending": "reserved", "open": "cleared", "sent": "consigned", "cancelled": "withdrawn"}

func (t *Tansy) purchases(w http.ResponseWriter, r *http.Request) {
	from, _ := time.Parse(time.RFC3339Nano, r.URL.Query().Get("touched_after"))
	t.mu.Lock()
	defer t.mu.Unlock()
	var list []*deskSale
	if s, _ := t.sellerOf(r); s.No == t.cfg.Sellers[0].No {
		list = t.changedSince(from)
	}
	part, more := tansyPage(r, list)
	out := make([]map[string]any, len(part))
	for i, s := range part {
		out[i] = map[string]any{"pid": s.ID, "rev": s.Turn, "touched": s.Changed.Format(stampForm)}
	}
	answer(w, 200, map[string]any{"purchases": out, "more": more})
}

func minor(n int64) map[string]any { return map[string]any{"minor": n, "unit": "EUR"} }

func (t *Tansy) purchase(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	s := t.byID[chi.URLParam(r, "id")]
	if s == nil {
		answer(w, 404, map[string]any{"message": "no such purchase", "code": "gone"})
		return
	}
	handled := "seller"
	if s.Own {
		handled = "store_room"
	}
	p := map[string]any{"pid": s.ID, "rev": s.Turn, "touched": s.Changed.Format(stampForm), "bought": s.Placed.Format(stampForm),
		"phase": tansyPhase[s.State], "handled_by": handled,
		"delivery_fee": minor(s.Fee), "tax": minor(tax(s.total())), "total": minor(s.total()), "link": "http://" + r.Host + "/control#" +
			s.ID, "buyer": nil, "drop": nil}
	if s.State != "pending" { // who buys is not told before the payment is cleared
		p["buyer"] = map[string]any{"name": s.Buyer, "mail": s.Mail}
		p["drop"] = map[string]any{"to": s.To.Name, "line_1": s.To.Street, "line_2": s.To.Extra, "code": s.To.Postcode,
			"place": s.To.Town, "land": s.To.Country}
	}
	positions := make([]map[string]any, len(s.Lines))
	for i, l := range s.Lines {
		sum := l.Qty*l.Price - l.Off
		positions[i] = map[string]any{"position": i + 1, "code": l.SKU, "offer_no": t.numberOf(l.SKU, l.Title), "name": l.Title,
			"count": l.Qty, "each": minor(l.Price), "sum": minor(sum), "tax": minor(tax(sum))}
	}
	consignments := make([]map[string]any, len(s.Parcels))
	for i, c := range s.Parcels {
		consignments[i] = map[string]any{"ref": c.Reference, "number": c.Tracking}
	}
	p["positions"], p["consignments"] = positions, consignments
	answer(w, 200, map[string]any{"purchase": p})
}

func (t *Tansy) consign(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Ref, Carrier, Number, Follow string
		Pieces                       []struct {
			Position any
			Count    int64
		}
	}
	if !read(w, r, &in) {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	s := t.byID[chi.URLParam(r, "id")]
	switch {
	case s == nil:
		answer(w, 404, map[string]any{"message": "no such purchase", "code": "gone"})
		return
	case s.State == "cancelled" || s.State == "pending":
		answer(w, 409, map[string]any{"message": "the purchase is " + tansyPhase[s.State], "code": "phase"})
		return
	case in.Ref == "" || in.Number == "":
		answer(w, 422, map[string]any{"message": "ref and number are needed", "code": "missing"})
		return
	}
	if r.Header.Get("Tansy-Rehearsal") != "" {
		t.trials = append(t.trials, "consignment "+in.Ref)
		answer(w, 201, map[string]any{"consignment": map[string]any{"no": "rehearsal"}})
		return
	}
	no := fmt.Sprintf("%s-c%d", s.ID, len(s.Parcels)+1)
	for _, known := range s.Parcels { // what was told stays; a correction is a consignment of its own
		if known.Reference == in.Ref {
			answer(w, 201, map[string]any{"consignment": map[string]any{"no": known.ID}})
			return
		}
	}
	t.ship(s, shopParcel{ID: no, Reference: in.Ref, Carrier: in.Carrier, Tracking: in.Number, Link: in.Follow})
	answer(w, 201, map[string]any{"consignment": map[string]any{"no": no}})
}

func (t *Tansy) offers(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	list := append([]*Good(nil), t.list...)
	sort.Slice(list, func(i, j int) bool { return list[i].No < list[j].No })
	if s, _ := t.sellerOf(r); s.No != t.cfg.Sellers[0].No {
		list = nil
	}
	sum := sha256.New()
	for _, g := range list {
		fmt.Fprintf(sum, "%+v", *g)
	}
	tag := fmt.Sprintf("%q", hex.EncodeToString(sum.Sum(nil)[:8]))
	if r.Header.Get("If-None-Match") == tag {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("ETag", tag)
	part, more := tansyPage(r, list)
	out := make([]map[string]any, len(part))
	for i, g := range part {
		out[i] = map[string]any{"offer_no": g.No, "code": g.SKU, "name": g.Title, "ean": g.Barcode, "price": minor(g.Price),
			"shown": g.Shown, "on": !g.Off, "shelf": g.About}
	}
	answer(w, 200, map[string]any{"offers": out, "more": more})
}

// offer lists a thing under the seller's code, or changes it. Names are at most 90 letters long.
func (t *Tansy) offer(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Name, Ean, Shelf string
		Price            struct{ Minor int64 }
		Shown            int64
		On               bool
	}
	if !read(w, r, &in) {
		return
	}
	code := chi.URLParam(r, "code")
	if len([]rune(in.Name)) > 90 {
		answer(w, 422, map[string]any{"message": fmt.Sprintf("the name has %d letters, 90 are the most", len([]rune(in.Name))),
			"code": "name_long"})
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if r.Header.Get("Tansy-Rehearsal") != "" {
		t.trials = append(t.trials, "offer "+code)
		answer(w, 200, map[string]any{"offer": map[string]any{"offer_no": "rehearsal"}})
		return
	}
	var g *Good
	for _, one := range t.list {
		if one.SKU == code {
			g = one
		}
	}
	if g == nil {
		if in.Name == "" || in.Price.Minor <= 0 {
			answer(w, 422, map[string]any{"message": "a new offer has a name and a price", "code": "missing"})
			return
		}
		g = &Good{No: fmt.Sprint(89000 + len(t.list)), SKU: code, Shown: in.Shown}
		t.list = append(t.list, g)
	}
	if in.Name != "" {
		g.Title = in.Name
	}
	if in.Ean != "" {
		g.Barcode = in.Ean
	}
	if in.Price.Minor > 0 {
		g.Price = in.Price.Minor
	}
	g.Off = !in.On
	answer(w, 200, map[string]any{"offer": map[string]any{"offer_no": g.No}})
}

// storeRoom tells what the marketplace holds for the seller.
func (t *Tansy) storeRoom(w http.ResponseWriter, r *http.Request) {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := []map[string]any{}
	for _, g := range t.list {
		if g.Room != 0 || g.roomRev > 0 {
			out = append(out, map[string]any{"code": g.SKU, "offer_no": g.No, "count": g.Room, "rev": g.roomRev + 1,
				"moved": g.roomAt.Format(stampForm)})
		}
	}
	part, more := tansyPage(r, out)
	answer(w, 200, map[string]any{"pieces": part, "more": more})
}

func (t *Tansy) setOffers(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Changes []struct {
			OfferNo string `json:"offer_no"`
			Shown   int64  `json:"shown"`
		} `json:"changes"`
	}
	if !read(w, r, &in) {
		return
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	rehearsal := r.Header.Get("Tansy-Rehearsal") != ""
	outcome := []map[string]any{}
	for _, c := range in.Changes {
		res := map[string]any{"offer_no": c.OfferNo, "done": false, "why": "no such offer"}
		for _, g := range t.list {
			if g.No == c.OfferNo {
				res["done"], res["why"] = true, ""
				if rehearsal {
					t.trials = append(t.trials, fmt.Sprintf("offer %s: %d", g.No, c.Shown))
				} else {
					g.Shown = c.Shown
				}
			}
		}
		outcome = append(outcome, res)
	}
	answer(w, 200, map[string]any{"outcome": outcome})
}
