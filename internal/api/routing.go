package api

import (
	"context"
	"net/http"

	core "openrelay/internal/core/routing"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/routing"
	"openrelay/internal/wire"
)

func (a *API) routingRoutes() {
	op(a, person.Look, http.MethodGet, "/routing", "routing", "What is weighed when places are chosen", a.routingPolicy)
	op(a, person.SetUp, http.MethodPut, "/routing", "put-routing",
		"Say what is weighed when places are chosen; what has been planned stays as it is", a.putRouting)
	op(a, person.SetUp, http.MethodPost, "/routing/rehearse", "rehearse-routing",
		"How the newest orders would have been sent under another policy, with what was free and what carriers asked then",
		a.rehearseRouting)
	op(a, person.WorkOrders, http.MethodPost, "/routing/replan", "replan-place",
		"Plan anew, by a job, all orders that a place was to send and that nobody has begun on", a.replanPlace)
	op(a, person.Look, http.MethodGet, "/orders/{number}/plan", "order-plan",
		"From which places an order is sent and why; where it had no choice, nothing is said", a.orderPlan)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/replan", "replan-order", "Plan an order anew that nobody has begun on",
		a.replanOrder)
}

func (a *API) routingPolicy(ctx context.Context, _ *struct{}) (*body[wire.PolicyInUse], error) {
	p, err := a.relay.Routing.Policy(ctx)
	if err != nil {
		return nil, err
	}
	c, err := a.relay.Company(ctx)
	return &body[wire.PolicyInUse]{wire.PolicyInUse{Policy: p, Currency: c.Currency}}, err
}

type routingInput struct{ Body core.Policy }

func (a *API) putRouting(ctx context.Context, in *routingInput) (*body[wire.PolicyInUse], error) {
	if err := a.relay.Routing.SetPolicy(ctx, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.routingPolicy(ctx, nil)
}

func (a *API) rehearseRouting(ctx context.Context, in *routingInput) (*body[routing.Rehearsed], error) {
	out, err := a.relay.Routing.Rehearse(ctx, in.Body)
	return &body[routing.Rehearsed]{out}, err
}

type replanInput struct {
	Body struct {
		Place  string `json:"place,omitempty" maxLength:"60" doc:"Its code; empty: all places"`
		Reason string `json:"reason,omitempty" maxLength:"200" doc:"For the timelines of the orders"`
	}
}

func (a *API) replanPlace(ctx context.Context, in *replanInput) (*body[wire.StartedJob], error) {
	job, err := a.relay.ReplanPlace(ctx, in.Body.Place, in.Body.Reason, who(ctx))
	return &body[wire.StartedJob]{wire.StartedJob{Job: job}}, err
}

func (a *API) orderPlan(ctx context.Context, in *NumberInput) (*body[routing.OrderPlan], error) {
	out, err := a.relay.Routing.PlanOf(ctx, in.Number)
	return &body[routing.OrderPlan]{out}, wrapNumber("order", in.Number, err)
}

type replanOrderInput struct {
	NumberInput
	IfMatch string `header:"If-Match" doc:"Revision as last seen"`
	Body    *wire.ReplanOrder
}

func (a *API) replanOrder(ctx context.Context, in *replanOrderInput) (*body[wire.Replanned], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	var now *bool
	if in.Body != nil {
		now = in.Body.Now
	}
	changed, err := a.relay.Replan(ctx, in.Number, rev, now, who(ctx))
	return &body[wire.Replanned]{wire.Replanned{Changed: changed}}, wrapNumber("order", in.Number, err)
}
