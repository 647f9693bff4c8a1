// Package stock computes levels, allocations and offers. The level of an item at a location is the
// sum of its movements, always; nothing here or elsewhere sets a level.
package stock

import (
	"fmt"
	"time"
)

// Key names a level: an item at a location.
type Key struct{ Item, Location int64 }

// Level is what lies at a location, and how much of it is promised to orders.
type Level struct{ OnHand, Allocated int64 }

// Available is what may still be promised. It is negative when more was promised than lies there.
func (l Level) Available() int64 { return l.OnHand - l.Allocated }

// Kind says what a movement is.
type Kind string

// The kinds of movement.
const (
	Receipt  Kind = "receipt"
	Count    Kind = "count"
	Adjust   Kind = "adjust"
	Allocate Kind = "allocate"
	Release  Kind = "release"
	Ship     Kind = "ship"
)

// Movement is one entry of the ledger. OnHand and Allocated are changes, not results.
type Movement struct {
	Key
	ID        int64
	At        time.Time
	Kind      Kind
	OnHand    int64
	Allocated int64
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

// Post writes a movement and applies it.
func (b *Book) Post(m Movement) {
	l := b.levels[m.Key]
	l.OnHand += m.OnHand
	l.Allocated += m.Allocated
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

// Find looks for qty of an item at the locations in their order and says where it can come from. One
// location that has all of it is preferred to several; what is nowhere to be had is missing from the
// sum of the parts. Find changes nothing.
func (b *Book) Find(item int64, locations []int64, qty int64) []Part {
	for _, loc := range locations {
		if b.levels[Key{item, loc}].Available() >= qty {
			return []Part{{loc, qty}}
		}
	}
	var parts []Part
	for _, loc := range locations {
		if n := min(qty, b.levels[Key{item, loc}].Available()); n > 0 {
			parts = append(parts, Part{loc, n})
			qty -= n
		}
	}
	return parts
}

// Policy says how the quantity told to a channel is worked out.
type Policy struct {
	Sources []int64 `json:"sources" doc:"Locations whose stock the channel sells"`
	Buffer  int64   `json:"buffer" doc:"Units kept back"`
	Cap     int64   `json:"cap" doc:"Never show more than this; 0 means no cap"`
	Floor   int64   `json:"floor" doc:"Show zero when less than this is left"`
	Off     bool    `json:"off" doc:"Offer nothing"`
}

// Step is one term of the sum behind an offer.
type Step struct {
	Text     string `json:"text"`
	Change   int64  `json:"change" doc:"What this step adds or takes"`
	Result   int64  `json:"result" doc:"The sum after this step"`
	Location int64  `json:"location,omitempty" doc:"The location this step reads, if any"`
}

// Offer works out the quantity for one item.
func (p Policy) Offer(item int64, levels func(Key) Level) int64 {
	var sum int64
	for _, loc := range p.Sources {
		sum += levels(Key{item, loc}).Available()
	}
	return p.trim(sum)
}

func (p Policy) trim(sum int64) int64 {
	if p.Off {
		return 0
	}
	sum -= p.Buffer
	if p.Cap > 0 && sum > p.Cap {
		sum = p.Cap
	}
	if sum < p.Floor || sum < 0 {
		sum = 0
	}
	return sum
}

// Explain works out the same quantity as Offer and says how, term by term. name gives a location its name.
func (p Policy) Explain(item int64, levels func(Key) Level, name func(int64) string) (int64, []Step) {
	var sum int64
	var steps []Step
	add := func(text string, change, loc int64) {
		sum += change
		steps = append(steps, Step{text, change, sum, loc})
	}
	for _, loc := range p.Sources {
		l := levels(Key{item, loc})
		add(fmt.Sprintf("On hand at %s", name(loc)), l.OnHand, loc)
		add(fmt.Sprintf("Allocated to orders at %s", name(loc)), -l.Allocated, loc)
	}
	want := p.trim(sum)
	if p.Off {
		add("The offer is switched off", -sum, 0)
		return want, steps
	}
	if p.Buffer != 0 {
		add("Safety buffer", -p.Buffer, 0)
	}
	if p.Cap > 0 && sum > p.Cap {
		add(fmt.Sprintf("No more than %d is shown", p.Cap), p.Cap-sum, 0)
	}
	if sum > 0 && sum < p.Floor {
		add(fmt.Sprintf("Below %d nothing is shown", p.Floor), -sum, 0)
	}
	if sum < 0 {
		add("Never less than nothing", -sum, 0)
	}
	return want, steps
}
