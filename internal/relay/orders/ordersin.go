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
	t := &taking{Orders: r, b: b, set: b.C.Settings(), counters: map[string]*store.Counter{}, isNew: map[int64]bool{},
		isChanged: map[int64]bool{}, facts: map[int64]*rules.Facts{}, answers: map[int64]bool{}, was: map[int64]findable{}}
	for _, m := range all {
		if _, is := m.Msg.(*message.Order); is {
			t.msgs = append(t.msgs, m)
		}
	}
	if len(t.msgs) == 0 {
		return nil
	}
	if err := t.load(); err != nil {
		return err
	}
	for _, m := range t.msgs {
		if err := t.decide(m); err != nil {
			return err
		}
	}
	return t.save()
}

// taking is a batch of orders that is being taken in.
type taking struct {
	*Orders
	b   *exchange.Batch
	set *engine.Settings

	msgs     []exchange.Mapped
	existing map[string]*order.Order // by the channel's id
	void     map[string]int64        // orders that are only there voided
	scene    *order.Scene
	counters map[string]*store.Counter
	refused  error // why no number could be given

	created, changed []*order.Order
	isNew, isChanged map[int64]bool
	entries          []store.Entry
	facts            map[int64]*rules.Facts
	factIDs          []int64
	answers          map[int64]bool // orders whose channel is to be answered
	was              map[int64]findable
}

// named lists what the messages name: orders by the channel's ids, items by SKU, listings by number, each once.
func (t *taking) named() (outside, skus, numbers []string) {
	seen := map[[2]string]bool{}
	add := func(to *[]string, kind, name string) {
		if key := [2]string{kind, name}; !seen[key] {
			seen[key] = true
			*to = append(*to, name)
		}
	}
	for _, m := range t.msgs {
		add(&outside, "order", m.In.OutsideID)
		for _, l := range m.Msg.(*message.Order).Lines {
			add(&skus, "item", l.SKU)
			if l.Listing != "" {
				add(&numbers, "listing", l.Listing)
			}
		}
	}
	return outside, skus, numbers
}

// load reads all that the decisions look at.
func (t *taking) load() error {
	b := t.b
	outside, skus, numbers := t.named()
	var err error
	if t.existing, err = b.Ch.OrdersByOutside(b.C.Rec().ID, outside); err != nil {
		return err
	}
	items, err := t.matches(b.Ch.Tx, b.C.Rec().ID, skus, numbers)
	if err != nil {
		return err
	}
	if t.scene, err = t.Orders.scene(b, t.existing, items); err != nil {
		return err
	}
	if t.void, err = b.Ch.OnlyVoid(b.C.Rec().ID, outside); err != nil {
		return err
	}
	t.scene.NewOrder = t.number
	for _, o := range t.existing {
		t.was[o.ID] = findableOf(o)
	}
	t.forget()
	return t.customers(b, t.scene, t.msgs)
}

// forget takes out of newer versions of orders what tells who bought, where that was removed here: it does not come back with
// what the channel says next.
func (t *taking) forget() {
	for i := range t.msgs {
		if o := t.existing[t.msgs[i].In.OutsideID]; o != nil && !o.ForgottenAt.IsZero() {
			clean := order.Bare(t.msgs[i].Msg.(*message.Order), store.Forgotten)
			t.msgs[i].Msg = &clean
		}
	}
}

// number gives a new order its id and number.
func (t *taking) number(m *message.Order, outsideID string) (int64, string) {
	id, err := t.b.Ch.NewOrderID()
	t.refused = errors.Join(t.refused, err)
	if n := t.b.Again[outsideID]; n != "" {
		return id, n
	}
	c, err := t.counter(t.b, t.counters, t.set, m)
	if t.refused = errors.Join(t.refused, err); t.refused != nil {
		return id, ""
	}
	return id, c.Next()
}

// notTaken says why a new order is not taken in, if it is not: for the run's log, and for the message.
func (t *taking) notTaken(m exchange.Mapped) (reason, text string) {
	if t.existing[m.In.OutsideID] != nil {
		return "", ""
	}
	if msg := m.Msg.(*message.Order); len(t.set.Take) > 0 && !slices.Contains(t.set.Take, string(msg.Status)) {
		text = fmt.Sprintf("orders that are %s are not taken, by setting", msg.Status)
		return text, text
	}
	if t.void[m.In.OutsideID] != 0 && t.b.Again == nil {
		return "voided here", "the order was voided here; it comes in again when a person says so"
	}
	return "", ""
}

// decide decides on one message.
func (t *taking) decide(m exchange.Mapped) error {
	b := t.b
	y, _, err := b.Tally(m.In)
	if err != nil {
		return err
	}
	if reason, text := t.notTaken(m); reason != "" {
		y.Skipped++
		y.Reason(reason)
		b.Settle(m.In, "skipped", text, t.void[m.In.OutsideID])
		return nil
	}
	c := order.TakeIn(t.existing[m.In.OutsideID], order.Arrival{ConnectionID: b.C.Rec().ID, OutsideID: m.In.OutsideID,
		Version: m.In.Version, Message: m.Msg.(*message.Order), Via: m.In.Via}, t.scene)
	if t.refused != nil {
		return t.refused
	}
	t.note(c)
	o := c.Order
	switch {
	case c.Skipped != "":
		y.Skipped++
		y.Reason(c.Skipped)
		b.Settle(m.In, "skipped", c.Skipped, o.ID)
		return nil
	case c.Created:
		y.New++
		t.existing[m.In.OutsideID] = o
		t.created = append(t.created, o)
		t.isNew[o.ID] = true
	default:
		y.Changed++
		if len(o.Record.Parcels) > 0 {
			b.Ch.Mark(engine.ParcelsSeen, o.ID)
		}
		if !t.isNew[o.ID] && !t.isChanged[o.ID] {
			t.changed = append(t.changed, o)
			t.isChanged[o.ID] = true
		}
	}
	b.Settle(m.In, "done", "", o.ID)
	if !o.ForgottenAt.IsZero() {
		if err := b.Ch.ForgetRaw(m.In.ID); err != nil {
			return err
		}
	}
	t.entries = append(t.entries, Notes(c, b.C.Rec().Name, b.Ch.Now)...)
	b.Ch.Tell("order", o.Number)
	return nil
}

// note keeps what a decision entails beside the order itself.
func (t *taking) note(c order.Change) {
	o := c.Order
	if c.Created {
		o.TypedBy = t.b.Typed
	}
	if c.Facts != nil && !o.Test {
		if t.facts[o.ID] == nil {
			t.factIDs = append(t.factIDs, o.ID)
		}
		t.facts[o.ID] = c.Facts
	}
	if c.Answer {
		t.answers[o.ID] = true
	}
	t.b.Ch.Watch = t.b.Ch.Watch || o.Ours.Answer != nil
}

// save writes what was decided.
func (t *taking) save() error {
	ch := t.b.Ch
	if err := ch.InsertOrders(t.created); err != nil {
		return err
	}
	for _, o := range t.changed {
		if err := t.SaveOrder(ch, o); err != nil {
			return err
		}
		ch.Mark(engine.OrderChanged, o.ID)
		if err := t.refind(ch, o, t.was[o.ID]); err != nil {
			return err
		}
	}
	for _, c := range t.counters {
		if err := ch.Keep(c); err != nil {
			return err
		}
	}
	if err := ch.PutFacts(t.facts, t.factIDs); err != nil {
		return err
	}
	if err := t.tellChannel(t.b, t.created, t.changed, t.answers); err != nil {
		return err
	}
	for _, o := range t.created {
		markCarried(ch, o)
		t.markRequests(ch, o)
		ch.Mark(engine.CartonAsked, o.ID)
		ch.Mark(engine.AddressKnown, o.ID)
		if len(o.Holds) > 0 {
			ch.Mark(engine.OrderSaved, o.ID)
		}
	}
	if err := ch.Note(t.entries...); err != nil {
		return err
	}
	return t.Inventory.Post(ch, t.scene.Book)
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
	if r.Route != nil {
		s.Route = r.Route(ch, book)
	}
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
	if !o.Routed {
		ch.Mark(engine.CartonAsked, o.ID)
	}
	ch.Mark(engine.OrderSaved, o.ID)
	if !o.Routed {
		ch.Mark(engine.AddressKnown, o.ID)
	}
	r.markRequests(ch, o)
	return nil
}

// markRequests marks an order of which a partner sends something, or may have been asked to.
func (r *Orders) markRequests(ch *engine.Change, o *order.Order) {
	if !r.HasPartners() {
		return
	}
	if o.Routed || o.Test {
		ch.Mark(engine.RequestsMoved, o.ID)
		return
	}
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			if r.PartnerAt(a.Location) != nil {
				ch.Mark(engine.RequestsMoved, o.ID)
				return
			}
		}
	}
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
