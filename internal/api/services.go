package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/freight"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/shipping"
	"openrelay/internal/wire"
)

func (a *API) servicesRoutes() {
	op(a, person.Look, http.MethodGet, "/services", "services", "By which service parcels go, and what nobody has decided yet", a.services)
	op(a, person.SetUp, http.MethodPut, "/services", "put-services", "Replace the table of services", a.putServices)
}

func (a *API) services(ctx context.Context, _ *struct{}) (*body[wire.ServiceTable], error) {
	rows, err := a.relay.Store.ServiceChoices(ctx)
	if err != nil {
		return nil, err
	}
	sold, err := a.relay.Store.CarrierServices(ctx)
	if err != nil {
		return nil, err
	}
	open, err := a.relay.Store.OpenServices(ctx, engine.ServiceOpen)
	out := wire.ServiceTable{Rows: rows, Sold: []wire.SoldService{}, Open: []wire.OpenService{}}
	for _, s := range sold {
		if c := a.relay.ByID(s.ConnectionID); c != nil {
			out.Sold = append(out.Sold, wire.SoldService{Carrier: c.Rec().Code, CarrierName: c.Rec().Name, Code: s.Code, Name: s.Name})
		}
	}
	for _, o := range open {
		out.Open = append(out.Open, wire.OpenService{Word: o.Word, Connection: a.relay.Code(o.ConnectionID), Orders: o.Orders})
	}
	return &body[wire.ServiceTable]{out}, err
}

type servicesInput struct {
	Body struct {
		Rows []freight.Choice `json:"rows" maxItems:"500"`
	}
}

func (a *API) putServices(ctx context.Context, in *servicesInput) (*body[wire.ServiceTable], error) {
	if err := a.changeSetting(ctx, shipping.ServiceTableKind, shipping.ServiceTable, func() error {
		return a.relay.PutServices(ctx, in.Body.Rows, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.services(ctx, nil)
}
