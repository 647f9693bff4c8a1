package standin

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"codeberg.org/go-pdf/fpdf"
	"github.com/go-chi/chi/v5"
)

// CourierConfig is an account at Swift Heron.
type CourierConfig struct {
	Name, Number   string
	Client, Secret string
	PushSecret     string
	TokenLivesFor  time.Duration // 0: ten minutes
}

// Heron is a carrier by van: it lets in programs by a token that runs out (OAuth 2.0, client credentials), asks more for homes than for
// companies, hands its label out by a second request, is asked to come with a window, and calls whoever wants to know.
type Heron struct {
	cfg CourierConfig
	mis mischief
	http.Handler

	mu     sync.Mutex
	tokens map[string]time.Time
	jobs   []*heronJob
	byRef  map[string]*heronJob
	calls  map[string]map[string]any // collections, by reference
	hook   string
	news   int
}

type heronJob struct {
	ID, Ref, Number, Product, To string
	Cents                        int64
	Trial, Gone                  bool
	Collection                   string
	Steps, Pieces                int
}

type heronProduct struct {
	Code, Name string
	Days       int
	Base       int64 // cents for the first kilogram
	Each       int64 // for each further one that is begun
	HeaviestKg int64
	Lands      []string
}

var heronProducts = []heronProduct{
	{"SH-DAY", "Heron Next Day", 1, 640, 55, 30, []string{"XW"}},
	{"SH-ECO", "Heron Economy", 3, 430, 40, 30, []string{"XW", "XE"}},
}

const (
	heronHome    = 120 // cents, where no company lives
	heronFuel    = 110 // permille
	heronDivisor = 4000
	heronLongest = 1500 // mm
	heronFar     = 310
)

var heronFarBegin = []string{"98", "99", "208"}

// NewHeron opens the carrier.
func NewHeron(cfg CourierConfig) *Heron {
	if cfg.TokenLivesFor == 0 {
		cfg.TokenLivesFor = 10 * time.Minute
	}
	p := &Heron{cfg: cfg, tokens: map[string]time.Time{}, byRef: map[string]*heronJob{}, calls: map[string]map[string]any{}}
	r := chi.NewRouter()
	r.Post("/oauth/token", p.token)
	r.Route("/h1", func(r chi.Router) {
		r.Use(p.mis.around, p.bearer)
		r.Get("/me", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"account": map[string]any{"title": cfg.Name, "ref": cfg.Number, "land": "XW"}})
		})
		r.Get("/pricelist", p.priceList)
		r.Post("/offers", p.offers)
		r.Put("/jobs/{ref}", p.order)
		r.Get("/jobs/{id}/label", p.label)
		r.Delete("/jobs/{id}", p.callOff)
		r.Put("/collections/{ref}", p.collect)
	})
	carrierControl(
		r,
		&p.mis,
		"Swift Heron, the roost",
		"What is sent by van. The same reference is the same job; whoever wants to know is "+
			"called.",
		p.book200,
		p.MoveAs,
	)
	p.Handler = r
	return p
}

// Misbehave switches faults on, or off with the zero value.
func (p *Heron) Misbehave(f Faults) { p.mis.set(f) }

// Live lets it live so long ago.
func (p *Heron) Live(ago time.Duration) { p.mis.Live(ago) }

// SetHook says whom the carrier calls.
func (p *Heron) SetHook(url string) { p.mu.Lock(); p.hook = url; p.mu.Unlock() }

// Sold lists the labels that were sold, the oldest first.
func (p *Heron) Sold() []SoldLabel {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]SoldLabel, len(p.jobs))
	for i, j := range p.jobs {
		out[i] = SoldLabel{j.Ref, j.Number, j.Gone, j.Trial}
	}
	return out
}

// book200 is what was sold, the newest first.
func (p *Heron) book200() (out []soldRow) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := len(p.jobs) - 1; i >= max(0, len(p.jobs)-200); i-- {
		j := p.jobs[i]
		out = append(out, soldRow{j.ID, j.Number, j.To, j.Ref, stands(j.Gone, j.Collection, j.Steps)})
	}
	return out
}

func (p *Heron) token(w http.ResponseWriter, r *http.Request) {
	id, secret, ok := r.BasicAuth()
	if !ok {
		id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
	}
	if id != p.cfg.Client || secret != p.cfg.Secret || r.FormValue("grant_type") != "client_credentials" {
		answer(w, 401, map[string]any{"error": "invalid_client"})
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	t := fmt.Sprintf("heron-%d-%x", len(p.tokens)+1, sha256.Sum256([]byte(p.cfg.Secret+time.Now().String())))[:40]
	p.tokens[t] = time.Now().Add(p.cfg.TokenLivesFor)
	answer(w, 200, map[string]any{"access_token": t, "token_type": "Bearer", "expires_in": int(p.cfg.TokenLivesFor.Seconds())})
}

func (p *Heron) bearer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p.mu.Lock()
		until, known := p.tokens[strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")]
		p.mu.Unlock()
		if !known || time.Now().After(until) {
			answer(w, 401, map[string]any{"problem": "token"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (p *Heron) priceList(w http.ResponseWriter, _ *http.Request) {
	list := []map[string]any{}
	for _, x := range heronProducts {
		steps := []map[string]any{}
		for kg := int64(1); kg <= x.HeaviestKg; kg++ {
			steps = append(steps, map[string]any{"kg": kg, "cents": x.Base + (kg-1)*x.Each})
		}
		list = append(list, map[string]any{"code": x.Code, "name": x.Name, "days": x.Days, "lands": x.Lands, "steps": steps,
			"max_kg": x.HeaviestKg})
	}
	answer(w, 200, map[string]any{"products": list, "home_cents": heronHome, "fuel_permille": heronFuel, "cm3_per_kg": heronDivisor,
		"longest_mm": heronLongest, "far": map[string]any{"cents": heronFar, "begin": heronFarBegin}})
}

type heronParcel struct {
	Land, Zip, Company, Name, Line, Place string
	Premises                              string // home or business, where whoever sends it knows
	Grams                                 int64
	Size                                  []int64
	Day                                   string
	Product                               string
	Trial                                 bool
	Insured                               int64
	Pieces                                []heronPiece
}

// heronPiece is one of several parcels of a job.
type heronPiece struct {
	Ref   string
	Grams int64
	Size  []int64
}

// price is what a job costs: all its parcels.
func (x heronParcel) price(pr heronProduct) (cents int64, no string) {
	if len(x.Pieces) == 0 {
		return x.cents(pr)
	}
	for _, piece := range x.Pieces {
		one := x
		one.Grams, one.Size = piece.Grams, piece.Size
		more, no := one.cents(pr)
		if no != "" {
			return 0, piece.Ref + ": " + no
		}
		cents += more
	}
	return cents, ""
}

func (x heronParcel) cents(pr heronProduct) (int64, string) {
	if len(x.Size) != 3 {
		return 0, "three sizes are wanted"
	}
	grams := max(x.Grams, (x.Size[0]*x.Size[1]*x.Size[2]+heronDivisor-1)/heronDivisor)
	switch {
	case max(x.Size[0], x.Size[1], x.Size[2]) > heronLongest:
		return 0, fmt.Sprintf("longer than %d mm", heronLongest)
	case x.Grams > pr.HeaviestKg*1000:
		return 0, fmt.Sprintf("heavier than %d kg", pr.HeaviestKg)
	case x.Insured > 0:
		return 0, "the heron insures nothing"
	case !has(pr.Lands, x.Land):
		return 0, "no heron flies there"
	case grams > pr.HeaviestKg*1000:
		return 0, "too bulky"
	}
	kg := max((grams+999)/1000, 1)
	price := pr.Base + (kg-1)*pr.Each
	price += (price*heronFuel + 500) / 1000
	if begins(x.Zip, heronFarBegin) {
		price += heronFar
	}
	if x.Premises == "home" || x.Premises == "" && x.Company == "" {
		price += heronHome
	}
	return price, ""
}

func (p *Heron) offers(w http.ResponseWriter, r *http.Request) {
	var in heronParcel
	if !read(w, r, &in) {
		return
	}
	out := []map[string]any{}
	for _, pr := range heronProducts {
		cents, no := in.cents(pr)
		o := map[string]any{"code": pr.Code, "name": pr.Name}
		if no != "" {
			o["no"] = no
		} else {
			o["eur"], o["there_on"] = fmt.Sprintf("%d.%02d", cents/100, cents%100), arrival(in.Day, pr.Days)
		}
		out = append(out, o)
	}
	answer(w, 200, map[string]any{"offers": out})
}

func (p *Heron) order(w http.ResponseWriter, r *http.Request) {
	var in heronParcel
	if !read(w, r, &in) {
		return
	}
	ref := chi.URLParam(r, "ref")
	p.mu.Lock()
	defer p.mu.Unlock()
	if j := p.byRef[ref]; j != nil { // the same reference is the same job
		answer(w, 200, j.said())
		return
	}
	for _, pr := range heronProducts {
		if pr.Code != in.Product {
			continue
		}
		cents, no := in.price(pr)
		if no != "" {
			answer(w, 409, map[string]any{"problem": no})
			return
		}
		n := len(p.jobs) + 1
		j := &heronJob{
			ID:      fmt.Sprintf("j%04d", n),
			Ref:     ref,
			Number:  fmt.Sprintf("SH%09d", 500_000_000+n*13),
			Product: pr.Name,
			Cents:   cents,
			Trial:   in.Trial,
			To:      in.Name + ", " + in.Place,
			Pieces:  max(len(in.Pieces), 1),
		}
		p.jobs, p.byRef[ref] = append(p.jobs, j), j
		answer(w, 201, j.said())
		return
	}
	answer(w, 409, map[string]any{"problem": "there is no product " + in.Product, "field": "product"})
}

func (j *heronJob) said() map[string]any {
	return map[string]any{"job": map[string]any{"id": j.ID, "number": j.Number, "product": j.Product,
		"eur": fmt.Sprintf("%d.%02d", j.Cents/100, j.Cents%100)}}
}

func (p *Heron) job(id string) *heronJob {
	for _, j := range p.jobs {
		if j.ID == id {
			return j
		}
	}
	return nil
}

// label draws the label, as its second request asks for it.
func (p *Heron) label(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	j := p.job(chi.URLParam(r, "id"))
	p.mu.Unlock()
	if j == nil {
		answer(w, 404, map[string]any{"problem": "no such job"})
		return
	}
	pdf := fpdf.NewCustom(&fpdf.InitType{UnitStr: "mm", Size: fpdf.SizeType{Wd: 100, Ht: 150}})
	pdf.SetCompression(false)
	pdf.AddPage()
	pdf.SetFont("Helvetica", "B", 18)
	pdf.Text(8, 20, "SWIFT HERON "+j.Product)
	pdf.SetFont("Helvetica", "", 12)
	pdf.Text(8, 40, j.To)
	pdf.Text(8, 60, j.Number)
	if piece, err := strconv.Atoi(r.URL.Query().Get("piece")); err == nil {
		if piece < 1 || piece > j.Pieces {
			answer(w, 404, map[string]any{"problem": "the job has no such piece"})
			return
		}
		pdf.Text(8, 70, fmt.Sprintf("%d of %d", piece, j.Pieces))
	}
	var buf bytes.Buffer
	if err := pdf.Output(&buf); err != nil {
		http.Error(w, err.Error(), 500)
		return
	}
	w.Header().Set("Content-Type", "application/pdf")
	w.Write(buf.Bytes())
}

func (p *Heron) callOff(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	j := p.job(chi.URLParam(r, "id"))
	switch {
	case j == nil:
		answer(w, 404, map[string]any{"problem": "no such job"})
	case j.Steps > 0:
		answer(w, 409, map[string]any{"problem": "the van has it"})
	default:
		j.Gone = true
		answer(w, 200, map[string]any{"called_off": true})
	}
}

// collect takes a day's jobs together and says when the van comes.
func (p *Heron) collect(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Day, From, To string
		Jobs          []string
	}
	if !read(w, r, &in) {
		return
	}
	ref := chi.URLParam(r, "ref")
	p.mu.Lock()
	defer p.mu.Unlock()
	said := p.calls[ref]
	if said == nil {
		n, without := 0, []string{}
		for _, id := range in.Jobs {
			if j := p.job(id); j != nil && !j.Gone {
				j.Collection = ref
				n++
			} else {
				without = append(without, id)
			}
		}
		said = map[string]any{"collection": fmt.Sprintf("col-%d", len(p.calls)+1), "parcels": n, "without": without}
		if between, no := heronVan(in.From, in.To); no != "" {
			said["no_van"] = no
		} else {
			said["between"] = between
		}
		p.calls[ref] = said
	}
	answer(w, 200, said)
}

// heronVan is when a van comes that was asked for between two hours, or why none does: it needs an hour, and does not come at night.
func heronVan(from, to string) (between, no string) {
	if from == "" {
		return "16:00-18:00", ""
	}
	a, err := time.Parse("15:04", from)
	b, err2 := time.Parse("15:04", to)
	switch {
	case err != nil || err2 != nil:
		return "", "these are no hours"
	case b.Sub(a) < time.Hour:
		return "", "a van needs an hour"
	case b.Hour() >= 20:
		return "", "no van comes after eight in the evening"
	}
	return from + "-" + to, ""
}

var heronWay = []string{"collected", "hub", "van", "done"}

// heronOff are the words for what leaves the usual way.
var heronOff = map[string]string{NotIn: "no_answer", GoingBack: "homeward", BackAgain: "back", GoneLost: "gone", AtCustoms: "border"}

// Move moves a parcel on by one event, and calls whoever wants to know.
func (p *Heron) Move(number string) error { return p.MoveAs(number, "") }

// MoveAs moves a parcel on, or off its usual way.
func (p *Heron) MoveAs(number, as string) error {
	p.mu.Lock()
	var found *heronJob
	for _, j := range p.jobs {
		if j.Number == number && !j.Gone && (as != "" || j.Steps < len(heronWay)) {
			found = j
		}
	}
	if found == nil {
		p.mu.Unlock()
		return fmt.Errorf("%s cannot be moved", number)
	}
	word := heronOff[as]
	if as == "" {
		word = heronWay[found.Steps]
		found.Steps++
	}
	p.news++
	body, _ := json.Marshal(map[string]any{"kind": "parcel", "news": p.news, "parcel": map[string]any{"number": number, "is": word,
		"when": p.mis.clock().Unix()}})
	hook := p.hook
	p.mu.Unlock()
	if hook == "" {
		return nil
	}
	mac := hmac.New(sha256.New, []byte(p.cfg.PushSecret))
	mac.Write(body)
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, hook, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Heron-Mark", hex.EncodeToString(mac.Sum(nil)))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	io.Copy(io.Discard, res.Body)
	if res.StatusCode >= 300 {
		return fmt.Errorf("told %s: answered %d", hook, res.StatusCode)
	}
	return nil
}
