package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/shipping"
)

func (a *API) togetherRoutes() {
	op(a, person.Look, http.MethodGet, "/orders/{number}/companions", "companions",
		"Open orders to the same recipient and address that may be sent together with an order", a.companions)
	op(a, person.WorkOrders|person.Ship, http.MethodPost, "/orders/{number}/together", "send-together",
		"Let an order travel together with others to the same recipient", a.sendTogether)
	op(a, person.WorkOrders|person.Ship, http.MethodPost, "/orders/{number}/alone", "send-alone", "Let an order travel alone again",
		a.sendAlone)
}

func (a *API) companions(ctx context.Context, in *NumberInput) (*body[[]shipping.TravelCompanion], error) {
	list, err := a.relay.Companions(ctx, in.Number)
	if err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	if list == nil {
		list = []shipping.TravelCompanion{}
	}
	for i := range list {
		if !sees(ctx) {
			list[i].Reasons = []string{"same recipient and address"}
		}
		list[i].Why = quoted(ctx, list[i].Why)
	}
	return &body[[]shipping.TravelCompanion]{list}, a.looked(ctx, "order", in.Number)
}

type togetherInput struct {
	NumberInput
	Body struct {
		With []string `json:"with" minItems:"1" maxItems:"20" doc:"Numbers of the other orders"`
	}
}

func (a *API) sendTogether(ctx context.Context, in *togetherInput) (*body[[]shipping.TravelCompanion], error) {
	if err := a.relay.SendTogether(ctx, in.Number, in.Body.With, who(ctx)); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.companions(ctx, &in.NumberInput)
}

func (a *API) sendAlone(ctx context.Context, in *NumberInput) (*body[[]shipping.TravelCompanion], error) {
	if err := a.relay.SendAlone(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.companions(ctx, in)
}
