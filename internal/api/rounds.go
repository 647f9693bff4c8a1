package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/core/picking"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) roundsRoutes() {
	op(a, person.Look, http.MethodGet, "/rounds", "rounds", "List rounds, newest first", a.rounds)
	op(a, person.Ship, http.MethodPost, "/rounds", "make-round", "Let orders be picked in one walk, each into a slot of its own",
		a.makeRound)
	op(a, person.Look, http.MethodGet, "/rounds/{number}", "round", "One round with what is collected in it, in the order of the walk",
		a.showRound)
	op(a, person.Ship, http.MethodPost, "/rounds/{number}/take", "take-round", "Pick a round, or take it over from who picks it",
		a.takeRound)
	op(a, person.Ship, http.MethodPost, "/rounds/{number}/scan", "scan-round", "Scan a bin or a product; it says into which slots it goes",
		a.scanRound)
	op(a, person.Ship, http.MethodPost, "/rounds/{number}/take-back", "take-back-round", "Take back that units were picked into a slot",
		a.takeBackRound)
	op(a, person.Ship, http.MethodPost, "/rounds/{number}/short", "short-round",
		"Say that units are not where they should lie; the last slots go without", a.shortRound)
	op(a, person.Ship, http.MethodPost, "/rounds/{number}/leave", "leave-round", "Take a shipment off a round", a.leaveRound)
	op(a, person.Ship, http.MethodPost, "/rounds/{number}/take-apart", "take-round-apart",
		"End a round; its shipments are picked by themselves", a.takeRoundApart)
	op(a, person.Look, http.MethodGet, "/round-rules", "round-rules", "The rules by which rounds are made", a.roundRules)
	op(a, person.SetUp, http.MethodPut, "/round-rules/{code}", "put-round-rule", "Set a rule for rounds", a.putRoundRule)
	op(a, person.SetUp, http.MethodDelete, "/round-rules/{code}", "drop-round-rule", "Remove a rule for rounds", a.dropRoundRule)
}

type roundListInput struct {
	PageInput
	State  string `query:"state" doc:"One state or several, by comma"`
	Before string `query:"before" doc:"Keyset: a round's number"`
}

func (a *API) rounds(ctx context.Context, in *roundListInput) (*paged[wire.Round], error) {
	var before int64
	if in.Before != "" {
		x, err := a.relay.Store.Round(ctx, in.Before)
		if err != nil {
			return nil, wrapNumber("round", in.Before, err)
		}
		before = x.ID
	}
	list, err := a.relay.Store.ListRounds(ctx, stateList(in.State), before, in.Limit)
	out := &paged[wire.Round]{Body: make([]wire.Round, len(list))}
	for i := range list {
		out.Body[i] = a.round(ctx, &list[i])
	}
	if len(list) == in.Limit {
		out.Link = next("/rounds", stateQuery(in.Limit, in.State), "before", list[len(list)-1].Number)
	}
	return out, errors.Join(err, a.looked(ctx, "list", "rounds"))
}

func (a *API) round(ctx context.Context, x *store.Round) wire.Round {
	out := wire.Round{Number: x.Number, Location: a.relay.PlaceName(x.LocationID), State: x.State, Rule: x.Rule, Holder: x.Holder,
		Mine: x.HeldBy == "" || x.HeldBy == who(ctx), MadeBy: x.MadeBy, Slots: make([]wire.RoundSlot, len(x.Slots)),
		CreatedAt: at(x.CreatedAt), EndedAt: at(x.EndedAt), Revision: x.Revision}
	for i, s := range x.Slots {
		if !sees(ctx) {
			s.Buyer = initials(s.Buyer)
		}
		out.Slots[i] = wire.RoundSlot{Slot: s.Slot, Shipment: s.Shipment, OrderNumber: s.OrderNumber, Buyer: s.Buyer, State: s.State,
			Quantity: s.Quantity, Picked: s.Picked}
		out.Quantity += s.Quantity
		out.Picked += s.Picked
	}
	return out
}

func (a *API) roundByNumber(ctx context.Context, number string) (*body[wire.RoundView], error) {
	v, err := a.relay.Views.Round(ctx, number)
	if err != nil {
		return nil, fmt.Errorf("round %s: %w", number, err)
	}
	wants := make([]picking.Want, len(v.Stops))
	for i, s := range v.Stops {
		wants[i] = s.Want
	}
	out := wire.RoundView{Round: a.round(ctx, &v.Round), Stops: v.Stops, Expected: picking.Expected(wants)}
	if out.Stops == nil {
		out.Stops = []picking.Stop{}
	}
	return &body[wire.RoundView]{out}, nil
}

func (a *API) showRound(ctx context.Context, in *NumberInput) (*body[wire.RoundView], error) {
	if err := a.looked(ctx, "round", in.Number); err != nil {
		return nil, err
	}
	return a.roundByNumber(ctx, in.Number)
}

type makeRoundInput struct {
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body shipping.NewRound
}

func (a *API) makeRound(ctx context.Context, in *makeRoundInput) (*body[wire.RoundView], error) {
	made, err := a.relay.MakeRound(ctx, in.Body, who(ctx))
	if err != nil {
		return nil, err
	}
	out, err := a.roundByNumber(ctx, made.Number)
	if err == nil {
		out.Body.Left = made.Left
	}
	return out, err
}

type takeRoundInput struct {
	NumberInput
	Body struct {
		Over bool `json:"over,omitempty" doc:"Take it over from who picks it"`
	}
}

func (a *API) takeRound(ctx context.Context, in *takeRoundInput) (*body[wire.RoundView], error) {
	if err := a.relay.TakeRound(ctx, in.Number, in.Body.Over, who(ctx)); err != nil {
		return nil, wrapNumber("round", in.Number, err)
	}
	return a.roundByNumber(ctx, in.Number)
}

type scanRoundInput struct {
	NumberInput
	Key  string `header:"Idempotency-Key" doc:"Repeating a request with the same key answers like the first"`
	Body shipping.RoundScan
}

func (a *API) scanRound(ctx context.Context, in *scanRoundInput) (*body[wire.RoundView], error) {
	said, err := a.relay.ScanInRound(ctx, in.Number, in.Body, who(ctx))
	if err != nil {
		return nil, wrapNumber("round", in.Number, err)
	}
	out, err := a.roundByNumber(ctx, in.Number)
	if err == nil {
		out.Body.Said = said
	}
	return out, err
}

func (a *API) takeBackRound(ctx context.Context, in *scanRoundInput) (*body[wire.RoundView], error) {
	if err := a.relay.TakeBackInRound(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, wrapNumber("round", in.Number, err)
	}
	return a.roundByNumber(ctx, in.Number)
}

func (a *API) shortRound(ctx context.Context, in *shortInput) (*body[shipping.Shortage], error) {
	out, err := a.relay.ShortInRound(ctx, in.Number, in.Body, who(ctx))
	if err != nil {
		return nil, wrapNumber("round", in.Number, err)
	}
	return &body[shipping.Shortage]{out}, nil
}

type leaveRoundInput struct {
	NumberInput
	Body struct {
		Slot int `json:"slot" minimum:"1"`
	}
}

func (a *API) leaveRound(ctx context.Context, in *leaveRoundInput) (*body[wire.RoundView], error) {
	if err := a.relay.LeaveRound(ctx, in.Number, in.Body.Slot, who(ctx)); err != nil {
		return nil, wrapNumber("round", in.Number, err)
	}
	return a.roundByNumber(ctx, in.Number)
}

func (a *API) takeRoundApart(ctx context.Context, in *NumberInput) (*body[wire.RoundView], error) {
	if err := a.relay.TakeRoundApart(ctx, in.Number, who(ctx)); err != nil {
		return nil, wrapNumber("round", in.Number, err)
	}
	return a.roundByNumber(ctx, in.Number)
}

func (a *API) roundRules(ctx context.Context, _ *struct{}) (*body[[]store.RoundRule], error) {
	list, err := a.relay.Store.RoundRules(ctx)
	return &body[[]store.RoundRule]{list}, err
}

type roundRuleInput struct {
	Code string `path:"code"`
	Body struct {
		Name     string   `json:"name" maxLength:"80"`
		Location string   `json:"location" doc:"Code of the place"`
		Slots    int      `json:"slots,omitempty" minimum:"0" maximum:"60" doc:"Slots on the cart; 0: twelve"`
		Services []string `json:"services,omitempty" maxItems:"40" doc:"Words of service that the buyers wished for; none: any"`
		Units    int      `json:"units,omitempty" enum:"0,1,2" doc:"0: any order; 1: orders of a single unit; 2: all others"`
		Today    bool     `json:"today,omitempty" doc:"Only what should leave today, by the hours of the place"`
	}
}

func (a *API) putRoundRule(ctx context.Context, in *roundRuleInput) (*body[store.RoundRule], error) {
	b := in.Body
	if err := a.changeSetting(ctx, shipping.RoundRuleKind, in.Code, func() error {
		return a.relay.PutRoundRule(ctx, store.RoundRule{Code: in.Code, Name: b.Name, Location: b.Location, Slots: b.Slots,
			Services: b.Services, Units: b.Units, Today: b.Today}, who(ctx))
	}); err != nil {
		return nil, err
	}
	x, err := a.relay.RoundRule(ctx, in.Code)
	return &body[store.RoundRule]{x}, err
}

type roundRuleCode struct {
	Code string `path:"code"`
}

func (a *API) dropRoundRule(ctx context.Context, in *roundRuleCode) (*struct{}, error) {
	return nil, a.changeSetting(ctx, shipping.RoundRuleKind, in.Code, func() error {
		return a.relay.DropRoundRule(ctx, in.Code, who(ctx))
	})
}
