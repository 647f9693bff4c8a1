package order

import (
	"errors"
	"fmt"
	"sort"
	"time"

	"openrelay/internal/core/message"
)

// Cut is the last moment at or before now at which a day ends, when days end at a set time of day (hours and
// minutes after midnight) on the clocks of a zone. Days are 23 or 25 hours long where clocks change; a time
// that a clock skips is taken as the moment after the gap, as time.Date does.
func Cut(now time.Time, minuteOfDay int, zone *time.Location) time.Time {
	y, m, d := now.In(zone).Date()
	cut := time.Date(y, m, d, minuteOfDay/60, minuteOfDay%60, 0, 0, zone)
	if cut.After(now) {
		cut = time.Date(y, m, d-1, minuteOfDay/60, minuteOfDay%60, 0, 0, zone)
	}
	return cut
}

// Mergeable tells whether an order may go into the summary of its day: all of it has left, nothing is odd.
func Mergeable(o *Order) bool {
	st := o.Stage()
	return !o.Voided && !o.Test && o.MergedInto == 0 && o.Kind() != Summary && len(o.Holds) == 0 && (st == Shipped || st == Delivered)
}

// ErrTooLong says that a summary would have more lines than an order may have.
var ErrTooLong = errors.New("the summary has too many lines")

// Merge makes one summary order of many small ones of a channel: the lines of the same goods at the same
// price are added up, and so is the money. It moves no stock: the members have done that. The members must be
// Mergeable and of one currency and way of pricing.
func Merge(id int64, number string, members []*Order, day, outsideID, customer string, now time.Time) (*Order, error) {
	if len(members) == 0 {
		return nil, fmt.Errorf("%w: there is nothing to merge", ErrState)
	}
	first := members[0]
	m := message.Order{Number: day, State: "merged", Status: message.Shipped, Kind: Summary, PlacedAt: first.Record.PlacedAt,
		ChangedAt: now, Currency: first.Record.Currency,
		PricesIncludeTax: first.Record.PricesIncludeTax, BuyerName: customer, Payment: first.Record.Payment, Paid: true,
		TaxRounding: first.Record.TaxRounding}
	lines, err := mergeInto(&m, members)
	if err != nil {
		return nil, err
	}
	if len(lines) > message.MaxLines {
		return nil, fmt.Errorf("%w: it would have %d; %d are possible", ErrTooLong, len(lines), message.MaxLines)
	}
	sort.SliceStable(lines, func(i, j int) bool { return lines[i].SKU < lines[j].SKU })
	for i := range lines {
		l := &lines[i]
		l.ID, l.Position, l.OutsideID, l.Shipped = LineID(id, i+1), i+1, fmt.Sprint(i+1), l.Quantity
		if l.Charge {
			l.Shipped = 0
		}
		m.Lines = append(m.Lines, message.OrderLine{ID: l.OutsideID, SKU: l.SKU, Title: l.Title, Quantity: l.Quantity,
			UnitPrice: l.UnitPrice, Discount: l.Discount, Tax: l.Tax, Total: l.Total})
	}
	return &Order{ID: id, Number: number, ConnectionID: first.ConnectionID, OutsideID: outsideID, Version: 1, Record: m, Lines: lines,
		ReceivedAt: now, ShippedAt: now, Delivered: true,
		NoStockMoved: true, Via: "merge", Revision: 1, Ours: Ours{Members: int64(len(members)), Day: day}}, nil
}

// mergeInto adds the amounts of orders to those of their sum, and returns their lines, those that are alike as one.
func mergeInto(m *message.Order, members []*Order) ([]Line, error) {
	sum := mergedLines{at: map[lineKey]int{}}
	for _, o := range members {
		if !Mergeable(o) {
			return nil, fmt.Errorf("%w: order %s cannot be merged: it is %s", ErrState, o.Number, o.Stage())
		}
		r := &o.Record
		if r.Currency != m.Currency || r.PricesIncludeTax != m.PricesIncludeTax {
			return nil, fmt.Errorf("%w: order %s is priced differently from order %s", ErrState, o.Number, members[0].Number)
		}
		if r.Payment != m.Payment {
			m.Payment = "several"
		}
		m.Paid = m.Paid && r.Paid
		m.Shipping += r.Shipping
		m.Discount += r.Discount
		m.Tax += r.Tax
		m.Total += r.Total
		for _, v := range r.Vouchers {
			m.Discount += v.Amount
		}
		if r.PlacedAt.Before(m.PlacedAt) {
			m.PlacedAt = r.PlacedAt
		}
		for i := range o.Lines {
			sum.add(&o.Lines[i])
		}
	}
	return sum.lines, nil
}

// mergedLines are the lines of a sum.
type mergedLines struct {
	lines []Line
	at    map[lineKey]int
}

// lineKey is what makes lines alike.
type lineKey struct {
	sku, title  string
	item, price int64
	charge      bool
}

func (m *mergedLines) add(l *Line) {
	if l.Live() == 0 {
		return
	}
	each := l.UnitPrice
	for _, c := range l.Choices {
		each += c.Price
	}
	k := lineKey{l.SKU, l.Title, l.ItemID, each, l.Charge}
	j, ok := m.at[k]
	if !ok {
		j = len(m.lines)
		m.at[k] = j
		m.lines = append(m.lines, Line{SKU: l.SKU, Title: l.Title, ItemID: l.ItemID, UnitPrice: each, Charge: l.Charge,
			NoStock: l.NoStock, Parts: l.Parts})
	}
	s := &m.lines[j]
	s.Quantity += l.Live()
	s.Discount += l.Discount
	s.Tax += l.Tax
	s.Total += l.Total
}
