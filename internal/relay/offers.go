package relay

import (
	"encoding/json"
	"fmt"

	"openrelay/internal/core/message"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// queueOffers works out what every channel that lists the items may show, and queues it. A quantity
// that still waits to be sent is replaced, so a burst of sales becomes one message per listing. The
// quantity is sent even if it equals what was sent last: the channel may have changed its own in the
// meantime, by a sale we have just learned of.
func (r *Relay) queueOffers(ch *change, book *stock.Book, items []int64) error {
	listings, err := ch.ListingsOfItems(items)
	if err != nil {
		return err
	}
	for _, l := range listings {
		c := r.byID(l.ConnectionID)
		if c == nil {
			continue
		}
		if f, _ := r.feed(c, "stock out"); !f.On || c.rec().State != store.On {
			continue // a connection that is paused keeps its quantities waiting
		}
		if c.rec().Test && c.line().Def.Test == nil {
			continue // the other side cannot be told that it is a test, so it is told nothing
		}
		qty := c.settings().Offer.Offer(l.ItemID, book.Level)
		payload, err := json.Marshal(message.Offer{ListingID: l.ID, OutsideID: l.OutsideID, SKU: l.SKU, Quantity: qty})
		if err != nil {
			return err
		}
		if _, err := r.queue(ch, store.OutboxMessage{ConnectionID: l.ConnectionID, Feed: "stock out", Subject: offerSubject(l.ID), Payload: string(payload)}); err != nil {
			return err
		}
	}
	for _, id := range items {
		ch.tell("stock", fmt.Sprint(id))
	}
	return nil
}

func offerSubject(listing int64) string { return fmt.Sprintf("listing %d", listing) }
