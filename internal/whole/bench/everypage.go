package main

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"time"

	"openrelay/internal/api"
	"openrelay/internal/core/person"
	"openrelay/internal/relay"
	"openrelay/internal/relay/engine"
	"openrelay/internal/store"
)

// everyPage asks each GET of the interface that needs no number or code, and the order, its item and a connection, of a
// company of n orders and a fifth as many items.
func (b *bench) everyPage(st *store.Store, n int) error {
	r, err := relay.Open(b.ctx, st, engine.Options{})
	if err != nil {
		return err
	}
	defer r.Stop()
	a, handler := api.New(r, api.Options{})
	defer a.End()
	key, err := r.NewToken(b.ctx, "bench", person.Lead)
	if err != nil {
		return err
	}
	paths, err := pathsOf(a)
	if err != nil {
		return err
	}
	paths = append(paths, fmt.Sprintf("/api/v1/orders/R%d", 10000+n/2), "/api/v1/items/SKU-77", "/api/v1/items/SKU-77/why",
		"/api/v1/connections/ch-3", "/api/v1/reports/days", "/api/v1/reports/source",
		"/api/v1/reports/shipping", "/api/v1/reports/speed", "/api/v1/reports/stockouts", "/api/v1/reports/exceptions")
	type page struct {
		path string
		ms   float64
	}
	var pages, reports []page
	for _, path := range paths {
		ms, err := b.askPage(handler, key, path)
		if err != nil {
			return err
		}
		p := page{path, ms}
		if strings.Contains(path, "/reports/") {
			reports = append(reports, p)
		} else {
			pages = append(pages, p)
		}
	}
	slow := func(list []page, most float64) page {
		slices.SortFunc(list, func(x, y page) int { return int(1000 * (y.ms - x.ms)) })
		for _, p := range list {
			if p.ms > most {
				fmt.Printf("slow among %d orders: %s takes %.1f ms\n", n, p.path, p.ms)
			}
		}
		return list[0]
	}
	p := slow(pages, 15)
	b.add(fmt.Sprintf("slowest of %d pages with %d orders and %d items (%s)", len(pages), n, n/5, p.path), p.ms, "ms", 0,
		"15 ms", p.ms <= 15)
	p = slow(reports, 300)
	b.add(fmt.Sprintf("slowest report with %d orders (%s)", n, p.path), p.ms, "ms", 0, "300 ms", p.ms <= 300)
	return nil
}

// askPage asks for one page several times, and tells how long it takes, in milliseconds.
func (b *bench) askPage(handler http.Handler, key, path string) (float64, error) {
	var took []time.Duration
	for i := range b.of(11, 2) {
		if i > 0 && !b.small { // as people ask: what many ask for at once is made at most five times a second
			time.Sleep(250 * time.Millisecond)
		}
		req := httptest.NewRequest(http.MethodGet, path, nil).WithContext(b.ctx)
		req.Header.Set("Authorization", "Bearer "+key)
		w := httptest.NewRecorder()
		begin := time.Now()
		handler.ServeHTTP(w, req)
		took = append(took, time.Since(begin))
		if w.Code >= http.StatusInternalServerError {
			return 0, fmt.Errorf("%s: %d %s", path, w.Code, w.Body)
		}
	}
	return median(took), nil
}

// pathsOf lists the paths of the description that are read and need nothing filled in.
func pathsOf(a *api.API) ([]string, error) {
	raw, err := a.OpenAPI()
	if err != nil {
		return nil, err
	}
	var described struct {
		Paths map[string]map[string]json.RawMessage `json:"paths"`
	}
	if err := json.Unmarshal(raw, &described); err != nil {
		return nil, err
	}
	var out []string
	for path, methods := range described.Paths {
		if methods["get"] != nil && !strings.Contains(path, "{") {
			out = append(out, path)
		}
	}
	slices.Sort(out)
	if len(out) < 20 {
		return nil, fmt.Errorf("only %d paths are described", len(out))
	}
	return out, nil
}
