package relay

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// orders decides on all order messages of the batch, in the order in which they came.
func (b *batch) orders(all []mapped) error {
	var msgs []mapped
	var outside, skus, numbers []string
	seenID, seenSKU, seenNumber := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, m := range all {
		o, ok := m.msg.(*message.Order)
		if !ok {
			continue
		}
		msgs = append(msgs, m)
		if !seenID[m.in.OutsideID] {
			seenID[m.in.OutsideID] = true
			outside = append(outside, m.in.OutsideID)
		}
		for _, l := range o.Lines {
			if !seenSKU[l.SKU] {
				seenSKU[l.SKU] = true
				skus = append(skus, l.SKU)
			}
			if l.Listing != "" && !seenNumber[l.Listing] {
				seenNumber[l.Listing] = true
				numbers = append(numbers, l.Listing)
			}
		}
	}
	if len(msgs) == 0 {
		return nil
	}
	existing, err := b.ch.OrdersByOutside(b.c.rec().ID, outside)
	if err != nil {
		return err
	}
	items, err := b.r.matches(b.ch.Tx, b.c.rec().ID, skus, numbers)
	if err != nil {
		return err
	}
	scene, err := b.scene(existing, items)
	if err != nil {
		return err
	}
	void, err := b.ch.OnlyVoid(b.c.rec().ID, outside)
	if err != nil {
		return err
	}
	set := b.c.settings()
	counters := map[string]*store.Counter{}
	var numberErr error
	scene.NewOrder = func(m *message.Order, outsideID string) (int64, string) {
		id, err := b.ch.NewOrderID()
		numberErr = errors.Join(numberErr, err)
		if n := b.again[outsideID]; n != "" {
			return id, n
		}
		c, err := b.counter(counters, set, m)
		if numberErr = errors.Join(numberErr, err); numberErr != nil {
			return id, ""
		}
		return id, c.Next()
	}
	if err := b.customers(scene, msgs); err != nil {
		return err
	}
	var created, changed []*order.Order
	isNew, isChanged := map[int64]bool{}, map[int64]bool{}
	var entries []store.Entry
	facts, factIDs := map[int64]*rules.Facts{}, []int64{}
	answers := map[int64]bool{}
	was := map[int64]findable{}
	for _, o := range existing {
		was[o.ID] = findableOf(o)
	}
	for _, m := range msgs {
		msg := m.msg.(*message.Order)
		if existing[m.in.OutsideID] == nil && len(set.Take) > 0 && !slices.Contains(set.Take, string(msg.Status)) {
			y, _, err := b.tally(m.in)
			if err != nil {
				return err
			}
			why := fmt.Sprintf("orders that are %s are not taken, by setting", msg.Status)
			y.Skipped++
			y.Reason(why)
			b.settle(m.in, "skipped", why, 0)
			continue
		}
		if existing[m.in.OutsideID] == nil && void[m.in.OutsideID] != 0 && b.again == nil {
			y, _, err := b.tally(m.in)
			if err != nil {
				return err
			}
			y.Skipped++
			y.Reason("voided here")
			b.settle(m.in, "skipped", "the order was voided here; it comes in again when a person says so", void[m.in.OutsideID])
			continue
		}
		c := order.TakeIn(existing[m.in.OutsideID], order.Arrival{
			ConnectionID: b.c.rec().ID, OutsideID: m.in.OutsideID, Version: m.in.Version, Message: msg, Via: m.in.Via,
		}, scene)
		if numberErr != nil {
			return numberErr
		}
		y, _, terr := b.tally(m.in)
		if terr != nil {
			return terr
		}
		o := c.Order
		if c.Created {
			o.TypedBy = b.typed
		}
		if c.Facts != nil && !o.Test {
			if facts[o.ID] == nil {
				factIDs = append(factIDs, o.ID)
			}
			facts[o.ID] = c.Facts
		}
		if c.Answer {
			answers[o.ID] = true
		}
		b.ch.watch = b.ch.watch || o.Ours.Answer != nil
		switch {
		case c.Skipped != "":
			y.Skipped++
			y.Reason(c.Skipped)
			b.settle(m.in, "skipped", c.Skipped, o.ID)
			continue
		case c.Created:
			y.New++
			existing[m.in.OutsideID] = o
			created = append(created, o)
			isNew[o.ID] = true
		default:
			y.Changed++
			if !isNew[o.ID] && !isChanged[o.ID] {
				changed = append(changed, o)
				isChanged[o.ID] = true
			}
		}
		b.settle(m.in, "done", "", o.ID)
		entries = append(entries, notes(c, b.c.rec().Name, b.ch.now)...)
		b.ch.tell("order", o.Number)
	}
	if err := b.ch.InsertOrders(created); err != nil {
		return err
	}
	for _, o := range changed {
		if err := b.r.saveOrder(b.ch, o); err != nil {
			return err
		}
		if err := b.r.onChanged(b.ch, o); err != nil {
			return err
		}
		if err := b.r.refind(b.ch, o, was[o.ID]); err != nil {
			return err
		}
	}
	for _, c := range counters {
		if err := b.ch.Keep(c); err != nil {
			return err
		}
	}
	if err := b.ch.PutFacts(facts, factIDs); err != nil {
		return err
	}
	if err := b.tellChannel(created, changed, answers); err != nil {
		return err
	}
	for _, o := range created {
		before := o.Revision
		if err := b.r.onSaving(b.ch, o); err != nil {
			return err
		}
		if o.Revision != before {
			if err := b.ch.UpdateOrder(o); err != nil {
				return err
			}
		}
		if len(o.Holds) > 0 {
			if err := b.r.syncExceptions(b.ch, o); err != nil {
				return err
			}
		}
	}
	if err := b.ch.Note(entries...); err != nil {
		return err
	}
	return b.r.post(b.ch, scene.Book)
}

// matches says which item each line of orders of a channel is: what the listing that was bought is matched
// to, by its number or its SKU, or the item with exactly this SKU.
type matches struct {
	items    map[string]int64 // by SKU of ours
	byNumber map[string]store.ListingMatch
	bySKU    map[string][]store.ListingMatch
}

func (r *Relay) matches(t *store.Tx, connection int64, skus, numbers []string) (*matches, error) {
	items, err := t.ItemsBySKU(skus)
	if err != nil {
		return nil, err
	}
	m := &matches{items: items, byNumber: map[string]store.ListingMatch{}, bySKU: map[string][]store.ListingMatch{}}
	listed, err := t.ListingMatches(connection, skus, numbers)
	if err != nil {
		return nil, err
	}
	for _, l := range listed {
		m.byNumber[l.OutsideID] = l
		if l.SKU != "" {
			m.bySKU[l.SKU] = append(m.bySKU[l.SKU], l)
		}
	}
	return m, nil
}

// of finds the item of a line, and says why there is none where there is something to say.
func (m *matches) of(l *order.Line) (item int64, why string) {
	if l.Listing != "" {
		if x, ok := m.byNumber[l.Listing]; ok {
			return x.ItemID, x.Why()
		}
	}
	listed := m.bySKU[l.SKU]
	if len(listed) > 1 { // a SKU that stands twice there: the title tells which, if the items differ
		same := true
		for _, x := range listed {
			same = same && x.ItemID == listed[0].ItemID
		}
		if !same {
			for _, x := range listed {
				if x.Title == l.Title {
					return x.ItemID, x.Why()
				}
			}
			return 0, fmt.Sprintf("%d listings there carry the SKU %s, and not all are the same item.", len(listed), l.SKU)
		}
	}
	if len(listed) > 0 && (listed[0].ItemID != 0 || listed[0].Ignored) {
		return listed[0].ItemID, listed[0].Why()
	}
	if id := m.items[l.SKU]; id != 0 && len(listed) == 0 {
		return id, ""
	}
	if len(listed) > 0 {
		return 0, listed[0].Why()
	}
	return 0, ""
}

// all lists the items that are known.
func (m *matches) all() map[int64]bool {
	need := map[int64]bool{}
	for _, id := range m.items {
		need[id] = true
	}
	for _, l := range m.byNumber {
		if l.ItemID != 0 {
			need[l.ItemID] = true
		}
	}
	return need
}

func (b *batch) scene(existing map[string]*order.Order, items *matches) (*order.Scene, error) {
	need := items.all()
	for _, o := range existing {
		itemsOf(o, need)
	}
	book, err := b.r.book(b.ch, keys(need))
	if err != nil {
		return nil, err
	}
	s, err := b.r.sceneFor(b.c, b.ch, book, b.c.rec().Name)
	if err != nil {
		return nil, err
	}
	if s.Test, err = b.ch.InTest(b.c.id); err != nil { // as it is now, not when the messages were mapped
		return nil, err
	}
	s.match(items)
	if err := b.traits(s.Scene, keys(need)); err != nil {
		return nil, err
	}
	return s.Scene, b.countedOut(s.Scene, keys(need))
}

// itemsOf adds the items of an order, and what its kits were made of.
func itemsOf(o *order.Order, to map[int64]bool) {
	for i := range o.Lines {
		l := &o.Lines[i]
		to[l.ItemID] = true
		for _, c := range l.Parts {
			to[c.Item] = true
		}
	}
}

// scene is what a decision looks at.
type scene struct{ *order.Scene }

func (s scene) match(m *matches) {
	s.Item = func(l *order.Line) int64 { id, _ := m.of(l); return id }
	s.Unknown = func(l *order.Line) string { _, why := m.of(l); return why }
}

func (r *Relay) sceneFor(c *conn, ch *change, book *stock.Book, who string) (scene, error) {
	w, err := r.waresNow(ch)
	if err != nil {
		return scene{}, err
	}
	set := c.settings()
	s := &order.Scene{Now: ch.now, Who: who, Sources: set.Offer.Sources, Tolerance: set.Tolerance, Account: set.Account, Test: c.rec().Test, Look: set.Carry == "look", Keep: set.Keep,
		Since: store.Time(c.rec().BeganAt), Book: book, Place: r.placeName, Item: func(*order.Line) int64 { return 0 }, Goods: w.sells,
		Rules: r.rules.Load(), Where: r.placeID, Accept: set.Answer == "accept", Prep: time.Duration(set.PrepMinutes) * time.Minute, Channel: c.rec().Code,
		Pays: func(method string) string { return set.Payments[method] }}
	s.Own = r.placeID(set.OwnLocation)
	return scene{s}, nil
}

func notes(c order.Change, who string, now time.Time) []store.Entry {
	out := make([]store.Entry, len(c.Notes))
	for i, n := range c.Notes {
		out[i] = store.Entry{At: now.UnixMicro(), Who: who, Thing: "order", ThingID: c.Order.ID, What: n.What, Text: n.Text}
	}
	return out
}

func (r *Relay) saveOrder(ch *change, o *order.Order) error {
	if err := r.onSaving(ch, o); err != nil {
		return err
	}
	if err := ch.UpdateOrder(o); err != nil {
		return err
	}
	ch.tell("order", o.Number)
	return r.syncExceptions(ch, o)
}

// syncExceptions keeps one open exception per hold.
func (r *Relay) syncExceptions(ch *change, o *order.Order) error {
	var keep []string
	for _, h := range o.Holds {
		about := h.About
		if len(about) == 0 {
			about = []string{""}
		}
		for _, subject := range about {
			keep = append(keep, string(h.Cause)+"\x1f"+subject)
			if err := ch.Raise(store.Exception{Cause: string(h.Cause), Subject: subject, Text: h.Text, Expected: h.Expected, ConnectionID: o.ConnectionID, OrderID: o.ID}, ch.now); err != nil {
				return err
			}
		}
		ch.tell("exception", o.Number)
		ch.watch = true
	}
	return ch.CloseExceptions(o.ID, keep, "relay", ch.now)
}
