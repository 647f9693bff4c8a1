package order

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/rules"
	"openrelay/internal/core/stock"
)

func portal(s *Scene) *Order {
	m := incoming(message.Open, line(2, 690, 1380))
	m.Total, m.AnswerBy, m.Kind = 1380, s.Now.Add(10*time.Second), message.Prepared
	return TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "nl", Version: 1, Message: m, Via: "push"}, s).Order
}

func newer(o *Order, status message.Status, change func(*message.Order)) Arrival {
	m := o.Record
	m.Status, m.State = status, string(status)
	m.Lines = append([]message.OrderLine{}, m.Lines...)
	if change != nil {
		change(&m)
	}
	return Arrival{ConnectionID: 1, OutsideID: o.OutsideID, Version: o.Version + 1, Message: &m, Via: "push"}
}

func TestAnswering(t *testing.T) {
	t.Run("by itself", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		s.Accept, s.Prep = true, 20*time.Minute
		m := incoming(message.Open, line(1, 690, 690))
		m.Total, m.AnswerBy, m.Kind = 690, s.Now.Add(10*time.Second), message.Prepared
		c := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "nl", Version: 1, Message: m, Via: "push"}, s)
		require.True(t, c.Answer)
		require.Equal(t, Accepted, c.Order.Ours.Answer.State)
		require.Equal(t, s.Now.Add(20*time.Minute), c.Order.Ours.Answer.ReadyAt)
		require.Equal(t, Ready, c.Order.Stage())
	})
	t.Run("not by itself where something is odd", func(t *testing.T) {
		s := scene(nil)
		s.Accept = true
		m := incoming(message.Open, message.OrderLine{SKU: "NOBODY", Title: "?", Quantity: 1, UnitPrice: 1, Total: 1})
		m.Total, m.AnswerBy = 1, s.Now.Add(10*time.Second)
		c := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "nl", Version: 1, Message: m, Via: "push"}, s)
		require.False(t, c.Answer)
		require.NotNil(t, c.Order.HeldFor(WantsAnswer))
	})
	t.Run("by a person", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		o := portal(s)
		require.Equal(t, Held, o.Stage())
		_, err := GiveAnswer(o, false, time.Time{}, "", "Joss", s)
		require.ErrorContains(t, err, "say why")
		c, err := GiveAnswer(o, true, s.Now.Add(time.Minute), "", "Joss", s)
		require.NoError(t, err)
		require.True(t, c.Answer)
		require.Equal(t, Ready, o.Stage())
		_, err = GiveAnswer(o, false, time.Time{}, "no", "Joss", s)
		require.ErrorIs(t, err, ErrState, "once")
	})
	t.Run("declined", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		o := portal(s)
		_, err := GiveAnswer(o, false, time.Time{}, "the oven is cold", "Joss", s)
		require.NoError(t, err)
		require.Equal(t, Cancelled, o.Stage())
		require.EqualValues(t, 9, s.Book.Level(stock.Key{Item: 1, Location: 1}).Available(), "stock is released")
		TakeIn(o, newer(o, message.Cancelled, nil), s)
		require.Nil(t, o.HeldFor(NotAnswered), "we did answer")
	})
	t.Run("too late", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		o := portal(s)
		_, is := Overdue(o, s.Now.Add(9*time.Second))
		require.False(t, is)
		_, is = Overdue(o, s.Now.Add(10*time.Second))
		require.True(t, is)
		require.NotNil(t, o.HeldFor(NotAnswered))
		TakeIn(o, newer(o, message.Cancelled, nil), s)
		require.NotNil(t, o.HeldFor(NotAnswered), "that we were late remains before a person")
		require.Equal(t, Cancelled, o.Stage())
	})
	t.Run("lapsed before we heard of it", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		m := incoming(message.Cancelled, line(1, 690, 690))
		m.Total, m.AnswerBy = 690, s.Now.Add(-time.Minute)
		c := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "nl", Version: 1, Message: m, Via: "poll"}, s)
		require.NotNil(t, c.Order.HeldFor(NotAnswered))
	})
	t.Run("called off by the guest while we were asked", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		o := portal(s)
		TakeIn(o, newer(o, message.Cancelled, func(m *message.Order) { m.AnswerBy = time.Time{} }), s)
		require.Empty(t, o.Holds)
		require.Nil(t, o.Ours.Answer)
	})
	t.Run("handed over", func(t *testing.T) {
		s := scene(map[int64]int64{1: 9})
		o := portal(s)
		_, err := HandOver(o, "Joss", s)
		require.ErrorIs(t, err, ErrState, "not before it was accepted")
		_, err = GiveAnswer(o, true, s.Now.Add(time.Minute), "", "Joss", s)
		require.NoError(t, err)
		_, err = HandOver(o, "Joss", s)
		require.NoError(t, err)
		require.Equal(t, Delivered, o.Stage())
		require.EqualValues(t, 7, s.Book.Level(stock.Key{Item: 1, Location: 1}).OnHand)
	})
}

// TestCancelledWhileWorkedOn: whatever was done with an order, a cancellation releases what has not left, and what has
// left goes before a person.
func TestCancelledWhileWorkedOn(t *testing.T) {
	for _, c := range []struct {
		name    string
		do      func(*Order, *Scene)
		shipped int64
		late    bool
	}{
		{"ready", func(*Order, *Scene) {}, 0, false},
		{"picked in part", func(o *Order, _ *Scene) { _ = o.Pick(o.Lines[0].ID, 1) }, 0, false},
		{"packed", func(o *Order, _ *Scene) { _ = o.Pick(o.Lines[0].ID, 3); _ = o.Pack(o.Lines[0].ID, 3) }, 0, false},
		{"shipped in part", func(o *Order, s *Scene) {
			_ = o.Pick(o.Lines[0].ID, 2)
			_ = o.Pack(o.Lines[0].ID, 2)
			_ = o.Ship(o.Lines[0].ID, 2, 1, s, "x")
		}, 2, true},
		{"held by a person", func(o *Order, _ *Scene) { o.Hold(Hold{Cause: ByPerson, Text: "wait"}) }, 0, false},
	} {
		s := scene(map[int64]int64{1: 9})
		m := incoming(message.Open, line(3, 100, 300))
		m.Total = 300
		o := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "x", Version: 1, Message: m, Via: "push"}, s).Order
		c.do(o, s)
		TakeIn(o, newer(o, message.Cancelled, nil), s)
		l := s.Book.Level(stock.Key{Item: 1, Location: 1})
		require.Equal(t, stock.Level{OnHand: 9 - c.shipped}, l, c.name)
		require.Equal(t, c.late, o.HeldFor(LateCancel) != nil, c.name)
		require.Equal(t, c.shipped, o.Lines[0].Shipped, c.name)
		// Opened again there: a person decides, nothing is promised by itself.
		TakeIn(o, newer(o, message.Open, nil), s)
		require.NotNil(t, o.HeldFor(Changed), c.name)
		require.EqualValues(t, 0, s.Book.Level(stock.Key{Item: 1, Location: 1}).Allocated, c.name)
	}
}

func TestVoidingReleases(t *testing.T) {
	s := scene(map[int64]int64{1: 9})
	m := incoming(message.Open, line(3, 100, 300))
	m.Total = 300
	o := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "x", Version: 1, Message: m, Via: "push"}, s).Order
	_ = o.Pick(o.Lines[0].ID, 2)
	_, err := VoidIt(o, "Joss", "typed wrong", s)
	require.NoError(t, err)
	require.Equal(t, Void, o.Stage())
	require.Equal(t, stock.Level{OnHand: 9}, s.Book.Level(stock.Key{Item: 1, Location: 1}))
	_, err = VoidIt(o, "Joss", "", s)
	require.ErrorIs(t, err, ErrState)
	gone := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "y", Version: 1, Message: m, Via: "push"}, s).Order
	_ = gone.Pick(gone.Lines[0].ID, 3)
	_ = gone.Pack(gone.Lines[0].ID, 3)
	require.NoError(t, gone.Ship(gone.Lines[0].ID, 3, 1, s, "x"))
	_, err = VoidIt(gone, "Joss", "", s)
	require.ErrorContains(t, err, "what has left")
}

// TestChannelFulfilled: it runs to the end untouched, and what the channel holds for us is lowered once, whichever of
// the sale and the channel's own word about its stock comes first.
func TestChannelFulfilled(t *testing.T) {
	for _, counted := range []bool{false, true} {
		s := scene(map[int64]int64{1: 9})
		s.Own = 7
		s.Counted = func(int64, time.Time) bool { return counted }
		s.Book.Know(map[stock.Key]stock.Level{{Item: 1, Location: 7}: {OnHand: 5}})
		m := incoming(message.Pending, line(2, 100, 200))
		m.Total, m.FulfilledBy = 200, message.ByChannel
		o := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "x", Version: 1, Message: m, Via: "poll"}, s).Order
		require.Equal(t, Pending, o.Stage())
		require.Empty(t, s.Book.Movements, "nothing of ours is promised")
		TakeIn(o, newer(o, message.Shipped, nil), s)
		require.Equal(t, Shipped, o.Stage())
		want := int64(3)
		if counted {
			want = 5
		}
		require.Equal(t, want, s.Book.Level(stock.Key{Item: 1, Location: 7}).OnHand)
		require.Equal(t, stock.Level{OnHand: 9}, s.Book.Level(stock.Key{Item: 1, Location: 1}))
		moved := len(s.Book.Movements)
		TakeIn(o, newer(o, message.Shipped, nil), s)
		require.Len(t, s.Book.Movements, moved, "once")
	}
}

// TestRulesAreHonoured: what a rule decides is on the order, and what exists already goes by it.
func TestRulesAreHonoured(t *testing.T) {
	take := func(then string, onHand map[stock.Key]stock.Level, lines ...message.OrderLine) *Order {
		s := scene(nil)
		s.Book.Know(onHand)
		set, err := rules.NewSet([]rules.Rule{{ID: 1, Name: "r", On: true, Then: then}})
		require.NoError(t, err)
		s.Rules, s.Where = set, func(code string) int64 { return map[string]int64{"alder": 1, "pier": 2}[code] }
		m := incoming(message.Open, lines...)
		c := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: "x", Version: 1, Message: m, Via: "push"}, s)
		require.NotNil(t, c.Facts)
		return c.Order
	}
	both := map[stock.Key]stock.Level{{Item: 1, Location: 1}: {OnHand: 5}, {Item: 1, Location: 2}: {OnHand: 5},
		{Item: 2, Location: 2}: {OnHand: 5}}
	suit := message.OrderLine{SKU: "SUIT", Title: "Suit", Quantity: 1, UnitPrice: 100, Total: 100}
	o := take(`location("pier"), tag("b"), tag("a"), profile("small"), carry("pick")`, both, line(2, 100, 200))
	require.EqualValues(t, 2, o.Lines[0].Allocations[0].Location)
	require.Equal(t, []string{"a", "b"}, o.Ours.Tags)
	require.Equal(t, "small", o.Ours.Decided.Profile)
	require.Len(t, o.Ours.Touched, 1)
	o = take(`split("never")`, both, line(2, 100, 200), suit)
	require.EqualValues(t, 2, o.Lines[0].Allocations[0].Location, "only one place has both")
	require.Equal(t, Ready, o.Stage(), "%v", o.Holds)
	o = take(`split("never")`, map[stock.Key]stock.Level{{Item: 1, Location: 1}: {OnHand: 5}, {Item: 2, Location: 2}: {OnHand: 5}},
		line(2, 100, 200), suit)
	require.NotNil(t, o.HeldFor(NoStock), "no place has both")
	o = take(`hold("look")`, both, line(1, 100, 100))
	require.Equal(t, "look", o.HeldFor(ByRule).Text)
	o = take(`carry("create")`, both, line(1, 100, 100))
	require.NotNil(t, o.HeldFor(WantsLook))
	require.False(t, o.Tag("x") && o.Tag("x"))
	require.True(t, o.Untag("x"))
	require.False(t, o.Untag("x"))
}
