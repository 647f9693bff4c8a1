package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/core/returns"
	"openrelay/internal/relay/returning"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) returnsRoutes() {
	const bench = person.Ship | person.KeepStock | person.WorkOrders
	op(a, person.Look, http.MethodGet, "/returns", "returns", "List goods that come back, newest first", a.returns)
	op(a, bench, http.MethodPost, "/returns", "announce-return", "Note that goods of an order come back, or are here", a.announceReturn)
	op(a, person.Look, http.MethodGet, "/returns/{number}", "return", "One return: what may come, what came, what is given back",
		a.showReturn)
	op(a, bench, http.MethodPost, "/returns/{number}/scan", "scan-return", "Take in units that came back", a.scanReturn)
	op(a, bench, http.MethodPost, "/returns/{number}/move", "move-returned",
		"Decide anew on units that came back, or take a scan back", a.moveReturned)
	op(a, person.WorkOrders, http.MethodPost, "/returns/{number}/settle", "settle-return",
		"Decide what the buyer gets back; the channel is told", a.settleReturn)
	op(a, person.WorkOrders, http.MethodPost, "/returns/{number}/exchange", "exchange-return",
		"Send something in place of what comes back: a new order that costs nothing", a.exchangeReturn)
	op(a, person.WorkOrders, http.MethodPost, "/returns/{number}/call-off", "call-off-return", "End a return of which nothing came",
		a.callOffReturn)
	a.returnLabelRoutes()
}

type returnListInput struct {
	PageInput
	State  string `query:"state" doc:"One state or several, by comma"`
	Before string `query:"before" doc:"Keyset: a return's number"`
}

func (a *API) returns(ctx context.Context, in *returnListInput) (*paged[wire.Return], error) {
	var before int64
	if in.Before != "" {
		x, err := a.relay.Store.Return(ctx, in.Before)
		if err != nil {
			return nil, wrapNumber("return", in.Before, err)
		}
		before = x.ID
	}
	list, err := a.relay.Store.ListReturns(ctx, stateList(in.State), before, in.Limit)
	out := &paged[wire.Return]{Body: make([]wire.Return, len(list))}
	for i := range list {
		out.Body[i] = a.goodsReturn(ctx, &list[i])
	}
	if len(list) == in.Limit {
		out.Link = next("/returns", stateQuery(in.Limit, in.State), "before", list[len(list)-1].Number)
	}
	return out, errors.Join(err, a.looked(ctx, "list", "returns"))
}

// goodsReturn is a return as who asks may see it.
func (a *API) goodsReturn(ctx context.Context, x *store.GoodsReturn) wire.Return {
	d := x.Decision()
	out := wire.Return{Number: x.Number, OrderNumber: x.OrderNumber, Buyer: x.Buyer, Location: a.relay.Place(x.LocationID).Name,
		State: string(x.Status), Units: d.Units(), Came: d.Came(), Reason: quoted(ctx, x.Reason), Note: quoted(ctx, x.Remark),
		Tracking: x.Tracking, Announced: x.MadeBy, Refund: x.Refund, Currency: x.Currency, Exchange: x.Exchange,
		CreatedAt: at(x.CreatedAt), ArrivedAt: at(x.ArrivedAt), SettledAt: at(x.SettledAt), Revision: x.Revision}
	if !sees(ctx) {
		out.Buyer = initials(x.Buyer)
	}
	for _, l := range x.Lines {
		out.Looked += l.Look
	}
	return out
}

func (a *API) returnView(ctx context.Context, v views.ReturnView) wire.ReturnView {
	out := wire.ReturnView{Return: a.goodsReturn(ctx, &v.GoodsReturn), LookBin: v.LookBin, Lines: []wire.ReturnLine{}, Numbers: v.Serials,
		Proposed: v.Proposed, Tax: v.RefundTax, Paid: v.Order.Record.Total, Before: v.Before}
	if out.Proposed.Lines == nil {
		out.Proposed.Lines = []returns.RefundLine{}
	}
	for _, s := range v.Expected {
		it := v.Items[s.ItemID]
		l := wire.ReturnLine{LineID: s.LineID, SKU: it.SKU, GTIN: it.GTIN, Name: it.Name, Serials: it.Serials, Sent: s.Announced,
			Left: max(v.Left[returns.Key{Line: s.LineID, Item: s.ItemID}], 0)}
		if line := v.Order.Line(s.LineID); len(line.Parts) > 0 {
			l.KitSKU = line.SKU
		}
		for _, x := range v.Lines {
			if x.LineID == s.LineID && x.ItemID == s.ItemID {
				l.Announced, l.Stock, l.Look, l.Off = x.Announced, x.Stock, x.Look, x.Off
			}
		}
		out.Lines = append(out.Lines, l)
	}
	return out
}

func (a *API) returnByNumber(ctx context.Context, number string) (*body[wire.ReturnView], error) {
	v, err := a.relay.Views.Return(ctx, number)
	if err != nil {
		return nil, fmt.Errorf("return %s: %w", number, err)
	}
	out := a.returnView(ctx, v)
	out.Label, err = a.returnLabel(ctx, v.ID)
	return &body[wire.ReturnView]{out}, err
}

func (a *API) showReturn(ctx context.Context, in *NumberInput) (*body[wire.ReturnView], error) {
	if err := a.looked(ctx, "return", in.Number); err != nil {
		return nil, err
	}
	return a.returnByNumber(ctx, in.Number)
}

type announceReturnInput struct {
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body returning.NewReturn
}

func (a *API) announceReturn(ctx context.Context, in *announceReturnInput) (*body[wire.ReturnView], error) {
	number, err := a.relay.AnnounceReturn(ctx, in.Body, who(ctx))
	if err != nil {
		return nil, err
	}
	return a.returnByNumber(ctx, number)
}

type scanReturnInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body returning.Returned
}

func (a *API) scanReturn(ctx context.Context, in *scanReturnInput) (*body[wire.ReturnView], error) {
	if err := a.relay.ScanReturned(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}

type moveReturnedInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body returning.MovedReturn
}

func (a *API) moveReturned(ctx context.Context, in *moveReturnedInput) (*body[wire.ReturnView], error) {
	if err := a.relay.MoveReturned(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}

type settleReturnInput struct {
	NumberInput
	IfMatch string `header:"If-Match" doc:"Revision of the return that was looked at; empty: any"`
	Body    returning.Settlement
}

func (a *API) settleReturn(ctx context.Context, in *settleReturnInput) (*body[wire.ReturnView], error) {
	revision, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.SettleReturn(ctx, in.Number, in.Body, revision, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}

type exchangeReturnInput struct {
	NumberInput
	Body returning.Exchange
}

func (a *API) exchangeReturn(ctx context.Context, in *exchangeReturnInput) (*body[wire.ReturnView], error) {
	if _, err := a.relay.ExchangeReturn(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}

func (a *API) callOffReturn(ctx context.Context, in *NumberInput) (*body[wire.ReturnView], error) {
	if err := a.relay.CallOffReturn(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}
