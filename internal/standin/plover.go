package standin

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// PostConfig is a Plover Post business account.
type PostConfig struct {
	Holder, CustomerNo, Land string
	Key, PushSecret          string
	First                    int // where its item numbers begin; 0: at 40,710,000
}

type ploverZone struct {
	Name  string
	Lands []string
	Begin []string
	Days  int
	Steps [][2]int64 // grams, cents
}

type ploverProduct struct {
	Code, Label string
	HeaviestG   int64
	LongestMM   int64
	Divisor     int64 // cm³ per kg; 0: real weight only
	Zones       []ploverZone
}

const (
	ploverFuelPermille = 65
	ploverRemoteCents  = 280
)

var ploverRemote = []string{"97", "98", "9905"}

var ploverProducts = []ploverProduct{
	{"PL", "Plover Letter", 1000, 353, 0, []ploverZone{
		{"W", []string{"XW"}, nil, 2, [][2]int64{{50, 120}, {250, 190}, {1000, 340}}},
		{"E", []string{"XE"}, nil, 5, [][2]int64{{50, 210}, {250, 420}, {1000, 890}}},
	}},
	{"PP", "Plover Parcel", 20000, 1200, 6000, []ploverZone{
		{"W1", []string{"XW"}, []string{"40", "41", "42"}, 1, [][2]int64{{2000, 420}, {5000, 560}, {10000, 780}, {20000, 1190}}},
		{"W2", []string{"XW"}, nil, 2, [][2]int64{{2000, 490}, {5000, 640}, {10000, 910}, {20000, 1390}}},
		{"E", []string{"XE"}, nil, 4, [][2]int64{{2000, 1290}, {5000, 1690}, {10000, 2390}, {20000, 3490}}},
	}},
	{"PX", "Plover Express", 20000, 1000, 5000, []ploverZone{
		{"W", []string{"XW"}, nil, 1, [][2]int64{{2000, 890}, {5000, 1090}, {10000, 1490}, {20000, 2190}}},
	}},
}

type ploverLabel struct {
	No, Reference, Product, Item, Zone, Sorting string
	Cents                                       int64
	Trial                                       bool
	To                                          string
	Grams                                       int64
	DayEnd                                      string
	Scans                                       int
	Voided                                      bool
	Answer                                      []byte
}

// Plover is a running carrier.
type Plover struct {
	cfg PostConfig
	mis mischief
	http.Handler

	mu      sync.Mutex
	labels  []*ploverLabel
	byRef   map[string]*ploverLabel
	byItem  map[string]*ploverLabel
	dayEnds map[string][]byte // by reference
	closed  map[string]bool   // counters, by number
	hook    string
	scanNo  int
}

// NewPlover opens the carrier.
func NewPlover(cfg PostConfig) *Plover {
	p := &Plover{cfg: cfg, byRef: map[string]*ploverLabel{}, byItem: map[string]*ploverLabel{}, dayEnds: map[string][]byte{},
		closed: map[string]bool{}}
	r := chi.NewRouter()
	r.Route("/v", func(r chi.Router) {
		r.Use(p.mis.around, p.keyed)
		r.Get("/account", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"holder": cfg.Holder, "customer_no": cfg.CustomerNo, "land": cfg.Land})
		})
		r.Get("/tariff", p.apiTariff)
		r.Get("/counters", p.apiCounters)
		r.Post("/prices", p.apiPrices)
		r.Post("/labels", p.apiLabel)
		r.Delete("/labels/{no}", p.apiVoid)
		r.Post("/day-ends", p.apiDayEnd)
	})
	r.Get("/follow/{item}", p.follow)
	p.control(r)
	p.Handler = r
	return p
}

// SoldLabel is a label as the carrier has it in its books.
type SoldLabel struct {
	Reference, Item string
	Voided, Trial   bool
}

// Sold lists the labels that were sold, the oldest first.
func (p *Plover) Sold() []SoldLabel {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make([]SoldLabel, len(p.labels))
	for i, l := range p.labels {
		out[i] = SoldLabel{l.Reference, l.Item, l.Voided, l.Trial}
	}
	return out
}

func (p *Plover) first() int {
	if p.cfg.First != 0 {
		return p.cfg.First
	}
	return 40_710_000
}

// Misbehave switches faults on, or off with the zero value.
func (p *Plover) Misbehave(f Faults) { p.mis.set(f) }

// SetHook says whom the carrier tells of scans.
func (p *Plover) SetHook(url string) {
	p.mu.Lock()
	p.hook = url
	p.mu.Unlock()
}

func (p *Plover) keyed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Plover-Key") != p.cfg.Key {
			answer(w, 403, map[string]any{"reason": "this business key is not valid"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

func (p *Plover) apiTariff(w http.ResponseWriter, _ *http.Request) {
	products := []map[string]any{}
	for _, pr := range ploverProducts {
		zones := []map[string]any{}
		for _, z := range pr.Zones {
			steps := []map[string]any{}
			for _, s := range z.Steps {
				steps = append(steps, map[string]any{"to_g": s[0], "cents": s[1]})
			}
			begin := z.Begin
			if begin == nil {
				begin = []string{}
			}
			zones = append(zones, map[string]any{"zone": z.Name, "lands": z.Lands, "postcodes_beginning": begin, "working_days": z.Days,
				"steps": steps})
		}
		products = append(products, map[string]any{"code": pr.Code, "label": pr.Label, "heaviest_g": pr.HeaviestG,
			"longest_mm": pr.LongestMM, "volume_divisor": pr.Divisor, "zones": zones})
	}
	answer(w, 200, map[string]any{"currency": "EUR", "cover": map[string]any{"free_to": ploverCoverFree, "permille": ploverCoverPermille,
		"least": ploverCoverLeast, "most": ploverCoverMost}, "fuel_permille": ploverFuelPermille,
		"remote": map[string]any{"postcodes_beginning": ploverRemote, "cents": ploverRemoteCents}, "products": products})
}

type ploverSize struct{ L, W, H int64 }

// What Plover asks for covering a parcel: nothing for the first cents, then so much of each thousand.
const (
	ploverCoverFree     = 5_000
	ploverCoverPermille = 12
	ploverCoverLeast    = 100
	ploverCoverMost     = 250_000
)

// covered is what covering a value costs, or why it is not covered.
func covered(value int64, in string) (cents int64, no string) {
	switch {
	case value > 0 && in != "EUR":
		return 0, "covered in EUR only"
	case value > ploverCoverMost:
		return 0, "covered up to 2500 EUR"
	case value > ploverCoverFree:
		cents = ((value-ploverCoverFree)*ploverCoverPermille + 500) / 1000
		cents = max(cents, ploverCoverLeast)
	}
	return cents, ""
}

// charge works out what a parcel costs by a product, or why it is not carried.
func charge(pr ploverProduct, land, postcode string, grams int64, mm ploverSize) (cents int64, zone ploverZone, no string) {
	longest := max(mm.L, mm.W, mm.H)
	if longest > pr.LongestMM {
		return 0, zone, fmt.Sprintf("longer than %d mm", pr.LongestMM)
	}
	if grams > pr.HeaviestG {
		return 0, zone, fmt.Sprintf("heavier than %d g", pr.HeaviestG)
	}
	weight := grams
	if pr.Divisor > 0 {
		cubicMM := mm.L * mm.W * mm.H
		if vol := (cubicMM + pr.Divisor - 1) / pr.Divisor; vol > weight { // mm³ per (cm³/kg) is grams
			weight = vol
		}
	}
	for _, z := range pr.Zones {
		if !has(z.Lands, land) || (len(z.Begin) > 0 && !begins(postcode, z.Begin)) {
			continue
		}
		for _, s := range z.Steps {
			if weight <= s[0] {
				cents = s[1] + (s[1]*ploverFuelPermille+500)/1000
				if begins(postcode, ploverRemote) {
					cents += ploverRemoteCents
				}
				return cents, z, ""
			}
		}
		return 0, z, "too bulky"
	}
	return 0, zone, "not served there"
}

func has(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

func begins(s string, list []string) bool {
	for _, x := range list {
		if strings.HasPrefix(s, x) {
			return true
		}
	}
	return false
}

// arrival counts days on which Plover walks its rounds: all but Sundays.
func arrival(from string, days int) string {
	d, err := time.Parse("2006-01-02", from)
	if err != nil {
		d = time.Now()
	}
	for days > 0 {
		d = d.AddDate(0, 0, 1)
		if d.Weekday() != time.Sunday {
			days--
		}
	}
	return d.Format("2006-01-02")
}

func (p *Plover) apiPrices(w http.ResponseWriter, r *http.Request) {
	var in struct {
		To       struct{ Land, Postcode string } `json:"to"`
		Grams    int64
		MM       ploverSize
		LodgedOn string `json:"lodged_on"`
		Cover    int64
		CoverIn  string `json:"cover_in"`
	}
	if !read(w, r, &in) {
		return
	}
	offers := []map[string]any{}
	for _, pr := range ploverProducts {
		cents, zone, no := charge(pr, in.To.Land, in.To.Postcode, in.Grams, in.MM)
		more, uncovered := covered(in.Cover, in.CoverIn)
		if no == "" {
			cents, no = cents+more, uncovered
		}
		o := map[string]any{"product": pr.Code, "label": pr.Label, "cents": cents, "currency": "EUR"}
		if no != "" {
			o["not_carried"] = no
		} else {
			o["arrives_on"] = arrival(in.LodgedOn, zone.Days)
		}
		offers = append(offers, o)
	}
	answer(w, 200, map[string]any{"offers": offers})
}

// itemNumber makes an S10 number.
func itemNumber(indicator string, serial int, land string) string {
	digits := fmt.Sprintf("%08d", serial)
	sum := 0
	for i, weight := range []int{8, 6, 4, 2, 3, 5, 9, 7} {
		sum += int(digits[i]-'0') * weight
	}
	check := 11 - sum%11
	if check == 10 {
		check = 0
	} else if check == 11 {
		check = 5
	}
	return indicator + digits + strconv.Itoa(check) + land
}

// ploverOrder is what Plover is asked to carry.
type ploverOrder struct {
	Reference string `json:"your_reference"`
	Product   string
	Grams     int64
	MM        ploverSize
	Trial     bool
	LodgedOn  string `json:"lodged_on"`
	Recipient struct{ Contact, Street, Postcode, Town, Land string }
	Charge    struct{ To, Account, Postcode string }
	Counter   string
	Cover     int64
	CoverIn   string `json:"cover_in"`
	Sender    struct{ Land string }
	Customs   struct{ Goods []ploverGoods }
}

func (p *Plover) apiLabel(w http.ResponseWriter, r *http.Request) {
	var in ploverOrder
	if !read(w, r, &in) {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	key := r.Header.Get("Idempotency-Key")
	if key == "" {
		key = in.Reference
	}
	if old := p.byRef[key]; old != nil {
		w.Header().Set("Content-Type", "application/json")
		w.Write(old.Answer)
		return
	}
	refuse := func(text, at string) { answer(w, 422, map[string]any{"reason": text, "at": at}) }
	if in.Counter != "" && p.counterOf(in.Counter) == nil {
		refuse("there is no counter "+in.Counter+" any more", "counter")
		return
	}
	if text := undeclared(in.Customs.Goods, in.Sender.Land, in.Recipient.Land); text != "" {
		refuse(text, "customs")
		return
	}
	if text, at := oddities(in.Recipient.Contact, in.Grams, in.Charge.To, in.Charge.Account); text != "" {
		refuse(text, at)
		return
	}
	for _, pr := range ploverProducts {
		if pr.Code != in.Product {
			continue
		}
		cents, zone, no := charge(pr, in.Recipient.Land, in.Recipient.Postcode, in.Grams, in.MM)
		more, uncovered := covered(in.Cover, in.CoverIn)
		if no == "" {
			cents, no = cents+more, uncovered
		}
		if no != "" {
			refuse(no, "")
			return
		}
		n := len(p.labels) + 1
		indicator := map[string]string{"PL": "RP", "PP": "CP", "PX": "EP"}[pr.Code]
		l := &ploverLabel{No: fmt.Sprintf("PV%06d", n), Reference: key, Product: pr.Code, Item: itemNumber(indicator, p.first()+n*7, "XW"),
			Zone:    zone.Name,
			Sorting: zone.Name + " " + in.Recipient.Postcode[:min(2, len(in.Recipient.Postcode))], Cents: cents, Trial: in.Trial,
			To: in.Recipient.Contact + ", " + in.Recipient.Town, Grams: in.Grams}
		l.Answer, _ = json.Marshal(map[string]any{"label": map[string]any{"no": l.No, "item_number": l.Item,
			"follow": "http://" + r.Host + "/follow/" + l.Item, "product": pr.Label,
			"cents": cents, "currency": "EUR", "zone": zone.Name, "sorting": l.Sorting, "imprint": "Postage paid " + p.cfg.CustomerNo}})
		p.labels = append(p.labels, l)
		p.byRef[key], p.byItem[l.Item] = l, l
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(201)
		w.Write(l.Answer)
		return
	}
	refuse("there is no product "+in.Product, "product")
}

// ploverCounter is where parcels are kept until they are fetched.
type ploverCounter struct {
	No       string `json:"no"`
	Sign     string `json:"sign"`
	Street   string `json:"street"`
	Postcode string `json:"postcode"`
	Town     string `json:"town"`
	Land     string `json:"land"`
	Open     string `json:"open"`
	Metres   int    `json:"metres"`
}

// ploverCounters are two in each town.
var ploverCounters = func() (out []ploverCounter) {
	for i, t := range gazetteer {
		for k, sign := range []string{"Bakery", "Station kiosk"} {
			out = append(
				out,
				ploverCounter{fmt.Sprintf("K%03d", 2*i+k+1), sign + " " + t.Name, []string{"Market Row 1", "Station Yard 3"}[k], t.Code,
					t.Name, t.Land, []string{"Mon-Sat 6-18", "daily 5-23"}[k], 0},
			)
		}
	}
	return out
}()

// counterOf is a counter that is not closed. The caller holds the lock.
func (p *Plover) counterOf(no string) *ploverCounter {
	for i := range ploverCounters {
		if ploverCounters[i].No == no && !p.closed[no] {
			return &ploverCounters[i]
		}
	}
	return nil
}

// CloseCounter closes a counter for good, or opens it again.
func (p *Plover) CloseCounter(no string, closed bool) {
	p.mu.Lock()
	p.closed[no] = closed
	p.mu.Unlock()
}

// apiCounters lists the counters near a postcode: those of the same first two digits.
func (p *Plover) apiCounters(w http.ResponseWriter, r *http.Request) {
	near, land := r.URL.Query().Get("postcode"), r.URL.Query().Get("land")
	out := []ploverCounter{}
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, c := range ploverCounters {
		if c.Land != land || len(near) < 2 || !strings.HasPrefix(c.Postcode, near[:2]) || p.closed[c.No] {
			continue
		}
		c.Metres = 600
		if c.Postcode != near {
			c.Metres = 4200
		}
		out = append(out, c)
	}
	answer(w, 200, map[string]any{"counters": out})
}

// ploverGoods is a customs line.
type ploverGoods struct {
	What, HS string
	MadeIn   string `json:"made_in"`
	Cents    int64
}

// undeclared says what customs lacks of what crosses a border.
func undeclared(goods []ploverGoods, from, to string) string {
	for _, g := range goods {
		if len(g.HS) < 6 || g.MadeIn == "" {
			return "customs wants a code and an origin of " + g.What
		}
	}
	if from != "" && from != to && len(goods) == 0 {
		return "what crosses the border wants customs lines"
	}
	return ""
}

// oddities says what Plover refuses that others take, and about which field.
func oddities(contact string, grams int64, payer, account string) (text, at string) {
	switch {
	case len(strings.Fields(contact)) < 2:
		return "a contact name has at least two words", "contact"
	case payer != "" && payer != "sender" && !accountNumber.MatchString(account):
		return "an account has six digits", "charge"
	case grams > 31500:
		return "over 31.5 kg", "grams"
	}
	return "", ""
}

// accountNumber is what an account of somebody else looks like.
var accountNumber = regexp.MustCompile(`^\d{6}$`)

func (p *Plover) apiVoid(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.labels {
		if l.No == chi.URLParam(r, "no") {
			if l.DayEnd != "" || l.Scans > 0 {
				answer(w, 409, map[string]any{"reason": "already lodged"})
				return
			}
			l.Voided = true
			answer(w, 200, map[string]any{"voided": true})
			return
		}
	}
	answer(w, 404, map[string]any{"reason": "no such label"})
}

func (p *Plover) apiDayEnd(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Reference string `json:"your_reference"`
		Day       string
		Labels    []string
		PickUp    struct{ From, To string } `json:"pick_up"`
	}
	if !read(w, r, &in) {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if old, ok := p.dayEnds[in.Reference]; ok {
		w.Header().Set("Content-Type", "application/json")
		w.Write(old)
		return
	}
	count, no, leftOut := 0, fmt.Sprintf("DE%04d", len(p.dayEnds)+1), []string{}
	for _, want := range in.Labels {
		found := false
		for _, l := range p.labels {
			if l.No == want && !l.Voided {
				found = true
				count++
				l.DayEnd = no
			}
		}
		if !found {
			leftOut = append(leftOut, want)
		}
	}
	if count == 0 {
		answer(w, 422, map[string]any{"reason": "none of these labels is ours"})
		return
	}
	end := map[string]any{"no": no, "count": count, "day": in.Day, "left_out": leftOut}
	if in.PickUp.From != "" {
		end["pick_up"] = in.PickUp.From + "-" + in.PickUp.To
	}
	b, _ := json.Marshal(map[string]any{"day_end": end})
	p.dayEnds[in.Reference] = b
	w.Header().Set("Content-Type", "application/json")
	w.Write(b)
}

var ploverWay = []struct{ kind, text string }{
	{"lodged", "Lodged at the sorting house"}, {"sorted", "Sorted"}, {"on_round", "With the carrier on the round"},
	{"handed_over", "Handed over"},
}

// ploverOff are the scans of what leaves the usual way.
var ploverOff = map[string]struct{ kind, text string }{NotIn: {"card_left", "Nobody in, a card was left"},
	AtCustoms: {
		"with_customs",
		"Waits for customs",
	}, GoingBack: {"going_back", "On its way back"}, BackAgain: {"back_again", "Back at its sender"},
	GoneLost: {"missing", "Given up as missing"}}

// Scan moves a parcel on by one scan and tells whoever listens.
func (p *Plover) Scan(item string) error { return p.ScanAs(item, "") }

// ScanAs moves a parcel on, or off its usual way.
func (p *Plover) ScanAs(item, as string) error {
	p.mu.Lock()
	l := p.byItem[item]
	if l == nil || as == "" && l.Scans >= len(ploverWay) || l.Voided {
		p.mu.Unlock()
		return fmt.Errorf("%s cannot be scanned", item)
	}
	step := ploverOff[as]
	if as == "" {
		step = ploverWay[l.Scans]
		l.Scans++
	}
	p.scanNo++
	body, _ := json.Marshal(
		map[string]any{"scans": []map[string]any{{"topic": "scan", "scan_no": fmt.Sprintf("s%d", p.scanNo), "item_number": item,
			"kind": step.kind, "text": step.text, "at": p.mis.clock().UTC().Format(time.RFC3339)}}})
	hook := p.hook
	p.mu.Unlock()
	if hook == "" {
		return nil
	}
	stamp := strconv.FormatInt(p.mis.clock().Unix(), 10)
	mac := hmac.New(sha256.New, []byte(p.cfg.PushSecret))
	mac.Write([]byte(stamp + "\n" + string(body)))
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, "POST", hook, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Plover-Stamp", stamp)
	req.Header.Set("Plover-Seal", base64.StdEncoding.EncodeToString(mac.Sum(nil)))
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	io.Copy(io.Discard, res.Body)
	res.Body.Close()
	if res.StatusCode >= 300 {
		return fmt.Errorf("told %s: answered %d", hook, res.StatusCode)
	}
	return nil
}

func (p *Plover) control(r chi.Router) {
	r.Get("/control", p.controlPage)
	r.Post("/control/scan", func(w http.ResponseWriter, r *http.Request) {
		p.ScanAs(r.FormValue("item"), r.FormValue("as"))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Post("/control/faults", func(w http.ResponseWriter, r *http.Request) {
		p.mis.set(chosen(r))
		http.Redirect(w, r, "/control", http.StatusSeeOther)
	})
	r.Route("/control/api", func(r chi.Router) {
		r.Get("/labels", func(w http.ResponseWriter, _ *http.Request) {
			p.mu.Lock()
			defer p.mu.Unlock()
			out := []map[string]any{}
			for _, l := range p.labels {
				out = append(out, map[string]any{"no": l.No, "reference": l.Reference,
					"item": l.Item, "product": l.Product, "cents": l.Cents, "trial": l.Trial, "day_end": l.DayEnd, "scans": l.Scans,
					"voided": l.Voided})
			}
			answer(w, 200, map[string]any{"labels": out})
		})
		r.Post("/scan", func(w http.ResponseWriter, r *http.Request) {
			var in struct{ Item, As string }
			if read(w, r, &in) {
				said(w, p.ScanAs(in.Item, in.As))
			}
		})
		r.Post("/counters", func(w http.ResponseWriter, r *http.Request) {
			var in struct {
				No     string
				Closed bool
			}
			if read(w, r, &in) {
				p.CloseCounter(in.No, in.Closed)
				answer(w, 200, map[string]any{"ok": true})
			}
		})
		r.Post("/faults", p.mis.setFaults)
		r.Post("/hook", func(w http.ResponseWriter, r *http.Request) {
			var in struct{ URL string }
			if read(w, r, &in) {
				p.SetHook(in.URL)
				answer(w, 200, map[string]any{"ok": true})
			}
		})
	})
}

// Live lets it live so long ago.
func (p *Plover) Live(ago time.Duration) { p.mis.Live(ago) }
