package relay

import (
	"context"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/stock"
	"openrelay/internal/store"
)

// inbound decides on messages of a kind of feed. Each message gets an outcome of its own.
type inbound func(b *batch, msgs []mapped) error

// each makes an inbound of what decides on one message.
func each[T any](decide func(b *batch, in store.InboxMessage, m *T) error) inbound {
	return func(b *batch, msgs []mapped) error {
		for _, m := range msgs {
			x, ok := m.msg.(*T)
			if !ok {
				continue
			}
			if err := decide(b, m.in, x); err != nil {
				return err
			}
		}
		return nil
	}
}

// outbound is told what became of messages of a kind of feed. What is nil is of no concern to it.
type outbound struct {
	// accepted: the other side took it; called before that is written. It may say something in m.Answer.
	accepted func(ch *change, c *conn, m *store.OutboxMessage, answer any) error
	// settled: the other side took it, and that is written.
	settled func(ch *change, c *conn, m store.OutboxMessage, answer any) error
	// confirmed: reading back showed it.
	confirmed func(ch *change, c *conn, m store.OutboxMessage) error
	// refused: it will not be taken. It returns the cause under which that is raised; empty: it was raised already.
	refused func(ch *change, c *conn, m store.OutboxMessage) (cause string, err error)
	// unknown: it was tried often, may have been carried out, and nobody said so. Without it, that is a refusal.
	unknown func(ch *change, c *conn, m store.OutboxMessage) error
	// again: a person wants it sent again.
	again func(ch *change, m store.OutboxMessage, who string) error
}

// hooks are how rooms hear of what others did, without those knowing them. They run inside the change.
type hooks struct {
	freed   func(ch *change, book *stock.Book, items []int64) error           // stock became available
	known   func(ch *change, a rematchArgs) error                             // a listing or an item is known now
	saving  func(ch *change, o *order.Order) error                            // an order is about to be written
	changed func(ch *change, o *order.Order) error                            // an order was changed under those who work on it
	decided func(ch *change, c *conn, before, now Settings, who string) error // a connection has other settings
	actions map[string]action                                                 // what can be done to an order, beyond what the order alone decides
	follow  func(ctx context.Context, p store.JobPart) (store.JobPart, error) // what became of an action that was asked for at the outside
}

// action does something to an order by its number. underWay: something was asked for at the outside; was then says what.
type action func(ctx context.Context, number, value, who string) (text, was string, underWay bool, err error)

// open registers who is behind which door.
func (r *Relay) openDoors() {
	r.in = map[string]inbound{
		"orders in":    func(b *batch, msgs []mapped) error { return b.orders(msgs) },
		"listings in":  each(func(b *batch, in store.InboxMessage, m *message.Listing) error { return b.listing(in, m) }),
		"stock in":     each(func(b *batch, in store.InboxMessage, m *message.StockLevel) error { return b.stockLevel(in, m) }),
		"items in":     each(func(b *batch, in store.InboxMessage, m *message.Item) error { return b.item(in, m) }),
		"customers in": each(func(b *batch, in store.InboxMessage, m *message.Customer) error { return b.customer(in, m) }),
		"dispatch in":  each(func(b *batch, in store.InboxMessage, m *message.Dispatch) error { return b.dispatch(in, m) }),
		"tracking in":  each(func(b *batch, in store.InboxMessage, m *message.Tracking) error { return b.tracking(in, m) }),
	}
	r.out = map[string]outbound{
		"stock out":     {accepted: r.quantityTold},
		"items out":     {accepted: r.published, refused: r.publishRefused},
		"labels out":    {settled: r.labelAnswered, refused: r.labelNotSold, unknown: r.labelNotKnown, again: r.sendLabelAgain},
		"handovers out": {settled: r.dayClosed, refused: r.handoverRefused},
		"dispatch out":  {settled: r.dispatchSent, confirmed: r.dispatchConfirmed},
		"answers out":   {settled: r.toldChannel("our answer")},
		"states out":    {settled: r.toldChannel("how far it is")},
	}
	r.committed = []func(context.Context, *change) error{r.itemsChanged, r.waresChanged, r.listingsMoved}
	r.steps = map[jobKind]jobStep{jobServe: r.serveStep, jobRematch: r.rematchStep, jobSources: r.sourcesStep, jobAct: r.actStep, jobCarry: r.carryStep, jobServices: r.servicesStep}
	r.hooks = hooks{freed: r.serveWaiting, known: r.rematchAll, saving: r.carryOn, changed: r.syncShipments, decided: r.settingsDecided, follow: r.shipped, actions: map[string]action{
		"pick": func(ctx context.Context, number, _, who string) (string, string, bool, error) {
			s, err := r.StartPick(ctx, number, who)
			return "to be picked as " + s, "", false, err
		},
		"ship": func(ctx context.Context, number, _, who string) (string, string, bool, error) {
			asked, err := r.askPacked(ctx, number, who)
			return "label asked for", asked, true, err
		},
	}}
}
