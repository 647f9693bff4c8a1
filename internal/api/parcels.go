package api

import (
	"context"
	"net/http"

	"openrelay/internal/core/packing"
	"openrelay/internal/core/person"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// parcelRoutes are those of what parcels are packed in, and of how things are numbered.
func (a *API) parcelRoutes() {
	op(a, person.SetUp, http.MethodGet, "/kept-profiles", "kept-profiles", "All parcel profiles, also those used no more", a.keptProfiles)
	op(a, person.SetUp, http.MethodPut, "/profiles/{code}", "put-profile", "Add a parcel profile, or change it", a.putProfile)
	op(a, person.SetUp, http.MethodPost, "/profiles/{code}/archive", "archive-profile", "Use a parcel profile no more, or again",
		a.archiveProfile)
	op(a, person.SetUp, http.MethodGet, "/series", "series", "How things are numbered", a.series)
	op(a, person.SetUp, http.MethodPut, "/series/{code}", "put-series", "Say how numbers begin, and which comes next", a.putSeries)
}

func (a *API) keptProfiles(ctx context.Context, _ *struct{}) (*body[[]wire.KeptProfile], error) {
	list, err := a.relay.Store.KeptProfiles(ctx)
	out := make([]wire.KeptProfile, len(list))
	for i, p := range list {
		out[i] = wire.KeptProfile{Profile: p.Profile, ArchivedAt: at(p.ArchivedAt)}
	}
	return &body[[]wire.KeptProfile]{out}, err
}

type putProfileInput struct {
	Code string `path:"code" maxLength:"31"`
	Body wire.ProfileText
}

func (a *API) putProfile(ctx context.Context, in *putProfileInput) (*body[[]wire.KeptProfile], error) {
	b := in.Body
	if err := a.changeSetting(ctx, "profile", in.Code, func() error {
		return a.relay.PutProfile(ctx, packing.Profile{Code: in.Code, Name: b.Name, LengthMM: b.LengthMM, WidthMM: b.WidthMM,
			HeightMM: b.HeightMM, TareG: b.TareG, MaxG: b.MaxG, Service: b.Service}, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.keptProfiles(ctx, nil)
}

// archiveCodeInput asks that what has a code be used no more, or again.
type archiveCodeInput struct {
	Code string `path:"code" maxLength:"31"`
	Body struct {
		Archived bool `json:"archived"`
	}
}

func (a *API) archiveProfile(ctx context.Context, in *archiveCodeInput) (*body[[]wire.KeptProfile], error) {
	if err := a.changeSetting(ctx, "profile", in.Code, func() error {
		return a.relay.ArchiveProfile(ctx, in.Code, in.Body.Archived, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.keptProfiles(ctx, nil)
}

func (a *API) series(ctx context.Context, _ *struct{}) (*body[[]wire.Series], error) {
	list, err := a.relay.Store.Series(ctx)
	out := make([]wire.Series, len(list))
	for i, s := range list {
		out[i] = wire.Series{Code: s.Code, Prefix: s.Prefix, Next: s.Next}
	}
	return &body[[]wire.Series]{out}, err
}

type putSeriesInput struct {
	Code string `path:"code" maxLength:"31"`
	Body struct {
		Prefix string `json:"prefix" maxLength:"12"`
		Next   int64  `json:"next"`
	}
}

func (a *API) putSeries(ctx context.Context, in *putSeriesInput) (*body[[]wire.Series], error) {
	if err := a.changeSetting(ctx, "number series", in.Code, func() error {
		return a.relay.SetSeries(ctx, store.Series{Code: in.Code, Prefix: in.Body.Prefix, Next: in.Body.Next}, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.series(ctx, nil)
}
