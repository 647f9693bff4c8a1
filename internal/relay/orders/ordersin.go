package orders

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeOrders decides on all order messages of the batch, in the order in which they came.
func (r *Orders) TakeOrders(b *exchange.Batch, all []exchange.Mapped) error {
	var msgs []exchange.Mapped
	var outside, skus, numbers []string
	seenID, seenSKU, seenNumber := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, m := range all {
		o, ok := m.Msg.(*message.Order)
		if !ok {
			continue
		}
		msgs = append(msgs, m)
		if !seenID[m.In.OutsideID] {
			seenID[m.In.OutsideID] = true
			outside = append(outside, m.In.OutsideID)
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
	existing, err := b.Ch.OrdersByOutside(b.C.Rec().ID, outside)
	if err != nil {
		return err
	}
	items, err := r.matches(b.Ch.Tx, b.C.Rec().ID, skus, numbers)
	if err != nil {
		return err
	}
	scene, err := r.scene(b, existing, items)
	if err != nil {
		return err
	}
	void, err := b.Ch.OnlyVoid(b.C.Rec().ID, outside)
	if err != nil {
		return err
	}
	set := b.C.Settings()
	counters := map[string]*store.Counter{}
	var numberErr error
	scene.NewOrder = func(m *message.Order, outsideID string) (int64, string) {
		id, err := b.Ch.NewOrderID()
		numberErr = errors.Join(numberErr, err)
		if n := b.Again[outsideID]; n != "" {
			return id, n
		}
		c, err := r.counter(b, counters, set, m)
		if numberErr = errors.Join(numberErr, err); numberErr != nil {
			return id, ""
		}
		return id, c.Next()
	}
	if err := r.customers(b, scene, msgs); err != nil {
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
		msg := m.Msg.(*message.Order)
		if existing[m.In.OutsideID] == nil && len(set.Take) > 0 && !slices.Contains(set.Take, string(msg.Status)) {
			y, _, err := b.Tally(m.In)
			if err != nil {
				return err
			}
			why := fmt.Sprintf("orders that are %s are not taken, by setting", msg.Status)
			y.Skipped++
			y.Reason(why)
			b.Settle(m.In, "skipped", why, 0)
			continue
		}
		if existing[m.In.OutsideID] == nil && void[m.In.OutsideID] != 0 && b.Again == nil {
			y, _, err := b.Tally(m.In)
			if err != nil {
				return err
			}
			y.Skipped++
			y.Reason("voided here")
			b.Settle(m.In, "skipped", "the order was voided here; it comes in again when a person says so", void[m.In.OutsideID])
			continue
		}
		c := order.TakeIn(existing[m.In.OutsideID], order.Arrival{
			ConnectionID: b.C.Rec().ID, OutsideID: m.In.OutsideID, Version: m.In.Version, Message: msg, Via: m.In.Via,
		}, scene)
		if numberErr != nil {
			return numberErr
		}
		y, _, terr := b.Tally(m.In)
		if terr != nil {
			return terr
		}
		o := c.Order
		if c.Created {
			o.TypedBy = b.Typed
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
		b.Ch.Watch = b.Ch.Watch || o.Ours.Answer != nil
		switch {
		case c.Skipped != "":
			y.Skipped++
			y.Reason(c.Skipped)
			b.Settle(m.In, "skipped", c.Skipped, o.ID)
			continue
		case c.Created:
			y.New++
			existing[m.In.OutsideID] = o
			created = append(created, o)
			isNew[o.ID] = true
		default:
			y.Changed++
			if !isNew[o.ID] && !isChanged[o.ID] {
				changed = append(changed, o)
				isChanged[o.ID] = true
			}
		}
		b.Settle(m.In, "done", "", o.ID)
		entries = append(entries, Notes(c, b.C.Rec().Name, b.Ch.Now)...)
		b.Ch.Tell("order", o.Number)
	}
	if err := b.Ch.InsertOrders(created); err != nil {
		return err
	}
	for _, o := range changed {
		if err := r.SaveOrder(b.Ch, o); err != nil {
			return err
		}
		b.Ch.Mark(engine.OrderChanged, o.ID)
		if err := r.refind(b.Ch, o, was[o.ID]); err != nil {
			return err
		}
	}
	for _, c := range counters {
		if err := b.Ch.Keep(c); err != nil {
			return err
		}
	}
	if err := b.Ch.PutFacts(facts, factIDs); err != nil {
		return err
	}
	if err := r.tellChannel(b, created, changed, answers); err != nil {
		return err
	}
	for _, o := range created {
		markCarried(b.Ch, o)
		if len(o.Holds) > 0 {
			b.Ch.Mark(engine.OrderSaved, o.ID)
		}
	}
	if err := b.Ch.Note(entries...); err != nil {
		return err
	}
	return r.Inventory.Post(b.Ch, scene.Book)
}

// matches says which item each line of orders of a channel is: what the listing that was bought is matched
// to, by its number or its SKU, or the item with exactly this SKU.
type matches struct {
	items    map[string]int64 // by SKU of ours
	byNumber map[string]store.ListingMatch
	bySKU    map[string][]store.ListingMatch
}

func (r *Orders) matches(t *store.Tx, connection int64, skus, numbers []string) (*matches, error) {
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

func (r *Orders) scene(b *exchange.Batch, existing map[string]*order.Order, items *matches) (*order.Scene, error) {
	need := items.all()
	for _, o := range existing {
		ItemsOf(o, need)
	}
	book, err := r.Inventory.Book(b.Ch, engine.Keys(need))
	if err != nil {
		return nil, err
	}
	s, err := r.SceneFor(b.C, b.Ch, book, b.C.Rec().Name)
	if err != nil {
		return nil, err
	}
	if s.Test, err = b.Ch.InTest(b.C.ID); err != nil { // as it is now, not when the messages were mapped
		return nil, err
	}
	s.match(items)
	if err := r.traits(b, s.Scene, engine.Keys(need)); err != nil {
		return nil, err
	}
	return s.Scene, r.countedOut(b, s.Scene, engine.Keys(need))
}

// ItemsOf adds the items of an order, and what its kits were made of.
func ItemsOf(o *order.Order, to map[int64]bool) {
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

func (r *Orders) SceneFor(c *engine.Conn, ch *engine.Change, book *stock.Book, who string) (scene, error) {
	w, err := r.Inventory.ItemKindsNow(ch)
	if err != nil {
		return scene{}, err
	}
	set := c.Settings()
	s := &order.Scene{Now: ch.Now, Who: who, Sources: set.Offer.Sources, Tolerance: set.Tolerance, Account: set.Account,
		Test: c.Rec().Test, Look: set.Carry == "look", Keep: set.Keep,
		Since: store.Time(c.Rec().BeganAt), Book: book, Place: r.PlaceName, Item: func(*order.Line) int64 { return 0 }, Goods: w.Sells,
		Rules: r.rules.Load(), Where: r.PlaceID, Accept: set.Answer == "accept", Prep: time.Duration(set.PrepMinutes) * time.Minute,
		Channel: c.Rec().Code,
		Pays:    func(method string) string { return set.Payments[method] }}
	s.Own = r.PlaceID(set.OwnLocation)
	return scene{s}, nil
}

func Notes(c order.Change, who string, now time.Time) []store.Entry {
	out := make([]store.Entry, len(c.Notes))
	for i, n := range c.Notes {
		out[i] = store.Entry{At: now.UnixMicro(), Who: who, Thing: "order", ThingID: c.Order.ID, What: n.What, Text: n.Text}
	}
	return out
}

// SaveOrder writes a changed order; what follows from that is settled with the change.
func (r *Orders) SaveOrder(ch *engine.Change, o *order.Order) error {
	if err := ch.UpdateOrder(o); err != nil {
		return err
	}
	ch.Tell("order", o.Number)
	markCarried(ch, o)
	ch.Mark(engine.OrderSaved, o.ID)
	return nil
}

// markCarried marks an order that a rule lets go on without a person.
func markCarried(ch *engine.Change, o *order.Order) {
	if o.Ours.Decided.Carry != "" && !o.Routed {
		ch.Mark(engine.OrderCarried, o.ID)
	}
}

// EachOrder makes of what is to be done for an order a settler of many.
func EachOrder(f func(*engine.Change, *order.Order) error) engine.Settler {
	return func(ch *engine.Change, ids []int64) error {
		for _, id := range ids {
			o, err := ch.Order(id)
			if err != nil {
				return err
			}
			if err := f(ch, o); err != nil {
				return fmt.Errorf("order %s: %w", o.Number, err)
			}
		}
		return nil
	}
}

// SettleWords writes anew the words by which an order is found.
func (r *Orders) SettleWords(ch *engine.Change, o *order.Order) error { return ch.Findable(o) }

// SettleHolds keeps one open exception per hold.
func (r *Orders) SettleHolds(ch *engine.Change, o *order.Order) error {
	var keep []string
	for _, h := range o.Holds {
		about := h.About
		if len(about) == 0 {
			about = []string{""}
		}
		for _, subject := range about {
			keep = append(keep, string(h.Cause)+"\x1f"+subject)
			if err := ch.Raise(store.Exception{Cause: h.Cause, Subject: subject, Text: h.Text, Expected: h.Expected,
				ConnectionID: o.ConnectionID, OrderID: o.ID}, ch.Now); err != nil {
				return err
			}
		}
		ch.Tell("exception", o.Number)
		ch.Watch = true
	}
	return ch.CloseExceptions(o.ID, keep, "relay", ch.Now)
}
