package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"openrelay/internal/core/person"
	"openrelay/internal/core/request"
	"openrelay/internal/relay/partners"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) partnerRoutes() {
	op(a, person.Look, http.MethodGet, "/partners", "partners", "Whoever ships for us, and how it stands with what they were asked",
		a.partners)
	tableRoutes(a, "/partner-terms", "partner-terms", "what was agreed with partners", a.relay.Partners.Agreed, person.Look)
	op(a, person.Look, http.MethodGet, "/partners/{code}/items", "partner-items", "What a partner calls our items, by SKU", a.partnerItems)
	op(a, person.KeepCatalog, http.MethodPut, "/partners/{code}/items", "put-partner-item",
		"Say what a partner calls an item, or that it is never asked for it; what waits for that goes on", a.putPartnerItem)
	op(a, person.KeepCatalog, http.MethodDelete, "/partners/{code}/items/{sku}", "drop-partner-item",
		"Forget what a partner calls an item", a.dropPartnerItem)
	op(a, person.Look, http.MethodGet, "/stock-differences", "stock-differences",
		"Where the stock that a partner told was another than our books, newest first; its word was taken", a.stockDifferences)
	op(a, person.KeepStock, http.MethodPost, "/stock-differences/{id}/settle", "settle-stock-difference",
		"Say that somebody has looked at a difference, and why it was", a.settleDifference)

	op(a, person.Look, http.MethodGet, "/requests", "requests", "What partners are asked to send, newest first", a.requests)
	op(a, person.Look, http.MethodGet, "/requests/{number}", "request", "One request with what has left for it", a.request)
	op(a, person.WorkOrders, http.MethodPost, "/requests/{number}/ask-again", "ask-request-again",
		"Ask the partner again, under the same reference", a.askAgain)
	op(a, person.WorkOrders, http.MethodPost, "/requests/{number}/call-off", "call-off-request",
		"Ask the partner not to send what is left; once it agrees, that is planned from elsewhere", a.callOffRequest)
	op(a, person.WorkOrders, http.MethodPost, "/requests/{number}/say", "say-of-request",
		"What the partner said by telephone or letter", a.sayOfRequest)
	op(a, person.WorkOrders, http.MethodPost, "/requests/{number}/sent", "request-sent",
		"A parcel that the partner sent, with its number, as it told it by telephone or letter", a.requestSent)
	op(a, person.Look, http.MethodGet, "/orders/{number}/requests", "order-requests", "What partners were asked to send of an order",
		a.orderRequests)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/ask-partners", "ask-partners",
		"Ask partners for what is placed with them and was not asked for", a.askPartners)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/let-send", "let-send",
		"Let a place be asked again that refused to send an order", a.letSend)
}

// talliedFor is how far back requests are counted that have ended.
const talliedFor = 30 * 24 * time.Hour

func (a *API) partners(ctx context.Context, _ *struct{}) (*body[[]wire.Partner], error) {
	terms, err := a.relay.Partners.Agreed.Rows(ctx, a.relay.Engine)
	if err != nil {
		return nil, err
	}
	tallies, err := a.relay.Store.PartnerTallies(ctx, a.relay.Clock().Add(-talliedFor))
	if err != nil {
		return nil, err
	}
	open, err := a.relay.Store.StockDifferences(ctx, 0, true, 0, 5000)
	if err != nil {
		return nil, err
	}
	out := []wire.Partner{}
	for _, c := range a.relay.Partners.List() {
		p := wire.Partner{Code: c.Rec().Code, Name: c.Rec().Name, Works: c.Works(), Asked: a.relay.Partners.IsAsked(c), Test: c.Rec().Test,
			Places: []string{}, Requests: map[string]int64{}, Terms: request.Terms{Partner: c.Rec().Code}}
		for _, id := range a.relay.PlacesOf(c.ID) {
			p.Places = append(p.Places, a.relay.Place(id).Code)
		}
		for _, t := range tallies {
			if t.ConnectionID == c.ID {
				p.Requests[t.State] = t.Count
			}
		}
		for _, d := range open {
			if d.ConnectionID == c.ID {
				p.Differences++
			}
		}
		for _, t := range terms {
			if t.Partner == p.Code {
				p.Terms = t
			}
		}
		out = append(out, p)
	}
	return &body[[]wire.Partner]{out}, nil
}

type partnerItemsInput struct {
	Code  string `path:"code"`
	Limit int    `query:"limit" default:"100" minimum:"1" maximum:"500"`
	After string `query:"after" doc:"Keyset: a SKU"`
}

func (a *API) partnerItems(ctx context.Context, in *partnerItemsInput) (*paged[wire.PartnerItem], error) {
	c, err := a.relay.Partners.Partner(in.Code)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.Store.PartnerItems(ctx, c.ID, in.After, in.Limit)
	out := &paged[wire.PartnerItem]{Body: make([]wire.PartnerItem, len(list))}
	for i, p := range list {
		out.Body[i] = wire.PartnerItem{SKU: p.SKU, Name: p.Name, Code: p.Code, Ignored: p.Ignored, At: at(p.At)}
	}
	if len(list) == in.Limit {
		out.Link = next("/partners/"+in.Code+"/items", stateQuery(in.Limit, ""), "after", list[len(list)-1].SKU)
	}
	return out, err
}

type putPartnerItemInput struct {
	Code string `path:"code"`
	Body partners.PartnerItem
}

func (a *API) putPartnerItem(ctx context.Context, in *putPartnerItemInput) (*struct{}, error) {
	return nil, a.relay.Partners.SayItem(ctx, in.Code, in.Body, who(ctx))
}

type dropPartnerItemInput struct {
	Code string `path:"code"`
	SKU  string `path:"sku"`
}

func (a *API) dropPartnerItem(ctx context.Context, in *dropPartnerItemInput) (*struct{}, error) {
	return nil, a.relay.Partners.ForgetItem(ctx, in.Code, in.SKU, who(ctx))
}

type differencesInput struct {
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
	Before  int64  `query:"before" doc:"Keyset: the id of a difference"`
	Partner string `query:"partner" doc:"Code; empty: all"`
	Open    bool   `query:"open" doc:"Only those that nobody has looked at"`
}

func (a *API) stockDifferences(ctx context.Context, in *differencesInput) (*paged[wire.StockDifference], error) {
	var of int64
	if in.Partner != "" {
		c, err := a.relay.Partners.Partner(in.Partner)
		if err != nil {
			return nil, err
		}
		of = c.ID
	}
	list, err := a.relay.Store.StockDifferences(ctx, of, in.Open, in.Before, in.Limit)
	if err != nil {
		return nil, err
	}
	out := &paged[wire.StockDifference]{Body: make([]wire.StockDifference, len(list))}
	for i, d := range list {
		by, err := a.relay.PersonName(ctx, d.SettledBy)
		if err != nil {
			return nil, err
		}
		out.Body[i] = wire.StockDifference{ID: d.ID, Partner: a.relay.Code(d.ConnectionID), Place: a.relay.Place(d.LocationID).Code,
			SKU: d.SKU, Name: d.Name, Ours: d.Ours, Theirs: d.Theirs, At: at(d.At), SettledAt: at(d.SettledAt), SettledBy: by, Note: d.Note}
	}
	if len(list) == in.Limit {
		q := stateQuery(in.Limit, "")
		if in.Partner != "" {
			q.Set("partner", in.Partner)
		}
		if in.Open {
			q.Set("open", "true")
		}
		out.Link = next("/stock-differences", q, "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, nil
}

type settleDifferenceInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Note string `json:"note,omitempty" maxLength:"300"`
	}
}

func (a *API) settleDifference(ctx context.Context, in *settleDifferenceInput) (*struct{}, error) {
	return nil, a.relay.Partners.SettleDifference(ctx, in.ID, in.Body.Note, who(ctx))
}

type requestsInput struct {
	Limit   int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
	Before  int64  `query:"before" doc:"Keyset: the place of a request in the list, from the link"`
	State   string `query:"state" doc:"One state or several, by comma"`
	Partner string `query:"partner" doc:"Code; empty: all"`
}

func (a *API) requests(ctx context.Context, in *requestsInput) (*paged[wire.Request], error) {
	f := store.RequestFilter{States: stateList(in.State), Before: in.Before, Limit: in.Limit}
	if in.Partner != "" {
		c, err := a.relay.Partners.Partner(in.Partner)
		if err != nil {
			return nil, err
		}
		f.Partner = c.ID
	}
	list, err := a.relay.Store.ListRequests(ctx, f)
	if err != nil {
		return nil, err
	}
	out := &paged[wire.Request]{Body: a.requestList(list)}
	if len(list) == in.Limit {
		q := stateQuery(in.Limit, in.State)
		if in.Partner != "" {
			q.Set("partner", in.Partner)
		}
		out.Link = next("/requests", q, "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, nil
}

func (a *API) requestList(list []store.Request) []wire.Request {
	out := make([]wire.Request, len(list))
	for i := range list {
		out[i] = a.requestRow(&list[i])
	}
	return out
}

func (a *API) requestRow(q *store.Request) wire.Request {
	out := wire.Request{Request: q.Request, Reference: a.relay.Prefix + "-" + q.Number, Partner: a.relay.Code(q.ConnectionID),
		Place: a.relay.Place(q.LocationID).Code, Order: q.OrderNumber, Test: q.Test, Asks: q.Asks, CreatedAt: at(q.CreatedAt),
		AskedAt: at(q.AskedAt), HeardAt: at(q.HeardAt), EndedAt: at(q.EndedAt), LookAt: at(q.LookAt), Currency: q.Currency, Cost: q.Cost,
		Billed: q.Billed}
	if c := a.relay.ByID(q.ConnectionID); c != nil {
		out.PartnerName = c.Rec().Name
	}
	return out
}

func (a *API) request(ctx context.Context, in *NumberInput) (*body[wire.Request], error) {
	return a.requestByNumber(ctx, in.Number)
}

func (a *API) requestByNumber(ctx context.Context, number string) (*body[wire.Request], error) {
	q, err := a.relay.Store.Request(ctx, number)
	if err != nil {
		return nil, wrapNumber("request", number, err)
	}
	out := a.requestRow(&q)
	parcels, err := a.relay.Store.ParcelsForRequest(ctx, q.ID)
	for _, p := range parcels {
		out.Parcels = append(out.Parcels, wire.RequestParcel{Number: p.Number, State: p.State, Carrier: p.CarrierTold, Tracking: p.Tracking,
			URL: p.TrackingURL, LeftAt: at(p.ShippedAt)})
	}
	return &body[wire.Request]{out}, err
}

// thenShow shows a request after something was done with it.
func (a *API) thenShow(ctx context.Context, number string, err error) (*body[wire.Request], error) {
	if err != nil {
		return nil, err
	}
	return a.requestByNumber(ctx, number)
}

func (a *API) askAgain(ctx context.Context, in *NumberInput) (*body[wire.Request], error) {
	return a.thenShow(ctx, in.Number, a.relay.Partners.AskAgain(ctx, in.Number, who(ctx)))
}

type callOffInput struct {
	NumberInput
	Body struct {
		Reason string `json:"reason,omitempty" maxLength:"200" doc:"The partner is told"`
	}
}

func (a *API) callOffRequest(ctx context.Context, in *callOffInput) (*body[wire.Request], error) {
	return a.thenShow(ctx, in.Number, a.relay.Partners.CallOff(ctx, in.Number, in.Body.Reason, who(ctx)))
}

type sayOfRequestInput struct {
	NumberInput
	Body partners.SaidByHand
}

func (a *API) sayOfRequest(ctx context.Context, in *sayOfRequestInput) (*body[wire.Request], error) {
	return a.thenShow(ctx, in.Number, a.relay.Partners.Say(ctx, in.Number, in.Body, who(ctx)))
}

type requestSentInput struct {
	NumberInput
	Body partners.SentByHand
}

func (a *API) requestSent(ctx context.Context, in *requestSentInput) (*body[wire.Request], error) {
	return a.thenShow(ctx, in.Number, a.relay.Partners.SentTyped(ctx, in.Number, in.Body, who(ctx)))
}

func (a *API) orderRequests(ctx context.Context, in *NumberInput) (*body[[]wire.Request], error) {
	o, err := a.relay.Store.OrderByNumber(ctx, in.Number)
	if err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	list, err := a.relay.Store.RequestsOfOrder(ctx, o.ID)
	return &body[[]wire.Request]{a.requestList(list)}, err
}

func (a *API) askPartners(ctx context.Context, in *NumberInput) (*body[[]wire.Request], error) {
	if err := a.relay.Partners.AskFor(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.orderRequests(ctx, in)
}

type letSendInput struct {
	NumberInput
	Body struct {
		Place string `json:"place" maxLength:"60" doc:"Its code"`
	}
}

func (a *API) letSend(ctx context.Context, in *letSendInput) (*body[[]wire.Request], error) {
	if err := a.relay.Partners.LetSend(ctx, in.Number, in.Body.Place, who(ctx)); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.orderRequests(ctx, &NumberInput{Number: in.Number})
}
