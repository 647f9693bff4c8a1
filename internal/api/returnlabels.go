package api

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"openrelay/internal/core/person"
	"openrelay/internal/paper"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) returnLabelRoutes() {
	const may = person.Ship | person.WorkOrders
	op(a, may, http.MethodGet, "/returns/{number}/rates", "return-rates",
		"Compare the services of carriers that bring goods back", a.returnRates)
	op(a, may, http.MethodPost, "/returns/{number}/label", "buy-return-label", "Buy a label by which the buyer sends goods back",
		a.buyReturnLabel)
	op(a, may, http.MethodPost, "/returns/{number}/label/void", "void-return-label", "Have a label voided by which nothing was sent",
		a.voidReturnLabel)
}

type returnRatesInput struct {
	NumberInput
	Profile string `query:"profile" doc:"Code of the carton's profile; empty: the one in which the order was sent"`
	WeightG int64  `query:"weight_g" doc:"0: by sum of what is announced"`
}

func (a *API) returnRates(ctx context.Context, in *returnRatesInput) (*body[[]shipping.Rate], error) {
	list, err := a.relay.ReturnRates(ctx, in.Number, shipping.ReturnParcel{Profile: in.Profile, WeightG: in.WeightG})
	return &body[[]shipping.Rate]{list}, wrapNumber("return", in.Number, err)
}

type buyReturnLabelInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body wire.ReturnPurchase
}

func (a *API) buyReturnLabel(ctx context.Context, in *buyReturnLabelInput) (*body[wire.ReturnView], error) {
	if _, err := a.relay.BuyReturnLabel(ctx, in.Number, in.Body.ReturnParcel, in.Body.Purchase, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}

func (a *API) voidReturnLabel(ctx context.Context, in *NumberInput) (*body[wire.ReturnView], error) {
	if _, err := a.relay.VoidReturnLabel(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("return", in.Number, err)
	}
	return a.returnByNumber(ctx, in.Number)
}

// returnLabel is the newest label of a return; nil: there is none.
func (a *API) returnLabel(ctx context.Context, id int64) (*wire.ReturnLabel, error) {
	l, err := a.relay.Store.ReturnLabel(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	out := &wire.ReturnLabel{State: l.State, Service: l.Service, Tracking: l.Tracking, Price: l.Price, Currency: l.Currency,
		WeightG: l.WeightG, Error: quoted(ctx, l.Error), AskedAt: at(l.AskedAt), Journey: l.Journey, JourneyAt: at(l.JourneyAt)}
	if c := a.relay.ByID(l.CarrierID); c != nil {
		out.Carrier, out.CarrierCode = c.Rec().Name, c.Rec().Code
	}
	return out, err
}

// returnLabelPDF hands out the label of a return: as its carrier made it where that is a document, else as it is drawn here.
func (a *API) returnLabelPDF(w http.ResponseWriter, r *http.Request) {
	page, err := a.returnLabelPage(r.Context(), chi.URLParam(r, "number"))
	if err != nil {
		a.deny(w, err)
		return
	}
	size := engine.Or(r.URL.Query().Get("size"), paper.OnLabels)
	a.pdf(w, r, "return-label-"+page.Tracking+".pdf", func(buf *bytes.Buffer) error {
		if err := paper.WriteLabelSheets(buf, size, 1, page); err != nil {
			return engine.Refuse("%v", err)
		}
		return nil
	})
}

func (a *API) returnLabelPage(ctx context.Context, number string) (out paper.LabelPage, err error) {
	v, err := a.relay.Views.Return(ctx, number)
	if err != nil {
		return out, fmt.Errorf("return %s: %w", number, err)
	}
	l, document, form, made, err := a.relay.ReturnDocument(ctx, number)
	if err != nil && !made {
		return out, err
	}
	if err != nil {
		a.relay.Log.Warn("a label as its carrier made it cannot be had, it is drawn here", "return", number, "error", err)
		made = false
	}
	kept, err := a.relay.Store.ReturnLabel(ctx, v.ID)
	if err != nil {
		return out, err
	}
	company, err := a.relay.Company(ctx)
	if err != nil {
		return out, err
	}
	from, to := a.relay.ReturnEnds(&v.GoodsReturn, v.Order)
	out.Label = paper.Label{Service: engine.Or(l.Service, kept.Service), Tracking: l.Tracking, Routing: l.Routing, Imprint: l.PrintLines,
		From: from, To: to, Order: v.OrderNumber, Shipment: v.Number, WeightG: kept.WeightG, Language: company.Language,
		Day: time.UnixMicro(kept.AskedAt).In(a.relay.Zone()).Format(time.DateOnly)}
	if c := a.relay.ByID(kept.CarrierID); c != nil {
		out.Carrier = c.Rec().Name
	}
	if made && (form == "pdf" || form == "png") {
		out.Document, out.Form = document, form
	}
	return out, nil
}
