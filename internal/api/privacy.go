package api

import (
	"context"
	"fmt"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"

	"openrelay/internal/core/money"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/people"
	"openrelay/internal/relay/views"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) privacyRoutes() {
	op(a, person.Look, http.MethodGet, "/privacy", "privacy", "How long personal data is kept", a.privacy)
	op(a, person.GuardPrivacy, http.MethodPut, "/privacy", "set-privacy", "Say how long personal data is kept", a.setPrivacy)
	op(a, person.GuardPrivacy, http.MethodGet, "/persons/{email}", "person", "All that is kept of a person", a.person)
	op(a, person.GuardPrivacy, http.MethodDelete, "/persons/{email}", "erase-person",
		"Remove the personal data of a person; the books stay", a.erasePerson)
	op(a, person.GuardPrivacy, http.MethodGet, "/looks", "looks", "Who looked at personal data, newest first", a.looks)
}

func (a *API) privacyTerms(ctx context.Context) (*body[wire.PrivacyTerms], error) {
	n, err := a.relay.KeepDays(ctx)
	return &body[wire.PrivacyTerms]{wire.PrivacyTerms{KeepDays: n}}, err
}

func (a *API) privacy(ctx context.Context, _ *struct{}) (*body[wire.PrivacyTerms], error) {
	return a.privacyTerms(ctx)
}

type setPrivacyInput struct{ Body wire.PrivacyTerms }

func (a *API) setPrivacy(ctx context.Context, in *setPrivacyInput) (*body[wire.PrivacyTerms], error) {
	if err := a.changeSetting(ctx, "personal data", "", func() error {
		return a.relay.SetKeepDays(ctx, in.Body.KeepDays, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.privacyTerms(ctx)
}

type emailInput struct {
	Email string `path:"email" maxLength:"200"`
}

func (a *API) person(ctx context.Context, in *emailInput) (*body[people.PersonData], error) {
	p, err := a.relay.Person(ctx, in.Email)
	if err == nil {
		err = a.looked(ctx, "person", in.Email)
	}
	return &body[people.PersonData]{p}, err
}

func (a *API) erasePerson(ctx context.Context, in *emailInput) (*body[wire.Erased], error) {
	n, err := a.relay.ErasePerson(ctx, in.Email, who(ctx))
	return &body[wire.Erased]{wire.Erased{Orders: n}}, err
}

type looksInput struct {
	PageInput
	Thing  string `query:"thing"`
	Key    string `query:"key"`
	Before int64  `query:"before"`
}

func (a *API) looks(ctx context.Context, in *looksInput) (*body[[]wire.Look], error) {
	list, err := a.relay.Store.Looks(ctx, in.Thing, in.Key, in.Before, in.Limit)
	out := make([]wire.Look, len(list))
	for i, l := range list {
		out[i] = wire.Look{ID: l.ID, At: at(l.At), Who: l.Who, Role: l.Role, Thing: l.Thing, Key: l.Key}
	}
	return &body[[]wire.Look]{out}, err
}

// reportColumns names the columns of each report, as its CSV heads them: name, second name, currency, a, b, c, cancelled.
// What a report has not is empty.
var reportColumns = map[string][7]string{
	"source":        {"channel", "how it came in", "currency", "orders", "value", "", "cancelled"},
	"days":          {"day", "channel", "currency", "orders", "value", "", "cancelled"},
	"shipping":      {"channel", "", "currency", "charged to buyers", "paid to carriers", "parcels", ""},
	"speed":         {"from sale to hand-over", "", "", "orders", "", "average hours", ""},
	"stockouts":     {"SKU", "item", "", "times it fell to nothing", "orders that waited", "", ""},
	"billed":        {"carrier", "", "currency", "asked", "billed", "parcels", ""},
	"weights":       {"carrier", "", "", "grams by sum of the contents", "grams by scale", "grams by bill", ""},
	"transit":       {"service", "region", "", "parcels that arrived", "after the promised day", "average hours on the way", ""},
	"transit-weeks": {"week of", "carrier", "", "parcels that arrived", "after the promised day", "average hours on the way", ""},
	"exceptions":    {"cause", "", "", "raised", "still open", "average hours until mended", ""},
}

// reportAmounts are the reports whose figures are amounts: of a and b.
var reportAmounts = map[string][2]bool{"source": {false, true}, "days": {false, true}, "shipping": {true, true}, "billed": {true, true}}

// ReportTable is a report as a table for people and programs: headings, then rows, with amounts as people write them.
func ReportTable(r wire.Report) [][]string {
	head := reportColumns[r.Code]
	amount := func(i int, minor int64, currency string) string {
		if reportAmounts[r.Code][i] {
			return money.Decimal(minor, currency)
		}
		return fmt.Sprint(minor)
	}
	pick := func(cells [7]string) (out []string) {
		for i, c := range cells {
			if head[i] != "" {
				out = append(out, c)
			}
		}
		return out
	}
	out := [][]string{pick(head)}
	for _, x := range r.Rows {
		c := fmt.Sprintf("%.1f", x.C)
		if r.Code == "shipping" {
			c = fmt.Sprintf("%.0f", x.C)
		}
		out = append(out, pick([7]string{x.Name, x.Second, x.Currency, amount(0, x.A, x.Currency), amount(1, x.B, x.Currency), c,
			fmt.Sprint(x.Cancelled)}))
	}
	return out
}

// span reads the days of a report: the last thirty where none are named.
func span(from, to string, now time.Time) (time.Time, time.Time, error) {
	f, err := day(from, now.Location())
	if err != nil {
		return f, f, err
	}
	t, err := day(to, now.Location())
	if err != nil {
		return f, t, err
	}
	if t.IsZero() {
		y, m, d := now.Date()
		t = time.Date(y, m, d, 0, 0, 0, 0, now.Location())
	}
	if f.IsZero() {
		f = t.AddDate(0, 0, -29)
	}
	return f, t.AddDate(0, 0, 1), nil
}

func (a *API) report(ctx context.Context, code, from, to string) (wire.Report, error) {
	out := wire.Report{Code: code, Rows: []wire.ReportRow{}}
	var err error
	if out.From, out.To, err = span(from, to, a.relay.Now()); err != nil {
		return out, err
	}
	rows, err := a.relay.Store.Report(ctx, code, out.From, out.To, a.relay.Zone())
	if err == store.ErrNotFound {
		return out, fmt.Errorf("report %s: %w", code, err)
	}
	for _, r := range rows {
		out.Rows = append(out.Rows, wire.ReportRow(r))
	}
	return out, err
}

// companyOps are the operations on the company itself.
func (a *API) companyOpsRoutes() {
	op(a, person.Look, http.MethodGet, "/company", "company", "The company, and the time zone of its days", a.showCompany)
	op(a, person.Look, http.MethodGet, "/first-day", "first-day", "How far a new company has come", a.firstDay)
	op(a, person.SetUp, http.MethodPut, "/first-day", "leave-first-step",
		"Leave a step of the first day out, or take it up again; no step: dismiss all of it, or bring it back", a.leaveFirstStep)
	op(a, person.SetUp, http.MethodPut, "/company", "set-company", "Say what the company is called and where its days begin", a.setCompany)
}

func (a *API) firstDay(ctx context.Context, _ *struct{}) (*body[views.FirstDay], error) {
	d, err := a.relay.FirstDay(ctx)
	return &body[views.FirstDay]{d}, err
}

type firstStepInput struct {
	Body struct {
		Step string `json:"step,omitempty"`
		Left bool   `json:"left"`
	}
}

func (a *API) leaveFirstStep(ctx context.Context, in *firstStepInput) (*body[views.FirstDay], error) {
	if err := a.relay.LeaveFirstStep(ctx, in.Body.Step, in.Body.Left); err != nil {
		return nil, err
	}
	return a.firstDay(ctx, nil)
}

type companyBody struct{ Body engine.Company }

func (a *API) companyView(ctx context.Context) (*companyBody, error) {
	c, err := a.relay.Company(ctx)
	return &companyBody{c}, err
}

func (a *API) showCompany(ctx context.Context, _ *struct{}) (*companyBody, error) {
	return a.companyView(ctx)
}

func (a *API) setCompany(ctx context.Context, in *companyBody) (*companyBody, error) {
	if err := a.changeSetting(ctx, "company", "", func() error {
		return a.relay.SetCompany(ctx, in.Body, who(ctx))
	}); err != nil {
		return nil, err
	}
	return a.companyView(ctx)
}

func (a *API) reportsRoutes() {
	op(a, person.Look, http.MethodGet, "/reports/{code}", "report", "Figures over a span of days", a.showReport)
}

type input struct {
	Code string `path:"code" enum:"source,days,shipping,speed,stockouts,exceptions,transit,transit-weeks,billed,weights"`
	From string `query:"from" doc:"First day, YYYY-MM-DD; without it thirty days before the last"`
	To   string `query:"to" doc:"Last day; without it today"`
}

func (a *API) showReport(ctx context.Context, in *input) (*body[wire.Report], error) {
	r, err := a.report(ctx, in.Code, in.From, in.To)
	return &body[wire.Report]{r}, err
}

func (a *API) reportCSV(w http.ResponseWriter, r *http.Request) {
	code := chi.URLParam(r, "code")
	rep, err := a.report(r.Context(), code, r.URL.Query().Get("from"), r.URL.Query().Get("to"))
	if err != nil {
		a.deny(w, err)
		return
	}
	rows := ReportTable(rep)
	out := table(w, code+".csv", rows[0]...)
	for _, row := range rows[1:] {
		_ = out.Row(row...)
	}
	_ = out.End() // who asked may have left
}
