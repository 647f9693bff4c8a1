package sim

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"net/http"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/client"
	"openrelay/internal/core/order"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/inventory"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/views"
	"openrelay/internal/standin"
	"openrelay/internal/store"
)

// ledger is what the world outside knows happened, kept apart from the relay.
type ledger struct {
	sales     map[string]map[string]bool // by connection, the channel's id; true: it was cancelled there by its buyer
	ours      map[string]int64           // by SKU, units that people here put on the shelves or took off them
	portal    []string
	unmatched map[string]bool        // SKUs that were sold and nobody here knew at first
	told      map[string]*toldParcel // by the office's number: parcels that left elsewhere
}

// days lets the world go on for so many days: people buy, cancel and change their minds, packers work, somebody
// looks after what needs a person, and everything that can break does.
func (w *world) days(n int) *ledger {
	l := &ledger{sales: map[string]map[string]bool{}, ours: map[string]int64{}, unmatched: map[string]bool{},
		told: map[string]*toldParcel{}}
	for _, code := range []string{"morrow", "skep", "tansy", "bramble", "till", "nosh"} {
		l.sales[code] = map[string]bool{}
	}
	w.rng, w.log = rand.New(rand.NewPCG(w.seed, 31)), nil // joining goes by several goroutines; from here on there is one
	end := time.Now().AddDate(0, 0, n)
	nextEvent := time.Now()
	nextPerson := time.Now().Add(8 * time.Hour)
	for time.Now().Before(end) {
		now := time.Now()
		switch {
		case !now.Before(nextEvent):
			w.event(l)
			nextEvent = now.Add(time.Duration(1+w.rng.IntN(55)) * time.Minute)
		case !now.Before(nextPerson):
			w.person()
			nextPerson = now.Add(time.Duration(6+w.rng.IntN(10)) * time.Hour)
		case w.push():
		default:
			until := nextEvent
			if nextPerson.Before(until) {
				until = nextPerson
			}
			if end.Before(until) {
				until = end
			}
			w.due(until, true)
		}
		if w.one(2) {
			w.outage()
		}
	}
	return l
}

// outage lets a system be away for a while.
func (w *world) outage() {
	hosts := []string{
		"morrow.sim",
		"skep.sim",
		"plover.sim",
		"gannet.sim",
		"ironway.sim",
		"heron.sim",
		"tansy.sim",
		"bramble.sim",
		"till.sim",
		"nosh.sim",
		"gate.sim",
		"slate.sim",
	}
	host := hosts[w.rng.IntN(len(hosts))]
	if time.Now().Before(w.down[host]) {
		return
	}
	w.down[host] = time.Now().Add(time.Duration(1+w.rng.IntN(50)) * time.Minute)
	w.say("%s is away until %s", host, w.down[host].Format("02 15:04"))
}

// push lets one of what waits to be pushed go out: in any order, lost now and then.
func (w *world) push() bool {
	c := &http.Client{Transport: w}
	for _, h := range []*standin.Hedgerow{w.Morrow, w.Skep} {
		if n := h.Waiting(); n > 0 {
			nth, lose := w.rng.IntN(n), w.one(60)
			w.step("push of a store", func() error { h.PushNext(c, nth, lose); return nil })
			return true
		}
	}
	if n := len(w.office.waiting); n > 0 {
		nth := w.rng.IntN(n)
		w.step("hand in", func() error { return w.office.handIn(c, nth) })
		return true
	}
	if n := w.Nosh.Ringing(); n > 0 {
		nth, lose := w.rng.IntN(n), w.one(60)
		w.step("ring of the portal", func() error { w.Nosh.RingNext(c, nth, lose); return nil })
		return true
	}
	return false
}

func pick[T any](w *world, list []T) T { return list[w.rng.IntN(len(list))] }

var skus = []string{"JAR-500-T12", "SUIT-M-WHITE", "SMOKER-M", "HIVE-STARTER", "BRUSH-HAIR", "WAX-1KG", "HIVE-TOOL", "CANDLE-PAIR"}

// onTansy are items that the marketplace lists and holds.
var onTansy = []string{"SUIT-S-WHITE", "HIVE-TOOL", "WAX-1KG"}

var names = []string{"Maren Tolland", "Iven Harrow", "Petra Oakes", "Silas Brook"}

// event is something that people do outside, or packers inside.
func (w *world) event(l *ledger) {
	switch k := w.rng.IntN(134); {
	case k >= 124:
		w.partner()
	case k >= 114:
		w.supply()
	case k >= 107:
		w.tellParcel(l)
	case k >= 100:
		w.officeWrites(l)
	case k < 34:
		w.buyAtStore(l)
	case k < 46:
		code, d := "tansy", w.Tansy.Sell
		if w.rng.IntN(2) == 0 {
			code, d = "bramble", w.Bramble.Sell
		}
		s := standin.DeskSale{SKU: map[string]string{"tansy": pick(w, onTansy),
			"bramble": pick(w, []string{"SUIT-S-WHITE", "SUIT-XL-WHITE", "WAX-1KG"})}[code],
			Quantity: int64(1 + w.rng.IntN(2)), Pending: w.rng.IntN(4) == 0}
		if code == "tansy" && w.rng.IntN(3) == 0 && w.Tansy.Room(s.SKU) >= s.Quantity {
			s.Own = true
		}
		if id, err := d(s); err == nil {
			l.sales[code][id] = false
			w.say("sold %s %s %+v", code, id, s)
		}
	case k < 54:
		if id, err := w.Counterpane.Sell(standin.DeskSale{SKU: pick(w, []string{"TEA-POT", "CAKE-HONEY"}), Quantity: 1}); err == nil {
			l.sales["till"][id] = false
			w.say("sold till %s", id)
		}
	case k < 62:
		if ref, err := w.Nosh.Order(standin.NoshSale{Brought: w.rng.IntN(2) == 0, Kitchen: "no nuts",
			Voucher: int64(w.rng.IntN(3)) * 100}); err == nil {
			l.sales["nosh"][ref] = false
			l.portal = append(l.portal, ref)
			w.say("ordered %s", ref)
			if w.rng.IntN(3) > 0 { // somebody in the kitchen hears the bell
				w.kitchen()
			}
		}
	case k < 70:
		w.cancelOne(l)
	case k < 74:
		w.changeOne()
	case k < 78:
		h, sku := pick(w, []*standin.Hedgerow{w.Morrow, w.Skep}), pick(w, skus[:3])
		_ = h.EditStock(sku, int64(20+w.rng.IntN(40)), "shop admin")
	case k < 82:
		sku := pick(w, skus)
		n := int64(1 + w.rng.IntN(12))
		if sku == "HIVE-STARTER" {
			sku = "HIVE-BODY"
		}
		w.step("receive", func() error {
			before, err := w.Store.OrderByNumber(context.Background(), "none") // the file answers
			_ = before
			if err != store.ErrNotFound {
				return err
			}
			if _, err := w.Client.Adjust(context.Background(), sku, "alder", n, fmt.Sprintf("receipt %d", w.steps)); err != nil {
				return err
			}
			return nil
		})
	case k < 84:
		_ = w.Tansy.Hold(pick(w, onTansy), int64(10+w.rng.IntN(20)))
	default:
		w.packer()
	}
	w.Nosh.Lapse()
}

func (w *world) buyAtStore(l *ledger) {
	h, code := w.Morrow, "morrow"
	if w.rng.IntN(3) == 0 {
		h, code = w.Skep, "skep"
	}
	name := pick(w, names)
	s := standin.Sale{Customer: name, Email: strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@example.test", Shipping: 490,
		Pending: w.rng.IntN(6) == 0,
		Delivery: standin.Delivery{Name: name, Street: fmt.Sprintf("Lindenrow %d", 1+w.rng.IntN(40)), Postcode: "41360",
			Town: "Harrowmere", Country: "XW", Method: pick(w, []string{"standard", "express", "collect"})}}
	for range 1 + w.rng.IntN(3) {
		s.Lines = append(s.Lines, standin.SaleLine{SKU: pick(w, skus), Qty: int64(1 + w.rng.IntN(3))})
	}
	if code == "morrow" && w.one(400) {
		sku := pick(w, slices.Sorted(maps.Keys(partnerGoods)))
		s.Lines = append(s.Lines[:1], standin.SaleLine{SKU: sku, Qty: 1, Text: "Hive of " + name})
	}
	switch w.rng.IntN(30) {
	case 0:
		s.TotalOff = 119
	case 1:
		s.Delivery.Postcode = "4136"
	case 2:
		s.Lines = append(s.Lines, standin.SaleLine{SKU: "OLD-" + fmt.Sprint(w.rng.IntN(3)), Title: "Something from before", Qty: 1,
			Price: 900})
	}
	id, name, err := h.Place(s)
	if err != nil {
		return
	}
	l.sales[code][id] = false
	w.say("sold %s %s %s", code, id, name)
}

// open lists the sales of a channel that stand in some states, in their order.
func open_(book map[string]string, states ...string) []string {
	var out []string
	for id, s := range book {
		if slices.Contains(states, s) {
			out = append(out, id)
		}
	}
	sort.Strings(out)
	return out
}

func (w *world) cancelOne(l *ledger) {
	type at struct {
		code, id string
		f        func(string) error
	}
	var all []at
	add := func(code string, ids []string, f func(string) error) {
		for _, id := range ids {
			all = append(all, at{code, id, f})
		}
	}
	add("morrow", open_(w.Morrow.Book(), "awaiting", "confirmed", "part_sent", "sent"), w.Morrow.Cancel)
	add("skep", open_(w.Skep.Book(), "awaiting", "confirmed"), w.Skep.Cancel)
	add("tansy", open_(w.Tansy.Sold(), "pending", "open"), w.Tansy.Cancel)
	add("bramble", open_(w.Bramble.Sold(), "pending", "open"), w.Bramble.Cancel)
	add("nosh", open_(w.Nosh.Book(), "ringing", "accepted"), w.Nosh.CallOff)
	if len(all) == 0 {
		return
	}
	x := all[len(all)-1-w.rng.IntN(min(len(all), 12))]
	if x.f(x.id) == nil {
		l.sales[x.code][x.id] = true
		w.say("cancelled %s %s", x.code, x.id)
	}
}

// changeOne lets a pending order complete, or a buyer change their mind about an open one.
func (w *world) changeOne() {
	for _, h := range []*standin.Hedgerow{w.Morrow, w.Skep} {
		for _, id := range open_(h.Book(), "awaiting") {
			if w.rng.IntN(2) == 0 {
				_ = h.Complete(id)
			}
		}
		if ids := open_(h.Book(), "confirmed"); len(ids) > 0 && w.rng.IntN(2) == 0 {
			id := pick(w, ids)
			if w.rng.IntN(2) == 0 {
				_ = h.Change(id, map[string]int64{"L1": 1}, nil)
			} else {
				_ = h.Change(id, map[string]int64{"L2": 0},
					&standin.Delivery{Name: "Ada Moss", Street: "Mossway 3", Postcode: "77102", Town: "Greywick", Country: "XW",
						Method: "standard"})
			}
		}
	}
	for _, id := range open_(w.Tansy.Sold(), "pending") {
		_ = w.Tansy.Complete(id)
	}
	for _, id := range open_(w.Bramble.Sold(), "pending") {
		_ = w.Bramble.Complete(id)
	}
}

// kitchen answers what waits, as a person does who hears the bell.
func (w *world) kitchen() {
	for range 4 { // the bell rings, the order comes in
		if !w.push() {
			break
		}
	}
	for range 6 {
		w.due(time.Now().Add(time.Second), true)
	}
	ctx := context.Background()
	rows, err := w.Store.ListOrders(ctx, store.OrderFilter{Connection: "nosh", Stages: []string{"held"}, Limit: 20})
	if err != nil {
		return
	}
	for _, o := range rows {
		if o.AnswerBy == 0 {
			continue
		}
		accept := w.rng.IntN(6) > 0
		w.step("answer "+o.Number, func() error { return w.Relay.Answer(ctx, o.Number, accept, 20, "sold out", "Joss Fenn") })
	}
}

// packer works on an order or two: picks, packs, ships, hands over.
func (w *world) packer() {
	ctx := context.Background()
	rows, err := w.Store.ListOrders(ctx, store.OrderFilter{Stages: []string{"ready", "routed", "picking", "packed", "part shipped"},
		Limit: 200})
	if err != nil || len(rows) == 0 {
		return
	}
	if w.one(500) {
		w.step("a round", func() error { return w.walkRound(ctx, rows) })
	}
	if w.one(60) {
		w.step("send otherwise", func() error { return w.sendOtherwise(ctx, rows[w.rng.IntN(len(rows))].Number) })
	}
	if w.one(500) {
		w.step("take a parcel back", func() error { return w.takeParcelBack(ctx) })
	}
	if w.one(30) {
		w.step("a carrier moves a parcel", func() error { return w.moveParcel(ctx) })
	}
	if w.one(500) {
		w.step("something comes back", func() error { return w.comeBack(ctx) })
	}
	for range 1 + w.rng.IntN(4) {
		o := rows[len(rows)-1-w.rng.IntN(min(len(rows), 20))]
		if o.Kind != "ship" {
			w.step("hand over "+o.Number, func() error { return w.Relay.HandOver(ctx, o.Number, "Runa Hollis") })
			continue
		}
		w.step("work on "+o.Number, func() error { return w.workOn(ctx, o.Number) })
	}
}

// sendOtherwise keeps a unit of an order back, lets one go, splits one off, or lets it be sent from elsewhere.
func (w *world) sendOtherwise(ctx context.Context, number string) error {
	o, err := w.Store.OrderByNumber(ctx, number)
	if err != nil || len(o.Lines) == 0 {
		return err
	}
	l := &o.Lines[w.rng.IntN(len(o.Lines))]
	p := shipping.HandPlan{Kind: pick(w, shipping.PlanKinds), Lines: map[int64]int64{l.ID: 1},
		To: pick(w, []string{"alder", "mill", "pier"})}
	if o.Kept(l) > 0 {
		p.Kind, p.Lines[l.ID] = shipping.KeepBack, 0
	}
	return w.Relay.Plan(ctx, number, p, 0, "Joss Fenn")
}

// workOn does the next thing that an order wants, or, mostly, all that is left.
func (w *world) workOn(ctx context.Context, number string) error {
	s, err := w.Relay.StartPick(ctx, number, "Runa Hollis")
	if err != nil {
		return err
	}
	v, err := w.Relay.Shipment(ctx, s)
	if err != nil {
		return err
	}
	if done, err := w.pickAll(ctx, v); err != nil || !done {
		return err
	}
	if w.one(3) {
		if err := w.sendTogether(ctx, number); err != nil {
			return err
		}
	}
	if v, err = w.Relay.Shipment(ctx, s); err != nil {
		return err
	}
	if v.State == store.ToPick {
		if err := w.packAll(ctx, v); err != nil {
			return err
		}
	}
	if w.one(150) {
		return nil
	}
	if v, err = w.Relay.Shipment(ctx, s); err != nil {
		return err
	}
	if together := w.one(400); together && severalPacked(v.Parcels) { // under one number, at the carrier that takes that
		_, err := w.Relay.ShipConsignment(ctx, s, shipping.Purchase{Carrier: "heron", Service: "SH-ECO"}, "Runa Hollis")
		return err
	}
	for _, p := range v.Parcels {
		if p.State != store.ToShip {
			continue
		}
		if w.one(40) { // somebody thinks again
			return w.Relay.Unpack(ctx, p.Number, "Runa Hollis")
		}
		by := pick(w, carriersOfSim)
		if _, err := w.Relay.Ship(ctx, p.Number, shipping.Purchase{Carrier: by.code, Service: by.service}, "Runa Hollis"); err != nil {
			return err
		}
	}
	return nil
}

// severalPacked tells whether several parcels of a shipment wait for labels.
func severalPacked(list []store.Parcel) bool {
	n := 0
	for i := range list {
		if list[i].State == store.ToShip && list[i].TravelsIn == 0 {
			n++
		}
	}
	return n > 1
}

// sendTogether lets an order travel with others to the same person, where there are any, and picks those, too.
func (w *world) sendTogether(ctx context.Context, number string) error {
	list, err := w.Relay.Companions(ctx, number)
	if err != nil {
		return err
	}
	for _, c := range list {
		if c.Why != "" || c.Together {
			continue
		}
		if err := w.Relay.SendTogether(ctx, number, []string{c.Order}, "Runa Hollis"); err != nil {
			return err
		}
		s, err := w.Relay.StartPick(ctx, c.Order, "Runa Hollis")
		if err != nil {
			return err
		}
		v, err := w.Relay.Shipment(ctx, s)
		if err != nil {
			return err
		}
		if done, err := w.pickAll(ctx, v); err != nil || !done {
			return err
		}
	}
	return nil
}

// pickAll picks what is left of a shipment, unless whoever does so is called away, or something is not there.
func (w *world) pickAll(ctx context.Context, v views.ShipmentView) (done bool, err error) {
	s := v.Number
	for _, want := range v.Wants {
		for range want.Left() {
			if w.one(60) {
				return false, nil // called away
			}
			if w.one(120) { // it is not there, and turns up later
				if _, err := w.Relay.ReportShort(ctx, s, shipping.Missing{Code: want.SKU, Quantity: 1}, "Runa Hollis"); err != nil {
					return false, err
				}
				return false, w.Relay.Adjust(
					ctx,
					inventory.Adjustment{SKU: want.SKU, Location: w.Relay.Place(v.LocationID).Code, Change: 1,
						Reason: "found again"},
					"Runa Hollis",
				)
			}
			if _, err := w.Relay.Scan(ctx, s, want.SKU, want.Bin, 1, "Runa Hollis"); err != nil {
				return false, err
			}
		}
	}
	return true, nil
}

// packAll packs a shipment: into one parcel, or a unit apart first, of a kit perhaps only a component; sometimes a unit is put
// back to its bin first.
func (w *world) packAll(ctx context.Context, v views.ShipmentView) error {
	if w.one(30) {
		if err := w.Relay.TakeBack(ctx, v.Number, v.Wants[0].SKU, 1, "Runa Hollis"); err != nil {
			return err
		}
		if _, err := w.Relay.Scan(ctx, v.Number, v.Wants[0].SKU, "", 1, "Runa Hollis"); err != nil {
			return err
		}
	}
	if w.one(4) {
		apart := pick(w, v.Wants).SKU
		if err := w.packInto(ctx, v.Number, map[string]int64{apart: 1}); err != nil {
			return err
		}
		now, err := w.Relay.Shipment(ctx, v.Number)
		if err != nil || now.State != store.ToPick {
			return err
		}
	}
	return w.packInto(ctx, v.Number, nil)
}

// packInto packs units into the smallest carton that takes them.
func (w *world) packInto(ctx context.Context, shipment string, units map[string]int64) (err error) {
	for _, p := range []string{"small", "medium", "large", "long"} {
		if _, err = w.Relay.Pack(ctx, shipment, shipping.Packing{Profile: p, Units: units}, "Runa Hollis"); err == nil {
			return nil
		}
	}
	return err
}

// person looks after what needs one: says what unknown things are, sends refused messages again, takes messages
// in again, lets held orders go on.
func (w *world) person() {
	ctx := context.Background()
	groups, err := w.Store.ExceptionGroups(ctx, store.ExceptionFilter{Now: time.Now(), Limit: 200})
	if err != nil {
		return
	}
	// A store's word about an edit may be lost; comparing shows it, and somebody looks once a day.
	w.step("compare and correct", func() error { _, err := w.Relay.Correct(ctx, "", "Joss Fenn"); return err })
	w.askAgain(ctx)
	for _, g := range groups {
		of := attention.GroupOf{Cause: g.Cause, Connection: g.ConnectionCode, Subject: g.Subject}
		switch {
		case g.Cause == "credentials refused" && g.ConnectionCode == "tansy": // the answer to a refreshed token was lost
			if _, err := w.Consent(ctx, w.Client, "tansy", "westmark", "T-8841"); err != nil {
				w.say("no consent: %v", err)
			}
		case g.Cause == "unknown item":
			w.step("known "+g.Subject, func() error {
				_, err := w.Relay.MakeKnown(ctx, g.ConnectionCode, g.Subject, "SMOKER-M", false, "Joss Fenn")
				return err
			})
		case g.Cause == "message not understood":
			w.step("take in again", func() error { _, err := w.Relay.TryAgain(ctx, g.ConnectionCode, "Joss Fenn"); return err })
		case g.OutboxID != 0:
			w.step("send again", func() error { _, err := w.Relay.SendGroupAgain(ctx, of, "Joss Fenn"); return err })
		case g.Cause == order.TotalDiffers || g.Cause == order.ByRule:
			w.step("let go on", func() error {
				_, err := w.Relay.Act(ctx, orders.Bulk{Action: "approve", Orders: []string{g.OrderNumber}}, "Joss Fenn")
				return err
			})
		}
	}
}

// finish ends the faults and lets everything come to rest: each feed is read again, twice.
func (w *world) finish() {
	clear(w.down)
	w.odds = odds{}
	w.Nosh.Lapse()
	for range 3 {
		w.person()
		w.rest(14 * time.Hour)
	}
	w.partnersRest(5 * time.Hour)
	w.person()
	w.partnersRest(3 * time.Hour)
	for range 40 {
		busy, err := w.Relay.Waits()
		if err == nil && !busy {
			break
		}
		w.rest(time.Hour)
	}
}

func (w *world) rest(d time.Duration) {
	end := time.Now().Add(d)
	for time.Now().Before(end) {
		if w.deliver() {
			continue
		}
		w.due(end, false)
	}
}

// check asks the stand-ins what became of every sale, and the relay whether it says the same.
func (w *world) check(l *ledger) (wrong []string) {
	ctx := context.Background()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	books := map[string]map[string]string{"morrow": w.Morrow.Book(), "skep": w.Skep.Book(), "tansy": w.Tansy.Sold(),
		"bramble": w.Bramble.Sold(), "till": w.Counterpane.Sold(), "nosh": w.Nosh.Book()}
	// Channels tell their numbers differently: what the till's interface calls CP-…, its books call by the sale.
	live := map[string]map[string][]string{}
	stage := map[string]string{}
	held := map[string]string{}
	for _, code := range slices.Sorted(maps.Keys(books)) {
		live[code] = map[string][]string{}
		f := store.OrderFilter{Connection: code, Limit: 1000}
		for {
			rows, err := w.Store.ListOrders(ctx, f)
			if err != nil {
				bad("orders of %s cannot be listed: %v", code, err)
				return wrong
			}
			for _, r := range rows {
				if r.Kind == "summary" || r.Stage == "void" {
					continue
				}
				o, err := w.Client.Order(ctx, r.Number)
				if err != nil {
					bad("order %s cannot be read: %v", r.Number, err)
					continue
				}
				live[code][o.OutsideID] = append(live[code][o.OutsideID], r.Number)
				stage[r.Number] = o.Stage
				for _, h := range o.Holds {
					held[r.Number] += string(h.Cause) + "; "
				}
				if a := o.Ours.Answer; a != nil && a.State == order.Declined {
					held[r.Number] += "declined by us; "
				}
			}
			if len(rows) < f.Limit {
				break
			}
			f.Before = rows[len(rows)-1].ID
		}
	}
	for _, code := range slices.Sorted(maps.Keys(books)) {
		for _, id := range slices.Sorted(maps.Keys(books[code])) {
			state := books[code][id]
			key := id
			if code == "till" {
				key = fmt.Sprint(tillNumber(id))
			}
			numbers := live[code][key]
			if len(numbers) != 1 {
				bad("%s %s (%s) is %d orders here: %v", code, id, state, len(numbers), numbers)
				continue
			}
			n := numbers[0]
			st := stage[n]
			switch state {
			case "cancelled", "called off", "declined", "lapsed":
				shipped := st == "shipped" || st == "delivered" || st == "part shipped"
				if shipped && !strings.Contains(held[n], string(order.LateCancel)) {
					bad("%s %s was cancelled there; here %s is %s and nobody was told (%s)", code, id, n, st, held[n])
				}
				if !shipped && st != "cancelled" {
					bad("%s %s was cancelled there; here %s is %s (%s)", code, id, n, st, held[n])
				}
			case "sent", "out":
				if st != "shipped" && st != "delivered" && st != "part shipped" { // there it is sent with its first parcel
					bad("%s %s has left there; here %s is %s (%s)", code, id, n, st, held[n])
				}
			}
			if state == "lapsed" && !strings.Contains(held[n], string(order.NotAnswered)) && !strings.Contains(held[n], "declined by us") {
				bad("portal order %s lapsed, and nobody was told (%s: %s)", id, n, held[n])
			}
			if state == "ringing" {
				bad("portal order %s still rings", id)
			}
		}
	}
	// What was shipped from here is known there, by its tracking number.
	list, err := w.Client.Parcels(ctx, "limit=200")
	for err == nil && len(list) > 0 {
		for _, s := range list {
			if (s.State == "shipped" || s.State == "delivered") && !strings.HasPrefix(s.Tracking, toldPrefix) &&
				!w.knownThere(ctx, s.OrderNumber, s.Tracking) {
				bad("parcel %s of order %s left with %s, which its channel does not know", s.Number, s.OrderNumber, s.Tracking)
			}
		}
		if len(list) < 200 {
			break
		}
		list, err = w.Client.Parcels(ctx, "limit=200&before="+list[len(list)-1].Number)
	}
	if err != nil {
		bad("parcels cannot be listed: %v", err)
	}
	wrong = append(wrong, w.checkLabels()...)
	wrong = append(wrong, w.checkPartners()...)
	wrong = append(wrong, w.checkOffice(l)...)
	findings, err := w.Store.Verify(ctx)
	if err != nil {
		bad("verify: %v", err)
	}
	for _, f := range findings {
		bad("verify, rule %d: %s", f.Rule, f.Text)
	}
	// Each channel shows what it should: what was told is what it has, and what it may be offered.
	differs, _, err := w.Relay.Compare(ctx, "")
	if err != nil {
		bad("compare: %v", err)
	}
	for _, d := range differs {
		bad("%s shows %d of %s, should show %d (%s)", d.ConnectionName, d.SeenQty, d.SKU, d.Should, d.Guess)
	}
	shelves := map[string]map[string]int64{"morrow": w.Morrow.Shelf(), "skep": w.Skep.Shelf()}
	for _, code := range slices.Sorted(maps.Keys(shelves)) {
		shelf := shelves[code]
		for _, sku := range skus {
			why, err := w.Client.Why(ctx, code, sku)
			if client.StatusOf(err) == 404 {
				continue
			}
			if err != nil {
				bad("why %s %s: %v", code, sku, err)
			} else if n, unsure := why.Steps[len(why.Steps)-1].Result, w.unsure(ctx, code, sku); shelf[sku] > n || shelf[sku] < n-unsure {
				bad("%s shows %d of %s itself; by our sum it should be %d", code, shelf[sku], sku, n)
			}
		}
	}
	// What the marketplace holds for us is what it says.
	for _, sku := range onTansy {
		it, err := w.Client.Item(ctx, sku)
		if err != nil {
			bad("item %s: %v", sku, err)
			continue
		}
		for _, lv := range it.Levels {
			if lv.Location == "tansy-room" && lv.OnHand != w.Tansy.Room(sku) {
				bad("the store room holds %d of %s, we think %d", w.Tansy.Room(sku), sku, lv.OnHand)
			}
		}
	}
	return wrong
}

// shared is how many listings share the last units of their item.
func (w *world) shared() int {
	var ids []int64
	for _, sku := range skus {
		if it, err := w.Store.Item(w.t.Context(), sku); err == nil {
			ids = append(ids, it.ID)
		}
	}
	rows, err := w.Store.Shares(w.t.Context(), ids)
	require.NoError(w.t, err)
	return len(rows)
}

// unsure is how many units of a listing's share may have been sold, though what is left of it counts them.
func (w *world) unsure(ctx context.Context, code, sku string) int64 {
	l, err := w.Store.Listing(ctx, code, sku)
	require.NoError(w.t, err)
	rows, err := w.Store.Shares(ctx, []int64{l.ItemID})
	require.NoError(w.t, err)
	for _, s := range rows {
		if s.ListingID == l.ID {
			return s.Doubt
		}
	}
	return 0
}

// tillNumber is the number that the till's interface gives a sale.
func tillNumber(id string) int64 {
	var n int64
	_, _ = fmt.Sscanf(id, "CP-%d", &n)
	return n - 1000
}

func (w *world) knownThere(ctx context.Context, number, tracking string) bool {
	o, err := w.Client.Order(ctx, number)
	if err != nil {
		return false
	}
	if o.Connection == "office" { // it is told nothing
		return true
	}
	for _, m := range o.WriteBacks { // one that the channel refuses stands before a person
		if m.Feed == "dispatch out" && (m.State == "refused") {
			return true
		}
	}
	for _, p := range o.Record.Parcels {
		if p.Tracking == tracking {
			return true
		}
	}
	open, err := w.Store.OpenExceptions(ctx, w.Relay.Clock(), 10_000)
	if err == nil && slices.ContainsFunc(open, func(e store.Exception) bool {
		return e.Cause == engine.NumberUntold && e.Subject == tracking
	}) {
		return true // it holds a part of a kit, and somebody was told
	}
	return strings.HasPrefix(tracking, "SR")
}
