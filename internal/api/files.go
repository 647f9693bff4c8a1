package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"

	"openrelay/internal/core/person"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) filesRoutes() {
	op(a, person.Look, http.MethodGet, "/files", "files", "Files that came and went, newest first", a.files)
}

type filesInput struct {
	PageInput
	Connection string `query:"connection" doc:"Only of this connection"`
	Before     int64  `query:"before" doc:"Only those with a smaller number"`
}

func (a *API) files(ctx context.Context, in *filesInput) (*paged[wire.ExchangedFile], error) {
	id := int64(0)
	if in.Connection != "" {
		c := a.relay.ByCode(in.Connection)
		if c == nil {
			return nil, fmt.Errorf("connection %s: %w", in.Connection, store.ErrNotFound)
		}
		id = c.ID
	}
	list, err := a.relay.Store.Files(ctx, id, in.Before, in.Limit)
	out := &paged[wire.ExchangedFile]{Body: make([]wire.ExchangedFile, len(list))}
	for i, f := range list {
		out.Body[i] = wire.ExchangedFile{ID: f.ID, Connection: a.relay.Code(f.ConnectionID), Feed: f.Feed, Way: f.Way,
			Name: quoted(ctx, f.Name), Size: f.Size, At: at(f.At), Records: f.Records, State: f.State, Reason: quoted(ctx, f.Reason)}
	}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		if in.Connection != "" {
			q.Set("connection", in.Connection)
		}
		out.Link = next("/files", q, "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, err
}
