package order

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
	"openrelay/internal/core/stock"
)

var noon = time.Date(2026, 3, 14, 12, 0, 0, 0, time.UTC)

func scene(onHand map[int64]int64) *Scene {
	levels := map[stock.Key]stock.Level{}
	for item, n := range onHand {
		levels[stock.Key{Item: item, Location: 1}] = stock.Level{OnHand: n}
	}
	next := int64(0)
	return &Scene{Now: noon, Who: "test", Sources: []int64{1, 2}, Since: noon.Add(-time.Hour), Book: stock.NewBook(levels), Tolerance: 2,
		Item:     func(l *Line) int64 { return map[string]int64{"JAR": 1, "SUIT": 2, "BOOK": 3}[l.SKU] },
		Place:    func(l int64) string { return fmt.Sprint("place ", l) },
		NewOrder: func(*message.Order, string) (int64, string) { next++; return next, fmt.Sprintf("R%d", next) }}
}

func incoming(status message.Status, lines ...message.OrderLine) *message.Order {
	m := &message.Order{Number: "MH-1", State: string(status), Status: status, Currency: "EUR", PricesIncludeTax: true, PlacedAt: noon,
		ChangedAt: noon,
		ShipTo:    place.Address{Name: "Maren Tolland", Street: "Lindenrow 14", Postcode: "41360", Town: "Harrowmere", Country: "XW"}}
	for i, l := range lines {
		l.ID = fmt.Sprint("L", i+1)
		l.Total = l.Quantity*l.UnitPrice - l.Discount
		m.Lines = append(m.Lines, l)
		m.Total += l.Total
	}
	return m
}

func of(sku string, n int64) message.OrderLine {
	return message.OrderLine{SKU: sku, Title: sku, Quantity: n, UnitPrice: 1000}
}

func arrive(existing *Order, version int64, m *message.Order, s *Scene) Change {
	return TakeIn(existing, Arrival{ConnectionID: 1, OutsideID: "o-1", Version: version, Message: m, Via: "push"}, s)
}

func TestTakeIn(t *testing.T) {
	for _, c := range []struct {
		name  string
		msg   *message.Order
		stage Stage
		hold  Cause
		alloc int64 // of item 1 at location 1
	}{
		{"ready", incoming(message.Open, of("JAR", 2)), Ready, "", 2},
		{"pending is promised stock", incoming(message.Pending, of("JAR", 2)), Pending, "", 2},
		{"unknown item", incoming(message.Open, of("JAR", 1), of("NOBODY", 1)), Held, UnknownItem, 1},
		{"no stock", incoming(message.Open, of("JAR", 11)), Held, NoStock, 10},
		{"cancelled before we saw it", incoming(message.Cancelled, of("JAR", 2)), Cancelled, "", 0},
		{"shipped before we saw it", incoming(message.Shipped, of("JAR", 2)), Shipped, "", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := scene(map[int64]int64{1: 10})
			got := arrive(nil, 1, c.msg, s)
			require.True(t, got.Created)
			require.Equal(t, c.stage, got.Order.Stage())
			if c.hold != "" {
				require.NotNil(t, got.Order.HeldFor(c.hold))
			} else {
				require.Empty(t, got.Order.Holds)
			}
			require.Equal(t, c.alloc, s.Book.Level(stock.Key{Item: 1, Location: 1}).Allocated)
			require.NotEmpty(t, got.Notes)
		})
	}
}

func TestHoldsOfContent(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	wrong := incoming(message.Open, of("JAR", 1))
	wrong.Total += 3
	got := arrive(nil, 1, wrong, s)
	require.NotNil(t, got.Order.HeldFor(TotalDiffers))
	right := incoming(message.Open, of("JAR", 1))
	got = arrive(got.Order, 2, right, s)
	require.Equal(t, Ready, got.Order.Stage(), "a corrected total releases it")

	within := incoming(message.Open, of("JAR", 1))
	within.Total += 2
	require.Empty(t, arrive(nil, 1, within, scene(map[int64]int64{1: 10})).Order.Holds)

	lost := incoming(message.Open, of("JAR", 1))
	lost.ShipTo.Postcode = "4136"
	require.NotNil(t, arrive(nil, 1, lost, scene(map[int64]int64{1: 10})).Order.HeldFor(BadAddress))
}

func TestShippedBeforeTheConnectionBeganMovesNoStock(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	m := incoming(message.Shipped, of("JAR", 2))
	m.PlacedAt = noon.Add(-48 * time.Hour)
	got := arrive(nil, 1, m, s)
	require.True(t, got.Order.NoStockMoved)
	require.Empty(t, s.Book.Movements)
	m.PlacedAt = noon
	got = arrive(nil, 1, m, s)
	require.Equal(t, int64(8), s.Book.Level(stock.Key{Item: 1, Location: 1}).OnHand)
	require.Equal(t, Shipped, got.Order.Stage())
}

func TestOlderVersionsAreSkipped(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	o := arrive(nil, 5, incoming(message.Open, of("JAR", 2)), s).Order
	for _, v := range []int64{1, 4, 5} {
		got := arrive(o, v, incoming(message.Cancelled, of("JAR", 2)), s)
		require.Equal(t, "older than what we have", got.Skipped)
		require.Equal(t, Ready, o.Stage())
	}
}

func TestCancelledAtEveryStage(t *testing.T) {
	k := stock.Key{Item: 1, Location: 1}
	for _, c := range []struct {
		name  string
		work  func(o *Order, s *Scene)
		stage Stage
		held  bool
	}{
		{"ready", func(*Order, *Scene) {}, Cancelled, false},
		{"picking", func(o *Order, _ *Scene) { require.NoError(t, o.Pick(o.Lines[0].ID, 1)) }, Cancelled, false},
		{"packed", func(o *Order, _ *Scene) {
			require.NoError(t, o.Pick(o.Lines[0].ID, 2))
			require.NoError(t, o.Pack(o.Lines[0].ID, 2))
		}, Cancelled, false},
		{"part shipped", func(o *Order, s *Scene) {
			require.NoError(t, o.Pick(o.Lines[0].ID, 1))
			require.NoError(t, o.Pack(o.Lines[0].ID, 1))
			require.NoError(t, o.Ship(o.Lines[0].ID, 1, 1, s, "gone"))
		}, Shipped, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := scene(map[int64]int64{1: 10})
			o := arrive(nil, 1, incoming(message.Open, of("JAR", 2)), s).Order
			c.work(o, s)
			got := arrive(o, 2, incoming(message.Cancelled, of("JAR", 2)), s)
			require.Equal(t, c.stage, got.Order.Stage())
			require.Equal(t, c.held, got.Order.HeldFor(LateCancel) != nil)
			require.Zero(t, s.Book.Level(k).Allocated)
		})
	}
}

func TestChangedAtTheChannel(t *testing.T) {
	s := scene(map[int64]int64{1: 10, 2: 5})
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 4), of("SUIT", 1)), s).Order
	got := arrive(o, 2, incoming(message.Open, of("JAR", 1), of("SUIT", 1)), s)
	require.Empty(t, got.Order.Holds)
	require.Equal(t, int64(3), o.Lines[0].Cancelled)
	require.Equal(t, int64(1), s.Book.Level(stock.Key{Item: 1, Location: 1}).Allocated)

	got = arrive(o, 3, incoming(message.Open, of("JAR", 6), of("SUIT", 1), of("BOOK", 1)), s)
	h := got.Order.HeldFor(Changed)
	require.NotNil(t, h)
	require.Contains(t, h.Text, "raised from 1 to 6")
	require.Contains(t, h.Text, "1 × BOOK was added")
}

func TestFillTax(t *testing.T) {
	one := func(includes bool, total int64) *message.Order {
		return &message.Order{PricesIncludeTax: includes, Shipping: 500, Discount: 100, Total: total,
			Lines: []message.OrderLine{{Quantity: 2, UnitPrice: 1000, Total: 2000}, {Quantity: 1, UnitPrice: 333, Total: 333}}}
	}
	in := one(true, 2733)
	FillTax(in, 190)
	require.Equal(t, int64(436), in.Tax, "2733 × 190/1190 = 436.36")
	require.Equal(t, []int64{319, 53}, []int64{in.Lines[0].Tax, in.Lines[1].Tax}, "319.3 and 53.2")
	require.Empty(t, Recalculate(in).Differences)

	on := one(false, 2733+519)
	FillTax(on, 190)
	require.Equal(t, int64(519), on.Tax, "2733 × 0.19 = 519.27")
	require.Empty(t, Recalculate(on).Differences, "the total says that the tax was charged")

	export := one(false, 2733)
	FillTax(export, 190)
	require.Zero(t, export.Tax, "the total says that none was charged")

	told := one(true, 2733)
	told.Lines[0].Tax = 1
	FillTax(told, 190)
	require.Zero(t, told.Tax, "what the channel tells stands")

	for n, want := range map[int64]int64{5: 1, 4: 0, -5: -1, -4: 0, 15: 2} {
		require.Equal(t, want, nearest(n, 10), n)
	}
}

func TestRecalculate(t *testing.T) {
	m := &message.Order{Currency: "EUR", Shipping: 490, Discount: 100, Tax: 300,
		Lines: []message.OrderLine{{Quantity: 2, UnitPrice: 1000, Discount: 50, Total: 1950}}}
	m.PricesIncludeTax, m.Total = true, 1950+490-100
	require.Empty(t, Recalculate(m).Differences)
	m.PricesIncludeTax, m.Total = false, 1950+490-100+300
	require.Empty(t, Recalculate(m).Differences)
	m.Lines[0].Total = 1900
	d, bad := Recalculate(m).Excess(49)
	require.True(t, bad)
	require.Equal(t, Difference{"line 1 total", 1950, 1900}, d)
	_, bad = Recalculate(m).Excess(50)
	require.False(t, bad)
}

// TestUnitsAreNeverLost does random things to orders in random order and checks after each that every
// unit is in exactly one place and that the allocations are what the ledger says.
func TestUnitsAreNeverLost(t *testing.T) {
	rng := rand.New(rand.NewPCG(41207, 9))
	for range 300 {
		s := scene(map[int64]int64{1: rng.Int64N(20), 2: rng.Int64N(10), 3: 5})
		s.Book.Post(stock.Movement{Key: stock.Key{Item: 1, Location: 2}, OnHand: rng.Int64N(10)})
		var orders []*Order
		for n := range 6 {
			m := incoming(message.Open, of("JAR", 1+rng.Int64N(6)), of("SUIT", 1+rng.Int64N(3)))
			orders = append(orders, TakeIn(nil, Arrival{OutsideID: fmt.Sprint(n), Version: 1, Message: m}, s).Order)
		}
		for range 60 {
			o := orders[rng.IntN(len(orders))]
			l := &o.Lines[rng.IntN(len(o.Lines))]
			switch rng.IntN(7) {
			case 0:
				_ = o.Pick(l.ID, 1+rng.Int64N(3))
			case 1:
				_ = o.Pack(l.ID, 1+rng.Int64N(3))
			case 2:
				_ = o.Ship(l.ID, 1+rng.Int64N(3), 1+rng.Int64N(2), s, "gone")
			case 3:
				m := o.Record
				m.Lines = append([]message.OrderLine(nil), m.Lines...)
				m.Lines[0].Quantity = 1 + rng.Int64N(6)
				TakeIn(o, Arrival{Version: o.Version + 1, Message: &m}, s)
			case 4:
				if rng.IntN(4) == 0 {
					m := o.Record
					m.Status = message.Cancelled
					TakeIn(o, Arrival{Version: o.Version + 1, Message: &m}, s)
				}
			case 5:
				s.Book.Post(stock.Movement{Key: stock.Key{Item: l.ItemID, Location: 1}, OnHand: rng.Int64N(4)})
			case 6:
				AllocateWaiting(o, s, &Change{Order: o})
			}
			held := map[stock.Key]int64{}
			for _, o := range orders {
				for i := range o.Lines {
					l := &o.Lines[i]
					for _, n := range []int64{l.Cancelled, l.Allocated, l.Picked, l.Packed, l.Shipped, l.Waiting()} {
						require.GreaterOrEqual(t, n, int64(0), "%+v", l)
					}
					var sum int64
					for _, a := range l.Allocations {
						sum += a.Quantity
						held[stock.Key{Item: l.ItemID, Location: a.Location}] += a.Quantity
					}
					require.Equal(t, l.Allocated+l.Picked+l.Packed, sum)
				}
			}
			for _, k := range s.Book.Touched() {
				require.Equal(t, held[k], s.Book.Level(k).Allocated, k)
				require.LessOrEqual(t, s.Book.Level(k).Allocated, max(0, s.Book.Level(k).OnHand), "never promised more than lies there")
			}
		}
	}
}

// TestOrdersThatAreNotOurs: what the channel ships itself, and what is only a test, holds no stock and is
// not worked on.
func TestOrdersThatAreNotOurs(t *testing.T) {
	arrival := func(version int64, status message.Status, by string) Arrival {
		return Arrival{ConnectionID: 1, OutsideID: "o", Version: version, Via: "poll",
			Message: &message.Order{Number: "N", State: string(status), Status: status, Currency: "EUR", FulfilledBy: by,
				Lines: []message.OrderLine{{ID: "1", SKU: "JAR", Quantity: 2}}}}
	}
	scene := func() *Scene {
		return &Scene{Now: time.Unix(100, 0), Who: "test", Sources: []int64{1}, Item: func(*Line) int64 {
			return 7
		}, Place: func(int64) string { return "here" },
			Book:     stock.NewBook(map[stock.Key]stock.Level{{Item: 7, Location: 1}: {OnHand: 10}}),
			NewOrder: func(*message.Order, string) (int64, string) { return 1, "R1" }}
	}
	s := scene()
	c := TakeIn(nil, arrival(1, message.Open, message.ByChannel), s)
	require.Equal(t, Pending, c.Order.Stage(), "there is nothing to be done here")
	require.ErrorIs(t, c.Order.Workable(), ErrState)
	require.Empty(t, s.Book.Movements)
	c = TakeIn(c.Order, arrival(2, message.Shipped, message.ByChannel), s)
	require.Equal(t, Shipped, c.Order.Stage())
	require.Empty(t, s.Book.Movements, "its stock is not ours")
	again := TakeIn(c.Order, arrival(3, message.Shipped, message.ByChannel), s)
	require.Len(t, again.Notes, 1, "once is enough")
	gone := TakeIn(nil, arrival(1, message.Cancelled, message.ByChannel), scene())
	require.Equal(t, Cancelled, gone.Order.Stage())

	s = scene()
	s.Test = true
	c = TakeIn(nil, arrival(1, message.Open, ""), s)
	require.NotNil(t, c.Order.HeldFor(TestOrder))
	require.Equal(t, Held, c.Order.Stage())
	c = TakeIn(c.Order, arrival(2, message.Cancelled, ""), s)
	require.Empty(t, s.Book.Movements)
	require.NotNil(t, c.Order.HeldFor(TestOrder))

	s = scene()
	s.Look = true
	c = TakeIn(nil, arrival(1, message.Open, ""), s)
	require.NotNil(t, c.Order.HeldFor(WantsLook))
	require.Len(t, s.Book.Movements, 1, "it holds its stock while somebody looks")
	_, ok := Release(c.Order, WantsLook, "Ann")
	require.True(t, ok)
}

func TestAnAddressThatWasCorrectedIsKept(t *testing.T) {
	m := message.Order{Number: "N", State: "open", Status: message.Open, Currency: "EUR",
		Lines: []message.OrderLine{{ID: "1", SKU: "JAR", Quantity: 1}}}
	for _, keep := range [][]string{nil, {"ship_to"}} {
		s := &Scene{Now: time.Unix(100, 0), Who: "test", Item: func(*Line) int64 {
			return 7
		}, Place: func(int64) string { return "" }, Book: stock.NewBook(nil), NewOrder: func(*message.Order, string) (int64, string) {
			return 1, "R1"
		}, Keep: keep}
		first, second := m, m
		first.ShipTo.Street, second.ShipTo.Street = "Old 1", "New 2"
		c := TakeIn(nil, Arrival{OutsideID: "o", Version: 1, Message: &first}, s)
		c.Order.ShipTo.Street = "Corrected 3"
		c = TakeIn(c.Order, Arrival{OutsideID: "o", Version: 2, Message: &second}, s)
		require.Equal(t, map[bool]string{true: "Corrected 3", false: "New 2"}[keep != nil], c.Order.ShipTo.Street)
	}
}

func TestSendAllocated(t *testing.T) {
	o := &Order{Lines: []Line{{ItemID: 7, Quantity: 5, Allocated: 5, Allocations: []Allocation{{1, 2}, {2, 3}}}}}
	l := &o.Lines[0]
	s := &Scene{Book: stock.NewBook(nil)}
	require.EqualValues(t, 1, o.SendAllocated(l, 3, s, "left"))
	require.Equal(t, []Allocation{{2, 2}}, l.Allocations)
	require.Equal(t, []int64{2, 3}, []int64{l.Allocated, l.Shipped})
	require.Equal(t, stock.Level{OnHand: -2, Allocated: -2}, s.Book.Level(stock.Key{Item: 7, Location: 1}))
	require.Equal(t, stock.Level{OnHand: -1, Allocated: -1}, s.Book.Level(stock.Key{Item: 7, Location: 2}))
}
