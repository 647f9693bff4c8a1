package standin

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
)

// BrambleConfig is a trader's account on Bramble Row.
type BrambleConfig struct {
	Name, Number, Land string
	Key, Secret        string
	Goods              []Good
	ReportAfter        time.Duration // how long a submission is worked on
	ReviewAfter        time.Duration // how long a new listing is looked at
}

type brambleSubmission struct {
	no    string
	taken time.Time
	rows  []brambleRow
	goods []brambleListing
	trial bool
	done  bool
	never bool
}

type brambleRow struct {
	Listing string `xml:"Listing"`
	Shown   int64  `xml:"Shown"`
	ok      bool
	why     string
}

// brambleListing is a listing that a trader asks for.
type brambleListing struct {
	Code   string `xml:"Own-Code"`
	Title  string `xml:"Title"`
	Bar    string `xml:"Bar-Code"`
	About  string `xml:"About"`
	Price  string `xml:"Price"`
	Shown  int64  `xml:"Shown"`
	Gone   string `xml:"Withdraw"`
	number string
	ok     bool
	why    string
}

// Bramble is a running marketplace.
type Bramble struct {
	*desk
	cfg BrambleConfig
	http.Handler
	submissions map[string]*brambleSubmission // by number; guarded by desk.mu
	byRef       map[string]*brambleSubmission
	never       bool
}

// NewBramble opens the marketplace.
func NewBramble(cfg BrambleConfig) *Bramble {
	if cfg.ReportAfter == 0 {
		cfg.ReportAfter = time.Second
	}
	if cfg.ReviewAfter == 0 {
		cfg.ReviewAfter = 2 * time.Second
	}
	b := &Bramble{desk: newDesk("Bramble Row", "a pretend marketplace", "#8a3049", "BR-", cfg.Goods), cfg: cfg,
		submissions: map[string]*brambleSubmission{}, byRef: map[string]*brambleSubmission{}}
	r := chi.NewRouter()
	r.Route("/br", func(r chi.Router) {
		r.Use(b.mis.around, b.proof)
		r.Get("/whoami", func(w http.ResponseWriter, _ *http.Request) {
			b.xml(w, 200, fmt.Sprintf("<Trader><Name>%s</Name><Number>%s</Number><Land>%s</Land></Trader>", esc(cfg.Name),
				esc(cfg.Number), cfg.Land))
		})
		r.Get("/orders", b.orders)
		r.Get("/orders/{id}", b.order)
		r.Post("/orders/{id}/despatch", b.despatch)
		r.Get("/listings", b.listings)
		r.Post("/listings", b.ask)
		r.Post("/submissions", b.submit)
		r.Get("/submissions/{no}", b.report)
	})
	b.control(r)
	b.Handler = r
	return b
}

// NeverReport leaves submissions in the works for ever from now on, or not.
func (b *Bramble) NeverReport(on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.never = on
}

// LookAgain takes a listing back into review.
func (b *Bramble) LookAgain(sku string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, g := range b.list {
		if g.SKU == sku {
			g.Review = "in review"
		}
	}
}

func esc(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s))
	return out.String()
}

func (b *Bramble) xml(w http.ResponseWriter, status int, body string) {
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	w.WriteHeader(status)
	_, _ = io.WriteString(w, `<?xml version="1.0" encoding="UTF-8"?>`+body)
}

func (b *Bramble) fault(w http.ResponseWriter, status int, code, text string) {
	b.xml(w, status, fmt.Sprintf("<Fault><Code>%s</Code><Message>%s</Message></Fault>", code, esc(text)))
}

// proof checks Bramble-Proof: the base64 of an HMAC-SHA256 over method, path with query, moment and the
// hex SHA-256 of the body, each on a line.
func (b *Bramble) proof(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 4<<20))
		if err != nil {
			b.fault(w, 413, "too_large", "the body is too large")
			return
		}
		r.Body = io.NopCloser(strings.NewReader(string(body)))
		now := b.mis.clock()
		w.Header().Set("Date", now.UTC().Format(http.TimeFormat))
		moment, err := strconv.ParseInt(r.Header.Get("Bramble-Moment"), 10, 64)
		sum := sha256.Sum256(body)
		mac := hmac.New(sha256.New, []byte(b.cfg.Secret))
		fmt.Fprintf(mac, "%s\n%s\n%s\n%s", r.Method, r.URL.RequestURI(), r.Header.Get("Bramble-Moment"), hex.EncodeToString(sum[:]))
		switch {
		case r.Header.Get("Bramble-Key") != b.cfg.Key:
			b.fault(w, 401, "unknown_key", "nobody here has this key")
		case err != nil || now.Sub(time.Unix(moment, 0)).Abs() > 5*time.Minute:
			b.fault(w, 401, "bad_moment", "the moment is not near ours")
		case r.Header.Get("Bramble-Proof") != base64.StdEncoding.EncodeToString(mac.Sum(nil)):
			b.fault(w, 401, "bad_proof", "the proof does not fit the request")
		default:
			next.ServeHTTP(w, r)
		}
	})
}

const bramblePage = 50

func bramblePages[T any](r *http.Request, list []T) (part []T, page, pages int) {
	page, _ = strconv.Atoi(r.URL.Query().Get("page"))
	page = max(page, 1)
	pages = max(1, (len(list)+bramblePage-1)/bramblePage)
	begin := min((page-1)*bramblePage, len(list))
	return list[begin:min(begin+bramblePage, len(list))], page, pages
}

var brambleState = map[string]string{"pending": "unpaid", "open": "to-send", "sent": "despatched", "cancelled": "void"}

func (b *Bramble) record(s *deskSale) string {
	var out strings.Builder
	fmt.Fprintf(&out, `<Order no="%s" turn="%d"><Stands>%s</Stands><Placed>%s</Placed><Changed>%s</Changed><Currency>EUR</Currency>`,
		s.ID, s.Turn, brambleState[s.State], s.Placed.Format(stampForm), s.Changed.Format(stampForm))
	fmt.Fprintf(&out,
		`<Buyer><Name>%s</Name><Mail>%s</Mail></Buyer><Ship-To><Name>%s</Name><Street>%s</Street><Post-Code>%s</Post-Code>`+
			`<Town>%s</Town><Land>%s</Land></Ship-To><Lines>`,
		esc(s.Buyer), esc(s.Mail), esc(s.To.Name), esc(s.To.Street), s.To.Postcode, esc(s.To.Town), s.To.Country)
	for _, l := range s.Lines {
		sum := l.Qty*l.Price - l.Off
		fmt.Fprintf(&out,
			`<Line no="%s"><Own-Code>%s</Own-Code><Title>%s</Title><Pieces>%d</Pieces><Each>%s</Each><Tax>%s</Tax><Sum>%s</Sum></Line>`,
			l.ID, esc(l.SKU), esc(l.Title), l.Qty, dec(l.Price), dec(tax(sum)), dec(sum))
	}
	fmt.Fprintf(&out, `</Lines><Carriage>%s</Carriage><Tax>%s</Tax><Total>%s</Total>`, dec(s.Fee), dec(tax(s.total())), dec(s.total()))
	for _, p := range s.Parcels {
		fmt.Fprintf(&out, `<Parcel><Ref>%s</Ref><Number>%s</Number></Parcel>`, esc(p.Reference), esc(p.Tracking))
	}
	out.WriteString(`</Order>`)
	return out.String()
}

func (b *Bramble) orders(w http.ResponseWriter, r *http.Request) {
	from, _ := time.Parse(time.RFC3339Nano, r.URL.Query().Get("changed-from"))
	b.mu.Lock()
	defer b.mu.Unlock()
	part, page, pages := bramblePages(r, b.changedSince(from))
	var out strings.Builder
	fmt.Fprintf(&out, `<Orders page="%d" pages="%d">`, page, pages)
	for _, s := range part {
		out.WriteString(b.record(s))
	}
	out.WriteString(`</Orders>`)
	b.xml(w, 200, out.String())
}

func (b *Bramble) order(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.byID[chi.URLParam(r, "id")]
	if s == nil {
		b.fault(w, 404, "unknown_order", "no such order")
		return
	}
	b.xml(w, 200, b.record(s))
}

func (b *Bramble) despatch(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Trial   string `xml:"Trial"`
		Ref     string `xml:"Ref"`
		Carrier string `xml:"Carrier"`
		Number  string `xml:"Number"`
	}
	if err := xml.NewDecoder(r.Body).Decode(&in); err != nil || in.Ref == "" || in.Number == "" {
		b.fault(w, 422, "unreadable", "ref and number are needed")
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.byID[chi.URLParam(r, "id")]
	if s == nil || s.State == "cancelled" {
		b.fault(w, 409, "not_to_send", "this order is not to be sent")
		return
	}
	if in.Trial != "" {
		b.trials = append(b.trials, "despatch "+in.Ref)
	} else {
		b.ship(s, shopParcel{ID: in.Ref, Reference: in.Ref, Carrier: in.Carrier, Tracking: in.Number})
	}
	b.xml(w, 200, "<Despatched><Ref>"+esc(in.Ref)+"</Ref></Despatched>")
}

func (b *Bramble) listings(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.review()
	list := append([]*Good(nil), b.list...)
	sort.Slice(list, func(i, j int) bool { return list[i].No < list[j].No })
	part, page, pages := bramblePages(r, list)
	var out strings.Builder
	fmt.Fprintf(&out, `<Listings page="%d" pages="%d">`, page, pages)
	for _, g := range part {
		review := g.Review
		switch {
		case review == "" && g.Off:
			review = "withdrawn"
		case review == "":
			review = "live"
		}
		fmt.Fprintf(&out,
			`<Listing no="%s"><Own-Code>%s</Own-Code><Title>%s</Title><Bar-Code>%s</Bar-Code><Price currency="EUR">%s</Price>`+
				`<Shown>%d</Shown><Review>%s</Review><Why>%s</Why></Listing>`, g.No, esc(g.SKU), esc(g.Title), g.Barcode, dec(g.Price),
			g.Shown, review, esc(g.Why))
	}
	out.WriteString(`</Listings>`)
	b.xml(w, 200, out.String())
}

func (b *Bramble) submit(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Ref   string       `xml:"ref,attr"`
		Trial string       `xml:"Trial"`
		Rows  []brambleRow `xml:"Row"`
	}
	if err := xml.NewDecoder(r.Body).Decode(&in); err != nil || len(in.Rows) == 0 || len(in.Rows) > 200 {
		b.fault(w, 422, "unreadable", "a submission has 1 to 200 rows")
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.byRef[in.Ref]
	if s == nil {
		s = &brambleSubmission{no: fmt.Sprintf("S-%d", 400+len(b.submissions)), taken: b.mis.clock(), rows: in.Rows, trial: in.Trial != "",
			never: b.never}
		b.submissions[s.no] = s
		b.byRef[in.Ref] = s
	}
	b.xml(w, 202, "<Receipt><Submission>"+s.no+"</Submission></Receipt>")
}

// ask takes listings that are asked for; each is carried out with its submission and reviewed afterwards.
func (b *Bramble) ask(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Ref   string           `xml:"ref,attr"`
		Trial string           `xml:"Trial"`
		Rows  []brambleListing `xml:"Listing"`
	}
	if err := xml.NewDecoder(r.Body).Decode(&in); err != nil || len(in.Rows) == 0 || len(in.Rows) > 50 {
		b.fault(w, 422, "unreadable", "1 to 50 listings are asked for at once")
		return
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.byRef[in.Ref]
	if s == nil {
		s = &brambleSubmission{
			no:    fmt.Sprintf("S-%d", 400+len(b.submissions)),
			taken: b.mis.clock(),
			goods: in.Rows,
			trial: in.Trial != "",
			never: b.never,
		}
		b.submissions[s.no] = s
		b.byRef[in.Ref] = s
	}
	b.xml(w, 202, "<Receipt><Submission>"+s.no+"</Submission></Receipt>")
}

// place carries one asked-for listing out. The caller holds the lock.
func (b *Bramble) place(row *brambleListing, trial bool) {
	var whole, cents int64
	_, err := fmt.Sscanf(row.Price, "%d.%02d", &whole, &cents)
	switch {
	case row.Code == "":
		row.why = "a listing has an own code"
		return
	case row.Price != "" && (err != nil || whole*100+cents < 100):
		row.why = "a price is at least 1.00"
		return
	}
	row.ok = true
	if trial {
		b.trials = append(b.trials, "listing "+row.Code)
		return
	}
	var g *Good
	for _, one := range b.list {
		if one.SKU == row.Code {
			g = one
		}
	}
	if g == nil {
		g = &Good{No: fmt.Sprint(6000 + len(b.list)), SKU: row.Code, Shown: row.Shown}
		b.list = append(b.list, g)
	}
	if row.Title != "" {
		g.Title = row.Title
	}
	if row.Bar != "" {
		g.Barcode = row.Bar
	}
	if row.Price != "" {
		g.Price = whole*100 + cents
	}
	g.About, g.Off, row.number = row.About, row.Gone != "", g.No
	g.Review, g.Why, g.since = "in review", "", b.mis.clock()
}

// review ends the reviews whose time has come. The caller holds the lock.
func (b *Bramble) review() {
	for _, g := range b.list {
		if g.Review != "in review" || g.since.IsZero() || b.mis.clock().Sub(g.since) < b.cfg.ReviewAfter {
			continue
		}
		g.Review = ""
		if len([]rune(g.About)) < 20 {
			g.Review, g.Why = "refused", "a listing is described in at least 20 letters"
		}
	}
}

// work carries a submission out once its time has come. The caller holds the lock.
func (b *Bramble) work(s *brambleSubmission) {
	if s.done || s.never || b.mis.clock().Sub(s.taken) < b.cfg.ReportAfter {
		return
	}
	s.done = true
	for i := range s.goods {
		b.place(&s.goods[i], s.trial)
	}
	for i := range s.rows {
		row := &s.rows[i]
		row.why = "no listing has this number"
		for _, g := range b.list {
			switch {
			case g.No != row.Listing:
			case g.Review != "":
				row.why = "the listing is " + g.Review
			case row.Shown < 0:
				row.why = "a quantity is not negative"
			default:
				row.ok, row.why = true, ""
				if s.trial {
					b.trials = append(b.trials, fmt.Sprintf("listing %s: %d", g.No, row.Shown))
				} else {
					g.Shown = row.Shown
				}
			}
		}
	}
}

func (b *Bramble) report(w http.ResponseWriter, r *http.Request) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.submissions[chi.URLParam(r, "no")]
	if s == nil {
		b.fault(w, 404, "unknown_submission", "no such submission")
		return
	}
	b.work(s)
	if !s.done {
		b.xml(w, 200, `<Report stands="in-works"/>`)
		return
	}
	var out strings.Builder
	out.WriteString(`<Report stands="finished">`)
	for _, row := range s.goods {
		fmt.Fprintf(&out, `<Row><Own-Code>%s</Own-Code><Listing>%s</Listing><Taken>%s</Taken><Why>%s</Why></Row>`, esc(row.Code),
			esc(row.number), map[bool]string{true: "yes", false: "no"}[row.ok], esc(row.why))
	}
	for _, row := range s.rows {
		yes := "no"
		if row.ok {
			yes = "yes"
		}
		fmt.Fprintf(&out, `<Row><Listing>%s</Listing><Taken>%s</Taken><Why>%s</Why></Row>`, esc(row.Listing), yes, esc(row.why))
	}
	out.WriteString(`</Report>`)
	b.xml(w, 200, out.String())
}
