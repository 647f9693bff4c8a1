package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"github.com/go-chi/chi/v5"

	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/sheets"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) sheet(ctx context.Context, s store.Sheet) (wire.Sheet, error) {
	out := wire.Sheet{
		ID:      s.ID,
		Kind:    s.Kind,
		Name:    s.Name,
		State:   s.State,
		Total:   s.Total,
		Done:    s.Done,
		Error:   s.Error,
		Who:     a.called(ctx, s.Who),
		At:      at(s.At),
		EndedAt: at(s.EndedAt),
	}
	if s.Form != "" {
		if err := json.Unmarshal([]byte(s.Form), &out.Form); err != nil {
			return out, err
		}
	}
	var err error
	out.Counts, err = a.relay.Store.SheetCounts(ctx, s.ID)
	return out, err
}

// SheetInput names a sheet.
type SheetInput struct {
	ID int64 `path:"id"`
}

func (a *API) sheetsRoutes() {
	op(a, person.Look, http.MethodGet, "/sheet-kinds", "sheet-kinds", "What can be handed in and saved as CSV, with its columns",
		a.sheetKinds)
	op(a, person.Look, http.MethodGet, "/sheets", "sheets", "Files that were handed in, newest first", a.sheets)
	op(a, person.Look, http.MethodGet, "/sheets/{id}", "sheet", "A file and how it stands", a.showSheet)
	op(a, person.Look, http.MethodGet, "/sheets/{id}/rows", "sheet-rows", "Its rows, with what each changes or why it is refused",
		a.sheetRows)
	op(a, person.KeepStock|person.KeepCatalog|person.WorkOrders, http.MethodPost, "/sheets/{id}/apply", "apply-sheet",
		"Carry out the rows of a file that was looked at", a.applySheet)
}

func (a *API) sheetKinds(context.Context, *struct{}) (*body[[]sheets.SheetKind], error) {
	return &body[[]sheets.SheetKind]{sheets.SheetKinds()}, nil
}

func (a *API) sheets(ctx context.Context, in *PageInput) (*body[[]wire.Sheet], error) {
	list, err := a.relay.Store.Sheets(ctx, in.Limit)
	if err != nil {
		return nil, err
	}
	out := make([]wire.Sheet, len(list))
	for i, s := range list {
		if out[i], err = a.sheet(ctx, s); err != nil {
			return nil, err
		}
	}
	return &body[[]wire.Sheet]{out}, nil
}

func (a *API) sheetByID(ctx context.Context, id int64) (*body[wire.Sheet], error) {
	s, err := a.relay.Store.Sheet(ctx, id)
	if err != nil {
		return nil, fmt.Errorf("sheet %d: %w", id, err)
	}
	out, err := a.sheet(ctx, s)
	return &body[wire.Sheet]{out}, err
}

func (a *API) showSheet(ctx context.Context, in *SheetInput) (*body[wire.Sheet], error) {
	return a.sheetByID(ctx, in.ID)
}

type rowsInput struct {
	SheetInput
	PageInput
	Verdict string `query:"verdict"`
	After   int64  `query:"after"`
}

func (a *API) sheetRows(ctx context.Context, in *rowsInput) (*paged[wire.SheetRow], error) {
	list, err := a.relay.Store.SheetRows(ctx, in.ID, in.Verdict, in.After, in.Limit)
	out := &paged[wire.SheetRow]{Body: make([]wire.SheetRow, len(list))}
	for i, r := range list {
		out.Body[i] = wire.SheetRow{Row: r.Row, Key: r.Key, Verdict: r.Verdict, Changes: r.Changes, Reason: r.Reason}
		if err := json.Unmarshal([]byte(r.Fields), &out.Body[i].Fields); err != nil {
			return nil, err
		}
	}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		if in.Verdict != "" {
			q.Set("verdict", in.Verdict)
		}
		out.Link = next(fmt.Sprintf("/sheets/%d/rows", in.ID), q, "after", fmt.Sprint(list[len(list)-1].Row))
	}
	return out, err
}

func (a *API) applySheet(ctx context.Context, in *SheetInput) (*body[wire.Sheet], error) {
	if err := a.relay.ApplySheet(ctx, in.ID, who(ctx)); err != nil {
		return nil, err
	}
	return a.sheetByID(ctx, in.ID)
}

// handIn takes a CSV file as the body of a request.
func (a *API) handIn(w http.ResponseWriter, r *http.Request) {
	id, err := a.relay.HandIn(r.Context(), chi.URLParam(r, "kind"), r.URL.Query().Get("name"),
		http.MaxBytesReader(w, r.Body, sheets.MaxSheet+1), who(r.Context()))
	var refused *engine.Refused
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		problem(w, http.StatusRequestEntityTooLarge, fmt.Sprintf("The file is larger than %d MB.", sheets.MaxSheet>>20))
		return
	case errors.As(err, &refused):
		problem(w, http.StatusUnprocessableEntity, refused.Text)
		return
	case err != nil:
		a.log.Error("a file could not be taken in", "error", err)
		problem(w, http.StatusInternalServerError, "The file could not be taken in. The reason is in the service's log.")
		return
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]int64{"id": id})
}

// save answers a table as CSV.
func (a *API) save(w http.ResponseWriter, r *http.Request) {
	kind := chi.URLParam(r, "kind")
	out := &lazy{w: w, kind: kind}
	if err := a.relay.Save(r.Context(), kind, out); err != nil {
		var refused *engine.Refused
		switch {
		case out.begun:
			a.log.Error("a table could not be saved to its end", "kind", kind, "error", err)
			panic(http.ErrAbortHandler) // half a table must not look like a whole one
		case errors.As(err, &refused):
			problem(w, http.StatusNotFound, refused.Text)
		default:
			a.log.Error("a table could not be saved", "kind", kind, "error", err)
			problem(w, http.StatusInternalServerError, "The table could not be saved. The reason is in the service's log.")
		}
	}
}

// lazy sends headers with the first bytes.
type lazy struct {
	w     http.ResponseWriter
	kind  string
	begun bool
}

func (l *lazy) Write(b []byte) (int, error) {
	if !l.begun {
		l.begun = true
		l.w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		l.w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", sheets.SheetName(l.kind)))
	}
	return l.w.Write(b)
}
