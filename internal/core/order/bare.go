package order

import (
	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

// Bare is a channel's order without what tells who bought; a word stands in its place. The money, the goods, the country and the
// region of the postcode stay: the books and the reports need them.
func Bare(m *message.Order, word string) message.Order {
	clean := message.Order{Number: m.Number, State: m.State, Status: m.Status, Kind: m.Kind, FulfilledBy: m.FulfilledBy,
		PlacedAt: m.PlacedAt, ChangedAt: m.ChangedAt, Currency: m.Currency,
		PricesIncludeTax: m.PricesIncludeTax, BuyerName: word, ShipTo: BareAddress(m.ShipTo, word), Shipping: m.Shipping,
		Discount: m.Discount, Tax: m.Tax, Total: m.Total,
		Payment: m.Payment, Paid: m.Paid, RequestedService: m.RequestedService, Parcels: m.Parcels, TaxRounding: m.TaxRounding}
	for _, v := range m.Vouchers {
		clean.Vouchers = append(clean.Vouchers, message.Voucher{Code: word, Amount: v.Amount})
	}
	for _, l := range m.Lines {
		l.Note = ""
		clean.Lines = append(clean.Lines, l)
	}
	return clean
}

// BareAddress is an address of which only the country and the region of the postcode are told.
func BareAddress(a place.Address, word string) place.Address {
	return place.Address{Name: word, Street: word, Town: word, Country: a.Country, Postcode: a.Postcode[:min(2, len(a.Postcode))]}
}
