package wire

import (
	"time"

	"openrelay/internal/connector"
	"openrelay/internal/core/customs"
	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/packing"
	"openrelay/internal/core/picking"
	"openrelay/internal/core/place"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
)

// OrderRow is an order in a list.
type OrderRow struct {
	Number         string     `json:"number"`
	Connection     string     `json:"connection"`
	ConnectionName string     `json:"connection_name"`
	ChannelNumber  string     `json:"channel_number"`
	ChannelState   string     `json:"channel_state"`
	Stage          string     `json:"stage"`
	Buyer          string     `json:"buyer"`
	Currency       string     `json:"currency"`
	Total          int64      `json:"total" doc:"Minor units"`
	Units          int64      `json:"units"`
	PlacedAt       *time.Time `json:"placed_at"`
	ReceivedAt     *time.Time `json:"received_at"`
	Via            string     `json:"via"`
	Held           []string   `json:"held" doc:"Causes of the holds"`
	Kind           string     `json:"kind" enum:"ship,collect,local,counter,prepared,summary"`
	Tags           []string   `json:"tags"`
	Assignee       string     `json:"assignee,omitempty"`
	TypedBy        string     `json:"typed_by,omitempty"`
	ShippedAt      *time.Time `json:"shipped_at,omitempty"`
	AnswerBy       *time.Time `json:"answer_by,omitempty" doc:"The channel waits for our answer until then"`
	Merged         bool       `json:"merged,omitempty" doc:"Part of a summary order"`
	LeavesBy       *time.Time `json:"leaves_by,omitempty" doc:"When it should have left by the hours of the place where it waits to be picked"`
}

// Order is one order with everything known about it.
type Order struct {
	Number         string           `json:"number"`
	Revision       int64            `json:"revision"`
	Stage          string           `json:"stage"`
	Connection     string           `json:"connection"`
	ConnectionName string           `json:"connection_name"`
	OutsideID      string           `json:"outside_id"`
	Via            string           `json:"via"`
	ThinnedBefore  *time.Time       `json:"thinned_before,omitempty" doc:"Steps of its timeline before that moment were taken out after their time"`
	LeavesBy       *time.Time       `json:"leaves_by,omitempty" doc:"When the next parcel of it should have left, by the hours of its place"`
	ReceivedAt     *time.Time       `json:"received_at"`
	ShippedAt      *time.Time       `json:"shipped_at,omitempty"`
	ShipTo         place.Address    `json:"ship_to"`
	Lines          []Line           `json:"lines"`
	Holds          []order.Hold     `json:"holds"`
	Record         message.Order    `json:"record" doc:"The channel's record in our words"`
	Totals         order.Totals     `json:"totals" doc:"Recalculated from the lines"`
	Versions       []ChannelVersion `json:"versions" doc:"What the channel sent, oldest first"`
	Timeline       []Entry          `json:"timeline"`
	Shipments      []Shipment       `json:"shipments"`
	WriteBacks     []Outbox         `json:"write_backs"`
	Returns        []Return         `json:"returns" doc:"Goods of it that come back, or did"`
	ExchangeFor    string           `json:"exchange_for,omitempty" doc:"Number of the return in whose place it is sent"`

	Kind       string          `json:"kind" enum:"ship,collect,local,counter,prepared,summary"`
	Assignee   string          `json:"assignee,omitempty"`
	TypedBy    string          `json:"typed_by,omitempty"`
	Ours       order.Ours      `json:"ours" doc:"What people and rules added"`
	Customer   *OrderCustomer  `json:"customer,omitempty"`
	MergedInto string          `json:"merged_into,omitempty" doc:"Number of the summary order"`
	Members    []OrderRow      `json:"members,omitempty" doc:"Of a summary order: the first of its orders"`
	Hidden     bool            `json:"hidden,omitempty" doc:"Personal data is hidden from your role"`
	Forgotten  *time.Time      `json:"forgotten,omitempty" doc:"When personal data was removed"`
	Actions    []string        `json:"actions" doc:"What can be done with it now"`
	Compared   []VersionChange `json:"compared" doc:"What each version of the channel's record changed against the one before"`
}

// OrderCustomer is who bought, and how often.
type OrderCustomer struct {
	ID     int64  `json:"id"`
	Name   string `json:"name"`
	Orders int64  `json:"orders" doc:"All their orders on this channel, up to 100"`
}

// VersionChange is what a version of the channel's record changed.
type VersionChange struct {
	Version int64    `json:"version"`
	Changes []Change `json:"changes"`
}

// Change is a field that differs.
type Change struct {
	Field string `json:"field"`
	Was   string `json:"was"`
	Is    string `json:"is"`
}

// Line is an order line with where its units are.
type Line struct {
	order.Line
	Waiting int64       `json:"waiting"`
	Kept    int64       `json:"kept_back,omitempty" doc:"Units that are not to be sent for now"`
	At      []LinePlace `json:"at"`
}

// LinePlace is where units of a line lie.
type LinePlace struct {
	Location string `json:"location"`
	Quantity int64  `json:"quantity"`
}

// ChannelVersion is one version of the channel's record.
type ChannelVersion struct {
	Version    int64      `json:"version"`
	Via        string     `json:"via"`
	ReceivedAt *time.Time `json:"received_at"`
	State      string     `json:"state"`
	Reason     string     `json:"reason,omitempty"`
	Record     any        `json:"record"`
}

// Entry is a timeline entry.
type Entry struct {
	ID    int64      `json:"id"`
	At    *time.Time `json:"at"`
	Who   string     `json:"who"`
	Thing string     `json:"thing"`
	Name  string     `json:"name"`
	What  string     `json:"what"`
	Text  string     `json:"text"`
}

// Outbox is a message decided and sent or waiting.
type Outbox struct {
	ID             int64        `json:"id"`
	Connection     string       `json:"connection"`
	ConnectionName string       `json:"connection_name"`
	Feed           message.Feed `json:"feed"`
	Subject        string       `json:"subject"`
	Reference      string       `json:"reference"`
	State          string       `json:"state" enum:"waiting,sending,sent,confirmed,refused,superseded"`
	Attempts       int64        `json:"attempts"`
	CreatedAt      *time.Time   `json:"created_at"`
	NextAt         *time.Time   `json:"next_at,omitempty"`
	SentAt         *time.Time   `json:"sent_at,omitempty"`
	ConfirmedAt    *time.Time   `json:"confirmed_at,omitempty"`
	Error          string       `json:"error,omitempty"`
}

// Shipment is what one place sends to one buyer, as lists show it.
type Shipment struct {
	Number      string     `json:"number"`
	OrderNumber string     `json:"order_number"`
	Buyer       string     `json:"buyer"`
	Location    string     `json:"location"`
	State       string     `json:"state" enum:"picking,packed,shipped,delivered,called off" doc:"Packed: all of it lies in parcels"`
	Quantity    int64      `json:"quantity"`
	Picked      int64      `json:"picked"`
	Packed      int64      `json:"packed"`
	Pickers     string     `json:"pickers,omitempty"`
	CreatedAt   *time.Time `json:"created_at"`
	Parcels     []Parcel   `json:"parcels"`
}

// Parcel is one carton of a shipment, as lists show it.
type Parcel struct {
	Number      string     `json:"number"`
	Shipment    string     `json:"shipment"`
	OrderNumber string     `json:"order_number"`
	Buyer       string     `json:"buyer"`
	Location    string     `json:"location"`
	State       string     `json:"state" enum:"packed,buying label,shipped,delivered,called off"`
	Quantity    int64      `json:"quantity" doc:"Units that lie in it"`
	Profile     string     `json:"profile,omitempty"`
	WeightG     int64      `json:"weight_g"`
	LengthMM    int64      `json:"length_mm"`
	WidthMM     int64      `json:"width_mm"`
	HeightMM    int64      `json:"height_mm"`
	Carrier     string     `json:"carrier,omitempty"`
	CarrierCode string     `json:"carrier_code,omitempty" doc:"Code of the carrier's connection, where it is joined"`
	Service     string     `json:"service,omitempty"`
	ServiceName string     `json:"service_name,omitempty"`
	Tracking    string     `json:"tracking,omitempty"`
	Typed       bool       `json:"typed,omitempty" doc:"It left with a number that was typed, which can be corrected"`
	TrackingURL string     `json:"tracking_url,omitempty"`
	Price       int64      `json:"price"`
	Currency    string     `json:"currency,omitempty"`
	ManifestID  int64      `json:"manifest_id,omitempty"`
	SSCC        string     `json:"sscc,omitempty"`
	Error       string     `json:"error,omitempty"`
	WrongField  string     `json:"wrong_field,omitempty" doc:"Which field its carrier refused, such as to.name or weight_g, where that is known"`
	CreatedAt   *time.Time `json:"created_at"`
	ShippedAt   *time.Time `json:"shipped_at,omitempty"`
	ScannedAt   *time.Time `json:"scanned_at,omitempty" doc:"When its carrier first said where it is"`
	DeliveredAt *time.Time `json:"delivered_at,omitempty"`
	VoidAsked   *time.Time `json:"void_asked_at,omitempty" doc:"Since when its label is to be voided"`
	Carton      string     `json:"carton,omitempty" doc:"Number of the parcel in whose carton it travels"`
	Riders      []string   `json:"riders,omitempty" doc:"Numbers of the parcels of other orders that travel in its carton"`
	Journey     string     `json:"journey,omitempty" doc:"How it stands by its latest event: accepted, under way, out for delivery, delivered, failed, held by customs, returning, returned, lost or problem; empty: its carrier said nothing yet"`
	JourneyAt   *time.Time `json:"journey_at,omitempty"`
	Charged     int64      `json:"charged" doc:"By the freight rules, minor units"`
	ChargedBy   string     `json:"charged_by,omitempty" doc:"The rule that counts; empty: what the carrier asks"`
	InsuredFor  int64      `json:"insured_for,omitempty" doc:"By its label, minor units of its order's currency; 0: it is not insured"`
	Piece       int64      `json:"piece,omitempty" doc:"Which of the parcels under its number it is, from 1; 0: it is alone"`
	Pieces      int64      `json:"pieces,omitempty" doc:"How many are under its number"`
	Quoted      int64      `json:"quoted,omitempty" doc:"What its label was to cost when it was asked for, minor units; 0: nobody knew"`
	Promised    string     `json:"promised,omitempty" doc:"YYYY-MM-DD by which it should be there; empty: nobody said"`
}

// Round is shipments that are picked in one walk, as lists show it.
type Round struct {
	Number    string      `json:"number"`
	Location  string      `json:"location"`
	State     string      `json:"state" enum:"picking,picked,taken apart"`
	Rule      string      `json:"rule,omitempty" doc:"Code of the rule by which it was made"`
	Holder    string      `json:"holder,omitempty" doc:"Who picks it"`
	Mine      bool        `json:"mine" doc:"Whoever asks picks it, or may begin to"`
	MadeBy    string      `json:"made_by"`
	Quantity  int64       `json:"quantity"`
	Picked    int64       `json:"picked"`
	Slots     []RoundSlot `json:"slots"`
	CreatedAt *time.Time  `json:"created_at"`
	EndedAt   *time.Time  `json:"ended_at,omitempty"`
	Revision  int64       `json:"revision"`
}

// RoundSlot is a place on the cart, for one shipment.
type RoundSlot struct {
	Slot        int    `json:"slot"`
	Shipment    string `json:"shipment"`
	OrderNumber string `json:"order_number"`
	Buyer       string `json:"buyer"`
	State       string `json:"state" enum:"picking,packed,shipped,delivered,called off"`
	Quantity    int64  `json:"quantity"`
	Picked      int64  `json:"picked"`
}

// RoundView is a round with what is collected in it, in the order of the walk.
type RoundView struct {
	Round
	Stops    []picking.Stop       `json:"stops"`
	Left     []shipping.LeftOut   `json:"left,omitempty" doc:"When it was just made: orders that could not go into it"`
	Said     picking.RoundOutcome `json:"said,omitzero" doc:"After a scan: what it did"`
	Expected string               `json:"expected" doc:"What may be scanned next"`
}

// Return is goods of an order that come back, as lists show it.
type Return struct {
	Number      string     `json:"number"`
	OrderNumber string     `json:"order_number"`
	Buyer       string     `json:"buyer"`
	Location    string     `json:"location"`
	State       string     `json:"state" enum:"announced,arrived,settled,called off"`
	Units       int64      `json:"units" doc:"That are to come, or came"`
	Came        int64      `json:"came" doc:"Units that are here"`
	Looked      int64      `json:"to_look_at" doc:"Units of those that are to be looked at"`
	Reason      string     `json:"reason,omitempty" doc:"What the buyer says"`
	Note        string     `json:"note,omitempty"`
	Tracking    string     `json:"tracking,omitempty" doc:"Number of the parcel in which it comes"`
	Announced   string     `json:"announced_by,omitempty" doc:"The connection, or the person, that announced it"`
	Refund      int64      `json:"refund" doc:"What was given back, minor units"`
	Currency    string     `json:"currency"`
	Exchange    string     `json:"exchange,omitempty" doc:"Number of the order that is sent in its place"`
	CreatedAt   *time.Time `json:"created_at"`
	ArrivedAt   *time.Time `json:"arrived_at,omitempty"`
	SettledAt   *time.Time `json:"settled_at,omitempty"`
	Revision    int64      `json:"revision"`
}

// ReturnLine is an item of an order's line that may come back, or did.
type ReturnLine struct {
	LineID    int64  `json:"line_id"`
	SKU       string `json:"sku"`
	GTIN      string `json:"gtin,omitempty"`
	Name      string `json:"name"`
	KitSKU    string `json:"kit_sku,omitempty" doc:"The kit that it is a part of"`
	Serials   bool   `json:"serials,omitempty" doc:"Each unit has a serial number"`
	Sent      int64  `json:"sent"`
	Left      int64  `json:"left" doc:"Units that may still come"`
	Announced int64  `json:"announced"`
	Stock     int64  `json:"stock" doc:"Units that went to stock"`
	Look      int64  `json:"look" doc:"Units that are to be looked at"`
	Off       int64  `json:"written_off"`
}

// ReturnView is a return with what may come, what came, and what the buyer gets back.
type ReturnView struct {
	Return
	LookBin  string                 `json:"look_bin,omitempty" doc:"Where lies what is to be looked at"`
	Lines    []ReturnLine           `json:"lines"`
	Numbers  []store.ReturnedSerial `json:"serials" doc:"Units with serial numbers that came back"`
	Proposed returns.Refund         `json:"proposed" doc:"What the buyer gets back for what is here, worked out"`
	Tax      int64                  `json:"refund_tax"`
	Paid     int64                  `json:"paid" doc:"What the buyer paid for the order"`
	Before   int64                  `json:"refunded_before" doc:"What was given back with other returns of the order"`
	Label    *ReturnLabel           `json:"label,omitempty" doc:"By which the goods come; missing: none was asked for here"`
}

// ReturnLabel is the newest label by which goods of a return come.
type ReturnLabel struct {
	State       string     `json:"state" enum:"asked,bought,refused,being voided,voided"`
	Carrier     string     `json:"carrier"`
	CarrierCode string     `json:"carrier_code,omitempty"`
	Service     string     `json:"service"`
	Tracking    string     `json:"tracking,omitempty"`
	Price       int64      `json:"price" doc:"Minor units"`
	Currency    string     `json:"currency,omitempty"`
	WeightG     int64      `json:"weight_g"`
	Error       string     `json:"error,omitempty"`
	AskedAt     *time.Time `json:"asked_at"`
	Journey     string     `json:"journey,omitempty" doc:"How its parcel stands by its latest event; empty: its carrier said nothing yet"`
	JourneyAt   *time.Time `json:"journey_at,omitempty"`
}

// ReturnPurchase is by which service the label of a return is bought, and for which carton.
type ReturnPurchase struct {
	shipping.Purchase
	shipping.ReturnParcel
}

// Carton is what goods are packed into.
type Carton struct {
	Profile string              `json:"profile,omitempty" doc:"Code of a parcel profile"`
	WeightG int64               `json:"weight_g,omitempty" doc:"Weighed gross weight; 0 takes the sum of items and carton"`
	Serials map[string][]string `json:"serials,omitempty" doc:"Serial numbers of the units that have them, by SKU"`
	LetIn   bool                `json:"let_in,omitempty" doc:"Let serial numbers in that were not recorded at receipt; for those who work on orders"`
	Sure    bool                `json:"sure,omitempty" doc:"A weight that is far from the sum is right"`
}

// Packing is a carton with what goes into it.
type Packing struct {
	Carton
	Units map[string]int64 `json:"units,omitempty" doc:"Units by SKU; without them all that is picked and lies in no parcel"`
	Into  string           `json:"into,omitempty" doc:"Number of a packed parcel into whose carton it goes; its profile may be left out then" maxLength:"40"`
}

// ParcelContent is what lies in a parcel of an item.
type ParcelContent struct {
	SKU      string `json:"sku"`
	GTIN     string `json:"gtin,omitempty"`
	Name     string `json:"name"`
	Quantity int64  `json:"quantity"`
	Serials  bool   `json:"serials,omitempty" doc:"Each unit has a serial number"`
}

// ParcelView is a parcel with what lies in it and where it goes.
type ParcelView struct {
	Parcel
	Contents  []ParcelContent `json:"contents"`
	ShipTo    place.Address   `json:"ship_to"`
	Wish      string          `json:"requested_service,omitempty"`
	Stage     string          `json:"stage"`
	Beside    int64           `json:"packed_beside" doc:"How many other packed parcels without a label its shipment has"`
	Gift      string          `json:"gift_note,omitempty"`
	Served    string          `json:"decided_service,omitempty" doc:"The service that a rule chose"`
	Inside    []ParcelInside  `json:"inside" doc:"What of other orders travels in its carton"`
	Insurance *ParcelInsured  `json:"insurance,omitempty" doc:"What its label would be bought with now; missing: it has one, or that cannot be said"`
	Customs   *ParcelCustoms  `json:"customs,omitempty" doc:"Missing: it crosses no customs border"`
	Events    []ParcelEvent   `json:"events" doc:"Its way, as its carrier tells it, in the order in which it happened"`
	Claim     *ParcelClaim    `json:"claim,omitempty"`
	LabelForm string          `json:"label_form,omitempty" doc:"Form of the label that the carrier made, such as zpl, or document where it is asked for when it is wanted; empty: it is drawn here"`
}

// ParcelInsured is what a parcel without a label is to be insured for.
type ParcelInsured struct {
	Amount   int64  `json:"amount" doc:"Minor units; 0: it is not"`
	Currency string `json:"currency"`
	ByHand   bool   `json:"by_hand" doc:"A person said so; else rules do"`
}

// ParcelCustoms is what is declared of a parcel that crosses a customs border.
type ParcelCustoms struct {
	customs.Declaration
	Lacks string `json:"lacks,omitempty" doc:"What is not known of the goods, with the items named; empty: all is"`
}

// ParcelEvent is one thing that happened to a parcel on its way.
type ParcelEvent struct {
	At    *time.Time `json:"at"`
	State string     `json:"state"`
	Text  string     `json:"text,omitempty"`
	Place string     `json:"place,omitempty"`
}

// ParcelClaim is what is asked of a carrier for a parcel.
type ParcelClaim struct {
	State     string     `json:"state" enum:"noted,sent,granted,declined,paid,withdrawn"`
	Amount    int64      `json:"amount" doc:"Minor units"`
	Currency  string     `json:"currency"`
	Note      string     `json:"note,omitempty"`
	MadeBy    string     `json:"made_by"`
	ChangedAt *time.Time `json:"changed_at"`
}

// ParcelInside is what of an order travels in the carton of another's parcel.
type ParcelInside struct {
	Number      string          `json:"number"`
	OrderNumber string          `json:"order_number"`
	Contents    []ParcelContent `json:"contents"`
}

// ShipmentView is a shipment with what is to be picked.
type ShipmentView struct {
	Shipment
	Wants    []picking.Want `json:"wants"`
	Expected string         `json:"expected" doc:"What may be scanned next"`
	ShipTo   place.Address  `json:"ship_to"`
	Note     string         `json:"note,omitempty"`
	Wish     string         `json:"requested_service,omitempty"`
	Stage    string         `json:"stage"`
	Gift     string         `json:"gift_note,omitempty"`
	Profiled string         `json:"decided_profile,omitempty" doc:"The profile that a rule chose"`
	Together []ShipmentPart `json:"together" doc:"Open shipments of other orders that travel with it"`
}

// ShipmentPart is a shipment that travels with another.
type ShipmentPart struct {
	Number      string         `json:"number"`
	OrderNumber string         `json:"order_number"`
	State       string         `json:"state" enum:"picking,packed"`
	Wants       []picking.Want `json:"wants"`
	Parcels     []Parcel       `json:"parcels"`
	Note        string         `json:"note,omitempty"`
	Gift        string         `json:"gift_note,omitempty"`
}

// Connection is a connection with its feeds.
type Connection struct {
	Code      string                 `json:"code"`
	Name      string                 `json:"name"`
	Connector string                 `json:"connector"`
	Title     string                 `json:"title"`
	Side      string                 `json:"side"`
	BaseURL   string                 `json:"base_url"`
	Paused    bool                   `json:"paused"`
	Revision  int64                  `json:"revision"`
	Lamp      views.Lamp             `json:"lamp"`
	Orders    int64                  `json:"orders_today"`
	Waiting   int64                  `json:"waiting" doc:"Messages that wait to be sent or confirmed"`
	Refused   int64                  `json:"refused"`
	LastOK    *time.Time             `json:"last_ok,omitempty"`
	BeganAt   *time.Time             `json:"began_at"`
	Feeds     []Feed                 `json:"feeds"`
	PushPath  string                 `json:"push_path,omitempty" doc:"Where the other side pushes to"`
	Settings  engine.Settings        `json:"settings"`
	State     string                 `json:"state" enum:"joining,on,left"`
	Test      bool                   `json:"test"`
	Site      string                 `json:"site,omitempty"`
	AccountNo string                 `json:"account_no,omitempty" doc:"Our number on the other side, once a person confirmed it"`
	AccountID int64                  `json:"account_id,omitempty"`
	Account   string                 `json:"account,omitempty" doc:"Our name on the other side"`
	Overrides string                 `json:"overrides,omitempty"`
	Can       connector.Capabilities `json:"can"`
	Previewed *time.Time             `json:"previewed,omitempty" doc:"When somebody saw what sending stock changes"`
}

// Feed is one kind of record moving one way.
type Feed struct {
	Kind     message.Feed `json:"kind"`
	On       bool         `json:"on"`
	Lamp     views.Lamp   `json:"lamp"`
	Ways     []string     `json:"ways" doc:"push, read or send"`
	Schedule string       `json:"schedule" doc:"Cron fields or @every; empty means the connector's own"`
	Every    string       `json:"every,omitempty" doc:"The connector's own schedule"`
	Mark     string       `json:"mark,omitempty"`
	LastOK   *time.Time   `json:"last_ok,omitempty"`
	Next     *time.Time   `json:"next,omitempty"`
	Failures int64        `json:"failures"`
	Error    string       `json:"error,omitempty"`
	Revision int64        `json:"revision"`
}

// ExchangedFile is a file that came or went.
type ExchangedFile struct {
	ID         int64      `json:"id"`
	Connection string     `json:"connection"`
	Feed       string     `json:"feed"`
	Way        string     `json:"way" enum:"in,out"`
	Name       string     `json:"name"`
	Size       int64      `json:"size" doc:"Bytes"`
	At         *time.Time `json:"at"`
	Records    int64      `json:"records"`
	State      string     `json:"state" enum:"taken,again,refused,sent,awaited,accepted,unanswered" doc:"again: its content came before, and was not read. Of one that went: awaited until its receipt says that it was accepted or refused; unanswered where none came in time"`
	Reason     string     `json:"reason,omitempty"`
}

// Run is one execution of a feed.
type Run struct {
	ID             int64            `json:"id"`
	Connection     string           `json:"connection"`
	ConnectionName string           `json:"connection_name"`
	Feed           message.Feed     `json:"feed"`
	Cause          string           `json:"cause"`
	State          string           `json:"state" enum:"running,open,done,failed"`
	StartedAt      *time.Time       `json:"started_at"`
	EndedAt        *time.Time       `json:"ended_at,omitempty"`
	Found          int64            `json:"found"`
	New            int64            `json:"new"`
	Changed        int64            `json:"changed"`
	Skipped        int64            `json:"skipped"`
	Failed         int64            `json:"failed"`
	Reasons        map[string]int64 `json:"reasons"`
	Error          string           `json:"error,omitempty"`
}

// LogLine is a line of a run's log.
type LogLine struct {
	At    *time.Time `json:"at"`
	Level string     `json:"level"`
	Text  string     `json:"text"`
}

// Exception is something that needs a person, or all that is the same of it: of one cause, about one thing, at
// one connection.
type Exception struct {
	ID             int64       `json:"id"`
	Cause          order.Cause `json:"cause"`
	Subject        string      `json:"subject" doc:"What it is about within its cause: an SKU, a field, a reason"`
	Text           string      `json:"text"`
	Expected       string      `json:"expected"`
	Side           string      `json:"side" doc:"Which side can mend it"                                               enum:"ours,theirs,either"`
	Connection     string      `json:"connection,omitempty" doc:"Code"`
	ConnectionName string      `json:"connection_name,omitempty"`
	OrderNumber    string      `json:"order_number,omitempty"`
	SKU            string      `json:"sku,omitempty"`
	Parcel         string      `json:"parcel,omitempty" doc:"Number of the parcel that it is about"`
	OutboxID       int64       `json:"outbox_id,omitempty" doc:"A message that was refused and can be sent again"`
	InboxID        int64       `json:"inbox_id,omitempty" doc:"A message that was not understood and can be taken in again"`
	OpenedAt       *time.Time  `json:"opened_at"`
	Assignee       string      `json:"assignee,omitempty"`
	SnoozedUntil   *time.Time  `json:"snoozed_until,omitempty"`
	Count          int64       `json:"count" doc:"How many there are of the same"`
	Orders         int64       `json:"orders" doc:"How many orders wait for it"`
	OldestAt       *time.Time  `json:"oldest_at,omitempty"`
	Settled        bool        `json:"settled" doc:"A person may say that it was dealt with; others end with their cause"`
}

// Manifest is a carrier's list of one day.
type Manifest struct {
	ID       int64      `json:"id"`
	Carrier  string     `json:"carrier"`
	Name     string     `json:"carrier_name"`
	Day      string     `json:"day"`
	State    string     `json:"state" enum:"open,closing,closed"`
	Receipt  string     `json:"receipt,omitempty"`
	Parcels  int64      `json:"parcels"`
	ClosedAt *time.Time `json:"closed_at,omitempty"`
	Place    string     `json:"place,omitempty" doc:"Name of the place that it leaves from; empty: of several"`
	Window   string     `json:"window,omitempty" doc:"When the carrier comes: as it was asked, then as it says"`
	Refused  string     `json:"refused,omitempty" doc:"Why it does not come, although it took the list"`
}

// Board is everything at a glance.
type Board struct {
	Company     string       `json:"company"`
	Now         time.Time    `json:"now"`
	Stages      []StageCount `json:"stages"`
	Connections []Connection `json:"connections"`
	Places      []PlaceCount `json:"places"`
	Exceptions  []Exception  `json:"exceptions"`
	Late        []OrderRow   `json:"late" doc:"Oldest orders that are still to be sent"`
}

// StageCount is how many orders stand at a stage.
type StageCount struct {
	Stage  string     `json:"stage"`
	Count  int64      `json:"count"`
	Oldest *time.Time `json:"oldest,omitempty"`
}

// PlaceCount is a location and what is to be sent from it.
type PlaceCount struct {
	Code   string `json:"code"`
	Name   string `json:"name"`
	Today  string `json:"today,omitempty" doc:"Whether it is at work now, in words"`
	ToPick int64  `json:"to_pick" doc:"Orders; of a partner's place those that it is to send"`
	ToShip int64  `json:"to_ship"`

	Partner string `json:"partner,omitempty" doc:"Code of the connection that sends from there; empty: we do"`
	PerDay  int64  `json:"per_day,omitempty" doc:"How many orders can leave there on a day; 0: nobody said"`
}

// Profile is a parcel profile.
type Profile = packing.Profile
