// Package message holds what outside systems tell the relay and what it tells them, in the relay's
// own words. Connector definitions map foreign records to and from these shapes; the rest of the
// relay never sees anything else of the outside.
//
// All amounts are minor units of the record's currency, all weights grams, all lengths millimetres,
// all times UTC.
package message

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"openrelay/internal/core/customs"
	"openrelay/internal/core/gs1"
	"openrelay/internal/core/journey"
	"openrelay/internal/core/money"
	"openrelay/internal/core/place"
	"openrelay/internal/core/textual"
)

// Status is what a channel's own order state means to us.
type Status string

// The meanings a channel state can have.
const (
	Pending   Status = "pending"   // not yet completed there; shown, allocated, not worked on
	Open      Status = "open"      // ready to be worked on
	Shipped   Status = "shipped"   // the channel considers it shipped
	Cancelled Status = "cancelled" // called off at the channel
)

// Who fulfils an order, where it is not us.
const (
	ByChannel = "channel" // from stock that the channel holds
	ByOther   = "other"   // somebody else, without our doing
)

// Kind is how an order reaches the buyer.
type Kind string

// The kinds of orders.
const (
	Ship     Kind = "ship"     // by a carrier
	Collect  Kind = "collect"  // fetched at a place of ours
	Local    Kind = "local"    // brought in a time window
	Counter  Kind = "counter"  // paid and handed over already
	Prepared Kind = "prepared" // food, made when it is ordered
)

// Kinds lists all kinds of orders.
var Kinds = []Kind{Ship, Collect, Local, Counter, Prepared}

// Order is one order as a channel tells it.
type Order struct {
	Number           string        `json:"number" need:"yes" doc:"The channel's number, as people there know it"`
	State            string        `json:"state" doc:"The channel's own word for the state"`
	Status           Status        `json:"status" need:"yes" doc:"What that state means: pending, open, shipped or cancelled"`
	Kind             Kind          `json:"kind,omitempty" doc:"How it reaches the buyer; empty: by a carrier"                                                                                                                enum:",ship,collect,local,counter,prepared"`
	FulfilledBy      string        `json:"fulfilled_by,omitempty" doc:"channel: the channel ships it from stock that it holds; other: somebody else; empty: we do"                                                                   enum:",channel,other"`
	URL              string        `json:"url,omitempty" doc:"Opens the order on the channel"`
	PlacedAt         time.Time     `json:"placed_at"`
	ChangedAt        time.Time     `json:"changed_at"`
	Currency         string        `json:"currency" need:"yes" doc:"ISO 4217 code"`
	PricesIncludeTax bool          `json:"prices_include_tax"`
	BuyerName        string        `json:"buyer_name,omitempty"`
	BuyerEmail       string        `json:"buyer_email,omitempty"`
	Language         string        `json:"language,omitempty" doc:"That the buyer reads, two letters of ISO 639-1; empty: not known"`
	ShipTo           place.Address `json:"ship_to"`
	Lines            []OrderLine   `json:"lines" need:"yes"`
	Shipping         int64         `json:"shipping" doc:"Charged for shipping, minor units"`
	Discount         int64         `json:"discount" doc:"Order discount, a positive number is taken off"`
	Tax              int64         `json:"tax"`
	Total            int64         `json:"total" doc:"What the channel says the buyer pays"`
	Payment          string        `json:"payment,omitempty" doc:"Method of payment, the channel's word"`
	Paid             bool          `json:"paid"`
	RequestedService string        `json:"requested_service,omitempty"`
	Point            PickupPoint   `json:"point,omitzero" doc:"Where the buyer wants to fetch it; empty: it goes to the address"`
	BuyerTaxNumber   string        `json:"buyer_tax_number,omitempty" doc:"Of the buyer with its customs or tax office"`
	FreightPayer     string        `json:"freight_payer,omitempty" doc:"Who pays the carrier; empty: the sender"                                                                                                                      enum:",sender,recipient,third"`
	FreightAccount   string        `json:"freight_account,omitempty" doc:"Number of the account at the carrier by which recipient or third pays"`
	DeliverBy        string        `json:"deliver_by,omitempty" doc:"Day by which the buyer was promised it, YYYY-MM-DD; empty: none was promised"`
	Note             string        `json:"note,omitempty"`
	WindowFrom       string        `json:"window_from,omitempty"`
	WindowTo         string        `json:"window_to,omitempty"`
	Parcels          []ParcelSeen  `json:"parcels,omitempty" doc:"Parcels the channel knows of"`
	Vouchers         []Voucher     `json:"vouchers,omitempty" doc:"What the buyer paid with besides money"`
	GiftNote         string        `json:"gift_note,omitempty" doc:"To be put into the parcel"`
	KitchenNote      string        `json:"kitchen_note,omitempty"`
	AnswerBy         time.Time     `json:"answer_by,omitzero" doc:"The channel wants to be told before this moment whether we take the order, and when it is ready. On a cancelled order: it was called off because nobody told"`
	TaxRounding      string        `json:"tax_rounding,omitempty" doc:"How tax is rounded: on each line or on their sum; empty: either is right"                                                                                     enum:",line,order"`

	encoded []byte // by Encode
}

// Encode writes the order as JSON and remembers it, so that Encoded is free when there is no time to
// lose. The order must not be changed afterwards.
func (o *Order) Encode() (err error) {
	o.encoded, err = json.Marshal(o)
	return err
}

// Encoded returns the order as JSON.
func (o *Order) Encoded() ([]byte, error) {
	if o.encoded != nil {
		return o.encoded, nil
	}
	return json.Marshal(o)
}

// OrderLine is one line of an order at a channel.
type OrderLine struct {
	ID        string `json:"id" need:"yes" doc:"The channel's line number"`
	SKU       string `json:"sku"`
	Title     string `json:"title"`
	Quantity  int64  `json:"quantity" need:"yes"`
	UnitPrice int64  `json:"unit_price"`
	Discount  int64  `json:"discount"`
	Tax       int64  `json:"tax"`
	Total     int64  `json:"total"`
	Listing   string `json:"listing,omitempty" doc:"The channel's number of the listing that was bought"`

	TaxPermille int64        `json:"tax_permille,omitempty" doc:"Rate of tax in thousandths, where the channel tells it: then the tax is recalculated"`
	Choices     []LineChoice `json:"choices,omitempty" doc:"What was chosen of prepared food; its price is added to that of each unit"`
	Note        string       `json:"note,omitempty" doc:"Wish of the buyer for this line"`
}

// LineChoice is a choice that a guest made.
type LineChoice struct {
	Code  string `json:"code,omitempty"`
	Name  string `json:"name" need:"yes"`
	Price int64  `json:"price,omitempty" doc:"What it adds to the price of a unit, minor units"`
}

// Voucher is a token that the buyer paid with.
type Voucher struct {
	Code   string `json:"code" need:"yes"`
	Amount int64  `json:"amount" need:"yes" doc:"What it takes off the total, minor units"`
}

// Gross is what a line costs before its discount: quantity times the price of a unit with its choices.
func (l *OrderLine) Gross() int64 {
	each := l.UnitPrice
	for _, c := range l.Choices {
		each += c.Price
	}
	return l.Quantity * each
}

// ParcelSeen is a parcel as a channel shows it.
type ParcelSeen struct {
	Reference string `json:"reference,omitempty"`
	Tracking  string `json:"tracking"`
}

// MaxLines bounds the lines of one order that is taken in; line ids leave room for 1,023.
const MaxLines = 1000

// How long texts of an order may be, in bytes. What is longer is cut; the record as it came is kept whole.
const (
	maxName = 300
	maxNote = 4000
)

// Normal brings an order to its usual form: bounded texts, addresses without stray spaces.
func (o *Order) Normal() {
	o.ShipTo.Normal()
	for _, f := range []*string{&o.Number, &o.State, &o.BuyerName, &o.BuyerEmail, &o.Payment, &o.RequestedService, &o.WindowFrom,
		&o.WindowTo} {
		*f = textual.Clip(*f, maxName)
	}
	for _, f := range []*string{&o.Note, &o.GiftNote, &o.KitchenNote} {
		*f = textual.Clip(*f, maxNote)
	}
	for i := range o.Lines {
		l := &o.Lines[i]
		l.SKU, l.Title, l.Note = textual.Clip(l.SKU, maxName), textual.Clip(l.Title, maxName), textual.Clip(l.Note, maxNote)
		for j := range l.Choices {
			l.Choices[j].Name = textual.Clip(l.Choices[j].Name, maxName)
		}
	}
}

// Check refuses an order that cannot be taken in as it stands. The error names the field.
func (o *Order) Check() error {
	switch {
	case o.Number == "":
		return errors.New("number: missing")
	case !money.ValidCurrency(o.Currency):
		return fmt.Errorf("currency: %q is not an ISO 4217 code", o.Currency)
	case len(o.Lines) == 0:
		return errors.New("lines: none")
	case len(o.Lines) > MaxLines:
		return fmt.Errorf("lines: %d, at most %d are taken in", len(o.Lines), MaxLines)
	}
	switch o.Status {
	case Pending, Open, Shipped, Cancelled:
	default:
		if o.State == "" {
			return fmt.Errorf("status: %q is none of pending, open, shipped and cancelled", o.Status)
		}
		return fmt.Errorf("status: channel state %q has no meaning in the connector's state table", o.State)
	}
	if o.Kind != "" && !slices.Contains(Kinds, o.Kind) {
		return fmt.Errorf("kind: %q is none of ship, collect, local, counter and prepared", o.Kind)
	}
	if o.FulfilledBy != "" && o.FulfilledBy != ByChannel && o.FulfilledBy != ByOther {
		return fmt.Errorf("fulfilled_by: %q is none of channel and other", o.FulfilledBy)
	}
	for i, v := range o.Vouchers {
		if v.Code == "" || v.Amount < 0 {
			return fmt.Errorf("vouchers[%d]: a code and an amount that is not negative are needed", i)
		}
	}
	seen := make(map[string]bool, len(o.Lines))
	for i, l := range o.Lines {
		switch {
		case l.ID == "":
			return fmt.Errorf("lines[%d].id: missing", i)
		case seen[l.ID]:
			return fmt.Errorf("lines[%d].id: %q stands twice", i, l.ID)
		case l.Quantity <= 0:
			return fmt.Errorf("lines[%d].quantity: %d, must be at least 1", i, l.Quantity)
		case l.Quantity > 1_000_000:
			return fmt.Errorf("lines[%d].quantity: %d is beyond all reason", i, l.Quantity)
		case l.TaxPermille < 0 || l.TaxPermille > 1000:
			return fmt.Errorf("lines[%d].tax_permille: %d, 0 to 1000 is expected", i, l.TaxPermille)
		}
		seen[l.ID] = true
	}
	return nil
}

// Listing is an item as one channel knows it.
type Listing struct {
	SKU      string `json:"sku"`
	Title    string `json:"title" need:"yes"`
	GTIN     string `json:"gtin,omitempty"`
	Price    int64  `json:"price"`
	Currency string `json:"currency"`
	Quantity int64  `json:"quantity" doc:"What the channel shows"`
	Live     bool   `json:"live"`
	URL      string `json:"url,omitempty"`
	State    string `json:"state,omitempty" doc:"live, off, in review or rejected; empty: live or off, as live says"`
	Reason   string `json:"reason,omitempty" doc:"Why the channel rejected it"`
	Category string `json:"category,omitempty"`
}

// Standing is the state of the listing.
func (l *Listing) Standing() string {
	switch {
	case l.State != "":
		return l.State
	case l.Live:
		return "live"
	}
	return "off"
}

// Check refuses a listing that cannot be taken in.
func (l *Listing) Check() error {
	switch {
	case l.SKU == "" && l.Title == "":
		return errors.New("sku, title: at least one of them is needed")
	case l.Currency != "" && !money.ValidCurrency(l.Currency):
		return fmt.Errorf("currency: %q is not an ISO 4217 code", l.Currency)
	}
	return nil
}

// Item is a thing sold, as another system tells it.
type Item struct {
	SKU      string `json:"sku" need:"yes"`
	Name     string `json:"name" need:"yes"`
	GTIN     string `json:"gtin,omitempty" doc:"GS1 GTIN with its check digit"`
	Category string `json:"category,omitempty"`
	Kind     string `json:"kind,omitempty" doc:"Empty: stocked"                                         enum:",stocked,kit,made to order,prepared,charge"`
	Options  string `json:"options,omitempty" doc:"What tells variants apart, such as size M, colour sand"`
	WeightG  int64  `json:"weight_g" doc:"grams"`
	LengthMM int64  `json:"length_mm" doc:"millimetres"`
	WidthMM  int64  `json:"width_mm" doc:"millimetres"`
	HeightMM int64  `json:"height_mm" doc:"millimetres"`
	Price    int64  `json:"price" doc:"minor units"`
	Currency string `json:"currency,omitempty" doc:"ISO 4217 code"`

	Description string        `json:"description,omitempty"`
	Groups      []OptionGroup `json:"groups,omitempty" doc:"Choices to be made when prepared food is ordered"`
}

// OptionGroup is a choice to be made when prepared food is ordered.
type OptionGroup struct {
	Code    string         `json:"code" need:"yes"`
	Name    string         `json:"name" need:"yes"`
	Least   int64          `json:"least" doc:"At least so many of the choices"`
	Most    int64          `json:"most" doc:"At most so many"`
	Choices []OptionChoice `json:"choices" need:"yes"`
}

// OptionChoice is one of the choices of a group.
type OptionChoice struct {
	Code  string `json:"code" need:"yes"`
	Name  string `json:"name" need:"yes"`
	Price int64  `json:"price" doc:"What it adds, minor units"`
}

// Check refuses an item that cannot be taken in.
func (i *Item) Check() error {
	switch {
	case i.SKU == "":
		return errors.New("sku: missing")
	case i.Name == "":
		return errors.New("name: missing")
	case i.GTIN != "" && !gs1.ValidGTIN(i.GTIN):
		return fmt.Errorf("gtin: %s is not a GTIN with a right check digit", i.GTIN)
	case i.Currency != "" && !money.ValidCurrency(i.Currency):
		return fmt.Errorf("currency: %q is not an ISO 4217 code", i.Currency)
	case i.WeightG < 0 || i.LengthMM < 0 || i.WidthMM < 0 || i.HeightMM < 0 || i.Price < 0:
		return errors.New("weight, measures and price are not negative")
	}
	return nil
}

// Customer is somebody who buys.
type Customer struct {
	Number  string        `json:"number,omitempty" doc:"The other side's number of the customer"`
	Name    string        `json:"name" need:"yes"`
	Email   string        `json:"email,omitempty"`
	Phone   string        `json:"phone,omitempty"`
	Address place.Address `json:"address"`
}

// Check refuses a customer that cannot be taken in.
func (c *Customer) Check() error {
	if c.Name == "" {
		return errors.New("name: missing")
	}
	return nil
}

// StockLevel is a quantity that lies somewhere, as the system says that counts there: somebody edited it
// by hand at a channel, or a back office counted.
type StockLevel struct {
	SKU      string    `json:"sku"`
	Quantity int64     `json:"quantity" need:"yes"`
	Location string    `json:"location,omitempty" doc:"Code of the location; empty means the first that the connection sells from"`
	Listing  string    `json:"listing,omitempty" doc:"The channel's number of the listing"`
	Change   int64     `json:"change,omitempty" doc:"By how much a person changed the quantity there; where it is told, an edit is known exactly"`
	Cause    string    `json:"cause,omitempty" doc:"Why the number moved: only edits are looked at; sales come as orders, and ours are our own"  enum:",edit,sale,ours"`
	At       time.Time `json:"at"`
	Who      string    `json:"who,omitempty"`
}

// Check refuses a level that cannot be taken in.
func (l *StockLevel) Check() error {
	switch {
	case l.SKU == "" && l.Listing == "":
		return errors.New("sku, listing: one of them is needed")
	case l.Cause != "" && l.Cause != "edit" && l.Cause != "sale" && l.Cause != "ours":
		return fmt.Errorf("cause: %q is none of edit, sale and ours", l.Cause)
	case l.Quantity < -1_000_000 || l.Quantity > 1_000_000_000:
		return fmt.Errorf("quantity: %d is beyond all reason", l.Quantity)
	}
	return nil
}

// Identity is who we are to the other side: shown after a test, so that nobody joins the wrong account.
type Identity struct {
	Name    string `json:"name" need:"yes"`
	Number  string `json:"number" need:"yes"`
	Country string `json:"country"`
	Site    string `json:"site,omitempty" doc:"The site the account belongs to, where a system has several"`
}

// Offer is a quantity on its way to a channel.
type Offer struct {
	ListingID int64  `json:"listing_id"`
	OutsideID string `json:"outside_id"`
	SKU       string `json:"sku"`
	Quantity  int64  `json:"quantity"`
}

// Publication is an item on its way to a channel: to be listed there, or changed where it is listed. Fields that
// are not ours there are empty and are left as they are.
type Publication struct {
	ListingID   int64         `json:"listing_id"`
	OutsideID   string        `json:"outside_id,omitempty" doc:"The channel's number; empty for a new listing"`
	SKU         string        `json:"sku"`
	GTIN        string        `json:"gtin,omitempty"`
	Title       string        `json:"title,omitempty"`
	Description string        `json:"description,omitempty"`
	Category    string        `json:"category,omitempty"`
	Price       int64         `json:"price" doc:"Minor units; 0 leaves it as it is"`
	Currency    string        `json:"currency,omitempty"`
	Quantity    int64         `json:"quantity"`
	WeightG     int64         `json:"weight_g,omitempty"`
	Options     string        `json:"options,omitempty"`
	Family      string        `json:"family,omitempty"`
	Images      []string      `json:"images,omitempty"`
	Groups      []OptionGroup `json:"groups,omitempty"`
	Withdraw    bool          `json:"withdraw" doc:"Take it off the channel"`
}

// Dispatch tells a channel that a parcel with part or all of an order has left.
type Dispatch struct {
	Reference    string         `json:"reference" need:"yes" doc:"Idempotency reference, unique for this parcel"`
	OrderID      string         `json:"order_id" doc:"The channel's own id of the order"`
	OrderNumber  string         `json:"order_number"`
	OurNumber    string         `json:"our_number"`
	Carrier      string         `json:"carrier"`
	Service      string         `json:"service"`
	Tracking     string         `json:"tracking" need:"yes"`
	TrackingURL  string         `json:"tracking_url,omitempty"`
	ShippedAt    time.Time      `json:"shipped_at"`
	Lines        []DispatchLine `json:"lines" doc:"Empty means everything that is left of the order"`
	LastOfOrder  bool           `json:"last_of_order" doc:"Nothing of the order is left to send"`
	ParcelNumber string         `json:"parcel_number"`
	Request      string         `json:"request,omitempty" doc:"Our reference of the request that a partner answers with it"`
	Withdrawn    bool           `json:"withdrawn,omitempty" doc:"The parcel of this reference has not left after all"`
}

// DispatchLine is a quantity of one order line inside a parcel.
type DispatchLine struct {
	ID       string `json:"id" doc:"The channel's line number"`
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity" need:"yes"`
}

// OrderAnswer tells a channel that waits for it whether we take an order, and when it is ready.
type OrderAnswer struct {
	Reference   string    `json:"reference" need:"yes" doc:"Idempotency reference"`
	OrderID     string    `json:"order_id" need:"yes" doc:"The channel's own id of the order"`
	OrderNumber string    `json:"order_number"`
	Accepted    bool      `json:"accepted"`
	ReadyAt     time.Time `json:"ready_at,omitzero"`
	Reason      string    `json:"reason,omitempty" doc:"Why it is declined"`
}

// OrderState tells a channel how far an order has come here.
type OrderState struct {
	Reference   string `json:"reference" need:"yes" doc:"Idempotency reference"`
	OrderID     string `json:"order_id" need:"yes" doc:"The channel's own id of the order"`
	OrderNumber string `json:"order_number"`
	OurNumber   string `json:"our_number"`
	State       string `json:"state" doc:"taken in: we work on it; handed over: the buyer has it; parcel: a parcel of it moved" enum:"taken in,handed over,parcel"`
	Tracking    string `json:"tracking,omitempty" doc:"Number of the parcel that moved"`
	Parcel      string `json:"parcel,omitempty" doc:"How that parcel stands"                                                               enum:",accepted,under way,out for delivery,delivered,failed,held by customs,returning,returned,lost,problem"`
	At          string `json:"at,omitempty" doc:"RFC 3339: when that happened"`
	Text        string `json:"text,omitempty" doc:"What the carrier says of it"`
}

// Cancellation tells a channel what of an order was cancelled here.
type Cancellation struct {
	Reference   string             `json:"reference" need:"yes" doc:"Idempotency reference"`
	OrderID     string             `json:"order_id" need:"yes" doc:"The channel's own id of the order"`
	OrderNumber string             `json:"order_number"`
	OurNumber   string             `json:"our_number"`
	Reason      string             `json:"reason"`
	Whole       bool               `json:"whole" doc:"Nothing of the order is left"`
	Lines       []CancellationLine `json:"lines" doc:"What was cancelled"`
}

// CancellationLine is what was cancelled of one order line.
type CancellationLine struct {
	ID       string `json:"id" doc:"The channel's line number"`
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity" doc:"Units that were cancelled"                                        need:"yes"`
	Left     int64  `json:"left" doc:"Units that are left of the line, those that were sent among them"`
}

// Return announces that goods of an order come back.
type Return struct {
	Number      string       `json:"number,omitempty" doc:"The other side's number of the return, as people there know it"`
	OrderID     string       `json:"order_id,omitempty" doc:"The channel's own id of the order"`
	OrderNumber string       `json:"order_number,omitempty"`
	OurNumber   string       `json:"our_number,omitempty"`
	Reason      string       `json:"reason,omitempty" doc:"What the buyer says"`
	Tracking    string       `json:"tracking,omitempty" doc:"Number of the parcel in which it comes"`
	Withdrawn   bool         `json:"withdrawn,omitempty" doc:"It does not come after all"`
	Lines       []ReturnLine `json:"lines" need:"yes"`
	AnnouncedAt time.Time    `json:"announced_at,omitzero"`
}

// ReturnLine is a quantity of one order line that comes back.
type ReturnLine struct {
	ID       string `json:"id,omitempty" doc:"The channel's line number"`
	SKU      string `json:"sku,omitempty"`
	Quantity int64  `json:"quantity" need:"yes"`
}

// Check refuses a return that cannot be taken in.
func (r *Return) Check() error {
	switch {
	case r.OrderID == "" && r.OrderNumber == "" && r.OurNumber == "":
		return errors.New("order_id, order_number, our_number: at least one of them is needed")
	case len(r.Lines) == 0 && !r.Withdrawn:
		return errors.New("lines: at least one is needed")
	}
	for i, l := range r.Lines {
		if l.Quantity < 1 || l.ID == "" && l.SKU == "" {
			return fmt.Errorf("lines[%d]: a quantity of at least 1 and an id or sku are needed", i)
		}
	}
	return nil
}

// Refund tells a channel what a buyer gets back for goods that came back. Amounts are minor units.
type Refund struct {
	Reference    string       `json:"reference" need:"yes" doc:"Idempotency reference, unique for this return"`
	OrderID      string       `json:"order_id" need:"yes" doc:"The channel's own id of the order"`
	OrderNumber  string       `json:"order_number"`
	OurNumber    string       `json:"our_number"`
	ReturnNumber string       `json:"return_number" doc:"Our number of the return"`
	Announced    string       `json:"announced,omitempty" doc:"The channel's id of the return, where it announced it"`
	Currency     string       `json:"currency"`
	Amount       int64        `json:"amount" doc:"What the buyer gets back, with tax and shipping"`
	Shipping     int64        `json:"shipping" doc:"What of it was charged for shipping"`
	Tax          int64        `json:"tax" doc:"The tax in it"`
	Reason       string       `json:"reason,omitempty"`
	Lines        []RefundLine `json:"lines"`
}

// RefundLine is what came back of one order line, and what is given back for it.
type RefundLine struct {
	ID       string `json:"id" doc:"The channel's line number"`
	SKU      string `json:"sku"`
	Quantity int64  `json:"quantity"`
	Amount   int64  `json:"amount" doc:"As proposed; a person may have decided on another sum"`
}

// LabelVoid tells a carrier that a label it sold is not used.
type LabelVoid struct {
	Reference    string `json:"reference" need:"yes" doc:"Idempotency reference"`
	Label        string `json:"label" need:"yes" doc:"The carrier's number of the label, as it was sold"`
	Tracking     string `json:"tracking"`
	ParcelNumber string `json:"parcel_number" doc:"Number of the parcel, or of the return, that it was sold for"`
	Test         bool   `json:"test,omitempty"`
}

// Check refuses a dispatch that cannot be taken in.
func (d *Dispatch) Check() error {
	switch {
	case d.Reference == "":
		return errors.New("reference: missing")
	case d.OrderID == "" && d.OrderNumber == "" && d.OurNumber == "" && d.Request == "":
		return errors.New("order_id, order_number, our_number, request: at least one of them is needed")
	case d.Tracking == "":
		return errors.New("tracking: missing")
	}
	for i, l := range d.Lines {
		if l.Quantity < 1 || l.ID == "" && l.SKU == "" {
			return fmt.Errorf("lines[%d]: a quantity of at least 1 and an id or sku are needed", i)
		}
	}
	return nil
}

// Parcel is what a carrier is asked to price or carry.
type Parcel struct {
	Reference string        `json:"reference" doc:"Our idempotency reference"`
	Service   string        `json:"service,omitempty"`
	From      place.Address `json:"from"`
	To        place.Address `json:"to"`
	WeightG   int64         `json:"weight_g"`
	LengthMM  int64         `json:"length_mm"`
	WidthMM   int64         `json:"width_mm"`
	HeightMM  int64         `json:"height_mm"`
	OrderRef  string        `json:"order_ref,omitempty"`
	Payer     string        `json:"payer" doc:"Who pays the carrier"                                                                         enum:"sender,recipient,third"`
	Account   string        `json:"account,omitempty" doc:"Number of the account at the carrier; empty: the sender's usual one"`
	Kind      string        `json:"recipient_kind,omitempty" doc:"Whether a home or a business is at the address, as an address service says; empty: not known" enum:",home,business"`
	Remote    bool          `json:"remote,omitempty" doc:"An address service says that it is remote there"`
	PayerZip  string        `json:"payer_postcode,omitempty" doc:"Of whoever pays by that account"`
	PayerLand string        `json:"payer_country,omitempty"`
	ReturnTo  place.Address `json:"return_to" doc:"Where it comes back if it cannot be delivered"`

	Point   *PickupPoint         `json:"point,omitempty" doc:"Where the recipient fetches it; missing: it goes to the address"`
	Customs *customs.Declaration `json:"customs,omitempty" doc:"What accompanies it across a customs border; missing: it crosses none"`
	Test    bool                 `json:"test"`

	Insured   int64             `json:"insured,omitempty" doc:"What it is insured for, minor units; 0: it is not"`
	InsuredIn string            `json:"insured_in,omitempty" doc:"Currency of that"`
	Parcels   []ConsignedParcel `json:"parcels,omitempty" doc:"Where several are asked for in one request, under one number: each of them; weight and sizes above are then their sum and the largest"`
	Expected  int64             `json:"expected,omitempty" doc:"The price that was known when the label was asked for, minor units of the carrier's currency; 0: none was"`

	Handover string `json:"handover" doc:"Day of hand-over, YYYY-MM-DD"`
}

// ConsignedParcel is one of several parcels that are asked for in one request.
type ConsignedParcel struct {
	Reference string `json:"reference" doc:"Its own number here"`
	WeightG   int64  `json:"weight_g"`
	LengthMM  int64  `json:"length_mm"`
	WidthMM   int64  `json:"width_mm"`
	HeightMM  int64  `json:"height_mm"`
}

// Rate is what a carrier asks for a parcel by one service.
type Rate struct {
	Service     string `json:"service" need:"yes"`
	ServiceName string `json:"service_name"`
	Price       int64  `json:"price" doc:"minor units"`
	Currency    string `json:"currency"`
	Arrives     string `json:"arrives" doc:"YYYY-MM-DD"`
	Refused     string `json:"refused,omitempty" doc:"Why the carrier does not carry this parcel by this service"`
}

// Label is what a carrier answers to a purchase.
type Label struct {
	ID         string `json:"id" need:"yes" doc:"The carrier's own number of the purchase"`
	Tracking   string `json:"tracking" need:"yes"`
	URL        string `json:"url,omitempty" doc:"Where the recipient can follow the parcel"`
	Arrives    string `json:"arrives,omitempty" doc:"YYYY-MM-DD: when it should be there; empty: it is not said"`
	Service    string `json:"service"`
	Price      int64  `json:"price"`
	Currency   string `json:"currency"`
	Zone       string `json:"zone,omitempty"`
	Routing    string `json:"routing,omitempty" doc:"The carrier's sorting code, printed large"`
	PrintLines string `json:"print_lines,omitempty" doc:"Further text the carrier wants on the label"`

	Parcels []ConsignedLabel `json:"parcels,omitempty" doc:"Where several parcels were asked for: what is told of each, in their order or by reference; missing: nothing"`
	Piece   int64            `json:"piece,omitempty" doc:"Which of the parcels under its number this is, from 1; 0: it is alone"`
	Pieces  int64            `json:"pieces,omitempty" doc:"How many parcels are under its number"`

	Document     string `json:"document,omitempty" doc:"The label as the carrier made it, base64; empty: it is drawn here"`
	DocumentForm string `json:"document_form,omitempty" doc:"Form of the document: pdf, png, or a printer's language such as zpl" enum:",pdf,png,zpl,epl"`
}

// ConsignedLabel is what a carrier tells of one of several parcels.
type ConsignedLabel struct {
	Reference    string `json:"reference,omitempty" doc:"As it was asked for; empty: in the order of the request"`
	Tracking     string `json:"tracking,omitempty" doc:"A number of its own; empty: that of all"`
	Routing      string `json:"routing,omitempty"`
	Document     string `json:"document,omitempty" doc:"Its label, base64"`
	DocumentForm string `json:"document_form,omitempty" enum:",pdf,png,zpl,epl"`
}

// Of is the label of one of the parcels that were asked for; a parcel that was asked for alone has the label as it is.
func (l *Label) Of(asked *Parcel, reference string) Label {
	one := *l
	one.Parcels = nil
	at := slices.IndexFunc(asked.Parcels, func(p ConsignedParcel) bool { return p.Reference == reference })
	if at < 0 {
		return one
	}
	one.Piece, one.Pieces = int64(at+1), int64(len(asked.Parcels))
	if named := slices.IndexFunc(l.Parcels, func(p ConsignedLabel) bool { return p.Reference == reference }); named >= 0 {
		at = named
	} else if at >= len(l.Parcels) || l.Parcels[at].Reference != "" {
		return one // nothing is told of it
	}
	told := l.Parcels[at]
	set := func(to *string, value string) {
		if value != "" {
			*to = value
		}
	}
	set(&one.Tracking, told.Tracking)
	set(&one.Routing, told.Routing)
	set(&one.Document, told.Document)
	set(&one.DocumentForm, told.DocumentForm)
	return one
}

// PickupPoint is where a carrier keeps parcels until they are fetched.
type PickupPoint struct {
	ID       string `json:"id" need:"yes" doc:"The carrier's number of it"`
	Name     string `json:"name" need:"yes"`
	Street   string `json:"street"`
	Postcode string `json:"postcode"`
	Town     string `json:"town"`
	Country  string `json:"country"`
	Hours    string `json:"hours,omitempty" doc:"When it is open, in words"`
	Distance int64  `json:"distance_m,omitempty" doc:"From the address, metres; 0: not said"`

	Carrier string `json:"carrier,omitempty" doc:"Code of the carrier's connection, once it is chosen; empty: as the channel told it, of any carrier"`
}

// LabelDocument is a label as its carrier made it, where it is asked for by a request of its own.
type LabelDocument struct {
	Document string `json:"document" need:"yes" doc:"base64"`
	Form     string `json:"form" need:"yes" doc:"pdf, png, or a printer's language: zpl, epl" enum:"pdf,png,zpl,epl"`
}

// MadeBy is the document that the carrier made of the label; ok is false where it made none.
func (l *Label) MadeBy() (document []byte, form string, ok bool, err error) {
	if l.Document == "" {
		return nil, "", false, nil
	}
	document, err = base64.StdEncoding.DecodeString(l.Document)
	switch {
	case err != nil:
		return nil, "", true, fmt.Errorf("the document of label %s is no base64", l.ID)
	case !slices.Contains([]string{"pdf", "png", "zpl", "epl"}, l.DocumentForm):
		return nil, "", true, fmt.Errorf("the document of label %s is in the form %q; pdf, png, zpl and epl are known", l.ID,
			l.DocumentForm)
	case l.DocumentForm == "pdf" && !bytes.HasPrefix(document, []byte("%PDF-")),
		l.DocumentForm == "png" && !bytes.HasPrefix(document, []byte("\x89PNG")):
		return nil, "", true, fmt.Errorf("the document of label %s is no %s", l.ID, l.DocumentForm)
	}
	return document, l.DocumentForm, true, nil
}

// Handover closes a carrier's day.
type Handover struct {
	Reference string   `json:"reference"`
	Day       string   `json:"day"`
	Labels    []string `json:"labels" doc:"The carrier's own numbers of the purchases"`
	Tracking  []string `json:"tracking"`

	From       place.Address `json:"from" doc:"Where the parcels are collected"`
	Parcels    int64         `json:"parcels" doc:"How many there are"`
	WeightG    int64         `json:"weight_g" doc:"Of all of them"`
	WindowFrom string        `json:"window_from,omitempty" doc:"HH:MM on the clocks of the place: from when they can be collected; empty: it is not said"`
	WindowTo   string        `json:"window_to,omitempty" doc:"HH:MM: until when"`
	TimeZone   string        `json:"time_zone" doc:"IANA name of the zone of those clocks"`
}

// HandoverReceipt is the carrier's word on a closed day.
type HandoverReceipt struct {
	ID      string `json:"id"`
	Parcels int64  `json:"parcels"`

	Window       string   `json:"window,omitempty" doc:"When the carrier comes, in its own words"`
	NoCollection string   `json:"no_collection,omitempty" doc:"Why it does not come, although it took the list; empty: it does, or was not asked to"`
	NotTaken     []string `json:"not_taken,omitempty" doc:"The carrier's own numbers of the labels that are not on its list; empty: all are"`
}

// FollowedParcel is a parcel on its way, as a carrier is asked about it that says where parcels are one by one.
type FollowedParcel struct {
	Tracking     string    `json:"tracking" db:"tracking"`
	ParcelNumber string    `json:"parcel_number" db:"number" doc:"Ours, or that of the return in which it comes"`
	Postcode     string    `json:"postcode,omitempty" db:"postcode" doc:"Where it goes"`
	Country      string    `json:"country,omitempty" db:"country"`
	ShippedAt    time.Time `json:"shipped_at" db:"-"`
}

// SampleFollowed is a made-up parcel on its way.
var SampleFollowed = FollowedParcel{Tracking: "PP123456785XW", ParcelNumber: "SAMPLE", Postcode: "41360", Country: "XW",
	ShippedAt: time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}

// Tracking is one event on a parcel's way.
type Tracking struct {
	Tracking string    `json:"tracking" need:"yes"`
	State    string    `json:"state" need:"yes" doc:"failed: not handed over, and tried again; returning: on its way back; problem: none of these" enum:"accepted,under way,out for delivery,delivered,failed,held by customs,returning,returned,lost,problem"`
	Text     string    `json:"text"`
	Place    string    `json:"place,omitempty" doc:"Where it happened"`
	At       time.Time `json:"at"`
}

// Check refuses an event that cannot be taken in.
func (t *Tracking) Check() error {
	if !slices.Contains(journey.States, journey.State(t.State)) {
		return fmt.Errorf("state: %q has no meaning in the connector's table", t.State)
	}
	if t.Tracking == "" {
		return errors.New("tracking: missing")
	}
	return nil
}

// AddressCheck is what an address service says of an address.
type AddressCheck struct {
	Deliverable bool          `json:"deliverable" need:"yes"`
	Corrected   place.Address `json:"corrected"`
	Kind        string        `json:"kind,omitempty" doc:"home or business"`
	Remote      bool          `json:"remote" doc:"Carriers charge extra there"`
	Latitude    string        `json:"latitude,omitempty" doc:"decimal degrees, WGS 84"`
	Longitude   string        `json:"longitude,omitempty" doc:"decimal degrees, WGS 84"`
	Note        string        `json:"note,omitempty" doc:"What was changed or is wrong"`
}

// Receipt is what the other side says of something that we sent and it answers later, such as a file: whether it was taken.
type Receipt struct {
	Reference string    `json:"reference" need:"yes" doc:"The reference under which we sent it"`
	Taken     bool      `json:"taken" need:"yes" doc:"Whether it was taken as a whole"`
	Reason    string    `json:"reason,omitempty" doc:"Why it was not"`
	At        time.Time `json:"at,omitzero"`
}

// Check refuses a receipt that says of nothing what became of it.
func (r *Receipt) Check() error {
	if r.Reference == "" {
		return errors.New("reference: missing")
	}
	return nil
}
