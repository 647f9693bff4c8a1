package order

import (
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/money"
)

// Difference is a figure of the channel's that our own arithmetic does not confirm. Amounts are
// minor units.
type Difference struct {
	Field  string `json:"field"`
	Ours   int64  `json:"ours"`
	Theirs int64  `json:"theirs"`
}

// Totals is an order recalculated from its lines.
type Totals struct {
	Goods       int64        `json:"goods" doc:"Sum of quantity × unit price less line discounts"`
	Shipping    int64        `json:"shipping"`
	Discount    int64        `json:"discount"`
	Tax         int64        `json:"tax" doc:"Added to the total only where prices exclude tax"`
	Total       int64        `json:"total"`
	Differences []Difference `json:"differences,omitempty"`
}

// Recalculate works the order out from its lines, in the way the channel says it prices, and lists
// where the channel's own figures differ.
func Recalculate(m *message.Order) Totals {
	var t Totals
	for i, l := range m.Lines {
		sum := l.Quantity*l.UnitPrice - l.Discount
		if sum != l.Total {
			t.Differences = append(t.Differences, Difference{fmt.Sprintf("line %d total", i+1), sum, l.Total})
		}
		t.Goods += sum
	}
	t.Shipping, t.Discount, t.Tax = m.Shipping, m.Discount, m.Tax
	t.Total = t.Goods + t.Shipping - t.Discount
	if !m.PricesIncludeTax {
		t.Total += t.Tax
	}
	if t.Total != m.Total {
		t.Differences = append(t.Differences, Difference{"total", t.Total, m.Total})
	}
	return t
}

// FillTax works out the tax of an order whose channel tells none, at one rate in thousandths. Where
// prices are without tax, it does so only if the channel's total shows that tax was charged. An order
// that tells a tax, or a rate of 0, changes nothing.
func FillTax(m *message.Order, permille int64) {
	told := m.Tax != 0
	base := m.Shipping - m.Discount
	for _, l := range m.Lines {
		told = told || l.Tax != 0
		base += l.Total
	}
	if told || permille <= 0 {
		return
	}
	part := int64(1000)
	if m.PricesIncludeTax {
		part += permille
	}
	tax := nearest(base*permille, part)
	if !m.PricesIncludeTax && m.Total != base+tax {
		return
	}
	m.Tax = tax
	for i := range m.Lines {
		m.Lines[i].Tax = nearest(m.Lines[i].Total*permille, part)
	}
}

// nearest divides and rounds to the nearest whole number, halves away from zero. The divisor is positive.
func nearest(n, by int64) int64 {
	if n < 0 {
		return -nearest(-n, by)
	}
	return (n + by/2) / by
}

// Excess returns the largest difference beyond the tolerance (minor units), if any.
func (t Totals) Excess(tolerance int64) (Difference, bool) {
	var worst Difference
	found := false
	for _, d := range t.Differences {
		gap := abs(d.Ours - d.Theirs)
		if gap > tolerance && (!found || gap >= abs(worst.Ours-worst.Theirs)) {
			worst, found = d, true
		}
	}
	return worst, found
}

func abs(n int64) int64 {
	if n < 0 {
		return -n
	}
	return n
}

func totalHold(d Difference, currency string) Hold {
	return Hold{
		Cause: TotalDiffers,
		Text: fmt.Sprintf("The channel says %s is %s; its lines add up to %s.", d.Field,
			money.Amount{Minor: d.Theirs, Currency: currency}, money.Amount{Minor: d.Ours, Currency: currency}),
		Expected: "The figures of the order to add up within the connection's tolerance. Correct the order at the channel, or release it here.",
	}
}
