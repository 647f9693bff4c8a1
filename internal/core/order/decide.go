package order

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
)

// Arrival is one version of an order as it reached us.
type Arrival struct {
	ConnectionID int64
	OutsideID    string
	Version      int64
	Message      *message.Order
	Via          string // "push", "poll", or who typed it
}

// Scene is what a decision may look at. Book and the two number functions are changed by it.
type Scene struct {
	Now       time.Time
	Who       string
	Sources   []int64                // locations that feed the channel, best first
	Item      func(*Line) int64      // 0 when no item matches
	Unknown   func(*Line) string     // why none does, if there is more to say; may be nil
	Goods     func(item int64) Sells // what an item is; nil: all lie on a shelf as they are
	Place     func(loc int64) string // a location's name
	Tolerance int64                  // minor units that totals may differ by
	Account   string                 // to which a difference within the tolerance is booked
	Own       int64                  // location that holds what the channel ships from stock of its own; 0: none
	Test      bool                   // the connection is in test: no stock moves
	Look      bool                   // a person wants to look at each new order
	Keep      []string               // fields that the channel's newer versions do not overwrite
	Since     time.Time              // when the connection began: older orders move no stock
	Book      *stock.Book
	NewOrder  func(m *message.Order, outsideID string) (id int64, number string)

	// Counted tells whether the keeper of the channel's own location may have counted a sale out already: its last
	// word about the item is as of a later moment. nil: never.
	Counted func(item int64, sold time.Time) bool
	// Rules decide about an order when it can be worked on; nil: none.
	Rules *rules.Set
	// Where is the location with a code, or 0.
	Where func(code string) int64
	// Accept takes orders that want an answer without a person, ready after Prep.
	Accept bool
	Prep   time.Duration
	// Customer finds or makes the customer of an order, and tells whether they bought before; nil: there are none.
	Customer func(*message.Order) (id int64, returning bool)
	// Pays is the account that a channel's method of payment stands for; nil: none.
	Pays func(method string) string
	// Route says which units of what waits are sent from which of some locations, best first as far as nothing else is known, by the
	// line's id; nil: of each line from the first location that has all of it.
	Route   func(o *Order, from []int64) map[int64][]stock.Part
	Channel string // code of the connection, as rules know it
}

// Sells is what an item is to an order.
type Sells struct {
	stock.Goods
	Charge bool // nothing is to be sent for it

	WeightG  int64 // of a unit
	Category string
	Marks    []string
}

// know finds out what the line sells, as long as no stock was promised for it.
func (l *Line) know(s *Scene) {
	if l.ItemID == 0 {
		l.ItemID = s.Item(l)
	}
	if l.ItemID == 0 || s.Goods == nil || l.Allocated+l.Picked+l.Packed+l.Shipped > 0 {
		return
	}
	g := s.Goods(l.ItemID)
	l.Parts, l.NoStock, l.Charge = g.Parts, g.NoStock, g.Charge
}

// Note is one entry for the order's timeline.
type Note struct {
	What string
	Text string
}

// Change is the outcome of a decision.
type Change struct {
	Order   *Order
	Created bool
	Skipped string // why nothing was done; Order is then unchanged
	Notes   []Note
	Facts   *rules.Facts // what rules look at, where it is known anew
	Answer  bool         // the channel is to be told the order's answer
}

func (c *Change) note(what, format string, args ...any) {
	c.Notes = append(c.Notes, Note{what, fmt.Sprintf(format, args...)})
}

// TakeIn decides what an arrival does. existing is our order for the same channel order, or nil. The
// message must have passed its own Check.
func TakeIn(existing *Order, a Arrival, s *Scene) Change {
	if existing == nil {
		return create(a, s)
	}
	if a.Version <= existing.Version {
		return Change{Order: existing, Skipped: "older than what we have"}
	}
	return update(existing, a, s)
}

func create(a Arrival, s *Scene) Change {
	m := a.Message
	id, number := s.NewOrder(m, a.OutsideID)
	o := &Order{
		ID: id, Number: number, ConnectionID: a.ConnectionID, OutsideID: a.OutsideID, Version: a.Version,
		Record: *m, ShipTo: m.ShipTo, ReceivedAt: s.Now, Via: a.Via, Revision: 1,
	}
	c := Change{Order: o, Created: true}
	c.note("taken in", "Taken in by %s: %s, %d %s, channel state %s", a.Via, m.Number, len(m.Lines), plural(len(m.Lines), "line"), m.State)
	o.Lines = make([]Line, len(m.Lines))
	for i, l := range m.Lines {
		o.Lines[i] = Line{
			ID: LineID(id, i+1), Position: i + 1, OutsideID: l.ID, SKU: l.SKU, Title: l.Title, Quantity: l.Quantity,
			UnitPrice: l.UnitPrice, Discount: l.Discount, Tax: l.Tax, Total: l.Total, Listing: l.Listing, Choices: l.Choices, Note: l.Note,
		}
		o.Lines[i].know(s)
	}
	returning := o.known(s)
	c.Facts = facts(o, s, returning)
	if s.Test {
		o.Test, o.NoStockMoved = true, true
		c.hold(o, Hold{Cause: TestOrder, Text: "It came over a connection in test: it holds no stock and is not sent.",
			Expected: "Nothing. Clear the test records, then go live."})
		return c
	}
	switch {
	case m.Status == message.Cancelled:
		for i := range o.Lines {
			o.Lines[i].Cancelled = o.Lines[i].Quantity
		}
		c.note("cancelled", "Was already cancelled at the channel: kept for the record, no stock moved")
		o.lapsed(&c)
		return c
	case o.Elsewhere():
		doneElsewhere(o, s, &c)
		return c
	case m.Status == message.Shipped:
		takeAsDone(o, s, &c)
		o.checkMoney(s, &c, false)
		return c
	}
	rule(o, s, &c)
	examine(o, s, &c)
	AllocateWaiting(o, s, &c)
	if s.Look || o.Ours.Decided.Carry == "create" {
		c.hold(o, Hold{Cause: WantsLook, Text: "New orders like this wait until a person has looked at them.",
			Expected: "A look, and a word to go on."})
	}
	if len(c.Notes) == 2 && c.Notes[1].What == "allocated" { // the ordinary case is one entry
		c.Notes = []Note{{"taken in", c.Notes[0].Text + ". " + c.Notes[1].Text}}
	}
	return c
}

// takeAsDone books an order that the channel shipped before we ever saw it. Stock is lowered where
// the sale is younger than the connection, for then our counts still hold the goods.
func takeAsDone(o *Order, s *Scene, c *Change) {
	o.ShippedAt = o.Record.ChangedAt
	// Many systems tell the time of a sale to the second only.
	moved := !o.Record.PlacedAt.Before(s.Since.Truncate(time.Second)) && len(s.Sources) > 0
	o.NoStockMoved = !moved
	for i := range o.Lines {
		l := &o.Lines[i]
		l.Shipped = l.Quantity
		if moved && l.ItemID != 0 && !l.Charge {
			l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Ship, Reason: "shipped at the channel before it reached us", Who: s.Who,
				DocKind: "order", DocID: o.ID},
				s.Sources[0], l.Quantity, -1, 0)
		}
	}
	switch lost := o.untracked(); {
	case o.Kind() == message.Counter && moved && lost != "":
		c.note("shipped", "Sold over the counter at %s: paid and handed over. No stock was lowered for %s", s.Place(s.Sources[0]), lost)
	case o.Kind() == message.Counter && moved:
		c.note("shipped", "Sold over the counter at %s: paid and handed over, stock lowered there", s.Place(s.Sources[0]))
	case moved && lost != "":
		c.note("shipped", "Was already shipped at the channel: taken in as done. No stock was lowered for %s", lost)
	case moved:
		c.note("shipped", "Was already shipped at the channel: taken in as done, stock lowered")
	default:
		c.note("shipped", "Was already shipped at the channel before this connection began: taken in as done, no stock was lowered for it")
	}
}

// untracked names the lines for which no stock is lowered, or is empty.
func (o *Order) untracked() string {
	var out []string
	for i := range o.Lines {
		switch l := &o.Lines[i]; {
		case l.Charge:
		case l.ItemID == 0:
			out = append(out, fmt.Sprintf("%s, which is no item of ours", or(l.SKU, l.Title)))
		case l.NoStock:
			out = append(out, fmt.Sprintf("%s, which holds none", l.SKU))
		}
	}
	return strings.Join(out, "; ")
}

func or(s, otherwise string) string {
	if s == "" {
		return otherwise
	}
	return s
}

// doneElsewhere follows an order that the channel ships from its own stock, or that somebody else ships: once
// it has left, it is done. What the channel holds for us is lowered by what it sold.
func doneElsewhere(o *Order, s *Scene, c *Change) {
	who := "The channel ships it from its own stock"
	if o.Record.FulfilledBy == message.ByOther {
		who = "Somebody else ships it"
	}
	o.NoStockMoved = true
	if o.Record.Status != message.Shipped {
		c.note("by the channel", "%s; nothing is to be done here", who)
		return
	}
	o.ShippedAt = o.Record.ChangedAt
	own := o.Record.FulfilledBy == message.ByChannel && s.Own != 0 && !o.Record.PlacedAt.Before(s.Since.Truncate(time.Second))
	counted := 0
	for i := range o.Lines {
		l := &o.Lines[i]
		sent := l.Live() - l.Shipped
		l.Shipped = l.Live()
		if !own || l.ItemID == 0 || l.Charge || sent <= 0 {
			continue
		}
		o.NoStockMoved = false
		m := stock.Movement{At: s.Now, Kind: stock.Ship, Reason: l.why("shipped by the channel from its own stock"), Who: s.Who,
			DocKind: "order", DocID: o.ID}
		l.post(s.Book, m, s.Own, sent, -1, 0)
		if s.Counted != nil && s.Counted(l.ItemID, o.Record.PlacedAt) {
			m.Kind, m.Reason = stock.Count, "the keeper's word had counted it out already"
			l.post(s.Book, m, s.Own, sent, 1, 0)
			counted++
		}
	}
	switch {
	case o.NoStockMoved:
		c.note("shipped", "%s and it has left; no stock of ours was lowered for it", who)
	case counted > 0:
		c.note("shipped", "Shipped by the channel from what it holds for us at %s; its own word had lowered the stock there already",
			s.Place(s.Own))
	default:
		c.note("shipped", "Shipped by the channel from what it holds for us; lowered at %s", s.Place(s.Own))
	}
}

// LineID is the id of a line: the lines of an order follow each other.
func LineID(order int64, position int) int64 { return order*1024 + int64(position) }

// examine sets and clears the holds that the order's own content causes.
func examine(o *Order, s *Scene, c *Change) {
	var unknown, about []string
	more := ""
	for i := range o.Lines {
		if l := &o.Lines[i]; l.ItemID == 0 && l.Live() > 0 {
			unknown = append(unknown, fmt.Sprintf("%s (%s)", l.SKU, l.Title))
			if key := or(l.SKU, l.Title); !slices.Contains(about, key) {
				about = append(about, key)
			}
			if s.Unknown != nil && more == "" {
				more = s.Unknown(l)
			}
		}
	}
	if len(unknown) > 0 {
		text := fmt.Sprintf("No item of ours is known as %s. No stock was lowered for it.", strings.Join(unknown, ", "))
		if more != "" {
			text += " " + more
		}
		c.hold(o, Hold{Cause: UnknownItem, Text: text,
			Expected: "An item with this SKU. Match the listing to an item; the order then goes on by itself.", About: about})
	} else {
		c.free(o, UnknownItem)
	}
	o.checkMoney(s, c, true)
	o.wantAnswer(s, c)
	if p := o.ShipTo.Problems(); len(p) > 0 && o.Record.Status != message.Pending &&
		(o.Kind() == message.Ship || o.Kind() == message.Local) {
		c.hold(o, Hold{Cause: BadAddress, Text: "The address cannot be delivered to: " + strings.Join(p, "; ") + ".",
			Expected: "A complete address. Correct it at the channel, or here.", About: []string{o.Number}})
	} else {
		c.free(o, BadAddress)
	}
}

func (c *Change) hold(o *Order, h Hold) {
	if old := o.HeldFor(h.Cause); old != nil && old.Text == h.Text && old.Expected == h.Expected {
		return
	}
	o.Hold(h)
	c.note("held", "%s", h.Text)
}

func (c *Change) free(o *Order, cause Cause) {
	if o.Free(cause) {
		c.note("released", "No longer held for: %s", cause)
	}
}

// AllocateWaiting promises stock to what waits, as far as there is any, and tells whether anything
// was promised. An order that stays short is held for it. The book must know the levels of all that waits.
func AllocateWaiting(o *Order, s *Scene, c *Change) bool {
	var short, about []string
	any := false
	for i := range o.Lines {
		o.Lines[i].know(s)
	}
	found := o.finder(s)
	for i := range o.Lines {
		l := &o.Lines[i]
		want := l.Waiting()
		if want <= 0 || l.ItemID == 0 {
			continue
		}
		for _, p := range found(l, want) {
			l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Allocate, Reason: l.why("sold"), Who: s.Who, DocKind: "order",
				DocID: o.ID}, p.Location, p.Quantity, 0, 1)
			l.allocate(p)
			want -= p.Quantity
			any = true
		}
		if want -= o.Kept(l); want > 0 {
			short = append(short, fmt.Sprintf("%d of %s", want, l.SKU))
			about = append(about, l.SKU)
		}
	}
	if len(short) > 0 {
		c.hold(o, o.shortHold(short, about, s))
	} else {
		c.free(o, NoStock)
	}
	if any {
		c.note("allocated", "Stock allocated: %s", allocationText(o, s.Place))
	}
	return any
}

// shortHold is the hold of an order of which some is nowhere to be had, with the places that do not send it.
func (o *Order) shortHold(short, about []string, s *Scene) Hold {
	h := Hold{Cause: NoStock, Text: "Short of " + strings.Join(short, ", ") + ".",
		Expected: "Stock at a location that feeds this channel. When some arrives, the order goes on by itself.", About: about}
	if o.Ours.Awaits != "" {
		h.Text += " By its plan it waits for " + o.Ours.Awaits + "."
		h.Expected = "Those goods; then it goes on by itself. Or let it be planned without them, on the order."
	}
	if len(o.Ours.RefusedBy) == 0 {
		return h
	}
	var by []string
	for _, id := range slices.Sorted(maps.Keys(o.Ours.RefusedBy)) {
		by = append(by, s.Place(id)+" does not send it"+because(o.Ours.RefusedBy[id]))
	}
	h.Text += " " + strings.Join(by, "; ") + "."
	h.Expected = "Stock at another location that feeds this channel, then it goes on by itself; or let the place that refused be asked " +
		"again, on the order."
	return h
}

// finder says where units of a line can come from: as the order was planned, else from the first location that has all of them.
func (o *Order) finder(s *Scene) func(l *Line, want int64) []stock.Part {
	if s.Route != nil {
		if planned := s.Route(o, o.candidates(s)); planned != nil {
			return func(l *Line, _ int64) []stock.Part { return planned[l.ID] }
		}
	}
	sources := o.sources(s)
	return func(l *Line, want int64) []stock.Part { return s.Book.Find(l.Goods(), sources, want) }
}

// why is the reason of a movement; one of a component names the kit.
func (l *Line) why(reason string) string {
	if len(l.Parts) > 0 {
		return reason + " in " + l.SKU
	}
	return reason
}

// Rematch looks again for the items of lines that had none, and lets the order go on if all are known.
// It tells whether any was found.
func Rematch(o *Order, s *Scene) (Change, bool) {
	c := Change{Order: o}
	var found []string
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.ItemID != 0 {
			continue
		}
		if l.know(s); l.ItemID != 0 {
			found = append(found, or(l.SKU, l.Title))
		}
	}
	if len(found) == 0 || o.Voided || o.Test {
		return c, len(found) > 0
	}
	o.Revision++
	c.note("matched", "An item of ours is known now for %s", strings.Join(found, ", "))
	if o.Record.Status == message.Cancelled || o.Record.Status == message.Shipped || o.Elsewhere() {
		c.free(o, UnknownItem)
		return c, true
	}
	examine(o, s, &c)
	AllocateWaiting(o, s, &c)
	return c, true
}

func allocationText(o *Order, place func(int64) string) string {
	var parts []string
	for i := range o.Lines {
		for _, a := range o.Lines[i].Allocations {
			parts = append(parts, fmt.Sprintf("%d × %s at %s", a.Quantity, o.Lines[i].SKU, place(a.Location)))
		}
	}
	return strings.Join(parts, ", ")
}

func (l *Line) allocate(p stock.Part) {
	l.Allocated += p.Quantity
	for i := range l.Allocations {
		if l.Allocations[i].Location == p.Location {
			l.Allocations[i].Quantity += p.Quantity
			return
		}
	}
	l.Allocations = append(l.Allocations, Allocation(p))
}

// take removes up to qty from the line's allocations and calls f for each part.
func (l *Line) take(qty int64, f func(location, n int64)) {
	for i := range l.Allocations {
		if n := min(qty, l.Allocations[i].Quantity); n > 0 {
			l.Allocations[i].Quantity -= n
			qty -= n
			f(l.Allocations[i].Location, n)
		}
	}
	kept := l.Allocations[:0]
	for _, a := range l.Allocations {
		if a.Quantity > 0 {
			kept = append(kept, a)
		}
	}
	l.Allocations = kept
}

// cancel calls off up to qty of what has not been shipped, touching first what nobody has worked on,
// and returns how much could be called off.
func (l *Line) cancel(qty int64, o *Order, s *Scene, reason string) int64 {
	if l.Charge {
		n := min(qty, l.Live())
		l.Cancelled += n
		return n
	}
	done := min(qty, l.Waiting())
	l.Cancelled += done
	for _, bucket := range []*int64{&l.Allocated, &l.Picked, &l.Packed} {
		n := min(qty-done, *bucket)
		if n <= 0 {
			continue
		}
		*bucket -= n
		l.Cancelled += n
		done += n
		l.take(n, func(loc, part int64) {
			l.post(s.Book, stock.Movement{At: s.Now, Kind: stock.Release, Reason: l.why(reason), Who: s.Who, DocKind: "order",
				DocID: o.ID}, loc, part, 0, -1)
		})
	}
	return done
}

func update(o *Order, a Arrival, s *Scene) Change {
	m := a.Message
	c := Change{Order: o}
	before := o.Record
	o.Version, o.Record = a.Version, *m
	o.Revision++
	c.Facts = facts(o, s, o.known(s))
	if before.State != m.State {
		c.note("channel state", "The channel says %s (was %s)", m.State, before.State)
	} else {
		c.note("changed", "A newer version came from the channel by %s", a.Via)
	}
	if o.Voided || o.Test {
		return c
	}
	switch {
	case m.Status == message.Cancelled:
		callOff(o, s, &c)
		return c
	case o.Elsewhere():
		if before.Status != message.Shipped {
			doneElsewhere(o, s, &c)
		}
		return c
	case m.Status == message.Shipped:
		var odd []difference
		if st := o.Stage(); st != Shipped && st != Delivered && st != PartShipped && st != Cancelled && !o.Ours.CameBack {
			odd = append(odd, difference{"state", "The channel shows this order as shipped, but it has not left here.",
				"An order that is shipped from one place only. Cancel it here if it was sent from elsewhere, or correct it at " +
					"the channel."})
		}
		o.differs(odd, &c)
		return c
	}
	if before.Status == message.Cancelled {
		o.differs([]difference{{"state", "The channel opened this order again after it had cancelled it.",
			"A person to decide: void it here and take it in again, or cancel it at the channel."}}, &c)
		return c // what was released may be sold
	}
	odd := compareLines(o, m, s, &c)
	odd = append(odd, followAddress(o, &before, m, s, &c)...)
	o.differs(odd, &c)
	rule(o, s, &c)
	examine(o, s, &c)
	AllocateWaiting(o, s, &c)
	o.promiseMoved(&before, s, &c)
	return c
}

// promiseMoved plans an order anew whose promise is for another day or another address now, as far as nobody has begun on it.
func (o *Order) promiseMoved(before *message.Order, s *Scene, c *Change) {
	if s.Route == nil || before.DeliverBy == o.Record.DeliverBy && before.ShipTo == o.Record.ShipTo {
		return
	}
	if anew, err := Replan(o, s, "its promise has moved"); err == nil && anew.Skipped == "" {
		c.Notes = append(c.Notes, anew.Notes...)
	}
}

// packed tells whether anything of the order lies in a parcel.
func (o *Order) packed() bool {
	return slices.ContainsFunc(o.Lines, func(l Line) bool { return l.Packed+l.Shipped > 0 })
}

// difference is what of an order is otherwise at the channel, and cannot be followed.
type difference struct{ part, text, expected string }

// differs holds an order for what differs from the channel's, or lets it go on where nothing does any more. What a
// person let pass does not hold it again.
func (o *Order) differs(list []difference, c *Change) {
	var texts, parts []string
	for _, d := range list {
		texts = append(texts, d.text)
		parts = append(parts, d.part)
	}
	text := strings.Join(texts, " ")
	switch {
	case len(list) == 0:
		c.free(o, Changed)
	case text != o.Ours.Accepted:
		c.hold(o, Hold{Cause: Changed, Text: text, Expected: list[0].expected, About: []string{o.Number}, Parts: parts})
	}
}

// followAddress takes the channel's address over until the parcel is packed; after that a person decides.
func followAddress(o *Order, before, m *message.Order, s *Scene, c *Change) []difference {
	if o.ShipTo == m.ShipTo || slices.Contains(s.Keep, "ship_to") {
		return nil
	}
	h := o.HeldFor(Changed)
	open := h != nil && slices.Contains(h.Parts, "address") // from an earlier version
	if before.ShipTo == m.ShipTo && !open {
		return nil // a person changed ours
	}
	if o.packed() {
		return []difference{{"address", "The address was changed at the channel after the parcel was packed.",
			"A person to decide where the parcel goes."}}
	}
	was := o.ShipTo
	o.ShipTo = m.ShipTo
	if was == (place.Address{Email: was.Email, Country: was.Country}) {
		c.note("address", "The channel tells the address now")
	} else {
		c.note("address", "Address changed at the channel")
	}
	if text := o.LeavePoint(was); text != "" {
		c.note("pickup point", "%s", text)
	}
	return nil
}

// PointOpen tells whether it can still be said where an order is fetched: something of it has not left.
func (o *Order) PointOpen() bool {
	return slices.Contains([]Stage{Pending, Held, Ready, Routed, Picking, Packed, PartShipped}, o.Stage())
}

// LeavePoint forgets the pickup point that a person chose near an address, where the order goes to another town now. It says so; empty:
// there is none, or it stays.
func (o *Order) LeavePoint(was place.Address) string {
	p, to := o.Ours.Point, o.ShipTo
	if p == nil || p.ID == "" || to.Postcode == was.Postcode && to.Town == was.Town && to.Country == was.Country {
		return ""
	}
	o.Ours.Point = nil
	return fmt.Sprintf("No longer fetched at %s, %s %s: the order goes elsewhere", p.Name, p.Postcode, p.Town)
}

// callOff honours a cancellation at the channel.
func callOff(o *Order, s *Scene, c *Change) {
	var called, shipped int64
	for i := range o.Lines {
		l := &o.Lines[i]
		called += l.cancel(l.Quantity, o, s, "cancelled at the channel")
		shipped += l.Shipped
	}
	kept := o.Holds[:0]
	for _, h := range o.Holds {
		if h.Cause == NotAnswered { // that we were late remains true
			kept = append(kept, h)
		}
	}
	o.Holds = kept
	o.lapsed(c)
	if called > 0 {
		c.note("cancelled", "Cancelled at the channel: work stopped, stock of %d %s released", called, plural(int(called), "unit"))
	}
	if shipped > 0 && !o.NoStockMoved && !o.Elsewhere() {
		c.hold(o, Hold{Cause: LateCancel, Text: fmt.Sprintf("Cancelled at the channel after %d %s had been shipped.", shipped,
			plural(int(shipped), "unit")),
			Expected: "A cancellation before shipping. Recall the parcel at the carrier, or wait for it to come back.",
			About:    []string{o.Number}})
	}
}

// compareLines brings quantities that the channel lowered to our lines; what it raised or added goes
// to a person.
func compareLines(o *Order, m *message.Order, s *Scene, c *Change) []difference {
	theirs := make(map[string]message.OrderLine, len(m.Lines))
	for _, l := range m.Lines {
		theirs[l.ID] = l
	}
	var odd []string
	for i := range o.Lines {
		l := &o.Lines[i]
		want := theirs[l.OutsideID].Quantity
		delete(theirs, l.OutsideID)
		if want <= l.Live() {
			delete(o.Ours.CalledOff, l.ID)
		}
		switch live := l.Live(); {
		case want < live:
			n := l.cancel(live-want, o, s, "lowered at the channel")
			if n > 0 {
				c.note("changed", "%s lowered from %d to %d at the channel", l.SKU, live, live-n)
			}
			if n < live-want {
				odd = append(odd, fmt.Sprintf("%s was lowered to %d after %d had been shipped", l.SKU, want, l.Shipped))
			}
		case want > live && want-live <= o.Ours.CalledOff[l.ID]: // they do not know yet of what was cancelled here
		case want > live:
			odd = append(odd, fmt.Sprintf("%s was raised from %d to %d", l.SKU, live, want))
		}
	}
	for _, l := range m.Lines {
		if _, added := theirs[l.ID]; added {
			odd = append(odd, fmt.Sprintf("%d × %s was added", l.Quantity, l.SKU))
		}
	}
	if len(odd) == 0 {
		return nil
	}
	return []difference{{"lines", "Changed at the channel after it was taken in: " + strings.Join(odd, "; ") + ".",
		"A person to decide; cancel here and take it in again, or correct it at the channel."}}
}

// Readdress changes where an order goes on a person's word. Where that is what the channel says, nothing differs in it.
func Readdress(o *Order, to place.Address) {
	o.ShipTo = to
	o.Free(BadAddress)
	if h := o.HeldFor(Changed); h != nil && slices.Equal(h.Parts, []string{"address"}) && to == o.Record.ShipTo {
		o.Free(Changed)
	}
	o.Revision++
}

// Release takes a hold away on a person's word.
func Release(o *Order, cause Cause, who string) (Change, bool) {
	c := Change{Order: o}
	if h := o.HeldFor(cause); h != nil && cause == Changed {
		o.Ours.Accepted = h.Text
	}
	if !o.Free(cause) {
		return c, false
	}
	o.Revision++
	c.note("released", "Released although held for: %s", cause)
	return c, true
}

func plural(n int, word string) string {
	if n == 1 {
		return word
	}
	return word + "s"
}
