// Package order decides what becomes of an order: how it is taken in, what a newer version from the
// channel changes, and at which stage it stands. The stage is derived from line quantities and
// holds; nothing sets it.
//
// Every unit ordered is in exactly one place: cancelled, waiting, allocated, picked, packed or
// shipped. Allocations say at which location the allocated, picked and packed units lie.
package order

import (
	"time"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
)

// Stage is where an order stands with us.
type Stage string

// The stages, in the order of the work.
const (
	Pending     Stage = "pending"
	Held        Stage = "held"
	Ready       Stage = "ready"
	Routed      Stage = "routed"
	Picking     Stage = "picking"
	Packed      Stage = "packed"
	PartShipped Stage = "part shipped"
	Shipped     Stage = "shipped"
	Delivered   Stage = "delivered"
	Cancelled   Stage = "cancelled"
	Void        Stage = "void"
)

// Stages lists all stages in the order of the work.
var Stages = []Stage{Pending, Held, Ready, Routed, Picking, Packed, PartShipped, Shipped, Delivered, Cancelled, Void}

// Cause says why an order is held.
type Cause string

// The causes of a hold.
const (
	UnknownItem   Cause = "unknown item"
	TotalDiffers  Cause = "total differs"
	BadAddress    Cause = "bad address"
	Undeliverable Cause = "address not deliverable" // as an address service says
	NoStock       Cause = "no stock"
	Changed       Cause = "changed at the channel"
	LateCancel    Cause = "cancelled too late"
	TestOrder     Cause = "test order"
	WantsLook     Cause = "wants a look"
	WantsAnswer   Cause = "wants an answer"
	NotAnswered   Cause = "not answered in time"
	ByPerson      Cause = "held by a person"
	ByRule        Cause = "held by a rule"
)

// Checked is what an address service says of an order's address.
type Checked struct {
	For         string         `json:"for" doc:"Names the address that it is said of"`
	At          time.Time      `json:"at"`
	Deliverable bool           `json:"deliverable"`
	Kind        string         `json:"kind,omitempty" doc:"home or business; empty: not known"`
	Remote      bool           `json:"remote,omitempty" doc:"It costs more to deliver there"`
	Note        string         `json:"note,omitempty"`
	Suggestion  *place.Address `json:"suggestion,omitempty" doc:"As the service would write it; missing: as it is"`

	Position *place.Position `json:"position,omitempty" doc:"Where it is; missing: not known"`
}

// Causes are all causes of a hold.
var Causes = []Cause{
	UnknownItem,
	TotalDiffers,
	BadAddress,
	Undeliverable,
	NoStock,
	Changed,
	LateCancel,
	TestOrder,
	WantsLook,
	WantsAnswer,
	NotAnswered,
	ByPerson,
	ByRule,
}

// Waved are the causes of holds that a person may let an order go on in spite of.
var Waved = []Cause{TotalDiffers, Changed, LateCancel, WantsLook, NotAnswered, ByPerson, ByRule, Undeliverable}

// Hold is a reason why an order may not go on.
type Hold struct {
	Cause    Cause  `json:"cause"`
	Text     string `json:"text" doc:"What happened"`
	Expected string `json:"expected,omitempty" doc:"What was expected, and who can fix it"`

	// About tells apart what makes up the cause, such as the SKUs that are not known: what is mended for one
	// of them is mended for every order that waits for the same.
	About []string `json:"about,omitempty"`

	// Parts says what of the order differs from the channel's, where that is the cause.
	Parts []string `json:"parts,omitempty"`
}

// Answer is what a channel that waits for it is told of an order.
type Answer struct {
	State   string    `json:"state" enum:"wanted,accepted,declined,late"`
	By      time.Time `json:"by" doc:"Until when the channel waits"`
	At      time.Time `json:"at,omitzero"`
	ReadyAt time.Time `json:"ready_at,omitzero"`
	Reason  string    `json:"reason,omitempty"`
	Who     string    `json:"who,omitempty"`
}

// The states of an answer.
const (
	Wanted   = "wanted"
	Accepted = "accepted"
	Declined = "declined"
	Late     = "late"
)

// Ours is what we have added to the channel's order: what people and rules decided.
type Ours struct {
	Tags    []string             `json:"tags,omitempty"`
	Decided rules.Outcome        `json:"decided,omitzero" doc:"What rules decided"`
	Touched []rules.Touch        `json:"touched,omitempty" doc:"Which rules, and what each changed"`
	Ruled   bool                 `json:"ruled,omitempty" doc:"Rules have been applied"`
	Answer  *Answer              `json:"answer,omitempty"`
	Point   *message.PickupPoint `json:"point,omitempty" doc:"Where the buyer fetches it, as a person chose it; missing: as the channel said"`
	Checked *Checked             `json:"checked,omitempty" doc:"What an address service says of the address"`

	// A difference in money within the tolerance: minor units that the channel says beyond our sum, and the
	// account that they are booked to.
	Booked  int64  `json:"booked,omitempty"`
	Account string `json:"account,omitempty"`

	PaymentAccount string `json:"payment_account,omitempty" doc:"The account that the channel's method of payment stands for"`

	Accepted string `json:"accepted,omitempty" doc:"A difference from the channel's order that a person let pass; it does not hold the order again"`

	CameBack bool `json:"came_back,omitempty" doc:"A parcel came back before it left, of which the channel may believe that it did"`

	CalledOff map[int64]int64 `json:"called_off,omitempty" doc:"Units by line that were cancelled here and that the channel may not know of yet"`

	KeptBack map[int64]int64 `json:"kept_back,omitempty" doc:"Units by line that are not to be sent for now"`

	Awaits string `json:"awaits,omitempty" doc:"What is to come that it waits for by its plan, in words"`
	Now    bool   `json:"now,omitempty" doc:"Somebody said that it is not to wait for what is to come"`

	RefusedBy map[int64]string `json:"refused_by,omitempty" doc:"Places that do not send it, by their id, with the reason; nothing is planned there until a person says so"`

	Posted bool `json:"posted,omitempty" doc:"A summary order that was posted to the books"`

	ReleasedNumber string `json:"released_number,omitempty" doc:"Of a voided order: the number it had"`
	Members        int64  `json:"members,omitempty" doc:"Of a summary order: how many orders it holds"`
	Day            string `json:"day,omitempty" doc:"Of a summary order: the day it is of"`
}

// Allocation is a quantity of a line that a location has promised: allocated, picked or packed.
type Allocation struct {
	Location int64 `json:"location"`
	Quantity int64 `json:"quantity"`
}

// Line is one line of an order.
type Line struct {
	ID        int64  `json:"id"`
	Position  int    `json:"position"`
	OutsideID string `json:"outside_id"`
	SKU       string `json:"sku"`
	Title     string `json:"title"`
	ItemID    int64  `json:"item_id,omitempty" doc:"0 while no item is known"`
	Quantity  int64  `json:"quantity"`
	Cancelled int64  `json:"cancelled"`
	Allocated int64  `json:"allocated"`
	Picked    int64  `json:"picked"`
	Packed    int64  `json:"packed"`
	Shipped   int64  `json:"shipped"`
	UnitPrice int64  `json:"unit_price"`
	Discount  int64  `json:"discount"`
	Tax       int64  `json:"tax"`
	Total     int64  `json:"total"`
	Listing   string `json:"listing,omitempty" doc:"The channel's number of the listing, where it tells it"`

	// What a unit is made of, kept as it was when stock was first promised: a kit that is changed later
	// does not change what was sold.
	Parts   []stock.Component `json:"parts,omitempty"`
	NoStock bool              `json:"no_stock,omitempty" doc:"It holds no stock: made to order, prepared food"`

	Choices []message.LineChoice `json:"choices,omitempty" doc:"What was chosen of prepared food"`
	Note    string               `json:"note,omitempty" doc:"Wish of the buyer for this line"`
	Charge  bool                 `json:"charge,omitempty" doc:"A charge: nothing is to be sent for it"`

	Allocations []Allocation `json:"allocations,omitempty"`
}

// Goods is what the line sells.
func (l *Line) Goods() stock.Goods {
	return stock.Goods{Item: l.ItemID, Parts: l.Parts, NoStock: l.NoStock}
}

// post writes movements of qty units of the line at a location: hand and alloc say what a unit changes.
func (l *Line) post(b *stock.Book, m stock.Movement, location, qty, hand, alloc int64) {
	if l.NoStock && !l.Charge {
		b.Unstocked = append(b.Unstocked, l.ItemID)
	}
	for _, c := range l.Goods().Components() {
		m.Key = stock.Key{Item: c.Item, Location: location}
		m.OnHand, m.Allocated = hand*qty*c.Quantity, alloc*qty*c.Quantity
		b.Post(m)
	}
}

// Waiting is what was ordered and is nowhere yet.
func (l *Line) Waiting() int64 {
	if l.Charge {
		return 0
	}
	return l.Quantity - l.Cancelled - l.Allocated - l.Picked - l.Packed - l.Shipped
}

// Live is what is still to be or has been sent.
func (l *Line) Live() int64 { return l.Quantity - l.Cancelled }

// Order is an order of ours.
type Order struct {
	ID           int64
	Number       string
	ConnectionID int64
	OutsideID    string
	Version      int64 // the channel's version that Record shows
	Record       message.Order
	ShipTo       place.Address
	Lines        []Line
	Holds        []Hold
	Routed       bool // a shipment exists
	Delivered    bool
	Voided       bool
	NoStockMoved bool // taken in as done from before the connection began
	Test         bool // came over a connection in test: holds no stock and is never sent
	ReceivedAt   time.Time
	Via          string // how it came in: push, poll or a person's name
	ShippedAt    time.Time
	Revision     int64 // counts our own changes, for conditional requests

	CustomerID  int64
	Assignee    string
	MergedInto  int64 // the summary order of its day
	TypedBy     string
	ForgottenAt time.Time // when personal data was removed
	Ours        Ours
}

// Summary is the kind of an order that stands for all small orders of a day. No channel sells it.
const Summary message.Kind = "summary"

// Kind is how the order reaches the buyer.
func (o *Order) Kind() message.Kind {
	if o.Record.Kind == "" {
		return message.Ship
	}
	return o.Record.Kind
}

// Stage derives where the order stands.
func (o *Order) Stage() Stage {
	var live, waiting, picked, packed, shipped int64
	for i := range o.Lines {
		l := &o.Lines[i]
		if l.Charge {
			continue
		}
		live += l.Live()
		waiting += max(0, l.Waiting()-o.Kept(l)) // what is kept back holds the rest no longer
		picked += l.Picked
		packed += l.Packed
		shipped += l.Shipped
	}
	switch {
	case o.Voided:
		return Void
	case live == 0 && o.liveCharges():
		return Shipped // nothing but charges: there is nothing to send
	case live == 0:
		return Cancelled
	case shipped == live && o.Delivered:
		return Delivered
	case shipped == live:
		return Shipped
	case shipped > 0:
		return PartShipped
	case o.Record.Status == message.Pending || o.Elsewhere():
		return Pending
	case len(o.Holds) > 0 || waiting > 0:
		return Held
	case packed == live:
		return Packed
	case picked+packed > 0:
		return Picking
	case o.Routed:
		return Routed
	}
	return Ready
}

func (o *Order) liveCharges() bool {
	for i := range o.Lines {
		if l := &o.Lines[i]; l.Charge && l.Live() > 0 {
			return true
		}
	}
	return false
}

// Elsewhere tells whether the channel, or somebody else, fulfils the order without our doing. Until it has
// left, there is nothing to be done here.
func (o *Order) Elsewhere() bool { return o.Record.FulfilledBy != "" }

// HeldFor returns the hold with the cause, if there is one.
func (o *Order) HeldFor(c Cause) *Hold {
	for i := range o.Holds {
		if o.Holds[i].Cause == c {
			return &o.Holds[i]
		}
	}
	return nil
}

// Hold puts a hold on the order, replacing an earlier one of the same cause.
func (o *Order) Hold(h Hold) {
	if old := o.HeldFor(h.Cause); old != nil {
		*old = h
		return
	}
	o.Holds = append(o.Holds, h)
}

// Free takes the hold with the cause away and tells whether there was one.
func (o *Order) Free(c Cause) bool {
	for i := range o.Holds {
		if o.Holds[i].Cause == c {
			o.Holds = append(o.Holds[:i], o.Holds[i+1:]...)
			return true
		}
	}
	return false
}
