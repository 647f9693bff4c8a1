package api

import (
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"openrelay/internal/relay"
	"openrelay/internal/store"
)

func (a *API) privacy() {
	type privacyTerms struct {
		KeepDays int `json:"keep_days" doc:"Personal data is removed so many days after an order is done; 0: never"`
	}
	get := func(ctx context.Context) (*body[privacyTerms], error) {
		n, err := a.relay.KeepDays(ctx)
		return &body[privacyTerms]{privacyTerms{n}}, err
	}
	op(a, "viewer", http.MethodGet, "/privacy", "privacy", "How long personal data is kept", func(ctx context.Context, _ *struct{}) (*body[privacyTerms], error) { return get(ctx) })
	type setPrivacyInput struct{ Body privacyTerms }
	op(a, "admin", http.MethodPut, "/privacy", "set-privacy", "Say how long personal data is kept", func(ctx context.Context, in *setPrivacyInput) (*body[privacyTerms], error) {
		if err := a.relay.SetKeepDays(ctx, in.Body.KeepDays, who(ctx)); err != nil {
			return nil, err
		}
		return get(ctx)
	})
	type emailInput struct {
		Email string `path:"email" maxLength:"200"`
	}
	op(a, "admin", http.MethodGet, "/persons/{email}", "person", "All that is kept of a person", func(ctx context.Context, in *emailInput) (*body[relay.PersonData], error) {
		p, err := a.relay.Person(ctx, in.Email)
		if err == nil {
			err = a.looked(ctx, "person", in.Email)
		}
		return &body[relay.PersonData]{p}, err
	})
	type erased struct {
		Orders int `json:"orders"`
	}
	op(a, "admin", http.MethodDelete, "/persons/{email}", "erase-person", "Remove the personal data of a person; the books stay", func(ctx context.Context, in *emailInput) (*body[erased], error) {
		n, err := a.relay.ErasePerson(ctx, in.Email, who(ctx))
		return &body[erased]{erased{n}}, err
	})
	type looksInput struct {
		PageInput
		Thing  string `query:"thing"`
		Key    string `query:"key"`
		Before int64  `query:"before"`
	}
	type lookRow struct {
		ID    int64      `json:"id"`
		At    *time.Time `json:"at"`
		Who   string     `json:"who"`
		Role  string     `json:"role"`
		Thing string     `json:"thing"`
		Key   string     `json:"key"`
	}
	op(a, "admin", http.MethodGet, "/looks", "looks", "Who looked at personal data, newest first", func(ctx context.Context, in *looksInput) (*body[[]lookRow], error) {
		list, err := a.relay.Store.Looks(ctx, in.Thing, in.Key, in.Before, in.Limit)
		out := make([]lookRow, len(list))
		for i, l := range list {
			out[i] = lookRow{l.ID, at(l.At), l.Who, l.Role, l.Thing, l.Key}
		}
		return &body[[]lookRow]{out}, err
	})
}

// Report is figures over a span of time.
type Report struct {
	Code string      `json:"code"`
	From time.Time   `json:"from"`
	To   time.Time   `json:"to"`
	Rows []ReportRow `json:"rows"`
}

// ReportRow is a row of a report. What the figures are depends on the report: see its columns.
type ReportRow struct {
	Name   string  `json:"name"`
	Second string  `json:"second,omitempty"`
	A      int64   `json:"a"`
	B      int64   `json:"b"`
	C      float64 `json:"c"`
}

// reportColumns names the columns of each report, as its CSV heads them.
var reportColumns = map[string][]string{
	"source":     {"channel", "how it came in", "orders", "value, minor units", ""},
	"days":       {"day", "channel", "orders", "value, minor units", ""},
	"shipping":   {"channel", "currency", "charged to buyers, minor units", "paid to carriers, minor units", "parcels"},
	"speed":      {"from sale to hand-over", "", "orders", "", "average hours"},
	"stockouts":  {"SKU", "item", "times it fell to nothing", "orders that waited", ""},
	"exceptions": {"cause", "", "raised", "still open", "average hours until mended"},
}

// span reads the days of a report: the last thirty where none are named.
func span(from, to string) (time.Time, time.Time, error) {
	f, err := day(from)
	if err != nil {
		return f, f, err
	}
	t, err := day(to)
	if err != nil {
		return f, t, err
	}
	if t.IsZero() {
		y, m, d := time.Now().Date()
		t = time.Date(y, m, d, 0, 0, 0, 0, time.Local)
	}
	if f.IsZero() {
		f = t.AddDate(0, 0, -29)
	}
	return f, t.AddDate(0, 0, 1), nil
}

func (a *API) report(ctx context.Context, code, from, to string) (Report, error) {
	out := Report{Code: code, Rows: []ReportRow{}}
	var err error
	if out.From, out.To, err = span(from, to); err != nil {
		return out, err
	}
	rows, err := a.relay.Store.Report(ctx, code, out.From, out.To)
	if err == store.ErrNotFound {
		return out, fmt.Errorf("report %s: %w", code, err)
	}
	for _, r := range rows {
		out.Rows = append(out.Rows, ReportRow(r))
	}
	return out, err
}

func (a *API) reports() {
	type input struct {
		Code string `path:"code" enum:"source,days,shipping,speed,stockouts,exceptions"`
		From string `query:"from" doc:"First day, YYYY-MM-DD; without it thirty days before the last"`
		To   string `query:"to" doc:"Last day; without it today"`
	}
	op(a, "viewer", http.MethodGet, "/reports/{code}", "report", "Figures over a span of days", func(ctx context.Context, in *input) (*body[Report], error) {
		r, err := a.report(ctx, in.Code, in.From, in.To)
		return &body[Report]{r}, err
	})
}

func (a *API) reportCSV(w http.ResponseWriter, r *http.Request) {
	code := chi.URLParam(r, "code")
	rep, err := a.report(r.Context(), code, r.URL.Query().Get("from"), r.URL.Query().Get("to"))
	if err != nil {
		a.deny(w, err)
		return
	}
	w.Header().Set("Content-Type", "text/csv; charset=utf-8; header=present")
	w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", code+".csv"))
	out := csv.NewWriter(w)
	cut := func(cells []string) (kept []string) {
		for i, c := range cells {
			if reportColumns[code][i] != "" {
				kept = append(kept, c)
			}
		}
		return kept
	}
	_ = out.Write(cut(reportColumns[code]))
	for _, x := range rep.Rows {
		_ = out.Write(cut([]string{x.Name, x.Second, fmt.Sprint(x.A), fmt.Sprint(x.B), fmt.Sprintf("%.2f", x.C)}))
	}
	out.Flush()
}
