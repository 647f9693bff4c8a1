package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"openrelay/internal/connector"
	"openrelay/internal/core/message"
	"openrelay/internal/core/person"
	"openrelay/internal/core/place"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/joining"
	"openrelay/internal/setup"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func (a *API) connector(d *connector.Definition, used int64) wire.Connector {
	c := wire.Connector{Connector: d.Connector, Title: d.Title, Side: d.Side, About: d.About, Extends: d.Extends,
		Added: a.relay.Added(d.Connector), Address: d.Address.Default, Where: d.Where(), Way: d.Access.Way,
		Fields: d.Access.Fields, Steps: d.Access.Steps, Sites: d.Sites, Can: d.Capabilities(), Used: used}
	if c.Fields == nil {
		c.Fields = []connector.Field{}
	}
	if c.Steps == nil {
		c.Steps = []string{}
	}
	if c.Sites == nil {
		c.Sites = []connector.Site{}
	}
	return c
}

// accounts lists the accounts of a connector, or all.
func (a *API) accounts(ctx context.Context, only string) ([]wire.Account, error) {
	list, err := a.relay.Store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	views, err := a.relay.Connections(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Account{}
	for _, acc := range list {
		if only != "" && acc.Connector != only {
			continue
		}
		v := wire.Account{ID: acc.ID, Connector: acc.Connector, Title: acc.Name, Address: acc.BaseURL, Used: []string{}}
		var id message.Identity
		if err := json.Unmarshal([]byte(acc.Identity), &id); err != nil {
			return nil, err
		}
		v.Name, v.Number, v.Country = id.Name, id.Number, id.Country
		for _, c := range views {
			if c.AccountID == acc.ID {
				v.Used = append(v.Used, c.Name)
			}
		}
		out = append(out, v)
	}
	return out, nil
}

func (a *API) connectorsRoutes() {
	op(a, person.Look, http.MethodGet, "/connectors", "connectors", "The systems that can be joined", a.connectors)
	op(a, person.Look, http.MethodGet, "/connectors/{code}", "connector", "One connector with its definition", a.showConnector)
	op(a, person.RunFeeds, http.MethodPost, "/connectors/check", "check-connector", "Check a definition without adding it",
		a.checkConnector)
	op(a, person.SetUp, http.MethodPost, "/connectors/draft", "draft-connector",
		"A first definition, from a few words, a sample answer or an OpenAPI document; nothing is kept", a.draftConnector)
	op(a, person.RunFeeds, http.MethodPost, "/connectors/complete", "complete-connector",
		"What may stand where somebody types in a definition", a.completeConnector)
	op(a, person.RunFeeds, http.MethodPost, "/connectors/try", "try-connector",
		"Map a sample by a definition as it is written, or see what would be sent; nobody is called", a.tryConnector)
	op(a, person.RunFeeds, http.MethodGet, "/connectors/{code}/sample", "connector-sample",
		"Something to try a definition with", a.connectorSample)
	op(a, person.SetUp, http.MethodPost, "/connectors/compare", "compare-connector",
		"What a definition would do otherwise than the one at work, with records that are kept", a.compareConnector)
	op(a, person.SetUp, http.MethodPost, "/connectors", "add-connector",
		"Add a definition, or the next version of one that was added before", a.addConnector)
	op(a, person.Look, http.MethodGet, "/connectors/{code}/versions", "connector-versions",
		"The versions of a definition that was added, the newest first", a.connectorVersions)
	op(a, person.Look, http.MethodGet, "/connectors/{code}/versions/{version}", "connector-version",
		"One version of a definition, and what it changed", a.connectorVersion)
	op(a, person.SetUp, http.MethodPost, "/connectors/{code}/take-back", "take-back-connector",
		"Put an earlier version of a definition to work again", a.takeBackConnector)
	op(a, person.SetUp, http.MethodDelete, "/connectors/{code}", "drop-connector", "Remove a definition that was added and nobody uses",
		a.dropConnector)
	op(a, person.SetUp, http.MethodPost, "/connectors/read-folder", "read-connectors",
		"Read the folder of definitions anew; what is wrong in it is said, and all stays as it was", a.readConnectors)
	op(a, person.Look, http.MethodGet, "/accounts", "accounts", "What lets us in at outside systems", a.listAccounts)
	op(a, person.Look, http.MethodGet, "/locations", "locations", "The places that hold stock", a.locations)
	op(a, person.SetUp, http.MethodPut, "/locations/{code}", "put-location",
		"Add a location, or change its name and whose word counts there", a.putLocation)
	op(a, person.WorkOrders|person.SetUp, http.MethodPost, "/address-check", "check-address", "Ask the address service about an address",
		a.checkAddress)
}

func (a *API) connectors(ctx context.Context, _ *struct{}) (*body[[]wire.Connector], error) {
	views, err := a.relay.Connections(ctx)
	used := map[string]int64{}
	for _, v := range views {
		used[v.Connector]++
	}
	lib := a.relay.Library()
	out := make([]wire.Connector, 0, len(lib))
	for _, code := range lib.Codes() {
		out = append(out, a.connector(lib[code], used[code]))
	}
	return &body[[]wire.Connector]{out}, err
}

type connectorCodeInput struct {
	Code string `path:"code" maxLength:"60"`
}

type connectorText struct {
	wire.Connector
	Text string `json:"text" doc:"The definition as it was written"`
}

func (a *API) showConnector(_ context.Context, in *connectorCodeInput) (*body[connectorText], error) {
	d := a.relay.Connector(in.Code)
	if d == nil {
		return nil, fmt.Errorf("connector %s: %w", in.Code, store.ErrNotFound)
	}
	return &body[connectorText]{connectorText{a.connector(d, 0), d.Text}}, nil
}

func (a *API) listAccounts(ctx context.Context, _ *struct{}) (*body[[]wire.Account], error) {
	list, err := a.accounts(ctx, "")
	return &body[[]wire.Account]{list}, err
}

func (a *API) locations(ctx context.Context, _ *struct{}) (*body[[]wire.Location], error) {
	list, err := a.relay.Store.Locations(ctx)
	out := make([]wire.Location, len(list))
	for i, l := range list {
		out[i] = a.location(l)
	}
	return &body[[]wire.Location]{out}, err
}

// location is a place as it is answered.
func (a *API) location(l store.Location) wire.Location {
	out := wire.Location{ID: l.ID, Code: l.Code, Name: l.Name, Keeper: a.relay.Code(l.Keeper), Bins: l.Bins, Position: l.Position,
		ArchivedAt: at(l.ArchivedAt)}
	if l.Hours.Said() {
		out.Hours, out.Today = &l.Hours, l.Hours.Says(a.relay.Now())
	}
	if l.ArchivedAt == 0 {
		out.Warnings = a.relay.NameWarnings(engine.Or(l.Address.Name, l.Name))
	}
	if l.Address != (place.Address{}) {
		out.Address = &l.Address
	}
	return out
}

type locationInput struct {
	Code string `path:"code" maxLength:"31"`
	Body joining.Place
}

func (a *API) putLocation(ctx context.Context, in *locationInput) (*body[wire.Location], error) {
	if err := a.changeSetting(ctx, "place", in.Code, func() error {
		return a.relay.PutPlace(ctx, in.Code, in.Body, who(ctx))
	}); err != nil {
		return nil, err
	}
	l, err := a.relay.Location(in.Code)
	return &body[wire.Location]{a.location(l)}, err
}

type connectorAddressInput struct{ Body place.Address }

func (a *API) checkAddress(ctx context.Context, in *connectorAddressInput) (*body[message.AddressCheck], error) {
	out, err := a.relay.CheckAddress(ctx, in.Body)
	return &body[message.AddressCheck]{out}, err
}

func (a *API) join(ctx context.Context, code string) (*body[wire.Join], error) {
	views, err := a.relay.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range views {
		if v.Code != code {
			continue
		}
		out := wire.Join{Connection: a.connection(ctx, v), Connector: a.connector(a.relay.Connector(v.Connector), 0), Ready: true,
			Return: "/back"}
		if out.Accounts, err = a.accounts(ctx, v.Connector); err != nil {
			return nil, err
		}
		if out.Checklist, err = a.relay.Checklist(ctx, code); err != nil {
			return nil, err
		}
		for _, c := range out.Checklist {
			out.Ready = out.Ready && (c.Done || !c.Required)
		}
		out.Identity = v.Identity
		if t, ok := a.relay.LastTest(code); ok {
			out.Last = &t
		}
		return &body[wire.Join]{out}, nil
	}
	return nil, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
}

func (a *API) joinsRoutes() {
	op(a, person.SetUp, http.MethodPost, "/joins", "start-join", "Begin to set a connection up", a.startJoin)
	op(a, person.Look, http.MethodGet, "/connections/{code}/join", "join", "A connection being set up", a.showJoin)
	op(a, person.SetUp, http.MethodDelete, "/connections/{code}/join", "drop-join", "Give a set-up up", a.dropJoin)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/access", "test-access", "Test an access; it is kept only if it lets us in",
		a.testAccess)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/consent", "ask-consent", "Prepare a consent on the other side's page",
		a.askConsent)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/confirm", "confirm",
		"Say whether the account is the one that is meant", a.confirm)
	op(a, person.SetUp, http.MethodPut, "/connections/{code}/settings", "set-settings", "Replace the settings of a connection",
		a.setSettings)
	op(a, person.SetUp, http.MethodPut, "/connections/{code}/overrides",
		"set-overrides", "Replace what a connection changes of its connector", a.setOverrides)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/switch-on",
		"switch-on", "Put a connection to work whose set-up is complete", a.switchOn)
	op(a, person.Look, http.MethodGet, "/connections/{code}/leave",
		"would-leave", "What leaving a connection takes away and what stays", a.wouldLeave)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/leave", "leave", "Disconnect; orders and history stay", a.leave)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/renew", "renew",
		"Renew the credentials of a connection at work; what is not given stays", a.renew)
	a.previewsRoutes()
	a.benchRoutes()
	a.setupsRoutes()
	a.filesRoutes()
}

type joinCodeInput struct {
	Code string `path:"code" maxLength:"60"`
}

type newInput struct{ Body joining.NewJoin }

func (a *API) startJoin(ctx context.Context, in *newInput) (*body[wire.Join], error) {
	code, err := a.relay.StartJoin(ctx, in.Body, who(ctx))
	if err != nil {
		return nil, err
	}
	return a.join(ctx, code)
}

func (a *API) showJoin(ctx context.Context, in *joinCodeInput) (*body[wire.Join], error) {
	return a.join(ctx, in.Code)
}

func (a *API) dropJoin(ctx context.Context, in *joinCodeInput) (*struct{}, error) {
	return nil, a.relay.DropJoin(ctx, in.Code, who(ctx))
}

type accessInput struct {
	Code string `path:"code" maxLength:"60"`
	Body joining.Access
}

func (a *API) testAccess(ctx context.Context, in *accessInput) (*body[engine.Tested], error) {
	t, err := a.relay.TestAccess(ctx, in.Code, in.Body, who(ctx))
	return &body[engine.Tested]{t}, err
}

type consentInput struct {
	Code string `path:"code" maxLength:"60"`
	Body struct {
		joining.Access
		Origin string `json:"origin" maxLength:"300" doc:"Address of this service as the person's browser reaches it"`
	}
}

func (a *API) askConsent(ctx context.Context, in *consentInput) (*body[wire.ConsentPage], error) {
	u, err := url.Parse(in.Body.Origin)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, engine.Refuse("origin %q: an address such as https://relay.example is expected", in.Body.Origin)
	}
	p, err := a.relay.AskConsent(ctx, in.Code, in.Body.Access, u.Scheme+"://"+u.Host+"/back", asker(ctx))
	return &body[wire.ConsentPage]{wire.ConsentPage{Page: p}}, err
}

type confirmInput struct {
	Code string `path:"code" maxLength:"60"`
	Body struct {
		Number string `json:"number,omitempty" doc:"Number of the account on the other side"`
		Yes    bool   `json:"yes" doc:"Whether it is the one that is meant; if not, the access is forgotten"`
	}
}

func (a *API) confirm(ctx context.Context, in *confirmInput) (*body[wire.Join], error) {
	code, err := a.relay.Confirm(ctx, in.Code, in.Body.Number, in.Body.Yes, who(ctx))
	if err != nil {
		return nil, err
	}
	return a.join(ctx, code)
}

type settingsInput struct {
	Code    string `path:"code" maxLength:"60"`
	IfMatch string `header:"If-Match"`
	Body    engine.Settings
}

func (a *API) setSettings(ctx context.Context, in *settingsInput) (*body[wire.Join], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.SetSettings(ctx, in.Code, in.Body, rev, who(ctx)); err != nil {
		return nil, err
	}
	return a.join(ctx, in.Code)
}

type overridesInput struct {
	Code    string `path:"code" maxLength:"60"`
	IfMatch string `header:"If-Match"`
	Body    struct {
		Overrides string `json:"overrides" maxLength:"1000000" doc:"Part of a definition, as YAML; empty takes all away"`
	}
}

func (a *API) setOverrides(ctx context.Context, in *overridesInput) (*body[wire.Join], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.SetOverrides(ctx, in.Code, in.Body.Overrides, rev, who(ctx)); err != nil {
		return nil, err
	}
	return a.join(ctx, in.Code)
}

func (a *API) switchOn(ctx context.Context, in *joinCodeInput) (*body[wire.Join], error) {
	if err := a.relay.SwitchOn(ctx, in.Code, who(ctx)); err != nil {
		return nil, err
	}
	return a.join(ctx, in.Code)
}

func (a *API) wouldLeave(ctx context.Context, in *joinCodeInput) (*body[joining.Leaving], error) {
	out, err := a.relay.WouldLeave(ctx, in.Code)
	return &body[joining.Leaving]{out}, err
}

func (a *API) leave(ctx context.Context, in *joinCodeInput) (*body[wire.Join], error) {
	if err := a.relay.Leave(ctx, in.Code, who(ctx)); err != nil {
		return nil, err
	}
	return a.join(ctx, in.Code)
}

func (a *API) renew(ctx context.Context, in *accessInput) (*body[engine.Tested], error) {
	out, err := a.relay.Renew(ctx, in.Code, in.Body, who(ctx))
	return &body[engine.Tested]{out}, err
}

func (a *API) previewsRoutes() {
	op(a, person.Look, http.MethodGet, "/connections/{code}/preview", "preview", "What switching stock out on would change", a.preview)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/preview", "accept-preview", "Say that a preview was seen", a.acceptPreview)
	op(a, person.Look, http.MethodGet, "/connections/{code}/import", "first-import", "The first import and how it stands", a.firstImport)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/import", "look-at-import", "Look at what is there; nothing is changed",
		a.lookAtImport)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/import/go", "go-on-with-import", "Bring over what was found",
		a.goOnWithImport)
}

type previewCodeInput struct {
	Code string `path:"code" maxLength:"60"`
}

func (a *API) preview(ctx context.Context, in *previewCodeInput) (*body[joining.Preview], error) {
	p, err := a.relay.StockPreview(ctx, in.Code)
	return &body[joining.Preview]{p}, err
}

type acceptInput struct {
	Code string `path:"code" maxLength:"60"`
	Body struct {
		Digest string `json:"digest" maxLength:"40" doc:"Of the preview that was seen"`
	}
}

func (a *API) acceptPreview(ctx context.Context, in *acceptInput) (*body[joining.Preview], error) {
	if err := a.relay.AcceptPreview(ctx, in.Code, in.Body.Digest, who(ctx)); err != nil {
		return nil, err
	}
	p, err := a.relay.StockPreview(ctx, in.Code)
	return &body[joining.Preview]{p}, err
}

func (a *API) view(ctx context.Context, code string) (*body[wire.ImportView], error) {
	im, err := a.relay.FirstImport(ctx, code)
	out := wire.ImportView{Import: im, Records: make([]wire.ImportRecord, len(im.Records))}
	for i, r := range im.Records {
		out.Records[i] = wire.ImportRecord{Kind: r.Kind, Number: r.OutsideID, Title: r.Title, Verdict: r.Verdict, Reason: r.Reason,
			Done: r.Done}
	}
	for _, c := range im.Counts {
		out.Total += c.Count
		if c.Done {
			out.Done += c.Count
		}
	}
	return &body[wire.ImportView]{out}, err
}

func (a *API) firstImport(ctx context.Context, in *previewCodeInput) (*body[wire.ImportView], error) {
	return a.view(ctx, in.Code)
}

type lookInput struct {
	Code string `path:"code" maxLength:"60"`
	Body joining.ImportChoices
}

func (a *API) lookAtImport(ctx context.Context, in *lookInput) (*body[wire.ImportView], error) {
	if err := a.relay.LookAtImport(ctx, in.Code, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.view(ctx, in.Code)
}

func (a *API) goOnWithImport(ctx context.Context, in *previewCodeInput) (*body[wire.ImportView], error) {
	if err := a.relay.GoOnWithImport(ctx, in.Code, who(ctx)); err != nil {
		return nil, err
	}
	return a.view(ctx, in.Code)
}

func (a *API) benchRoutes() {
	op(a, person.SetUp, http.MethodPut, "/connections/{code}/test-mode", "set-test", "Put a connection in test, or take it live",
		a.setTest)
	op(a, person.SetUp, http.MethodPost, "/connections/{code}/clear-tests",
		"clear-tests", "Remove the test orders and what was tried on the bench", a.clearTests)
	op(a, person.RunFeeds, http.MethodGet, "/connections/{code}/bench", "bench", "What was tried on the bench, newest first", a.bench)
	op(a, person.RunFeeds, http.MethodGet, "/connections/{code}/sample", "sample", "Something to try a feed with", a.sample)
	op(a, person.RunFeeds, http.MethodPost, "/connections/{code}/try", "try", "Try a mapping, see or send one message", a.try)
}

type benchCodeInput struct {
	Code string `path:"code" maxLength:"60"`
}

type testInput struct {
	Code    string `path:"code" maxLength:"60"`
	IfMatch string `header:"If-Match"`
	Body    struct {
		Test bool `json:"test"`
	}
}

func (a *API) setTest(ctx context.Context, in *testInput) (*body[wire.Join], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.SetTest(ctx, in.Code, in.Body.Test, rev, who(ctx)); err != nil {
		return nil, err
	}
	return a.join(ctx, in.Code)
}

func (a *API) clearTests(ctx context.Context, in *benchCodeInput) (*body[wire.Cleared], error) {
	n, err := a.relay.ClearTests(ctx, in.Code, who(ctx))
	return &body[wire.Cleared]{wire.Cleared{Orders: n}}, err
}

func (a *API) bench(ctx context.Context, in *benchCodeInput) (*body[[]wire.BenchRow], error) {
	views, err := a.relay.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range views {
		if v.Code != in.Code {
			continue
		}
		list, err := a.relay.Store.Bench(ctx, v.ID)
		out := make([]wire.BenchRow, len(list))
		for i, r := range list {
			out[i] = wire.BenchRow{ID: r.ID, At: at(r.At), Who: r.Who, Feed: r.Feed, Message: r.Message, Error: r.Error}
			if err := json.Unmarshal([]byte(r.Exchange), &out[i].Exchange); err != nil {
				return nil, err
			}
		}
		return &body[[]wire.BenchRow]{out}, err
	}
	return nil, fmt.Errorf("connection %s: %w", in.Code, store.ErrNotFound)
}

type sampleInput struct {
	Code string       `path:"code" maxLength:"60"`
	Feed message.Feed `maxLength:"40" query:"feed"`
}

func (a *API) sample(ctx context.Context, in *sampleInput) (*body[wire.Sample], error) {
	text, err := a.relay.Sample(ctx, in.Code, in.Feed)
	return &body[wire.Sample]{wire.Sample{Text: text}}, err
}

type tryInput struct {
	Code string `path:"code" maxLength:"60"`
	Body struct {
		Feed message.Feed `json:"feed" maxLength:"40"`
		Text string       `json:"text" maxLength:"1000000" doc:"A record of theirs for a feed that comes in, a message of ours for one that goes out"`
		Send bool         `json:"send" doc:"Send it, marked as a test; without it, only what would be sent is shown"`
	}
}

func (a *API) try(ctx context.Context, in *tryInput) (*body[joining.Tried], error) {
	t, err := a.relay.Try(ctx, in.Code, in.Body.Feed, in.Body.Text, in.Body.Send, who(ctx))
	return &body[joining.Tried]{t}, err
}

func (a *API) setupsRoutes() {
	op(a, person.SetUp, http.MethodPost, "/setup/plan", "plan-setup", "What applying a set-up would change", a.planSetup)
	op(a, person.SetUp, http.MethodPost, "/setup/apply", "apply-setup", "Bring the company to what a set-up asks for", a.applySetup)
}

type setupInput struct {
	Body struct {
		Text    string                       `json:"text" maxLength:"4000000" doc:"The set-up, as YAML, with its variables filled in"`
		Secrets map[string]map[string]string `json:"secrets,omitempty" doc:"What references stand for, by connection, person (person E-MAIL) or token (token NAME), and field"`
	}
}

func (a *API) planSetup(ctx context.Context, in *setupInput) (*body[[]setup.Change], error) {
	s, err := joining.ReadSetup(in.Body.Text)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.PlanSetup(ctx, s, in.Body.Secrets)
	if list == nil {
		list = []setup.Change{}
	}
	return &body[[]setup.Change]{list}, err
}

func (a *API) applySetup(ctx context.Context, in *setupInput) (*body[joining.Applied], error) {
	s, err := joining.ReadSetup(in.Body.Text)
	if err != nil {
		return nil, err
	}
	out, err := a.relay.ApplySetup(ctx, s, in.Body.Secrets, who(ctx))
	if out.Changes == nil {
		out.Changes = []setup.Change{}
	}
	return &body[joining.Applied]{out}, err
}

// exportSetup answers the set-up as text.
func (a *API) exportSetup(w http.ResponseWriter, r *http.Request) {
	s, err := a.relay.ExportSetup(r.Context())
	if err == nil {
		var text []byte
		if text, err = s.Text(); err == nil {
			w.Header().Set("Content-Type", "application/yaml; charset=utf-8")
			w.Write(text)
			return
		}
	}
	a.log.Error("the set-up could not be written", "error", err)
	problem(w, http.StatusInternalServerError, "The set-up could not be written. The reason is in the service's log.")
}

// asker is who asks for a consent, or brings its answer.
func asker(ctx context.Context) joining.Asker {
	by := joining.Asker{Who: who(ctx)}
	if p := personOf(ctx); p != nil {
		by.ID, by.Name = p.ID, p.Name
	}
	return by
}

// consentBack is where a person comes back to after a consent. Only whoever asked for it, signed in here,
// may bring its answer.
func (a *API) consentBack(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Referrer-Policy", "no-referrer") // the address holds a code
	p := personOf(r.Context())
	if p == nil || !may(p, person.SetUp) {
		problem(w, http.StatusUnauthorized, "Sign in as the person who asked for the consent, then ask for it again.")
		return
	}
	q := r.URL.Query()
	refused := q.Get("error_description")
	if refused == "" {
		refused = q.Get("error")
	}
	code, tested, err := a.relay.ConsentAnswered(r.Context(), q.Get("state"), q.Get("code"), refused, asker(r.Context()))
	switch {
	case errors.Is(err, joining.ErrState):
		problem(w, http.StatusBadRequest,
			"This consent was not asked for here, was answered before, or took longer than half an hour. Ask for it again.")
	case err != nil:
		var known huma.StatusError
		if errors.As(a.failure(err), &known) {
			problem(w, known.GetStatus(), known.Error())
			return
		}
		problem(w, http.StatusInternalServerError, "Something broke on our side. It is in the service's log.")
	case strings.Contains(r.Header.Get("Accept"), "application/json"):
		w.Header().Set("Content-Type", "application/json")
		json.NewEncoder(w).Encode(map[string]any{"connection": code, "tested": tested})
	default:
		http.Redirect(w, r, "/connections/"+url.PathEscape(code)+"/join", http.StatusSeeOther)
	}
}

// shapeSchema serves the JSON Schema of a message of ours.
func shapeSchema(w http.ResponseWriter, r *http.Request) {
	name := strings.TrimSuffix(chi.URLParam(r, "name"), ".schema.json")
	for _, s := range message.Shapes() {
		if s.Name == name {
			text, err := s.SchemaText()
			if err != nil {
				break
			}
			w.Header().Set("Content-Type", "application/schema+json")
			w.Write(text)
			return
		}
	}
	problem(w, http.StatusNotFound, "There is no message "+name+".")
}
