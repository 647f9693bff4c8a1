package api

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"openrelay/internal/core/order"
	"openrelay/internal/core/person"
	"openrelay/internal/relay/attention"
	"openrelay/internal/relay/engine"
	"openrelay/internal/relay/orders"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

// sides says which side can mend an exception of a cause; the others can be mended on either.
var sides = map[order.Cause]string{
	order.UnknownItem: "ours", order.NoStock: "ours", order.WantsLook: "ours", order.WantsAnswer: "ours",
	order.ByPerson: "ours", order.ByRule: "ours", order.NotAnswered: "theirs",
	engine.NegativeStock: "ours", engine.CredentialsRefused: "ours", engine.PutBack: "ours", engine.LabelSurplus: "ours",
	engine.ServiceOpen: "ours", engine.BackupFailed: "ours", engine.ServiceUnwell: "ours",
	engine.LabelUnknown: "theirs", engine.ConnectionDead: "theirs", engine.ParcelLate: "theirs", engine.ParcelStuck: "theirs",
	engine.NotHandedOver: "theirs", engine.NotCollected: "theirs",
}

// exception is one as who asks may see it.
func exception(ctx context.Context, e store.Exception) wire.Exception {
	if !sees(ctx) {
		e = engine.Discreet(e, hidden)
	}
	side := sides[e.Cause]
	if side == "" {
		side = "either"
	}
	return wire.Exception{ID: e.ID, Cause: e.Cause, Subject: e.Subject, Text: e.Text,
		Expected: e.Expected, Side: side, Connection: e.ConnectionCode, ConnectionName: e.ConnectionName,
		OrderNumber: e.OrderNumber, SKU: e.SKU, Parcel: e.ParcelNumber,
		OutboxID: e.OutboxID, InboxID: e.InboxID, OpenedAt: at(e.OpenedAt), Assignee: e.Assignee, SnoozedUntil: at(e.SnoozedUntil),
		Count: 1, Settled: e.OrderID == 0 || e.OutboxID != 0 || e.InboxID != 0 || e.Standing}
}

// groups lists what needs a person, the same of it together.
func (a *API) groups(ctx context.Context, f store.ExceptionFilter) ([]wire.Exception, error) {
	f.Now = a.relay.Clock()
	list, err := a.relay.Store.ExceptionGroups(ctx, f)
	out := make([]wire.Exception, len(list))
	for i, g := range list {
		out[i] = exception(ctx, g.Exception)
		out[i].Count, out[i].Orders, out[i].OldestAt = g.N, g.OrderCount, at(g.OldestAt)
	}
	return out, err
}

func (a *API) inboxRoutes() {
	op(a, person.Look, http.MethodGet, "/exceptions", "exceptions",
		"What needs a person, by cause and thing, what blocks most orders first", a.exceptions)
	op(a, person.Look, http.MethodGet, "/exceptions/causes", "exception-causes", "How many are open, by cause", a.exceptionCauses)
	op(a, person.Look, http.MethodGet, "/exceptions/of", "exceptions-of",
		"One by one what is open of a cause about one thing, oldest first", a.exceptionsOf)
	op(a, person.WorkOrders|person.Ship|person.KeepBooks, http.MethodPost, "/exceptions/assign", "assign-exception",
		"Say who looks after it", a.assignException)
	op(a, person.WorkOrders|person.Ship|person.KeepBooks, http.MethodPost, "/exceptions/snooze", "snooze-exception",
		"Let it sleep until a time, or wake it", a.snoozeException)
	op(a, person.WorkOrders|person.Ship|person.KeepBooks, http.MethodPost, "/exceptions/settle", "settle-exception",
		"Say that it was dealt with elsewhere", a.settleException)
	op(a, person.WorkOrders|person.Ship|person.RunFeeds, http.MethodPost, "/exceptions/send-again", "send-group-again",
		"Send all messages of it again that were not taken", a.sendGroupAgain)
	op(a, person.WorkOrders, http.MethodPost, "/exceptions/let-go", "let-group-go", "Let all orders of it go on", a.letGroupGo)
	op(a, person.KeepCatalog, http.MethodPost, "/exceptions/known", "make-known",
		"Say which item is sold under an unknown SKU; all orders that wait for it go on", a.makeKnown)
	op(a, person.Look, http.MethodGet, "/exceptions/suggest", "suggest-known", "Which items an unknown SKU may be", a.suggestKnown)
	op(a, person.SetUp, http.MethodGet, "/targets", "targets", "Who is told of exceptions", a.targets)
	op(a, person.SetUp, http.MethodPut, "/targets", "put-target", "Add or change somebody who is told of exceptions", a.putTarget)
	op(a, person.SetUp, http.MethodDelete, "/targets/{id}", "drop-target", "Tell somebody no more", a.dropTarget)
	op(a, person.SetUp, http.MethodGet, "/targets/{id}/notices", "notices", "What somebody was told, newest first", a.notices)
}

type inboxListInput struct {
	PageInput
	Cause      order.Cause `query:"cause"`
	Connection string      `query:"connection"`
	Assignee   string      `query:"assignee"`
	Nobodys    bool        `query:"nobodys" doc:"Only those that nobody looks after"`
	Asleep     bool        `query:"asleep" doc:"Those that sleep, instead of those that do not"`
}

func (a *API) exceptions(ctx context.Context, in *inboxListInput) (*body[[]wire.Exception], error) {
	ref, err := a.relay.PersonRef(ctx, in.Assignee)
	if err != nil {
		return nil, err
	}
	list, err := a.groups(ctx, store.ExceptionFilter{Cause: in.Cause, Connection: in.Connection, Assignee: ref,
		Nobodys: in.Nobodys, Asleep: in.Asleep, Limit: in.Limit})
	return &body[[]wire.Exception]{list}, err
}

func (a *API) exceptionCauses(ctx context.Context, _ *struct{}) (*body[[]store.NamedCount], error) {
	list, err := a.relay.Store.CauseCounts(ctx)
	return &body[[]store.NamedCount]{list}, err
}

type exceptionsOfInput struct {
	PageInput
	Cause      order.Cause `query:"cause" required:"true"`
	Connection string      `query:"connection"`
	Subject    string      `query:"subject"`
	After      int64       `query:"after"`
}

func (a *API) exceptionsOf(ctx context.Context, in *exceptionsOfInput) (*body[[]wire.Exception], error) {
	list, err := a.relay.ExceptionsOf(ctx, attention.GroupOf{Cause: in.Cause, Connection: in.Connection, Subject: in.Subject},
		in.After, in.Limit)
	out := make([]wire.Exception, len(list))
	for i, e := range list {
		out[i] = exception(ctx, e)
	}
	return &body[[]wire.Exception]{out}, err
}

func (a *API) counted(n int64, err error) (*body[wire.Counted], error) {
	return &body[wire.Counted]{wire.Counted{Count: n}}, err
}

type assignGroupInput struct {
	Body struct {
		attention.GroupOf
		Assignee string `json:"assignee" maxLength:"100" doc:"Empty: nobody"`
	}
}

func (a *API) assignException(ctx context.Context, in *assignGroupInput) (*body[wire.Counted], error) {
	return a.counted(a.relay.AssignException(ctx, in.Body.GroupOf, in.Body.Assignee))
}

type snoozeInput struct {
	Body struct {
		attention.GroupOf
		Until time.Time `json:"until,omitzero" doc:"Empty: wake it"`
	}
}

func (a *API) snoozeException(ctx context.Context, in *snoozeInput) (*body[wire.Counted], error) {
	return a.counted(a.relay.Snooze(ctx, in.Body.GroupOf, in.Body.Until))
}

type exceptionGroupInput struct{ Body attention.GroupOf }

func (a *API) settleException(ctx context.Context, in *exceptionGroupInput) (*body[wire.Counted], error) {
	return a.counted(a.relay.Settle(ctx, in.Body, who(ctx)))
}

func (a *API) sendGroupAgain(ctx context.Context, in *exceptionGroupInput) (*body[attention.SentAgain], error) {
	done, err := a.relay.SendGroupAgain(ctx, in.Body, who(ctx))
	return &body[attention.SentAgain]{done}, err
}

// letGroupGo lets all orders of a group go on, however many they are.
func (a *API) letGroupGo(ctx context.Context, in *exceptionGroupInput) (*body[orders.BulkDone], error) {
	numbers, err := a.relay.OrdersOf(ctx, in.Body)
	if err != nil {
		return nil, err
	}
	done, err := a.relay.LetGo(ctx, numbers, who(ctx))
	return &body[orders.BulkDone]{done}, err
}

type makeKnownInput struct {
	Body struct {
		Connection string `json:"connection"`
		Sold       string `json:"sold" doc:"The SKU under which the channel sold it"`
		SKU        string `json:"sku" doc:"The item of ours; with create, the SKU of the new one"`
		Create     bool   `json:"create,omitempty"`
	}
}

func (a *API) makeKnown(ctx context.Context, in *makeKnownInput) (*body[orders.Known], error) {
	k, err := a.relay.MakeKnown(ctx, in.Body.Connection, in.Body.Sold, in.Body.SKU, in.Body.Create, who(ctx))
	return &body[orders.Known]{k}, err
}

type suggestInput struct {
	Connection string `query:"connection" required:"true"`
	Sold       string `query:"sold" required:"true"`
}

func (a *API) suggestKnown(ctx context.Context, in *suggestInput) (*body[[]orders.MayBe], error) {
	list, err := a.relay.MayBe(ctx, in.Connection, in.Sold)
	return &body[[]orders.MayBe]{list}, err
}

func (a *API) targets(ctx context.Context, _ *struct{}) (*body[[]wire.Target], error) {
	list, err := a.relay.Store.Targets(ctx)
	out := make([]wire.Target, len(list))
	for i, t := range list {
		out[i] = wire.Target{ID: t.ID, Kind: t.Kind, Address: t.Address, Causes: []string{}, Every: t.Every, On: t.On,
			Revision: t.Revision}
		if err := json.Unmarshal([]byte(t.Causes), &out[i].Causes); err != nil {
			return nil, err
		}
	}
	return &body[[]wire.Target]{out}, err
}

type putTargetInput struct{ Body attention.NewTarget }

func (a *API) putTarget(ctx context.Context, in *putTargetInput) (*body[wire.NewTarget], error) {
	id, secret, err := a.relay.PutTarget(ctx, in.Body, who(ctx))
	return &body[wire.NewTarget]{wire.NewTarget{ID: id, Secret: secret}}, err
}

type targetID struct {
	ID int64 `path:"id"`
}

func (a *API) dropTarget(ctx context.Context, in *targetID) (*struct{}, error) {
	return nil, a.relay.DropTarget(ctx, in.ID, who(ctx))
}

type sentNotice struct {
	store.Notice
	At     *time.Time `json:"at"`
	SentAt *time.Time `json:"sent_at,omitempty"`
}

func (a *API) notices(ctx context.Context, in *targetID) (*body[[]sentNotice], error) {
	list, err := a.relay.Store.Notices(ctx, in.ID, 50)
	out := make([]sentNotice, len(list))
	for i, n := range list {
		out[i] = sentNotice{n, at(n.CreatedAt), at(n.SentAt)}
	}
	return &body[[]sentNotice]{out}, err
}
