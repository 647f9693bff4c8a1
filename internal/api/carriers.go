package api

import (
	"context"
	"fmt"
	"net/http"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

func (a *API) carriersRoutes() {
	tableRoutes(a, "/collections", "collections", "when carriers come to places", a.relay.Collections, person.Look)
	tableRoutes(a, "/billing-accounts", "billing-accounts", "accounts on which carriers are paid", a.relay.Accounts,
		person.Ship|person.KeepBooks)
	tableRoutes(a, "/freight-rules", "freight-rules", "what is charged for parcels; the first that fits counts", a.relay.ChargeRules,
		person.Look)
	op(a, person.SetUp, http.MethodPost, "/freight-rules/rehearse", "rehearse-freight-rules",
		"What freight rules would have charged for the newest parcels that left", a.rehearseCharges)
	op(a, person.WorkOrders|person.Ship, http.MethodGet, "/orders/{number}/pickup-points", "pickup-points",
		"Pickup points of all carriers near an order's address", a.pickupPoints)
	op(a, person.WorkOrders|person.Ship, http.MethodPut, "/orders/{number}/pickup-point", "choose-pickup-point",
		"Say where an order is fetched; without a carrier it goes to the door", a.choosePoint)
	tableRoutes(a, "/address-policy", "address-policy", "what becomes of addresses (one row at most)", a.relay.AddressPolicies,
		person.Look)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/address/take", "take-address",
		"Let an order go to its address as the address service would write it", a.takeAddress)
	tableRoutes(a, "/declarants", "declarants", "how senders declare parcels that cross a customs border", a.relay.Declarants, person.Look)
	tableRoutes(a, "/sender-addresses", "sender-addresses", "what senders have of their own", a.relay.SenderAddresses, person.Look)
	op(a, person.Look, http.MethodGet, "/bills", "bills", "Lines of carriers' bills beside what was asked, newest first", a.bills)
	op(a, person.KeepBooks, http.MethodPost, "/bills/{id}", "decide-bill",
		"Accept a line of a bill, dispute it, or say of which parcel it is", a.decideBill)
	op(a, person.Ship, http.MethodPut, "/parcels/{number}/claim", "put-claim",
		"Note how a claim about a parcel stands at its carrier; a lost parcel is settled with it", a.putClaim)
}

func (a *API) takeAddress(ctx context.Context, in *NumberInput) (*orderOutput, error) {
	if err := a.relay.TakeSuggestion(ctx, in.Number, who(ctx), 0); err != nil {
		return nil, err
	}
	return a.orderByNumber(ctx, in.Number)
}

func (a *API) rehearseCharges(ctx context.Context, in *tableInput[freight.ChargeRule]) (*body[shipping.ChargesRehearsed], error) {
	out, err := a.relay.RehearseCharges(ctx, in.Body.Rows)
	return &body[shipping.ChargesRehearsed]{out}, err
}

func (a *API) pickupPoints(ctx context.Context, in *NumberInput) (*body[shipping.NearbyPoints], error) {
	out, err := a.relay.Points(ctx, in.Number)
	return &body[shipping.NearbyPoints]{out}, err
}

type choosePointInput struct {
	NumberInput
	Body struct {
		Carrier string `json:"carrier,omitempty" doc:"Code of its connection; empty: it goes to the door"`
		ID      string `json:"id,omitempty" doc:"The carrier's number of the point"`
	}
}

func (a *API) choosePoint(ctx context.Context, in *choosePointInput) (*orderOutput, error) {
	if err := a.relay.ChoosePoint(ctx, in.Number, in.Body.Carrier, in.Body.ID, who(ctx)); err != nil {
		return nil, err
	}
	return a.orderByNumber(ctx, in.Number)
}

type billsInput struct {
	PageInput
	State  string `query:"state" doc:"One state or several, by comma: agrees, differs, unknown, accepted, disputed"`
	Before int64  `query:"before" doc:"Keyset: lines before this one"`
}

func (a *API) bills(ctx context.Context, in *billsInput) (*paged[wire.BillLine], error) {
	list, err := a.relay.Store.BillLines(ctx, stateList(in.State), in.Before, in.Limit)
	out := &paged[wire.BillLine]{Body: make([]wire.BillLine, len(list))}
	for i, b := range list {
		out.Body[i] = wire.BillLine{ID: b.ID, Bill: b.Bill, Carrier: b.Carrier, Number: b.Tracking, Parcel: b.Parcel,
			Request: b.Request, Order: b.Order, What: b.What, Amount: b.Amount, Currency: b.Currency, WeightG: b.WeightG, State: b.State,
			Why: b.Why, Note: b.Note,
			Asked: b.Asked, Billed: b.Billed, At: at(b.At)}
	}
	if len(list) == in.Limit {
		out.Link = next("/bills", stateQuery(in.Limit, in.State), "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, err
}

type decideBillInput struct {
	ID   int64 `path:"id"`
	Body shipping.SayOfBill
}

func (a *API) decideBill(ctx context.Context, in *decideBillInput) (*struct{}, error) {
	return nil, a.relay.Partners.DecideBill(ctx, in.ID, in.Body, who(ctx))
}

type claimInput struct {
	NumberInput
	Body shipping.Claim
}

func (a *API) putClaim(ctx context.Context, in *claimInput) (*body[wire.ParcelView], error) {
	if err := a.relay.PutClaim(ctx, in.Number, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.parcelByNumber(ctx, in.Number)
}

// tableRows is a list that is replaced as a whole.
type tableRows[T any] struct {
	Rows []T `json:"rows" maxItems:"2000"`
}

type tableInput[T any] struct {
	Body tableRows[T]
}

// tableRoutes are those of a setting that is a list of rows: to see it and to replace it.
func tableRoutes[T any](a *API, path, id, about string, t *engine.Table[T], see person.Permission) {
	rows := func(ctx context.Context, _ *struct{}) (*body[tableRows[T]], error) {
		list, err := t.Rows(ctx, a.relay.Engine)
		return &body[tableRows[T]]{tableRows[T]{list}}, err
	}
	op(a, see, http.MethodGet, path, id, "List "+about, rows)
	op(a, person.SetUp, http.MethodPut, path, "put-"+id, "Replace the list of "+about,
		func(ctx context.Context, in *tableInput[T]) (*body[tableRows[T]], error) {
			if err := t.Change(ctx, a.relay.Engine, in.Body.Rows, who(ctx)); err != nil {
				return nil, err
			}
			return rows(ctx, nil)
		})
}
