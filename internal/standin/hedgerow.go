package standin

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// ShopConfig is one Hedgerow store.
type ShopConfig struct {
	Name, Number, Country, Currency string
	OrderPrefix                     string
	Token, PushSecret               string
	Accent                          string // colour of the storefront
	Items                           []ShopItem
	ByHand                          bool // nothing is pushed unless PushNext is called
}

// ShopItem is an item on a store's shelf. Price is in hundredths.
type ShopItem struct {
	ID       string `json:"id"`
	SKU      string `json:"sku"`
	Title    string `json:"title"`
	Barcode  string `json:"barcode"`
	Group    string `json:"group"`
	Price    int64  `json:"-"`
	Quantity int64  `json:"quantity"`
	About    string `json:"about"`
	Hidden   bool   `json:"hidden"`
	sequence int64
}

type shopLine struct {
	ID    string
	SKU   string
	Title string
	Qty   int64
	Price int64
	Off   int64
	Text  string // to be engraved
}

type shopParcel struct {
	ID        string           `json:"id"`
	Reference string           `json:"reference"`
	Carrier   string           `json:"carrier"`
	Service   string           `json:"service"`
	Tracking  string           `json:"tracking"`
	Link      string           `json:"tracking_link"`
	Lines     []shopParcelLine `json:"lines"`
	Withdrawn bool             `json:"withdrawn,omitempty"`
	Is        string           `json:"is,omitempty"`   // how it stands, as it was told
	Text      string           `json:"text,omitempty"` // what its carrier says
}

type shopParcelLine struct {
	LineID   string `json:"line_id"`
	Quantity int64  `json:"quantity"`
}

// Delivery is where and how a shopper wants an order.
type Delivery struct {
	Name     string  `json:"name"`
	Company  string  `json:"company"`
	Street   string  `json:"street"`
	Extra    string  `json:"extra"`
	Postcode string  `json:"postcode"`
	Town     string  `json:"town"`
	Country  string  `json:"country"`
	Phone    string  `json:"phone"`
	Method   string  `json:"method"`
	Promised string  `json:"promised,omitempty"` // day by which the shop said that it is there
	Window   *window `json:"window,omitempty"`
}

type window struct {
	From string `json:"from"`
	To   string `json:"to"`
}

type shopOrder struct {
	ID, Name, State string
	Revision        int64
	Placed, Changed time.Time
	Customer, Email string
	Delivery        Delivery
	Lines           []shopLine
	Shipping, Off   int64
	Method, Note    string
	Gift            string // note to be put into the parcel
	Refunds         []shopRefund
	cancelled       map[string]bool // references of cancellations that were told
	Progress        string          // as we were told: in_hand, handed_over
	Paid            bool
	Parcels         []shopParcel
	TotalOff        int64 // makes the total wrong, to practise
}

// Hedgerow is a running web store.
type Hedgerow struct {
	cfg ShopConfig
	mis mischief
	http.Handler

	mu       sync.Mutex
	items    []*ShopItem
	index    map[string]*ShopItem // by SKU; made when it is needed
	orders   []*shopOrder
	byID     map[string]*shopOrder
	answers  map[string][]byte // by idempotency key
	hook     string            // whom we call when something changes
	options  string            // whom we ask for delivery choices
	base     string            // where people open this store
	lastTime time.Time
	pending  []pendingPush
	returns  []*shopReturn
	wake     chan struct{}
	pushes   int
	pushFail int
	stopped  chan struct{}
	forget   int              // so many parcels are accepted and forgotten
	edited   map[string]int64 // by how much people changed quantities by hand, by SKU
}

// NewHedgerow opens a store. Close it with Stop.
func NewHedgerow(cfg ShopConfig) *Hedgerow {
	h := &Hedgerow{cfg: cfg, byID: map[string]*shopOrder{}, edited: map[string]int64{}, answers: map[string][]byte{},
		wake: make(chan struct{}, 1), stopped: make(chan struct{})}
	for i, it := range cfg.Items {
		it.ID = fmt.Sprintf("i%d", 500+i)
		h.items = append(h.items, &it)
	}
	r := chi.NewRouter()
	r.Route("/api", func(r chi.Router) {
		r.Use(h.mis.around, h.bearer)
		r.Get("/shop", func(w http.ResponseWriter, _ *http.Request) {
			answer(w, 200, map[string]any{"shop": map[string]any{"name": cfg.Name, "number": cfg.Number, "country": cfg.Country}})
		})
		r.Get("/items", h.apiItems)
		r.Put("/items/{sku}", h.apiItem)
		r.Get("/orders", h.apiOrders)
		r.Get("/orders/{id}", h.apiOrder)
		r.Put("/stock", h.apiStock)
		r.Post("/orders/{id}/parcels", h.apiParcel)
		r.Post("/orders/{id}/refunds", h.apiRefund)
		r.Get("/send-backs", h.apiReturns)
		r.Post("/orders/{id}/progress", h.apiProgress)
		r.Post("/orders/{id}/cancellations", h.apiCancellation)
	})
	h.pages(r)
	h.control(r)
	h.Handler = r
	if !cfg.ByHand {
		go h.pushLoop()
	}
	return h
}

// Misbehave switches faults on, or off with the zero value.
func (h *Hedgerow) Misbehave(f Faults) { h.mis.set(f) }

// ForgetParcels lets the store accept the next n parcels and forget them.
func (h *Hedgerow) ForgetParcels(n int) {
	h.mu.Lock()
	h.forget = n
	h.mu.Unlock()
}

// Stop ends the store's pushing.
func (h *Hedgerow) Stop() { close(h.stopped) }

// SetHook says whom the store calls.
func (h *Hedgerow) SetHook(url string) {
	h.mu.Lock()
	h.hook = url
	h.mu.Unlock()
}

// Shelf lists the quantities that the store shows, by SKU.
func (h *Hedgerow) Shelf() map[string]int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := make(map[string]int64, len(h.items))
	for _, it := range h.items {
		out[it.SKU] = it.Quantity
	}
	return out
}

// SetBase says at which address people open the store; links in its records begin with it.
func (h *Hedgerow) SetBase(url string) {
	h.mu.Lock()
	h.base = url
	h.mu.Unlock()
}

func (h *Hedgerow) bearer(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer "+h.cfg.Token {
			answer(w, 401, map[string]any{"error": "the access token is not one of ours"})
			return
		}
		next.ServeHTTP(w, r)
	})
}

// stamp returns the time, never the same twice.
func (h *Hedgerow) stamp() time.Time {
	t := h.mis.clock().UTC().Truncate(time.Microsecond)
	if !t.After(h.lastTime) {
		t = h.lastTime.Add(time.Microsecond)
	}
	h.lastTime = t
	return t
}

const stampForm = "2006-01-02T15:04:05.000000Z07:00"

func dec(cents int64) string {
	sign := ""
	if cents < 0 {
		sign, cents = "-", -cents
	}
	return fmt.Sprintf("%s%d.%02d", sign, cents/100, cents%100)
}

func (o *shopOrder) goods() (sum int64) {
	for _, l := range o.Lines {
		sum += l.Qty*l.Price - l.Off
	}
	return sum
}

func (o *shopOrder) total() int64 { return o.goods() + o.Shipping - o.Off + o.TotalOff }

// tax is the part of an amount that is tax, at 20 per cent included.
func tax(gross int64) int64 { return (gross*20 + 60) / 120 }

func (h *Hedgerow) record(o *shopOrder) map[string]any {
	lines := make([]map[string]any, len(o.Lines))
	for i, l := range o.Lines {
		sum := l.Qty*l.Price - l.Off
		lines[i] = map[string]any{"line_id": l.ID, "sku": l.SKU, "title": l.Title, "quantity": l.Qty, "price": dec(l.Price),
			"discount": dec(l.Off), "tax": dec(tax(sum)), "tax_rate": 200, "total": dec(sum), "engraving": l.Text}
	}
	parcels := o.Parcels
	if parcels == nil {
		parcels = []shopParcel{}
	}
	return map[string]any{
		"id": o.ID, "name": o.Name, "state": o.State, "revision": o.Revision, "placed_at": o.Placed.Format(stampForm),
		"changed_at": o.Changed.Format(stampForm),
		"currency":   h.cfg.Currency, "tax_included": true, "customer": map[string]any{"name": o.Customer, "email": o.Email},
		"delivery": o.Delivery,
		"lines":    lines, "shipping_price": dec(o.Shipping), "discount": dec(o.Off), "tax": dec(tax(o.total())), "total": dec(o.total()),
		"payment": map[string]any{"method": o.Method, "paid": o.Paid}, "note": o.Note, "gift_note": o.Gift, "progress": o.Progress,
		"admin_url": h.base + "/admin/orders/" + o.ID, "parcels": parcels, "refunds": append([]shopRefund{}, o.Refunds...),
	}
}

// changed gives an order its next revision and tells whoever listens. The caller holds the lock.
func (h *Hedgerow) changed(o *shopOrder) {
	o.Revision++
	o.Changed = h.stamp()
	h.tell(map[string]any{"topic": "order", "order": h.record(o)})
}

func (h *Hedgerow) tell(event map[string]any) {
	if h.hook == "" {
		return
	}
	late := time.Duration(h.mis.now().PushLateMS) * time.Millisecond
	h.pending = append(h.pending, pendingPush{event, time.Now().Add(late)})
	select {
	case h.wake <- struct{}{}:
	default:
	}
}

// Sale is an order to be placed.
type Sale struct {
	Lines    []SaleLine `json:"lines"`
	Customer string     `json:"customer"`
	Email    string     `json:"email"`
	Delivery Delivery   `json:"delivery"`
	Shipping int64      `json:"shipping"`
	Note     string     `json:"note"`
	Gift     string     `json:"gift_note"`
	Method   string     `json:"method"`
	Pending  bool       `json:"pending"`   // not paid yet
	TotalOff int64      `json:"total_off"` // wrong total, to practise
	// PlacedAgo dates the order back by so many seconds.
	PlacedAgo int `json:"placed_ago"`
}

// SaleLine is a quantity of an item in a sale. A SKU that the shelf does not have is sold all the same
// if Title is set: stores contain such things.
type SaleLine struct {
	SKU   string `json:"sku"`
	Qty   int64  `json:"quantity"`
	Title string `json:"title"`
	Price int64  `json:"price"`
	Text  string `json:"engraving"`
}

var errSoldOut = errors.New("sold out")

func (h *Hedgerow) item(sku string) *ShopItem {
	if len(h.index) != len(h.items) {
		h.index = make(map[string]*ShopItem, len(h.items))
		for _, it := range h.items {
			h.index[it.SKU] = it
		}
	}
	return h.index[sku]
}

// Place sells: stock goes down at once, and the order is told to whoever listens.
func (h *Hedgerow) Place(s Sale) (id, name string, err error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := &shopOrder{Customer: s.Customer, Email: s.Email, Delivery: s.Delivery, Shipping: s.Shipping, Note: s.Note, Gift: s.Gift,
		Method: s.Method, Paid: !s.Pending, State: "confirmed", TotalOff: s.TotalOff}
	if s.Pending {
		o.State = "awaiting"
	}
	if o.Method == "" {
		o.Method = "card"
	}
	for i, l := range s.Lines {
		if l.Qty < 1 {
			return "", "", fmt.Errorf("line %d: quantity %d", i+1, l.Qty)
		}
		it := h.item(l.SKU)
		if it == nil && l.Title == "" {
			return "", "", fmt.Errorf("line %d: there is no %s here", i+1, l.SKU)
		}
		line := shopLine{ID: fmt.Sprintf("L%d", i+1), SKU: l.SKU, Title: l.Title, Qty: l.Qty, Price: l.Price, Text: l.Text}
		if it != nil {
			if it.Quantity < l.Qty {
				return "", "", fmt.Errorf("%w: %s", errSoldOut, it.Title)
			}
			line.Title, line.Price = it.Title, it.Price
		}
		o.Lines = append(o.Lines, line)
	}
	if len(o.Lines) == 0 {
		return "", "", errors.New("the basket is empty")
	}
	for _, l := range s.Lines {
		if it := h.item(l.SKU); it != nil {
			it.Quantity -= l.Qty
		}
	}
	n := len(h.orders) + 1
	o.ID, o.Name = fmt.Sprintf("%s-o%d", strings.ToLower(h.cfg.OrderPrefix), n), fmt.Sprintf("%s-%d", h.cfg.OrderPrefix, 1000+n)
	o.Placed = h.stamp().Add(-time.Duration(s.PlacedAgo) * time.Second)
	h.orders = append(h.orders, o)
	h.byID[o.ID] = o
	h.changed(o)
	return o.ID, o.Name, nil
}

// Cancel calls an order off and puts the goods back on the shelf.
func (h *Hedgerow) Cancel(id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[id]
	if o == nil {
		return errors.New("no such order")
	}
	if o.State == "cancelled" {
		return nil
	}
	if o.State != "sent" {
		for _, l := range o.Lines {
			if it := h.item(l.SKU); it != nil {
				it.Quantity += l.Qty
			}
		}
	}
	o.State = "cancelled"
	h.changed(o)
	return nil
}

// Change lowers quantities of an order's lines, by line number (0 takes the line away), or changes where it
// goes. What is taken off goes back on the shelf.
func (h *Hedgerow) Change(id string, quantities map[string]int64, to *Delivery) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[id]
	if o == nil || o.State == "cancelled" || o.State == "sent" {
		return errors.New("no such order can be changed")
	}
	lines := o.Lines[:0:0]
	back := map[string]int64{}
	for _, l := range o.Lines {
		if n, ok := quantities[l.ID]; ok && n < l.Qty {
			back[l.SKU] += l.Qty - n
			l.Qty = n
		}
		if l.Qty > 0 {
			lines = append(lines, l)
		}
	}
	if len(lines) == 0 {
		return errors.New("an order without lines is cancelled instead")
	}
	for sku, n := range back {
		if it := h.item(sku); it != nil {
			it.Quantity += n
		}
	}
	o.Lines = lines
	if to != nil {
		o.Delivery = *to
	}
	h.changed(o)
	return nil
}

// apiCancellation takes units off an order that are not sent; the same reference takes them off once.
func (h *Hedgerow) apiCancellation(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Reference, Reason string
		Lines             []struct {
			ID       string `json:"line_id"`
			Quantity int64
		}
	}
	if !read(w, r, &in) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[chi.URLParam(r, "id")]
	switch {
	case o == nil:
		answer(w, 404, map[string]any{"error": "no such order"})
		return
	case in.Reference == "":
		answer(w, 422, map[string]any{"error": "reference is needed"})
		return
	case o.cancelled[in.Reference] || o.State == "cancelled":
		answer(w, 200, map[string]any{"order": h.record(o)})
		return
	case o.State == "sent":
		answer(w, 409, map[string]any{"error": "the order is sent"})
		return
	}
	off := map[string]int64{}
	for _, l := range in.Lines {
		off[l.ID] += l.Quantity
	}
	kept := o.Lines[:0:0]
	for _, l := range o.Lines {
		n := min(off[l.ID], l.Qty)
		if it := h.item(l.SKU); it != nil {
			it.Quantity += n
		}
		if l.Qty -= n; l.Qty > 0 {
			kept = append(kept, l)
		}
	}
	if len(kept) == 0 {
		o.State = "cancelled"
	} else {
		o.Lines = kept
	}
	if o.cancelled == nil {
		o.cancelled = map[string]bool{}
	}
	o.cancelled[in.Reference] = true
	h.changed(o)
	answer(w, 200, map[string]any{"order": h.record(o)})
}

// apiProgress takes how far the order is with whoever works on it.
func (h *Hedgerow) apiProgress(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Progress, By string
		Parcel       struct{ Number, Is, At, Text string }
	}
	if !read(w, r, &in) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[chi.URLParam(r, "id")]
	switch {
	case o == nil:
		answer(w, 404, map[string]any{"error": "no such order"})
	case in.Parcel.Number != "":
		for i := range o.Parcels {
			if o.Parcels[i].Tracking == in.Parcel.Number {
				o.Parcels[i].Is, o.Parcels[i].Text = in.Parcel.Is, in.Parcel.Text
			}
		}
		answer(w, 200, map[string]any{"order": map[string]any{"id": o.ID, "progress": o.Progress}})
	case in.Progress != "in_hand" && in.Progress != "handed_over":
		answer(w, 422, map[string]any{"error": "progress is in_hand or handed_over"})
	case o.State == "cancelled":
		answer(w, 409, map[string]any{"error": "the order is cancelled"})
	default:
		if o.Progress != in.Progress {
			o.Progress = in.Progress
			if in.Progress == "handed_over" {
				o.State = "sent"
			}
			h.changed(o)
		}
		answer(w, 200, map[string]any{"order": map[string]any{"id": o.ID, "progress": o.Progress}})
	}
}

// Book lists the orders by their state, as the store would tell a customer.
func (h *Hedgerow) Book() map[string]string {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := make(map[string]string, len(h.orders))
	for _, o := range h.orders {
		out[o.ID] = o.State
	}
	return out
}

// Whereabouts is how a parcel stands, as a customer sees it; empty: nothing was told of it.
func (h *Hedgerow) Whereabouts(tracking string) string {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, o := range h.orders {
		for _, p := range o.Parcels {
			if p.Tracking == tracking && !p.Withdrawn {
				return p.Is
			}
		}
	}
	return ""
}

// Trackings lists the tracking numbers that stand at an order, by the parcels' references.
func (h *Hedgerow) Trackings(id string) map[string]string {
	h.mu.Lock()
	defer h.mu.Unlock()
	out := map[string]string{}
	if o := h.byID[id]; o != nil {
		for _, p := range o.Parcels {
			out[p.Reference] = p.Tracking
		}
	}
	return out
}

// Waiting tells how many events wait to be pushed.
func (h *Hedgerow) Waiting() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.pending)
}

// PushNext delivers one of the waiting events, the nth, in the caller's goroutine; lose forgets it instead. It tells
// whether it was accepted.
func (h *Hedgerow) PushNext(client *http.Client, nth int, lose bool) bool {
	h.mu.Lock()
	if nth >= len(h.pending) {
		h.mu.Unlock()
		return false
	}
	event, hook := h.pending[nth].event, h.hook
	h.pending = append(h.pending[:nth:nth], h.pending[nth+1:]...)
	h.mu.Unlock()
	return !lose && h.deliverOnce(client, hook, []map[string]any{event}) < 300
}

// Complete marks a pending order as paid.
func (h *Hedgerow) Complete(id string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[id]
	if o == nil || o.State != "awaiting" {
		return errors.New("no such order awaits payment")
	}
	o.State, o.Paid = "confirmed", true
	h.changed(o)
	return nil
}

// EditStock sets a quantity by hand, as somebody in the store's admin does.
func (h *Hedgerow) EditStock(sku string, qty int64, by string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	it := h.item(sku)
	if it == nil {
		return fmt.Errorf("there is no %s here", sku)
	}
	if qty < 0 {
		return fmt.Errorf("quantity %d", qty)
	}
	was := it.Quantity
	it.Quantity = qty
	h.edited[sku] += qty - was
	it.sequence = h.stamp().UnixMicro()
	h.tell(map[string]any{"topic": "stock", "stock": map[string]any{"sku": sku, "quantity": qty, "was": was, "sequence": it.sequence,
		"at": h.lastTime.Format(stampForm), "by": by}})
	return nil
}

// Item is an item on the shelf as it is now; the zero value where there is none.
func (h *Hedgerow) Item(sku string) ShopItem {
	h.mu.Lock()
	defer h.mu.Unlock()
	if it := h.item(sku); it != nil {
		return *it
	}
	return ShopItem{}
}

// Put puts items on the shelf that are not there yet.
func (h *Hedgerow) Put(items ...ShopItem) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, it := range items {
		it.ID = fmt.Sprintf("i%d", 500+len(h.items))
		h.items = append(h.items, &it)
	}
	h.index = nil
}

// Edited tells by how much people have changed the quantity of an item by hand, in sum.
func (h *Hedgerow) Edited(sku string) int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.edited[sku]
}

// pendingPush is an event that is to be pushed, and not before when.
type pendingPush struct {
	event map[string]any
	due   time.Time
}

// nextPush takes the events that are due, at most 100 and in the order in which they happened, with whom to call; none where the first
// has to wait so long, or below 0: until there is one.
func (h *Hedgerow) nextPush() (events []map[string]any, hook string, wait time.Duration) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.pending) == 0 {
		return nil, "", -1
	}
	now := time.Now()
	n := 0
	for n < min(len(h.pending), 100) && !h.pending[n].due.After(now) {
		events = append(events, h.pending[n].event)
		n++
	}
	if n == 0 {
		return nil, "", h.pending[0].due.Sub(now)
	}
	h.pending = h.pending[n:]
	return events, h.hook, 0
}

// pushLoop delivers events in batches of at most 100, again and again until they are accepted or it
// loses patience: then only reading brings them.
func (h *Hedgerow) pushLoop() {
	client := &http.Client{Timeout: 10 * time.Second}
	for {
		events, hook, wait := h.nextPush()
		if len(events) == 0 {
			var due <-chan time.Time
			if wait >= 0 {
				due = time.After(wait)
			}
			select {
			case <-h.stopped:
				return
			case <-h.wake:
			case <-due:
			}
			continue
		}
		f := h.mis.now()
		if f.PushNever {
			continue
		}
		if f.PushMixed {
			rand.Shuffle(len(events), func(i, j int) { events[i], events[j] = events[j], events[i] })
		}
		h.deliver(client, hook, events)
		if f.PushTwice {
			h.deliver(client, hook, events)
		}
	}
}

// deliverOnce pushes events once and returns the status of the answer; 599 where there was none.
func (h *Hedgerow) deliverOnce(client *http.Client, hook string, events []map[string]any) int {
	body, err := json.Marshal(map[string]any{"events": events})
	if err != nil {
		return 499
	}
	stamp := strconv.FormatInt(h.mis.clock().Unix(), 10)
	mac := hmac.New(sha256.New, []byte(h.cfg.PushSecret))
	mac.Write([]byte(stamp + "."))
	mac.Write(body)
	req, err := http.NewRequestWithContext(context.Background(), "POST", hook, bytes.NewReader(body))
	if err != nil {
		return 499
	}
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("X-Hedgerow-Time", stamp)
	req.Header.Set("X-Hedgerow-Signature", hex.EncodeToString(mac.Sum(nil)))
	status := 599
	if res, err := client.Do(req); err == nil {
		_, _ = io.Copy(io.Discard, res.Body)
		res.Body.Close()
		status = res.StatusCode
	}
	h.mu.Lock()
	h.pushes++
	if status >= 300 {
		h.pushFail++
	}
	h.mu.Unlock()
	return status
}

func (h *Hedgerow) deliver(client *http.Client, hook string, events []map[string]any) {
	for try := range 4 {
		if status := h.deliverOnce(client, hook, events); status < 500 && status != 429 {
			return
		}
		select {
		case <-h.stopped:
			return
		case <-time.After(time.Duration(100<<try) * time.Millisecond):
		}
	}
}

// page cuts a page out of a list that is ordered by key.
func page[T any](w http.ResponseWriter, r *http.Request, list []T, key func(T) string) []T {
	per, _ := strconv.Atoi(r.URL.Query().Get("per_page"))
	if per < 1 || per > 100 {
		per = 100
	}
	after := r.URL.Query().Get("after")
	i := 0
	if after != "" {
		i = sort.Search(len(list), func(i int) bool { return key(list[i]) > after })
	}
	end := min(i+per, len(list))
	if end < len(list) {
		q := r.URL.Query()
		q.Set("after", key(list[end-1]))
		w.Header().Set("Link", fmt.Sprintf("<%s?%s>; rel=\"next\"", r.URL.Path, q.Encode()))
	}
	return list[i:end]
}

func (h *Hedgerow) apiItems(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	list := append([]*ShopItem(nil), h.items...)
	sort.Slice(list, func(i, j int) bool { return list[i].SKU < list[j].SKU })
	out := []map[string]any{}
	for _, it := range page(w, r, list, func(i *ShopItem) string { return i.SKU }) {
		out = append(out, map[string]any{"id": it.ID, "sku": it.SKU, "title": it.Title, "barcode": it.Barcode, "price": dec(it.Price),
			"currency": h.cfg.Currency,
			"group":    it.Group, "quantity": it.Quantity, "visible": !it.Hidden, "page": h.base + "/#" + it.SKU})
	}
	h.mu.Unlock()
	answer(w, 200, map[string]any{"items": out})
}

// apiItem puts an item on the shelf under its SKU, or changes it. What is not said stays.
func (h *Hedgerow) apiItem(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Title, Barcode, Group, About string
		Price                        string
		Quantity                     int64
		Visible                      bool
	}
	if !read(w, r, &in) {
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	sku := chi.URLParam(r, "sku")
	it := h.item(sku)
	isNew := it == nil
	if isNew {
		if in.Title == "" || in.Price == "" {
			answer(w, 422, map[string]any{"error": "a new item needs a title and a price"})
			return
		}
		it = &ShopItem{ID: fmt.Sprintf("i%d", 500+len(h.items)), SKU: sku, Quantity: in.Quantity}
	}
	if in.Price != "" {
		var whole, cents int64
		if n, err := fmt.Sscanf(in.Price, "%d.%02d", &whole, &cents); n != 2 || err != nil || whole*100+cents <= 0 {
			answer(w, 422, map[string]any{"error": "the price is no amount such as 12.90"})
			return
		}
		it.Price = whole*100 + cents
	}
	for _, f := range []struct{ from, to *string }{{&in.Title, &it.Title}, {&in.Barcode, &it.Barcode}, {&in.Group, &it.Group},
		{&in.About, &it.About}} {
		if *f.from != "" {
			*f.to = *f.from
		}
	}
	it.Hidden = !in.Visible
	if isNew {
		h.items = append(h.items, it)
	}
	answer(w, 200, map[string]any{"item": map[string]any{"id": it.ID, "sku": it.SKU, "page": h.base + "/#" + it.SKU}})
}

func (h *Hedgerow) apiOrders(w http.ResponseWriter, r *http.Request) {
	since := r.URL.Query().Get("changed_since")
	var from time.Time
	if since != "" {
		var err error
		if from, err = time.Parse(time.RFC3339Nano, since); err != nil {
			answer(w, 400, map[string]any{"error": "changed_since is not a time"})
			return
		}
	}
	h.mu.Lock()
	var list []*shopOrder
	for _, o := range h.orders {
		if !o.Changed.Before(from) {
			list = append(list, o)
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Changed.Before(list[j].Changed) })
	out := []map[string]any{}
	for _, o := range page(w, r, list, func(o *shopOrder) string { return o.Changed.Format(stampForm) }) {
		out = append(out, h.record(o))
	}
	h.mu.Unlock()
	answer(w, 200, map[string]any{"orders": out})
}

func (h *Hedgerow) apiOrder(w http.ResponseWriter, r *http.Request) {
	h.mu.Lock()
	defer h.mu.Unlock()
	o := h.byID[chi.URLParam(r, "id")]
	if o == nil {
		answer(w, 404, map[string]any{"error": "no such order"})
		return
	}
	answer(w, 200, map[string]any{"order": h.record(o)})
}

func (h *Hedgerow) apiStock(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Quantities []struct {
			SKU      string `json:"sku"`
			Quantity int64  `json:"quantity"`
		} `json:"quantities"`
	}
	if !read(w, r, &in) {
		return
	}
	if len(in.Quantities) > 50 {
		answer(w, 422, map[string]any{"error": "at most 50 quantities at once"})
		return
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	key := "stock " + r.Header.Get("Idempotency-Key")
	if old, ok := h.answers[key]; ok && key != "stock " {
		w.Header().Set("Content-Type", "application/json")
		w.Write(old)
		return
	}
	results := []map[string]any{}
	for _, q := range in.Quantities {
		it := h.item(q.SKU)
		switch {
		case it == nil:
			results = append(results, map[string]any{"sku": q.SKU, "ok": false, "reason": "no item with this SKU"})
		case q.Quantity < 0:
			results = append(results, map[string]any{"sku": q.SKU, "ok": false, "reason": "a quantity is not negative"})
		default:
			it.Quantity = q.Quantity
			results = append(results, map[string]any{"sku": q.SKU, "ok": true, "quantity": q.Quantity})
		}
	}
	h.keep(key, w, map[string]any{"results": results})
}

func (h *Hedgerow) keep(key string, w http.ResponseWriter, v any) {
	b, _ := json.Marshal(v)
	if len(h.answers) > 20_000 {
		clear(h.answers)
	}
	h.answers[key] = b
	w.Header().Set("Content-Type", "application/json")
	w.Write(b)
}

func (h *Hedgerow) apiParcel(w http.ResponseWriter, r *http.Request) {
	var in shopParcel
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
	if o.State == "cancelled" {
		answer(w, 409, map[string]any{"error": "the order is cancelled"})
		return
	}
	if in.Tracking == "" || in.Reference == "" {
		answer(w, 422, map[string]any{"error": "reference and tracking are needed"})
		return
	}
	if in.Withdrawn {
		h.withdrawParcel(o, in)
		answer(w, 200, map[string]any{"parcel": in})
		return
	}
	for i := range o.Parcels {
		if o.Parcels[i].Reference == in.Reference { // known: a corrected number replaces the old one
			if o.Parcels[i].Tracking != in.Tracking {
				o.Parcels[i].Tracking, o.Parcels[i].Link = in.Tracking, in.Link
				h.changed(o)
			}
			answer(w, 200, map[string]any{"parcel": o.Parcels[i]})
			return
		}
	}
	left, why := o.leftAfter(in)
	if why != "" {
		answer(w, 422, map[string]any{"error": why})
		return
	}
	in.ID = fmt.Sprintf("%s-p%d", o.ID, len(o.Parcels)+1)
	if h.forget > 0 {
		h.forget--
		answer(w, 201, map[string]any{"parcel": in})
		return
	}
	o.Parcels = append(o.Parcels, in)
	o.State = "sent"
	for _, n := range left {
		if n > 0 {
			o.State = "part_sent"
		}
	}
	h.changed(o)
	answer(w, 201, map[string]any{"parcel": in})
}

// leftAfter are the units by line that are left when a parcel has been sent, or why it cannot be.
// withdrawParcel forgets a parcel that has not left after all; withdrawing one that is not known changes nothing.
func (h *Hedgerow) withdrawParcel(o *shopOrder, in shopParcel) {
	kept := slices.DeleteFunc(o.Parcels, func(p shopParcel) bool { return p.Reference == in.Reference })
	if len(kept) == len(o.Parcels) {
		return
	}
	o.Parcels, o.State = kept, "part_sent"
	if len(kept) == 0 {
		o.State = "confirmed"
	}
	h.changed(o)
}

func (o *shopOrder) leftAfter(in shopParcel) (map[string]int64, string) {
	left := map[string]int64{}
	for _, l := range o.Lines {
		left[l.ID] = l.Qty
	}
	for _, p := range o.Parcels {
		for _, l := range p.Lines {
			left[l.LineID] -= l.Quantity
		}
	}
	for _, l := range in.Lines {
		if l.Quantity < 1 || l.Quantity > left[l.LineID] {
			return nil, fmt.Sprintf("line %s: %d cannot be sent, %d are left", l.LineID, l.Quantity,
				left[l.LineID])
		}
		left[l.LineID] -= l.Quantity
	}
	return left, ""
}

// Live lets it live so long ago.
func (h *Hedgerow) Live(ago time.Duration) { h.mis.Live(ago) }
