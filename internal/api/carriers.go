package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

func (a *API) carriersRoutes() {
	tableRoutes(a, "/collections", "collections", "when carriers come to places", a.relay.Collections, person.Look)
	op(a, person.Ship, http.MethodPut, "/parcels/{number}/claim", "put-claim",
		"Note how a claim about a parcel stands at its carrier; a lost parcel is settled with it", a.putClaim)
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
