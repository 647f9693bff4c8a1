package order

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
)

func line(qty, price, total int64) message.OrderLine {
	return message.OrderLine{SKU: "JAR", Title: "Jar", Quantity: qty, UnitPrice: price, Total: total}
}

// TestRecalculating goes through prices with and without tax, choices, vouchers, and tax rounded per line and once.
func TestRecalculating(t *testing.T) {
	three := func(rounding string, tax int64) *message.Order {
		m := &message.Order{Currency: "EUR", TaxRounding: rounding, Tax: tax}
		for range 3 {
			l := line(1, 333, 333)
			l.TaxPermille = 70
			m.Lines = append(m.Lines, l)
		}
		m.Total = 999 + tax
		return m
	}
	for _, c := range []struct {
		name  string
		m     *message.Order
		total int64
		wrong []Difference
	}{
		{"plain, tax included", &message.Order{Currency: "EUR", PricesIncludeTax: true, Lines: []message.OrderLine{line(2, 1190, 2380)},
			Shipping: 490, Tax: 478, Total: 2870}, 2870, nil},
		{"tax on top", &message.Order{Currency: "EUR", Lines: []message.OrderLine{line(2, 1000, 2000)}, Shipping: 500, Tax: 500,
			Total: 3000}, 3000, nil},
		{"discounts", &message.Order{Currency: "EUR", PricesIncludeTax: true,
			Lines: []message.OrderLine{{SKU: "J", Quantity: 2, UnitPrice: 1000, Discount: 150, Total: 1850}}, Discount: 100,
			Total: 1750}, 1750, nil},
		{"a line that does not add up", &message.Order{Currency: "EUR", PricesIncludeTax: true,
			Lines: []message.OrderLine{line(2, 1000, 1900)}, Total: 1900}, 2000,
			[]Difference{{"line 1 total", 2000, 1900}, {"total", 2000, 1900}}},
		{"choices and a voucher", &message.Order{Currency: "EUR", PricesIncludeTax: true,
			Lines: []message.OrderLine{{SKU: "SOUP", Quantity: 2, UnitPrice: 690,
				Choices: []message.LineChoice{{Name: "salad", Price: 90}}, Total: 1560}},
			Vouchers: []message.Voucher{{Code: "V1", Amount: 200}}, Shipping: 250, Total: 1610}, 1610, nil},
		{"the portal taxes its delivery",
			&message.Order{Currency: "EUR", PricesIncludeTax: true, Lines: []message.OrderLine{line(1, 1200, 1200)}, Shipping: 250,
				Total: 1500}, 1450, []Difference{{"total", 1450, 1500}}},
		{"tax per line, as it says", three("line", 69), 1068, nil},                                               // 3 × 23
		{"tax once, as it says", three("order", 70), 1069, nil},                                                  // 69.93
		{"either is right where it does not say", three("", 70), 1069, nil},                                      //
		{"per line is not once", three("order", 69), 1069, []Difference{{"tax", 70, 69}, {"total", 1069, 1068}}}, //
	} {
		got := Recalculate(c.m)
		require.Equal(t, c.total, got.Total, c.name)
		require.Equal(t, c.wrong, got.Differences, c.name)
		require.Equal(t, "total", got.Steps[len(got.Steps)-1].Text, c.name)
	}
}

// TestAChannelThatAddsUpIsNeverDoubted: orders made by adding up are confirmed, whatever their parts.
func TestAChannelThatAddsUpIsNeverDoubted(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for range 3000 {
		m := &message.Order{Currency: "EUR", PricesIncludeTax: rng.IntN(2) == 0, Shipping: int64(rng.IntN(900)),
			Discount: int64(rng.IntN(200)), TaxRounding: []string{"", "line", "order"}[rng.IntN(3)]}
		rate := []int64{0, 70, 200, 255}[rng.IntN(4)]
		var goods int64
		for range 1 + rng.IntN(6) {
			l := line(int64(1+rng.IntN(9)), int64(rng.IntN(20000)), 0)
			l.TaxPermille = rate
			if rng.IntN(3) == 0 {
				l.Choices = []message.LineChoice{{Name: "with", Price: int64(rng.IntN(300))}}
			}
			l.Discount = rng.Int64N(l.Gross() + 1)
			l.Total = l.Gross() - l.Discount
			goods += l.Total
			m.Lines = append(m.Lines, l)
		}
		if rate > 0 {
			parts := []int64{m.Shipping - m.Discount}
			for _, l := range m.Lines {
				parts = append(parts, l.Total)
			}
			var sum int64
			for _, p := range parts {
				sum += p
				m.Tax += taxOf(p, rate, m.PricesIncludeTax)
			}
			if m.TaxRounding == "order" {
				m.Tax = taxOf(sum, rate, m.PricesIncludeTax)
			}
		}
		m.Total = goods + m.Shipping - m.Discount
		if !m.PricesIncludeTax {
			m.Total += m.Tax
		}
		got := Recalculate(m)
		require.Empty(t, got.Differences, "%+v", m)
		// A cent more is seen.
		m.Total++
		require.NotEmpty(t, Recalculate(m).Differences)
	}
}

func TestDifferencesAreBookedOrHeld(t *testing.T) {
	m := incoming(message.Open, line(1, 1200, 1200))
	m.Shipping, m.Total = 250, 1500
	s := scene(map[int64]int64{1: 10})
	s.Tolerance, s.Account = 60, "Portal, tax on delivery"
	c := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "a", Version: 1, Message: m, Via: "push"}, s)
	require.Equal(t, Ready, c.Order.Stage())
	require.EqualValues(t, 50, c.Order.Ours.Booked)
	require.Equal(t, "Portal, tax on delivery", c.Order.Ours.Account)

	s = scene(map[int64]int64{1: 10})
	s.Tolerance = 49
	c = TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "a", Version: 1, Message: m, Via: "push"}, s)
	h := c.Order.HeldFor(TotalDiffers)
	require.NotNil(t, h)
	require.Contains(t, h.Text, "1 × 12.00, JAR = 12.00; shipping = 2.50")
	require.Zero(t, c.Order.Ours.Booked)
}

// changing is a zone whose clocks go forward an hour on 2026-03-29 at 02:00 and back on 2026-10-25 at 03:00, as a TZif
// file (RFC 9636) would say.
func changing(t *testing.T) *time.Location {
	t.Helper()
	z, err := time.LoadLocation("CET")
	if err != nil {
		t.Skip("this machine knows no zone whose clocks change")
	}
	return z
}

// TestDaysEndOnTheClocksOfTheChannel: a day is 23 or 25 hours long where clocks change; no sale is in two days or in
// none.
func TestDaysEndOnTheClocksOfTheChannel(t *testing.T) {
	z := changing(t)
	at := func(m time.Month, d, h, min int) time.Time { return time.Date(2026, m, d, h, min, 0, 0, z) }
	for _, c := range []struct {
		now, cut time.Time
		minute   int
	}{
		{at(3, 29, 12, 0), at(3, 29, 0, 0), 0},
		{at(3, 29, 22, 0), at(3, 28, 22, 30), 22*60 + 30},
		{at(3, 29, 23, 0), at(3, 29, 22, 30), 22*60 + 30},
		{at(10, 25, 1, 0), at(10, 25, 0, 0), 0},
		{at(10, 26, 3, 29), at(10, 25, 3, 30), 3*60 + 30},
	} {
		require.True(t, c.cut.Equal(Cut(c.now, c.minute, z)), "%s: %s, not %s", c.now, c.cut, Cut(c.now, c.minute, z))
	}
	require.Equal(t, 23*time.Hour, Cut(at(3, 30, 1, 0), 0, z).Sub(Cut(at(3, 29, 1, 0), 0, z)), "the short day")
	require.Equal(t, 25*time.Hour, Cut(at(10, 26, 1, 0), 0, z).Sub(Cut(at(10, 25, 1, 0), 0, z)), "the long day")
	// Cuts never go back and never lie ahead, minute by minute through both changes.
	for _, begin := range []time.Time{at(3, 28, 12, 0), at(10, 24, 12, 0)} {
		for _, minute := range []int{0, 150, 210, 1350} {
			last := Cut(begin, minute, z)
			for i := range 60 * 48 {
				now := begin.Add(time.Duration(i) * time.Minute)
				cut := Cut(now, minute, z)
				require.False(t, cut.After(now))
				require.False(t, cut.Before(last), "at %s", now)
				require.LessOrEqual(t, now.Sub(cut), 25*time.Hour+time.Minute)
				last = cut
			}
		}
	}
}

func TestMergingAddsUp(t *testing.T) {
	s := scene(map[int64]int64{1: 50, 2: 50})
	var members []*Order
	for i := range 5 {
		m := incoming(message.Shipped, line(int64(i+1), 1190, int64(i+1)*1190), message.OrderLine{SKU: "SUIT", Title: "Suit", Quantity: 1,
			UnitPrice: 8900, Total: 8900})
		m.Kind, m.Payment, m.Total = message.Counter, "cash", int64(i+1)*1190+8900
		members = append(members,
			TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: string(rune('a' + i)), Version: 1, Message: m, Via: "poll"}, s).Order)
	}
	moved := len(s.Book.Movements)
	sum, err := Merge(99, "R99", members, "2026-11-23", "day:1", "Sales of the day", noon)
	require.NoError(t, err)
	require.Len(t, sum.Lines, 2)
	require.EqualValues(t, 15, sum.Lines[0].Quantity)
	require.EqualValues(t, 5, sum.Lines[1].Quantity)
	require.Equal(t, Delivered, sum.Stage())
	require.EqualValues(t, 5, sum.Ours.Members)
	require.Equal(t, "cash", sum.Record.Payment)
	require.Empty(t, Recalculate(&sum.Record).Differences, "it adds up")
	require.EqualValues(t, 15*1190+5*8900, sum.Record.Total)
	require.Len(t, s.Book.Movements, moved, "a summary moves no stock")
	members[0].Hold(Hold{Cause: ByPerson, Text: "wait"})
	_, err = Merge(99, "R99", members, "2026-11-23", "day:1", "x", noon)
	require.ErrorIs(t, err, ErrState, "an odd one stays single")
	other := *members[1]
	other.Record.Currency = "SEK"
	_, err = Merge(99, "R99", []*Order{members[2], &other}, "d", "o", "x", noon)
	require.ErrorContains(t, err, "priced differently")
}
