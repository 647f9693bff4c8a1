package sim

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// office hands messages in, good ones and such as nobody can take in, and tells of parcels that left elsewhere. What it is
// not sure to have handed in, it hands in again.
type office struct {
	key     string
	next    int
	waiting []map[string]any
	good    map[string]bool         // orders by their ids
	bad     map[string]message.Feed // messages that cannot be taken in, by their ids
}

// toldPrefix begins the tracking numbers of parcels that left elsewhere.
const toldPrefix = "OW-"

// toldParcel is a parcel that left elsewhere, as its teller knows it now.
type toldParcel struct {
	sale, number string // of the store's order
	tracking     string
	before       []string // what it said earlier
	version      int
}

// joinOffice joins somebody who hands messages in.
func (w *world) joinOffice() {
	ctx := w.t.Context()
	must := func(err error) {
		w.t.Helper()
		require.NoError(w.t, err, strings.Join(w.log[max(0, len(w.log)-20):], "\n"))
	}
	_, err := w.Client.StartJoin(ctx, joining.NewJoin{Connector: "direct", Code: "office", Name: "Back office"})
	must(err)
	made, err := w.Client.TestAccess(ctx, "office", joining.Access{})
	must(err)
	_, err = w.Client.Confirm(ctx, "office", "office", true)
	must(err)
	j, err := w.Client.Join(ctx, "office")
	must(err)
	s := j.Connection.Settings
	s.Offer.Sources = []int64{w.Relay.PlaceID("alder")}
	_, err = w.Client.SetSettings(ctx, "office", s, 0)
	must(err)
	_, err = w.Client.SwitchOn(ctx, "office")
	must(err)
	c, err := w.Client.Connection(ctx, "office")
	must(err)
	for _, f := range c.Feeds {
		if !f.On && (f.Kind == message.OrdersIn || f.Kind == message.ItemsIn || f.Kind == message.DispatchIn) {
			_, err := w.Client.SetFeed(ctx, "office", f.Kind, true, "", f.Revision)
			must(err)
		}
	}
	w.office = &office{key: made.Given["key"], good: map[string]bool{}, bad: map[string]message.Feed{}}
}

func (o *office) write(topic, id string, version int, record any) {
	o.waiting = append(o.waiting, map[string]any{"topic": topic, "id": id, "version": version, topic: record})
}

// handIn hands one of what waits in; it waits on unless that was acknowledged.
func (o *office) handIn(c *http.Client, nth int) error {
	m := o.waiting[nth]
	body, err := json.Marshal(map[string]any{"messages": []any{m}})
	if err != nil {
		return err
	}
	req, err := http.NewRequest(http.MethodPost, "http://relay.sim/in/office", bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+o.key)
	res, err := c.Do(req)
	if err != nil {
		return nil // handed in again
	}
	res.Body.Close()
	if res.StatusCode < 300 {
		o.waiting = slices.Delete(o.waiting, nth, nth+1)
	}
	return nil
}

// officeWrites lets the office write a message: an order, or something that cannot be taken in.
func (w *world) officeWrites(*ledger) {
	o := w.office
	o.next++
	id := fmt.Sprintf("of-%d", o.next)
	sku := pick(w, skus)
	line := message.OrderLine{ID: "1", SKU: sku, Title: sku, Quantity: int64(1 + w.rng.IntN(2)), UnitPrice: 1000}
	line.Total = line.Quantity * line.UnitPrice
	m := message.Order{Number: "OF-" + fmt.Sprint(o.next), State: "open", Status: message.Open, PlacedAt: time.Now(),
		ChangedAt: time.Now(), Currency: "EUR", PricesIncludeTax: true, BuyerName: "Ilka Fenn 🐝", BuyerEmail: "ilka.fenn@example.test",
		ShipTo: place.Address{Name: "Ilka Fenn", Street: "Heron Lane 4", Postcode: "41360", Town: "Harrowmere", Country: "XW"},
		Lines:  []message.OrderLine{line}, Total: line.Total, Paid: true}
	kind := w.rng.IntN(8)
	switch kind {
	case 0: // no currency of this world
		m.Currency = "shells"
	case 1:
		m.Lines[0].Quantity = -3
	case 2:
		m.Lines = nil
	case 3:
		o.write("item", id, 1, map[string]any{"sku": "ODD-" + id, "name": "Odd thing", "kind": "of another world", "currency": "EUR"})
		o.bad[id] = message.ItemsIn
		return
	case 4: // a parcel of an order that nobody knows
		o.write("dispatch", id, 1, message.Dispatch{Reference: id, OrderNumber: "NOBODY-" + id, Carrier: "Somebody",
			Tracking: toldPrefix + id, ShippedAt: time.Now()})
		o.bad[id] = message.DispatchIn
		return
	default:
		o.write("order", id, 1, m)
		o.good[id] = true
		return
	}
	o.write("order", id, 1, m)
	o.bad[id] = message.OrdersIn
}

// tellParcel lets the office tell that an open order of the store has left elsewhere, or correct what it told before.
func (w *world) tellParcel(l *ledger) {
	o := w.office
	if ids := slices.Sorted(maps.Keys(l.told)); len(ids) > 0 && w.rng.IntN(3) == 0 {
		id := pick(w, ids)
		p := l.told[id]
		p.before = append(p.before, p.tracking)
		p.version++
		p.tracking = fmt.Sprintf("%s%s-v%d", toldPrefix, id, p.version)
		w.office.write("dispatch", id, p.version, w.dispatchOf(id, p))
		return
	}
	ctx := context.Background()
	rows, err := w.Store.ListOrders(ctx, store.OrderFilter{Connection: "morrow", Stages: []string{"ready"}, Limit: 50})
	if err != nil || len(rows) == 0 {
		return
	}
	r := pick(w, rows)
	ord, err := w.Store.OrderByNumber(ctx, r.Number)
	if err != nil || slices.ContainsFunc(slices.Collect(maps.Values(l.told)), func(p *toldParcel) bool { return p.sale == ord.OutsideID }) {
		return
	}
	o.next++
	id := fmt.Sprintf("left-%d", o.next)
	p := &toldParcel{sale: ord.OutsideID, number: ord.Record.Number, tracking: toldPrefix + id, version: 1}
	l.told[id] = p
	o.write("dispatch", id, 1, w.dispatchOf(id, p))
}

func (w *world) dispatchOf(id string, p *toldParcel) message.Dispatch {
	return message.Dispatch{Reference: id, OrderNumber: p.number, Carrier: "Own van", Tracking: p.tracking, ShippedAt: time.Now()}
}

// checkOffice: each good order is here once, what could not be taken in stands before a person with its record, and the
// channel of a parcel that left elsewhere knows its newest number, and only that.
func (w *world) checkOffice(l *ledger) (wrong []string) {
	ctx := context.Background()
	bad := func(format string, args ...any) { wrong = append(wrong, fmt.Sprintf(format, args...)) }
	here := map[string]int{}
	for f := (store.OrderFilter{Connection: "office", Limit: 1000}); ; {
		rows, err := w.Store.ListOrders(ctx, f)
		if err != nil {
			bad("orders of the office: %v", err)
			return wrong
		}
		for _, r := range rows {
			o, err := w.Store.OrderByNumber(ctx, r.Number)
			if err != nil {
				bad("order %s: %v", r.Number, err)
				continue
			}
			here[o.OutsideID]++
		}
		if len(rows) < f.Limit {
			break
		}
		f.Before = rows[len(rows)-1].ID
	}
	for _, id := range slices.Sorted(maps.Keys(w.office.good)) {
		if here[id] != 1 {
			bad("order %s of the office is %d orders here", id, here[id])
		}
	}
	raised := w.raisedAbout()
	for _, id := range slices.Sorted(maps.Keys(w.office.bad)) {
		if here[id] != 0 {
			bad("%s cannot be an order, and is one", id)
		}
		if !raised[id] {
			bad("%s (%s) could not be taken in, and nobody was told", id, w.office.bad[id])
		}
	}
	for _, id := range slices.Sorted(maps.Keys(l.told)) {
		p := l.told[id]
		there := slices.Collect(maps.Values(w.Morrow.Trackings(p.sale)))
		if w.refusedThere(ctx, p.number) { // such as for an order that was cancelled: that stands before a person
			continue
		}
		for _, old := range p.before {
			if slices.Contains(there, old) && old != p.tracking {
				bad("the store still says %s of %s; that was corrected to %s", old, p.number, p.tracking)
			}
		}
		if n := count(there, p.tracking); n != 1 && !raised[id] {
			bad("the store says %v of %s, which left with %s, and nobody was told", there, p.number, p.tracking)
		}
	}
	return wrong
}

// refusedThere tells whether the channel of an order refused to be told of a parcel.
func (w *world) refusedThere(ctx context.Context, number string) bool {
	o, err := w.Client.Order(ctx, number)
	return err == nil && slices.ContainsFunc(o.WriteBacks, func(m wire.Outbox) bool {
		return m.Feed == message.DispatchOut && m.State == store.Refused
	})
}

func count(list []string, text string) (n int) {
	for _, s := range list {
		if s == text {
			n++
		}
	}
	return n
}

// raisedAbout lists the ids of messages that an open exception is about.
func (w *world) raisedAbout() map[string]bool {
	ctx := context.Background()
	out := map[string]bool{}
	open, err := w.Store.OpenExceptions(ctx, w.Relay.Clock(), 10_000)
	require.NoError(w.t, err)
	for _, e := range open {
		if e.Cause == engine.NotApplied {
			out[e.Subject] = true
		}
		if e.InboxID == 0 {
			continue
		}
		if in, _, err := w.Store.Inbox(ctx, e.InboxID); err == nil {
			out[in.OutsideID] = true
		}
	}
	return out
}
