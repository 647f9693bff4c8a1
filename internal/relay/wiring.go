package relay

import (
	"context"
	"maps"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/relay/orders"
	"openrelay/internal/relay/routing"
)

// wire registers who decides on which messages, who hears what became of one, and who is told what another room did.
// Rooms further down know nothing of those further up; what they cause there goes through here.
func (r *Relay) wire() {
	r.Inbound = map[message.Feed]exchange.Inbound{
		message.OrdersIn:    r.TakeOrders,
		message.ListingsIn:  exchange.Each(r.TakeListing),
		message.StockIn:     exchange.Each(r.TakeStockLevel),
		message.ItemsIn:     exchange.Each(r.TakeItem),
		message.CustomersIn: exchange.Each(r.TakeCustomer),
		message.DispatchIn:  exchange.Each(r.Partners.TakeDispatch),
		message.TrackingIn:  exchange.Each(r.TakeTracking),
		message.ReturnsIn:   exchange.Each(r.TakeReturn),
		message.ReceiptsIn:  exchange.Each(r.TakeReceipt),
		message.RequestsIn:  exchange.Each(r.Partners.TakeRequestState),
		message.BillsIn:     exchange.Each(r.Partners.TakeBillLine),
	}
	r.Outbound = r.outbound()
	r.JobSteps = map[engine.JobKind]engine.JobStep{
		engine.JobServe:    r.ServeStep,
		engine.JobRematch:  r.RematchStep,
		engine.JobSources:  r.SourcesStep,
		engine.JobAct:      r.ActStep,
		engine.JobCarry:    r.CarryStep,
		engine.JobServices: r.ServicesStep,
		engine.JobPrint:    r.Printing.Step,
		engine.JobAddress:  r.AddressStep,
		engine.JobReplan:   r.ReplanStep,
		engine.JobAsk:      r.Partners.AskStep,
	}
	r.Actions = map[orders.ActionKind]orders.Action{
		orders.Pick: {Do: r.pickAction},
		orders.Ship: {Do: r.shipAction, Became: r.LabelsCame},
	}
	maps.Copy(r.Actions, r.ParcelActions())
	r.OnMark(engine.StockFreed, r.SettleFreed)
	r.OnMark(engine.ItemKnown, r.SettleItemsKnown)
	r.OnMark(engine.ListingKnown, r.SettleListingsKnown)
	r.OnMark(engine.OrderCarried, orders.EachOrder(r.SettleCarried))
	r.OnMark(engine.OrderChanged, orders.EachOrder(r.SettleShipments))
	r.OnMark(engine.RequestsMoved, orders.EachOrder(r.Partners.SettleRequests))
	r.OnMark(engine.PartnerSet, r.Partners.SettlePartners)
	r.OnMark(engine.StockShort, r.SettleShort)
	r.OnMark(engine.ServicesSet, r.SettleServices)
	r.OnMark(engine.StockMoved, r.SettleOffers)
	r.OnMark(engine.ListingMoved, r.SettleListings)
	r.OnMark(engine.ShareTold, r.SettleShares)
	r.OnMark(engine.ParcelsSeen, orders.EachOrder(r.SettleSeen))
	r.OnMark(engine.ParcelComesBack, r.SettleComingBack)
	r.OnMark(engine.LabelBought, r.Printing.LabelsBought)
	r.OnMark(engine.CartonAsked, r.SettleCartons)
	r.OnMark(engine.OrderSaved, orders.EachOrder(r.SettleHolds))
	r.OnMark(engine.AddressKnown, r.SettleAddresses)
	r.OnMark(engine.StockBelow, r.SettleNegative)
	r.OnMark(engine.OrderWords, orders.EachOrder(r.SettleWords))

	r.ask()
	r.Drive(r.Work, r.ReadAll)
	r.Committed = []func(context.Context, *engine.Change) error{r.ItemsChanged, r.ItemKindsChanged, r.ListingsMoved}
}

// ask lets rooms ask those that stand on them, where they must know before they decide.
func (r *Relay) ask() {
	r.Orders.Route = r.Routing.Plan
	r.Orders.ReplanRest = r.Shipping.ReplanRest
	r.Orders.Exceptions = r.Routing.Exceptions
	r.Shipping.AddressPlaced = r.Routing.AddressPlaced
	r.Routing.Carriers = r.tariffsKnown
	r.Routing.PickOf = r.Shipping.PickOf
	r.Routing.PartnerAsks = r.Partners.AsksAt
	r.Inventory.Cannot = r.Routing.CannotSend
	r.Shipping.BillOfPartner = r.Partners.BillOfPartner
}

// outbound says who hears what became of a message that was sent.
func (r *Relay) outbound() map[message.Feed]exchange.Outbound {
	return map[message.Feed]exchange.Outbound{
		message.StockOut:  {Accepted: r.QuantityTold},
		message.ItemsOut:  {Accepted: r.Published, Refused: r.PublishRefused},
		message.LabelsOut: {Settled: r.LabelAnswered, Refused: r.LabelNotSold, Unknown: r.LabelNotKnown, Again: r.SendLabelAgain},
		message.ReturnLabels: {Settled: r.ReturnLabelAnswered, Refused: r.ReturnLabelNotSold, Unknown: r.ReturnLabelNotKnown,
			Again: r.ReturnLabelAgain},
		message.VoidsOut: {Settled: r.LabelVoided, Refused: r.VoidNotTaken, Unknown: r.VoidNotKnown, Again: r.VoidAgain},
		message.RequestsOut: {Settled: r.Partners.RequestTaken, Refused: r.Partners.RequestNotTaken, Unknown: r.Partners.RequestNotKnown,
			Again: r.Partners.RequestAgain},
		message.RequestStops: {Settled: r.Partners.RequestTaken, Refused: r.Partners.RequestNotTaken, Unknown: r.Partners.RequestNotKnown,
			Again: r.Partners.RequestAgain},
		message.HandoversOut: {Settled: r.DayClosed, Refused: r.HandoverRefused},
		message.DispatchOut:  {Settled: r.DispatchSent, Confirmed: r.DispatchConfirmed},
		message.AnswersOut:   {Settled: r.ToldChannel("our answer")},
		message.StatesOut:    {Settled: r.ToldChannel("how far it is")},
		message.RefundsOut:   {Settled: r.ToldChannel("what the buyer gets back")},
		message.CancelOut:    {Settled: r.ToldChannel("what was cancelled here")},
	}
}

// tariffsKnown are the carriers at work of which a tariff is known, as places are chosen by them.
func (r *Relay) tariffsKnown() []routing.Carrier {
	known := r.KnownTariffs()
	out := make([]routing.Carrier, len(known))
	for i, k := range known {
		out[i] = routing.Carrier{Code: k.Code, Tariff: k.Tariff, Leaves: k.Leaves}
	}
	return out
}

// pickAction lets a picker take an order.
func (r *Relay) pickAction(ctx context.Context, number, who string) (done, reference string, err error) {
	shipment, err := r.StartPick(ctx, number, who)
	return "to be picked as " + shipment, "", err
}

// shipAction asks for the labels of what is packed of an order; what becomes of them is known later.
func (r *Relay) shipAction(ctx context.Context, number, who string) (done, reference string, err error) {
	asked, stays, err := r.AskPacked(ctx, number, who)
	text := "label asked for"
	if stays != "" {
		text += "; " + stays
	}
	return text, asked, err
}
