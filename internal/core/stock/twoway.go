package stock

import "time"

// Told is how a listing stands with its channel when word of an edit comes.
type Told struct {
	Quantity   int64     // what the channel last accepted from us; below 0: nothing yet
	At         time.Time // when it did
	Open       bool      // a quantity is on its way, or may be
	OrdersSeen time.Time // when the channel's orders were last read or pushed
}

// Word is word of a quantity that somebody set at a channel by hand.
type Word struct {
	Shows  int64     // what the channel shows since
	Change int64     // by how much the person changed it, where the channel tells; 0 where it does not
	At     time.Time // when, by the channel's clock; zero where it does not tell
}

// Margin is how far two clocks may be apart, and how long an order may take from the sale to where it can
// be read.
const Margin = 5 * time.Second

// Meaning is by how much an edit changes what we have. Where the channel tells the change, that is it, in
// whatever order word of sales, sends and edits comes: changes add up the same in any order. Where it tells
// only what it shows, the change is what it shows less what it was told, and that is clear only while
// nothing else moves the number: no quantity of ours is on its way, the last was accepted well before, and
// the channel's orders were read after, for each sale that was taken in since made us tell a new quantity.
// Otherwise clear is false: what was meant cannot be told apart, and why says from what.
//
// The whole argument stands in docs/stock.md, Two ways.
func (e Word) Meaning(t Told) (change int64, clear bool, why string) {
	switch {
	case e.Change != 0:
		return e.Change, true, ""
	case t.Quantity < 0:
		return 0, false, "nothing was told to the channel yet"
	case t.Open:
		return 0, false, "a quantity of ours was on its way at the same time"
	case e.At.IsZero():
		return 0, false, "the channel does not tell when"
	case e.At.Before(t.At.Add(Margin)):
		return 0, false, "a quantity of ours had been accepted at nearly the same time"
	case t.OrdersSeen.Before(e.At.Add(Margin)):
		return 0, false, "sales of the same time may not be known yet"
	}
	return e.Shows - t.Quantity, true, ""
}
