package inventory

import (
	"fmt"

	"openrelay/internal/core/stock"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// Post writes the ledger and marks what it moved: what channels may show follows, and orders go on that waited for what
// became available.
func (r *Inventory) Post(ch *engine.Change, book *stock.Book) error {
	if len(book.Movements) == 0 && len(book.Unstocked) == 0 {
		return nil
	}
	if err := ch.Post(book); err != nil {
		return err
	}
	if err := r.noteSold(ch, book); err != nil {
		return err
	}
	moved := map[stock.Key]int64{}
	for _, m := range book.Movements {
		if m.OnHand > m.Allocated || m.OnOrder != 0 { // what is to come may be waited for
			ch.Mark(engine.StockFreed, m.Item)
		}
		moved[m.Key] += m.OnHand
	}
	for k, by := range moved {
		ch.Mark(engine.StockMoved, k.Item)
		if l := book.Level(k); by < 0 && l.Available() < 0 {
			ch.Mark(engine.StockShort, k.Item)
		}
		if now := book.Level(k).OnHand; now < 0 && by < 0 || now >= 0 && now-by < 0 {
			ch.Mark(engine.StockBelow, k.Item)
		}
	}
	ch.Mark(engine.StockMoved, book.Unstocked...)
	return nil
}

// SettleNegative raises what lies below nothing: goods were sold that by the ledger were not there. It ends when no place
// does any more.
func (r *Inventory) SettleNegative(ch *engine.Change, items []int64) error {
	levels, err := ch.Levels(items)
	if err != nil {
		return err
	}
	known, err := ch.Items(items)
	if err != nil {
		return err
	}
	for _, id := range items {
		ch.Tell("exception", "")
		place, least := int64(0), int64(0)
		for k, l := range levels {
			if k.Item == id && (l.OnHand < least || l.OnHand == least && least < 0 && k.Location < place) {
				place, least = k.Location, l.OnHand
			}
		}
		if least == 0 {
			err = ch.CloseItemException(id, 0, engine.NegativeStock, ch.Now)
		} else {
			err = ch.Raise(store.Exception{Cause: engine.NegativeStock, ItemID: id,
				Text:     fmt.Sprintf("%s at %s is at %d: more left than was known to be there", known[id].SKU, r.PlaceName(place), least),
				Expected: "A count of what lies there. The sale stands; only our number was wrong."}, ch.Now)
		}
		if err != nil {
			return err
		}
	}
	return nil
}
