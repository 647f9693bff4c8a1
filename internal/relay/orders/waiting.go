package orders

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// orderBatch is how many orders one transaction of a job looks at.
const orderBatch = 100

// serveMark is how far serving an item's waiting orders has come: the oldest promise is served first.
type serveMark struct {
	Due int64 `json:"due"`
	ID  int64 `json:"id"`
}

func serveSubject(item int64) string { return fmt.Sprintf(engine.ItemSubject, item) }

// ServeStep gives what is free of an item to the next orders that wait for it.
func (r *Orders) ServeStep(ctx context.Context, j *store.Job) (done bool, err error) {
	var item int64
	if _, err := fmt.Sscanf(j.Subject, engine.ItemSubject, &item); err != nil {
		return true, err
	}
	var at serveMark
	if err := json.Unmarshal([]byte(j.Args), &at); err != nil {
		return true, err
	}
	return done, r.Commit(ctx, func(ch *engine.Change) error {
		book, err := r.Inventory.Book(ch, []int64{item})
		if err != nil {
			return err
		}
		var next serveMark
		if next, done, err = r.serve(ch, book, []int64{item}, at); err != nil {
			return err
		}
		text, err := json.Marshal(next)
		if err != nil {
			return err
		}
		j.Args, j.Mark = string(text), j.Mark+1
		return r.Inventory.Post(ch, book)
	})
}

// SourcesStep looks for stock for the orders of a connection that wait, after it was given other places to sell from.
func (r *Orders) SourcesStep(ctx context.Context, j *store.Job) (done bool, err error) {
	c := r.ByCode(j.Subject)
	if c == nil {
		return true, nil
	}
	return done, r.Commit(ctx, func(ch *engine.Change) error {
		list, err := ch.OrdersShort(c.ID, j.Mark, orderBatch)
		if err != nil || len(list) == 0 {
			done = true
			return err
		}
		j.Mark = list[len(list)-1].ID
		need := map[int64]bool{}
		for _, o := range list {
			ItemsOf(o, need)
		}
		book, err := r.Inventory.Book(ch, engine.Keys(need))
		if err != nil {
			return err
		}
		if _, err := r.allocateTo(ch, book, list); err != nil {
			return err
		}
		return r.Inventory.Post(ch, book)
	})
}

// RematchStep lets the next orders go on that waited for something that is known now.
func (r *Orders) RematchStep(ctx context.Context, j *store.Job) (done bool, err error) {
	var a rematchArgs
	if err := json.Unmarshal([]byte(j.Args), &a); err != nil {
		return true, err
	}
	return done, r.Commit(ctx, func(ch *engine.Change) (err error) {
		j.Mark, err = r.rematchSome(ch, a, j.Mark)
		done = j.Mark == 0
		return err
	})
}

// SettleItemsKnown looks again at orders that wait for items which are there now.
func (r *Orders) SettleItemsKnown(ch *engine.Change, ids []int64) error {
	items, err := ch.Items(ids)
	if err != nil {
		return err
	}
	for _, id := range ids {
		if err := r.rematchAll(ch, rematchArgs{SKU: items[id].SKU}); err != nil {
			return err
		}
	}
	return nil
}

// SettleListingsKnown looks again at orders that wait for listings of which the item is known now.
func (r *Orders) SettleListingsKnown(ch *engine.Change, ids []int64) error {
	list, err := ch.ListingsByID(ids)
	if err != nil {
		return err
	}
	for _, l := range list {
		if err := r.rematchAll(ch, rematchArgs{Connection: l.ConnectionID, Listing: l.OutsideID, SKU: l.SKU}); err != nil {
			return err
		}
	}
	return nil
}

// rematchArgs say what became known: a listing of a connection, or, with connection 0, an item of a SKU.
type rematchArgs struct {
	Connection int64  `json:"connection"`
	Listing    string `json:"listing"`
	SKU        string `json:"sku"`
}

// rematchAll looks again at the first orders that wait for something that is known now, and at the others by a job.
func (r *Orders) rematchAll(ch *engine.Change, a rematchArgs) error {
	mark, err := r.rematchSome(ch, a, 0)
	if err != nil || mark == 0 {
		return err
	}
	_, err = ch.StartJob(engine.JobRematch, fmt.Sprintf("%d %s %s", a.Connection, a.Listing, a.SKU), "relay", a)
	return err
}

// rematchSome looks again at the next orders after a mark, and returns the mark from which to go on, or 0.
func (r *Orders) rematchSome(ch *engine.Change, a rematchArgs, after int64) (int64, error) {
	list, err := ch.OrdersUnmatched(a.Connection, a.Listing, a.SKU, after, orderBatch)
	if err != nil || len(list) == 0 {
		return 0, err
	}
	mark := int64(0)
	if len(list) == orderBatch {
		mark = list[len(list)-1].ID
	}
	slices.SortStableFunc(list, func(x, y *order.Order) int { return int(x.ConnectionID - y.ConnectionID) })
	for len(list) > 0 { // of one connection after the other
		i := 1
		for i < len(list) && list[i].ConnectionID == list[0].ConnectionID {
			i++
		}
		if c := r.ByID(list[0].ConnectionID); c != nil {
			if err := r.lookAgain(ch, c, list[:i]); err != nil {
				return 0, err
			}
		}
		list = list[i:]
	}
	return mark, nil
}

// SettleFreed gives what became available to the orders that wait for it, oldest first: to the first of them at once, to
// the others, as long as there is something left, by a job.
func (r *Orders) SettleFreed(ch *engine.Change, items []int64) error {
	book, err := r.Inventory.Book(ch, items)
	if err != nil {
		return err
	}
	_, done, err := r.serve(ch, book, items, serveMark{})
	if err == nil {
		err = r.Inventory.Post(ch, book)
	}
	if err != nil || done {
		return err
	}
	for _, item := range items {
		if has, err := ch.HasJob(string(engine.JobServe), serveSubject(item)); err != nil {
			return err
		} else if has {
			continue // the job is at it and sees what is there by then
		}
		if _, err := ch.StartJob(engine.JobServe, serveSubject(item), "relay", serveMark{}); err != nil {
			return err
		}
	}
	return nil
}

// serve gives what is free of items to the next orders that wait for them after a mark, and tells from where to go on,
// or that no order waits any more or nothing is left to give.
func (r *Orders) serve(ch *engine.Change, book *stock.Book, items []int64, after serveMark) (next serveMark, done bool, err error) {
	w, err := r.Inventory.ItemKindsNow(ch)
	if err != nil {
		return after, true, err
	}
	waiting, err := ch.OrdersWaitingFor(w.Touched(items), after.Due, after.ID, orderBatch)
	if err != nil || len(waiting) == 0 {
		return after, true, err
	}
	need := map[int64]bool{}
	for _, o := range waiting {
		ItemsOf(o, need)
	}
	levels, err := ch.Levels(w.Needed(engine.Keys(need)))
	if err != nil {
		return after, true, err
	}
	book.Know(levels)
	if _, err := r.allocateTo(ch, book, waiting); err != nil {
		return after, true, err
	}
	last := waiting[len(waiting)-1]
	next = serveMark{last.Due().UnixMicro(), last.ID}
	free := slices.ContainsFunc(items, func(item int64) bool {
		return slices.ContainsFunc(r.PlaceIDs(), func(at int64) bool {
			return book.Level(stock.Key{Item: item, Location: at}).Available() > 0
		})
	})
	return next, len(waiting) < orderBatch || !free, nil
}

// allocateTo promises what is free to orders that wait, in their order, and counts those that got something.
func (r *Orders) allocateTo(ch *engine.Change, book *stock.Book, waiting []*order.Order) (served int, err error) {
	for _, o := range waiting {
		c := r.ByID(o.ConnectionID)
		if c == nil || o.Voided || o.Elsewhere() {
			continue
		}
		s, err := r.SceneFor(c, ch, book, "relay")
		if err != nil {
			return served, err
		}
		part, awaited := order.Change{Order: o}, o.Ours.Awaits
		if order.AllocateWaiting(o, s.Scene, &part) {
			served++
		} else if o.Ours.Awaits == awaited {
			continue
		}
		o.Revision++
		if err := r.SaveOrder(ch, o); err != nil {
			return served, err
		}
		if err := ch.Note(Notes(part, "relay", ch.Now)...); err != nil {
			return served, err
		}
	}
	return served, nil
}

// lookAgain looks for the items of orders that had none.
func (r *Orders) lookAgain(ch *engine.Change, c *engine.Conn, list []*order.Order) error {
	var skus, numbers []string
	need := map[int64]bool{}
	for _, o := range list {
		ItemsOf(o, need)
		for _, l := range o.Lines {
			skus = append(skus, l.SKU)
			if l.Listing != "" {
				numbers = append(numbers, l.Listing)
			}
		}
	}
	slices.Sort(skus)
	slices.Sort(numbers)
	m, err := r.matches(ch.Tx, c.ID, slices.Compact(skus), slices.Compact(numbers))
	if err != nil {
		return err
	}
	for id := range m.all() {
		need[id] = true
	}
	book, err := r.Inventory.Book(ch, engine.Keys(need))
	if err != nil {
		return err
	}
	s, err := r.SceneFor(c, ch, book, "relay")
	if err != nil {
		return err
	}
	s.match(m)
	for _, o := range list {
		part, found := order.Rematch(o, s.Scene)
		if !found {
			continue
		}
		if err := ch.Note(Notes(part, "relay", ch.Now)...); err != nil {
			return err
		}
		if err := r.SaveOrder(ch, o); err != nil {
			return err
		}
	}
	return r.Inventory.Post(ch, book)
}
