package message

import "strings"

// Feed is one of the streams of messages between a connection and the relay, by what it carries and which way.
type Feed string

// The feeds of the definition language. What comes in is read or pushed, what goes out is sent.
const (
	OrdersIn    Feed = "orders in"
	ListingsIn  Feed = "listings in"
	StockIn     Feed = "stock in"
	ItemsIn     Feed = "items in"
	CustomersIn Feed = "customers in"
	DispatchIn  Feed = "dispatch in"
	TrackingIn  Feed = "tracking in"
	ReturnsIn   Feed = "returns in"
	ReceiptsIn  Feed = "receipts in"
	RequestsIn  Feed = "request states in"
	BillsIn     Feed = "bills in"

	StockOut     Feed = "stock out"
	ItemsOut     Feed = "items out"
	DispatchOut  Feed = "dispatch out"
	AnswersOut   Feed = "answers out"
	StatesOut    Feed = "states out"
	CancelOut    Feed = "cancellations out"
	RefundsOut   Feed = "refunds out"
	LabelsOut    Feed = "labels out"
	ReturnLabels Feed = "return labels out"
	VoidsOut     Feed = "voids out"
	HandoversOut Feed = "handovers out"
	RequestsOut  Feed = "requests out"
	RequestStops Feed = "request cancellations out"
)

// FeedList writes feeds as people read them.
func FeedList(list []Feed) string {
	words := make([]string, len(list))
	for i, f := range list {
		words[i] = string(f)
	}
	return strings.Join(words, ", ")
}
