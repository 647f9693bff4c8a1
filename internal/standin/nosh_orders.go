package standin

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
)

// noshOrder is an order of a guest.
type noshOrder struct {
	Ref       string
	Stands    string // ringing, accepted, declined, out, called off, lapsed
	Turn      int64
	Rung      time.Time
	Moved     time.Time
	Before    time.Time // the kitchen answers before this
	Ready     time.Time
	Why       string
	Guest     noshGuest
	Goes      string // fetched or brought
	Kitchen   string
	Courier   string
	Wanted    string
	Dishes    []noshLine
	Bringing  int64 // cents; the portal puts 20 per cent of tax on it
	Voucher   string
	Less      int64
	Answers   int // how often the kitchen answered
	LateTries int // answers that came too late
}

type noshGuest struct {
	Name   string `json:"name"`
	Mail   string `json:"mail"`
	Phone  string `json:"phone"`
	Street string `json:"street"`
	Code   string `json:"code"`
	Town   string `json:"town"`
	Land   string `json:"land"`
}

type noshLine struct {
	Row    int          `json:"row"`
	Dish   string       `json:"dish"`
	Code   string       `json:"code"`
	Name   string       `json:"name"`
	Count  int64        `json:"count"`
	Cents  int64        `json:"cents"`
	Sum    int64        `json:"sum"`
	Wish   string       `json:"wish"`
	Extras []noshOption `json:"extras"`
}

// noshBell is what rings at the kitchen.
type noshBell struct {
	mu      sync.Mutex // never held together with desk.mu from inside
	hook    string
	key     string
	pending []string // refs to be told
	wake    chan struct{}
	stopped chan struct{}
	orders  []*noshOrder // guarded by desk.mu
}

func (b *noshBell) init() {
	b.wake, b.stopped = make(chan struct{}, 1), make(chan struct{})
}

// NoshSale is an order to be made.
type NoshSale struct {
	Dishes  []NoshDishSale `json:"dishes"`
	Brought bool           `json:"brought"` // else the guest fetches it
	Kitchen string         `json:"kitchen_note"`
	Voucher int64          `json:"voucher"` // cents
}

// NoshDishSale is a dish with what the guest chose, by the codes of group and choice.
type NoshDishSale struct {
	Code    string   `json:"code"`
	Count   int64    `json:"count"`
	Choices []string `json:"choices"`
	Wish    string   `json:"wish"`
}

// SetHook says whom the portal calls.
func (n *Nosh) SetHook(url string) {
	n.bell.mu.Lock()
	n.bell.hook = url
	n.bell.mu.Unlock()
}

// SetBell says with which key the portal rings: the kitchen hands it out.
func (n *Nosh) SetBell(key string) {
	n.bell.mu.Lock()
	n.bell.key = key
	n.bell.mu.Unlock()
}

// Stop ends the ringing.
func (n *Nosh) Stop() { close(n.bell.stopped) }

// Order makes an order and rings at the kitchen. Without dishes it takes the first of the menu.
func (n *Nosh) Order(s NoshSale) (string, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(s.Dishes) == 0 {
		for _, d := range n.sorted() {
			if d.Sold {
				s.Dishes = []NoshDishSale{{Code: d.Code, Count: 1}}
				break
			}
		}
	}
	k := int64(len(n.bell.orders) + 1)
	at := townsOf[int(k)%len(townsOf)]
	first, last := firstNames[int(k*3)%len(firstNames)], lastNames[int(k*5)%len(lastNames)]
	o := &noshOrder{Ref: fmt.Sprintf("NL-%d", 4400+k), Stands: "ringing", Goes: "fetched", Kitchen: s.Kitchen,
		Guest: noshGuest{Name: first + " " + last, Mail: strings.ToLower(first+"."+last) + "@example.test",
			Phone: "0555 " + strconv.FormatInt(1000+k, 10), Street: fmt.Sprintf("%s %d", streets[int(k)%len(streets)], 1+k%50),
			Code: at.code, Town: at.name, Land: at.land}}
	if s.Brought {
		o.Goes, o.Bringing, o.Courier = "brought", 250, "Ring at the garden gate."
	}
	if s.Voucher > 0 {
		o.Voucher, o.Less = fmt.Sprintf("V%05d", 300+k), s.Voucher
	}
	for i, want := range s.Dishes {
		d := n.dishes[want.Code]
		if d == nil || !d.Sold {
			return "", fmt.Errorf("there is no %q on the menu", want.Code)
		}
		l := noshLine{Row: i + 1, Dish: d.No, Code: d.Code, Name: d.Name, Count: max(want.Count, 1), Cents: d.Cents, Wish: want.Wish,
			Extras: []noshOption{}}
		l.Sum = l.Count * l.choose(d, want.Choices)
		o.Dishes = append(o.Dishes, l)
	}
	o.Rung = n.stamp()
	o.Before = o.Rung.Add(n.cfg.Patience)
	n.bell.orders = append(n.bell.orders, o)
	n.moved(o)
	return o.Ref, nil
}

// choose adds the options that a guest wants of a dish, and those that must be chosen, and returns the price of one.
func (l *noshLine) choose(d *noshDish, choices []string) int64 {
	each := d.Cents
	for _, g := range d.Choices {
		var taken int64
		for _, op := range g.Options {
			for _, c := range choices {
				if c == g.Key+"/"+op.Key {
					l.Extras = append(l.Extras, op)
					each += op.Cents
					taken++
				}
			}
		}
		for _, op := range g.Options { // what must be chosen is chosen
			if taken >= g.Take[0] {
				break
			}
			l.Extras = append(l.Extras, op)
			each += op.Cents
			taken++
		}
	}
	return each
}

// moved notes a change and rings. The caller holds the lock.
func (n *Nosh) moved(o *noshOrder) {
	o.Turn++
	o.Moved = n.stamp()
	n.bell.mu.Lock()
	n.bell.pending = append(n.bell.pending, o.Ref)
	n.bell.mu.Unlock()
	select {
	case n.bell.wake <- struct{}{}:
	default:
	}
}

func (o *noshOrder) total() (sum int64) {
	for _, l := range o.Dishes {
		sum += l.Sum
	}
	return sum + o.Bringing + (o.Bringing*20+50)/100 - o.Less
}

func (o *noshOrder) record() map[string]any {
	r := map[string]any{"ref": o.Ref, "stands": o.Stands, "turn": o.Turn, "rung": o.Rung.Format(stampForm),
		"moved": o.Moved.Format(stampForm), "guest": o.Guest, "goes": o.Goes,
		"to_kitchen": o.Kitchen, "to_courier": o.Courier, "wanted_at": o.Wanted, "dishes": o.Dishes, "bringing": o.Bringing,
		"to_pay": o.total(), "paid_with": "portal", "vouchers": []any{}}
	r["answer_before"] = nil
	if o.Stands == "ringing" || o.Stands == "lapsed" {
		r["answer_before"] = o.Before.Format(stampForm)
	}
	if o.Voucher != "" {
		r["vouchers"] = []map[string]any{{"code": o.Voucher, "cents": o.Less}}
	}
	return r
}

func (n *Nosh) order(ref string) *noshOrder {
	for _, o := range n.bell.orders {
		if o.Ref == ref {
			return o
		}
	}
	return nil
}

// Stands says what has become of an order at the portal.
func (n *Nosh) Stands(ref string) string {
	n.mu.Lock()
	defer n.mu.Unlock()
	if o := n.order(ref); o != nil {
		return o.Stands
	}
	return ""
}

// Book lists what has become of all orders.
func (n *Nosh) Book() map[string]string {
	n.mu.Lock()
	defer n.mu.Unlock()
	out := map[string]string{}
	for _, o := range n.bell.orders {
		out[o.Ref] = o.Stands
	}
	return out
}

// CallOff lets the guest call an order off.
func (n *Nosh) CallOff(ref string) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	o := n.order(ref)
	if o == nil || o.Stands != "ringing" && o.Stands != "accepted" {
		return errors.New("no such order can be called off")
	}
	o.Stands = "called off"
	n.moved(o)
	return nil
}

// Lapse ends the orders that nobody answered in time.
func (n *Nosh) Lapse() {
	n.mu.Lock()
	defer n.mu.Unlock()
	now := n.mis.clock()
	for _, o := range n.bell.orders {
		if o.Stands == "ringing" && now.After(o.Before) {
			o.Stands = "lapsed"
			n.moved(o)
		}
	}
}

// Ringing tells how many things wait to be told to the kitchen.
func (n *Nosh) Ringing() int {
	n.bell.mu.Lock()
	defer n.bell.mu.Unlock()
	return len(n.bell.pending)
}

// RingNext tells the kitchen the nth of what waits, in the caller's goroutine; lose forgets it instead.
func (n *Nosh) RingNext(client *http.Client, nth int, lose bool) bool {
	n.bell.mu.Lock()
	if nth >= len(n.bell.pending) {
		n.bell.mu.Unlock()
		return false
	}
	ref, hook := n.bell.pending[nth], n.bell.hook
	n.bell.pending = append(n.bell.pending[:nth:nth], n.bell.pending[nth+1:]...)
	n.bell.mu.Unlock()
	return !lose && n.ring(client, hook, ref) < 300
}

// ring calls the kitchen once and returns the status of its answer; 599 where there was none.
func (n *Nosh) ring(client *http.Client, hook, ref string) int {
	n.mu.Lock()
	o := n.order(ref)
	if o == nil || hook == "" {
		n.mu.Unlock()
		return 499
	}
	body, err := json.Marshal(map[string]any{"topic": "order", "order": o.record()})
	n.mu.Unlock()
	if err != nil {
		return 499
	}
	req, err := http.NewRequestWithContext(context.Background(), "POST", hook, bytes.NewReader(body))
	if err != nil {
		return 499
	}
	req.Header.Set("Content-Type", "application/json")
	n.bell.mu.Lock()
	req.Header.Set("Nosh-Bell", n.bell.key)
	n.bell.mu.Unlock()
	res, err := client.Do(req)
	if err != nil {
		return 599
	}
	_, _ = io.Copy(io.Discard, res.Body)
	res.Body.Close()
	return res.StatusCode
}

// ringLoop rings, again after a moment where nobody hears, and ends what was not answered.
func (n *Nosh) ringLoop() {
	client := &http.Client{Timeout: 5 * time.Second}
	look := time.NewTicker(500 * time.Millisecond)
	defer look.Stop()
	for {
		select {
		case <-n.bell.stopped:
			return
		case <-look.C:
			n.Lapse()
		case <-n.bell.wake:
		}
		for n.Ringing() > 0 {
			f := n.mis.now()
			if f.PushNever {
				n.RingNext(client, 0, true)
				continue
			}
			n.bell.mu.Lock()
			ref := n.bell.pending[0]
			n.bell.mu.Unlock()
			if n.RingNext(client, 0, false) && !f.PushTwice {
				continue
			}
			go func() { // once more, a little later
				select {
				case <-n.bell.stopped:
				case <-time.After(700 * time.Millisecond):
					n.bell.mu.Lock()
					hook := n.bell.hook
					n.bell.mu.Unlock()
					n.ring(client, hook, ref)
				}
			}()
		}
	}
}

func (n *Nosh) ordersSince(w http.ResponseWriter, r *http.Request) {
	from, _ := time.Parse(time.RFC3339Nano, r.URL.Query().Get("since"))
	n.mu.Lock()
	defer n.mu.Unlock()
	out := []map[string]any{}
	for _, o := range n.bell.orders {
		if !o.Moved.Before(from) {
			out = append(out, o.record())
		}
	}
	answer(w, 200, map[string]any{"orders": out})
}

// answered takes the kitchen's word; the same word again is heard once.
func (n *Nosh) answered(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Take             bool
		Ready, Why, Mark string
	}
	if !read(w, r, &in) {
		return
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	o := n.order(chi.URLParam(r, "ref"))
	want := map[bool]string{true: "accepted", false: "declined"}[in.Take]
	switch {
	case o == nil:
		answer(w, 404, map[string]any{"oops": "no such order"})
	case o.Stands == want || o.Stands == "out":
		answer(w, 200, map[string]any{"stands": o.Stands})
	case o.Stands != "ringing" || n.mis.clock().After(o.Before):
		o.LateTries++
		answer(w, 409, map[string]any{"oops": "the guest does not wait any more: the order is " + o.Stands})
	default:
		o.Stands, o.Why = want, in.Why
		o.Answers++
		o.Ready, _ = time.Parse(time.RFC3339Nano, in.Ready)
		n.moved(o)
		answer(w, 200, map[string]any{"stands": o.Stands})
	}
}

func (n *Nosh) wentOut(w http.ResponseWriter, r *http.Request) {
	n.mu.Lock()
	defer n.mu.Unlock()
	o := n.order(chi.URLParam(r, "ref"))
	switch {
	case o == nil:
		answer(w, 404, map[string]any{"oops": "no such order"})
	case o.Stands == "out":
		answer(w, 200, map[string]any{"stands": o.Stands})
	case o.Stands != "accepted":
		answer(w, 409, map[string]any{"oops": "the order is " + o.Stands})
	default:
		o.Stands = "out"
		n.moved(o)
		answer(w, 200, map[string]any{"stands": o.Stands})
	}
}

// ringing adds what people and tests need to make orders.
func (n *Nosh) ringing(r chi.Router) {
	r.Post("/control/order", func(w http.ResponseWriter, r *http.Request) {
		voucher, _ := strconv.ParseInt(r.FormValue("voucher"), 10, 64)
		_, _ = n.Order(NoshSale{Brought: r.FormValue("brought") != "", Kitchen: r.FormValue("note"), Voucher: voucher})
		http.Redirect(w, r, "/menu", http.StatusSeeOther)
	})
	r.Post("/control/relay", n.keepRelay)
	r.Post("/control/api/orders", func(w http.ResponseWriter, r *http.Request) {
		var in NoshSale
		if !read(w, r, &in) {
			return
		}
		ref, err := n.Order(in)
		if err != nil {
			answer(w, 409, map[string]any{"error": err.Error()})
			return
		}
		answer(w, 201, map[string]any{"id": ref})
	})
	r.Get("/control/api/orders/{ref}", func(w http.ResponseWriter, r *http.Request) {
		n.mu.Lock()
		defer n.mu.Unlock()
		o := n.order(chi.URLParam(r, "ref"))
		if o == nil {
			answer(w, 404, map[string]any{"error": "no such order"})
			return
		}
		answer(w, 200, o.record())
	})
	r.Post("/control/api/orders/{ref}/call-off", func(w http.ResponseWriter, r *http.Request) {
		said(w, n.CallOff(chi.URLParam(r, "ref")))
	})
	r.Post("/control/api/hook", func(w http.ResponseWriter, r *http.Request) {
		var in struct {
			URL string `json:"url"`
		}
		if read(w, r, &in) {
			n.SetHook(in.URL)
			answer(w, 200, map[string]any{"ok": true})
		}
	})
}
