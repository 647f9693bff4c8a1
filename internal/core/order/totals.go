package order

import (
	"fmt"
	"strings"

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

// Step is one step of the sum behind a total, minor units.
type Step struct {
	Text   string `json:"text"`
	Amount int64  `json:"amount"`
	Theirs *int64 `json:"theirs,omitempty" doc:"What the channel says instead, where it differs"`
}

// Totals is an order recalculated from its lines.
type Totals struct {
	Goods       int64        `json:"goods" doc:"Sum of quantity × unit price with choices, less line discounts"`
	Shipping    int64        `json:"shipping"`
	Discount    int64        `json:"discount"`
	Vouchers    int64        `json:"vouchers"`
	Tax         int64        `json:"tax" doc:"Added to the total only where prices exclude tax"`
	Total       int64        `json:"total"`
	Steps       []Step       `json:"steps" doc:"The sum behind the total"`
	Differences []Difference `json:"differences,omitempty"`
}

func (t *Totals) step(amount, theirs int64, field, text string) {
	s := Step{Text: text, Amount: amount}
	if theirs != amount {
		s.Theirs = &theirs
		t.Differences = append(t.Differences, Difference{field, amount, theirs})
	}
	t.Steps = append(t.Steps, s)
}

// Recalculate works the order out from its lines, in the way the channel says it prices, and lists
// where the channel's own figures differ.
func Recalculate(m *message.Order) Totals {
	var t Totals
	t.Steps = make([]Step, 0, len(m.Lines)+4)
	for i := range m.Lines {
		l := &m.Lines[i]
		sum := l.Gross() - l.Discount
		text := fmt.Sprintf("%d × %s, %s", l.Quantity, money.Decimal(l.UnitPrice, m.Currency), or(l.SKU, l.Title))
		for _, c := range l.Choices {
			if c.Price != 0 {
				text += fmt.Sprintf(" + %s %s", c.Name, money.Decimal(c.Price, m.Currency))
			}
		}
		if l.Discount != 0 {
			text += fmt.Sprintf(", less %s", money.Decimal(l.Discount, m.Currency))
		}
		t.step(sum, l.Total, fmt.Sprintf("line %d total", i+1), text)
		t.Goods += sum
	}
	t.Shipping, t.Discount, t.Tax = m.Shipping, m.Discount, m.Tax
	t.Total = t.Goods
	for _, part := range []struct {
		text   string
		amount int64
	}{{"shipping", t.Shipping}, {"discount of the order", -t.Discount}} {
		if part.amount != 0 {
			t.Total += part.amount
			t.step(part.amount, part.amount, "", part.text)
		}
	}
	for _, v := range m.Vouchers {
		t.Vouchers += v.Amount
		t.Total -= v.Amount
		t.step(-v.Amount, -v.Amount, "", "voucher "+v.Code)
	}
	t.taxes(m)
	if !m.PricesIncludeTax {
		t.Total += t.Tax
	}
	t.step(t.Total, m.Total, "total", "total")
	return t
}

// taxes recalculates the tax of an order whose channel tells the rate of each line. Shipping and discounts
// of the order are taxed at the rate of the dearest line.
func (t *Totals) taxes(m *message.Order) {
	word := "tax, included"
	if !m.PricesIncludeTax {
		word = "tax, added"
	}
	rated := len(m.Lines) > 0
	var main *message.OrderLine
	for i := range m.Lines {
		l := &m.Lines[i]
		rated = rated && l.TaxPermille > 0
		if main == nil || l.Total > main.Total {
			main = l
		}
	}
	if !rated {
		if t.Tax != 0 && !m.PricesIncludeTax {
			t.step(t.Tax, t.Tax, "", word)
		}
		return
	}
	var byLine int64
	bases := map[int64]int64{} // per rate
	for i := range m.Lines {
		l := &m.Lines[i]
		base := l.Gross() - l.Discount
		tax := taxOf(base, l.TaxPermille, m.PricesIncludeTax)
		if l.Tax != 0 && l.Tax != tax && m.TaxRounding == "line" {
			t.Differences = append(t.Differences, Difference{fmt.Sprintf("line %d tax", i+1), tax, l.Tax})
		}
		byLine += tax
		bases[l.TaxPermille] += base
	}
	rest := t.Shipping - t.Discount
	byLine += taxOf(rest, main.TaxPermille, m.PricesIncludeTax)
	bases[main.TaxPermille] += rest
	var byOrder int64
	for rate, base := range bases {
		byOrder += taxOf(base, rate, m.PricesIncludeTax)
	}
	ours := byLine
	if m.TaxRounding == "order" || m.TaxRounding == "" && abs(byOrder-m.Tax) < abs(byLine-m.Tax) {
		ours = byOrder
		word += ", rounded once"
	} else {
		word += ", rounded per line"
	}
	t.Tax = ours
	t.step(ours, m.Tax, "tax", word)
}

func taxOf(base, permille int64, included bool) int64 {
	if included {
		return nearest(base*permille, 1000+permille)
	}
	return nearest(base*permille, 1000)
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

// checkMoney compares the channel's figures with our own. A difference within the tolerance is booked to the
// connection's account; one beyond it holds the order, with the sum.
func (o *Order) checkMoney(s *Scene, c *Change, hold bool) {
	t := Recalculate(&o.Record)
	o.Ours.Booked, o.Ours.Account = 0, ""
	if d, bad := t.Excess(s.Tolerance); bad {
		if hold {
			c.hold(o, totalHold(d, &t, o.Record.Currency))
		}
		return
	}
	c.free(o, TotalDiffers)
	if gap := o.Record.Total - t.Total; gap != 0 {
		o.Ours.Booked, o.Ours.Account = gap, or(s.Account, "differences")
		c.note("booked", "The channel's total is %s beyond our sum: within the tolerance, booked to %s",
			money.Amount{Minor: gap, Currency: o.Record.Currency}, o.Ours.Account)
	}
}

func totalHold(d Difference, t *Totals, currency string) Hold {
	steps := make([]string, 0, len(t.Steps))
	for _, st := range t.Steps[:len(t.Steps)-1] {
		steps = append(steps, fmt.Sprintf("%s = %s", st.Text, money.Decimal(st.Amount, currency)))
	}
	if len(steps) > 8 {
		steps = append(steps[:7], fmt.Sprintf("and %d more", len(steps)-7))
	}
	return Hold{
		Cause: TotalDiffers,
		Text: fmt.Sprintf("The channel says %s is %s; our sum is %s: %s.", d.Field,
			money.Amount{Minor: d.Theirs, Currency: currency}, money.Amount{Minor: d.Ours, Currency: currency}, strings.Join(steps, "; ")),
		Expected: "Figures that add up within the connection's tolerance. Correct the order at the channel, widen the tolerance, or " +
			"release it here.",
		About: []string{d.Field},
	}
}
