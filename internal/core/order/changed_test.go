package order

import (
	"testing"

	"github.com/stretchr/testify/require"

	"openrelay/internal/core/message"
	"openrelay/internal/core/place"
)

var elsewhere = place.Address{Name: "Maren Tolland", Street: "Heron Lane 4", Postcode: "41360", Town: "Harrowmere", Country: "XW"}

// packedOrder is an order that is packed.
func packedOrder(t *testing.T) (*Order, *Scene) {
	s := scene(map[int64]int64{1: 10})
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 2)), s).Order
	require.NoError(t, o.Pick(o.Lines[0].ID, 2))
	require.NoError(t, o.Pack(o.Lines[0].ID, 2))
	return o, s
}

// TestAHoldForAnotherAddressEndsWithIt: by the channel taking it back, or by a person following it.
func TestAHoldForAnotherAddressEndsWithIt(t *testing.T) {
	moved := incoming(message.Open, of("JAR", 2))
	moved.ShipTo = elsewhere
	for _, end := range []struct {
		name string
		do   func(*Order, *Scene)
	}{
		{"the channel takes it back", func(o *Order, s *Scene) { arrive(o, 3, incoming(message.Open, of("JAR", 2)), s) }},
		{"a person follows it", func(o *Order, _ *Scene) { Readdress(o, elsewhere) }},
	} {
		t.Run(end.name, func(t *testing.T) {
			o, s := packedOrder(t)
			arrive(o, 2, moved, s)
			require.NotNil(t, o.HeldFor(Changed))
			require.Equal(t, []string{"R1"}, o.HeldFor(Changed).About, "each order is its own matter")
			end.do(o, s)
			require.Nil(t, o.HeldFor(Changed))
		})
	}
}

// TestAHoldForAnotherAddressStaysWhileItDiffers: a newer version that says nothing new of it does not end it, and one
// that a person let pass does not begin again.
func TestAHoldForAnotherAddressStaysWhileItDiffers(t *testing.T) {
	o, s := packedOrder(t)
	moved := incoming(message.Open, of("JAR", 2))
	moved.ShipTo = elsewhere
	arrive(o, 2, moved, s)
	again := incoming(message.Open, of("JAR", 2))
	again.ShipTo, again.Note = elsewhere, "quick, please"
	arrive(o, 3, again, s)
	require.NotNil(t, o.HeldFor(Changed))
	_, ok := Release(o, Changed, "Edda")
	require.True(t, ok)
	arrive(o, 4, again, s)
	require.Nil(t, o.HeldFor(Changed), "it was let pass")
	more := incoming(message.Open, of("JAR", 3))
	more.ShipTo = elsewhere
	arrive(o, 5, more, s)
	require.NotNil(t, o.HeldFor(Changed), "another difference")
	require.Contains(t, o.HeldFor(Changed).Text, "JAR was raised from 2 to 3")
}

// TestRaisedAndLoweredAgain: what differed in lines ends when the channel's order is again as ours is.
func TestRaisedAndLoweredAgain(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 2)), s).Order
	arrive(o, 2, incoming(message.Open, of("JAR", 5)), s)
	require.Equal(t, Held, o.Stage())
	arrive(o, 3, incoming(message.Open, of("JAR", 2)), s)
	require.Equal(t, Ready, o.Stage())
}

// TestShownAsShippedThere: the hold ends when the channel shows the order as open again.
func TestShownAsShippedThere(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 2)), s).Order
	arrive(o, 2, incoming(message.Shipped, of("JAR", 2)), s)
	require.NotNil(t, o.HeldFor(Changed))
	arrive(o, 3, incoming(message.Open, of("JAR", 2)), s)
	require.Nil(t, o.HeldFor(Changed))
}

// TestTheFirstAddressIsNoChange: an order that was pending without a buyer gets its address.
func TestTheFirstAddressIsNoChange(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	pending := incoming(message.Pending, of("JAR", 2))
	pending.ShipTo = place.Address{}
	o := arrive(nil, 1, pending, s).Order
	c := arrive(o, 2, incoming(message.Open, of("JAR", 2)), s)
	for _, n := range c.Notes {
		require.NotContains(t, n.Text, "Address changed")
	}
	require.Equal(t, "Harrowmere", o.ShipTo.Town)
	require.Equal(t, Ready, o.Stage())
	c = arrive(o, 3, func() *message.Order { m := incoming(message.Open, of("JAR", 2)); m.ShipTo = elsewhere; return m }(), s)
	require.Equal(t, "Address changed at the channel", c.Notes[len(c.Notes)-1].Text)
}

// TestFourBadAddressesAreFour: each has its own reason, and is mended for itself.
func TestFourBadAddressesAreFour(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	about := map[string]bool{}
	for i, spoil := range []func(*place.Address){
		func(a *place.Address) { a.Name = "" }, func(a *place.Address) { a.Street = "" }, func(a *place.Address) {
			a.Postcode = "412"
		}, func(a *place.Address) { a.Country = "ZZ" },
	} {
		m := incoming(message.Open, of("JAR", 1))
		spoil(&m.ShipTo)
		o := TakeIn(nil, Arrival{ConnectionID: 1, OutsideID: string(rune('a' + i)), Version: 1, Message: m, Via: "push"}, s).Order
		require.NotNil(t, o.HeldFor(BadAddress))
		about[o.HeldFor(BadAddress).About[0]] = true
	}
	require.Len(t, about, 4)
}

func TestNotSentComesBack(t *testing.T) {
	s := scene(map[int64]int64{1: 10})
	o := arrive(nil, 1, incoming(message.Open, of("JAR", 3)), s).Order
	o.SendAllocated(&o.Lines[0], 3, s, "left elsewhere")
	o.NotSent(&o.Lines[0], 2, 1, s, "did not leave")
	require.Equal(t, []int64{2, 1}, []int64{o.Lines[0].Allocated, o.Lines[0].Shipped})
	require.Equal(t, []Allocation{{1, 2}}, o.Lines[0].Allocations)
	require.Equal(t, PartShipped, o.Stage())
	require.Equal(t, int64(9), s.Book.Level(stockKey(1, 1)).OnHand)
	require.Equal(t, int64(2), s.Book.Level(stockKey(1, 1)).Allocated)
}
