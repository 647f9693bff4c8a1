// Package stock computes levels, allocations and offers. The level of an item at a location is the
// sum of its movements, always; nothing here or elsewhere sets a level.
package stock

import "time"

// Key names a level: an item at a location.
type Key struct{ Item, Location int64 }

// Level is what lies at a location, how much of it is promised to orders, and what is to come: ordered
// from suppliers, and under way from another location of ours.
type Level struct{ OnHand, Allocated, OnOrder, InTransit int64 }

// Available is what may still be promised. It is negative when more was promised than lies there.
func (l Level) Available() int64 { return l.OnHand - l.Allocated }

// Kind says what a movement is.
type Kind string

// The kinds of movement.
const (
	Receipt  Kind = "receipt"
	Count    Kind = "count"
	Adjust   Kind = "adjust"
	Edit     Kind = "edit" // somebody changed the quantity at a channel, and it was taken in
	Allocate Kind = "allocate"
	Release  Kind = "release"
	Ship     Kind = "ship"
	Return   Kind = "return" // sent to a buyer, and came back
	Order    Kind = "order"  // ordered from a supplier, or the order was changed
	Send     Kind = "send"   // left for another location of ours
	Arrive   Kind = "arrive" // came from another location of ours
	Lost     Kind = "lost"   // sent to another location, and never came
	Rebin    Kind = "rebin"  // from bin to bin
)

// NoBin is the bin of goods that lie in none. An empty bin leaves the choice to the store.
const NoBin = "\x00"

// Movement is one entry of the ledger. The four quantities are changes, not results. Bin is where the
// goods were put or taken; empty leaves the choice to the store.
type Movement struct {
	Key
	ID        int64
	At        time.Time
	Kind      Kind
	OnHand    int64
	Allocated int64
	OnOrder   int64
	InTransit int64
	Bin       string
	Reason    string
	Who       string
	DocKind   string
	DocID     int64
}

// Part is a quantity found at one location.
type Part struct {
	Location int64
	Quantity int64
}

// Book holds the levels a decision needs and collects the movements it makes. The zero value is an
// empty book; levels that were not loaded count as zero.
type Book struct {
	levels    map[Key]Level
	Movements []Movement
	// Unstocked are items that were sold and hold no stock: nothing moves here, but where they were sold the
	// number that is shown has gone down.
	Unstocked []int64
}

// NewBook makes a book from loaded levels. It takes the map over.
func NewBook(levels map[Key]Level) *Book {
	if levels == nil {
		levels = map[Key]Level{}
	}
	return &Book{levels: levels}
}

// Level returns the level as the book has it now.
func (b *Book) Level(k Key) Level { return b.levels[k] }

// Know adds levels that were loaded later. What the book has already stays as it is.
func (b *Book) Know(levels map[Key]Level) {
	for k, l := range levels {
		if _, ok := b.levels[k]; !ok {
			b.levels[k] = l
		}
	}
}

// Post writes a movement and applies it.
func (b *Book) Post(m Movement) {
	l := b.levels[m.Key]
	l.OnHand += m.OnHand
	l.Allocated += m.Allocated
	l.OnOrder += m.OnOrder
	l.InTransit += m.InTransit
	b.levels[m.Key] = l
	b.Movements = append(b.Movements, m)
}

// Touched lists the levels that movements have changed, each once, in order of first change.
func (b *Book) Touched() []Key {
	seen := make(map[Key]bool, len(b.Movements))
	var out []Key
	for _, m := range b.Movements {
		if !seen[m.Key] {
			seen[m.Key] = true
			out = append(out, m.Key)
		}
	}
	return out
}

// Find looks for qty units of goods at the locations in their order and says where they can come from. One
// location that has all of them is preferred to several; what is nowhere to be had is missing from the
// sum of the parts. Goods that hold no stock come from the first location. Find changes nothing.
func (b *Book) Find(g Goods, locations []int64, qty int64) []Part {
	if g.NoStock {
		if len(locations) == 0 || qty <= 0 {
			return nil
		}
		return []Part{{locations[0], qty}}
	}
	for _, loc := range locations {
		if g.Available(loc, b.Level) >= qty {
			return []Part{{loc, qty}}
		}
	}
	var parts []Part
	for _, loc := range locations {
		if n := min(qty, g.Available(loc, b.Level)); n > 0 {
			parts = append(parts, Part{loc, n})
			qty -= n
		}
	}
	return parts
}
