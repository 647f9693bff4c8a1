package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"openrelay/internal/core/message"
	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/core/place"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

type body[T any] struct{ Body T }

// paged is a page of a list; the Link header (RFC 8288) leads to the next.
type paged[T any] struct {
	Link string `header:"Link"`
	Body []T
}

// PageInput says how long a page is.
type PageInput struct {
	Limit int `query:"limit" minimum:"1" maximum:"200" default:"50" doc:"Rows of a page"`
}

// NumberInput names an order or a shipment.
type NumberInput struct {
	Number string `path:"number" maxLength:"80" doc:"Our number, the channel's, or a tracking number"`
}

// op registers an operation for those who have one of the permissions.
func op[I, O any](a *API, needs person.Permission, method, path, id, summary string, f func(context.Context, *I) (*O, error)) {
	o := huma.Operation{OperationID: id, Method: method, Path: "/api/v1" + path, Summary: summary,
		Security: []map[string][]string{{"token": {}}, {"session": {}}},
		Errors:   []int{400, 401, 403, 404, 409, 412, 422}, Tags: []string{strings.Split(strings.TrimPrefix(path, "/"), "/")[0]}}
	if needs == person.Anybody {
		o.Security = []map[string][]string{{}} // it needs none
	} else {
		o.Middlewares = huma.Middlewares{guard(a.huma, needs)}
	}
	huma.Register(a.huma, o, func(ctx context.Context, in *I) (*O, error) {
		out, err := f(ctx, in)
		return out, a.failure(err)
	})
}

func next(path string, query url.Values, key, value string) string {
	query.Set(key, value)
	return fmt.Sprintf(`</api/v1%s?%s>; rel="next"`, path, query.Encode())
}

func (a *API) operations() {
	a.peopleRoutes()
	a.accessRoutes()
	a.boardRoutes()
	a.ordersRoutes()
	a.orderWorkRoutes()
	a.rulesRoutes()
	a.inboxRoutes()
	a.privacyRoutes()
	a.keepingRoutes()
	a.parcelRoutes()
	a.groundRoutes()
	a.settingsRoutes()
	a.companyOpsRoutes()
	a.reportsRoutes()
	a.shipmentsRoutes()
	a.togetherRoutes()
	a.returnsRoutes()
	a.roundsRoutes()
	a.servicesRoutes()
	a.carriersRoutes()
	a.routingRoutes()
	a.partnerRoutes()
	a.printingRoutes()
	a.catalogRoutes()
	a.listingsRoutes()
	a.stockRoutes()
	a.supplyRoutes()
	a.sheetsRoutes()

	a.connectionsRoutes()
	a.connectorsRoutes()
	a.joinsRoutes()
}

func (a *API) boardRoutes() {
	op(a, person.Look, http.MethodGet, "/board", "board", "Everything at a glance", a.board)
	op(a, person.Look, http.MethodGet, "/activity", "activity", "What happened, newest first", a.activity)
	op(a, person.Look, http.MethodGet, "/find", "find", "What a scanned code stands for", a.find)
}

// board answers with the board. All who look at it are told at the same moment that something changed, and ask anew.
func (a *API) board(ctx context.Context, _ *struct{}) (*body[wire.Board], error) {
	which := &a.boards[0]
	if sees(ctx) { // names and all
		which = &a.boards[1]
	}
	b, err := which.get(ctx, a.makeBoard)
	return &body[wire.Board]{b}, err
}

func (a *API) makeBoard(ctx context.Context) (wire.Board, error) {
	now := a.relay.Now()
	st := a.relay.Store
	b := wire.Board{Now: now, Stages: []wire.StageCount{}, Connections: []wire.Connection{}, Places: []wire.PlaceCount{},
		Late: []wire.OrderRow{}}
	var err error
	if b.Company, err = st.Setting(ctx, "company"); err != nil {
		return b, err
	}
	counts, err := st.StageCounts(ctx, a.relay.Midnight())
	if err != nil {
		return b, err
	}
	by := map[string]store.StageCount{}
	for _, c := range counts {
		by[c.Stage] = c
	}
	for _, s := range order.Stages {
		if c := by[string(s)]; s != order.Void {
			b.Stages = append(b.Stages, wire.StageCount{Stage: string(s), Count: c.Count, Oldest: at(c.Oldest)})
		}
	}
	conns, err := a.relay.Connections(ctx)
	if err != nil {
		return b, err
	}
	for _, c := range conns {
		b.Connections = append(b.Connections, a.connection(ctx, c))
	}
	if b.Places, err = a.placeCounts(ctx, now); err != nil {
		return b, err
	}
	if b.Exceptions, err = a.groups(ctx, store.ExceptionFilter{Limit: 12}); err != nil {
		return b, err
	}
	late, err := st.OldestOpen(ctx, 8)
	if err != nil {
		return b, err
	}
	for _, r := range late {
		b.Late = append(b.Late, a.orderRow(ctx, r))
	}
	return b, nil
}

// placeCounts tells of each place that is used what is to leave it, and what can on a day.
func (a *API) placeCounts(ctx context.Context, now time.Time) ([]wire.PlaceCount, error) {
	places, err := a.relay.Store.PlaceCounts(ctx)
	if err != nil {
		return nil, err
	}
	policy, err := a.relay.Routing.Policy(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.PlaceCount{}
	for _, p := range places {
		at, err := a.relay.Location(p.Code)
		if err != nil || at.ArchivedAt != 0 {
			continue
		}
		count := wire.PlaceCount{Code: p.Code, Name: p.Name, ToPick: p.ToPick, ToShip: p.ToShip, PerDay: policy.Places[p.Code].PerDay}
		if c := a.relay.PartnerAt(at.ID); c != nil {
			count.Partner = c.Rec().Code
		}
		if at.Hours.Said() {
			count.Today = at.Hours.Says(now)
		}
		out = append(out, count)
	}
	return out, nil
}

type activityInput struct {
	PageInput
	Before int64  `query:"before" doc:"Entries with smaller ids"`
	Who    string `query:"who" doc:"Only what this person or connection did"`
	Thing  string `query:"thing" doc:"Only what happened to things of this kind"`
	What   string `query:"what" doc:"Only this kind of happening"`
}

func (a *API) activity(ctx context.Context, in *activityInput) (*paged[wire.Entry], error) {
	by, err := a.relay.PersonRef(ctx, in.Who)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.Store.Activity(ctx, store.ActivityFilter{Who: by, Thing: in.Thing, What: in.What, Before: in.Before,
		Limit: in.Limit})
	out := &paged[wire.Entry]{Body: a.entries(ctx, list)}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		for k, v := range map[string]string{"who": in.Who, "thing": in.Thing, "what": in.What} {
			if v != "" {
				q.Set(k, v)
			}
		}
		out.Link = next("/activity", q, "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, err
}

type findInput struct {
	Code string `query:"code" maxLength:"80" doc:"Something scanned or typed"`
}

func (a *API) find(ctx context.Context, in *findInput) (*body[wire.Found], error) {
	code := strings.TrimSpace(in.Code)
	if o, err := a.relay.Store.OrderByNumber(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "order", Key: o.Number}}, nil
	}
	if p, err := a.relay.Store.Parcel(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "parcel", Key: p.Number}}, nil
	}
	if x, err := a.relay.Store.Return(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "return", Key: x.Number}}, nil
	}
	if s, err := a.relay.Store.Shipment(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "shipment", Key: s.Number}}, nil
	}
	if p, err := a.relay.Store.Purchase(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "purchase", Key: p.Number}}, nil
	}
	if t, err := a.relay.Store.Transfer(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "transfer", Key: t.Number}}, nil
	}
	if i, err := a.relay.Store.ItemByCode(ctx, code); err == nil {
		return &body[wire.Found]{wire.Found{Kind: "item", Key: i.SKU}}, nil
	}
	return &body[wire.Found]{wire.Found{Kind: "none", Key: code}}, nil
}

func (a *API) ordersRoutes() {
	op(a, person.Look, http.MethodGet, "/orders", "orders", "List orders, newest first or oldest first", a.orders)
	op(a, person.Look, http.MethodGet, "/orders/{number}", "order", "One order with everything known about it", a.showOrder)
	op(a, person.Ship, http.MethodPost, "/orders/{number}/pick", "pick", "Begin to pick an order, or go on", a.pick)
	op(a, person.WorkOrders, http.MethodPost, "/orders/{number}/release", "release", "Let an order go on although it is held", a.release)
	op(a, person.WorkOrders, http.MethodPut, "/orders/{number}/address", "readdress", "Change where an order goes", a.readdress)
	op(a, person.WorkOrders|person.Ship|person.RunFeeds, http.MethodPost, "/outbox/{id}/send-again", "send-again",
		"Send a refused message again", a.sendAgain)
	op(a, person.WorkOrders|person.Ship, http.MethodPost, "/outbox/{id}/not-bought", "not-bought",
		"Say that a label of which nothing was known does not exist at the carrier", a.notBought)
}

func (a *API) orders(ctx context.Context, in *OrdersInput) (*paged[wire.OrderRow], error) {
	f, err := a.filter(ctx, in)
	if err != nil {
		return nil, err
	}
	list, err := a.relay.Store.ListOrders(ctx, f)
	out := &paged[wire.OrderRow]{Body: make([]wire.OrderRow, len(list))}
	for i, r := range list {
		out.Body[i] = a.orderRow(ctx, r)
	}
	if len(list) == in.Limit {
		key := "before"
		if in.Oldest {
			key = "after"
		}
		out.Link = next("/orders", in.query(), key, fmt.Sprint(list[len(list)-1].ID))
	}
	if err == nil && in.Search != "" {
		return out, a.looked(ctx, "search", in.Search)
	}
	return out, errors.Join(err, a.looked(ctx, "list", "orders"))
}

type orderOutput struct {
	ETag string `header:"ETag"`
	Body wire.Order
}

func (a *API) orderByNumber(ctx context.Context, n string) (*orderOutput, error) {
	v, err := a.relay.Order(ctx, n)
	if err != nil {
		return nil, fmt.Errorf("order %s: %w", n, err)
	}
	out := a.order(ctx, v)
	last, err := a.relay.LastPass(ctx)
	if err != nil {
		return nil, err
	}
	if last != nil && v.Order.ReceivedAt.Before(last.Before["timeline"]) {
		before := last.Before["timeline"]
		out.ThinnedBefore = &before
	}
	return &orderOutput{etag(v.Order.Revision), out}, a.looked(ctx, "order", v.Order.Number)
}

func (a *API) showOrder(ctx context.Context, in *NumberInput) (*orderOutput, error) {
	return a.orderByNumber(ctx, in.Number)
}

func (a *API) pick(ctx context.Context, in *NumberInput) (*body[wire.ShipmentRef], error) {
	s, err := a.relay.StartPick(ctx, in.Number, who(ctx))
	if err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return &body[wire.ShipmentRef]{wire.ShipmentRef{Shipment: s}}, nil
}

type releaseInput struct {
	NumberInput
	IfMatch string `header:"If-Match"`
	Body    struct {
		Cause order.Cause `json:"cause" doc:"The cause of the hold"`
	}
}

func (a *API) release(ctx context.Context, in *releaseInput) (*orderOutput, error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.Release(ctx, in.Number, in.Body.Cause, who(ctx), rev); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.orderByNumber(ctx, in.Number)
}

type orderAddressInput struct {
	NumberInput
	IfMatch string `header:"If-Match"`
	Body    place.Address
}

func (a *API) readdress(ctx context.Context, in *orderAddressInput) (*orderOutput, error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if err := a.relay.Readdress(ctx, in.Number, in.Body, who(ctx), rev); err != nil {
		return nil, wrapNumber("order", in.Number, err)
	}
	return a.orderByNumber(ctx, in.Number)
}

type outboxInput struct {
	ID int64 `path:"id"`
}

func (a *API) sendAgain(ctx context.Context, in *outboxInput) (*struct{}, error) {
	return nil, a.relay.SendAgain(ctx, in.ID, who(ctx))
}

func (a *API) notBought(ctx context.Context, in *outboxInput) (*struct{}, error) {
	return nil, a.relay.NotBought(ctx, in.ID, who(ctx))
}

func wrapNumber(kind, n string, err error) error {
	if err == store.ErrNotFound {
		return fmt.Errorf("%s %s: %w", kind, n, err)
	}
	return err
}

func (a *API) profiles(ctx context.Context, _ *struct{}) (*body[[]wire.Profile], error) {
	list, err := a.relay.Store.Profiles(ctx)
	return &body[[]wire.Profile]{list}, err
}

func (a *API) manifests(ctx context.Context, in *PageInput) (*body[[]wire.Manifest], error) {
	list, err := a.relay.Store.Manifests(ctx, in.Limit)
	out := make([]wire.Manifest, len(list))
	for i, m := range list {
		out[i] = a.manifest(m)
	}
	return &body[[]wire.Manifest]{out}, err
}

type manifestID struct {
	ID int64 `path:"id"`
}

func (a *API) closeManifest(ctx context.Context, in *manifestID) (*body[wire.Manifest], error) {
	if err := a.relay.CloseManifest(ctx, in.ID, who(ctx)); err != nil {
		return nil, err
	}
	m, err := a.relay.Store.Manifest(ctx, in.ID)
	return &body[wire.Manifest]{a.manifest(m)}, err
}

func (a *API) connectionsRoutes() {
	op(a, person.Look, http.MethodGet, "/connections", "connections", "All connections and how they stand", a.connections)
	op(a, person.Look, http.MethodGet, "/connections/{code}", "connection", "One connection", a.showConnection)
	op(a, person.RunFeeds, http.MethodPost, "/connections/{code}/test", "test-connection", "Ask the other side who we are there",
		a.testConnection)
	op(a, person.SetUp, http.MethodPatch, "/connections/{code}", "pause", "Pause or resume a connection", a.pause)
	op(a, person.SetUp, http.MethodPatch, "/connections/{code}/feeds/{kind}", "set-feed", "Switch a feed, set its schedule", a.setFeed)
	op(a, person.RunFeeds, http.MethodPost, "/connections/{code}/feeds/{kind}/run", "run-now", "Run a feed now", a.runNow)
	op(a, person.RunFeeds, http.MethodPost, "/connections/{code}/try-again", "try-again", "Take failed messages in again", a.tryAgain)
	op(a, person.Look, http.MethodGet, "/runs", "runs", "Runs, newest first", a.runs)
	op(a, person.Look, http.MethodGet, "/runs/{id}", "run", "One run with its log", a.run)
}

type connectionCodeInput struct {
	Code string `path:"code"`
}

func (a *API) connectionByCode(ctx context.Context, code string) (*body[wire.Connection], error) {
	list, err := a.relay.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range list {
		if v.Code == code {
			return &body[wire.Connection]{a.connection(ctx, v)}, nil
		}
	}
	return nil, fmt.Errorf("connection %s: %w", code, store.ErrNotFound)
}

func (a *API) connections(ctx context.Context, _ *struct{}) (*body[[]wire.Connection], error) {
	list, err := a.relay.Connections(ctx)
	out := make([]wire.Connection, len(list))
	for i, v := range list {
		out[i] = a.connection(ctx, v)
	}
	return &body[[]wire.Connection]{out}, err
}

func (a *API) showConnection(ctx context.Context, in *connectionCodeInput) (*body[wire.Connection], error) {
	return a.connectionByCode(ctx, in.Code)
}

func (a *API) testConnection(ctx context.Context, in *connectionCodeInput) (*body[message.Identity], error) {
	id, err := a.relay.Test(ctx, in.Code)
	if err != nil {
		return nil, err
	}
	return &body[message.Identity]{*id}, nil
}

type pauseInput struct {
	Code    string `path:"code"`
	IfMatch string `header:"If-Match"`
	Body    struct {
		Paused bool `json:"paused"`
	}
}

func (a *API) pause(ctx context.Context, in *pauseInput) (*body[wire.Connection], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if rev == 0 {
		return nil, huma.NewError(http.StatusPreconditionRequired,
			"Send If-Match with the connection's revision, so that two people do not overwrite each other.")
	}
	if err := a.relay.Pause(ctx, in.Code, in.Body.Paused, rev, who(ctx)); err != nil {
		return nil, err
	}
	return a.connectionByCode(ctx, in.Code)
}

type feedInput struct {
	Code    string       `path:"code"`
	Kind    message.Feed `path:"kind"`
	IfMatch string       `header:"If-Match"`
	Body    struct {
		On       bool   `json:"on"`
		Schedule string `json:"schedule,omitempty"`
	}
}

func (a *API) setFeed(ctx context.Context, in *feedInput) (*body[wire.Connection], error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	if rev == 0 {
		return nil, huma.NewError(http.StatusPreconditionRequired,
			"Send If-Match with the feed's revision, so that two people do not overwrite each other.")
	}
	if err := a.relay.SetFeed(ctx, in.Code, in.Kind, in.Body.On, in.Body.Schedule, rev, who(ctx)); err != nil {
		return nil, err
	}
	return a.connectionByCode(ctx, in.Code)
}

type runInput struct {
	Code string       `path:"code"`
	Kind message.Feed `path:"kind"`
	Body struct {
		From string `json:"from,omitempty" doc:"Load again from this time on (RFC 3339)"`
	}
}

func (a *API) runNow(ctx context.Context, in *runInput) (*body[wire.RunRef], error) {
	id, err := a.relay.RunNow(ctx, in.Code, in.Kind, in.Body.From, who(ctx))
	return &body[wire.RunRef]{wire.RunRef{Run: id}}, err
}

func (a *API) tryAgain(ctx context.Context, in *connectionCodeInput) (*body[wire.Retried], error) {
	n, err := a.relay.TryAgain(ctx, in.Code, who(ctx))
	return &body[wire.Retried]{wire.Retried{Messages: n}}, err
}

type runsInput struct {
	PageInput
	Connection string `query:"connection"`
	Before     int64  `query:"before"`
}

func (a *API) runs(ctx context.Context, in *runsInput) (*paged[wire.Run], error) {
	list, err := a.relay.Store.Runs(ctx, in.Connection, in.Before, in.Limit)
	out := &paged[wire.Run]{Body: make([]wire.Run, len(list))}
	for i, r := range list {
		out.Body[i] = run(ctx, r)
	}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		if in.Connection != "" {
			q.Set("connection", in.Connection)
		}
		out.Link = next("/runs", q, "before", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, err
}

type runID struct {
	ID int64 `path:"id"`
}

func (a *API) run(ctx context.Context, in *runID) (*body[wire.RunLog], error) {
	r, err := a.relay.Store.Run(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	lines, err := a.relay.Store.RunLog(ctx, in.ID)
	out := wire.RunLog{Run: run(ctx, r), Log: make([]wire.LogLine, len(lines))}
	for i, l := range lines {
		out.Log[i] = wire.LogLine{At: at(l.At), Level: l.Level, Text: quoted(ctx, l.Text)}
	}
	return &body[wire.RunLog]{out}, err
}
