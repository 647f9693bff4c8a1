package orders

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Replan plans an order anew on which nobody has begun, and tells whether anything is sent otherwise now. now says that it is not to wait
// for goods that are to come, or that it may again; nil leaves that as it is.
func (r *Orders) Replan(ctx context.Context, number string, revision int64, now *bool, who string) (changed bool, err error) {
	err = r.Commit(ctx, func(ch *engine.Change) error {
		return r.onOrder(ch, number, revision, who, func(o *order.Order, _ *engine.Conn, s *order.Scene) (order.Change, error) {
			said := now != nil && *now != o.Ours.Now
			if said {
				o.Ours.Now = *now
			}
			c, err := order.Replan(o, s, "")
			changed = err == nil && c.Skipped == ""
			if err == nil && said {
				o.Revision++
				c.Skipped = ""
				text := "It may wait for goods that are to come"
				if *now {
					text = "It waits for nothing that is to come"
				}
				c.Notes = append(c.Notes, order.Note{What: "waiting", Text: text})
			}
			return c, err
		})
	})
	return changed, err
}

// replanArgs say what is planned anew, and how far it has come.
type replanArgs struct {
	Location int64  `json:"location"` // of which the orders are; 0: of any
	Reason   string `json:"reason"`
	Looked   int64  `json:"looked"`
	Changed  int64  `json:"changed"`

	Last store.DueOrder `json:"last"` // the last order that was looked at
}

// ReplanPlace plans anew, by a job, all orders to which a place has promised something and on which nobody has begun; of an empty code,
// of all places.
func (r *Orders) ReplanPlace(ctx context.Context, code, reason, who string) (job int64, err error) {
	var at store.Location
	if code != "" {
		if at, err = r.Location(code); err != nil {
			return 0, err
		}
	}
	err = r.Commit(ctx, func(ch *engine.Change) error {
		if job, err = r.StartReplan(ch, at, reason, who); err == nil && job == 0 {
			return &engine.Refused{Text: "what " + engine.Or(code, "all places") + " sends is being planned anew already", Conflict: true}
		}
		return err
	})
	return job, err
}

// StartReplan starts the job by which all is planned anew that a place was to send; without a place, all. 0: that is being done already.
func (r *Orders) StartReplan(ch *engine.Change, at store.Location, reason, who string) (job int64, err error) {
	subject := engine.Or(at.Code, "all places")
	if has, err := ch.HasJob(string(engine.JobReplan), subject); err != nil || has {
		return 0, err
	}
	return ch.StartJob(engine.JobReplan, subject, who, replanArgs{Location: at.ID, Reason: reason})
}

// ReplanOne plans an order anew for a reason, where nobody has begun on it; what follows is settled with the change.
func (r *Orders) ReplanOne(ch *engine.Change, o *order.Order, reason string) error {
	_, err := r.replanSome(ch, []*order.Order{o}, reason, "relay")
	return err
}

// How many orders are planned anew in one change: whoever hands orders in meanwhile waits as long as that takes, several times. And after
// how many it is noted how far it has come.
const (
	replanBatch = 50
	replanStep  = 1000
)

// ReplanStep plans the next orders anew, the oldest promise first. What a loss of power takes back is planned anew again: the job goes on
// where it was noted.
func (r *Orders) ReplanStep(ctx context.Context, j *store.Job) (done bool, err error) {
	var a replanArgs
	if err := json.Unmarshal([]byte(j.Args), &a); err != nil {
		return true, err
	}
	due, err := r.Store.OrdersPromisedAt(ctx, a.Location, a.Last, replanStep)
	if err != nil {
		return false, err
	}
	left := due
	for len(left) > 0 && err == nil && ctx.Err() == nil {
		next := left[:min(len(left), replanBatch)]
		if err = r.CommitAlone(ctx, func(ch *engine.Change) error { return r.replanNext(ch, j, &a, next) }); err == nil {
			left = left[len(next):]
		}
	}
	done = err == nil && len(left) == 0 && len(due) < replanStep
	text, e := json.Marshal(a)
	if e == nil {
		j.Args = string(text)
	}
	if err = errors.Join(err, e); err != nil || !done {
		return false, err
	}
	return true, r.Commit(ctx, func(ch *engine.Change) error {
		return ch.Note(store.Entry{At: ch.Now.UnixMicro(), Who: j.Who, Thing: "company", What: "planned anew",
			Text: fmt.Sprintf("%s: %d orders looked at, %d are sent otherwise now", j.Subject, a.Looked, a.Changed)})
	})
}

// replanNext plans the next orders anew, as far as nobody has begun on them by now.
func (r *Orders) replanNext(ch *engine.Change, j *store.Job, a *replanArgs, next []store.DueOrder) error {
	ids := make([]int64, len(next))
	for i := range next {
		ids[i] = next[i].ID
	}
	list, err := ch.OrdersUntouched(ids)
	if err != nil {
		return err
	}
	ch.LateOffers = true
	changed, err := r.replanSome(ch, list, a.Reason, j.Who)
	if err == nil {
		ch.After(func() {
			a.Looked, a.Changed, a.Last = a.Looked+int64(len(list)), a.Changed+changed, next[len(next)-1]
		})
	}
	return err
}

// promised is how many units of each line of an order are promised, and whether it is held.
func promised(o *order.Order) (units []int64, held bool) {
	for i := range o.Lines {
		units = append(units, o.Lines[i].Allocated)
	}
	return units, len(o.Holds) > 0
}

// replanSome plans orders anew in their order, all out of one book.
func (r *Orders) replanSome(ch *engine.Change, list []*order.Order, reason, who string) (changed int64, err error) {
	need := map[int64]bool{}
	for _, o := range list {
		ItemsOf(o, need)
	}
	book, err := r.Inventory.Book(ch, engine.Keys(need))
	if err != nil {
		return 0, err
	}
	scenes := map[int64]scene{}
	var notes []store.Entry
	var moved []*order.Order // of which only the places have changed
	for _, o := range list {
		c := r.ByID(o.ConnectionID)
		if c == nil || o.Elsewhere() || o.Routed && r.ReplanRest == nil {
			continue
		}
		s, known := scenes[c.ID]
		if !known {
			if s, err = r.SceneFor(c, ch, book, who); err != nil {
				return changed, err
			}
			scenes[c.ID] = s
		}
		units, held := promised(o)
		part, err := r.replan(ch, o, s, reason)
		if errors.Is(err, order.ErrState) || err == nil && part.Skipped != "" {
			continue // it went on meanwhile, or is planned so already
		}
		if err != nil {
			return changed, err
		}
		changed++
		if now, holds := promised(o); o.Routed || held || holds || !slices.Equal(units, now) {
			if err := r.SaveOrder(ch, o); err != nil {
				return changed, err
			}
		} else {
			moved = append(moved, o)
			ch.Tell("order", o.Number)
			ch.Mark(engine.CartonAsked, o.ID)
			r.markRequests(ch, o)
		}
		notes = append(notes, Notes(part, who, ch.Now)...)
	}
	if err := ch.Note(notes...); err != nil {
		return changed, err
	}
	if err := ch.MoveAllocations(moved); err != nil {
		return changed, err
	}
	return changed, r.Inventory.Post(ch, book)
}

// replan plans an order anew; where somebody has begun on it, only what nobody has.
func (r *Orders) replan(ch *engine.Change, o *order.Order, s scene, reason string) (order.Change, error) {
	if o.Routed {
		return r.ReplanRest(ch, o, s.Scene, reason)
	}
	return order.Replan(o, s.Scene, reason)
}

// SettleShort plans anew what a place was to send of which less lies there now than was promised: the newest orders first, and only as
// many as it takes. The oldest keep what there is.
func (r *Orders) SettleShort(ch *engine.Change, items []int64) error {
	for _, item := range items {
		levels, err := ch.Levels([]int64{item})
		if err != nil {
			return err
		}
		var short []int64
		for k, l := range levels {
			if k.Item == item && l.Available() < 0 {
				short = append(short, k.Location)
			}
		}
		slices.Sort(short)
		for _, location := range short {
			if err := r.replanShort(ch, item, location, -levels[stock.Key{Item: item, Location: location}].Available()); err != nil {
				return err
			}
		}
	}
	return nil
}

// replanShort plans the newest orders anew to which a place has promised an item, until so many units fewer are promised there.
func (r *Orders) replanShort(ch *engine.Change, item, location, units int64) error {
	list, err := ch.OrdersPromisedItem(location, item, false, replanBatch)
	if err != nil {
		return err
	}
	begun, err := ch.OrdersPromisedItem(location, item, true, replanBatch) // of these perhaps nothing is picked there
	if err != nil {
		return err
	}
	list = append(list, begun...)
	reason := "less lies at " + r.PlaceName(location) + " than was promised"
	for _, o := range list {
		if units <= 0 {
			return nil
		}
		if _, err := r.replanSome(ch, []*order.Order{o}, reason, "relay"); err != nil {
			return err
		}
		level, err := ch.Levels([]int64{item})
		if err != nil {
			return err
		}
		units = -level[stock.Key{Item: item, Location: location}].Available()
	}
	return nil
}
