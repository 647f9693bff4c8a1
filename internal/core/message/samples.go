package message

import (
	"time"

	"openrelay/internal/core/place"
)

// Sample is a made-up message of a feed that goes out, to see how it would be sent; nil of one that comes in. reference begins
// what we call it, day is the one of a handover.
func Sample(kind Feed, reference, day string, at time.Time) any {
	to := place.Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}
	at = at.UTC().Truncate(time.Second)
	switch kind {
	case StockOut:
		return Offer{OutsideID: "0", SKU: "SAMPLE", Quantity: 3}
	case ItemsOut:
		return Publication{SKU: "SAMPLE", Title: "Sample", Description: "A sample.", Category: "Samples", Price: 1290,
			Currency: "EUR", Quantity: 3, WeightG: 250}
	case DispatchOut:
		return Dispatch{Reference: reference, OrderID: "0", OrderNumber: "SAMPLE-1", OurNumber: "SAMPLE", Carrier: "Plover Post",
			Service: "PP", Tracking: "PP123456785XW", ShippedAt: at, Lines: []DispatchLine{{ID: "1", SKU: "SAMPLE", Quantity: 1}},
			LastOfOrder: true, ParcelNumber: "SAMPLE"}
	case AnswersOut:
		return OrderAnswer{Reference: reference, OrderID: "0", OrderNumber: "SAMPLE-1", Accepted: true, ReadyAt: at.Add(20 * time.Minute)}
	case StatesOut:
		return OrderState{Reference: reference, OrderID: "0", OrderNumber: "SAMPLE-1", OurNumber: "SAMPLE", State: "taken in"}
	case CancelOut:
		return Cancellation{Reference: reference, OrderID: "0", OrderNumber: "SAMPLE-1", OurNumber: "SAMPLE",
			Reason: "no longer wanted", Lines: []CancellationLine{{ID: "1", SKU: "SAMPLE", Quantity: 1, Left: 2}}}
	case RefundsOut:
		return Refund{Reference: reference, OrderID: "0", OrderNumber: "SAMPLE-1", OurNumber: "SAMPLE", ReturnNumber: "SAMPLE",
			Currency: "EUR", Amount: 1290, Tax: 206, Reason: "chipped",
			Lines: []RefundLine{{ID: "1", SKU: "SAMPLE", Quantity: 1, Amount: 1290}}}
	case LabelsOut, ReturnLabels:
		return Parcel{Reference: reference, Service: "PP", From: to, To: to, WeightG: 900, LengthMM: 300, WidthMM: 200,
			HeightMM: 100, Test: true, Handover: day}
	case RequestsOut:
		return Request{Reference: reference, Number: "SAMPLE", OrderNumber: "SAMPLE-1", ChannelNumber: "SAMPLE-1", Test: true, To: to,
			PlacedAt: at, Currency: "EUR", Lines: []RequestLine{{ID: "1", SKU: "SAMPLE", OurSKU: "SAMPLE", Title: "Sample", Quantity: 1,
				UnitPrice: 1290}, {ID: "2", SKU: "SAMPLE-2", OurSKU: "SAMPLE-2", Title: "Second sample", Quantity: 2, UnitPrice: 490}}}
	case RequestStops:
		return RequestStop{Reference: reference, Request: reference, Number: "SAMPLE", TheirID: "0", Reason: "no longer wanted", Test: true}
	case VoidsOut:
		return LabelVoid{Reference: reference, Label: "0", Tracking: "PP123456785XW", ParcelNumber: "SAMPLE", Test: true}
	case HandoversOut:
		return Handover{Reference: reference, Day: day, Labels: []string{"0"}, Tracking: []string{"PP123456785XW"}}
	}
	return nil
}
