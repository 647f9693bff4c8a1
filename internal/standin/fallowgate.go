package standin

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"golang.org/x/net/webdav"
)

// GateConfig is a customer's account at the partner warehouse.
type GateConfig struct {
	Customer, Number string
	User, Password   string
	Prefix           string // GS1 company prefix of its shipping containers, 7 digits
	Goods            map[string]int64
	Folder           string // where its trays lie on the disk; empty: in memory
	ByHand           bool   // it does nothing by itself
}

// GateMood is how the warehouse treats what comes, for tests and for those who try it out.
type GateMood struct {
	Refuse  string        `json:"refuse,omitempty"`  // it refuses each order, with this reason
	Silent  bool          `json:"silent,omitempty"`  // it reads and says nothing
	Parts   bool          `json:"parts,omitempty"`   // each line leaves in a parcel of its own
	More    int64         `json:"more,omitempty"`    // it sends so many more of the first line
	TooLate bool          `json:"tooLate,omitempty"` // it calls off nothing any more
	Half    bool          `json:"half,omitempty"`    // its next file lies there half written for a while
	Count   bool          `json:"count,omitempty"`   // its next file has a wrong count
	Twice   bool          `json:"twice,omitempty"`   // its next file comes again under another name
	Pace    time.Duration `json:"pace,omitempty"`    // how long it packs, nanoseconds
}

// Fallowgate is a partner warehouse that speaks UN/EDIFACT in files: an in-tray and an out-tray, reached by WebDAV or as a folder. It
// takes ORDERS and ORDCHG, and answers with CONTRL, ORDRSP, DESADV, INVRPT and INVOIC, in Latin-1. Its second way are tables (CSV).
type Fallowgate struct {
	cfg GateConfig
	mis mischief
	http.Handler
	fs webdav.FileSystem

	mu     sync.Mutex
	mood   GateMood
	orders []*gateOrder
	stock  map[string]int64
	told   map[string]bool // interchanges that were read
	moved  bool            // stock moved since the last report
	files  int             // that were written
	sscc   int64
	later  []gateFile // what is laid there a step later
	end    chan struct{}
	ended  sync.Once
}

type gateFile struct {
	name string
	body []byte
}

type gateOrder struct {
	Ref, No, To, State string // accepted, packed, sent, called off, refused
	Notes              string // what was written for who packs, and how the buyer is reached
	Lines              []gateLine
	Parcels            []string
	At                 time.Time
	Trial, Billed      bool
	Sheets             bool // it was asked by tables
}

// NewFallowgate opens the warehouse.
func NewFallowgate(cfg GateConfig) *Fallowgate {
	g := &Fallowgate{cfg: cfg, fs: webdav.NewMemFS(), stock: map[string]int64{}, told: map[string]bool{}, moved: true,
		end: make(chan struct{})}
	if cfg.Folder != "" {
		g.fs = webdav.Dir(cfg.Folder)
	}
	for sku, n := range cfg.Goods {
		g.stock[sku] = n
	}
	for _, dir := range []string{"in", "in/read", "out", sheetTrays, sheetTrays + "/in", sheetTrays + "/in/read", sheetTrays + "/out"} {
		_ = g.fs.Mkdir(context.Background(), dir, 0o755)
	}
	r := chi.NewRouter()
	g.control(r)
	trays := g.mis.around(g.known(&webdav.Handler{Prefix: "/trays", FileSystem: g.fs, LockSystem: webdav.NewMemLS()}))
	g.Handler = http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		// with methods of WebDAV, which the router does not know
		if req.URL.Path == "/trays" || strings.HasPrefix(req.URL.Path, "/trays/") {
			trays.ServeHTTP(w, req)
			return
		}
		r.ServeHTTP(w, req)
	})
	if !cfg.ByHand {
		go g.live()
	}
	return g
}

// live works by itself until it is stopped.
func (g *Fallowgate) live() {
	t := time.NewTicker(300 * time.Millisecond)
	defer t.Stop()
	for {
		select {
		case <-g.end:
			return
		case <-t.C:
			g.Work()
		}
	}
}

// Stop ends it.
func (g *Fallowgate) Stop() { g.ended.Do(func() { close(g.end) }) }

// Misbehave switches faults of its file place on, or off with the zero value.
func (g *Fallowgate) Misbehave(f Faults) { g.mis.set(f) }

// Live lets it live so long ago.
func (g *Fallowgate) Live(ago time.Duration) { g.mis.Live(ago) }

// Mood says how it treats what comes from now on.
func (g *Fallowgate) Mood(m GateMood) { g.mu.Lock(); g.mood = m; g.mu.Unlock() }

// Count sets how many of a thing lie there, as its people count it.
func (g *Fallowgate) Count(sku string, n int64) {
	g.mu.Lock()
	g.stock[sku], g.moved = n, true
	g.mu.Unlock()
}

// Lies tells how many of a thing lie there.
func (g *Fallowgate) Lies(sku string) int64 { g.mu.Lock(); defer g.mu.Unlock(); return g.stock[sku] }

// GateOrder is an order as the warehouse has it.
type GateOrder struct {
	Ref, State string
	Units      int64
	Parcels    []string
	Trial      bool
}

// Orders lists what it was asked to send, the oldest first.
func (g *Fallowgate) Orders() []GateOrder {
	g.mu.Lock()
	defer g.mu.Unlock()
	out := make([]GateOrder, len(g.orders))
	for i, o := range g.orders {
		out[i] = GateOrder{Ref: o.Ref, State: o.State, Parcels: slices.Clone(o.Parcels), Trial: o.Trial}
		for _, l := range o.Lines {
			out[i].Units += l.Qty
		}
	}
	return out
}

func (g *Fallowgate) known(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if user, password, ok := r.BasicAuth(); !ok || user != g.cfg.User || password != g.cfg.Password {
			w.Header().Set("WWW-Authenticate", `Basic realm="Fallowgate trays"`)
			http.Error(w, "name or password is wrong", 401)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// Work does one round: what lies in the in-tray is read and answered, what is ready leaves, what moved is reported.
func (g *Fallowgate) Work() {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, f := range g.later {
		g.lay(f.name, f.body)
	}
	g.later = nil
	var out []gateMessage
	for _, name := range g.list("in") {
		out = append(out, g.read(name)...)
	}
	g.workSheets()
	now := g.mis.clock()
	var sheets []gateMessage
	for _, o := range g.orders {
		if o.State != "accepted" || now.Sub(o.At) < g.mood.Pace {
			continue
		}
		if packed := g.pack(o, now); o.Sheets {
			sheets = append(sheets, packed...)
		} else {
			out = append(out, packed...)
		}
	}
	g.write("FG", out, now)
	g.writeSheets(sheets)
	if g.moved && !g.mood.Silent {
		g.moved = false
		report := []gateMessage{g.report(now)}
		g.write("LEV", report, now)
		g.writeSheets(report)
	}
}

func (g *Fallowgate) list(dir string) (names []string) {
	f, err := g.fs.OpenFile(context.Background(), dir, os.O_RDONLY, 0)
	if err != nil {
		return nil
	}
	defer f.Close()
	infos, _ := f.Readdir(0)
	for _, i := range infos {
		if !i.IsDir() && !strings.HasPrefix(i.Name(), ".") {
			names = append(names, path.Join(dir, i.Name()))
		}
	}
	slices.Sort(names)
	return names
}

// read takes a file out of the in-tray and answers it.
func (g *Fallowgate) read(name string) (out []gateMessage) {
	ctx := context.Background()
	f, err := g.fs.OpenFile(ctx, name, os.O_RDONLY, 0)
	if err != nil {
		return nil
	}
	raw, err := io.ReadAll(f)
	f.Close()
	if err != nil {
		return nil
	}
	_ = g.fs.RemoveAll(ctx, path.Join("in/read", path.Base(name)))
	if err := g.fs.Rename(ctx, name, path.Join("in/read", path.Base(name))); err != nil {
		return nil
	}
	sender, ref, asks, wrong := readAsks(fromLatin1(raw))
	if g.mood.Silent {
		return nil
	}
	g.receipt(sender, ref, wrong)
	if wrong != "" {
		return nil
	}
	for _, a := range asks {
		if m := g.answer(a); m != nil {
			out = append(out, *m)
		}
	}
	return out
}

// receipt says whether an interchange could be read.
func (g *Fallowgate) receipt(sender, ref, wrong string) {
	m := gateMessage{kind: "CONTRL"}
	code := "7"
	if wrong != "" {
		code = "4"
	}
	m.add("UCI+%s+%s:14+FALLOWGATE:14+%s", ref, sender, code)
	g.write("CTL", []gateMessage{m}, g.mis.clock())
}

// answer says what becomes of an order, or of the wish to call one off. The same under the same number is not done twice.
func (g *Fallowgate) answer(a gateAsk) *gateMessage {
	m := &gateMessage{kind: "ORDRSP"}
	if a.kind == "ORDCHG" {
		return g.stop(a, m)
	}
	for _, o := range g.orders {
		if o.Ref == a.ref {
			m.add("BGM+231+%s+%s", o.No, gateCodes[o.State])
			m.add("RFF+ON:%s", o.Ref)
			return m
		}
	}
	o := &gateOrder{Ref: a.ref, No: fmt.Sprintf("F%d", 5000+len(g.orders)), To: strings.Join(a.to, ", "), Notes: strings.Join(a.notes,
		"; "),
		State: "accepted", Lines: a.lines, At: g.mis.clock(), Trial: a.trial, Sheets: a.sheets}
	g.orders = append(g.orders, o)
	why, code := g.mood.Refuse, ""
	var unknown []gateLine
	short := false
	for _, l := range a.lines {
		n, there := g.stock[l.SKU]
		if !there {
			unknown = append(unknown, l)
		}
		short = short || n < l.Qty
	}
	if len(unknown) > 0 {
		g.orders = g.orders[:len(g.orders)-1] // it may come again under its number, once its name is known
		o.State, why, code = "refused", "not in our catalogue", "UNK"
	}
	switch {
	case why != "":
		o.State = "refused"
		m.add("BGM+231+%s+27", o.No)
		m.add("RFF+ON:%s", o.Ref)
		m.add("FTX+AAO++%s+%s", code, why)
		for _, l := range unknown {
			m.add("LIN+%s++%s:SA", l.No, l.SKU)
			m.add("QTY+113:0")
		}
		return m
	case short:
		return g.less(o, m)
	}
	m.add("BGM+231+%s+29", o.No)
	m.add("DTM+2:%s:102", o.At.Add(g.mood.Pace).UTC().Format("20060102"))
	m.add("RFF+ON:%s", o.Ref)
	return m
}

var gateCodes = map[string]string{"accepted": "29", "sent": "29", "refused": "27", "called off": "1"}

// less takes as much of an order as lies there.
func (g *Fallowgate) less(o *gateOrder, m *gateMessage) *gateMessage {
	m.add("BGM+231+%s+4", o.No)
	m.add("RFF+ON:%s", o.Ref)
	m.add("FTX+AAO++SHT+less lies here")
	kept := o.Lines[:0]
	for _, l := range o.Lines {
		l.Qty = min(l.Qty, max(0, g.stock[l.SKU]))
		m.add("LIN+%s++%s:SA", l.No, l.SKU)
		m.add("QTY+113:%d", l.Qty)
		if l.Qty > 0 {
			kept = append(kept, l)
		}
	}
	if o.Lines = kept; len(kept) == 0 {
		o.State = "refused"
	}
	return m
}

// stop answers the wish not to send what was ordered.
func (g *Fallowgate) stop(a gateAsk, m *gateMessage) *gateMessage {
	for _, o := range g.orders {
		if o.Ref != a.order {
			continue
		}
		if o.State == "accepted" && !g.mood.TooLate {
			o.State = "called off"
		}
		if o.State == "called off" || o.State == "refused" {
			m.add("BGM+231+%s+1", o.No)
			m.add("RFF+ON:%s", o.Ref)
			return m
		}
		m.add("BGM+231+%s+27", o.No)
		m.add("RFF+ON:%s", o.Ref)
		m.add("RFF+ACW:%s", a.ref)
		m.add("FTX+AAO++LAT+it is on the van")
		return m
	}
	m.add("BGM+231+0+1")
	m.add("RFF+ON:%s", a.order)
	return m
}

// pack sends an order and says in which parcels.
func (g *Fallowgate) pack(o *gateOrder, now time.Time) (out []gateMessage) {
	parcels := [][]gateLine{o.Lines}
	if g.mood.Parts {
		parcels = nil
		for _, l := range o.Lines {
			parcels = append(parcels, []gateLine{l})
		}
	}
	for i, lines := range parcels {
		sscc := g.number()
		o.Parcels = append(o.Parcels, sscc)
		m := gateMessage{kind: "DESADV"}
		m.add("BGM+351+%s+9", fmt.Sprintf("D%s-%d", o.No, i+1))
		m.add("DTM+11:%s:204", now.UTC().Format("20060102150405"))
		m.add("RFF+ON:%s", o.Ref)
		m.add("TDT+20+++31:::Rail+:::Ironway")
		m.add("CPS+1")
		m.add("PAC+1++CT")
		m.add("GIN+BJ+%s", sscc)
		for k, l := range lines {
			if i == 0 && k == 0 {
				l.Qty += g.mood.More
			}
			m.add("LIN+%s++%s:SA", l.No, l.SKU)
			m.add("QTY+12:%d", l.Qty)
			if !o.Trial {
				g.stock[l.SKU] -= l.Qty
				g.moved = true
			}
		}
		out = append(out, m)
	}
	o.State = "sent"
	return out
}

// number is the next SSCC (GS1 General Specifications): 18 digits, the last one checks.
func (g *Fallowgate) number() string {
	g.sscc++
	return sscc(g.cfg.Prefix, int(g.sscc))
}

// report tells all that lies there.
func (g *Fallowgate) report(now time.Time) gateMessage {
	m := gateMessage{kind: "INVRPT"}
	m.add("BGM+35+%s+9", fmt.Sprintf("I%d", g.files))
	m.add("DTM+137:%s:204", now.UTC().Format("20060102150405"))
	var skus []string
	for sku := range g.stock {
		skus = append(skus, sku)
	}
	slices.Sort(skus)
	for i, sku := range skus {
		m.add("LIN+%d++%s:SA", i+1, sku)
		m.add("QTY+145:%d", g.stock[sku])
	}
	m.add("CNT+2:%d", len(skus))
	return m
}

// Bill bills what was sent and not billed yet: so much an order, and so much a unit, cents.
func (g *Fallowgate) Bill(order, unit int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	now := g.mis.clock()
	for _, sheets := range []bool{false, true} {
		g.bill(sheets, order, unit, now)
	}
}

// bill bills what was asked by tables, or what was not.
func (g *Fallowgate) bill(sheets bool, order, unit int64, now time.Time) {
	m := gateMessage{kind: "INVOIC"}
	m.add("BGM+380+%s+9", fmt.Sprintf("FGB-%s-%d", now.UTC().Format("2006-01"), g.files))
	n := 0
	for _, o := range g.orders {
		if o.State != "sent" || o.Billed || o.Trial || o.Sheets != sheets {
			continue
		}
		o.Billed = true
		var units int64
		for _, l := range o.Lines {
			units += l.Qty
		}
		for _, row := range []struct {
			what   string
			amount int64
		}{{"order", order}, {"units", unit * units}} {
			n++
			m.add("LIN+%d++%s:SA", n, strings.ToUpper(row.what))
			m.add("IMD+F++:::%s", row.what)
			m.add("MOA+203:%s", dec(row.amount))
			m.add("RFF+ON:%s", o.Ref)
		}
	}
	m.add("UNS+S")
	switch {
	case n == 0:
	case sheets:
		g.writeSheets([]gateMessage{m})
	default:
		g.write("INV", []gateMessage{m}, now)
	}
}

// write lays a file into the out-tray, whole or as the mood is.
func (g *Fallowgate) write(kind string, list []gateMessage, now time.Time) {
	if len(list) == 0 {
		return
	}
	g.files++
	name := fmt.Sprintf("%s%05d.edi", kind, g.files)
	body := interchange("FALLOWGATE", "MORROWHIVE", g.files, now, list)
	switch {
	case kind == "CTL":
	case g.mood.Count:
		g.mood.Count = false
		g.later = append(g.later, gateFile{name, body})
		body = []byte(strings.Replace(string(body), "'UNT+", "'UNT+9", 1))
		name = strings.Replace(name, ".edi", "b.edi", 1)
	case g.mood.Half:
		g.mood.Half = false
		g.later = append(g.later, gateFile{name, body})
		body = body[:len(body)/2]
	case g.mood.Twice:
		g.mood.Twice = false
		g.later = append(g.later, gateFile{strings.Replace(name, ".edi", "x.edi", 1), body})
	}
	g.lay(name, body)
}

func (g *Fallowgate) lay(name string, body []byte) { g.layIn("out", name, body) }

func (g *Fallowgate) layIn(tray, name string, body []byte) {
	f, err := g.fs.OpenFile(context.Background(), path.Join(tray, name), os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o644)
	if err != nil {
		return
	}
	_, err = f.Write(body)
	_ = errors.Join(err, f.Close())
}
