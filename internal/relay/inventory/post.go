package inventory

import (
	"fmt"

	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Post writes the ledger, queues the offers it changes, and lets orders go on that waited for what
// became available.
func (r *Inventory) Post(ch *engine.Change, book *stock.Book) error {
	if len(book.Movements) == 0 && len(book.Unstocked) == 0 {
		return nil
	}
	freed := map[int64]bool{}
	for _, m := range book.Movements {
		if m.OnHand > m.Allocated {
			freed[m.Item] = true
		}
	}
	if len(freed) > 0 {
		if err := r.OnFreed(ch, book, engine.Keys(freed)); err != nil {
			return err
		}
	}
	if err := ch.Post(book); err != nil {
		return err
	}
	touched := map[int64]bool{}
	for _, k := range book.Touched() {
		touched[k.Item] = true
	}
	for _, id := range book.Unstocked {
		touched[id] = true
	}
	if err := r.flagNegative(ch, book); err != nil {
		return err
	}
	return r.QueueOffers(ch, book, engine.Keys(touched))
}

// flagNegative raises what fell below nothing: goods were sold that by the ledger were not there.
func (r *Inventory) flagNegative(ch *engine.Change, book *stock.Book) error {
	before := map[stock.Key]int64{}
	for _, m := range book.Movements {
		before[m.Key] += m.OnHand
	}
	for k, moved := range before {
		now := book.Level(k).OnHand
		was := now - moved
		switch {
		case now < 0 && moved < 0:
			items, err := ch.Items([]int64{k.Item})
			if err != nil {
				return err
			}
			ch.Tell("exception", "")
			if err := ch.Raise(store.Exception{Cause: engine.NegativeStock, ItemID: k.Item, Text: fmt.Sprintf("%s at %s is at %d: more left than was known to be there", items[k.Item].SKU, r.PlaceName(k.Location), now),
				Expected: "A count of what lies there. The sale stands; only our number was wrong."}, ch.Now); err != nil {
				return err
			}
		case was < 0 && now >= 0:
			ch.Tell("exception", "")
			if err := ch.CloseItemException(k.Item, 0, engine.NegativeStock, ch.Now); err != nil {
				return err
			}
		}
	}
	return nil
}
