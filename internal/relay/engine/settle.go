package engine

import (
	"errors"
	"fmt"
	"maps"
	"time"
)

// AboutThen is how far apart another system's moments of something that left and of the change of its stock may be. Where we take its
// word for later than it is, its next word, which what left causes, puts it right; the other way round nothing would.
const AboutThen = 2 * time.Minute

// Mark is something that a change did to a record, and for which others have to follow before it is committed. Rooms
// mark what they touched; what has to follow is registered by the root, so that nobody who changes a record has to
// remember what that entails.
type Mark int

// The marks, in the order in which they are settled: orders that waited, then what orders and shipments do next, then
// what channels may show, then what is to be raised, then what finds a record again. Events follow the commit.
const (
	StockFreed      Mark = iota // of an item: more became available to sell
	ItemKnown                   // an item: it is there, or under this SKU, for the first time
	ListingKnown                // a listing: it is known which item it is
	StockShort                  // of an item: less lies at a place than was promised there
	OrderCarried                // an order: a rule lets it go on without a person
	OrderChanged                // an order: it is another one for those who work on it
	RequestsMoved               // an order: partners may have to be asked otherwise for it
	PartnerSet                  // a connection: what it may be asked as a partner is another
	ServicesSet                 // a connection: its words for services stand for others
	StockMoved                  // of an item: any figure of its levels
	ListingMoved                // a listing: it may have to show another quantity
	ShareTold                   // an item whose last units are shared: a channel took its share
	ParcelsSeen                 // an order: its channel shows parcels of it
	ParcelComesBack             // a parcel: it is on its way back
	LabelBought                 // a parcel: its label was bought
	CartonAsked                 // an order: whether all of it goes into cartons is to be looked at
	AddressKnown                // an order: where it goes may be another place
	OrderSaved                  // an order: its holds may be others
	StockBelow                  // of an item: it fell below nothing, or rose from there
	OrderWords                  // an order: the words by which it is found
	marks
)

var markNames = [marks]string{
	"stock freed",
	"item known",
	"listing known",
	"stock short",
	"order carried",
	"order changed",
	"requests moved",
	"partner set",
	"services set",
	"stock moved",
	"listing moved",
	"share told",
	"parcels seen",
	"parcel comes back",
	"label bought",
	"carton asked",
	"address known",
	"order saved",
	"stock below nothing",
	"words of an order",
}

func (m Mark) String() string { return markNames[m] }

// A Settler does what has to follow for the records that were marked, in ascending order of their ids. It may mark
// others.
type Settler func(ch *Change, ids []int64) error

// OnMark registers who settles a mark. Each mark has one.
func (r *Engine) OnMark(m Mark, f Settler) { r.settlers[m] = f }

// Unsettled lists the marks that nobody settles.
func (r *Engine) Unsettled() (out []Mark) {
	for m := range marks {
		if r.settlers[m] == nil {
			out = append(out, m)
		}
	}
	return out
}

// Mark notes that records were touched. What has to follow is done once for each, before the commit.
func (c *Change) Mark(m Mark, ids ...int64) {
	for _, id := range ids {
		if id == 0 {
			continue
		}
		if c.marked[m] == nil {
			c.marked[m] = map[int64]bool{}
		}
		c.marked[m][id] = true
	}
}

// settleRounds is how often marks may lead to further ones before that is taken for a circle.
const settleRounds = 1000

// Settle does what has to follow for all that is marked, until nothing is. A commit does it by itself.
func (c *Change) Settle() error {
	for range settleRounds {
		m := Mark(0)
		for m < marks && len(c.marked[m]) == 0 {
			m++
		}
		if m == marks {
			return nil
		}
		ids := Keys(c.marked[m])
		c.marked[m] = nil
		if f := c.settlers[m]; f != nil {
			if err := f(c, ids); err != nil {
				return fmt.Errorf("%s: %w", m, err)
			}
		}
	}
	return errors.New("what follows from a change does not come to an end")
}

// cloneMarks copies what is marked.
func cloneMarks(of [marks]map[int64]bool) (out [marks]map[int64]bool) {
	for m, ids := range of {
		out[m] = maps.Clone(ids)
	}
	return out
}
