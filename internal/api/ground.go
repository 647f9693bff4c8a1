package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/person"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// groundRoutes are those of what a company stands on: places that are used no more, senders, carriers that are only named.
func (a *API) groundRoutes() {
	op(a, person.SetUp, http.MethodPost, "/locations/{code}/archive", "archive-location", "Use a place no more, or again",
		a.archiveLocation)
	op(a, person.Look, http.MethodGet, "/senders", "senders", "Whom parcels come from", a.senders)
	op(a, person.SetUp, http.MethodPut, "/senders/{code}", "put-sender", "Add a sender, or change it", a.putSender)
	op(a, person.SetUp, http.MethodPost, "/senders/{code}/archive", "archive-sender", "Use a sender no more, or again", a.archiveSender)
	op(a, person.Look, http.MethodGet, "/named-carriers", "named-carriers", "Carriers that are only named", a.namedCarriers)
	op(a, person.SetUp, http.MethodPut, "/named-carriers/{code}", "put-named-carrier", "Add a carrier that is only named, or change it",
		a.putNamedCarrier)
	op(a, person.SetUp, http.MethodPost, "/named-carriers/{code}/archive", "archive-named-carrier",
		"Use a carrier that is only named no more, or again", a.archiveNamedCarrier)
}

func (a *API) archiveLocation(ctx context.Context, in *archiveCodeInput) (*body[[]wire.Location], error) {
	if err := a.changeSetting(ctx, "place", in.Code, func() error {
		return a.relay.ArchivePlace(ctx, in.Code, in.Body.Archived, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.locations(ctx, nil)
}

func (a *API) senders(ctx context.Context, _ *struct{}) (*body[[]wire.Sender], error) {
	list, err := a.relay.Store.Senders(ctx)
	out := make([]wire.Sender, len(list))
	for i, s := range list {
		out[i] = wire.Sender{Code: s.Code, ArchivedAt: at(s.ArchivedAt), SenderText: wire.SenderText{Name: s.Name, Company: s.Company,
			Phone: s.Phone, Email: s.Email}}
		if s.ArchivedAt == 0 {
			out[i].Warnings = a.relay.NameWarnings(s.Name)
		}
	}
	return &body[[]wire.Sender]{out}, err
}

type putSenderInput struct {
	Code string `path:"code" maxLength:"31"`
	Body wire.SenderText
}

func (a *API) putSender(ctx context.Context, in *putSenderInput) (*body[[]wire.Sender], error) {
	b := in.Body
	if err := a.changeSetting(ctx, "sender", in.Code, func() error {
		return a.relay.PutSender(ctx, store.Sender{Code: in.Code, Name: b.Name, Company: b.Company, Phone: b.Phone, Email: b.Email},
			who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.senders(ctx, nil)
}

func (a *API) archiveSender(ctx context.Context, in *archiveCodeInput) (*body[[]wire.Sender], error) {
	if err := a.changeSetting(ctx, "sender", in.Code, func() error {
		return a.relay.ArchiveSender(ctx, in.Code, in.Body.Archived, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.senders(ctx, nil)
}

func (a *API) namedCarriers(ctx context.Context, _ *struct{}) (*body[[]wire.NamedCarrier], error) {
	list, err := a.relay.Store.NamedCarriers(ctx)
	out := make([]wire.NamedCarrier, len(list))
	for i, c := range list {
		out[i] = wire.NamedCarrier{Code: c.Code, ArchivedAt: at(c.ArchivedAt),
			NamedCarrierText: wire.NamedCarrierText{Name: c.Name, TrackingURL: c.TrackingURL}}
	}
	return &body[[]wire.NamedCarrier]{out}, err
}

type putNamedCarrierInput struct {
	Code string `path:"code" maxLength:"31"`
	Body wire.NamedCarrierText
}

func (a *API) putNamedCarrier(ctx context.Context, in *putNamedCarrierInput) (*body[[]wire.NamedCarrier], error) {
	if err := a.changeSetting(ctx, "carrier", in.Code, func() error {
		return a.relay.PutNamedCarrier(ctx, store.NamedCarrier{Code: in.Code, Name: in.Body.Name, TrackingURL: in.Body.TrackingURL},
			who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.namedCarriers(ctx, nil)
}

func (a *API) archiveNamedCarrier(ctx context.Context, in *archiveCodeInput) (*body[[]wire.NamedCarrier], error) {
	if err := a.changeSetting(ctx, "carrier", in.Code, func() error {
		return a.relay.ArchiveNamedCarrier(ctx, in.Code, in.Body.Archived, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.namedCarriers(ctx, nil)
}
