package message

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"openrelay/internal/core/place"
	"openrelay/internal/core/request"
)

// Request asks a partner to send something for us.
type Request struct {
	Reference     string        `json:"reference" need:"yes" doc:"Ours of the request, the same each time that it is asked; answers name it"`
	Number        string        `json:"number" doc:"Ours of the request, as people see it"`
	OrderNumber   string        `json:"order_number" doc:"Ours of the order"`
	ChannelNumber string        `json:"channel_number" doc:"The channel's number of the order, which the buyer knows"`
	Channel       string        `json:"channel" doc:"Code of the channel"`
	Place         string        `json:"place" doc:"The partner's place, by its own code where that is said"`
	Test          bool          `json:"test,omitempty" doc:"Nothing is to be sent"`
	Again         bool          `json:"again,omitempty" doc:"It was asked before under this reference"`
	Service       string        `json:"service,omitempty" doc:"What the buyer was promised"`
	DeliverBy     string        `json:"deliver_by,omitempty" doc:"Day by which the buyer was promised it, YYYY-MM-DD"`
	PlacedAt      time.Time     `json:"placed_at"`
	Currency      string        `json:"currency" doc:"ISO 4217"`
	Language      string        `json:"language,omitempty" doc:"That the buyer reads, two letters of ISO 639-1"`
	Sender        string        `json:"sender,omitempty" doc:"Name under which it is to be sent"`
	To            place.Address `json:"to"`
	Note          string        `json:"note,omitempty"`
	GiftNote      string        `json:"gift_note,omitempty"`
	Lines         []RequestLine `json:"lines" need:"yes"`
}

// RequestLine is a quantity that a partner is asked for.
type RequestLine struct {
	ID        string `json:"id" doc:"Number of the line in the request, from 1"`
	SKU       string `json:"sku" need:"yes" doc:"As the partner calls it"`
	OurSKU    string `json:"our_sku"`
	GTIN      string `json:"gtin,omitempty"`
	Title     string `json:"title"`
	Quantity  int64  `json:"quantity" need:"yes"`
	UnitPrice int64  `json:"unit_price" doc:"What the buyer pays for a unit, minor units"`
	Note      string `json:"note,omitempty" doc:"Wish of the buyer for this line, such as what is to be engraved"`
}

// RequestStop asks a partner not to send what is left of a request.
type RequestStop struct {
	Reference string `json:"reference" need:"yes" doc:"Idempotency reference"`
	Request   string `json:"request" need:"yes" doc:"Our reference of the request"`
	Number    string `json:"number"`
	TheirID   string `json:"their_id,omitempty" doc:"The partner's own number of it"`
	Reason    string `json:"reason,omitempty"`
	Test      bool   `json:"test,omitempty"`
}

// RequestState is what a partner says of a request. It is also what the answer to a request may tell.
type RequestState struct {
	Reference string             `json:"reference" need:"yes" doc:"Ours of the request"`
	ID        string             `json:"id,omitempty" doc:"The partner's own number of it"`
	State     string             `json:"state" need:"yes" doc:"changed: it will send what the lines say; closed: it has sent all that it will send" enum:"acknowledged,changed,refused,unknown item,called off,not called off,closed"`
	Reason    string             `json:"reason,omitempty"`
	Expected  string             `json:"expected,omitempty" doc:"Day on which it means to send it, YYYY-MM-DD"`
	Lines     []RequestStateLine `json:"lines,omitempty" doc:"Of changed and unknown item: which"`
	At        time.Time          `json:"at,omitzero"`
}

// RequestStateLine is what a partner says of one line.
type RequestStateLine struct {
	SKU      string `json:"sku" need:"yes" doc:"As the partner calls it"`
	Quantity int64  `json:"quantity" doc:"Units that it will send in all"`
}

// Check refuses what cannot be taken in.
func (m *RequestState) Check() error {
	if m.Reference == "" {
		return errors.New("reference: missing")
	}
	if !slices.Contains(request.Words, m.State) {
		return fmt.Errorf("state %q: one of %s is expected", m.State, strings.Join(request.Words, ", "))
	}
	if _, err := time.Parse(time.DateOnly, m.Expected); m.Expected != "" && err != nil {
		return fmt.Errorf("expected %q: a day such as 2026-11-30 is expected", m.Expected)
	}
	for i := range m.Lines {
		if m.Lines[i].Quantity < 0 {
			return fmt.Errorf("line %d: quantity %d", i+1, m.Lines[i].Quantity)
		}
	}
	return nil
}

// News is what is said, for the request.
func (m *RequestState) News() request.News {
	n := request.News{Says: m.State, TheirID: m.ID, Reason: m.Reason, Expected: m.Expected}
	for _, l := range m.Lines {
		n.Lines = append(n.Lines, request.NewsLine{SKU: l.SKU, Quantity: l.Quantity})
	}
	return n
}

// RequestAnswer is what the answer to a request, or to a cancellation of one, may tell at once.
type RequestAnswer struct {
	ID       string `json:"id,omitempty" doc:"The partner's own number of it"`
	State    string `json:"state,omitempty" doc:"acknowledged, refused, called off …; empty: it will say later" enum:",acknowledged,changed,refused,unknown item,called off,not called off,closed"`
	Reason   string `json:"reason,omitempty"`
	Expected string `json:"expected,omitempty" doc:"Day on which it means to send it, YYYY-MM-DD"`
}

// BillLine is a line of what a partner bills.
type BillLine struct {
	Bill     string `json:"bill" doc:"The partner's number of the bill"`
	Request  string `json:"request" doc:"Our reference of the request, or our number of it or of its order"`
	Tracking string `json:"tracking,omitempty" doc:"Of the parcel, where the line is about one"`
	What     string `json:"what,omitempty" doc:"What for, such as handling or a surcharge"`
	Amount   int64  `json:"amount" need:"yes" doc:"Without tax, minor units"`
	Currency string `json:"currency,omitempty" doc:"ISO 4217; empty: as agreed"`
}

// Check refuses what cannot be taken in.
func (m *BillLine) Check() error {
	if cmp.Or(m.Request, m.Tracking) == "" {
		return errors.New("request, tracking: one of them is needed")
	}
	return nil
}
