package relay

import (
	"context"

	"openrelay/internal/core/message"
	"openrelay/internal/store"
)

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
	r.begin, r.more = r.work, r.readAll
	r.committed = []func(context.Context, *change) error{r.itemsChanged, r.waresChanged, r.listingsMoved}
	r.steps = map[jobKind]jobStep{jobServe: r.serveStep, jobRematch: r.rematchStep, jobSources: r.sourcesStep, jobAct: r.actStep, jobCarry: r.carryStep, jobServices: r.servicesStep}
	r.onFreed, r.onKnown, r.onSaving, r.onChanged, r.onSettings, r.onUnderWay = r.serveWaiting, r.rematchAll, r.carryOn, r.syncShipments, r.settingsDecided, r.shipped
	r.actions = map[string]action{
		"pick": func(ctx context.Context, number, _, who string) (string, string, bool, error) {
			s, err := r.StartPick(ctx, number, who)
			return "to be picked as " + s, "", false, err
		},
		"ship": func(ctx context.Context, number, _, who string) (string, string, bool, error) {
			asked, err := r.askPacked(ctx, number, who)
			return "label asked for", asked, true, err
		},
	}
}
